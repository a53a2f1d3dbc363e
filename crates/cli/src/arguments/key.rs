//! The arguments of the `key` commands.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::{Form, Printed};

/// `key`.
#[derive(Debug, Subcommand)]
pub(crate) enum Key {
    /// Write a table with a key column added, made by a template
    #[command(after_help = MAKE_EXAMPLES)]
    Make(KeyMake),
    /// Write a table with the parts of a key column added, split by a template
    #[command(after_help = SPLIT_EXAMPLES)]
    Split(KeySplit),
    /// Test whether columns are a key of a table, and show the rows that prevent it
    #[command(after_help = TEST_EXAMPLES)]
    Test(KeyTest),
}

const MAKE_EXAMPLES: &str = "\
Example:
    gather-keys key make hives.csv '{Site code}/{Tag | last 3}' --as Label \\
        -o labelled.csv

The cell stays blank where a part is blank or a step can't read its value. The
summary says when the key is not unique, and when a value could not be split
again with the same template.";

const SPLIT_EXAMPLES: &str = "\
Example:
    gather-keys key split labels.csv '{Site code}/{Line}/{Hive}' --column Label \\
        -o parts.csv

A value that does not fit the template, or fits it in several ways, is not
split: its cells stay blank, and the summary shows the rows. With --as json the
summary is JSON on standard output, so that the table needs a file, -o.

Exit status: 0 done; 1 a --require does not hold, and nothing is written; 2 the
call or the table is wrong.";

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
    /// Replace a file that exists
    #[arg(long)]
    pub(crate) overwrite: bool,
}

/// `key make`.
#[derive(Debug, Args)]
pub(crate) struct KeyMake {
    #[command(flatten)]
    pub(crate) table: KeyTable,
    /// The template of the key: text with {Header | step} placeholders
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
    /// The template that made the column: its headers name the added columns
    #[arg(value_name = "TEMPLATE")]
    pub(crate) template: String,
    /// The column to split
    #[arg(long, value_name = "NAME")]
    pub(crate) column: String,
    /// A condition for the table to be written, such as 'not fitting = 0'; may be repeated
    #[arg(long, value_name = "GATE")]
    pub(crate) require: Vec<String>,
    #[command(flatten)]
    pub(crate) output: KeyOutput,
    #[command(flatten)]
    pub(crate) printed: Printed,
}

/// `key test`.
#[derive(Debug, Args)]
pub(crate) struct KeyTest {
    #[command(flatten)]
    pub(crate) table: KeyTable,
    /// The parts of the key: headers, with steps where needed, or templates
    #[arg(value_name = "TEMPLATE", required = true)]
    pub(crate) templates: Vec<String>,
    /// A condition, such as 'repeated = 0'; may be repeated
    #[arg(long, value_name = "GATE")]
    pub(crate) require: Vec<String>,
    /// Write every repeated key and every row without a key to this folder, one list for each kind
    #[arg(long, value_name = "DIR")]
    pub(crate) lists: Option<PathBuf>,
    /// Replace lists that exist
    #[arg(long)]
    pub(crate) overwrite: bool,
    #[command(flatten)]
    pub(crate) printed: Printed,
}
