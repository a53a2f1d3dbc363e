//! Columns that go out in another order than that of the file they come from: every cell keeps its bytes.

use gather_keys_core::enrich::EnrichmentBuilder;
use gather_keys_core::plan::{Columns, On, ReferencePlan, Take};
use gather_keys_core::table::{Arranged, Block, OutputColumns, Overlay, Parser, Sink, Source};
use gather_keys_formats::delimited::{HeaderRow, ReadOptions, Reader, Writer};
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// In whichever order the columns of a file go out, every cell keeps its own bytes.
    #[test]
    fn cells_keep_their_bytes_in_another_order(
        rows in prop::collection::vec((prop::collection::vec(raw_cell(), 4), 2_usize..9), 1..8),
        order in order_of_columns(),
        piece in 1_usize..60,
        updated in prop::option::of(0_usize..4),
    ) {
        // Some rows have fewer cells, and are made as long as the others.
        let shortened = |(row, cells): &(Vec<String>, usize)| row[..(*cells).min(4)].to_vec();
        let mut rows: Vec<Vec<String>> = rows.iter().map(shortened).collect();
        let lines: Vec<String> = rows.iter().map(|row| row.join(",")).collect();
        for row in &mut rows {
            row.resize(4, String::new());
        }
        let text = format!("A,B,C,D\n{}\n", lines.join("\n"));
        let options =
            ReadOptions { piece, headers: HeaderRow::First, pads: true, ..ReadOptions::default() };
        let mut reader = Reader::new("t", text.as_bytes(), options).unwrap();
        let overlay = Overlay::of(updated);
        let names = ["X".to_owned(), "Y".to_owned()];
        let all = OutputColumns::all(reader.headers(), &names, overlay);
        let named: Vec<(usize, String)> =
            order.iter().enumerate().map(|(nth, &column)| (column, format!("c{nth}"))).collect();
        let columns = all.chosen(&named);
        let mut parser = reader.parser();
        let mut wanted = columns.ends_of_runs();
        // Cells that may be replaced are compared with the new ones.
        wanted.extend(updated);
        parser.want(&gather_keys_core::table::ascending(&wanted));
        let mut writer = Writer::new("out", Vec::new(), reader.layout().clone());
        writer.write_headers(&columns).unwrap();
        let (mut chunk, mut block) = (Vec::new(), Block::default());
        while reader.read_chunk(&mut chunk).unwrap() {
            parser.parse(&mut chunk, &mut block).unwrap();
            let every: Vec<usize> = (0..block.rows()).collect();
            let cells: Vec<&str> = updated.map(|_| "new").into_iter().chain(["x", "y,z"]).collect();
            let added = Block::of_rows(cells.len(), &vec![cells; every.len()]);
            writer.write_block(&columns, &block, &every, &added).unwrap();
        }
        let written = String::from_utf8(writer.finish().unwrap()).unwrap();
        let cell = |row: &Vec<String>, column: usize| match column {
            4 => "x".to_owned(),
            5 => "\"y,z\"".to_owned(),
            _ if Some(column) == updated => "new".to_owned(),
            _ => row[column].clone(),
        };
        let headers: Vec<String> = named.into_iter().map(|(_, name)| name).collect();
        let mut want = format!("{}\n", headers.join(","));
        for row in &rows {
            let cells: Vec<String> = order.iter().map(|&column| cell(row, column)).collect();
            let row = cells.join(",");
            want.push_str(if row.is_empty() { "\"\"" } else { &row });
            want.push('\n');
        }
        prop_assert_eq!(written, want);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Added cells go out the same whether they are copied from references or assembled.
    #[test]
    fn added_cells_keep_their_bytes_in_another_order(
        rows in prop::collection::vec((0_u8..5, prop::collection::vec(raw_cell(), 3)), 1..40),
        added in prop::collection::vec((0_u8..5, prop::collection::vec(added_cell(), 3)), 0..8),
        order in prop::collection::vec((0_usize..7, 1_usize..4), 1..5),
        (piece, threads) in (1_usize..200, 1_usize..3),
    ) {
        let order: Vec<usize> =
            order.iter().flat_map(|&(first, length)| first..(first + length).min(7)).collect();
        let lines: Vec<String> =
            rows.iter().map(|(key, cells)| format!("{key},{}\n", cells.join(","))).collect();
        let main = format!("Key,A,B,C\n{}", lines.concat());
        let cell_of = |key: u8, nth: usize| {
            let row = added.iter().find(|(other, _)| *other == key);
            row.map_or(String::new(), |(_, cells)| quoted(&cells[nth]))
        };
        let lines: Vec<String> = (0..5)
            .filter(|key| added.iter().any(|(other, _)| other == key))
            .map(|key| format!("{key},{},{},{}\n", cell_of(key, 0), cell_of(key, 1), cell_of(key, 2)))
            .collect();
        let reference = format!("Key,X,Y,Z\n{}", lines.concat());
        let headers = ["Key", "A", "B", "C", "X", "Y", "Z"];
        let mut want: Vec<String> = vec![String::new()];
        for (nth, &column) in order.iter().enumerate() {
            want[0] += &format!("{}{}{nth}", if nth > 0 { "," } else { "" }, headers[column]);
        }
        for (key, own) in &rows {
            let cells: Vec<String> = order.iter().map(|&column| match column {
                0 => key.to_string(),
                1..4 => own[column - 1].clone(),
                _ => cell_of(*key, column - 4),
            }).collect();
            let row = cells.join(",");
            want.push(if row.is_empty() { "\"\"".to_owned() } else { row });
        }
        let want = want.join("\n") + "\n";
        for passes_through in [false, true] {
            prop_assert_eq!(enriched(&main, &reference, &order, piece, threads, passes_through), &want[..]);
        }
    }
}

/// The text of a main table with two columns of a reference and then a third one, with some of all columns, numbered, in this
/// order.
fn enriched(
    main: &str,
    reference: &str,
    order: &[usize],
    piece: usize,
    threads: usize,
    passes_through: bool,
) -> String {
    let options = || ReadOptions { piece, headers: HeaderRow::First, ..ReadOptions::default() };
    let mut main = Reader::new("main", main.as_bytes(), options()).unwrap();
    let raw_form = main.layout().raw_form().filter(|_| passes_through);
    let mut builder = EnrichmentBuilder::new(main.headers(), [1, 2, 3, 4]);
    for (name, take) in [("first", "X, Y"), ("second", "Z")] {
        let plan = ReferencePlan {
            name: name.to_owned(),
            on: On::parse(&["Key"]).unwrap(),
            take: Some(Take::parse(take).unwrap()),
            ..ReferencePlan::default()
        };
        let mut table = Reader::new(name, reference.as_bytes(), options()).unwrap();
        let headers = table.headers().clone();
        let found = builder.resolve(&plan, &headers, &[]).unwrap();
        assert!(found.passes_through(4));
        let mut read = found.builder(&plan, &headers, [1, 2, 3, 4]).raw_form(raw_form);
        read.read(&mut Arranged::like(&headers, &mut table).unwrap(), 1).unwrap();
        let (lookup, output) = found.lookup(read.finish().unwrap());
        builder.add(lookup, output);
    }
    let headers = ["Key", "A", "B", "C", "X", "Y", "Z"];
    let names = order
        .iter()
        .enumerate()
        .map(|(nth, &column)| format!("{} as {}{nth}", headers[column], headers[column]));
    let columns = Columns::parse(&names.collect::<Vec<_>>().join(", ")).unwrap();
    builder.choose(&columns, &[]).unwrap();
    let mut writer = Writer::new("out", Vec::new(), main.layout().clone());
    builder.finish().run(&mut main, &mut writer, None, threads).unwrap();
    String::from_utf8(writer.finish().unwrap()).unwrap()
}

/// Runs of the four columns of a table and the two added to it, often after all of the table's own.
fn order_of_columns() -> impl Strategy<Value = Vec<usize>> {
    let runs = prop::collection::vec((0_usize..6, 1_usize..5), 0..4);
    (any::<bool>(), runs).prop_map(|(is_whole, runs)| {
        let runs = runs.iter().flat_map(|&(first, length)| first..(first + length).min(6));
        let order: Vec<usize> = (0..4).filter(|_| is_whole).chain(runs).collect();
        if order.is_empty() { vec![5] } else { order }
    })
}

/// The bytes of a cell as files have them.
fn raw_cell() -> impl Strategy<Value = String> {
    prop_oneof![
        "[ab é]{0,3}",
        Just("\"\"".to_owned()),
        Just("\"a,b\"".to_owned()),
        Just("\"say \"\"x\"\"\"".to_owned()),
        Just("\"two\nlines\"".to_owned()),
        Just("a\"b".to_owned()),
        Just("\"closed\" and more".to_owned()),
        Just("007".to_owned()),
    ]
}

/// The text of a cell of a reference, at times longer than most.
fn added_cell() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => "[ab é]{0,3}",
        1 => "[x]{28,70}",
        1 => prop::sample::select(vec!["a,b", "say \"x\"", "two\nlines"]).prop_map(str::to_owned),
    ]
}

/// A cell as it is written.
fn quoted(cell: &str) -> String {
    if cell.contains([',', '"', '\n']) {
        format!("\"{}\"", cell.replace('"', "\"\""))
    } else {
        cell.to_owned()
    }
}
