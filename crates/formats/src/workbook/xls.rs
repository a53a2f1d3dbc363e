//! XLS: read as a whole.

use std::io::BufReader;

use calamine::{Data, DataRef, Dimensions, Reader, Xls};

use super::headers::Merged;
use super::part::ranges;
use super::row::Row;
use super::spanned::spanned;
use super::worksheet::Worksheet;
use crate::InputFile;
use crate::rows::End;

/// How many cells the worksheets may span: the reader reserves memory for each of them.
const MOST_CELLS: u64 = 1 << 25;

/// Reads the worksheet that is meant of a file.
///
/// # Errors
/// When the file is no such workbook, has no such worksheet, or would fill the memory.
pub(super) fn read(input: &InputFile, worksheet: &mut Worksheet) -> Result<(), End> {
    if spanned(input.reader()).is_some_and(|cells| cells > MOST_CELLS) {
        let said = "its worksheets reach so far that they span over 33,000,000 cells";
        return Err(worksheet.too_large(said).into());
    }
    let mut workbook =
        Xls::new(BufReader::new(input.reader())).map_err(|error| match error.to_string() {
            said if said.contains("assword") => worksheet.locked(),
            said => worksheet.unread(said),
        })?;
    let names = workbook.sheet_names();
    let chosen = worksheet.chosen(&names, || ranges(workbook.defined_names(), &names))?;
    let cells = workbook.merge_cells_by_sheet_name(&chosen).unwrap_or_default();
    worksheet.merge(cells.into_iter().map(merged));
    let range = workbook.worksheet_range(&chosen);
    let range = range.map_err(|error| worksheet.unread(error.to_string()))?;
    let (first_row, first_column) = range.start().unwrap_or_default();
    drop(workbook);
    let mut row = Row::default();
    for (line, cells) in (u64::from(first_row) + 1..).zip(range.rows()) {
        row.clear();
        for (column, cell) in (first_column as usize..).zip(cells) {
            worksheet.put(column, &borrowed(cell), &mut row)?;
        }
        worksheet.take(line, &mut row, Vec::new)?;
    }
    worksheet.finish(Vec::new)
}

/// Merged cells, as the crate returns them.
fn merged(cells: Dimensions) -> Merged {
    Merged {
        first: u64::from(cells.start.0) + 1,
        last: u64::from(cells.end.0) + 1,
        columns: cells.start.1 as usize..cells.end.1 as usize + 1,
    }
}

/// A cell of a worksheet that was read as a whole, as one that is read along the way.
fn borrowed(cell: &Data) -> DataRef<'_> {
    match cell {
        Data::Int(number) => DataRef::Int(*number),
        Data::Float(number) => DataRef::Float(*number),
        Data::String(text) => DataRef::SharedString(text),
        Data::Bool(is) => DataRef::Bool(*is),
        Data::DateTime(moment) => DataRef::DateTime(*moment),
        Data::DateTimeIso(text) => DataRef::DateTimeIso(text.clone()),
        Data::DurationIso(text) => DataRef::DurationIso(text.clone()),
        Data::Error(error) => DataRef::Error(error.clone()),
        Data::Empty => DataRef::Empty,
    }
}
