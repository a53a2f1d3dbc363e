//! Workbooks: a worksheet as a table, and a table as a worksheet.
//!
//! A large worksheet is never in memory as a whole where its format allows that. All formats do, except for the
//! texts that the cells of XLSX, XLSM and XLSB share, and for XLS, which is read as a whole. The worksheets of XLSX
//! and XLSM are made into rows by all threads; those of other formats by a thread of their own.

mod beginning;
mod formulas;
mod headers;
mod left_out;
mod merged;
mod ods;
mod owner;
mod paced;
mod part;
mod reader;
mod refusal;
mod row;
mod shown;
mod size;
mod spanned;
#[cfg(test)]
mod tests;
mod value;
mod worksheet;
mod writer;
mod xls;
mod xlsb;
mod xlsx;

pub(crate) use beginning::Sought;
pub use formulas::Formulas;
pub use left_out::LeftOut;
pub use merged::MergedCells;
pub use owner::refuse_open;
pub(crate) use reader::{Opened, holders, open, worksheets};
pub use reader::{is_own, would_lose};
pub use refusal::Refusal;
pub(crate) use shown::is_plain_number;
pub use writer::{
    FoundRow, FoundSheet, Links, SheetRows, WorkbookOptions, WorkbookRenderer, WorkbookWriter,
};
pub use xlsx::editor::{AddedWorksheet, CellEdits, EditOptions, EditRenderer, Edited, SheetEditor};
pub use xlsx::{SheetChunk, SheetFault, SheetPlace};
pub(crate) use xlsx::{SheetParser, SheetReader};
