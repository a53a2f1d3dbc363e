//! Keys as they are tried on the whole tables.

use gather_keys_core::findings::{Counts, Kind};
use gather_keys_core::plan::Plan;
use gather_keys_core::survey::{SuggestedKey, Suggestions};
use gather_keys_core::table::Discard;

use crate::call::{Call, Purpose};
use crate::error::Result;
use crate::inputs::{Inputs, Loaded};
use crate::typed::Asked;

/// A key finds clearly more when it does so in one of this many rows.
const CLEARLY: u64 = 8;

/// A key as it was tried.
#[derive(Debug, Clone)]
pub(super) struct Tried {
    pub(super) key: SuggestedKey,
    /// The range that chooses a row, where that helps.
    pub(super) within: Option<String>,
    pub(super) counts: Counts,
}

impl Tried {
    pub(super) fn matched(&self) -> u64 {
        self.counts.of(Kind::Matched)
    }
}

/// The proposed keys as they turn out when they are tried, the best first. `run` gives the counts of a key with a range.
///
/// # Errors
/// Those of `run`.
pub(super) fn tried(
    found: &Suggestions,
    mut run: impl FnMut(&SuggestedKey, Option<&str>) -> Result<Counts>,
) -> Result<Vec<Tried>> {
    let mut attempt = |key: &SuggestedKey, within: Option<&String>| -> Result<Tried> {
        let counts = run(key, within.map(|within| &within[..]))?;
        Ok(Tried { key: key.clone(), within: within.cloned(), counts })
    };
    let mut tried: Vec<Tried> = Vec::new();
    for key in &found.keys {
        let mut best = attempt(key, None)?;
        if best.counts.of(Kind::Ambiguous) > 0 {
            for key in &key.wider {
                let other = attempt(key, None)?;
                if other.matched() > best.matched() {
                    best = other;
                }
            }
        }
        // Ranges are only of use where several rows hold a key.
        if best.counts.of(Kind::Conflicting) * 5 > best.counts.reference_keys {
            for within in &found.within {
                let other = attempt(&best.key.clone(), Some(within))?;
                if other.matched() > best.matched() {
                    best = other;
                }
            }
        }
        // A narrower key may have become one that is proposed already, or one with parts that add nothing to it.
        let is_known = |other: &Tried| {
            other.matched() >= best.matched()
                && other.key.parts.iter().all(|part| best.key.parts.contains(part))
        };
        if !tried.iter().any(is_known) {
            tried.push(best);
        }
    }
    // A key that finds clearly more comes first; chance matches a few. One whose steps make different letters one is last.
    tried.sort_by_key(|tried| {
        let rows = tried.counts.main_rows.max(1);
        let clearly = std::cmp::Reverse(tried.matched() * CLEARLY / rows);
        let is_unlike = tried.key.parts.iter().any(|part| part.unlike.is_some());
        (is_unlike, tried.key.is_by_chance, clearly)
    });
    let most = tried.first().map_or(0, Tried::matched);
    tried.retain(|tried| tried.matched() * 2 >= most.max(1));
    Ok(tried)
}

/// Runs a plan on the whole tables, without reasons and on some threads; gives the counts of each reference.
///
/// # Errors
/// When the plan does not run.
pub(super) fn counts(plan: Plan, threads: Option<usize>) -> Result<Vec<Counts>> {
    let plan = Plan { output: None, no_reasons: Some(true), ..plan };
    let asked = Asked { plan, file: None, overridden: Vec::new(), save: None };
    let mut call = Call::new(&asked, Purpose::Findings)?;
    call.threads = threads.unwrap_or(call.threads);
    let inputs = Inputs::open(&call, None)?;
    let Loaded { mut main, mut enrichment, .. } = inputs.load(&call, call.threads, None)?;
    let findings = enrichment.run(&mut main, &mut Discard::default(), None, call.threads)?;
    Ok(findings.lookups.iter().map(|found| found.counts).collect())
}
