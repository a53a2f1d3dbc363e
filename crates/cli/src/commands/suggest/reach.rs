//! The tables that a main table leads to, by itself or by way of others.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};

use gather_keys_core::findings::{Counts, Kind};
use gather_keys_core::lookup::Seed;
use gather_keys_core::parallel::in_parallel;
use gather_keys_core::report::NotRead;
use gather_keys_core::survey::{Profile, Sketch, SuggestedKey, Suggestions, Trust, suggest};
use gather_keys_core::table::{Headers, Source};
use gather_keys_formats::Address;

use super::proposed_plan::{Link, Step, plan};
use super::tables::{Listed, not_read};
use super::trial::{Tried, counts, tried};
use crate::call::Table;
use crate::error::Result;
use crate::inputs::{OpenTable, open};
use crate::progress::Meter;

/// How many tables may be between the main table and another.
const BETWEEN: usize = 2;

/// By how many other tables each is sought, the likeliest first.
const WAYS: usize = 3;

/// A table is left out when more rows than one for this many matched ones have several answers.
const DISAGREEING: u64 = 10;

/// What is proposed to be taken of a table that has nothing else.
const ROW: &str = "@row as Row";

/// A table that is looked at.
#[derive(Debug)]
pub(super) struct Looked {
    /// Its address as it is written.
    pub(super) text: OsString,
    /// Its name.
    pub(super) name: String,
    pub(super) headers: Headers,
    /// Where there are other tables, by which it may be reached or may lead to them.
    sketch: Option<Sketch>,
    /// How it is reached, if it is.
    pub(super) reached: Option<Reach>,
}

/// How a table is reached.
#[derive(Debug)]
pub(super) struct Reach {
    /// The table that leads to it, by its place; `None` where the main table does.
    pub(super) via: Option<usize>,
    /// The keys that were tried, the best first; at least one.
    pub(super) keys: Vec<Tried>,
    /// What was found by comparing.
    pub(super) found: Suggestions,
    /// Why nothing is taken of it, unless it is asked for.
    pub(super) left_out: Option<LeftOut>,
}

impl Reach {
    /// Of two ways to a table, the one with more is better: it finds more rows, or as many with fewer steps.
    fn merit(&self) -> (u64, Reverse<usize>) {
        let best = &self.keys[0];
        (best.matched(), Reverse(best.key.parts.iter().map(|part| part.steps).sum()))
    }
}

/// Why nothing is taken of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum LeftOut {
    /// It has all columns of the main table.
    Copy,
    /// It is found for less than half of the rows.
    Few,
    /// Several of its rows have the key.
    Several,
    /// It has no columns but the key and those of the main table.
    Nothing,
    /// Another table, at this place, brings the same columns to more rows.
    Known(usize),
}

impl LeftOut {
    /// In words.
    pub(super) fn reason(self) -> &'static str {
        match self {
            Self::Copy => "it has every column of the main table",
            Self::Few => "fewer than half of the rows are matched",
            Self::Several => "many keys are on several of its rows, which disagree",
            Self::Nothing => "it has no columns that the main table lacks",
            Self::Known(_) => "another table brings the same columns to as many rows or more",
        }
    }
}

/// What came of looking.
pub(super) struct Search {
    pub(super) tables: Vec<Looked>,
    pub(super) not_read: Vec<NotRead>,
}

/// Looks at tables: which of them the main table leads to, and which these lead to in turn, unless what is
/// reached `is_enough`.
///
/// # Errors
/// When the main table can't be read, or one that the call names.
pub(super) fn search(
    main: &OsStr,
    listed: &[Listed],
    seed: Seed,
    threads: usize,
    is_enough: impl Fn(&[Looked]) -> bool,
) -> Result<Search> {
    let profile = Profile::of_main(&mut opened(main)?, seed)?;
    let is_one = listed.len() == 1;
    let of_each =
        in_parallel(listed, threads, |listed| directly(main, &profile, &listed.text, !is_one));
    let mut search = Search { tables: Vec::new(), not_read: Vec::new() };
    for (Listed { text, is_named }, looked) in listed.iter().zip(of_each) {
        match looked {
            Ok(looked) => search.tables.push(looked),
            Err(error) if *is_named => return Err(error),
            Err(error) => search.not_read.push(not_read(text, &error)),
        }
    }
    let own = profile.headers().clone();
    drop(profile);
    for _ in 0..BETWEEN {
        let unreached: Vec<usize> =
            (0..search.tables.len()).filter(|&nth| search.tables[nth].reached.is_none()).collect();
        if is_one || unreached.is_empty() || is_enough(&search.tables) {
            break;
        }
        let way = Ways { main, own: &own, tables: &search.tables, seed, threads };
        let reached = way.to(&unreached);
        if reached.is_empty() {
            break;
        }
        for (nth, reach) in reached {
            search.tables[nth].reached = Some(reach);
        }
    }
    leave_out_known(&mut search.tables);
    Ok(search)
}

/// Leaves out tables of which another brings the same columns, unless they lead to others.
fn leave_out_known(tables: &mut [Looked]) {
    let brings = |table: &Looked| -> Option<(Vec<String>, u64)> {
        let reach = table.reached.as_ref().filter(|reach| reach.left_out.is_none())?;
        let takes = reach.keys[0].key.take.iter().map(|take| take.to_lowercase());
        Some((takes.collect(), reach.keys[0].matched()))
    };
    for nth in 0..tables.len() {
        let is_between = tables.iter().any(|other| other.via() == Some(nth));
        let Some((takes, matched)) = brings(&tables[nth]).filter(|_| !is_between) else { continue };
        let known = tables.iter().enumerate().find(|(other, table)| {
            let more = |rows| rows > matched || rows == matched && *other < nth;
            let other = brings(table).filter(|(_, rows)| *other != nth && more(*rows));
            other.is_some_and(|(others, _)| takes.iter().all(|take| others.contains(take)))
        });
        let known = known.map(|(other, _)| LeftOut::Known(other));
        if let (Some(known), Some(reach)) = (known, &mut tables[nth].reached) {
            reach.left_out = Some(known);
        }
    }
}

impl Looked {
    /// The table that leads to it, where it is not the main table.
    pub(super) fn via(&self) -> Option<usize> {
        self.reached.as_ref().and_then(|reach| reach.via)
    }
}

/// Looks at a table: whether the main table leads to it.
fn directly(main: &OsStr, profile: &Profile, text: &OsStr, is_one_of_many: bool) -> Result<Looked> {
    let mut source = opened(text)?;
    let sketch = is_one_of_many.then(|| Sketch::of_reference(&mut source, profile)).transpose()?;
    let headers = source.headers().clone();
    drop(source);
    let name = Address::shown(&text.to_string_lossy());
    if sketch.as_ref().is_some_and(|sketch| !sketch.may_be_reached()) {
        return Ok(Looked { text: text.to_owned(), name, headers, sketch, reached: None });
    }
    // Numbers that count are in any table; with many tables such keys say nothing.
    let trust = if is_one_of_many { Trust::Keys } else { Trust::Chance };
    let found = suggest(profile, &Profile::of_reference(&mut opened(text)?, profile)?, trust);
    let step = |key: &SuggestedKey, within: Option<&str>| Step {
        table: text,
        on: key.parts.iter().map(|part| part.on.clone()).collect(),
        within: within.map(str::to_owned),
        take: key.take.clone(),
    };
    let threads = is_one_of_many.then_some(1);
    let run = |key: &SuggestedKey, within: Option<&str>| {
        Ok(last(counts(plan(main, vec![step(key, within)])?, threads)?))
    };
    let keys = match tried(&found, run) {
        // What does not run is not proposed.
        Err(error) if !is_one_of_many => return Err(error),
        keys => keys.unwrap_or_default(),
    };
    let why = |keys: &[Tried]| {
        let all: Vec<&str> = headers.iter().collect();
        if profile.headers().len() > 1 && profile.headers().iter().all(|own| all.contains(&own)) {
            return Some(LeftOut::Copy);
        }
        left_out(&keys[0], keys[0].counts.main_rows)
    };
    let left_out = if keys.is_empty() { None } else { why(&keys) };
    let reached = (!keys.is_empty()).then(|| {
        let left_out = left_out.filter(|_| is_one_of_many);
        Reach { via: None, keys, found, left_out }
    });
    Ok(Looked { text: text.to_owned(), name, headers, sketch, reached })
}

/// The ways that go on from tables that are reached already.
struct Ways<'s> {
    main: &'s OsStr,
    own: &'s Headers,
    tables: &'s [Looked],
    seed: Seed,
    threads: usize,
}

impl Ways<'_> {
    /// The unreached tables that another leads to, each by the best way.
    fn to(&self, unreached: &[usize]) -> Vec<(usize, Reach)> {
        let likely: Vec<(usize, Vec<usize>)> =
            unreached.iter().map(|&nth| (nth, self.likely(nth))).collect();
        let mut found: BTreeMap<usize, Reach> = BTreeMap::new();
        for place in 0..WAYS {
            let is_next = |(nth, vias): &&(usize, Vec<usize>)| {
                vias.len() > place && !found.get(nth).is_some_and(|reach| self.is_best(reach))
            };
            let mut next: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
            for (nth, vias) in likely.iter().filter(is_next) {
                next.entry(vias[place]).or_default().push(*nth);
            }
            let next: Vec<(usize, Vec<usize>)> = next.into_iter().collect();
            let threads = self.threads.div_ceil(next.len().max(1));
            let ways = in_parallel(&next, self.threads, |(via, next)| {
                self.by_ways_of(*via, next, threads)
            });
            for (nth, reach) in ways.into_iter().flatten() {
                if found.get(&nth).is_none_or(|known| known.merit() < reach.merit()) {
                    found.insert(nth, reach);
                }
            }
        }
        found.into_iter().collect()
    }

    /// The tables that one of those reached leads to, sought on this many threads.
    fn by_ways_of(&self, via: usize, next: &[usize], threads: usize) -> Vec<(usize, Reach)> {
        let between = &self.tables[via];
        // A table that could be read once may not be there any more; then it leads nowhere.
        let names = Headers::new(&between.name[..], link_names(self.own, self.tables, via));
        let profile =
            opened(&between.text).and_then(|mut open| Ok(Profile::of_main(&mut open, self.seed)?));
        let Ok(profile) = profile.map(|profile| profile.renamed(names)) else { return Vec::new() };
        let ways = in_parallel(next, threads, |&nth| self.by_way_of(via, &profile, nth));
        let reached = next.iter().zip(ways);
        reached.filter_map(|(nth, way)| Some((*nth, way.ok().flatten()?))).collect()
    }

    /// The tables that may lead to one, the likeliest first.
    fn likely(&self, nth: usize) -> Vec<usize> {
        let share = |(via, between): (usize, &Looked)| {
            let reach = between.reached.as_ref().filter(|reach| reach.left_out.is_none());
            let sketches = between.sketch.as_ref().zip(self.tables[nth].sketch.as_ref());
            let (between, other) = reach.and(sketches)?;
            Some((between.leads_to(other)?, via))
        };
        let mut all: Vec<(f64, usize)> = self.tables.iter().enumerate().filter_map(share).collect();
        all.sort_by(|one, other| other.0.total_cmp(&one.0));
        all.into_iter().map(|(_, via)| via).collect()
    }

    /// Whether no other way can be better.
    fn is_best(&self, reach: &Reach) -> bool {
        let via = reach.via.and_then(|via| self.tables[via].reached.as_ref());
        let rows = reach.keys[0].counts.main_rows;
        let finds_all = via.is_some_and(|via| via.keys[0].matched() == rows);
        finds_all && reach.merit() == (rows, Reverse(0))
    }

    /// The way to a table by the columns of one that is reached already, whose profile has the headers under which they are
    /// taken.
    fn by_way_of(&self, via: usize, profile: &Profile, nth: usize) -> Result<Option<Reach>> {
        let text = &self.tables[nth].text;
        let reference = Profile::of_reference(&mut opened(text)?, profile)?;
        let found = suggest(profile, &reference, Trust::Keys);
        drop(reference);
        let run = |key: &SuggestedKey, within: Option<&str>| {
            let steps = steps_to((self.own, self.tables), via, &Link::of(key));
            let step = Step {
                table: text,
                on: key.parts.iter().map(|part| part.on.clone()).collect(),
                within: within.map(str::to_owned),
                take: key.take.clone(),
            };
            let plan = plan(self.main, steps.into_iter().chain([step]).collect())?;
            Ok(last(counts(plan, Some(1))?))
        };
        let keys = tried(&found, run)?;
        let Some(first) = keys.first() else { return Ok(None) };
        let reach = self.tables[via].reached.as_ref();
        let left_out = left_out(first, reach.map_or(0, |reach| reach.keys[0].matched()));
        // A few rows are found by chance, the more so the more tables there are.
        let is_found = left_out != Some(LeftOut::Few);
        Ok(is_found.then_some(Reach { via: Some(via), keys, found, left_out }))
    }
}

/// The steps of a plan that leads to a table and takes what `link` needs of it.
pub(super) fn steps_to<'t>(
    (own, tables): (&Headers, &'t [Looked]),
    table: usize,
    link: &Link,
) -> Vec<Step<'t>> {
    let Some(reach) = &tables[table].reached else { return Vec::new() };
    let mut steps = match reach.via {
        Some(via) => steps_to((own, tables), via, &Link::of(&reach.keys[0].key)),
        None => Vec::new(),
    };
    steps.push(Step {
        table: &tables[table].text,
        on: reach.keys[0].key.parts.iter().map(|part| part.on.clone()).collect(),
        within: reach.keys[0].within.clone(),
        take: link.take(&tables[table].headers, &link_names(own, tables, table)),
    });
    steps
}

/// The names under which the columns of a table are taken when they lead to others: their headers, with the name of the
/// table where other tables have the same header.
pub(super) fn link_names(own: &Headers, tables: &[Looked], nth: usize) -> Vec<String> {
    let headers = &tables[nth].headers;
    let stem = Address::stem_of_any(&tables[nth].text);
    let is_elsewhere = |header: &str| {
        let others = tables.iter().enumerate().filter(|(other, _)| *other != nth);
        let mut all = others.flat_map(|(_, other)| other.headers.iter()).chain(own.iter());
        all.any(|other| other.eq_ignore_ascii_case(header))
    };
    (0..headers.len())
        .map(|column| match headers.name(column) {
            header if is_elsewhere(header) => format!("{} ({stem})", headers.address(column)),
            _ => headers.address(column),
        })
        .collect()
}

/// Why a table is left out, by what its key found among the `rows` that it could find.
fn left_out(tried: &Tried, rows: u64) -> Option<LeftOut> {
    let several = tried.counts.of(Kind::Ambiguous);
    match () {
        () if several > tried.matched() / DISAGREEING + 1 => Some(LeftOut::Several),
        () if tried.matched() * 2 < rows => Some(LeftOut::Few),
        () if tried.key.take == [ROW] => Some(LeftOut::Nothing),
        () => None,
    }
}

fn last(counts: Vec<Counts>) -> Counts {
    counts.into_iter().next_back().unwrap_or_default()
}

fn opened(text: &OsStr) -> Result<OpenTable> {
    open(&Table::all(text)?, &Meter::default(), &mut None)
}
