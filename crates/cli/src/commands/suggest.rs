//! `suggest`: the likely key of two tables, tried on the tables themselves.

use std::ffi::OsStr;
use std::fmt::Write as _;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use gather_keys_core::findings::{Counts, Kind};
use gather_keys_core::plan::{MainTable, Plan, ReferenceTable, Text, Texts};
use gather_keys_core::report::{Proposal, ProposedKey};
use gather_keys_core::survey::{LOOKED_AT, SuggestedKey, Suggestions, suggest as seek};
use gather_keys_core::table::{Discard, Source};
use gather_keys_formats::{Address, WholeFile};

use super::Outcome;
use crate::arguments::Suggest;
use crate::call::{Call, Purpose, Table};
use crate::error::{Error, Result};
use crate::inputs::{Inputs, Loaded, open, seed};
use crate::progress::Meter;
use crate::terminal::{GOOD, STRONG, show};
use crate::typed::{Asked, as_plan_at, names_of};
use crate::wording::{self, counted, number, share, shell_word};

/// A key finds clearly more when it does so in one of this many rows.
const CLEARLY: u64 = 8;

/// The name of the output in the command that is proposed.
const OUTPUT: &str = "enriched.csv";

/// A key as it was tried on the whole tables.
struct Tried<'s> {
    key: &'s SuggestedKey,
    /// The range that chooses a row, where that helps.
    within: Option<&'s str>,
    counts: Counts,
}

/// Proposes a key for two tables.
pub(crate) fn suggest(asked: &Suggest) -> Result<Outcome> {
    let (main, reference) = (&asked.main, &asked.reference);
    let ours = Table::new(main);
    let first = Address::all(reference)?.into_iter().next();
    let theirs = Table { address: first.unwrap_or(Address::Standard), ..Table::new(reference) };
    if [&ours.address, &theirs.address].contains(&&Address::Standard) {
        return Err(Error::SuggestTwice);
    }
    let mut source = open(&ours, &Meter::default(), &mut None)?;
    let mut other = open(&theirs, &Meter::default(), &mut None)?;
    let names = [source.headers().table().to_owned(), theirs.together.clone()];
    let found = seek(&mut source, &mut other, seed())?;
    let mut tried = Vec::new();
    for key in &found.keys {
        let mut best = try_key(asked, key, None, &found)?;
        if best.counts.of(Kind::Ambiguous) > 0 {
            for key in &key.wider {
                let other = try_key(asked, key, None, &found)?;
                if other.counts.of(Kind::Matched) > best.counts.of(Kind::Matched) {
                    best = other;
                }
            }
        }
        // Ranges are only of use where several rows hold a key.
        if best.counts.of(Kind::Conflicting) * 5 > best.counts.reference_keys {
            for within in &found.within {
                let other = try_key(asked, best.key, Some(within), &found)?;
                if other.counts.of(Kind::Matched) > best.counts.of(Kind::Matched) {
                    best = other;
                }
            }
        }
        // A narrower key may have become one that is proposed already, or one with parts that add nothing to it.
        let is_known = |other: &Tried<'_>| {
            other.counts.of(Kind::Matched) >= best.counts.of(Kind::Matched)
                && other.key.parts.iter().all(|part| best.key.parts.contains(part))
        };
        if !tried.iter().any(is_known) {
            tried.push(best);
        }
    }
    // A key that finds clearly more comes first; chance matches a few.
    tried.sort_by_key(|tried| {
        let rows = tried.counts.main_rows.max(1);
        std::cmp::Reverse(tried.counts.of(Kind::Matched) * CLEARLY / rows)
    });
    let most = tried.first().map_or(0, |tried| tried.counts.of(Kind::Matched));
    tried.retain(|tried| tried.counts.of(Kind::Matched) * 2 >= most.max(1));
    let best = tried.first();
    let plan = best.map(|best| plan_of(asked, best.key, best.within, &found)).transpose()?;
    let saved = match (&plan, &asked.save_plan) {
        (Some(plan), Some(path)) => {
            let path = PathBuf::from(path);
            save(plan, &path, asked.overwrite)?;
            Some(path)
        }
        _ => None,
    };
    let document = || {
        let keys =
            tried.iter().map(|tried| ProposedKey::of(tried.key, tried.within, &tried.counts));
        Proposal {
            command: plan.as_ref().map(|plan| command(plan, " ")),
            ..Proposal::of(&names, &found, keys.collect())
        }
    };
    let text = || proposed(&names, &tried, &found, (plan.as_ref(), saved.as_deref()));
    show(&asked.printed.of(document, text))?;
    Ok(if tried.is_empty() { Outcome::Stopped } else { Outcome::Done })
}

/// What is proposed, for a person: the keys, the command of the best, and the plan if it was saved.
fn proposed(
    [ours, theirs]: &[String; 2],
    tried: &[Tried<'_>],
    found: &Suggestions,
    (plan, saved): (Option<&Plan>, Option<&Path>),
) -> String {
    let mut text = String::new();
    let [best, others @ ..] = tried else {
        let words = format!(
            "No columns of {ours} and {theirs} hold the same values, however they are \
             spelled. `gather-keys survey` shows what they hold."
        );
        let _ = writeln!(text, "{}", wording::wrapped(&words, 0, ""));
        return text;
    };
    let _ = writeln!(text, "{STRONG}The key of {ours} in {theirs}{STRONG:#}\n");
    tell(&mut text, best, theirs);
    for other in others {
        let _ = writeln!(text, "\n{STRONG}The runner-up{STRONG:#}\n");
        tell(&mut text, other, theirs);
    }
    bounds(&mut text, found);
    if let Some(plan) = plan {
        let _ = writeln!(text, "\n{STRONG}Ready to run{STRONG:#}\n");
        let _ = writeln!(text, "  {}", command(plan, " \\\n  "));
    }
    if let Some(path) = saved {
        let name = path.display();
        let _ = writeln!(text, "\nWrote the plan {name}; to run it: gather-keys enrich {name}");
    }
    text
}

/// The plan of a key.
fn plan_of(
    asked: &Suggest,
    key: &SuggestedKey,
    within: Option<&str>,
    found: &Suggestions,
) -> Result<Plan> {
    let path = |path: &OsStr| {
        path.to_str()
            .map(Text::typed)
            .ok_or_else(|| Error::PathNotText { path: path.to_string_lossy().into_owned() })
    };
    let in_ranges = |take: &&String| {
        within.is_none_or(|within| {
            !within.contains(&format!("in {take}")) && !within.ends_with(&format!(".. {take}"))
        })
    };
    let take: Vec<Text> = found.take.iter().filter(in_ranges).map(Text::typed).collect();
    let reference = ReferenceTable {
        table: path(&asked.reference)?,
        on: Texts(key.parts.iter().map(|part| Text::typed(&part.on)).collect()),
        within: within.map(Text::typed),
        take: Texts(take),
        ..ReferenceTable::default()
    };
    Ok(Plan {
        output: Some(Text::typed(OUTPUT)),
        main: MainTable { table: path(&asked.main)?, ..MainTable::default() },
        references: vec![reference],
        ..Plan::default()
    })
}

/// Tries a key on the tables.
fn try_key<'s>(
    asked: &Suggest,
    key: &'s SuggestedKey,
    within: Option<&'s str>,
    found: &Suggestions,
) -> Result<Tried<'s>> {
    let plan = Plan { output: None, no_reasons: Some(true), ..plan_of(asked, key, within, found)? };
    let asked = Asked { plan, file: None, overridden: Vec::new(), save: None };
    let call = Call::new(&asked, Purpose::Findings)?;
    let inputs = Inputs::open(&call, None)?;
    let Loaded { mut main, mut enrichment, .. } = inputs.load(&call, call.threads, None)?;
    let findings = enrichment.run(&mut main, &mut Discard::default(), None, call.threads)?;
    let counts = findings.lookups.first().map(|found| found.counts).unwrap_or_default();
    Ok(Tried { key, within, counts })
}

fn tell(text: &mut String, tried: &Tried<'_>, theirs: &str) {
    let Tried { key, within, counts } = tried;
    for part in &key.parts {
        let _ = writeln!(text, "  {STRONG}{}{STRONG:#}", part.on);
        let _ = writeln!(
            text,
            "      {} of {} are in {theirs}",
            number(part.covered as u64),
            counted(part.values as u64, "different value")
        );
    }
    if let Some(within) = within {
        let _ =
            writeln!(text, "  {STRONG}{within}{STRONG:#}\n      picks the row among equal keys");
    }
    let matched = counts.of(Kind::Matched);
    let _ = writeln!(
        text,
        "  {GOOD}matches {} of {} ({}){GOOD:#}",
        number(matched),
        counted(counts.main_rows, "row"),
        share(matched, counts.main_rows)
    );
    let others = [Kind::Unmatched, Kind::Ambiguous, Kind::BlankKey, Kind::Malformed];
    let others: Vec<String> = others
        .into_iter()
        .filter(|kind| counts.of(*kind) > 0)
        .map(|kind| format!("{} {}", number(counts.of(kind)), kind.label()))
        .collect();
    if !others.is_empty() {
        let _ = writeln!(text, "      {}", others.join(", "));
    }
    let shared = counts.of(Kind::Duplicate) + counts.of(Kind::Conflicting);
    let _ = match shared {
        _ if within.is_some() => Ok(()),
        0 => writeln!(text, "  every key is on one row of {theirs}"),
        shared => writeln!(
            text,
            "  {} of {} {} on several rows of {theirs}",
            number(shared),
            counted(counts.reference_keys, "key"),
            if shared == 1 { "is" } else { "are" }
        ),
    };
}

/// A note for tables that were too large to be read as a whole.
fn bounds(text: &mut String, found: &Suggestions) {
    if found.looked_at[0] < LOOKED_AT[0] && found.looked_at[1] < LOOKED_AT[1] {
        return;
    }
    let words = format!(
        "Columns were compared by the first {} and {} of the two tables; the keys were then tried \
         on all of them.",
        counted(found.looked_at[0] as u64, "row"),
        number(found.looked_at[1] as u64)
    );
    let _ = writeln!(text, "\n{}", wording::wrapped(&words, 0, ""));
}

/// The command that does what a plan asks for, with `between` its lines.
fn command(plan: &Plan, between: &str) -> String {
    let mut lines =
        vec![format!("gather-keys enrich {}", shell_word(&Address::shown(&plan.main.table.text)))];
    for reference in &plan.references {
        lines.push(format!("    --from {}", shell_word(&Address::shown(&reference.table.text))));
        lines.extend(
            reference.on.0.iter().map(|on| format!("        --on {}", shell_word(&on.text))),
        );
        let within = reference.within.iter();
        lines.extend(within.map(|within| format!("        --within {}", shell_word(&within.text))));
        let take: Vec<&str> = reference.take.0.iter().map(|take| &take.text[..]).collect();
        lines.push(format!("        --take {}", shell_word(&take.join(", "))));
    }
    lines.extend(plan.output.iter().map(|output| format!("    -o {}", shell_word(&output.text))));
    let is_one_line = !between.contains('\n');
    let lines = lines.iter().map(|line| if is_one_line { line.trim_start() } else { line });
    lines.collect::<Vec<_>>().join(between)
}

fn save(plan: &Plan, path: &Path, overwrite: bool) -> Result<()> {
    let mut plan = plan.clone();
    let names = names_of(&plan.references);
    for (reference, name) in plan.references.iter_mut().zip(names) {
        reference.name.get_or_insert_with(|| Text::typed(name));
    }
    Address::check_file(path.as_os_str())?;
    let mut file = WholeFile::create(path, overwrite)?;
    let name = path.display().to_string();
    let refused = |cause| gather_keys_formats::Error::Write { name, cause };
    file.write_all(as_plan_at(&plan, path).as_bytes()).map_err(refused)?;
    Ok(file.commit()?)
}
