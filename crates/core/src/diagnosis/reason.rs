//! The reasons why a key is unmatched.

use std::fmt;

use crate::lookup::Lookup;

/// A way in which two spellings of one value differ, in the order in which they are told.
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
    /// Leading zeros, a point with zeros behind, group separators.
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
    /// The value of a part, from 0, stands in another column of the reference, from 0.
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
    /// It is not spelling; which key comes near was not sought, since there are so many.
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
    /// The same for reasons that are told as one.
    pub(super) fn alike(&self) -> Self {
        match self {
            Self::Typo { part, .. } => Self::Typo { part: *part, distance: 0 },
            other => other.clone(),
        }
    }

    /// The parts, from 0, that stand in the way.
    pub fn parts(&self) -> Vec<usize> {
        match self {
            Self::Spelled(all) => all.iter().map(|(part, _)| *part).collect(),
            Self::Typo { part, .. } => part.iter().copied().collect(),
            Self::OnePart(part) | Self::Elsewhere { part, .. } => vec![*part],
            Self::Swapped | Self::OtherDigits | Self::Nothing | Self::NotSought => Vec::new(),
        }
    }

    /// What the reason of a key is in words, which `lookup` did not find: `letter case of Apiary`.
    pub fn of(&self, lookup: &Lookup) -> String {
        let parts = lookup.part_names();
        let part = |nth: &usize| parts.get(*nth).map_or("the key", String::as_str);
        match self {
            Self::Spelled(all) => {
                let each = all.iter().map(|(nth, forms)| {
                    let forms: Vec<&str> = forms.iter().map(|form| form.label()).collect();
                    format!("{} of {}", forms.join(" and "), part(nth))
                });
                each.collect::<Vec<_>>().join(", ")
            }
            Self::Swapped => "parts in another order".to_owned(),
            Self::Typo { part: nth, .. } => {
                format!("likely a typing slip in {}", nth.as_ref().map_or("the key", part))
            }
            Self::OnePart(nth) => format!("all parts but {} are held", part(nth)),
            Self::Elsewhere { part: nth, column: at } => {
                let (name, headers) = (lookup.reference().name(), lookup.reference().headers());
                format!("{} stands in {} of {name}", part(nth), headers.address(*at))
            }
            Self::OtherDigits => "the nearest key has other digits".to_owned(),
            Self::Nothing => "nothing near".to_owned(),
            Self::NotSought => "not held in another spelling".to_owned(),
        }
    }
}
