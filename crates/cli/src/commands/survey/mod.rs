//! `survey`: what the columns of tables hold, and which of them are keys.

mod column;
mod overview;

use std::fmt::Write as _;

use gather_keys_core::enrich::selected_columns;
use gather_keys_core::plan::Selection;
use gather_keys_core::report::SurveyTold;
use gather_keys_core::survey::{CandidateKey, Count, Survey, survey as go_through};
use gather_keys_core::table::Source;
use unicode_width::UnicodeWidthStr;

use super::Outcome;
use crate::arguments::{self, threads};
use crate::call::Table;
use crate::error::Result;
use crate::inputs::{open, seed};
use crate::progress::Meter;
use crate::terminal::{STRONG, TROUBLE, show};
use crate::wording::{self, counted, joined, number};

/// How wide the column of headers may be.
const WIDEST: usize = 20;

/// More columns than this are shown together, unless some are picked.
const EACH: usize = 40;

/// Surveys tables.
pub(crate) fn survey(asked: &arguments::Survey) -> Result<Outcome> {
    let picked = asked.columns.as_deref();
    let picked = picked.map(|picked| Selection::parse("columns", picked)).transpose()?;
    let mut surveys = Vec::new();
    for address in &asked.tables {
        let table = Table::formed(address, &asked.form)?;
        let mut source = open(&table, &Meter::default(), &mut None)?;
        let name = source.headers().table().to_owned();
        let picked = picked.as_ref().map(|picked| selected_columns(picked, source.headers()));
        let picked = picked.transpose()?;
        let survey = go_through(&mut source, picked.as_deref(), seed(), threads(asked.threads))?;
        surveys.push((name, survey));
    }
    let text = || {
        let mut text = String::new();
        for (nth, (name, survey)) in surveys.iter().enumerate() {
            if nth > 0 {
                text.push('\n');
            }
            tell(&mut text, name, survey, picked.is_some());
        }
        text
    };
    show(&asked.printed.of(|| SurveyTold::of(&surveys), text))?;
    Ok(Outcome::Done)
}

/// A count for the eye, with `about` before one of a sketch.
fn about(count: Count) -> String {
    let about = if count.is_exact { "" } else { "about " };
    format!("{about}{}", number(count.value))
}

fn tell(text: &mut String, table: &str, survey: &Survey, is_picked: bool) {
    let columns = counted(survey.columns.len() as u64, "column");
    let rows = counted(survey.rows, "row");
    let _ = writeln!(text, "{STRONG}{table}{STRONG:#}: {rows}, {columns}\n");
    if is_picked || survey.columns.len() <= EACH {
        let widest = survey.columns.iter().map(|column| column.header.width()).max().unwrap_or(0);
        let widest = widest.clamp(6, WIDEST);
        for column in &survey.columns {
            column::tell(text, column, widest, survey.rows);
        }
    } else {
        overview::tell(text, &survey.columns, survey.rows);
    }
    if !survey.repeated_headers.is_empty() {
        let headers: Vec<String> =
            survey.repeated_headers.iter().map(|header| format!("`{header}`")).collect();
        let _ = writeln!(
            text,
            "  {TROUBLE}{} above several columns{TROUBLE:#}; the second is Header#2",
            joined(&headers, "and")
        );
    }
    if survey.repeated_rows.value > 0 {
        let rows = about(survey.repeated_rows);
        let verb = if survey.repeated_rows.value == 1 { "row is" } else { "rows are" };
        let _ = writeln!(
            text,
            "  {TROUBLE}{rows} {verb} the same as one before, cell for cell{TROUBLE:#}"
        );
    }
    let _ = writeln!(text, "\n  Keys");
    if survey.keys.is_empty() {
        let _ = writeln!(text, "    no column, and no set of up to three, distinguishes its rows");
    }
    for key in &survey.keys {
        tell_key(text, key, survey);
    }
}

fn tell_key(text: &mut String, key: &CandidateKey, survey: &Survey) {
    let names: Vec<String> =
        key.columns.iter().map(|&column| survey.columns[column].header.clone()).collect();
    let outcome = match key.failing {
        Count { value: 0, is_exact: true } => "distinguishes every row".to_owned(),
        Count { value: 0, is_exact: false } => "distinguishes about every row".to_owned(),
        Count { value: 1, .. } => "but for 1 row".to_owned(),
        failing => format!("but for {} rows", about(failing)),
    };
    let line = format!("{}: {outcome}", names.join(", "));
    let _ = writeln!(text, "    {}", wording::wrapped(&line, 4, "      "));
}
