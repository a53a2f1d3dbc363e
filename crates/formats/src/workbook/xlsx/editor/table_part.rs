//! A table of a worksheet, as its own part says it: its range, its columns and its filter.

use super::small_part::{SmallPart, escaped};
use super::surroundings::{Stretch, cells, reference};

/// Stretches a table that covers what was enriched, with the headers of the added columns. Returns whether it does.
pub(super) fn stretch(part: &mut SmallPart, by: &Stretch, headers: &[String]) -> bool {
    let Some(table) = part.named("table").next().cloned() else { return false };
    let has_headers = part.number(&table, "headerRowCount") != Some(0);
    let totals = part.number(&table, "totalsRowCount").unwrap_or_default() as u64;
    let Some(range) = part.attribute(&table, "ref").as_deref().and_then(cells) else {
        return false;
    };
    let of_table =
        has_headers && range.first == by.table.first && range.columns == by.table.columns;
    if !of_table || range.last < by.table.last {
        return false;
    }
    let mut new = range.clone();
    new.columns.end += by.columns;
    // Below a row of totals nothing was appended.
    new.last = if totals == 0 && range.last == by.table.last { by.last } else { range.last };
    if new == range {
        return true;
    }
    part.set(&table, "ref", &reference(&new));
    let filter = part.named("autoFilter").next().cloned();
    if let Some(filter) = filter {
        let was = part.attribute(&filter, "ref").as_deref().and_then(cells);
        if let Some(mut filtered) = was.filter(|was| was.columns == range.columns) {
            filtered.columns.end = new.columns.end;
            filtered.last = if filtered.last == by.table.last { by.last } else { filtered.last };
            part.set(&filter, "ref", &reference(&filtered));
        }
    }
    let Some(columns) = part.named("tableColumns").next().cloned() else { return true };
    let ids: Vec<usize> =
        part.named("tableColumn").filter_map(|one| part.number(one, "id")).collect();
    let first = ids.iter().max().copied().unwrap_or_default() + 1;
    let prefix = part.prefix(&columns).to_owned();
    let mut more = String::new();
    for (id, header) in (first..).zip(headers) {
        let name = escaped(&name(header));
        more.extend([&format!("<{prefix}tableColumn id=\"{id}\" name=\"{name}\"/>")[..]]);
    }
    if !headers.is_empty() {
        part.set(&columns, "count", &(ids.len() + headers.len()).to_string());
        part.append(&columns, &more);
    }
    true
}

/// Whether the last row of a table is one of totals.
pub(super) fn has_totals(part: &SmallPart, by: &Stretch) -> bool {
    let table = part.named("table").next();
    table.is_some_and(|table| {
        let totals = part.number(table, "totalsRowCount").unwrap_or_default();
        let range = part.attribute(table, "ref").as_deref().and_then(cells);
        totals > 0 && range.is_some_and(|range| range.columns == by.table.columns)
    })
}

/// The name of a column, as a table has it: lines in it are escaped as characters.
fn name(header: &str) -> String {
    header.replace("\r\n", "_x000a_").replace(['\n', '\r'], "_x000a_").replace('\t', "_x0009_")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_grows_and_keeps_its_columns() {
        let text = "<table ref=\"A3:B9\" totalsRowCount=\"1\"><autoFilter ref=\"A3:B8\"/><tableColumns \
                    count=\"2\"><tableColumn id=\"1\" name=\"A\"/><tableColumn id=\"4\" name=\"B\">\
                    <calculatedColumnFormula>1+1</calculatedColumnFormula></tableColumn></tableColumns></table>";
        let read = || SmallPart::of(text.to_owned()).unwrap();
        let by = Stretch { table: cells("A3:B8").unwrap(), columns: 1, last: 8 };
        let mut part = read();
        assert!(has_totals(&part, &by) && stretch(&mut part, &by, &["C \"x\"\nd".to_owned()]));
        let want = text
            .replace("A3:B9", "A3:C9")
            .replace("A3:B8", "A3:C8")
            .replace("count=\"2\"", "count=\"3\"");
        let added = "<tableColumn id=\"5\" name=\"C &quot;x&quot;_x000a_d\"/></tableColumns>";
        assert_eq!(part.changed(), want.replace("</tableColumns>", added));
        // One that covers other columns stays.
        let other = Stretch { table: cells("A3:C8").unwrap(), ..by };
        assert!(!stretch(&mut read(), &other, &[]));
    }
}
