//! Opening the tables of a run.

use std::hash::{BuildHasher, RandomState};

use gather_keys_core::enrich::{Enrichment, Note, Resolved, Side, added_names, resolve};
use gather_keys_core::lookup::{Lookup, Reference, ReferenceBuilder, Seed};
use gather_keys_core::plan::ReferencePlan;
use gather_keys_core::table::Source;
use gather_keys_formats::delimited::{ReadOptions, Reader};

use crate::call::{Call, Table};
use crate::error::Result;
use crate::progress::{Meter, Metered};

/// A table that is open, its headers read.
pub(crate) type OpenTable = Reader<Metered>;

/// All tables of a run, open, with every name in the plan found in them. No row is read yet, so
/// that whatever is wrong with the call is said at once.
pub(crate) struct Inputs {
    pub(crate) main: OpenTable,
    pub(crate) meter: Meter,
    /// The size of all inputs in bytes, where it is known.
    pub(crate) size: Option<u64>,
    pub(crate) notes: Vec<Note>,
    references: Vec<(ReferencePlan, OpenTable, Resolved)>,
    added: Vec<String>,
}

/// How a table was read, for those who want to know.
#[derive(Debug)]
pub(crate) struct ReadAs {
    pub(crate) table: String,
    pub(crate) delimiter: String,
    pub(crate) byte_order_mark: bool,
    pub(crate) columns: usize,
}

impl Inputs {
    /// Opens the tables of a call.
    pub(crate) fn open(call: Call) -> Result<Self> {
        let meter = Meter::default();
        let mut size = Some(0);
        let mut open = |table: &Table| open(table, &meter, &mut size);
        let main = open(&call.main)?;
        let mut references = Vec::new();
        let mut notes = Vec::new();
        for (table, plan) in call.references {
            let source = open(&table)?;
            let ours = Side { headers: main.headers(), blanks: &call.main.blanks };
            let theirs = Side { headers: source.headers(), blanks: &table.blanks };
            let resolved = resolve(&plan, ours, theirs)?;
            notes.extend(resolved.notes.iter().cloned());
            references.push((plan, source, resolved));
        }
        let wanted = references.iter().map(|(plan, _, found)| (&plan.name[..], &found.names[..]));
        let (added, renamed) = added_names(main.headers(), wanted);
        notes.extend(renamed);
        Ok(Self { main, meter, size, notes, references, added })
    }

    /// How each table was read.
    pub(crate) fn read_as(&self) -> Vec<ReadAs> {
        let tables = self.references.iter().map(|(_, table, _)| table);
        let told = [&self.main].into_iter().chain(tables).map(|table| {
            let dialect = table.layout().dialect;
            ReadAs {
                table: table.headers().table().to_owned(),
                delimiter: dialect.delimiter_name(),
                byte_order_mark: dialect.byte_order_mark,
                columns: table.headers().len(),
            }
        });
        told.collect()
    }

    /// Loads the references; what is left to read is the main table.
    pub(crate) fn load(self) -> Result<(OpenTable, Enrichment)> {
        let mut lookups = Vec::new();
        for (plan, mut source, found) in self.references {
            let Resolved { main_key, reference_key, rule, rank, taken, taking, .. } = found;
            let headers = source.headers();
            let builder = ReferenceBuilder::new(&plan.name, headers, reference_key, taken, seed())
                .resolving(rule, rank)
                .matching_blanks(plan.match_blanks);
            let reference = Reference::load(builder, &mut source)?;
            lookups.push((Lookup::new(main_key, reference), taking));
        }
        Ok((self.main, Enrichment::new(lookups, self.added)))
    }
}

/// Opens a table and reads its headers; its size is added to `size`, where it is known.
pub(crate) fn open(table: &Table, meter: &Meter, size: &mut Option<u64>) -> Result<OpenTable> {
    let (input, bytes) = table.address.open()?;
    *size = size.zip(bytes).map(|(all, one)| all + one);
    let name = table.address.to_string();
    let options = ReadOptions { delimiter: table.delimiter, ..ReadOptions::default() };
    Ok(Reader::new(name, meter.on(input), options)?)
}

/// A seed that nobody can know beforehand, from what the standard library seeds its own maps with.
pub(crate) fn seed() -> Seed {
    std::array::from_fn(|nth| RandomState::new().hash_one(nth))
}
