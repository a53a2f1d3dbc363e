//! The reasons why a key is unmatched.

use std::fmt;

use crate::lookup::Lookup;

/// A way in which two spellings of one value differ, in the order in which they are reported.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Form {
    /// White space around the value.
    SurroundingSpace,
    /// White space within it.
    InnerSpace,
    /// Upper and lower case.
    LetterCase,
    /// Accents, strokes, joined and wide letters.
    Accents,
    /// Signs that are neither letters nor digits.
    Punctuation,
    /// Leading zeros, a point followed by zeros, group separators.
    NumberForm,
    /// The order and the joints of day, month and year.
    DateForm,
}

/// Why a main key is unmatched.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Reason {
    /// Parts of it are spelled otherwise than in the nearest reference key: for each such part, from
    /// 0, how.
    Spelled(Vec<(usize, Vec<Form>)>),
    /// The nearest reference key has the same parts in another order.
    Swapped,
    /// One part, from 0, is a few characters off and the others are the same; or the key as a whole.
    Typo {
        /// The part.
        part: Option<usize>,
        /// How many changes of one character lie between.
        distance: usize,
    },
    /// One part, from 0, is another; the others are the same.
    OnePart(usize),
    /// The value of a part, from 0, is in another column of the reference, from 0.
    Elsewhere {
        /// The part.
        part: usize,
        /// The column.
        column: usize,
    },
    /// The nearest key differs in its digits, which is likely another one.
    OtherDigits,
    /// No reference key comes near.
    Nothing,
    /// Not the spelling. The nearest key was not searched for, because there were too many keys.
    NotSought,
}

impl Form {
    /// The words for it.
    pub const fn label(self) -> &'static str {
        match self {
            Self::SurroundingSpace => "surrounding space",
            Self::InnerSpace => "inner space",
            Self::LetterCase => "letter case",
            Self::Accents => "accents",
            Self::Punctuation => "punctuation",
            Self::NumberForm => "number form",
            Self::DateForm => "date form",
        }
    }
}

impl fmt::Display for Form {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.label())
    }
}

impl Reason {
    /// Reasons that are reported as one have the same label.
    pub(super) fn alike(&self) -> Self {
        match self {
            Self::Typo { part, .. } => Self::Typo { part: *part, distance: 0 },
            other => other.clone(),
        }
    }

    /// The parts, from 0, that are in the way.
    pub fn parts(&self) -> Vec<usize> {
        match self {
            Self::Spelled(all) => all.iter().map(|(part, _)| *part).collect(),
            Self::Typo { part, .. } => part.iter().copied().collect(),
            Self::OnePart(part) | Self::Elsewhere { part, .. } => vec![*part],
            Self::Swapped | Self::OtherDigits | Self::Nothing | Self::NotSought => Vec::new(),
        }
    }

    /// The reason in words, for a key that `lookup` did not find: `letter case of Apiary`.
    pub fn of(&self, lookup: &Lookup) -> String {
        let parts = lookup.part_names();
        let part = |nth: &usize| parts.get(*nth).map_or("the key", String::as_str);
        match self {
            Self::Spelled(all) => {
                let each = all.iter().map(|(nth, forms)| spelling(forms, part(nth)));
                each.collect::<Vec<_>>().join(", ")
            }
            Self::Swapped => "parts in another order".to_owned(),
            Self::Typo { part: nth, .. } => {
                format!("probably a typing slip in {}", nth.as_ref().map_or("the key", part))
            }
            Self::OnePart(nth) => format!("every part is found except {}", part(nth)),
            Self::Elsewhere { part: nth, column: at } => {
                let (name, headers) = (lookup.reference().name(), lookup.reference().headers());
                format!("{} is in column {} of {name}", part(nth), headers.address(*at))
            }
            Self::OtherDigits => "the nearest key has other digits".to_owned(),
            Self::Nothing => "nothing near".to_owned(),
            Self::NotSought => "not found in another spelling".to_owned(),
        }
    }
}

/// The forms in which a part differs: `letter case of Apiary and the way the number in it is
/// written`.
fn spelling(forms: &[Form], part: &str) -> String {
    let written = |form: &Form| match form {
        Form::NumberForm => Some("number"),
        Form::DateForm => Some("date"),
        _ => None,
    };
    let looks: Vec<&str> =
        forms.iter().filter(|form| written(form).is_none()).map(|form| form.label()).collect();
    let mut words = Vec::new();
    if !looks.is_empty() {
        words.push(format!("{} of {part}", looks.join(" and ")));
    }
    for (nth, what) in forms.iter().filter_map(written).enumerate() {
        let within = if nth == 0 && looks.is_empty() { part } else { "it" };
        words.push(format!("the way the {what} in {within} is written"));
    }
    words.join(" and ")
}
