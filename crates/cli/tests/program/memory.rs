//! References that may not take as much memory as they need.

use super::scene::Scene;

/// A harvest of 3,000 rows, and a registry of some 100 KB.
fn scene() -> Scene {
    let mut main = "Batch,Apiary,Hive,Note\n".to_owned();
    for batch in 0..3000 {
        let note = ["", "\"two buckets,\none open\""][batch % 2];
        main += &format!("B{batch},Site {},H-{},{note}\n", batch % 13, batch * 7 % 411);
    }
    let mut hives = "Keeper,Tag,Site code\n".to_owned();
    for hive in 0..2000 {
        hives += &format!("Keeper {hive},H-{},Site {}\n", hive % 399, hive % 11);
    }
    Scene::empty().with("main.csv", main).with("hives.csv", hives)
}

const CALL: &str = "enrich main.csv --from hives.csv --on 'Apiary = Site code, Hive = Tag' \
                    --take 'Keeper, @row, @status' --no-reasons";

#[test]
fn what_comes_out_does_not_depend_on_memory() {
    let scene = scene();
    std::fs::create_dir(scene.path("there")).unwrap();
    let reported = |more: &str| {
        let ran = scene.run(&format!("{CALL} {more} -o out.csv --overwrite -v")).ended(0);
        (ran.err, scene.read("out.csv"))
    };
    let whole = reported("");
    assert!(whole.0.contains("conflicting") && whole.0.contains("unused"), "{}", whole.0);
    assert_eq!(reported("--memory '1 GB'"), whole);
    // But for what is held and the advice, all of it is the same.
    let counts = |reported: &str| {
        let reported = reported.split("\nTo list every row").next().unwrap();
        let (before, counts) = reported.split_once("\n  Rows of main.csv\n").unwrap();
        before.lines().filter(|line| line.contains("row ")).collect::<String>() + counts
    };
    for memory in ["'90 kB'", "'20 KiB'", "'1 B'"] {
        let (reported, out) = reported(&format!("--memory {memory} --temp-dir there"));
        assert_eq!(counts(&reported), counts(&whole.0), "{memory}");
        assert!(reported.contains("in temporary files"), "{reported}");
        assert!(reported.contains("a run without `--memory` shows why"), "{reported}");
        assert!(out == whole.1, "{memory}");
    }
    assert_eq!(std::fs::read_dir(scene.path("there")).unwrap().count(), 0);

    // A main table from a pipe is read once, and gates hold for all of the reference.
    let piped = scene.shell(&format!(
        "cat main.csv | gather-keys {} --memory 20KB -q --require 'unused = 0'",
        CALL.replace("main.csv", "-")
    ));
    let piped = piped.ended(1);
    assert!(piped.out.is_empty() && piped.err.contains("unused = 0"), "{}", piped.err);
    // Reports have the same rows, and `check` the same counts; the call is another.
    let report = |memory: &str| {
        let check = CALL.replacen("enrich", "check", 1);
        scene.run(&format!("{check} {memory} --report r.json --overwrite -q")).ended(0);
        scene.read("r.json")
    };
    let counts = |report: &str| {
        let lines = report.split("\"advice\"").next().unwrap().lines();
        lines.filter(|line| !line.starts_with("  \"command\": ")).collect::<String>()
    };
    let (whole, shares) = (report(""), report("--memory 20KB"));
    assert!(whole.contains("\"shared_keys\""));
    assert_eq!(counts(&shares), counts(&whole));
}

#[test]
fn what_does_not_go_with_too_little_memory_says_so() {
    let scene = scene().with("few.csv", "Keeper,Crew\nKeeper 7,North\n");
    let cases = [
        ("--memory lots", "`lots` is not a size of memory"),
        ("--memory 0", "`0` is not a size of memory"),
        ("--memory 20KB --lists found", "`--lists` needs all of it in memory"),
        ("--memory 20KB --receipt r.json -o out.csv", "`--receipt` needs all of it in memory"),
        ("--memory 20KB --append-unused", "`--append-unused` needs all of it in memory"),
        (
            "--memory 1B --from few.csv --on Keeper --take Crew",
            "a key of columns that another reference adds",
        ),
    ];
    for (more, said) in cases {
        let ran = scene.run(&format!("{CALL} {more}")).ended(2);
        let words = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(words.contains(said), "{more}: {words}");
        assert!(ran.out.is_empty() && !scene.path("out.csv").exists(), "{more}");
    }
    // A plan has it too.
    let plan = format!("{CALL} --memory '20 KB' -q --save-plan p.toml -o out.csv");
    scene.run(&plan).ended(0);
    assert!(scene.read("p.toml").contains("memory = \"20 KB\""), "{}", scene.read("p.toml"));
    let why = scene.run("why p.toml --row 3").ended(0);
    assert!(why.out.contains("in 182 rows of hives"), "{}", why.out);
}
