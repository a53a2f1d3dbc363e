//! Questions line by line, for screen readers and terminals that are not drawn on.

use std::fmt::Write as _;
use std::io::{BufRead as _, Write as _, stdin, stdout};

use super::card::{Card, Marked};
use super::{Progress, Reply, View};
use crate::error::{Error, Result};
use crate::terminal::show;
use crate::wording::{number, wrapped};

const HELP: &str = "\
1 to 9: choose that one. y: choose 1. n: none of them, and don't ask again.
s: skip. u: take the last answer back. / and words: search the reference.
q: quit; all answers are kept. Enter after each.
Characters that the other side lacks are in [brackets].
";

/// The lines of a terminal.
pub(super) struct Prompts;

impl Prompts {
    pub(super) fn new() -> Self {
        Self
    }

    /// Asks for a line; `None` at the end of the input.
    fn line(question: &str) -> Result<Option<String>> {
        show(question)?;
        let _ = stdout().flush();
        let mut line = String::new();
        let read = stdin().lock().read_line(&mut line);
        let read = read.map_err(|cause| Error::Terminal { cause })?;
        Ok((read > 0).then(|| line.trim().to_owned()))
    }
}

impl View for Prompts {
    fn wait(&mut self, what: &str) -> Result<()> {
        show(&format!("{what}\n"))
    }

    fn ask(&mut self, card: &Card, progress: Progress) -> Result<Reply> {
        let (nth, all) = progress.question;
        let mut text = format!(
            "\nQuestion {} of {}, {} answered.\n",
            number(nth as u64),
            number(all as u64),
            number(progress.answered as u64)
        );
        if let Some(note) = &card.note {
            let _ = writeln!(text, "{}", wrapped(note, 0, "  "));
        }
        let _ = writeln!(text, "{}", wrapped(&card.heading, 0, "  "));
        for (name, value) in &card.fields {
            let _ =
                writeln!(text, "{}", wrapped(&format!("{name}: {}", in_brackets(value)), 0, "  "));
        }
        for known in &card.known {
            let _ = writeln!(text, "{}", wrapped(known, 0, "  "));
        }
        if card.choices.is_empty() {
            text.push_str("Nothing to choose; / and words search the reference.\n");
        } else {
            let _ = writeln!(text, "{}", card.question);
        }
        for (nth, choice) in card.choices.iter().enumerate() {
            let cells = card.headers.iter().zip(choice);
            let cells: Vec<String> =
                cells.map(|(name, value)| format!("{name} {}", in_brackets(value))).collect();
            let line = format!("{}: {}", nth + 1, cells.join("; "));
            let _ = writeln!(text, "{}", wrapped(&line, 0, "   "));
        }
        show(&text)?;
        loop {
            let Some(line) = Self::line("1-9, y, n, s, u, /words, ?, q: ")? else {
                return Ok(Reply::Quit);
            };
            match &line[..] {
                "y" => return Ok(Reply::Choose(0)),
                "n" => return Ok(Reply::None),
                "s" => return Ok(Reply::Skip),
                "u" => return Ok(Reply::Undo),
                "q" => return Ok(Reply::Quit),
                "?" => show(HELP)?,
                digit if digit.len() == 1 && matches!(digit.as_bytes()[0], b'1'..=b'9') => {
                    return Ok(Reply::Choose(usize::from(digit.as_bytes()[0] - b'1')));
                }
                other => match other.strip_prefix('/').map(str::trim) {
                    Some(words) if !words.is_empty() => {
                        return Ok(Reply::Search(words.to_owned()));
                    }
                    _ => show("Type one of them, and Enter; ? says what they do.\n")?,
                },
            }
        }
    }

    fn confirm(&mut self, question: &str) -> Result<bool> {
        loop {
            let line = Self::line(&format!("\n{}\ny or n: ", wrapped(question, 0, "")))?;
            match line.as_deref() {
                Some("y") => return Ok(true),
                Some("n") | None => return Ok(false),
                Some(_) => {}
            }
        }
    }

    fn end(&mut self) {}
}

/// A text with the characters that differ in brackets.
fn in_brackets(value: &Marked) -> String {
    if value.text.is_empty() {
        return "(blank)".to_owned();
    }
    let mut text = String::new();
    let mut is_open = false;
    for (character, &mark) in value.text.chars().zip(&value.marks) {
        if mark != is_open {
            text.push(if mark { '[' } else { ']' });
            is_open = mark;
        }
        text.push(crate::wording::visible(character));
    }
    if is_open {
        text.push(']');
    }
    text
}
