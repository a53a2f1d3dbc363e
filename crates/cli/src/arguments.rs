//! What may be typed on the command line.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::parser::ValueSource;
use clap::{ArgMatches, Args, Parser, Subcommand, ValueEnum};

const REFERENCE: &str = "Options of a reference (they belong to the --from before them)";
const ANY_TABLE: &str = "Options of any table (they belong to the table named before them)";

/// Bring columns of reference tables beside the right rows of a main table.
///
/// Rows are matched on a key of one or more columns, named by their headers. A cell is filled only
/// when there is exactly one answer; every other row is left as it was, counted and listed.
#[derive(Debug, Parser)]
#[command(name = "gather-keys", version, help_expected = true)]
#[command(after_help = "See it at work on made-up data:  gather-keys demo")]
pub(crate) struct Arguments {
    /// When to use colour on standard error; `NO_COLOR` is honoured
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: When,
    /// What to do.
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write the main table with the taken columns beside its rows
    #[command(after_help = ENRICH_EXAMPLES)]
    Enrich(Enrich),
    /// Tell what an enrichment would find, and write no table
    #[command(after_help = CHECK_EXAMPLES)]
    Check(Check),
    /// Write the tables of a made-up honey co-operative and enrich them
    Demo(Demo),
}

const ENRICH_EXAMPLES: &str = "\
Examples:
  Keeper and queen line of each harvest batch; the key is two columns that have
  other headers in the registry:
    gather-keys enrich harvest.csv --from hives.csv \\
        --on 'Apiary = Site code, Hive = Tag' \\
        --take 'Keeper, Queen line as Line' -o enriched.csv

  Two references in one pass, a gate, and every finding in a folder:
    gather-keys enrich harvest.csv \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag' --take Keeper \\
        --from bloom.csv --on Valley --take 'Main bloom' \\
        --require 'hives.unmatched <= 5%' --lists findings -o enriched.csv

A header that holds a comma, an equals sign or the word `as` stands in double
quotes; the second of two equal headers is Header#2.

Exit status: 0 done; 1 a --require does not hold (no table is written); 2 the
call or an input is wrong (nothing is written).";

const CHECK_EXAMPLES: &str = "\
Examples:
    gather-keys check harvest.csv --from hives.csv \\
        --on 'Apiary = Site code, Hive = Tag' --take Keeper --lists findings

  With no --take, rows of a key count as conflicting when they differ in any
  column that is not part of the key.

Exit status: 0 done; 1 a --require does not hold; 2 the call or an input is
wrong (nothing is written).";

/// The tables of an enrichment. Their order on the command line is read by [`tables_in_order`].
#[derive(Debug, Args)]
pub(crate) struct Tables {
    /// The main table: a CSV file, or `-` for standard input
    #[arg(value_name = "MAIN")]
    pub(crate) main: OsString,
    /// A reference table to take columns from; may be repeated
    #[arg(long, value_name = "REFERENCE", action = clap::ArgAction::Append)]
    pub(crate) from: Vec<OsString>,
    /// A part of the key, or several separated by commas: MAIN = REFERENCE, or one header alone
    /// when both tables have it
    #[arg(long, value_name = "KEY", help_heading = REFERENCE)]
    pub(crate) on: Vec<String>,
    /// Columns to add, separated by commas: Header, or Header as New
    #[arg(long, value_name = "COLUMNS", help_heading = REFERENCE)]
    pub(crate) take: Vec<String>,
    /// What the reference is called in messages and gates [default: the file's stem]
    #[arg(long, value_name = "NAME", help_heading = REFERENCE)]
    pub(crate) name: Vec<String>,
    /// What stands between cells: comma, semicolon, tab, bar, or the sign itself [default: found
    /// from the first rows]
    #[arg(long, value_name = "DELIMITER", help_heading = ANY_TABLE)]
    pub(crate) delimiter: Vec<String>,
}

/// How a run is to go.
#[derive(Debug, Args)]
pub(crate) struct Run {
    /// Write every finding to this folder, one CSV for each kind
    #[arg(long, value_name = "DIR")]
    pub(crate) lists: Option<PathBuf>,
    /// Replace files that are there already
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// What must hold, such as 'unmatched <= 1%' or 'hives.ambiguous = 0'; may be repeated
    #[arg(long, value_name = "GATE")]
    pub(crate) require: Vec<String>,
    /// Print nothing but errors and gates that do not hold
    #[arg(short, long)]
    pub(crate) quiet: bool,
    /// Say how the tables were read as well
    #[arg(short, long, conflicts_with = "quiet")]
    pub(crate) verbose: bool,
    /// When to show progress
    #[arg(long, value_name = "WHEN", default_value = "auto")]
    pub(crate) progress: When,
}

/// `enrich`.
#[derive(Debug, Args)]
pub(crate) struct Enrich {
    #[command(flatten)]
    pub(crate) tables: Tables,
    /// The file to write, or `-` for standard output
    #[arg(short, long, value_name = "OUT", default_value = "-")]
    pub(crate) output: OsString,
    #[command(flatten)]
    pub(crate) run: Run,
}

/// `check`.
#[derive(Debug, Args)]
pub(crate) struct Check {
    #[command(flatten)]
    pub(crate) tables: Tables,
    #[command(flatten)]
    pub(crate) run: Run,
}

/// `demo`.
#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// The folder to write, which must not exist or be empty [default: honey-demo, or the first
    /// free one of honey-demo-2, honey-demo-3, …]
    #[arg(value_name = "DIR")]
    pub(crate) folder: Option<PathBuf>,
}

/// When something is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum When {
    /// On a terminal
    Auto,
    /// In any case
    Always,
    /// In no case
    Never,
}

impl When {
    /// Makes this the choice for colour from here on.
    pub(crate) fn apply(self) {
        match self {
            Self::Auto => anstream::ColorChoice::Auto,
            Self::Always => anstream::ColorChoice::Always,
            Self::Never => anstream::ColorChoice::Never,
        }
        .write_global();
    }
}

/// What was typed for one table, in order: the option's name and its value.
#[derive(Debug, Default)]
pub(crate) struct TableArguments {
    pub(crate) options: Vec<(&'static str, String)>,
}

/// The options that belong to a table.
const BOUND: [&str; 4] = ["on", "take", "name", "delimiter"];

/// Sorts the options that belong to a table under it: first the main table, then a reference for
/// each `--from`.
pub(crate) fn tables_in_order(matches: &ArgMatches) -> Vec<TableArguments> {
    let typed = |id: &str| {
        matches.try_contains_id(id).is_ok()
            && matches.value_source(id) == Some(ValueSource::CommandLine)
    };
    let mut found: Vec<(usize, Option<(&'static str, String)>)> = Vec::new();
    if typed("from") {
        let places = matches.indices_of("from").into_iter().flatten();
        found.extend(places.map(|place| (place, None)));
    }
    for id in BOUND.into_iter().filter(|id| typed(id)) {
        let places = matches.indices_of(id).into_iter().flatten();
        let values = matches.get_many::<String>(id).into_iter().flatten().cloned();
        found.extend(places.zip(values).map(|(place, value)| (place, Some((id, value)))));
    }
    found.sort_by_key(|(place, _)| *place);
    let mut tables = vec![TableArguments::default()];
    for (_, option) in found {
        match option {
            None => tables.push(TableArguments::default()),
            Some(option) => {
                if let Some(table) = tables.last_mut() {
                    table.options.push(option);
                }
            }
        }
    }
    tables
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn the_command_line_is_consistent() {
        Arguments::command().debug_assert();
    }

    #[test]
    fn an_option_belongs_to_the_table_before_it() {
        let line = "gather-keys enrich --delimiter ; m.csv --from a.csv --on X --take P \
                    --on Y --from b.csv --delimiter tab --take=Q";
        let matches = Arguments::command().get_matches_from(line.split_whitespace());
        let tables = tables_in_order(matches.subcommand().unwrap().1);
        let told: Vec<String> = tables
            .iter()
            .map(|table| {
                let options = table.options.iter().map(|(id, value)| format!("{id} {value}"));
                options.collect::<Vec<_>>().join(", ")
            })
            .collect();
        assert_eq!(told, ["delimiter ;", "on X, take P, on Y", "delimiter tab, take Q"]);
    }
}
