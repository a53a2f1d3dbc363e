//! Updates, added rows and corrections, against a naive truth.

use gather_keys_core::Error;
use gather_keys_core::enrich::Corrections;
use gather_keys_core::findings::{Change, ChangedBy, ChangingRow, Findings, MainFinding, Recorder};
use gather_keys_core::findings::{Correction, Written};
use gather_keys_core::plan::{
    On, ReferencePlan, Replace, Take, Update, WhenDuplicate, WhenUnmatched,
};
use proptest::prelude::*;

use super::memory::{Kept, Memory, Row, enrichments, rows};

fn plan(on: &str, update: &str, take: &str) -> ReferencePlan {
    ReferencePlan {
        name: "r".to_owned(),
        on: On::parse(&[on]).unwrap(),
        update: if update.is_empty() { Vec::new() } else { Update::parse(update).unwrap() },
        take: Some(if take.is_empty() { Vec::new() } else { Take::parse(take).unwrap() }),
        ..ReferencePlan::default()
    }
}

/// Keeps every change: its row, column, and the cell before and after.
#[derive(Default)]
struct Changes(Vec<(u64, usize, String, String)>);

impl Recorder for Changes {
    type Error = Error;

    fn main_row(&mut self, _: &MainFinding<'_>) -> Result<(), Error> {
        Ok(())
    }

    fn changed(&mut self, change: &Change<'_>) -> Result<(), Error> {
        let (before, after) = (change.before.to_owned(), change.after.to_owned());
        self.0.push((change.row.number(), change.column, before, after));
        Ok(())
    }
}

fn run(
    main: &Memory,
    plans: Vec<(&ReferencePlan, Vec<Memory>)>,
    corrections: impl FnOnce(&gather_keys_core::table::Headers) -> Option<Corrections>,
    threads: usize,
) -> (Vec<Row>, Findings, Changes) {
    let enrichment = enrichments(plans, main, threads).unwrap();
    let corrections = corrections(enrichment.headers());
    let mut enrichment = enrichment.corrected(corrections);
    let (mut kept, mut changes) = (Kept::default(), Changes::default());
    let found = enrichment.run(&mut main.again(), &mut kept, Some(&mut changes), threads).unwrap();
    (kept.0, found, changes)
}

/// What an update makes of a cell, in words of its own.
fn updated(now: &str, new: &str, replace: Replace, bring_blanks: bool) -> String {
    let may = if now.is_empty() { true } else { replace == Replace::All };
    let brings = !new.is_empty() || bring_blanks;
    if may && brings { new.to_owned() } else { now.to_owned() }
}

/// The values of some rows under a rule; nothing where it can't settle them.
fn settled(rule: &str, entries: &[&Row]) -> Option<Vec<[String; 2]>> {
    let values: Vec<[String; 2]> =
        entries.iter().map(|row| [row[1].clone(), row[2].clone()]).collect();
    let agree = values.iter().all(|value| *value == values[0]);
    let distinct = |at: usize| {
        let mut seen: Vec<&str> = Vec::new();
        for value in values.iter().map(|value| &value[at][..]).filter(|value| !value.is_empty()) {
            if !seen.contains(&value) {
                seen.push(value);
            }
        }
        seen.join("; ")
    };
    match rule {
        "every" => Some(values),
        _ if agree => Some(vec![values[0].clone()]),
        "first" => Some(vec![values[0].clone()]),
        "last" => Some(vec![values[values.len() - 1].clone()]),
        "list" => Some(vec![[distinct(0), distinct(1)]]),
        _ => None,
    }
}

fn table(columns: usize, most: usize) -> impl Strategy<Value = Vec<Row>> {
    let cell = prop::sample::select(vec!["a", "A", "b", "c", ""]).prop_map(str::to_owned);
    prop::collection::vec(prop::collection::vec(cell, columns), 0..most)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]

    /// Updated cells, appended rows, counts and changes are what a plain pass through all rows gives; rows that a later
    /// reference drops have none.
    #[test]
    fn updates_are_what_they_should_be(
        (main, reference) in (table(3, 7), table(3, 7)),
        rule in prop::sample::select(vec!["report", "first", "last", "every", "list"]),
        (blanks_only, bring_blanks, append) in any::<(bool, bool, bool)>(),
        (block_rows, threads) in (1_usize..4, 1_usize..4),
        held in prop::option::of(prop::sample::subsequence(vec!["a", "A", "b", "c"], 0..4)),
    ) {
        let append = append && held.is_none();
        // A row without a key is not dropped.
        let is_kept = |v: &str| held.as_ref().is_none_or(|held| v.is_empty() || held.contains(&v));
        let later = ReferencePlan {
            name: "later".to_owned(),
            when_unmatched: WhenUnmatched::Drop,
            ..plan("V", "", "")
        };
        let mut plan = plan("K | fold", "W = X, V", "X as Taken, @status");
        plan.when_duplicate = WhenDuplicate::parse(rule).unwrap();
        plan.replace = if blanks_only { Replace::Blanks } else { Replace::All };
        (plan.bring_blanks, plan.append_unused) = (bring_blanks, append);
        let key = |row: &Row| row[0].to_lowercase();
        let (mut want, mut changes, mut left) = (Vec::new(), Vec::new(), 0);
        for (nth, row) in main.iter().enumerate() {
            let whole = !row[0].is_empty();
            let entries: Vec<&Row> =
                reference.iter().filter(|other| whole && key(other) == key(row)).collect();
            let values = if entries.is_empty() { None } else { settled(rule, &entries) };
            let Some(values) = values else {
                let status = match (whole, entries.is_empty()) {
                    (false, _) => "blank key",
                    (true, true) => "unmatched",
                    (true, false) => "ambiguous",
                };
                if is_kept(&row[1]) {
                    want.push([&row[..], &[String::new(), status.to_owned()]].concat());
                }
                continue;
            };
            for [v, x] in values {
                let after = |now: &str, new: &str| updated(now, new, plan.replace, bring_blanks);
                let (new_v, new_w) = (after(&row[1], &v), after(&row[2], &x));
                if !is_kept(&new_v) {
                    continue;
                }
                for (column, before, now, new) in [(1, &row[1], &new_v, &v), (2, &row[2], &new_w, &x)] {
                    if before != now {
                        changes.push((nth as u64 + 1, column, before.clone(), now.clone()));
                    } else if now != new {
                        left += 1;
                    }
                }
                let changed = new_v != row[1] || new_w != row[2];
                let status = if changed { "updated" } else { "unchanged" };
                want.push(vec![row[0].clone(), new_v, new_w, x, status.to_owned()]);
            }
        }
        let mut seen = Vec::new();
        for row in reference.iter().filter(|row| append && !row[0].is_empty()) {
            let asked = main.iter().any(|other| key(other) == key(row));
            if asked || seen.contains(&key(row)) {
                continue;
            }
            let entries: Vec<&Row> =
                reference.iter().filter(|other| key(other) == key(row)).collect();
            let values = settled(rule, &entries);
            // The spelling of the key is that of the row that gives.
            let spelled = |nth: usize| match rule {
                "last" if entries.iter().any(|other| other[1..] != entries[0][1..]) => {
                    entries[entries.len() - 1][0].clone()
                }
                _ => entries[nth][0].clone(),
            };
            for (nth, [v, x]) in values.into_iter().flatten().enumerate() {
                want.push(vec![spelled(nth), v, x.clone(), x, "appended".to_owned()]);
            }
            seen.push(key(row));
        }
        let source = Memory::new("main", &["K", "V", "W"], &main, block_rows);
        let theirs = Memory::new("r", &["K", "V", "X"], &reference, block_rows);
        let held: Option<Vec<Row>> =
            held.map(|held| held.iter().map(|v| vec![(*v).to_owned()]).collect());
        let held = held.map(|held| (&later, vec![Memory::new("later", &["V"], &held, block_rows)]));
        let plans = std::iter::once((&plan, vec![theirs])).chain(held).collect();
        let (out, found, reported) = run(&source, plans, |_| None, threads);
        // Rows that `every` adds come in the order of the reference.
        let appended = out.len() - want.iter().filter(|row| row[4] != "appended").count();
        if rule == "every" {
            let sorted = |rows: &[Row]| { let mut rows = rows.to_vec(); rows.sort(); rows };
            let at = out.len() - appended;
            prop_assert_eq!(&out[..at], &want[..at]);
            prop_assert_eq!(sorted(&out[at..]), sorted(&want[at..]));
        } else {
            prop_assert_eq!(&out, &want);
        }
        let mut reported = reported.0;
        reported.sort();
        changes.sort();
        let counts = &found.lookups[0].updates;
        let changed: u64 = counts.iter().map(|update| update.written.changed()).sum();
        prop_assert_eq!(changed, changes.len() as u64);
        let kept: u64 = counts.iter().map(|update| update.written.of(Written::Left)).sum();
        prop_assert_eq!(kept, left);
        prop_assert_eq!(reported, changes);
        prop_assert_eq!(found.written, out.len() as u64);
        let rows_added = found.lookups[0].appended.map(|appended| appended.rows);
        prop_assert_eq!(rows_added, append.then_some(appended as u64));
    }
}

/// A later reference asks with what an earlier one updated, and answers the rows it added.
#[test]
fn references_build_on_updates_and_added_rows() {
    let main = Memory::new("main", &["Id", "Code"], &rows(&[&["1", "x"], &["2", ""]]), 9);
    let mut codes = plan("Id", "Code", "@row as At");
    codes.append_unused = true;
    let theirs = rows(&[&["1", "y"], &["3", "z"], &["", "w"]]);
    let first = Memory::new("codes", &["Id", "Code"], &theirs, 9);
    let names = plan("Code", "", "Name");
    let named = rows(&[&["x", "old"], &["y", "new"], &["z", "added"]]);
    let second = Memory::new("names", &["Code", "Name"], &named, 9);
    let plans = vec![(&codes, vec![first]), (&names, vec![second])];
    let (out, found, _) = run(&main, plans, |_| None, 2);
    let want: [&[&str]; 3] =
        [&["1", "y", "1", "new"], &["2", "", "", ""], &["3", "z", "2", "added"]];
    assert_eq!(out, rows(&want));
    assert_eq!(found.lookups[1].counts.main_rows, 3);
    assert_eq!(found.lookups[0].appended.unwrap().not.blank_key, 1);
    let one_used =
        |nth: usize| found.lookups[nth].counts.of(gather_keys_core::findings::Kind::Unused);
    assert_eq!((one_used(0), one_used(1)), (2, 1));
}

/// The key of an added row is spelled as the reference spells it, split where it must be.
#[test]
fn steps_do_not_show_in_the_key_of_added_rows() {
    let added = |main: &[&str], on: &str, reference: &[&str], row: &[&str]| {
        let main = Memory::new("main", main, &[], 9);
        let mut plan = plan(on, "", "");
        plan.append_unused = true;
        let theirs = Memory::new("r", reference, &rows(&[row]), 9);
        let (out, found, _) = run(&main, vec![(&plan, vec![theirs])], |_| None, 1);
        (out, found.lookups[0].appended.unwrap().not.inseparable)
    };
    let on = "Site | fold = Code | trim | fold, Hive | number = Tag | digits | number";
    let (out, _) = added(&["Site", "Hive"], on, &["Code", "Tag"], &[" Fellside", "H-007"]);
    assert_eq!(out, rows(&[&[" Fellside", "H-007"]]));
    let (out, _) = added(&["Site", "Hive"], "{Site}/{Hive} = Label", &["Label"], &["Fellside/7"]);
    assert_eq!(out, rows(&[&["Fellside", "7"]]));
    let label = "Label = {Code}-{Tag | last 3}";
    let (out, _) = added(&["Label"], label, &["Code", "Tag"], &["Fell", "H-007"]);
    assert_eq!(out, rows(&[&["Fell-007"]]));
    let (out, not) = added(&["A", "B"], "{A}/{B} = Label", &["Label"], &["a/b/c"]);
    assert_eq!((out, not), (rows(&[]), 1));
}

#[test]
fn corrections_are_put_in_place_and_counted() {
    let cells: [&[&str]; 3] = [&["1", "x"], &["2", "x"], &["2", "w"]];
    let main = Memory::new("main", &["Id", "Code"], &rows(&cells), 2);
    let lookup = plan("Code", "", "Name, @status as S");
    let names = || vec![Memory::new("names", &["Code", "Name"], &rows(&[&["x", "old"]]), 9)];
    let one = |id: &str, header: &str, value: &str, row| Correction {
        key: vec![id.to_owned()],
        header: header.to_owned(),
        value: value.to_owned(),
        row,
    };
    let all = vec![
        one("2", "Name", "old", 1),
        one("1", "Code", "k", 2),
        one("9", "Name", "gone", 3),
        one("1", "Name", "old", 4),
    ];
    let corrections = |all: Vec<Correction>| {
        move |headers: &gather_keys_core::table::Headers| {
            Some(
                Corrections::new("c.csv", &["Id".to_owned()], all, |name| {
                    Ok(headers.find(name)?.column)
                })
                .unwrap(),
            )
        }
    };
    let (out, found, reported) = run(&main, vec![(&lookup, names())], corrections(all), 2);
    let want: [&[&str]; 3] = [
        // A corrected column of the main table is nobody's answer.
        &["1", "k", "old", "matched"],
        &["2", "x", "old", "matched"],
        &["2", "w", "old", "corrected"],
    ];
    assert_eq!(out, rows(&want));
    let counts: Vec<(u64, u64)> =
        found.corrected.iter().map(|one| (one.changed, one.same)).collect();
    assert_eq!(counts, [(1, 1), (1, 0), (0, 0), (0, 1)]);
    assert_eq!(reported.0.len(), 2);

    let headers = gather_keys_core::table::Headers::new("main", ["Id", "Code"]);
    let error = |all| {
        let made = Corrections::new("c.csv", &["Id".to_owned()], all, |name| {
            Ok(headers.find(name)?.column)
        });
        made.unwrap_err().to_string()
    };
    let astray = error(vec![one("1", "Cod", "k", 7)]);
    assert_eq!(astray, "c.csv, row 7: main has no header `Cod`; the nearest is `Code`");
    let twice = error(vec![one("1", "Code", "k", 1), one("1", "Code", "l", 3)]);
    assert!(twice.contains("rows 1 and 3 give `Code`"), "{twice}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// `*` means every value; of two corrections of a cell, the one that names more columns counts, or else the first.
    #[test]
    fn corrections_hold_for_every_value(
        main in prop::collection::vec(prop::collection::vec("[ab]", 3), 1..12),
        said in prop::collection::vec((prop::collection::vec("[ab*]", 2), "[xy]"), 0..6),
        threads in 1_usize..3,
    ) {
        let mut seen = std::collections::HashSet::new();
        let said: Vec<_> = said.into_iter().filter(|(key, _)| seen.insert(key.clone())).collect();
        let corrections = said.iter().zip(1..).map(|((key, value), row)| Correction {
            key: key.clone(),
            header: "V".to_owned(),
            value: value.clone(),
            row,
        });
        let corrections: Vec<Correction> = corrections.collect();
        let table = Memory::new("main", &["A", "B", "V"], &main, 3);
        let key = ["A".to_owned(), "B".to_owned()];
        let (out, found, _) = run(&table, Vec::new(), |headers| {
            let find = |name: &str| Ok(headers.find(name)?.column);
            Some(Corrections::new("c", &key, corrections, find).unwrap())
        }, threads);
        let mut counts = vec![0; said.len()];
        let want: Vec<Row> = main.iter().map(|row| {
            let fits = said.iter().enumerate().filter(|(_, (key, _))| {
                key.iter().zip(row).all(|(said, cell)| said == "*" || said == cell)
            });
            let best = fits.min_by_key(|(_, (key, _))| key.iter().filter(|cell| *cell == "*").count());
            let mut row = row.clone();
            if let Some((nth, (_, value))) = best {
                counts[nth] += 1;
                row[2].clone_from(value);
            }
            row
        }).collect();
        prop_assert_eq!(out, want);
        let told: Vec<u64> = found.corrected.iter().map(|one| one.changed + one.same).collect();
        prop_assert_eq!(told, counts);
    }
}

#[test]
fn changes_say_what_made_them() {
    struct By(Vec<String>);
    impl Recorder for By {
        type Error = Error;
        fn main_row(&mut self, _: &MainFinding<'_>) -> Result<(), Error> {
            Ok(())
        }
        fn wants_repeated(&self) -> bool {
            false
        }
        fn changed(&mut self, change: &Change<'_>) -> Result<(), Error> {
            self.0.push(match change.by {
                ChangedBy::Correction(row) => format!("correction {row}"),
                ChangedBy::Lookup { lookup, row, .. } => match row {
                    Some(ChangingRow::Here(row)) => {
                        format!("row {}", lookup.reference().number(row))
                    }
                    Some(ChangingRow::Named(name)) => name.to_owned(),
                    None => "row all".to_owned(),
                },
            });
            Ok(())
        }
    }
    let main = Memory::new("main", &["K", "V"], &rows(&[&["a", ""], &["b", ""]]), 9);
    let mut plan = plan("K", "V", "");
    plan.when_duplicate = WhenDuplicate::List;
    let theirs = rows(&[&["b", "1"], &["a", "2"], &["b", "3"]]);
    let theirs = vec![Memory::new("r", &["K", "V"], &theirs, 9)];
    let enrichment = enrichments(vec![(&plan, theirs)], &main, 1).unwrap();
    let key = ["K".to_owned()];
    let value = |value: &str| Correction {
        key: vec!["b".to_owned()],
        header: "V".to_owned(),
        value: value.to_owned(),
        row: 5,
    };
    let corrections = Corrections::new("c", &key, vec![value("4")], |name| {
        Ok(enrichment.headers().find(name)?.column)
    })
    .unwrap();
    let mut enrichment = enrichment.corrected(Some(corrections));
    let (mut kept, mut by) = (Kept::default(), By(Vec::new()));
    enrichment.run(&mut main.again(), &mut kept, Some(&mut by), 1).unwrap();
    assert_eq!(by.0, ["row 2", "row all", "correction 5"]);
    assert_eq!(kept.0, rows(&[&["a", "2"], &["b", "4"]]));
}
