//! A plan that is run again whenever its tables change.

use std::fs;
use std::io::{BufRead, BufReader};
use std::process::Stdio;
use std::sync::{Arc, Mutex};
use std::thread;

use super::scene::{HARVEST, Scene};
use super::signals::{signal, wait_until};

const PLAN: &str = "\
output = \"out.csv\"
[main]
table = \"harvest.csv\"
[[reference]]
table = \"hives.csv\"
on = \"Apiary = Site code, Hive = Tag\"
take = \"Keeper\"
";

/// Watching gives no leave to replace a file that somebody else has written.
#[test]
fn an_output_of_somebody_else_is_not_replaced() {
    let scene = Scene::new().with("weekly.toml", PLAN).with("out.csv", "theirs\n");
    let mut program = scene.program();
    let program = program.args(["watch", "weekly.toml"]).stderr(Stdio::piped());
    let mut child = program.spawn().unwrap();
    let mut lines = BufReader::new(child.stderr.take().unwrap()).lines().map_while(Result::ok);
    assert!(lines.any(|line| line.starts_with("error: out.csv already exists")));
    assert_eq!(scene.read("out.csv"), "theirs\n");
    // Once it is gone the plan is run; what it has written then is its own, until somebody changes that.
    fs::remove_file(scene.path("out.csv")).unwrap();
    fs::write(scene.path("harvest.csv"), format!("{HARVEST}B8,Fellside,H-001,\n")).unwrap();
    assert!(lines.any(|line| line.starts_with("Wrote 8 rows")));
    assert!(lines.any(|line| line.starts_with("Watching")));
    fs::write(scene.path("harvest.csv"), HARVEST).unwrap();
    assert!(lines.any(|line| line.starts_with("Wrote 7 rows")));
    assert!(lines.any(|line| line.starts_with("Watching")));
    fs::write(scene.path("out.csv"), "theirs\n").unwrap();
    fs::write(scene.path("harvest.csv"), format!("{HARVEST}B9,Fellside,H-001,\n")).unwrap();
    assert!(lines.any(|line| line.starts_with("error: out.csv already exists")));
    assert_eq!(scene.read("out.csv"), "theirs\n");
    signal(&child, "-INT");
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

#[test]
fn a_plan_is_run_when_its_tables_change() {
    let scene = Scene::new().with("weekly.toml", PLAN);
    let mut program = scene.program();
    let program = program.args(["watch", "weekly.toml"]).stderr(Stdio::piped());
    let mut child = program.spawn().unwrap();
    let lines = Arc::new(Mutex::new(Vec::new()));
    let reader = BufReader::new(child.stderr.take().unwrap());
    let reported = lines.clone();
    let listener = thread::spawn(move || {
        reader.lines().map_while(Result::ok).for_each(|line| reported.lock().unwrap().push(line));
    });
    let count = |start: &str| {
        lines.lock().unwrap().iter().filter(|line: &&String| line.starts_with(start)).count()
    };
    let rows = || scene.read("out.csv").matches("\nB").count();
    wait_until("the first run", || count("Watching") == 1);
    assert_eq!(rows(), 7);
    // More rows; then the file is replaced by another, as programs save.
    fs::write(scene.path("harvest.csv"), format!("{HARVEST}B8,Fellside,H-001,\n")).unwrap();
    wait_until("the second run", || count("Watching") == 2);
    assert_eq!(rows(), 8);
    fs::write(scene.path("new.csv"), HARVEST).unwrap();
    fs::rename(scene.path("new.csv"), scene.path("harvest.csv")).unwrap();
    wait_until("the third run", || count("Watching") == 3);
    assert_eq!(rows(), 7);
    // A table that is gone is an error, and no more than that.
    let hives = scene.read("hives.csv");
    fs::remove_file(scene.path("hives.csv")).unwrap();
    wait_until("the error", || count("Watching") == 4 && count("error: ") == 1);
    fs::write(scene.path("hives.csv"), hives.replace("Edda", "Ida")).unwrap();
    wait_until("the last run", || count("Watching") == 5);
    assert!(scene.read("out.csv").contains(",Ida\n"));
    signal(&child, "-INT");
    assert_eq!(child.wait().unwrap().code(), Some(0));
    listener.join().unwrap();
}
