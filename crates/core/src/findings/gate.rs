//! Gates: what a run must keep to, `unmatched <= 1%`, `hives.ambiguous = 0`.

use std::cmp::Ordering;
use std::fmt;

use super::{Counts, Kind, Population};
use crate::{Error, Result};

/// A share is counted in millionths of a percent, so that it is compared exactly.
const PER_PERCENT: u64 = 1_000_000;

/// A bound on the count or the share of a kind of finding, for one reference or for each.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gate {
    text: String,
    reference: Option<String>,
    kind: Kind,
    relation: Relation,
    limit: Limit,
}

/// The relation of a count to its limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Relation {
    /// `<=`
    AtMost,
    /// `>=`
    AtLeast,
    /// `<`
    Below,
    /// `>`
    Above,
    /// `=`
    Equal,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Limit {
    Count(u64),
    /// In millionths of a percent.
    Share(u64),
}

/// How a gate came out for one reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GateResult {
    /// The population of the kind.
    pub population: Population,
    /// The gate as it was written.
    pub gate: String,
    /// The reference.
    pub reference: String,
    /// The bounded count, in words.
    pub label: &'static str,
    /// How often that occurs.
    pub count: u64,
    /// How many there are of what the kind is said of.
    pub total: u64,
    /// Whether the gate holds.
    pub holds: bool,
}

impl Gate {
    /// Reads a gate: `[REFERENCE.]KIND RELATION NUMBER[%]`.
    ///
    /// ```
    /// use gather_keys_core::findings::Gate;
    ///
    /// assert!(Gate::parse("hives.blank key <= 0.5 %").is_ok());
    /// let error = Gate::parse("unmatched <= few").unwrap_err();
    /// assert!(error.to_string().contains("character 14"));
    /// ```
    ///
    /// # Errors
    /// [`Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Self> {
        let malformed = |at: usize, expected: String| {
            Err(Error::Malformed { option: "require", text: text.to_owned(), at, expected })
        };
        let signs = [
            ("<=", Relation::AtMost),
            (">=", Relation::AtLeast),
            ("<", Relation::Below),
            (">", Relation::Above),
            ("=", Relation::Equal),
        ];
        let Some(at) = text.find(['<', '>', '=']) else {
            return malformed(text.len(), "one of `<=`, `>=`, `<`, `>` or `=`".to_owned());
        };
        let Some(&(sign, relation)) = signs.iter().find(|(sign, _)| text[at..].starts_with(sign))
        else {
            return malformed(at, "one of `<=`, `>=`, `<`, `>` or `=`".to_owned());
        };
        let subject = text[..at].trim();
        let Some((reference, kind)) = subject_of(subject) else {
            let kinds: Vec<String> =
                Kind::ALL.iter().map(|kind| format!("`{}`", kind.label())).collect();
            let start = text.len() - text.trim_start().len();
            let start = start + subject.rfind('.').map_or(0, |dot| dot + 1);
            return malformed(start, format!("one of {}", kinds.join(", ")));
        };
        let start = at + sign.len();
        let number = text[start..].trim_start();
        let number_at = text.len() - number.len();
        let Some(limit) = limit_of(number.trim_end()) else {
            return malformed(number_at, "a whole number, or a share such as `0.5 %`".to_owned());
        };
        Ok(Self { text: text.trim().to_owned(), reference, kind, relation, limit })
    }

    /// The gate that a reference has none of a kind.
    pub fn none(reference: &str, kind: Kind) -> Self {
        Self {
            text: format!("{reference}.{} = 0", kind.label()),
            reference: Some(reference.to_owned()),
            kind,
            relation: Relation::Equal,
            limit: Limit::Count(0),
        }
    }

    /// The kind that it bounds.
    pub fn kind(&self) -> Kind {
        self.kind
    }

    /// Checks that the reference it names, if any, is one of `names`.
    ///
    /// # Errors
    /// [`Error::ReferenceUnknown`].
    pub fn check_names(&self, names: &[String]) -> Result<()> {
        match &self.reference {
            Some(asked) if !names.contains(asked) => {
                Err(Error::ReferenceUnknown { asked: asked.clone(), all: names.to_vec() })
            }
            _ => Ok(()),
        }
    }

    /// How the gate comes out for the references it is about, given by name and counts.
    pub fn results<'a>(
        &self,
        lookups: impl IntoIterator<Item = (&'a str, &'a Counts)>,
    ) -> Vec<GateResult> {
        let about = |name: &str| self.reference.as_deref().is_none_or(|only| only == name);
        let lookups = lookups.into_iter().filter(|(name, _)| about(name));
        let result = |(name, counts): (&str, &Counts)| {
            let (count, total) = (counts.of(self.kind), counts.total(self.kind));
            GateResult {
                population: counts.population(self.kind),
                gate: self.text.clone(),
                reference: name.to_owned(),
                label: self.kind.label(),
                count,
                total,
                holds: self.holds(count, total),
            }
        };
        lookups.map(result).collect()
    }

    fn holds(&self, count: u64, total: u64) -> bool {
        let order = match self.limit {
            Limit::Count(limit) => count.cmp(&limit),
            Limit::Share(share) => {
                let have = u128::from(count) * 100 * u128::from(PER_PERCENT);
                have.cmp(&(u128::from(share) * u128::from(total)))
            }
        };
        match self.relation {
            Relation::AtMost => order != Ordering::Greater,
            Relation::AtLeast => order != Ordering::Less,
            Relation::Below => order == Ordering::Less,
            Relation::Above => order == Ordering::Greater,
            Relation::Equal => order == Ordering::Equal,
        }
    }
}

impl fmt::Display for Gate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

fn subject_of(subject: &str) -> Option<(Option<String>, Kind)> {
    let kind_of = |word: &str| {
        let word = word.trim().replace('-', " ");
        Kind::ALL.into_iter().find(|kind| kind.label() == word)
    };
    match subject.rsplit_once('.') {
        None => Some((None, kind_of(subject)?)),
        Some((reference, kind)) => Some((Some(reference.trim().to_owned()), kind_of(kind)?)),
    }
}

fn limit_of(number: &str) -> Option<Limit> {
    let Some(share) = number.strip_suffix('%') else {
        return digits(number).map(Limit::Count);
    };
    let (whole, part) = share.trim_end().split_once('.').unwrap_or((share.trim_end(), "0"));
    let places = u32::try_from(part.len()).ok().filter(|&places| places <= 6)?;
    let part = digits(part)? * 10_u64.pow(6 - places);
    digits(whole)?.checked_mul(PER_PERCENT)?.checked_add(part).map(Limit::Share)
}

fn digits(text: &str) -> Option<u64> {
    text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse().ok())?
}

#[cfg(test)]
mod tests {
    use super::*;

    fn counts(unmatched: u64, main_rows: u64) -> Counts {
        let mut counts = Counts { main_rows, ..Counts::default() };
        counts.of[Kind::Unmatched as usize] = unmatched;
        counts
    }

    #[test]
    fn gates_compare_exactly() {
        for (text, unmatched, main_rows, holds) in [
            ("unmatched <= 1%", 10, 1000, true),
            ("unmatched <= 1%", 11, 1000, false),
            ("unmatched<1 %", 10, 1000, false),
            ("unmatched = 0.1%", 1, 1000, true),
            ("unmatched = 33.333333%", 1, 3, false),
            ("unmatched >= 10", 10, 11, true),
            ("unmatched > 10", 10, 11, false),
            ("unmatched = 0", 0, 0, true),
            ("unmatched <= 0%", 0, 0, true),
            ("hives.unmatched = 1", 1, 5, true),
            ("blank-key = 0", 1, 5, true),
        ] {
            let gate = Gate::parse(text).unwrap();
            let counts = counts(unmatched, main_rows);
            let results = gate.results([("hives", &counts)]);
            assert_eq!(results.iter().map(|r| r.holds).collect::<Vec<_>>(), [holds], "{text}");
        }
    }

    #[test]
    fn a_gate_is_about_the_reference_it_names() {
        let (a, b) = (counts(0, 5), counts(2, 5));
        let holds = |text: &str| -> Vec<bool> {
            let results = Gate::parse(text).unwrap().results([("a", &a), ("b.c", &b)]);
            results.iter().map(|result| result.holds).collect()
        };
        assert_eq!(holds("unmatched = 0"), [true, false]);
        assert_eq!(holds("a.unmatched = 0"), [true]);
        assert_eq!(holds("b.c.unmatched = 0"), [false]);
        let names = ["a".to_owned(), "b.c".to_owned()];
        assert!(Gate::parse("c.unmatched = 0").unwrap().check_names(&names).is_err());
        assert!(Gate::parse("b.c.unmatched = 0").unwrap().check_names(&names).is_ok());
    }

    #[test]
    fn errors_mark_the_place() {
        for (text, want) in [
            ("", 0),
            ("unmatched", 9),
            ("lost = 0", 0),
            ("hives.lost = 0", 6),
            ("unmatched <= ", 13),
            ("unmatched <= -1", 13),
            ("unmatched <= 1.5", 13),
            ("unmatched <= 1.1234567 %", 13),
            ("unmatched == 1", 11),
        ] {
            match Gate::parse(text).unwrap_err() {
                Error::Malformed { at, .. } => assert_eq!(at, want, "{text}"),
                other => panic!("{other}"),
            }
        }
    }
}
