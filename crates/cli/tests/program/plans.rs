//! Plans: saved, read, run again, with options that replace keys, and with errors.

use super::scene::{ON_HIVES, Scene, snapshot};

const PLAN: &str = "\
output = \"out.csv\"
require = [\"unmatched <= 50%\", \"hives.malformed = 0\"]

[main]
table = \"harvest.csv\"

[[reference]]
table = \"hives.csv\"
on = [\"Apiary = Site code\", 'Hive = Tag']
take = \"Keeper, Line as Queen line\"
when_duplicate = \"last\"
";

#[test]
fn what_was_typed_is_saved_and_does_the_same() {
    let scene = Scene::new();
    std::fs::create_dir(scene.path("plans")).unwrap();
    let call = format!(
        "enrich harvest.csv --blank 'n/a, -' {ON_HIVES} --clean 'tidy | fold' \
         --take 'Keeper, Line as \"Queen, line\"' --leave Line --when-duplicate 'highest Line' \
         --when-unmatched 'fill ?' --require 'unmatched <= 50%' --lists lists -o out.csv \
         --save-plan plans/weekly.toml"
    );
    let ran = scene.run(&call).ended(0);
    let (out, plan) = (scene.read("out.csv"), scene.read("plans/weekly.toml"));
    snapshot("saved-plan", &format!("{plan}\n{}", ran.err.lines().last().unwrap()));
    scene.run("enrich plans/weekly.toml").ended(2);
    std::fs::remove_file(scene.path("out.csv")).unwrap();
    let again = scene.run("enrich plans/weekly.toml --overwrite").ended(0);
    assert_eq!(scene.read("out.csv"), out);
    let of_hives =
        |err: &str| err.split_once("\nhives (").unwrap().1.lines().next().unwrap().to_owned();
    assert_eq!(of_hives(&again.err), of_hives(&ran.err));
    // From another folder, too: its paths are its own.
    let line = "cd plans && gather-keys enrich weekly.toml --overwrite -o - -q";
    assert_eq!(scene.shell(line).ended(0).out, out);
    // And it can be checked, and asked why.
    scene.run("check plans/weekly.toml --overwrite -q").ended(0);
    let why = scene.run("why plans/weekly.toml --row 6").ended(0);
    assert!(why.out.contains("Row 6 (line 8) of plans/../harvest.csv"), "{}", why.out);
}

#[test]
fn what_is_typed_stands_in_for_the_plan() {
    let scene = Scene::new()
        .with("weekly.toml", PLAN)
        .with("june.csv", "Batch,Apiary,Hive\nJ1,Fellside,H-003\n");
    let ran = scene.run("enrich weekly.toml").ended(0);
    assert!(!ran.err.contains("note:"), "{}", ran.err);
    let ran = scene
        .run("enrich weekly.toml --main june.csv -o - --from hives --when-duplicate first --name h")
        .ended(2);
    assert!(ran.err.contains("no reference is called `hives`"), "{}", ran.err);
    let call = "enrich weekly.toml --main june.csv -o - --from hives.csv --when-duplicate first";
    let ran = scene.run(call).ended(0);
    assert_eq!(ran.out, "Batch,Apiary,Hive,Keeper,Queen line\nJ1,Fellside,H-003,Edda,Amberline\n");
    let note = "note: --output, --main and --when-duplicate of hives replace the plan's own.\n";
    assert!(ran.err.starts_with(note), "{}", ran.err);
    // A reference may be read from another place, and is still called as before.
    let scene = scene.with("new.csv", "Site code,Tag,Keeper,Line\nFellside,H-003,Ulf,Duskveil\n");
    let call = "enrich weekly.toml --main june.csv -o - --from hives --table new.csv";
    let ran = scene.run(call).ended(0);
    assert_eq!(ran.out, "Batch,Apiary,Hive,Keeper,Queen line\nJ1,Fellside,H-003,Ulf,Duskveil\n");
    let note = "note: --output, --main and --table of hives replace the plan's own.\n";
    assert!(ran.err.starts_with(note), "{}", ran.err);
    assert!(ran.err.contains("hives (1 row): "), "{}", ran.err);
}

#[test]
fn an_error_in_a_plan_marks_its_place() {
    let changed = [
        ("table = \"harvest.csv\"", "tabel = \"harvest.csv\""),
        ("[[reference]]", "[reference]"),
        ("[\"Apiary = Site code\", 'Hive = Tag']", "7"),
        ("'Hive = Tag'", "'Hive = Tag | frob'"),
        ("\"last\"", "\"\"\"\nnewest\"\"\""),
        ("Keeper, Line", "Keper, Line"),
        ("Line as Queen line", "Line\\u0020as"),
        ("hives.malformed", "hive.malformed"),
        ("\"hives.csv\"", "\"hives-*.csv\""),
        ("when_duplicate = \"last\"", "replace = \"all\""),
        ("when_duplicate = \"last\"", "delimiter = \"none\""),
        ("output = \"out.csv\"", "output = \"out.csv\"\nin_place = true"),
        ("output = \"out.csv\"", "edits = \"maybe\""),
        ("output = \"out.csv\"", "threads = 0"),
        ("output = \"out.csv\"", "progress = \"soon\""),
        ("output", "\u{e4}utput"),
        ("[main]\n", ""),
        ("\"out.csv\"", "\"out.csv"),
    ];
    let mut reported = String::new();
    for (part, other) in changed {
        let plan = PLAN.replacen(part, other, 1);
        assert_ne!(plan, PLAN);
        let scene = Scene::new().with("weekly.toml", plan);
        let before = scene.files();
        let ran = scene.run("enrich weekly.toml").ended(2);
        assert_eq!(scene.files(), before, "{other}");
        reported += &format!("{part} -> {other}\n{}\n", ran.err);
    }
    let calls = [
        "enrich weekly.toml --from registry --take Keeper",
        "enrich weekly.toml --in-place -o out.csv",
        "enrich missing.toml",
        "enrich harvest.csv --main june.csv HIVES --take Keeper",
        "enrich - --in-place HIVES --take Keeper",
        "enrich harvest.csv HIVES --update 'Note = Keeper, Note = Line'",
        "enrich harvest.csv HIVES --update 'Nota = Keeper'",
        "enrich harvest.csv HIVES --take Keeper --replace blanks",
        "enrich harvest.csv --from hives.csv --on 'Hive = any(Tag, Line)' --append-unused",
        "watch harvest.csv",
        "enrich harvest.csv HIVES --take Keeper --edits keep -o out.csv --receipt harvest.csv",
        "enrich harvest.csv HIVES --take Keeper -o out.csv --save-plan out.csv",
        "enrich harvest.csv HIVES --take Keeper --receipt hives.csv -o out.csv",
        "enrich harvest.csv HIVES --take Keeper --receipt other.json -o out.csv",
    ];
    let scene = Scene::new().with("weekly.toml", PLAN).with("other.json", "{\"receipt\": 2}");
    let before = scene.files();
    for call in calls {
        let ran = scene.run(&call.replace("HIVES", ON_HIVES)).ended(2);
        assert_eq!(scene.files(), before, "{call}");
        reported += &format!("$ gather-keys {call}\n{}\n", ran.err);
    }
    snapshot("plan-errors", &reported);
}
