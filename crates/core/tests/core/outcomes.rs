//! What became of each row that goes out, as a format shows it.

use gather_keys_core::Error;
use gather_keys_core::plan::{On, ReferencePlan, Take, WhenDuplicate, WhenUnmatched};
use gather_keys_core::table::{Block, OutputColumns, Renderer, RowOutcome, RowOutcomes, Sink};
use proptest::prelude::*;

use super::memory::{Memory, Row, enrichments};

/// Keeps the first added cell of each row, and what became of the row in each lookup.
#[derive(Default)]
struct Shown(Vec<(String, Vec<RowOutcome>)>);

impl Sink for Shown {
    type Error = Error;
    type Renderer = Showing;

    fn write_headers(&mut self, _: &OutputColumns) -> Result<(), Error> {
        Ok(())
    }

    fn renderer(&self, _: &OutputColumns) -> Showing {
        Showing
    }

    fn write(&mut self, rendered: &mut Vec<(String, Vec<RowOutcome>)>) -> Result<(), Error> {
        self.0.append(rendered);
        Ok(())
    }
}

struct Showing;

impl Renderer for Showing {
    type Rendered = Vec<(String, Vec<RowOutcome>)>;

    fn render(&self, _: &Block, _: &[usize], _: &Block, _: &mut Self::Rendered) {
        unreachable!("outcomes are asked for");
    }

    fn wants_outcomes(&self) -> bool {
        true
    }

    fn render_with_outcomes(
        &self,
        _: &Block,
        rows: &[usize],
        added: &Block,
        outcomes: &RowOutcomes,
        rendered: &mut Self::Rendered,
    ) {
        let all = |nth| (0..3).map(|lookup| outcomes.get(nth, lookup)).collect();
        let row = |nth: usize| (added.cell(nth, 0).to_owned(), all(nth));
        *rendered = (0..rows.len()).map(row).collect();
    }
}

fn cells(columns: usize) -> impl Strategy<Value = Vec<Row>> {
    let cell = prop::sample::select(vec!["a", "b", "c", ""]).prop_map(str::to_owned);
    prop::collection::vec(prop::collection::vec(cell, columns), 0..7)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    /// Each copy of a row has what became of it, also where later references drop some.
    #[test]
    fn each_copy_has_its_own_outcome(
        (main, hives) in (cells(1), cells(2)),
        (graded, kept) in (cells(1), cells(1)),
        (drops, block_rows, threads) in (any::<bool>(), 1_usize..4, 1_usize..3),
    ) {
        let plan = |on: &str, take: &str| ReferencePlan {
            on: On::parse(&[on]).unwrap(),
            take: Some(Take::parse(take).unwrap()),
            when_duplicate: WhenDuplicate::First,
            ..ReferencePlan::default()
        };
        let first = ReferencePlan { when_duplicate: WhenDuplicate::Every, ..plan("K", "Line as New") };
        let second = plan("New = Line", "@row as Grade");
        let mut third = plan("New = Line", "@row as Kept");
        if drops {
            third.when_unmatched = WhenUnmatched::Drop;
        }
        let outcome = |value: &str, rows: &[Row]| match value {
            "" => RowOutcome::BlankKey,
            _ if rows.iter().any(|row| row[0] == value) => RowOutcome::Matched,
            _ => RowOutcome::Unmatched,
        };
        let mut want = Vec::new();
        for row in &main {
            let lines: Vec<&str> =
                hives.iter().filter(|hive| hive[0] == row[0]).map(|hive| &hive[1][..]).collect();
            let lines = if row[0].is_empty() || lines.is_empty() { vec![""] } else { lines };
            for line in lines {
                let all = vec![outcome(&row[0], &hives), outcome(line, &graded), outcome(line, &kept)];
                if !(drops && all[2] == RowOutcome::Unmatched) {
                    want.push((line.to_owned(), all));
                }
            }
        }
        let main = Memory::new("main", &["K"], &main, block_rows);
        let table = |name: &str, headers: &[&str], rows: &[Row]| vec![Memory::new(name, headers, rows, 4)];
        let plans = vec![
            (&first, table("hives", &["K", "Line"], &hives)),
            (&second, table("graded", &["Line"], &graded)),
            (&third, table("kept", &["Line"], &kept)),
        ];
        let mut shown = Shown::default();
        enrichments(plans, &main, threads)
            .unwrap()
            .run(&mut main.again(), &mut shown, None, threads)
            .unwrap();
        prop_assert_eq!(shown.0, want);
    }
}
