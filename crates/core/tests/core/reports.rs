//! Reports hold what was found, and no more than they say.

use gather_keys_core::diagnosis::{Diagnosis, NEAREST, Reason};
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, GateResult, Kind};
use gather_keys_core::plan::{On, ReferencePlan, Take};
use gather_keys_core::report::{Document, FORM, Gathering, LISTED, Report};
use gather_keys_core::table::Discard;
use proptest::prelude::*;

use crate::memory::{Memory, Row, enrichment};

const MAIN: [&str; 2] = ["Apiary", "Hive"];
const HIVES: [&str; 3] = ["Site", "Tag", "Keeper"];

fn plan(on: &str) -> ReferencePlan {
    ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&[on]).unwrap(),
        take: Some(Take::parse("Keeper").unwrap()),
        ..ReferencePlan::default()
    }
}

/// What a run over these tables finds.
struct Ran {
    enrichment: Enrichment,
    findings: Findings,
    diagnoses: Vec<Option<Diagnosis>>,
}

impl Ran {
    fn of(main: &[Row], hives: &[Row], on: &str, threads: usize) -> Self {
        let mut main = Memory::new("harvest", &MAIN, main, 64);
        let hives = Memory::new("hives", &HIVES, hives, 64);
        let enrichment = enrichment(&plan(on), &main, hives, threads).unwrap();
        let mut enrichment = enrichment.explaining(true).sampling(LISTED);
        let findings = enrichment.run(&mut main, &mut Discard::default(), None, threads).unwrap();
        let lookups = enrichment.lookups().zip(&findings.lookups);
        let diagnoses =
            lookups.map(|(lookup, found)| Diagnosis::of(lookup, found, threads)).collect();
        Self { enrichment, findings, diagnoses }
    }

    fn report(&self, gates: &[GateResult]) -> Report {
        let gathering = Gathering {
            version: "9.9.9",
            main: "harvest.csv",
            enrichment: &self.enrichment,
            findings: &self.findings,
            diagnoses: &self.diagnoses,
            advice: vec![vec!["look at it".to_owned()]],
            gates,
            listed: gather_keys_core::report::LISTED,
            output: Some(("out.csv", gates.iter().all(|gate| gate.holds))),
            command: None,
            plan: None,
            since: Vec::new(),
            edits: Vec::new(),
        };
        gathering.report()
    }
}

fn cells(rows: &[[&str; 2]]) -> Vec<Row> {
    rows.iter().map(|row| row.map(str::to_owned).to_vec()).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]

    /// The numbers of a report are those of the findings, and they add up; it is the same whatever
    /// the number of threads.
    #[test]
    fn numbers_add_up(
        main in prop::collection::vec(("[AB]?| A", "[0-3]{1,2}|x?"), 0..40),
        hives in prop::collection::vec(("[AB]?", "[0-3]{1,2}", "[xy]"), 0..20),
        threads in 2..4_usize,
    ) {
        let main: Vec<Row> = main.into_iter().map(|(a, b)| vec![a, b]).collect();
        let hives: Vec<Row> = hives.into_iter().map(|(a, b, c)| vec![a, b, c]).collect();
        let on = "Apiary = Site, Hive = Tag";
        let ran = Ran::of(&main, &hives, on, 1);
        let report = ran.report(&[]);
        prop_assert_eq!(&Ran::of(&main, &hives, on, threads).report(&[]), &report);
        let counts = ran.findings.lookups[0].counts;
        let reported = &report.references[0];
        let outcomes: u64 = reported.outcomes.iter().map(|one| one.count).sum();
        prop_assert_eq!((report.main.rows, outcomes), (main.len() as u64, main.len() as u64));
        let unmatched = counts.of(Kind::Unmatched);
        let of_reasons: u64 = reported.reasons.iter().map(|one| one.rows).sum();
        prop_assert_eq!(of_reasons, unmatched);
        let of_keys: u64 = reported.unmatched.iter().map(|one| one.rows).sum();
        prop_assert_eq!(of_keys, unmatched);
        let troubles = [Kind::Ambiguous, Kind::BlankKey, Kind::Malformed];
        let rows: u64 = troubles.iter().map(|kind| counts.of(*kind)).sum();
        prop_assert_eq!(reported.main_rows.len() as u64, rows);
        prop_assert_eq!(reported.unused.len() as u64, counts.of(Kind::Unused));
        let shared = counts.of(Kind::Duplicate) + counts.of(Kind::Conflicting);
        prop_assert_eq!(reported.shared_keys.len() as u64, shared);
        for key in &reported.unmatched {
            let row = &main[key.row as usize - 1];
            prop_assert_eq!(&key.key, row);
            prop_assert!(!hives.iter().any(|hive| hive[..2] == row[..]));
            if let Some(nearest) = &key.nearest {
                prop_assert!(hives.iter().any(|hive| hive[..2] == nearest[..]));
            }
        }
    }
}

#[test]
fn a_report_says_what_there_is() {
    let hives: Vec<Row> = [["Fellside", "H-007", "Edda"], ["Quarry", "7", "Jorun"]]
        .iter()
        .map(|row| row.map(str::to_owned).to_vec())
        .collect();
    let main =
        cells(&[["FELLSIDE", "H-007"], ["FELLSIDE", "H-007"], ["Quarry", "8"], ["Quarry", "7"]]);
    let ran = Ran::of(&main, &hives, "Apiary = Site, Hive = Tag", 1);
    let gate = GateResult {
        population: gather_keys_core::findings::Population::MainRows,
        gate: "unmatched = 0".to_owned(),
        reference: "hives".to_owned(),
        label: Kind::Unmatched.label(),
        count: 3,
        total: 4,
        holds: false,
    };
    let report = ran.report(&[gate]);
    assert_eq!((report.form, &report.version[..]), (FORM, "9.9.9"));
    let written = report.written.as_ref().unwrap();
    assert_eq!((written.rows, &written.added[..]), (0, &["Keeper".to_owned()][..]));
    assert!(!report.gates[0].holds && report.gates[0].count == 3);
    let reported = &report.references[0];
    assert_eq!(report.title, "harvest.csv not enriched from hives");
    assert!(report.outcome.starts_with("Nothing was written to out.csv"), "{}", report.outcome);
    assert_eq!(
        (&reported.main_key[..], &reported.reference_key[..]),
        (&["Apiary".to_owned(), "Hive".to_owned()][..], &["Site".to_owned(), "Tag".to_owned()][..])
    );
    let example = reported.reasons[1].example.as_ref().unwrap();
    assert_eq!(example.key, ["Quarry", "8"]);
    assert_eq!(reported.on, ["Apiary = Site", "Hive = Tag"]);
    let reasons: Vec<(&str, u64)> =
        reported.reasons.iter().map(|one| (&one.reason[..], one.rows)).collect();
    assert_eq!(reasons, [("letter case of Apiary", 2), ("every part is found except Hive", 1)]);
    let parts: Vec<(&str, u64)> =
        reported.parts.iter().map(|one| (&one.part[..], one.rows)).collect();
    assert_eq!(parts, [("Apiary", 2), ("Hive", 1)]);
    assert_eq!(reported.fixes.len(), 1);
    assert_eq!(reported.fixes[0].on, ["Apiary | fold = Site | fold", "Hive = Tag"]);
    assert_eq!((reported.fixes[0].fixed, reported.fixes[0].newly_ambiguous), (2, 0));
    assert_eq!(reported.unmatched[0].nearest.as_deref().unwrap(), ["Fellside", "H-007"]);
    assert_eq!((reported.unmatched[0].rows, reported.unmatched[0].row), (2, 1));
    assert_eq!(reported.advice, ["look at it"]);
    let json: serde_json::Value = serde_json::from_str(&report.json()).unwrap();
    assert_eq!(json["references"][0]["unmatched"][1]["key"], serde_json::json!(["Quarry", "8"]));
    assert!(Report::schema().contains("\"ReferenceTold\""));
}

/// Of many keys the first are listed, and the nearest is searched for only for those.
#[test]
fn bounds_are_kept_and_told() {
    let many = NEAREST + 50;
    let main: Vec<Row> = (0..many).map(|n| vec!["Fellside".to_owned(), format!("K-{n}")]).collect();
    let hives = vec![vec!["Fellside".to_owned(), "H-1".to_owned(), "Edda".to_owned()]];
    let ran = Ran::of(&main, &hives, "Apiary = Site, Hive = Tag", 2);
    let diagnosis = ran.diagnoses[0].as_ref().unwrap();
    assert_eq!((diagnosis.explained.len(), diagnosis.not_sought), (many, 50));
    let is_sought = |nth: usize| diagnosis.explained[nth].reason != Reason::NotSought;
    assert!((0..NEAREST).all(is_sought) && !(NEAREST..many).any(is_sought));
    let report = ran.report(&[]);
    assert_eq!(report.references[0].unmatched.len(), LISTED);
    // Spelling is looked at in all of them.
    let mut main = main;
    main[many - 1] = vec!["fellside".to_owned(), "H-1".to_owned()];
    let ran = Ran::of(&main, &hives, "Apiary = Site, Hive = Tag", 2);
    let last = ran.diagnoses[0].as_ref().unwrap().explained.last().unwrap();
    assert!(matches!(last.reason, Reason::Spelled(_)), "{last:?}");
}

/// With nothing unmatched, or nothing kept, there is nothing to diagnose.
#[test]
fn no_diagnosis_without_unmatched_keys() {
    let hives = vec![vec!["A".to_owned(), "1".to_owned(), "x".to_owned()]];
    let ran = Ran::of(&cells(&[["A", "1"], ["", "1"]]), &hives, "Apiary = Site, Hive = Tag", 1);
    assert!(ran.diagnoses[0].is_none());
    let report = ran.report(&[]);
    assert!(report.references[0].reasons.is_empty() && report.references[0].fixes.is_empty());
    assert_eq!(report.references[0].main_rows[0].kind, "blank key");
}
