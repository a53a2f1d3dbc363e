//! The examples in README and docs: every block marked `console` is run on the demo's tables, and
//! must print what it shows. `UPDATE_DOCS=1 cargo test` writes what was printed into the pages.

use std::fs;
use std::path::{Path, PathBuf};

use super::printed::schemas;
use gather_keys_core::plan::Plan;
use gather_keys_core::template::steps;

use super::scene::Scene;
use super::typist::Typist;
use super::updates::CHOICES;

const ROOT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");

fn pages() -> Vec<PathBuf> {
    let root = Path::new(ROOT);
    let docs = fs::read_dir(root.join("docs")).unwrap().flatten().map(|entry| entry.path());
    let mut pages: Vec<PathBuf> =
        docs.filter(|path| path.extension().is_some_and(|ext| ext == "md")).collect();
    pages.push(root.join("README.md"));
    pages.sort();
    pages
}

const TABLE: (&str, &str) = ("<!-- the steps, from the code -->", "<!-- end of the steps -->");

/// The page with the table of steps from the code.
fn with_steps(page: &str) -> String {
    let Some((before, rest)) = page.split_once(TABLE.0) else { return page.to_owned() };
    let (_, behind) = rest.split_once(TABLE.1).unwrap();
    let mut table = "| step | does | for example |\n|---|---|---|\n".to_owned();
    for kind in steps::ALL {
        let examples = kind.examples.iter().map(|(step, value, made)| {
            let made = made.map_or("can't be read".to_owned(), |made| format!("`{made:?}`"));
            format!("`{step}`: `{value:?}` → {made}")
        });
        let examples = examples.collect::<Vec<_>>().join("<br>");
        table += &format!("| `{}` | {} | {examples} |\n", kind.form, kind.does);
    }
    format!("{before}{}\n\n{table}\n{}{behind}", TABLE.0, TABLE.1)
}

/// The page with the text between two markers replaced.
fn with_part(page: &str, (begins, ends): (&str, &str), part: impl FnOnce() -> String) -> String {
    let Some((before, rest)) = page.split_once(begins) else { return page.to_owned() };
    let (_, behind) = rest.split_once(ends).unwrap();
    format!("{before}{begins}\n\n{}\n{ends}{behind}", part())
}

/// What an update does, as the tests hold it.
fn choices() -> String {
    let mut table =
        "| `--replace` | `--bring-blanks` | main cell | reference cell | comes out as |\n\
                     |---|---|---|---|---|\n"
            .to_owned();
    let cell = |cell: &str| match cell {
        "" => "(blank)".to_owned(),
        cell => format!("`{cell}`"),
    };
    for (replace, bring_blanks, main, reference, out) in CHOICES {
        let bring = if bring_blanks { "yes" } else { "no" };
        let cells = [main, reference, out].map(cell).join(" | ");
        table += &format!("| `{replace}` | {bring} | {cells} |\n");
    }
    table
}

/// The table of the keys of a plan, from the code.
fn keys() -> String {
    let schema: serde_json::Value = serde_json::from_str(&Plan::schema()).unwrap();
    let mut text = String::new();
    for (title, path) in [
        ("At the top, for the run", "/properties"),
        ("In `[main]`", "/$defs/MainTable/properties"),
        ("In each `[[reference]]`", "/$defs/ReferenceTable/properties"),
    ] {
        text += &format!("**{title}**\n\n| key | what it is for |\n|---|---|\n");
        let keys = schema.pointer(path).unwrap().as_object().unwrap();
        for (key, value) in
            keys.iter().filter(|(key, _)| !["main", "reference"].contains(&&key[..]))
        {
            let about = value["description"].as_str().unwrap();
            let about = about.split_whitespace().collect::<Vec<_>>().join(" ").replace('|', "\\|");
            text += &format!("| `{key}` | {about} |\n");
        }
        text.push('\n');
    }
    text.trim_end().to_owned() + "\n"
}

#[test]
fn schemas_are_those_of_the_code() {
    let plan = [("plan", Plan::schema())];
    for (name, schema) in plan.into_iter().chain(schemas()) {
        let file = format!("docs/{name}.schema.json");
        let path = Path::new(ROOT).join(&file);
        if std::env::var_os("UPDATE_DOCS").is_some() {
            fs::write(&path, &schema).unwrap();
        }
        assert_eq!(fs::read_to_string(&path).unwrap(), schema, "{file} is out of date");
    }
}

/// A folder with the demo's tables, freshly made for each page.
fn scene() -> Scene {
    let mut scene = Scene::empty();
    for entry in fs::read_dir(Path::new(ROOT).join("demo")).unwrap().flatten() {
        if entry.path().extension().is_some_and(|ext| ext != "py") {
            let name = entry.file_name().into_string().unwrap();
            scene = scene.with(&name, fs::read(entry.path()).unwrap());
        }
    }
    scene
}

/// What a review prints to a terminal when the person types what `shown` has after each prompt.
fn reviewed(scene: &Scene, command: &str, shown: &[&str]) -> String {
    const PROMPTS: [&str; 2] = ["1-9, y, n, s, u, /words, ?, q: ", "y or n: "];
    let typed =
        shown.iter().filter_map(|line| PROMPTS.iter().find_map(|one| line.strip_prefix(one)));
    let mut shell = scene.in_shell(command);
    shell.env("TERM", "dumb").env("NO_COLOR", "1").stdin(std::process::Stdio::inherit());
    let mut typist = Typist::at(shell, (80, 24));
    let mut text = String::new();
    for answer in typed.chain(std::iter::repeat("q")) {
        if !typist.reads_any(&PROMPTS) {
            break;
        }
        // What is typed is not seen here as it is in other terminals.
        text += &format!("{}{answer}\n", typist.taken());
        typist.types(&format!("{answer}\n"));
    }
    let (_, last) = typist.ends();
    (text + &last).replace('\r', "")
}

/// The page with what its commands print now.
fn refreshed(page: &str, scene: &Scene) -> (String, usize) {
    let (mut text, mut run) = (String::new(), 0);
    let mut lines = page.lines().peekable();
    while let Some(line) = lines.next() {
        text += &format!("{line}\n");
        if line != "```console" {
            continue;
        }
        while let Some(line) = lines.next_if(|line| *line != "```") {
            let Some(mut command) = line.strip_prefix("$ ").map(str::to_owned) else { continue };
            text += &format!("{line}\n");
            while command.ends_with('\\') {
                let next = lines.next().unwrap();
                text += &format!("{next}\n");
                command += &format!("\n{next}");
            }
            if command.contains("gather-keys review") {
                let shown: Vec<&str> = std::iter::from_fn(|| {
                    lines.next_if(|line| *line != "```" && !line.starts_with("$ "))
                })
                .collect();
                text += &reviewed(scene, &command, &shown);
            } else {
                text += &scene.shell(&format!("{{ {command}\n}} 2>&1")).out;
            }
            run += 1;
        }
    }
    (text, run)
}

#[test]
fn examples_print_what_they_show() {
    let mut run = 0;
    for path in pages() {
        let page = fs::read_to_string(&path).unwrap();
        let keys_part = ("<!-- the keys, from the code -->", "<!-- end of the keys -->");
        let choices_part = ("<!-- the choices, from the tests -->", "<!-- end of the choices -->");
        let now = with_part(&with_steps(&page), keys_part, keys);
        let now = with_part(&now, choices_part, choices);
        let (now, commands) = refreshed(&now, &scene());
        run += commands;
        if std::env::var_os("UPDATE_DOCS").is_some() {
            fs::write(&path, &now).unwrap();
        } else {
            assert_eq!(page, now, "{} is out of date", path.display());
        }
    }
    assert!(run >= 3, "only {run} examples were found");
}

/// Files and tests that the docs name exist.
#[test]
fn named_files_and_tests_exist() {
    let root = Path::new(ROOT);
    let mut sources = String::new();
    let mut folders = vec![root.join("crates")];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
            let path = entry.path();
            match path.extension() {
                _ if path.is_dir() => folders.push(path),
                Some(rs) if rs == "rs" => sources.push_str(&fs::read_to_string(path).unwrap()),
                _ => {}
            }
        }
    }
    let mut named = 0;
    for page in pages() {
        let text = fs::read_to_string(&page).unwrap();
        for word in text.split('`').skip(1).step_by(2) {
            let (start, rest) = word.split_once('/').unwrap_or(("", ""));
            let is_rust = Path::new(rest).extension().is_some_and(|extension| extension == "rs");
            let is_source = ["core", "formats", "cli"].contains(&start) && is_rust;
            let is_test = page.ends_with("reliability.md")
                && word.matches('_').count() > 1
                && word.bytes().all(|byte| byte.is_ascii_lowercase() || b"_8".contains(&byte));
            if is_source {
                let path = root.join("crates").join(start).join("src").join(rest);
                assert!(path.exists(), "{}: {word}", page.display());
            } else if is_test {
                assert!(sources.contains(&format!("fn {word}(")), "{}: {word}", page.display());
            }
            named += usize::from(is_source || is_test);
        }
    }
    assert!(named > 40, "{named}");
}
