//! Numbers: reading any usual spelling, and writing the canonical text.
//!
//! The canonical text of a number is its shortest exact decimal: no leading zeros, no separators between
//! groups, no exponent, no zeros at the end of a fraction. Digits are moved as text and never become a float,
//! so that an id of twenty digits keeps all of them.

use std::fmt::{Display, Write};

use super::blank::{is_space, trimmed};

/// The most digits before and after the point. Without a limit, an exponent could ask for more memory than
/// there is.
const MOST_DIGITS: i64 = 1000;

/// Appends the canonical text of a number that is written in any usual way, with `point` as its decimal
/// point. Returns `None` when the text is not a number; `out` then holds a remainder without meaning.
///
/// ```
/// use gather_keys_core::value::number::write_number;
///
/// let mut text = String::new();
/// assert_eq!(write_number("001,234.50", '.', &mut text), None);
/// text.clear();
/// write_number("1,234.50", '.', &mut text).unwrap();
/// assert_eq!(text, "1234.5");
/// ```
// Counts of digits in a cell are far below 2^63, and are no more than `MOST_DIGITS` where they are
// made unsigned again.
#[allow(clippy::cast_possible_wrap, clippy::cast_sign_loss)]
pub fn write_number(text: &str, point: char, out: &mut String) -> Option<()> {
    let (negative, text) = match text.strip_prefix(['-', '\u{2212}']) {
        Some(rest) => (true, rest),
        None => (false, text.strip_prefix('+').unwrap_or(text)),
    };
    let (mantissa, exponent) = match text.split_once(['e', 'E']) {
        Some((mantissa, exponent)) => (mantissa, exponent_of(exponent)?),
        None => (text, 0),
    };
    let (whole, fraction) = mantissa.split_once(point).unwrap_or((mantissa, ""));
    if !fraction.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let start = out.len();
    push_groups(whole, if point == '.' { ',' } else { '.' }, out)?;
    let whole_digits = out.len() - start;
    out.push_str(fraction);
    if out.len() == start {
        return None;
    }
    // `out` now holds all digits; the point belongs before the digit at this index.
    let mut point_at = whole_digits as i64 + exponent;
    let zeros = out[start..].bytes().take_while(|&byte| byte == b'0').count();
    let zeros = if start + zeros == out.len() { zeros - 1 } else { zeros };
    out.replace_range(start..start + zeros, "");
    point_at -= zeros as i64;
    let kept = out[start..].trim_end_matches('0').len();
    let digits = out.len() - start;
    if !(-MOST_DIGITS..=MOST_DIGITS).contains(&point_at) || digits as i64 > MOST_DIGITS {
        return None;
    }
    if kept == 0 {
        out.truncate(start);
        out.push('0');
        return Some(());
    }
    let significant = kept as i64;
    out.truncate(start + kept);
    if point_at >= significant {
        out.extend(std::iter::repeat_n('0', (point_at - significant) as usize));
    } else if point_at > 0 {
        out.insert(start + point_at as usize, '.');
    } else {
        let mut before = "0.".to_owned();
        before.extend(std::iter::repeat_n('0', -point_at as usize));
        out.insert_str(start, &before);
    }
    if negative {
        out.insert(start, '-');
    }
    Some(())
}

fn exponent_of(text: &str) -> Option<i64> {
    let digits = text.strip_prefix(['+', '-']).unwrap_or(text);
    let fits = !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit());
    text.parse().ok().filter(|exponent: &i64| fits && exponent.abs() <= MOST_DIGITS)
}

/// Appends the digits before the point. Groups of three digits may be separated by `comma`, spaces or
/// apostrophes, by the same one throughout.
fn push_groups(whole: &str, comma: char, out: &mut String) -> Option<()> {
    if whole.bytes().all(|byte| byte.is_ascii_digit()) {
        out.push_str(whole);
        return Some(());
    }
    let separator = whole.chars().find(|c| !c.is_ascii_digit())?;
    if separator != comma && !matches!(separator, '\'' | '\u{2019}') && !is_space(separator) {
        return None;
    }
    for (nth, group) in whole.split(separator).enumerate() {
        let digits = group.bytes().all(|byte| byte.is_ascii_digit());
        // `0,123` is more likely a decimal comma than a number in groups.
        let fits = if nth == 0 {
            (1..=3).contains(&group.len()) && !group.starts_with('0')
        } else {
            group.len() == 3
        };
        if !digits || !fits {
            return None;
        }
        out.push_str(group);
    }
    Some(())
}

/// The canonical text of a number with a decimal point; `None` when the text is not a number.
pub(crate) fn canonical(text: &str) -> Option<String> {
    let mut out = String::new();
    write_number(&text[trimmed(text)], '.', &mut out).map(|()| out)
}

/// Appends a whole number.
pub fn push_integer(number: impl itoa::Integer, text: &mut String) {
    text.push_str(itoa::Buffer::new().format(number));
}

/// Appends a binary floating-point number as its shortest exact decimal, without an exponent. Returns whether
/// it is a number: `NaN` and infinities are written by name.
///
/// ```
/// use gather_keys_core::value::number::push_real;
///
/// let mut text = String::new();
/// assert!(push_real(1e-7, &mut text));
/// assert_eq!(text, "0.0000001");
/// assert!(!push_real(f64::INFINITY, &mut text));
/// ```
pub fn push_real<F>(number: F, text: &mut String) -> bool
where
    F: zmij::Float + Display + PartialEq + Default,
{
    if number == F::default() {
        // -0.0 is equal to 0.0 and has the same text.
        text.push('0');
        return true;
    }
    let mut buffer = zmij::Buffer::new();
    let shortest = buffer.format(number);
    if shortest.contains('e') {
        // Display writes the same digits with zeros in place of the exponent. Writing to a `String` can't
        // fail.
        let _ = write!(text, "{number}");
    } else {
        text.push_str(shortest.strip_suffix(".0").unwrap_or(shortest));
    }
    text.ends_with(|last: char| last.is_ascii_digit())
}

/// How many significant digits a spreadsheet works with.
pub const SPREADSHEET_DIGITS: usize = 15;

/// Appends a number of a workbook: a whole number with every digit, a fraction with the 15 significant digits
/// that a spreadsheet works with, so that a sum shown there as 0.3 is `0.3`. Returns whether it is a number.
pub fn push_spreadsheet_number(number: f64, text: &mut String) -> bool {
    let from = text.len();
    let is_number = push_real(number, text);
    let digits = text[from..].trim_start_matches(['-', '0', '.']);
    let digits = digits.bytes().filter(u8::is_ascii_digit).count();
    if is_number && digits > SPREADSHEET_DIGITS && number.fract() != 0.0 {
        // Rare: few numbers have this many digits.
        let rounded = format!("{number:.*e}", SPREADSHEET_DIGITS - 1).parse();
        text.truncate(from);
        return push_real(rounded.unwrap_or(number), text);
    }
    is_number
}

/// Appends a number as the file of a workbook has it, like [`push_spreadsheet_number`]: a whole number keeps every
/// digit that is written. Returns whether it is a number; if not, nothing is appended.
///
/// ```
/// use gather_keys_core::value::number::push_spreadsheet_decimal;
///
/// for (written, want) in [("12.50", "12.5"), ("12345678901234567", "12345678901234567"), ("4.1E1", "41")] {
///     let mut text = String::new();
///     assert!(push_spreadsheet_decimal(written.as_bytes(), &mut text));
///     assert_eq!(text, want);
/// }
/// ```
pub fn push_spreadsheet_decimal(written: &[u8], text: &mut String) -> bool {
    let Ok(written) = std::str::from_utf8(written) else { return false };
    // Most numbers are canonical as they are.
    if is_canonical_in_spreadsheet(written.as_bytes()) {
        text.push_str(written);
        return true;
    }
    // Texts like `inf` and `nan` are no numbers there.
    let is_decimal = |byte: u8| byte.is_ascii_digit() || b"+-.eE".contains(&byte);
    let number = written.parse::<f64>().ok().filter(|number| number.is_finite());
    let Some(number) = number.filter(|_| written.bytes().all(is_decimal)) else { return false };
    let from = text.len();
    let is_written = write_number(written, '.', text).is_some();
    if is_written && text[from..].bytes().all(|byte| byte == b'-' || byte.is_ascii_digit()) {
        return true;
    }
    text.truncate(from);
    push_spreadsheet_number(number, text)
}

/// Whether a number of a workbook is written as its text is: a whole number without needless zeros, or a fraction
/// with no more digits than a spreadsheet works with.
fn is_canonical_in_spreadsheet(written: &[u8]) -> bool {
    let unsigned = written.strip_prefix(b"-").unwrap_or(written);
    let whole = unsigned.iter().take_while(|byte| byte.is_ascii_digit()).count();
    let starts_well = match unsigned {
        [b'0'] => return written.len() == 1,
        [b'0', b'.', ..] => true,
        [first, ..] => matches!(first, b'1'..=b'9'),
        [] => false,
    };
    match &unsigned[whole..] {
        [] => starts_well,
        [b'.', fraction @ ..] => {
            starts_well
                && whole + fraction.len() <= SPREADSHEET_DIGITS
                && fraction.iter().all(u8::is_ascii_digit)
                && matches!(fraction, [.., b'1'..=b'9'])
        }
        _ => false,
    }
}

/// A number that is written with a decimal comma, and possibly points between thousands, as it is with a decimal point;
/// `None` for anything else, and for numbers that are the same in both.
///
/// ```
/// use gather_keys_core::value::number::from_decimal_comma;
///
/// assert_eq!(from_decimal_comma("1.234,50").as_deref(), Some("1234.50"));
/// assert_eq!(from_decimal_comma("007,5"), None);
/// ```
pub fn from_decimal_comma(text: &str) -> Option<String> {
    let unsigned = text.strip_prefix('-').unwrap_or(text);
    let (whole, fraction) = match unsigned.split_once(',') {
        Some((whole, fraction)) => (whole, Some(fraction)),
        None => (unsigned, None),
    };
    let is_digits = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    let (first, thousands) =
        whole.split_once('.').map_or((whole, None), |(first, rest)| (first, Some(rest)));
    let are_thousands =
        |rest: &str| rest.split('.').all(|three| three.len() == 3 && is_digits(three));
    let is_number = is_digits(first)
        && (first == "0" && thousands.is_none() || !first.starts_with('0'))
        && thousands.is_none_or(|rest| first.len() <= 3 && are_thousands(rest))
        && fraction.is_none_or(is_digits);
    if !is_number || thousands.is_none() && fraction.is_none() {
        return None;
    }
    let sign = &text[..text.len() - unsigned.len()];
    let point = if fraction.is_some() { "." } else { "" };
    Some(format!("{sign}{}{point}{}", whole.replace('.', ""), fraction.unwrap_or_default()))
}

/// The largest power of ten that [`push_decimal`] writes out.
const MOST_EXPONENT: u16 = 400;

/// Appends a number in the notation of JSON (`-1.50e+2`) as its shortest exact decimal. A number with an
/// exponent beyond 400 stays as it is written.
///
/// ```
/// use gather_keys_core::value::number::push_decimal;
///
/// let mut text = String::new();
/// push_decimal("1.50E+2", &mut text);
/// assert_eq!(text, "150");
/// ```
pub fn push_decimal(written: &str, text: &mut String) {
    let is_digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    // Most numbers are canonical as they are.
    let unsigned = written.strip_prefix('-').unwrap_or(written);
    let is_canonical = match unsigned.split_once('.') {
        Some((whole, fraction)) => {
            is_digits(whole) && is_digits(fraction) && !fraction.ends_with('0')
        }
        None => is_digits(unsigned) && unsigned != "0",
    };
    let exponent = written.split_once(['e', 'E']).map_or(Ok(0), |(_, exponent)| exponent.parse());
    let fits = exponent.is_ok_and(|exponent: i16| exponent.unsigned_abs() <= MOST_EXPONENT);
    let from = text.len();
    if is_canonical || !fits || write_number(written, '.', text).is_none() {
        text.truncate(from);
        text.push_str(written);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn number(text: &str, point: char) -> Option<String> {
        let mut out = String::new();
        write_number(text, point, &mut out).map(|()| out)
    }

    #[test]
    fn spellings_become_one() {
        for (text, want) in [
            ("0", Some("0")),
            ("000", Some("0")),
            ("0.000", Some("0")),
            ("-0.0e5", Some("0")),
            (".5", Some("0.5")),
            ("5.", Some("5")),
            ("0.050", Some("0.05")),
            ("100", Some("100")),
            ("12e-4", Some("0.0012")),
            ("1.25E+1", Some("12.5")),
            ("1.5e1", Some("15")),
            ("\u{2212}3", Some("-3")),
            ("1 234 567", Some("1234567")),
            ("1\u{202f}234.5", Some("1234.5")),
            ("1'234", Some("1234")),
            ("1,234,567", Some("1234567")),
            ("12,34,567", None),
            ("0,123", None),
            ("1,234 567", None),
            (",123", None),
            ("1234,567", None),
            (".", None),
            ("-", None),
            ("e5", None),
            ("1e", None),
            ("1e+", None),
            ("1e5.", None),
            ("1e99999", None),
            ("--1", None),
            ("1-", None),
            ("(5)", None),
            ("0x1f", None),
            ("NaN", None),
            ("1_000", None),
            ("１", None),
        ] {
            assert_eq!(number(text, '.').as_deref(), want, "{text}");
        }
        assert_eq!(number("1.234,5", ',').as_deref(), Some("1234.5"));
        assert_eq!(number("1,234.5", ','), None);
    }

    proptest! {
        /// Any spelling of a number, with zeros and exponents at will, comes out as the shortest.
        #[test]
        fn digits_are_never_lost(
            digits in "[1-9][0-9]{0,30}",
            scale in 0_usize..20,
            zeros in (0_usize..4, 0_usize..4),
            exponent in -15_i64..15,
        ) {
            // The number is digits / 10^scale * 10^exponent.
            let padded = format!("{}{digits}", "0".repeat((scale + 1).saturating_sub(digits.len())));
            let (whole, fraction) = padded.split_at(padded.len() - scale);
            let dressed = format!(
                "{}{whole}.{fraction}{}e{exponent}", "0".repeat(zeros.0), "0".repeat(zeros.1));
            let shift = exponent - i64::try_from(scale).unwrap();
            let plain = if let Ok(shift) = usize::try_from(shift) {
                format!("{digits}{}", "0".repeat(shift))
            } else {
                let places = shift.unsigned_abs() as usize;
                let padded = format!("{}{digits}", "0".repeat((places + 1).saturating_sub(digits.len())));
                let (whole, fraction) = padded.split_at(padded.len() - places);
                let fraction = fraction.trim_end_matches('0');
                if fraction.is_empty() { whole.to_owned() } else { format!("{whole}.{fraction}") }
            };
            prop_assert_eq!(number(&dressed, '.'), Some(plain.clone()));
            prop_assert_eq!(number(&plain, '.'), Some(plain));
        }
    }

    proptest! {
        #[test]
        fn numbers_are_their_shortest_decimals(number in any::<f64>(), short in any::<f32>()) {
            let (mut text, mut shorter) = (String::new(), String::new());
            push_real(number, &mut text);
            push_real(short, &mut shorter);
            // Of two equally near and short decimals, either will do.
            if number.is_finite() {
                prop_assert_eq!(text.parse::<f64>(), Ok(number));
                prop_assert_eq!(text.len(), number.abs().to_string().len() + usize::from(number < 0.0));
            }
            if short.is_finite() {
                prop_assert_eq!(shorter.parse::<f32>(), Ok(short));
                prop_assert_eq!(shorter.len(), short.abs().to_string().len() + usize::from(short < 0.0));
            }
        }
    }

    #[test]
    fn fractions_of_a_workbook_have_the_digits_it_works_with() {
        for (number, want) in [
            (0.1 + 0.2, "0.3"),
            (20.0 * 1.19, "23.8"),
            (-7.0 * 1.19, "-8.33"),
            (1.0 / 3.0, "0.333333333333333"),
            (0.000_012_345_678_901_234_567, "0.0000123456789012346"),
            (123_456_789.123_456_79, "123456789.123457"),
            (9_007_199_254_740_993.0, "9007199254740992"),
            (1e21, "1000000000000000000000"),
            (0.25, "0.25"),
        ] {
            let mut text = String::new();
            assert!(push_spreadsheet_number(number, &mut text));
            assert_eq!(text, want);
        }
    }

    proptest! {
        /// A number of a workbook is the same whether it is canonical as it is written or not.
        #[test]
        fn written_numbers_are_what_their_values_are(text in "-?(0|[1-9][0-9]{0,14})(\\.[0-9]{1,17})?([eE][+-]?[0-9]{1,2})?") {
            let (mut written, mut of_value) = (String::new(), String::new());
            prop_assert!(push_spreadsheet_decimal(text.as_bytes(), &mut written));
            push_spreadsheet_number(text.parse().unwrap(), &mut of_value);
            // A whole number of many digits is no value that a number holds.
            let is_long = written.len() > SPREADSHEET_DIGITS && !written.contains('.');
            prop_assert!(is_long || written == of_value, "{} {}", written, of_value);
        }
    }

    #[test]
    fn numbers_of_a_file_are_read_as_a_spreadsheet_does() {
        for (written, want) in [
            ("42", Some("42")),
            ("0", Some("0")),
            ("-0", Some("0")),
            ("-0.5", Some("-0.5")),
            ("007", Some("7")),
            ("3.0", Some("3")),
            (".5", Some("0.5")),
            ("41.560199999999995", Some("41.5602")),
            ("0.30000000000000004", Some("0.3")),
            ("98765432109876543210", Some("98765432109876543210")),
            ("1.2345678901234567E22", Some("12345678901234567000000")),
            ("+7", Some("7")),
            ("", None),
            ("n/a", None),
            ("inf", None),
            ("1e999", None),
            ("1 2", None),
        ] {
            let mut text = String::new();
            let is_number = push_spreadsheet_decimal(written.as_bytes(), &mut text);
            assert_eq!(is_number.then_some(&text[..]), want, "{written}");
        }
    }

    #[test]
    fn a_decimal_comma_is_read() {
        for (text, want) in [
            ("12,5", Some("12.5")),
            ("-0,50", Some("-0.50")),
            ("1.234", Some("1234")),
            ("1.234.567,8", Some("1234567.8")),
            ("12", None),
            ("12.5", None),
            ("1234.567,8", None),
            ("1,234,5", None),
            ("12.05.2026", None),
            ("0.123", None),
            (",5", None),
            ("5,", None),
            ("H,5", None),
            ("", None),
        ] {
            assert_eq!(from_decimal_comma(text).as_deref(), want, "{text}");
        }
    }

    #[test]
    fn what_is_no_number_is_told() {
        for (number, text, is) in [
            (f64::NAN, "NaN", false),
            (f64::INFINITY, "inf", false),
            (-0.0, "0", true),
            (1e300, "", true),
        ] {
            let mut written = String::new();
            assert_eq!(push_real(number, &mut written), is);
            assert!(text.is_empty() || written == text, "{written}");
        }
    }

    #[test]
    fn numbers_have_one_text() {
        for (written, want) in [
            ("42", "42"),
            ("42.0", "42"),
            ("-0.0", "0"),
            ("-0", "0"),
            ("-7", "-7"),
            ("1e-7", "0.0000001"),
            ("1.50E+2", "150"),
            ("-12.340", "-12.34"),
            ("-12.34", "-12.34"),
            ("12345678901234567", "12345678901234567"),
            ("123456789012345678901234567890.5", "123456789012345678901234567890.5"),
            ("0.1", "0.1"),
            ("1e999", "1e999"),
            ("1.5e-3", "0.0015"),
            ("1.5e3", "1500"),
        ] {
            let mut text = String::new();
            push_decimal(written, &mut text);
            assert_eq!(text, want, "{written}");
        }
    }
}
