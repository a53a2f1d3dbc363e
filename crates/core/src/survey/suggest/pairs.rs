//! Pairs of columns whose values meet.

use std::collections::HashSet;

use super::Side;
use super::by_value::ByValue;
use super::column::Form;

/// How many pairs of columns are tried together.
pub(super) const PAIRS: usize = 14;

/// A pair is tried when this share of the main table's values is in the reference, or of the reference's in the main
/// table.
pub(super) const COVERED: f64 = 0.25;

/// Columns of which any may hold a value each have at least this share, and together the second.
pub(super) const ANY_ONE: f64 = 0.02;
pub(super) const ANY_ALL: f64 = 0.7;

/// None of them has more than this share of what they have together.
pub(super) const ANY_BEST: f64 = 0.7;

/// Digits are compared where they cover a share of the values that is larger by this than that of the values themselves.
pub(super) const MORE: f64 = 0.3;

/// Digits of no more different values are found anywhere by chance.
const FEW: usize = 10;

/// A pair of a main column and one or several of the reference's.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Pair {
    pub(super) main: usize,
    pub(super) reference: Vec<usize>,
    pub(super) form: Form,
    pub(super) values: usize,
    pub(super) covered: usize,
    /// How alike the headers are, from 0 to 1.
    pub(super) named: f64,
    /// The share of the main table's values that the reference has as they are.
    pub(super) exact: f64,
    /// Whether the values of the reference are such that others are among them by chance, and the headers differ.
    pub(super) is_by_chance: bool,
}

/// Headers that are at least this much alike say that columns hold the same.
pub(super) const SAME: f64 = 0.8;

impl Pair {
    pub(super) fn share(&self) -> f64 {
        self.covered as f64 / self.values.max(1) as f64
    }
}

/// How alike two headers are, from 0 to 1.
pub(super) fn alike(one: &str, other: &str) -> f64 {
    strsim::normalized_damerau_levenshtein(&letters(one), &letters(other))
}

/// The letters and digits of a header.
pub(super) fn letters(header: &str) -> String {
    header.to_lowercase().chars().filter(|sign| sign.is_alphanumeric()).collect()
}

/// The pairs whose values meet, the best first. `by_value` is of the main table.
pub(super) fn pairs(
    (left, ours): Side<'_>,
    by_value: &ByValue,
    (right, theirs): Side<'_>,
) -> Vec<Pair> {
    let shared = by_value.shared((left, ours), (right, theirs));
    let mut all = Vec::new();
    for (main, column) in left.iter().enumerate() {
        let values = column.distinct(Form::Loose).len();
        if values == 0 {
            continue;
        }
        let most_have = column.filled(Form::Digits) * 10 >= column.filled(Form::Loose) * 9;
        let mut single = 0.0_f64;
        let mut several: Vec<(usize, usize)> = Vec::new();
        for (&nth, &[covered, covered_digits]) in &shared[main] {
            let other = &right[nth];
            let named = alike(ours.name(column.of), theirs.name(other.of));
            let is_varied = column.distinct(Form::Digits).len() > FEW || named > 0.5;
            // Numbers that count hold those of any other column, the more so if they are only a part of it; then the same
            // header says nothing either.
            let is_by_chance = |form| {
                let is_part = column.cut.is_some() || other.cut.is_some();
                let in_ours = is_part && column.is_found_by_chance(form);
                (is_part || named <= SAME) && (in_ours || other.is_found_by_chance(form))
            };
            let loose = Pair {
                main,
                reference: vec![nth],
                form: Form::Loose,
                values,
                covered,
                named,
                exact: 0.0,
                is_by_chance: is_by_chance(Form::Loose),
            };
            // Digits alone are compared where the values themselves don't meet.
            let digits = Pair {
                form: Form::Digits,
                values: column.distinct(Form::Digits).len(),
                covered: covered_digits,
                is_by_chance: is_by_chance(Form::Digits) || !is_varied,
                ..loose.clone()
            };
            let is_digits = most_have && digits.share() > loose.share() + MORE;
            if loose.share() >= ANY_ONE && other.cut.is_none() {
                several.push((nth, loose.covered));
            }
            single = single.max(loose.share());
            let mut best = if is_digits { digits } else { loose };
            let theirs = other.distinct(best.form).len();
            let of_theirs = best.covered as f64 / theirs.max(1) as f64;
            let holds_many = theirs > FEW && !best.is_by_chance && of_theirs >= COVERED;
            if best.share() >= COVERED || holds_many || best.covered > 0 && named > SAME {
                if best.form == Form::Loose {
                    let exact =
                        column.as_read().filter(|hash| other.has_as_read(*hash)).count() as f64;
                    best.exact = exact / column.as_read().count().max(1) as f64;
                }
                all.push(best);
            }
        }
        let together: HashSet<u64> = several
            .iter()
            .flat_map(|(nth, _)| right[*nth].shared(Form::Loose).iter().copied())
            .filter(|value| column.distinct(Form::Loose).contains(value))
            .collect();
        let share = together.len() as f64 / values as f64;
        if several.len() > 1 && share >= ANY_ALL && single < share * ANY_BEST {
            all.push(Pair {
                main,
                reference: several.iter().map(|(nth, _)| *nth).collect(),
                form: Form::Loose,
                values,
                covered: together.len(),
                named: 0.0,
                exact: 0.0,
                is_by_chance: false,
            });
        }
    }
    // What is found by chance must not crowd out what is not.
    all.sort_by(|a, b| {
        let worth = |pair: &Pair| pair.share() + pair.named * 0.3;
        a.is_by_chance.cmp(&b.is_by_chance).then_with(|| worth(b).total_cmp(&worth(a)))
    });
    all.truncate(PAIRS);
    all
}
