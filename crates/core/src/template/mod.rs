//! Templates: text with `{Header | step | step}` placeholders, which makes a part of a key.
//!
//! The text that a person wrote goes in; a [`Template`] comes out. [`Template::bind`] finds its headers
//! in a table, and a [`BoundTemplate`] makes a value of each row. [`Template::split`] goes the other way:
//! it splits a value into those of the placeholders, if there is exactly one way to do so.

mod bound;
pub(crate) mod meant;
mod parse;
pub(crate) mod phrase;
mod split;
pub mod steps;

pub(crate) use bound::apply_all;
pub use bound::{BoundTemplate, PartState, StepBuffers, Trace, TraceStep};
pub use parse::read_steps;
pub(crate) use parse::read_steps_behind;
pub use split::SplitError;
pub use steps::StepUse;

use std::fmt;

/// A template as it was written: literal text and placeholders.
///
/// ```
/// use gather_keys_core::template::Template;
///
/// let label = Template::parse("template", "{Valley}/{Hive | last 2}")?;
/// assert_eq!(label.headers().collect::<Vec<_>>(), ["Valley", "Hive"]);
/// assert_eq!(label.split("Silverbeck/07"), Ok(vec!["Silverbeck".into(), "07".into()]));
/// # Ok::<(), gather_keys_core::Error>(())
/// ```
#[derive(Debug, Clone)]
pub struct Template {
    text: String,
    segments: Vec<Segment>,
}

#[derive(Debug, Clone)]
enum Segment {
    Literal(String),
    Placeholder(Placeholder),
}

/// A header and the steps that its value goes through.
#[derive(Debug, Clone)]
pub struct Placeholder {
    header: String,
    steps: Vec<StepUse>,
}

impl Template {
    /// The template of one header with these steps.
    pub fn of_steps(header: &str, steps: Vec<StepUse>) -> Self {
        let texts = steps.iter().map(|step| format!(" | {}", step.text()));
        let text = format!("{header}{}", texts.collect::<String>());
        let placeholder = Placeholder { header: header.to_owned(), steps };
        Self { text, segments: vec![Segment::Placeholder(placeholder)] }
    }

    /// Puts steps before those of every placeholder.
    #[must_use]
    pub fn cleaned(mut self, clean: &[StepUse]) -> Self {
        for piece in &mut self.segments {
            if let Segment::Placeholder(placeholder) = piece {
                placeholder.steps.splice(0..0, clean.iter().cloned());
            }
        }
        self
    }

    /// The header, when the template is the value of one header as it is.
    pub fn as_header(&self) -> Option<&str> {
        match &self.segments[..] {
            [Segment::Placeholder(only)] if only.steps.is_empty() => Some(&only.header),
            _ => None,
        }
    }

    /// Whether it is a single placeholder, so that its value need not be split.
    pub fn is_bare(&self) -> bool {
        matches!(self.segments[..], [Segment::Placeholder(_)])
    }

    /// The literal texts that all its values begin and end with.
    pub(crate) fn ends(&self) -> (&str, &str) {
        let text = |piece: usize| match self.segments.get(piece) {
            Some(Segment::Literal(text)) => &text[..],
            _ => "",
        };
        (text(0), text(self.segments.len().saturating_sub(1)))
    }

    /// The headers that it names, in order; one that is named twice comes twice.
    pub fn headers(&self) -> impl Iterator<Item = &str> {
        self.placeholders().map(|placeholder| &placeholder.header[..])
    }

    fn placeholders(&self) -> impl Iterator<Item = &Placeholder> {
        self.segments.iter().filter_map(|piece| match piece {
            Segment::Placeholder(placeholder) => Some(placeholder),
            Segment::Literal(_) => None,
        })
    }
}

impl PartialEq for Template {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Template {}

/// As it was written.
impl fmt::Display for Template {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Placeholder {
    /// Whether its value may be blank without the whole part being so: its last step says with
    /// `or ""` that blank is a value too.
    fn may_be_blank(&self) -> bool {
        self.steps.last().is_some_and(StepUse::lets_blank_be)
    }

    /// How many characters its value always has, when its last step settles that.
    fn width(&self) -> Option<usize> {
        self.steps.last().and_then(StepUse::width)
    }
}
