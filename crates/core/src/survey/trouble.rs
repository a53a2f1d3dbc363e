//! Something that may be wrong with the cells of a column.

use super::look::{Look, form_of_date};
use crate::value::is_zero_width;

/// A kind of trouble.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum TroubleKind {
    /// White space around a value, two spaces in a row, or white space that is no plain space.
    SurplusSpace,
    /// Numbers among text, or text among numbers: whichever are fewer.
    MixedKinds,
    /// Numbers with leading zeros next to numbers without.
    LeadingZeros,
    /// Dates in several forms: those in all but the commonest form.
    DateForms,
    /// Letters that look like Latin ones but are of another script, within a word of Latin letters.
    LookAlikes,
    /// Values that are the same as another but for case, space, accents or punctuation.
    Spellings,
}

/// Trouble with a column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trouble {
    /// The kind.
    pub kind: TroubleKind,
    /// In how many cells; of spellings, how many values.
    pub count: u64,
    /// Whether that is all; otherwise there may be more.
    pub is_exact: bool,
    /// The first such row, counted from 1, and its line.
    pub row: u64,
    /// The line on which that begins.
    pub line: u64,
    /// The cell there.
    pub value: String,
}

impl TroubleKind {
    /// Every kind, in the order in which they are reported.
    pub const ALL: [Self; 6] = [
        Self::SurplusSpace,
        Self::MixedKinds,
        Self::LeadingZeros,
        Self::DateForms,
        Self::LookAlikes,
        Self::Spellings,
    ];

    /// The words for it.
    pub const fn label(self) -> &'static str {
        match self {
            Self::SurplusSpace => "surplus space",
            Self::MixedKinds => "numbers and text mixed",
            Self::LeadingZeros => "leading zeros on some numbers only",
            Self::DateForms => "dates in several forms",
            Self::LookAlikes => "letters of another script that look alike",
            Self::Spellings => "values that differ only in spelling",
        }
    }

    /// The step that helps where such a column is part of a key.
    pub const fn step(self) -> Option<&'static str> {
        match self {
            Self::SurplusSpace => Some("tidy"),
            Self::LeadingZeros => Some("number"),
            Self::DateForms => Some("date"),
            Self::Spellings => Some("plain | fold"),
            Self::MixedKinds | Self::LookAlikes => None,
        }
    }
}

/// The first place of a trouble, and how often it occurs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Met {
    count: u64,
    first: Option<(u64, u64, String)>,
}

impl Met {
    /// Notes where it was met, unless that is known.
    fn first(&mut self, place: impl Fn() -> (u64, u64), value: &str) {
        self.first.get_or_insert_with(|| {
            let (row, line) = place();
            (row, line, value.to_owned())
        });
    }

    fn reported(&self, kind: TroubleKind, is_exact: bool) -> Option<Trouble> {
        let (row, line, value) = self.first.clone()?;
        Some(Trouble { kind, count: self.count, is_exact, row, line, value })
    }
}

/// Notes on the cells of a column, for its troubles.
#[derive(Debug, Default)]
pub(super) struct Noting {
    space: Met,
    look_alikes: Met,
    numbers: Met,
    texts: Met,
    zeros: Met,
    /// The forms of dates, as they were met: joint and whether the year comes first.
    dates: Vec<((char, bool), Met)>,
    spellings: Met,
    /// Whether spellings were compared to the end.
    has_all_spellings: bool,
}

/// What is to be noted of every cell with a value.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Marks {
    has_space: bool,
    is_mixed: bool,
    has_zeros: bool,
    /// The form of a date, by its place among the forms that were met.
    form: Option<u8>,
}

impl Noting {
    pub(super) fn new() -> Self {
        Self { has_all_spellings: true, ..Self::default() }
    }

    /// Takes a value that is not blank and may be new, and notes where it is; its cells are counted later.
    pub(super) fn meet(&mut self, place: impl Fn() -> (u64, u64), text: &str, look: Look) -> Marks {
        let mut marks = Marks {
            has_space: has_surplus_space(text),
            is_mixed: !text.is_ascii() && mixes_scripts(text),
            ..Marks::default()
        };
        if marks.has_space {
            self.space.first(&place, text);
        }
        if marks.is_mixed {
            self.look_alikes.first(&place, text);
        }
        match look {
            Look::Number => {
                self.numbers.first(&place, text);
                let digits = text.trim().trim_start_matches(['-', '+']);
                marks.has_zeros = digits.len() > 1
                    && digits.starts_with('0')
                    && digits.as_bytes()[1].is_ascii_digit();
                if marks.has_zeros {
                    self.zeros.first(&place, text);
                }
            }
            Look::Text => self.texts.first(&place, text),
            Look::Date | Look::Time => {
                let form = form_of_date(text.trim()).unwrap_or(('-', true));
                let nth = self.dates.iter().position(|(known, _)| *known == form);
                let nth = nth.unwrap_or_else(|| {
                    self.dates.push((form, Met::default()));
                    self.dates.len() - 1
                });
                self.dates[nth].1.first(&place, text);
                marks.form = u8::try_from(nth).ok();
            }
            Look::Blank | Look::Truth => {}
        }
        marks
    }

    /// Counts cells of a value that was met.
    pub(super) fn count(&mut self, marks: Marks, look: Look, cells: u64) {
        self.space.count += if marks.has_space { cells } else { 0 };
        self.look_alikes.count += if marks.is_mixed { cells } else { 0 };
        self.zeros.count += if marks.has_zeros { cells } else { 0 };
        match look {
            Look::Number => self.numbers.count += cells,
            Look::Text => self.texts.count += cells,
            _ => {}
        }
        if let Some((_, met)) = marks.form.and_then(|form| self.dates.get_mut(usize::from(form))) {
            met.count += cells;
        }
    }

    /// Takes a value that is spelled differently from one before.
    pub(super) fn spelling(&mut self, place: impl Fn() -> (u64, u64), text: &str) {
        self.spellings.first(place, text);
        self.spellings.count += 1;
    }

    /// From now on spellings are not compared.
    pub(super) fn leave_spellings(&mut self) {
        self.has_all_spellings = false;
    }

    /// The troubles that there are.
    pub(super) fn finish(mut self) -> Vec<Trouble> {
        let fewer = if self.numbers.count < self.texts.count { &self.numbers } else { &self.texts };
        // A few numbers among many names are names too; many of both are a mixture.
        let is_mixed = fewer.count * 50 >= self.numbers.count + self.texts.count
            || fewer.count <= 3 && self.numbers.count > self.texts.count;
        let mixed = if is_mixed { fewer.clone() } else { Met::default() };
        self.dates.sort_by_key(|(_, met)| std::cmp::Reverse(met.count));
        let dates = match &self.dates[..] {
            [_, others @ ..] if !others.is_empty() => {
                let count = others.iter().map(|(_, met)| met.count).sum();
                let firsts = others.iter().filter_map(|(_, met)| met.first.clone());
                Met { count, first: firsts.min() }
            }
            _ => Met::default(),
        };
        let has_plain = self.numbers.count > self.zeros.count;
        let zeros = if has_plain { self.zeros } else { Met::default() };
        let all = [
            (TroubleKind::SurplusSpace, self.space),
            (TroubleKind::MixedKinds, mixed),
            (TroubleKind::LeadingZeros, zeros),
            (TroubleKind::DateForms, dates),
            (TroubleKind::LookAlikes, self.look_alikes),
            (TroubleKind::Spellings, self.spellings),
        ];
        let is_exact = |kind| kind != TroubleKind::Spellings || self.has_all_spellings;
        all.iter().filter_map(|(kind, met)| met.reported(*kind, is_exact(*kind))).collect()
    }
}

/// Whether white space is around a value, twice in a row, of no width, or other than a plain space.
fn has_surplus_space(text: &str) -> bool {
    if text.bytes().all(|byte| (b'!'..=b'~').contains(&byte)) {
        return false;
    }
    let mut before = ' ';
    let mut is_surplus = false;
    for character in text.chars() {
        is_surplus |= is_zero_width(character)
            || character.is_whitespace()
                && (before.is_whitespace() || character != ' ' && character != '\n');
        before = character;
    }
    is_surplus || before.is_whitespace() && !text.is_empty()
}

/// Whether Latin letters are in one word with letters of Greek or Cyrillic that look like them.
fn mixes_scripts(text: &str) -> bool {
    text.split(|sign: char| !sign.is_alphanumeric()).any(|word| {
        let latin = word.chars().any(|sign| sign.is_ascii_alphabetic());
        let other =
            word.chars().any(|sign| matches!(sign, '\u{370}'..='\u{3ff}' | '\u{400}'..='\u{4ff}'));
        latin && other
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::CellKind;

    fn reported(cells: &[&str]) -> Vec<(&'static str, u64, u64)> {
        let mut noting = Noting::new();
        for (row, cell) in (1..).zip(cells) {
            let look = Look::of(cell, CellKind::Untyped);
            let marks = noting.meet(|| (row, row + 1), cell, look);
            noting.count(marks, look, 1);
        }
        let troubles = noting.finish();
        troubles.iter().map(|one| (one.kind.label(), one.count, one.row)).collect()
    }

    #[test]
    fn troubles_are_told_with_their_first_row() {
        let space = TroubleKind::SurplusSpace.label();
        let zeros = TroubleKind::LeadingZeros.label();
        let mixed = TroubleKind::MixedKinds.label();
        let dates = TroubleKind::DateForms.label();
        let alike = TroubleKind::LookAlikes.label();
        for (cells, want) in [
            (
                &["Fellside", " Fellside", "Nether  Moor", "Nether\u{a0}Moor"][..],
                vec![(space, 3, 2)],
            ),
            (&["Fellside ", "one\ntwo"], vec![(space, 1, 1)]),
            (&["7", "007", "8"], vec![(zeros, 1, 2)]),
            (&["007", "008"], vec![]),
            (&["0", "0.5", "7"], vec![]),
            (&["7", "8", "n/a"], vec![(mixed, 1, 3)]),
            (&["2026-05-19", "19.5.2026", "20.5.2026"], vec![(dates, 1, 1)]),
            (&["2026-05-19", "2026-05-20 14:30"], vec![]),
            (&["Fellside", "Fеllside"], vec![(alike, 1, 2)]),
            (&["Ορα", "Wend Ορα"], vec![]),
        ] {
            assert_eq!(reported(cells), want, "{cells:?}");
        }
    }
}
