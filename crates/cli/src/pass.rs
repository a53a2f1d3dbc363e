//! The pass over the main table, into whatever form the output has.

use gather_keys_core::enrich::Enrichment;
use gather_keys_core::findings::{Findings, Recorder};
use gather_keys_core::table::Discard;
use gather_keys_formats::Codec;
use gather_keys_formats::columnar::{Columnar, ColumnarWriter, StoredType};
use gather_keys_formats::postgresql::{ServerUpdater, ServerWriter};
use gather_keys_formats::sqlite::{DatabaseWriter, TableUpdater};
use gather_keys_formats::workbook::{AddedWorksheet, SheetEditor, WorkbookOptions, WorkbookWriter};

use crate::error::Result;
use crate::inputs::OpenTable;
use crate::output::{self, Form, Output};
use crate::receipts::Notes;

/// The output of a pass, and what is written there.
pub(crate) enum Written<'o> {
    Text(&'o mut Output, Form),
    /// JSON, on lines or as a document, packed or not.
    Json(&'o mut Output, bool, Option<Codec>),
    /// A columnar file, with the types that its columns had.
    Columnar(&'o mut Output, Columnar, Vec<Option<StoredType>>),
    /// A table on a server, with the types that its columns had on one.
    Server(&'o mut ServerWriter, Vec<Option<String>>),
    /// A table of a database.
    Database(&'o mut DatabaseWriter),
    /// The main table of a database that is written into.
    DatabaseTable(&'o mut TableUpdater),
    /// The main table on a server that is written into, with the types that its columns had on one.
    ServerTable(&'o mut ServerUpdater, Vec<Option<String>>),
    /// A workbook, and the number formats that its columns had.
    Workbook(&'o mut Output, WorkbookOptions<'o>, Vec<Option<String>>),
    /// The worksheet of the main table.
    Worksheet(Box<SheetEditor>),
}

/// A workbook whose rows are written, and nothing else.
pub(crate) enum Unfinished {
    /// A new one.
    New(Box<WorkbookWriter>),
    /// One that is there, which gets a worksheet.
    Added(Box<AddedWorksheet>),
    /// The main table's own.
    Main(Box<SheetEditor>),
}

/// The result of a pass, and the columns that are written as text because no type holds all their cells.
pub(crate) struct PassResult {
    pub(crate) findings: Findings,
    pub(crate) mixed: Vec<String>,
    pub(crate) workbook: Option<Unfinished>,
}

/// The pass over the main table, into the output if there is one.
pub(crate) fn pass(
    main: &mut OpenTable,
    enrichment: &mut Enrichment,
    output: Option<Written<'_>>,
    notes: &mut Notes<'_>,
    threads: usize,
) -> Result<PassResult> {
    let recorder = notes
        .are_wanted()
        .then_some(notes as &mut (dyn Recorder<Error = gather_keys_formats::Error> + Send));
    let (mut mixed, mut workbook) = (Vec::new(), None);
    let findings = match output {
        None => enrichment.run(main, &mut Discard::default(), recorder, threads)?,
        Some(Written::Database(writer)) => enrichment.run(main, writer, recorder, threads)?,
        Some(Written::DatabaseTable(updater)) => {
            updater.set_updated(updated_columns(enrichment))?;
            enrichment.run(main, updater, recorder, threads)?
        }
        Some(Written::ServerTable(updater, declared)) => {
            updater.declare(declared);
            updater.set_updated(updated_columns(enrichment))?;
            let findings = enrichment.run(main, updater, recorder, threads)?;
            mixed = updater.send()?;
            findings
        }
        Some(Written::Server(writer, declared)) => {
            writer.declare(declared);
            let findings = enrichment.run(main, writer, recorder, threads)?;
            mixed = writer.send()?;
            findings
        }
        Some(Written::Columnar(output, kind, stored)) => {
            let mut writer = ColumnarWriter::new(output.name(), kind, stored);
            let findings = enrichment.run(main, &mut writer, recorder, threads)?;
            mixed = writer.finish(output)?;
            findings
        }
        Some(Written::Workbook(output, options, formats)) => {
            let added = enrichment.row_outputs().map(|output| output.cells.len());
            if let Some(mut writer) = output.worksheet(options)? {
                writer.set_number_formats(formats);
                writer.set_added(added);
                let findings = enrichment.run(main, &mut writer, recorder, threads)?;
                workbook = Some(Unfinished::Added(Box::new(writer)));
                findings
            } else {
                let mut writer = output.workbook(options)?;
                writer.set_number_formats(formats);
                writer.set_added(added);
                let findings = enrichment.run(main, &mut writer, recorder, threads)?;
                workbook = Some(Unfinished::New(Box::new(writer)));
                findings
            }
        }
        Some(Written::Worksheet(mut editor)) => {
            editor.set_added(enrichment.row_outputs().map(|output| output.cells.len()));
            let findings = enrichment.run(main, &mut *editor, recorder, threads)?;
            workbook = Some(Unfinished::Main(editor));
            findings
        }
        Some(Written::Json(output, lines, packing)) => {
            let name = output.name();
            let mut writer = output.json(lines, packing)?;
            let findings = enrichment.run(main, &mut writer, recorder, threads)?;
            let finished = writer.finish()?.finish();
            finished.map_err(|cause| gather_keys_formats::Error::Write { name, cause })?;
            findings
        }
        Some(Written::Text(output, form)) => {
            let mut writer = output.writer(&form)?;
            let findings = enrichment.run(main, &mut writer, recorder, threads)?;
            output::finish(writer)?;
            findings
        }
    };
    Ok(PassResult { findings, mixed, workbook })
}

/// The columns of the main table that references and corrections write.
fn updated_columns(enrichment: &Enrichment) -> Vec<usize> {
    enrichment.overlay().columns().to_vec()
}
