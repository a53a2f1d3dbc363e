//! All outputs of a run appear together or none does; nothing of another run, another program or an input is lost.

use std::fs;
use std::io::Write;
use std::process::{Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

use super::scene::{ON_HIVES, Ran, Scene, words};

/// How often something is tried that depends on the moment; `TRIES=500` makes it five hundred times.
fn tries(usual: u32) -> u32 {
    std::env::var("TRIES").ok().and_then(|tries| tries.parse().ok()).unwrap_or(usual)
}

#[test]
fn outputs_that_clash_are_refused_before_any_work() {
    let scene = Scene::new()
        .with("plan.toml", "output = \"plan.toml\"\n[main]\ntable = \"harvest.csv\"\n[[reference]]\ntable = \"hives.csv\"\non = \"Hive = Tag\"\ntake = \"Keeper\"\n");
    std::os::unix::fs::symlink("later.csv", scene.path("link.csv")).unwrap();
    std::os::unix::fs::symlink(".", scene.path("here")).unwrap();
    fs::hard_link(scene.path("hives.csv"), scene.path("same.csv")).unwrap();
    fs::create_dir(scene.path("full")).unwrap();
    let before = scene.files();
    let call = format!("enrich harvest.csv {ON_HIVES} --take Keeper");
    for (options, said) in [
        ("-o out.csv --lists new/../L --report here/L/a.json --report here/L/./a.json", "a report"),
        ("-o out.csv --lists L --receipt L/unmatched.csv", "both a list and the receipt"),
        ("-o link.csv --receipt later.csv", "both the table and the receipt"),
        ("-o L/out.csv --lists out.csv", "the folder L does not exist"),
        ("-o L --lists L", "a folder with a list in it"),
        ("-o out.csv --save-plan here/out.csv", "both the table and the saved plan"),
        ("-o out.csv --receipt same.csv", "same.csv is an input of this run"),
        ("-o here/harvest.csv --overwrite", "is an input of this run"),
        ("-o out.csv --receipt nofolder/r.json", "the folder nofolder does not exist"),
        ("-o out.csv --save-plan plan.toml", "plan.toml already exists"),
        ("-o out.csv --receipt full", "it is a folder"),
        ("-o out.csv --corrections none.csv", "the file none.csv does not exist"),
    ] {
        let ran = scene.run(&format!("{call} {options}")).ended(2);
        let err = ran.err.replace("\n       ", " ");
        assert!(err.contains(said), "{options}: {err}");
        assert_eq!(scene.files(), before, "{options}");
        assert!(!scene.path("L").exists() && !scene.path("new").exists(), "{options}");
    }
    let ran = scene.run("enrich plan.toml --overwrite").ended(2);
    assert!(ran.err.contains("plan.toml is an input"), "{}", ran.err);
    assert_eq!(scene.files(), before);
}

/// Kills a run with a table, lists, a report and a receipt at moments spread over its end, and lets another run
/// follow. The next run must find one whole set, old or new, and no hidden file.
#[test]
fn a_killed_run_leaves_one_whole_set() {
    let row = |n: u32| format!("K{n},keeper {n},note\n");
    let rows = (0..6_000).map(row).collect::<Vec<_>>().concat();
    let scene = Scene::empty().with("rounds.csv", "Id,Round\nK1,north\nK2,south\n").with(
        "plan.toml",
        "output = \"out.csv\"\nlists = \"lists\"\nreport = \"r.json\"\nreceipt = \"run.json\"\n\
         quiet = true\n[main]\ntable = \"main.csv\"\n[[reference]]\ntable = \"rounds.csv\"\n\
         on = \"Id\"\ntake = \"Round\"\n",
    );
    let main = |kill: u32| format!("Id,Name,Note\nQ{kill},{kill},first\n{rows}");
    fs::write(scene.path("main.csv"), main(0)).unwrap();
    scene.run("enrich plan.toml").ended(0);
    fs::write(scene.path("main.csv"), main(1)).unwrap();
    let began = Instant::now();
    scene.run("enrich plan.toml").ended(0);
    let usual = began.elapsed();
    let (mut old, mut new) = (0, 0);
    for kill in 0..tries(12) {
        fs::write(scene.path("main.csv"), main(kill + 2)).unwrap();
        let (receipt, list) = (scene.read("run.json"), scene.read("lists/unmatched.csv"));
        let mut child = scene.program().args(words("enrich plan.toml")).spawn().unwrap();
        sleep(usual.mul_f64(0.6 + (f64::from(kill) * 0.618_034).fract() * 0.5));
        child.kill().unwrap();
        child.wait().unwrap();
        // What comes next completes or undoes what was begun, before it looks at anything.
        let ran = scene.run("enrich plan.toml --main nowhere.csv").ended(2);
        let names: Vec<_> = scene.files().into_keys().collect();
        let is_hidden = |path: &std::path::PathBuf| path.to_string_lossy().contains(".gather-keys");
        assert!(!names.iter().any(is_hidden), "{names:?}: {}", ran.err);
        let table = scene.read("out.csv");
        let is_new = table.contains(&format!("Q{},", kill + 2));
        let reported: serde_json::Value = serde_json::from_str(&scene.read("run.json")).unwrap();
        let digest = gather_keys_core::receipt::digest(table.as_bytes());
        assert_eq!(reported["output"]["digest"], digest, "the receipt is of another table");
        if is_new {
            new += 1;
        } else {
            old += 1;
        }
        if !is_new {
            assert_eq!(
                (scene.read("run.json"), scene.read("lists/unmatched.csv")),
                (receipt, list)
            );
        }
        // It does not take the output as one that was changed by hand either.
        scene.run("enrich plan.toml").ended(0);
    }
    println!("{old} old sets, {new} new ones");
}

/// Runs that write into one file at the same moment: each either has its update in the file or says that it has not.
#[test]
fn no_update_of_runs_side_by_side_is_lost() {
    let scene = Scene::empty();
    let columns = ["A", "B", "C"];
    for column in columns {
        fs::write(scene.path(&format!("{column}.csv")), format!("Id,{column}\nK1,done\n")).unwrap();
    }
    let mut losers = 0;
    for nth in 0..tries(15) {
        let runs = 2 + nth as usize % 2;
        fs::write(scene.path("main.csv"), "Id,A,B,C\nK1,,,\nK2,,,\n").unwrap();
        let start = |column: &&str| {
            let call = format!(
                "enrich main.csv --from {column}.csv --on Id --update {column} --in-place --no-backup"
            );
            scene.program().args(words(&call)).stderr(Stdio::piped()).spawn().unwrap()
        };
        let children: Vec<_> = columns[..runs].iter().map(start).collect();
        let ended: Vec<Ran> =
            children.into_iter().map(|child| child.wait_with_output().unwrap().into()).collect();
        let row = scene.read("main.csv").lines().nth(1).unwrap().to_owned();
        for (cell, ran) in row.split(',').skip(1).zip(&ended) {
            match ran.status {
                0 => assert_eq!(cell, "done", "a run that is done has left nothing: {row}"),
                2 => {
                    losers += 1;
                    assert_eq!(cell, "");
                    let says =
                        ["is being written by another run", "was changed by another program"];
                    assert!(says.iter().any(|said| ran.err.contains(said)), "{}", ran.err);
                }
                other => panic!("status {other}: {}", ran.err),
            }
        }
        assert!(ended.iter().any(|ran| ran.status == 0), "nobody came through");
        assert_eq!(scene.files().len(), 4);
    }
    println!("{losers} runs gave way");
}

/// A run whose reference is a pipe, with something done to the main table while it waits for that.
fn meanwhile(scene: &Scene, options: &str, change: impl FnOnce()) -> Ran {
    let made = Command::new("mkfifo").arg(scene.path("pipe.csv")).status().unwrap();
    assert!(made.success());
    let call =
        format!("enrich harvest.csv --from pipe.csv --on 'Hive = Tag' --take Keeper {options}");
    let mut program = scene.program();
    let child = program.args(words(&call)).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn();
    // To open the pipe for writing waits until the run reads it.
    let mut pipe = fs::File::options().write(true).open(scene.path("pipe.csv")).unwrap();
    change();
    pipe.write_all(b"Tag,Keeper\nH-001,Edda\n").unwrap();
    drop(pipe);
    child.unwrap().wait_with_output().unwrap().into()
}

#[test]
fn an_input_that_changes_meanwhile_is_told() {
    for (what, status) in [("replaced", 2), ("written to", 2), ("grown", 0)] {
        let scene = Scene::new();
        let main = scene.path("harvest.csv");
        let earlier = std::time::SystemTime::now() - Duration::from_secs(5);
        fs::File::options().append(true).open(&main).unwrap().set_modified(earlier).unwrap();
        let ran = meanwhile(&scene, "-o out.csv --lists lists", || match what {
            "replaced" => {
                fs::write(scene.path("other"), "Batch,Hive\nX,H-001\n").unwrap();
                fs::rename(scene.path("other"), &main).unwrap();
            }
            "written to" => fs::write(&main, "Batch,Hive\nX,H-001\n").unwrap(),
            _ => {
                let mut file = fs::File::options().append(true).open(&main).unwrap();
                file.write_all(b"B8,Fellside,H-001,\n").unwrap();
            }
        });
        assert_eq!(ran.status, status, "{what}: {}", ran.err);
        assert_eq!(scene.path("out.csv").exists(), status == 0, "{what}");
        assert_eq!(scene.path("lists").exists(), status == 0, "{what}");
        if status == 2 {
            let err = ran.err.replace("\n       ", " ");
            assert!(err.contains("harvest.csv was changed by another program"), "{err}");
        } else {
            assert!(!scene.read("out.csv").contains("B8"));
        }
    }
}

#[test]
fn an_output_that_is_made_meanwhile_is_not_replaced() {
    for options in ["-o out.csv", "-o out.csv --overwrite", "-o out.csv --receipt r.json"] {
        let scene = Scene::new();
        let ran = meanwhile(&scene, options, || {
            fs::write(scene.path("out.csv"), "theirs").unwrap();
        });
        assert_eq!(ran.status, 2, "{options}: {}", ran.err);
        assert_eq!(scene.read("out.csv"), "theirs");
        assert!(!scene.path("r.json").exists());
    }
}

#[test]
fn a_closed_or_odd_standard_output_is_told() {
    let scene = Scene::new();
    let call = format!("gather-keys enrich harvest.csv {ON_HIVES} --take Keeper");
    let ran = scene.shell(&format!("{call} >&-")).ended(2);
    assert!(ran.err.contains("standard output is closed"), "{}", ran.err);
    // A reader that has seen enough keeps nothing else from being written.
    let rows = "B1,Fellside,H-001,\n".repeat(200_000);
    let scene = scene.with("harvest.csv", format!("Batch,Apiary,Hive,Note\n{rows}"));
    let ran = scene
        .shell(&format!("{call} --lists lists --report r.json --save-plan p.toml | head -n 1"));
    assert_eq!(ran.out, "Batch,Apiary,Hive,Note,Keeper\n");
    assert!(ran.err.contains("standard output was closed by its reader"), "{}", ran.err);
    assert!(
        ["lists/unmatched.csv", "r.json", "p.toml"].iter().all(|name| scene.path(name).exists())
    );
    let ran = scene.shell(&format!("({call} -q; echo $? >&2) | head -n 1"));
    assert_eq!(ran.err, "0\n");
}

#[test]
fn a_named_pipe_is_an_output_like_any_other() {
    let scene = Scene::new();
    let call = format!("gather-keys enrich harvest.csv {ON_HIVES} --take Keeper -q");
    let plain = scene.shell(&call).ended(0).out;
    for gate in ["", "--require 'unmatched <= 100%'"] {
        let line =
            format!("rm -f p; mkfifo p; cat p & {call} -o p {gate}; code=$?; wait; exit $code");
        assert_eq!(scene.shell(&line).ended(0).out, plain, "{gate}");
    }
    let line = format!(
        "rm -f p; mkfifo p; cat p & {call} -o p --require 'unmatched = 0'; code=$?; wait; exit $code"
    );
    assert_eq!(scene.shell(&line).ended(1).out, "");
}

#[test]
fn limits_of_the_system_leave_nothing_behind() {
    let rows = "B1,Fellside,H-001,a note that takes some room\n".repeat(60_000);
    let scene = Scene::new().with("harvest.csv", format!("Batch,Apiary,Hive,Note\n{rows}"));
    let before = scene.files();
    let call =
        format!("gather-keys enrich harvest.csv {ON_HIVES} --take Keeper -o out.csv --lists l -q");
    let ran = scene.shell(&format!("ulimit -f 512; {call}")).ended(2);
    let err = ran.err.replace("\n       ", " ");
    assert!(err.contains("larger than the system allows"), "{err}");
    assert_eq!(scene.files(), before);
    // However little memory there is: the program says so or the system ends it.
    for kib in [30_000, 60_000, 120_000, 250_000] {
        let ran = scene.shell(&format!("ulimit -v {kib}; {call}"));
        if ran.status == 0 {
            fs::remove_file(scene.path("out.csv")).unwrap();
            fs::remove_dir_all(scene.path("l")).unwrap();
        }
        assert_eq!(scene.files(), before, "{kib} KiB: {}", ran.err);
    }
}

/// A signal while the files appear lets them all appear, and the status is that of the run.
#[test]
fn a_signal_leaves_all_or_nothing_and_says_which() {
    let rows = "B1,Fellside,H-001,\n".repeat(20_000);
    let scene = Scene::new().with("harvest.csv", format!("Batch,Apiary,Hive,Note\n{rows}"));
    let before = scene.files();
    let call = format!(
        "enrich harvest.csv {ON_HIVES} --take Keeper -o out.csv --lists l --receipt r.json -q"
    );
    let started = Instant::now();
    scene.run(&call).ended(0);
    let (usual, done) = (started.elapsed(), scene.files());
    let (mut ends, mut completed) = (0, 0);
    for nth in 0..tries(12) {
        for path in scene.files().into_keys().filter(|path| !before.contains_key(path)) {
            fs::remove_file(path).unwrap();
        }
        let _ = fs::remove_dir(scene.path("l"));
        let mut child = scene.program().args(words(&call)).spawn().unwrap();
        sleep(usual.mul_f64(0.5 + (f64::from(nth) * 0.618_034).fract() * 0.6));
        super::signals::signal(&child, "-INT");
        let status = child.wait().unwrap();
        match status.code() {
            Some(0) => {
                completed += 1;
                assert_eq!(scene.files().len(), done.len());
            }
            Some(130) => {
                ends += 1;
                assert_eq!(scene.files(), before);
            }
            other => panic!("{other:?}"),
        }
    }
    println!("{ends} ended, {completed} completed");
}
