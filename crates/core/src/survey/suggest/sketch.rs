//! Sketches of tables, by which it is seen whether two of them may have values in common.
//!
//! A sketch keeps the least hashes of each column's different values. Two columns that share values share their least
//! ones too, so that the share is estimated from what both have below the same bound. Whether the table has keys of the main
//! table is seen from all values, while it is sketched.

use std::collections::BTreeMap;

use ahash::RandomState;

use super::by_value::{ByValue, Places};
use super::column::{BLANK, Facts, Form, Hashes, Spelled, TakesCells, Value, value_of};
use super::cut::Cut;
use super::pairs::{ANY_ALL, ANY_BEST, ANY_ONE, COVERED, MORE, SAME, alike};
use super::profile::{LOOKED_AT, Profile, columns};
use crate::diagnosis::Loose;
use crate::table::{CellKind, Headers, Source};
use crate::value::is_blank;

/// How many hashes of a column are kept.
const KEPT: usize = 1024;

/// How many values that were met lately are known at first, and at most, of a column whose values come again.
const MET: [usize; 2] = [512, 1 << 14];

/// A column's values come again when one of this many does.
const AGAIN: usize = 16;

/// How much less than it is estimated a share may be.
const SLACK: f64 = 0.8;

/// Columns may go together when about this share of the values of one is in the other.
const SHARE: f64 = 0.2;

/// Columns of fewer values, or digits of fewer, are in others by chance.
const FEWEST: [usize; 2] = [3, 10];

/// The sketch of a table: some 16 KiB for each column.
#[derive(Debug)]
pub struct Sketch {
    columns: Vec<ColumnSketch>,
    may_be_reached: bool,
}

#[derive(Debug)]
struct ColumnSketch {
    forms: [FormSketch; 2],
}

/// The least values of a column in a form.
#[derive(Debug)]
struct FormSketch {
    least: Hashes,
    /// The greatest of them, where there are others.
    bound: u64,
    is_by_chance: bool,
}

/// Sketches a column.
#[derive(Debug)]
struct Sketching {
    of: usize,
    cut: Option<Cut>,
    facts: Facts,
    /// Values that were met lately, by their hashes, each at a place of its own.
    met: Vec<(u64, Value)>,
    /// How many values were among them since their number last grew, and how many not.
    hits: usize,
    misses: usize,
    /// What is left of values that were not among them, of the rows that are added.
    fresh: Vec<[u64; 2]>,
    forms: [FormSketching; 2],
}

/// Keeps the least values of a column in a form, and the ones that the main table has too.
#[derive(Debug)]
struct FormSketching {
    least: Vec<u64>,
    bound: u64,
    shared: Places,
}

impl TakesCells for Sketching {
    fn of(column: usize, cut: Option<Cut>) -> Self {
        let form =
            || FormSketching { least: Vec::new(), bound: u64::MAX, shared: Places::default() };
        Self {
            of: column,
            cut,
            facts: Facts::default(),
            met: vec![(0, BLANK); MET[0]],
            hits: 0,
            misses: 0,
            fresh: Vec::new(),
            forms: [form(), form()],
        }
    }

    fn add<'c>(
        &mut self,
        cells: impl Iterator<Item = (&'c str, CellKind)>,
        loose: &mut Loose,
        hasher: &RandomState,
        spelled: Spelled<'_>,
    ) {
        for (text, kind) in cells.filter(|(text, _)| !is_blank(text)) {
            let hash = hasher.hash_one(text);
            if self.misses == self.met.len() {
                self.know_more();
            }
            let place = hash as usize % self.met.len();
            let (known, value) = &mut self.met[place];
            if *known == hash {
                self.hits += 1;
            } else {
                self.misses += 1;
                (*known, *value) = (hash, value_of(text, kind, loose, hasher));
                self.fresh.push(value.left);
            }
            self.facts.add(value);
        }
        // One by one, each would wait for the memory of the one before.
        for (form, sketch) in Form::ALL.into_iter().zip(&mut self.forms) {
            let left = self.fresh.iter().map(|left| left[form as usize]).filter(|left| *left != 0);
            if let Spelled::Of(main) = spelled {
                sketch.add_shared(left.clone(), main, form);
            }
            left.for_each(|left| sketch.add(left));
        }
        self.fresh.clear();
    }
}

impl FormSketching {
    /// Notes which of some values the main table has.
    fn add_shared(&mut self, values: impl Iterator<Item = u64>, main: &ByValue, form: Form) {
        for place in values.filter_map(|value| main.place(value, form)) {
            self.shared.insert(place);
        }
    }

    fn add(&mut self, value: u64) {
        if value <= self.bound {
            self.least.push(value);
            if self.least.len() == KEPT * 4 {
                self.keep_least();
            }
        }
    }

    fn keep_least(&mut self) {
        self.least.sort_unstable();
        self.least.dedup();
        if self.least.len() > KEPT {
            self.least.truncate(KEPT);
            self.bound = self.least[KEPT - 1];
        }
    }

    /// About how many different values there are.
    fn different(&self) -> u64 {
        let share = self.bound as f64 / u64::MAX as f64;
        // A count of rows, far below what a float holds.
        #[allow(clippy::cast_sign_loss)]
        let different = (self.least.len() as f64 / share) as u64;
        different
    }
}

impl Sketching {
    /// Knows more values that were met lately, where values come again.
    fn know_more(&mut self) {
        let come_again = self.hits * AGAIN >= self.misses && self.met.len() < MET[1];
        (self.hits, self.misses) = (0, 0);
        if come_again {
            self.met = vec![(0, BLANK); self.met.len() * 4];
        }
    }

    fn is_found_by_chance(&self, form: Form) -> bool {
        let values = &self.forms[form as usize];
        let are_few = || values.least.len() <= 2;
        self.facts.are_found_by_chance(form, are_few, || values.different())
    }
}

/// Whether some columns of a table may hold the keys of a main table, other than by chance. No pair of columns that is proposed
/// is missed: values of both that are the same are counted exactly, and only how many different ones these columns have is
/// estimated.
fn may_hold_keys(main: &Profile, all: &[Sketching], headers: &Headers) -> bool {
    // For each main column, in how many columns its values are, how many of them in all, and in one at most.
    let mut together: BTreeMap<usize, (usize, usize, usize)> = BTreeMap::new();
    let may_by_itself = all.iter().any(|sketch| {
        let columns_with = |form: Form| {
            let shared = &sketch.forms[form as usize].shared;
            main.by_value.columns_with(shared, form, main.columns.len())
        };
        let (loose, digits) = (columns_with(Form::Loose), columns_with(Form::Digits));
        main.columns.iter().enumerate().any(|(nth, column)| {
            let share = |form: Form, covered: &[usize]| {
                let covered = covered[nth];
                (covered, covered as f64 / column.distinct(form).len().max(1) as f64)
            };
            let (covered, loose) = share(Form::Loose, &loose);
            let (covered_digits, digits) = share(Form::Digits, &digits);
            if covered + covered_digits == 0 {
                return false;
            }
            if loose >= ANY_ONE && sketch.cut.is_none() {
                let (columns, values, most) = together.entry(nth).or_default();
                (*columns, *values, *most) = (*columns + 1, *values + covered, covered.max(*most));
            }
            let named = alike(main.headers.name(column.of), headers.name(sketch.of)) > SAME;
            let is_part = column.cut.is_some() || sketch.cut.is_some();
            let is_by_chance = |form| {
                let in_ours = is_part && column.is_found_by_chance(form);
                (is_part || !named) && (in_ours || sketch.is_found_by_chance(form))
            };
            let of_theirs =
                covered as f64 / sketch.forms[Form::Loose as usize].different().max(1) as f64;
            let may_be = named || loose >= COVERED || of_theirs >= COVERED * SLACK;
            let may_be_digits = named || digits > loose + MORE;
            may_be && !is_by_chance(Form::Loose) || may_be_digits && !is_by_chance(Form::Digits)
        })
    });
    may_by_itself
        || together.iter().any(|(nth, (columns, values, most))| {
            let all = main.columns[*nth].distinct(Form::Loose).len();
            let values = (*values).min(all) as f64;
            *columns > 1 && values >= ANY_ALL * all as f64 && (*most as f64) < values * ANY_BEST
        })
}

impl Sketch {
    /// The sketch of a table that is to be compared with a main table, by its first [`LOOKED_AT`] rows.
    ///
    /// # Errors
    /// The errors of the source.
    pub fn of_reference<S: Source>(source: &mut S, main: &Profile) -> Result<Self, S::Error> {
        let spelled = Spelled::Of(&main.by_value);
        let mut all: Vec<Sketching> = columns(source, LOOKED_AT[1], &main.hasher, spelled)?;
        let headers = source.headers();
        for column in &mut all {
            column.forms.iter_mut().for_each(FormSketching::keep_least);
        }
        let may_be_reached = may_hold_keys(main, &all, headers);
        let of = |column: &Sketching| ColumnSketch {
            forms: Form::ALL.map(|form| FormSketch {
                least: column.forms[form as usize].least.iter().copied().collect(),
                bound: column.forms[form as usize].bound,
                is_by_chance: column.is_found_by_chance(form),
            }),
        };
        let whole = all.iter().filter(|column| column.cut.is_none());
        Ok(Self { columns: whole.map(of).collect(), may_be_reached })
    }

    /// Whether the main table may have a key that leads to it and is not found by chance.
    pub fn may_be_reached(&self) -> bool {
        self.may_be_reached
    }
}

impl FormSketch {
    /// About which share of its values is in another; `None` where they can't be keys.
    fn share_in(&self, other: &Self, fewest: usize) -> Option<f64> {
        let bound = self.bound.min(other.bound);
        let (mut all, mut shared) = (0_usize, 0);
        for hash in self.least.iter().filter(|hash| **hash <= bound) {
            all += 1;
            shared += usize::from(other.least.contains(hash));
        }
        let share = shared as f64 / all.max(1) as f64;
        (self.least.len() >= fewest && shared > 0 && share >= SHARE).then_some(share)
    }
}

impl Sketch {
    /// About which share of the values of a column is in another table, of that with most, if they may be keys of it. Columns
    /// in which any values are found by chance don't count, also under the same header: every table may have such numbers and
    /// days.
    pub fn leads_to(&self, other: &Self) -> Option<f64> {
        let pairs = self
            .columns
            .iter()
            .flat_map(|ours| other.columns.iter().map(move |theirs| (ours, theirs)));
        let shares = pairs.flat_map(|(ours, theirs)| {
            let forms = ours.forms.iter().zip(&theirs.forms).zip(FEWEST);
            forms.filter_map(|((one, other), fewest)| {
                one.share_in(other, fewest).filter(|_| !other.is_by_chance)
            })
        });
        shares.max_by(f64::total_cmp)
    }
}
