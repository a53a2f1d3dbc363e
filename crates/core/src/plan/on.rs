//! `on`: the parts of a key, `Apiary = Site code, Hive`.

use super::phrase::Phrase;
use crate::Result;

/// One part of a key: a header of the main table and the header of the reference it is compared
/// with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OnPart {
    /// The main table's header.
    pub main: String,
    /// The reference's header.
    pub reference: String,
}

impl OnPart {
    /// Reads one or several parts, separated by commas: `MAIN = REFERENCE`, or one header alone
    /// when both tables have it.
    ///
    /// ```
    /// use gather_keys_core::plan::OnPart;
    ///
    /// let parts = OnPart::parse("Apiary = Site code, Hive")?;
    /// assert_eq!(parts[0].reference, "Site code");
    /// assert_eq!(parts[1].main, parts[1].reference);
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Vec<Self>> {
        let mut phrase = Phrase::new("on", text);
        let mut parts = Vec::new();
        loop {
            let main = phrase.header(&['=', ','], None)?;
            let reference =
                if phrase.sign('=') { phrase.header(&['=', ','], None)? } else { main.clone() };
            parts.push(Self { main, reference });
            if phrase.is_at_end() {
                return Ok(parts);
            }
            if !phrase.sign(',') {
                return phrase.expected("a comma before the next part, or the end");
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_read() {
        let parts = |text: &str| -> Vec<(String, String)> {
            OnPart::parse(text).unwrap().into_iter().map(|p| (p.main, p.reference)).collect()
        };
        let own = |pairs: &[(&str, &str)]| -> Vec<(String, String)> {
            pairs.iter().map(|&(a, b)| (a.into(), b.into())).collect()
        };
        assert_eq!(parts("Hive"), own(&[("Hive", "Hive")]));
        assert_eq!(parts(" A=B ,C "), own(&[("A", "B"), ("C", "C")]));
        assert_eq!(
            parts(r#""a, ""b"" = c" = Site code,d"#),
            own(&[(r#"a, "b" = c"#, "Site code"), ("d", "d")])
        );
    }

    #[test]
    fn errors_mark_the_place() {
        let place = |text: &str| match OnPart::parse(text).unwrap_err() {
            crate::Error::Malformed { at, expected, .. } => (at, expected),
            other => panic!("{other}"),
        };
        let quote = "a second double quote to end the header that this one begins";
        let joint = "a comma before the next part, or the end";
        for (text, at, expected) in [
            ("", 0, "a header"),
            ("Apiary = ", 9, "a header"),
            ("= Site", 0, "a header"),
            ("Hive,, Tag", 5, "a header"),
            ("Hive,", 5, "a header"),
            ("A = B = C", 6, joint),
            ("\"A\" B", 4, joint),
            ("A = \"B", 4, quote),
        ] {
            assert_eq!(place(text), (at, expected.to_owned()), "{text}");
        }
    }
}
