//! The arguments of `enrich`, `check` and `watch`.

use std::ffi::OsString;
use std::num::NonZero;

use clap::Args;

use super::{RunOptions, Tables};

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

  The code may be in any of several columns; the price changes from day to day:
    gather-keys enrich orders.csv \\
        --from jars.csv --on 'Code = any(125 g .. 5 kg)' \\
            --take 'Line, @column as Size' \\
        --from 'prices-*.csv' --on 'Line, Size' --take Price \\
            --within 'Ordered on in Valid from .. Valid to' -o priced.csv

  Write new rounds into the table of keepers itself, and add new keepers:
    gather-keys enrich keepers.csv \\
        --from rounds.csv --on Id --update 'Round, Post to' --append-unused \\
        --in-place

  Save all of it to run again, with a record that shows what has changed:
    gather-keys enrich harvest.csv --from hives.csv --on Hive=Tag --take Keeper \\
        -o enriched.csv --receipt weekly.json --save-plan weekly.toml
    gather-keys enrich weekly.toml

Write a header with a comma, an equals sign, a bar, braces or the word `as` in
double quotes; the second of two equal headers is Header#2. The steps are listed
under `gather-keys key --help`.

Exit status: 0 done; 1 a --require does not hold, or the output was changed by
hand since the receipt (no table is written); 2 the call, the plan or an input
is wrong (nothing is written).";

pub(super) const CHECK_EXAMPLES: &str = "\
Examples:
    gather-keys check harvest.csv --from hives.csv \\
        --on 'Apiary = Site code, Hive = Tag' --take Keeper --lists findings

    gather-keys check weekly.toml

  Five matched rows, to check by eye:
    gather-keys check weekly.toml --show 5

  With no --take, rows of a key count as conflicting when they differ in any
  column that is not part of the key.

Exit status: 0 done; 1 a --require does not hold; 2 the call or an input is
wrong (nothing is written).";

/// More threads than this for each processor bring nothing, and the memory of each counts.
const FOR_EACH_PROCESSOR: usize = 8;

/// As many threads as there are processors, or as asked for within reason.
pub(crate) fn threads(asked: Option<u16>) -> usize {
    let processors = std::thread::available_parallelism().map_or(1, NonZero::get);
    asked.map_or(processors, |asked| usize::from(asked).min(FOR_EACH_PROCESSOR * processors))
}

/// `enrich`.
#[derive(Debug, Args)]
pub(crate) struct Enrich {
    #[command(flatten)]
    pub(crate) tables: Tables,
    #[command(flatten)]
    run: RunOptions<true>,
    #[command(flatten)]
    save: SavePlan,
}

/// The option to write a call as a plan; [`TypedOptions`](super::TypedOptions) reads it.
#[derive(Debug, Args)]
struct SavePlan {
    /// Write this call as a plan, to run again
    #[arg(long, value_name = "PLAN")]
    save_plan: Option<OsString>,
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
    run: RunOptions<false>,
    /// Show this many matched rows of each reference, chosen by chance: the keys of both sides and what is taken
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1000))]
    pub(crate) show: Option<u16>,
    /// What the rows of --show are chosen by: the same number shows the same rows
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    #[command(flatten)]
    save: SavePlan,
}
