//! The bytes of each cell in a row, with its quotes: cells that are not replaced keep them.

/// Cuts a row, without its line end, into the bytes of its cells.
pub(crate) fn row_cells(row: &[u8], delimiter: u8) -> impl Iterator<Item = &[u8]> {
    let mut rest = Some(row);
    std::iter::from_fn(move || {
        let row = rest?;
        let end = cell_end(row, delimiter);
        rest = row.get(end + 1..);
        Some(&row[..end])
    })
}

/// Where the first cell of a text ends. A quote has a meaning only at the beginning of a cell; within
/// quotes every character but a quote is itself.
fn cell_end(text: &[u8], delimiter: u8) -> usize {
    let mut at = 0;
    if text.first() == Some(&b'"') {
        at = 1;
        while let Some(quote) = memchr::memchr(b'"', &text[at..]) {
            at += quote + 1;
            if text.get(at) != Some(&b'"') {
                break;
            }
            at += 1;
        }
    }
    memchr::memchr(delimiter, &text[at..]).map_or(text.len(), |found| at + found)
}

#[cfg(test)]
mod tests {
    use super::row_cells;

    #[test]
    fn cells_keep_their_quotes() {
        for row in [
            "a;b;c",
            ";;",
            "",
            "\"a;b\";c",
            "\"a \"\"quoted;\"\" b\";\"\"",
            "plain \"quotes;within\" it;x",
            "\"closed\" and more;\"two\nlines\"",
        ] {
            let cells: Vec<&[u8]> = row_cells(row.as_bytes(), b';').collect();
            let mut reader = csv::ReaderBuilder::new();
            let mut reader = reader.delimiter(b';').has_headers(false).from_reader(row.as_bytes());
            let count = reader.records().next().map_or(1, |record| record.unwrap().len());
            assert_eq!(cells.len(), count, "{row}");
            assert_eq!(cells.join(&b';'), row.as_bytes());
        }
    }
}
