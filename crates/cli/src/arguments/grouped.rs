//! The command line with its options in groups: `-h` shows the everyday ones in a line each, `--help` shows all.
//!
//! In goes the command that clap derives; out comes the one that is parsed, completed and described in the manual.

use clap::{Arg, ArgAction, Command, CommandFactory};

use super::Arguments;

/// The options that most calls need, in the order in which `-h` shows them, each in short.
const EVERYDAY: [(&str, &str); 21] = [
    ("from", "A reference table; may be repeated"),
    ("on", "The key: 'Apiary = Site code, Hive = Tag'"),
    ("take", "Columns to add: 'Keeper, Line as Queen', '*'"),
    ("update", "Columns to write into: 'Round = New round', '*'"),
    ("when_duplicate", "Rows that disagree: first, last, list, every, …"),
    ("when_unmatched", "Rows without an answer: drop, only, fill TEXT, …"),
    ("row", "The row of the main table, from 1"),
    ("key", "Values for the key, instead of a row"),
    ("columns", "Output columns, in order: 'Batch, Keeper, *'"),
    ("drop", "Columns that the output leaves out"),
    ("output", "The file to write; - for standard output"),
    ("overwrite", "Replace files that exist"),
    ("in_place", "Write into the main file itself"),
    ("plain_prompts", "Ask line by line, not on the whole screen"),
    ("lists", "Every finding, one list for each kind"),
    ("report", "A report: .html, .md, .json, or - for JSON"),
    ("show", "Some matched rows, to check by eye"),
    ("require", "A gate for the output: 'unmatched <= 1%'"),
    ("save_plan", "Write this call as a plan, to run again"),
    ("quiet", "Print only errors, and gates that do not hold"),
    ("verbose", "Show every count, and how tables were read"),
];

/// The groups of the other options.
const GROUPS: [(&str, &[&str]); 4] = [
    ("Plans and what happened before", &["other_main", "table", "receipt", "edits", "corrections"]),
    (
        "More about the output",
        &[
            "no_backup",
            "highlight",
            "findings_sheet",
            "plain",
            "guard_formulas",
            "output_encoding",
            "output_delimiter",
            "output_bom",
            "output_decimal_comma",
        ],
    ),
    ("More about findings", &["seed", "no_reasons", "write_anyway", "form"]),
    (HOW_IT_RUNS, &["in_database", "show_sql", "ship", "memory", "threads", "progress"]),
];

/// The commands whose options are in groups: each takes a plan or tables.
const GROUPED: [&str; 4] = ["enrich", "check", "why", "review"];

const FIRST: &str = "Everyday options";

/// The group of options that have no effect on what comes out.
pub(super) const HOW_IT_RUNS: &str = "How it runs";

/// The command line.
pub(crate) fn command() -> Command {
    let mut command = Arguments::command();
    for global in ["color", "temp_dir"] {
        command = command.mut_arg(global, told_in_full);
    }
    for name in GROUPED {
        command = command.mut_subcommand(name, grouped);
    }
    // The forms of a table are only in the full help.
    let others: Vec<String> = command
        .get_subcommands()
        .map(|other| other.get_name().to_owned())
        .filter(|name| !GROUPED.contains(&&name[..]))
        .collect();
    for name in others {
        command = command.mut_subcommand(name, shortened);
    }
    command
}

/// The command line without what is only for programs.
pub(crate) fn shown_commands() -> Command {
    let command = command();
    let shown = command.get_subcommands().filter(|other| !other.is_hide_set()).cloned();
    let about = command.get_about().cloned().unwrap_or_default();
    let long_about = command.get_long_about().cloned().unwrap_or_default();
    Command::new(command.get_name().to_owned())
        .version(env!("CARGO_PKG_VERSION"))
        .about(about)
        .long_about(long_about)
        .args(command.get_arguments().cloned())
        .subcommands(shown)
}

/// A command with its options in groups.
fn grouped(command: Command) -> Command {
    let examples = command.get_after_help().cloned().unwrap_or_default();
    let command = command.mut_args(|arg| {
        let id = arg.get_id().as_str().to_owned();
        if arg.is_positional() {
            return told_in_full(arg);
        }
        if let Some(place) = EVERYDAY.iter().position(|(name, _)| *name == id) {
            let long = arg.get_help().cloned().unwrap_or_default();
            let arg = arg.help_heading(FIRST).display_order(place);
            return arg.help(EVERYDAY[place].1).long_help(long);
        }
        let group = GROUPS.iter().find(|(_, ids)| ids.contains(&&id[..]));
        let arg = told_in_full(arg);
        match group {
            Some((heading, _)) => arg.help_heading(*heading),
            None => arg,
        }
    });
    let help = Arg::new("help").short('h').long("help").action(ArgAction::Help);
    let help = help.help("Print this; --help has all options and examples");
    let help = help.help_heading(FIRST).display_order(EVERYDAY.len());
    command.disable_help_flag(true).arg(help).after_help("").after_long_help(examples)
}

/// A command whose short help leaves out how tables are read.
fn shortened(command: Command) -> Command {
    let subcommands: Vec<String> =
        command.get_subcommands().map(|other| other.get_name().to_owned()).collect();
    let command = subcommands
        .into_iter()
        .fold(command, |command, name| command.mut_subcommand(name, shortened));
    // Examples are in the full help only.
    let examples = command.get_after_help().cloned().unwrap_or_default();
    let command = command.after_help("").after_long_help(examples);
    command.mut_args(|arg| if is_of_form(&arg) { told_in_full(arg) } else { arg })
}

/// An argument that is left out of the short help.
fn told_in_full(arg: Arg) -> Arg {
    // The manual takes the long help of such ones.
    let long = arg.get_long_help().or(arg.get_help()).cloned().unwrap_or_default();
    arg.long_help(long).hide_short_help(true)
}

/// Whether an option says how a table is read, or how a command runs.
fn is_of_form(arg: &Arg) -> bool {
    const FORM: [&str; 9] = [
        "delimiter",
        "encoding",
        "header_row",
        "no_header",
        "ragged",
        "decimal_comma",
        "fill_down",
        "skip_last",
        "threads",
    ];
    FORM.contains(&arg.get_id().as_str())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every option that a group names is one of a command.
    #[test]
    fn groups_name_options_that_there_are() {
        let command = command();
        let mut all: Vec<String> = Vec::new();
        for name in GROUPED {
            let of = command.find_subcommand(name).unwrap();
            all.extend(of.get_arguments().map(|arg| arg.get_id().to_string()));
        }
        let named = EVERYDAY.iter().map(|(name, _)| *name);
        let named = named.chain(GROUPS.iter().flat_map(|(_, ids)| ids.iter().copied()));
        for name in named {
            assert!(all.iter().any(|id| id == name), "{name}");
        }
        command.debug_assert();
    }
}
