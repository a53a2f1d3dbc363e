//! Surveys of tables and proposals of keys, against naive truths.

use std::collections::{BTreeMap, HashSet};

use gather_keys_core::survey::{
    Look, Picture, Profile, Sketch, Suggestions, TroubleKind, Trust, suggest, survey,
};
use proptest::prelude::*;

use crate::memory::{Memory, Row, rows};

const SEED: [u64; 4] = [1, 2, 3, 4];
const HEADERS: [&str; 4] = ["A", "B", "C", "D"];

proptest! {
    /// What is counted is what is there, whatever the number of threads and the size of blocks.
    #[test]
    fn surveys_count_what_is_there(
        table in prop::collection::vec(
            prop::collection::vec("[ab]{0,2}|[0-9]{1,2}|2026-0[1-3]-1[0-9]| x", 4),
            0..40,
        ),
        threads in 1..4_usize,
        block in 1..9_usize,
        picked in prop::sample::subsequence(vec![0_usize, 1, 2, 3], 1..=4),
    ) {
        let mut source = Memory::new("t", &HEADERS, &table, block);
        let found = survey(&mut source, None, SEED, threads).unwrap();
        // A column is the same whether others are looked at or not.
        let mut source = Memory::new("t", &HEADERS, &table, block);
        let some = survey(&mut source, Some(&picked), SEED, threads).unwrap();
        let of_all: Vec<_> = picked.iter().map(|&column| found.columns[column].clone()).collect();
        prop_assert_eq!(some.columns, of_all);
        prop_assert_eq!(some.repeated_rows.value, found.repeated_rows.value);
        for key in &some.keys {
            prop_assert!(key.columns.iter().all(|&nth| nth < picked.len()));
        }
        prop_assert_eq!(found.rows, table.len() as u64);
        let is_blank = |cell: &String| cell.trim().is_empty();
        for (column, profile) in found.columns.iter().enumerate() {
            let cells: Vec<&String> = table.iter().map(|row| &row[column]).collect();
            let filled: Vec<&&String> = cells.iter().filter(|cell| !is_blank(cell)).collect();
            prop_assert_eq!(profile.blanks as usize, cells.len() - filled.len());
            let distinct: HashSet<&&&String> = filled.iter().collect();
            prop_assert_eq!(profile.distinct.value as usize, distinct.len());
            let mut counts: BTreeMap<&str, u64> = BTreeMap::new();
            for cell in &filled {
                *counts.entry(cell).or_default() += 1;
            }
            let mut common: Vec<(&str, u64)> = counts.into_iter().collect();
            common.sort_by(|a, b| b.1.cmp(&a.1).then(a.0.cmp(b.0)));
            common.truncate(profile.commonest.len());
            let reported = profile.commonest.iter().map(|(value, count)| (&value[..], *count));
            prop_assert!(reported.eq(common));
            let looks: u64 = profile.looks.iter().map(|(_, count)| count).sum();
            prop_assert_eq!(looks + profile.blanks, found.rows);
            let space = cells.iter().filter(|cell| cell.starts_with(' ')).count() as u64;
            let reported = profile.troubles.iter().find(|one| one.kind == TroubleKind::SurplusSpace);
            prop_assert_eq!(reported.map_or(0, |one| one.count), space);
        }
        let whole: HashSet<&Row> = table.iter().collect();
        prop_assert_eq!(found.repeated_rows.value as usize, table.len() - whole.len());
        for key in &found.keys {
            let mut seen = HashSet::new();
            let fails = table.iter().filter(|row| {
                let cells: Vec<&String> = key.columns.iter().map(|&column| &row[column]).collect();
                cells.iter().any(|cell| is_blank(cell)) || !seen.insert(cells)
            });
            prop_assert_eq!(key.failing.value as usize, fails.count(), "{:?}", key);
        }
        // A column that is a key by itself is reported as one.
        if let Some(first) = (0..4).find(|&column| {
            let cells: HashSet<&String> = table.iter().map(|row| &row[column]).collect();
            table.len() > 1 && cells.len() == table.len() && !cells.iter().any(|cell| is_blank(cell))
        }) {
            prop_assert!(found.keys.iter().any(|key| key.columns == [first]), "{:?}", found.keys);
        }
    }
}

/// However many values are let go, no cell is lost, and what is common is found.
#[test]
fn values_are_let_go() {
    let table: Vec<Row> = (0..40_000)
        .map(|n| {
            let long = "long ".repeat(50);
            let row =
                [n.to_string(), format!("{}.5", n % 15_000), format!("{long}{n}"), "x".into()];
            if n % 3 == 0 { row.map(|_| "common".to_owned()).to_vec() } else { row.to_vec() }
        })
        .collect();
    let found = survey(&mut Memory::new("t", &HEADERS, &table, 1000), None, SEED, 2).unwrap();
    for (column, different) in found.columns.iter().zip([26_667, 10_001, 26_667, 2]) {
        assert_eq!(column.looks.iter().map(|(_, count)| count).sum::<u64>(), 40_000);
        assert_eq!((column.distinct.value, column.distinct.is_exact), (different, true));
        let (value, count) = column.commonest.first().expect("one is common");
        let value_and_count = if different == 2 { ("x", 26_666) } else { ("common", *count) };
        assert_eq!((&value[..], *count), value_and_count);
        assert!((13_300..=26_666).contains(count), "{count}");
    }
    let Picture::Spread(bars) = &found.columns[0].picture else { panic!("numbers") };
    assert_eq!(bars.iter().sum::<u64>(), 26_666);
    assert_eq!(found.columns[0].troubles[0].count, 13_334, "each text is one among numbers");
}

#[test]
fn columns_are_profiled() {
    let table = rows(&[
        &["1", "2026-05-19", "Fellside", "H-001"],
        &["2", "20.5.2026", "fellside", "H-002"],
        &["40", "2026-05-21", "Fellside", "H-003"],
        &["007", "", "Nether Moor", "H-003"],
        &["n/a", "2026-06-30", "Fеllside", "H-003"],
    ]);
    let found = survey(&mut Memory::new("t", &HEADERS, &table, 2), None, SEED, 2).unwrap();
    let [number, date, text, tag] = &found.columns[..] else { panic!("four columns") };
    assert_eq!(number.looks, [(Look::Number, 4), (Look::Text, 1)]);
    assert_eq!(number.range, Some(("1".into(), "40".into())));
    assert!(matches!(&number.picture, Picture::Spread(bars) if bars.iter().sum::<u64>() == 4));
    let kinds = |troubles: &[gather_keys_core::survey::Trouble]| -> Vec<(TroubleKind, u64, u64)> {
        troubles.iter().map(|one| (one.kind, one.count, one.row)).collect()
    };
    assert_eq!(
        kinds(&number.troubles),
        [(TroubleKind::MixedKinds, 1, 5), (TroubleKind::LeadingZeros, 1, 4)]
    );
    assert_eq!((date.blanks, kinds(&date.troubles)), (1, vec![(TroubleKind::DateForms, 1, 2)]));
    assert_eq!(
        kinds(&text.troubles),
        [(TroubleKind::LookAlikes, 1, 5), (TroubleKind::Spellings, 1, 2)]
    );
    assert_eq!(text.longest.as_deref(), Some("Nether Moor"));
    assert_eq!(tag.commonest[0], ("H-003".to_owned(), 3));
    assert_eq!(found.keys[0].columns, [0]);
}

/// What is proposed for two tables.
fn suggested(main: &mut Memory, reference: &mut Memory) -> Suggestions {
    let main = Profile::of_main(main, SEED).unwrap();
    let sketch = Sketch::of_reference(&mut reference.again(), &main).unwrap();
    let reference = Profile::of_reference(reference, &main).unwrap();
    // What has keys is not left out by its sketch.
    let has_keys = !suggest(&main, &reference, Trust::Keys).keys.is_empty();
    assert!(!has_keys || sketch.may_be_reached());
    suggest(&main, &reference, Trust::Chance)
}

/// Tables of known keys, each with the parts that are to be proposed.
#[test]
fn keys_are_proposed() {
    let sites = ["Fellside", "Nether Moor", "Larkfield", "Quarry"];
    let registry: Vec<Row> = (0..24)
        .map(|n| {
            vec![
                format!("K{n}"),
                sites[n % 4].to_owned(),
                format!("H-{:03}", n / 4 + 1),
                format!("queen {n}"),
            ]
        })
        .collect();
    let harvest = |spell: fn(usize, &str) -> Vec<String>| -> Vec<Row> {
        (0..30).map(|n| spell(n % 6 + 1, sites[n % 4])).collect()
    };
    let propose = |main: &[Row], headers: &[&str]| {
        let mut main = Memory::new("harvest", headers, main, 8);
        let mut other = Memory::new("hives", &["Keeper", "Site", "Tag", "Queen"], &registry, 8);
        let found = suggested(&mut main, &mut other);
        let parts = found
            .keys
            .first()
            .map(|key| key.parts.iter().map(|part| part.on.clone()).collect::<Vec<_>>().join(", "));
        let take = found.keys.first().map(|key| key.take.join(", "));
        (parts.unwrap_or_default(), take.unwrap_or_default())
    };
    let take = "Keeper, Queen".to_owned();
    let plain = harvest(|n, site| vec![site.to_owned(), format!("H-{n:03}")]);
    assert_eq!(
        propose(&plain, &["Apiary", "Hive"]),
        ("Apiary = Site, Hive = Tag".into(), take.clone())
    );
    let loose = harvest(|n, site| vec![site.to_uppercase(), format!("h{n}")]);
    let steps = "Apiary | fold = Site | fold, Hive | digits | number = Tag | digits | number";
    assert_eq!(propose(&loose, &["Apiary", "Hive"]), (steps.into(), take.clone()));
    let label = harvest(|n, site| vec![format!("{site}/H-{n:03}"), "x".to_owned()]);
    let pieces = "Label | piece 1 \"/\" = Site, Label | piece 2 \"/\" = Tag";
    assert_eq!(propose(&label, &["Label", "Note"]), (pieces.into(), take));
    let none = harvest(|n, _| vec![format!("batch {n}"), "rain".to_owned()]);
    assert_eq!(propose(&none, &["Batch", "Note"]).0, "");
}

/// A value that is in any of several columns, and one that names a column.
#[test]
fn other_ways_are_proposed() {
    let jars: Vec<Row> =
        (0..6).map(|n| vec![format!("J{n}1"), format!("J{n}2"), format!("line {n}")]).collect();
    let orders: Vec<Row> =
        (0..12).map(|n| vec![format!("O{n}"), format!("J{}{}", n % 6, n % 2 + 1)]).collect();
    let mut main = Memory::new("orders", &["Order", "Code"], &orders, 5);
    let mut other = Memory::new("jars", &["Small", "Large", "Line"], &jars, 5);
    let found = suggested(&mut main, &mut other);
    assert_eq!(found.keys[0].parts[0].on, "Code = any(Small, Large)");
    assert_eq!(found.keys[0].take, ["Line", "@column as Column"]);

    let bloom =
        rows(&[&["Upper", "2026-05", "willow", "clover"], &["Lower", "x", "lime", "heather"]]);
    let picked: Vec<Row> = (0..8)
        .map(|n| vec![["Upper", "Lower"][n % 2].to_owned(), format!("2026-0{}-1{n}", 5 + n % 2)])
        .collect();
    let mut main = Memory::new("harvest", &["Valley", "Picked on"], &picked, 5);
    let mut other = Memory::new("bloom", &["Valley", "Note", "2026-05", "2026-06"], &bloom, 5);
    let found = suggested(&mut main, &mut other);
    assert_eq!(found.keys[0].parts[0].on, "Valley");
    assert_eq!(found.keys[0].take, ["Note", "{Picked on | first 7} as bloom by Picked on"]);
}

/// The headers of a table, how many rows it has, and what makes the cells of each.
type Made<'m> = (&'m [&'m str], usize, &'m dyn Fn(usize) -> Row);

/// Two tables and the keys of the main one in the other, the best first.
type Case<'c> = (&'c str, Made<'c>, Made<'c>, &'c [&'c str]);

/// A reference with columns that any number or answer is found in by chance, and one that is the key.
#[test]
fn chance_is_trusted_less_than_a_key() {
    let code = |n: usize| format!("{}", 1000 + n * 37 % 8999);
    let site = |n: usize| format!("{} {}", ["Moor", "Field", "Quarry", "Mill"][n % 4], n / 4);
    let tag = |n: usize| format!("H-{n:03}");
    let owned = |cells: &[&str]| cells.iter().map(|&cell| cell.to_owned()).collect::<Row>();
    let day = |n: usize| format!("2026-{:02}-{:02}", n / 28 % 12 + 1, n % 28 + 1);
    let word = |n: usize| format!("{}{}", ["Moor", "Field", "Quarry", "Mill"][n % 4], n / 4 % 9);
    let mixed = |n: usize| (n + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 33;
    let cases: [Case<'_>; 9] = [
        (
            "a number of the row is in any other",
            (&["Line", "Code", "Kg"], 200, &|n| {
                owned(&[&(n + 1).to_string(), &code(n * 5 % 260), &(n % 90 + 1).to_string()])
            }),
            (&["No", "Code", "Keeper"], 240, &|n| owned(&[&(n + 1).to_string(), &code(n), "Edda"])),
            &["Code"],
        ),
        (
            "a part that adds nothing",
            (&["Site", "Tag", "Kg"], 300, &|n| {
                owned(&[&site(n % 90), &tag(n % 90), &(n % 90).to_string()])
            }),
            (&["Site", "Tag", "Keeper"], 90, &|n| owned(&[&site(n), &tag(n), "Edda"])),
            &["Site", "Tag"],
        ),
        (
            "few of many values are there",
            (&["Batch", "Hive"], 1500, &|n| owned(&[&format!("B{n}"), &format!("X{:05}", n * 7)])),
            (&["Tag", "Keeper"], 150, &|n| owned(&[&format!("X{:05}", n * 7), "Edda"])),
            &["Hive = Tag"],
        ),
        (
            "the same spelling before another one",
            (&["Hive", "Kg"], 200, &|n| owned(&[&tag(n % 120), "3.5"])),
            (&["Old hive", "Hive", "Keeper"], 120, &|n| {
                owned(&[&format!("hive {n}"), &tag(n), "Edda"])
            }),
            &["Hive"],
        ),
        (
            "yes, no and small numbers",
            (&["Treated", "Frames", "Apiary"], 300, &|n| {
                let apiary = if n % 9 == 0 { "Nowhere".to_owned() } else { site(n % 12) };
                owned(&[["yes", "no"][n % 2], &(n * 5 % 12 + 1).to_string(), &apiary])
            }),
            (&["Open", "Size", "Apiary", "Warden"], 12, &|n| {
                owned(&[["no", "yes"][n % 2], &(n + 1).to_string(), &site(n), "Edda"])
            }),
            &["Apiary"],
        ),
        (
            "numbers under the same header",
            (&["Id", "Kg"], 200, &|n| owned(&[&(n * 7 % 120 + 1).to_string(), "3.5"])),
            (&["Id", "Keeper"], 120, &|n| owned(&[&(n + 1).to_string(), "Edda"])),
            &["Id"],
        ),
        (
            "days and words that many rows have, with numbers of the row",
            (&["Batch", "Day", "Farm"], 900, &|n| {
                let batch = format!("B-{:05}", n * 7919 % 99_991);
                owned(&[&batch, &day(mixed(n)), &word(mixed(n + 1000))])
            }),
            (&["No", "Since", "Owner", "Size"], 900, &|n| {
                let (day, word) = (day(mixed(n + 2000)), word(mixed(n + 3000)));
                owned(&[&(n + 1).to_string(), &day, &word, &(n % 40).to_string()])
            }),
            &["Farm = Owner"],
        ),
        (
            "a calendar",
            (&["Day", "Kg"], 400, &|n| owned(&[&day(n * 31), "3.5"])),
            (&["Date", "Rain"], 330, &|n| owned(&[&day(n), &format!("{}.5", n % 9)])),
            &["Day = Date"],
        ),
        (
            "nothing else is there",
            (&["Keeper no", "Kg"], 200, &|n| owned(&[&(n * 7 % 120 + 1).to_string(), "3.5"])),
            (&["Number", "Phone"], 120, &|n| owned(&[&(n + 1).to_string(), "none"])),
            &["Keeper no = Number"],
        ),
    ];
    for (case, (ours, many, left), (theirs, few, right), keys) in cases {
        let main: Vec<Row> = (0..many).map(left).collect();
        let other: Vec<Row> = (0..few).map(right).collect();
        let mut main = Memory::new("main", ours, &main, 64);
        let mut other = Memory::new("other", theirs, &other, 64);
        let found = suggested(&mut main, &mut other);
        let found: Vec<String> = found
            .keys
            .iter()
            .map(|key| key.parts.iter().map(|part| &part.on[..]).collect::<Vec<_>>().join(", "))
            .collect();
        assert_eq!(found, keys, "{case}");
    }
}
