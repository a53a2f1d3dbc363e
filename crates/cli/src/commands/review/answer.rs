//! An answer: the question it is to, and the rows of side files that it becomes.
//!
//! In go a question of a round and the candidate that was chosen, or none; out comes an alias or corrections.

use gather_keys_core::enrich::{AddedCell, Enrichment};
use gather_keys_core::findings::Correction;
use gather_keys_core::lookup::EntryId;
use gather_keys_core::plan::Replace;
use gather_keys_core::review::{About, Candidate, Question};
use gather_keys_core::value::is_blank;

use super::round::Round;
use crate::aliases;
use crate::places::reference_place;

/// The columns of a file of aliases that are for a person only.
pub(super) const FACTS: [&str; 3] = ["reason", "distance", "rows"];

/// The identity of a question from round to round.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) struct Subject {
    pub(super) lookup: usize,
    /// The part that it is about, if it is about one.
    part: Option<usize>,
    /// Whether it is about rows of the reference that disagree, as a key that was answered may be about next.
    is_disputed: bool,
    /// The main cells that it is about.
    pub(super) cells: Vec<String>,
}

impl Subject {
    /// The subject of a question of a round.
    pub(super) fn of(round: &Round, question: &Question) -> Self {
        let nth = question.lookup;
        let keys = round.findings.lookups[nth].unmatched.keys();
        let read = |at: usize| keys[at].read().map(str::to_owned).collect::<Vec<String>>();
        let (part, cells) = match &question.about {
            About::Key(at) => (None, read(*at)),
            About::Value { part, keys } => {
                let places = &aliases::parts(round.lookup(question))[*part].ours;
                let cells = read(keys[0]);
                (Some(*part), places.iter().map(|&at| cells[at].clone()).collect())
            }
            About::Disputed(at) => (None, round.gathered.disputed(nth)[*at].cells.clone()),
            About::Unreadable(at) => (None, round.gathered.unreadable(nth)[*at].cells.clone()),
        };
        let is_disputed = matches!(question.about, About::Disputed(_));
        Self { lookup: nth, part, is_disputed, cells }
    }
}

/// An answer to a question.
#[derive(Debug, Clone)]
pub(super) struct Answer {
    pub(super) subject: Subject,
    /// How many main rows it settles.
    pub(super) rows: u64,
    pub(super) given: Given,
}

impl Answer {
    /// Whether it is more than to go on.
    pub(super) fn is_answered(&self) -> bool {
        !matches!(self.given, Given::Skipped)
    }
}

/// What was answered.
#[derive(Debug, Clone)]
pub(super) enum Given {
    /// A row of the file of aliases of this lookup: its cells by header, and whether the pair holds.
    Alias { lookup: usize, cells: Vec<(String, String)>, holds: bool },
    /// Corrections: the headers that identify the rows, and each cell.
    Corrections { key: Vec<String>, corrections: Vec<Correction>, note: String },
    /// Nothing; it may be asked again another time.
    Skipped,
}

/// The answer that chooses a candidate.
pub(super) fn chosen(round: &Round, question: &Question, one: Candidate) -> Answer {
    let subject = Subject::of(round, question);
    let given = match &question.about {
        About::Disputed(at) => {
            let lookup = round.lookup(question);
            let reference = lookup.reference();
            let key = &round.gathered.disputed(question.lookup)[*at];
            let row = reference.row(one.entry);
            let taken: Vec<&str> = reference.taken_cells(row).collect();
            let headers = lookup.columns();
            let name = |column: &usize| output_name(&round.enrichment, *column);
            let corrections =
                correctable(round, question).into_iter().filter_map(|(header, place)| {
                    let value = match place {
                        Place::Taken(place) => taken[place],
                        Place::Named(nth) => taken[*key.named.get(nth)?],
                        // Nothing is erased that was not asked for.
                        Place::Updated(place) => {
                            Some(taken[place]).filter(|value| !is_blank(value))?
                        }
                    };
                    let (key, value) = (key.cells.clone(), value.to_owned());
                    Some(Correction { key, header, value, row: 0 })
                });
            Given::Corrections {
                key: headers.iter().map(name).collect(),
                corrections: corrections.collect(),
                note: format!("{} of {}", reference_place(reference, row), reference.name()),
            }
        }
        _ => alias(round, question, Some(one.entry)),
    };
    Answer { subject, rows: one.rows, given }
}

/// The answer that none of the candidates is meant, which is remembered.
pub(super) fn none(round: &Round, question: &Question) -> Answer {
    let subject = Subject::of(round, question);
    Answer { subject, rows: question.rows, given: alias(round, question, None) }
}

/// The row of a file of aliases for a question and the entry that it is answered with.
fn alias(round: &Round, question: &Question, entry: Option<EntryId>) -> Given {
    let lookup = round.lookup(question);
    let reference = lookup.reference();
    let (ours, theirs) = aliases::headers(lookup, round.enrichment.headers());
    let nth = question.lookup;
    let keys = round.findings.lookups[nth].unmatched.keys();
    let read = |at: usize| keys[at].read().map(str::to_owned).collect::<Vec<String>>();
    let (part, cells, reason) = match &question.about {
        About::Key(at) => {
            let explained = round.diagnoses[nth].as_ref();
            let reason = explained.map(|diagnosis| diagnosis.explained[*at].reason.of(lookup));
            (None, read(*at), reason.unwrap_or_default())
        }
        About::Value { part, keys } => {
            (Some(*part), read(keys[0]), "not in the reference".to_owned())
        }
        About::Disputed(at) => (
            None,
            round.gathered.disputed(nth)[*at].cells.clone(),
            "several rows disagree".to_owned(),
        ),
        About::Unreadable(at) => {
            (None, round.gathered.unreadable(nth)[*at].cells.clone(), "can't be read".to_owned())
        }
    };
    let places = part.map(|part| aliases::parts(lookup).swap_remove(part));
    let near = entry.map(|entry| reference.as_read(entry)).unwrap_or_default();
    let is_of = |places: Option<&Vec<usize>>, at: usize| places.is_none_or(|all| all.contains(&at));
    let ours = ours.into_iter().enumerate().map(|(at, header)| {
        let is_own = is_of(places.as_ref().map(|part| &part.ours), at);
        (header, if is_own { cells[at].clone() } else { String::new() })
    });
    let theirs = theirs.into_iter().enumerate().map(|(at, header)| {
        let is_own = is_of(places.as_ref().map(|part| &part.theirs), at);
        let cell = near.get(at).filter(|_| is_own);
        (header, cell.map_or(String::new(), |cell| (*cell).to_owned()))
    });
    let facts = [(FACTS[0].to_owned(), reason), (FACTS[2].to_owned(), question.rows.to_string())];
    Given::Alias {
        lookup: nth,
        cells: ours.chain(theirs).chain(facts).collect(),
        holds: entry.is_some(),
    }
}

/// Where the value of a corrected cell comes from, among the taken cells of a row.
pub(super) enum Place {
    Taken(usize),
    /// The column that the main row names, by the number of the naming.
    Named(usize),
    Updated(usize),
}

/// The cells of the output that a lookup gives a row, as far as they are there: their headers, and what they are taken from.
pub(super) fn correctable(round: &Round, question: &Question) -> Vec<(String, Place)> {
    let enrichment = &round.enrichment;
    let mut column = enrichment.headers().len() - enrichment.added().len();
    let mut found = Vec::new();
    for (nth, output) in enrichment.row_outputs().enumerate() {
        if nth != question.lookup {
            column += output.cells.len();
            continue;
        }
        for cell in &output.cells {
            let place = match cell {
                AddedCell::Taken(place) => Some(Place::Taken(*place)),
                AddedCell::Named(nth) => Some(Place::Named(*nth)),
                AddedCell::Mark(_) => None,
            };
            found.extend(place.map(|place| (column, place)));
            column += 1;
        }
        // Whether a blank cell of the main table is filled depends on the row.
        let updates = output.updates.iter().filter(|_| output.replacing.replace == Replace::All);
        found.extend(updates.map(|update| (update.column, Place::Updated(update.taken))));
    }
    let is_there = |(column, _): &(usize, Place)| enrichment.output().place_of(*column).is_some();
    let named = |(column, place)| (output_name(enrichment, column), place);
    found.into_iter().filter(is_there).map(named).collect()
}

/// The header of a column in the output, or its own where the output does not have it.
pub(super) fn output_name(enrichment: &Enrichment, column: usize) -> String {
    match enrichment.output().place_of(column) {
        Some(place) => enrichment.output().headers().address(place),
        None => enrichment.headers().address(column),
    }
}
