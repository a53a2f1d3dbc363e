//! What shells and readers of manuals get: help, completions and manual pages.

use std::process::{Command, Stdio};

use super::scene::{ON_HIVES, Scene, snapshot};

const COMMANDS: [&str; 13] = [
    "enrich",
    "check",
    "why",
    "review",
    "watch",
    "find",
    "survey",
    "suggest",
    "key make",
    "key split",
    "key test",
    "completions",
    "manual",
];

#[test]
fn help_fits_a_screen_and_full_help_has_every_option() {
    let scene = Scene::empty();
    let mut all = String::new();
    for command in COMMANDS {
        let words = command.split(' ').chain(["-h"]);
        let short = scene.program().args(words).env("COLUMNS", "80").output().unwrap();
        let short = String::from_utf8(short.stdout).unwrap();
        assert!(short.lines().count() <= 24, "{command}: {short}");
        assert!(short.lines().all(|line| line.chars().count() <= 80), "{command}: {short}");
        let long = scene.run(&format!("{command} --help")).ended(0).out;
        assert!(long.lines().count() > short.lines().count(), "{command}");
        all += &format!("$ gather-keys {command} -h\n{short}\n");
    }
    snapshot("help", &all);
    let long = scene.run("enrich --help").ended(0).out;
    let headings: Vec<&str> =
        long.lines().filter(|line| line.ends_with(':') && !line.starts_with(' ')).collect();
    assert_eq!(headings[1], "Everyday options:", "{headings:?}");
    assert!(long.contains("--output-decimal-comma") && long.contains("--skip-last"));
}

/// The words that bash completes a line to.
fn bash(scene: &Scene, line: &str) -> String {
    let completing = "eval \"$(gather-keys completions bash)\"
        COMP_WORDS=(\"$@\"); COMP_CWORD=$(($# - 1))
        compopt() { :; }
        _gather_keys_and_headers gather-keys \"${COMP_WORDS[COMP_CWORD]}\" \"${COMP_WORDS[COMP_CWORD - 1]}\"
        printf '%s\\n' \"${COMPREPLY[@]}\"";
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_gather-keys"));
    let others = std::env::var_os("PATH").unwrap_or_default();
    let folders = [program.parent().unwrap().to_owned()].into_iter();
    let path = std::env::join_paths(folders.chain(std::env::split_paths(&others))).unwrap();
    let mut shell = Command::new("bash");
    shell.args(["--norc", "-c", completing, "bash"]).args(line.split('\t')).env("PATH", path);
    shell.current_dir(scene.path("")).stdin(Stdio::null());
    let output = shell.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// Each line is given word by word, as bash has them.
#[test]
fn bash_completes_options_and_headers() {
    let scene = Scene::new();
    scene.run(&format!("check harvest.csv {ON_HIVES} --save-plan p.toml -q")).ended(0);
    for (line, want) in [
        ("gather-keys\tsur", "survey\n"),
        ("gather-keys\tenrich\tharvest.csv\t--when-d", "--when-duplicate\n"),
        ("gather-keys\tkey\tte", "test\n"),
        ("gather-keys\tcompletions\tel", "elvish\n"),
        ("gather-keys\tenrich\tharvest.csv\t--from\thives.csv\t--take\tKe", "Keeper\n"),
        (
            "gather-keys\tenrich\tharvest.csv\t--from\thives.csv\t--take\t'Line, S",
            "Line, Site code\n",
        ),
        ("gather-keys\tenrich\tharvest.csv\t--from\thives.csv\t--take\tSi", "Site\\ code\n"),
        ("gather-keys\tenrich\tharvest.csv\t--from\thives.csv\t--on\tA", "Apiary\n"),
        (
            "gather-keys\tenrich\tharvest.csv\t--from\thives.csv\t--on\t'Apiary = S",
            "Apiary = Site code\n",
        ),
        (
            "gather-keys\tenrich\tharvest.csv\t--from\thives.csv\t-o\tout.csv\t--columns\t'batch, k",
            "batch, Keeper\n",
        ),
        ("gather-keys\tenrich\tp.toml\t--from\thives\t--take\tL", "Line\n"),
        ("gather-keys\tfind\thives.csv\tEdda\t--on\tT", "Tag\n"),
        // A table that can't be read gives none.
        ("gather-keys\tenrich\tgone.csv\t--from\tnone.csv\t--take\tK", "\n"),
    ] {
        assert_eq!(bash(&scene, line), want, "{line}");
    }
}

/// The scripts are sound where their shells are there to say so.
#[test]
fn every_shell_has_a_script() {
    let scene = Scene::empty();
    for (shell, checks) in [
        ("bash", Some("bash -n")),
        ("zsh", Some("zsh -n")),
        ("fish", Some("fish -n")),
        // This one knows its variables only while somebody types.
        ("elvish", None),
        ("powershell", None),
    ] {
        let script = scene.run(&format!("completions {shell}")).ended(0).out;
        for name in ["gather-keys", "enrich", "when-duplicate", "survey"] {
            assert!(script.contains(name), "{shell}: {name}");
        }
        // What is only for shells is not completed.
        assert!(!script.contains("Print the headers that complete"), "{shell}");
        std::fs::write(scene.path("script"), &script).unwrap();
        let Some(checks) = checks else { continue };
        let ran =
            scene.shell(&format!("command -v {shell} > /dev/null || exit 0; {checks} script"));
        assert_eq!((ran.status, &ran.err[..]), (0, ""), "{shell}");
    }
    scene.run("completions tcsh").ended(2);
}

#[test]
fn every_command_has_a_manual_page() {
    let scene = Scene::empty();
    let ran = scene.run("manual pages").ended(0);
    assert!(ran.err.starts_with("Wrote 16 pages to pages"), "{}", ran.err);
    for command in COMMANDS {
        let page = scene.read(&format!("pages/gather-keys-{}.1", command.replace(' ', "-")));
        assert!(page.is_ascii(), "{command}");
        // Every option has a text after it.
        for option in page.split("\n.TP\n").skip(1) {
            let text: Vec<&str> =
                option.lines().skip(1).take_while(|line| !line.starts_with(".SH")).collect();
            assert!(text.iter().any(|line| !line.is_empty()), "{command}: {option}");
        }
    }
    let page = scene.read("pages/gather-keys-enrich.1");
    assert!(
        page.contains(".SH EXAMPLES\n.nf\n") && page.contains("\\-\\-take Keeper \\e\n"),
        "{page}"
    );
    let sound =
        "command -v groff > /dev/null || exit 0; groff -man -ww -Tutf8 pages/*.1 > /dev/null";
    let ran = scene.shell(sound);
    assert_eq!((ran.status, &ran.err[..]), (0, ""));
}
