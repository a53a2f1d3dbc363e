//! The end that comes from outside: at any moment every file is whole.

use std::fs;
use std::io::Write;
use std::os::unix::process::ExitStatusExt;
use std::process::{Child, Command, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};

use super::scene::{Scene, words};

/// How long is waited for something that is about to happen.
const PATIENCE: Duration = Duration::from_secs(30);

pub(crate) fn signal(child: &Child, name: &str) {
    let sent = Command::new("kill").args([name, &child.id().to_string()]).status().unwrap();
    assert!(sent.success());
}

pub(crate) fn wait_until(what: &str, mut holds: impl FnMut() -> bool) {
    let began = Instant::now();
    while !holds() {
        assert!(began.elapsed() < PATIENCE, "{what} does not come");
        sleep(Duration::from_millis(5));
    }
}

/// How many files without a name a process writes in the folder.
fn unfinished(scene: &Scene, child: &Child) -> usize {
    let open = fs::read_dir(format!("/proc/{}/fd", child.id())).into_iter().flatten().flatten();
    let folder = scene.path("").canonicalize().unwrap();
    let is_in_it = |path: &std::path::PathBuf| {
        path.starts_with(&folder) && path.to_string_lossy().ends_with("(deleted)")
    };
    open.filter_map(|entry| fs::read_link(entry.path()).ok()).filter(is_in_it).count()
}

#[test]
fn an_interrupted_run_leaves_nothing_behind() {
    for name in ["-INT", "-TERM", "-HUP"] {
        let scene = Scene::new();
        let before = scene.files();
        let call = "enrich - --from hives.csv --on 'Apiary = Site code' --take Keeper -o out.csv";
        let mut program = scene.program();
        let mut child = program.args(words(call)).stdin(Stdio::piped()).spawn().unwrap();
        // It waits for more of the main table, its output half-written.
        child.stdin.as_mut().unwrap().write_all(b"Batch,Apiary\nB1,Fellside\n").unwrap();
        child.stdin.as_mut().unwrap().write_all(&b"B2,Fellside\n".repeat(20_000)).unwrap();
        wait_until("the output", || unfinished(&scene, &child) == 1);
        signal(&child, name);
        assert_eq!(child.wait().unwrap().code(), Some(130), "{name}");
        assert_eq!(scene.files(), before, "{name}");
    }
}

/// Kills the program in the middle of writing into the main file, again and again. `KILLS=100` makes
/// it a hundred times.
#[test]
fn a_killed_run_loses_nothing() {
    let row = |n: u32| format!("K{n},Aldis Foxmoor,round {},\n", n % 7);
    let rows = (0..40_000).map(row).collect::<Vec<_>>().concat();
    killed_again_and_again("main.csv", format!("Id,Name,Round,Note\n{rows}").as_bytes(), 40_000);
}

/// The same with a workbook of several worksheets.
#[test]
fn a_killed_run_loses_no_workbook() {
    let mut workbook = rust_xlsxwriter::Workbook::new();
    let sheet = workbook.add_worksheet();
    sheet.write_row(0, 0, ["Id", "Name", "Round", "Note"]).unwrap();
    for row in 1..8000_u32 {
        let (key, round) = (format!("K{row}"), format!("round {}", row % 7));
        sheet.write_row(row, 0, [&key[..], "Aldis Foxmoor", &round]).unwrap();
    }
    workbook.add_worksheet().write(0, 0, "Other").unwrap();
    killed_again_and_again("main.xlsx", &workbook.save_to_buffer().unwrap(), 8000);
}

// A long campaign says how it went.
#[allow(clippy::print_stdout)]
fn killed_again_and_again(name: &str, main: &[u8], rows: usize) {
    let kills = std::env::var("KILLS").ok().and_then(|kills| kills.parse().ok()).unwrap_or(8);
    let rounds = (0..rows).step_by(3).map(|n| format!("K{n},north\n"));
    let rounds = rounds.collect::<Vec<_>>().concat();
    let scene = Scene::empty().with("rounds.csv", format!("Id,Round\n{rounds}"));
    let call = format!("enrich {name} --from rounds.csv --on Id --update Round --in-place -q");
    let start = || {
        for path in scene.files().into_keys().filter(|path| !path.ends_with("rounds.csv")) {
            fs::remove_file(path).unwrap();
        }
        fs::write(scene.path(name), main).unwrap();
        scene.program().args(words(&call)).spawn().unwrap()
    };
    let began = Instant::now();
    assert!(start().wait().unwrap().success());
    let (usual, done) = (began.elapsed(), fs::read(scene.path(name)).unwrap());
    assert_ne!(done, main);
    let (mut replaced, mut killed) = (0, 0);
    for kill in 0..kills {
        let mut child = start();
        // Moments that are spread over the whole run and past it, half of them about its end.
        let spread = (f64::from(kill) * 0.618_034).fract();
        let part = if kill % 2 == 0 { spread * 1.2 } else { 0.8 + spread * 0.4 };
        sleep(usual.mul_f64(part));
        child.kill().unwrap();
        killed += i32::from(child.wait().unwrap().signal() == Some(9));
        let now = fs::read(scene.path(name)).unwrap();
        assert!(now == main || now == done, "the main file is neither what it was nor done");
        replaced += i32::from(now == done);
        let names = scene.files();
        let backups = names.iter().filter(|(path, _)| path.to_str().unwrap().contains("backup"));
        for (_, content) in backups.clone() {
            assert!(*content == main, "the backup is not what the main file was");
        }
        assert!(now == main || backups.count() == 1, "there is no backup of what was replaced");
    }
    println!("{kills} runs, {killed} killed on their way, {replaced} had replaced the file");
}
