//! Texts of a plan, with their places in the file.

use std::ops::Range;

use schemars::JsonSchema;
use serde::Deserialize;

use crate::Error;

/// A text of a plan, with its place in the file.
#[derive(Debug, Clone, Default)]
pub struct Text {
    /// The text.
    pub text: String,
    /// Its place in the plan, in bytes; `None` when it was typed.
    pub place: Option<Range<usize>>,
}

/// Texts are equal whatever their place.
impl PartialEq for Text {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

/// One text or several.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Texts(pub Vec<Text>);

impl Text {
    /// A text without a place in a file.
    pub fn typed(text: impl Into<String>) -> Self {
        Self { text: text.into(), place: None }
    }

    /// An error about this text, with its place in the plan if it has one. `plan` is the plan's name and its whole
    /// text.
    pub fn placed(&self, error: Error, plan: Option<(&str, &str)>) -> Error {
        let (Some(place), Some((name, plan))) = (&self.place, plan) else { return error };
        let written = plan.get(place.clone()).unwrap_or_default();
        // Where the text is in the file as it is, an offset in it is one in the file.
        let within = match &error {
            Error::Malformed { text, at, .. } if *text == self.text => {
                written.find(&self.text[..]).map_or(0, |from| from + at)
            }
            _ => 0,
        };
        Error::in_plan(name, plan, place.start + within, error)
    }
}

impl Texts {
    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

impl From<Vec<String>> for Texts {
    fn from(texts: Vec<String>) -> Self {
        Self(texts.into_iter().map(Text::typed).collect())
    }
}

impl<'de> Deserialize<'de> for Text {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let spanned = toml::Spanned::<String>::deserialize(from)?;
        Ok(Self { place: Some(spanned.span()), text: spanned.into_inner() })
    }
}

impl<'de> Deserialize<'de> for Texts {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let spanned = toml::Spanned::<OneOrSeveral>::deserialize(from)?;
        let place = spanned.span();
        Ok(Self(match spanned.into_inner() {
            OneOrSeveral::One(text) => vec![Text { text, place: Some(place) }],
            OneOrSeveral::Several(texts) => texts,
        }))
    }
}

/// A text, or a list of texts.
enum OneOrSeveral {
    One(String),
    Several(Vec<Text>),
}

impl<'de> Deserialize<'de> for OneOrSeveral {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = OneOrSeveral;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a text or a list of texts")
            }

            fn visit_str<E>(self, text: &str) -> Result<OneOrSeveral, E> {
                Ok(OneOrSeveral::One(text.to_owned()))
            }

            fn visit_seq<A: serde::de::SeqAccess<'de>>(
                self,
                mut texts: A,
            ) -> Result<OneOrSeveral, A::Error> {
                let mut several = Vec::new();
                while let Some(text) = texts.next_element()? {
                    several.push(text);
                }
                Ok(OneOrSeveral::Several(several))
            }
        }
        from.deserialize_any(Visitor)
    }
}

impl JsonSchema for Text {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Text".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string" })
    }
}

impl JsonSchema for Texts {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Texts".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "anyOf": [{ "type": "string" }, { "type": "array", "items": { "type": "string" } }]
        })
    }
}
