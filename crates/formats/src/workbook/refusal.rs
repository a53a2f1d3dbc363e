//! Why nothing is written into a workbook that is there.

use std::fmt;

/// Why nothing is written into a workbook that is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refusal {
    /// A cell holds a value where an added column or row would be.
    CellInTheWay {
        /// The worksheet.
        worksheet: String,
        /// The cell, such as `F12`.
        cell: String,
    },
    /// The table ends with a row of totals, so that no row can be appended.
    Totals {
        /// The worksheet.
        worksheet: String,
    },
    /// The worksheet is protected from changes.
    Protected {
        /// The worksheet.
        worksheet: String,
    },
    /// A spreadsheet program has it open.
    Open {
        /// Who has it open, where that is known.
        by: Option<String>,
        /// The file that says so.
        lock: String,
    },
    /// It holds what would be lost if a new workbook took its place.
    WouldLose {
        /// What would be lost, each thing in a few words.
        what: Vec<String>,
    },
    /// A worksheet that was not written as one of findings has the name of the one that would be.
    NotOfFindings {
        /// The worksheet.
        worksheet: String,
    },
    /// Two worksheets would have one name.
    SameName {
        /// The name.
        worksheet: String,
    },
    /// A worksheet of the name is there.
    Exists {
        /// The worksheet.
        worksheet: String,
    },
    /// It is of a format that is only read.
    OtherFormat,
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::CellInTheWay { worksheet, cell } => write!(
                f,
                "in worksheet `{worksheet}`, cell {cell} holds something where a new cell would go; \
                 move it, or write into a worksheet of its own with `-o` and `#NAME`"
            ),
            Self::Totals { worksheet } => write!(
                f,
                "the table in worksheet `{worksheet}` ends with a row of totals, so that no rows can \
                 be appended; turn the totals off, or leave out `append_unused`"
            ),
            Self::Protected { worksheet } => write!(
                f,
                "worksheet `{worksheet}` is protected; take the protection away in a spreadsheet \
                 program, or write into another worksheet"
            ),
            Self::Open { by, lock } => {
                let who = by.as_deref().unwrap_or("somebody");
                write!(
                    f,
                    "{who} has it open in a spreadsheet program, which would write over the result; \
                     close it there first, or remove {lock} if it is not open any more"
                )
            }
            Self::WouldLose { what } => write!(
                f,
                "a new workbook in its place would lose {}; add `#` and the name of a worksheet, and \
                 only that worksheet is written",
                what.join(", ")
            ),
            Self::NotOfFindings { worksheet } => write!(
                f,
                "its worksheet `{worksheet}` is no list of findings of this program; give the \
                 worksheet of findings another name"
            ),
            Self::SameName { worksheet } => write!(
                f,
                "the table and its findings can't both be in worksheet `{worksheet}`; give the \
                 worksheet of findings another name"
            ),
            Self::Exists { worksheet } => write!(
                f,
                "it has a worksheet `{worksheet}`; add --overwrite to replace that worksheet, or name \
                 another one"
            ),
            Self::OtherFormat => write!(
                f,
                "only workbooks in XLSX and XLSM are written into; open it in a spreadsheet program \
                 and save it as XLSX"
            ),
        }
    }
}
