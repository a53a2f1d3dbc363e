//! The canonical texts of numbers: shortest exact decimals, without an exponent.

use std::fmt::{Display, Write};

/// Writes a whole number.
pub(crate) fn push_integer(number: impl itoa::Integer, text: &mut String) {
    text.push_str(itoa::Buffer::new().format(number));
}

/// Writes a number that may be none, and tells whether it is one: infinities and the like are told as
/// they are called.
pub(crate) fn push_real<F>(number: F, text: &mut String) -> bool
where
    F: zmij::Float + Display + PartialEq + Default,
{
    if number == F::default() {
        // There is one zero.
        text.push('0');
        return true;
    }
    let mut buffer = zmij::Buffer::new();
    let shortest = buffer.format(number);
    if shortest.contains('e') {
        // Its digits are all there, behind as many zeros as it takes. Writing to a text can't fail.
        let _ = write!(text, "{number}");
    } else {
        text.push_str(shortest.strip_suffix(".0").unwrap_or(shortest));
    }
    text.ends_with(|sign: char| sign.is_ascii_digit())
}

/// How many significant digits a spreadsheet works with.
const WORKED: usize = 15;

/// Writes a number of a workbook: a whole number with every digit, a fraction with those that a spreadsheet works
/// with, so that a sum that shows as 0.3 there is 0.3.
pub(crate) fn push_worked(number: f64, text: &mut String) -> bool {
    let from = text.len();
    let is_number = push_real(number, text);
    let digits = text[from..].trim_start_matches(['-', '0', '.']);
    let digits = digits.bytes().filter(u8::is_ascii_digit).count();
    if is_number && digits > WORKED && number.fract() != 0.0 {
        // Hardly any number has so many digits.
        let rounded = format!("{number:.*e}", WORKED - 1).parse();
        text.truncate(from);
        return push_real(rounded.unwrap_or(number), text);
    }
    is_number
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn numbers_are_their_shortest_decimals(number in any::<f64>(), short in any::<f32>()) {
            let (mut text, mut shorter) = (String::new(), String::new());
            push_real(number, &mut text);
            push_real(short, &mut shorter);
            // Of two that are as near and as short, either will do.
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
            assert!(push_worked(number, &mut text));
            assert_eq!(text, want);
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
}
