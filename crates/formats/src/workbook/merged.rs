//! Which cells of an XLSX worksheet are merged: what follows its rows.

use std::fmt;
use std::io::{BufReader, Read};
use std::ops::Range;

use super::headers::Merged;
use super::part::area;
use memchr::memmem;
use quick_xml::Reader;
use quick_xml::events::Event;

/// The end of the rows, after `</` and possibly a prefix.
const END: &[u8] = b"sheetData>";

/// How much is looked at at a time, and how much of that once more: an end may lie across.
const AT_ONCE: usize = 64 << 10;
const AGAIN: usize = 64;

/// How much is read after the rows.
const MOST_BEHIND: u64 = 16 << 20;

/// The merged cells of a worksheet, which are looked for only when somebody asks.
pub struct MergedCells {
    /// Begins to read the worksheet once more.
    pub(super) worksheet: Box<dyn Fn() -> Option<Box<dyn Read + Send>> + Send + Sync>,
    /// The line of the headers, and the columns of the worksheet that the table has.
    pub(super) header_line: u64,
    pub(super) columns: Range<usize>,
}

impl MergedCells {
    /// The columns of the table that have cells merged over several rows, below the headers.
    pub fn columns(&self) -> Vec<usize> {
        let all = (self.worksheet)().map(merged).unwrap_or_default();
        let tall = all.into_iter().filter(|one| one.last > one.first.max(self.header_line + 1));
        let columns = tall.flat_map(|one| one.columns).filter(|one| self.columns.contains(one));
        let mut columns: Vec<usize> = columns.map(|one| one - self.columns.start).collect();
        columns.sort_unstable();
        columns.dedup();
        columns
    }
}

impl fmt::Debug for MergedCells {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("MergedCells").field("columns", &self.columns).finish_non_exhaustive()
    }
}

/// The merged cells of a worksheet, as far as it can be read.
pub(super) fn merged(worksheet: impl Read) -> Vec<Merged> {
    behind_rows(worksheet).map(cells).unwrap_or_default()
}

/// The content after the rows of a worksheet.
fn behind_rows(mut worksheet: impl Read) -> Option<impl Read> {
    let mut seen = Vec::with_capacity(AT_ONCE + AGAIN);
    let find = memmem::Finder::new(END);
    loop {
        let read = worksheet.by_ref().take(AT_ONCE as u64).read_to_end(&mut seen).ok()?;
        let is_end = |at: &usize| {
            let open = seen[..*at].iter().rposition(|&byte| byte == b'<');
            open.is_some_and(|open| seen[open + 1..].starts_with(b"/"))
        };
        if let Some(at) = find.find_iter(&seen).find(is_end) {
            let rest = seen.split_off(at + END.len());
            return Some(std::io::Cursor::new(rest).chain(worksheet).take(MOST_BEHIND));
        }
        if read == 0 {
            return None;
        }
        seen.drain(..seen.len().saturating_sub(AGAIN));
    }
}

/// The merged cells that are reported there.
fn cells(behind: impl Read) -> Vec<Merged> {
    let mut reader = Reader::from_reader(BufReader::new(behind));
    // Elements that are open were opened before the rows.
    reader.config_mut().allow_unmatched_ends = true;
    let (mut buffer, mut merged) = (Vec::new(), Vec::new());
    loop {
        buffer.clear();
        let (Event::Start(element) | Event::Empty(element)) =
            (match reader.read_event_into(&mut buffer) {
                Ok(Event::Eof) | Err(_) => return merged,
                Ok(event) => event,
            })
        else {
            continue;
        };
        if element.local_name().as_ref() == "mergeCell"
            && let Ok(Some(cells)) = element.try_get_attribute("ref")
            && let Some(area) = area(&cells.value)
        {
            merged.push(Merged { first: area.first, last: area.last, columns: area.columns });
        }
    }
}
