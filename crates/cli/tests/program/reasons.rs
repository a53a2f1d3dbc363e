//! Why keys are unmatched, as the program reports it: reasons, advice that proves right, and aliases.

use super::scene::{Scene, snapshot};

/// The registry, in its own spelling.
const HIVES: &str = "\
Site code,Tag,Since,Old tag,Keeper
Fellside,H-007,2021-05-19,A-101,Edda
Nether Moor,H-012,2021-05-20,A-102,Corvin
Rhône Bank,H-100,2021-05-21,A-103,Jorun
Larkfield,31,2021-05-22,A-104,Tamsin
Mill Race,H-044,2021-05-23,A-105,Brenna
";

/// Rows messed up in known ways; the last column says how.
const MESSED: &str = "\
Apiary,Hive,Day,Messed
Fellside,H-007,2021-05-19,not at all
FELLSIDE,H-007,2021-05-19,letter case of Apiary
 Fellside,H-007,2021-05-19,surrounding space of Apiary
Nether\u{a0}Moor,H-012,2021-05-20,inner space of Apiary
Nether  Moor,H-012,2021-05-20,inner space of Apiary
Fellside,H-7,2021-05-19,the way the number in Hive is written
Larkfield,31.0,2021-05-22,the way the number in Hive is written
Fellside,H-007,19.5.2021,the way the date in Day is written
Rhone Bank,H-100,2021-05-21,accents of Apiary
Fellside,H-999,2021-05-19,every part is found except Hive
H-007,Fellside,2021-05-19,parts in another order
Felside,H-007,2021-05-19,probably a typing slip in Apiary
Mill Race,A-105,2021-05-23,Hive is in column Old tag of hives
Elsewhere,K-1,1999-01-01,nothing near
";

const ON: &str =
    "--from hives.csv --on 'Apiary = Site code, Hive = Tag, Day = Since' --take Keeper";

fn scene() -> Scene {
    Scene::empty().with("harvest.csv", MESSED).with("hives.csv", HIVES)
}

/// The number after a word at the beginning of a line.
fn count(summary: &str, word: &str) -> u64 {
    let line = summary.lines().find(|line| line.trim_start().starts_with(word)).unwrap();
    line.split_whitespace().nth(1).unwrap().replace(',', "").parse().unwrap()
}

#[test]
fn each_row_gets_the_reason_that_is_so() {
    let scene = scene();
    let ran = scene.run(&format!("enrich harvest.csv {ON} --lists lists -o out.csv")).ended(0);
    snapshot("reasons", &ran.err);
    let lists = scene.read("lists/unmatched.csv");
    let mut rows = csv::Reader::from_reader(lists.as_bytes());
    let reported: Vec<(usize, String)> = rows
        .records()
        .map(|row| row.unwrap())
        .map(|row| (row[2].parse().unwrap(), row[7].to_owned()))
        .collect();
    let want: Vec<(usize, String)> = MESSED
        .lines()
        .enumerate()
        .skip(2)
        .map(|(nth, line)| (nth, line.rsplit(',').next().unwrap().to_owned()))
        .collect();
    assert_eq!(reported, want);
    snapshot("nearest", &scene.read("lists/nearest.csv"));
}

/// Whoever adds what the summary advises gets what it promised.
#[test]
fn advice_comes_true() {
    let scene = scene();
    let before = scene.run(&format!("check harvest.csv {ON} -v")).ended(0).out;
    let mut followed = 0;
    let mut lines = before.lines();
    while let Some(line) = lines.next() {
        if !line.ends_with(" would match with") && !line.ends_with(" would find their key with") {
            continue;
        }
        let promised: u64 = line.split_whitespace().next().unwrap().parse().unwrap();
        let mut on = String::new();
        for line in lines.by_ref() {
            on += line.trim_end_matches('\\');
            if !line.ends_with('\\') {
                break;
            }
        }
        let after = scene
            .run(&format!("check harvest.csv --from hives.csv {on} --take Keeper -v"))
            .ended(0)
            .out;
        assert_eq!(count(&after, "matched"), count(&before, "matched") + promised, "{on}");
        followed += 1;
    }
    assert!(followed > 0, "{before}");
}

#[test]
fn reasons_can_be_left_out() {
    let ran = scene().run(&format!("check harvest.csv {ON} --no-reasons")).ended(0);
    assert!(!ran.out.contains("nothing near") && ran.out.contains("unmatched"));
}

/// The list of nearest keys, approved and given back, matches its rows and no others; what was
/// approved stays so when the list is written again.
#[test]
fn approved_pairs_are_aliases() {
    let scene = scene();
    let lists = format!("check harvest.csv {ON} --lists lists --overwrite");
    scene.run(&lists).ended(0);
    let nearest = scene.read("lists/nearest.csv");
    let approved = nearest.replacen("slip in Apiary,1,1,", "slip in Apiary,1,1,yes", 1);
    assert_ne!(approved, nearest);
    let gone = "hives,Fellside,H-7,2021-05-19,Fellside,H-700,2021-05-19,,,,yes\n";
    let direct = "hives,Fellside,H-007,2021-05-19,Larkfield,31,2021-05-22,,,,yes\n";
    let scene = scene
        .with("lists/nearest.csv", &approved)
        .with("aliases.csv", format!("{approved}{gone}{direct}"));
    let ran =
        scene.run(&format!("enrich harvest.csv {ON} --aliases aliases.csv -o out.csv -v")).ended(0);
    assert_eq!(count(&ran.err, "matched"), 2);
    let reported: Vec<&str> =
        ran.err.split("\n  ").filter(|line| line.starts_with("aliases:")).collect();
    snapshot("aliases", &(reported.join("\n") + "\n"));
    let out = scene.read("out.csv");
    let filled: Vec<&str> = out.lines().filter(|line| line.ends_with(",Edda")).collect();
    assert_eq!(filled.len(), 2);
    assert!(filled[1].starts_with("Felside,"));
    scene.run(&lists).ended(0);
    assert_eq!(scene.read("lists/nearest.csv"), approved);
    // A list that was saved in another form keeps that, and its approvals.
    let mut saved = csv::WriterBuilder::new();
    let saved = saved.delimiter(b'\t').quote_style(csv::QuoteStyle::Always);
    let mut saved = saved.terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    let mut rows = csv::ReaderBuilder::new().has_headers(false).from_reader(approved.as_bytes());
    rows.records().for_each(|row| saved.write_record(&row.unwrap()).unwrap());
    let saved = String::from_utf8(saved.into_inner().unwrap()).unwrap();
    let saved: Vec<u8> =
        format!("\u{feff}{saved}").encode_utf16().flat_map(u16::to_le_bytes).collect();
    let scene = scene.with("lists/nearest.csv", &saved);
    scene.run(&lists).ended(0);
    assert!(std::fs::read(scene.path("lists/nearest.csv")).unwrap() == saved);
    let why = scene.run(&format!("why harvest.csv --row 12 {ON} --aliases aliases.csv")).ended(0);
    let reported = why.out.replace("\n    ", " ");
    assert!(reported.contains("an alias replaces it with Fellside, H-007"), "{reported}");
}

/// What is wrong with a key as a whole is said.
#[test]
fn a_key_that_is_no_key_is_told() {
    let hives = "Farm,Site,Tag,Spare\nCo-op,A,1,\nCo-op,A,2,\nCo-op,B,1,\nCo-op,B,2,x\n";
    let scene = Scene::empty()
        .with("hives.csv", hives)
        .with("main.csv", "Farm,Site,Tag,Spare\nCo-op,A,1,\n");
    for (on, want) in [
        ("Farm, Tag, Site", "key: Farm is the same in every row of hives"),
        ("Site", "key: every key of hives is on several of its rows"),
        ("Spare, Tag", "key: Spare is blank in 3 of 4 rows"),
    ] {
        let from = if on == "Spare, Tag" { "blank.csv" } else { "hives.csv" };
        let more = hives.to_owned() + "Co-op,C,3,\n";
        let scene = Scene::empty()
            .with("hives.csv", hives)
            .with("blank.csv", more)
            .with("main.csv", "Farm,Site,Tag,Spare\nCo-op,A,1,\n");
        let ran =
            scene.run(&format!("check main.csv --from {from} --name hives --on '{on}'")).ended(0);
        let reported = ran.out.replace("\n    ", " ");
        let want = want.replace("3 of 4", "4 of 5");
        assert!(reported.contains(&want), "{on}: {reported}");
    }
    let ran = scene.run("check hives.csv --from hives.csv --on 'Site, Tag' --take Spare").ended(0);
    assert!(ran.out.contains("hives.csv is on both sides"), "{}", ran.out);
}

/// `why` gives each row its reason, and what would match it.
#[test]
fn why_tells_the_reason() {
    let scene = scene();
    for (row, reason, fix) in [
        (2, "letter case of Apiary", Some("--on 'Apiary | fold = Site code | fold' \\")),
        (
            6,
            "the way the number in Hive is written",
            Some("--on 'Hive | digits | number = Tag | digits | number' \\"),
        ),
        (
            8,
            "the way the date in Day is written",
            Some("--on 'Day | date %d.%m.%Y = Since | date'"),
        ),
        (10, "every part is found except Hive", None),
        (11, "parts in another order", None),
        (12, "probably a typing slip in Apiary", None),
        (14, "nothing near", None),
    ] {
        let ran = scene.run(&format!("why harvest.csv --row {row} {ON}")).ended(0);
        assert!(ran.out.contains(&format!("Reason: {reason}.")), "{row}: {}", ran.out);
        match fix {
            Some(fix) => assert!(ran.out.contains(fix), "{row}: {}", ran.out),
            None => assert!(!ran.out.contains("--on"), "{row}: {}", ran.out),
        }
        let near = ran.out.contains("The nearest is row ");
        assert_eq!(near, reason != "nothing near", "{row}: {}", ran.out);
    }
}

/// In a plan the fix is written as the plan has it, and comes true there.
#[test]
fn a_plan_is_told_what_to_write_into_it() {
    let plan = |on: &str| {
        format!(
            "[main]\ntable = 'harvest.csv'\n[[reference]]\ntable = 'hives.csv'\n{on}\n\
             take = 'Keeper'\n"
        )
    };
    let scene =
        scene().with("plan.toml", plan("on = 'Apiary = Site code, Hive = Tag, Day = Since'"));
    let before = scene.run("check plan.toml -v").ended(0).out;
    let (_, advice) = before.rsplit_once("rows would match with\n").unwrap();
    let (on, _) = advice.split_once("    and nothing").unwrap();
    assert!(on.trim_start().starts_with("on = ["), "{before}");
    let scene = scene.with("plan.toml", plan(on));
    let after = scene.run("check plan.toml -v").ended(0).out;
    assert_eq!(count(&after, "matched"), count(&before, "matched") + 7);
}

/// What is asked for in vain is an error with its fix, and nothing is written.
#[test]
fn aliases_that_are_none_are_refused() {
    let scene = scene()
        .with("other.csv", "Apiary,Hive\nFellside,H-1\n")
        .with("again.csv", "Apiary,Hive,Day,nearest Site code,nearest Tag,nearest Since\n");
    let before = scene.files();
    let ran =
        scene.run(&format!("enrich harvest.csv {ON} --aliases other.csv -o out.csv")).ended(2);
    let reported = ran.err.replace("\n       ", " ");
    assert!(
        reported.contains("it lacks `Day`, `nearest Site code`, `nearest Tag` and `nearest Since`"),
        "{reported}"
    );
    let ran = scene.run(&format!("enrich harvest.csv {ON} --aliases gone.csv -o out.csv")).ended(2);
    assert!(ran.err.contains("gone.csv"), "{}", ran.err);
    // A list that is being read is not written.
    let ran = scene.run(&format!("check harvest.csv {ON} --aliases again.csv --report again.csv"));
    assert_eq!((ran.status, scene.files() == before), (2, true), "{}", ran.err);
    // None is used where none is asked for.
    let ran = scene.run(&format!("check harvest.csv {ON} --aliases again.csv")).ended(0);
    assert!(!ran.out.contains("aliases:"), "{}", ran.out);
}

/// The owners of meadows: one misspelled name is in many rows.
const OWNERS: &str =
    "Owner,Meadow,Phone\nHeather Board,1,x1\nHeather Board,2,x2\nHeather Board,3,x3\nMill,1,m1\n";

/// One value of a part that is in several keys is proposed once, as an alias for that part, and holds for all of
/// them.
#[test]
fn a_part_has_aliases_too() {
    let scene = Scene::empty().with("owners.csv", OWNERS).with(
        "m.csv",
        "Owner,Meadow\nHether Board,1\nHether Board,2\nHether Board,2\nHether Board,3\nMill,1\nHether Board,9\n",
    );
    let on = "m.csv --from owners.csv --on 'Owner, Meadow' --take Phone";
    scene.run(&format!("check {on} --lists lists")).ended(0);
    let nearest = scene.read("lists/nearest.csv");
    let approved = nearest.replacen(",4,\n", ",4,yes\n", 1);
    assert_ne!(approved, nearest);
    let scene = scene
        .with("lists/nearest.csv", &approved)
        .with("approved.csv", &approved)
        .with("own.csv", "Owner,nearest Owner\nHether Board,Heather Board\nNowhere,Nobody\n,\n");
    let mut said = format!("{nearest}\n");
    for file in ["approved.csv", "own.csv"] {
        let ran = scene.run(&format!("enrich {on} --aliases {file} -v")).ended(0);
        assert_eq!(count(&ran.err, "matched"), 5, "{file}");
        let lines = ran.err.split("\n  ").filter(|line| line.starts_with("aliases:"));
        said += &format!("{file}\n{}\n", lines.collect::<Vec<_>>().join("\n"));
    }
    let why = scene.run(&format!("why {on} --aliases own.csv --row 2")).ended(0);
    said += &why.out;
    snapshot("aliases-of-parts", &said);
    // What was approved stays so.
    scene.run(&format!("check {on} --lists lists --overwrite")).ended(0);
    assert_eq!(scene.read("lists/nearest.csv"), approved);
    // A file with the columns of one side only is none.
    let scene = scene.with("half.csv", "Owner,Meadow,nearest Meadow\n");
    scene.run(&format!("enrich {on} --aliases half.csv -q")).ended(0);
    let scene = scene.with("half.csv", "Owner,Meadow\n");
    scene.run(&format!("enrich {on} --aliases half.csv -q")).ended(2);
}
