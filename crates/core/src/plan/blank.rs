//! `blank`: texts that count as blank in keys, `NA, -`.

use crate::Result;
use crate::template::phrase::Phrase;

/// Reads one or several texts, separated by commas; one with a comma in it is in double
/// quotes.
///
/// ```
/// assert_eq!(gather_keys_core::plan::parse_blanks("NA, -")?, ["NA", "-"]);
/// # Ok::<(), gather_keys_core::Error>(())
/// ```
///
/// # Errors
/// [`crate::Error::Malformed`], with the place.
pub fn parse_blanks(text: &str) -> Result<Vec<String>> {
    let mut phrase = Phrase::new("blank", text);
    let mut blanks = Vec::new();
    loop {
        blanks.push(phrase.named("a text that counts as blank", &[','], &[])?);
        if phrase.is_at_end() {
            return Ok(blanks);
        }
        if !phrase.sign(',') {
            return phrase.expected("a comma before the next text, or the end");
        }
    }
}
