//! How tables and what is to be done with them are typed.

use std::ffi::OsString;

use clap::Args;

const REFERENCE: &str = "Options of a reference (they belong to the --from before them)";
const ANY_TABLE: &str = "Options of any table (they belong to the table named before them)";

/// The tables of an enrichment. Their order on the command line is read by
/// [`crate::table_arguments`].
#[derive(Debug, Args)]
pub(crate) struct Tables {
    /// The main table: a CSV file, a workbook (registry.xlsx#Hives), JSON (hives.jsonl), a Parquet or Arrow
    /// file, a table of a database (co-op.sqlite#hives, `postgres://edda@db/co-op#hives`), or `-` for
    /// standard input; or a plan, a TOML file that holds all of these options
    #[arg(value_name = "MAIN|PLAN")]
    pub(crate) main: OsString,
    /// With a plan: another main table than the plan's
    #[arg(long = "main", value_name = "TABLE")]
    pub(crate) other_main: Option<OsString>,
    /// A reference table to take columns from; may be repeated. A name with `*` in single quotes
    /// reads several files of the same headers as one. With a plan: the reference of this name,
    /// whose options behind it stand in for the plan's
    #[arg(long, value_name = "REFERENCE", action = clap::ArgAction::Append)]
    pub(crate) from: Vec<OsString>,
    /// A part of the key, or several separated by commas: MAIN = REFERENCE, or one side alone when
    /// both are the same. A side is a header, with steps if need be (Hive | number), or a template
    /// ({Valley}-{Hive | last 2}); the reference's may be any(A, B, C), columns in any of which the
    /// value may stand. @row matches rows by their position
    #[arg(long, value_name = "KEY", help_heading = REFERENCE)]
    pub(crate) on: Vec<String>,
    /// Steps that every part of the key goes through first, on both sides: tidy | fold
    #[arg(long, value_name = "STEPS", help_heading = REFERENCE)]
    pub(crate) clean: Vec<String>,
    /// Among equal keys, the row whose range holds a value: VALUE in LOWER .. UPPER, both ends
    /// included (`..<` leaves the upper one out); or with one bound the closest row: VALUE in LOWER
    /// .. is the latest at or before
    #[arg(long, value_name = "RANGE", help_heading = REFERENCE)]
    pub(crate) within: Vec<String>,
    /// How far off the closest row may be: a number, or '2 hours' (weeks, days, minutes, seconds)
    #[arg(long, value_name = "DISTANCE", help_heading = REFERENCE)]
    pub(crate) reach: Vec<String>,
    /// What to add, separated by commas: Header, Header as New, First .. Last, Size *, * (all but
    /// the key), {Month} as Bloom (the row's value names the header), or a mark: @status, @row,
    /// @table, @column, @count, @key
    #[arg(long, value_name = "COLUMNS", help_heading = REFERENCE)]
    pub(crate) take: Vec<String>,
    /// Columns that a run, a likeness or * is not to bring, separated by commas
    #[arg(long, value_name = "COLUMNS", help_heading = REFERENCE)]
    pub(crate) leave: Vec<String>,
    /// When several rows hold a key and disagree: report, first, last, highest HEADER, lowest
    /// HEADER, every (a row for each), list (their values, joined by `; `) or stop [default: report]
    #[arg(long, value_name = "RULE", help_heading = REFERENCE)]
    pub(crate) when_duplicate: Vec<String>,
    /// When no row holds a key: blank, drop (the row), only (such rows), stop, or fill TEXT
    /// [default: blank]
    #[arg(long, value_name = "RULE", help_heading = REFERENCE)]
    pub(crate) when_unmatched: Vec<String>,
    /// Let a blank part of a key match a blank one
    #[arg(long, help_heading = REFERENCE, action = clap::ArgAction::Append, num_args = 0)]
    #[arg(default_missing_value = "yes")]
    pub(crate) match_blanks: Vec<String>,
    /// A table of main keys and the reference keys that they stand for, used where the key itself is not
    /// found: nearest.csv of --lists, with `yes` under `approve`
    #[arg(long, value_name = "FILE", help_heading = REFERENCE)]
    pub(crate) aliases: Vec<String>,
    /// Of a table of a database: the columns whose order its rows are in, which is what `first`, `last`
    /// and @row refer to, separated by commas
    #[arg(long, value_name = "COLUMNS", help_heading = REFERENCE)]
    pub(crate) order_by: Vec<String>,
    /// Columns of the main table to write into, separated by commas: MAIN = REFERENCE, or one header
    /// alone when both are the same
    #[arg(long, value_name = "COLUMNS", help_heading = REFERENCE)]
    pub(crate) update: Vec<String>,
    /// What an update may replace: all, or blanks only [default: all]
    #[arg(long, value_name = "WHAT", help_heading = REFERENCE)]
    pub(crate) replace: Vec<String>,
    /// Let a blank cell of the reference erase a value in an update
    #[arg(long, help_heading = REFERENCE, action = clap::ArgAction::Append, num_args = 0)]
    #[arg(default_missing_value = "yes")]
    pub(crate) bring_blanks: Vec<String>,
    /// Add the rows that no main row asked for at the end, with their key, taken and updated columns
    #[arg(long, help_heading = REFERENCE, action = clap::ArgAction::Append, num_args = 0)]
    #[arg(default_missing_value = "yes")]
    pub(crate) append_unused: Vec<String>,
    /// What the reference is called in messages and gates [default: the file's stem]
    #[arg(long, value_name = "NAME", help_heading = REFERENCE)]
    pub(crate) name: Vec<String>,
    /// The format: text, json, json-lines, workbook, database, parquet or arrow [default: found from
    /// its content and its ending]
    #[arg(long, value_name = "FORMAT", help_heading = ANY_TABLE)]
    pub(crate) format: Vec<String>,
    /// What stands between cells: comma, semicolon, tab, bar, or the sign itself [default: found
    /// from the first rows]
    #[arg(long, value_name = "DELIMITER", help_heading = ANY_TABLE)]
    pub(crate) delimiter: Vec<String>,
    /// The encoding of the text, such as windows-1252 [default: found from its content]
    #[arg(long, value_name = "ENCODING", help_heading = ANY_TABLE)]
    pub(crate) encoding: Vec<String>,
    /// The line that the headers stand on [default: the first, but for lines of a title]
    #[arg(long, value_name = "N", help_heading = ANY_TABLE)]
    #[arg(value_parser = line_number)]
    pub(crate) header_row: Vec<String>,
    /// There are no headers: columns are called Column 1, Column 2, …
    #[arg(long, help_heading = ANY_TABLE, action = clap::ArgAction::Append, num_args = 0)]
    #[arg(default_missing_value = "yes")]
    pub(crate) no_header: Vec<String>,
    /// Rows of another number of cells than there are headers: refuse them, or pad them with blank
    /// cells [default: refuse]
    #[arg(long, value_name = "WHAT", help_heading = ANY_TABLE)]
    pub(crate) ragged: Vec<String>,
    /// Texts that count as blank in keys, separated by commas: NA, -
    #[arg(long, value_name = "TEXTS", help_heading = ANY_TABLE)]
    pub(crate) blank: Vec<String>,
}

/// The number of a line, as it was typed.
fn line_number(text: &str) -> Result<String, String> {
    match text.parse::<u64>() {
        Ok(1..) => Ok(text.to_owned()),
        _ => Err("say a line, from 1".to_owned()),
    }
}

/// How a single table is to be read.
#[derive(Debug, Args)]
pub(crate) struct Form {
    /// What stands between cells: comma, semicolon, tab, bar, or the sign itself [default: found
    /// from the first rows]
    #[arg(long, value_name = "DELIMITER")]
    pub(crate) delimiter: Option<String>,
    /// The encoding of the text, such as windows-1252 [default: found from its content]
    #[arg(long, value_name = "ENCODING")]
    pub(crate) encoding: Option<String>,
    /// The line that the headers stand on [default: the first, but for lines of a title]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) header_row: Option<u64>,
    /// There are no headers: columns are called Column 1, Column 2, …
    #[arg(long)]
    pub(crate) no_header: bool,
    /// Rows of another number of cells than there are headers: refuse them, or pad them with blank
    /// cells [default: refuse]
    #[arg(long, value_name = "WHAT")]
    pub(crate) ragged: Option<String>,
}
