//! The end of a run: everything that it wrote appears, or nothing does.

use gather_keys_core::report::Report;
use gather_keys_core::table::Source;
use gather_keys_formats::commit::Finished;
use jiff::Timestamp;

use super::changed_output::marked;
use super::{Passed, Run};
use crate::error::{Error, Result};
use crate::lists;
use crate::receipts;
use crate::summary;
use crate::targets::{self, Ready, file_name};
use crate::typed::as_plan_at;
use crate::wording::{counted, joined};

/// The time, as it is in the name of a copy that is kept.
pub(super) fn stamp() -> String {
    Timestamp::now().strftime("%Y%m%dT%H%M%SZ").to_string()
}

impl Run<'_> {
    /// Lets everything appear that the run writes, and says so.
    pub(super) fn appear(
        &mut self,
        passed: Passed,
        may_appear: bool,
        keeps_replaced: bool,
        report: Option<&Report>,
    ) -> Result<Vec<String>> {
        let Passed {
            main, enrichment, findings, mixed, edited, output, lists, reports, draft, ..
        } = passed;
        let [receipt, plan, corrections, entered] = passed.files;
        let call = &self.call;
        let (mut said, mut ready) = (self.told_kept(), Ready::default());
        if let Some(output) = output {
            let name = output.name();
            let is_in_place = self.writes_into_main();
            if !may_appear {
                said.push(summary::not_written(&name));
            } else if is_in_place && summary::leaves_all(&enrichment, &findings) {
                said.push(format!("{name} stays as it is: nothing in it changes."));
            } else {
                let place = main.sheet_place().filter(|_| is_in_place).map(|place| {
                    format!("worksheet `{}` of {}", place.worksheet(), place.path().display())
                });
                let table = main.read_as().part.as_ref().map(|part| &part.name);
                let table = table.filter(|_| is_in_place && main.is_database());
                said.push(match place.or_else(|| Some(format!("table `{}` of {name}", table?))) {
                    Some(place) => summary::written_into(&place, &enrichment, &findings, &edited),
                    None => {
                        let worksheet = output.worksheet_name(call.output());
                        let to = worksheet
                            .map_or(name.clone(), |one| format!("worksheet `{one}` of {name}"));
                        summary::table_written(&to, main.headers(), &enrichment, &findings)
                    }
                });
                said.extend(summary::as_text(&name, &mixed));
                said.extend(summary::long_numbers(&name, edited.long.as_ref()));
                said.extend(summary::formulas(&name, &edited));
                if output.is_closed() {
                    said.push(format!("{name} was closed by its reader before the last row."));
                }
                let kept = keeps_replaced.then(stamp);
                ready.output = Some(output.finish(kept.as_deref())?);
            }
        }
        if let (Some(lists), Some(folder)) = (lists, &call.lists) {
            ready.listed.extend(lists::paths(folder).into_iter().zip(lists.finish()?));
            said.push(lists::reported(folder));
        }
        if let Some(report) = report.filter(|_| !call.reports.is_empty()) {
            ready.listed.extend(call.reports.iter().cloned().zip(reports.finish(report)?));
            let names: Vec<String> =
                call.reports.iter().map(|path| path.display().to_string()).collect();
            let what = if names.len() == 1 { "report" } else { "reports" };
            said.push(format!("Wrote the {what} {}.", joined(&names, "and")));
        }
        let sum = ready.output.as_ref().and_then(|output| output.sum.clone());
        if let (Some(draft), Some(sum), Some(address), Some(file)) =
            (draft, sum, call.output(), receipt)
        {
            let is_sheet = main.sheet_place().is_some() && self.writes_into_main();
            let added = if is_sheet { enrichment.added() } else { &[] };
            let marked = if is_sheet { marked(&enrichment) } else { Vec::new() };
            let table = self.written_table(&main);
            let output = ready.output.as_ref().and_then(|output| output.file.as_ref());
            let content = output.map(Finished::content).transpose()?.flatten();
            let lists: Vec<_> =
                ready.listed.iter().map(|(path, file)| (path.clone(), file)).collect();
            let written =
                receipts::Written { address, sum, content, table, added, marked, lists: &lists };
            ready.others.push(draft.finish(file, &written)?);
            if let Some(path) = call.receipt.as_ref().filter(|_| self.before.is_none()) {
                said.push(format!("Wrote the receipt {}.", path.display()));
            }
        }
        if let (Some(file), Some(kept)) = (corrections, &self.kept) {
            ready.others.push(targets::written(file, &kept.content)?);
        }
        if let (Some(file), Some((path, text))) = (entered, self.asked.with_corrections()) {
            let as_read = self.asked.file.as_ref().map(|file| &file.text);
            let now = std::fs::read_to_string(path).ok();
            if now.as_ref() != as_read {
                return Err(Error::InputChanged { name: path.display().to_string() });
            }
            ready.others.push(targets::written(file, text.as_bytes())?);
        }
        if let (Some(file), Some(path)) = (plan, &self.asked.save) {
            let text = as_plan_at(&self.asked.plan, path);
            ready.others.push(targets::written(file, text.as_bytes())?);
            let name = path.display();
            said.push(format!("Wrote the plan {name}; to run it again: gather-keys enrich {name}"));
        }
        // The inputs must be unchanged up to the moment in which an output appears.
        if let Some(changed) = passed.read.iter().find(|file| !file.is_unchanged()) {
            return Err(Error::InputChanged { name: changed.name().to_owned() });
        }
        let appeared = ready.commit()?;
        self.appeared = appeared.iter().filter_map(|one| one.path.clone()).collect();
        let backups = appeared.iter().filter_map(|one| one.backup.as_ref());
        said.extend(backups.map(|to| format!("The file as it was is kept as {}.", file_name(to))));
        said.extend(targets::reported(&appeared));
        Ok(said)
    }

    /// The notes about changes that have become corrections.
    pub(super) fn told_kept(&self) -> Vec<String> {
        let (Some(kept), Some(file)) = (&self.kept, &self.call.corrections) else {
            return Vec::new();
        };
        let (changes, file) = (counted(kept.changes as u64, "change"), file.display());
        let mut said = vec![format!("Kept {changes} made by hand as corrections in {file}.")];
        if let Some(plan) = self.asked.file.as_ref().filter(|_| self.asked.types_corrections()) {
            let plan = plan.path.display();
            said.push(match self.asked.with_corrections() {
                Some(_) => format!("Entered them into {plan}, so that they hold in every run."),
                None => format!(
                    "Add `corrections = \"{file}\"` to {plan}, so that they hold in every run."
                ),
            });
        }
        said
    }
}
