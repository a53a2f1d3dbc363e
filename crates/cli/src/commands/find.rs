//! `find`: the rows of a table that hold a value, each as a card.

use std::fmt::Write as _;

use gather_keys_core::enrich::shown_columns;
use gather_keys_core::lookup::{Hit, Hits, Wanted};
use gather_keys_core::plan::{Held, OnPart, Take};
use gather_keys_core::report::Records;
use gather_keys_core::table::{Headers, Source};
use gather_keys_core::template::BoundTemplate;
use unicode_width::UnicodeWidthStr;

use super::Outcome;
use crate::arguments::Find;
use crate::call::Table;
use crate::error::{Error, Result};
use crate::inputs::open;
use crate::places::place;
use crate::progress::Meter;
use crate::terminal::{FAINT, STRONG, show};
use crate::wording::{self, counted, joined, wrapped};

/// How many cards are shown.
const CARDS: usize = 5;

/// Finds rows by value.
pub(crate) fn find(find: &Find) -> Result<Outcome> {
    let table = Table::formed(&find.table, &find.form)?;
    let on = find.on.as_deref().map(OnPart::parse).transpose()?;
    let take = find.take.as_deref().map(Take::parse).transpose()?;
    let mut source = open(&table, &Meter::default(), &mut None)?;
    let headers = source.headers().clone();
    let wanted = match on {
        None => Wanted::anywhere(&find.values),
        Some(parts) => {
            let bind = |part: &OnPart| match &part.reference {
                Held::Made(template) => Ok(template.bind(&headers)?),
                Held::Any(_) => Err(Error::AnyInFind),
            };
            let bound = parts.iter().map(bind).collect::<Result<Vec<BoundTemplate>>>()?;
            if bound.len() != find.values.len() {
                let parts = parts.iter().map(|part| format!("`{}`", part.reference)).collect();
                return Err(Error::FindValues { given: find.values.len(), parts });
            }
            Wanted::key(bound, &find.values)
        }
    };
    let columns = match take {
        None => (0..headers.len()).collect(),
        Some(take) => shown_columns(&take, &headers)?,
    };
    let most = if find.printed.is_json() { usize::MAX } else { CARDS };
    let hits = wanted.search(&mut source, most)?;
    let text = find.printed.of(
        || Records::of(&hits, &headers, &columns),
        || cards(&hits, &headers, &columns, &find.values),
    );
    show(&text)?;
    Ok(if hits.count == 0 { Outcome::Stopped } else { Outcome::Done })
}

fn cards(hits: &Hits, headers: &Headers, columns: &[usize], values: &[String]) -> String {
    let mut text = String::new();
    let table = headers.table();
    let values: Vec<String> = values.iter().map(|value| format!("{value:?}")).collect();
    let values = joined(&values, "and");
    if hits.count == 0 {
        let near = match hits.nearest.len() {
            0 => "and none comes near; look for a part of it with a step, such as \
                  --on 'Tag | digits'."
                .to_owned(),
            1 => "the nearest is this.".to_owned(),
            count => format!("the nearest are these {count}."),
        };
        let joint = if hits.nearest.is_empty() { "," } else { ";" };
        let words = format!("No row of {table} holds {values}{joint} {near}");
        let _ = writeln!(text, "{}", wrapped(&words, 0, "  "));
    } else if hits.count > 1 {
        let words = format!("{} of {table} hold {values}.", counted(hits.count, "row"));
        let _ = writeln!(text, "{}", wrapped(&words, 0, "  "));
    }
    for hit in hits.rows.iter().chain(&hits.nearest) {
        if !text.is_empty() {
            text.push('\n');
        }
        card(&mut text, hit, headers, columns);
    }
    let rest = hits.count.saturating_sub(hits.rows.len() as u64);
    if rest > 0 {
        let words = format!(
            "and {} more; name another value of the row you mean, or see all with --as json",
            wording::number(rest)
        );
        let _ = writeln!(text, "\n{}", wrapped(&words, 0, "  "));
    }
    text
}

fn card(text: &mut String, hit: &Hit, headers: &Headers, columns: &[usize]) {
    let place = place(hit.row, hit.line);
    let found: Vec<String> = hit.columns.iter().map(|&column| headers.address(column)).collect();
    let found = match (found.is_empty(), hit.likeness) {
        (true, _) => String::new(),
        (false, None) => format!(", found in {}", joined(&found, "and")),
        (false, Some(_)) => format!(", like it in {}", joined(&found, "and")),
    };
    let _ = writeln!(text, "{STRONG}{}, {place}{STRONG:#}{found}", headers.table());
    let names: Vec<String> = columns
        .iter()
        .map(|&column| wording::cell(&headers.address(column), wording::width() / 2))
        .collect();
    let width = names.iter().map(|name| name.width()).max().unwrap_or(0);
    for (name, &column) in names.iter().zip(columns) {
        let fill = " ".repeat(width - name.width());
        let cell = &hit.cells[column];
        if cell.is_empty() {
            let _ = writeln!(text, "  {name}{fill}  {FAINT}(blank){FAINT:#}");
            continue;
        }
        let shown: String = cell.chars().map(wording::visible).collect();
        let indent = " ".repeat(width + 4);
        let _ = writeln!(text, "  {name}{fill}  {}", wrapped(&shown, width + 4, &indent));
    }
}
