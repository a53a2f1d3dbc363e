//! `suggest`: which tables the main table leads to, by which keys, and the plan that takes what they have.

mod proposed_plan;
mod reach;
mod tables;
mod told;
mod trial;

use std::path::PathBuf;

use gather_keys_core::plan::{Plan, Text, Texts, parse_headers, quoted_header};
use gather_keys_core::report::{Proposal, ProposedKey, ProposedTable, WantedColumn};
use gather_keys_core::survey::{Reached, Wanted, fewest, with_those_between};
use gather_keys_core::table::{Headers, Source};
use gather_keys_formats::Address;

use super::Outcome;
use crate::arguments::{Suggest, threads};
use crate::call::Table;
use crate::error::{Error, Result};
use crate::inputs::{open, seed};
use crate::progress::Meter;
use crate::terminal::show;
use proposed_plan::{Link, Step, command, plan, save};
use reach::{LeftOut, Looked, Search, link_names, search};
use told::Told;
use trial::counts;

/// Proposes keys, and the plan that takes columns by them.
pub(crate) fn suggest(asked: &Suggest) -> Result<Outcome> {
    let ours = Table::new(&asked.main);
    let is_standard = |text| Address::new(text) == Address::Standard;
    if ours.address == Address::Standard || asked.tables.iter().any(|text| is_standard(text)) {
        return Err(Error::SuggestTwice);
    }
    let (own, main) = {
        let source = open(&ours, &Meter::default(), &mut None)?;
        (source.headers().clone(), source.headers().table().to_owned())
    };
    let wanted = asked.want.as_deref().map(|want| parse_headers("want", want)).transpose()?;
    let sought: Vec<String> =
        wanted.iter().flatten().filter(|header| !is_in(&own, header)).cloned().collect();
    let texts = tables::listed(&asked.main, &asked.tables)?;
    let is_one = texts.len() == 1;
    let is_enough = |tables: &[Looked]| {
        let found = wanted_columns(tables, &sought);
        !sought.is_empty()
            && found.iter().all(|found| found.as_ref().is_some_and(|found| !found.is_near))
    };
    let Search { tables, not_read } =
        search(&asked.main, &texts, seed(), threads(asked.threads), is_enough)?;
    let found = wanted_columns(&tables, &sought);
    let chosen = match &wanted {
        Some(_) => chosen_for(&tables, &found),
        None => worth_taking(&tables),
    };
    let (proposed, used) = that_runs(asked, &own, &tables, chosen)?.unzip();
    let used = used.unwrap_or_default();
    let saved = match (&proposed, &asked.save_plan) {
        (Some(plan), Some(path)) => {
            let path = PathBuf::from(path);
            save(plan, &path, asked.overwrite)?;
            Some(path)
        }
        _ => None,
    };
    let wanted = wanted.unwrap_or_default();
    let told = Told {
        main: &main,
        tables: &tables,
        not_read: &not_read,
        wanted: &wanted,
        found: sought.iter().zip(&found).collect(),
        used: &used,
        plan: proposed.as_ref(),
        saved: saved.as_deref(),
    };
    let is_one = is_one && tables.len() == 1 && wanted.is_empty();
    let text = || if is_one { told.of_one() } else { told.of_many() };
    show(&asked.printed.of(|| document(&told), text))?;
    let is_short = found.iter().any(Option::is_none);
    Ok(if proposed.is_none() || is_short { Outcome::Stopped } else { Outcome::Done })
}

/// Whether the main table has a column already.
fn is_in(own: &Headers, header: &str) -> bool {
    own.iter().any(|own| own == header)
}

/// The tables as they can be reached for wanted columns; none of those that are not to be trusted.
fn reached(tables: &[Looked]) -> Vec<Reached<'_>> {
    tables.iter().map(as_reached).collect()
}

fn as_reached(table: &Looked) -> Reached<'_> {
    let reach = table.reached.as_ref();
    let reach = reach.filter(|reach| reach.left_out != Some(LeftOut::Copy));
    Reached {
        headers: reach.map_or_else(Vec::new, |_| table.headers.iter().collect()),
        via: reach.and_then(|reach| reach.via),
        matched: reach.map_or(0, |reach| reach.keys[0].matched()),
    }
}

fn wanted_columns(tables: &[Looked], sought: &[String]) -> Vec<Option<Wanted>> {
    fewest(&reached(tables), sought)
}

/// A table of which something is taken: its place, and what is taken, as it is written.
type Chosen = Vec<(usize, Vec<String>)>;

/// What is taken where nothing was asked for: all that is not in the main table yet, of tables that bring it to most rows.
fn worth_taking(tables: &[Looked]) -> Chosen {
    let mut chosen: Chosen = Vec::new();
    for (nth, table) in tables.iter().enumerate() {
        if let Some(reach) = table.reached.as_ref().filter(|reach| reach.left_out.is_none()) {
            chosen.push((nth, reach.keys[0].key.take.clone()));
        }
    }
    chosen
}

/// What is taken so that every wanted column is there that is found.
fn chosen_for(tables: &[Looked], found: &[Option<Wanted>]) -> Chosen {
    let mut chosen: Chosen = Vec::new();
    for Wanted { column: (table, column), .. } in found.iter().flatten() {
        let take = quoted_header(&tables[*table].headers.address(*column));
        match chosen.iter_mut().find(|(nth, _)| nth == table) {
            Some((_, takes)) => takes.push(take),
            None => chosen.push((*table, vec![take])),
        }
    }
    chosen
}

/// The plan that takes what was chosen, tried, and its tables; what makes it fail is left out.
fn that_runs(
    asked: &Suggest,
    own: &Headers,
    tables: &[Looked],
    mut chosen: Chosen,
) -> Result<Option<(Plan, Vec<usize>)>> {
    loop {
        if chosen.is_empty() {
            return Ok(None);
        }
        let (plan, used) = plan_of(asked, own, tables, &chosen)?;
        match counts(plan.clone(), None) {
            Ok(_) => return Ok(Some((plan, used))),
            // The tables that are reached by way of others are the last.
            Err(_) if chosen.len() > 1 => drop(chosen.pop()),
            Err(error) => return Err(error),
        }
    }
}

fn plan_of(
    asked: &Suggest,
    own: &Headers,
    tables: &[Looked],
    chosen: &Chosen,
) -> Result<(Plan, Vec<usize>)> {
    let nths: Vec<usize> = chosen.iter().map(|(nth, _)| *nth).collect();
    let order = with_those_between(&reached(tables), &nths);
    let mut steps = Vec::new();
    let mut dropped: Vec<Text> = Vec::new();
    for &nth in &order {
        let table = &tables[nth];
        let Some(reach) = &table.reached else { continue };
        let mut take = chosen
            .iter()
            .find(|(of, _)| *of == nth)
            .map_or_else(Vec::new, |(_, take)| take.clone());
        let names = link_names(own, tables, nth);
        for &other in &order {
            let Some(next) = tables[other].reached.as_ref().filter(|next| next.via == Some(nth))
            else {
                continue;
            };
            let link = Link::of(&next.keys[0].key);
            for (item, name) in
                link.take(&table.headers, &names).into_iter().zip(link.names(&names))
            {
                if !take.contains(&item) {
                    dropped.push(Text::typed(quoted_header(&name)));
                    take.push(item);
                }
            }
        }
        let best = &reach.keys[0];
        steps.push(Step {
            table: &table.text,
            on: best.key.parts.iter().map(|part| part.on.clone()).collect(),
            within: best.within.clone(),
            take,
        });
    }
    Ok((Plan { drop: Texts(dropped), ..plan(&asked.main, steps)? }, order))
}

/// What is proposed, for a program.
fn document(told: &Told<'_>) -> Proposal {
    let mut proposal = Proposal::of(told.main.to_owned());
    for table in told.tables {
        let Some(reach) = &table.reached else {
            proposal.nothing_in_common.push(table.name.clone());
            continue;
        };
        let keys = reach.keys.iter();
        let keys =
            keys.map(|tried| ProposedKey::of(&tried.key, tried.within.as_deref(), &tried.counts));
        proposal.tables.push(ProposedTable {
            table: table.name.clone(),
            by_way_of: reach.via.map(|via| told.tables[via].name.clone()),
            compared_rows: reach.found.looked_at.map(|rows| rows as u64),
            keys: keys.collect(),
            take: reach.keys[0].key.take.clone(),
            left_out: reach.left_out.map(|left_out| left_out.reason().to_owned()),
        });
    }
    proposal.not_read = told.not_read.to_vec();
    let of = |(asked, found): &(&String, &Option<Wanted>)| {
        let name = |(table, column): (usize, usize)| {
            (told.tables[table].name.clone(), told.tables[table].headers.address(column))
        };
        let column = found.as_ref().map(|found| name(found.column));
        let others = found.iter().flat_map(|found| &found.others);
        WantedColumn {
            asked: (*asked).clone(),
            header: column.as_ref().map(|(_, header)| header.clone()),
            table: column.map(|(table, _)| table),
            others: others
                .map(|&other| name(other))
                .map(|(table, header)| format!("{header} of {table}"))
                .collect(),
        }
    };
    proposal.wanted = told.found.iter().map(of).collect();
    proposal.command = told.plan.map(|plan| command(plan, " "));
    proposal
}
