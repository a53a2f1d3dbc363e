//! A number as JSON writes it, as its shortest exact decimal.

/// Writes a number of JSON as its shortest exact decimal: `42.0` is `42`, and `1e-7` is `0.0000001`. One
/// of a size that no table holds stays as it is.
pub(super) fn decimal(written: &str, text: &mut String) {
    let is_digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    if is_digits(written) {
        text.push_str(written);
        return;
    }
    let (sign, number) = match written.strip_prefix('-') {
        Some(number) => ("-", number),
        None => ("", written),
    };
    if let Some((whole, part)) = number.split_once('.')
        && is_digits(part)
        && !part.ends_with('0')
    {
        for piece in [sign, whole, ".", part] {
            text.push_str(piece);
        }
        return;
    }
    let (mantissa, exponent) = number.split_once(['e', 'E']).unwrap_or((number, "0"));
    let Some(exponent) = exponent.parse::<i16>().ok().filter(|by| by.unsigned_abs() <= 400) else {
        text.push_str(written);
        return;
    };
    let (whole, part) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let (mut digits, by) = (format!("{whole}{part}"), usize::from(exponent.unsigned_abs()));
    let point = if exponent >= 0 {
        let point = whole.len() + by;
        digits.push_str(&"0".repeat(point.saturating_sub(digits.len())));
        point
    } else {
        digits.insert_str(0, &"0".repeat(by.saturating_sub(whole.len())));
        whole.len().saturating_sub(by)
    };
    let (whole, part) = digits.split_at(point);
    let (whole, part) = (whole.trim_start_matches('0'), part.trim_end_matches('0'));
    let whole = if whole.is_empty() { "0" } else { whole };
    match (whole, part) {
        ("0", "") => text.push('0'),
        (whole, "") => text.extend([sign, whole]),
        (whole, part) => text.extend([sign, whole, ".", part]),
    }
}

#[cfg(test)]
mod tests {
    use super::decimal;

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
            decimal(written, &mut text);
            assert_eq!(text, want, "{written}");
        }
    }
}
