//! `survey`: what the columns of tables hold, and which of them are keys.

use std::fmt::Write as _;

use gather_keys_core::report::SurveyTold;
use gather_keys_core::survey::{
    CandidateKey, ColumnProfile, Count, Picture, Survey, Trouble, survey as go_through,
};
use gather_keys_core::table::Source;
use unicode_width::UnicodeWidthStr;

use super::Outcome;
use crate::arguments::{self, threads};
use crate::call::Table;
use crate::error::Result;
use crate::inputs::{open, seed};
use crate::places::place;
use crate::progress::Meter;
use crate::terminal::{FAINT, STRONG, TROUBLE, show};
use crate::wording::{self, counted, joined, number};

/// The bars of a picture, the lowest first.
const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// How wide the column of headers may be.
const WIDEST: usize = 20;

/// How many of the commonest values are reported.
const COMMON: usize = 4;

/// Surveys tables.
pub(crate) fn survey(asked: &arguments::Survey) -> Result<Outcome> {
    let mut surveys = Vec::new();
    for address in &asked.tables {
        let table = Table::formed(address, &asked.form)?;
        let mut source = open(&table, &Meter::default(), &mut None)?;
        let name = source.headers().table().to_owned();
        let survey = go_through(&mut source, seed(), threads(asked.threads))?;
        surveys.push((name, survey));
    }
    let text = || {
        let mut text = String::new();
        for (nth, (name, survey)) in surveys.iter().enumerate() {
            if nth > 0 {
                text.push('\n');
            }
            tell(&mut text, name, survey);
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

fn tell(text: &mut String, table: &str, survey: &Survey) {
    let columns = counted(survey.columns.len() as u64, "column");
    let _ =
        writeln!(text, "{STRONG}{table}{STRONG:#}: {}, {columns}\n", counted(survey.rows, "row"));
    let widest = survey.columns.iter().map(|column| column.header.width()).max().unwrap_or(0);
    let widest = widest.clamp(6, WIDEST);
    for column in &survey.columns {
        tell_column(text, column, widest, survey.rows);
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

fn tell_column(text: &mut String, column: &ColumnProfile, widest: usize, rows: u64) {
    let mut facts = Vec::new();
    match &column.looks[..] {
        [] => {}
        [(look, _)] => facts.push(look.label().to_owned()),
        looks => facts.extend(looks.iter().map(|(look, count)| {
            let share = number(*count);
            format!("{share} {}", look.label())
        })),
    }
    if rows == 0 {
        facts.push("no rows".to_owned());
    } else if column.blanks == rows {
        facts.push("all blank".to_owned());
    } else {
        if column.blanks > 0 {
            facts.push(format!("{} blank", number(column.blanks)));
        }
        let filled = rows - column.blanks;
        facts.push(match column.distinct {
            Count { value, is_exact: true } if value == filled && filled > 1 => {
                "all different".to_owned()
            }
            Count { value: 1, is_exact: true } => "all the same".to_owned(),
            distinct => format!("{} different", about(distinct)),
        });
    }
    let header = wording::cell(&column.header, widest);
    let pad = widest.saturating_sub(header.width());
    let indent = " ".repeat(widest + 4);
    let facts = facts.join(", ");
    let bars = bars(&column.picture);
    let room = wording::width().saturating_sub(widest + 4 + bars.chars().count() + 1);
    let facts = wording::cell(&facts, room.max(12));
    let gap = if bars.is_empty() { 0 } else { room.saturating_sub(facts.width()) + 1 };
    let _ = writeln!(
        text,
        "  {STRONG}{header}{STRONG:#}{:pad$}  {facts}{:gap$}{FAINT}{bars}{FAINT:#}",
        "", ""
    );
    let room = wording::width().saturating_sub(indent.len());
    if let Some(values) = values(column, room) {
        let _ = writeln!(text, "{indent}{}", wording::cell(&values, room));
    }
    for trouble in &column.troubles {
        for line in
            wording::wrapped(&reported(trouble), indent.len(), &format!("{indent}  ")).lines()
        {
            let line = line.trim_start();
            let _ = writeln!(text, "{indent}{TROUBLE}{line}{TROUBLE:#}");
        }
    }
}

/// The values of a column in short: their range, or the commonest.
fn values(column: &ColumnProfile, room: usize) -> Option<String> {
    if let Some((least, greatest)) = &column.range {
        return Some(if least == greatest {
            least.clone()
        } else {
            format!("{least} to {greatest}")
        });
    }
    let (shortest, longest) = column.shortest.as_ref().zip(column.longest.as_ref())?;
    let (short, long) = (shortest.chars().count(), longest.chars().count());
    let length = if short == long {
        counted(long as u64, "character")
    } else {
        format!("{short} to {long} characters")
    };
    let filled: u64 = column.looks.iter().map(|(_, count)| count).sum();
    let least = if column.is_counted { "" } else { "at least " };
    if column.distinct.value == filled || column.commonest.is_empty() {
        return Some(format!("such as {}; {length}", wording::cell(shortest, 24)));
    }
    let mut all = String::new();
    for (nth, (value, count)) in column.commonest.iter().take(COMMON).enumerate() {
        let joint = if nth > 0 { ", " } else { "" };
        let one = format!("{joint}{} {least}{}", wording::cell(value, 24), number(*count));
        // There must be room for what follows.
        if nth > 0 && all.width() + one.width() + length.width() + 5 > room {
            all.push_str(", …");
            break;
        }
        all.push_str(&one);
    }
    Some(format!("{all}; {length}"))
}

fn reported(trouble: &Trouble) -> String {
    let step = trouble.kind.step().map_or(String::new(), |step| format!("; in a key: `{step}`"));
    format!(
        "{}: {}, first {}: `{}`{step}",
        trouble.kind.label(),
        number(trouble.count),
        place(trouble.row, trouble.line),
        wording::cell(&trouble.value, 24)
    )
}

/// The picture of a column: a character for each bar.
fn bars(picture: &Picture) -> String {
    let (Picture::Spread(heights) | Picture::Commonest(heights)) = picture;
    let most = heights.iter().copied().max().unwrap_or(0);
    if most == 0 || matches!(picture, Picture::Commonest(_)) && most == 1 {
        return String::new();
    }
    let bar = |&height: &u64| match height {
        0 => ' ',
        height => {
            let steps = BARS.len() as u64 - 1;
            BARS[((height * steps + most / 2) / most) as usize]
        }
    };
    heights.iter().map(bar).collect::<String>().trim_end().to_owned()
}
