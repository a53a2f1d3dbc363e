//! How tables and what is to be done with them are typed.

use std::ffi::OsString;

use clap::Args;

use super::TableOptions;

/// The tables of an enrichment. [`TypedOptions`](super::TypedOptions) reads their options, with the table that each
/// belongs to.
#[derive(Debug, Args)]
pub(crate) struct Tables {
    /// The main table: a CSV file, a workbook (registry.xlsx#Hives), JSON (hives.jsonl), a Parquet or Arrow
    /// file, a table of a database (co-op.sqlite#hives, `postgres://edda@db/co-op#hives`), or `-` for
    /// standard input; or a plan, a TOML file that holds all of these options
    #[arg(value_name = "MAIN|PLAN")]
    pub(crate) main: OsString,
    /// A reference table to take columns from; may be repeated. A name with `*` in single quotes
    /// reads several files of the same headers as one. With a plan: the reference of this name,
    /// whose options after it replace the plan's
    #[arg(long, value_name = "REFERENCE", action = clap::ArgAction::Append)]
    pub(crate) from: Vec<OsString>,
    /// With a plan: a main table to use instead of the plan's
    #[arg(long = "main", value_name = "TABLE")]
    pub(crate) other_main: Option<OsString>,
    #[command(flatten)]
    options: TableOptions,
}

/// How a single table is to be read.
#[derive(Debug, Args)]
pub(crate) struct Form {
    /// The character between cells: comma, semicolon, tab, bar, or the character itself [default: found
    /// from the first rows]
    #[arg(long, value_name = "DELIMITER")]
    pub(crate) delimiter: Option<String>,
    /// The encoding of the text, such as windows-1252 [default: found from its content]
    #[arg(long, value_name = "ENCODING")]
    pub(crate) encoding: Option<String>,
    /// The line that the headers are on [default: the first, but for lines of a title]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) header_row: Option<u64>,
    /// There are no headers: columns are called Column 1, Column 2, …
    #[arg(long)]
    pub(crate) no_header: bool,
    /// Rows of another number of cells than there are headers: refuse them, or pad them with blank
    /// cells [default: refuse]
    #[arg(long, value_name = "WHAT")]
    pub(crate) ragged: Option<String>,
    /// The numbers of the text have a decimal comma: 1.234,5
    #[arg(long)]
    pub(crate) decimal_comma: bool,
    /// Columns whose blank cells take the value above them
    #[arg(long, value_name = "COLUMNS")]
    pub(crate) fill_down: Option<String>,
    /// How many rows to leave out at the end, such as totals [default: 0]
    #[arg(long, value_name = "N", default_value_t = 0, hide_default_value = true)]
    pub(crate) skip_last: u64,
}
