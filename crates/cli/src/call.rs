//! A run as it was asked for, with its texts parsed: the tables with their options, what is taken of each
//! reference, and where the result goes. No table is opened here; patterns of several files are resolved.

mod table;

use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use bytesize::ByteSize;
use clap::ValueEnum;
use gather_keys_core::findings::{Gate, Kind, Population};
use gather_keys_core::plan::{
    Columns, MainTable, On, Plan, Reach, ReferencePlan, ReferenceTable, Replace, Selection,
    TableForm, Take, Text, Texts, Update, WhenDuplicate, WhenUnmatched, Within, asked_of_main,
    parse_blanks, parse_headers,
};
use gather_keys_core::template::read_steps;
use gather_keys_formats::Address;
use gather_keys_formats::delimited::Encoding;

use crate::arguments::{When, threads};
use crate::error::{Error, Result};
use crate::peek;
use crate::same_columns::SameColumns;
use crate::typed::{Asked, PlanFile, names_of};
pub(crate) use table::Table;

/// The name of standard output where a file is named.
const STANDARD: &str = "-";

/// The tables of an enrichment, what each reference is asked for, and how the run is to go.
// Each switch is one that a person sets by itself.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug, Clone)]
pub(crate) struct Call {
    pub(crate) main: Table,
    pub(crate) references: Vec<(Table, ReferencePlan)>,
    pub(crate) gates: Gates,
    pub(crate) into: Destination,
    /// The columns of the output, and the ones it leaves out; none where it has all.
    pub(crate) columns: Vec<Columns>,
    pub(crate) dropped: Vec<Selection>,
    /// Whether a file that is written into is kept as it was.
    pub(crate) backup: bool,
    pub(crate) overwrite: bool,
    pub(crate) style: OutputStyle,
    pub(crate) lists: Option<PathBuf>,
    pub(crate) reports: Vec<PathBuf>,
    /// Whether a report goes to standard output, as JSON.
    pub(crate) prints_report: bool,
    /// How many matched rows are shown, and the seed that chooses them.
    pub(crate) shows: Option<(usize, u64)>,
    /// Whether the reasons of unmatched keys are sought.
    pub(crate) reasons: bool,
    pub(crate) receipt: Option<PathBuf>,
    pub(crate) corrections: Option<PathBuf>,
    pub(crate) edits: EditsRule,
    pub(crate) messages: Messages,
    /// How many bytes the rows of references may take.
    pub(crate) memory: Option<u64>,
    pub(crate) threads: usize,
    pub(crate) in_database: Option<WithinDatabase>,
}

/// How a run inside a database goes.
#[derive(Debug, Clone)]
pub(crate) struct WithinDatabase {
    /// The file that the statements are written to.
    pub(crate) show_sql: Option<PathBuf>,
    /// How many bytes a reference from elsewhere may have.
    pub(crate) ship: u64,
}

/// How many bytes of a reference are copied to a server without being asked.
const SHIPPED: u64 = 256 << 20;

/// The conditions for the output to be written.
#[derive(Debug, Clone)]
pub(crate) struct Gates {
    /// Gates on counts of findings.
    pub(crate) counts: Vec<Gate>,
    /// Gates on the columns that are taken.
    pub(crate) same_columns: Vec<SameColumns>,
    /// Whether the output is written even when a gate does not hold.
    pub(crate) write_anyway: bool,
}

/// How the output is written.
#[derive(Debug, Clone)]
pub(crate) struct OutputStyle {
    /// Whether a workbook is written without decoration.
    pub(crate) plain: bool,
    /// Whether cells that are written into a workbook are coloured.
    pub(crate) highlights: bool,
    /// The worksheet of findings in a workbook that is written into.
    pub(crate) findings_sheet: Option<String>,
    /// How delimited text is written.
    pub(crate) text: TextStyle,
}

/// How delimited text is written, where that is not as the main table is.
#[derive(Debug, Clone)]
pub(crate) struct TextStyle {
    /// Whether cells from other tables that look like formulas are guarded, so that none is run.
    pub(crate) guards_formulas: bool,
    /// The encoding; without one the main table's.
    pub(crate) encoding: Option<Encoding>,
    /// The delimiter; without one the main table's.
    pub(crate) delimiter: Option<u8>,
    /// Whether it begins with a byte-order mark even if the main table does not.
    pub(crate) byte_order_mark: bool,
    /// Whether numbers are written with a decimal comma even if those of the main table are not.
    pub(crate) decimal_comma: bool,
}

/// What the run prints.
#[derive(Debug, Clone)]
pub(crate) struct Messages {
    pub(crate) quiet: bool,
    pub(crate) verbose: bool,
    pub(crate) progress: When,
}

/// The destination of the enriched table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Destination {
    /// Nowhere: only findings are wanted.
    Nothing,
    /// A file, or standard output.
    Output(Address),
    /// The main file itself.
    Main,
}

/// What to do with an output that was changed by hand since the run before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum EditsRule {
    /// End the run without writing.
    #[default]
    Refuse,
    /// Make corrections of the changes.
    Keep,
    /// Write over them.
    Discard,
}

/// The purpose of a call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// A table: every reference has to say what is taken from it, or updated.
    Table,
    /// Findings only.
    Findings,
}

/// Reads texts, each with its place in the plan if it is from one.
struct Reading<'a>(Option<&'a PlanFile>);

impl Reading<'_> {
    /// Parses a text; an error is shown at the text's place.
    fn read<T>(&self, text: &Text, read: impl FnOnce(&str) -> Result<T>) -> Result<T> {
        read(&text.text).map_err(|error| match error {
            Error::Table(gather_keys_formats::Error::Core(error)) => {
                let plan = self.0.map(PlanFile::named);
                text.placed(error, plan.as_ref().map(|(name, text)| (&name[..], *text))).into()
            }
            error => match (self.0, &text.place) {
                (Some(plan), Some(place)) => Error::in_plan(plan, place.start, error),
                _ => error,
            },
        })
    }

    fn option<T>(
        &self,
        text: Option<&Text>,
        read: impl Fn(&str) -> gather_keys_core::Result<T>,
    ) -> Result<Option<T>> {
        text.map(|text| self.read(text, |text| Ok(read(text)?))).transpose()
    }

    fn all<T>(
        &self,
        texts: &Texts,
        read: impl Fn(&str) -> gather_keys_core::Result<Vec<T>>,
    ) -> Result<Vec<T>> {
        let mut all = Vec::new();
        for text in &texts.0 {
            all.extend(self.read(text, |text| Ok(read(text)?))?);
        }
        Ok(all)
    }
}

/// Refuses an address where a file is to be written.
fn check_files(reading: &Reading<'_>, asked: &Asked) -> Result<()> {
    let plan = &asked.plan;
    let files = [&plan.lists, &plan.receipt, &plan.corrections, &plan.show_sql];
    let files = files.into_iter().flatten();
    let reports = plan.report.0.iter().filter(|text| text.text != STANDARD);
    for file in files.chain(reports) {
        reading.read(file, |text| Ok(Address::check_file(OsStr::new(text))?))?;
    }
    if let Some(path) = &asked.save {
        Address::check_file(path.as_os_str())?;
    }
    Ok(())
}

impl Call {
    /// Reads what was asked for.
    pub(crate) fn new(asked: &Asked, purpose: Purpose) -> Result<Self> {
        let reading = Reading(asked.file.as_ref());
        let plan = &asked.plan;
        let mut main = main(&reading, &plan.main)?;
        let mut references = Vec::new();
        let names = names_of(&plan.references);
        for (planned, name) in plan.references.iter().zip(&names) {
            let main = &plan.main.table.text;
            references.push(reference(&reading, (planned, name), main, purpose)?);
        }
        if references.is_empty() {
            return Err(Error::NoReference);
        }
        let plans: Vec<&ReferencePlan> = references.iter().map(|(_, plan)| plan).collect();
        main.described.asked = asked_of_main(&plans);
        main.described.ask_for_filled();
        for (table, plan) in &mut references {
            table.described.asked = plan.asked_headers().reference;
            table.described.ask_for_filled();
        }
        if let Some((_, name)) = names.iter().enumerate().find(|(at, n)| names[..*at].contains(n)) {
            return Err(Error::SameName { name: name.clone() });
        }
        let standard = references.iter().map(|(table, _)| table).chain([&main]);
        if standard.filter(|table| table.address == Address::Standard).count() > 1 {
            return Err(Error::TwiceStandardInput);
        }
        let gates = gates(&reading, plan, (&references, &names))?;
        let into = match (purpose, &plan.output, plan.in_place == Some(true)) {
            (Purpose::Findings, ..) => Destination::Nothing,
            (_, Some(_), true) => return Err(Error::InPlaceWithOutput),
            (_, None, true) if main.address == Address::Standard => {
                return Err(Error::InPlaceOfStandard);
            }
            (_, None, true) => Destination::Main,
            (_, Some(output), false) => Destination::Output(Address::new(OsStr::new(&output.text))),
            (_, None, false) => Destination::Output(Address::Standard),
        };
        check_files(&reading, asked)?;
        let columns = reading.all(&plan.columns, Columns::parse)?;
        let dropped = reading.all(&plan.drop, |text| Selection::parse("drop", text))?;
        if into == Destination::Main && !(columns.is_empty() && dropped.is_empty()) {
            return Err(Error::InPlaceColumns { name: main.address.to_string() });
        }
        let (prints_report, reports) = reports(&plan.report, &into)?;
        let path = |text: &Option<Text>| text.as_ref().map(|text| PathBuf::from(&text.text));
        Ok(Self {
            main,
            references,
            gates,
            into,
            columns,
            dropped,
            backup: plan.no_backup != Some(true),
            overwrite: plan.overwrite == Some(true),
            style: OutputStyle {
                plain: plan.plain == Some(true),
                highlights: plan.highlight == Some(true),
                findings_sheet: plan.findings_sheet.as_ref().map(|text| text.text.clone()),
                text: TextStyle {
                    guards_formulas: plan.guard_formulas == Some(true),
                    encoding: match &plan.output_encoding {
                        Some(text) => Some(reading.read(text, encoding)?),
                        None => None,
                    },
                    delimiter: match &plan.output_delimiter {
                        Some(text) => Some(reading.read(text, table::delimiter)?),
                        None => None,
                    },
                    byte_order_mark: plan.output_bom == Some(true),
                    decimal_comma: plan.output_decimal_comma == Some(true),
                },
            },
            lists: path(&plan.lists),
            reports,
            prints_report,
            shows: None,
            reasons: plan.no_reasons != Some(true),
            receipt: path(&plan.receipt),
            corrections: path(&plan.corrections),
            edits: match &plan.edits {
                Some(text) => reading.read(text, EditsRule::parse)?,
                None => EditsRule::default(),
            },
            messages: Messages {
                quiet: plan.quiet == Some(true),
                verbose: plan.verbose == Some(true),
                progress: match &plan.progress {
                    Some(text) => reading.read(text, when)?,
                    None => When::Auto,
                },
            },
            memory: match &plan.memory {
                Some(text) => Some(reading.read(text, memory)?),
                None => None,
            },
            threads: threads(plan.threads),
            in_database: within_database(&reading, plan)?,
        })
    }

    /// Whether the output has every column, in the order in which they come.
    pub(crate) fn has_all_columns(&self) -> bool {
        self.columns.is_empty() && self.dropped.is_empty()
    }

    /// Whether nobody wants to know of reference rows that no main row asks for, so that these need not
    /// be kept: a table is written, without lists or receipt, and no gate is about the reference.
    pub(crate) fn may_ask_first(&self) -> bool {
        let is_of_main = |gate: &Gate| gate.kind().population() == Population::MainRows;
        self.into != Destination::Nothing
            && self.lists.is_none()
            && !self.wants_report()
            && self.receipt.is_none()
            && self.gates.counts.iter().all(is_of_main)
    }

    /// Whether anybody reads a report.
    pub(crate) fn wants_report(&self) -> bool {
        self.prints_report || !self.reports.is_empty()
    }

    /// Whether the reasons of unmatched keys are sought, for somebody who sees them.
    pub(crate) fn explains(&self) -> bool {
        let is_seen = !self.messages.quiet || self.lists.is_some() || self.wants_report();
        self.reasons && (is_seen || self.writes_found_sheet())
    }

    /// Whether the output is a workbook with a worksheet of findings.
    pub(crate) fn writes_found_sheet(&self) -> bool {
        let is_asked_for = self.style.findings_sheet.is_some();
        match &self.into {
            Destination::Nothing => false,
            Destination::Main => is_asked_for,
            Destination::Output(output) => {
                output.is_workbook() && (!self.style.plain || is_asked_for)
            }
        }
    }

    /// Every input, for the check that no output is one of them.
    pub(crate) fn inputs(&self) -> impl Iterator<Item = &Address> {
        [&self.main.address].into_iter().chain(self.reference_inputs())
    }

    /// Every input but the main table.
    pub(crate) fn reference_inputs(&self) -> impl Iterator<Item = &Address> {
        self.references.iter().flat_map(|(table, _)| table.addresses().chain(&table.aliases))
    }

    /// The file that the statements of a run inside a database go to.
    pub(crate) fn statements(&self) -> Option<&Path> {
        self.in_database.as_ref()?.show_sql.as_deref()
    }

    /// The file or stream that the table goes to.
    pub(crate) fn output(&self) -> Option<&Address> {
        match &self.into {
            Destination::Nothing => None,
            Destination::Output(address) => Some(address),
            Destination::Main => Some(&self.main.address),
        }
    }
}

/// Whether a run goes on inside a database, and how.
fn within_database(reading: &Reading<'_>, plan: &Plan) -> Result<Option<WithinDatabase>> {
    let ship = plan.ship.as_ref().map(|text| reading.read(text, memory)).transpose()?;
    let show_sql = plan.show_sql.as_ref().map(|text| PathBuf::from(&text.text));
    let option = match (&ship, &show_sql) {
        (Some(_), _) => Some("ship"),
        (None, Some(_)) => Some("show_sql"),
        (None, None) => None,
    };
    match (plan.in_database == Some(true), option) {
        (true, _) => Ok(Some(WithinDatabase { show_sql, ship: ship.unwrap_or(SHIPPED) })),
        (false, Some(option)) => Err(Error::OnlyInDatabase { option }),
        (false, None) => Ok(None),
    }
}

/// Whether a report goes to standard output, and the files of others.
fn reports(texts: &Texts, into: &Destination) -> Result<(bool, Vec<PathBuf>)> {
    let (printed, files): (Vec<&Text>, Vec<&Text>) =
        texts.0.iter().partition(|text| text.text == STANDARD);
    if !printed.is_empty() && *into == Destination::Output(Address::Standard) {
        return Err(Error::TableAndJson);
    }
    let files = files.into_iter().map(|text| PathBuf::from(&text.text));
    Ok((!printed.is_empty(), files.collect()))
}

/// The gates of a plan, and the gates of its references' `stop` rules.
fn gates(
    reading: &Reading<'_>,
    plan: &Plan,
    (references, names): (&[(Table, ReferencePlan)], &[String]),
) -> Result<Gates> {
    let (mut counts, mut same_columns) = (Vec::new(), Vec::new());
    for text in &plan.require.0 {
        if let Some(gate) = reading.read(text, |text| SameColumns::parse(text, names))? {
            if plan.receipt.is_none() {
                return Err(Error::NeedsReceipt { gate: text.text.clone() });
            }
            same_columns.push(gate);
            continue;
        }
        counts.push(reading.read(text, |text| {
            let gate = Gate::parse(text)?;
            gate.check_names(names)?;
            Ok(gate)
        })?);
    }
    for (_, plan) in references {
        if plan.when_duplicate == WhenDuplicate::Stop {
            counts.push(Gate::none(&plan.name, Kind::Ambiguous));
        }
        if plan.when_unmatched == WhenUnmatched::Stop {
            counts.push(Gate::none(&plan.name, Kind::Unmatched));
        }
    }
    Ok(Gates { counts, same_columns, write_anyway: plan.write_anyway == Some(true) })
}

/// When to show progress.
fn when(text: &str) -> Result<When> {
    When::from_str(text, false).map_err(|_| Error::NotOneOf {
        key: "progress",
        value: text.to_owned(),
        all: "auto, always or never".to_owned(),
    })
}

impl EditsRule {
    fn parse(text: &str) -> Result<Self> {
        match text.trim() {
            "refuse" => Ok(Self::Refuse),
            "keep" => Ok(Self::Keep),
            "discard" => Ok(Self::Discard),
            _ => Err(Error::NotOneOf {
                key: "edits",
                value: text.to_owned(),
                all: "refuse, keep or discard".to_owned(),
            }),
        }
    }
}

/// The encoding of a name.
fn memory(size: &str) -> Result<u64> {
    let bytes: Option<ByteSize> = size.parse().ok();
    let bytes = bytes.filter(|bytes| bytes.as_u64() > 0);
    bytes.map(|bytes| bytes.as_u64()).ok_or_else(|| Error::BadMemory { value: size.to_owned() })
}

fn encoding(name: &str) -> Result<Encoding> {
    Encoding::named(name).ok_or_else(|| Error::BadEncoding { value: name.to_owned() })
}

fn main(reading: &Reading<'_>, planned: &MainTable) -> Result<Table> {
    let mut table = Table::new(OsStr::new(&planned.table.text));
    describe(reading, &mut table, planned.form(), &planned.blank)?;
    Ok(table)
}

fn describe(
    reading: &Reading<'_>,
    table: &mut Table,
    form: TableForm<'_>,
    blank: &Texts,
) -> Result<()> {
    if let Some(text) = form.format {
        reading.read(text, |text| table.set_format(text))?;
    }
    if let Some(text) = form.delimiter {
        reading.read(text, |text| table.set_delimiter(text))?;
    }
    if let Some(text) = form.encoding {
        reading.read(text, |text| table.set_encoding(text))?;
    }
    if let Some(text) = form.ragged {
        reading.read(text, |text| table.set_ragged(text))?;
    }
    table.set_headers(form.header_row, form.no_header == Some(true))?;
    table.blanks = reading.all(blank, parse_blanks)?;
    let headers = |text: &str| parse_headers("fill-down", text);
    table.described.fill_down = reading.all(form.fill_down, headers)?;
    table.described.skip_last = form.skip_last.unwrap_or_default();
    table.described.decimal_comma = form.decimal_comma == Some(true);
    Ok(())
}

fn reference(
    reading: &Reading<'_>,
    (planned, name): (&ReferenceTable, &str),
    main: &str,
    purpose: Purpose,
) -> Result<(Table, ReferencePlan)> {
    let mut table = reading.read(&planned.table, |text| Table::all(OsStr::new(text)))?;
    describe(reading, &mut table, planned.form(), &planned.blank)?;
    table.described.order_by =
        reading.all(&planned.order_by, |text| parse_headers("order-by", text))?;
    table.aliases = planned.aliases.as_ref().map(|text| Address::new(OsStr::new(&text.text)));
    let needs =
        |option, example| Error::NeedsOption { reference: table.together.clone(), option, example };
    if planned.on.0.is_empty() && planned.within.is_none() {
        let reference = &planned.table.text;
        let example = match peek::shared_header(main.as_ref(), reference.as_ref()) {
            Some(both) => format!(", such as --on '{both}'"),
            None => format!("; `gather-keys suggest {main} {reference}` proposes one"),
        };
        return Err(needs("on", Some(example)));
    }
    let on = on(reading, &planned.on)?;
    let within = reading.option(planned.within.as_ref(), Within::parse)?;
    if within.is_some() && on == On::Position {
        let reference = table.together.clone();
        return Err(Error::RangeByPosition { reference });
    }
    let clean = reading.option(planned.clean.as_ref(), |text| read_steps("clean", text))?;
    let take = reading.all(&planned.take, Take::parse)?;
    let update = reading.all(&planned.update, Update::parse)?;
    let append_unused = planned.append_unused == Some(true);
    let gives = !take.is_empty() || !update.is_empty() || append_unused;
    if !gives && purpose == Purpose::Table {
        let mut headers = peek::headers_of(planned.table.text.as_ref());
        // Those of the key are there already.
        headers.retain(|header| planned.on.0.iter().all(|on| !on.text.contains(&header[..])));
        headers.truncate(2);
        let example =
            (!headers.is_empty()).then(|| format!(", such as --take '{}'", headers.join(", ")));
        return Err(needs("take", example));
    }
    let option = match (&planned.replace, planned.bring_blanks, planned.replace_formulas) {
        _ if !update.is_empty() => None,
        (Some(_), ..) => Some("replace"),
        (None, Some(true), _) => Some("bring-blanks"),
        (None, _, Some(true)) => Some("replace-formulas"),
        (None, ..) => None,
    };
    if let Some(option) = option {
        return Err(Error::WithoutUpdate { reference: table.together.clone(), option });
    }
    let plan = ReferencePlan {
        name: name.to_owned(),
        on,
        clean: clean.unwrap_or_default(),
        within,
        reach: reading.option(planned.reach.as_ref(), Reach::parse)?,
        when_duplicate: reading
            .option(planned.when_duplicate.as_ref(), WhenDuplicate::parse)?
            .unwrap_or_default(),
        when_unmatched: reading
            .option(planned.when_unmatched.as_ref(), WhenUnmatched::parse)?
            .unwrap_or_default(),
        match_blanks: planned.match_blanks == Some(true),
        take: gives.then_some(take),
        leave: reading.all(&planned.leave, |text| Selection::parse("leave", text))?,
        update,
        replace: reading.option(planned.replace.as_ref(), Replace::parse)?.unwrap_or_default(),
        bring_blanks: planned.bring_blanks == Some(true),
        replace_formulas: planned.replace_formulas == Some(true),
        append_unused,
    };
    let needs_order = matches!(plan.when_duplicate, WhenDuplicate::First | WhenDuplicate::Last);
    let on_server = matches!(table.address, Address::Server(_));
    if needs_order && on_server && table.described.order_by.is_empty() {
        return Err(Error::NeedsOrder { reference: table.together.clone() });
    }
    Ok((table, plan))
}

/// The parts of a key, each text with its own place.
fn on(reading: &Reading<'_>, texts: &Texts) -> Result<On> {
    let all: Vec<&str> = texts.0.iter().map(|text| &text.text[..]).collect();
    for text in &texts.0 {
        // One by itself first, so that an error is shown where it is.
        reading.read(text, |text| Ok(On::parse(&[text])?))?;
    }
    match texts.0.first() {
        Some(first) => reading.read(first, |_| Ok(On::parse(&all)?)),
        None => Ok(On::parse(&all)?),
    }
}
