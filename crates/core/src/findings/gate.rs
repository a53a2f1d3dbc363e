//! Gates: what a run must keep to, `unmatched <= 1%`, `hives.ambiguous = 0`.

use std::fmt;

use super::bound::{Bound, no_subject};
use super::{Counts, Kind, Population};
use crate::{Error, Result};

/// A bound on the count or the share of a kind of finding, for one reference or for each.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gate {
    text: String,
    reference: Option<String>,
    kind: Kind,
    bound: Bound,
}

/// A bound on something else that is counted in a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CountGate {
    text: String,
    label: &'static str,
    bound: Bound,
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
        let ((reference, kind), bound) = Bound::read(text, |subject| {
            let start = text.len() - text.trim_start().len();
            let start = start + subject.rfind('.').map_or(0, |dot| dot + 1);
            let labels: Vec<&str> = Kind::ALL.iter().map(|kind| kind.label()).collect();
            subject_of(subject).ok_or_else(|| no_subject(text, start, &labels))
        })?;
        Ok(Self { text: text.trim().to_owned(), reference, kind, bound })
    }

    /// The gate that a reference has none of a kind.
    pub fn none(reference: &str, kind: Kind) -> Self {
        Self {
            text: format!("{reference}.{} = 0", kind.label()),
            reference: Some(reference.to_owned()),
            kind,
            bound: Bound::NONE,
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
                holds: self.bound.holds(count, total),
            }
        };
        lookups.map(result).collect()
    }
}

impl CountGate {
    /// Reads a gate on one of these counts: `LABEL RELATION NUMBER[%]`.
    ///
    /// ```
    /// use gather_keys_core::findings::CountGate;
    ///
    /// let gate = CountGate::parse("not fitting <= 1%", &["split", "not fitting"])?;
    /// let result = gate.result("labels.csv", &[("split", 9), ("not fitting", 1)], 10);
    /// assert!(result.is_some_and(|result| !result.holds));
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`Error::Malformed`], with the place.
    pub fn parse(text: &str, labels: &[&'static str]) -> Result<Self> {
        let (label, bound) = Bound::read(text, |subject| {
            let word = subject.replace('-', " ");
            let label = labels.iter().copied().find(|label| *label == word);
            let start = text.len() - text.trim_start().len();
            label.ok_or_else(|| no_subject(text, start, labels))
        })?;
        Ok(Self { text: text.trim().to_owned(), label, bound })
    }

    /// How the gate comes out for a table of `total` rows, given the counts with these labels; `None` when its own is
    /// not among them.
    pub fn result(
        &self,
        table: &str,
        counts: &[(&'static str, u64)],
        total: u64,
    ) -> Option<GateResult> {
        let &(label, count) = counts.iter().find(|(label, _)| *label == self.label)?;
        Some(GateResult {
            population: Population::ReferenceRows,
            gate: self.text.clone(),
            reference: table.to_owned(),
            label,
            count,
            total,
            holds: self.bound.holds(count, total),
        })
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
