//! From the names in a plan to the columns of the tables available.

use std::fmt;

use super::columns::{Added, added_columns, selected};
use super::{Appending, Replacing, RowOutput, Unmatched};
use crate::key::Key;
use crate::lookup::{
    Bounds, HeaderTemplate, Lookup, Reference, ReferenceBuilder, Rule, Seed, TakenColumns,
};
use crate::plan::{
    Held, On, OnPart, Range, Reach, ReferencePlan, WhenDuplicate, WhenUnmatched, Within,
};
use crate::table::{Headers, without_clash};
use crate::template::{BoundTemplate, Template};
use crate::{Error, Result};

/// A reference's plan with its columns found.
#[derive(Debug, Clone)]
pub struct Resolved {
    /// The key of the main table.
    pub main_key: Key,
    /// The keys of the reference, part by part next to the main table's: one, or in a reverse
    /// lookup one for each column that it looks in.
    pub reference_keys: Vec<Key>,
    /// The columns that a reverse lookup looks in; none in others.
    pub searched: Vec<usize>,
    /// Whether rows are matched by their position alone.
    pub by_position: bool,
    /// The parts of the key as they were written.
    pub on: Vec<String>,
    /// The template of the main row's value that must be in a range.
    pub range_value: Option<BoundTemplate>,
    /// The bounds of the range.
    pub bounds: Option<Bounds>,
    /// How far off the closest row may be.
    pub reach: Option<Reach>,
    /// The rule for keys whose rows disagree.
    pub rule: Rule,
    /// The template that orders rows, where the rule needs one.
    pub rank: Option<BoundTemplate>,
    /// The reference's columns to take.
    pub taken: TakenColumns,
    /// The taken columns that main rows name.
    pub named_columns: Vec<HeaderTemplate>,
    /// The cells that are added, made from these columns and from marks.
    pub output: RowOutput,
    /// The wanted header of each added column.
    pub names: Vec<String>,
    /// Notes about how names were found.
    pub notes: Vec<Note>,
}

impl Resolved {
    /// Begins to take in the reference of the plan it was made of, whose table has `headers`.
    pub fn builder(&self, plan: &ReferencePlan, headers: &Headers, seed: Seed) -> ReferenceBuilder {
        let (keys, searched) = (self.reference_keys.clone(), self.searched.clone());
        let taken = self.taken.clone();
        let builder = ReferenceBuilder::new(&plan.name, headers, keys, searched, taken, seed)
            .resolving(self.rule, self.rank.clone())
            .matching_blanks(plan.match_blanks)
            .by_position(self.by_position);
        match &self.bounds {
            Some(bounds) => builder.ranged(bounds.clone(), self.reach),
            None => builder,
        }
    }

    /// Whether taken cells can be passed through, in a main table with `own` columns: each main row takes
    /// all taken cells of one reference row, and its key does not depend on another reference.
    pub fn passes_through(&self, own: usize) -> bool {
        self.output.only_adds(self.taken.columns.len())
            && !matches!(self.rule, Rule::Every | Rule::List)
            && !self.by_position
            && self.searched.is_empty()
            && self.bounds.is_none()
            && self.main_key.columns().iter().all(|column| *column < own)
    }

    /// What needs all rows of the reference at once, if anything, so that rows can't be filtered by the
    /// keys of the main table, which has `own` columns; earlier references update the columns `updated`.
    pub fn needs_whole(&self, own: usize, updated: &[usize]) -> Option<NeedsWhole> {
        let is_own = |column: &usize| *column < own && !updated.contains(column);
        if self.by_position {
            Some(NeedsWhole::Position)
        } else if !self.searched.is_empty() {
            Some(NeedsWhole::Reverse)
        } else if self.bounds.is_some() {
            Some(NeedsWhole::Range)
        } else if self.output.appending.is_some() {
            Some(NeedsWhole::AppendUnused)
        } else if !self.main_key.columns().iter().all(is_own) {
            Some(NeedsWhole::Chain)
        } else {
            None
        }
    }

    /// The lookup in the reference that was taken in, and what it adds.
    pub fn lookup(self, reference: Reference) -> (Lookup, RowOutput) {
        let lookup = Lookup::new(self.main_key, self.on, reference);
        (
            lookup.with_range_value(self.range_value).with_named_columns(self.named_columns),
            self.output,
        )
    }
}

/// A feature that needs all rows of a reference at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NeedsWhole {
    /// Rows are matched by their position.
    Position,
    /// A value may be in any of several columns.
    Reverse,
    /// Rows count by their range.
    Range,
    /// Rows that nothing asks for are added.
    AppendUnused,
    /// The key is made of columns that an earlier reference brings.
    Chain,
}

impl fmt::Display for NeedsWhole {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Position => "a match by position",
            Self::Reverse => "a reverse lookup",
            Self::Range => "a range",
            Self::AppendUnused => "appending unused rows",
            Self::Chain => "a key of columns that another reference adds",
        })
    }
}

/// Something that was done a little differently than asked, and is said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Note {
    /// A header was found by ignoring case and surplus space.
    LooseHeader {
        /// The table.
        table: String,
        /// The name that was asked for.
        asked: String,
        /// The header that was taken.
        found: String,
    },
    /// An added column got another name, since the wanted one was there already.
    Renamed {
        /// The wanted name.
        wanted: String,
        /// The name it got.
        given: String,
    },
}

/// A table as a plan meets it.
#[derive(Debug, Clone, Copy)]
pub struct Side<'a> {
    /// Its headers; for the main table, followed by those that earlier references add.
    pub headers: &'a Headers,
    /// The texts that count as blank in its keys.
    pub blanks: &'a [String],
}

/// Finds columns, and notes which were found loosely.
pub(super) fn finding(notes: &mut Vec<Note>) -> impl FnMut(&Headers, &str) -> Result<usize> {
    |headers, name| {
        let found = headers.find(name)?;
        let note = Note::LooseHeader {
            table: headers.table().to_owned(),
            asked: name.to_owned(),
            found: headers.name(found.column).to_owned(),
        };
        if !found.exact && !notes.contains(&note) {
            notes.push(note);
        }
        Ok(found.column)
    }
}

/// The error of a header that the main table does not have; if every side of a key is in the other table, that of sides
/// that are the wrong way round.
fn or_swapped(error: Error, parts: &[OnPart], main: Side<'_>, reference: Side<'_>) -> Error {
    let has_all = |template: &Template, side: Side<'_>| {
        template.headers().all(|header| side.headers.find(header).is_ok())
    };
    let is_swapped = |part: &OnPart| match &part.reference {
        Held::Made(theirs) => has_all(&part.main, reference) && has_all(theirs, main),
        Held::Any(_) => false,
    };
    if !matches!(error, Error::HeaderUnknown { .. }) || !parts.iter().all(is_swapped) {
        return error;
    }
    let turned = parts.iter().map(|part| format!("{} = {}", part.reference, part.main));
    let turned = turned.collect::<Vec<_>>().join(", ");
    Error::SidesSwapped { main: main.headers.table().to_owned(), turned }
}

/// Finds the columns that a plan names.
///
/// # Errors
/// When a table has no such header, or several, or when parts of the plan conflict.
pub fn resolve(plan: &ReferencePlan, main: Side<'_>, reference: Side<'_>) -> Result<Resolved> {
    let mut notes = Vec::new();
    let mut find = finding(&mut notes);
    let parts: &[OnPart] = match &plan.on {
        On::Key(parts) => parts,
        On::Position => &[],
    };
    let (main_key, reference_keys, searched) = keys(parts, plan, main, reference, &mut find)?;
    let mut on: Vec<String> = parts.iter().map(OnPart::to_string).collect();
    if plan.on == On::Position {
        on.push("@row".to_owned());
    }
    on.extend(plan.within.as_ref().map(Within::to_string));

    let mut bind =
        |template: &Template, side: Side<'_>| template.bind_with(|name| find(side.headers, name));
    let range_value = plan.within.as_ref().map(|within| bind(&within.main, main)).transpose()?;
    let bounds = match plan.within.as_ref().map(|within| &within.range) {
        None => None,
        Some(Range::Between { lower, upper, closed }) => Some(Bounds::Between {
            lower: bind(lower, reference)?,
            upper: bind(upper, reference)?,
            closed: *closed,
        }),
        Some(Range::From(bound)) => Some(Bounds::From(bind(bound, reference)?)),
        Some(Range::UpTo(bound)) => Some(Bounds::UpTo(bind(bound, reference)?)),
    };
    if plan.reach.is_some() && !matches!(bounds, Some(Bounds::From(_) | Bounds::UpTo(_))) {
        return Err(Error::ReachUnbound { reference: plan.name.clone() });
    }
    let (rule, rank) = match &plan.when_duplicate {
        WhenDuplicate::Report | WhenDuplicate::Stop => (Rule::Report, None),
        WhenDuplicate::First => (Rule::First, None),
        WhenDuplicate::Last => (Rule::Last, None),
        WhenDuplicate::Highest(rank) => (Rule::Highest, Some(rank)),
        WhenDuplicate::Lowest(rank) => (Rule::Lowest, Some(rank)),
        WhenDuplicate::Every => (Rule::Every, None),
        WhenDuplicate::List => (Rule::List, None),
    };
    let rank = rank.map(|rank| bind(rank, reference)).transpose()?;

    let key: Vec<usize> = reference_keys.iter().flat_map(Key::columns).copied().collect();
    let (keys, headers) = ((main_key.columns(), &key[..]), (main.headers, reference.headers));
    let Added { taken, named_columns, cells, names, updates } =
        added_columns(plan, headers, keys, &searched, &mut find)?;
    let appending = match plan.append_unused {
        true if !searched.is_empty() => {
            return Err(Error::NothingToAppend { reference: plan.name.clone() });
        }
        true => Some(appending(parts, main, reference, &mut find)?),
        false => None,
    };
    drop(find);
    let replacing = Replacing { replace: plan.replace, bring_blanks: plan.bring_blanks };
    let unmatched = match &plan.when_unmatched {
        WhenUnmatched::Blank | WhenUnmatched::Stop => Unmatched::Blank,
        WhenUnmatched::Drop => Unmatched::Drop,
        WhenUnmatched::Only => Unmatched::Only,
        WhenUnmatched::Fill(text) => Unmatched::Fill(text.clone()),
    };
    Ok(Resolved {
        main_key,
        reference_keys,
        searched,
        by_position: plan.on == On::Position,
        on,
        range_value,
        bounds,
        reach: plan.reach,
        rule,
        rank,
        taken,
        named_columns,
        output: RowOutput { cells, unmatched, updates, replacing, appending },
        names,
        notes,
    })
}

/// How the key of an added row comes into the main table's columns. Every part is a template on
/// both sides.
fn appending(
    parts: &[OnPart],
    main: Side<'_>,
    reference: Side<'_>,
    find: &mut impl FnMut(&Headers, &str) -> Result<usize>,
) -> Result<Appending> {
    let mut all = Vec::new();
    for part in parts {
        if let Held::Made(theirs) = &part.reference {
            let ours = part.main.bind_with(|name| find(main.headers, name))?;
            all.push((ours, theirs.bind_with(|name| find(reference.headers, name))?));
        }
    }
    Ok(Appending::new(all))
}

/// The key of either table, and the columns that a reverse lookup looks in.
fn keys(
    parts: &[OnPart],
    plan: &ReferencePlan,
    main: Side<'_>,
    reference: Side<'_>,
    find: &mut impl FnMut(&Headers, &str) -> Result<usize>,
) -> Result<(Key, Vec<Key>, Vec<usize>)> {
    let mut bind = |template: &Template, side: Side<'_>| {
        template.clone().cleaned(&plan.clean).bind_with(|name| find(side.headers, name))
    };
    let mut ours = Vec::new();
    // For a part that any of several columns may hold, the steps; for others, the template.
    let mut theirs = Vec::new();
    let mut others = Vec::new();
    for part in parts {
        let bound = bind(&part.main, main);
        ours.push(bound.map_err(|error| or_swapped(error, parts, main, reference))?);
        theirs.push(match &part.reference {
            Held::Made(template) => {
                let bound = bind(template, reference)?;
                others.extend(bound.columns().to_vec());
                Ok(bound)
            }
            Held::Any(any) => Err(any),
        });
    }
    let main_key = Key::new(ours, main.blanks.to_vec());
    let blanks = || reference.blanks.to_vec();
    let Some(any) = theirs.iter().find_map(|part| part.as_ref().err()) else {
        let theirs = theirs.into_iter().flatten().collect();
        return Ok((main_key, vec![Key::new(theirs, blanks())], Vec::new()));
    };
    let mut searched = Vec::new();
    for selection in &any.columns {
        for column in selected(selection, reference.headers, &others, find)? {
            if !searched.contains(&column) {
                searched.push(column);
            }
        }
    }
    let key_of = |&column: &usize| {
        let in_column = |part: &std::result::Result<BoundTemplate, _>| match part {
            Ok(bound) => bound.clone(),
            Err(_) => {
                let header = reference.headers.address(column);
                let steps = Template::of_steps(&header, any.steps.clone());
                steps.cleaned(&plan.clean).at(vec![column])
            }
        };
        Key::new(theirs.iter().map(in_column).collect(), blanks())
    };
    let keys = searched.iter().map(key_of).collect();
    Ok((main_key, keys, searched))
}

/// The headers of all added columns, none of them like a header that is before it, with a note
/// for each that had to be renamed: those of one more reference, after the others.
pub(super) fn added_names(
    before: &Headers,
    reference: &str,
    wanted: &[String],
) -> (Vec<String>, Vec<Note>) {
    let before: Vec<String> = before.iter().map(str::to_owned).collect();
    let given = without_clash(&before, wanted, reference);
    let renamed = wanted.iter().zip(&given).filter(|(wanted, given)| wanted != given);
    let note = |(wanted, given): (&String, &String)| Note::Renamed {
        wanted: wanted.clone(),
        given: given.clone(),
    };
    let notes = renamed.map(note).collect();
    (given, notes)
}
