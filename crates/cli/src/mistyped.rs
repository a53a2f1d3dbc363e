//! Calls that can't be read, in the person's own words: what is wrong with them and how to write them.
//!
//! In go the error of the parser and the words as they were typed; out comes a sentence.

use std::ffi::OsString;
use std::path::Path;

use clap::error::{ContextKind, ContextValue, ErrorKind};

use crate::arguments::shown_commands;
use crate::wording::joined;

/// What other tools call a command, and ours for it.
const COMMANDS: [(&str, &str); 9] = [
    ("join", "enrich"),
    ("merge", "enrich"),
    ("lookup", "enrich"),
    ("match", "enrich"),
    ("map", "enrich"),
    ("validate", "check"),
    ("profile", "survey"),
    ("describe", "survey"),
    ("search", "find"),
];

/// The sentence for a call that can't be read; `None` where that of the parser will do.
pub(crate) fn sentence(error: &clap::Error, words: &[OsString]) -> Option<String> {
    let words: Vec<String> =
        words.iter().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
    let text = |kind| match error.get(kind) {
        Some(ContextValue::String(text)) => Some(text.clone()),
        Some(ContextValue::Strings(all)) => all.first().cloned(),
        _ => None,
    };
    match error.kind() {
        ErrorKind::UnknownArgument => {
            let unknown = text(ContextKind::InvalidArg)?;
            let near = text(ContextKind::SuggestedArg);
            Some(if unknown.starts_with('-') && unknown.len() > 1 {
                unknown_option(&unknown, near.as_deref(), &command_of(&words))
            } else {
                surplus_word(&unknown, &words)
            })
        }
        ErrorKind::InvalidSubcommand => {
            let unknown = text(ContextKind::InvalidSubcommand)?;
            let ours = COMMANDS.iter().find(|(there, _)| *there == unknown);
            let near = text(ContextKind::SuggestedSubcommand);
            let hint = match (ours, near) {
                (Some((_, ours)), _) => {
                    format!("what it does elsewhere is `gather-keys {ours}` here")
                }
                (None, Some(near)) => format!("did you mean `{near}`?"),
                (None, None) => "`gather-keys -h` lists the commands".to_owned(),
            };
            Some(format!("there is no command `{unknown}`: {hint}"))
        }
        ErrorKind::ArgumentConflict => {
            let one = option_in(&text(ContextKind::InvalidArg)?);
            let other = option_in(&text(ContextKind::PriorArg)?);
            Some(if one == other {
                let values = values_of(&one, &words);
                let values: Vec<String> = values.iter().map(|value| format!("`{value}`")).collect();
                let twice = joined(&values, "and");
                format!("{one} is there twice, with {twice}: leave one of them out")
            } else {
                format!("{one} and {other} can't be used together: leave one of them out")
            })
        }
        ErrorKind::MissingRequiredArgument => missing(error, &command_of(&words)),
        ErrorKind::InvalidValue | ErrorKind::ValueValidation => {
            let option = option_in(&text(ContextKind::InvalidArg)?);
            let value = text(ContextKind::InvalidValue)?;
            if value.is_empty() {
                return Some(format!("{option} has no value: give it one after a blank"));
            }
            let all = match error.get(ContextKind::ValidValue) {
                Some(ContextValue::Strings(all)) => all.clone(),
                _ => Vec::new(),
            };
            let why = std::error::Error::source(error).map(ToString::to_string);
            let why = why.unwrap_or_else(|| format!("use {}", joined(&all, "or")));
            // The parser has the range in a form of its own.
            let range =
                why.split_once(" is not in ").and_then(|(_, range)| range.split_once("..="));
            let why = match range {
                Some((least, most)) => format!("use a number from {least} to {most}"),
                None => why,
            };
            Some(format!("`{value}` is no value of {option}: {why}"))
        }
        _ => None,
    }
}

/// The command of a call: its words, as in `key test`.
fn command_of(words: &[String]) -> String {
    let mut plain = words.iter().filter(|word| !word.starts_with('-'));
    match plain.next().map(String::as_str) {
        Some("key") => {
            let sub = plain.next().filter(|word| ["make", "split", "test"].contains(&&word[..]));
            sub.map_or("key".to_owned(), |sub| format!("key {sub}"))
        }
        Some(command) => command.to_owned(),
        None => String::new(),
    }
}

/// An option that a command does not have.
fn unknown_option(option: &str, near: Option<&str>, command: &str) -> String {
    let holders = holders(option);
    if !holders.is_empty() {
        let of: Vec<String> = holders.iter().map(|holder| format!("`{holder}`")).collect();
        return format!(
            "`{command}` has no {option}, but {} {}: see `gather-keys {command} --help`",
            joined(&of, "and"),
            if of.len() == 1 { "has" } else { "have" }
        );
    }
    let hint = match near {
        Some(near) => format!("did you mean {}?", option_in(near)),
        None => format!("`gather-keys {command} --help` lists its options"),
    };
    format!("`{command}` has no option {option}: {hint}")
}

/// The commands that have an option.
fn holders(option: &str) -> Vec<String> {
    let mut holders = Vec::new();
    let long = option.trim_start_matches("--").split('=').next().unwrap_or_default();
    let has = |command: &clap::Command| {
        command.get_arguments().any(|arg| arg.get_long().is_some_and(|name| name == long))
    };
    for command in shown_commands().get_subcommands() {
        if has(command) {
            holders.push(command.get_name().to_owned());
        }
        let inner = command.get_subcommands().filter(|inner| has(inner));
        holders.extend(inner.map(|inner| format!("{} {}", command.get_name(), inner.get_name())));
    }
    holders
}

/// A word that belongs to nothing: the rest of a value without quotes, or a second table.
fn surplus_word(unknown: &str, words: &[String]) -> String {
    let command = command_of(words);
    let at = words.iter().rposition(|word| word == unknown).unwrap_or_default();
    let is_option = |word: &String| word.starts_with("--") || word == "-o";
    let option = words[..at].iter().rposition(is_option);
    let is_table = |word: &str| Path::new(word).exists() || word.contains(['.', '#']);
    if let Some(option) = option.filter(|option| at > option + 1) {
        let until = words[at..].iter().position(is_option).map_or(words.len(), |next| at + next);
        let value = &words[option + 1..until];
        // A table after the value of an option is another thing.
        if !(value.len() == 2 && is_table(unknown)) {
            let option = &words[option];
            return format!(
                "the value of {option} needs quotes, since it has blanks: {option} '{}'",
                value.join(" ")
            );
        }
    }
    if command.starts_with("key ") {
        let begin = words.iter().position(|word| word == "key").unwrap_or_default() + 3;
        let end = words[at..].iter().position(is_option).map_or(words.len(), |next| at + next);
        let template = words.get(begin..end).unwrap_or_default().join(" ");
        return format!("a template needs quotes where it has blanks: '{template}'");
    }
    match &command[..] {
        "enrich" | "check" | "why" | "review" => {
            let before = words[..at].iter().skip(1).take_while(|word| !is_option(word));
            let main = before.last().map_or("MAIN", String::as_str);
            format!(
                "{unknown} is a second table: a reference is named with --from, as in `gather-keys \
                 {command} {main} --from {unknown} --on KEY`"
            )
        }
        _ => format!("`{command}` takes no more words, and `{unknown}` is one: leave it out"),
    }
}

/// Something that a command can't do without.
fn missing(error: &clap::Error, command: &str) -> Option<String> {
    let Some(ContextValue::Strings(all)) = error.get(ContextKind::InvalidArg) else { return None };
    let name = |form: &String| {
        let words = form.split([' ', '<', '>', '|', '.']);
        let options: Vec<String> =
            words.filter(|word| word.starts_with("--")).map(str::to_owned).collect();
        if options.is_empty() { place_name(form) } else { joined(&options, "or") }
    };
    let all: Vec<String> = all.iter().map(name).collect();
    let call = match command {
        "enrich" | "check" | "review" => "MAIN --from REFERENCE --on KEY --take COLUMNS",
        "why" => "MAIN --row N --from REFERENCE --on KEY",
        "find" => "TABLE VALUE",
        "suggest" => "MAIN TABLE",
        "survey" => "TABLE",
        "watch" => "PLAN",
        "key make" => "TABLE TEMPLATE",
        "key test" => "TABLE HEADERS",
        "key split" => "TABLE TEMPLATE --column NAME",
        _ => return None,
    };
    Some(format!("{} is missing: `gather-keys {command} {call}`", all.join(" and ")))
}

/// What is at a place of a call, in the parser's form of it.
fn place_name(form: &str) -> String {
    match form.trim_matches(['<', '>', '.']) {
        "MAIN|PLAN" | "MAIN" => "the main table".to_owned(),
        other => other.to_owned(),
    }
}

/// The option in the parser's form of it: `--output <OUT>`.
fn option_in(form: &str) -> String {
    form.split([' ', '[', '=']).next().unwrap_or_default().to_owned()
}

/// The values that were typed for an option, whichever of its names was used.
fn values_of(option: &str, words: &[String]) -> Vec<String> {
    let is_it = |word: &str| word == option || (option == "--output" && word == "-o");
    let mut values = Vec::new();
    for (at, word) in words.iter().enumerate() {
        if is_it(word) {
            values.extend(words.get(at + 1).cloned());
        } else if let Some((name, value)) = word.split_once('=').filter(|(name, _)| is_it(name)) {
            debug_assert!(!name.is_empty());
            values.push(value.to_owned());
        }
    }
    values
}
