//! Writing the values of a column, each that comes again soon but once.
//!
//! Making the text of a number or a day takes several times as long as all else that is done with a
//! cell, and most columns have few values. So the last values are remembered, each in a slot that its
//! bits tell, with the cell that was made of it.

use arrow_buffer::i256;
use gather_keys_core::table::{CellKind, ColumnCells, SaidCell};

/// How many slots there are, as a power of two.
const BITS: u32 = if cfg!(test) { 1 } else { 10 };

/// The cells of values that came lately, by the slot of the value: in each the last two.
pub(super) struct Repeats(Vec<[(u64, Option<SaidCell>); 2]>);

impl Repeats {
    /// None yet, of a column.
    pub(super) fn new() -> Self {
        Self(vec![[(0, None); 2]; 1 << BITS])
    }

    /// Says the next row's cell of the column, which is made of a value.
    #[inline]
    pub(super) fn say(
        &mut self,
        value: impl Bits,
        column: &mut ColumnCells<'_>,
        write: impl FnOnce(&mut String) -> CellKind,
    ) {
        let Some(bits) = value.bits() else {
            column.push_by(write);
            return;
        };
        // All bits of the product depend on others of the value.
        let product = u128::from(bits) * 0x9e37_79b9_7f4a_7c15;
        let mixed = (product >> 64) as u64 ^ product as u64;
        let slot = &mut self.0[(mixed >> (u64::BITS - BITS)) as usize];
        match *slot {
            [(same, Some(cell)), _] | [_, (same, Some(cell))] if same == bits => {
                column.push_again(cell);
            }
            [last, _] => *slot = [(bits, Some(column.push_by(write))), last],
        }
    }
}

/// A value that may have bits which no other of its type has.
pub(super) trait Bits: Copy {
    /// These bits.
    fn bits(self) -> Option<u64>;
}

macro_rules! bits {
    ($($kind:ty: $bits:expr;)*) => {
        $(
            impl Bits for $kind {
                #[inline]
                fn bits(self) -> Option<u64> {
                    let bits: fn(Self) -> Option<u64> = $bits;
                    bits(self)
                }
            }
        )*
    };
}

bits! {
    u8: |value| Some(value.into());
    u16: |value| Some(value.into());
    u32: |value| Some(value.into());
    u64: Some;
    i8: |value| i64::from(value).bits();
    i16: |value| i64::from(value).bits();
    i32: |value| i64::from(value).bits();
    i64: |value| Some(value.cast_unsigned());
    // Nearly all are small; others are written each time that they come.
    i128: |value| i64::try_from(value).ok()?.bits();
    i256: |value| value.to_i128()?.bits();
    f32: |value| Some(value.to_bits().into());
    f64: |value| Some(value.to_bits());
}

#[cfg(test)]
mod tests {
    use gather_keys_core::table::{Block, KeptColumns};
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn bits_tell_values_apart() {
        let wide = [i128::from(i64::MIN), -1, 0, 1, i128::from(i64::MAX), i128::MAX, i128::MIN];
        for (one, other) in wide.iter().flat_map(|one| wide.iter().map(move |other| (*one, *other)))
        {
            let (a, b) = (i256::from_i128(one).bits(), i256::from_i128(other).bits());
            assert_eq!((a, b), (one.bits(), other.bits()));
            assert!(one == other || a.is_none() || a != b, "{one} {other}");
        }
        assert_ne!((-1_i8).bits(), 255_i16.bits());
        assert_ne!(0.0_f64.bits(), (-0.0_f64).bits());
    }

    proptest! {
        /// Whatever repeats, each cell has its own value.
        #[test]
        fn cells_are_those_of_their_values(values in prop::collection::vec(0..12_u64, 0..60)) {
            let mut block = Block::default();
            block.reset_by_columns(KeptColumns::all(1), values.len());
            let (mut repeats, mut column, mut written) = (Repeats::new(), block.column(0), 0);
            for &value in &values {
                repeats.say(value, &mut column, |text| {
                    written += 1;
                    text.push_str(&value.to_string());
                    if value % 2 == 0 { CellKind::Number } else { CellKind::Text }
                });
            }
            prop_assert!(values.windows(2).all(|pair| pair[0] != pair[1]) || written < values.len());
            for (row, value) in values.iter().enumerate() {
                prop_assert_eq!(block.cell(row, 0), value.to_string());
                let is_number = block.kind(row, 0) == CellKind::Number;
                prop_assert_eq!(is_number, value % 2 == 0);
            }
        }
    }
}
