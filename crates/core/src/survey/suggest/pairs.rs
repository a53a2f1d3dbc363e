//! Pairs of columns whose values meet.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::Side;
use super::column::{Column, Form, Hashes};
use crate::hashing::PassHash;

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

/// Values that more columns of the main table have than this do not show which one is meant.
const EVERYWHERE: usize = 256;

/// The columns of a main table by their values, in each form, so that a reference's values are looked up once.
#[derive(Debug, Default)]
pub(super) struct ByValue {
    columns: [HashMap<u64, Holders, PassHash>; 2],
    /// A bit for each value that may be there: most values of a reference are not, and this is in the cache.
    bits: Vec<u64>,
}

/// The columns that have a value; most values are in one only.
#[derive(Debug)]
enum Holders {
    One(u32),
    Several(Vec<u32>),
}

/// How many bits there are, as a power of two.
const BITS: u32 = 22;

/// For each column of a main table, the columns of a reference that share values with it, and how many in each form.
type Shared = Vec<BTreeMap<usize, [usize; 2]>>;

impl ByValue {
    pub(super) fn of(columns: &[Column]) -> Self {
        let mut all = Self { columns: Default::default(), bits: vec![0; 1 << (BITS - 6)] };
        for (form, by_value) in Form::ALL.into_iter().zip(&mut all.columns) {
            for (nth, column) in columns.iter().enumerate() {
                for value in column.distinct(form) {
                    let (word, bit) = Self::place(*value);
                    all.bits[word] |= bit;
                    by_value
                        .entry(*value)
                        .and_modify(|holders| holders.add(nth as u32))
                        .or_insert(Holders::One(nth as u32));
                }
            }
        }
        all
    }

    fn place(value: u64) -> (usize, u64) {
        let bit = value >> (u64::BITS - BITS);
        ((bit >> 6) as usize, 1 << (bit & 63))
    }

    /// Whether any column has a value in a form.
    #[inline]
    pub(super) fn has(&self, value: u64, form: Form) -> bool {
        let (word, bit) = Self::place(value);
        self.bits.get(word).is_some_and(|bits| bits & bit != 0)
            && self.columns[form as usize].contains_key(&value)
    }

    /// The columns that have some of the values in a form, each with how many.
    pub(super) fn columns_with(&self, values: &Hashes, form: Form) -> BTreeMap<usize, usize> {
        let mut counts = BTreeMap::new();
        for holders in values.iter().filter_map(|value| self.columns[form as usize].get(value)) {
            for &column in holders.columns() {
                *counts.entry(column as usize).or_default() += 1;
            }
        }
        counts
    }

    /// The columns that share a value with one of a reference, or its header. The reference keeps the values that
    /// are shared.
    fn shared(&self, (left, ours): Side<'_>, (right, theirs): Side<'_>) -> Shared {
        let mut shared: Shared = vec![BTreeMap::new(); left.len()];
        let mut by_header: HashMap<String, Vec<usize>> = HashMap::new();
        for (main, column) in left.iter().enumerate() {
            by_header.entry(letters(ours.name(column.of))).or_default().push(main);
        }
        let mut counts = vec![[0; 2]; left.len()];
        for (nth, column) in right.iter().enumerate() {
            for (form, by_value) in Form::ALL.into_iter().zip(&self.columns) {
                let values = column.shared(form).iter();
                for holders in values.filter_map(|value| by_value.get(value)) {
                    let columns = holders.columns();
                    if columns.len() <= EVERYWHERE {
                        for &main in columns {
                            counts[main as usize][form as usize] += 1;
                        }
                    }
                }
            }
            for (main, count) in counts.iter_mut().enumerate() {
                if *count != [0; 2] {
                    shared[main].insert(nth, std::mem::take(count));
                }
            }
            let same = by_header.get(&letters(theirs.name(column.of))).into_iter().flatten();
            for main in same.take(EVERYWHERE) {
                shared[*main].entry(nth).or_default();
            }
        }
        shared
    }
}

impl Holders {
    fn add(&mut self, column: u32) {
        match self {
            Self::One(first) => *self = Self::Several(vec![*first, column]),
            Self::Several(columns) => columns.push(column),
        }
    }

    fn columns(&self) -> &[u32] {
        match self {
            Self::One(column) => std::slice::from_ref(column),
            Self::Several(columns) => columns,
        }
    }
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
