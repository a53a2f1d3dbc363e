//! What `enrich`, `check` and `watch` take.

use std::ffi::OsString;
use std::num::NonZero;

use clap::Args;

use super::{Tables, When};

pub(super) const ENRICH_EXAMPLES: &str = "\
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

pub(super) const CHECK_EXAMPLES: &str = "\
Examples:
    gather-keys check harvest.csv --from hives.csv \\
        --on 'Apiary = Site code, Hive = Tag' --take Keeper --lists findings

    gather-keys check weekly.toml

  With no --take, rows of a key count as conflicting when they differ in any
  column that is not part of the key.

Exit status: 0 done; 1 a --require does not hold; 2 the call or an input is
wrong (nothing is written).";

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
    /// What must hold, such as 'unmatched <= 1%' or 'columns = same'; may be repeated
    #[arg(long, value_name = "GATE")]
    pub(crate) require: Vec<String>,
    /// A table of cells settled by hand, put in place after the lookups: the columns that
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
    /// In delimited text: write cells that came from another table and begin with =, +, - or @ with an
    /// apostrophe before them, so that a spreadsheet shows them and does not run them; numbers stay
    #[arg(long)]
    pub(crate) guard_formulas: bool,
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

pub(super) const WATCH_EXAMPLES: &str = "\
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
