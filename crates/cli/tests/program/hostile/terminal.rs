//! Whatever a file holds, a terminal gets nothing that it obeys but the program's own colours.

use std::fs::File;
use std::io::Read;
use std::os::fd::{FromRawFd, OwnedFd};
use std::process::Stdio;

use super::super::scene::{Scene, words};

/// Sets a terminal's title, hides text, turns its direction, and is a control of one byte of Latin-1.
const EVIL: &str = "\u{1b}]0;owned\u{7}\u{1b}[8m\u{202e}\u{9b}2J\u{200f}\u{2066}";

/// The escape sequences the program may send to a terminal: its own styles.
const STYLES: [&str; 7] = [
    "\u{1b}[0m",
    "\u{1b}[1m",
    "\u{1b}[2m",
    "\u{1b}[31m",
    "\u{1b}[32m",
    "\u{1b}[33m",
    "\u{1b}[1m\u{1b}[31m",
];

/// A pseudo-terminal: the end that a program gets, and the one that shows what it wrote.
#[allow(unsafe_code)]
fn terminal() -> (OwnedFd, File) {
    let (mut ours, mut theirs) = (0, 0);
    let size = libc::winsize { ws_row: 50, ws_col: 80, ws_xpixel: 0, ws_ypixel: 0 };
    let (none, no_modes) = (std::ptr::null_mut(), std::ptr::null_mut());
    // SAFETY: both places take a descriptor each, and no name or modes are asked for.
    let opened = unsafe {
        libc::openpty(&raw mut ours, &raw mut theirs, none, no_modes, (&raw const size).cast_mut())
    };
    assert_eq!(opened, 0);
    // SAFETY: the call has opened both for us alone.
    unsafe { (OwnedFd::from_raw_fd(theirs), File::from_raw_fd(ours)) }
}

/// What a terminal gets of a call, whatever its status is.
fn shown(scene: &Scene, call: &str) -> String {
    let (theirs, mut ours) = terminal();
    let stream = || Stdio::from(theirs.try_clone().unwrap());
    let mut program = scene.program();
    program.args(words(call)).stdout(stream()).stderr(stream()).env("TERM", "xterm");
    let mut child = program.spawn().unwrap();
    drop(program);
    drop(theirs);
    let mut got = Vec::new();
    // The terminal ends with an error once nobody holds its other end.
    let _ = ours.read_to_end(&mut got);
    child.wait().unwrap();
    // A terminal goes to the first column at each line end by itself.
    String::from_utf8(got).unwrap().replace("\r\n", "\n")
}

/// What a terminal would obey in a text, but for line ends and the program's styles.
fn obeyed(text: &str) -> Option<String> {
    let mut text = text.to_owned();
    for style in STYLES.iter().rev() {
        text = text.replace(style, "");
    }
    let is_obeyed = |character: char| {
        (character.is_control() && character != '\n')
            || matches!(character, '\u{61c}' | '\u{200b}' | '\u{200e}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}')
    };
    text.chars().any(is_obeyed).then(|| format!("{text:?}"))
}

/// A folder in which everything that has a name has a hostile one.
fn scene() -> Scene {
    let keeper = format!("Kee{EVIL}per");
    let hives = format!(
        "\"{keeper}\",Tag,Note{EVIL}\nEdda{EVIL},H-001,a\nCorvin,H-002{EVIL},b\nJorun,H-003,c{EVIL}\nTamsin,H-003,d\n"
    );
    let main = format!(
        "Batch{EVIL},Hive,Tag\nB1,H-001,H-001\nB2,H-002{EVIL},x\nB3,H-003,H-003\nB4,{EVIL},H-9\nB5,h-001{EVIL},H-4\n"
    );
    let scene = Scene::empty().with("hives.csv", &hives).with("main.csv", &main);
    let scene = scene.with(&format!("hives{EVIL}.csv").replace('/', ""), &hives);
    let database = rusqlite::Connection::open(scene.path("evil.sqlite")).unwrap();
    for table in ["hives", "other"] {
        let create = format!(
            "create table \"{table}{EVIL}\" (Tag, \"{keeper}\"); insert into \"{table}{EVIL}\" values ('H-001', 'Edda{EVIL}')"
        );
        database.execute_batch(&create).unwrap();
    }
    let mut workbook = rust_xlsxwriter::Workbook::new();
    for name in ["Hives\u{202e}\u{9b}", "Other\u{2066}"] {
        let sheet = workbook.add_worksheet();
        sheet.set_name(name).unwrap();
        sheet.write_row(0, 0, ["Tag", "Keeper\u{202e}\u{9b}2J"]).unwrap();
        sheet.write_row(1, 0, ["H-001", "Edda\u{202e}\u{9b}2J"]).unwrap();
    }
    workbook.save(scene.path("evil.xlsx")).unwrap();
    let escaped =
        EVIL.chars().map(|character| format!("\\u{:04x}", character as u32)).collect::<String>();
    scene
        .with("rows.json", format!("[{{\"Tag\": \"H-001\", \"Kee{escaped}per\": \"Edda{escaped}\"}}]"))
        .with("aliases.csv", format!("Hive,nearest Tag,approve\nH-002{EVIL},H-00{EVIL},yes\n"))
        .with("bad-aliases.csv", format!("Hive{EVIL},nearest{EVIL} Tag\nH-002{EVIL},H-00{EVIL}\n"))
        .with("settled.csv", format!("Hive,header,value,note\nH-002{EVIL},Kee{EVIL}per,x{EVIL},\n"))
        .with("receipt.json", format!("{{\"receipt\": 1, \"Kee{escaped}per\": \"{escaped}\"}}"))
        .with("p.toml", format!(
            "output = \"out{escaped}.csv\"\noverwrite = true\n[main]\ntable = \"main.csv\"\n[[reference]]\ntable = \"hives.csv\"\nname = \"hi{escaped}ves\"\n\
             on = \"Hive = Tag\"\ntake = \"\\\"Kee{escaped}per\\\" as A{escaped}\"\n"
        ))
        .with("bad.toml", format!("[main]\ntable = \"main.csv\"\n\"ke{escaped}y\" = 1 # {EVIL}\n"))
        .with("bad2.toml", format!("[main]\ntable = \"main.csv\" {EVIL}\n"))
        .with("bad3.toml", format!("[main]\ntable = \"main.csv\"\n[[reference]]\ntable=\"hives.csv\"\non = \"Hive | nos{escaped}tep = Tag\"\ntake=\"*\"\n"))
        .with("bad.jsonl", format!("{{\"Tag\": \"{EVIL}\", }}\n"))
        .with("broken.csv", format!("Tag{EVIL},Keeper\nH-1,\"open{EVIL}\nH-2,x\n"))
        .with("long.csv", format!("Tag{EVIL},Keeper\nH-1,x,y{EVIL}\n"))
}

const ON: &str = "--from hives.csv --on 'Hive = Tag' --take *";

/// Every command, with hostile content in each place that it shows.
fn calls() -> Vec<String> {
    let name = format!("hives{EVIL}.csv").replace('/', "");
    let mut calls: Vec<String> = [
        "survey main.csv hives.csv",
        "survey evil.sqlite",
        "survey 'evil.sqlite#nothing'",
        "survey evil.xlsx",
        "survey 'evil.xlsx#nothing'",
        "survey rows.json",
        "survey bad.jsonl",
        "survey broken.csv",
        "survey long.csv",
        "find hives.csv Edda",
        "find hives.csv H-003",
        "find hives.csv Edda --as json",
        "find evil.sqlite H-001",
        "find evil.xlsx H-001",
        "find hives.csv nothing",
        "find rows.json H-001",
        "find hives.csv H-001 --on Tags",
        "suggest main.csv hives.csv",
        "suggest main.csv evil.xlsx",
        "suggest main.csv evil.sqlite",
        "key test hives.csv Tag",
        "key make hives.csv '{Tag}-{Note}'",
        "key make hives.csv '{Tag}' --as Key",
        "key split hives.csv '{A}-{B}' --from Tag",
        "enrich p.toml",
        "check p.toml",
        "why p.toml --row 2",
        "why p.toml --row 3",
        "enrich bad.toml",
        "check bad2.toml",
        "check bad3.toml",
        "enrich main.csv --from evil.sqlite --on 'Hive = Tag' --take *",
        "enrich main.csv --from evil.xlsx --on 'Hive = Tag' --take *",
        "enrich main.csv --from rows.json --on 'Hive = Tag' --take *",
        "watch bad.toml",
        "watch nothing.toml",
        "enrich main.csv --from hives.csv --on 'Hive = Tags' --take *",
        "enrich main.csv --from hives.csv --on 'Hives = Tag' --take *",
        "enrich main.csv --from hives.csv --on 'Hive = Tag' --take Keeper",
    ]
    .map(str::to_owned)
    .into();
    for more in [
        "",
        "-v",
        "--when-duplicate list",
        "--when-duplicate every",
        "--when-duplicate 'highest Note'",
        "--when-unmatched stop",
        "--when-duplicate stop",
        "--aliases aliases.csv",
        "--aliases bad-aliases.csv",
        "--lists lists -o out.csv --overwrite",
        "--report r.html --report r.json -o out.csv --overwrite",
        "--receipt receipt.json -o out2.csv",
        "--color always",
        "--progress always",
        "--clean 'trim | fold'",
        "--require 'unmatched = 0'",
        "--update 'Hive = Kee'",
        "-o out.xlsx --overwrite",
        "-o new.sqlite --overwrite",
    ] {
        calls.push(format!("enrich main.csv {ON} {more}"));
    }
    for more in ["", "-v", "--require 'unmatched = 0'", "--color always"] {
        calls.push(format!("check main.csv {ON} {more}"));
    }
    for row in 1..=5 {
        calls.push(format!("why main.csv {ON} --row {row}"));
    }
    calls.push(format!("why main.csv {ON} --key 'H-003{EVIL}'"));
    calls.push(format!("enrich main.csv {ON} --corrections settled.csv"));
    for call in [
        "survey '{}'",
        "find '{}' H-001",
        "find '{}x' H-001",
        "enrich main.csv --from '{}' --on 'Hive = Tag' --take *",
        "find hives.csv '{}'",
        "check '{}' --from hives.csv --on Tag --take Note",
        "suggest main.csv '{}'",
        "key test '{}' Tag",
        "key test '{}' Tags",
        "enrich '{}'",
        "'{}'",
        "survey --'{}'",
        "enrich main.csv --from hives.csv --on '{}' --take *",
        "enrich main.csv --from hives.csv --on Tag --take '{}'",
        "demo '{}/x'",
        "find hives.csv x --delimiter '{}'",
        "enrich main.csv --from hives.csv --on 'Hive = Tag' --take * -o 'out{}'",
        "enrich main.csv --from hives.csv --on 'Hive = Tag' --take * --memory '{}'",
    ] {
        calls.push(call.replace("{}", &name));
    }
    calls
}

#[test]
fn a_terminal_gets_nothing_that_it_obeys() {
    let scene = scene();
    let mut seen = String::new();
    for call in calls() {
        let shown = shown(&scene, &call);
        assert!(!shown.is_empty() || call.contains("-o"), "{call:?} shows nothing");
        assert_eq!(obeyed(&shown), None, "{call:?}");
        assert!(!shown.contains("panicked"), "{call:?}: {shown}");
        seen.push_str(&shown);
    }
    // What was hostile is there, made visible.
    assert!(seen.contains("Kee·]0;owned") && seen.contains("Edda·]0;owned"));
    assert!(seen.contains("hives·]0;owned"));
}

/// What is written with colours is meant for a terminal, though it goes to a file first.
#[test]
fn files_with_colours_are_harmless_too() {
    let scene = scene();
    for call in calls().iter().filter(|call| !call.contains("--color") && !call.starts_with('\'')) {
        let ran = scene.run(&format!("{call} --color always"));
        assert_eq!(obeyed(&ran.out), None, "{call:?}");
        assert_eq!(obeyed(&ran.err), None, "{call:?}");
    }
    // A table that another program reads is as it is.
    let ran = scene.run(&format!("enrich main.csv {ON}")).ended(0);
    assert!(ran.out.contains(EVIL) && !ran.err.contains('\u{1b}'), "{}", ran.err);
}
