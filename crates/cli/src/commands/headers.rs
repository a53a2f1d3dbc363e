//! `headers`: the headers that complete a word of a command line, for shells.
//!
//! In go the words as the shell has them; out come the texts that the last one may become, a line each. Whatever is
//! wrong with the call gives none: a shell has no place for messages.

use std::ffi::{OsStr, OsString};
use std::fmt::Write as _;
use std::path::Path;

use gather_keys_core::plan::Plan;

use super::Outcome;
use crate::arguments;
use crate::peek::headers_of;
use crate::terminal::show;
use crate::typed::{is_plan, names_of};

/// The tables on a command line.
#[derive(Default)]
struct Tables {
    main: Option<OsString>,
    /// The reference that options at the end belong to, and every one before it.
    references: Vec<OsString>,
}

/// Prints the texts that complete the last word.
pub(crate) fn headers(asked: &arguments::Headers) -> Outcome {
    let words: Vec<String> = asked.words.iter().map(|word| unquoted(word)).collect();
    let Some((_, [option, _])) = words.split_last_chunk::<2>() else { return Outcome::Done };
    let raw = asked.words.last().map(|word| word.to_string_lossy().into_owned());
    let raw = raw.unwrap_or_default();
    let tables = Tables::of(&words[..words.len() - 2]);
    let quote =
        raw.chars().next().filter(|character| ["\'", "\""].contains(&&character.to_string()[..]));
    let typed = quote.map_or(&raw[..], |quote| {
        let open = raw.strip_prefix(quote).unwrap_or(&raw);
        open.strip_suffix(quote).unwrap_or(open)
    });
    let typed = if quote.is_some() { typed.to_owned() } else { unquoted(raw.as_ref()) };
    let mut text = String::new();
    for completed in completed(option, &typed, &tables) {
        let is_whole = quote.is_some() || asked.unescaped;
        let completed = if is_whole { completed } else { escaped(&completed) };
        let _ = writeln!(text, "{completed}");
    }
    // A shell that does not listen any more needs none.
    let _ = show(&text);
    Outcome::Done
}

impl Tables {
    /// The tables that words of a command line name.
    fn of(words: &[String]) -> Self {
        let mut tables = Self::default();
        let mut rest = words.iter();
        let Some(command) = rest.next() else { return tables };
        if command == "key" {
            rest.next();
        }
        let command = arguments::command();
        let takes_value = |word: &str| {
            let subcommands = command
                .get_subcommands()
                .chain(command.get_subcommands().flat_map(clap::Command::get_subcommands));
            let mut options = subcommands.flat_map(clap::Command::get_arguments);
            options.any(|arg| {
                let is_it = arg.get_long().is_some_and(|long| word == format!("--{long}"))
                    || arg.get_short().is_some_and(|short| word == format!("-{short}"));
                is_it && arg.get_action().takes_values()
            })
        };
        while let Some(word) = rest.next() {
            if word == "--from" {
                tables.references.extend(rest.next().map(OsString::from));
            } else if let Some(reference) = word.strip_prefix("--from=") {
                tables.references.push(reference.into());
            } else if word.starts_with('-') && word.len() > 1 {
                if takes_value(word) {
                    rest.next();
                }
            } else if tables.main.is_none() {
                tables.main = Some(word.into());
            }
        }
        tables.planned();
        tables
    }

    /// Puts the tables of a plan in the place of the plan and of the names in it.
    fn planned(&mut self) {
        let Some(path) = self.main.as_deref().filter(|main| is_plan(main)) else { return };
        let path = Path::new(path).to_owned();
        let Ok(text) = std::fs::read_to_string(&path) else { return };
        let Ok(plan) = Plan::read(&path.display().to_string(), &text) else { return };
        let folder = path.parent().unwrap_or(Path::new(""));
        let names = names_of(&plan.references);
        for reference in &mut self.references {
            let nth = names.iter().position(|name| OsStr::new(name) == reference);
            if let Some(nth) = nth {
                *reference = folder.join(&plan.references[nth].table.text).into();
            }
        }
        self.main = Some(folder.join(&plan.main.table.text).into());
    }

    fn main(&self) -> Vec<String> {
        self.main.as_deref().map(headers_of).unwrap_or_default()
    }

    /// The headers of the last reference; of the main table where there is none.
    fn last(&self) -> Vec<String> {
        self.references.last().map_or_else(|| self.main(), |table| headers_of(table))
    }

    /// The headers of all tables, each once.
    fn all(&self) -> Vec<String> {
        let mut all = self.main();
        for header in self.references.iter().flat_map(|table| headers_of(table)) {
            if !all.contains(&header) {
                all.push(header);
            }
        }
        all
    }
}

/// The texts that what was typed for an option may become.
fn completed(option: &str, typed: &str, tables: &Tables) -> Vec<String> {
    // What is before the last character stays.
    let begun = typed.rfind([',', '=', '|', '{']).map_or(0, |at| at + 1);
    let (before, last) = typed.split_at(begun);
    let space = &last[..last.len() - last.trim_start().len()];
    let last = last.trim_start();
    let part = before.rsplit(',').next().unwrap_or_default();
    let is_right = part.contains('=');
    if before.ends_with('|') {
        return Vec::new();
    }
    let headers = match option {
        "--on" | "--update" if is_right => tables.last(),
        "--on" | "--update" | "--within" => tables.main(),
        "--columns" | "--drop" => tables.all(),
        _ => tables.last(),
    };
    let begins = |header: &String| header.to_lowercase().starts_with(&last.to_lowercase());
    let space = if space.is_empty() && before.ends_with([',', '=']) { " " } else { space };
    let all = headers.into_iter().filter(begins);
    all.map(|header| format!("{before}{space}{header}")).collect()
}

/// A word without the quotes and backslashes of a shell.
fn unquoted(word: &OsStr) -> String {
    let word = word.to_string_lossy();
    let (mut text, mut quote) = (String::new(), None);
    let mut characters = word.chars();
    while let Some(character) = characters.next() {
        match (character, quote) {
            ('\\', None | Some('"')) => text.extend(characters.next()),
            ('\'' | '"', None) => quote = Some(character),
            (character, Some(open)) if character == open => quote = None,
            _ => text.push(character),
        }
    }
    text
}

/// A word as a shell reads it without quotes.
fn escaped(text: &str) -> String {
    let mut escaped = String::new();
    for character in text.chars() {
        if !character.is_alphanumeric() && !"._-/+,@:%".contains(character) {
            escaped.push('\\');
        }
        escaped.push(character);
    }
    escaped
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_of_a_shell_are_read() {
        for (word, want) in [
            ("hives.csv", "hives.csv"),
            ("'a b'", "a b"),
            ("a\\ b", "a b"),
            ("'open en", "open en"),
            ("\"say \\\"x\\\"\"", "say \"x\""),
            ("'a\\b'", "a\\b"),
        ] {
            assert_eq!(unquoted(word.as_ref()), want, "{word}");
        }
        assert_eq!(escaped("Queen line"), "Queen\\ line");
        assert_eq!(unquoted(escaped("it's = {a} | b").as_ref()), "it's = {a} | b");
    }
}
