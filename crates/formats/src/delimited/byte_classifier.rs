//! Which of the bytes of a text mean something: a bit for each of 64.
//!
//! How that is found out depends on what the processor can do. Whoever goes through a text does so
//! within [`with_widest`], so that all of it is made for the instructions that there are.

use wide::u8x16;

/// How many bytes are looked at in one go.
pub(super) const STRIDE: usize = 64;

/// The quote around a cell that contains special characters.
pub(super) const QUOTE: u8 = b'"';

/// The special bytes among 64 bytes, the first of them in the lowest bit.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub(super) struct ByteClasses {
    pub(super) delimiters: u64,
    pub(super) line_ends: u64,
    pub(super) quotes: u64,
}

/// A way to find marks.
pub(super) trait ByteClassifier: Copy {
    /// The marks in this many bytes.
    fn marks(self, bytes: &[u8; STRIDE], delimiter: u8) -> ByteClasses;
}

/// Work on a text, with the classifier that fits the processor.
pub(super) trait WithClassifier {
    type Output;

    fn run(self, classifier: impl ByteClassifier) -> Self::Output;
}

/// The classifier for every processor.
#[derive(Debug, Clone, Copy)]
pub(super) struct Anywhere;

impl ByteClassifier for Anywhere {
    #[inline(always)]
    fn marks(self, bytes: &[u8; STRIDE], delimiter: u8) -> ByteClasses {
        let delimiter = u8x16::splat(delimiter);
        let (feed, carriage) = (u8x16::splat(b'\n'), u8x16::splat(b'\r'));
        let quote = u8x16::splat(QUOTE);
        let mut marks = ByteClasses::default();
        for (nth, lane) in bytes.as_chunks::<16>().0.iter().enumerate() {
            let lane = u8x16::new(*lane);
            let bits = |marks: u8x16| u64::from(marks.to_bitmask()) << (nth * 16);
            marks.delimiters |= bits(lane.simd_eq(delimiter));
            marks.line_ends |= bits(lane.simd_eq(feed) | lane.simd_eq(carriage));
            marks.quotes |= bits(lane.simd_eq(quote));
        }
        marks
    }
}

/// Does it by the widest way that the processor has.
#[inline]
pub(super) fn with_widest<W: WithClassifier>(work: W) -> W::Output {
    #[cfg(target_arch = "x86_64")]
    if let Some(wide) = x86::V3::try_new() {
        return wide.vectorize(x86::Within(wide, work));
    }
    work.run(Anywhere)
}

#[cfg(target_arch = "x86_64")]
mod x86 {
    use std::arch::x86_64::__m256i;

    use pulp::NullaryFnOnce;
    pub(super) use pulp::x86::V3;

    use super::{ByteClasses, ByteClassifier, QUOTE, STRIDE, WithClassifier};

    /// Work with what such a processor can do.
    pub(super) struct Within<W>(pub(super) V3, pub(super) W);

    impl<W: WithClassifier> NullaryFnOnce for Within<W> {
        type Output = W::Output;

        #[inline(always)]
        fn call(self) -> W::Output {
            self.1.run(self.0)
        }
    }

    impl ByteClassifier for V3 {
        #[inline(always)]
        fn marks(self, bytes: &[u8; STRIDE], delimiter: u8) -> ByteClasses {
            // Built of words, which the compiler loads as one.
            let (words, _) = bytes.as_chunks::<8>();
            let word = |nth: usize| i64::from_le_bytes(words[nth]);
            let lane = |nth: usize| {
                self.avx._mm256_set_epi64x(word(nth + 3), word(nth + 2), word(nth + 1), word(nth))
            };
            let lanes: [__m256i; 2] = [lane(0), lane(4)];
            let all = |byte: u8| self.avx._mm256_set1_epi8(byte.cast_signed());
            let equal = |lane, byte| self.avx2._mm256_cmpeq_epi8(lane, byte);
            let bits = |marks: [__m256i; 2]| {
                let half = |nth: usize| self.avx2._mm256_movemask_epi8(marks[nth]).cast_unsigned();
                u64::from(half(0)) | u64::from(half(1)) << (STRIDE / 2)
            };
            let (delimiter, quote) = (all(delimiter), all(QUOTE));
            let (feed, carriage) = (all(b'\n'), all(b'\r'));
            let line_end =
                |lane| self.avx2._mm256_or_si256(equal(lane, feed), equal(lane, carriage));
            ByteClasses {
                delimiters: bits(lanes.map(|lane| equal(lane, delimiter))),
                line_ends: bits(lanes.map(line_end)),
                quotes: bits(lanes.map(|lane| equal(lane, quote))),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The marks of some bytes, by whatever way there is.
    struct Of<'b>(&'b [u8; STRIDE]);

    impl WithClassifier for Of<'_> {
        type Output = ByteClasses;

        fn run(self, classifier: impl ByteClassifier) -> ByteClasses {
            classifier.marks(self.0, b';')
        }
    }

    proptest! {
        /// Every way to look finds what going through the bytes one by one does.
        #[test]
        fn marks_are_where_the_bytes_are(
            bytes in prop::collection::vec(prop::sample::select(b";\n\r\"a,\x00\xff\x3a".to_vec()), STRIDE),
        ) {
            let bytes = bytes.first_chunk().unwrap();
            let bits = |is: &dyn Fn(u8) -> bool| {
                bytes.iter().rev().fold(0, |bits: u64, byte| bits << 1 | u64::from(is(*byte)))
            };
            let want = ByteClasses {
                delimiters: bits(&|byte| byte == b';'),
                line_ends: bits(&|byte| matches!(byte, b'\n' | b'\r')),
                quotes: bits(&|byte| byte == QUOTE),
            };
            prop_assert_eq!(Anywhere.marks(bytes, b';'), want);
            prop_assert_eq!(with_widest(Of(bytes)), want);
        }
    }
}
