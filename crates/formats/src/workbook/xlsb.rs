//! XLSB: read along the way, but for the texts that all cells share.

use calamine::{Reader, Xlsb};

use super::paced::{Pace, Paced};
use super::part::ranges;
use super::worksheet::Worksheet;
use crate::rows::End;

/// Reads the worksheet that is meant of a file.
///
/// # Errors
/// When the file is no such workbook, has no such worksheet, or would fill the memory.
pub(super) fn read(file: Paced, pace: &Pace, worksheet: &mut Worksheet) -> Result<(), End> {
    let mut workbook =
        Xlsb::new(file).map_err(|error| worksheet.stopped(pace, &error.to_string()))?;
    let names = workbook.sheet_names();
    let chosen = worksheet.chosen(&names, || ranges(workbook.defined_names(), &names))?;
    pace.cell();
    let cells = workbook.worksheet_cells_reader(&chosen);
    let mut cells = cells.map_err(|error| worksheet.stopped(pace, &error.to_string()))?;
    worksheet.take_cells(pace, Vec::new, || cells.next_cell())
}
