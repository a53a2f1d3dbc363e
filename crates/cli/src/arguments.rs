//! What may be typed on the command line.

use std::ffi::OsString;
use std::num::NonZero;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

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
    #[arg(help = "When to use colour on standard error; NO_COLOR is honoured")]
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: When,
    /// The folder for temporary files: rows on their way into typed columns, and what comes out of a
    /// pipe [default: the system's, which TMPDIR names]
    #[arg(long, global = true, value_name = "DIR")]
    pub(crate) temp_dir: Option<PathBuf>,
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
    /// Tell what an enrichment would find, and write nothing
    #[command(after_help = CHECK_EXAMPLES)]
    Check(Check),
    /// Trace one row or key: its parts, what the steps make of them, and what it meets
    #[command(after_help = WHY_EXAMPLES)]
    Why(Why),
    /// Run a plan again whenever one of its tables changes
    #[command(after_help = WATCH_EXAMPLES)]
    Watch(Watch),
    /// Show the rows that hold a value, each as a card
    #[command(after_help = FIND_EXAMPLES)]
    Find(Find),
    /// Tell what the columns of tables hold, what is wrong with them, and which of them are keys
    #[command(after_help = SURVEY_EXAMPLES)]
    Survey(Survey),
    /// Propose the key of two tables, with its steps and the columns worth taking, ready to run
    #[command(after_help = SUGGEST_EXAMPLES)]
    Suggest(Suggest),
    /// Make a key column, take one apart again, or test whether columns are a key
    #[command(subcommand)]
    Key(Key),
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

  The code may stand in any of several columns; the price holds from day to day:
    gather-keys enrich orders.csv \\
        --from jars.csv --on 'Code = any(125 g .. 5 kg)' \\
            --take 'Line, @column as Size' \\
        --from 'prices-*.csv' --on 'Line, Size' --take Price \\
            --within 'Ordered on in Valid from .. Valid to' -o priced.csv

  New rounds into the table of keepers itself, and keepers that are new:
    gather-keys enrich keepers.csv \\
        --from rounds.csv --on Id --update 'Round, Post to' --append-unused \\
        --in-place

  All of it to run again, with a record that tells what has moved since:
    gather-keys enrich harvest.csv --from hives.csv --on Hive=Tag --take Keeper \\
        -o enriched.csv --receipt weekly.json --save-plan weekly.toml
    gather-keys enrich weekly.toml

A header that holds a comma, an equals sign, a bar, braces or the word `as`
stands in double quotes; the second of two equal headers is Header#2. The steps
are listed under `gather-keys key --help`.

Exit status: 0 done; 1 a --require does not hold, or the output was changed by
hand since the receipt (no table is written); 2 the call, the plan or an input
is wrong (nothing is written).";

const CHECK_EXAMPLES: &str = "\
Examples:
    gather-keys check harvest.csv --from hives.csv \\
        --on 'Apiary = Site code, Hive = Tag' --take Keeper --lists findings

    gather-keys check weekly.toml

  With no --take, rows of a key count as conflicting when they differ in any
  column that is not part of the key.

Exit status: 0 done; 1 a --require does not hold; 2 the call or an input is
wrong (nothing is written).";

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
    /// A CSV of main keys and the reference keys that they stand for, used where the key itself is not
    /// found: nearest.csv of --lists, with `yes` under `approve`
    #[arg(long, value_name = "FILE", help_heading = REFERENCE)]
    pub(crate) aliases: Vec<String>,
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
    /// The format: text, json, json-lines, workbook or database [default: found from its content and
    /// its ending]
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

const SUGGEST_EXAMPLES: &str = "\
Examples:
    gather-keys suggest harvest.csv hives.csv
    gather-keys suggest orders.csv jars.csv --save-plan jars.toml

Columns are compared by their values first and by their headers second, however
the values are spelled. What is proposed is tried on the whole tables, and the
counts are those of that. The runner-up is told too.

Exit status: 0 a key is proposed; 1 none is found; 2 the call or an input is
wrong.";

/// `suggest`.
#[derive(Debug, Args)]
pub(crate) struct Suggest {
    /// The main table
    #[arg(value_name = "MAIN")]
    pub(crate) main: OsString,
    /// The reference table; a name with `*` in single quotes reads several files as one
    #[arg(value_name = "REFERENCE")]
    pub(crate) reference: OsString,
    /// Write the proposal as a plan, to run with `gather-keys enrich`
    #[arg(long, value_name = "PLAN")]
    pub(crate) save_plan: Option<OsString>,
    /// Replace the plan if there is one already
    #[arg(long)]
    pub(crate) overwrite: bool,
}

const SURVEY_EXAMPLES: &str = "\
Examples:
    gather-keys survey hives.csv
    gather-keys survey harvest.csv hives.csv

Of each column: what its cells look like, how many are blank, how many different
values there are, the commonest of them or the range of numbers and dates, how
they are spread, and what may be wrong with them, with the step that helps in a
key. Then the columns, or sets of up to three, that tell the rows apart. The table
is read once; what would not fit into memory is counted by a sketch, and said to
be about so many.";

/// `survey`.
#[derive(Debug, Args)]
pub(crate) struct Survey {
    /// The tables
    #[arg(value_name = "TABLE", required = true)]
    pub(crate) tables: Vec<OsString>,
    #[command(flatten)]
    pub(crate) form: Form,
    /// How many threads to work with [default: as many as there are processors]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1024))]
    pub(crate) threads: Option<u16>,
}

/// How a run is to go.
// Each switch is one that a person sets by itself.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug, Args)]
pub(crate) struct Run {
    /// Write every finding to this folder, one CSV for each kind
    #[arg(long, value_name = "DIR")]
    pub(crate) lists: Option<OsString>,
    /// Write what was found as a page or a record: .html, .md or .json; may be repeated
    #[arg(long, value_name = "FILE")]
    pub(crate) report: Vec<OsString>,
    /// Do not seek why keys are unmatched, which takes time where many are
    #[arg(long)]
    pub(crate) no_reasons: bool,
    /// Replace files that are there already
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// What must hold, such as 'unmatched <= 1%' or 'hives.ambiguous = 0'; may be repeated
    #[arg(long, value_name = "GATE")]
    pub(crate) require: Vec<String>,
    /// A CSV of cells that were settled by hand, put in place after the lookups: the columns that
    /// tell the row, then header, value and note
    #[arg(long, value_name = "FILE")]
    pub(crate) corrections: Option<OsString>,
    /// A record of the run, written beside the output; the next run says what has moved since
    #[arg(long, value_name = "FILE")]
    pub(crate) receipt: Option<OsString>,
    /// Write all of this call to a plan, to run again
    #[arg(long, value_name = "PLAN")]
    pub(crate) save_plan: Option<OsString>,
    /// Print nothing but errors and gates that do not hold
    #[arg(short, long)]
    pub(crate) quiet: bool,
    /// Say how the tables were read as well
    #[arg(short, long, conflicts_with = "quiet")]
    pub(crate) verbose: bool,
    /// When to show progress [default: auto]
    #[arg(long, value_name = "WHEN")]
    pub(crate) progress: Option<When>,
    /// How much memory the rows of references may take, such as '2 GB'; what does not fit is
    /// worked off by way of temporary files [default: as much as they need]
    #[arg(long, value_name = "SIZE")]
    pub(crate) memory: Option<String>,
    /// How many threads to work with [default: as many as there are processors]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1024))]
    pub(crate) threads: Option<u16>,
}

/// As many threads as asked for, or as there are processors.
pub(crate) fn threads(asked: Option<u16>) -> usize {
    let processors = || std::thread::available_parallelism().map_or(1, NonZero::get);
    asked.map_or_else(processors, usize::from)
}

/// `enrich`.
// Each switch is one that a person sets by itself.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug, Args)]
pub(crate) struct Enrich {
    #[command(flatten)]
    pub(crate) tables: Tables,
    /// The file to write, by its ending a workbook (.xlsx), JSON, a Parquet or Arrow file, or a table of a database
    /// (co-op.sqlite#enriched), or `-` for standard output [default: -]
    #[arg(short, long, value_name = "OUT")]
    pub(crate) output: Option<OsString>,
    /// Write into the main file itself; what it was is kept beside it under a dated name
    #[arg(long, conflicts_with = "output")]
    pub(crate) in_place: bool,
    /// With --in-place: keep no copy of what the main file was
    #[arg(long)]
    pub(crate) no_backup: bool,
    /// Write the output even when a --require does not hold; the exit status stays 1
    #[arg(long)]
    pub(crate) write_anyway: bool,
    /// Write a workbook without decoration: no colours, notes, filter and findings
    #[arg(long)]
    pub(crate) plain: bool,
    /// The encoding of the output [default: the main table's]
    #[arg(long, value_name = "ENCODING")]
    pub(crate) output_encoding: Option<String>,
    /// What to do with an output that was changed by hand since the receipt: refuse to run, keep the
    /// changes as corrections, or discard them [default: refuse]
    #[arg(long, value_name = "WHAT")]
    pub(crate) edits: Option<String>,
    #[command(flatten)]
    pub(crate) run: Run,
}

/// `watch`.
#[derive(Debug, Args)]
pub(crate) struct Watch {
    /// The plan, a TOML file
    #[arg(value_name = "PLAN")]
    pub(crate) plan: OsString,
}

const WATCH_EXAMPLES: &str = "\
Example:
    gather-keys watch weekly.toml

The plan is run at once, and again when the plan or a table it reads has
changed and nothing is being written to it any more. What the plan writes may be
replaced by the next run. Ctrl-C ends it.";

/// `check`.
#[derive(Debug, Args)]
pub(crate) struct Check {
    #[command(flatten)]
    pub(crate) tables: Tables,
    #[command(flatten)]
    pub(crate) run: Run,
}

/// `why`.
#[derive(Debug, Args)]
pub(crate) struct Why {
    #[command(flatten)]
    pub(crate) tables: Tables,
    #[command(flatten)]
    pub(crate) asked: Asked,
}

/// What is to be traced.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub(crate) struct Asked {
    /// The row of the main table, the first below the headers being 1
    #[arg(long, value_name = "N")]
    pub(crate) row: Option<u64>,
    /// Values for the main table's key columns, in the order in which --on names them
    #[arg(long, value_name = "VALUE", num_args = 1..)]
    pub(crate) key: Vec<String>,
}

const WHY_EXAMPLES: &str = "\
Examples:
    gather-keys why harvest.csv --row 4 \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag' --take Keeper
    gather-keys why harvest.csv --key 'Old Quarry' H-013 \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag'

With several references, --key wants a value for each main column that any of
their keys is made from; the error names them.";

/// `find`.
#[derive(Debug, Args)]
pub(crate) struct Find {
    /// The table, in any format, or `-` for standard input
    #[arg(value_name = "TABLE")]
    pub(crate) table: OsString,
    /// What to find: with --on a value for each part of the key, else values of any columns
    #[arg(value_name = "VALUE", required = true)]
    pub(crate) values: Vec<String>,
    /// The parts of the key: headers, with steps if need be, or templates, separated by commas
    #[arg(long, value_name = "KEY")]
    pub(crate) on: Option<String>,
    /// The columns to show [default: all]
    #[arg(long, value_name = "COLUMNS")]
    pub(crate) take: Option<String>,
    /// How to show what is found
    #[arg(long = "format", value_name = "FORMAT", default_value = "card")]
    pub(crate) shown_as: CardFormat,
    #[command(flatten)]
    pub(crate) form: Form,
}

/// How records are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum CardFormat {
    /// A card for each row, field by field
    Card,
    /// A JSON document with every row
    Json,
}

const FIND_EXAMPLES: &str = "\
Examples:
    gather-keys find hives.csv Fellside H-004 --on 'Site code, Tag'
    gather-keys find hives.csv h-4 --on 'Tag | digits | number'
    gather-keys find harvest.csv B0016

Steps go over the value as they go over the cells. With no --on every column is
searched, and the card says where the value was found. When no row holds it, the
nearest are shown.";

/// `key`.
#[derive(Debug, Subcommand)]
pub(crate) enum Key {
    /// Write a table with a key column added, made by a template
    #[command(after_help = MAKE_EXAMPLES)]
    Make(KeyMake),
    /// Write a table with the parts of a key column added, taken apart by a template
    #[command(after_help = SPLIT_EXAMPLES)]
    Split(KeySplit),
    /// Tell whether columns are a key of a table, and which rows stand in the way
    #[command(after_help = TEST_EXAMPLES)]
    Test(KeyTest),
}

const MAKE_EXAMPLES: &str = "\
Example:
    gather-keys key make hives.csv '{Site code}/{Tag | last 3}' --as Label \\
        -o labelled.csv

The cell stays blank where a part is blank or a step can't read its value. You
are told when the key is not unique, and when a value could not be taken apart
again with the same template.";

const SPLIT_EXAMPLES: &str = "\
Example:
    gather-keys key split labels.csv '{Site code}/{Line}/{Hive}' --column Label \\
        -o parts.csv

A value that does not fit the template, or fits it in several ways, is left
apart: its cells stay blank, and you are told the rows.";

const TEST_EXAMPLES: &str = "\
Examples:
    gather-keys key test hives.csv 'Site code' Tag
    gather-keys key test hives.csv '{Site code}-{Tag}' --require 'repeated = 0'

Several templates are the parts of one key. Exit status: 0 done; 1 a --require
does not hold; 2 the call or the table is wrong.";

/// The table of a `key` command.
#[derive(Debug, Args)]
pub(crate) struct KeyTable {
    /// The table, in any format, or `-` for standard input
    #[arg(value_name = "TABLE")]
    pub(crate) table: OsString,
    /// Steps that every part goes through first: tidy | fold
    #[arg(long, value_name = "STEPS")]
    pub(crate) clean: Option<String>,
    #[command(flatten)]
    pub(crate) form: Form,
    /// Texts that count as blank, separated by commas: NA, -
    #[arg(long, value_name = "TEXTS")]
    pub(crate) blank: Option<String>,
    /// Print nothing but errors and gates that do not hold
    #[arg(short, long)]
    pub(crate) quiet: bool,
}

/// The output of a `key` command.
#[derive(Debug, Args)]
pub(crate) struct KeyOutput {
    /// The file to write, or `-` for standard output
    #[arg(short, long, value_name = "OUT", default_value = "-")]
    pub(crate) output: OsString,
    /// Replace a file that is there already
    #[arg(long)]
    pub(crate) overwrite: bool,
}

/// `key make`.
#[derive(Debug, Args)]
pub(crate) struct KeyMake {
    #[command(flatten)]
    pub(crate) table: KeyTable,
    /// What makes the key: text with {Header | step} placeholders
    #[arg(value_name = "TEMPLATE")]
    pub(crate) template: String,
    /// The header of the added column
    #[arg(long = "as", value_name = "NAME", default_value = "Key")]
    pub(crate) header: String,
    #[command(flatten)]
    pub(crate) output: KeyOutput,
}

/// `key split`.
#[derive(Debug, Args)]
pub(crate) struct KeySplit {
    #[command(flatten)]
    pub(crate) table: KeyTable,
    /// What the column was made by: its headers name the added columns
    #[arg(value_name = "TEMPLATE")]
    pub(crate) template: String,
    /// The column to take apart
    #[arg(long, value_name = "NAME")]
    pub(crate) column: String,
    #[command(flatten)]
    pub(crate) output: KeyOutput,
}

/// `key test`.
#[derive(Debug, Args)]
pub(crate) struct KeyTest {
    #[command(flatten)]
    pub(crate) table: KeyTable,
    /// The parts of the key: headers, with steps if need be, or templates
    #[arg(value_name = "TEMPLATE", required = true)]
    pub(crate) templates: Vec<String>,
    /// What must hold, such as 'repeated = 0'; may be repeated
    #[arg(long, value_name = "GATE")]
    pub(crate) require: Vec<String>,
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

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn the_command_line_is_consistent() {
        Arguments::command().debug_assert();
    }
}
