//! The options that set keys of a plan, made of the tables of keys, and what was typed for them.
//!
//! An option belongs to the table named before it: options before any `--from` to the main table, options after a
//! `--from` to that reference.

use std::ffi::OsString;

use clap::builder::{EnumValueParser, TypedValueParser};
use clap::error::Error as ClapError;
use clap::parser::ValueSource;
use clap::{Arg, ArgAction, ArgMatches, Args, Command, FromArgMatches, ValueEnum};
use gather_keys_core::plan::{Holds, MainTable, Plan, PlanKey, ReferenceTable};

use super::When;
use crate::error::{Error, Result};

/// The keys of a run that only commands use which write a table.
const OF_OUTPUT: [&str; 13] = [
    "output",
    "in_place",
    "no_backup",
    "highlight",
    "findings_sheet",
    "write_anyway",
    "plain",
    "guard_formulas",
    "output_encoding",
    "output_delimiter",
    "output_bom",
    "output_decimal_comma",
    "edits",
];

/// The keys of a run that questions depend on.
const OF_QUESTIONS: [&str; 4] = ["columns", "drop", "corrections", "threads"];

const REFERENCE: &str = "Options of a reference (they belong to the --from before them)";
const ANY_TABLE: &str = "Options of any table (they belong to the table named before them)";

/// The options of a run; with `WRITES`, of one that writes a table.
#[derive(Debug)]
pub(crate) struct RunOptions<const WRITES: bool>;

/// The options of a run that asks questions.
#[derive(Debug)]
pub(crate) struct QuestionOptions;

/// The options of tables.
#[derive(Debug)]
pub(crate) struct TableOptions;

impl<const WRITES: bool> Args for RunOptions<WRITES> {
    fn augment_args(command: Command) -> Command {
        let keys = Plan::KEYS.iter().filter(|key| WRITES || !OF_OUTPUT.contains(&key.name));
        command.args(keys.map(run_option))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl Args for QuestionOptions {
    fn augment_args(command: Command) -> Command {
        let keys = Plan::KEYS.iter().filter(|key| OF_QUESTIONS.contains(&key.name));
        command.args(keys.map(run_option))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl Args for TableOptions {
    fn augment_args(command: Command) -> Command {
        command.args(keys_of_tables().map(table_option))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<const WRITES: bool> FromArgMatches for RunOptions<WRITES> {
    fn from_arg_matches(_: &ArgMatches) -> std::result::Result<Self, ClapError> {
        Ok(Self)
    }

    fn update_from_arg_matches(&mut self, _: &ArgMatches) -> std::result::Result<(), ClapError> {
        Ok(())
    }
}

impl FromArgMatches for QuestionOptions {
    fn from_arg_matches(_: &ArgMatches) -> std::result::Result<Self, ClapError> {
        Ok(Self)
    }

    fn update_from_arg_matches(&mut self, _: &ArgMatches) -> std::result::Result<(), ClapError> {
        Ok(())
    }
}

impl FromArgMatches for TableOptions {
    fn from_arg_matches(_: &ArgMatches) -> std::result::Result<Self, ClapError> {
        Ok(Self)
    }

    fn update_from_arg_matches(&mut self, _: &ArgMatches) -> std::result::Result<(), ClapError> {
        Ok(())
    }
}

/// The keys of tables that are options. The table itself is an argument, but for one of a plan that has another place.
fn keys_of_tables() -> impl Iterator<Item = &'static PlanKey> {
    ReferenceTable::KEYS.iter()
}

/// The option that sets a key: `--when-duplicate`.
pub(crate) fn option_of(key: &str) -> String {
    format!("--{}", key.replace('_', "-"))
}

/// The purpose of a key, as the help of its option. A name of a key becomes its option.
fn help(key: &PlanKey) -> String {
    if key.name == "table" {
        return "Read this table for a reference of a plan, which is named after --from".to_owned();
    }
    let mut help = key.about.trim().trim_end_matches('.').to_owned();
    for other in Plan::KEYS.iter().chain(ReferenceTable::KEYS) {
        if other.name.contains('_') {
            help = help.replace(&format!("`{}`", other.name), &option_of(other.name));
        }
    }
    help
}

/// An option without its action.
fn option(key: &'static PlanKey) -> Arg {
    let arg = Arg::new(key.name).long(key.name.replace('_', "-")).help(help(key));
    if key.form.is_empty() { arg } else { arg.value_name(key.form) }
}

/// The option of a key of a run.
fn run_option(key: &'static PlanKey) -> Arg {
    let arg = option(key).value_parser(clap::value_parser!(OsString));
    let arg = match key.holds {
        Holds::Flag => option(key).action(ArgAction::SetTrue),
        Holds::Texts => arg.action(ArgAction::Append),
        Holds::Text | Holds::Number => arg.action(ArgAction::Set),
    };
    let typed = |text: String| OsString::from(text);
    match key.name {
        "output" => arg.short('o'),
        "in_place" => arg.conflicts_with("output"),
        "quiet" => arg.short('q'),
        "verbose" => arg.short('v').conflicts_with("quiet"),
        "progress" => arg.hide_possible_values(true).value_parser(
            EnumValueParser::<When>::new().map(move |when| {
                let name = when.to_possible_value().map(|value| value.get_name().to_owned());
                typed(name.unwrap_or_default())
            }),
        ),
        "threads" => {
            let in_range = clap::value_parser!(u16).range(1..=1024);
            arg.value_parser(in_range.map(move |threads| typed(threads.to_string())))
        }
        _ => arg,
    }
}

/// The option of a key of a table. Each occurrence counts, so that it can be bound to its table.
fn table_option(key: &'static PlanKey) -> Arg {
    let is_of_main = MainTable::KEYS.iter().any(|other| other.name == key.name);
    let of_any = is_of_main && key.name != "table";
    let arg = option(key).action(ArgAction::Append);
    let arg = arg.help_heading(if of_any { ANY_TABLE } else { REFERENCE });
    match key.holds {
        Holds::Flag => arg.num_args(0).default_missing_value("yes"),
        Holds::Number => arg.value_parser(line_number),
        Holds::Text | Holds::Texts => arg,
    }
}

/// The number of a line, as it was typed.
fn line_number(text: &str) -> std::result::Result<String, String> {
    match text.parse::<u64>() {
        Ok(1..) => Ok(text.to_owned()),
        _ => Err("give a line, counted from 1".to_owned()),
    }
}

/// An option as it was typed: the key it sets, and its value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct TypedOption {
    pub(crate) key: &'static str,
    value: String,
}

/// The typed options of a run and its tables.
#[derive(Debug, Default)]
pub(crate) struct TypedOptions {
    pub(crate) run: Vec<TypedOption>,
    /// The options of the main table, then those of the reference of each `--from`.
    pub(crate) tables: Vec<Vec<TypedOption>>,
    /// The plan file to write all of it to.
    pub(crate) save_plan: Option<OsString>,
}

impl TypedOption {
    /// Its value as it was typed; empty where it takes none.
    pub(crate) fn value(&self) -> &str {
        if self.is_flag() { "" } else { &self.value }
    }

    /// Whether it takes no value.
    fn is_flag(&self) -> bool {
        let mut keys = keys_of_tables().chain(Plan::KEYS);
        keys.any(|key| key.name == self.key && key.holds == Holds::Flag)
    }

    /// Adds the option to a plan or a table of it, by its method `add`.
    pub(crate) fn add(self, add: impl FnOnce(&str, &str) -> bool) -> Result<()> {
        if add(self.key, &self.value) {
            return Ok(());
        }
        Err(Error::Twice { option: self.key, value: self.value })
    }
}

impl TypedOptions {
    /// The typed options of a command that takes a plan or tables.
    pub(crate) fn of(matches: &ArgMatches) -> Result<Self> {
        let mut run = Vec::new();
        for key in Plan::KEYS.iter().filter(|key| is_typed(matches, key.name)) {
            match key.holds {
                Holds::Flag => run.push(TypedOption { key: key.name, value: String::new() }),
                _ => {
                    for value in matches.get_many::<OsString>(key.name).into_iter().flatten() {
                        let value = value.to_str().ok_or_else(|| Error::PathNotText {
                            path: value.to_string_lossy().into_owned(),
                        })?;
                        run.push(TypedOption { key: key.name, value: value.to_owned() });
                    }
                }
            }
        }
        let save_plan = matches.try_get_one::<OsString>("save_plan").ok().flatten().cloned();
        Ok(Self { run, tables: tables_in_order(matches), save_plan })
    }
}

/// Whether an option was typed for this command.
fn is_typed(matches: &ArgMatches, id: &str) -> bool {
    matches.try_contains_id(id).is_ok()
        && matches.value_source(id) == Some(ValueSource::CommandLine)
}

/// The options of each table in the order of the command line: first of the main table, then of each reference.
fn tables_in_order(matches: &ArgMatches) -> Vec<Vec<TypedOption>> {
    let mut found: Vec<(usize, Option<TypedOption>)> = Vec::new();
    if is_typed(matches, "from") {
        let places = matches.indices_of("from").into_iter().flatten();
        found.extend(places.map(|place| (place, None)));
    }
    for key in keys_of_tables().filter(|key| is_typed(matches, key.name)) {
        let places = matches.indices_of(key.name).into_iter().flatten();
        let values = matches.get_many::<String>(key.name).into_iter().flatten().cloned();
        let options = values.map(|value| TypedOption { key: key.name, value });
        found.extend(places.zip(options).map(|(place, option)| (place, Some(option))));
    }
    found.sort_by_key(|(place, _)| *place);
    let mut tables = vec![Vec::new()];
    for (_, option) in found {
        match (option, tables.last_mut()) {
            (Some(option), Some(table)) => table.push(option),
            _ => tables.push(Vec::new()),
        }
    }
    tables
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;
    use crate::arguments::Arguments;

    /// Every key can be typed, and every option of a run can be in a plan.
    #[test]
    fn options_and_keys_are_the_same() {
        let command = Arguments::command();
        let enrich = command.find_subcommand("enrich").unwrap();
        let ids = enrich.get_arguments().map(|argument| argument.get_id().to_string());
        // Arguments that name tables and plans.
        let of_call = ["main", "other_main", "from", "save_plan"];
        let mut typed: Vec<String> = ids.filter(|id| !of_call.contains(&&id[..])).collect();
        let keys = Plan::KEYS.iter().chain(keys_of_tables());
        let mut planned: Vec<String> = keys.map(|key| key.name.to_owned()).collect();
        typed.sort();
        planned.sort();
        assert_eq!(typed, planned);
        let of_main = MainTable::KEYS.iter().map(|key| key.name);
        let of_reference = |name| ReferenceTable::KEYS.iter().any(|key| key.name == name);
        assert!(of_main.into_iter().all(of_reference));
    }

    #[test]
    fn an_option_belongs_to_the_table_before_it() {
        let line = "gather-keys enrich --delimiter ; m.csv --from a.csv --on X --take P \
                    --on Y --from b.csv --delimiter tab --take=Q";
        let matches = Arguments::command().get_matches_from(line.split_whitespace());
        let tables = tables_in_order(matches.subcommand().unwrap().1);
        let written: Vec<String> = tables
            .iter()
            .map(|table| {
                let options = table.iter().map(|option| format!("{} {}", option.key, option.value));
                options.collect::<Vec<_>>().join(", ")
            })
            .collect();
        assert_eq!(written, ["delimiter ;", "on X, take P, on Y", "delimiter tab, take Q"]);
    }
}
