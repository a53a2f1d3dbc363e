//! `manual`: a page for each command, as `man` shows them.

use std::fmt::Write as _;
use std::io::{self, Write};
use std::path::Path;

use clap::Command;
use clap_mangen::Man;

use super::Outcome;
use crate::arguments::{Manual, shown_commands};
use crate::error::Result;
use crate::terminal::say;
use crate::wording::{counted, wrapped};

/// Writes the pages to a folder.
pub(crate) fn manual(asked: &Manual) -> Result<Outcome> {
    let folder = &asked.folder;
    let name = folder.display().to_string();
    let refused = |cause| gather_keys_formats::Error::Write { name: name.clone(), cause };
    std::fs::create_dir_all(folder).map_err(refused)?;
    let mut command = shown_commands().disable_help_subcommand(true);
    command.build();
    let pages = write_pages(&command, folder).map_err(refused)?;
    let words = format!(
        "Wrote {} to {name}; to read the first: man {name}/gather-keys.1",
        counted(pages, "page")
    );
    say(&format!("{}\n", wrapped(&words, 0, "  ")));
    Ok(Outcome::Done)
}

/// Writes the page of a command, and those of its own commands; gives how many.
fn write_pages(command: &Command, folder: &Path) -> io::Result<u64> {
    let name = command.get_display_name().unwrap_or_else(|| command.get_name()).to_owned();
    let examples = command.get_after_long_help().or(command.get_after_help());
    let examples = examples.map(ToString::to_string).unwrap_or_default();
    let man = Man::new(command.clone());
    let mut page = Vec::new();
    man.render_title(&mut page)?;
    man.render_name_section(&mut page)?;
    man.render_synopsis_section(&mut page)?;
    man.render_description_section(&mut page)?;
    man.render_options_section(&mut page)?;
    if command.has_subcommands() {
        man.render_subcommands_section(&mut page)?;
    }
    write_examples(&examples, &mut page)?;
    std::fs::write(folder.join(format!("{name}.1")), in_ascii(&String::from_utf8_lossy(&page)))?;
    let mut pages = 1;
    for other in command.get_subcommands() {
        pages += write_pages(other, folder)?;
    }
    Ok(pages)
}

/// A page without characters that only some programs read.
fn in_ascii(page: &str) -> String {
    let mut text = String::new();
    for character in page.chars() {
        if character.is_ascii() {
            text.push(character);
        } else {
            // A string takes whatever is written.
            let _ = write!(text, "\\[u{:04X}]", u32::from(character));
        }
    }
    text
}

/// Writes examples line by line: a command must not be wrapped again.
fn write_examples(examples: &str, page: &mut Vec<u8>) -> io::Result<()> {
    if examples.is_empty() {
        return Ok(());
    }
    let (heading, lines) = match examples.split_once(":\n") {
        Some((heading, lines)) if heading.lines().count() == 1 => (heading, lines),
        _ => ("More", examples),
    };
    writeln!(page, ".SH {}\n.nf", heading.to_uppercase())?;
    for line in lines.lines() {
        // A line that begins with a point or an apostrophe would be a request.
        let guard = if line.starts_with(['.', '\'']) { "\\&" } else { "" };
        let line = line.replace('\\', "\\e").replace('-', "\\-").replace('\'', "\\(aq");
        writeln!(page, "{guard}{line}")?;
    }
    writeln!(page, ".fi")
}
