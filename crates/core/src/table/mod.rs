//! Tables: headers, blocks of rows, and the traits by which they come in and go out.

mod block;
mod headers;
mod lines;
pub(crate) mod packed;
mod sink;
mod source;

pub use block::{AsRead, Block, NotText, RowBytes};
pub(crate) use headers::without_clash;
pub use headers::{Found, Headers};
pub use lines::Lines;
pub use sink::{Discard, Sink};
pub use source::Source;
