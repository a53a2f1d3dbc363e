//! The arguments of the commands that look at tables and write none: `suggest`, `survey`, `why` and
//! `find`.

use std::ffi::OsString;

use clap::Args;

use super::{Form, Printed, Tables};

pub(super) const SUGGEST_EXAMPLES: &str = "\
Examples:
    gather-keys suggest harvest.csv hives.csv
    gather-keys suggest orders.csv jars.csv --save-plan jars.toml
    gather-keys suggest harvest.csv . --want 'Region, Queen line'

Columns are compared by their values first and by their headers second, however
the values are spelled. A proposed key is tried on the whole tables, and the
counts come from that run. Of several tables, also those are found that only
another one leads to. The files of a pattern are one table where they have the
same headers, as with --from.

Exit status: 0 a key is proposed, and every wanted column found; 1 none is, or
not all; 2 the call or an input is wrong.";

/// `suggest`.
#[derive(Debug, Args)]
pub(crate) struct Suggest {
    /// The main table
    #[arg(value_name = "MAIN")]
    pub(crate) main: OsString,
    /// The tables that may bring columns: files, patterns in single quotes, folders, `BOOK.xlsx#*`, databases
    #[arg(value_name = "TABLE", required = true)]
    pub(crate) tables: Vec<OsString>,
    /// The headers of the columns to bring, from as few tables as can be
    #[arg(long, value_name = "COLUMNS")]
    pub(crate) want: Option<String>,
    /// Write the proposal as a plan, to run with `gather-keys enrich`
    #[arg(long, value_name = "PLAN")]
    pub(crate) save_plan: Option<OsString>,
    /// Replace a plan that exists
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// How many threads to use [default: one for each processor]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1024))]
    pub(crate) threads: Option<u16>,
    #[command(flatten)]
    pub(crate) printed: Printed,
}

pub(super) const SURVEY_EXAMPLES: &str = "\
Examples:
    gather-keys survey hives.csv
    gather-keys survey harvest.csv hives.csv
    gather-keys survey notebook.csv --columns 'Apiary, Hive'

For each column: what its cells look like, how many are blank, how many
different values there are, the commonest of them or the range of numbers and
dates, their distribution, and what may be wrong with them, with the step that
helps in a key. Then the columns, or sets of up to three, that distinguish the
rows. The table is read once; values that do not fit in memory are counted by a
sample, and their number is shown with `about`. Of more than 40 columns, like
ones are shown together, and what may be wrong is shown first.";

/// `survey`.
#[derive(Debug, Args)]
pub(crate) struct Survey {
    /// The tables
    #[arg(value_name = "TABLE", required = true)]
    pub(crate) tables: Vec<OsString>,
    /// The columns to look at, also many at a time: 'Site, Frames *, Since .. Marked' [default: all]
    #[arg(long, value_name = "COLUMNS")]
    pub(crate) columns: Option<String>,
    #[command(flatten)]
    pub(crate) printed: Printed,
    #[command(flatten)]
    pub(crate) form: Form,
    /// How many threads to use [default: one for each processor]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1024))]
    pub(crate) threads: Option<u16>,
}

/// `why`.
#[derive(Debug, Args)]
pub(crate) struct Why {
    #[command(flatten)]
    pub(crate) tables: Tables,
    #[command(flatten)]
    pub(crate) asked: Asked,
    #[command(flatten)]
    pub(crate) printed: Printed,
}

/// The row or key to trace.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub(crate) struct Asked {
    /// The row of the main table; the first row below the headers is 1
    #[arg(long, value_name = "N", value_parser = row_number)]
    pub(crate) row: Option<u64>,
    /// Values for the main table's key columns, in the order in which --on names them
    #[arg(long, value_name = "VALUE", num_args = 1..)]
    pub(crate) key: Vec<String>,
}

/// The number of a row, also with the separators that it is printed with.
fn row_number(text: &str) -> Result<u64, String> {
    let groups: Vec<&str> = text.split(',').collect();
    let is_grouped = groups.iter().skip(1).all(|group| group.len() == 3) && !groups[0].is_empty();
    let number = groups.concat();
    let is_number = is_grouped && number.bytes().all(|byte| byte.is_ascii_digit());
    let number = is_number.then(|| number.parse().ok()).flatten();
    number.ok_or_else(|| "give the number of a row, such as 1753 or 1,753".to_owned())
}

pub(super) const WHY_EXAMPLES: &str = "\
Examples:
    gather-keys why harvest.csv --row 4 \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag' --take Keeper
    gather-keys why harvest.csv --key 'Old Quarry' H-013 \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag'

With several references, --key needs a value for each main column that is in
any of their keys; the error names them.";

/// `find`.
#[derive(Debug, Args)]
pub(crate) struct Find {
    /// The table, in any format, or `-` for standard input
    #[arg(value_name = "TABLE")]
    pub(crate) table: OsString,
    /// The values to find: with --on one for each part of the key, otherwise values of any columns
    #[arg(value_name = "VALUE", required = true)]
    pub(crate) values: Vec<String>,
    /// The parts of the key: headers, with steps where needed, or templates, separated by commas
    #[arg(long, value_name = "KEY")]
    pub(crate) on: Option<String>,
    /// The columns to show [default: all]
    #[arg(long, value_name = "COLUMNS")]
    pub(crate) take: Option<String>,
    #[command(flatten)]
    pub(crate) printed: Printed,
    #[command(flatten)]
    pub(crate) form: Form,
}

pub(super) const FIND_EXAMPLES: &str = "\
Examples:
    gather-keys find hives.csv Fellside H-004 --on 'Site code, Tag'
    gather-keys find hives.csv h-4 --on 'Tag | digits | number'
    gather-keys find harvest.csv B0016

Steps apply to the value as to the cells. Without --on, every column is
searched, and the card says where the value was found. When no row has it, the
nearest rows are shown.

Exit status: 0 a row has it; 1 none has; 2 the call or the table is wrong.";
