//! One spelling of a number, exact: digits are moved about as text and never become a float, so
//! that an id of twenty digits keeps all of them.

use std::sync::Arc;

use super::space::{is_space, trimmed};
use super::{Done, Step, StepKind};

pub(super) static NUMBER: StepKind = StepKind {
    name: "number",
    form: "number [\",\"]",
    does: "writes a number in one way: no leading zeros, no group separators, no exponent, no \
           zeros at the end; `number \",\"` reads a decimal comma",
    examples: &[
        ("number", "007", Some("7")),
        ("number", "7.0", Some("7")),
        ("number", "1,234.50", Some("1234.5")),
        ("number \",\"", "1.234,50", Some("1234.5")),
        ("number", "12345678901234567890", Some("12345678901234567890")),
        ("number", "1e3", Some("1000")),
        ("number", "-0", Some("0")),
        ("number", "+7", Some("7")),
        ("number", "1,23", None),
        ("number", "€ 7", None),
        ("number", "7 %", None),
        ("number", "n/a", None),
        ("number", "", Some("")),
    ],
    read: |phrase| {
        phrase.skip_space();
        let start = phrase.at();
        match phrase.text()?.as_deref() {
            None | Some(".") => Ok(Arc::new(Number { comma: false })),
            Some(",") => Ok(Arc::new(Number { comma: true })),
            Some(_) => {
                phrase.back_to(start);
                phrase.expected("\",\" for a decimal comma, or nothing")
            }
        }
    },
};

/// The most digits that a number may have before and behind the point. An exponent could ask for
/// more than there is memory.
const MOST_DIGITS: i64 = 1000;

#[derive(Debug)]
struct Number {
    comma: bool,
}

impl Step for Number {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        let text = &value[trimmed(value)];
        if text.is_empty() {
            return Done::Piece(0..0);
        }
        match write_number(text, if self.comma { ',' } else { '.' }, out) {
            Some(()) => Done::Written,
            None => Done::Unreadable,
        }
    }
}

/// Appends a number in its one spelling. `None` when the text is no number; what is appended then
/// means nothing.
// Counts of digits in a cell are far below 2^63, and are no more than `MOST_DIGITS` where they are
// made unsigned again.
#[allow(clippy::cast_possible_wrap, clippy::cast_sign_loss)]
pub(super) fn write_number(text: &str, point: char, out: &mut String) -> Option<()> {
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
    // All digits stand in `out` now; the point belongs before this one of them.
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

/// Appends the digits before the point. Groups of three may be set apart by `sign`, by spaces or
/// by apostrophes, throughout and in one way.
fn push_groups(whole: &str, sign: char, out: &mut String) -> Option<()> {
    if whole.bytes().all(|byte| byte.is_ascii_digit()) {
        out.push_str(whole);
        return Some(());
    }
    let separator = whole.chars().find(|c| !c.is_ascii_digit())?;
    if separator != sign && !matches!(separator, '\'' | '\u{2019}') && !is_space(separator) {
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
}
