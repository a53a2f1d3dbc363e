//! What the program says of the keys: summary, lists and gates.

use super::scene::{ON_HIVES, Scene, snapshot};

#[test]
fn check_tells_the_same_and_writes_no_table() {
    let scene = Scene::new();
    let before = scene.files();
    let check = scene.run(&format!("check harvest.csv {ON_HIVES} --take 'Keeper, Line'")).ended(0);
    assert_eq!(scene.files(), before);
    assert_eq!(check.err, "");
    let enrich = scene.run(&format!("enrich harvest.csv {ON_HIVES} --take 'Keeper, Line'"));
    assert_eq!(enrich.ended(0).err.split_once("\n\n").unwrap().1, check.out);
}

/// What is fine takes one line, several references a table, and only what is in trouble unfolds.
#[test]
fn a_summary_is_as_long_as_its_troubles() {
    let mut scene = Scene::new();
    let mut call = "enrich harvest.csv".to_owned();
    for nth in 1..=10 {
        let sites = if nth == 7 { "Fellside,x\n" } else { "Fellside,x\nLarkfield,y\n,z\n" };
        scene = scene.with(&format!("round-{nth}.csv"), format!("Apiary,Round {nth}\n{sites}"));
        call += &format!(" --from round-{nth}.csv --on Apiary --take '*' --match-blanks");
    }
    let one =
        "enrich harvest.csv --from round-1.csv --on Apiary --take '*' --match-blanks -o one.csv";
    let one = scene.run(one).ended(0).err;
    let ten = scene.run(&format!("{call} -o ten.csv")).ended(0).err;
    assert!(one.lines().count() <= 4 && ten.lines().count() <= 30, "{one}{ten}");
    let stopped = scene.run(&format!("{call} --require 'round-7.unmatched = 0'")).ended(1).err;
    assert!(stopped.lines().last().unwrap().starts_with("  ") && stopped.contains("\n\ngate `"));
    let full = scene.run("check harvest.csv --from round-7.csv --on Apiary -v").ended(0).out;
    snapshot("summaries", &format!("{one}----\n{ten}----\n{stopped}----\n{full}"));
}

/// With nothing taken, every other column counts.
#[test]
fn check_without_take_compares_every_column() {
    let scene = Scene::new();
    let conflicting = |take: &str| {
        let ran = scene.run(&format!("check harvest.csv {ON_HIVES} {take} -v")).ended(0);
        let line = ran.out.lines().find(|line| line.contains("    conflicting ")).unwrap();
        line.split_whitespace().nth(1).unwrap().to_owned()
    };
    assert_eq!((conflicting(""), conflicting("--take Line")), ("1".into(), "0".into()));
}

#[test]
fn lists_hold_every_finding() {
    let scene = Scene::new().with("sites.csv", "Apiary,row\nFellside,1\nNether Moor,2\n");
    scene
        .run(&format!(
            "enrich harvest.csv {ON_HIVES} --take Keeper --from sites.csv --on Apiary --take row \
             --lists found/here -o out.csv -q"
        ))
        .ended(0);
    let mut lists = String::new();
    for (path, content) in scene.files() {
        if path.parent().is_some_and(|folder| folder.ends_with("found/here")) {
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            lists += &format!("--- {name}\n{}", String::from_utf8(content).unwrap());
        }
    }
    snapshot("lists", &lists);
}

#[test]
fn gates_decide_the_exit_status() {
    let cases = [
        ("--require 'unmatched = 1'", 0),
        ("--require 'unmatched <= 14%'", 1),
        ("--require 'unmatched <= 14.3%' --require 'hives.ambiguous = 0'", 1),
        ("--require 'hives.matched >= 50 %' --require 'unused < 4'", 0),
    ];
    for (gates, status) in cases {
        let scene = Scene::new();
        let args = format!("enrich harvest.csv {ON_HIVES} --take Keeper {gates}");
        let ran = scene.run(&format!("{args} -o out.csv -q --lists lists")).ended(status);
        assert_eq!(scene.path("out.csv").exists(), status == 0, "{gates}");
        assert!(scene.path("lists/unmatched.csv").exists());
        assert_eq!(ran.err.contains("does not hold"), status == 1, "{gates}");
        // On standard output too, no table appears that a gate holds back.
        assert_eq!(scene.run(&args).ended(status).out.is_empty(), status == 1, "{gates}");
    }
    let scene = Scene::new();
    let gates = "--require 'unmatched <= 14%' --require 'hives.ambiguous <= 1'";
    let ran = scene.run(&format!("check harvest.csv {ON_HIVES} {gates}"));
    let reported = ran.ended(1).out;
    snapshot("gates", &reported[reported.find("gate").unwrap()..]);
}

/// matched + unmatched + ambiguous + blank key = main rows, also where there are none.
#[test]
fn outcomes_add_up_in_every_summary() {
    for (main, rows) in [("Apiary,Hive\n", 0), ("Apiary,Hive\n,\nFellside,H-001\nx,y\n", 3)] {
        let scene = Scene::new().with("harvest.csv", main);
        let ran = scene.run(&format!("check harvest.csv {ON_HIVES} -v")).ended(0);
        let count = |label: &str| -> u64 {
            let line = ran.out.lines().find_map(|line| line.trim_start().strip_prefix(label));
            line.unwrap().split_whitespace().next().unwrap().parse().unwrap()
        };
        let outcomes = ["matched", "unmatched", "ambiguous", "blank key"].map(count);
        assert_eq!(outcomes.iter().sum::<u64>(), rows);
        assert_eq!(count("in all"), rows);
    }
}

#[test]
fn colour_is_for_those_who_want_it() {
    let scene = Scene::new();
    let coloured = |arguments: &str, variable: Option<&str>| {
        let mut program = scene.program();
        program.args(["check", "harvest.csv", "--from", "hives.csv", "--on", "Hive = Tag"]);
        program.args(arguments.split_whitespace());
        program.envs(variable.map(|name| (name, "1")));
        String::from_utf8(program.output().unwrap().stdout).unwrap().contains('\u{1b}')
    };
    assert!(!coloured("", None));
    assert!(coloured("--color always", None));
    assert!(coloured("", Some("CLICOLOR_FORCE")));
    assert!(!coloured("--color never", Some("CLICOLOR_FORCE")));
    assert!(!coloured("", Some("NO_COLOR")));
}

/// Everything fits 80 columns, whatever the tables hold.
#[test]
fn a_summary_fits_eighty_columns() {
    let long = "a very long name of an apiary that nobody would ever write on a jar ".repeat(3);
    let main =
        format!("Apiary,Hive\n\"{long}\n{long}\",H-001\n蜂蜜蜂蜜蜂蜜{long},\nFellside,H-003\n");
    let scene = Scene::new().with("harvest.csv", main);
    let ran =
        scene.run(&format!("check harvest.csv {ON_HIVES} --require 'unmatched = 0'")).ended(1);
    for line in ran.out.lines() {
        assert!(unicode_width::UnicodeWidthStr::width(line) <= 80, "{line}");
    }
}

/// The rows to check by eye are matched ones, the same whenever the call is, and all of them where they are few.
#[test]
fn some_matched_rows_are_shown_to_check_by_eye() {
    let scene = Scene::new();
    let call = format!("check harvest.csv {ON_HIVES} --take 'Keeper, Line' --show");
    let two = scene.run(&format!("{call} 2")).ended(0).out;
    let all = scene.run(&format!("{call} 9 -q")).ended(0).out;
    snapshot("shown", &format!("{two}\n{all}"));
    for threads in 1..4 {
        let again = scene.run(&format!("{call} 2 --threads {threads}")).ended(0).out;
        assert_eq!(again, two);
    }
    let rows = |text: &str| -> Vec<String> {
        let rows = text.lines().filter(|line| line.starts_with("  row "));
        rows.map(str::to_owned).collect()
    };
    assert_eq!((rows(&two).len(), rows(&all).len()), (2, 4));
    let others: std::collections::HashSet<Vec<String>> = (1..30)
        .map(|seed| rows(&scene.run(&format!("{call} 2 -q --seed {seed}")).ended(0).out))
        .collect();
    // Of four rows there are six pairs.
    assert!(others.len() > 3, "{others:?}");
    // It has no effect on what else is found.
    let plain =
        scene.run(&format!("check harvest.csv {ON_HIVES} --take 'Keeper, Line'")).ended(0).out;
    assert!(two.starts_with(&plain), "{two}");
    scene.run(&format!("{call} 0")).ended(2);
}
