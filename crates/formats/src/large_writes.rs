//! Bytes on their way out, in large pieces.
//!
//! A block is rendered to some ten thousand bytes. The system writes larger pieces for less, and for
//! least where a piece begins at a multiple of its size.

use std::collections::VecDeque;
use std::io::{self, IoSlice, Write};

/// How many bytes are written at once.
const AT_ONCE: usize = 256 << 10;

/// Holds bytes back until there are enough of them.
#[derive(Debug)]
pub(crate) struct LargeWrites<W> {
    output: W,
    /// The bytes that are not written, without the first `done` of them.
    held: VecDeque<Vec<u8>>,
    written: usize,
    /// How many bytes are not written.
    left: usize,
    /// Buffers to be filled again.
    free: Vec<Vec<u8>>,
}

impl<W: Write> LargeWrites<W> {
    pub(crate) fn to(output: W) -> Self {
        Self { output, held: VecDeque::new(), written: 0, left: 0, free: Vec::new() }
    }

    /// Takes bytes to be written, and returns a buffer to be filled: its content has been written.
    ///
    /// # Errors
    /// When they, or some before them, can't be written.
    pub(crate) fn take(&mut self, bytes: &mut Vec<u8>) -> io::Result<()> {
        self.left += bytes.len();
        let free = self.free.pop().unwrap_or_default();
        self.held.push_back(std::mem::replace(bytes, free));
        self.write(self.left / AT_ONCE * AT_ONCE)
    }

    /// Writes what is left, and gives the output back.
    ///
    /// # Errors
    /// When it can't be written.
    pub(crate) fn finish(mut self) -> io::Result<W> {
        self.write(self.left)?;
        self.output.flush()?;
        Ok(self.output)
    }

    /// Writes the first `most` bytes.
    fn write(&mut self, mut count: usize) -> io::Result<()> {
        while count > 0 {
            let mut pieces = Vec::with_capacity(self.held.len());
            let (mut from, mut room) = (self.written, count);
            for bytes in &self.held {
                let piece = &bytes[from..bytes.len().min(from + room)];
                pieces.push(IoSlice::new(piece));
                room -= piece.len();
                from = 0;
            }
            match self.output.write_vectored(&pieces) {
                Ok(0) => return Err(io::ErrorKind::WriteZero.into()),
                Ok(written) => {
                    count -= written;
                    self.pass(written);
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Notes that `bytes` more bytes are written.
    fn pass(&mut self, count: usize) {
        self.left -= count;
        self.written += count;
        while let Some(first) = self.held.front()
            && self.written >= first.len()
        {
            self.written -= first.len();
            self.free.extend(self.held.pop_front());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// An output that takes this many bytes at a time at most.
    struct Takes(usize, Vec<u8>, Vec<usize>);

    impl Write for Takes {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.write_vectored(&[IoSlice::new(bytes)])
        }

        fn write_vectored(&mut self, pieces: &[IoSlice<'_>]) -> io::Result<usize> {
            let bytes: Vec<u8> = pieces.iter().flat_map(|piece| piece.iter().copied()).collect();
            self.2.push(bytes.len());
            let bytes = &bytes[..bytes.len().min(self.0)];
            self.1.extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// All bytes come out in order, however they come in and however few are taken at a time.
        #[test]
        fn bytes_keep_their_order(
            pieces in prop::collection::vec(prop_oneof![0..50_usize, 100_000..300_000_usize], 0..12),
            at_once in prop::sample::select(vec![70_001, usize::MAX]),
        ) {
            let mut writes = LargeWrites::to(Takes(at_once, Vec::new(), Vec::new()));
            let mut all = Vec::new();
            for (nth, length) in pieces.into_iter().enumerate() {
                let mut piece: Vec<u8> = (0..length).map(|at| (nth + at) as u8).collect();
                all.extend_from_slice(&piece);
                writes.take(&mut piece).unwrap();
            }
            let Takes(_, written, asked) = writes.finish().unwrap();
            prop_assert!(written == all);
            if let (usize::MAX, [large @ .., _]) = (at_once, &asked[..]) {
                prop_assert!(large.iter().all(|asked| asked % AT_ONCE == 0));
            }
        }
    }
}
