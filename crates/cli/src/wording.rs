//! Numbers and cells as people read them.

use std::fmt::Write;

use terminal_size::{Width, terminal_size_of};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

/// The width of standard error in columns, but never wider than is good to read.
pub(crate) fn width() -> usize {
    let width = terminal_size_of(std::io::stderr()).map_or(80, |(Width(w), _)| usize::from(w));
    width.clamp(40, 100)
}

/// Text broken into lines, the first of which begins at column `first`; `indent` is before the
/// others.
pub(crate) fn wrapped(text: &str, first: usize, indent: &str) -> String {
    let before = " ".repeat(first);
    let options = textwrap::Options::new(width())
        .initial_indent(&before)
        .subsequent_indent(indent)
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
        .break_words(false);
    textwrap::fill(text, options).split_off(first)
}

/// A number with thousands separators: `1,234,567`.
pub(crate) fn number(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::with_capacity(digits.len() + digits.len() / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}

/// A number of things: `1 row`, `2,000 rows`.
pub(crate) fn counted(count: u64, thing: &str) -> String {
    format!("{} {thing}{}", number(count), if count == 1 { "" } else { "s" })
}

/// A share in percent with one decimal, cut so that it is 0 or 100 only when it is: `5.4%`.
pub(crate) fn share(count: u64, total: u64) -> String {
    if total == 0 {
        return "–".to_owned();
    }
    let tenths = ((u128::from(count) * 2000 + u128::from(total)) / (u128::from(total) * 2)) as u64;
    let tenths = match tenths {
        0 if count > 0 => return "<0.1%".to_owned(),
        1000 if count < total => 999,
        tenths => tenths,
    };
    format!("{}.{}%", tenths / 10, tenths % 10)
}

/// Names joined as a sentence joins them: `a, b and c`.
pub(crate) fn joined(names: &[String], joint: &str) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [others @ .., last] => format!("{} {joint} {last}", others.join(", ")),
    }
}

/// A visible character for an invisible one.
pub(crate) fn visible(character: char) -> char {
    match character {
        '\n' | '\r' => '⏎',
        '\t' => '⇥',
        '\u{a0}' | '\u{2007}' | '\u{202f}' => '⍽',
        _ if character.is_control() || character.width() == Some(0) => '·',
        _ => character,
    }
}

/// A cell on one line and no wider than `most` columns, with characters that can't be seen made visible.
pub(crate) fn cell(text: &str, most: usize) -> String {
    let mut shown: String = text.chars().take(most + 1).map(visible).collect();
    if shown.width() > most || text.chars().nth(most).is_some() {
        while shown.width() >= most {
            shown.pop();
        }
        shown.push('…');
    }
    shown
}

/// The parts of a key for the eye, no wider than `most` columns: `Fellside, H-012`.
pub(crate) fn key<'a>(parts: impl Iterator<Item = &'a str>, most: usize) -> String {
    let mut text = String::new();
    for (nth, part) in parts.enumerate() {
        let joint = if nth > 0 { ", " } else { "" };
        let part = if part.is_empty() { "(blank)" } else { part };
        let _ = write!(text, "{joint}{part}");
    }
    cell(&text, most)
}

/// A word of a command line as a shell takes it.
pub(crate) fn shell_word(text: &str) -> String {
    let is_plain =
        |character: char| character.is_ascii_alphanumeric() || "._-/=+,@:#".contains(character);
    if !text.is_empty() && text.chars().all(is_plain) {
        text.to_owned()
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_grouped() {
        for (value, want) in [(0, "0"), (999, "999"), (1000, "1,000"), (1_234_567, "1,234,567")] {
            assert_eq!(number(value), want);
        }
        assert_eq!(counted(1, "row"), "1 row");
        assert_eq!(counted(1200, "row"), "1,200 rows");
    }

    /// A share never says none or all when it is not.
    #[test]
    fn shares_are_rounded_but_not_to_the_ends() {
        for (count, total, want) in [
            (0, 10, "0.0%"),
            (1, 3, "33.3%"),
            (2, 3, "66.7%"),
            (1, 100_000, "<0.1%"),
            (99_999, 100_000, "99.9%"),
            (5, 5, "100.0%"),
            (0, 0, "–"),
        ] {
            assert_eq!(share(count, total), want);
        }
    }

    #[test]
    fn cells_fit_and_show_what_is_hidden() {
        assert_eq!(cell("Fellside", 8), "Fellside");
        assert_eq!(cell("Nether Moor", 8), "Nether …");
        assert_eq!(cell("a\nb\u{a0}\u{200b}", 8), "a⏎b⍽·");
        assert_eq!(cell("蜂蜜蜂蜜", 5), "蜂蜜…");
        assert_eq!(key(["Fellside", ""].into_iter(), 40), "Fellside, (blank)");
    }
}
