//! The fields of a JSON object, as they are.
//!
//! An object is parsed once, and the values of its fields are passed on as slices of the text: a value
//! that nobody wants costs nothing more.

use std::borrow::Cow;
use std::fmt;

use gather_keys_core::table::CellKind;
use serde::Deserialize;
use serde::de::{DeserializeSeed, Deserializer, Error, MapAccess, Visitor};
use serde_json::Value;
use serde_json::value::RawValue;

use gather_keys_core::value::number::push_decimal;

/// How deep objects may be within each other.
const DEEPEST: usize = 100;

/// Takes a field: its name and its value.
pub(super) type Take<'t> = dyn FnMut(&str, &str) -> Result<(), serde_json::Error> + 't;

/// Hands on every field of an object, those of objects within it as `a.b`, with what it holds.
///
/// # Errors
/// When the text is no object, or malformed, and those of `take`.
pub(super) fn each_field(object: &str, take: &mut Take<'_>) -> Result<(), serde_json::Error> {
    fields_of(object, "", 0, take)
}

fn fields_of(
    object: &str,
    within: &str,
    depth: usize,
    take: &mut Take<'_>,
) -> Result<(), serde_json::Error> {
    let mut text = serde_json::Deserializer::from_str(object);
    Fields { within, depth, take }.deserialize(&mut text)?;
    text.end()
}

/// A field's name; a slice of the text, unless it has characters that are written otherwise.
#[derive(Deserialize)]
struct Name<'t>(#[serde(borrow)] Cow<'t, str>);

struct Fields<'f, 't> {
    within: &'f str,
    depth: usize,
    take: &'f mut Take<'t>,
}

impl<'de> DeserializeSeed<'de> for Fields<'_, '_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, text: D) -> Result<(), D::Error> {
        text.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for Fields<'_, '_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        while let Some(Name(name)) = map.next_key()? {
            let value = map.next_value::<&RawValue>()?.get();
            let whole = match self.within {
                "" => name,
                within => Cow::Owned(format!("{within}.{name}")),
            };
            if value.starts_with('{') && !value[1..].trim_start().starts_with('}') {
                if self.depth == DEEPEST {
                    return Err(Error::custom("objects are too deep within each other"));
                }
                fields_of(value, &whole, self.depth + 1, self.take).map_err(Error::custom)?;
            } else {
                (self.take)(&whole, value).map_err(Error::custom)?;
            }
        }
        Ok(())
    }
}

/// Writes the cell of a value, and gives its kind.
///
/// # Errors
/// When an array is too deep.
pub(super) fn write_cell(value: &str, cell: &mut String) -> Result<CellKind, serde_json::Error> {
    Ok(match value.as_bytes().first() {
        Some(b'n') => CellKind::Untyped,
        Some(b't' | b'f') => {
            cell.push_str(value);
            CellKind::Truth
        }
        Some(b'"') => {
            let within = &value[1..value.len() - 1];
            if within.contains('\\') {
                cell.push_str(&serde_json::from_str::<String>(value)?);
            } else {
                cell.push_str(within);
            }
            CellKind::Text
        }
        Some(b'{' | b'[') => {
            cell.push_str(&serde_json::from_str::<Value>(value)?.to_string());
            CellKind::Text
        }
        _ => {
            push_decimal(value, cell);
            CellKind::Number
        }
    })
}
