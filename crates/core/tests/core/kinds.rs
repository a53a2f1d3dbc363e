//! Kinds of cells: whatever way a cell takes through the lookups, it comes out as what it was.

use gather_keys_core::Error;
use gather_keys_core::enrich::Corrections;
use gather_keys_core::findings::Correction;
use gather_keys_core::plan::{On, ReferencePlan, Take, Update, WhenDuplicate};
use gather_keys_core::table::{Block, CellKind, OutputColumns, Renderer, Sink};
use proptest::prelude::*;

use super::memory::{Memory, Row, enrichments};

/// The kind that a cell of this text is given on its way in.
fn kind_of(text: &str) -> CellKind {
    match text {
        "a" => CellKind::Text,
        "b" => CellKind::Number,
        "c" => CellKind::Date,
        "d" => CellKind::Truth,
        "e" => CellKind::Time,
        _ => CellKind::Untyped,
    }
}

fn says_none(_: &str) -> CellKind {
    CellKind::Untyped
}

/// Keeps the cells of every row, each with its kind.
#[derive(Default)]
pub(crate) struct Kinds(pub(crate) Vec<Vec<(String, CellKind)>>);

pub(crate) struct KindsOf(OutputColumns);

impl Sink for Kinds {
    type Error = Error;
    type Renderer = KindsOf;

    fn write_headers(&mut self, _: &OutputColumns) -> Result<(), Error> {
        Ok(())
    }

    fn renderer(&self, columns: &OutputColumns) -> KindsOf {
        KindsOf(columns.clone())
    }

    fn write(&mut self, rendered: &mut Vec<Vec<(String, CellKind)>>) -> Result<(), Error> {
        self.0.append(rendered);
        Ok(())
    }
}

impl Renderer for KindsOf {
    type Rendered = Vec<Vec<(String, CellKind)>>;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, rendered: &mut Self::Rendered) {
        rendered.clear();
        for (nth, &row) in rows.iter().enumerate() {
            let cells = self.0.cells().iter().map(|cell| cell.of((main, row), (added, nth)));
            rendered.push(cells.map(|(cell, kind)| (cell.to_owned(), kind)).collect());
        }
    }
}

fn table(columns: usize, most: usize) -> impl Strategy<Value = Vec<Row>> {
    let cell = prop::sample::select(vec!["a", "b", "c", "d", "e", "x", ""]);
    let cell = cell.prop_map(str::to_owned);
    prop::collection::vec(prop::collection::vec(cell, columns), 0..most)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// Own, taken, updated and named cells keep their kinds, in however many blocks and tables they
    /// come, and next to a table that says none.
    #[test]
    fn cells_keep_their_kinds(
        (main, reference, more) in (table(3, 8), table(3, 8), table(3, 4)),
        rule in prop::sample::select(vec!["report", "first", "every", "last"]),
        (main_says, first_says, second_says, drops) in any::<(bool, bool, bool, bool)>(),
        (block_rows, threads) in (1_usize..4, 1_usize..4),
    ) {
        let plan = ReferencePlan {
            name: "r".to_owned(),
            on: On::parse(&["K"]).unwrap(),
            take: Some(Take::parse("X, V as Other").unwrap()),
            update: Update::parse("V").unwrap(),
            when_duplicate: WhenDuplicate::parse(rule).unwrap(),
            when_unmatched: if drops {
                gather_keys_core::plan::WhenUnmatched::Drop
            } else {
                gather_keys_core::plan::WhenUnmatched::Blank
            },
            ..ReferencePlan::default()
        };
        let says = |says: bool| -> fn(&str) -> CellKind { if says { kind_of } else { says_none } };
        let source = Memory::new("main", &["K", "V", "W"], &main, block_rows).saying(says(main_says));
        let tables = vec![
            Memory::new("r", &["K", "V", "X"], &reference, block_rows).saying(says(first_says)),
            Memory::new("s", &["K", "V", "X"], &more, block_rows).saying(says(second_says)),
        ];
        let mut enrichment = enrichments(vec![(&plan, tables)], &source, threads).unwrap();
        let mut kept = Kinds::default();
        enrichment.run(&mut source.again(), &mut kept, None, threads).unwrap();
        let all_say = main_says && first_says && second_says;
        let none_says = !main_says && !first_says && !second_says;
        for (text, kind) in kept.0.iter().flatten() {
            // A blank cell is nothing in any case.
            let fits = *kind == kind_of(text) && !none_says
                || *kind == CellKind::Untyped && (!all_say || kind_of(text) == CellKind::Untyped);
            prop_assert!(fits || text.is_empty(), "{text} {kind:?}");
        }
        // The own column that nothing writes into says what the main table says.
        for row in &kept.0 {
            prop_assert_eq!(row[2].1, says(main_says)(&row[2].0));
        }
    }

    /// Corrections do what writing each value into every row of its key by hand does.
    #[test]
    fn corrections_are_what_they_should_be(
        main in table(3, 8),
        settled in prop::collection::vec((0_usize..6, 0_usize..2, 0_usize..7), 0..5),
        (block_rows, threads) in (1_usize..4, 1_usize..4),
    ) {
        let words = ["a", "b", "c", "x", "", "z", "q"];
        let headers = ["V", "W"];
        let mut corrections: Vec<Correction> = Vec::new();
        for (row, (key, column, value)) in (1..).zip(settled) {
            let key = vec![words[key].to_owned()];
            let header = headers[column].to_owned();
            if corrections.iter().all(|one| (&one.key, &one.header) != (&key, &header)) {
                let value = words[value].to_owned();
                corrections.push(Correction { key, header, value, row });
            }
        }
        let mut want = main.clone();
        let mut counts = vec![(0, 0); corrections.len()];
        for row in &mut want {
            let key = row[0].clone();
            for (one, (changed, same)) in corrections.iter().zip(&mut counts) {
                let cell = &mut row[if one.header == "V" { 1 } else { 2 }];
                if one.key[0] == key {
                    if *cell == one.value { *same += 1 } else { *changed += 1 }
                    cell.clone_from(&one.value);
                }
            }
        }
        let plan = ReferencePlan { take: Some(Vec::new()), on: On::parse(&["K"]).unwrap(), ..ReferencePlan::default() };
        let source = Memory::new("main", &["K", "V", "W"], &main, block_rows).saying(kind_of);
        let none = vec![Memory::new("r", &["K"], &[], 1)];
        let enrichment = enrichments(vec![(&plan, none)], &source, 1).unwrap();
        let placed = Corrections::new("c", &["K".to_owned()], corrections, |name| Ok(enrichment.headers().find(name)?.column)).unwrap();
        let mut enrichment = enrichment.corrected(Some(placed));
        let mut kept = Kinds::default();
        let found = enrichment.run(&mut source.again(), &mut kept, None, threads).unwrap();
        let rows: Vec<Row> = kept.0.iter().map(|row| row.iter().map(|(cell, _)| cell.clone()).collect()).collect();
        prop_assert_eq!(rows, want);
        let reported: Vec<(u64, u64)> = found.corrected.iter().map(|one| (one.changed, one.same)).collect();
        prop_assert_eq!(reported, counts);
    }
}
