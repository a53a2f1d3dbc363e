//! Workbooks: a worksheet as a table, and a table as a worksheet.
//!
//! The worksheet is read by a thread of its own, which passes on rows as it finds them, so that a large
//! worksheet is never in memory as a whole where its format allows that. All formats do, except for the
//! texts that the cells of XLSX, XLSM and XLSB share, and for XLS, which is read as a whole.

mod formulas;
mod headers;
mod merged;
mod ods;
mod paced;
mod part;
mod reader;
mod row;
mod shown;
mod spanned;
#[cfg(test)]
mod tests;
mod value;
mod worksheet;
mod writer;
mod xls;
mod xlsb;
mod xlsx;

pub(crate) use reader::open;
pub(crate) use shown::is_plain_number;
pub use writer::{ShownRow, WorkbookRenderer, WorkbookWriter};
