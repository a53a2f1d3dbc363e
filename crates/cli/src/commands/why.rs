//! `why`: one row or key, followed from what was read to what came of it.

use std::fmt::Write as _;
use std::io::Write as _;

use anstyle::Style;
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::lookup::{Answer, Lookup, Reference, RowId};
use gather_keys_core::table::{Block, Headers, Source};
use gather_keys_core::template::{Bound, Trace, Work};

use super::Outcome;
use crate::arguments::{TableArguments, Why};
use crate::call::{Call, NeedsTake};
use crate::error::{Error, Result};
use crate::inputs::Inputs;
use crate::summary::{self, place};
use crate::wording::{counted, joined, wrapped};

const STRONG: Style = Style::new().bold();

/// How many candidates, or near rows, are shown.
const SHOWN: usize = 8;

/// Traces one main row or key through every lookup.
pub(crate) fn why(why: &Why, tables: Vec<TableArguments>) -> Result<Outcome> {
    let call = Call::new(&why.tables, tables, &[], NeedsTake::No)?;
    let inputs = Inputs::open(call)?;
    let notes = summary::notes(&inputs.notes);
    let (mut main, enrichment) = inputs.load()?;
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
    let mut text = notes;
    for (nth, lookup) in enrichment.lookups().enumerate() {
        if nth > 0 {
            text.push('\n');
        }
        let asked = Asked { main: main.headers(), lookup, block: &block, row };
        asked.tell(&mut text, &what);
    }
    let name = "standard output".to_owned();
    let written = anstream::stdout().write_all(text.as_bytes());
    written.map_err(|cause| gather_keys_formats::Error::Write { name, cause })?;
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

/// A main row that holds nothing but the given values, in the columns that the keys are made from.
fn row_of_values(main: &Headers, enrichment: &Enrichment, values: &[String]) -> Result<Block> {
    let mut columns = Vec::new();
    for &column in enrichment.lookups().flat_map(|lookup| lookup.key().columns()) {
        if !columns.contains(&column) {
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
struct Asked<'a> {
    main: &'a Headers,
    lookup: &'a Lookup,
    block: &'a Block,
    row: usize,
}

impl Asked<'_> {
    fn tell(&self, text: &mut String, what: &str) {
        let reference = self.lookup.reference();
        let _ = writeln!(text, "{STRONG}{what}{STRONG:#}, looked up in {}\n", reference.name());
        let key = self.lookup.key();
        let read: Vec<&str> = key.as_read(self.block, self.row).collect();
        let compared = key.as_compared(self.block, self.row);
        let pairs = summary::on_pairs(self.lookup);
        let traces = key.trace(&read);
        let said = traces.iter().zip(&compared).map(|(traces, value)| self.part(traces, value));
        let said: Vec<Vec<(String, String)>> = said.collect();
        let widths = said.iter().flatten().map(|(what, _)| what.chars().count());
        let width = widths.max().unwrap_or(0).min(40);
        for ((nth, said), pair) in said.iter().enumerate().zip(pairs) {
            let part = format!("Part {}: {pair}", nth + 1);
            let _ = writeln!(text, "  {}", wrapped(&part, 2, "    "));
            for (what, value) in said {
                let _ = writeln!(text, "    {what:width$}  {value}");
            }
        }
        text.push('\n');
        let compared: Vec<&str> = compared.iter().map(String::as_str).collect();
        self.tell_answer(text, &compared);
    }

    /// What there is to say of a part: how each value was read, and what became of it.
    fn part(&self, traces: &[Trace], compared: &str) -> Vec<(String, String)> {
        let mut said: Vec<(String, String)> = Vec::new();
        for trace in traces {
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
        if traces.iter().all(|trace| trace.unreadable().is_none()) {
            said.push(("so it is compared as".to_owned(), shown(compared)));
        }
        said
    }

    fn tell_answer(&self, text: &mut String, compared: &[&str]) {
        let reference = self.lookup.reference();
        let name = reference.name();
        let answer =
            self.lookup.answer(self.block, self.row, &mut String::new(), &mut Work::default());
        let mut say = |words: &str| {
            let _ = writeln!(text, "  {}", wrapped(words, 2, "    "));
        };
        match answer {
            Answer::Matched(first) => {
                let rows: Vec<RowId> = reference.rows_of(first).collect();
                match rows.len() {
                    1 => say(&format!("One row of {name} holds this key: matched.")),
                    count => say(&format!(
                        "{} of {name} hold this key and agree on what is taken: matched.",
                        counted(count as u64, "row")
                    )),
                }
                tell_candidates(text, reference, &rows);
            }
            Answer::Chosen { first, row } => {
                let rows: Vec<RowId> = reference.rows_of(first).collect();
                let on = joined(&disagreement(reference, &rows), "and");
                say(&format!(
                    "{} of {name} hold this key and disagree on {on}; the rule chose row {}: \
                     matched.",
                    counted(rows.len() as u64, "row"),
                    row.number()
                ));
                tell_candidates(text, reference, &rows);
            }
            Answer::All(first) => {
                let rows: Vec<RowId> = reference.rows_of(first).collect();
                say(&format!(
                    "{} of {name} hold this key, and the rule takes from all of them: matched.",
                    counted(rows.len() as u64, "row")
                ));
                tell_candidates(text, reference, &rows);
            }
            Answer::Ambiguous(first) => {
                let rows: Vec<RowId> = reference.rows_of(first).collect();
                let on = joined(&disagreement(reference, &rows), "and");
                say(&format!(
                    "{} of {name} hold this key and disagree on {on}: ambiguous, so nothing is \
                     taken. Keep one of them, take only columns on which they agree, or say with \
                     --when-duplicate which counts.",
                    counted(rows.len() as u64, "row")
                ));
                tell_candidates(text, reference, &rows);
            }
            Answer::BlankKey => {
                say("A part of the key is blank: blank key, so nothing is looked up. Fill in the \
                 cell.");
            }
            Answer::Malformed => {
                say(
                    "A step can't read its value: malformed, so nothing is looked up. Correct the \
                 cell, or put a step before the one that can't read it.",
                );
            }
            Answer::Unmatched => {
                say(&format!("No row of {name} holds this key: unmatched."));
                tell_near(text, reference, compared);
                let advice = format!(
                    "Correct the cell, add the row to {name}, or let steps make the two spellings \
                     one."
                );
                let _ = writeln!(text, "  {}", wrapped(&advice, 2, "    "));
            }
        }
    }
}

/// A value in quotes, with signs that can't be seen spelled out.
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

fn tell_candidates(text: &mut String, reference: &Reference, rows: &[RowId]) {
    for &row in rows.iter().take(SHOWN) {
        let columns = reference.taken().iter().zip(reference.taken_cells(row));
        let cells = columns
            .map(|(&column, cell)| format!("{} {cell:?}", reference.headers().address(column)));
        let mut told: Vec<String> = cells.collect();
        let (read, compared) = (reference.as_read(row), reference.as_compared(row));
        if !compared.eq(read.iter().copied()) {
            told.insert(0, format!("key read as {:?}", read.join(", ")));
        }
        let place = place(row.number(), reference.line(row));
        let line = format!("{place}: {}", told.join(", "));
        let _ = writeln!(text, "    {}", wrapped(&line, 4, "      "));
    }
    if rows.len() > SHOWN {
        let _ = writeln!(text, "    and {} more", rows.len() - SHOWN);
    }
}

/// How far the key is from being there: which parts are, and which rows hold all parts but one.
fn tell_near(text: &mut String, reference: &Reference, compared: &[&str]) {
    let name = reference.name();
    let parts = reference.key().parts();
    if parts.len() == 1 {
        return;
    }
    let mut missing = false;
    for (nth, part) in parts.iter().enumerate() {
        let mut alone: Vec<Option<&str>> = vec![None; parts.len()];
        alone[nth] = Some(compared[nth]);
        let rows = reference.rows_with(&alone).count() as u64;
        missing |= rows == 0;
        let found = match rows {
            0 => "in no row".to_owned(),
            rows => format!("in {}", counted(rows, "row")),
        };
        let words = format!("{} is {} {found} of {name}.", part.template(), shown(compared[nth]));
        let _ = writeln!(text, "    {}", wrapped(&words, 4, "      "));
    }
    let mut near: Vec<(&Bound, usize, Vec<RowId>)> = Vec::new();
    for (nth, part) in parts.iter().enumerate() {
        let mut others: Vec<Option<&str>> = compared.iter().map(|&value| Some(value)).collect();
        others[nth] = None;
        let rows: Vec<RowId> = reference.rows_with(&others).collect();
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
