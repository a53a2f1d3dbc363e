//! `enrich` and `check`.

use super::Outcome;
use crate::arguments::{Check, Enrich, TypedOptions};
use crate::call::{Call, Purpose};
use crate::error::Result;
use crate::run::carry_out;
use crate::typed::Asked;

/// Writes the main table with the taken columns next to its rows.
pub(crate) fn enrich(enrich: &Enrich, typed: TypedOptions) -> Result<Outcome> {
    let asked = Asked::typed(&enrich.tables, typed)?;
    let call = Call::new(&asked, Purpose::Table)?;
    carry_out(&asked, call)
}

/// Tells what an enrichment would find.
pub(crate) fn check(check: &Check, typed: TypedOptions) -> Result<Outcome> {
    let asked = Asked::typed(&check.tables, typed)?;
    let shows = check.show.map(|most| (most.into(), check.seed));
    let call = Call { shows, ..Call::new(&asked, Purpose::Findings)? };
    carry_out(&asked, call)
}
