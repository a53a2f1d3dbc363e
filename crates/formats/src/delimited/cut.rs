//! Cutting delimited text into pieces at the ends of rows.
//!
//! Line ends within quotes end no row. Quotes are few, so that it is quick to go from one to the
//! next; between them any line end will do.

use memchr::{memchr, memrchr2};

use super::byte_classifier::QUOTE;

/// The end of the last row that ends for certain within `bytes`, which begin where a row does;
/// `None` when none does.
pub(super) fn last_row_end(bytes: &[u8], delimiter: u8) -> Option<usize> {
    // The byte after a carriage return at the very end decides what it belongs to.
    let bytes = bytes.strip_suffix(b"\r").unwrap_or(bytes);
    let mut last = None;
    // The beginning of the stretch in which no quote is open.
    let mut from = 0;
    let mut at = 0;
    while let Some(quote) = memchr(QUOTE, &bytes[at..]).map(|found| at + found) {
        let opens = quote == 0 || {
            let before = bytes[quote - 1];
            before == delimiter || matches!(before, b'\n' | b'\r')
        };
        at = quote + 1;
        if !opens {
            continue;
        }
        last = row_end(&bytes[from..quote]).map(|end| from + end).or(last);
        loop {
            match memchr(QUOTE, &bytes[at..]) {
                // The quote is open where the text ends.
                None => return last,
                Some(found) if bytes.get(at + found + 1) == Some(&QUOTE) => at += found + 2,
                Some(found) => {
                    at += found + 1;
                    break;
                }
            }
        }
        from = at;
    }
    row_end(&bytes[from..]).map(|end| from + end).or(last)
}

fn row_end(bytes: &[u8]) -> Option<usize> {
    memrchr2(b'\n', b'\r', bytes).map(|last| last + 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_end_outside_of_quotes() {
        for (text, want) in [
            ("", None),
            ("a,b", None),
            ("a,b\n", Some(4)),
            ("a\nb,c", Some(2)),
            ("a\r\nb", Some(3)),
            ("a\nb\r", Some(2)),
            ("\"a\nb\"", None),
            ("\"a\nb\"\nc", Some(6)),
            ("x\n\"a\nb", Some(2)),
            ("x\n\"a\"\"\nb", Some(2)),
            ("x\n\"a\"\"\nb\"\n", Some(10)),
            // Quotes within a cell that does not begin with one mean nothing.
            ("5\" jar\n6,\"", Some(7)),
            ("a,\"b\"\"\n", None),
            ("\"a\"x\"\ny", Some(6)),
        ] {
            assert_eq!(last_row_end(text.as_bytes(), b','), want, "{text:?}");
        }
    }
}
