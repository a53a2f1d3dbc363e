//! `review`: keys that only a person can settle, one question at a time, with answers that every later run uses.
//!
//! A [`Round`] is one pass with the answers so far; its questions are asked one by one, and each answer is
//! written before the next question. When all are asked, another round finds the ones that the answers gave rise to.

mod answer;
mod answers;
mod card;
mod closing;
mod prompts;
mod round;
mod screen;

use std::io::{IsTerminal, stdin, stdout};

use gather_keys_core::review::{Candidate, Question, Seeker};
use gather_keys_formats::Address;

use super::Outcome;
use crate::arguments::{Review, TypedOptions};
use crate::call::{Call, Purpose};
use crate::error::{Error, Result};
use crate::terminal::show;
use crate::typed::Asked;
use answer::{Answer, Given, Subject};
use answers::Answers;
use card::Card;
use prompts::Prompts;
use round::Round;
use screen::Screen;

/// What a person says to a question.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Reply {
    /// The choice with this number, from 0.
    Choose(usize),
    /// None of them, for good.
    None,
    /// Not now.
    Skip,
    /// Take the last answer back.
    Undo,
    /// Look for others in the reference.
    Search(String),
    /// End the review.
    Quit,
}

/// How far the review has come.
#[derive(Debug, Clone, Copy)]
pub(super) struct Progress {
    /// The number of the question, and of how many in this round, from 1.
    pub(super) question: (usize, usize),
    /// How many were answered.
    pub(super) answered: usize,
}

/// Where questions are shown and answered.
trait View {
    /// Says what takes a while.
    fn wait(&mut self, what: &str) -> Result<()>;

    /// Shows a question and waits for what the person says to it.
    fn ask(&mut self, card: &Card, progress: Progress) -> Result<Reply>;

    /// Asks for yes or no.
    fn confirm(&mut self, question: &str) -> Result<bool>;

    /// Gives the terminal back.
    fn end(&mut self);
}

/// How the questions of a round ended.
enum End {
    /// All were asked.
    Asked,
    /// The last answer of a round before is to be taken back.
    Back,
    Quit,
}

/// Asks what only a person can settle.
pub(crate) fn review(review: &Review, typed: TypedOptions) -> Result<Outcome> {
    let asked = Asked::typed(&review.tables, typed)?;
    let mut call = Call { receipt: None, memory: None, ..Call::new(&asked, Purpose::Findings)? };
    call.gates.counts.clear();
    call.messages.quiet = false;
    call.reasons = true;
    // A table from standard input would take the place of the keys.
    let is_piped = call.inputs().any(|input| *input == Address::Standard);
    if is_piped || !(stdin().is_terminal() && stdout().is_terminal()) {
        return Err(Error::NoTerminal);
    }
    let mut answers = Answers::open(&call, asked.file.as_ref().map(|file| file.path.as_path()))?;
    let mut view: Box<dyn View> =
        if review.plain_prompts { Box::new(Prompts::new()) } else { Box::new(Screen::open()?) };
    let told = (|| {
        let left = ask_all(&asked, &mut call, &mut answers, &mut *view)?;
        closing::told(&asked, &answers, &left, &mut *view)
    })();
    // The terminal is given back before anything is printed, also an error.
    view.end();
    show(&told?)?;
    Ok(Outcome::Done)
}

/// What is left at the end.
#[derive(Debug, Default)]
struct Left {
    /// How many questions were not asked.
    questions: usize,
    /// How many rows could not be asked about, because there are too many different keys.
    beyond: u64,
}

/// Asks round after round until nothing is left, or the person ends it.
fn ask_all(
    asked: &Asked,
    call: &mut Call,
    answers: &mut Answers,
    view: &mut dyn View,
) -> Result<Left> {
    // The question to begin with, after an answer was taken back.
    let mut first: Option<Subject> = None;
    loop {
        view.wait("Reading the tables …")?;
        answers.apply_to(call);
        let round = Round::pass(asked, call)?;
        let settled = answers.settled(&round);
        let questions =
            round.questions(call.threads, |question| settled.has(&round, answers, question));
        let begun = answers.given.len();
        let mut asking =
            Asking { round: &round, questions: &questions, begun, threads: call.threads };
        let at = first.take().and_then(|first| {
            questions.iter().position(|question| Subject::of(&round, question) == first)
        });
        match asking.ask(answers, at.unwrap_or_default(), view)? {
            (End::Asked, _) if questions.is_empty() || answers.given.len() == begun => {
                return Ok(Left { questions: 0, beyond: round.beyond() });
            }
            (End::Asked, _) => {}
            (End::Back, _) => first = answers.undo(&round)?.map(|answer| answer.subject),
            (End::Quit, questions) => {
                return Ok(Left { questions, beyond: round.beyond() });
            }
        }
    }
}

/// The questions of a round.
struct Asking<'r> {
    round: &'r Round,
    questions: &'r [Question],
    /// How many answers there were before.
    begun: usize,
    threads: usize,
}

impl Asking<'_> {
    /// Asks the questions from one on, then those before it; returns how it ended, and how many have no answer.
    fn ask(
        &mut self,
        answers: &mut Answers,
        from: usize,
        view: &mut dyn View,
    ) -> Result<(End, usize)> {
        let (round, questions) = (self.round, self.questions);
        let found = (&round.findings, &round.gathered);
        let mut seeker = Seeker::new(&round.enrichment, found, questions, self.threads);
        // The numbers of the questions in the order in which they are asked.
        let order: Vec<usize> = (from..questions.len()).chain(0..from).collect();
        let mut note: Option<String> = None;
        let mut at = 0;
        while let Some(&nth) = order.get(at) {
            let question = &questions[nth];
            let progress = Progress {
                question: (at + 1, order.len()),
                answered: answers.given.iter().filter(|one| one.is_answered()).count(),
            };
            let mut candidates = seeker.candidates(nth);
            let mut searched: Option<String> = None;
            loop {
                let mut card = Card::of(round, question, &candidates, searched.as_deref());
                if let Some(note) = note.take() {
                    card.note = Some(note);
                }
                let given = match view.ask(&card, progress)? {
                    Reply::Search(text) => {
                        candidates = seeker.search(nth, &text);
                        searched = Some(text);
                        continue;
                    }
                    Reply::Choose(choice) => match candidates.get(choice) {
                        Some(&one) => answer::chosen(round, question, one),
                        None => {
                            note = Some(no_choice(&candidates));
                            continue;
                        }
                    },
                    Reply::None => answer::none(round, question),
                    Reply::Skip => Answer {
                        subject: Subject::of(round, question),
                        rows: 0,
                        given: Given::Skipped,
                    },
                    Reply::Quit => return Ok((End::Quit, order.len() - at)),
                    Reply::Undo if answers.given.is_empty() => {
                        note = Some("There is no answer to take back.".to_owned());
                        continue;
                    }
                    Reply::Undo if answers.given.len() == self.begun => {
                        return Ok((End::Back, order.len() - at));
                    }
                    Reply::Undo => {
                        answers.undo(round)?;
                        note = Some("The last answer is taken back.".to_owned());
                        at -= 1;
                        break;
                    }
                };
                answers.take(round, given)?;
                at += 1;
                break;
            }
        }
        Ok((End::Asked, 0))
    }
}

/// That a number has no choice.
fn no_choice(candidates: &[Candidate]) -> String {
    match candidates.len() {
        0 => "There is nothing to choose; / searches the reference.".to_owned(),
        1 => "There is one choice, 1; / searches for others.".to_owned(),
        more => format!("The choices are 1 to {more}; / searches for others."),
    }
}
