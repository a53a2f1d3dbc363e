//! `on`: the parts of a key, `Apiary = Site code, Hive | number = Tag | number`.

use crate::Result;
use crate::template::Template;
use crate::template::phrase::Phrase;

/// What stands behind a template in `on`.
const STOPS: [char; 2] = ['=', ','];

/// One part of a key: what the main table makes it from, and what the reference does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OnPart {
    /// The main table's template.
    pub main: Template,
    /// The reference's template.
    pub reference: Template,
}

impl OnPart {
    /// Reads one or several parts, separated by commas: `MAIN = REFERENCE`, or one side alone when
    /// both are the same. Either side is a template.
    ///
    /// ```
    /// use gather_keys_core::plan::OnPart;
    ///
    /// let parts = OnPart::parse("Apiary = Site code, Hive | number")?;
    /// assert_eq!(parts[0].reference.as_header(), Some("Site code"));
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
            let main = Template::read(&mut phrase, &STOPS)?;
            let reference =
                if phrase.sign('=') { Template::read(&mut phrase, &STOPS)? } else { main.clone() };
            parts.push(Self { main, reference });
            if phrase.is_at_end() {
                return Ok(parts);
            }
            if !phrase.sign(',') {
                return phrase
                    .expected("`|` before a step, a comma before the next part, or the end");
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Error;

    #[test]
    fn parts_are_read() {
        let headers = |template: &Template| template.headers().collect::<Vec<_>>().join("+");
        for (text, want) in [
            ("Hive", "Hive=Hive"),
            (" A=B ,C ", "A=B;C=C"),
            (r#""a, ""b"" = c" = Site code,d"#, r#"a, "b" = c=Site code;d=d"#),
            ("Hive | last 2 | number = Tag | replace \"=,\" \"|\"", "Hive=Tag"),
            ("Day | date %d.%m.%Y %F = Seen | date,{A | date %F}", "Day=Seen;A=A"),
            ("{Valley}{Line}{Hive | last 2} = Label", "Valley+Line+Hive=Label"),
            ("{A}\", \"{B}, {{{C}}} = {D}", "A+B=A+B;C=D"),
            ("\"{A}\" = \"B | c\"", "{A}=B | c"),
        ] {
            let parts = OnPart::parse(text).unwrap();
            let told =
                parts.iter().map(|p| format!("{}={}", headers(&p.main), headers(&p.reference)));
            assert_eq!(told.collect::<Vec<_>>().join(";"), want, "{text}");
        }
    }

    #[test]
    fn errors_mark_the_place() {
        let place = |text: &str| match OnPart::parse(text).unwrap_err() {
            Error::Malformed { at, expected, .. } => (at, expected),
            other => panic!("{other}"),
        };
        let joint = "`|` before a step, a comma before the next part, or the end";
        for (text, at, expected) in [
            ("", 0, "a header"),
            ("Apiary = ", 9, "a header"),
            ("= Site", 0, "a header"),
            ("Hive,, Tag", 5, "a header"),
            ("Hive,", 5, "a header"),
            ("A = B = C", 6, joint),
            ("\"A\" B", 4, joint),
            ("A = \"B", 4, "a second double quote to end the header that this one begins"),
            ("A | last = B", 9, "how many characters, a whole number from 1 to 100,000"),
            ("A | last 0", 9, "how many characters, a whole number from 1 to 100,000"),
            ("A | from 3 to 2", 14, "a number that is not less than the one before"),
            ("A | pad 3 \"ab\"", 10, "one character in double quotes"),
            ("A | drop X", 9, "the text to take out in double quotes"),
            ("A | drop \"X", 9, "a second double quote to end the text that this one begins"),
            ("A | replace \"(\" \"\"", 12, "a regular expression that is well formed"),
            ("A | number \";\"", 11, "\",\" for a decimal comma, or nothing"),
            ("A | trim fold", 9, joint),
            ("{A | trim = B", 10, "`|` before a step, or `}` to end the placeholder"),
            ("{A}} = B", 3, "`}}` for a brace, or a `{` before it"),
            ("{{A}} = B", 6, "a placeholder such as `{Hive}`"),
            ("{} = B", 1, "a header"),
        ] {
            assert_eq!(place(text), (at, expected.to_owned()), "{text}");
        }
        let (at, expected) = place("A | tidy | Fold");
        assert_eq!(at, 11);
        assert!(expected.starts_with("a step: trim, tidy,") && expected.ends_with("drop, or"));
    }
}
