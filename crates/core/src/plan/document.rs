//! A plan as it is written: a whole enrichment in texts, to be run again.
//!
//! A TOML text, or what was typed on a command line, goes in; a [`Plan`] comes out, whose texts know their places in
//! the file, so that an error shows the place. The tables of keys are here; [`keys`](super::keys) says what is made
//! of them.

use super::keys::{PlanValue, if_headers, if_path, plan_keys};
use super::{Text, Texts};

/// Adds the keys of any table, main or reference, to the table of keys of one.
macro_rules! table_keys {
    (
        $(#[doc = $title:literal])+
        pub struct $name:ident { $($own:tt)* }
    ) => {
        plan_keys! {
            $(#[doc = $title])+
            pub struct $name {
                $($own)*
                /// The format: `text`, `json`, `json-lines`, `workbook`, `database`, `parquet` or
                /// `arrow` [default: found from the content and the extension].
                format: Option<Text> = "FORMAT";
                /// The character between cells: `comma`, `semicolon`, `tab`, `bar`, or the character
                /// itself [default: found from the first rows].
                delimiter: Option<Text> = "DELIMITER";
                /// The encoding of the text, such as `windows-1252` [default: found from the content].
                encoding: Option<Text> = "ENCODING";
                /// The line that the headers are on, from 1 [default: the first line after any title].
                header_row: Option<u64> = "N";
                /// The table has no headers; its columns are called `Column 1`, `Column 2` and so on.
                no_header: Option<bool>;
                /// What to do with rows that have more or fewer cells than there are headers: `refuse`
                /// them, or `pad` them with blank cells [default: refuse].
                ragged: Option<Text> = "WHAT";
                /// The numbers of the text have a decimal comma: `1.234,5`.
                decimal_comma: Option<bool>;
                /// Columns, separated by commas, whose blank cells take the value above them, for merged and
                /// grouped cells.
                @[serde(default)]
                fill_down: Texts = "COLUMNS", headers;
                /// How many rows to leave out at the end of the table, such as totals [default: 0].
                skip_last: Option<u64> = "N";
                /// Texts that count as blank in keys, separated by commas: `NA, -`.
                @[serde(default)]
                blank: Texts = "TEXTS";
            }
        }

        impl $name {
            /// How its file is to be read.
            pub fn form(&self) -> TableForm<'_> {
                TableForm {
                    format: self.format.as_ref(),
                    delimiter: self.delimiter.as_ref(),
                    encoding: self.encoding.as_ref(),
                    header_row: self.header_row,
                    no_header: self.no_header,
                    ragged: self.ragged.as_ref(),
                    decimal_comma: self.decimal_comma,
                    fill_down: &self.fill_down,
                    skip_last: self.skip_last,
                }
            }
        }
    };
}

/// How a file is to be read, where its content does not say.
#[derive(Debug, Clone, Copy)]
pub struct TableForm<'p> {
    /// The format.
    pub format: Option<&'p Text>,
    /// The character between cells.
    pub delimiter: Option<&'p Text>,
    /// The encoding of the text.
    pub encoding: Option<&'p Text>,
    /// The line that the headers are on.
    pub header_row: Option<u64>,
    /// Whether the table has no headers.
    pub no_header: Option<bool>,
    /// What to do with rows that have more or fewer cells than there are headers.
    pub ragged: Option<&'p Text>,
    /// Whether its numbers have a decimal comma.
    pub decimal_comma: Option<bool>,
    /// The columns whose blank cells take the value above them.
    pub fill_down: &'p Texts,
    /// How many rows are left out at the end.
    pub skip_last: Option<u64>,
}

plan_keys! {
    /// A whole enrichment: the tables, what is taken of each reference, and where the result goes.
    @[schemars(title = "A plan of Gather Keys")]
    pub struct Plan {
        /// The file to write: by its extension delimited text, a workbook (`.xlsx`), JSON, a Parquet or
        /// Arrow file, or a table of a database (`co-op.sqlite#enriched`); or `-` for standard output
        /// [default: -].
        output: Option<Text> = "OUT", path;
        /// The columns of the output, in order and separated by commas: `Header`, `Header as New`,
        /// `First .. Last`, `Size *`, or `*` for all others [default: those of the main table, then the added ones].
        @[serde(default)]
        columns: Texts = "COLUMNS", headers;
        /// Columns that the output leaves out, separated by commas: `Header`, `First .. Last` or `Size *`.
        @[serde(default)]
        drop: Texts = "COLUMNS", headers;
        /// Replace files that exist.
        overwrite: Option<bool>;
        /// Write into the main file itself, and keep a dated copy of it as a backup.
        in_place: Option<bool>;
        /// With `in_place`, keep no backup of the main file.
        no_backup: Option<bool>;
        /// Let the server do the work: the main table and the output are tables of one database of a server, and so are
        /// the references, or they are copied there for the time of the run.
        in_database: Option<bool>;
        /// With `in_database`, also write the statements to this file, to be read, or run again.
        show_sql: Option<Text> = "FILE", path;
        /// With `in_database`, how large a reference from elsewhere may be to be copied to the server
        /// [default: 256 MiB].
        ship: Option<Text> = "SIZE";
        /// In a workbook that is written into, colour the cells that are written.
        highlight: Option<bool>;
        /// In a workbook that is written into, list the rows in trouble in the worksheet of this name, which is replaced
        /// at each run.
        findings_sheet: Option<Text> = "NAME";
        /// Write every finding to this folder, one list for each kind.
        lists: Option<Text> = "DIR", path;
        /// Write a report of the findings: HTML, Markdown or JSON by its extension (`.html`, `.md`,
        /// `.json`), or `-` for JSON on standard output; several may be given.
        @[serde(default)]
        report: Texts = "FILE", path;
        /// Do not look for the reasons why keys are unmatched, which takes time when many are.
        no_reasons: Option<bool>;
        /// A condition for the output to be written, such as `unmatched <= 1%` or `columns = same`;
        /// several may be given.
        @[serde(default)]
        require: Texts = "GATE";
        /// Write the output even when a required condition does not hold; the exit status stays 1.
        write_anyway: Option<bool>;
        /// Write a record of the run to this file; the next run reports what has changed since.
        receipt: Option<Text> = "FILE", path;
        /// A table of cells that were settled by hand and are applied after the lookups: the columns
        /// that identify the row, then `header`, `value` and `note`.
        corrections: Option<Text> = "FILE", path;
        /// What to do with an output that was changed by hand since the receipt: `refuse` to run, `keep`
        /// the changes as corrections, or `discard` them [default: refuse].
        edits: Option<Text> = "WHAT";
        /// Print only errors, and conditions that do not hold.
        quiet: Option<bool>;
        /// Also report how the tables were read.
        verbose: Option<bool>;
        /// When to show progress: `auto` (on a terminal), `always` or `never` [default: auto].
        progress: Option<Text> = "WHEN";
        /// How much memory the rows of references may take, such as `2 GB` or `512 MiB`; the
        /// rest goes through temporary files [default: as much as they need].
        memory: Option<Text> = "SIZE";
        /// How many threads to use, from 1 to 1024 [default: one for each processor].
        @[serde(default, deserialize_with = "threads")]
        threads: Option<u16> = "N";
        /// Write a workbook without decoration: no colours, notes, filter and findings.
        plain: Option<bool>;
        /// In delimited text, write an apostrophe before cells from other tables that begin with `=`,
        /// `+`, `-` or `@`, so that a spreadsheet shows them instead of running them; numbers stay.
        guard_formulas: Option<bool>;
        /// The encoding of the output [default: that of the main table].
        output_encoding: Option<Text> = "ENCODING";
        /// The character between the cells of the output: `comma`, `semicolon`, `tab`, `bar`, or the
        /// character itself [default: that of the main table].
        output_delimiter: Option<Text> = "DELIMITER";
        /// Begin the output with a byte-order mark, so that a spreadsheet that opens it by a double click
        /// reads its encoding right.
        output_bom: Option<bool>;
        /// Write numbers with a decimal comma [default: if those of the main table have one].
        output_decimal_comma: Option<bool>;
    }
    holding {
        /// The table that is enriched.
        pub main: MainTable,
        /// The tables that columns are taken from, in the order in which they are looked up.
        #[serde(default, rename = "reference")]
        pub references: Vec<ReferenceTable>,
    }
}

table_keys! {
    /// The table that is enriched.
    pub struct MainTable {
        /// The main table: a file, or `-` for standard input. Paths are relative to the plan.
        table: Text = "TABLE", path;
    }
}

table_keys! {
    /// A table that columns are taken from, and what is taken.
    pub struct ReferenceTable {
        /// The reference table; a name with `*` reads several files with the same headers as one table.
        table: Text = "TABLE", path;
        /// The name of the reference in messages and gates [default: the file's stem].
        name: Option<Text> = "NAME";
        /// A part of the key, or several separated by commas: `MAIN = REFERENCE`, or one side alone when
        /// both are the same. A side is a header, with steps where needed (`Hive | number`), or a template
        /// (`{Valley}-{Hive | last 2}`); the reference side may be `any(A, B, C)`, columns of which any
        /// may have the value. `@row` matches rows by their position.
        @[serde(default)]
        on: Texts = "KEY", headers;
        /// Steps that every part of the key goes through first, on both sides: `tidy | fold`.
        clean: Option<Text> = "STEPS";
        /// Among rows with the same key, choose the one whose range contains a value: `VALUE in LOWER ..
        /// UPPER`, both ends included (`..<` excludes the upper end); with one bound, the closest row:
        /// `VALUE in LOWER ..` is the latest at or before the value.
        within: Option<Text> = "RANGE", headers;
        /// How far away the closest row may be: a number, or `2 hours` (weeks, days, minutes, seconds).
        reach: Option<Text> = "DISTANCE";
        /// Columns to add, separated by commas: `Header`, `Header as New`, `First .. Last`, `Size *`, `*`
        /// (all but the key), `{Month} as Bloom` (the main row's value names the header), or a mark:
        /// `@status`, `@row`, `@table`, `@column`, `@count`, `@key`.
        @[serde(default)]
        take: Texts = "COLUMNS", headers;
        /// Columns of the reference that a run, a pattern or `*` should leave out, separated by commas.
        @[serde(default)]
        leave: Texts = "COLUMNS", headers;
        /// What to do when several reference rows have a key and disagree: `report`, `first`, `last`,
        /// `highest HEADER`, `lowest HEADER`, `every` (a row for each), `list` (their values, joined by
        /// `; `) or `stop` [default: report].
        when_duplicate: Option<Text> = "RULE", headers;
        /// What to do when no reference row has a key: `blank`, `drop` (the row), `only` (keep only these
        /// rows), `stop` or `fill TEXT` [default: blank].
        when_unmatched: Option<Text> = "RULE";
        /// Let a blank part of a key match a blank part.
        match_blanks: Option<bool>;
        /// A table of main keys, or of values of single parts, and those of the reference to use instead, where a
        /// key itself is not found; such as the list `nearest.csv`, with `yes` under `approve`.
        aliases: Option<Text> = "FILE", path;
        /// For a table of a database: the columns to order its rows by, which `first`, `last` and `@row`
        /// refer to, separated by commas.
        @[serde(default)]
        order_by: Texts = "COLUMNS", headers;
        /// Columns of the main table to write into, separated by commas: `MAIN = REFERENCE`, or one header
        /// alone when both are the same; `First .. Last`, `Size *` and `*` for those that both tables have.
        @[serde(default)]
        update: Texts = "COLUMNS", headers;
        /// Which cells an update may replace: `all`, or `blanks` only [default: all].
        replace: Option<Text> = "WHAT";
        /// In a workbook that is written into, let an update replace cells that hold a formula.
        replace_formulas: Option<bool>;
        /// Let a blank cell of the reference erase a value in an update.
        bring_blanks: Option<bool>;
        /// Add the reference rows without a main row at the end, with their key, taken and updated
        /// columns.
        append_unused: Option<bool>;
    }
}

impl Plan {
    /// Calls `change` for every path in the plan.
    pub fn change_paths(&mut self, mut change: impl FnMut(&mut Text)) {
        self.path_texts().into_iter().for_each(&mut change);
        self.main.path_texts().into_iter().for_each(&mut change);
        let references = self.references.iter_mut().flat_map(ReferenceTable::path_texts);
        references.for_each(change);
    }

    /// Replaces keys of the run and of the main table by what was typed. Returns the names of the keys that had
    /// another value.
    pub fn override_with(&mut self, mut typed: Self) -> Vec<&'static str> {
        let mut replaced = self.replace_keys(&mut typed);
        let main = self.main.replace_keys(&mut typed.main).into_iter();
        replaced.extend(main.map(|key| if key == "table" { "main" } else { key }));
        replaced
    }
}

impl ReferenceTable {
    /// Replaces keys of the reference by what was typed, but for the table itself. Returns the names of the keys that
    /// had another value.
    pub fn override_with(&mut self, mut typed: Self) -> Vec<&'static str> {
        self.replace_keys(&mut typed)
    }
}

/// Reads a number of threads that a machine can have.
fn threads<'de, D: serde::Deserializer<'de>>(from: D) -> Result<Option<u16>, D::Error> {
    let threads = <i64 as serde::Deserialize>::deserialize(from)?;
    let in_range = u16::try_from(threads).ok().filter(|threads| (1..=1024).contains(threads));
    in_range.map(Some).ok_or_else(|| {
        serde::de::Error::custom(format!("{threads} threads are not between 1 and 1024"))
    })
}
