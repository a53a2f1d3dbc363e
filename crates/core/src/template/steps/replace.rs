//! Replacing and dropping text.

use std::sync::Arc;

use regex::Regex;

use super::{Done, Step, StepKind, text};

pub(super) static REPLACE: StepKind = StepKind {
    name: "replace",
    form: "replace \"REGEX\" \"TEXT\"",
    does: "replaces every match of the regular expression; `$1` in TEXT is its first group",
    examples: &[
        ("replace \"[._/]\" \"-\"", "H_007/b", Some("H-007-b")),
        ("replace \"^(\\w)(\\d+)$\" \"$1-$2\"", "H007", Some("H-007")),
        ("replace \"x\" \"\"", "H-007", Some("H-007")),
    ],
    read: |phrase| {
        phrase.skip_space();
        let start = phrase.at();
        let expression = text(phrase, "a regular expression")?;
        let Ok(regex) = Regex::new(&expression) else {
            phrase.back_to(start);
            return phrase.expected("a regular expression that is well formed");
        };
        match phrase.text()? {
            Some(with) => Ok(Arc::new(Replace { regex, with: groups_named(&with) })),
            None => phrase.expected("what to put in its place, in double quotes"),
        }
    },
};

pub(super) static DROP: StepKind = StepKind {
    name: "drop",
    form: "drop \"TEXT\"",
    does: "removes every occurrence of TEXT",
    examples: &[("drop \"hive \"", "hive 7", Some("7")), ("drop \"-\"", "H-0-7", Some("H07"))],
    read: |phrase| Ok(Arc::new(Drop(text(phrase, "the text to take out")?))),
};

#[derive(Debug)]
struct Replace {
    regex: Regex,
    with: String,
}

impl Step for Replace {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        match self.regex.replace_all(value, &self.with[..]) {
            std::borrow::Cow::Borrowed(_) => Done::whole(value),
            std::borrow::Cow::Owned(text) => {
                out.push_str(&text);
                Done::Written
            }
        }
    }
}

/// Writes `$1` as `${1}`, so that letters after it are not read as part of the group's name.
fn groups_named(with: &str) -> String {
    let mut named = String::new();
    let mut rest = with;
    while let Some(at) = rest.find('$') {
        let (before, behind) = rest.split_at(at);
        let digits = behind[1..].bytes().take_while(u8::is_ascii_digit).count();
        named.push_str(before);
        if digits > 0 {
            named.extend(["${", &behind[1..=digits], "}"]);
        } else {
            named.push_str("$$");
        }
        rest = &behind[1 + digits..];
    }
    named + rest
}

#[derive(Debug)]
struct Drop(String);

impl Step for Drop {
    fn apply(&self, value: &str, out: &mut String) -> Done {
        if !value.contains(&self.0) {
            return Done::whole(value);
        }
        value.split(&self.0).for_each(|piece| out.push_str(piece));
        Done::Written
    }
}
