//! Whether the value of a part stands in another column of the reference.
//!
//! A reference keeps nothing but its key and what is taken, so this takes a second look at its table,
//! for the keys that spelling does not explain.

use std::collections::HashMap;

use ahash::RandomState;

use super::explain::Explained;
use super::reason::Reason;
use crate::findings::UnmatchedKey;
use crate::lookup::Lookup;
use crate::table::{Block, Row, packed};
use crate::template::Work;

/// A row in which a part of a key stands in another column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Elsewhere {
    part: usize,
    column: usize,
}

/// The keys that have the same parts but for one, by the value of that.
type ByValue = HashMap<Box<str>, Vec<usize>, RandomState>;

/// Goes through the table of a reference once more.
#[derive(Debug)]
pub struct Scout<'a> {
    lookup: &'a Lookup,
    /// By a part that may be elsewhere and what the others are.
    sought: HashMap<Box<str>, ByValue, RandomState>,
    found: HashMap<usize, Elsewhere>,
}

impl<'a> Scout<'a> {
    /// Seeks the parts of the keys that nothing explains; `None` when there are none, or when the
    /// lookup looks in several columns anyway.
    pub fn new(
        lookup: &'a Lookup,
        keys: &'a [UnmatchedKey],
        explained: &[Explained],
    ) -> Option<Self> {
        let reference = lookup.reference();
        if !reference.looked_in().is_empty() {
            return None;
        }
        let hasher = reference.hasher();
        let mut sought = HashMap::with_hasher(hasher.clone());
        let mut rest = String::new();
        for (nth, (key, explained)) in keys.iter().zip(explained).enumerate() {
            if !matches!(explained.reason, Reason::Nothing | Reason::OnePart(_)) {
                continue;
            }
            for (part, value) in key.parts().enumerate() {
                without(key.parts(), part, &mut rest);
                let empty = || ByValue::with_hasher(hasher.clone());
                let values: &mut ByValue = sought.entry(rest.as_str().into()).or_insert_with(empty);
                values.entry(value.into()).or_default().push(nth);
            }
        }
        (!sought.is_empty()).then(|| Self { lookup, sought, found: HashMap::new() })
    }

    /// Looks at a block of the reference's rows; every column is wanted.
    pub fn look(&mut self, block: &Block) {
        let key = self.lookup.reference().key();
        let (mut packed_key, mut rest, mut work) = (String::new(), String::new(), Work::default());
        for row in 0..block.rows() {
            packed_key.clear();
            key.pack(Row::of(block, row), &mut packed_key, &mut work);
            for (part, template) in key.parts().iter().enumerate() {
                without(packed::Cells::new(&packed_key), part, &mut rest);
                let Some(values) = self.sought.get(&rest[..]) else { continue };
                let own = template.columns();
                for column in (0..block.columns()).filter(|column| !own.contains(column)) {
                    let Some(keys) = values.get(block.cell(row, column).trim()) else { continue };
                    for &nth in keys {
                        self.found.entry(nth).or_insert(Elsewhere { part, column });
                    }
                }
            }
        }
    }

    /// Writes what was found into the reasons.
    pub fn tell(self, explained: &mut [Explained]) {
        for (nth, Elsewhere { part, column }) in self.found {
            let reason = Reason::Elsewhere { part, column };
            explained[nth] = Explained { reason, ..Explained::nothing() };
        }
    }
}

/// A key without one of its parts, packed behind the number of that.
fn without<'k>(parts: impl Iterator<Item = &'k str>, part: usize, packed: &mut String) {
    packed.clear();
    packed.extend(char::from_digit(part as u32 % 36, 36));
    for (_, text) in parts.enumerate().filter(|(nth, _)| *nth != part) {
        packed::push(packed, text);
    }
}
