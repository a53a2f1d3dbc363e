//! The columns of a main table by their values, so that a reference's values are looked up once.
//!
//! In go the columns, out come the ones that share values with a column of a reference, and how many in each form.

use std::collections::{BTreeMap, HashMap};

use super::Side;
use super::column::{Column, Form};
use super::pairs::letters;
use crate::hashing::PassHash;

/// Values that more columns of the main table have than this do not show which one is meant.
const EVERYWHERE: usize = 256;

/// The columns of a main table by their values, in each form.
#[derive(Debug, Default)]
pub(super) struct ByValue {
    forms: [ByForm; 2],
    /// A bit for each value that may be there: most values of a reference are not, and this is in the cache.
    bits: Vec<u64>,
}

/// The columns by their values in a form.
#[derive(Debug, Default)]
struct ByForm {
    /// The place of each value among the holders.
    places: HashMap<u64, u32, PassHash>,
    holders: Vec<Holders>,
}

/// The columns that have a value; most values are in one only.
#[derive(Debug)]
enum Holders {
    One(u32),
    Several(Vec<u32>),
}

/// Some of the values of a main table in a form, by their places.
#[derive(Debug, Default)]
pub(super) struct Places {
    bits: Vec<u64>,
}

/// How many bits there are, as a power of two.
const BITS: u32 = 22;

/// For each column of a main table, the columns of a reference that share values with it, and how many in each form.
pub(super) type Shared = Vec<BTreeMap<usize, [usize; 2]>>;

impl ByValue {
    pub(super) fn of(columns: &[Column]) -> Self {
        let mut all = Self { forms: Default::default(), bits: vec![0; 1 << (BITS - 6)] };
        for (form, by_form) in Form::ALL.into_iter().zip(&mut all.forms) {
            for (nth, column) in columns.iter().enumerate() {
                for value in column.distinct(form) {
                    let (word, bit) = bit(*value);
                    all.bits[word] |= bit;
                    by_form.add(*value, nth as u32);
                }
            }
        }
        all
    }

    /// The place of a value in a form, if any column has it.
    #[inline]
    pub(super) fn place(&self, value: u64, form: Form) -> Option<u32> {
        let (word, bit) = bit(value);
        let may_be = self.bits.get(word).is_some_and(|bits| bits & bit != 0);
        if may_be { self.forms[form as usize].places.get(&value).copied() } else { None }
    }

    /// For each of the main table's columns, how many of some values it has in a form.
    pub(super) fn columns_with(&self, places: &Places, form: Form, columns: usize) -> Vec<usize> {
        let mut counts = vec![0; columns];
        let holders = &self.forms[form as usize].holders;
        places.for_each(|place| {
            holders[place].columns().iter().for_each(|column| counts[*column as usize] += 1);
        });
        counts
    }

    /// The columns that share a value with one of a reference, or its header. The reference keeps the values that
    /// are shared.
    pub(super) fn shared(&self, (left, ours): Side<'_>, (right, theirs): Side<'_>) -> Shared {
        let mut shared: Shared = vec![BTreeMap::new(); left.len()];
        let mut by_header: HashMap<String, Vec<usize>> = HashMap::new();
        for (main, column) in left.iter().enumerate() {
            by_header.entry(letters(ours.name(column.of))).or_default().push(main);
        }
        let mut counts = vec![[0; 2]; left.len()];
        for (nth, column) in right.iter().enumerate() {
            for (form, by_form) in Form::ALL.into_iter().zip(&self.forms) {
                let places =
                    column.shared(form).iter().filter_map(|value| by_form.places.get(value));
                for place in places {
                    let columns = by_form.holders[*place as usize].columns();
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

/// Where the bit of a value is.
#[inline]
fn bit(value: u64) -> (usize, u64) {
    let bit = value >> (u64::BITS - BITS);
    ((bit >> 6) as usize, 1 << (bit & 63))
}

impl ByForm {
    /// Adds a value of a column.
    fn add(&mut self, value: u64, column: u32) {
        let next = self.holders.len() as u32;
        match *self.places.entry(value).or_insert(next) {
            place if place == next => self.holders.push(Holders::One(column)),
            place => self.holders[place as usize].add(column),
        }
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

impl Places {
    /// Adds a value.
    #[inline]
    pub(super) fn insert(&mut self, place: u32) {
        let word = place as usize / 64;
        if word >= self.bits.len() {
            self.bits.resize((word + 1).next_power_of_two(), 0);
        }
        self.bits[word] |= 1 << (place % 64);
    }

    fn for_each(&self, mut see: impl FnMut(usize)) {
        for (word, &bits) in self.bits.iter().enumerate() {
            let mut left = bits;
            while left != 0 {
                see(word * 64 + left.trailing_zeros() as usize);
                // Without the lowest bit.
                left &= left - 1;
            }
        }
    }
}
