//! The gate `columns = same`: runs, globs and `*` must bring the columns of the run before.

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{GateResult, Population};
use gather_keys_core::receipt::{Receipt, columns_of};

use crate::error::{Error, Result};

/// The gate, for one reference or for all.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct SameColumns {
    text: String,
    reference: Option<String>,
}

impl SameColumns {
    /// The gate in a text, if it is this one: `columns = same` or `hives.columns = same`.
    ///
    /// # Errors
    /// When no reference has the name.
    pub(crate) fn parse(text: &str, names: &[String]) -> Result<Option<Self>> {
        let Some((subject, what)) = text.split_once('=') else { return Ok(None) };
        let (reference, subject) = match subject.trim().rsplit_once('.') {
            Some((reference, subject)) => (Some(reference.trim().to_owned()), subject),
            None => (None, subject.trim()),
        };
        if subject != "columns" {
            return Ok(None);
        }
        if what.trim() != "same" {
            return Err(Error::NotOneOf {
                key: "columns",
                value: what.trim().to_owned(),
                all: "`columns = same`, as in the run before".to_owned(),
            });
        }
        if let Some(asked) = reference.as_ref().filter(|name| !names.contains(name)) {
            return Err(Error::NotInPlan { asked: asked.clone(), all: names.to_vec() });
        }
        Ok(Some(Self { text: text.trim().to_owned(), reference }))
    }

    /// The result for each reference. Without an earlier run nothing can have changed.
    pub(crate) fn results(
        &self,
        enrichment: &Enrichment,
        before: Option<&Receipt>,
    ) -> Vec<GateResult> {
        let references = enrichment.lookups().map(gather_keys_core::lookup::Lookup::reference);
        let meant = references.filter(|reference| {
            self.reference.as_deref().is_none_or(|name| name == reference.name())
        });
        let result = |reference: &gather_keys_core::lookup::Reference| {
            let now = columns_of(reference);
            let earlier = before.and_then(|before| {
                let found = before.references.iter().find(|found| found.name == reference.name());
                found.map(|found| &found.columns).filter(|columns| !columns.is_empty())
            });
            let changed = earlier.map_or(0, |earlier| {
                let new = now.iter().filter(|header| !earlier.contains(header)).count();
                let gone = earlier.iter().filter(|header| !now.contains(header)).count();
                // Others in their places change what is written too.
                if new + gone == 0 && *earlier != now { now.len() } else { new + gone }
            });
            GateResult {
                population: Population::ReferenceColumns,
                gate: self.text.clone(),
                reference: reference.name().to_owned(),
                label: "not as in the run before",
                count: changed as u64,
                total: now.len() as u64,
                holds: changed == 0,
            }
        };
        meant.map(result).collect()
    }
}
