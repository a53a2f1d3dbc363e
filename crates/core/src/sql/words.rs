//! The words of a statement: names, texts, and conditions on texts.

/// The white space that makes a cell blank, as [`is_blank`](crate::value::is_blank) has it.
const BLANKS: &str = r"E' \t\n\u000b\f\r\u0085\u00a0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a\u2028\u2029\u202f\u205f\u3000\u200b\u2060\ufeff\u180e'";

/// The same without that of zero width, which is kept around a text that counts as blank.
const SPACES: &str = r"E' \t\n\u000b\f\r\u0085\u00a0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a\u2028\u2029\u202f\u205f\u3000'";

/// A name as it is in a statement.
///
/// ```
/// use gather_keys_core::sql::quoted;
///
/// assert_eq!(quoted(r#"the "best" hive"#), r#""the ""best"" hive""#);
/// ```
pub fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A text as it is in a statement, whatever the server makes of backslashes.
pub(super) fn literal(text: &str) -> String {
    let doubled = text.replace('\'', "''");
    if text.contains('\\') {
        format!("E'{}'", doubled.replace('\\', "\\\\"))
    } else {
        format!("'{doubled}'")
    }
}

/// Whether a text has no characters but white space.
pub(super) fn is_blank(text: &str) -> String {
    format!("btrim({text}, {BLANKS}) = ''")
}

/// A text, or nothing if it is one of `blanks` apart from surrounding white space.
pub(super) fn unblanked(text: &str, blanks: &[String]) -> String {
    if blanks.is_empty() {
        return text.to_owned();
    }
    let all: Vec<String> = blanks.iter().map(|blank| literal(blank)).collect();
    format!("case when btrim({text}, {SPACES}) in ({}) then '' else {text} end", all.join(", "))
}

/// Each piece in a form, one after the other.
pub(super) fn each<T>(pieces: impl IntoIterator<Item = T>, form: impl Fn(T) -> String) -> String {
    pieces.into_iter().map(form).collect::<Vec<_>>().concat()
}

/// Pieces with `between` them.
pub(super) fn joined(pieces: impl IntoIterator<Item = String>, between: &str) -> String {
    pieces.into_iter().collect::<Vec<_>>().join(between)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_stay_what_they_are() {
        assert_eq!(literal("Edda's"), "'Edda''s'");
        assert_eq!(literal(r"a\'b"), r"E'a\\''b'");
        assert_eq!(literal("$$; drop"), "'$$; drop'");
    }

    /// Every character that makes a cell blank is in the statement, and no other.
    #[test]
    fn blanks_are_those_of_cells() {
        for (all, is_meant) in [
            (BLANKS, &(|c: char| crate::value::is_blank(&c.to_string())) as &dyn Fn(char) -> bool),
            (SPACES, &char::is_whitespace),
        ] {
            for character in '\0'..=char::MAX {
                let code = u32::from(character);
                let short = ["\\t", "\\n", "\\f", "\\r", " "];
                let is_there = match character {
                    '\t' | '\n' | '\u{c}' | '\r' | ' ' => short.iter().all(|one| all.contains(one)),
                    _ => all.contains(&format!("\\u{code:04x}")) && code < 0x1_0000,
                };
                assert_eq!(is_there, is_meant(character), "{code:x}");
            }
        }
    }
}
