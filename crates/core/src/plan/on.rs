//! `on`: the parts of a key, `Apiary = Site code, Hive | number = Tag | number`.

use std::fmt;

use super::Selection;
use crate::Result;
use crate::template::phrase::Phrase;
use crate::template::{StepUse, Template, read_steps_behind};

/// The text after a template in `on`.
const STOPS: [char; 2] = ['=', ','];

/// The key of main and reference rows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum On {
    /// The parts of a key; with none, every reference row holds it.
    Key(Vec<OnPart>),
    /// Their position: the first row goes with the first, the second with the second.
    Position,
}

/// One part of a key: what the main table makes it from, and what the reference does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OnPart {
    /// The main table's template.
    pub main: Template,
    /// The reference's side.
    pub reference: Held,
}

/// How a reference holds a part of the key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Held {
    /// Each row makes it by a template.
    Made(Template),
    /// Any of these columns may hold the value: a reverse lookup.
    Any(AnyOf),
}

/// `any(Size *) | trim`: columns of which any may hold the value.
#[derive(Debug, Clone)]
pub struct AnyOf {
    text: String,
    /// The columns.
    pub columns: Vec<Selection>,
    /// The steps that each of their values goes through.
    pub steps: Vec<StepUse>,
}

impl Default for On {
    fn default() -> Self {
        Self::Key(Vec::new())
    }
}

impl On {
    /// Reads what was given, option by option: each is `@row`, or one or several parts.
    ///
    /// ```
    /// use gather_keys_core::plan::On;
    ///
    /// assert_eq!(On::parse(&["@row"])?, On::Position);
    /// assert!(matches!(On::parse(&["Apiary = Site code", "Hive"])?, On::Key(parts) if parts.len() == 2));
    /// assert!(On::parse(&["@row", "Hive"]).is_err());
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse<T: AsRef<str>>(texts: &[T]) -> Result<Self> {
        let mut parts = Vec::new();
        for text in texts {
            let mut phrase = Phrase::new("on", text.as_ref());
            if phrase.sign('@') {
                let start = phrase.at();
                if phrase.letters() != Some("row") {
                    phrase.back_to(start);
                    return phrase.expected("`row`: rows are matched by position with `@row`");
                }
                if !phrase.is_at_end() || texts.len() > 1 {
                    return phrase.expected("the end: a match by position has no other parts");
                }
                return Ok(Self::Position);
            }
            parts.extend(OnPart::parse(text.as_ref())?);
        }
        Ok(Self::Key(parts))
    }
}

impl OnPart {
    /// Reads one or several parts, separated by commas: `MAIN = REFERENCE`, or one side alone when
    /// both are the same. Either side is a template; the reference's may be `any(COLUMNS)`, once.
    ///
    /// ```
    /// use gather_keys_core::plan::{Held, OnPart};
    ///
    /// let parts = OnPart::parse("Apiary = Site code, Hive | number")?;
    /// assert!(matches!(&parts[0].reference, Held::Made(t) if t.as_header() == Some("Site code")));
    /// assert!(matches!(&parts[1].reference, Held::Made(same) if *same == parts[1].main));
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`crate::Error::Malformed`], with the place.
    pub fn parse(text: &str) -> Result<Vec<Self>> {
        let mut phrase = Phrase::new("on", text);
        let mut parts: Vec<Self> = Vec::new();
        loop {
            if phrase.opens("any") {
                return phrase.expected("the main side and `=` first, `HEADER = any(…)`");
            }
            let main = Template::read(&mut phrase, &STOPS, &[])?;
            let reference = if !phrase.sign('=') {
                Held::Made(main.clone())
            } else if phrase.stands('=') {
                return phrase.expected("the reference's side: one `=` is enough");
            } else if phrase.opens("any") {
                if parts.iter().any(|part| matches!(part.reference, Held::Any(_))) {
                    return phrase.expected("a template: only one part of a key may be `any(…)`");
                }
                Held::Any(AnyOf::read(&mut phrase)?)
            } else {
                Held::Made(Template::read(&mut phrase, &STOPS, &[])?)
            };
            parts.push(Self { main, reference });
            if phrase.is_at_end() {
                return Ok(parts);
            }
            if phrase.sign(',') {
                continue;
            }
            let is_listed = text[..phrase.at()].contains(';');
            return phrase.expected(if phrase.stands('=') && is_listed {
                "the end: parts are separated by commas, not by `;`"
            } else if phrase.stands('=') {
                "the end: a part has one `=`, and a comma is before the next part"
            } else if phrase.stands('(') {
                "no parenthesis: what a step needs follows it, as in `last 3`"
            } else {
                "`|` before a step, a comma before the next part, or the end"
            });
        }
    }
}

impl AnyOf {
    fn read(phrase: &mut Phrase<'_>) -> Result<Self> {
        let start = phrase.at();
        phrase.takes("any");
        phrase.sign('(');
        let mut columns = Vec::new();
        loop {
            columns.push(Selection::read(phrase, &[',', ')'], &[])?);
            if phrase.sign(')') {
                break;
            }
            if !phrase.sign(',') {
                return phrase.expected("a comma before the next header, or `)`");
            }
        }
        let steps = read_steps_behind(phrase)?;
        Ok(Self { text: phrase.since(start).trim().to_owned(), columns, steps })
    }
}

impl PartialEq for AnyOf {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for AnyOf {}

/// As it was written: `Apiary = Site code`, or one side alone when both are the same.
impl fmt::Display for OnPart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.reference {
            Held::Made(same) if *same == self.main => self.main.fmt(f),
            reference => write!(f, "{} = {reference}", self.main),
        }
    }
}

impl fmt::Display for Held {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Made(template) => template.fmt(f),
            Self::Any(any) => f.write_str(&any.text),
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
        let held = |held: &Held| match held {
            Held::Made(template) => headers(template),
            Held::Any(any) => format!("{:?}{}", any.columns, any.steps.len()),
        };
        for (text, want) in [
            ("Hive", "Hive=Hive"),
            (" A=B ,C ", "A=B;C=C"),
            (r#""a, ""b"" = c" = Site code,d"#, r#"a, "b" = c=Site code;d=d"#),
            ("Hive | last 2 | number = Tag | replace \"=,\" \"|\"", "Hive=Tag"),
            ("Day | date %d.%m.%Y %F = Seen | date,{A | date %F}", "Day=Seen;A=A"),
            ("{Valley}{Line}{Hive | last 2} = Label", "Valley+Line+Hive=Label"),
            ("{A}\", \"{B}, {{{C}}} = {D}", "A+B=A+B;C=D"),
            ("\"{A}\" = \"B | c\"", "{A}=B | c"),
            ("A = any(B, C), D", "A=[Header(\"B\"), Header(\"C\")]0;D=D"),
            ("A = any( Size * ) | trim | fold", "A=[Like(\"Size *\")]2"),
            ("A = any (*),B", "A=[All]0;B=B"),
            ("A = any(\"B)\", C .. D)", "A=[Header(\"B)\"), Run { first: \"C\", last: \"D\" }]0"),
            ("A = any, any = \"any(B)\"", "A=any;any=any(B)"),
        ] {
            let parts = OnPart::parse(text).unwrap();
            let reported =
                parts.iter().map(|p| format!("{}={}", headers(&p.main), held(&p.reference)));
            assert_eq!(reported.collect::<Vec<_>>().join(";"), want, "{text}");
        }
    }

    #[test]
    fn errors_mark_the_place() {
        let place = |text: &str| match On::parse(&[text]).unwrap_err() {
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
            ("A = B = C", 6, "the end: a part has one `=`, and a comma is before the next part"),
            ("A = B; C = D", 9, "the end: parts are separated by commas, not by `;`"),
            ("A == B", 3, "the reference's side: one `=` is enough"),
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
            ("{{A}} = B", 6, "a placeholder, `{HEADER}`"),
            ("{} = B", 1, "a header"),
            ("any(A, B)", 0, "the main side and `=` first, `HEADER = any(…)`"),
            ("A = any()", 8, "a header"),
            ("A = any(B", 9, "a comma before the next header, or `)`"),
            ("A = any(\"B\" C", 12, "a comma before the next header, or `)`"),
            ("A = any(B) C", 11, joint),
            ("A = any(B), C = any(D)", 16, "a template: only one part of a key may be `any(…)`"),
            ("@line", 1, "`row`: rows are matched by position with `@row`"),
            ("@row, A", 4, "the end: a match by position has no other parts"),
        ] {
            assert_eq!(place(text), (at, expected.to_owned()), "{text}");
        }
        let (at, expected) = place("A | tidy | Wash");
        assert_eq!(at, 11);
        assert!(expected.starts_with("a step: trim, tidy,") && expected.ends_with("drop, or"));
        assert_eq!(place("A | Fold").1, "a step; did you mean `fold`?");
    }
}
