//! `enrich` and `check`.

use super::Outcome;
use crate::arguments::{Check, Enrich};
use crate::call::{Call, Purpose};
use crate::error::Result;
use crate::run::carry_out;
use crate::table_arguments::TableArguments;
use crate::typed::Asked;

/// Writes the main table with the taken columns beside its rows.
pub(crate) fn enrich(enrich: &Enrich, tables: Vec<TableArguments>) -> Result<Outcome> {
    let asked = Asked::enrich(enrich, tables)?;
    let call = Call::new(&asked, Purpose::Table)?;
    carry_out(&asked, call)
}

/// Tells what an enrichment would find.
pub(crate) fn check(check: &Check, tables: Vec<TableArguments>) -> Result<Outcome> {
    let asked = Asked::check(&check.tables, &check.run, tables)?;
    let call = Call::new(&asked, Purpose::Findings)?;
    carry_out(&asked, call)
}
