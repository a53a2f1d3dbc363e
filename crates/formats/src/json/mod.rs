//! JSON: a row on each line, or an array of rows in a document.
//!
//! A row is an object; fields of objects within it are columns called `a.b`, and arrays are kept as
//! their JSON. Lines are read piece by piece and parsed by any thread; a document is read as a whole.

mod columns;
mod document;
mod lines;
mod row;
mod writer;

use std::path::Path;

pub(crate) use document::open as open_document;
pub(crate) use lines::LinesReader;
pub use lines::{BadLine, LinesChunk, LinesParser};
pub use writer::{JsonRenderer, JsonWriter};

/// Whether a file is JSON, and if so whether it has a row on each line.
pub(crate) fn has_lines(path: Option<&Path>, first: &[u8]) -> Option<bool> {
    let plain = path.map(|path| match crate::Codec::of(path) {
        Some(_) => path.with_extension(""),
        None => path.to_owned(),
    });
    let ending = plain.as_deref().and_then(Path::extension).and_then(std::ffi::OsStr::to_str);
    match ending.map(str::to_ascii_lowercase).as_deref() {
        Some("jsonl" | "ndjson") => Some(true),
        Some("json") => Some(false),
        _ if first.starts_with(b"{\"") => Some(true),
        _ if first.starts_with(b"[{\"") || first.starts_with(b"[\n") => Some(false),
        _ => None,
    }
}
