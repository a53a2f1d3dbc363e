//! Reports as a page, as Markdown and as JSON.

use super::scene::{ON_HIVES, Scene, snapshot};

#[test]
fn a_report_has_three_forms() {
    let scene = Scene::new();
    let reports = "--report r.html --report r.md --report r.json";
    let line = format!(
        "enrich harvest.csv {ON_HIVES} --take Keeper --require 'unmatched <= 5%' {reports} -o out.csv"
    );
    // The report is there although the output is not: it says why.
    let ran = scene.run(&line).ended(1);
    assert!(ran.err.contains("Wrote the reports r.html, r.md and r.json."), "{}", ran.err);
    assert!(!scene.path("out.csv").exists());
    snapshot("report-markdown", &scene.read("r.md"));
    snapshot("report-json", &scene.read("r.json"));
    let page = scene.read("r.html");
    for part in ["does not hold", "Nothing was written to out.csv", "H-009", "does not hold"] {
        assert!(page.contains(part), "{part}");
    }
    // The same run makes the same report, and does not write over the one that is there unasked.
    let before = scene.files();
    scene.run(&line).ended(2);
    assert_eq!(scene.files(), before);
    let line = format!("{line} --overwrite");
    scene.run(&line).ended(1);
    let before = scene.files();
    scene.run(&line).ended(1);
    assert!(scene.files() == before);
}

/// What has changed between the run before and this one is in each form.
#[test]
fn a_report_has_what_moved_and_what_was_changed_by_hand() {
    let scene = Scene::new();
    let line = format!("enrich harvest.csv {ON_HIVES} --take Keeper -o out.csv --receipt run.json");
    scene.run(&line).ended(0);
    let edited = scene.read("out.csv").replacen("Edda", "Edith", 1);
    let harvest = scene.read("harvest.csv") + "B8,Fellside,H-777,\n";
    let scene = scene.with("out.csv", edited).with("harvest.csv", harvest);
    scene.run(&format!("{line} --report r.html --report r.md --report r.json -q")).ended(1);
    let reports = ["r.html", "r.md", "r.json"].map(|name| scene.read(name));
    for said in [
        "Nothing was written to out.csv, since it was changed after the last run.",
        "row 1, Keeper: Edda became Edith",
        "harvest.csv has 1 more row, 8 in all",
    ] {
        assert!(reports.iter().all(|report| report.contains(said)), "{said}");
    }
    let told: serde_json::Value = serde_json::from_str(&reports[2]).unwrap();
    let unmatched = "hives: 1 key is unmatched that was not: Fellside, H-777";
    assert_eq!(told["since"][1], unmatched);
    assert_eq!(
        (&told["written"]["appeared"], &told["written"]["rows"]),
        (&false.into(), &0.into())
    );
}

/// Whatever is in a cell is text in the report, and nothing else.
#[test]
fn hostile_cells_are_inert() {
    let long = "x".repeat(5000);
    let hostile = [
        "<script>alert(1)</script>",
        "\"><img src=x onerror=alert(1)>",
        "&lt;b&gt; | pipe `code` *bold* [link](http://x)",
        "\u{202e}desrever",
        "</title></table></details>",
        &long,
    ];
    let mut main = csv::Writer::from_writer(Vec::new());
    main.write_record(["Hive", "<i>Note</i>"]).unwrap();
    for cell in hostile {
        main.write_record([cell, cell]).unwrap();
    }
    let mut hives = csv::Writer::from_writer(Vec::new());
    hives.write_record(["Hive", "<b>Keeper</b>"]).unwrap();
    for cell in hostile {
        hives.write_record([&format!("{cell}?"), cell]).unwrap();
    }
    let scene = Scene::empty()
        .with("<u>main.csv", main.into_inner().unwrap())
        .with("hives.csv", hives.into_inner().unwrap());
    scene
        .run("check '<u>main.csv' --from hives.csv --on Hive --report r.html --report r.md")
        .ended(0);
    let page = scene.read("r.html");
    let (_, body) = page.split_once("<body>").unwrap();
    for tag in ["<script", "<img", "<i>", "<b>", "<u>", "</title></table>", "onerror=alert(1)>"] {
        assert!(!body.contains(tag), "{tag}");
    }
    let opened = |tag: &str| body.matches(&format!("<{tag}")).count();
    for tag in ["table", "details", "section", "bdi"] {
        assert_eq!(opened(tag), body.matches(&format!("</{tag}>")).count(), "{tag}");
    }
    assert!(page.contains("default-src 'none'"));
    assert!(!page.contains("http://") || page.contains("[link](http://x)"));
    // A cell that no person reads to its end is cut.
    assert!(!page.contains(&long[..1000]));
    let markdown = scene.read("r.md");
    assert!(!markdown.contains("<script") && !markdown.contains("<img"));
    assert!(markdown.contains("\\[link\\]"));
}

#[test]
fn other_endings_are_refused() {
    let scene = Scene::new();
    let before = scene.files();
    for (reports, said) in [
        ("--report r.pdf", "a report ends with .html, .md or .json"),
        ("--report r.md --report ./r.md", "./r.md would be written twice"),
        (
            "--report lists/r.md --lists lists --report lists/unmatched.csv",
            "would be both a list and a report",
        ),
        ("--report harvest.csv", "harvest.csv"),
        ("--report nowhere/r.md", "nowhere"),
    ] {
        let ran = scene.run(&format!("check harvest.csv {ON_HIVES} {reports}")).ended(2);
        assert!(ran.err.replace("\n       ", " ").contains(said), "{reports}: {}", ran.err);
        assert_eq!(scene.files(), before, "{reports}");
    }
    let ran =
        scene.run(&format!("enrich harvest.csv {ON_HIVES} --take Line --report r.md -o r.md"));
    assert_eq!((ran.status, scene.files() == before), (2, true), "{}", ran.err);
}
