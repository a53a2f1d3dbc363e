//! Marks of keys: enough of a set of keys to tell which are new the next time.
//!
//! For each key a short digest is kept; of many keys, only the lowest digests. Which keys these are does
//! not depend on the run, so that two sets can still be compared there.

use std::collections::BTreeMap;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use sha2::{Digest, Sha256};

use crate::table::Packer;

/// How many marks are kept.
pub const MARKS: usize = 1000;

/// How many bytes of a digest are a mark.
pub(crate) const MARK_BYTES: usize = 6;

/// The marks of a set of keys, as a receipt keeps them.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyMarks {
    /// How many keys there are; of more than are kept, how many at least.
    count: u64,
    /// The lowest marks, ascending.
    lowest: Vec<u64>,
}

/// The keys of a run, with the marks of those that a receipt may keep.
#[derive(Debug, Clone, Default)]
pub struct KeysSeen {
    lowest: BTreeMap<u64, String>,
    is_cut: bool,
}

impl KeysSeen {
    /// Notes a key, once or again.
    pub fn see<'a>(&mut self, key: impl Iterator<Item = &'a str> + Clone) {
        let mut packer = Packer::default();
        key.clone().for_each(|part| packer.push(part));
        let digest = Sha256::digest(packer.bytes());
        let mark = digest[..MARK_BYTES].iter().fold(0, |mark, &byte| mark << 8 | u64::from(byte));
        let is_full = self.lowest.len() >= MARKS;
        if is_full && self.lowest.last_key_value().is_some_and(|(last, _)| *last < mark) {
            self.is_cut = true;
            return;
        }
        self.lowest.entry(mark).or_insert_with(|| key.collect::<Vec<_>>().join(", "));
        if self.lowest.len() > MARKS {
            self.lowest.pop_last();
            self.is_cut = true;
        }
    }

    /// The marks to be kept.
    pub fn marks(&self) -> KeyMarks {
        let count = self.lowest.len() as u64 + u64::from(self.is_cut);
        KeyMarks { count, lowest: self.lowest.keys().copied().collect() }
    }

    /// The keys that were not there before, as they were seen, in the order of their text; and
    /// whether there may be others, since not all marks were kept.
    pub fn new_since(&self, before: &KeyMarks) -> (Vec<&str>, bool) {
        let known = if before.is_cut() { before.lowest.last().copied() } else { None };
        let is_new = |(mark, _): &(&u64, &String)| {
            known.is_none_or(|known| **mark <= known) && before.lowest.binary_search(mark).is_err()
        };
        let mut new: Vec<&str> =
            self.lowest.iter().filter(is_new).map(|(_, key)| &key[..]).collect();
        new.sort_unstable();
        (new, self.is_cut || before.is_cut())
    }
}

impl KeyMarks {
    fn is_cut(&self) -> bool {
        self.count > self.lowest.len() as u64
    }
}

/// Written as one text: the marks one after the other, followed by a character when there are more.
impl Serialize for KeyMarks {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut marks: Vec<String> = self
            .lowest
            .iter()
            .map(|mark| format!("{mark:0width$x}", width = 2 * MARK_BYTES))
            .collect();
        if self.is_cut() {
            marks.push("…".to_owned());
        }
        to.serialize_str(&marks.join(" "))
    }
}

impl<'de> Deserialize<'de> for KeyMarks {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        let (marks, is_cut) = match text.strip_suffix('…') {
            Some(marks) => (marks, true),
            None => (&text[..], false),
        };
        let marks = marks.split_whitespace().map(|mark| u64::from_str_radix(mark, 16));
        let mut lowest = marks.collect::<Result<Vec<u64>, _>>().map_err(D::Error::custom)?;
        lowest.sort_unstable();
        Ok(Self { count: lowest.len() as u64 + u64::from(is_cut), lowest })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(keys: std::ops::Range<usize>) -> KeysSeen {
        let mut seen = KeysSeen::default();
        for key in keys.clone().chain(keys) {
            seen.see(["Fellside", &key.to_string()].into_iter());
        }
        seen
    }

    fn kept(seen: &KeysSeen) -> KeyMarks {
        serde_json::from_str(&serde_json::to_string(&seen.marks()).unwrap()).unwrap()
    }

    #[test]
    fn new_keys_are_told() {
        let before = kept(&seen(0..10));
        assert_eq!(seen(0..10).new_since(&before), (vec![], false));
        let now = seen(5..12);
        assert_eq!(now.new_since(&before), (vec!["Fellside, 10", "Fellside, 11"], false));
    }

    /// Of many keys only some are compared, but no known key is reported as new.
    #[test]
    fn of_many_keys_some_are_told() {
        let before = kept(&seen(0..5000));
        assert_eq!(before.lowest.len(), MARKS);
        assert_eq!(seen(0..5000).new_since(&before), (vec![], true));
        assert_eq!(seen(100..4000).new_since(&before).0.len(), 0);
        let now = seen(0..6000);
        let (new, is_part) = now.new_since(&before);
        assert!(is_part && (100..400).contains(&new.len()), "{}", new.len());
        assert!(new.iter().all(|key| key[10..].parse::<usize>().unwrap() >= 5000));
    }
}
