//! `key make`, `key split` and `key test`: a key by itself.

use std::fmt::Write as _;

use gather_keys_core::findings::{Counts, Gate, Kind};
use gather_keys_core::key::Key;
use gather_keys_core::lookup::Reference;
use gather_keys_core::plan::parse_blanks;
use gather_keys_core::survey::key_column;
use gather_keys_core::table::{Headers, Source};
use gather_keys_core::template::steps::{self, StepKind};
use gather_keys_core::template::{BoundTemplate, Template, read_steps};
use gather_keys_formats::Address;

use super::Outcome;
use crate::arguments::{self, KeyMake, KeyOutput, KeySplit, KeyTable, KeyTest};
use crate::call::Table;
use crate::clashes;
use crate::error::{Error, Result};
use crate::inputs::{OpenTable, open, seed};
use crate::lines::{Lines, plural};
use crate::output::{self, Form, Output};
use crate::places::{labelled, place, reference_place, rows, unread};
use crate::progress::Meter;
use crate::summary;
use crate::terminal::{GOOD, PLAIN, STRONG, TROUBLE, say, show};
use crate::wording::{self, counted, joined, share, wrapped};

/// How many of a trouble are shown.
const SHOWN: usize = gather_keys_core::findings::SAMPLES;

/// Carries out a `key` command.
pub(crate) fn key(key: arguments::Key) -> Result<Outcome> {
    match key {
        arguments::Key::Make(make) => key_make(make),
        arguments::Key::Split(split) => key_split(split),
        arguments::Key::Test(test) => key_test(test),
    }
}

/// Adds the steps to the help of `key`.
pub(crate) fn with_steps(key: clap::Command) -> clap::Command {
    key.after_help(steps_help())
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
    fn open(named: &KeyTable, templates: &[String]) -> Result<Self> {
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
            read.push(Template::parse("template", text)?.cleaned(&clean));
        }
        let source = open(&table, &Meter::default(), &mut None)?;
        let bind = |template: Template| Ok(template.bind(source.headers())?);
        let parts = read.into_iter().map(bind).collect::<Result<_>>()?;
        Ok(Self { address: table.address, source, parts, blanks })
    }
}

fn begin_output(address: &Address, output: &KeyOutput) -> Result<Output> {
    let to = Address::new(&output.output);
    clashes::refuse_input(&to, address)?;
    if !to.is_text() || matches!(to, Address::Server(_)) {
        return Err(Error::KeyWritesText { name: to.to_string() });
    }
    if to == Address::Standard {
        output::refuse_standard(&[address])?;
    }
    Output::create(&to, output.overwrite, false, false)
}

fn key_make(make: KeyMake) -> Result<Outcome> {
    let KeyMake { table, template, header, output } = make;
    let quiet = table.quiet;
    let Keyed { address, mut source, parts, blanks } = Keyed::open(&table, &[template])?;
    let [template] = &parts[..] else { return Ok(Outcome::Done) };
    let mut out = begin_output(&address, &output)?;
    let name = key_column::made_name(&header, source.headers());
    let form = Form::like(source.layout(), &Address::new(&output.output), None);
    let mut writer = out.writer(&form)?;
    let made = key_column::make(&mut source, &mut writer, template, &blanks, &name, seed())?;
    output::finish(writer)?;
    let to = out.name();
    out.appear(source.file())?;

    let mut text = String::new();
    if name != header {
        text.push_str(&summary::notes(&[gather_keys_core::enrich::Note::Renamed {
            wanted: header,
            given: name.clone(),
        }]));
    }
    head(&mut text, &name, source.headers(), &template.template().to_string());
    let lines = Lines::up_to(made.census.rows());
    tell_census(&mut text, &lines, &made.census);
    let behind: Vec<String> = samples(&made.samples, lines.room());
    let measure = plural(made.inseparable, "row");
    lines.line(
        &mut text,
        ("inseparable", made.inseparable, &measure),
        TROUBLE,
        (&behind, made.inseparable),
    );
    if made.census.groups().next().is_some() {
        text.push('\n');
        let advice = "repeated: the key is not unique; add a column to the template that \
                      distinguishes these rows.";
        summary::paragraph(&mut text, 2, advice);
    }
    if made.inseparable > 0 {
        let advice = "inseparable: the template can't split these keys again, because a value contains \
                      the text between the parts; put another text there.";
        text.push('\n');
        summary::paragraph(&mut text, 2, advice);
    }
    let rows = counted(made.census.rows(), "row");
    let _ = writeln!(text, "\n{}", wrapped(&format!("Wrote {rows} to {to}."), 0, "  "));
    tell(quiet, &text);
    Ok(Outcome::Done)
}

fn key_split(split: KeySplit) -> Result<Outcome> {
    let KeySplit { table, template, column, output } = split;
    let quiet = table.quiet;
    let template = Template::parse("template", &template)?;
    let Keyed { address, mut source, .. } = Keyed::open(&table, &[])?;
    let found = source.headers().find(&column)?;
    let names = key_column::split_names(&template, source.headers());
    let mut out = begin_output(&address, &output)?;
    let form = Form::like(source.layout(), &Address::new(&output.output), None);
    let mut writer = out.writer(&form)?;
    let taken = key_column::split(&mut source, &mut writer, &template, found.column, &names)?;
    output::finish(writer)?;
    let to = out.name();
    out.appear(source.file())?;

    let mut text = String::new();
    head(&mut text, source.headers().name(found.column), source.headers(), &template.to_string());
    let lines = Lines::up_to(taken.rows);
    let split = taken.rows - taken.blank - taken.no_way - taken.several_ways;
    let [no_way, several] = &taken.samples;
    for (label, count, style, samples) in [
        ("split", split, GOOD, Vec::new()),
        ("blank", taken.blank, PLAIN, Vec::new()),
        ("not fitting", taken.no_way, TROUBLE, samples(no_way, lines.room())),
        ("many ways", taken.several_ways, TROUBLE, samples(several, lines.room())),
    ] {
        let measure = format!("{:>8}", share(count, taken.rows));
        lines.line(&mut text, (label, count, &measure), style, (&samples, count));
    }
    lines.total(&mut text, taken.rows);
    text.push('\n');
    if taken.no_way > 0 {
        let advice = "not fitting: the value does not fit the template; correct it, or split these rows \
                      with another template.";
        summary::paragraph(&mut text, 2, advice);
    }
    if taken.several_ways > 0 {
        let advice = "many ways: the value fits the template in more than one way, so it is not split; \
                      a part must not contain the text between the parts.";
        summary::paragraph(&mut text, 2, advice);
    }
    if taken.no_way + taken.several_ways > 0 {
        text.push('\n');
    }
    let rows = counted(taken.rows, "row");
    let written = format!(
        "Wrote {rows} to {to}, with {} ({}).",
        counted(names.len() as u64, "added column"),
        joined(&names, "and")
    );
    let _ = writeln!(text, "{}", wrapped(&written, 0, "  "));
    tell(quiet, &text);
    Ok(Outcome::Done)
}

fn key_test(test: KeyTest) -> Result<Outcome> {
    let KeyTest { table, templates, require } = test;
    let quiet = table.quiet;
    let Keyed { address, mut source, parts, blanks } = Keyed::open(&table, &templates)?;
    let stem = address.stem();
    let mut gates = Vec::new();
    for text in &require {
        let gate = Gate::parse(text)?;
        gate.check_names(std::slice::from_ref(&stem))?;
        if !Counts::OF_A_TABLE.contains(&gate.kind()) {
            return Err(Error::NotOfATable { gate: text.clone() });
        }
        gates.push(gate);
    }
    let key = Key::new(parts, blanks);
    let builder = key_column::census(&stem, source.headers(), key, seed());
    let census = Reference::load(builder, &mut source)?;

    let counts = Counts::of_table(&census);
    let mut text = String::new();
    if !quiet {
        let parts = census.key().parts().iter().map(|part| part.template().to_string());
        head(&mut text, &stem, source.headers(), &parts.collect::<Vec<_>>().join(", "));
        tell_census(&mut text, &Lines::up_to(census.rows()), &census);
        let _ = writeln!(text, "\n{}", wrapped(&verdict(&census, &counts), 0, "  "));
    }
    let results: Vec<_> =
        gates.iter().flat_map(|gate| gate.results([(&stem[..], &counts)])).collect();
    text.push_str(&summary::gates(&results, quiet));
    show(&text)?;
    let holds = results.iter().all(|gate| gate.holds);
    Ok(if holds { Outcome::Done } else { Outcome::Stopped })
}

/// Whether the columns are a key, in a sentence.
fn verdict(census: &Reference, counts: &Counts) -> String {
    let troubles: Vec<String> = [
        (counts.of(Kind::Repeated), "key", "on several rows"),
        (counts.of(Kind::BlankKey), "row", "with a blank part"),
        (counts.of(Kind::Malformed), "row", "with a value that a step can't read"),
    ]
    .into_iter()
    .filter(|(count, ..)| *count > 0)
    .map(|(count, thing, what)| format!("{} {what}", counted(count, thing)))
    .collect();
    let table = census.headers().table();
    match &troubles[..] {
        [] => format!("This is a key of {table}: each row has one, and no two have the same."),
        _ => format!("This is not a key of {table}: it has {}.", joined(&troubles, "and")),
    }
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
