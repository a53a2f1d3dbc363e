//! `order by`: the columns of a database's table whose order its rows are read in, `Since, Tag`.

use crate::Result;
use crate::template::phrase::Phrase;

/// Reads one or several headers, separated by commas.
///
/// ```
/// assert_eq!(gather_keys_core::plan::parse_order("Since, \"Wend, lower\"")?, ["Since", "Wend, lower"]);
/// # Ok::<(), gather_keys_core::Error>(())
/// ```
///
/// # Errors
/// [`crate::Error::Malformed`], with the place.
pub fn parse_order(text: &str) -> Result<Vec<String>> {
    let mut phrase = Phrase::new("order-by", text);
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
