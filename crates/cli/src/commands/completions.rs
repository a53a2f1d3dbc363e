//! `completions`: what a shell needs to complete a command line, with the headers of the tables on it.

use clap_complete::{Shell, generate};

use super::Outcome;
use crate::arguments::{Completions, shown_commands};
use crate::error::Result;
use crate::terminal::show;

/// The name of the program.
const NAME: &str = "gather-keys";
const NAME_FOR_BASH: &str = "gather_keys";

/// What bash completes after options that name columns.
const BASH: &str = include_str!("completions/headers.bash");

/// The same for fish.
const FISH: &str = include_str!("completions/headers.fish");

/// Prints the completions of a shell.
pub(crate) fn completions(asked: &Completions) -> Result<Outcome> {
    let mut script = Vec::new();
    // In a script for bash, the generator takes a hyphen in the name for the end of it.
    let name = if asked.shell == Shell::Bash { NAME_FOR_BASH } else { NAME };
    generate(asked.shell, &mut shown_commands(), name, &mut script);
    let script = String::from_utf8_lossy(&script);
    let script = match asked.shell {
        Shell::Bash => {
            let registered = format!(" {NAME_FOR_BASH}\n");
            format!("{}{BASH}", script.replace(&registered, &format!(" {NAME}\n")))
        }
        Shell::Fish => format!("{script}{FISH}"),
        _ => script.into_owned(),
    };
    show(&script)?;
    Ok(Outcome::Done)
}
