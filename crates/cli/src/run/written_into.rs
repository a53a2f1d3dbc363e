//! Where the enriched table goes: into a new file, into the main table itself, or into a workbook that is there, and
//! what is refused where something is there.

use std::path::Path;

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::plan::{ReferencePlan, WhenDuplicate, WhenUnmatched};
use gather_keys_formats::columnar::Columnar;
use gather_keys_formats::workbook::{
    EditOptions, Refusal, SheetEditor, WorkbookOptions, is_own, refuse_open, would_lose,
};
use gather_keys_formats::{Address, Codec, Described, Error as FormatError, Format, InputFile};

use super::Run;
use super::appear::stamp;
use crate::call::Destination;
use crate::clashes;
use crate::error::{Error, Result};
use crate::inputs::{ColumnTypes, Inputs, OpenTable};
use crate::output::Output;
use crate::pass::Written;
use crate::receipts::OnDisk;

impl Run<'_> {
    /// Begins the output that takes the place of the main file.
    pub(super) fn in_place(&self, inputs: &Inputs) -> Result<Option<Output>> {
        if self.call.into != Destination::Main {
            return Ok(None);
        }
        let name = || self.call.main.address.to_string();
        let read_as = inputs.main.read_as();
        let table = read_as.part.as_ref().map(|part| &part.name[..]);
        let is_database = inputs.main.is_database();
        if is_database && self.call.receipt.is_some() {
            return Err(Error::ReceiptOfDatabase { name: name() });
        }
        let others = self.call.references.iter().find(|(_, plan)| drops_rows(plan));
        if let Some((_, plan)) = others.filter(|_| !inputs.main.is_text()) {
            return Err(Error::InPlaceOtherRows { name: name(), reference: plan.name.clone() });
        }
        if is_database {
            return Ok(Some(Output::in_table(&self.call.main.address, table)?));
        }
        let main = inputs.main.file().ok_or(Error::InPlaceOfStandard)?;
        if inputs.main.sheet_place().is_some() {
            refuse_open(main.path())?;
        } else if inputs.main.read_as().format == Format::Workbook.info().name {
            return Err(FormatError::NotInto { name: name(), why: Refusal::OtherFormat }.into());
        } else if !inputs.main.is_text() {
            // An adjusted table is none any more.
            let described = &self.call.main.described;
            let is_adjusted = !described.fill_down.is_empty() || described.skip_last > 0;
            return Err(if is_adjusted {
                Error::InPlaceAdjusted { name: name() }
            } else {
                Error::NotWritable { name: name() }
            });
        }
        let sums = self.call.receipt.is_some();
        Ok(Some(Output::in_place(main, self.call.backup.then(stamp), sums)?))
    }

    /// Begins to write into the worksheet of the main table; `None` where the output is something else.
    fn worksheet(
        &self,
        main: &OpenTable,
        enrichment: &Enrichment,
        types: &ColumnTypes,
    ) -> Result<Option<SheetEditor>> {
        let Some(place) = main.sheet_place().filter(|_| self.writes_into_main()) else {
            return Ok(None);
        };
        let plans = || self.call.references.iter().map(|(_, plan)| plan);
        let options = EditOptions {
            highlights: self.call.style.highlights,
            appends: plans().any(|plan| plan.append_unused),
            threads: self.call.threads,
        };
        let name = self.call.main.address.path().map(|path| path.display().to_string());
        let mut editor = SheetEditor::new(name.unwrap_or_default(), place, options);
        editor.set_columns(types.number_formats.clone(), types.widths.clone());
        let updates = enrichment.row_outputs().zip(plans());
        let replaced = updates.filter(|(_, plan)| plan.replace_formulas);
        let replaced = replaced.flat_map(|(output, _)| output.updates.iter().map(|one| one.column));
        editor.set_replaced_formulas(replaced.collect());
        if let Some(findings) = &self.call.style.findings_sheet {
            editor.set_findings(findings)?;
        }
        Ok(Some(editor))
    }

    /// Refuses to replace a workbook as a whole that holds what this program did not write. What an earlier run wrote is
    /// compared with its receipt instead.
    pub(super) fn refuse_losses(&self, address: &Address) -> Result<()> {
        let path = address.path().filter(|path| path.is_file());
        let is_own = |path: &Path| self.own.has(path) || !matches!(self.on_disk, OnDisk::Other);
        let Some(path) = path.filter(|path| address.is_workbook() && !is_own(path)) else {
            return Ok(());
        };
        if !self.call.overwrite || address.part().is_some() {
            return Ok(());
        }
        refuse_open(path)?;
        let name = path.display().to_string();
        let file = InputFile::open(path);
        let file = file.map_err(|cause| FormatError::Read { name: name.clone(), cause })?;
        let what = would_lose(&file);
        if what.is_empty() {
            return Ok(());
        }
        Err(FormatError::NotInto { name, why: Refusal::WouldLose { what } }.into())
    }

    /// Whether the run writes into the main table itself.
    pub(super) fn writes_into_main(&self) -> bool {
        self.call.into == Destination::Main
    }

    /// The table that was written, as it is read again; `None` where its cells are not known any more.
    pub(super) fn written_table(&self, main: &OpenTable) -> Option<(Address, Described)> {
        let output = self.call.output()?;
        let path = output.path()?.to_owned();
        if let Some(place) = main.sheet_place().filter(|_| self.writes_into_main()) {
            let part = main.read_as().part.as_ref().map(|part| part.name.clone())?;
            // Cells that are named by their place do not grow with the table.
            let named = part != place.worksheet() && part.contains(['!', ':']);
            let mut form = self.call.main.described.clone();
            form.without.clear();
            return Some((Address::Part(path, part), form)).filter(|_| !named);
        }
        if clashes::is_worksheet(output) || output.is_workbook() && output.part().is_some() {
            return Some((output.clone(), Described::default()));
        }
        Some((Address::File(path), self.output_form(main).0))
    }

    /// Whether all else of the output's file stays. A workbook that is as an earlier run wrote it is written anew.
    pub(super) fn keeps_rest(&self) -> bool {
        let worksheet = self.call.output().filter(|output| clashes::is_worksheet(output));
        let is_own = |(path, worksheet): (&Path, &str)| {
            let file = InputFile::open(path);
            !matches!(self.on_disk, OnDisk::Changed)
                && file.is_ok_and(|file| is_own(&file, worksheet))
        };
        let is_added = |output: &Address| !output.path().zip(output.part()).is_some_and(is_own);
        self.writes_into_main() || worksheet.is_some_and(is_added)
    }

    /// What is written, and where, in the form of the output.
    pub(super) fn written<'o>(
        &'o self,
        main: &OpenTable,
        enrichment: &Enrichment,
        types: ColumnTypes,
        output: Option<&'o mut Output>,
    ) -> Result<Option<Written<'o>>> {
        let (call, Some(output)) = (&self.call, output) else { return Ok(None) };
        if let Some(editor) = self.worksheet(main, enrichment, &types)? {
            return Ok(Some(Written::Worksheet(Box::new(editor))));
        }
        if self.writes_into_main() && main.is_database() {
            if output.server_table().is_some() {
                let table = output.server_table();
                return Ok(table.map(|table| Written::ServerTable(table, types.declared)));
            }
            return Ok(output.database_table().map(Written::DatabaseTable));
        }
        let address = call.output().unwrap_or(&Address::Standard);
        if matches!(address, Address::Server(_)) {
            return Ok(output.server().map(|writer| Written::Server(writer, types.declared)));
        }
        if address.is_database() {
            return Ok(output.database().map(Written::Database));
        }
        let codec = || address.path().and_then(Codec::of);
        Ok(Some(match address.format() {
            Format::Workbook => {
                let options = WorkbookOptions {
                    worksheet: address.part(),
                    findings: call.style.findings_sheet.as_deref(),
                    is_plain: call.style.plain,
                    threads: call.threads,
                };
                Written::Workbook(output, options, types.number_formats)
            }
            Format::Json => Written::Json(output, false, codec()),
            Format::JsonLines => Written::Json(output, true, codec()),
            Format::Parquet | Format::Arrow => {
                let kind = address.columnar().unwrap_or(Columnar::Parquet);
                Written::Columnar(output, kind, types.stored)
            }
            Format::Text | Format::Database => Written::Text(output, self.output_form(main).1),
        }))
    }
}

/// Whether rows of the main table may be left out or occur several times.
pub(super) fn drops_rows(plan: &ReferencePlan) -> bool {
    plan.when_duplicate == WhenDuplicate::Every
        || matches!(plan.when_unmatched, WhenUnmatched::Drop | WhenUnmatched::Only)
}
