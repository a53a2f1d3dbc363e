//! How two spellings of one value differ, and which steps make them one.

use unicode_normalization::UnicodeNormalization;

use super::reason::Form;
use crate::template::{StepUse, apply_all, read_steps};
use crate::value::any_date::dates_of;

/// Steps that make one of two spellings: those of the main table's side and those of the reference's.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct Steps {
    pub(crate) main: String,
    pub(crate) reference: String,
}

/// The ways in which spellings differ, with the steps that fix each.
#[derive(Debug)]
pub(crate) struct Differences {
    ways: Vec<Way>,
    dates: Vec<(String, Vec<StepUse>)>,
}

#[derive(Debug)]
struct Way {
    forms: &'static [Form],
    text: [&'static str; 2],
    steps: [Vec<StepUse>; 2],
}

use Form::{Accents, DateForm, InnerSpace, LetterCase, NumberForm, Punctuation, SurroundingSpace};

/// The ways, those first that say least.
const WAYS: [(&[Form], &str); 23] = [
    (&[SurroundingSpace], "trim"),
    (&[InnerSpace], "tidy"),
    (&[InnerSpace], "compact"),
    (&[LetterCase], "fold"),
    (&[Accents], "plain"),
    (&[Punctuation], "alnum"),
    (&[NumberForm], "number"),
    (&[SurroundingSpace, LetterCase], "trim | fold"),
    (&[InnerSpace, LetterCase], "tidy | fold"),
    (&[InnerSpace, LetterCase], "compact | fold"),
    (&[SurroundingSpace, Accents], "trim | plain"),
    (&[InnerSpace, Accents], "tidy | plain"),
    (&[InnerSpace, Accents], "compact | plain"),
    (&[LetterCase, Accents], "plain | fold"),
    (&[LetterCase, Punctuation], "alnum | fold"),
    (&[Accents, Punctuation], "plain | alnum"),
    (&[SurroundingSpace, LetterCase, Accents], "trim | plain | fold"),
    (&[InnerSpace, LetterCase, Accents], "tidy | plain | fold"),
    (&[InnerSpace, LetterCase, Accents], "compact | plain | fold"),
    (&[LetterCase, Accents, Punctuation], "plain | alnum | fold"),
    (&[NumberForm], DIGITS),
    (&[Accents, NumberForm], "plain | number"),
    (&[Accents, NumberForm], PLAIN_DIGITS),
];

/// Ways in which the sides take other steps.
const SIDES: [(&[Form], [&str; 2]); 3] = [
    (&[NumberForm], ["number \",\"", "number"]),
    (&[NumberForm], ["number", "number \",\""]),
    (&[DateForm], ["month", "month"]),
];

const DIGITS: &str = "digits | number";
const PLAIN_DIGITS: &str = "plain | digits | number";

/// Ways of writing dates other than ISO 8601.
const DATES: [&str; 16] = [
    "%d.%m.%Y",
    "%d/%m/%Y",
    "%m/%d/%Y",
    "%d-%m-%Y",
    "%Y/%m/%d",
    "%Y.%m.%d",
    "%Y%m%d",
    "%d.%m.%y",
    "%d/%m/%y",
    "%m/%d/%y",
    "\"%d %B %Y\"",
    "\"%d %b %Y\"",
    "%d-%b-%Y",
    "%d-%b-%y",
    "\"%B %d, %Y\"",
    "\"%b %d, %Y\"",
];

impl Differences {
    pub(crate) fn new() -> Self {
        // These are steps as a person could write them.
        let steps = |text: &str| read_steps("steps", text).unwrap_or_default();
        let ways = WAYS.map(|(forms, text)| (forms, [text; 2])).into_iter().chain(SIDES);
        let dates = ["date".to_owned()]
            .into_iter()
            .chain(DATES.map(|format| format!("date {format}")))
            .chain(["date serial".to_owned()]);
        Self {
            ways: ways.map(|(forms, text)| Way { forms, text, steps: text.map(steps) }).collect(),
            dates: dates.map(|text| (text.clone(), steps(&text))).collect(),
        }
    }

    /// How a main value differs from a reference value, with the steps that make the two one; none
    /// when they are equal or when it is not the spelling in which they differ.
    pub(crate) fn between(&self, main: &str, reference: &str) -> Option<(Vec<Form>, Steps)> {
        if main == reference {
            return None;
        }
        for way in &self.ways {
            if [DIGITS, PLAIN_DIGITS].contains(&way.text[0]) && !letters_agree(main, reference) {
                continue;
            }
            let [ours, theirs] = &way.steps;
            let made = apply_all(ours, main).filter(|made| !made.is_empty());
            if made.is_some() && made == apply_all(theirs, reference) {
                let [main, reference] = way.text.map(str::to_owned);
                return Some((way.forms.to_vec(), Steps { main, reference }));
            }
        }
        let is_date = |value: &str| dates_of(value).iter().any(Option::is_some);
        if !is_date(main) || !is_date(reference) {
            return None;
        }
        for (text, steps) in &self.dates {
            let Some(made) = apply_all(steps, main) else { continue };
            for (other, steps) in &self.dates {
                if apply_all(steps, reference).as_ref() == Some(&made) {
                    let steps = Steps { main: text.clone(), reference: other.clone() };
                    return Some((vec![DateForm], steps));
                }
            }
        }
        None
    }
}

/// Whether two values with numbers in them have the same letters, or one has the beginning of the
/// other's: `hive 7` and `H-007`.
fn letters_agree(one: &str, other: &str) -> bool {
    let letters = |value: &str| -> String {
        value.nfkc().filter(|sign| sign.is_alphabetic()).flat_map(char::to_lowercase).collect()
    };
    let (one, other) = (letters(one), letters(other));
    let (short, long) = if one.len() < other.len() { (one, other) } else { (other, one) };
    short.is_empty() || short == long || long.len() > WORD && long.starts_with(&short)
}

/// Whether two values with numbers in them may be of different things, though their digits are the same: their letters don't
/// agree, or only one has letters after its digits, as `7b` and `7`.
pub(crate) fn are_unlike(one: &str, other: &str) -> bool {
    let suffix = |value: &str| -> Option<String> {
        let after = value.rfind(|c: char| c.is_numeric())?;
        let letters = value[after..].nfkc().filter(|c| c.is_alphabetic());
        Some(letters.flat_map(char::to_lowercase).collect())
    };
    !letters_agree(one, other) || suffix(one) != suffix(other)
}

/// A value with more letters than this is a word, and shorter ones may be its beginning.
const WORD: usize = 2;

impl Steps {
    /// Whether they remove letters, so that values become one that have different ones.
    pub(crate) fn remove_letters(&self) -> bool {
        let removes = |steps: &str| steps.split(" | ").any(|step| step == "digits");
        removes(&self.main) || removes(&self.reference)
    }

    /// Steps that do what either do; `None` when they don't go together.
    pub(crate) fn with(&self, other: &Self) -> Option<Self> {
        if self == other {
            return Some(self.clone());
        }
        Some(Self {
            main: together(&self.main, &other.main)?,
            reference: together(&self.reference, &other.reference)?,
        })
    }
}

/// Both steps, each once and in an order in which they work, without steps that another one includes.
fn together(one: &str, other: &str) -> Option<String> {
    const ORDER: [&str; 9] =
        ["trim", "tidy", "compact", "plain", "alnum", "digits", "fold", "number", "number \",\""];
    let mut has = [false; ORDER.len()];
    for step in one.split(" | ").chain(other.split(" | ")) {
        has[ORDER.iter().position(|known| *known == step)?] = true;
    }
    let [trim, tidy, compact, _, alnum, digits, fold, number, comma] = &mut has;
    if *number && *comma {
        return None;
    }
    let is_number = *number || *comma;
    *alnum &= !*digits;
    *compact &= !*alnum && !*digits;
    *tidy &= !*compact && !*alnum && !*digits;
    *trim &= !*tidy && !*compact && !*alnum && !*digits && !is_number;
    // A number has no letters, except those that `digits` removes.
    *fold &= !is_number;
    let steps = ORDER.iter().zip(has).filter(|(_, has)| *has).map(|(step, _)| *step);
    Some(steps.collect::<Vec<_>>().join(" | "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn differences_are_told_by_the_least_of_them() {
        let all = Differences::new();
        for (main, reference, forms, steps) in [
            ("Fellside ", "Fellside", "surrounding space", "trim"),
            ("\u{a0}Fellside", "Fellside", "surrounding space", "trim"),
            ("Nether  Moor", "Nether Moor", "inner space", "tidy"),
            ("Nether\u{a0}Moor", "Nether Moor", "inner space", "tidy"),
            ("NetherMoor", "Nether Moor", "inner space", "compact"),
            ("FELLSIDE", "Fellside", "letter case", "fold"),
            ("Łódź", "Lodz", "accents", "plain"),
            ("H 007", "H-007", "punctuation", "alnum"),
            ("007", "7", "number form", "number"),
            ("1.234,50", "1234.5", "number form", "number \",\" = number"),
            ("H-7", "H-007", "number form", "digits | number"),
            ("hive 7", "H-007", "number form", "digits | number"),
            ("7", "H-007", "number form", "digits | number"),
            ("fellside ", "Fellside", "surrounding space+letter case", "trim | fold"),
            ("lodz", "Łódź", "letter case+accents", "plain | fold"),
            ("h007", "H-007", "letter case+punctuation", "alnum | fold"),
            ("7.5.2026", "2026-05-07", "date form", "date %d.%m.%Y = date"),
            ("45943", "2025-10-13", "date form", "date serial = date"),
            ("Ｈ－７", "H-007", "accents+number form", "plain | digits | number"),
            ("05/13/26", "13.05.2026", "date form", "date %m/%d/%y = date %d.%m.%Y"),
            ("January", "01", "date form", "month"),
            ("3", "Mar", "date form", "month"),
            ("Sept.", "September", "date form", "month"),
            ("5 July 2026", "2026-07-05", "date form", "date \"%d %B %Y\" = date"),
        ] {
            let Some((found, made)) = all.between(main, reference) else {
                panic!("{main} {reference}")
            };
            let found: Vec<&str> = found.iter().map(|form| form.label()).collect();
            assert_eq!(found.join("+"), forms, "{main} {reference}");
            let made = if made.main == made.reference {
                made.main
            } else {
                format!("{} = {}", made.main, made.reference)
            };
            assert_eq!(made, steps, "{main} {reference}");
        }
        for (main, reference) in [
            ("Fellside", "Fellside"),
            ("K-7", "H-007"),
            ("H-O12", "H-012"),
            ("H-8", "H-7"),
            ("Moor", "More"),
            ("-", "/"),
        ] {
            assert_eq!(all.between(main, reference), None, "{main} {reference}");
        }
    }

    #[test]
    fn unlike_values_are_known() {
        for (one, other, want) in [
            ("hive 7", "H-007", false),
            ("7", "H-007", false),
            ("a9", "A-009", false),
            ("a9", "B-009", true),
            ("7b", "7", true),
            ("7B", "7 b", false),
            ("12345X", "12345", true),
        ] {
            assert_eq!(are_unlike(one, other), want, "{one} {other}");
            assert_eq!(are_unlike(other, one), want, "{other} {one}");
        }
    }

    #[test]
    fn steps_go_together() {
        for (one, other, want) in [
            ("trim", "fold", Some("trim | fold")),
            ("fold", "tidy", Some("tidy | fold")),
            ("trim", "alnum | fold", Some("alnum | fold")),
            ("fold", "plain", Some("plain | fold")),
            ("number", "trim", Some("number")),
            ("digits | number", "fold", Some("digits | number")),
            ("number", "number \",\"", None),
            ("date", "trim", None),
        ] {
            assert_eq!(together(one, other).as_deref(), want, "{one} with {other}");
        }
    }
}
