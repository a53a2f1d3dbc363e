//! XLSX and XLSM: read along the way, but for the texts that all cells share.

use std::thread::JoinHandle;

use calamine::{Reader, Xlsx, XlsxError};

use super::formulas;
use super::merged::merged;
use super::paced::{Pace, Paced};
use super::part::{ranges, tables};
use super::worksheet::Worksheet;
use crate::InputFile;
use crate::rows::End;

/// Reads the worksheet that is meant of a file.
///
/// # Errors
/// When the file is no such workbook, has no such worksheet, or would fill the memory.
pub(super) fn read(
    file: Paced,
    pace: &Pace,
    input: &InputFile,
    worksheet: &mut Worksheet,
) -> Result<(), End> {
    let mut workbook = match Xlsx::new(file) {
        Ok(workbook) => workbook,
        Err(XlsxError::Password) => return Err(worksheet.locked().into()),
        Err(error) => return Err(worksheet.stopped(pace, &error.to_string()).into()),
    };
    let names = workbook.sheet_names();
    let named = || {
        let mut named = ranges(workbook.defined_names(), &names);
        if workbook.load_tables().is_ok() {
            let tables_of = |worksheet: &String| {
                let tables = workbook.table_names_in_sheet(worksheet);
                (worksheet.clone(), tables.into_iter().cloned().collect())
            };
            let of_worksheet: Vec<_> = names.iter().map(tables_of).collect();
            named.splice(0..0, tables(input, &of_worksheet));
        }
        named
    };
    let chosen = worksheet.chosen(&names, named)?;
    pace.cell();
    let cells = workbook.worksheet_cells_reader(&chosen);
    let mut cells = cells.map_err(|error| worksheet.stopped(pace, &error.to_string()))?;
    let formulas = formulas::count(input, pace.part());
    let taken = worksheet.take_cells(pace, || merged(input, pace.part()), || cells.next_cell());
    if let Some(Ok(found)) = formulas.map(JoinHandle::join) {
        worksheet.tell_uncalculated(found);
    }
    taken
}
