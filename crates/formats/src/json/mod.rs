//! JSON: a row on each line, or an array of rows in a document.

mod reader;
mod writer;

pub(crate) use reader::{has_lines, open};
pub use writer::{JsonRenderer, JsonWriter};
