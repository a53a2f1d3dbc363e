//! References that build on each other, and references of several tables.

use gather_keys_core::Error;
use gather_keys_core::enrich::{EnrichmentBuilder, NeedsWhole};
use gather_keys_core::findings::Kind;
use gather_keys_core::plan::{On, ReferencePlan, Take, WhenDuplicate, WhenUnmatched, Within};
use gather_keys_core::table::{Arranged, Headers};
use proptest::prelude::*;

use super::memory::{Kept, Memory, Row, enrichments, rows};

fn plan(name: &str, on: &[&str], take: &str, rule: &str) -> ReferencePlan {
    ReferencePlan {
        name: name.to_owned(),
        on: On::parse(on).unwrap(),
        take: Some(Take::parse(take).unwrap()),
        when_duplicate: WhenDuplicate::parse(rule).unwrap(),
        ..ReferencePlan::default()
    }
}

/// What comes out of a main table and one or several references.
fn out(main: &Memory, plans: Vec<(&ReferencePlan, Vec<Memory>)>, threads: usize) -> Vec<Row> {
    let mut enrichment = enrichments(plans, main, threads).unwrap();
    let mut kept = Kept::default();
    enrichment.run(&mut main.again(), &mut kept, None, threads).unwrap();
    kept.0
}

fn table(columns: usize, most: usize) -> impl Strategy<Value = Vec<Row>> {
    let cell = prop::sample::select(vec!["a", "a", "b", "c", ""]).prop_map(str::to_owned);
    prop::collection::vec(prop::collection::vec(cell, columns), 0..most)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// Two references in one run give what two runs give, the second over what the first wrote.
    #[test]
    fn one_run_is_as_good_as_two(
        main in table(2, 8),
        (codes, names) in (table(3, 8), table(2, 8)),
        rule in prop::sample::select(vec!["report", "first", "every", "list"]),
        drops in any::<bool>(),
        (block_rows, threads) in (1_usize..4, 1_usize..4),
    ) {
        let source = Memory::new("main", &["Id", "X"], &main, block_rows);
        let codes = || vec![Memory::new("codes", &["Id", "Code", "Y"], &codes, block_rows)];
        let names = || vec![Memory::new("names", &["Code", "Name"], &names, block_rows)];
        let mut first = plan("codes", &["Id"], "Code, Y", rule);
        if drops {
            first.when_unmatched = WhenUnmatched::Drop;
        }
        let second = plan("names", &["Code"], "Name", "every");
        let both = out(&source, vec![(&first, codes()), (&second, names())], threads);
        let between = out(&source, vec![(&first, codes())], threads);
        let headers = ["Id", "X", "Code", "Y"];
        let between = Memory::new("between", &headers, &between, block_rows);
        prop_assert_eq!(both, out(&between, vec![(&second, names())], 1));
    }

    /// References that a row asks with the same key, which is made but once, give what one run after the
    /// other gives.
    #[test]
    fn the_same_key_may_ask_again(
        main in table(2, 8),
        references in prop::collection::vec(
            (
                table(2, 8),
                prop::sample::select(vec!["Id = K", "Id = K", "X = K", "Id | upper = K | upper"]),
                prop::sample::select(vec!["report", "first", "every"]),
                any::<bool>(),
            ),
            2..4,
        ),
        (block_rows, threads) in (1_usize..4, 1_usize..4),
    ) {
        let named = |nth: usize| format!("V{nth}");
        let plans: Vec<ReferencePlan> = (0..)
            .zip(&references)
            .map(|(nth, (_, on, rule, match_blanks))| ReferencePlan {
                match_blanks: *match_blanks,
                ..plan("r", &[on], &format!("V as {}", named(nth)), rule)
            })
            .collect();
        let tables =
            |nth: usize| vec![Memory::new("r", &["K", "V"], &references[nth].0, block_rows)];
        let source = Memory::new("main", &["Id", "X"], &main, block_rows);
        let together = plans.iter().enumerate().map(|(nth, plan)| (plan, tables(nth))).collect();
        let together = out(&source, together, threads);
        let (mut rows, mut headers) = (main, vec!["Id".to_owned(), "X".to_owned()]);
        for (nth, plan) in plans.iter().enumerate() {
            let names: Vec<&str> = headers.iter().map(String::as_str).collect();
            let between = Memory::new("between", &names, &rows, block_rows);
            rows = out(&between, vec![(plan, tables(nth))], 1);
            headers.push(named(nth));
        }
        prop_assert_eq!(together, rows);
    }

    /// Cut into several tables, with their columns in any order, a reference is what it was, but
    /// that a row is known by its table and its number there.
    #[test]
    fn several_tables_are_one_reference(
        main in table(1, 6),
        reference in table(2, 9),
        cut in 0_usize..9,
        turned in any::<bool>(),
        threads in 1_usize..4,
    ) {
        let cut = cut.min(reference.len());
        let source = Memory::new("main", &["K"], &main, 3);
        let whole = Memory::new("one", &["K", "V"], &reference, 2);
        let (before, behind) = reference.split_at(cut);
        let behind: Vec<Row> = behind
            .iter()
            .map(|row| if turned { vec![row[1].clone(), row[0].clone()] } else { row.clone() })
            .collect();
        let headers = if turned { ["V", "K"] } else { ["K", "V"] };
        let tables =
            vec![Memory::new("one", &["K", "V"], before, 2), Memory::new("two", &headers, &behind, 2)];
        let reported = plan("r", &["K"], "V, @table, @row, @count", "list");
        let one = out(&source, vec![(&reported, vec![whole])], 1);
        for (mut want, row) in one.into_iter().zip(out(&source, vec![(&reported, tables)], threads)) {
            if !want[3].is_empty() {
                let reported = want[3].clone();
                let places = reported.split("; ").map(|row| row.parse::<usize>().unwrap());
                let number = |row: usize| if row > cut { row - cut } else { row };
                let distinct = |texts: Vec<String>| {
                    let mut seen: Vec<String> = Vec::new();
                    for text in texts {
                        if !seen.contains(&text) {
                            seen.push(text);
                        }
                    }
                    seen.join("; ")
                };
                let table = |row| if row > cut { "two" } else { "one" }.to_owned();
                want[2] = distinct(places.clone().map(table).collect());
                // Rows of two tables may have one number, and are two rows all the same.
                let numbers: Vec<String> = places.map(|row| number(row).to_string()).collect();
                want[3] = numbers.join("; ");
            }
            prop_assert_eq!(row, want);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// Where only the rows are kept that a main row asks for, everything comes out the same: the
    /// table, and what is found of main rows and of the keys that they ask for.
    #[test]
    fn asking_first_changes_nothing(
        main in table(2, 6),
        (reference, more) in (table(3, 20), table(3, 5)),
        rule in prop::sample::select(vec!["report", "first", "last", "every", "list"]),
        steps in any::<bool>(),
        (block_rows, threads) in (1_usize..20, 1_usize..4),
    ) {
        let on = if steps { "K | upper" } else { "K" };
        let plan = plan("r", &[on], "V, W as X, @row, @table, @count", rule);
        let source = Memory::new("main", &["K", "M"], &main, block_rows);
        let tables = || vec![
            Memory::new("one", &["K", "V", "W"], &reference, block_rows),
            Memory::new("two", &["K", "V", "W"], &more, block_rows),
        ];
        let run = |asks_first: bool| {
            let headers = tables()[0].headers.clone();
            let mut enrichment = EnrichmentBuilder::new(&source.headers, [1, 2, 3, 4]);
            let found = enrichment.resolve(&plan, &headers, &[]).unwrap();
            assert_eq!(found.needs_whole(2, &[]), None);
            assert_eq!(found.needs_whole(0, &[]), Some(NeedsWhole::Chain));
            let mut builder = found.builder(&plan, &headers, [1, 2, 3, 4]);
            if asks_first {
                builder.filter_by(&found.main_key, &mut source.again()).unwrap();
            }
            for mut table in tables() {
                builder.read(&mut table, threads).unwrap();
            }
            let (lookup, output) = found.lookup(builder.finish().unwrap());
            enrichment.add(lookup, output);
            let mut enrichment = enrichment.finish();
            let mut kept = Kept::default();
            let found = enrichment.run(&mut source.again(), &mut kept, None, threads).unwrap();
            let lookup = enrichment.lookups().next().unwrap();
            let counts = found.lookups[0].counts;
            let of_main = Kind::ALL.map(|kind| match kind {
                // Of keys that nothing asks for nothing is reported.
                Kind::Duplicate | Kind::Conflicting | Kind::Collapsed => 0,
                kind => counts.of(kind),
            });
            let samples: Vec<_> = Kind::OUTCOMES
                .iter()
                .flat_map(|&kind| found.lookups[0].samples(kind))
                .map(|sample| (sample.row, sample.key.clone(), sample.candidates.len()))
                .collect();
            let reference = lookup.reference();
            let unused: Vec<_> = found.lookups[0]
                .unused(lookup)
                .take(3)
                .map(|row| (reference.number(row), reference.line(row), reference.table(row).map(str::to_owned)))
                .collect();
            let asked: Vec<_> = found.lookups[0]
                .groups(lookup)
                .map(|group| group.rows.iter().map(|&row| reference.number(row)).collect::<Vec<_>>())
                .collect();
            (kept.0, of_main, samples, unused, (counts.reference_rows, counts.keyless_rows), asked)
        };
        let (whole, first) = (run(false), run(true));
        prop_assert_eq!(&whole.0, &first.0);
        prop_assert_eq!(whole.1, first.1);
        prop_assert_eq!(&whole.2, &first.2);
        prop_assert_eq!(&whole.3, &first.3);
        prop_assert_eq!(whole.4, first.4);
        // Groups that are reported are among those of the whole reference.
        prop_assert!(first.5.iter().all(|group| whole.5.contains(group)));
    }
}

#[test]
fn tables_of_one_reference_have_the_same_headers() {
    let headers = Headers::new("one", ["A", "B", "B"]);
    let differs = |names: &[&str]| {
        let mut other = Memory::new("two", names, &[], 1);
        Arranged::like(&headers, &mut other).err().map(|d| (d.missing, d.surplus))
    };
    let own = |names: &[&str]| names.iter().map(|&name| name.to_owned()).collect::<Vec<_>>();
    assert_eq!(differs(&["B", "A", "B"]), None);
    assert_eq!(differs(&["A", "B"]), Some((own(&["B#1", "B#2"]), own(&["B"]))));
    assert_eq!(differs(&["A", "B", "B", "C"]), Some((own(&[]), own(&["C"]))));
}

/// A later reference that asks with what an earlier one repeats counts the copies.
#[test]
fn copies_count_where_they_may_differ() {
    let main = Memory::new("main", &["K"], &rows(&[&["a"], &["b"]]), 9);
    let first = plan("first", &["K"], "Code", "every");
    let one = || vec![Memory::new("one", &["K", "Code"], &rows(&[&["a", "x"], &["a", "y"]]), 9)];
    let other = || vec![Memory::new("two", &["Code", "V"], &rows(&[&["x", "1"]]), 9)];
    for (on, counted) in [("Code", [3, 1, 1, 1]), ("K = Code", [2, 0, 2, 0])] {
        let second = plan("second", &[on], "V", "report");
        let plans = vec![(&first, one()), (&second, other())];
        let mut enrichment = enrichments(plans, &main, 1).unwrap();
        let found = enrichment.run(&mut main.again(), &mut Kept::default(), None, 1).unwrap();
        let counts = &found.lookups[1].counts;
        let reported = [Kind::Matched, Kind::Unmatched, Kind::BlankKey].map(|kind| counts.of(kind));
        assert_eq!([counts.main_rows, reported[0], reported[1], reported[2]], counted, "{on}");
    }
}

/// Dates and times in ranges: a day begins at midnight, and as an upper end it ends with the day.
#[test]
fn days_and_times_lie_in_ranges() {
    let matches = |value: &str, lower: &str, upper: &str, within: &str| {
        let main = Memory::new("main", &["V"], &rows(&[&[value]]), 1);
        let reference = Memory::new("r", &["Lo", "Hi", "T"], &rows(&[&[lower, upper, "found"]]), 1);
        let mut ranged = plan("r", &[], "T", "report");
        ranged.on = On::Key(Vec::new());
        ranged.within = Some(Within::parse(within).unwrap());
        match enrichments(vec![(&ranged, vec![reference])], &main, 1) {
            Ok(mut enrichment) => {
                let mut kept = Kept::default();
                enrichment.run(&mut main.again(), &mut kept, None, 1).unwrap();
                kept.0[0][1] == "found"
            }
            Err(Error::NoPosition { .. }) => false,
            Err(other) => panic!("{other}"),
        }
    };
    let (closed, open) = ("V in Lo .. Hi", "V in Lo ..< Hi");
    for (value, lower, upper, within, want) in [
        ("2026-03-31", "2026-01-01", "2026-03-31", closed, true),
        ("2026-03-31 18:00", "2026-01-01", "2026-03-31", closed, true),
        ("2026-04-01 00:00", "2026-01-01", "2026-03-31", closed, false),
        ("2026-03-31", "2026-01-01", "2026-03-31", open, false),
        ("2026-03-30 23:59:59", "2026-01-01", "2026-03-31", open, true),
        ("2026-03-31", "2026-01-01", "2026-03-31 08:00", closed, true),
        ("2026-01-01", "2026-01-01 08:00", "2026-03-31", closed, false),
        ("31.3.2026", "2026-01-01", "2026-03-31", closed, false),
        ("31.3.2026", "2026-01-01", "2026-03-31", "V | date %d.%m.%Y in Lo .. Hi", true),
        ("2026-03-31", "2026-01-01", "", "V in Lo .. Hi | or \"9999-12-31\"", true),
        ("7", "6.5", "7.0", closed, true),
        ("007", "7", "7", closed, true),
        ("7", "2026-01-01", "2026-03-31", closed, false),
        ("2026-03-31T10:00Z", "2026-01-01", "2026-12-31", closed, false),
        ("2026-03-31", "2026-12-31", "2026-01-01", closed, false),
        ("2026-03-31", "2026-01-01", "9", closed, false),
    ] {
        assert_eq!(matches(value, lower, upper, within), want, "{value} {lower} {upper} {within}");
    }
}
