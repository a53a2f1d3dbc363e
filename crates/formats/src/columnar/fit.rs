//! The type that a column of cells can have.
//!
//! Each cell rules out the types that would not give its text again. What is left when all cells are
//! seen is the type of the column: the one it had in its file, or else the narrowest; text, where no
//! other is left.

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, StringArray};
use arrow_cast::{CastOptions, cast_with_options};
use arrow_schema::{ArrowError, DataType, TimeUnit};
use gather_keys_core::table::CellKind;
use jiff::civil::{Date, Time};

use super::StoredType;
use super::cells::Cells;
use crate::workbook::is_plain_number;

/// What a time zone is called that any reader knows.
const UTC: &str = "UTC";

/// The same in the words of the library, which knows no others.
const OFFSET: &str = "+00:00";

/// How many digits a decimal holds.
const DIGITS: usize = 38;

/// Which types the cells seen so far leave.
#[derive(Debug, Clone)]
pub(crate) struct Fit {
    /// Whether any cell is not blank.
    any: bool,
    /// Whether any says a kind that is not text.
    is_typed: bool,
    /// The type that it had.
    stored: bool,
    integer: bool,
    real: bool,
    decimal: bool,
    /// The most digits before and behind the point.
    whole: usize,
    scale: usize,
    date: bool,
    moment: bool,
    zoned: bool,
    time: bool,
    truth: bool,
}

impl Default for Fit {
    fn default() -> Self {
        Self {
            any: false,
            is_typed: false,
            stored: true,
            integer: true,
            real: true,
            decimal: true,
            whole: 0,
            scale: 0,
            date: true,
            moment: true,
            zoned: true,
            time: true,
            truth: true,
        }
    }
}

impl Fit {
    /// Notes a cell.
    pub(crate) fn note(&mut self, text: &str, kind: CellKind) {
        if text.is_empty() {
            return;
        }
        self.any = true;
        self.is_typed |= !matches!(kind, CellKind::Text | CellKind::Unsaid);
        let digits = match kind {
            CellKind::Number => digits(text),
            CellKind::Unsaid if is_plain_number(text) => digits(text),
            _ => None,
        };
        match digits {
            Some((whole, scale)) => {
                self.whole = self.whole.max(whole);
                self.scale = self.scale.max(scale);
                self.integer &= scale == 0 && text.parse::<i64>().is_ok();
                // A plain number has few enough digits; its last zeros are no part of it.
                self.real &= kind == CellKind::Unsaid
                    || text.parse::<f64>().is_ok_and(|number| number.to_string() == text);
            }
            None => (self.integer, self.real, self.decimal) = (false, false, false),
        }
        let (mut date, mut moment, mut zoned) = (false, false, false);
        if matches!(kind, CellKind::Date | CellKind::Unsaid) {
            date = is_date(text);
            let (local, has_zone) = match text.strip_suffix('Z') {
                Some(local) => (local, true),
                None => (text, false),
            };
            let is_moment =
                local.split_once('T').is_some_and(|(date, time)| is_date(date) && is_time(time));
            // A moment at midnight may come as its day alone, where the cell says that it is one.
            moment = is_moment && !has_zone || date && kind == CellKind::Date;
            zoned = is_moment && has_zone;
        }
        self.date &= date;
        self.moment &= moment;
        self.zoned &= zoned;
        self.time &= kind == CellKind::Time && is_time(text);
        self.truth &= kind == CellKind::Truth && matches!(text, "true" | "false");
    }

    /// Notes whether cells have the type that the column had: whether it gives their texts again.
    pub(crate) fn note_stored(&mut self, texts: &StringArray, stored: &StoredType) {
        if !self.stored || is_text(&stored.0) {
            return;
        }
        let Ok(typed) = typed(texts, &stored.0, true) else {
            self.stored = false;
            return;
        };
        let (cells, mut room) = (Cells::of(&*typed), String::new());
        self.stored = (0..texts.len())
            .all(|row| texts.is_null(row) || cells.cell(row, &mut room).0 == texts.value(row));
    }

    /// Notes what was noted of other cells of the column.
    pub(crate) fn merge(&mut self, other: &Self) {
        self.any |= other.any;
        self.is_typed |= other.is_typed;
        self.whole = self.whole.max(other.whole);
        self.scale = self.scale.max(other.scale);
        for (ours, theirs) in [
            (&mut self.stored, other.stored),
            (&mut self.integer, other.integer),
            (&mut self.real, other.real),
            (&mut self.decimal, other.decimal),
            (&mut self.date, other.date),
            (&mut self.moment, other.moment),
            (&mut self.zoned, other.zoned),
            (&mut self.time, other.time),
            (&mut self.truth, other.truth),
        ] {
            *ours &= theirs;
        }
    }

    /// The type of the column, and whether its cells lose their kinds in it.
    pub(crate) fn chosen(&self, stored: Option<&StoredType>) -> (DataType, bool) {
        if let Some(StoredType(stored)) = stored
            && self.stored
        {
            return (stored.clone(), false);
        }
        let micro =
            |zone: Option<&str>| DataType::Timestamp(TimeUnit::Microsecond, zone.map(Into::into));
        let digits = (self.whole + self.scale).max(1);
        let chosen = match self {
            Self { any: false, .. } => None,
            Self { integer: true, .. } => Some(DataType::Int64),
            Self { real: true, .. } => Some(DataType::Float64),
            Self { decimal: true, .. } if digits <= DIGITS => {
                Some(DataType::Decimal128(digits as u8, self.scale as i8))
            }
            Self { date: true, .. } => Some(DataType::Date32),
            Self { moment: true, .. } => Some(micro(None)),
            Self { zoned: true, .. } => Some(micro(Some(UTC))),
            Self { time: true, .. } => Some(DataType::Time64(TimeUnit::Microsecond)),
            Self { truth: true, .. } => Some(DataType::Boolean),
            _ => None,
        };
        match chosen {
            Some(chosen) => (chosen, false),
            None => (DataType::Utf8, self.is_typed),
        }
    }
}

fn is_text(stored: &DataType) -> bool {
    matches!(
        stored,
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View | DataType::Dictionary(..)
    )
}

/// Texts as values of a type; those that are none become blank where `lenient`, and are an error if not.
pub(crate) fn typed(
    texts: &StringArray,
    to: &DataType,
    lenient: bool,
) -> Result<ArrayRef, ArrowError> {
    let options = CastOptions { safe: lenient, ..CastOptions::default() };
    match to {
        DataType::Timestamp(unit, Some(_)) => {
            // The moment is the same whatever zone its type names.
            let utc = DataType::Timestamp(*unit, Some(OFFSET.into()));
            let moments = cast_with_options(texts, &utc, &options)?.to_data();
            let moments = moments.into_builder().data_type(to.clone()).build()?;
            Ok(arrow_array::make_array(moments))
        }
        _ => cast_with_options(texts, to, &options),
    }
}

/// A batch's column of texts.
pub(crate) fn texts(array: &dyn Array) -> &StringArray {
    array.as_string::<i32>()
}

/// How many digits a decimal has before and behind its point, written in the one way.
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

/// Whether a text is a day, `2026-05-19`.
fn is_date(text: &str) -> bool {
    text.len() == 10 && text.is_ascii() && text.parse::<Date>().is_ok()
}

/// Whether a text is a time of a day, `10:20:00` or with up to six digits behind the second.
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
