//! The type that a column of cells can have.
//!
//! Each cell rules out the types that would not give its text again. What is left when all cells are
//! seen is the type of the column: the one it had in its file, or else the narrowest; text, where no
//! other is left.

use arrow_array::cast::AsArray;
use arrow_array::{Array, StringArray};
use arrow_schema::{DataType, TimeUnit};
use gather_keys_core::table::CellKind;
use jiff::civil::{Date, Time};

use super::StoredType;
use super::cells::Cells;
use super::dictionary::{Dictionary, DistinctTexts};
use super::typed::typed;
use crate::workbook::is_plain_number;

/// The name of a time zone that any reader knows.
const UTC: &str = "UTC";

/// How many digits a decimal holds.
const DIGITS: usize = 38;

/// How many digits of any number a floating-point number keeps.
const KEPT_DIGITS: usize = 15;

/// Which types are left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Left(u16);

impl Left {
    /// The type that the column had.
    const STORED: Self = Self(1);
    const INTEGER: Self = Self(1 << 1);
    const REAL: Self = Self(1 << 2);
    const DECIMAL: Self = Self(1 << 3);
    const DATE: Self = Self(1 << 4);
    const MOMENT: Self = Self(1 << 5);
    const ZONED: Self = Self(1 << 6);
    const TIME: Self = Self(1 << 7);
    const TRUTH: Self = Self(1 << 8);
    const ALL: Self = Self((1 << 9) - 1);
    /// The candidate types of numbers, of days and moments, and of every column.
    const NUMBER: Self = Self(Self::INTEGER.0 | Self::REAL.0 | Self::DECIMAL.0);
    const DAY: Self = Self(Self::DATE.0 | Self::MOMENT.0 | Self::ZONED.0);
    const NARROWER: Self = Self(Self::ALL.0 & !Self::STORED.0);
    const NONE: Self = Self(0);

    /// Whether some candidate is left.
    fn has(self, one: Self) -> bool {
        self.0 & one.0 != 0
    }

    fn with(self, one: Self, is: bool) -> Self {
        if is { Self(self.0 | one.0) } else { self }
    }

    fn without(self, one: Self) -> Self {
        Self(self.0 & !one.0)
    }

    fn and(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }
}

/// Which types the cells seen so far leave.
#[derive(Debug, Clone)]
pub(crate) struct Fit {
    /// Whether any cell is not blank.
    any: bool,
    /// Whether any says a kind that is not text.
    is_typed: bool,
    left: Left,
    /// The most digits before and after the point.
    whole: usize,
    scale: usize,
    /// The values of a column that had a dictionary.
    distinct: DistinctTexts,
}

impl Default for Fit {
    fn default() -> Self {
        let distinct = DistinctTexts::default();
        Self { any: false, is_typed: false, left: Left::ALL, whole: 0, scale: 0, distinct }
    }
}

impl Fit {
    /// Notes a cell.
    pub(crate) fn note(&mut self, text: &str, kind: CellKind) {
        if text.is_empty() {
            return;
        }
        self.any = true;
        self.is_typed |= !matches!(kind, CellKind::Text | CellKind::Untyped);
        if !self.left.has(Left::NARROWER) {
            return;
        }
        let mut left = Left::STORED;
        let is_number = self.left.has(Left::NUMBER);
        let is_plain = is_number && is_plain_number(text);
        let digits = match kind {
            CellKind::Number if is_number => digits(text),
            CellKind::Untyped if is_plain => digits(text),
            _ => None,
        };
        if let Some((whole, scale)) = digits {
            self.whole = self.whole.max(whole);
            self.scale = self.scale.max(scale);
            // The last zeros of a number that says no kind are no part of it.
            let is_real = is_plain
                && significant(text) <= KEPT_DIGITS
                && (kind == CellKind::Untyped || scale == 0 || !text.ends_with('0'))
                || text.parse::<f64>().is_ok_and(|number| number.to_string() == text);
            left = left
                .with(Left::DECIMAL, true)
                .with(Left::INTEGER, scale == 0 && text.parse::<i64>().is_ok())
                .with(Left::REAL, is_real);
        }
        if self.left.has(Left::DAY) && matches!(kind, CellKind::Date | CellKind::Untyped) {
            let is_day = is_date(text);
            let (local, has_zone) = match text.strip_suffix('Z') {
                Some(local) => (local, true),
                None => (text, false),
            };
            let is_moment =
                local.split_once('T').is_some_and(|(date, time)| is_date(date) && is_time(time));
            // A moment at midnight may come as its day alone, where the cell says that it is one.
            let is_midnight = is_day && kind == CellKind::Date;
            left = left
                .with(Left::DATE, is_day)
                .with(Left::MOMENT, is_moment && !has_zone || is_midnight)
                .with(Left::ZONED, is_moment && has_zone);
        }
        let is_truth = kind == CellKind::Truth && matches!(text, "true" | "false");
        left = left
            .with(Left::TIME, kind == CellKind::Time && is_time(text))
            .with(Left::TRUTH, is_truth);
        self.left = self.left.and(left);
    }

    /// Notes whether cells have the type that the column had: whether it gives their texts again.
    pub(crate) fn note_stored(&mut self, texts: &StringArray, stored: &StoredType) {
        if !self.left.has(Left::STORED) || is_text(&stored.0) {
            return;
        }
        if DistinctTexts::are_kept_by(&stored.0) {
            self.distinct.note(texts);
            return;
        }
        let fits = typed(texts, &stored.0).is_some_and(|typed| {
            let (cells, mut text) = (Cells::of(&*typed), String::new());
            let mut rows = 0..texts.len();
            rows.all(|row| {
                text.clear();
                cells.write(row, &mut text);
                texts.is_null(row) || text == texts.value(row)
            })
        });
        if !fits {
            self.left = self.left.without(Left::STORED);
        }
    }

    /// Notes what was noted of other cells of the column.
    pub(crate) fn merge(&mut self, other: &Self) {
        self.any |= other.any;
        self.is_typed |= other.is_typed;
        self.left = self.left.and(other.left);
        self.whole = self.whole.max(other.whole);
        self.scale = self.scale.max(other.scale);
        self.distinct.merge(&other.distinct);
    }

    /// The dictionary of a column for which one was chosen.
    pub(super) fn into_dictionary(self, chosen: &DataType) -> Option<Dictionary> {
        let DataType::Dictionary(key, _) = chosen else { return None };
        Some(self.distinct.into_dictionary((**key).clone()))
    }

    /// The type of the column, and whether its cells lose their kinds in it.
    pub(crate) fn chosen(&self, stored: Option<&StoredType>) -> (DataType, bool) {
        if let Some(StoredType(stored)) = stored
            && self.left.has(Left::STORED)
        {
            let is_dictionary = DistinctTexts::are_kept_by(stored);
            let keyed = is_dictionary.then(|| self.distinct.stored_by(stored));
            return (keyed.unwrap_or_else(|| stored.clone()), false);
        }
        let micro =
            |zone: Option<&str>| DataType::Timestamp(TimeUnit::Microsecond, zone.map(Into::into));
        let digits = (self.whole + self.scale).max(1);
        let left = if self.any { self.left } else { Left::NONE };
        let narrowest = [
            (Left::INTEGER, DataType::Int64),
            (Left::REAL, DataType::Float64),
            (Left::DECIMAL, DataType::Decimal128(digits.min(DIGITS) as u8, self.scale as i8)),
            (Left::DATE, DataType::Date32),
            (Left::MOMENT, micro(None)),
            (Left::ZONED, micro(Some(UTC))),
            (Left::TIME, DataType::Time64(TimeUnit::Microsecond)),
            (Left::TRUTH, DataType::Boolean),
        ];
        let left = if digits > DIGITS { left.without(Left::DECIMAL) } else { left };
        let chosen =
            narrowest.into_iter().find(|(one, _)| left.has(*one)).map(|(_, chosen)| chosen);
        match chosen {
            Some(chosen) => (chosen, false),
            None => (DataType::Utf8, self.is_typed),
        }
    }
}

fn is_text(stored: &DataType) -> bool {
    matches!(stored, DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View)
}

/// A batch's column of texts.
pub(crate) fn texts(array: &dyn Array) -> &StringArray {
    array.as_string::<i32>()
}

/// How many digits a decimal in its canonical form has before and after the point.
fn digits(text: &str) -> Option<(usize, usize)> {
    let unsigned = text.strip_prefix('-').unwrap_or(text);
    let (whole, behind) = match unsigned.split_once('.') {
        Some((whole, behind)) if !behind.is_empty() => (whole, behind),
        Some(_) => return None,
        None => (unsigned, ""),
    };
    let all_digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    let needless = whole.len() > 1 && whole.starts_with('0') || text == "-0";
    let is_decimal = !whole.is_empty() && !needless && all_digits(whole) && all_digits(behind);
    is_decimal.then_some((whole.len(), behind.len()))
}

/// How many digits of a plain number tell it from others.
fn significant(text: &str) -> usize {
    let reported = text.trim_start_matches(['-', '0', '.']);
    reported.len() - usize::from(reported.contains('.'))
}

/// Whether a text is a day, `2026-05-19`.
fn is_date(text: &str) -> bool {
    let is_like_one = text.len() == 10
        && text.is_ascii()
        && text.bytes().filter(|sign| *sign == b'-').count() == 2;
    is_like_one && text.parse::<Date>().is_ok()
}

/// Whether a text is a time of a day, `10:20:00` or with up to six digits after the second.
fn is_time(text: &str) -> bool {
    let (clock, behind) = text.split_once('.').unwrap_or((text, "0"));
    let is_clock = clock.len() == 8
        && clock.bytes().enumerate().all(|(at, byte)| match at {
            2 | 5 => byte == b':',
            _ => byte.is_ascii_digit(),
        });
    // A leap second is none that the types know.
    is_clock
        && !clock.ends_with("60")
        && (1..=6).contains(&behind.len())
        && text.parse::<Time>().is_ok()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// The type of a column does not depend on the order of its cells, nor on how they are noted in
        /// parts; and each cell alone would leave it as well.
        #[test]
        fn the_type_is_one_that_each_cell_leaves(
            cells in prop::collection::vec(
                (
                    "[1-9][0-9]{0,2}(\\.[0-9]{1,2})?|2026-0[1-9]-1[0-9](T10:20:0[0-9]Z?)?|true|10:20:30|x|",
                    prop::sample::select(vec![
                        CellKind::Untyped,
                        CellKind::Number,
                        CellKind::Date,
                        CellKind::Time,
                        CellKind::Truth,
                        CellKind::Text,
                    ]),
                ),
                1..6,
            ),
            cut in 0..6_usize,
        ) {
            let of = |cells: &[(String, CellKind)]| {
                let mut fit = Fit::default();
                for (text, kind) in cells {
                    fit.note(text, *kind);
                }
                fit
            };
            let whole = of(&cells);
            let mut turned = cells.clone();
            turned.reverse();
            let (one, other) = cells.split_at(cut.min(cells.len()));
            let mut merged = of(one);
            merged.merge(&of(other));
            let each = cells.chunks(1).map(of);
            let all = each.fold(Left::ALL, |left, fit| left.and(fit.left));
            prop_assert_eq!(whole.chosen(None), of(&turned).chosen(None));
            prop_assert_eq!(whole.chosen(None), merged.chosen(None));
            prop_assert_eq!(whole.left, all);
        }
    }
}
