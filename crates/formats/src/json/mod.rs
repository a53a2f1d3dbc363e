//! JSON: a row on each line, or an array of rows in a document.
//!
//! A row is an object; fields of objects within it are columns called `a.b`, and arrays are kept as
//! their JSON. Lines are read piece by piece and parsed by any thread; a document is read as a whole.

mod columns;
mod document;
mod lines;
mod row;
mod writer;

pub(crate) use document::open as open_document;
pub(crate) use lines::LinesReader;
pub use lines::{BadLine, LinesChunk, LinesParser};
pub use writer::{JsonRenderer, JsonWriter};
