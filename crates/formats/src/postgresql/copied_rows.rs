//! Rows as a server copies them out: a line for each row, with tabs between its values.
//!
//! A backslash is before characters that would be read as a tab or the end of a line, and before the `N`
//! of a null value.

use std::io::{self, BufRead};

/// Splits such rows.
pub(super) struct CopiedRows<R> {
    input: R,
    line: Vec<u8>,
    room: String,
}

impl<R: BufRead> CopiedRows<R> {
    pub(super) fn new(input: R) -> Self {
        Self { input, line: Vec::new(), room: String::new() }
    }

    /// Gives each value of the next row to `take`, in order, and one that is not there as a blank; `false`
    /// when there is no row left.
    ///
    /// # Errors
    /// The errors of the input, and invalid UTF-8.
    pub(super) fn next_row(&mut self, mut take: impl FnMut(&str)) -> io::Result<bool> {
        self.line.clear();
        if self.input.read_until(b'\n', &mut self.line)? == 0 {
            return Ok(false);
        }
        let line = str::from_utf8(&self.line)
            .map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
        let line = line.strip_suffix('\n').unwrap_or(line);
        let is_plain = memchr::memchr(b'\\', line.as_bytes()).is_none();
        let mut start = 0;
        let ends = memchr::memchr_iter(b'\t', line.as_bytes()).chain([line.len()]);
        for end in ends {
            let value = &line[start..end];
            start = end + 1;
            if is_plain || !value.contains('\\') {
                take(value);
            } else {
                self.room.clear();
                unescape(value, &mut self.room);
                take(&self.room);
            }
        }
        Ok(true)
    }
}

/// Appends a value without its backslashes.
fn unescape(value: &str, to: &mut String) {
    if value == "\\N" {
        return;
    }
    let mut signs = value.chars();
    while let Some(sign) = signs.next() {
        let behind = if sign == '\\' { signs.next() } else { None };
        to.push(match behind {
            Some('b') => '\u{8}',
            Some('f') => '\u{c}',
            Some('n') => '\n',
            Some('r') => '\r',
            Some('t') => '\t',
            Some('v') => '\u{b}',
            Some(itself) => itself,
            None => sign,
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_what_they_were() {
        for (line, want) in [
            ("Fellside\t7\t12.4\n", &["Fellside", "7", "12.4"][..]),
            ("\\N\t\t\\N\n", &["", "", ""]),
            ("\n", &[""]),
            ("two\\nlines\ta\\tb\tc\\\\N\n", &["two\nlines", "a\tb", "c\\N"]),
            ("\\b\\f\\r\\v\té \\\\\n", &["\u{8}\u{c}\r\u{b}", "é \\"]),
            // A server ends every line; what is cut off is reported by others.
            ("a\tb", &["a", "b"]),
        ] {
            let mut values = Vec::new();
            let mut rows = CopiedRows::new(line.as_bytes());
            assert!(rows.next_row(|value| values.push(value.to_owned())).unwrap());
            assert_eq!(values, want, "{line:?}");
            assert!(!rows.next_row(|_| ()).unwrap());
        }
        assert!(CopiedRows::new(&b"\xff\n"[..]).next_row(|_| ()).is_err());
    }
}
