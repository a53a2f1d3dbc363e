//! Something that may be wrong with the cells of a column.

use super::look::{Look, form_of_date};

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
    pub(super) count: u64,
    first: Option<(u64, u64, String)>,
}

impl Met {
    pub(super) fn at(&mut self, row: u64, line: u64, value: &str) {
        self.count += 1;
        if self.first.is_none() {
            self.first = Some((row, line, value.to_owned()));
        }
    }

    pub(super) fn reported(&self, kind: TroubleKind) -> Option<Trouble> {
        let (row, line, value) = self.first.clone()?;
        Some(Trouble { kind, count: self.count, row, line, value })
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
    plain_numbers: u64,
    /// The forms of dates, ISO 8601 first: joint and whether the year comes first.
    dates: Vec<((char, bool), Met)>,
    pub(super) spellings: Met,
}

impl Noting {
    /// Takes a cell that is not blank.
    pub(super) fn note(&mut self, (row, line): (u64, u64), text: &str, look: Look) {
        if has_surplus_space(text) {
            self.space.at(row, line, text);
        }
        if !text.is_ascii() && mixes_scripts(text) {
            self.look_alikes.at(row, line, text);
        }
        match look {
            Look::Number => {
                self.numbers.at(row, line, text);
                let digits = text.trim().trim_start_matches(['-', '+']);
                let has_zeros = digits.len() > 1
                    && digits.starts_with('0')
                    && digits.as_bytes()[1].is_ascii_digit();
                if has_zeros {
                    self.zeros.at(row, line, text);
                } else {
                    self.plain_numbers += 1;
                }
            }
            Look::Text => self.texts.at(row, line, text),
            Look::Date | Look::Time => {
                let form = form_of_date(text.trim()).unwrap_or(('-', true));
                let known = self.dates.iter_mut().find(|(known, _)| *known == form);
                match known {
                    Some((_, met)) => met.at(row, line, text),
                    None => {
                        let mut met = Met::default();
                        met.at(row, line, text);
                        self.dates.push((form, met));
                    }
                }
            }
            Look::Blank | Look::Truth => {}
        }
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
                Met { count, first: others[0].1.first.clone() }
            }
            _ => Met::default(),
        };
        let zeros = if self.plain_numbers > 0 { self.zeros } else { Met::default() };
        let all = [
            (TroubleKind::SurplusSpace, self.space),
            (TroubleKind::MixedKinds, mixed),
            (TroubleKind::LeadingZeros, zeros),
            (TroubleKind::DateForms, dates),
            (TroubleKind::LookAlikes, self.look_alikes),
            (TroubleKind::Spellings, self.spellings),
        ];
        all.iter().filter_map(|(kind, met)| met.reported(*kind)).collect()
    }
}

fn has_surplus_space(text: &str) -> bool {
    let mut before = ' ';
    let mut surplus = false;
    for sign in text.chars() {
        let zero_width = matches!(sign, '\u{200b}' | '\u{2060}' | '\u{feff}' | '\u{180e}');
        surplus |= zero_width
            || sign.is_whitespace() && (before.is_whitespace() || sign != ' ' && sign != '\n');
        before = sign;
    }
    surplus || before.is_whitespace() && !text.is_empty()
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
        let mut noting = Noting::default();
        for (row, cell) in (1..).zip(cells) {
            noting.note((row, row + 1), cell, Look::of(cell, CellKind::Untyped));
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
