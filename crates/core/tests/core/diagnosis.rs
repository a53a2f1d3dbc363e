//! Reasons of unmatched keys, and fixes that do what they promise.

use std::collections::BTreeMap;

use gather_keys_core::Error;
use gather_keys_core::diagnosis::{Diagnosis, Form, Reason, Scout};
use gather_keys_core::enrich::{Enrichment, EnrichmentBuilder};
use gather_keys_core::findings::{Kind, LookupFindings, MainFinding, Recorder};
use gather_keys_core::lookup::{Alias, AliasState, Unsound};
use gather_keys_core::plan::{On, ReferencePlan, Take, WhenDuplicate};
use gather_keys_core::table::Discard;
use proptest::prelude::*;

use crate::memory::{Kept, Memory, Row, enrichment, rows};

const MAIN: [&str; 3] = ["Apiary", "Hive", "Day"];
const HIVES: [&str; 5] = ["Site", "Tag", "Seen", "Old tag", "Keeper"];
const ON: &str = "Apiary = Site, Hive = Tag, Day = Seen";

fn plan(on: &str, rule: WhenDuplicate) -> ReferencePlan {
    ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&[on]).unwrap(),
        take: Some(Take::parse("Keeper").unwrap()),
        when_duplicate: rule,
        ..ReferencePlan::default()
    }
}

/// The outcome of each main row.
#[derive(Default)]
struct Outcomes(BTreeMap<u64, Kind>);

impl Recorder for Outcomes {
    type Error = Error;

    fn main_row(&mut self, finding: &MainFinding<'_>) -> Result<(), Error> {
        if Kind::OUTCOMES.contains(&finding.kind) {
            self.0.insert(finding.row.number(), finding.kind);
        }
        Ok(())
    }
}

/// A lookup that has run over a main table, with what it found and what became of each row.
struct Ran {
    enrichment: Enrichment,
    found: LookupFindings,
    outcomes: Outcomes,
}

fn run(main: &[Row], hives: &[Row], plan: &ReferencePlan, threads: usize) -> Ran {
    let mut main = Memory::new("harvest", &MAIN, main, 7);
    let hives = Memory::new("hives", &HIVES, hives, 5);
    let mut enrichment = enrichment(plan, &main, hives, threads).unwrap().explaining(true);
    let mut outcomes = Outcomes::default();
    let findings =
        enrichment.run(&mut main, &mut Discard::default(), Some(&mut outcomes), threads).unwrap();
    let found = findings.lookups.into_iter().next().unwrap();
    Ran { enrichment, found, outcomes }
}

impl Ran {
    fn diagnosis(&self) -> Option<Diagnosis> {
        Diagnosis::of(self.enrichment.lookups().next().unwrap(), &self.found, 2)
    }
}

/// Main rows that are changed in known ways get the right reason, with the key that was meant.
#[test]
fn each_reason_is_the_right_one() {
    let hives = rows(&[
        &["Fellside", "H-007", "2026-05-19", "A-1", "Edda"],
        &["Nether Moor", "H-012", "2026-05-20", "A-2", "Corvin"],
        &["Rhône", "H-100", "2026-05-21", "A-3", "Jorun"],
        &["Quarry", "7", "2026-05-22", "A-4", "Tamsin"],
        &["Long Barrow", "H-031", "2026-05-23", "B-77", "Brenna"],
    ]);
    let spelled = |part, forms: &[Form]| Reason::Spelled(vec![(part, forms.to_vec())]);
    let cases: [(&[&str], Reason, Option<&str>); 15] = [
        (&["FELLSIDE", "H-007", "2026-05-19"], spelled(0, &[Form::LetterCase]), Some("Fellside")),
        (
            &[" Fellside", "H-007", "2026-05-19"],
            spelled(0, &[Form::SurroundingSpace]),
            Some("Fellside"),
        ),
        (
            &["Nether\u{a0}Moor", "H-012", "2026-05-20"],
            spelled(0, &[Form::InnerSpace]),
            Some("Nether Moor"),
        ),
        (
            &["Nether  Moor", "H-012", "2026-05-20"],
            spelled(0, &[Form::InnerSpace]),
            Some("Nether Moor"),
        ),
        (&["Fellside", "H-7", "2026-05-19"], spelled(1, &[Form::NumberForm]), Some("Fellside")),
        (&["Quarry", "7.0", "2026-05-22"], spelled(1, &[Form::NumberForm]), Some("Quarry")),
        (&["Fellside", "H-007", "19.5.2026"], spelled(2, &[Form::DateForm]), Some("Fellside")),
        (&["Rhone", "H-100", "2026-05-21"], spelled(0, &[Form::Accents]), Some("Rhône")),
        (&["Fellside", "H 007", "2026-05-19"], spelled(1, &[Form::Punctuation]), Some("Fellside")),
        (
            &["nether moor ", "H-12", "2026-05-20"],
            Reason::Spelled(vec![
                (0, vec![Form::SurroundingSpace, Form::LetterCase]),
                (1, vec![Form::NumberForm]),
            ]),
            Some("Nether Moor"),
        ),
        (&["H-007", "Fellside", "2026-05-19"], Reason::Swapped, Some("Fellside")),
        (
            &["Felside", "H-007", "2026-05-19"],
            Reason::Typo { part: Some(0), distance: 1 },
            Some("Fellside"),
        ),
        (&["Fellside", "H-450", "2026-05-19"], Reason::OnePart(1), Some("Fellside")),
        (&["Long Barrow", "B-77", "2026-05-23"], Reason::Elsewhere { part: 1, column: 3 }, None),
        (&["Millpond", "K-9", "1999-01-01"], Reason::Nothing, None),
    ];
    let main: Vec<Row> = cases.iter().flat_map(|(row, ..)| rows(&[row])).collect();
    let plan = plan(ON, WhenDuplicate::Report);
    let ran = run(&main, &hives, &plan, 1);
    let lookup = ran.enrichment.lookups().next().unwrap();
    let keys = ran.found.unmatched.keys();
    let mut explained = ran.diagnosis().unwrap().explained;
    let mut scout = Scout::new(lookup, keys, &explained).unwrap();
    scout.read(&mut Memory::new("hives", &HIVES, &hives, 5), 2).unwrap();
    scout.tell(&mut explained);
    assert_eq!(keys.len(), cases.len());
    for ((row, reason, nearest), explained) in cases.iter().zip(&explained) {
        assert_eq!(explained.reason, *reason, "{row:?}");
        let held = explained.nearest.map(|entry| lookup.reference().as_read(entry)[0]);
        assert_eq!(held, *nearest, "{row:?}");
    }
}

/// Spellings meet whichever side has which, and whatever else a side holds.
#[test]
fn spellings_meet_from_either_side() {
    let others = [["x", "9999"], ["1999-01-01", "no 3"], ["12", "Z-1"], ["plain", "text"]];
    for (one, other) in [
        ("2026-05-19", "19.5.2026"),
        ("2026-05-19", "19 May 2026"),
        ("2025-10-13", "45943"),
        ("7", "H-007"),
        ("hive 7", "H-7"),
        ("007", "7"),
        ("1.234,5", "1234.5"),
        ("Ｈ－７", "H-7"),
        ("Łódź", "lodz"),
    ] {
        for (main, held) in [(one, other), (other, one)] {
            for more in others {
                let table = [held, more[0], more[1]].map(|cell| vec![cell.to_owned(); 5]);
                let asked = [main, more[1], "-1"].map(|cell| vec![cell.to_owned(); 3]);
                let ran = run(&asked, &table, &plan("Apiary = Site", WhenDuplicate::Report), 1);
                let explained = &ran.diagnosis().unwrap().explained[0];
                assert!(matches!(explained.reason, Reason::Spelled(_)), "{main} {held} {more:?}");
            }
        }
    }
}

/// A single part is sought by its letters, and of several the nearest is found.
#[test]
fn the_nearest_of_one_part_is_found() {
    let names = ["Jorun Elderfield", "Edda Larkhollow", "Tamsin Oxlip", "K-1", "K-2"];
    let hives: Vec<Row> = names.iter().flat_map(|name| rows(&[&[name, "", "", "", "x"]])).collect();
    let plan = plan("Apiary = Site", WhenDuplicate::Report);
    for (asked, near, distance) in [
        ("Jorn Elderfield", Some("Jorun Elderfield"), 1),
        ("Journ Elderfeild", Some("Jorun Elderfield"), 2),
        ("Edda Larkholow", Some("Edda Larkhollow"), 1),
        ("Tamsyn Oxlip", Some("Tamsin Oxlip"), 1),
        ("Corvin", None, 0),
    ] {
        let ran = run(&rows(&[&[asked, "", ""]]), &hives, &plan, 1);
        let explained = ran.diagnosis().unwrap().explained.remove(0);
        let lookup = ran.enrichment.lookups().next().unwrap();
        let held = explained.nearest.map(|entry| lookup.reference().as_read(entry)[0]);
        assert_eq!(held, near, "{asked}");
        assert_eq!(explained.distance, near.map(|_| distance), "{asked}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// The nearest key is the nearest of all, however many share the other part.
    #[test]
    fn the_nearest_of_many_is_found(
        tags in prop::collection::hash_set("[A-D]-[0-9]{3,4}|[a-e]{4,7}", 60..400),
        asked in prop::collection::vec("[A-D]-[0-9]{3,4}|[a-e]{3,8}", 1..12),
        threads in 1..3_usize,
    ) {
        let hive = |tag: &String| vec!["Fellside".to_owned(), tag.clone(), String::new(), String::new(), "x".into()];
        let hives: Vec<Row> = tags.iter().map(hive).collect();
        let main: Vec<Row> = asked.iter().map(|tag| vec!["Fellside".to_owned(), tag.clone(), String::new()]).collect();
        let ran = run(&main, &hives, &plan("Apiary = Site, Hive = Tag", WhenDuplicate::Report), threads);
        let Some(diagnosis) = ran.diagnosis() else { return Ok(()) };
        prop_assert!(!diagnosis.is_bounded);
        for (key, explained) in ran.found.unmatched.keys().iter().zip(&diagnosis.explained) {
            let tag = key.read().nth(1).unwrap().to_owned();
            if !matches!(explained.reason, Reason::OnePart(1) | Reason::Typo { part: Some(1), .. }) {
                continue;
            }
            let nearest = tags.iter().map(|other| strsim::osa_distance(&tag, other)).min();
            prop_assert_eq!(explained.distance, nearest, "{}", tag);
        }
    }
}

/// A long part that is shared does not outweigh another.
#[test]
fn parts_are_compared_one_by_one() {
    let hives = rows(&[&["Upper Bramble End by the quarry", "K-92", "", "", "x"]]);
    let plan = plan("Apiary = Site, Hive = Tag", WhenDuplicate::Report);
    for (site, tag, is_typo) in [
        ("Upper Bramble End by the quary", "K-92", true),
        ("Upper Bramble End by the quary", "K-29", true),
        ("Upper Bramble End by the quary", "H-1", false),
        ("Upper Bramble End by the quary", "Z-77", false),
    ] {
        let ran = run(&rows(&[&[site, tag, ""]]), &hives, &plan, 1);
        let reason = &ran.diagnosis().unwrap().explained[0].reason;
        assert_eq!(matches!(reason, Reason::Typo { .. }), is_typo, "{site} {tag}: {reason:?}");
    }
}

/// A lookup with aliases.
fn aliased(
    plan: &ReferencePlan,
    main: &Memory,
    mut table: Memory,
    aliases: &[Alias],
    threads: usize,
) -> Enrichment {
    let headers = table.headers.clone();
    let mut enrichment = EnrichmentBuilder::new(&main.headers, [1, 2, 3, 4]);
    let resolved = enrichment.resolve(plan, &headers, &[]).unwrap();
    let mut builder = resolved.builder(plan, &headers, [1, 2, 3, 4]);
    builder.read(&mut table, threads).unwrap();
    let (lookup, taking) = resolved.lookup(builder.finish().unwrap());
    enrichment.add(lookup.aliased(aliases.to_vec()), taking);
    enrichment.finish()
}

/// Aliases answer only keys that are not found, and tell when they are of no use.
#[test]
fn aliases_are_used_where_the_key_is_not_found() {
    let hives = rows(&[&["Fellside", "1", "", "", "Edda"], &["Quarry", "2", "", "", "Jorun"]]);
    let main =
        rows(&[&["Fell", "1", ""], &["Fell", "1", ""], &["Quarry", "2", ""], &["No", "9", ""]]);
    let plan = plan("Apiary = Site, Hive = Tag", WhenDuplicate::Report);
    let alias = |row, main: [&str; 2], reference: [&str; 2]| Alias {
        row,
        parts: vec![0, 1],
        main: main.map(str::to_owned).to_vec(),
        reference: reference.map(str::to_owned).to_vec(),
    };
    let aliases = vec![
        alias(1, ["Fell", "1"], ["Fellside", "1"]),
        alias(2, ["Quarry", "2"], ["Fellside", "1"]),
        alias(3, ["No", "9"], ["Nowhere", "9"]),
        alias(4, ["Fell", "1"], ["Quarry", "2"]),
        alias(5, ["", "1"], ["Quarry", "2"]),
    ];
    for threads in [1, 3] {
        let mut source = Memory::new("harvest", &MAIN, &main, 2);
        let table = Memory::new("hives", &HIVES, &hives, 5);
        let mut enrichment = aliased(&plan, &source, table, &aliases, threads);
        let found = enrichment.run(&mut source, &mut Discard::default(), None, threads).unwrap();
        let counts = found.lookups[0].counts;
        assert_eq!((counts.of(Kind::Matched), counts.of(Kind::Unmatched)), (3, 1));
        let states: Vec<AliasState> =
            enrichment.lookups().next().unwrap().aliases().map(|(_, state)| state).collect();
        let want = [
            AliasState::Used(2),
            AliasState::Needless,
            AliasState::Gone,
            AliasState::Again,
            AliasState::Broken,
        ];
        assert_eq!(states, want);
    }
}

/// An alias of a value that a step can't read holds for cells like its own, and for no others; other parts must be found.
#[test]
fn aliases_stand_for_values_that_can_t_be_read() {
    let hives = rows(&[
        &["Fellside", "007", "", "", "Edda"],
        &["Quarry", "007", "", "", "Jorun"],
        &["Quarry", "012", "", "", "Orla"],
    ]);
    let main = rows(&[
        &["Fellside", "n/a", ""],
        &["Quarry", "n/a", ""],
        &["Quarry", " n/a", ""],
        &["Quarry", "smudged", ""],
        &["Nowhere", "smudged", ""],
        &["", "smudged", ""],
        &["Quarry", "7", ""],
    ]);
    let plan = plan("Apiary = Site, Hive | number = Tag | number", WhenDuplicate::Report);
    let alias = |row, parts: &[usize], main: [&str; 2], reference: [&str; 2]| Alias {
        row,
        parts: parts.to_vec(),
        main: main.map(str::to_owned).to_vec(),
        reference: reference.map(str::to_owned).to_vec(),
    };
    let aliases = vec![
        alias(1, &[0, 1], ["Quarry", "n/a"], ["Quarry", "12"]),
        alias(2, &[1], ["", "n/a"], ["", "7"]),
        alias(3, &[1], ["", "smudged"], ["", "7"]),
        alias(4, &[1], ["", "smudged"], ["", "12"]),
        alias(5, &[1], ["", "unread"], ["", "never"]),
    ];
    for threads in [1, 3] {
        let mut source = Memory::new("harvest", &MAIN, &main, 2);
        let table = Memory::new("hives", &HIVES, &hives, 5);
        let mut enrichment = aliased(&plan, &source, table, &aliases, threads);
        let mut kept = Kept::default();
        enrichment.run(&mut source, &mut kept, None, threads).unwrap();
        let keepers: Vec<&str> = kept.0.iter().map(|row| &row[3][..]).collect();
        assert_eq!(keepers, ["Edda", "Orla", "", "Jorun", "", "", "Jorun"]);
        let states: Vec<AliasState> =
            enrichment.lookups().next().unwrap().aliases().map(|(_, state)| state).collect();
        let want = [
            AliasState::Used(1),
            AliasState::Used(1),
            AliasState::Used(1),
            AliasState::Again,
            AliasState::Broken,
        ];
        assert_eq!(states, want);
    }
}

/// What aliases of parts make of a key, in the simplest way: those of most parts first, all that fit at once.
fn replaced(key: &[String], aliases: &[Alias]) -> Option<Vec<String>> {
    let mut by_size: Vec<&Alias> =
        aliases.iter().filter(|one| one.parts.len() < key.len()).collect();
    by_size.sort_by_key(|one| std::cmp::Reverse(one.parts.len()));
    let (mut now, mut done) = (key.to_vec(), vec![false; key.len()]);
    for one in by_size {
        let fits = one.parts.iter().all(|&part| !done[part] && key[part] == one.main[part]);
        for &part in one.parts.iter().filter(|_| fits) {
            (now[part], done[part]) = (one.reference[part].clone(), true);
        }
    }
    done.contains(&true).then_some(now)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Aliases of parts hold for every key with their values, never for one that is found, and are counted.
    #[test]
    fn aliases_of_parts_hold_for_every_key_with_their_values(
        theirs in prop::collection::vec(prop::collection::vec("[abc]", 3), 1..8),
        ours in prop::collection::vec(prop::collection::vec("[abcxy]", 3), 1..20),
        said in prop::collection::vec((prop::collection::vec(any::<bool>(), 3), prop::collection::vec("[abxy]", 3), prop::collection::vec("[abc]", 3)), 0..5),
        threads in 1_usize..3,
    ) {
        let mut seen = std::collections::HashSet::new();
        let aliases: Vec<Alias> = said.into_iter().zip(1..).filter_map(|((about, main, reference), row)| {
            let parts: Vec<usize> = (0..3).filter(|&part| about[part]).collect();
            let only = |cells: Vec<String>| -> Vec<String> {
                cells.into_iter().enumerate().map(|(at, cell)| if parts.contains(&at) { cell } else { String::new() }).collect()
            };
            let (main, reference) = (only(main), only(reference));
            // One of a whole key, and a second for the same values, are other tests'.
            let is_new = !parts.is_empty() && parts.len() < 3 && seen.insert(main.clone());
            is_new.then_some(Alias { row, parts, main, reference })
        }).collect();
        let plan = plan("A, B, C", WhenDuplicate::First);
        let mut source = Memory::new("m", &["A", "B", "C"], &ours, 3);
        let table = Memory::new("r", &["A", "B", "C"], &theirs, 3);
        let plan = ReferencePlan { take: Some(Vec::new()), ..plan };
        let mut enrichment = aliased(&plan, &source, table, &aliases, threads);
        let found = enrichment.run(&mut source, &mut Discard::default(), None, threads).unwrap();
        let (mut matched, mut used) = (0, vec![0; aliases.len()]);
        for key in &ours {
            if theirs.contains(key) {
                matched += 1;
                continue;
            }
            let Some(other) = replaced(key, &aliases).filter(|other| theirs.contains(other)) else { continue };
            matched += 1;
            let mut done = [false; 3];
            let mut by_size: Vec<usize> = (0..aliases.len()).collect();
            by_size.sort_by_key(|&nth| std::cmp::Reverse(aliases[nth].parts.len()));
            for nth in by_size {
                let parts = &aliases[nth].parts;
                if parts.iter().all(|&part| !done[part] && key[part] == aliases[nth].main[part]) {
                    for &part in parts {
                        done[part] = true;
                    }
                    used[nth] += 1;
                }
            }
            prop_assert!(other != *key);
        }
        prop_assert_eq!(found.lookups[0].counts.of(Kind::Matched), matched);
        let lookup = enrichment.lookups().next().unwrap();
        for ((alias, state), used) in lookup.aliases().zip(used) {
            let is_there = theirs.iter().any(|key| alias.parts.iter().all(|&part| key[part] == alias.reference[part]));
            let want = if is_there { AliasState::Used(used) } else { AliasState::Gone };
            prop_assert_eq!(state, want, "{:?}", alias);
        }
    }
}

/// A cell as it is, or spelled in some other way.
fn messed() -> impl Strategy<Value = (usize, u8)> {
    (0..6_usize, 0..9_u8)
}

fn mess(value: &str, how: u8) -> String {
    match how {
        0 => value.to_uppercase(),
        1 => format!(" {value}"),
        2 => value.replace(' ', "  "),
        3 => value.replace('-', ""),
        4 => value.replace("-0", "-"),
        5 => value.replace('ô', "o"),
        _ => value.to_owned(),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// A fix has the effect it promises: as many rows match, become ambiguous and are lost.
    #[test]
    fn mends_keep_their_promise(
        hives in prop::collection::vec((messed(), messed(), 0..3_u8), 1..14),
        harvest in prop::collection::vec((messed(), messed()), 1..20),
        rule in 0..3_u8,
        threads in 1..3_usize,
    ) {
        let sites = ["Fellside", "Nether Moor", "Rhône", "fellside", "Quarry", "Moor"];
        let tags = ["H-007", "H-7", "7", "K-012", "007", "H-012"];
        let hives: Vec<Row> = hives
            .iter()
            .map(|((site, a), (tag, b), keeper)| {
                let cells = [mess(sites[*site], *a), mess(tags[*tag], *b)];
                let [site, tag] = cells;
                vec![site, tag, String::new(), String::new(), keeper.to_string()]
            })
            .collect();
        let main: Vec<Row> = harvest
            .iter()
            .map(|((site, a), (tag, b))| {
                vec![mess(sites[*site], *a), mess(tags[*tag], *b), String::new()]
            })
            .collect();
        let rule = match rule {
            0 => WhenDuplicate::Report,
            1 => WhenDuplicate::First,
            _ => WhenDuplicate::List,
        };
        let before = run(&main, &hives, &plan("Apiary = Site, Hive = Tag", rule.clone()), threads);
        let Some(diagnosis) = before.diagnosis() else { return Ok(()) };
        let mut fixed = 0;
        for fix in &diagnosis.fixes {
            prop_assert!(fix.fixed > fixed, "each fixes more than the one before");
            fixed = fix.fixed;
            let after = run(&main, &hives, &plan(&fix.on.join(", "), rule.clone()), threads);
            let kind = |ran: &Ran, row: usize| {
                ran.outcomes.0.get(&(row as u64 + 1)).copied().unwrap_or(Kind::Matched)
            };
            let changed = |is: &dyn Fn(Kind, Kind) -> bool| {
                let rows = (0..main.len()).map(|row| (kind(&before, row), kind(&after, row)));
                rows.filter(|(was, now)| is(*was, *now)).count() as u64
            };
            let found = |kind| matches!(kind, Kind::Matched | Kind::Ambiguous);
            let is_mended = |was, now| was == Kind::Unmatched && now == Kind::Matched;
            let is_new = |was, now| was != Kind::Ambiguous && now == Kind::Ambiguous;
            let is_lost = |was, now| found(was) && !found(now);
            prop_assert_eq!(fix.fixed, changed(&is_mended), "{:?}", fix);
            prop_assert_eq!(fix.newly_ambiguous, changed(&is_new), "{:?}", fix);
            prop_assert_eq!(fix.lost, changed(&is_lost), "{:?}", fix);
            // Tags have one letter or none. Where theirs differ, a row that matches is counted.
            let letter = |tag: &str| tag.chars().find(|c| c.is_alphabetic());
            let number = |tag: &str| tag.trim_start_matches(|c| !matches!(c, '1'..='9')).to_owned();
            let site = |site: &str| site.to_lowercase().replace(' ', "").replace('ô', "o");
            let mended = (0..main.len()).filter(|&row| is_mended(kind(&before, row), kind(&after, row)));
            let (mut like, mut unlike) = (0, 0);
            for row in mended {
                let is_held = |agree: bool| hives.iter().any(|hive| {
                    let letters = letter(&main[row][1]).zip(letter(&hive[1]));
                    letters.is_none_or(|(ours, theirs)| ours == theirs) == agree
                        && site(&main[row][0]) == site(&hive[0])
                        && number(&main[row][1]) == number(&hive[1])
                });
                like += u64::from(is_held(true));
                unlike += u64::from(is_held(false));
            }
            prop_assert!(fix.unlike <= unlike && like + fix.unlike >= fix.fixed, "{:?}", fix);
            prop_assert_eq!(fix.unlike > 0, fix.unlike_example.is_some());
        }
    }
}

proptest! {
    /// Faults of a key as a whole are found by looking at every row.
    #[test]
    fn an_unsound_key_is_told(
        hives in prop::collection::vec(("[AB]", "[12]?", "[xy]{0,1}"), 0..12),
        same in any::<bool>(),
    ) {
        let hives: Vec<Row> = hives
            .into_iter()
            .map(|(site, tag, keeper)| {
                let site = if same { "A".to_owned() } else { site };
                vec![site, tag, String::new(), String::new(), keeper]
            })
            .collect();
        let main = rows(&[&["A", "1", ""]]);
        let ran = run(&main, &hives, &plan("Apiary = Site, Hive = Tag", WhenDuplicate::Report), 1);
        let reported = ran.enrichment.lookups().next().unwrap().reference().unsound();
        let count = hives.len();
        let is_told = |wanted: &dyn Fn(&Unsound) -> bool| reported.iter().any(wanted);
        if count < 3 {
            prop_assert!(reported.is_empty());
            return Ok(());
        }
        for part in 0..2 {
            let constant = hives.iter().all(|row| row[part] == hives[0][part]);
            prop_assert_eq!(is_told(&|one| *one == Unsound::Constant(part)), constant);
        }
        let blank = hives.iter().filter(|row| row[1].is_empty()).count();
        let is_blank = |one: &Unsound| *one == Unsound::Blank { column: 1, rows: blank as u64 };
        prop_assert_eq!(is_told(&is_blank), blank * 5 >= count * 4);
        let mut times: BTreeMap<(&str, &str), usize> = BTreeMap::new();
        for row in hives.iter().filter(|row| !row[1].is_empty()) {
            *times.entry((&row[0], &row[1])).or_default() += 1;
        }
        let no_unique = times.len() > 1 && times.values().all(|times| *times > 1);
        prop_assert_eq!(is_told(&|one| *one == Unsound::NoUnique), no_unique);
    }
}

/// A lookup by position, or in which nothing can be asked, has no reasons.
#[test]
fn a_match_by_position_has_no_reasons() {
    let hives = rows(&[&["Fellside", "1", "", "", "Edda"]]);
    let main = rows(&[&["Fellside", "1", ""], &["Quarry", "2", ""]]);
    let ran = run(&main, &hives, &plan("@row", WhenDuplicate::Report), 1);
    assert_eq!(ran.found.counts.of(Kind::Unmatched), 1);
    assert!(ran.diagnosis().is_none() && ran.found.unmatched.keys().is_empty());
}
