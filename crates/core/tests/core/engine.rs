//! The engine against a naive truth: for random small tables, every answer and every count is what
//! comparing all rows with all rows gives.

use std::collections::HashMap;

use super::memory::{Kept, Memory, Row, rows};
use gather_keys_core::Error;
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{AskedBy, Counts, Findings, Kind, MainFinding, Recorder};
use gather_keys_core::plan::{On, ReferencePlan, Take, WhenDuplicate};
use proptest::prelude::*;

/// A finding of a main row: its number, the kind, and who asked for its key before.
type Told = (u64, Kind, Option<u64>);

/// Keeps every finding.
#[derive(Default)]
struct Recorded(Vec<Told>);

impl Recorder for Recorded {
    type Error = Error;

    fn main_row(&mut self, finding: &MainFinding<'_>) -> Result<(), Error> {
        let row = finding.row.number();
        let asked_by = finding.asked_by.map(|by| match by {
            AskedBy::Row(row) => row,
            AskedBy::Named(_) => 0,
        });
        self.0.push((row, finding.kind, asked_by));
        Ok(())
    }
}

const MAIN: [&str; 4] = ["A", "B", "C", "Note"];
const REFERENCE: [&str; 5] = ["x", "k2", "y", "k1", "k3"];
/// The key's columns in either table, and the taken columns.
const MAIN_KEY: [usize; 3] = [0, 1, 2];
const REFERENCE_KEY: [usize; 3] = [3, 1, 4];
const TAKEN: [usize; 2] = [2, 0];

/// How a key is written in `on`, and what it makes of each cell; `None` when it can't read it.
type Reading = (&'static str, fn(&str) -> Option<String>);

const READINGS: [Reading; 3] = [
    ("A = k1, B = k2, C = k3", |cell| Some(cell.to_owned())),
    (
        "A | tidy | fold = k1 | tidy | fold, B | trim | lower = k2 | fold | trim, \
         C | trim | fold = k3 | trim | lower",
        |cell| Some(cell.trim().to_lowercase()),
    ),
    ("A | number = k1 | number, B | number = k2 | number, C | number = k3 | number", |cell| {
        match cell.trim() {
            "" => Some(String::new()),
            digits => digits.parse::<u64>().ok().map(|number| number.to_string()),
        }
    }),
];

/// What the rules for keys whose rows disagree make of them, from the taken cells of each row and
/// its `x`: the cells of each output row, or nothing where they can't settle it.
type Settle = fn(&[[String; 2]]) -> Option<Vec<[String; 2]>>;

/// A rule as it is written, whether it settles agreeing rows too, and what it makes of them.
const RULES: [(&str, bool, Settle); 6] = [
    ("report", false, |_| None),
    ("first", false, |rows| Some(vec![rows[0].clone()])),
    ("last", false, |rows| rows.last().cloned().map(|row| vec![row])),
    ("every", true, |rows| Some(rows.to_vec())),
    ("list", false, |rows| {
        let distinct = |column: usize| {
            let mut seen: Vec<String> = Vec::new();
            for row in rows {
                if !row[column].is_empty() && !seen.contains(&row[column]) {
                    seen.push(row[column].clone());
                }
            }
            seen.join("; ")
        };
        Some(vec![[distinct(0), distinct(1)]])
    }),
    ("highest x", false, |rows| {
        let ranks: Option<Vec<u64>> = rows.iter().map(|row| row[1].trim().parse().ok()).collect();
        let ranks = ranks?;
        let best = *ranks.iter().max()?;
        let mut tied: Vec<_> = rows.iter().zip(&ranks).filter(|(_, rank)| **rank == best).collect();
        tied.dedup_by_key(|(row, _)| (*row).clone());
        (tied.len() == 1).then(|| vec![tied[0].0.clone()])
    }),
];

/// What each main row should come out as, by comparing it with every reference row.
fn truth(
    main: &[Row],
    reference: &[Row],
    read: fn(&str) -> Option<String>,
    (every, settle): (bool, Settle),
) -> (Vec<Row>, HashMap<Kind, u64>) {
    let key = |row: &Row, columns: [usize; 3]| columns.map(|column| read(&row[column]));
    let readable = |key: &[Option<String>; 3]| !key.contains(&None);
    let whole = |key: &[Option<String>; 3]| readable(key) && !key.contains(&Some(String::new()));
    let taken = |row: &Row| TAKEN.map(|column| row[column].clone());
    let mut counts = HashMap::new();
    let mut count = |kind, by: usize| *counts.entry(kind).or_insert(0) += by as u64;
    let mut out = Vec::new();
    for row in main {
        let asked = key(row, MAIN_KEY);
        let entries: Vec<&Row> =
            reference.iter().filter(|other| key(other, REFERENCE_KEY) == asked).collect();
        let agree = entries.iter().all(|other| taken(other) == taken(entries[0]));
        let (kind, cells) = match (whole(&asked), &entries[..]) {
            (false, _) if !readable(&asked) => (Kind::Malformed, [const { String::new() }; 2]),
            (false, _) => (Kind::BlankKey, [const { String::new() }; 2]),
            (true, []) => (Kind::Unmatched, [const { String::new() }; 2]),
            (true, [first, ..]) if agree && !(every && entries.len() > 1) => {
                (Kind::Matched, taken(first))
            }
            (true, _) => {
                let all: Vec<[String; 2]> = entries.iter().map(|other| taken(other)).collect();
                match settle(&all) {
                    Some(settled) => {
                        count(Kind::Matched, 1);
                        count(Kind::Chosen, usize::from(!agree));
                        for cells in settled {
                            out.push(row.iter().cloned().chain(cells).collect());
                        }
                        continue;
                    }
                    None => (Kind::Ambiguous, [const { String::new() }; 2]),
                }
            }
        };
        count(kind, 1);
        out.push(row.iter().cloned().chain(cells).collect());
    }
    let mut seen: Vec<[Option<String>; 3]> = Vec::new();
    for row in reference {
        let held = key(row, REFERENCE_KEY);
        let askers = main.iter().filter(|other| key(other, MAIN_KEY) == held).count();
        let used = whole(&held) && askers > 0;
        count(Kind::Unused, usize::from(!used));
        if whole(&held) && !seen.contains(&held) {
            let mut entries = reference.iter().filter(|other| key(other, REFERENCE_KEY) == held);
            let spelled = |other: &Row| REFERENCE_KEY.map(|column| other[column].clone());
            let same = entries.clone().all(|other| spelled(other) == spelled(row));
            count(Kind::Collapsed, usize::from(!same));
            let first = entries.next().map(taken);
            let others: Vec<_> = entries.map(taken).collect();
            let agree = others.iter().all(|other| Some(other) == first.as_ref());
            count(Kind::Duplicate, usize::from(!others.is_empty() && agree));
            count(Kind::Conflicting, usize::from(!agree));
            count(Kind::Repeated, usize::from(askers > 1));
            seen.push(held);
        }
    }
    (out, counts)
}

fn enrichment(main: &Memory, reference: Memory, on: &str, take: &str, rule: &str) -> Enrichment {
    let plan = ReferencePlan {
        name: "reference".to_owned(),
        on: On::parse(&[on]).unwrap(),
        when_duplicate: WhenDuplicate::parse(rule).unwrap(),
        take: Some(Take::parse(take).unwrap()),
        ..ReferencePlan::default()
    };
    super::memory::enrichment(&plan, main, reference, 2).unwrap()
}

fn run(
    enrichment: &mut Enrichment,
    main: &mut Memory,
    threads: usize,
) -> (Vec<Row>, Findings, Vec<Told>) {
    let (mut kept, mut recorded) = (Kept::default(), Recorded::default());
    let findings = enrichment.run(main, &mut kept, Some(&mut recorded), threads).unwrap();
    (kept.0, findings, recorded.0)
}

fn table(columns: usize, most: usize) -> impl Strategy<Value = Vec<Row>> {
    // Few values, so that keys repeat; some blank, some that only glued-together parts confuse.
    let cell = prop_oneof![
        9 => Just("A"),
        4 => Just("a "),
        6 => Just("7"),
        3 => Just("007"),
        1 => Just(""),
        1 => Just("AB"),
        1 => Just("B"),
        1 => Just("\""),
        1 => Just("\u{0}"),
    ];
    prop::collection::vec(prop::collection::vec(cell.prop_map(str::to_owned), columns), 0..most)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]

    #[test]
    fn every_answer_and_count_is_the_naive_one(
        main in table(4, 12),
        reference in table(5, 12),
        (block_rows, threads) in (1_usize..5, 1_usize..4),
        (on, read) in prop::sample::select(READINGS.to_vec()),
        (rule, every, settle) in prop::sample::select(RULES.to_vec()),
    ) {
        let mut source = Memory::new("main", &MAIN, &main, block_rows);
        let other = Memory::new("reference", &REFERENCE, &reference, block_rows);
        let mut enrichment = enrichment(&source, other, on, "y, x", rule);
        let (rows, findings, recorded) = run(&mut enrichment, &mut source, threads);
        let (want, counts) = truth(&main, &reference, read, (every, settle));
        prop_assert_eq!(rows, want);
        let found = &findings.lookups[0].counts;
        for kind in Kind::ALL {
            let want = counts.get(&kind).copied().unwrap_or(0);
            prop_assert_eq!(found.of(kind), want, "{}", kind.label());
        }
        prop_assert_eq!(sum(found), findings.main_rows);
        for kind in [Kind::Unmatched, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed] {
            let reported = recorded.iter().filter(|finding| finding.1 == kind);
            prop_assert_eq!(reported.count() as u64, found.of(kind));
        }
        prop_assert_eq!(findings.lookups[0].unused(enrichment.lookups().next().unwrap()).count() as u64,
            found.of(Kind::Unused));
    }
}

fn sum(counts: &Counts) -> u64 {
    Kind::OUTCOMES.iter().map(|&kind| counts.of(kind)).sum()
}

#[test]
fn a_repeated_key_names_the_row_that_asked_first() {
    let main = rows(&[&["a"], &["b"], &["a"], &["c"], &["a"], &["c"]]);
    let reference = rows(&[&["a", "1"], &["c", "2"]]);
    let mut source = Memory::new("main", &["K"], &main, 2);
    let other = Memory::new("reference", &["K", "V"], &reference, 9);
    let mut enrichment = enrichment(&source, other, "K", "V", "report");
    let (_, findings, recorded) = run(&mut enrichment, &mut source, 2);
    let repeated: Vec<_> = recorded.into_iter().filter(|f| f.1 == Kind::Repeated).collect();
    let want = [(3, 1), (5, 1), (6, 4)].map(|(row, by)| (row, Kind::Repeated, Some(by)));
    assert_eq!(repeated, want);
    assert_eq!(findings.lookups[0].counts.of(Kind::Repeated), 2);
}

#[test]
fn a_group_names_its_rows_and_what_they_disagree_on() {
    let reference = rows(&[
        &["a", "1", "x"],
        &["b", "1", "x"],
        &["a", "1", "y"],
        &["", "1", "x"],
        &["b", "1", "x"],
        &["a", "1", "x"],
    ]);
    let source = Memory::new("main", &["K"], &[], 2);
    let other = Memory::new("reference", &["K", "V", "W"], &reference, 4);
    let enrichment = enrichment(&source, other, "K", "V, W", "report");
    let reference = enrichment.lookups().next().unwrap().reference();
    let groups: Vec<(Vec<u64>, bool)> = reference
        .groups()
        .map(|group| {
            (group.rows.iter().map(|&row| reference.number(row)).collect(), group.conflicting)
        })
        .collect();
    assert_eq!(groups, [(vec![1, 3, 6], true), (vec![2, 5], false)]);
    assert_eq!(reference.disputed().collect::<Vec<_>>(), [2]);
    assert_eq!((reference.rows(), reference.keys()), (6, 2));
    assert_eq!(
        reference.keyless().iter().map(|&row| reference.number(row)).collect::<Vec<_>>(),
        [4]
    );
}
