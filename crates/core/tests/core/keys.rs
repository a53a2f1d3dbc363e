//! Templates and keys: parts never run together, a key that was made can be split, and no text makes the
//! parser panic.

use super::memory::{Kept, Memory};
use gather_keys_core::findings::{Counts, Kind};
use gather_keys_core::key::Key;
use gather_keys_core::lookup::{Reference, ReferenceBuilder};
use gather_keys_core::plan::{OnPart, Take, parse_blanks};
use gather_keys_core::survey::key_column;
use gather_keys_core::template::{SplitError, Template, read_steps};
use gather_keys_core::{Error, findings::Gate};
use proptest::prelude::*;

/// A table in memory, given out at once.
fn table(headers: &[&str], rows: &[Vec<String>]) -> Memory {
    Memory::new("table", headers, rows, rows.len())
}

/// The cells that were added to each row, after its `own` cells.
fn added(kept: Kept, own: usize) -> Vec<Vec<String>> {
    kept.0.into_iter().map(|mut row| row.split_off(own)).collect()
}

fn census(templates: &[&str], headers: &[&str], rows: &[Vec<String>], blanks: &str) -> Reference {
    let mut table = self::table(headers, rows);
    let parts = templates.iter().map(|text| Template::parse("template", text).unwrap());
    let parts = parts.map(|template| template.bind(&table.headers).unwrap()).collect();
    let blanks = if blanks.is_empty() { Vec::new() } else { parse_blanks(blanks).unwrap() };
    let builder =
        key_column::census("table", &table.headers, Key::new(parts, blanks), [5, 6, 7, 8]);
    Reference::load(builder, &mut table).unwrap()
}

fn rows(cells: &[&[&str]]) -> Vec<Vec<String>> {
    cells.iter().map(|row| row.iter().map(|&cell| cell.to_owned()).collect()).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    /// A key that is made can be split into its columns; where it can't, making it reports so.
    #[test]
    fn made_and_split_again(
        rows in prop::collection::vec(prop::collection::vec("[ab/-é\u{301}👩🏽]{0,4}", 3), 1..6),
        template in prop::sample::select(vec![
            "{A}/{B}/{C}", "{A}-{B}{C | last 2}", "{A | pad 3}{B | first 1}/{C}", "<{A}>{B}<{C}>",
            "{A}{B}{C}", "{A}--{B}/{C | or \"\"}", "{C}{{{A}}}{B}",
        ]),
    ) {
        let template = Template::parse("template", template).unwrap();
        let mut table = self::table(&["A", "B", "C"], &rows);
        let bound = template.bind(&table.headers).unwrap();
        let mut keys = Kept::default();
        let made = key_column::make(&mut table, &mut keys, &bound, &[], "Key", [1, 2, 3, 4]).unwrap();
        let keys = added(keys, 3);
        let (mut inseparable, mut blank) = (0, 0);
        for (row, key) in rows.iter().zip(&keys) {
            if key[0].is_empty() {
                blank += 1;
                continue;
            }
            let values = bound.placeholder_values(|column| &row[column][..], &[]);
            let values: Vec<String> = values.into_iter().flatten().collect();
            inseparable += u64::from(template.split(&key[0]) != Ok(values));
        }
        prop_assert_eq!(made.inseparable, inseparable);
        prop_assert_eq!(made.census.keyless().len(), blank);

        // Splitting the column does the same for every row.
        let mut table = self::table(&["Key"], &keys);
        let mut parts = Kept::default();
        let names = ["A", "B", "C"].map(str::to_owned);
        let taken = key_column::split(&mut table, &mut parts, &template, 0, &names).unwrap();
        let parts = added(parts, 1);
        let apart = taken.rows - taken.blank - taken.no_way - taken.several_ways;
        prop_assert_eq!(taken.rows, rows.len() as u64);
        prop_assert!(apart >= rows.len() as u64 - blank as u64 - made.inseparable);
        for (key, parts) in keys.iter().zip(&parts) {
            match template.split(&key[0]) {
                Ok(values) => prop_assert_eq!(&values, parts),
                Err(_) => prop_assert!(parts.iter().all(String::is_empty)),
            }
        }
    }

    /// Whatever the parts hold, rows have one key only when they are equal part by part.
    #[test]
    fn parts_never_run_together(
        rows in prop::collection::vec(prop::collection::vec("[AB\u{0}\u{1}|,;@é]{1,3}", 2), 2..10),
        templates in prop::sample::select(vec![["A", "B"], ["{A}", "{B | or \"x\"}"], ["A | trim", "B"]]),
    ) {
        let census = census(&templates, &["A", "B"], &rows, "");
        let mut distinct = rows.clone();
        distinct.sort();
        distinct.dedup();
        prop_assert_eq!(census.keys(), distinct.len() as u64);
        for group in census.groups() {
            let first = &rows[census.number(group.rows[0]) as usize - 1];
            for row in &group.rows {
                prop_assert_eq!(&rows[census.number(*row) as usize - 1], first);
            }
            prop_assert!(!group.collapsed);
        }
    }

    /// No text makes a parser panic, and each error marks a place within the text.
    #[test]
    fn no_text_makes_a_parser_panic(
        text in "\\PC{0,20}|([a-z]{0,6}|[{}|=,\" ]|first|pad|date|number|replace|[0-9]|é){0,12}",
    ) {
        let errors = [
            Template::parse("template", &text).err(),
            OnPart::parse(&text).err(),
            Take::parse(&text).err(),
            read_steps("clean", &text).err(),
            parse_blanks(&text).err(),
            Gate::parse(&text).err(),
        ];
        for error in errors.into_iter().flatten() {
            let reported = error.to_string();
            match error {
                Error::Malformed { at, .. } => prop_assert!(text.get(at..).is_some(), "{}", reported),
                other => return Err(TestCaseError::fail(other.to_string())),
            }
        }
    }
}

#[test]
fn a_key_says_what_became_of_each_row() {
    let rows = rows(&[
        &["Fellside ", "007"],
        &["fellside", "7.0"],
        &["Larkfield", "NA"],
        &["Larkfield", "seven"],
        &["Larkfield", "7"],
        &[" ", "8"],
        &["Mill Race", "- "],
    ]);
    let census =
        census(&["Apiary | tidy | fold", "Hive | number"], &["Apiary", "Hive"], &rows, "NA, -");
    let numbers = |ids: &[gather_keys_core::lookup::RowId]| -> Vec<u64> {
        ids.iter().map(|&id| census.number(id)).collect()
    };
    assert_eq!(numbers(census.keyless()), [3, 6, 7]);
    assert_eq!(numbers(census.malformed()), [4]);
    let groups: Vec<_> = census.groups().collect();
    assert_eq!(numbers(&groups[0].rows), [1, 2]);
    assert!(groups[0].collapsed && groups.len() == 1);
    assert_eq!(census.as_read(groups[0].entries[0]), ["Fellside ", "007"]);
    assert_eq!(census.as_compared(groups[0].entries[1]).collect::<Vec<_>>(), ["fellside", "7"]);
    let counts = Counts::of_table(&census);
    let reported = Counts::OF_A_TABLE.map(|kind| counts.of(kind));
    assert_eq!((reported, counts.total(Kind::Repeated)), ([3, 1, 1], 2));
    let bad = census.unreadable(census.malformed()[0]).unwrap();
    assert_eq!((bad.column, &bad.step[..], &bad.value[..]), (1, "number", "seven"));
}

#[test]
fn a_part_is_blank_when_a_placeholder_is() {
    let rows = rows(&[&["a", "b"], &["a", ""], &["", "b"], &["", ""]]);
    for (template, keyless) in [
        ("{A}-{B}", vec![2, 3, 4]),
        ("{A}-{B | or \"\"}", vec![3, 4]),
        ("{A | or \"\"}{B | or \"\"}", vec![4]),
        ("{A}-{B | or \"none\"}", vec![3, 4]),
    ] {
        let census = census(&[template], &["A", "B"], &rows, "");
        let found: Vec<u64> = census.keyless().iter().map(|&row| census.number(row)).collect();
        assert_eq!(found, keyless, "{template}");
    }
}

#[test]
fn a_value_comes_apart_in_one_way_or_not_at_all() {
    let own = |values: &[&str]| Ok(values.iter().map(|&value| value.to_owned()).collect());
    for (template, value, want) in [
        ("{A}/{B}", "x/y", own(&["x", "y"])),
        ("{A}/{B}", "x", Err(SplitError::NoWay)),
        ("{A}/{B}", "x/", Err(SplitError::NoWay)),
        ("{A}/{B | or \"\"}", "x/", own(&["x", ""])),
        ("{A}/{B}", "x/y/z", Err(SplitError::SeveralWays)),
        ("{A}{B}", "xy", own(&["x", "y"])),
        ("{A}{B}", "xyz", Err(SplitError::SeveralWays)),
        ("{A}{B | last 2}", "xyz", own(&["x", "yz"])),
        ("{A | first 2}{B}{C | pad 3}", "abc007", own(&["ab", "c", "007"])),
        ("[{A}]", "[x]", own(&["x"])),
        ("[{A}]", "[x", Err(SplitError::NoWay)),
        ("{A}e{B}", "xe\u{301}ey", own(&["xe\u{301}", "y"])),
    ] {
        let template = Template::parse("template", template).unwrap();
        assert_eq!(template.split(value), want, "{template} on {value}");
    }
}

/// Nothing but the keys is kept of a census.
#[test]
fn a_census_takes_nothing() {
    let mut table = self::table(&["A", "B"], &rows(&[&["1", "x"], &["1", "y"]]));
    let key = Key::new(
        vec![Template::of_steps("A", Vec::new()).bind(&table.headers).unwrap()],
        Vec::new(),
    );
    let builder: ReferenceBuilder = key_column::census("t", &table.headers, key, [0; 4]);
    let census = Reference::load(builder, &mut table).unwrap();
    assert!(census.taken().is_empty() && census.groups().all(|group| !group.conflicting));
}
