//! Spellings: values reduced to their letters and digits, so that different spellings are equal.

use crate::template::{StepUse, apply_all, read_steps};
use crate::value::number;

/// Reduces values, so that different spellings are equal.
#[derive(Debug)]
pub(crate) struct Loose {
    plain: Vec<StepUse>,
    decimal_comma: Vec<StepUse>,
    left: Vec<u8>,
}

impl Loose {
    pub(crate) fn new() -> Self {
        // These are steps as a person could write them.
        let steps = |text: &str| read_steps("spelling", text).unwrap_or_default();
        let (plain, decimal_comma) = (steps("plain | alnum | fold"), steps("number \",\""));
        Self { plain, decimal_comma, left: Vec::new() }
    }

    /// The reduced value.
    pub(crate) fn of(&mut self, value: &str) -> &[u8] {
        let mut left = std::mem::take(&mut self.left);
        left.clear();
        self.leave(value, &mut left);
        self.left = left;
        &self.left
    }

    /// What is left of a value, as a text.
    pub(super) fn text(&self, value: &str) -> String {
        let mut left = Vec::new();
        self.leave(value, &mut left);
        String::from_utf8_lossy(&left).into_owned()
    }

    /// Appends what is left of a value: letters and digits in lower case and without accents, numbers
    /// without leading zeros.
    pub(super) fn leave(&self, part: &str, left: &mut Vec<u8>) {
        let is_whole_number = part.bytes().all(|byte| byte.is_ascii_digit());
        if !is_whole_number && looks_like_a_number(part) {
            let with_comma = || apply_all(&self.decimal_comma, part).filter(|_| part.contains(','));
            if let Some(number) = number::canonical(part).or_else(with_comma) {
                left.extend(number.bytes());
                return;
            }
        }
        let plain = if part.is_ascii() { None } else { apply_all(&self.plain, part) };
        let text = plain.as_deref().unwrap_or(part);
        // Zeros count once a digit is before them.
        let mut zeros = true;
        let mut waiting = false;
        for &byte in text.as_bytes() {
            match byte {
                b'0' if zeros => waiting = true,
                b'0'..=b'9' => {
                    left.push(byte);
                    (zeros, waiting) = (false, false);
                }
                _ => {
                    if std::mem::take(&mut waiting) {
                        left.push(b'0');
                    }
                    zeros = true;
                    if byte.is_ascii_alphanumeric() || byte >= 0x80 {
                        left.push(byte.to_ascii_lowercase());
                    }
                }
            }
        }
        if waiting {
            left.push(b'0');
        }
    }
}

fn looks_like_a_number(text: &str) -> bool {
    let mut digits = false;
    text.bytes().all(|byte| {
        digits |= byte.is_ascii_digit();
        matches!(byte, b'0'..=b'9' | b'.' | b',' | b'+' | b'-' | b' ' | b'e' | b'E')
    }) && digits
}
