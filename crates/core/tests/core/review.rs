//! Questions that a pass leaves, and what they may be answered with.

use gather_keys_core::Error;
use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::Findings;
use gather_keys_core::plan::{On, ReferencePlan, Take};
use gather_keys_core::review::{About, Candidate, Gatherer, Question, Seeker, questions};
use gather_keys_core::table::Discard;
use proptest::prelude::*;

use crate::memory::{Memory, Row, enrichment, rows};

struct Passed {
    enrichment: Enrichment,
    findings: Findings,
    gathered: Gatherer<Error>,
}

fn pass(main: &[Row], hives: &[Row], on: &str, threads: usize) -> Passed {
    let mut main = Memory::new("harvest", &["Apiary", "Hive"], main, 3);
    let hives = Memory::new("hives", &["Site", "Tag", "Keeper"], hives, 3);
    let plan = ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&[on]).unwrap(),
        take: Some(Take::parse("Keeper").unwrap()),
        ..ReferencePlan::default()
    };
    let mut enrichment = enrichment(&plan, &main, hives, threads).unwrap().explaining(true);
    let mut gathered = Gatherer::new(1);
    let findings =
        enrichment.run(&mut main, &mut Discard::default(), Some(&mut gathered), threads).unwrap();
    Passed { enrichment, findings, gathered }
}

impl Passed {
    fn questions(&self) -> Vec<Question> {
        questions(&self.enrichment, &self.findings, &self.gathered, 2, |_| false)
    }

    /// A question in short.
    fn told(&self, question: &Question) -> String {
        let key = |at: usize| {
            let key = &self.findings.lookups[0].unmatched.keys()[at];
            key.read().collect::<Vec<_>>().join(",")
        };
        let about = match &question.about {
            About::Key(at) => format!("key {}", key(*at)),
            About::Value { part, keys } => {
                let keys: Vec<String> = keys.iter().map(|at| key(*at)).collect();
                format!("part {part} of {}", keys.join(" "))
            }
            About::Disputed(at) => {
                format!("disputed {}", self.gathered.disputed(0)[*at].cells.join(","))
            }
            About::Unreadable(at) => {
                format!("unreadable {}", self.gathered.unreadable(0)[*at].cells.join(","))
            }
        };
        format!("{} rows: {about}", question.rows)
    }

    /// Candidates by their keys as they are compared, with how many rows they would match.
    fn keys(&self, candidates: &[Candidate]) -> Vec<String> {
        let reference = self.enrichment.lookups().next().unwrap().reference();
        let key = |one: &Candidate| {
            let key: Vec<&str> = reference.as_compared(one.entry).collect();
            format!("{} ({})", key.join(","), one.rows)
        };
        candidates.iter().map(key).collect()
    }
}

/// The questions of most rows come first, with what comes nearest; a shared value is asked about once.
#[test]
fn questions_come_in_order_with_what_is_near() {
    let hives = rows(&[
        &["Fellside", "1", "Edda"],
        &["Fellside", "2", "Edda"],
        &["Harbour Board", "1", "Orla"],
        &["Harbour Board", "2", "Orla"],
        &["Harbour Board", "2", "Jorun"],
        &["Larkfield", "7", "Brenna"],
    ]);
    let main = rows(&[
        &["Larkfeild", "7"],
        &["Fellside", "?"],
        &["Fellside", "?"],
        &["Harbor Board", "1"],
        &["Harbor Board", "2"],
        &["Harbor Board", "2"],
        &["Harbour Board", "2"],
        &["Fellside", "2"],
        &["", "2"],
    ]);
    for threads in [1, 3] {
        let passed = pass(&main, &hives, "Apiary = Site, Hive | number = Tag | number", threads);
        let asked = passed.questions();
        let told: Vec<String> = asked.iter().map(|one| passed.told(one)).collect();
        let want = [
            "3 rows: part 0 of Harbor Board,1 Harbor Board,2",
            "2 rows: unreadable Fellside,?",
            "1 rows: key Larkfeild,7",
            "1 rows: disputed Harbour Board,2",
        ];
        assert_eq!(told, want);
        let found = (&passed.findings, &passed.gathered);
        let mut seeker = Seeker::new(&passed.enrichment, found, &asked, threads);
        let keys = |all: &[Candidate]| passed.keys(all);
        // The nearest value first, though another would match as many.
        assert_eq!(keys(&seeker.candidates(0)), ["Harbour Board,1 (3)", "Fellside,1 (3)"]);
        assert_eq!(keys(&seeker.candidates(1)), ["Fellside,1 (2)", "Fellside,2 (2)"]);
        assert_eq!(keys(&seeker.candidates(2)), ["Larkfield,7 (1)"]);
        assert_eq!(keys(&seeker.candidates(3)), ["Harbour Board,2 (1)", "Harbour Board,2 (1)"]);
        // Searched by words of keys and of cells, in any case.
        assert_eq!(keys(&seeker.search(0, "BOARD")), ["Harbour Board,1 (3)"]);
        assert_eq!(keys(&seeker.search(1, "orla 1")), ["Harbour Board,1 (2)"]);
        assert_eq!(keys(&seeker.search(2, "fellside")), ["Fellside,1 (1)", "Fellside,2 (1)"]);
        assert_eq!(keys(&seeker.search(3, "jorun")), ["Harbour Board,2 (1)"]);
        assert!(seeker.search(2, "nobody").is_empty());
        // What is settled is not asked; its keys are asked about by themselves.
        let is_value = |question: &Question| matches!(question.about, About::Value { .. });
        let left = questions(&passed.enrichment, &passed.findings, &passed.gathered, 1, is_value);
        let told: Vec<String> = left.iter().map(|one| passed.told(one)).collect();
        assert_eq!(told[..2], ["2 rows: key Harbor Board,2", "2 rows: unreadable Fellside,?"]);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Every row that a person may settle is asked about, in one question of its lookup; a candidate for a value matches as many
    /// rows as it says.
    #[test]
    fn every_row_is_asked_about(
        hives in prop::collection::vec(("[abc]", "[12x]", "[pq]"), 1..12),
        main in prop::collection::vec(("[abcdeABC]", "[123x?]"), 1..30),
        threads in 1_usize..3,
    ) {
        let hives: Vec<Row> = hives.into_iter().map(|(a, b, c)| vec![a, b, c]).collect();
        let main: Vec<Row> = main.into_iter().map(|(a, b)| vec![a, b]).collect();
        let passed = pass(&main, &hives, "Apiary = Site, Hive | number = Tag | number", threads);
        let asked = passed.questions();
        let read = |text: &str| text.parse::<u32>().ok();
        let held = |row: &Row| {
            let is_it = |hive: &&Row| hive[0] == row[0] && read(&hive[1]).is_some() && read(&hive[1]) == read(&row[1]);
            hives.iter().filter(is_it).map(|hive| &hive[2]).collect::<std::collections::BTreeSet<_>>().len()
        };
        let open = main.iter().filter(|row| held(row) != 1).count() as u64;
        prop_assert!(asked.is_sorted_by_key(|question| std::cmp::Reverse(question.rows)));
        // A key whose values are both unknown belongs to neither.
        prop_assert_eq!(asked.iter().map(|question| question.rows).sum::<u64>(), open);
        let mut seeker = Seeker::new(&passed.enrichment, (&passed.findings, &passed.gathered), &asked, threads);
        for (nth, question) in asked.iter().enumerate() {
            let candidates = seeker.candidates(nth);
            let About::Value { part, keys } = &question.about else { continue };
            let reference = passed.enrichment.lookups().next().unwrap().reference();
            let all = passed.findings.lookups[0].unmatched.keys();
            for one in candidates {
                let value = reference.as_compared(one.entry).nth(*part).unwrap().to_owned();
                let would: u64 = keys.iter().map(|&at| {
                    let mut parts: Vec<String> = all[at].parts().map(str::to_owned).collect();
                    parts[*part].clone_from(&value);
                    let is_held = hives.iter().any(|hive| hive[0] == parts[0] && read(&hive[1]).map(|n| n.to_string()).as_ref() == Some(&parts[1]));
                    if is_held { all[at].rows } else { 0 }
                }).sum();
                prop_assert_eq!(one.rows, would);
            }
        }
    }
}
