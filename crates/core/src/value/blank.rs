//! White space, and blank cells: cells of white space only.

/// Whether a character is white space: Unicode's, or a character of zero width.
#[inline]
pub(crate) fn is_space(character: char) -> bool {
    character.is_whitespace() || is_zero_width(character)
}

/// White space of zero width. Zero-width joiners are not white space, since they change the meaning of a text.
pub(crate) fn is_zero_width(character: char) -> bool {
    matches!(character, '\u{200b}' | '\u{2060}' | '\u{feff}' | '\u{180e}')
}

/// Whether a cell is blank: it has no characters but white space.
///
/// ```
/// use gather_keys_core::value::is_blank;
///
/// assert!(is_blank("") && is_blank(" \u{a0}\u{200b}"));
/// assert!(!is_blank("-"));
/// ```
#[inline]
pub fn is_blank(cell: &str) -> bool {
    match cell.as_bytes().first() {
        None => true,
        // The first byte of most cells decides.
        Some(b'!'..=b'~') => false,
        Some(_) => cell.chars().all(is_space),
    }
}

/// [`is_blank`] for the bytes of a cell.
#[inline]
pub(crate) fn is_blank_bytes(cell: &[u8]) -> bool {
    match cell.first() {
        None => true,
        Some(b'!'..=b'~') => false,
        Some(_) => str::from_utf8(cell).is_ok_and(is_blank),
    }
}

/// The range of the value without the white space at both ends.
pub(crate) fn trimmed(value: &str) -> std::ops::Range<usize> {
    let left = value.trim_start_matches(is_space);
    let start = value.len() - left.len();
    start..start + left.trim_end_matches(is_space).len()
}
