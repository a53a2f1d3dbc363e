//! The plan that is proposed, and the command that does the same.

use std::ffi::OsStr;
use std::io::Write as _;
use std::path::Path;

use gather_keys_core::plan::{MainTable, Plan, ReferenceTable, Text, Texts, quoted_header};
use gather_keys_core::survey::SuggestedKey;
use gather_keys_core::table::Headers;
use gather_keys_formats::{Address, WholeFile};

use crate::error::{Error, Result};
use crate::typed::{as_plan_at, names_of};
use crate::wording::shell_word;

/// The name of the output in the command that is proposed.
const OUTPUT: &str = "enriched.csv";

/// A reference of the plan.
pub(super) struct Step<'t> {
    pub(super) table: &'t OsStr,
    pub(super) on: Vec<String>,
    pub(super) within: Option<String>,
    pub(super) take: Vec<String>,
}

/// The columns of a table that lead to another.
pub(super) struct Link(Vec<usize>);

impl Link {
    /// The columns that a key needs of the table on its left side.
    pub(super) fn of(key: &SuggestedKey) -> Self {
        let mut columns: Vec<usize> =
            key.parts.iter().flat_map(|part| part.columns[0].iter().copied()).collect();
        columns.sort_unstable();
        columns.dedup();
        Self(columns)
    }

    /// The columns as they are to be written to be taken under these names.
    pub(super) fn take(&self, headers: &Headers, names: &[String]) -> Vec<String> {
        let take = |&column: &usize| {
            let header = headers.address(column);
            match &names[column] {
                name if *name == header => quoted_header(&header),
                name => format!("{} as {}", quoted_header(&header), quoted_header(name)),
            }
        };
        self.0.iter().map(take).collect()
    }

    /// The names under which they are taken.
    pub(super) fn names(&self, names: &[String]) -> Vec<String> {
        self.0.iter().map(|&column| names[column].clone()).collect()
    }
}

/// A plan of references.
///
/// # Errors
/// When a path is no text.
pub(super) fn plan(main: &OsStr, steps: Vec<Step<'_>>) -> Result<Plan> {
    let path = |path: &OsStr| {
        path.to_str()
            .map(Text::typed)
            .ok_or_else(|| Error::PathNotText { path: path.to_string_lossy().into_owned() })
    };
    let reference = |step: Step<'_>| -> Result<ReferenceTable> {
        let Step { table, on, within, take } = step;
        // The ends of a range are of no use next to what it chose.
        let is_of_use = |take: &String| {
            within.as_ref().is_none_or(|within| {
                !within.contains(&format!("in {take}")) && !within.ends_with(&format!(".. {take}"))
            })
        };
        let take = take.into_iter().filter(is_of_use).map(Text::typed).collect();
        Ok(ReferenceTable {
            table: path(table)?,
            on: Texts(on.into_iter().map(Text::typed).collect()),
            within: within.map(Text::typed),
            take: Texts(take),
            ..ReferenceTable::default()
        })
    };
    Ok(Plan {
        output: Some(Text::typed(OUTPUT)),
        main: MainTable { table: path(main)?, ..MainTable::default() },
        references: steps.into_iter().map(reference).collect::<Result<_>>()?,
        ..Plan::default()
    })
}

/// The command that does what a plan asks for, with `between` its lines.
pub(super) fn command(plan: &Plan, between: &str) -> String {
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
    let dropped: Vec<&str> = plan.drop.0.iter().map(|drop| &drop.text[..]).collect();
    if !dropped.is_empty() {
        lines.push(format!("    --drop {}", shell_word(&dropped.join(", "))));
    }
    lines.extend(plan.output.iter().map(|output| format!("    -o {}", shell_word(&output.text))));
    let is_one_line = !between.contains('\n');
    let lines = lines.iter().map(|line| if is_one_line { line.trim_start() } else { line });
    lines.collect::<Vec<_>>().join(between)
}

/// Writes a plan to a file.
///
/// # Errors
/// When the file exists, or can't be written.
pub(super) fn save(plan: &Plan, path: &Path, overwrite: bool) -> Result<()> {
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
