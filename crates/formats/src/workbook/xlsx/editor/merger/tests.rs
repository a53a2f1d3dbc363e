// What cells become is easier to read in one piece.
#![allow(clippy::format_push_string)]

use std::collections::BTreeMap;
use std::sync::Arc;

use gather_keys_core::table::{Block, Overlay, Renderer, RowOutcomes};
use proptest::prelude::*;

use super::super::super::cells::Value;
use super::super::cell_edits::{CellEdits, EditRenderer};
use super::super::style_sheet::StyleSheet;
use super::*;
use crate::workbook::writer::Styles;

/// What a worksheet holds: by line and column the style, and the text of the cell's content.
type Sheet = BTreeMap<(u64, usize), (usize, String)>;

fn cells(text: &[u8]) -> Sheet {
    let mut sheet = Sheet::new();
    let (mut rows, mut line) = (Rows::new(text, 0), 0);
    while let Some(next) = rows.next_row().unwrap() {
        assert!(next > line, "lines are in order");
        line = next;
        while let Some(cell) = rows.next_cell().unwrap() {
            let what = format!("{:?} {:?}", cell.value, cell.formula.map(String::from_utf8_lossy));
            sheet.insert((line, cell.column), (cell.style, what));
        }
    }
    sheet
}

/// Merges the cells that come of rows with these lines, each with an added cell and an update of column 1 if there is
/// one, into a worksheet.
fn merged(
    text: &str,
    rows: &[(u64, &str, Option<&str>)],
    replaced_formulas: Vec<usize>,
) -> Result<(String, Merger), MergeFault> {
    let overlay = Overlay::of([1]);
    let styles = Arc::new(Styles::new(&[], true));
    let renderer = EditRenderer {
        overlay: overlay.clone(),
        styles: styles.clone(),
        own: [0, 1, 2].into(),
        added: [(3, false)].into(),
        lookups: [0].into(),
        highlights: false,
        later: 0.0,
    };
    let cells = CellWriter::new(styles, StyleSheet::read(None).unwrap());
    let mut merger = Merger::new(cells, 0..3, replaced_formulas, false);
    let mut queue = EditQueue::default();
    for (line, added, update) in rows {
        let main = Block::of_rows(3, &[["", "before", ""]]);
        let block = Block::of_rows(2, &[[update.unwrap_or("before"), added]]);
        let mut edits = CellEdits::default();
        renderer.render_with_outcomes(&main, &[0], &block, &RowOutcomes::default(), &mut edits);
        edits.place(*line);
        queue.push(&mut edits);
    }
    let piece = SheetChunk { text: text.as_bytes().to_vec(), ..SheetChunk::default() };
    let mut out = Vec::new();
    merger.merge(&piece, &mut queue, &mut out)?;
    Ok((String::from_utf8(out).unwrap(), merger))
}

#[test]
fn cells_go_into_rows_that_stay_as_they_are() {
    for (text, rows, want) in [
        (
            "\n<row r=\"2\" spans=\"1:2\" ht=\"20\"><c r=\"A2\"/><c r=\"B2\" s=\"4\" cm=\"1\"><v>1</v></c><extLst/></row>\n",
            &[(2, "7", Some("8"))][..],
            "\n<row r=\"2\" spans=\"1:4\" ht=\"20\"><c r=\"A2\"/><c r=\"B2\" s=\"4\"><v>8</v></c><c r=\"D2\"><v>7</v></c><extLst/></row>\n",
        ),
        (
            "<row r=\"3\"/><row/>",
            &[(3, "a", None)],
            "<row r=\"3\"><c r=\"D3\" t=\"inlineStr\"><is><t>a</t></is></c></row><row/>",
        ),
        (
            "<row><c><v>1</v></c></row>",
            &[(1, "1", None)],
            "<row><c><v>1</v></c><c r=\"D1\"><v>1</v></c></row>",
        ),
        (
            "<row r=\"1\"/><row r=\"9\"/>",
            &[(5, "5", None)],
            "<row r=\"1\"/><row r=\"5\"><c r=\"D5\"><v>5</v></c></row><row r=\"9\"/>",
        ),
        ("<row r=\"1\"><c r=\"F1\"/></row>", &[(1, "", None)], "<row r=\"1\"><c r=\"F1\"/></row>"),
    ] {
        assert_eq!(merged(text, rows, Vec::new()).unwrap().0, want);
    }
}

#[test]
fn what_is_in_the_way_is_named() {
    for (text, cell) in [
        ("<row r=\"4\"><c r=\"D4\"><v>0</v></c></row>", Some("D4")),
        ("<row r=\"4\"><c r=\"D4\" t=\"inlineStr\"><is><t>x</t></is></c></row>", Some("D4")),
        ("<row r=\"4\"><c r=\"D4\"><f>1</f></c></row>", Some("D4")),
        ("<row r=\"4\"><c r=\"D4\" s=\"3\"><v></v></c><c r=\"E4\"><v>1</v></c></row>", None),
    ] {
        let said = match merged(text, &[(4, "1", None)], Vec::new()) {
            Err(MergeFault::InTheWay(cell)) => Some(cell),
            Err(MergeFault::Cell(fault)) => panic!("{fault:?}"),
            Ok(_) => None,
        };
        assert_eq!(said.as_deref(), cell);
    }
}

#[test]
fn formulas_stay_unless_they_may_go() {
    let text = "<row r=\"1\"><c r=\"B1\"><f t=\"shared\" ref=\"B1:B3\" si=\"0\">A1*2</f><v>1</v></c></row>\
                <row r=\"2\"><c r=\"B2\"><f t=\"array\" ref=\"B2\">1</f></c></row>\
                <row r=\"3\"><c r=\"B3\" s=\"2\"><f t=\"shared\" si=\"0\"/><v>9</v></c></row>";
    let rows = [(1, "", Some("5")), (2, "", Some("5"))];
    let (kept, merger) = merged(text, &rows, Vec::new()).unwrap();
    assert_eq!((kept.as_str(), merger.left), (text, (2, Some("B1".to_owned()))));
    let (new, merger) = merged(text, &rows, vec![1]).unwrap();
    let want = "<row r=\"1\"><c r=\"B1\"><v>5</v></c></row><row r=\"2\"><c r=\"B2\"><f t=\"array\" \
                ref=\"B2\">1</f></c></row><row r=\"3\"><c r=\"B3\" s=\"2\"><f>A3*2</f><v>9</v></c></row>";
    assert_eq!(new, want);
    assert_eq!((merger.left, merger.without_formula), ((1, Some("B2".to_owned())), vec![(1, 1)]));
}

#[test]
fn elements_have_the_prefix_of_the_worksheet() {
    let styles = Arc::new(Styles::new(&[], true));
    let mut cells = CellWriter::new(styles, StyleSheet::read(None).unwrap());
    cells.prefix = "x:".to_owned();
    let mut merger = Merger::new(cells, 0..1, Vec::new(), false);
    let mut queue = EditQueue::default();
    let headers = [(1, "a <b")].into_iter();
    queue.push(&mut CellEdits::of_headers(1, headers, &Styles::new(&[], true)));
    let text = b"<x:row r=\"1\"><x:c r=\"A1\" s=\"5\"/></x:row>".to_vec();
    let (piece, mut out) = (SheetChunk { text, ..SheetChunk::default() }, Vec::new());
    merger.merge(&piece, &mut queue, &mut out).unwrap();
    let want = "<x:row r=\"1\"><x:c r=\"A1\" s=\"5\"/><x:c r=\"B1\" s=\"5\" t=\"inlineStr\"><x:is><x:t>a &lt;b</x:t></x:is></x:c></x:row>";
    assert_eq!(String::from_utf8(out).unwrap(), want);
}

proptest! {
    /// The worksheet then holds what it held, with the cells that were written.
    #[test]
    fn nothing_but_the_written_cells_changes(
        there in prop::collection::btree_map((1..12_u64, 0..7_usize), (0..3_usize, 0..3_u8), 0..40),
        written in prop::collection::btree_map(1..14_u64, (0..3_u32, prop::option::of(0..9_u32)), 0..10),
        says_places in any::<bool>(),
    ) {
        let mut text = String::new();
        let mut lines: BTreeMap<u64, Vec<(usize, usize, u8)>> = BTreeMap::new();
        for ((line, column), (style, what)) in &there {
            // Where cells are added nothing may be.
            let what = if *column == 3 { 0 } else { *what };
            lines.entry(*line).or_default().push((*column, *style, what));
        }
        for (line, row) in &lines {
            text += &format!("<row r=\"{line}\" spans=\"1:9\">");
            let mut next = 0;
            for (column, style, what) in row {
                let is_said = says_places || next != *column;
                let place = if is_said { format!(" r=\"{}{line}\"", letters(*column)) } else { String::new() };
                next = column + 1;
                text += &match what {
                    0 => format!("<c{place} s=\"{style}\"/>"),
                    1 => format!("<c{place} s=\"{style}\"><v>{line}</v></c>"),
                    _ => format!("<c{place} s=\"{style}\" t=\"str\"><v>r=\"B{line}\"</v></c>"),
                };
            }
            text.push_str("</row>");
        }
        let cell_of = |number: u32| if number == 0 { String::new() } else { number.to_string() };
        let numbers: Vec<(u64, String, Option<String>)> = written.iter().map(|(line, (added, update))| {
            (*line, cell_of(*added), update.map(cell_of))
        }).collect();
        let rows: Vec<(u64, &str, Option<&str>)> =
            numbers.iter().map(|(line, added, update)| (*line, &added[..], update.as_deref())).collect();
        let (out, _) = merged(&text, &rows, Vec::new()).unwrap();
        let mut want = cells(text.as_bytes());
        for (line, added, update) in rows {
            for (column, cell) in [(3, Some(added).filter(|text| !text.is_empty())), (1, update)] {
                let Some(cell) = cell else { continue };
                let style = want.get(&(line, column)).map(|(style, _)| *style);
                if cell.is_empty() && style.is_none() { continue }
                let style = style.unwrap_or_default();
                let value = if cell.is_empty() { Value::Blank } else { Value::Number(cell.as_bytes()) };
                let what = format!("{value:?} None");
                want.insert((line, column), (if column == 3 { 0 } else { style }, what));
            }
        }
        let mut is = cells(out.as_bytes());
        // The style of a blank cell that was there is that of the new one.
        for (place, (style, _)) in &mut is {
            if place.1 == 3 { *style = 0; }
        }
        for (place, (style, _)) in &mut want {
            if place.1 == 3 { *style = 0; }
        }
        prop_assert_eq!(is, want);
    }
}
