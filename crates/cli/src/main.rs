//! Gather Keys on the command line.
//!
//! `arguments` says what may be typed; `typed` makes a plan of it, or reads one; `call` turns that
//! into a description of the run; `commands` and `run` carry it out; `summary` and `lists` tell what
//! was found. The computation is in
//! `gather-keys-core`, the files are in `gather-keys-formats`.

mod aliases;
mod allocator;
mod arguments;
mod call;
mod clashes;
mod commands;
mod corrections;
mod diagnoses;
mod edits;
mod entered;
mod error;
mod found_sheet;
mod inputs;
mod lines;
mod lists;
mod matched_sample;
mod mistyped;
mod nearby;
mod output;
mod pass;
mod peek;
mod places;
mod process_title;
mod progress;
mod receipts;
mod report;
mod run;
mod same_columns;
mod side_table;
mod signals;
mod standard_output;
mod summary;
mod targets;
mod terminal;
mod typed;
mod wording;

use std::panic;
use std::process::ExitCode;

use clap::FromArgMatches;

use arguments::{Arguments, Command, TypedOptions};
use commands::Outcome;
use error::{Error, Result};
use gather_keys_formats::without_passwords;
use terminal::ERROR;

fn main() -> ExitCode {
    let usual = panic::take_hook();
    panic::set_hook(Box::new(move |reported| {
        // A caught panic is reported as an error, in words.
        if gather_keys_formats::guarded_name().is_none() {
            usual(reported);
        }
    }));
    // The descriptions of the steps are long, and made only when asked for.
    let command = arguments::command().mut_subcommand("key", |key| key.defer(commands::with_steps));
    let words = process_title::arguments();
    let matches = match command.try_get_matches_from(words) {
        Ok(matches) => matches,
        Err(asked) if !asked.use_stderr() => asked.exit(),
        Err(error) => {
            if let Some(sentence) = mistyped::sentence(&error, words) {
                Error::Mistyped { sentence: without_passwords(&sentence) }.print();
                return ExitCode::from(2);
            }
            let text = without_passwords(&error.to_string());
            let rest = text.strip_prefix("error:").unwrap_or(&text);
            terminal::say(&format!("{ERROR}error:{ERROR:#}{rest}"));
            return ExitCode::from(2);
        }
    };
    match run(&matches) {
        Ok(Outcome::Done) => ExitCode::SUCCESS,
        Ok(Outcome::Stopped) => ExitCode::from(1),
        // The reader of the output has closed it.
        Err(error) if error.is_closed_pipe() => ExitCode::SUCCESS,
        Err(error) => {
            error.print();
            ExitCode::from(2)
        }
    }
}

fn run(matches: &clap::ArgMatches) -> Result<Outcome> {
    let arguments = Arguments::from_arg_matches(matches).unwrap_or_else(|error| error.exit());
    arguments.color.apply();
    if let Some(folder) = &arguments.temp_dir {
        if !folder.is_dir() {
            return Err(Error::NoTempDir { name: folder.display().to_string() });
        }
        // The folder named first takes precedence over the environment.
        let _ = tempfile::env::override_temp_dir(folder);
    }
    // Other commands have options of the same names, but of one table only.
    let of_tables = |(name, _): &(&str, _)| ["enrich", "check", "why", "review"].contains(name);
    let tables = matches.subcommand().filter(of_tables);
    let typed = tables.map(|(_, matches)| TypedOptions::of(matches)).transpose()?;
    let typed = typed.unwrap_or_default();
    signals::end_cleanly(matches!(arguments.command, Command::Watch(_)));
    match arguments.command {
        Command::Enrich(enrich) => commands::enrich(&enrich, typed),
        Command::Check(check) => commands::check(&check, typed),
        Command::Why(why) => commands::why(&why, typed),
        Command::Review(review) => commands::review(&review, typed),
        Command::Watch(watch) => commands::watch(&watch),
        Command::Find(find) => commands::find(&find),
        Command::Suggest(asked) => commands::suggest(&asked),
        Command::Survey(asked) => commands::survey(&asked),
        Command::Key(key) => commands::key(key),
        Command::Demo(demo) => commands::demo(&demo),
        Command::Completions(asked) => commands::completions(&asked),
        Command::Manual(asked) => commands::manual(&asked),
        Command::Headers(asked) => Ok(commands::headers(&asked)),
    }
}
