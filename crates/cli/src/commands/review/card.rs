//! A question as it is shown: what it is about, and what may be chosen, in words and cells.
//!
//! In go a question of a round with its candidates; out comes a [`Card`] that the screen and the plain prompts show, each in
//! its way.

use gather_keys_core::diagnosis::Reason;
use gather_keys_core::lookup::{EntryId, Lookup};
use gather_keys_core::review::{About, Candidate, Question, differing};
use gather_keys_core::table::Headers;

use super::round::Round;
use crate::aliases;
use crate::places::{place, reference_place};
use crate::wording::{counted, joined, number};

/// A question as it is shown.
#[derive(Debug, Clone, Default)]
pub(super) struct Card {
    /// What it is about, in a sentence.
    pub(super) heading: String,
    /// The cells of the main table.
    pub(super) fields: Vec<(String, Marked)>,
    /// What is known of it, in sentences.
    pub(super) known: Vec<String>,
    /// The question itself.
    pub(super) question: String,
    /// The headers of the choices, and the cells of each.
    pub(super) headers: Vec<String>,
    pub(super) choices: Vec<Vec<Marked>>,
    /// What happened before, such as an answer that was taken back.
    pub(super) note: Option<String>,
}

/// A text, and which of its characters differ from the other side.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Marked {
    pub(super) text: String,
    pub(super) marks: Vec<bool>,
}

impl Marked {
    /// A text without marks.
    pub(super) fn plain(text: &str) -> Self {
        Self { text: text.to_owned(), marks: vec![false; text.chars().count()] }
    }

    /// A text with marks where another lacks its characters.
    fn against(text: &str, other: &str) -> Self {
        Self { text: text.to_owned(), marks: differing(text, other) }
    }
}

impl Card {
    /// The card of a question. With a text that was searched for, the candidates are what was found.
    pub(super) fn of(
        round: &Round,
        question: &Question,
        candidates: &[Candidate],
        searched: Option<&str>,
    ) -> Self {
        let lookup = round.lookup(question);
        let mut card = match &question.about {
            About::Key(at) => Self::of_key(round, (question, *at), lookup, candidates),
            About::Value { part, keys } => {
                Self::of_value(round, (question, *part, keys), lookup, candidates)
            }
            About::Disputed(at) => Self::of_disputed(round, (question, *at), lookup, candidates),
            About::Unreadable(at) => {
                Self::of_unreadable(round, (question, *at), lookup, candidates)
            }
        };
        if let Some(searched) = searched {
            card.note = Some(match candidates {
                [] => format!("Nothing with `{searched}`; / searches again."),
                _ => format!("Found with `{searched}`:"),
            });
        }
        card
    }

    fn of_key(
        round: &Round,
        (question, at): (&Question, usize),
        lookup: &Lookup,
        candidates: &[Candidate],
    ) -> Self {
        let name = lookup.reference().name();
        let key = &round.findings.lookups[question.lookup].unmatched.keys()[at];
        let explained = round.diagnoses[question.lookup].as_ref();
        let reason = explained.map(|diagnosis| &diagnosis.explained[at].reason);
        // That nothing is near shows by itself.
        let reason = reason.filter(|reason| !matches!(reason, Reason::Nothing | Reason::NotSought));
        let reason = reason.map(|reason| reason.of(lookup));
        let cells: Vec<&str> = key.read().collect();
        let parts: Vec<Option<&str>> = key.parts().map(Some).collect();
        let rows = of_rows(question.rows, (key.row, key.line), &round.main);
        Self {
            heading: format!("{name} has no row with this key. It is {rows}."),
            known: reason.into_iter().map(|reason| sentence(&reason)).collect(),
            question: "Which key is meant?".to_owned(),
            ..Self::of_keys(round, (lookup, &cells, &parts), candidates)
        }
    }

    fn of_value(
        round: &Round,
        (question, part, keys): (&Question, usize, &[usize]),
        lookup: &Lookup,
        candidates: &[Candidate],
    ) -> Self {
        let reference = lookup.reference();
        let all = round.findings.lookups[question.lookup].unmatched.keys();
        let key = &all[keys[0]];
        let cells: Vec<&str> = key.read().collect();
        let places = &aliases::parts(lookup)[part];
        let headers = lookup.key().columns();
        let theirs = |one: &Candidate| -> Vec<String> {
            let cells = reference.as_read(one.entry);
            places.theirs.iter().map(|&at| cells[at].to_owned()).collect()
        };
        let first = candidates.first().map(theirs).unwrap_or_default();
        let is_pair = places.ours.len() == places.theirs.len();
        let fields = places.ours.iter().enumerate().map(|(nth, &at)| {
            let other = first.get(nth).filter(|_| is_pair);
            let header = round.enrichment.headers().address(headers[at]);
            (header, other.map_or(Marked::plain(cells[at]), |o| Marked::against(cells[at], o)))
        });
        let names = reference.key().columns();
        let their_headers = places.theirs.iter().map(|&at| reference.headers().address(names[at]));
        let choices = candidates.iter().map(|one| {
            let cells_there = theirs(one);
            let marked =
                cells_there.iter().enumerate().map(|(nth, cell)| match places.ours.get(nth) {
                    Some(&at) if is_pair => Marked::against(cell, cells[at]),
                    _ => Marked::plain(cell),
                });
            let rows = format!("{} of {}", number(one.rows), number(question.rows));
            marked.chain([Marked::plain(&rows)]).collect()
        });
        let rows = of_rows(question.rows, (key.row, key.line), &round.main);
        Self {
            heading: format!(
                "{} has no row with this value. It is in {}, {rows}.",
                reference.name(),
                counted(keys.len() as u64, "key")
            ),
            fields: fields.collect(),
            question: "Which value is meant, in all these keys?".to_owned(),
            headers: their_headers.chain(["rows it matches".to_owned()]).collect(),
            choices: choices.collect(),
            ..Self::default()
        }
    }

    fn of_disputed(
        round: &Round,
        (question, at): (&Question, usize),
        lookup: &Lookup,
        candidates: &[Candidate],
    ) -> Self {
        let reference = lookup.reference();
        let key = &round.gathered.disputed(question.lookup)[at];
        let columns = lookup.columns();
        let fields = columns.iter().zip(&key.cells).map(|(&column, cell)| {
            (round.enrichment.headers().address(column), Marked::plain(cell))
        });
        let all: Vec<Vec<&str>> = reference
            .rows_among(&key.entries)
            .iter()
            .map(|&row| reference.taken_cells(row).collect())
            .collect();
        // A row may name the column that it takes.
        let all_taken = 0..reference.taken().len();
        let is_taken = |place: &usize| round.takes(question.lookup, *place, &key.named);
        let (differ, agree): (Vec<usize>, Vec<usize>) = all_taken
            .filter(is_taken)
            .partition(|&place| all.iter().any(|row| row[place] != all[0][place]));
        let header = |&place: &usize| reference.headers().address(reference.taken()[place]);
        let named: Vec<String> = differ.iter().map(header).collect();
        let choices = candidates.iter().map(|one| {
            let row = reference.row(one.entry);
            let cells: Vec<&str> = reference.taken_cells(row).collect();
            let others: Vec<usize> = candidates
                .iter()
                .map(|other| reference.row(other.entry))
                .filter(|o| *o != row)
                .filter_map(|row| {
                    Some(
                        all.iter()
                            .position(|cells| reference.taken_cells(row).eq(cells.iter().copied())),
                    )?
                })
                .collect();
            let marked = |&place: &usize| match others.first() {
                Some(&other) if differ.contains(&place) => {
                    Marked::against(cells[place], all[other][place])
                }
                _ => Marked::plain(cells[place]),
            };
            let own = Marked::plain(&reference_place(reference, row));
            differ.iter().map(marked).chain(agree.iter().map(marked)).chain([own]).collect()
        });
        let rows = of_rows(question.rows, key.place, &round.main);
        let differ_in = if named.is_empty() {
            String::new()
        } else {
            format!(" and differ in {}", joined(&named, "and"))
        };
        Self {
            heading: format!(
                "{} of {} have this key{differ_in}. It is {rows}.",
                counted(all.len() as u64, "row"),
                reference.name(),
            ),
            fields: fields.collect(),
            question: "Which row counts?".to_owned(),
            headers: differ.iter().chain(&agree).map(header).chain(["where".to_owned()]).collect(),
            choices: choices.collect(),
            ..Self::default()
        }
    }

    fn of_unreadable(
        round: &Round,
        (question, at): (&Question, usize),
        lookup: &Lookup,
        candidates: &[Candidate],
    ) -> Self {
        let key = &round.gathered.unreadable(question.lookup)[at];
        let cells: Vec<&str> = key.cells.iter().map(String::as_str).collect();
        let parts: Vec<Option<&str>> = key.parts.iter().map(Option::as_deref).collect();
        let header = round.enrichment.headers().address(key.unreadable.column);
        let rows = of_rows(question.rows, key.place, &round.main);
        Self {
            heading: format!(
                "`{}` can't read {:?} in {header}. It is {rows}.",
                key.unreadable.step, key.unreadable.value
            ),
            question: "Which key is meant?".to_owned(),
            ..Self::of_keys(round, (lookup, &cells, &parts), candidates)
        }
    }

    /// The fields of a main key, given by its cells and by its parts as they are compared, and reference keys with what is taken
    /// of their first rows as choices.
    fn of_keys(
        round: &Round,
        (lookup, cells, parts): (&Lookup, &[&str], &[Option<&str>]),
        candidates: &[Candidate],
    ) -> Self {
        let reference = lookup.reference();
        let (ours, theirs) = (lookup.key().columns(), reference.key().columns());
        let pairs = pairs(lookup);
        let held = |entry: EntryId| -> Vec<&str> { reference.as_read(entry) };
        // What the steps make the same does not differ.
        let differs = |entry: EntryId, part: usize| {
            let other = reference.as_compared(entry).nth(part);
            parts.get(part).copied().flatten().is_none_or(|part| Some(part) != other)
        };
        let first = candidates.first().map(|one| (one.entry, held(one.entry)));
        let fields = ours.iter().zip(cells).enumerate().map(|(at, (&column, cell))| {
            let pair = pairs.iter().find(|pair| pair.ours == at);
            let other = first.as_ref().zip(pair).and_then(|((entry, first), pair)| {
                differs(*entry, pair.part).then_some(first[pair.theirs])
            });
            let cell = other.map_or(Marked::plain(cell), |other| Marked::against(cell, other));
            (round.enrichment.headers().address(column), cell)
        });
        let rows = |one: &Candidate| {
            let entries: Vec<EntryId> = reference.entries_of(one.entry).collect();
            reference.rows_among(&entries).len()
        };
        // Which of several rows counts is another question.
        let are_several = candidates.iter().any(|one| rows(one) > 1);
        let choices = candidates.iter().map(|one| {
            let key = held(one.entry).into_iter().enumerate().map(|(at, cell)| {
                match pairs.iter().find(|pair| pair.theirs == at) {
                    Some(pair) if differs(one.entry, pair.part) => {
                        Marked::against(cell, cells[pair.ours])
                    }
                    _ => Marked::plain(cell),
                }
            });
            let taken = reference.taken_cells(reference.row(one.entry)).map(Marked::plain);
            let several = are_several.then(|| Marked::plain(&number(rows(one) as u64)));
            key.chain(several).chain(taken).collect()
        });
        let header = |&column: &usize| reference.headers().address(column);
        let several = are_several.then(|| "rows".to_owned());
        let headers = theirs.iter().map(header).chain(several);
        let headers = headers.chain(reference.taken().iter().map(header));
        Self {
            fields: fields.collect(),
            headers: headers.collect(),
            choices: choices.collect(),
            ..Self::default()
        }
    }
}

/// A part that is made of one column on each side: its number, and the places of the columns in the keys.
struct Pair {
    part: usize,
    ours: usize,
    theirs: usize,
}

/// The parts that are made of one column on each side.
fn pairs(lookup: &Lookup) -> Vec<Pair> {
    let parts = aliases::parts(lookup).into_iter().enumerate();
    let pair = |(part, places): (usize, aliases::Part)| match (&places.ours[..], &places.theirs[..])
    {
        (&[ours], &[theirs]) => Some(Pair { part, ours, theirs }),
        _ => None,
    };
    parts.filter_map(pair).collect()
}

/// `in 41 rows of harvest.csv, first in row 17`.
fn of_rows(rows: u64, (row, line): (u64, u64), main: &Headers) -> String {
    let place = place(row, line);
    let table = main.table();
    if rows == 1 {
        format!("in {place} of {table}")
    } else {
        format!("in {} of {table}, first in {place}", counted(rows, "row"))
    }
}

/// A reason as a sentence.
fn sentence(reason: &str) -> String {
    let mut letters = reason.chars();
    let first = letters.next().map(|letter| letter.to_uppercase().to_string());
    format!("{}{}.", first.unwrap_or_default(), letters.as_str())
}
