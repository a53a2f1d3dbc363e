//! Tables: headers, blocks of rows, and the traits by which they come in and go out.

mod arranged;
mod beside;
mod block;
mod by_columns;
mod cell_kind;
mod headers;
pub(crate) mod in_order;
mod kept_columns;
mod lines;
mod overlay;
pub(crate) mod packed;
mod packing;
mod plain_rows;
mod row;
pub(crate) mod scratch;
mod sink;
mod source;
pub(crate) mod spooled;
mod stored;

pub use arranged::{Arranged, Differing};
pub(crate) use beside::Piece;
pub use beside::{Added, Beside, Plainly};
pub use block::{Block, NotText, Parts, RowBytes, Span};
pub use by_columns::{AddedText, ColumnCells, SaidCell};
pub use cell_kind::CellKind;
pub(crate) use headers::without_clash;
pub use headers::{Found, Headers};
pub use kept_columns::{KeptColumns, ascending};
pub use lines::Lines;
pub use overlay::Overlay;
pub(crate) use packing::Packing;
pub use plain_rows::WrittenAs;
pub use row::Row;
pub use scratch::Scratch;
pub use sink::{Discard, OwnCells, Rendered, Renderer, Sink, TakesOver};
pub use source::{Before, Parser, Source};
