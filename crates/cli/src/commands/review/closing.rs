//! What a review has settled, and what to run now.

use std::fmt::Write as _;
use std::io::Write as _;
use std::path::Path;

use gather_keys_formats::{WholeFile, without_passwords};

use super::answer::Given;
use super::answers::Answers;
use super::{Left, View};
use crate::entered::{entered, entered_in_reference};
use crate::error::Result;
use crate::process_title::arguments;
use crate::typed::{Asked, PlanFile};
use crate::wording::{counted, joined, number, shell_word, wrapped};

/// The closing lines; asks whether a plan is to name the files that it does not name.
pub(super) fn told(
    asked: &Asked,
    answers: &Answers,
    left: &Left,
    view: &mut dyn View,
) -> Result<String> {
    let mut text = String::new();
    let settled = answers.given.iter().filter(|one| {
        matches!(one.given, Given::Alias { holds: true, .. } | Given::Corrections { .. })
    });
    let (count, rows) = settled.fold((0_u64, 0), |(count, rows), one| (count + 1, rows + one.rows));
    let refused = answers.given.iter();
    let refused =
        refused.filter(|one| matches!(one.given, Given::Alias { holds: false, .. })).count();
    let skipped = answers.given.iter().filter(|one| matches!(one.given, Given::Skipped)).count();
    let left_over = left.questions + skipped;
    if answers.given.is_empty() && left_over == 0 {
        text.push_str("There is nothing to settle: no key needs a person.\n");
    } else {
        let refused = match refused {
            0 => String::new(),
            more => format!("; {} remembered as having no match", number(more as u64)),
        };
        let left_over = match left_over {
            0 => "; none left".to_owned(),
            more => format!("; {} left", number(more as u64)),
        };
        let settled = format!(
            "{} settled, which brings {}{refused}{left_over}.",
            counted(count, "question"),
            counted(rows, "row")
        );
        let _ = writeln!(text, "{}", wrapped(&settled, 0, "  "));
    }
    if left.beyond > 0 {
        let beyond = format!(
            "{} have further keys, which another review asks about.",
            counted(left.beyond, "row")
        );
        let _ = writeln!(text, "{}", wrapped(&beyond, 0, "  "));
    }
    for (path, count) in answers.written() {
        let line = format!("{}: {}.", path.display(), counted(count as u64, "answer"));
        let _ = writeln!(text, "{}", wrapped(&line, 0, "  "));
    }
    let (aliases, corrections) = answers.unnamed();
    let is_unnamed = corrections.is_some() || aliases.iter().any(Option::is_some);
    let mut needs_options = is_unnamed;
    if let Some(file) = asked.file.as_ref().filter(|_| is_unnamed)
        && let Some(plan) = completed(file, &aliases, corrections)
    {
        let files: Vec<String> = {
            let mut all: Vec<&Path> =
                aliases.iter().flatten().copied().chain(corrections).collect();
            all.dedup();
            all.iter().map(|path| path.display().to_string()).collect()
        };
        let name = file.path.display();
        let question = format!(
            "{name} does not name {}, so that its runs don't use the answers. Write that into {name}?",
            joined(&files, "and")
        );
        if view.confirm(&question)? {
            write(&file.path, &plan)?;
            let _ = writeln!(text, "{name} names {} now.", joined(&files, "and"));
            needs_options = false;
        }
    }
    if count > 0 {
        let _ = writeln!(
            text,
            "\nTo use the answers:\n\n    {}",
            command(asked, needs_options, &aliases, corrections)
        );
    }
    Ok(text)
}

/// A plan's text with the files of answers that it does not name; `None` where they can't be entered.
fn completed(
    file: &PlanFile,
    aliases: &[Option<&Path>],
    corrections: Option<&Path>,
) -> Option<String> {
    let (name, text) = file.named();
    let mut text = text.to_owned();
    for (nth, path) in aliases.iter().enumerate() {
        if let Some(path) = path {
            text = entered_in_reference(&name, &text, nth, "aliases", &file.relative(path)?)?;
        }
    }
    if let Some(path) = corrections {
        text = entered(&name, &text, "corrections", &file.relative(path)?)?;
    }
    Some(text)
}

/// Writes a plan, whole or not at all.
fn write(path: &Path, plan: &str) -> Result<()> {
    let mut file = WholeFile::create(path, true)?;
    let name = path.display().to_string();
    let refused = |cause| gather_keys_formats::Error::Write { name, cause };
    file.write_all(plan.as_bytes()).map_err(refused)?;
    Ok(file.commit()?)
}

/// The command that uses the answers: the call as it was typed, with the options for files that it does not name.
fn command(
    asked: &Asked,
    needs_options: bool,
    aliases: &[Option<&Path>],
    corrections: Option<&Path>,
) -> String {
    let typed = arguments().iter().skip(1).map(|word| without_passwords(&word.to_string_lossy()));
    let typed = typed.filter(|word| word != "--plain-prompts");
    let mut words: Vec<String> = vec!["gather-keys".to_owned()];
    let mut is_command_found = false;
    let mut reference = None;
    let option = |path: &Path| path.display().to_string();
    let mut typed = typed.peekable();
    while let Some(word) = typed.next() {
        if word == "review" && !is_command_found {
            is_command_found = true;
            words.push("enrich".to_owned());
            continue;
        }
        let is_from = word == "--from";
        let is_joined = word.starts_with("--from=");
        words.push(word);
        if is_from {
            words.extend(typed.next());
        }
        if is_from || is_joined {
            let nth = reference.map_or(0, |nth: usize| nth + 1);
            reference = Some(nth);
            // The references of a plan are those of the plan, whichever are named.
            if let Some(Some(path)) =
                aliases.get(nth).filter(|_| needs_options && asked.file.is_none())
            {
                words.extend(["--aliases".to_owned(), option(path)]);
            }
        }
    }
    if needs_options && asked.file.is_some() {
        let names = crate::typed::names_of(&asked.plan.references);
        for (name, path) in names.iter().zip(aliases) {
            if let Some(path) = path {
                words.extend([
                    "--from".to_owned(),
                    name.clone(),
                    "--aliases".to_owned(),
                    option(path),
                ]);
            }
        }
    }
    if let Some(path) = corrections.filter(|_| needs_options) {
        words.extend(["--corrections".to_owned(), option(path)]);
    }
    let words = words.iter().map(|word| shell_word(&without_passwords(word)));
    words.collect::<Vec<_>>().join(" ")
}
