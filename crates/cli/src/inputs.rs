//! Opening the tables of a run.

use std::hash::{BuildHasher, RandomState};

use gather_keys_core::enrich::{Enrichment, Note, Resolved, Side, added_names, resolve};
use gather_keys_core::lookup::Seed;
use gather_keys_core::plan::ReferencePlan;
use gather_keys_core::table::{Arranged, Headers, Source};
use gather_keys_formats::delimited::{ReadOptions, Reader};
use gather_keys_formats::{Address, Error};

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
    references: Vec<OpenReference>,
    added: Vec<String>,
}

/// A reference that is open.
struct OpenReference {
    plan: ReferencePlan,
    headers: Headers,
    /// The tables whose rows it has, one after the other.
    tables: Vec<OpenTable>,
    found: Resolved,
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
        let mut open = |table: &Table, at: &Address| open_at(table, at, &meter, &mut size);
        let main = open(&call.main, &call.main.address)?;
        // A reference may use what those before it add.
        let mut known = main.headers().clone();
        let (mut references, mut added) = (Vec::new(), Vec::new());
        let mut notes = Vec::new();
        for (table, plan) in call.references {
            let mut tables = vec![open(&table, &table.address)?];
            let headers = tables[0].headers().clone().of_table(&table.together[..]);
            for address in &table.others {
                let mut other = open(&table, address)?;
                arranged(&headers, &table.address.to_string(), &mut other)?;
                tables.push(other);
            }
            let ours = Side { headers: &known, blanks: &call.main.blanks };
            let theirs = Side { headers: &headers, blanks: &table.blanks };
            let found = resolve(&plan, ours, theirs)?;
            notes.extend(found.notes.iter().cloned());
            let (names, renamed) = added_names(&known, &plan.name, &found.names);
            notes.extend(renamed);
            known = known.with(&names);
            added.extend(names);
            references.push(OpenReference { plan, headers, tables, found });
        }
        Ok(Self { main, meter, size, notes, references, added })
    }

    /// How each table was read.
    pub(crate) fn read_as(&self) -> Vec<ReadAs> {
        let tables = self.references.iter().flat_map(|reference| &reference.tables);
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

    /// Loads the references on so many threads; what is left to read is the main table.
    pub(crate) fn load(self, threads: usize) -> Result<(OpenTable, Enrichment)> {
        let mut lookups = Vec::new();
        for OpenReference { plan, headers, tables, found } in self.references {
            let mut builder = found.builder(&plan, &headers, seed());
            for mut table in tables {
                builder.read(&mut arranged(&headers, headers.table(), &mut table)?, threads)?;
            }
            lookups.push(found.lookup(builder.finish()?));
        }
        let enrichment = Enrichment::new(lookups, self.main.headers(), self.added);
        Ok((self.main, enrichment))
    }
}

/// A table with its columns in the order of those of the first one.
fn arranged<'t>(
    headers: &Headers,
    first: &str,
    table: &'t mut OpenTable,
) -> Result<Arranged<'t, OpenTable>> {
    let name = table.headers().table().to_owned();
    let other = |differing| Error::OtherHeaders { name, first: first.to_owned(), differing };
    Ok(Arranged::like(headers, table).map_err(other)?)
}

/// Opens a table and reads its headers; its size is added to `size`, where it is known.
pub(crate) fn open(table: &Table, meter: &Meter, size: &mut Option<u64>) -> Result<OpenTable> {
    open_at(table, &table.address, meter, size)
}

fn open_at(
    table: &Table,
    address: &Address,
    meter: &Meter,
    size: &mut Option<u64>,
) -> Result<OpenTable> {
    let (input, bytes) = address.open()?;
    *size = size.zip(bytes).map(|(all, one)| all + one);
    let name = address.to_string();
    let options = ReadOptions { delimiter: table.delimiter, ..ReadOptions::default() };
    Ok(Reader::new(name, meter.on(input), options)?)
}

/// A seed that nobody can know beforehand, from what the standard library seeds its own maps with.
pub(crate) fn seed() -> Seed {
    std::array::from_fn(|nth| RandomState::new().hash_one(nth))
}
