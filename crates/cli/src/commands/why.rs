//! `why`: one row or key, followed from what was read to what came of it.

use std::fmt::Write as _;

use gather_keys_core::diagnosis::Explained;
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::Written;
use gather_keys_core::lookup::{Answer, EntryId, Lookup, Miss, Reference, RowId};
use gather_keys_core::report::{Document, RowTrace};
use gather_keys_core::table::{Block, Headers, Row, Source};
use gather_keys_core::template::{BoundTemplate, Trace};

use super::Outcome;
use crate::aliases;
use crate::arguments::{TypedOptions, Why};
use crate::call::{Call, Purpose};
use crate::error::{Error, Result};
use crate::inputs::{Inputs, Loaded};
use crate::places::{self, place, reference_place};
use crate::summary::{self, as_written, held};
use crate::terminal::{STRONG, show};
use crate::typed::Asked;
use crate::wording::{self, counted, joined, wrapped};

/// How many candidates, or near rows, are shown.
const SHOWN: usize = 8;

/// Traces one main row or key through every lookup.
pub(crate) fn why(why: &Why, typed: TypedOptions) -> Result<Outcome> {
    let asked = Asked::typed(&why.tables, typed)?;
    // One row is traced through the whole of every reference.
    let call = Call { receipt: None, memory: None, ..Call::new(&asked, Purpose::Findings)? };
    let inputs = Inputs::open(&call, None).map_err(|error| asked.located(error))?;
    let notes = summary::notes(inputs.notes());
    let Loaded { mut main, enrichment, .. } = inputs.load(&call, call.threads, None)?;
    let (what, block, row) = match why.asked.row {
        Some(number) => {
            let (block, row) = find_row(&mut main, number)?;
            let name = main.headers().table();
            let place = place(number, block.line(row));
            (format!("{place} of {name}").replacen("row", "Row", 1), block, row)
        }
        None => {
            let block = row_of_values(main.headers(), &enrichment, &why.asked.key)?;
            (format!("A row of {} with this key", main.headers().table()), block, 0)
        }
    };
    let followed = enrichment.trace(&block, row);
    if why.printed.is_json() {
        let placed = (main.headers(), &block, row);
        let is_placed = why.asked.row.is_some();
        show(&RowTrace::of(&enrichment, placed, &followed, is_placed).json())?;
        return Ok(Outcome::Done);
    }
    let mut text = notes;
    for (nth, (lookup, followed)) in enrichment.lookups().zip(&followed).enumerate() {
        if nth > 0 {
            text.push('\n');
        }
        let row = Row::of(&block, row).with(&followed.added, 0).over(enrichment.overlay());
        let (main, answer) = (enrichment.headers(), followed.answer);
        let in_plan = asked.file.is_some();
        let traced = Traced { main, lookup, row, answer, in_plan };
        traced.tell(&mut text, &what);
        tell_updates(&mut text, enrichment.headers(), &followed.updated);
    }
    show(&text)?;
    Ok(Outcome::Done)
}

/// Reads on to a row, given by its number.
fn find_row(
    main: &mut (impl Source<Error = gather_keys_formats::Error> + ?Sized),
    number: u64,
) -> Result<(Block, usize)> {
    let mut block = Block::default();
    let mut rows = 0;
    while main.read_block(&mut block)? {
        if let Some(row) = number.checked_sub(block.row_number(0))
            && row < block.rows() as u64
        {
            return Ok((block, row as usize));
        }
        rows += block.rows() as u64;
    }
    Err(Error::NoSuchRow { table: main.headers().table().to_owned(), row: number, rows })
}

/// A main row that holds nothing but the given values, in the columns that the lookups ask with.
fn row_of_values(main: &Headers, enrichment: &Enrichment, values: &[String]) -> Result<Block> {
    let mut columns = Vec::new();
    for column in enrichment.lookups().flat_map(Lookup::columns) {
        if column < main.len() && !columns.contains(&column) {
            columns.push(column);
        }
    }
    if columns.len() != values.len() {
        let columns = columns.iter().map(|&column| format!("`{}`", main.address(column)));
        return Err(Error::KeyValues { given: values.len(), columns: columns.collect() });
    }
    let mut row = vec![""; main.len()];
    for (&column, value) in columns.iter().zip(values) {
        row[column] = value;
    }
    Ok(Block::of_rows(main.len(), &[row]))
}

/// One row and one lookup.
struct Traced<'a> {
    /// The main table's headers, and after them those of added columns.
    main: &'a Headers,
    lookup: &'a Lookup,
    row: Row<'a>,
    answer: Answer,
    /// Whether it is a plan that says how.
    in_plan: bool,
}

/// The updated cells of the row, before and after.
fn tell_updates(
    text: &mut String,
    headers: &Headers,
    updated: &[(usize, Written, String, String)],
) {
    for (column, written, now, new) in updated {
        let header = headers.address(*column);
        let words = match written {
            Written::Filled => format!("{header} is blank and gets {}.", shown(new)),
            Written::Replaced => format!("{header} is {} and becomes {}.", shown(now), shown(new)),
            Written::Erased => format!("{header} is {} and is erased.", shown(now)),
            Written::Same => format!("{header} is {} already.", shown(now)),
            Written::Left => format!(
                "{header} stays {}; {} of the reference does not replace it.",
                shown(now),
                shown(new)
            ),
        };
        let _ = writeln!(text, "  {}", wrapped(&words, 2, "    "));
    }
}

impl Traced<'_> {
    fn tell(&self, text: &mut String, what: &str) {
        let reference = self.lookup.reference();
        let _ = writeln!(text, "{STRONG}{what}{STRONG:#}, looked up in {}\n", reference.name());
        let key = self.lookup.key();
        let compared = key.as_compared(self.row);
        let mut said: Vec<(String, Vec<(String, String)>)> = Vec::new();
        if reference.is_by_position() {
            let _ =
                writeln!(text, "  Matched by position: row {0} with row {0}.", self.row.number());
        }
        let parts = key.parts().iter().zip(&compared).zip(self.lookup.on());
        for (nth, ((part, value), on)) in parts.enumerate() {
            said.push((format!("Part {}: {on}", nth + 1), self.part(part, Some(value))));
        }
        if let (Some(value), Some(on)) = (self.lookup.range_value(), self.lookup.on().last()) {
            said.push((format!("Range: {on}"), self.part(value, None)));
        }
        for naming in self.lookup.named_columns() {
            let template = naming.template();
            said.push((format!("Header: {}", template.template()), self.part(template, None)));
        }
        let widths = said.iter().flat_map(|(_, said)| said).map(|(what, _)| what.chars().count());
        let width = widths.max().unwrap_or(0).min(40);
        for (heading, said) in &said {
            let _ = writeln!(text, "  {}", wrapped(heading, 2, "    "));
            for (what, value) in said {
                let _ = writeln!(text, "    {what:width$}  {value}");
            }
        }
        text.push('\n');
        let compared: Vec<&str> = compared.iter().map(String::as_str).collect();
        self.tell_answer(text, &compared);
    }

    /// The trace of a template: how each value was read, and what became of it; with `compared`, what is
    /// compared in the end.
    fn part(&self, part: &BoundTemplate, compared: Option<&str>) -> Vec<(String, String)> {
        let mut said: Vec<(String, String)> = Vec::new();
        let traces: Vec<Trace> =
            part.trace(|column| self.row.cell(column), self.lookup.key().blanks());
        for trace in &traces {
            let header = self.main.address(trace.column);
            said.push((format!("{header} is read as"), shown(&trace.read)));
            if trace.counts_as_blank {
                said.push(("which counts as".to_owned(), "blank".to_owned()));
            }
            for step in &trace.steps {
                said.push(match &step.value {
                    Some(value) => (format!("`{}` makes it", step.step), shown(value)),
                    None => (format!("`{}`", step.step), "can't read it".to_owned()),
                });
            }
        }
        let is_read = traces.iter().all(|trace| trace.unreadable().is_none());
        if let (true, Some(compared)) = (is_read, compared) {
            said.push(("so it is compared as".to_owned(), shown(compared)));
        }
        said
    }

    fn tell_answer(&self, text: &mut String, compared: &[&str]) {
        let reference = self.lookup.reference();
        let name = reference.name();
        let entries = self.lookup.entries(self.row, self.answer);
        let rows = reference.rows_among(&entries);
        let hold = self.hold(rows.len());
        let on = || joined(&disagreement(reference, &rows), "and");
        let mut say = |words: &str| {
            let _ = writeln!(text, "  {}", wrapped(words, 2, "    "));
        };
        for alias in self.lookup.aliases_of(self.row) {
            let with = aliases::filled(&alias.reference);
            if alias.parts.len() == compared.len() {
                say(&format!(
                    "{name} does not have this key, but an alias replaces it with {with}."
                ));
            } else {
                let of = aliases::filled(&alias.main);
                say(&format!("{name} does not have this key; an alias replaces {of} with {with}."));
            }
        }
        match self.answer {
            Answer::Matched(_) if rows.len() == 1 => say(&format!("{hold}: matched.")),
            Answer::Matched(_) => say(&format!("{hold} and agree on what is taken: matched.")),
            Answer::Chosen { entry, .. } => say(&format!(
                "{hold} and disagree on {}; the rule chose {}: matched.",
                on(),
                places::rows(reference, &[reference.row(entry)])
            )),
            Answer::All { .. } => {
                say(&format!("{hold}, and the rule takes from all of them: matched."));
            }
            Answer::Ambiguous(_) => say(&format!(
                "{hold} and disagree on {}: ambiguous, so nothing is taken. Keep one of them, take \
                 only columns on which they agree, or choose with --when-duplicate which row counts.",
                on()
            )),
            Answer::BlankKey => {
                say("A part of the key is blank: blank key, so nothing is looked up. Fill in the \
                 cell.");
            }
            Answer::Malformed => self.tell_malformed(&mut say),
            Answer::Unmatched(Miss::Key) if reference.is_by_position() => say(&format!(
                "{name} has only {}: unmatched. Add the missing rows, or match it on a key.",
                counted(reference.rows(), "row")
            )),
            Answer::Unmatched(Miss::Key) => {
                say(&format!("No row of {name} has this key: unmatched."));
                self.tell_reason(text);
                tell_near(text, reference, compared);
            }
            Answer::Unmatched(Miss::Range(first)) => {
                let nearest = self.lookup.nearest_range(self.row, first);
                let nearest = nearest.and_then(|row| {
                    let place = reference_place(reference, row);
                    Some(format!("; the nearest is {}, {place}", reference.range_as_read(row)?))
                });
                say(&format!(
                    "{name} has this key, but no range with the value in it: unmatched{}. \
                     Add a row for the gap, or correct the bounds or the value.",
                    nearest.unwrap_or_default()
                ));
            }
            Answer::Unmatched(Miss::Header) => {
                let (header, nearest) = self.lookup.unknown_header(self.row).unwrap_or_default();
                let nearest: Vec<String> = nearest.iter().map(|near| format!("{near:?}")).collect();
                let nearest = match nearest.len() {
                    0 => String::new(),
                    1 => format!("; the nearest is {}", nearest[0]),
                    _ => format!("; the nearest are {}", joined(&nearest, "and")),
                };
                say(&format!(
                    "{name} holds this key, but has no header {header:?}: unmatched{nearest}. \
                     Correct the value, or add the column."
                ));
            }
        }
        tell_candidates(text, reference, &entries);
    }

    /// Why no row holds the key, which one comes nearest, and what would make them one.
    fn tell_reason(&self, text: &mut String) {
        let lookup = self.lookup;
        let reference = lookup.reference();
        let explained = Explained::of(lookup, self.row);
        let mut line = |words: &str| {
            let _ = writeln!(text, "  {}", wrapped(words, 2, "    "));
        };
        if let Some(entry) = explained.nearest {
            let place = reference_place(reference, reference.row(entry));
            let key = held(lookup, entry, wording::width());
            line(&format!(
                "Reason: {}. The nearest is {place}: {key}.",
                explained.reason.of(lookup)
            ));
        } else {
            line("Reason: nothing near.");
        }
        match explained.fix(lookup) {
            Some(on) => {
                line("It would match with");
                for part in as_written(&on, self.in_plan) {
                    let _ = writeln!(text, "      {part}");
                }
            }
            None => line(&format!("Correct the cell, or add the row to {}.", reference.name())),
        }
    }

    /// `2 rows of hives hold this key`.
    fn hold(&self, rows: usize) -> String {
        let name = self.lookup.reference().name();
        let range =
            if self.lookup.range_value().is_some() { " in a range with this value" } else { "" };
        match rows {
            1 => format!("One row of {name} has this key{range}"),
            _ => format!("{} of {name} have this key{range}", counted(rows as u64, "row")),
        }
    }

    fn tell_malformed(&self, say: &mut impl FnMut(&str)) {
        let is_step = |step: &str| step != "within";
        match self.lookup.unreadable(self.row) {
            Some(bad) if !is_step(&bad.step) => say(&format!(
                "{} is neither a number nor a date, as the bounds are: malformed, so nothing is \
                 looked up. Correct the cell, or convert it with a step.",
                shown(&bad.value)
            )),
            _ => {
                say(
                    "A step can't read its value: malformed, so nothing is looked up. Correct the \
                 cell, or put a step before the one that can't read it.",
                );
            }
        }
    }
}

/// A value in quotes, with characters that can't be seen spelled out.
fn shown(value: &str) -> String {
    if value.is_empty() { "blank".to_owned() } else { format!("{value:?}") }
}

/// The taken columns on which these rows disagree.
fn disagreement(reference: &Reference, rows: &[RowId]) -> Vec<String> {
    let cells: Vec<Vec<&str>> =
        rows.iter().map(|&row| reference.taken_cells(row).collect()).collect();
    let differs = |nth: &usize| cells.iter().any(|row| row[*nth] != cells[0][*nth]);
    let columns = (0..reference.taken().len()).filter(differs);
    columns.map(|nth| reference.headers().address(reference.taken()[nth])).collect()
}

fn tell_candidates(text: &mut String, reference: &Reference, entries: &[EntryId]) {
    for &entry in entries.iter().take(SHOWN) {
        let row = reference.row(entry);
        let columns = reference.taken().iter().zip(reference.taken_cells(row));
        let cells = columns
            .map(|(&column, cell)| format!("{} {cell:?}", reference.headers().address(column)));
        let mut reported: Vec<String> = cells.collect();
        if let Some(range) = reference.range_as_read(row) {
            reported.insert(0, format!("range {range}"));
        }
        let (read, compared) = (reference.as_read(entry), reference.as_compared(entry));
        if !compared.eq(read.iter().copied()) {
            reported.insert(0, format!("key read as {:?}", read.join(", ")));
        }
        let mut place = reference_place(reference, row);
        if let Some(column) = reference.column(entry) {
            place = format!("{place}, in {}", reference.headers().address(column));
        }
        let line = format!("{place}: {}", reported.join(", "));
        let line = line.trim_end_matches(": ");
        let _ = writeln!(text, "    {}", wrapped(line, 4, "      "));
    }
    if entries.len() > SHOWN {
        let _ = writeln!(text, "    and {} more", entries.len() - SHOWN);
    }
}

/// How far the key is from being there: which parts are, and which rows hold all parts but one.
fn tell_near(text: &mut String, reference: &Reference, compared: &[&str]) {
    let name = reference.name();
    let parts = reference.key().parts();
    if parts.len() < 2 {
        return;
    }
    let mut missing = false;
    for (nth, part) in parts.iter().enumerate() {
        let mut alone: Vec<Option<&str>> = vec![None; parts.len()];
        alone[nth] = Some(compared[nth]);
        let rows = reference.entries_with(&alone).count() as u64;
        missing |= rows == 0;
        let found = match rows {
            0 => "in no row".to_owned(),
            rows => format!("in {}", counted(rows, "row")),
        };
        let words = format!("{} is {} {found} of {name}.", part.template(), shown(compared[nth]));
        let _ = writeln!(text, "    {}", wrapped(&words, 4, "      "));
    }
    let mut near: Vec<(&BoundTemplate, usize, Vec<EntryId>)> = Vec::new();
    for (nth, part) in parts.iter().enumerate() {
        let mut others: Vec<Option<&str>> = compared.iter().map(|&value| Some(value)).collect();
        others[nth] = None;
        let rows: Vec<EntryId> = reference.entries_with(&others).collect();
        if !rows.is_empty() {
            near.push((part, nth, rows));
        }
    }
    // The fewer rows are left, the nearer they are.
    near.sort_by_key(|(.., rows)| rows.len());
    for (part, nth, rows) in &near {
        let held = rows.iter().filter_map(|&row| reference.as_compared(row).nth(*nth));
        let mut values: Vec<String> = held.map(shown).collect();
        values.sort_unstable();
        values.dedup();
        if values.len() > SHOWN {
            let rest = values.split_off(SHOWN).len();
            values.push(format!("{rest} more"));
        }
        let words = format!(
            "The rest of the key is in {} where {} is {}.",
            counted(rows.len() as u64, "row"),
            part.template(),
            joined(&values, "or")
        );
        let _ = writeln!(text, "    {}", wrapped(&words, 4, "      "));
    }
    if near.is_empty() && !missing {
        let _ = writeln!(text, "    Each part is there, but no row holds them together.");
    }
}
