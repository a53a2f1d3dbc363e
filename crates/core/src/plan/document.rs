//! A plan as it is written: a whole enrichment in texts, to be run again.
//!
//! In goes a TOML text, or what was typed on a command line; out comes a [`Plan`], whose texts know
//! where in the file they stand, so that whatever is wrong with one is shown at its place. The
//! descriptions of the keys here are what editors and written plans say of them.

use std::ops::Range;

use schemars::JsonSchema;
use serde::Deserialize;

use crate::Error;

/// A whole enrichment: the tables, what each reference is asked for, and where the result goes.
#[derive(Debug, Clone, Default, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "A plan of Gather Keys")]
pub struct Plan {
    /// The file to write, a workbook if it ends with `.xlsx`; relative to the plan, as every path in
    /// it is. `-` is standard output.
    pub output: Option<Text>,
    /// Replace files that are there already.
    pub overwrite: Option<bool>,
    /// Write into the main file itself; what it was is kept beside it under a dated name.
    pub in_place: Option<bool>,
    /// With `in_place`: keep no copy of what the main file was.
    pub no_backup: Option<bool>,
    /// A folder for every finding, one CSV for each kind.
    pub lists: Option<Text>,
    /// Reports of what was found, HTML, Markdown or JSON by their endings.
    #[serde(default)]
    pub report: Texts,
    /// Do not seek why keys are unmatched.
    pub no_reasons: Option<bool>,
    /// What must hold for the output to be written, such as `unmatched <= 1%`.
    #[serde(default)]
    pub require: Texts,
    /// Write the output even when something required does not hold.
    pub write_anyway: Option<bool>,
    /// A record of each run, by which the next one tells what has moved since.
    pub receipt: Option<Text>,
    /// A table of cells that were settled by hand, put in place after the lookups.
    pub corrections: Option<Text>,
    /// What to do with an output that was changed by hand since: `refuse` to run, `keep` the changes
    /// as corrections, or `discard` them.
    pub edits: Option<Text>,
    /// Print nothing but errors and gates that do not hold.
    pub quiet: Option<bool>,
    /// Say how the tables were read as well.
    pub verbose: Option<bool>,
    /// When to show progress: `auto`, `always` or `never`.
    pub progress: Option<Text>,
    /// How much memory the rows of references may take, such as `2 GB` or `512 MiB`; what does not fit
    /// is worked off piece by piece, by way of temporary files.
    pub memory: Option<Text>,
    /// How many threads to work with.
    #[serde(default, deserialize_with = "threads")]
    #[schemars(range(min = 1, max = 1024))]
    pub threads: Option<u16>,
    /// Write a workbook without decoration: no colours, notes, filter and findings.
    pub plain: Option<bool>,
    /// In delimited text, write cells from other tables that a spreadsheet would run as a formula so that it shows
    /// them instead.
    pub guard_formulas: Option<bool>,
    /// The encoding of the output; the main table's unless it is said.
    pub output_encoding: Option<Text>,
    /// The table that is enriched.
    pub main: MainTable,
    /// The tables that columns are taken from, in the order in which they are asked.
    #[serde(default, rename = "reference")]
    pub references: Vec<ReferenceTable>,
}

/// The table that is enriched.
#[derive(Debug, Clone, Default, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MainTable {
    /// The main table: a file, or `-` for standard input.
    pub table: Text,
    /// The format: `text`, `json`, `json-lines`, `workbook`, `database`, `parquet` or `arrow`.
    pub format: Option<Text>,
    /// What stands between cells: comma, semicolon, tab, bar, or the sign itself.
    pub delimiter: Option<Text>,
    /// The encoding of the text, such as `windows-1252`.
    pub encoding: Option<Text>,
    /// The line that the headers stand on, from 1.
    pub header_row: Option<u64>,
    /// There are no headers: columns are called `Column 1`, `Column 2` and so on.
    pub no_header: Option<bool>,
    /// Rows of another number of cells than there are headers: `refuse` them, or `pad` them.
    pub ragged: Option<Text>,
    /// Texts that count as blank in keys: `NA, -`.
    #[serde(default)]
    pub blank: Texts,
}

/// A table that columns are taken from, and what it is asked for.
#[derive(Debug, Clone, Default, PartialEq, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ReferenceTable {
    /// The reference table; a name with `*` reads several files of the same headers as one.
    pub table: Text,
    /// What it is called in messages and gates.
    pub name: Option<Text>,
    /// The parts of the key: `MAIN = REFERENCE`, or one side alone when both are the same.
    #[serde(default)]
    pub on: Texts,
    /// Steps that every part of the key goes through first, on both sides: `tidy | fold`.
    pub clean: Option<Text>,
    /// Among equal keys, the row whose range holds a value: `VALUE in LOWER .. UPPER`.
    pub within: Option<Text>,
    /// How far off the closest row may be: a number, or `2 hours`.
    pub reach: Option<Text>,
    /// What to add: `Header`, `Header as New`, `First .. Last`, `Size *`, `*`, `{Month} as Bloom`, or a
    /// mark such as `@status`.
    #[serde(default)]
    pub take: Texts,
    /// Columns that a run, a likeness or `*` is not to bring.
    #[serde(default)]
    pub leave: Texts,
    /// When several rows hold a key and disagree: `report`, `first`, `last`, `highest HEADER`, `lowest
    /// HEADER`, `every`, `list` or `stop`.
    pub when_duplicate: Option<Text>,
    /// When no row holds a key: `blank`, `drop`, `only`, `stop` or `fill TEXT`.
    pub when_unmatched: Option<Text>,
    /// Let a blank part of a key match a blank one.
    pub match_blanks: Option<bool>,
    /// A table of main keys and the reference keys that they stand for, used where the key itself is
    /// not found.
    pub aliases: Option<Text>,
    /// Of a table of a database: the columns whose order its rows are in, which is what `first`, `last` and `@row`
    /// refer to.
    #[serde(default)]
    pub order_by: Texts,
    /// Columns of the main table to write into: `MAIN = REFERENCE`, or one header alone.
    #[serde(default)]
    pub update: Texts,
    /// What an update may replace: `all` or `blanks`.
    pub replace: Option<Text>,
    /// Let a blank cell of the reference erase a value.
    pub bring_blanks: Option<bool>,
    /// Add the rows that no main row asked for at the end.
    pub append_unused: Option<bool>,
    /// The format: `text`, `json`, `json-lines`, `workbook`, `database`, `parquet` or `arrow`.
    pub format: Option<Text>,
    /// What stands between cells: comma, semicolon, tab, bar, or the sign itself.
    pub delimiter: Option<Text>,
    /// The encoding of the text, such as `windows-1252`.
    pub encoding: Option<Text>,
    /// The line that the headers stand on, from 1.
    pub header_row: Option<u64>,
    /// There are no headers: columns are called `Column 1`, `Column 2` and so on.
    pub no_header: Option<bool>,
    /// Rows of another number of cells than there are headers: `refuse` them, or `pad` them.
    pub ragged: Option<Text>,
    /// Texts that count as blank in keys: `NA, -`.
    #[serde(default)]
    pub blank: Texts,
}

/// How a file is to be read, where that is not to be found from its content.
#[derive(Debug, Clone, Copy)]
pub struct TableForm<'p> {
    /// The format.
    pub format: Option<&'p Text>,
    /// What stands between cells.
    pub delimiter: Option<&'p Text>,
    /// The encoding of the text.
    pub encoding: Option<&'p Text>,
    /// The line that the headers stand on.
    pub header_row: Option<u64>,
    /// Whether there are no headers, if it is said.
    pub no_header: Option<bool>,
    /// What becomes of rows of another number of cells than there are headers.
    pub ragged: Option<&'p Text>,
}

/// The form that a table of a plan says. Its keys stand in both kinds of tables, since keys that are
/// read by way of another structure lose their places, and unknown ones are not refused there.
macro_rules! form_of {
    ($table:expr) => {
        TableForm {
            format: $table.format.as_ref(),
            delimiter: $table.delimiter.as_ref(),
            encoding: $table.encoding.as_ref(),
            header_row: $table.header_row,
            no_header: $table.no_header,
            ragged: $table.ragged.as_ref(),
        }
    };
}

impl MainTable {
    /// How its file is to be read.
    pub fn form(&self) -> TableForm<'_> {
        form_of!(self)
    }
}

/// A text of a plan, with its place in the file.
#[derive(Debug, Clone, Default)]
pub struct Text {
    /// The text.
    pub text: String,
    /// Where it stands in the plan, in bytes; `None` when it was typed on the command line.
    pub place: Option<Range<usize>>,
}

/// A number of threads that a machine can have.
fn threads<'de, D: serde::Deserializer<'de>>(from: D) -> Result<Option<u16>, D::Error> {
    let threads = i64::deserialize(from)?;
    let in_range = u16::try_from(threads).ok().filter(|threads| (1..=1024).contains(threads));
    in_range.map(Some).ok_or_else(|| {
        serde::de::Error::custom(format!("{threads} threads are not between 1 and 1024"))
    })
}

/// Texts are equal wherever they stand.
impl PartialEq for Text {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

/// One text or several.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Texts(pub Vec<Text>);

impl Plan {
    /// Every path in the plan, which are relative to it.
    pub fn paths_mut(&mut self) -> impl Iterator<Item = &mut Text> {
        let files = [&mut self.output, &mut self.lists, &mut self.receipt, &mut self.corrections];
        let tables = self
            .references
            .iter_mut()
            .flat_map(|reference| [&mut reference.table].into_iter().chain(&mut reference.aliases));
        let reports = &mut self.report.0;
        files.into_iter().flatten().chain(reports).chain([&mut self.main.table]).chain(tables)
    }

    /// Puts what was typed in the place of what the plan says, for the run and for the main table.
    /// Gives the keys that had another value.
    pub fn stand_in(&mut self, typed: Self) -> Vec<&'static str> {
        let mut over = Over(Vec::new());
        over.option("output", &mut self.output, typed.output);
        over.option("overwrite", &mut self.overwrite, typed.overwrite);
        over.option("in-place", &mut self.in_place, typed.in_place);
        over.option("no-backup", &mut self.no_backup, typed.no_backup);
        over.option("lists", &mut self.lists, typed.lists);
        over.texts("report", &mut self.report, typed.report);
        over.option("no-reasons", &mut self.no_reasons, typed.no_reasons);
        over.texts("require", &mut self.require, typed.require);
        over.option("write-anyway", &mut self.write_anyway, typed.write_anyway);
        over.option("receipt", &mut self.receipt, typed.receipt);
        over.option("corrections", &mut self.corrections, typed.corrections);
        over.option("edits", &mut self.edits, typed.edits);
        over.option("quiet", &mut self.quiet, typed.quiet);
        over.option("verbose", &mut self.verbose, typed.verbose);
        over.option("progress", &mut self.progress, typed.progress);
        over.option("memory", &mut self.memory, typed.memory);
        over.option("threads", &mut self.threads, typed.threads);
        over.option("plain", &mut self.plain, typed.plain);
        over.option("guard-formulas", &mut self.guard_formulas, typed.guard_formulas);
        over.option("output-encoding", &mut self.output_encoding, typed.output_encoding);
        if !typed.main.table.text.is_empty() {
            over.one("main", &mut self.main.table, typed.main.table);
        }
        over.option("format", &mut self.main.format, typed.main.format);
        over.option("delimiter", &mut self.main.delimiter, typed.main.delimiter);
        over.option("encoding", &mut self.main.encoding, typed.main.encoding);
        over.option("header-row", &mut self.main.header_row, typed.main.header_row);
        over.option("no-header", &mut self.main.no_header, typed.main.no_header);
        over.option("ragged", &mut self.main.ragged, typed.main.ragged);
        over.texts("blank", &mut self.main.blank, typed.main.blank);
        over.0
    }
}

impl ReferenceTable {
    /// How its file is to be read.
    pub fn form(&self) -> TableForm<'_> {
        form_of!(self)
    }

    /// The texts that name headers.
    pub fn names(&self) -> impl Iterator<Item = &Text> {
        let several = [&self.on, &self.take, &self.leave, &self.order_by, &self.update];
        let one = [&self.within, &self.when_duplicate];
        several.into_iter().flat_map(|texts| &texts.0).chain(one.into_iter().flatten())
    }

    /// Puts what was typed for a reference in the place of what the plan says, but for the table
    /// itself. Gives the keys that had another value.
    pub fn stand_in(&mut self, typed: Self) -> Vec<&'static str> {
        let mut over = Over(Vec::new());
        over.option("name", &mut self.name, typed.name);
        over.texts("on", &mut self.on, typed.on);
        over.option("clean", &mut self.clean, typed.clean);
        over.option("within", &mut self.within, typed.within);
        over.option("reach", &mut self.reach, typed.reach);
        over.texts("take", &mut self.take, typed.take);
        over.texts("leave", &mut self.leave, typed.leave);
        over.option("when-duplicate", &mut self.when_duplicate, typed.when_duplicate);
        over.option("when-unmatched", &mut self.when_unmatched, typed.when_unmatched);
        over.option("match-blanks", &mut self.match_blanks, typed.match_blanks);
        over.option("aliases", &mut self.aliases, typed.aliases);
        over.texts("order-by", &mut self.order_by, typed.order_by);
        over.texts("update", &mut self.update, typed.update);
        over.option("replace", &mut self.replace, typed.replace);
        over.option("bring-blanks", &mut self.bring_blanks, typed.bring_blanks);
        over.option("append-unused", &mut self.append_unused, typed.append_unused);
        over.option("format", &mut self.format, typed.format);
        over.option("delimiter", &mut self.delimiter, typed.delimiter);
        over.option("encoding", &mut self.encoding, typed.encoding);
        over.option("header-row", &mut self.header_row, typed.header_row);
        over.option("no-header", &mut self.no_header, typed.no_header);
        over.option("ragged", &mut self.ragged, typed.ragged);
        over.texts("blank", &mut self.blank, typed.blank);
        over.0
    }
}

/// The keys whose value was replaced by another.
struct Over(Vec<&'static str>);

impl Over {
    fn one<T: PartialEq>(&mut self, key: &'static str, planned: &mut T, typed: T) {
        if *planned != typed {
            self.0.push(key);
        }
        *planned = typed;
    }

    fn option<T: PartialEq>(
        &mut self,
        key: &'static str,
        planned: &mut Option<T>,
        typed: Option<T>,
    ) {
        match (planned, typed) {
            (_, None) => {}
            (Some(planned), Some(typed)) => self.one(key, planned, typed),
            (planned, typed) => *planned = typed,
        }
    }

    fn texts(&mut self, key: &'static str, planned: &mut Texts, typed: Texts) {
        if typed.is_empty() {
            return;
        }
        if !planned.is_empty() && *planned != typed {
            self.0.push(key);
        }
        *planned = typed;
    }
}

impl Text {
    /// A text that stands in no file.
    pub fn typed(text: impl Into<String>) -> Self {
        Self { text: text.into(), place: None }
    }

    /// An error about this text, with its place in the plan if it stands in one. `plan` is the plan's
    /// name and its whole text.
    pub fn placed(&self, error: Error, plan: Option<(&str, &str)>) -> Error {
        let (Some(place), Some((name, plan))) = (&self.place, plan) else { return error };
        let written = plan.get(place.clone()).unwrap_or_default();
        // Where the text stands as it is, the place in it is one in the file.
        let within = match &error {
            Error::Malformed { text, at, .. } if *text == self.text => {
                written.find(&self.text[..]).map_or(0, |from| from + at)
            }
            _ => 0,
        };
        Error::in_plan(name, plan, place.start + within, error)
    }
}

impl Texts {
    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl From<Vec<String>> for Texts {
    fn from(texts: Vec<String>) -> Self {
        Self(texts.into_iter().map(Text::typed).collect())
    }
}

impl<'de> Deserialize<'de> for Text {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let spanned = toml::Spanned::<String>::deserialize(from)?;
        Ok(Self { place: Some(spanned.span()), text: spanned.into_inner() })
    }
}

impl<'de> Deserialize<'de> for Texts {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let spanned = toml::Spanned::<OneOrSeveral>::deserialize(from)?;
        let place = spanned.span();
        Ok(Self(match spanned.into_inner() {
            OneOrSeveral::One(text) => vec![Text { text, place: Some(place) }],
            OneOrSeveral::Several(texts) => texts,
        }))
    }
}

/// A text, or a list of texts.
enum OneOrSeveral {
    One(String),
    Several(Vec<Text>),
}

impl<'de> Deserialize<'de> for OneOrSeveral {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = OneOrSeveral;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a text or a list of texts")
            }

            fn visit_str<E>(self, text: &str) -> Result<OneOrSeveral, E> {
                Ok(OneOrSeveral::One(text.to_owned()))
            }

            fn visit_seq<A: serde::de::SeqAccess<'de>>(
                self,
                mut texts: A,
            ) -> Result<OneOrSeveral, A::Error> {
                let mut several = Vec::new();
                while let Some(text) = texts.next_element()? {
                    several.push(text);
                }
                Ok(OneOrSeveral::Several(several))
            }
        }
        from.deserialize_any(Visitor)
    }
}

impl JsonSchema for Text {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Text".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string" })
    }
}

impl JsonSchema for Texts {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Texts".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "anyOf": [{ "type": "string" }, { "type": "array", "items": { "type": "string" } }]
        })
    }
}
