//! What `enrich` should come to, by looking at every reference row for every main row.

// Small whole numbers are compared, and each case of a rule is one line of its table.
#![allow(clippy::float_cmp, clippy::match_same_arms)]

mod reference_rows;

use std::collections::HashMap;

use super::case::{Case, MAIN, REFERENCE, Row, Steps, Within};
use reference_rows::{append, shared_keys};

/// The rows of the output, and the counts by the name of the finding.
#[derive(Debug)]
pub(super) struct Truth {
    pub(super) rows: Vec<Row>,
    pub(super) counts: HashMap<&'static str, u64>,
}

/// A value of a key part.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Value {
    Text(String),
    Blank,
    Malformed,
}

fn is_blank(cell: &str) -> bool {
    cell.trim().is_empty()
}

/// The outcome of a main row before a rule is applied.
enum Found {
    Malformed,
    BlankKey,
    Unmatched,
    NoHeader,
    /// The cells that hold the key: a reference row, and the column it is in.
    Held(Vec<(usize, usize)>),
}

/// The reference rows that an output row takes from: several where their values are joined.
type Givers = Vec<usize>;

struct Naive<'c>(&'c Case);

impl Naive<'_> {
    fn value(&self, cell: &str, first: bool, is_main: bool) -> Value {
        let cell = if self.0.blank_text && cell.trim() == "NA" { "" } else { cell };
        let tidied = cell.split_whitespace().collect::<Vec<_>>().join(" ");
        let cell = if self.0.clean { &*tidied } else { cell };
        let steps = if first { self.0.steps } else { Steps::None };
        let made = match steps {
            Steps::Tidy => cell.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase(),
            Steps::Number => match cell.trim() {
                "" => String::new(),
                digits => match digits.parse::<f64>() {
                    Ok(number) => number.to_string(),
                    Err(_) => return Value::Malformed,
                },
            },
            Steps::After if is_main => {
                cell.split_once('-').map_or("", |(_, after)| after).to_owned()
            }
            Steps::Or if is_blank(cell) => "a".to_owned(),
            Steps::None | Steps::After | Steps::Or => cell.to_owned(),
        };
        if is_blank(&made) { Value::Blank } else { Value::Text(made) }
    }

    /// The key of a main row, or of a reference row whose first part is in a column.
    fn key(&self, row: &Row, is_main: bool, column: usize) -> Vec<Value> {
        if self.0.position {
            return vec![Value::Text(row[0].clone())];
        }
        let mut key = vec![self.value(&row[column], true, is_main)];
        if self.0.two_parts {
            key.push(self.value(&row[2], false, is_main));
        }
        key
    }

    /// Whether a key can be asked for.
    fn is_whole(&self, key: &[Value]) -> bool {
        !key.contains(&Value::Malformed) && (self.0.match_blanks || !key.contains(&Value::Blank))
    }

    /// The key of a main row: its own, or the reference key of its alias.
    fn asked(&self, main: &Row) -> Vec<Value> {
        let key = self.key(main, true, 1);
        let Some(alias) = self.0.alias else { return key };
        if !self.entries(&key).is_empty() {
            return key;
        }
        let row =
            |first: &str, second: &str| -> Row { ["", first, second].map(str::to_owned).to_vec() };
        let from = self.key(&row(alias[0], alias[1]), true, 1);
        let to = self.key(&row(alias[2], alias[3]), false, 1);
        if from == key && self.is_whole(&key) && self.is_whole(&to) { to } else { key }
    }

    fn columns(&self) -> &[usize] {
        if self.0.any { &[1, 3] } else { &[1] }
    }

    /// The cells that hold a key, columns first.
    fn entries(&self, key: &[Value]) -> Vec<(usize, usize)> {
        let rows = &self.0.reference;
        if let (true, [Value::Text(number)]) = (self.0.position, key) {
            let at = number.parse::<usize>().unwrap() - 1;
            return (at < rows.len()).then_some((at, 1)).into_iter().collect();
        }
        let of = |&column: &usize| {
            let holds = move |row: &usize| {
                let own = self.key(&rows[*row], false, column);
                self.is_whole(&own) && own == key
            };
            (0..rows.len()).filter(holds).map(move |row| (row, column)).collect::<Vec<_>>()
        };
        self.columns().iter().flat_map(of).collect()
    }

    /// A number of a bound or a value; nothing where it is blank or none.
    fn number(cell: &str) -> Option<f64> {
        cell.trim().parse().ok()
    }

    /// The ends of a row's range, where it has one.
    fn ends(&self, row: usize) -> Option<(f64, f64)> {
        let row = &self.0.reference[row];
        let (lower, upper) = (Self::number(&row[4]), Self::number(&row[5]));
        match self.0.within {
            Within::From => lower.map(|lower| (lower, lower)),
            Within::UpTo => upper.map(|upper| (upper, upper)),
            Within::OpenEnd => lower.zip(upper).filter(|(lower, upper)| lower < upper),
            Within::No | Within::Both => lower.zip(upper).filter(|(lower, upper)| lower <= upper),
        }
    }

    fn in_range(&self, held: Vec<(usize, usize)>, at: f64) -> Vec<(usize, usize)> {
        let with_ends = held.into_iter().filter_map(|one| Some((one, self.ends(one.0)?)));
        let with_ends: Vec<_> = with_ends.collect();
        let best = match self.0.within {
            Within::From => {
                with_ends.iter().map(|(_, ends)| ends.0).filter(|l| *l <= at).reduce(f64::max)
            }
            Within::UpTo => {
                with_ends.iter().map(|(_, ends)| ends.1).filter(|u| *u >= at).reduce(f64::min)
            }
            _ => None,
        };
        let is_near =
            |best: &f64| self.0.reach.is_none_or(|reach| (best - at).abs() <= f64::from(reach));
        let best = best.filter(is_near);
        let counts = |(lower, upper): (f64, f64)| match self.0.within {
            Within::From => Some(lower) == best,
            Within::UpTo => Some(upper) == best,
            Within::OpenEnd => lower <= at && at < upper,
            Within::No | Within::Both => lower <= at && at <= upper,
        };
        with_ends.into_iter().filter(|(_, ends)| counts(*ends)).map(|(one, _)| one).collect()
    }

    fn takes(&self, what: &str) -> bool {
        self.0.take.contains(&what)
    }

    /// The column that a main row names.
    fn named(main: &Row) -> Option<usize> {
        match main[4].to_lowercase().as_str() {
            "may" => Some(6),
            "june" => Some(7),
            _ => None,
        }
    }

    fn find(&self, main: &Row) -> Found {
        let key = self.key(main, true, 1);
        let mut is_malformed = key.contains(&Value::Malformed);
        let mut is_blank_key = key.contains(&Value::Blank) && !self.0.match_blanks;
        let ranged = self.0.within != Within::No;
        if ranged {
            is_malformed |= !is_blank(&main[3]) && Self::number(&main[3]).is_none();
            is_blank_key |= is_blank(&main[3]);
        }
        if is_malformed {
            return Found::Malformed;
        }
        if is_blank_key {
            return Found::BlankKey;
        }
        let mut held = self.entries(&self.asked(main));
        if held.is_empty() {
            return Found::Unmatched;
        }
        if ranged {
            held = self.in_range(held, Self::number(&main[3]).unwrap());
            if held.is_empty() {
                return Found::Unmatched;
            }
        }
        if self.takes("{M} as X") {
            if is_blank(&main[4]) {
                return Found::BlankKey;
            }
            if Self::named(main).is_none() {
                return Found::NoHeader;
            }
        }
        Found::Held(held)
    }

    /// The columns whose cells are taken for a main row.
    fn taken(&self, main: Option<&Row>) -> Vec<usize> {
        let mut columns: Vec<usize> = Vec::new();
        for what in &self.0.take {
            match *what {
                "Rank" => columns.push(0),
                "May" => columns.push(6),
                "{M} as X" => match main {
                    Some(main) => columns.extend(Self::named(main)),
                    // A row that nobody asks for names none: every one may be meant.
                    None => columns.extend(
                        [1, 2, 3, 4, 5, 6, 7].into_iter().filter(|&c| self.may_be_named(c)),
                    ),
                },
                _ => {}
            }
        }
        if self.0.update {
            columns.push(7);
        }
        columns
    }

    fn may_be_named(&self, column: usize) -> bool {
        column >= 4 || (column == 3 && !self.0.any) || (column == 2 && !self.0.two_parts)
    }

    fn columns_of(held: &[(usize, usize)], row: usize) -> Vec<usize> {
        held.iter().filter(|(other, _)| *other == row).map(|(_, column)| *column).collect()
    }

    fn agree(&self, held: &[(usize, usize)], one: usize, other: usize, taken: &[usize]) -> bool {
        let rows = &self.0.reference;
        one == other
            || (taken.iter().all(|&column| rows[one][column] == rows[other][column])
                && (!self.takes("@column")
                    || Self::columns_of(held, one) == Self::columns_of(held, other)))
    }

    /// What a rule makes of the cells that hold a key: the output rows, and whether they disagree; nothing where it
    /// settles nothing.
    fn settle(&self, held: &[(usize, usize)], taken: &[usize]) -> (Option<Vec<Givers>>, bool) {
        let mut rows: Vec<usize> = Vec::new();
        for (row, _) in held {
            if !rows.contains(row) {
                rows.push(*row);
            }
        }
        let disagree = !rows.iter().all(|&row| self.agree(held, rows[0], row, taken));
        if self.0.rule == "every" && rows.len() > 1 {
            return (Some(rows.iter().map(|&row| vec![row]).collect()), disagree);
        }
        if !disagree {
            return (Some(vec![vec![rows[0]]]), false);
        }
        let one = match self.0.rule {
            "first" => Some(held[0].0),
            "last" => Some(held[held.len() - 1].0),
            "list" => return (Some(vec![rows]), true),
            "highest Rank" | "lowest Rank" => {
                let ranks: Option<Vec<f64>> =
                    rows.iter().map(|&row| Self::number(&self.0.reference[row][0])).collect();
                ranks.and_then(|ranks| {
                    let best = if self.0.rule == "highest Rank" { f64::max } else { f64::min };
                    let best = ranks.iter().copied().reduce(best)?;
                    let mut tied = rows
                        .iter()
                        .zip(&ranks)
                        .filter(|(_, rank)| **rank == best)
                        .map(|(row, _)| *row);
                    let first = tied.next()?;
                    tied.all(|row| self.agree(held, first, row, taken)).then_some(first)
                })
            }
            _ => None,
        };
        (one.map(|one| vec![vec![one]]), true)
    }

    /// The number of a row in its file, and the file.
    fn place(&self, row: usize) -> (String, &'static str) {
        let cut = self.0.cut;
        if row < cut {
            ((row + 1).to_string(), "ref-1.csv")
        } else {
            ((row - cut + 1).to_string(), "ref-2.csv")
        }
    }

    /// The cells that are added to a row, and what is written into Old.
    fn give(
        &self,
        main: &Row,
        (givers, held): (&Givers, &[(usize, usize)]),
        (status, key_rows): (&str, Option<usize>),
        fill: Option<&str>,
    ) -> Row {
        let rows = &self.0.reference;
        let cells = |column: usize| joined(givers.iter().map(|&row| rows[row][column].clone()));
        let mut out = main.clone();
        let mut changed = false;
        if self.0.update && !givers.is_empty() {
            let (now, new) = (main[5].clone(), cells(7));
            let writes = match (is_blank(&now), is_blank(&new)) {
                (true, true) => false,
                (true, false) => true,
                (false, _) if self.0.replace_blanks => false,
                (false, true) => self.0.bring_blanks,
                (false, false) => true,
            };
            if writes && now != new {
                out[5] = new;
                changed = true;
            }
        }
        let status = match status {
            "matched" | "chosen" if self.0.update => {
                if changed {
                    "updated"
                } else {
                    "unchanged"
                }
            }
            other => other,
        };
        for what in &self.0.take {
            let taken = |column: Option<usize>| match (fill, column) {
                (Some(fill), _) => fill.to_owned(),
                (None, Some(column)) => cells(column),
                (None, None) => String::new(),
            };
            out.push(match *what {
                "Rank" => taken(Some(0)),
                "May" => taken(Some(6)),
                "{M} as X" => taken(Self::named(main)),
                "@status" => status.to_owned(),
                "@row" => {
                    givers.iter().map(|&row| self.place(row).0).collect::<Vec<_>>().join("; ")
                }
                "@table" => joined(givers.iter().map(|&row| self.place(row).1.to_owned())),
                "@count" => key_rows.map_or(String::new(), |count| count.to_string()),
                "@key" => {
                    let parts = self.key(main, true, 1).into_iter().map(|value| match value {
                        Value::Text(text) => text,
                        Value::Blank | Value::Malformed => String::new(),
                    });
                    parts.collect::<Vec<_>>().join(", ")
                }
                _ => {
                    let columns = held.iter().filter(|(row, _)| givers.contains(row));
                    joined(columns.map(|(_, column)| REFERENCE[*column].to_owned()))
                }
            });
        }
        out
    }

    fn distinct_rows(held: &[(usize, usize)]) -> usize {
        let mut rows: Vec<usize> = held.iter().map(|(row, _)| *row).collect();
        rows.sort_unstable();
        rows.dedup();
        rows.len()
    }
}

/// Distinct texts that are not empty, joined.
fn joined(texts: impl Iterator<Item = String>) -> String {
    let mut seen: Vec<String> = Vec::new();
    for text in texts.filter(|text| !text.is_empty()) {
        if !seen.contains(&text) {
            seen.push(text);
        }
    }
    seen.join("; ")
}

pub(super) fn enrich(case: &Case) -> Truth {
    let naive = Naive(case);
    let mut counts: HashMap<&'static str, u64> =
        ["matched", "chosen", "unmatched", "no header", "ambiguous", "blank key", "malformed"]
            .into_iter()
            .map(|kind| (kind, 0))
            .collect();
    let mut used = vec![false; case.reference.len()];
    let mut asked: HashMap<Vec<Value>, u64> = HashMap::new();
    let mut rows: Vec<Row> = Vec::new();
    for main in &case.main {
        let mut count = |kind: &'static str| *counts.entry(kind).or_insert(0) += 1;
        let none = (&Vec::new(), &[][..]);
        let mut put = |row: Row| rows.push(row);
        let drops = case.unmatched == "drop";
        let only = case.unmatched == "only";
        let fill = case.unmatched.strip_prefix("fill ");
        match naive.find(main) {
            Found::Malformed => {
                count("malformed");
                if !only {
                    put(naive.give(main, none, ("malformed", None), None));
                }
            }
            Found::BlankKey => {
                count("blank key");
                if !only {
                    put(naive.give(main, none, ("blank key", None), None));
                }
            }
            miss @ (Found::Unmatched | Found::NoHeader) => {
                count("unmatched");
                let mut held = 0;
                if matches!(miss, Found::NoHeader) {
                    count("no header");
                    let mut all = naive.entries(&naive.asked(main));
                    if case.within != Within::No {
                        all = naive.in_range(all, Naive::number(&main[3]).unwrap());
                    }
                    held = Naive::distinct_rows(&all);
                }
                if !drops {
                    put(naive.give(main, none, ("unmatched", Some(held)), fill));
                }
            }
            Found::Held(held) => {
                for (row, _) in &held {
                    used[*row] = true;
                }
                *asked.entry(naive.asked(main)).or_insert(0) += 1;
                let taken = naive.taken(Some(main));
                let key_rows = Some(Naive::distinct_rows(&held));
                let (settled, disagree) = naive.settle(&held, &taken);
                let status = match (&settled, disagree) {
                    (None, _) => "ambiguous",
                    (Some(_), true) => "chosen",
                    (Some(_), false) => "matched",
                };
                count(if status == "ambiguous" { "ambiguous" } else { "matched" });
                if status == "chosen" {
                    count("chosen");
                }
                if !only {
                    for givers in settled.unwrap_or_else(|| vec![Vec::new()]) {
                        put(naive.give(main, (&givers, &held), (status, key_rows), None));
                    }
                }
            }
        }
    }
    counts.insert("unused", used.iter().filter(|used| !**used).count() as u64);
    if case.within == Within::No && !case.any && !case.position {
        shared_keys(&naive, &asked, &mut counts);
    }
    if case.append {
        append(&naive, &used, &mut rows);
    }
    correct(case, &mut rows);
    Truth { rows, counts }
}

/// Puts corrections in place.
fn correct(case: &Case, rows: &mut [Row]) {
    for [id, header, value] in &case.corrections {
        let own = MAIN.iter().position(|other| other == header);
        let added = || case.take.iter().position(|what| what == header).map(|at| MAIN.len() + at);
        let Some(column) = own.or_else(added) else { continue };
        let is_given = column >= MAIN.len() || (case.update && column == 5);
        for row in rows.iter_mut().filter(|row| row[0] == *id) {
            if row[column] == *value {
                continue;
            }
            row[column].clone_from(value);
            let status = case.take.iter().position(|what| *what == "@status");
            if let Some(status) = status.filter(|_| is_given) {
                "corrected".clone_into(&mut row[MAIN.len() + status]);
            }
        }
    }
}
