//! Reverse, two-way and ranged lookups, and those by position, against a naive truth: for random
//! small tables every row comes out as a look at all reference rows makes it, under every rule.

use std::collections::HashMap;

use super::memory::{Kept, Memory, Row, enrichment, rows};
use gather_keys_core::Error;
use gather_keys_core::findings::Kind;
use gather_keys_core::plan::{On, Reach, ReferencePlan, Take, WhenDuplicate, Within};
use proptest::prelude::*;

const MAIN: [&str; 3] = ["K", "V", "M"];
const REFERENCE: [&str; 8] = ["Id", "K", "P", "Q", "Lo", "Hi", "May", "June"];

/// How rows of the reference are found.
#[derive(Debug, Clone, Copy)]
struct Shape {
    on: &'static [&'static str],
    /// The columns of which any may hold the main row's K.
    held_in: &'static [usize],
    within: Option<&'static str>,
    reach: Option<&'static str>,
    take: &'static str,
}

const PLAIN: Shape =
    Shape { on: &["K"], held_in: &[1], within: None, reach: None, take: "Id, May" };
const REVERSE: Shape = Shape { on: &["K = any(Q, P)"], held_in: &[3, 2], ..PLAIN };
const WITHIN: Shape = Shape { within: Some("V in Lo .. Hi"), ..PLAIN };

const SHAPES: [Shape; 14] = [
    REVERSE,
    Shape { take: "Id, @column, @count", ..REVERSE },
    Shape { take: "{M} as X, @row", ..REVERSE },
    Shape { take: "{M} as X", ..PLAIN },
    Shape { take: "Id, {M} as X, {M}", ..PLAIN },
    WITHIN,
    Shape { within: Some("V in Lo ..< Hi"), take: "@count, Id", ..WITHIN },
    Shape { on: &[], held_in: &[], ..WITHIN },
    Shape { within: Some("V in Lo .."), ..WITHIN },
    Shape { within: Some("V in Lo .."), reach: Some("1"), ..WITHIN },
    Shape { within: Some("V in .. Hi"), reach: Some("1.5"), ..WITHIN },
    Shape { within: Some("V in .. Hi"), on: &[], held_in: &[], ..WITHIN },
    Shape { take: "{M} as X, Id", within: Some("V in Lo .. Hi"), ..REVERSE },
    Shape { on: &["@row"], held_in: &[], ..PLAIN },
];

const RULES: [&str; 6] = ["report", "first", "last", "every", "list", "highest Id"];

/// Where a key is held: the column, by its place in `held_in`, and the row.
type Held = (usize, usize);

fn number(cell: &str) -> Option<f64> {
    cell.parse().ok()
}

/// The reference rows that count for a main row, or the kind that it is without any.
fn candidates(shape: Shape, main: &Row, nth: usize, reference: &[Row]) -> Result<Vec<Held>, Kind> {
    if shape.on == ["@row"] {
        return if nth < reference.len() { Ok(vec![(0, nth)]) } else { Err(Kind::Unmatched) };
    }
    let keyed = !shape.on.is_empty();
    if shape.within.is_some() && !main[1].is_empty() && number(&main[1]).is_none() {
        return Err(Kind::Malformed);
    }
    if keyed && main[0].is_empty() || shape.within.is_some() && main[1].is_empty() {
        return Err(Kind::BlankKey);
    }
    let mut held: Vec<Held> = Vec::new();
    let columns = if keyed { shape.held_in } else { &[0] };
    for (place, &column) in columns.iter().enumerate() {
        let rows = (0..reference.len()).filter(|&row| !keyed || reference[row][column] == main[0]);
        held.extend(rows.map(|row| (place, row)));
    }
    if let Some(within) = shape.within {
        let value = number(&main[1]).unwrap();
        let lower = |row: usize| number(&reference[row][4]);
        let upper = |row: usize| number(&reference[row][5]);
        let reach = shape.reach.map_or(f64::INFINITY, |reach| number(reach).unwrap());
        match within {
            "V in Lo .. Hi" => held.retain(|&(_, row)| {
                lower(row).is_some_and(|l| l <= value) && upper(row).is_some_and(|u| value <= u)
            }),
            "V in Lo ..< Hi" => held.retain(|&(_, row)| {
                lower(row).is_some_and(|l| l <= value) && upper(row).is_some_and(|u| value < u)
            }),
            "V in Lo .." => {
                let before = held.iter().filter_map(|&(_, row)| lower(row));
                let best =
                    before.filter(|l| *l <= value && value - l <= reach).max_by(f64::total_cmp);
                held.retain(|&(_, row)| best.is_some() && lower(row) == best);
            }
            _ => {
                let after = held.iter().filter_map(|&(_, row)| upper(row));
                let best =
                    after.filter(|u| *u >= value && u - value <= reach).min_by(f64::total_cmp);
                held.retain(|&(_, row)| best.is_some() && upper(row) == best);
            }
        }
    }
    if held.is_empty() {
        return Err(Kind::Unmatched);
    }
    if shape.take.contains("{M}") {
        match &main[2][..] {
            "" => return Err(Kind::BlankKey),
            "May" | "June" => {}
            _ => return Err(Kind::NoHeader),
        }
    }
    Ok(held)
}

/// The rows that a rule takes cells from; each set is a row of the output.
fn settle(
    rule: &str,
    rows: &[usize],
    agree: bool,
    reference: &[Row],
    equal: impl Fn(usize, usize) -> bool,
) -> Option<Vec<Vec<usize>>> {
    if rule == "every" && rows.len() > 1 {
        return Some(rows.iter().map(|&row| vec![row]).collect());
    }
    if agree {
        return Some(vec![vec![rows[0]]]);
    }
    match rule {
        "first" => Some(vec![vec![rows[0]]]),
        "list" => Some(vec![rows.to_vec()]),
        "highest Id" => {
            let rank = |row: usize| number(&reference[row][0]).unwrap();
            let best = rows.iter().copied().max_by(|&a, &b| rank(a).total_cmp(&rank(b)))?;
            let tied: Vec<usize> =
                rows.iter().copied().filter(|&r| rank(r).total_cmp(&rank(best)).is_eq()).collect();
            tied.iter().all(|&row| equal(row, tied[0])).then(|| vec![vec![tied[0]]])
        }
        _ => None,
    }
}

/// The output and the counts, by looking at everything.
fn truth(
    shape: Shape,
    rule: &str,
    main: &[Row],
    reference: &[Row],
) -> (Vec<Row>, HashMap<Kind, u64>) {
    let mut counts = HashMap::new();
    let mut out = Vec::new();
    let mut used = vec![false; reference.len()];
    let take: Vec<&str> = shape.take.split(", ").collect();
    for (nth, row) in main.iter().enumerate() {
        let mut put =
            |cells: Vec<String>| out.push(row.iter().cloned().chain(cells).collect::<Row>());
        let held = match candidates(shape, row, nth, reference) {
            Ok(held) => held,
            Err(kind) => {
                let outcome = if kind == Kind::NoHeader { Kind::Unmatched } else { kind };
                *counts.entry(outcome).or_insert(0) += 1;
                if kind == Kind::NoHeader {
                    *counts.entry(kind).or_insert(0) += 1;
                }
                let cell = |take: &&str| match (*take, kind) {
                    ("@count", Kind::Unmatched | Kind::NoHeader) => "0".to_owned(),
                    _ => String::new(),
                };
                put(take.iter().map(cell).collect());
                continue;
            }
        };
        for &(_, row) in &held {
            used[row] = true;
        }
        let mut rows: Vec<usize> = Vec::new();
        for &(_, row) in &held {
            if !rows.contains(&row) {
                rows.push(row);
            }
        }
        let columns = |row: usize| -> Vec<usize> {
            held.iter().filter(|held| held.1 == row).map(|held| shape.held_in[held.0]).collect()
        };
        let value = |take: &str, from: usize| match take {
            "Id" => reference[from][0].clone(),
            "May" => reference[from][6].clone(),
            _ => reference[from][if row[2] == "May" { 6 } else { 7 }].clone(),
        };
        let equal = |a: usize, b: usize| {
            let compared = take.iter().filter(|take| !take.starts_with('@'));
            compared.clone().all(|take| value(take, a) == value(take, b))
                && (!take.contains(&"@column") || columns(a) == columns(b))
        };
        let agree = rows.iter().all(|&row| equal(row, rows[0]));
        let settled = match rule {
            "last" if !agree => held.last().map(|&(_, row)| vec![vec![row]]),
            rule => settle(rule, &rows, agree, reference, equal),
        };
        let kind = if settled.is_some() { Kind::Matched } else { Kind::Ambiguous };
        *counts.entry(kind).or_insert(0) += 1;
        if settled.is_some() && !agree {
            *counts.entry(Kind::Chosen).or_insert(0) += 1;
        }
        for givers in settled.unwrap_or_else(|| vec![Vec::new()]) {
            let cell = |take: &&str| {
                let mut all: Vec<String> = Vec::new();
                for &giver in &givers {
                    match *take {
                        "@count" => {}
                        "@row" => all.push((giver + 1).to_string()),
                        "@column" => {
                            all.extend(columns(giver).iter().map(|&c| REFERENCE[c].to_owned()));
                        }
                        take => all.push(value(take, giver)),
                    }
                }
                if *take == "@count" {
                    all.push(rows.len().to_string());
                }
                let mut distinct: Vec<String> = Vec::new();
                for value in all {
                    if !value.is_empty() && !distinct.contains(&value) {
                        distinct.push(value);
                    }
                }
                distinct.join("; ")
            };
            put(take.iter().map(cell).collect());
        }
    }
    let unused = used.iter().filter(|used| !**used).count() as u64;
    counts.insert(Kind::Unused, unused);
    (out, counts)
}

fn cells(values: &'static [&'static str]) -> impl Strategy<Value = String> {
    prop::sample::select(values).prop_map(str::to_owned)
}

fn main_rows() -> impl Strategy<Value = Vec<Row>> {
    let row = (
        cells(&["a", "a", "b", ""]),
        cells(&["1", "2", "3", "4", "5", "", "x"]),
        cells(&["May", "May", "June", "Juni", ""]),
    );
    prop::collection::vec(row.prop_map(|(k, v, m)| vec![k, v, m]), 0..10)
}

fn reference_rows() -> impl Strategy<Value = Vec<Row>> {
    let key = || cells(&["a", "b", "c", ""]);
    let bound = || cells(&["1", "2", "3", "3", "4", "5", "", "x"]);
    let taken = || cells(&["m", "n", ""]);
    let row = (cells(&["1", "2", "3"]), key(), key(), key(), bound(), bound(), taken(), taken());
    let row = row.prop_map(|(id, k, p, q, lo, hi, may, june)| vec![id, k, p, q, lo, hi, may, june]);
    prop::collection::vec(row, 0..9)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6000))]

    #[test]
    fn every_answer_is_the_naive_one(
        main in main_rows(),
        reference in reference_rows(),
        (block_rows, threads) in (1_usize..5, 1_usize..4),
        shape in prop::sample::select(SHAPES.to_vec()),
        rule in prop::sample::select(RULES.to_vec()),
    ) {
        let plan = ReferencePlan {
            name: "reference".to_owned(),
            on: On::parse(shape.on).unwrap(),
            within: shape.within.map(|within| Within::parse(within).unwrap()),
            reach: shape.reach.map(|reach| Reach::parse(reach).unwrap()),
            when_duplicate: WhenDuplicate::parse(rule).unwrap(),
            take: Some(Take::parse(shape.take).unwrap()),
            ..ReferencePlan::default()
        };
        let mut source = Memory::new("main", &MAIN, &main, block_rows);
        let other = Memory::new("reference", &REFERENCE, &reference, block_rows);
        let mut enrichment = match super::memory::enrichment(&plan, &source, other, threads) {
            Ok(enrichment) => enrichment,
            Err(Error::NoPosition { .. }) => {
                let bounds = reference.iter().flat_map(|row| [&row[4], &row[5]]);
                prop_assert!(bounds.clone().any(|bound| bound == "x"));
                return Ok(());
            }
            Err(other) => return Err(TestCaseError::fail(other.to_string())),
        };
        let mut kept = Kept::default();
        let findings = enrichment.run(&mut source, &mut kept, None, threads).unwrap();
        let (want, counts) = truth(shape, rule, &main, &reference);
        prop_assert_eq!(kept.0, want);
        let found = &findings.lookups[0].counts;
        let reported = [Kind::Matched, Kind::Chosen, Kind::Unmatched, Kind::NoHeader, Kind::Ambiguous,
            Kind::BlankKey, Kind::Malformed, Kind::Unused];
        for kind in reported {
            prop_assert_eq!(found.of(kind), counts.get(&kind).copied().unwrap_or(0), "{}", kind.label());
        }
        let outcomes: u64 = Kind::OUTCOMES.iter().map(|&kind| found.of(kind)).sum();
        prop_assert_eq!(outcomes, main.len() as u64);
        let lookup = enrichment.lookups().next().unwrap();
        let ambiguous = found.of(Kind::Ambiguous);
        prop_assert!(ambiguous == 0 || lookup.reference().groups().any(|group| group.conflicting));
    }
}

#[test]
fn a_key_behind_a_malformed_one_is_sought() {
    let main =
        rows(&[&["x", ""], &["x", "n/a"], &["x", ""], &["x", "7"], &["x", "n/a"], &["x", "7"]]);
    let main = Memory::new("main", &["A", "N"], &main, 9);
    let reference = rows(&[&["x", "", "blank"], &["x", "7", "seven"]]);
    let reference = Memory::new("reference", &["A", "N", "V"], &reference, 9);
    let plan = ReferencePlan {
        name: "reference".to_owned(),
        on: On::parse(&["A", "N | number"]).unwrap(),
        take: Some(Take::parse("V").unwrap()),
        match_blanks: true,
        ..ReferencePlan::default()
    };
    let mut kept = Kept::default();
    let mut made = enrichment(&plan, &main, reference, 1).unwrap();
    made.run(&mut main.again(), &mut kept, None, 1).unwrap();
    let taken: Vec<&str> = kept.0.iter().map(|row| &row[2][..]).collect();
    assert_eq!(taken, ["blank", "", "blank", "seven", "", "seven"]);
}
