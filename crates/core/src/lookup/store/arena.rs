//! An arena: the records of all rows, end to end in one text.

/// Texts that are numbered from 0.
#[derive(Debug, Default)]
pub(in crate::lookup) struct Arena {
    pub(in crate::lookup) text: String,
    /// The lower 32 bits of the offset at which each text ends.
    ends: Vec<u32>,
    /// For each multiple of 2³², the first text that ends at or after it.
    overflows: Vec<usize>,
}

/// How many bits of an offset are kept. Tests keep few, so that they overflow.
const BITS: u32 = if cfg!(test) { 8 } else { u32::BITS };

/// The bits of an offset that are kept.
#[inline]
fn lower(offset: usize) -> u32 {
    (offset & (!0 >> (usize::BITS - BITS))) as u32
}

impl Arena {
    /// The offset at which a text ends.
    #[inline]
    fn end(&self, number: usize) -> usize {
        let lower = self.ends[number] as usize;
        if self.overflows.is_empty() {
            return lower;
        }
        self.overflows.partition_point(|first| *first <= number) << BITS | lower
    }

    /// The offset at which a text begins.
    #[inline]
    pub(in crate::lookup) fn start(&self, number: usize) -> usize {
        if number == 0 { 0 } else { self.end(number - 1) }
    }

    /// Whether the bits that are kept are the whole offset.
    #[inline]
    pub(in crate::lookup) fn has_short_offsets(&self) -> bool {
        self.overflows.is_empty()
    }

    /// The text from an offset on.
    #[inline]
    pub(in crate::lookup) fn from(&self, start: usize) -> &str {
        &self.text[start..]
    }

    /// A text.
    #[inline]
    pub(in crate::lookup) fn get(&self, number: usize) -> &str {
        &self.text[self.start(number)..self.end(number)]
    }

    /// Ends the text that was appended to `text`.
    #[inline]
    pub(in crate::lookup) fn end_one(&mut self) {
        self.end_at(self.text.len());
    }

    #[inline]
    fn end_at(&mut self, end: usize) {
        while end >> BITS > self.overflows.len() {
            self.overflows.push(self.ends.len());
        }
        self.ends.push(lower(end));
    }

    /// Ends several texts at these offsets; the last one is the end of `text`.
    #[inline]
    fn end_all(&mut self, ends: impl ExactSizeIterator<Item = usize>) {
        if self.text.len() >> BITS == self.overflows.len() {
            self.ends.extend(ends.map(lower));
        } else {
            ends.for_each(|end| self.end_at(end));
        }
    }

    /// Reserves space for exactly `texts` more, of `bytes` in all.
    pub(in crate::lookup) fn reserve(&mut self, texts: usize, bytes: usize) {
        self.ends.reserve_exact(texts);
        self.text.reserve_exact(bytes);
    }

    /// Adds texts that are end to end in `text`, each ending at the next of `ends` there.
    pub(in crate::lookup) fn add(&mut self, text: &str, ends: &[usize]) {
        let before = self.text.len();
        self.text.push_str(text);
        self.end_all(ends.iter().map(|end| before + end));
    }

    /// Moves all texts of another arena to the end.
    pub(in crate::lookup) fn append(&mut self, other: &mut Self) {
        let before = self.text.len();
        self.text.push_str(&other.text);
        if other.has_short_offsets() {
            self.end_all(other.ends.iter().map(|end| before + *end as usize));
        } else {
            (0..other.len()).for_each(|number| self.end_at(before + other.end(number)));
        }
        other.text.clear();
        other.ends.clear();
        other.overflows.clear();
    }

    /// How many texts there are.
    pub(in crate::lookup) fn len(&self) -> usize {
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
            let mut halves = [Arena::default(), Arena::default()];
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
                prop_assert!(!all.has_short_offsets() || all.start(nth) >> BITS == 0);
            }
        }
    }
}
