//! Steps: the small changes a value goes through before it is compared.
//!
//! Each step is in the file of its kind, as an entry of [`StepKind`]: its name, its form, what
//! it does, examples that are tested, and how it is read and carried out. [`ALL`] lists them; the
//! docs' table is made from it.

mod around;
mod code;
mod cut;
mod date;
mod keep;
mod letter_case;
mod month;
mod number;
mod pad;
mod plain;
mod replace;
mod space;

use std::fmt;
use std::ops::Range;
use std::sync::Arc;

use super::meant::{STEPS, meant};
use super::phrase::Phrase;
use crate::Result;

/// Every step, in the order in which they are reported.
pub static ALL: &[&StepKind] = &[
    &space::TRIM,
    &space::TIDY,
    &space::COMPACT,
    &letter_case::FOLD,
    &letter_case::LOWER,
    &letter_case::UPPER,
    &plain::PLAIN,
    &keep::ALNUM,
    &keep::DIGITS,
    &keep::LETTERS,
    &code::CODE,
    &cut::FIRST,
    &cut::LAST,
    &cut::FROM,
    &around::BEFORE,
    &around::AFTER,
    &around::PIECE,
    &number::NUMBER,
    &date::DATE,
    &month::MONTH,
    &pad::PAD,
    &replace::REPLACE,
    &replace::DROP,
    &pad::OR,
];

/// The description of a step.
#[derive(Debug)]
pub struct StepKind {
    /// Its name, the first word of its text.
    pub name: &'static str,
    /// Its form, with its arguments.
    pub form: &'static str,
    /// Its effect, in one sentence.
    pub does: &'static str,
    /// Examples: the step as written, a value, and what becomes of it; `None` when the value can't
    /// be read.
    pub examples: &'static [(&'static str, &'static str, Option<&'static str>)],
    read: fn(&mut Phrase<'_>) -> Result<Arc<dyn Step>>,
}

/// The result of a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Done {
    /// The result is this slice of the value.
    Slice(Range<usize>),
    /// The output holds the value.
    Written,
    /// The step could not read the value.
    Unreadable,
}

impl Done {
    fn whole(value: &str) -> Self {
        Self::Slice(0..value.len())
    }
}

/// A step with what it takes, ready to be applied to any number of values.
pub(crate) trait Step: fmt::Debug + Send + Sync {
    /// Changes a value: names a piece of it, or writes the new one to `out`, which is empty.
    fn apply(&self, value: &str, out: &mut String) -> Done;

    /// How many characters every value that is long enough has after it.
    fn width(&self) -> Option<usize> {
        None
    }

    /// Whether it states that a blank value is a value too.
    fn lets_blank_be(&self) -> bool {
        false
    }
}

/// A step as it was written.
#[derive(Debug, Clone)]
pub struct StepUse {
    text: String,
    step: Arc<dyn Step>,
}

impl StepUse {
    /// As it was written.
    pub fn text(&self) -> &str {
        &self.text
    }

    #[inline]
    pub(super) fn apply(&self, value: &str, out: &mut String) -> Done {
        self.step.apply(value, out)
    }

    pub(super) fn width(&self) -> Option<usize> {
        self.step.width()
    }

    pub(super) fn lets_blank_be(&self) -> bool {
        self.step.lets_blank_be()
    }
}

/// Reads one step.
pub(super) fn read(phrase: &mut Phrase<'_>) -> Result<StepUse> {
    phrase.skip_space();
    let start = phrase.at();
    let word = phrase.letters().unwrap_or_default();
    let Some(kind) = ALL.iter().find(|kind| kind.name == word) else {
        phrase.back_to(start);
        let names: Vec<&str> = ALL.iter().map(|kind| kind.name).collect();
        let meant = meant(word, &names, STEPS);
        return phrase.expected(match meant {
            Some(meant) => format!("a step; {meant}"),
            None => format!("a step: {}", names.join(", ")),
        });
    };
    let step = (kind.read)(phrase)?;
    Ok(StepUse { text: phrase.since(start).trim_end().to_owned(), step })
}

/// Reads a count that a step can't do without.
fn count(phrase: &mut Phrase<'_>, of: &str) -> Result<usize> {
    let start = phrase.at();
    let number = phrase.digits().and_then(|digits| digits.parse().ok());
    match number.filter(|number| (1..=100_000).contains(number)) {
        Some(number) => Ok(number),
        None => {
            phrase.back_to(start);
            phrase.skip_space();
            phrase.expected(format!("{of}, a whole number from 1 to 100,000"))
        }
    }
}

/// Reads a text that a step can't do without.
fn text(phrase: &mut Phrase<'_>, of: &str) -> Result<String> {
    let start = phrase.at();
    match phrase.text()? {
        Some(text) if !text.is_empty() => Ok(text),
        _ => {
            phrase.back_to(start);
            phrase.skip_space();
            phrase.expected(format!("{of} in double quotes"))
        }
    }
}

/// Appends what `change` makes of each character, unless nothing changes.
fn map_signs<I: IntoIterator<Item = char>>(
    value: &str,
    out: &mut String,
    change: impl FnMut(char) -> I,
) -> Done {
    out.extend(value.chars().flat_map(change));
    Done::Written
}

#[cfg(test)]
mod tests {
    use super::super::StepBuffers;
    use super::*;
    use crate::template::Template;
    use proptest::prelude::*;

    fn made(step: &str, value: &str) -> Option<String> {
        let template = Template::parse("template", &format!("x | {step}")).unwrap();
        let bound = template.bind_with(|_| Ok(0)).unwrap();
        let through_trace = bound.placeholder_values(|_| value, &[]).remove(0);
        let direct = bound.value(
            |_| value,
            &[],
            &mut StepBuffers::default(),
            |state, value| (state != super::super::PartState::Malformed).then(|| value.to_owned()),
        );
        assert_eq!(direct, through_trace, "{step} on {value:?}");
        direct
    }

    /// Every example of every step comes out as it says.
    #[test]
    fn examples_hold() {
        for kind in ALL {
            assert!(kind.examples.len() >= 2, "{}", kind.name);
            assert!(kind.form.starts_with(kind.name));
            for (step, value, want) in kind.examples {
                assert!(step.starts_with(kind.name));
                assert_eq!(made(step, value).as_deref(), *want, "{step} on {value:?}");
            }
        }
    }

    #[test]
    fn names_are_different() {
        for (nth, kind) in ALL.iter().enumerate() {
            assert!(ALL[..nth].iter().all(|other| other.name != kind.name), "{}", kind.name);
        }
    }

    proptest! {
        /// No value makes a step panic, and what makes one spelling makes it once and for all.
        #[test]
        fn steps_settle(value in "\\PC{0,12}|[ \u{a0}\u{200b}\u{feff}aÀﬁŁé0-9.,eE+-]{0,12}") {
            for kind in ALL {
                for (step, ..) in kind.examples {
                    let once = made(step, &value);
                    let settles = ["trim", "tidy", "compact", "fold", "lower", "plain", "alnum",
                        "digits", "letters", "first", "last", "before", "or", "code", "month"];
                    if let Some(once) = once && settles.contains(&kind.name) {
                        let again = made(step, &once);
                        prop_assert_eq!(again.as_deref(), Some(&once[..]), "{}", step);
                    }
                }
            }
        }
    }
}
