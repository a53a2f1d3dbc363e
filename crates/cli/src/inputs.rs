//! Opening the tables of a run.

use std::hash::{BuildHasher, RandomState};
use std::io;
use std::path::Path;
use std::sync::Arc;
use std::time::SystemTime;

use gather_keys_core::enrich::{
    AddedCell, Corrections, Enrichment, EnrichmentBuilder, NeedsWhole, Note, Resolved,
};
use gather_keys_core::lookup::{Overflow, Seed};
use gather_keys_core::plan::{ReferencePlan, WhenDuplicate, WhenUnmatched};
use gather_keys_core::report::LISTED;
use gather_keys_core::spill::Scratch;
use gather_keys_core::table::{Arranged, Headers, OutputColumns, RawForm, Source};
use gather_keys_formats::columnar::StoredType;
use gather_keys_formats::postgresql::TableIdentity;
use gather_keys_formats::workbook::SheetPlace;
use gather_keys_formats::{Address, Error, InputFile, ReadAs, SideFile, TempScratch, Untapped};

pub(crate) use gather_keys_formats::Table as OpenTable;

use crate::aliases;
use crate::call::{Call, Destination, EditsRule, Table};
use crate::corrections::CorrectionsFile;
use crate::error::Result;
use crate::found_sheet;
use crate::progress::{Meter, Metering, SharedSum};

/// All tables of a run, open, with every name in the plan found in them. No row is read yet, so
/// that whatever is wrong with the call is said at once.
pub(crate) struct Inputs {
    pub(crate) main: OpenTable,
    pub(crate) meter: Meter,
    /// The size of all inputs in bytes, where it is known.
    pub(crate) size: Option<u64>,
    pub(crate) corrections: Option<CorrectionsFile>,
    corrected: Option<Corrections>,
    references: Vec<OpenReference>,
    builder: EnrichmentBuilder,
    types: ColumnTypes,
    seen: Vec<Seen>,
}

/// A reference that is open.
struct OpenReference {
    plan: ReferencePlan,
    headers: Headers,
    /// The tables whose rows it has, one after the other.
    tables: Vec<OpenTable>,
    /// How large they are, where that is known.
    size: Option<u64>,
    /// Its aliases.
    aliases: Option<SideFile>,
    found: Resolved,
}

/// An input as it was met, for the receipt.
#[derive(Debug)]
pub(crate) struct Seen {
    /// Its role: `main`, or the name of a reference.
    pub(crate) role: String,
    pub(crate) address: Address,
    pub(crate) headers: Vec<String>,
    /// How many rows it has; for the main table to be reported once it is read.
    pub(crate) rows: u64,
    /// When it was last written to.
    pub(crate) modified: Option<SystemTime>,
    /// The file that it is read from, where it is one.
    pub(crate) file: Option<InputFile>,
    /// Its sum, once it is read.
    pub(crate) sum: Option<SharedSum>,
}

/// How a table was read.
pub(crate) struct ReadTable {
    pub(crate) table: String,
    /// Its headers.
    pub(crate) columns: Vec<String>,
    pub(crate) delimiter: String,
    pub(crate) byte_order_mark: bool,
    pub(crate) read_as: ReadAs,
}

/// The inputs after the references are loaded.
pub(crate) struct Loaded {
    pub(crate) main: OpenTable,
    pub(crate) enrichment: Enrichment,
    pub(crate) seen: Vec<Seen>,
    /// The files of aliases and corrections.
    pub(crate) others: Vec<InputFile>,
    pub(crate) types: ColumnTypes,
}

/// The types of the columns of the enriched table in the tables that they come from; `None` for new columns.
#[derive(Debug)]
pub(crate) struct ColumnTypes {
    /// Their types in a columnar file.
    pub(crate) stored: Vec<Option<StoredType>>,
    /// Their types as a server declares them.
    pub(crate) declared: Vec<Option<String>>,
    /// Their number formats in a workbook.
    pub(crate) number_formats: Vec<Option<String>>,
    /// Their widths in a workbook.
    pub(crate) widths: Vec<Option<f64>>,
}

impl Inputs {
    /// Opens the tables of a call. Corrections are `kept` by this run already, or read.
    pub(crate) fn open(call: &Call, kept: Option<&CorrectionsFile>) -> Result<Self> {
        let meter = Meter::default();
        let mut size = Some(0);
        let mut seen = Vec::new();
        let sums = call.receipt.is_some();
        let mut open = |table: &Table, address: &Address, role: &str| -> Result<OpenTable> {
            let sum = sums.then(SharedSum::default);
            let open = open_at(table, address, &meter, &mut size, sum.as_ref())?;
            let facts = open.file().and_then(|file| file.path().metadata().ok());
            seen.push(Seen {
                role: role.to_owned(),
                address: address.clone(),
                headers: open.headers().iter().map(str::to_owned).collect(),
                rows: 0,
                modified: facts.and_then(|facts| facts.modified().ok()),
                file: open.file().cloned(),
                sum,
            });
            Ok(open)
        };
        let main = open(&call.main, &call.main.address, "main")?;
        if let (Destination::Main, Some(file)) = (&call.into, main.file()) {
            file.lock()?;
        }
        // One seed for all, so that the keys of a row are hashed once for references with the same key.
        let mut builder =
            EnrichmentBuilder::new(main.headers(), seed()).blanks(call.main.blanks.clone());
        let mut types = ColumnTypes {
            stored: main.stored_types(),
            declared: declared_types(&main),
            number_formats: main.number_formats(),
            widths: main.widths(),
        };
        let mut references = Vec::new();
        let mut opened = 0;
        for (table, plan) in &call.references {
            let mut tables = vec![open(table, &table.address, &plan.name)?];
            let headers = tables[0].headers().clone().of_table(&table.together[..]);
            for address in &table.others {
                let mut other = open(table, address, &plan.name)?;
                arranged(&headers, &table.address.to_string(), &mut other)?;
                opened += 1;
                if opened > KEPT_OPEN {
                    close(other.file());
                }
                tables.push(other);
            }
            let found = builder.resolve(plan, &headers, &table.blanks);
            let found =
                found.map_err(|error| of_worksheet(error, &headers, [&main, &tables[0]]))?;
            let taken = |nth: usize| found.taken.columns[nth];
            let stored = tables[0].stored_types();
            types.stored.extend(found.output.cells.iter().map(|cell| match cell {
                AddedCell::Taken(nth) => stored[taken(*nth)].clone(),
                AddedCell::Named(_) | AddedCell::Mark(_) => None,
            }));
            let formats = tables[0].number_formats();
            types.number_formats.extend(found.output.cells.iter().map(|cell| match cell {
                AddedCell::Taken(nth) => formats[taken(*nth)].clone(),
                AddedCell::Named(_) | AddedCell::Mark(_) => None,
            }));
            let widths = tables[0].widths();
            types.widths.extend(found.output.cells.iter().map(|cell| match cell {
                AddedCell::Taken(nth) => widths[taken(*nth)],
                AddedCell::Named(_) | AddedCell::Mark(_) => None,
            }));
            let theirs = declared_types(&tables[0]);
            for update in &found.output.updates {
                // A column that is written into holds what both tables have.
                let new =
                    found.taken.columns.get(update.taken).and_then(|&one| theirs[one].as_ref());
                if types.declared[update.column].as_ref() != new {
                    types.declared[update.column] = None;
                }
            }
            let keeps_types = plan.when_duplicate != WhenDuplicate::List
                && !matches!(plan.when_unmatched, WhenUnmatched::Fill(_));
            types.declared.extend(found.output.cells.iter().map(|cell| match cell {
                AddedCell::Taken(nth) if keeps_types => theirs[taken(*nth)].clone(),
                AddedCell::Taken(_) | AddedCell::Named(_) | AddedCell::Mark(_) => None,
            }));
            let size = table.addresses().map(size_of).sum();
            let aliases = table.aliases.as_ref().map(SideFile::read).transpose()?;
            let plan = plan.clone();
            references.push(OpenReference { plan, headers, tables, size, aliases, found });
        }
        if !call.has_all_columns() {
            let chosen = builder.choose(&call.columns, &call.dropped);
            chosen.map_err(|error| or_not_taken(error, &references))?;
        }
        let is_new = |path: &&Path| call.edits == EditsRule::Keep && !path.exists();
        let corrections = match (kept, call.corrections.as_deref()) {
            (Some(kept), _) => Some(kept.clone()),
            (None, path) => {
                path.filter(|path| !is_new(path)).map(CorrectionsFile::read).transpose()?
            }
        };
        let corrected = corrections.as_ref().map(|file| file.placed_in(&builder)).transpose()?;
        Ok(Self { main, meter, size, corrections, corrected, references, builder, types, seen })
    }

    /// Notes about names that were found loosely or changed.
    pub(crate) fn notes(&self) -> &[Note] {
        self.builder.notes()
    }

    /// Which tables of a server are read.
    pub(crate) fn identities(&self) -> impl Iterator<Item = &TableIdentity> {
        let tables = self.references.iter().flat_map(|reference| &reference.tables);
        let all = [&self.main].into_iter().chain(tables);
        all.filter_map(|table| table.read_as().identity.as_ref())
    }

    /// The tables that are parts of files: each path, and the name of the worksheet or table.
    pub(crate) fn parts(&self) -> impl Iterator<Item = (&Path, &str)> {
        let tables = self.references.iter().flat_map(|reference| &reference.tables);
        [&self.main].into_iter().chain(tables).filter_map(|table| {
            let part = table.read_as().part.as_ref().map(|part| &part.name[..]);
            let worksheet = table.sheet_place().map(SheetPlace::worksheet);
            Some((table.file()?.path(), worksheet.or(part)?))
        })
    }

    /// How each table was read.
    pub(crate) fn read_as(&self) -> Vec<ReadTable> {
        let tables = self.references.iter().flat_map(|reference| &reference.tables);
        let reported = [&self.main].into_iter().chain(tables).map(|table| {
            let dialect = table.layout().dialect;
            ReadTable {
                table: table.headers().table().to_owned(),
                columns: table.headers().iter().map(str::to_owned).collect(),
                delimiter: dialect.delimiter_name(),
                byte_order_mark: dialect.byte_order_mark,
                read_as: table.read_as().clone(),
            }
        });
        reported.collect()
    }

    /// Loads the references on this many threads; what is left to read is the main table. Of a large
    /// reference only what a small main table asks for is kept, if the `call` is such that nobody wants
    /// to know of the rest. `raw_form` is how the output writes taken cells, where it can take them over.
    pub(crate) fn load(
        self,
        call: &Call,
        threads: usize,
        raw_form: Option<RawForm>,
    ) -> Result<Loaded> {
        let own = self.main.headers().len();
        let goes_plainly = |reference: &OpenReference| reference.found.passes_through(own);
        let are_plain = self.corrected.is_none() && self.references.iter().all(goes_plainly);
        let raw_form = raw_form.filter(|_| are_plain);
        let mut enrichment = self.builder;
        let small = size_of(&call.main.address).filter(|_| call.may_ask_first());
        let small = small.filter(|size| *size <= SMALL);
        let mut updated = Vec::new();
        let mut others = Vec::new();
        let mut left = call.memory;
        let mut scratch: Option<Arc<dyn Scratch>> = None;
        let mut rows = Vec::new();
        for OpenReference { plan, headers, tables, size, aliases, found } in self.references {
            let mut builder = found.builder(&plan, &headers, enrichment.seed()).raw_form(raw_form);
            let is_large = |(main, size)| size >= LARGE && size / LARGER >= main;
            let is_large = small.zip(size).is_some_and(is_large);
            let needs_whole = found.needs_whole(own, &updated);
            if is_large && aliases.is_none() && needs_whole.is_none() {
                let metering = Metering { meter: &self.meter, sum: None };
                let Some(file) = self.main.file() else { continue };
                let address = &call.main.address;
                let mut main =
                    OpenTable::open_file(address, file, &call.main.described, &metering)?;
                builder.filter_by(&found.main_key, &mut main)?;
            }
            if let Some(left) = left {
                let needs_whole = needs_whole.map(needing);
                let overflow = match needs_whole.or_else(|| needs_listing(call, aliases.is_some()))
                {
                    Some(why) => Overflow::Refuse(why),
                    None => Overflow::Spill(match &scratch {
                        Some(scratch) => Arc::clone(scratch),
                        None => Arc::clone(scratch.insert(new_scratch()?)),
                    }),
                };
                builder = builder.memory_limit(left, overflow);
            }
            updated.extend(found.output.updates.iter().map(|one| one.column));
            let are_many = tables.len() > KEPT_OPEN;
            for mut table in tables {
                builder.read(&mut arranged(&headers, headers.table(), &mut table)?, threads)?;
                if are_many {
                    close(table.file());
                }
            }
            let reference = builder.finish()?;
            left = left.map(|left| left.saturating_sub(reference.cost()));
            rows.extend(reference.tables().map(|(_, rows)| rows));
            let (mut lookup, taking) = found.lookup(reference);
            if let Some(table) = aliases {
                others.extend(table.file().cloned());
                let aliases = aliases::of(&table, &lookup, enrichment.headers())?;
                lookup = lookup.aliased(aliases);
            }
            enrichment.add(lookup, taking);
        }
        let corrections = self.corrections.as_ref().and_then(CorrectionsFile::file).cloned();
        others.extend(corrections);
        let mut seen = self.seen;
        for (seen, rows) in seen.iter_mut().skip(1).zip(rows) {
            seen.rows = rows;
        }
        let enrichment = enrichment.finish().corrected(self.corrected).explaining(call.explains());
        let enrichment = enrichment.memory_limit(call.memory);
        let enrichment = match (call.writes_found_sheet(), !call.wants_report()) {
            (true, _) => enrichment.sampling(found_sheet::LISTED),
            (false, true) => enrichment,
            (false, false) => enrichment.sampling(LISTED),
        };
        Ok(Loaded { main: self.main, enrichment, seen, others, types: self.types })
    }
}

impl ColumnTypes {
    /// The types of the columns of the output.
    pub(crate) fn of_output(self, columns: &OutputColumns) -> Self {
        fn chosen<T: Clone>(all: &[Option<T>], columns: &OutputColumns) -> Vec<Option<T>> {
            let of = |nth| all.get(columns.column(nth)).cloned().flatten();
            (0..columns.len()).map(of).collect()
        }
        Self {
            stored: chosen(&self.stored, columns),
            declared: chosen(&self.declared, columns),
            number_formats: chosen(&self.number_formats, columns),
            widths: chosen(&self.widths, columns),
        }
    }
}

/// The error of a header that the output does not have; that of one which is not taken, if a reference has it.
fn or_not_taken(
    error: gather_keys_core::Error,
    references: &[OpenReference],
) -> crate::error::Error {
    if let gather_keys_core::Error::HeaderUnknown { asked, .. } = &error {
        let holder = references.iter().find(|one| one.headers.find(asked).is_ok());
        if let Some(holder) = holder {
            let (header, reference) = (asked.clone(), holder.headers.table().to_owned());
            return crate::error::Error::NotTaken { header, reference };
        }
    }
    Error::Core(error).into()
}

/// The error of a header that a worksheet does not have, with the worksheets that do; other errors as they are.
fn of_worksheet(
    error: gather_keys_core::Error,
    reference: &Headers,
    [main, first]: [&OpenTable; 2],
) -> Error {
    let gather_keys_core::Error::HeaderUnknown { table, asked, nearest, all } = error else {
        return Error::Core(error);
    };
    let open = if table == reference.table() { first } else { main };
    let part = open.read_as().part.as_ref().filter(|part| part.all.len() > 1);
    let holders = part.map(|_| open.worksheets_with(&asked)).unwrap_or_default();
    match part {
        Some(part) if !holders.is_empty() => {
            let worksheet = part.name.clone();
            Error::HeaderElsewhere { name: table, worksheet, asked, holders }
        }
        Some(part) if !table.contains('#') => {
            let table = format!("{table}#{}", part.name);
            Error::Core(gather_keys_core::Error::HeaderUnknown { table, asked, nearest, all })
        }
        _ => Error::Core(gather_keys_core::Error::HeaderUnknown { table, asked, nearest, all }),
    }
}

/// The types that a server declares the columns of a table with.
fn declared_types(table: &OpenTable) -> Vec<Option<String>> {
    let mut declared: Vec<_> = table.read_as().declared.iter().cloned().map(Some).collect();
    declared.resize(table.headers().len(), None);
    declared
}

/// A feature that needs all rows of a reference at once, as it was typed.
fn needing(what: NeedsWhole) -> String {
    match what {
        NeedsWhole::Range => "`--within`".to_owned(),
        NeedsWhole::AppendUnused => "`--append-unused`".to_owned(),
        other => other.to_string(),
    }
}

/// A feature that needs all rows of a reference at once, because it reports every one.
fn needs_listing(call: &Call, has_aliases: bool) -> Option<String> {
    let why = if has_aliases {
        "`--aliases`"
    } else if call.lists.is_some() {
        "`--lists`"
    } else if call.receipt.is_some() {
        "`--receipt`"
    } else {
        return None;
    };
    Some(why.to_owned())
}

/// A temporary file for what does not fit into memory.
fn new_scratch() -> Result<Arc<dyn Scratch>> {
    let refused = |cause: io::Error| gather_keys_core::Error::Scratch { cause: cause.to_string() };
    Ok(Arc::new(TempScratch::new().map_err(refused).map_err(Error::from)?))
}

/// How large a main table may be, in bytes, for its keys to be read before the references are.
const SMALL: u64 = 64 << 20;

/// How many times larger than the main table a reference must be, and how large, to be filtered: findings
/// of a small one should cover all of it.
const LARGER: u64 = 8;
const LARGE: u64 = 16 << 20;

/// The size of a table's file, where it has one that can be read twice.
pub(crate) fn size_of(address: &Address) -> Option<u64> {
    let facts = address.path()?.metadata().ok()?;
    facts.is_file().then_some(facts.len())
}

/// How many files of patterns stay open from the look at their headers on; the system may allow no more than 256.
const KEPT_OPEN: usize = 64;

/// Closes a file until it is read again.
fn close(file: Option<&InputFile>) {
    file.into_iter().for_each(InputFile::close);
}

/// A table with its columns in the order of those of the first one.
pub(crate) fn arranged<'t>(
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
    open_at(table, &table.address, meter, size, None)
}

/// Reads a file of a reference once more, with its columns in the order of `headers`.
pub(crate) fn read_again(
    table: &Table,
    (address, file): (&Address, &InputFile),
    headers: &Headers,
    read: impl FnOnce(&mut Arranged<'_, OpenTable>) -> Result<()>,
) -> Result<()> {
    let was_closed = file.is_closed();
    let mut open = OpenTable::open_file(address, file, &table.described, &Untapped)?;
    read(&mut arranged(headers, headers.table(), &mut open)?)?;
    if was_closed {
        file.close();
    }
    Ok(())
}

fn open_at(
    table: &Table,
    address: &Address,
    meter: &Meter,
    size: &mut Option<u64>,
    sum: Option<&SharedSum>,
) -> Result<OpenTable> {
    let (table, bytes) = OpenTable::open(address, &table.described, &Metering { meter, sum })?;
    *size = size.zip(bytes).map(|(all, one)| all + one);
    Ok(table)
}

/// A seed that nobody can know beforehand, from what the standard library seeds its own maps with.
pub(crate) fn seed() -> Seed {
    std::array::from_fn(|nth| RandomState::new().hash_one(nth))
}
