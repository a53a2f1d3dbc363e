//! Headers that an option names, separated by commas: `Since, Tag`.

use crate::Result;
use crate::template::phrase::Phrase;

/// Reads the headers that an option called `key` names, separated by commas.
///
/// ```
/// assert_eq!(gather_keys_core::plan::parse_headers("order-by", "Since, \"Wend, lower\"")?, ["Since", "Wend, lower"]);
/// # Ok::<(), gather_keys_core::Error>(())
/// ```
///
/// # Errors
/// [`crate::Error::Malformed`], with the place.
pub fn parse_headers(key: &'static str, text: &str) -> Result<Vec<String>> {
    let mut phrase = Phrase::new(key, text);
    let mut headers = Vec::new();
    loop {
        headers.push(phrase.header(&[','], &[])?);
        if phrase.is_at_end() {
            return Ok(headers);
        }
        if !phrase.sign(',') {
            return phrase.expected("a comma before the next header, or the end");
        }
    }
}
