//! Packed rows, end to end in one text.

/// Texts that are known by their number, from 0.
#[derive(Debug, Default)]
pub(super) struct Records {
    pub(super) text: String,
    ends: Vec<u64>,
}

impl Records {
    /// Where one begins.
    #[inline]
    pub(super) fn start(&self, number: usize) -> usize {
        if number == 0 { 0 } else { self.ends[number - 1] as usize }
    }

    /// One of them, with all that stand behind it.
    #[inline]
    pub(super) fn from(&self, start: usize) -> &str {
        &self.text[start..]
    }

    /// One of them.
    #[inline]
    pub(super) fn get(&self, number: usize) -> &str {
        &self.text[self.start(number)..self.ends[number] as usize]
    }

    /// Ends the record that was appended to `text`.
    pub(super) fn end_one(&mut self) {
        self.ends.push(self.text.len() as u64);
    }

    /// Takes texts over behind its own, and leaves none.
    pub(super) fn append(&mut self, other: &mut Self) {
        let before = self.text.len() as u64;
        self.text.push_str(&other.text);
        self.ends.extend(other.ends.iter().map(|end| end + before));
        other.text.clear();
        other.ends.clear();
    }

    /// How many there are.
    pub(super) fn len(&self) -> usize {
        self.ends.len()
    }
}
