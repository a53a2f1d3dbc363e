//! Packed rows, end to end in one text.

/// Texts that are known by their number, from 0.
#[derive(Debug, Default)]
pub(super) struct Records {
    pub(super) text: String,
    /// The lower bits of where each ends.
    ends: Vec<u32>,
    /// The first one that ends so far behind that the bits do not tell it, for every time that they
    /// begin anew.
    overs: Vec<usize>,
}

/// How many bits of a place are kept. Tests need more sooner.
const BITS: u32 = if cfg!(test) { 8 } else { u32::BITS };

/// The bits of a place that are kept.
#[inline]
fn lower(place: usize) -> u32 {
    (place & (!0 >> (usize::BITS - BITS))) as u32
}

impl Records {
    /// Where one ends.
    #[inline]
    fn end(&self, number: usize) -> usize {
        let lower = self.ends[number] as usize;
        if self.overs.is_empty() {
            return lower;
        }
        self.overs.partition_point(|first| *first <= number) << BITS | lower
    }

    /// Where one begins.
    #[inline]
    pub(super) fn start(&self, number: usize) -> usize {
        if number == 0 { 0 } else { self.end(number - 1) }
    }

    /// Whether the bits that are kept of a place tell all of it.
    #[inline]
    pub(super) fn has_whole_places(&self) -> bool {
        self.overs.is_empty()
    }

    /// One of them, with all that stand behind it.
    #[inline]
    pub(super) fn from(&self, start: usize) -> &str {
        &self.text[start..]
    }

    /// One of them.
    #[inline]
    pub(super) fn get(&self, number: usize) -> &str {
        &self.text[self.start(number)..self.end(number)]
    }

    /// Ends the record that was appended to `text`.
    #[inline]
    pub(super) fn end_one(&mut self) {
        self.end_at(self.text.len());
    }

    #[inline]
    fn end_at(&mut self, end: usize) {
        while end >> BITS > self.overs.len() {
            self.overs.push(self.ends.len());
        }
        self.ends.push(lower(end));
    }

    /// Ends several at these places, up to the end of the text.
    #[inline]
    fn end_all(&mut self, ends: impl ExactSizeIterator<Item = usize>) {
        if self.text.len() >> BITS == self.overs.len() {
            self.ends.extend(ends.map(lower));
        } else {
            ends.for_each(|end| self.end_at(end));
        }
    }

    /// Makes room for so many more, of so many bytes, and not for others.
    pub(super) fn reserve(&mut self, records: usize, bytes: usize) {
        self.ends.reserve_exact(records);
        self.text.reserve_exact(bytes);
    }

    /// Adds records that stand end to end in a text, by where each ends there.
    pub(super) fn add(&mut self, text: &str, ends: &[usize]) {
        let before = self.text.len();
        self.text.push_str(text);
        self.end_all(ends.iter().map(|end| before + end));
    }

    /// Takes texts over behind its own, and leaves none.
    pub(super) fn append(&mut self, other: &mut Self) {
        let before = self.text.len();
        self.text.push_str(&other.text);
        if other.has_whole_places() {
            self.end_all(other.ends.iter().map(|end| before + *end as usize));
        } else {
            (0..other.len()).for_each(|number| self.end_at(before + other.end(number)));
        }
        other.text.clear();
        other.ends.clear();
        other.overs.clear();
    }

    /// How many there are.
    pub(super) fn len(&self) -> usize {
        self.ends.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// However long the texts are, each comes back.
        #[test]
        fn texts_come_back(texts in prop::collection::vec(0..900_usize, 0..30), cut in 0..30_usize) {
            let texts: Vec<String> = (1..).zip(texts).map(|(n, long)| format!("{n}").repeat(long)).collect();
            let mut halves = [Records::default(), Records::default()];
            for (nth, text) in texts.iter().enumerate() {
                let half = &mut halves[usize::from(nth >= cut)];
                half.text.push_str(text);
                half.end_one();
            }
            let [mut all, mut more] = halves;
            all.append(&mut more);
            prop_assert_eq!((all.len(), more.len()), (texts.len(), 0));
            for (nth, text) in texts.iter().enumerate() {
                prop_assert_eq!(all.get(nth), text);
                prop_assert!(all.from(all.start(nth)).starts_with(text));
                prop_assert!(!all.has_whole_places() || all.start(nth) >> BITS == 0);
            }
        }
    }
}
