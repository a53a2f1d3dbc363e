//! Why keys are unmatched: the reasons of each reference's, once the pass is over.

use gather_keys_core::diagnosis::{Diagnosis, Explained, Scout};
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::Findings;
use gather_keys_core::lookup::Lookup;
use gather_keys_formats::{Address, InputFile};

use crate::call::{Call, Table};
use crate::error::Result;
use crate::inputs::{Seen, read_again};

/// A reference is read once more for parts that are in another column if it is no larger than this,
/// in bytes.
const READ_AGAIN: u64 = 64 << 20;

/// The diagnosis of each reference; `None` where there is nothing to diagnose, or nobody wants to know.
pub(crate) fn diagnoses(
    call: &Call,
    enrichment: &Enrichment,
    findings: &Findings,
    seen: &[Seen],
) -> Result<Vec<Option<Diagnosis>>> {
    let lookups = enrichment.lookups().zip(&findings.lookups).zip(&call.references);
    let diagnose = |((lookup, found), (table, _)): (_, &(Table, _))| {
        let mut diagnosis =
            if call.explains() { Diagnosis::of(lookup, found, call.threads) } else { None };
        if let Some(diagnosis) = &mut diagnosis {
            let keys = found.unmatched.keys();
            scout(lookup, keys, (table, seen, call.threads), &mut diagnosis.explained)?;
        }
        Ok(diagnosis)
    };
    lookups.map(diagnose).collect()
}

/// Looks whether parts of the keys that nothing explains are in another column.
fn scout(
    lookup: &Lookup,
    keys: &[gather_keys_core::findings::UnmatchedKey],
    (table, seen, threads): (&Table, &[Seen], usize),
    explained: &mut [Explained],
) -> Result<()> {
    // Through the same handles as before, so that it is the same table.
    let file_of = |address: &Address| {
        let name = lookup.reference().name();
        let is_it = |seen: &&Seen| seen.role == name && seen.address == *address;
        seen.iter().find(is_it)?.file.clone()
    };
    let files: Option<Vec<InputFile>> = table.addresses().map(file_of).collect();
    let Some(files) = files else { return Ok(()) };
    if files.iter().map(|file| file.stamp().bytes()).sum::<u64>() > READ_AGAIN {
        return Ok(());
    }
    let Some(mut scout) = Scout::new(lookup, keys, explained) else { return Ok(()) };
    for one in table.addresses().zip(&files) {
        let headers = lookup.reference().headers();
        read_again(table, one, headers, |source| Ok(scout.read(source, threads)?))?;
    }
    scout.tell(explained);
    Ok(())
}
