//! The command line: the commands, and the arguments of each.

mod enrich;
mod grouped;
mod key;
mod look;
mod options;
mod printed;
mod review;
mod shell;
mod tables;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use enrich::{CHECK_EXAMPLES, ENRICH_EXAMPLES, WATCH_EXAMPLES};
pub(crate) use enrich::{Check, Enrich, Watch, threads};
use grouped::HOW_IT_RUNS;
pub(crate) use grouped::{command, shown_commands};
pub(crate) use key::{Key, KeyMake, KeyOutput, KeySplit, KeyTable, KeyTest};
use look::{FIND_EXAMPLES, SUGGEST_EXAMPLES, SURVEY_EXAMPLES, WHY_EXAMPLES};
pub(crate) use look::{Find, Suggest, Survey, Why};
pub(crate) use options::{
    QuestionOptions, RunOptions, TableOptions, TypedOption, TypedOptions, option_of,
};
pub(crate) use printed::Printed;
use review::REVIEW_EXAMPLES;
pub(crate) use review::Review;
use shell::{COMPLETIONS_EXAMPLES, MANUAL_EXAMPLES};
pub(crate) use shell::{Completions, Headers, Manual};
pub(crate) use tables::{Form, Tables};

/// Bring columns of reference tables to the right rows of a main table.
///
/// Rows are matched on a key of one or more columns, named by their headers. A cell is filled only
/// when there is exactly one answer; every other row is left as it was, counted and listed.
#[derive(Debug, Parser)]
#[command(name = "gather-keys", version, help_expected = true)]
#[command(after_help = "See it at work on made-up data:  gather-keys demo")]
pub(crate) struct Arguments {
    #[arg(help = "When to use colour on standard error; NO_COLOR is honoured")]
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    #[arg(hide_short_help = true, help_heading = HOW_IT_RUNS)]
    pub(crate) color: When,
    /// The folder for temporary files [default: the system's, which TMPDIR names]
    #[arg(long, global = true, value_name = "DIR", hide_short_help = true)]
    #[arg(help_heading = HOW_IT_RUNS)]
    pub(crate) temp_dir: Option<PathBuf>,
    /// The command.
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Write the main table with the taken columns next to its rows
    #[command(after_help = ENRICH_EXAMPLES)]
    Enrich(Enrich),
    /// Show what an enrichment would find, and write no table
    #[command(after_help = CHECK_EXAMPLES)]
    Check(Check),
    /// Trace one row or key: its parts, the result of each step, and what it matches
    #[command(after_help = WHY_EXAMPLES)]
    Why(Why),
    /// Settle keys by hand, one question at a time; the answers hold in every later run
    #[command(after_help = REVIEW_EXAMPLES)]
    Review(Review),
    /// Run a plan again whenever one of its tables changes
    #[command(after_help = WATCH_EXAMPLES)]
    Watch(Watch),
    /// Show the rows that hold a value, each as a card
    #[command(after_help = FIND_EXAMPLES)]
    Find(Find),
    /// Show what the columns of tables hold, what is wrong with them, and which of them are keys
    #[command(after_help = SURVEY_EXAMPLES)]
    Survey(Survey),
    /// Find the tables and keys that bring columns to a main table, as a command ready to run
    #[command(after_help = SUGGEST_EXAMPLES)]
    Suggest(Suggest),
    /// Make a key column, split one, or test whether columns are a key
    #[command(subcommand)]
    Key(Key),
    /// Write the tables of a made-up honey co-operative and enrich them
    Demo(Demo),
    /// Print what a shell needs to complete command lines, with the headers of tables
    #[command(after_help = COMPLETIONS_EXAMPLES)]
    Completions(Completions),
    /// Write a manual page for each command
    #[command(after_help = MANUAL_EXAMPLES)]
    Manual(Manual),
    /// Print the headers that complete the last word, for shells
    #[command(hide = true)]
    Headers(Headers),
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
    /// Always
    Always,
    /// Never
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
