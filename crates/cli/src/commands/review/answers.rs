//! The files of aliases and corrections that keep the answers of a review.
//!
//! A file is what it was before the review with a row for each answer after it, and is written whole after each one.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use gather_keys_core::enrich::ANY;
use gather_keys_core::findings::Correction;
use gather_keys_core::lookup::Lookup;
use gather_keys_core::review::{About, Question};
use gather_keys_core::value::is_blank;
use gather_keys_formats::commit::begin_run;

use super::answer::{Answer, FACTS, Given, Subject, correctable, output_name};
use super::round::Round;
use crate::aliases::{self, APPROVE, is_yes};
use crate::call::Call;
use crate::corrections::CorrectionsFile;
use crate::error::{Error, Result};
use crate::side_table::SideTable;

/// The column of a file of aliases that names the reference.
const REFERENCE: &str = "reference";

/// The answers of a review, and their files.
pub(super) struct Answers {
    /// The files of aliases, and for each lookup which of them is its own.
    aliases: Vec<AnswerFile<SideTable>>,
    of_lookup: Vec<usize>,
    corrections: AnswerFile<CorrectionsFile>,
    pub(super) given: Vec<Answer>,
}

/// A file as it was before the review, if it was there.
struct AnswerFile<T> {
    path: PathBuf,
    before: Option<T>,
    /// Whether the call names it.
    is_named: bool,
}

impl Answers {
    /// The files that a call names, or else those next to its plan or main table; what is in them is read.
    ///
    /// # Errors
    /// When one can't be read, or is not text.
    pub(super) fn open(call: &Call, plan: Option<&Path>) -> Result<Self> {
        let next_to = plan.or(call.main.address.path()).unwrap_or(Path::new("review"));
        let stem = next_to.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let default = |what: &str| next_to.with_file_name(format!("{stem}-{what}.csv"));
        let mut files: Vec<AnswerFile<SideTable>> = Vec::new();
        let mut of_lookup = Vec::new();
        for (table, _) in &call.references {
            let named = table.aliases.as_ref();
            let path = match named {
                Some(address) => match address.path() {
                    Some(path) if address.part().is_none() => path.to_owned(),
                    _ => return Err(Error::AliasesNotText { name: address.to_string() }),
                },
                None => default("aliases"),
            };
            let at = files.iter().position(|file| file.path == path);
            of_lookup.push(at.unwrap_or(files.len()));
            if at.is_none() {
                let before = path.exists().then(|| SideTable::read(&path)).transpose()?;
                if before.as_ref().is_some_and(|table| !table.is_text()) {
                    return Err(Error::AliasesNotText { name: path.display().to_string() });
                }
                files.push(AnswerFile { path, before, is_named: named.is_some() });
            }
        }
        let path = call.corrections.clone().unwrap_or_else(|| default("corrections"));
        let before = path.exists().then(|| CorrectionsFile::read(&path)).transpose()?;
        if let Some(file) = &before {
            file.clone().add(&[], "")?;
        }
        let is_named = call.corrections.is_some();
        let corrections = AnswerFile { path, before, is_named };
        Ok(Self { aliases: files, of_lookup, corrections, given: Vec::new() })
    }

    /// Has a call use the files as they are now.
    pub(super) fn apply_to(&self, call: &mut Call) {
        for ((table, _), &at) in call.references.iter_mut().zip(&self.of_lookup) {
            let path = &self.aliases[at].path;
            table.aliases =
                path.exists().then(|| gather_keys_formats::Address::new(path.as_os_str()));
        }
        let path = &self.corrections.path;
        call.corrections = path.exists().then(|| path.clone());
    }

    /// Takes an answer, and writes its file.
    ///
    /// # Errors
    /// When it can't be written; then the answer is not taken.
    pub(super) fn take(&mut self, round: &Round, answer: Answer) -> Result<()> {
        let given = answer.given.clone();
        self.given.push(answer);
        let written = self.write(round, &given);
        if written.is_err() {
            self.given.pop();
        }
        written
    }

    /// Takes the last answer back; returns it.
    ///
    /// # Errors
    /// When its file can't be written; then it stays.
    pub(super) fn undo(&mut self, round: &Round) -> Result<Option<Answer>> {
        let Some(last) = self.given.pop() else { return Ok(None) };
        if let Err(error) = self.write(round, &last.given) {
            self.given.push(last);
            return Err(error);
        }
        Ok(Some(last))
    }

    /// Writes the file that an answer is kept in, with all answers there are.
    fn write(&self, round: &Round, changed: &Given) -> Result<()> {
        let written = match changed {
            Given::Alias { lookup, .. } => self.write_aliases(round, self.of_lookup[*lookup]),
            Given::Corrections { .. } => self.write_corrections(),
            Given::Skipped => Ok(()),
        };
        // Each answer is a run of its own: a signal after it ends the review, and loses nothing.
        begin_run();
        written
    }

    fn write_aliases(&self, round: &Round, at: usize) -> Result<()> {
        let file = &self.aliases[at];
        let answers = self.given.iter().filter_map(|answer| match &answer.given {
            Given::Alias { lookup, cells, holds } if self.of_lookup[*lookup] == at => {
                Some((*lookup, cells, *holds))
            }
            _ => None,
        });
        let answers: Vec<_> = answers.collect();
        if answers.is_empty() && file.before.is_none() {
            return remove(&file.path);
        }
        let mut table = file.before.clone().unwrap_or_else(|| {
            let mut headers = vec![REFERENCE.to_owned()];
            let lookups = round.enrichment.lookups().zip(&self.of_lookup);
            let own: Vec<&Lookup> =
                lookups.filter(|(_, file)| **file == at).map(|(lookup, _)| lookup).collect();
            let main = round.enrichment.headers();
            let ours = own.iter().flat_map(|lookup| aliases::headers(lookup, main).0);
            let theirs = own.iter().flat_map(|lookup| aliases::headers(lookup, main).1);
            for header in ours.chain(theirs) {
                if !headers.contains(&header) {
                    headers.push(header);
                }
            }
            headers.extend(FACTS.map(str::to_owned));
            headers.push(APPROVE.to_owned());
            SideTable::new(&file.path, headers)
        });
        for (lookup, cells, holds) in answers {
            if !holds && table.place(APPROVE).is_none() {
                // Without this column every row counts.
                table.insert_column(table.headers().len(), APPROVE, "yes");
            }
            for (header, _) in cells {
                if table.place(header).is_none() && !FACTS.contains(&&header[..]) {
                    let place = table.place(FACTS[0]).unwrap_or(table.headers().len());
                    table.insert_column(place, header, "");
                }
            }
            let name = round.enrichment.lookups().nth(lookup).map(|one| one.reference().name());
            let mut row = vec![String::new(); table.headers().len()];
            let approve = (APPROVE.to_owned(), if holds { "yes" } else { "no" }.to_owned());
            let reference = (REFERENCE.to_owned(), name.unwrap_or_default().to_owned());
            for (header, cell) in cells.iter().chain([&approve, &reference]) {
                if let Some(place) = table.place(header) {
                    row[place].clone_from(cell);
                }
            }
            table.push(row);
        }
        table.write()
    }

    fn write_corrections(&self) -> Result<()> {
        let file = &self.corrections;
        let answers = self.given.iter().filter_map(|answer| match &answer.given {
            Given::Corrections { key, corrections, note } => Some((key, corrections, note)),
            _ => None,
        });
        let mut all = file.before.clone();
        for (key, corrections, note) in answers {
            let all = all.get_or_insert_with(|| CorrectionsFile::new(&file.path, key));
            all.identify_by(key);
            let placed = corrections.iter().map(|one| {
                let cell = |header: &String| {
                    let place = key.iter().position(|other| other == header);
                    place.map_or(ANY, |place| &one.key[place][..]).to_owned()
                };
                Correction { key: all.key.iter().map(cell).collect(), ..one.clone() }
            });
            let placed: Vec<Correction> = placed.collect();
            all.add(&placed, note)?;
        }
        match all {
            Some(mut all) => all.write(),
            None => remove(&file.path),
        }
    }

    /// What was settled before, as far as it would be asked again: keys that none of the others is meant by, and corrected
    /// ones.
    pub(super) fn settled(&self, round: &Round) -> Settled {
        let given = self.given.iter().map(|answer| answer.subject.clone());
        let mut refused = HashSet::new();
        for (nth, lookup) in round.enrichment.lookups().enumerate() {
            let file = &self.aliases[self.of_lookup[nth]];
            let Some(table) = &file.before else { continue };
            let (ours, theirs) = aliases::headers(lookup, round.enrichment.headers());
            let (Some(approve), Some(ours)) = (
                table.place(APPROVE),
                ours.iter().map(|one| table.place(one)).collect::<Option<Vec<_>>>(),
            ) else {
                continue;
            };
            let theirs: Vec<usize> = theirs.iter().filter_map(|one| table.place(one)).collect();
            let reference = table.place(REFERENCE);
            for cells in table.rows() {
                let is_own = reference.is_none_or(|at| cells[at] == lookup.reference().name());
                let is_none = is_blank(&cells[approve]) || is_yes(&cells[approve]);
                if is_own && !is_none && theirs.iter().all(|&at| is_blank(&cells[at])) {
                    let cells = ours.iter().map(|&at| cells[at].clone()).collect();
                    refused.insert((nth, cells));
                }
            }
        }
        Settled { given: given.collect(), refused }
    }

    /// Whether a disputed key has been corrected.
    pub(super) fn is_corrected(
        &self,
        round: &Round,
        question: &Question,
        cells: &[String],
    ) -> bool {
        let Some(file) = &self.corrections.before else { return false };
        let columns = round.lookup(question).columns();
        let ours: Vec<String> =
            columns.iter().map(|&column| output_name(&round.enrichment, column)).collect();
        let headers = correctable(round, question);
        let is_it = |one: &Correction| {
            let mut named = file.key.iter().zip(&one.key).filter(|(_, cell)| *cell != ANY);
            headers.iter().any(|(header, _)| *header == one.header)
                && named.all(|(header, cell)| {
                    let place = ours.iter().position(|other| other == header);
                    place.is_some_and(|place| cells[place] == *cell)
                })
        };
        file.corrections().iter().any(is_it)
    }

    /// The files that have answers now but that the call does not name: for each lookup its file of aliases, and the one of
    /// corrections.
    pub(super) fn unnamed(&self) -> (Vec<Option<&Path>>, Option<&Path>) {
        let unnamed = |path: &Path, is_named: bool| !is_named && path.exists();
        let aliases = self.of_lookup.iter().map(|&at| {
            let AnswerFile { path, is_named, .. } = &self.aliases[at];
            unnamed(path, *is_named).then_some(path.as_path())
        });
        let AnswerFile { path, is_named, .. } = &self.corrections;
        (aliases.collect(), unnamed(path, *is_named).then_some(path.as_path()))
    }

    /// The files that have answers of this review, with how many.
    pub(super) fn written(&self) -> Vec<(&Path, usize)> {
        let of = |at: usize| {
            let is_it = |answer: &&Answer| matches!(answer.given, Given::Alias { lookup, .. } if self.of_lookup[lookup] == at);
            (self.aliases[at].path.as_path(), self.given.iter().filter(is_it).count())
        };
        let corrected = |answer: &&Answer| matches!(answer.given, Given::Corrections { .. });
        let corrected = self.given.iter().filter(corrected).count();
        let all =
            (0..self.aliases.len()).map(of).chain([(self.corrections.path.as_path(), corrected)]);
        all.filter(|(_, count)| *count > 0).collect()
    }
}

/// What needs no question.
pub(super) struct Settled {
    given: HashSet<Subject>,
    /// Keys of lookups that a person has said have no other.
    refused: HashSet<(usize, Vec<String>)>,
}

impl Settled {
    /// Whether a question needs no answer.
    pub(super) fn has(&self, round: &Round, answers: &Answers, question: &Question) -> bool {
        let subject = Subject::of(round, question);
        let lookup = round.lookup(question);
        let key_cells = match &question.about {
            // The key comes first among the columns that an answer depends on.
            About::Disputed(_) => subject.cells[..lookup.key().columns().len()].to_vec(),
            About::Value { part, .. } => {
                let places = &aliases::parts(lookup)[*part].ours;
                let place = |at: usize| places.iter().position(|&other| other == at);
                let cell =
                    |at: usize| place(at).map_or(String::new(), |at| subject.cells[at].clone());
                (0..lookup.key().columns().len()).map(cell).collect()
            }
            About::Key(_) | About::Unreadable(_) => subject.cells.clone(),
        };
        if self.given.contains(&subject) || self.refused.contains(&(subject.lookup, key_cells)) {
            return true;
        }
        match &question.about {
            // Blank cells would mean blank parts there.
            About::Value { .. } => lookup.reference().matches_blanks(),
            About::Disputed(_) => {
                correctable(round, question).is_empty()
                    || answers.is_corrected(round, question, &subject.cells)
            }
            About::Key(_) | About::Unreadable(_) => false,
        }
    }
}

/// Removes a file that was made by answers which were taken back.
fn remove(path: &Path) -> Result<()> {
    match std::fs::remove_file(path) {
        Err(cause) if cause.kind() != std::io::ErrorKind::NotFound => {
            let name = path.display().to_string();
            Err(gather_keys_formats::Error::Write { name, cause }.into())
        }
        _ => Ok(()),
    }
}
