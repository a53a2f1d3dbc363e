//! A column in full: what it holds, how its values are spread, and what may be wrong with it.

use std::fmt::Write as _;

use gather_keys_core::survey::{ColumnProfile, Count, Picture, Trouble};
use unicode_width::UnicodeWidthStr;

use super::about;
use crate::places::place;
use crate::terminal::{FAINT, STRONG, TROUBLE};
use crate::wording::{self, counted, number};

/// The bars of a picture, the lowest first.
const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// How many of the commonest values are reported.
const COMMON: usize = 4;

/// Tells a column in full.
pub(super) fn tell(text: &mut String, column: &ColumnProfile, widest: usize, rows: u64) {
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

/// A trouble, in words.
pub(super) fn reported(trouble: &Trouble) -> String {
    let step = trouble.kind.step().map_or(String::new(), |step| format!("; in a key: `{step}`"));
    format!(
        "{}: {}{}, first {}: `{}`{step}",
        trouble.kind.label(),
        if trouble.is_exact { "" } else { "at least " },
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
