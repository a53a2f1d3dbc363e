//! The whole of `enrich` against a naive truth: random small tables and options, cell by cell and count by count.
//!
//! `CASES=65000 cargo test -p gather-keys --release -- differential` tries as many; a case that fails is printed with its
//! number, and `CASE=N` runs that one alone.

mod case;
mod truth;

use super::scene::Scene;
use case::Case;

#[test]
fn every_cell_and_count_is_the_naive_one() {
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse().ok());
    let cases: Vec<u64> = match number("CASE") {
        Some(one) => vec![one],
        None => (0..number("CASES").unwrap_or(400)).collect(),
    };
    let threads = std::thread::available_parallelism().map_or(2, usize::from);
    let share = cases.len().div_ceil(threads).max(1);
    std::thread::scope(|scope| {
        for some in cases.chunks(share) {
            scope.spawn(|| some.iter().for_each(|&nth| holds(nth)));
        }
    });
}

/// Runs a case, and compares what comes of it with the truth.
fn holds(nth: u64) {
    let case = Case::random(nth);
    let scene = Scene::empty()
        .with("main.csv", case::csv(&case::MAIN, &case.main))
        .with("ref-1.csv", case::csv(&case::REFERENCE, &case.reference[..case.cut]))
        .with("ref-2.csv", case::csv(&case::REFERENCE, &case.reference[case.cut..]))
        .with("fixes.csv", case.fixes())
        .with("aliases.csv", case.aliases());
    let call = case.call();
    let mut program = scene.program();
    let ran: super::scene::Ran = program.args(&call).output().unwrap().into();
    let reported =
        || format!("case {nth}: gather-keys {}\n{}\n{}", case::shown(&call), case.shown(), ran.err);
    if ran.status == 2 && ran.err.contains("finds no number and no date") {
        // There is no bound at all that could be compared.
        return;
    }
    assert_eq!(ran.status, 0, "{}", reported());
    let truth = truth::enrich(&case);
    let text = ran.out.as_bytes();
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(text);
    let mut rows: Vec<Vec<String>> = Vec::new();
    for record in reader.records() {
        rows.push(record.unwrap().iter().map(str::to_owned).collect());
    }
    let headers = rows.remove(0);
    assert_eq!(headers.len(), truth.rows.first().map_or(headers.len(), Vec::len), "{}", reported());
    assert_eq!(rows, truth.rows, "{}", reported());
    let report: serde_json::Value = serde_json::from_str(&scene.read("report.json")).unwrap();
    let found = &report["references"][0];
    let lists = ["outcomes", "of_these", "reference_findings"];
    for one in lists.iter().flat_map(|list| found[list].as_array().unwrap()) {
        let kind = one["kind"].as_str().unwrap();
        if let Some(want) = truth.counts.get(kind) {
            assert_eq!(one["count"].as_u64().unwrap(), *want, "{kind}\n{}", reported());
        }
    }
    let outcomes = found["outcomes"].as_array().unwrap();
    let all: u64 = outcomes.iter().map(|one| one["count"].as_u64().unwrap()).sum();
    assert_eq!(all, case.main.len() as u64, "{}", reported());
}
