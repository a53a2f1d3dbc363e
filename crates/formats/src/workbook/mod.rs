//! Workbooks: a worksheet as a table, and a table as a worksheet.
//!
//! The worksheet is read by a thread of its own, which hands over rows as it finds them, so that a
//! large one is never in memory as a whole where its format lets it be read so: XLSX and XLSM do,
//! but for the texts that their cells share; XLS, XLSB and ODS are read as a whole.

mod headers;
mod part;
mod reader;
mod row;
mod shown;
mod value;
mod writer;

pub(crate) use reader::open;
pub(crate) use shown::is_plain_number;
pub use writer::{ShownRow, WorkbookRenderer, WorkbookWriter};
