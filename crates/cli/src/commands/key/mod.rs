//! `key make`, `key split` and `key test`: a key by itself.

mod lists;
mod make;
mod split;
mod test;

use std::fmt::Write as _;

use gather_keys_core::lookup::Reference;
use gather_keys_core::plan::{Held, OnPart, parse_blanks};
use gather_keys_core::table::{Headers, Source};
use gather_keys_core::template::steps::{self, StepKind};
use gather_keys_core::template::{BoundTemplate, Template, read_steps};
use gather_keys_formats::Address;

use super::Outcome;
use crate::arguments::{self, KeyOutput, KeyTable};
use crate::call::Table;
use crate::clashes;
use crate::error::{Error, Result};
use crate::inputs::{OpenTable, open};
use crate::lines::{Lines, plural};
use crate::output::{self, Output};
use crate::places::{labelled, place, reference_place, rows, unread};
use crate::progress::Meter;
use crate::terminal::{GOOD, PLAIN, STRONG, TROUBLE, say};
use crate::wording::{self, counted, wrapped};

/// How many of a trouble are shown.
const SHOWN: usize = gather_keys_core::findings::SAMPLES;

/// Carries out a `key` command.
pub(crate) fn key(key: arguments::Key) -> Result<Outcome> {
    match key {
        arguments::Key::Make(make) => make::make(make),
        arguments::Key::Split(split) => split::split(split),
        arguments::Key::Test(test) => test::test(test),
    }
}

/// Adds the steps to the help of `key`.
pub(crate) fn with_steps(key: clap::Command) -> clap::Command {
    key.after_help("").after_long_help(steps_help())
}

fn steps_help() -> String {
    let mut text = "Steps, in placeholders and after headers: {Hive | tidy | last 3}\n".to_owned();
    for StepKind { form, does, .. } in steps::ALL {
        let _ = write!(text, "\n  {form}\n      {}", wrapped(does, 6, "      "));
    }
    text
}

/// A table with the templates that were given for it.
struct Keyed {
    address: Address,
    source: OpenTable,
    parts: Vec<BoundTemplate>,
    blanks: Vec<String>,
}

impl Keyed {
    /// Opens the table of a key whose parts are these templates; with `are_listed`, each text may hold several parts,
    /// separated by commas as in `--on`.
    fn open(named: &KeyTable, templates: &[String], are_listed: bool) -> Result<Self> {
        let table = Table::formed(&named.table, &named.form)?;
        let clean = match &named.clean {
            Some(text) => read_steps("clean", text)?,
            None => Vec::new(),
        };
        let blanks = match &named.blank {
            Some(text) => parse_blanks(text)?,
            None => Vec::new(),
        };
        let mut read = Vec::new();
        for text in templates {
            if are_listed {
                for part in OnPart::parse(text)? {
                    match part.reference {
                        Held::Made(template) if template == part.main => {
                            read.push(template.cleaned(&clean));
                        }
                        _ => return Err(Error::NotOneTable { part: part.to_string() }),
                    }
                }
            } else {
                read.push(Template::parse("template", text)?.cleaned(&clean));
            }
        }
        let source = open(&table, &Meter::default(), &mut None)?;
        let bind = |template: Template| Ok(template.bind(source.headers())?);
        let parts = read.into_iter().map(bind).collect::<Result<_>>()?;
        Ok(Self { address: table.address, source, parts, blanks })
    }
}

/// Begins the output; with `held`, nothing of it reaches standard output before it appears.
fn begin_output(address: &Address, output: &KeyOutput, held: bool) -> Result<Output> {
    let to = Address::new(&output.output);
    clashes::refuse_input(&to, address)?;
    if !to.is_text() || matches!(to, Address::Server(_)) {
        return Err(Error::KeyWritesText { name: to.to_string() });
    }
    if to == Address::Standard {
        output::refuse_standard(&[address])?;
    }
    Output::create(&to, output.overwrite, held, false)
}

fn head(text: &mut String, what: &str, headers: &Headers, template: &str) {
    let facts = format!(": {}, by {template}", headers.table());
    let facts = wrapped(&facts, what.chars().count(), "  ");
    let _ = writeln!(text, "{STRONG}{what}{STRONG:#}{facts}\n");
}

/// How many keys there are, and what is in the way of each being one row's.
fn tell_census(text: &mut String, lines: &Lines, census: &Reference) {
    let room = lines.room();
    let row = |place: String, key: Vec<&str>| labelled(&place, key.into_iter(), "", room);
    lines.line(text, ("rows", census.rows(), ""), PLAIN, (&[], 0));
    lines.line(text, ("distinct", census.keys(), &plural(census.keys(), "key")), GOOD, (&[], 0));

    let mut groups: Vec<_> = census.groups().collect();
    groups.sort_by_key(|group| std::cmp::Reverse(group.rows.len()));
    let largest = groups.iter().take(SHOWN).map(|group| {
        let key = census.as_read(group.entries[0]);
        let held = counted(group.rows.len() as u64, "row");
        let named = rows(census, &group.rows);
        row(format!("{held} ({})", named.trim_start_matches("rows ")), key)
    });
    let measure = plural(groups.len() as u64, "key");
    let largest = largest.collect::<Vec<_>>();
    lines.line(
        text,
        ("repeated", groups.len() as u64, &measure),
        TROUBLE,
        (&largest, groups.len() as u64),
    );

    let blank = census.keyless().iter().take(SHOWN);
    let blank = blank.map(|&id| row(reference_place(census, id), census.row_as_read(id)));
    let count = census.keyless().len() as u64;
    let measure = plural(count, "row");
    lines.line(text, ("blank key", count, &measure), TROUBLE, (&blank.collect::<Vec<_>>(), count));

    let count = census.malformed().len() as u64;
    if count > 0 {
        let malformed = census.malformed().iter().take(SHOWN).filter_map(|&id| {
            let unreadable = census.unreadable(id)?;
            let place = reference_place(census, id);
            Some(unread(&place, census.headers(), &unreadable, room))
        });
        let measure = plural(count, "row");
        lines.line(
            text,
            ("malformed", count, &measure),
            TROUBLE,
            (&malformed.collect::<Vec<_>>(), count),
        );
    }
}

fn samples(rows: &[(u64, u64, String)], room: usize) -> Vec<String> {
    let row = |(row, line, value): &(u64, u64, String)| {
        let place = place(*row, *line);
        let left = room.saturating_sub(place.chars().count() + 2);
        format!("{place}: {}", wording::cell(value, left.max(12)))
    };
    rows.iter().map(row).collect()
}

fn tell(quiet: bool, text: &str) {
    if !quiet {
        say(text);
    }
}
