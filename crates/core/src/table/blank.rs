//! What a blank cell is: one of nothing but white space.

/// Whether a character is white space: Unicode's, and that which takes no room.
#[inline]
pub(crate) fn is_space(character: char) -> bool {
    character.is_whitespace() || is_zero_width(character)
}

/// White space that takes no room. Zero-width joiners are no white space, since they change what a text says.
pub(crate) fn is_zero_width(character: char) -> bool {
    matches!(character, '\u{200b}' | '\u{2060}' | '\u{feff}' | '\u{180e}')
}

/// Whether a cell is blank: it has no characters but white space.
///
/// ```
/// use gather_keys_core::table::is_blank;
///
/// assert!(is_blank("") && is_blank(" \u{a0}\u{200b}"));
/// assert!(!is_blank("-"));
/// ```
#[inline]
pub fn is_blank(cell: &str) -> bool {
    match cell.as_bytes().first() {
        None => true,
        // What most cells begin with is no white space.
        Some(b'!'..=b'~') => false,
        Some(_) => cell.chars().all(is_space),
    }
}

/// Whether the bytes of a cell are those of a blank one.
#[inline]
pub(crate) fn is_blank_bytes(cell: &[u8]) -> bool {
    match cell.first() {
        None => true,
        Some(b'!'..=b'~') => false,
        Some(_) => str::from_utf8(cell).is_ok_and(is_blank),
    }
}
