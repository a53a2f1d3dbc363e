//! The summary of a run, for the person at the terminal.
//!
//! The findings go in; a text of at most the terminal's width comes out. First what was written ([`written`]) and what
//! has changed since the run before ([`mod@since`]); then a line for each reference ([`lookup`]), and of those in trouble
//! the findings, why keys are unmatched ([`reasons`]) and what to do ([`advice`]); at the end the gates, and why an output that
//! was changed is left as it is ([`refusal`]).

mod advice;
mod cells;
mod gates;
mod lookup;
mod reasons;
mod refusal;
mod since;
mod worksheets;
mod written;

pub(crate) use gates::gates;
use lookup::Looked;
pub(crate) use reasons::{as_written, bounds, effect, held, unlike};
pub(crate) use refusal::Refusal;
pub(crate) use since::{moved, since};
pub(crate) use worksheets::of_tables;
pub(crate) use written::{
    as_text, formulas, leaves_all, long_numbers, not_written, table_written, written_into,
};

use std::fmt::Write;

use gather_keys_core::diagnosis::Diagnosis;
use gather_keys_core::enrich::{Enrichment, Note};
use gather_keys_core::findings::{Findings, GateResult};
use gather_keys_core::table::Headers;

use gather_keys_formats::{Part, PartChoice};

use crate::inputs::ReadTable;
use crate::wording::{self, counted};

/// How many rows of a trouble are shown.
const SHOWN: usize = gather_keys_core::findings::SAMPLES;

/// The material of a summary.
#[derive(Debug)]
pub(crate) struct Summary<'a> {
    pub(crate) main: &'a Headers,
    pub(crate) enrichment: &'a Enrichment,
    pub(crate) findings: &'a Findings,
    /// Why keys are unmatched, for each reference.
    pub(crate) diagnoses: &'a [Option<Diagnosis>],
    /// The results of the gates; what one is about is shown.
    pub(crate) gates: &'a [GateResult],
    /// Whether everything is to be said.
    pub(crate) verbose: bool,
    /// Whether it is a plan that is run.
    pub(crate) in_plan: bool,
    /// Whether every finding is being written to files.
    pub(crate) listed: bool,
    /// The file of corrections, if one was named.
    pub(crate) corrections: Option<&'a str>,
}

impl Summary<'_> {
    /// The text.
    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        let lookups = self.enrichment.lookups().zip(self.enrichment.row_outputs());
        let found = self.findings.lookups.iter().zip(self.diagnoses);
        let all = lookups.zip(found).map(|((lookup, taking), (found, diagnosis))| Looked {
            lookup,
            taking,
            found,
            diagnosis: diagnosis.as_ref(),
        });
        let all: Vec<Looked<'_>> = all.collect();
        let in_table = all.len() > 1;
        if in_table {
            self.table(&mut text, &all);
        }
        for looked in &all {
            self.lookup(&mut text, *looked, in_table);
        }
        if let Some(file) = self.corrections {
            self.corrected(&mut text, file);
        }
        if all.iter().any(|one| !one.troubles().is_empty()) && !self.listed {
            let spilled = self.enrichment.lookups().any(|lookup| lookup.reference().is_spilled());
            let how = if spilled { ", and leave out --memory" } else { "" };
            let more = if self.verbose { "" } else { "; -v shows all counts" };
            let advice = format!("To list every row in trouble, add --lists DIR{how}{more}.");
            text.push('\n');
            paragraph(&mut text, 0, &advice);
        }
        text
    }
}

pub(crate) fn paragraph(text: &mut String, indent: usize, words: &str) {
    let blank = " ".repeat(indent);
    let wrapped = wording::wrapped(words, indent, &blank.repeat(2));
    let _ = writeln!(text, "{blank}{wrapped}");
}

/// Notes about names that were found or changed, one line each.
pub(crate) fn notes(notes: &[Note]) -> String {
    let mut text = String::new();
    for note in notes {
        let words = match note {
            Note::LooseHeader { table, asked, found } => {
                format!("note: {table} has no header `{asked}`; `{found}` is used instead.")
            }
            Note::Renamed { wanted, given } => {
                format!(
                    "note: the column `{wanted}` exists already; the added one is called `{given}`."
                )
            }
        };
        let _ = writeln!(text, "{}", wording::wrapped(&words, 0, "      "));
    }
    if !notes.is_empty() {
        text.push('\n');
    }
    text
}

/// How the tables were read, a line each: everything with `verbose`, else only what was guessed.
pub(crate) fn read_as(tables: &[ReadTable], verbose: bool) -> String {
    let mut text = String::new();
    for ReadTable { table, columns, delimiter, byte_order_mark, read_as } in tables {
        let mut said = Vec::new();
        if verbose {
            said.push(counted(columns.len() as u64, "column"));
        }
        if verbose && read_as.encoding.is_some() {
            said.push(format!("delimiter {delimiter}"));
        }
        match &read_as.part {
            Some(Part { name, choice: PartChoice::First, .. }) => said.push(format!(
                "read from `{name}`, the first part of several ({table}#NAME names another)"
            )),
            Some(Part { name, choice: PartChoice::ByHeaders, .. }) => said.push(format!(
                "read from worksheet `{name}`, the only one with the headers that are asked for"
            )),
            Some(Part { name, .. }) if verbose => {
                said.push(format!("{} `{name}`", read_as.format));
            }
            _ => {}
        }
        if let Some((encoding, guessed)) = read_as.encoding {
            match guessed {
                true => said.push(format!("read as {encoding}, a guess (--encoding sets it)")),
                false if verbose => said.push(encoding.to_string()),
                false => {}
            }
        }
        if *byte_order_mark && verbose {
            said.push("byte-order mark".to_owned());
        }
        if let (Some(packing), true) = (read_as.packing, verbose) {
            said.push(format!("packed with {}", packing.name()));
        }
        if let title @ 1.. = read_as.title_rows as u64 {
            let rows = counted(title, "row");
            said.push(format!("headers after {rows} of a title (--header-row sets it)"));
        }
        if read_as.header_rows > 1 {
            let rows = counted(read_as.header_rows as u64, "row");
            said.push(format!("headers in {rows}, as merged cells show"));
        }
        if !said.is_empty() {
            let reported = wording::wrapped(&format!("{table}: {}", said.join(", ")), 0, "  ");
            let _ = writeln!(text, "{reported}");
        }
    }
    if !text.is_empty() {
        text.push('\n');
    }
    text
}
