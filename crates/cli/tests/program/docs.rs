//! The examples in README and docs: every block marked `console` is run on the demo's tables, and
//! must print what it shows. `UPDATE_DOCS=1 cargo test` writes what was printed into the pages.

use std::fs;
use std::path::{Path, PathBuf};

use gather_keys_core::template::steps;

use super::scene::Scene;

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

/// The page with the table of steps as the code tells it.
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

/// A folder with the demo's tables, freshly made for each page.
fn scene() -> Scene {
    let mut scene = Scene::empty();
    for entry in fs::read_dir(Path::new(ROOT).join("demo")).unwrap().flatten() {
        if entry.path().extension().is_some_and(|ext| ext == "csv") {
            let name = entry.file_name().into_string().unwrap();
            scene = scene.with(&name, fs::read(entry.path()).unwrap());
        }
    }
    scene
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
            let ran = scene.shell(&format!("{{ {command}\n}} 2>&1"));
            text += &ran.out;
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
        let (now, commands) = refreshed(&with_steps(&page), &scene());
        run += commands;
        if std::env::var_os("UPDATE_DOCS").is_some() {
            fs::write(&path, &now).unwrap();
        } else {
            assert_eq!(page, now, "{} is out of date", path.display());
        }
    }
    assert!(run >= 3, "only {run} examples were found");
}
