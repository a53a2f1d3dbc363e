//! Many columns in short: what may be wrong first, then like columns together.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use gather_keys_core::survey::{ColumnProfile, Look, Trouble, TroubleKind};

use crate::places::place;
use crate::terminal::{STRONG, TROUBLE};
use crate::wording::{self, counted, number};

/// In how many columns each kind of trouble is shown with an example.
const SHOWN: usize = 2;

/// How many further columns are named.
const NAMED: usize = 12;

/// So many columns whose headers differ in their numbers are a series.
const SERIES: usize = 3;

/// How many different values are few.
const FEW: u64 = 12;

/// Tells the columns of a table with this number of rows.
pub(super) fn tell(text: &mut String, columns: &[ColumnProfile], rows: u64) {
    let _ = writeln!(text, "  A column in full: --columns {}\n", example(columns));
    tell_troubles(text, columns);
    let (series, others) = series(columns);
    for columns in series {
        let name = |column: &ColumnProfile| format!("{STRONG}{}{STRONG:#}", column.header);
        let (first, last) = (name(columns[0]), name(columns[columns.len() - 1]));
        let range = range(&columns).map(|(least, greatest)| format!(", {least} to {greatest}"));
        let facts = facts(&columns, rows) + &range.unwrap_or_default();
        line(text, &format!("{first} to {last}: {facts}"), 2);
    }
    let mut alike: BTreeMap<(Vec<Look>, Variety), Vec<&ColumnProfile>> = BTreeMap::new();
    for column in others {
        alike.entry((looks(column), Variety::of(column, rows))).or_default().push(column);
    }
    for columns in alike.values() {
        let _ = writeln!(text, "  {}", wording::wrapped(&facts(columns, rows), 2, "    "));
        line(text, &format!("{STRONG}{}{STRONG:#}", names(columns, columns.len())), 4);
    }
}

/// A column to pick, as it is written in a call.
fn example(columns: &[ColumnProfile]) -> String {
    let header = columns.first().map_or("", |column| &column.header);
    format!("'{}'", gather_keys_core::plan::quoted_header(header))
}

fn line(text: &mut String, words: &str, indent: usize) {
    let further = " ".repeat(indent + 2);
    let _ = writeln!(text, "{:indent$}{}", "", wording::wrapped(words, indent, &further));
}

/// The headers of the first columns, and how many more there are.
fn names(columns: &[&ColumnProfile], most: usize) -> String {
    let named: Vec<&str> = columns.iter().take(most).map(|column| &column.header[..]).collect();
    let more = columns.len() - named.len();
    let more = if more > 0 { format!(" and {} more", number(more as u64)) } else { String::new() };
    format!("{}{more}", named.join(", "))
}

fn tell_troubles(text: &mut String, columns: &[ColumnProfile]) {
    let mut is_any = false;
    for kind in TroubleKind::ALL {
        let of = |column: &ColumnProfile| {
            column.troubles.iter().find(|trouble| trouble.kind == kind).cloned()
        };
        let mut found: Vec<(&ColumnProfile, Trouble)> =
            columns.iter().filter_map(|column| Some((column, of(column)?))).collect();
        if found.is_empty() {
            continue;
        }
        is_any = true;
        found.sort_by_key(|(_, trouble)| std::cmp::Reverse(trouble.count));
        let step = kind.step().map_or(String::new(), |step| format!("; in a key: `{step}`"));
        let all = counted(found.len() as u64, "column");
        let _ = writeln!(text, "  {TROUBLE}{} in {all}{step}{TROUBLE:#}", kind.label());
        for (column, trouble) in found.iter().take(SHOWN) {
            let unit = if kind == TroubleKind::Spellings { "value" } else { "cell" };
            let least = if trouble.is_exact { "" } else { "at least " };
            let count = counted(trouble.count, unit);
            let (place, value) =
                (place(trouble.row, trouble.line), wording::cell(&trouble.value, 24));
            let example = format!("{}: {least}{count}, first {place}: `{value}`", column.header);
            line(text, &example, 4);
        }
        let others: Vec<&ColumnProfile> =
            found.iter().skip(SHOWN).map(|(column, _)| *column).collect();
        if !others.is_empty() {
            line(text, &format!("also {}", names(&others, NAMED)), 4);
        }
    }
    if is_any {
        text.push('\n');
    }
}

/// A header without its numbers, and what the cells look like.
type Stem = (String, Vec<Look>);

/// The columns that are a series, such as `Frames 1` to `Frames 40`, and the others.
fn series(columns: &[ColumnProfile]) -> (Vec<Vec<&ColumnProfile>>, Vec<&ColumnProfile>) {
    let mut by_stem: Vec<(Stem, Vec<&ColumnProfile>)> = Vec::new();
    for column in columns {
        let key = (stem(&column.header), looks(column));
        match by_stem.iter_mut().find(|(known, _)| *known == key) {
            Some((_, columns)) => columns.push(column),
            None => by_stem.push((key, vec![column])),
        }
    }
    let is_series = |((stem, _), columns): &(Stem, Vec<&ColumnProfile>)| {
        columns.len() >= SERIES && stem.contains(NUMBER)
    };
    let (series, others): (Vec<_>, Vec<_>) = by_stem.into_iter().partition(is_series);
    let columns = |(_, columns)| columns;
    (series.into_iter().map(columns).collect(), others.into_iter().flat_map(columns).collect())
}

/// The mark of a number in a stem.
const NUMBER: char = '\0';

/// A header without its numbers.
fn stem(header: &str) -> String {
    let mut stem = String::new();
    for character in header.chars() {
        match character.is_ascii_digit() {
            true if stem.ends_with(NUMBER) => {}
            true => stem.push(NUMBER),
            false => stem.push(character),
        }
    }
    stem
}

/// What the cells look like, each once.
fn looks(column: &ColumnProfile) -> Vec<Look> {
    let mut looks: Vec<Look> = column.looks.iter().map(|(look, _)| *look).collect();
    looks.sort_unstable();
    looks
}

/// How varied a column is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Variety {
    AllDifferent,
    Many,
    Few,
    One,
    Blank,
}

impl Variety {
    fn of(column: &ColumnProfile, rows: u64) -> Self {
        let filled = rows - column.blanks;
        match column.distinct.value {
            0 => Self::Blank,
            all if all == filled && column.distinct.is_exact && filled > 1 => Self::AllDifferent,
            1 => Self::One,
            few if few <= FEW => Self::Few,
            _ => Self::Many,
        }
    }
}

/// What columns have in common.
fn facts(columns: &[&ColumnProfile], rows: u64) -> String {
    let mut facts = vec![counted(columns.len() as u64, "column")];
    let looks: Vec<&str> = looks(columns[0]).iter().map(|look| look.label()).collect();
    if !looks.is_empty() {
        facts.push(looks.join(" and "));
    }
    let (least, most) = extremes(columns.iter().map(|column| column.distinct.value));
    let is_exact = columns.iter().all(|column| column.distinct.is_exact);
    let about = if is_exact { "" } else { "about " };
    facts.push(match Variety::of(columns[0], rows) {
        _ if rows == 0 => "no rows".to_owned(),
        Variety::AllDifferent if columns.iter().all(|one| is_all_different(one, rows)) => {
            "all different".to_owned()
        }
        _ if most == 0 => "all blank".to_owned(),
        _ if most == 1 && columns.len() == 1 => "all the same".to_owned(),
        _ if most == 1 && least == 1 => "all the same in each".to_owned(),
        _ if least == most => format!("{about}{} different", number(most)),
        _ => format!("{about}{} to {} different", number(least), number(most)),
    });
    let (_, most) = extremes(columns.iter().map(|column| column.blanks));
    if most > 0 && most < rows {
        let up_to = if columns.len() > 1 { "up to " } else { "" };
        facts.push(format!("{up_to}{} blank", number(most)));
    }
    facts.join(", ")
}

fn is_all_different(column: &ColumnProfile, rows: u64) -> bool {
    Variety::of(column, rows) == Variety::AllDifferent
}

fn extremes(counts: impl Iterator<Item = u64> + Clone) -> (u64, u64) {
    (counts.clone().min().unwrap_or(0), counts.max().unwrap_or(0))
}

/// The least and the greatest number of columns that hold plain numbers.
fn range<'c>(columns: &[&'c ColumnProfile]) -> Option<(&'c str, &'c str)> {
    let number = |text: &'c str| Some((text.parse::<f64>().ok()?, text));
    let of = |column: &&'c ColumnProfile| {
        let (least, greatest) = column.range.as_ref()?;
        Some((number(least)?, number(greatest)?))
    };
    let all: Vec<_> = columns.iter().map(of).collect::<Option<_>>()?;
    let least = all.iter().map(|(least, _)| *least).min_by(|a, b| a.0.total_cmp(&b.0))?;
    let greatest = all.iter().map(|(_, greatest)| *greatest).max_by(|a, b| a.0.total_cmp(&b.0))?;
    Some((least.1, greatest.1))
}
