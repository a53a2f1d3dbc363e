//! Advice over random messy tables: what it promises comes true, and no pair that is known to be wrong is matched without
//! being counted.

use std::collections::BTreeSet;

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::findings::{Kind, LookupFindings};
use gather_keys_core::plan::{On, ReferencePlan, Take, WhenDuplicate};
use gather_keys_core::survey::{Profile, Sketch, Trust, suggest};
use proptest::prelude::*;

use crate::memory::{Kept, Memory, Row, enrichment};

const MAIN: [&str; 3] = ["Apiary", "Hive", "Truth"];
const HIVES: [&str; 3] = ["Site", "Tag", "Queen"];
const SITES: [&str; 4] = ["Fellside", "Nether Moor", "Rhône", "Long Barrow"];
const LETTERS: [char; 3] = ['A', 'B', 'K'];

/// A hive: its site, its letter and its number.
type Hive = (usize, usize, u32);

fn hive() -> impl Strategy<Value = Hive> {
    (0..SITES.len(), 0..LETTERS.len(), 1..14_u32)
}

/// Which hive a row is about, in a word that nothing else is like.
fn truth((site, letter, number): Hive) -> String {
    let letter_of = |place: usize| char::from(b'a' + place as u8);
    let number = number as usize;
    ["queen".to_owned()]
        .into_iter()
        .chain(
            [site * 3 + letter, number / 9, number % 9].map(|place| letter_of(place).to_string()),
        )
        .collect()
}

/// A row of the main table in some spelling.
fn main_row(hive: Hive, (site_form, tag_form): (u8, u8)) -> Row {
    let (site, letter, number) = (SITES[hive.0], LETTERS[hive.1], hive.2);
    let site = match site_form {
        0 => site.to_uppercase(),
        1 => format!(" {site}"),
        2 => site.replace(' ', "  ").replace('ô', "o"),
        _ => site.to_owned(),
    };
    let tag = match tag_form {
        0 => format!("{}{number}", letter.to_lowercase()),
        1 => format!("{letter} {number}"),
        2 => format!(" {letter}-{number:03}"),
        3 => format!("{letter}{number:03}"),
        4 => format!("{letter}-{number}"),
        _ => format!("{letter}-{number:03}"),
    };
    vec![site, tag, truth(hive)]
}

fn reference_row(hive: Hive) -> Row {
    vec![SITES[hive.0].into(), format!("{}-{:03}", LETTERS[hive.1], hive.2), truth(hive)]
}

/// What a key finds: the findings, the diagnosis, and how many rows get the cells of another hive.
fn run(main: &[Row], hives: &[Row], on: &[&str]) -> (LookupFindings, Option<Diagnosis>, u64) {
    let plan = ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(on).unwrap(),
        take: Some(Take::parse("Queen").unwrap()),
        when_duplicate: WhenDuplicate::Report,
        ..ReferencePlan::default()
    };
    let mut main = Memory::new("harvest", &MAIN, main, 7);
    let hives = Memory::new("hives", &HIVES, hives, 5);
    let mut enrichment = enrichment(&plan, &main, hives, 1).unwrap().explaining(true);
    let mut kept = Kept::default();
    let findings = enrichment.run(&mut main, &mut kept, None, 1).unwrap();
    let found = findings.lookups.into_iter().next().unwrap();
    let diagnosis = Diagnosis::of(enrichment.lookups().next().unwrap(), &found, 1);
    let wrong = kept.0.iter().filter(|row| !row[3].is_empty() && row[2] != row[3]).count();
    (found, diagnosis, wrong as u64)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn fixes_come_true(
        hives in prop::collection::btree_set(hive(), 1..30),
        rows in prop::collection::vec((hive(), (0..6_u8, 0..9_u8)), 1..30),
    ) {
        let hives: Vec<Row> = hives.into_iter().map(reference_row).collect();
        let main: Vec<Row> = rows.into_iter().map(|(hive, forms)| main_row(hive, forms)).collect();
        let (before, diagnosis, wrong) = run(&main, &hives, &["Apiary = Site, Hive = Tag"]);
        prop_assert_eq!(wrong, 0);
        let Some(diagnosis) = diagnosis else { return Ok(()) };
        let mut is_unlike = false;
        for fix in &diagnosis.fixes {
            let on: Vec<&str> = fix.on.iter().map(|part| &part[..]).collect();
            let (after, _, wrong) = run(&main, &hives, &on);
            let [before, after] = [&before, &after].map(|found| found.counts.of(Kind::Matched));
            prop_assert!(after <= before + fix.fixed, "{:?}", fix);
            prop_assert!(after + fix.lost + fix.newly_ambiguous >= before + fix.fixed, "{:?}", fix);
            prop_assert!(wrong <= fix.unlike, "{} wrong pairs by {:?}", wrong, fix);
            prop_assert!(!is_unlike || fix.unlike > 0, "fixes without unlike letters are first");
            is_unlike |= fix.unlike > 0;
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(500))]

    #[test]
    fn proposals_come_true(
        tags in prop::collection::btree_set((0..LETTERS.len(), 1..40_u32), 4..24),
        rows in prop::collection::vec((hive(), (0..6_u8, 0..9_u8)), 8..60),
    ) {
        // Every site has every tag, so that a tag by itself is no key.
        let hives: BTreeSet<Hive> = tags
            .iter()
            .flat_map(|(letter, number)| (0..SITES.len()).map(move |site| (site, *letter, *number)))
            .collect();
        let hives: Vec<Row> = hives.into_iter().map(reference_row).collect();
        let main: Vec<Row> = rows.into_iter().map(|(hive, forms)| main_row(hive, forms)).collect();
        let without_truth: Vec<Row> = main.iter().map(|row| row[..2].to_vec()).collect();
        let mut harvest = Memory::new("harvest", &MAIN[..2], &without_truth, 9);
        let profile = Profile::of_main(&mut harvest, [1, 2, 3, 4]).unwrap();
        let mut source = Memory::new("hives", &HIVES, &hives, 9);
        let reference = Profile::of_reference(&mut source, &profile).unwrap();
        let sketch = Sketch::of_reference(&mut source.again(), &profile).unwrap();
        let has_keys = !suggest(&profile, &reference, Trust::Keys).keys.is_empty();
        prop_assert!(!has_keys || sketch.may_be_reached(), "what has keys is not left out");
        for key in suggest(&profile, &reference, Trust::Chance).keys {
            let on: Vec<&str> = key.parts.iter().map(|part| &part.on[..]).collect();
            let (_, _, wrong) = run(&main, &hives, &on);
            let unlike: usize = key.parts.iter().flat_map(|part| &part.unlike).map(|unlike| unlike.count).sum();
            prop_assert!(wrong == 0 || unlike > 0, "{} wrong pairs by {:?}", wrong, on);
        }
    }
}
