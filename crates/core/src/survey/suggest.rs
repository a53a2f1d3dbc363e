//! Which columns of two tables go together as a key: by their values first, by their names second.
//!
//! In go the first rows of both tables; out come the sets of pairs that find most main rows in
//! exactly one reference row, each with the steps that make the spellings of both sides one, and the
//! columns worth taking. Values are compared by what is left of them when spelling does not count,
//! so that a pair is seen before its steps are known.

use std::collections::{BTreeMap, HashMap, HashSet};

use ahash::RandomState;

use super::look::Look;
use crate::diagnosis::{Differences, Loose, Steps, dates_of};
use crate::lookup::Seed;
use crate::plan::quoted_header;
use crate::table::{Block, Headers, Source};

/// Keys that are proposed for two tables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suggestions {
    /// How many rows of the main table and of the reference were looked at, at most [`LOOKED_AT`].
    pub looked_at: [usize; 2],
    /// The keys, the best first.
    pub keys: Vec<SuggestedKey>,
    /// What to take, as it is to be written; the same for each key.
    pub take: Vec<String>,
    /// What picks the row whose range holds a value, where the reference has ranges: ways to write
    /// it, to be tried.
    pub within: Vec<String>,
}

/// A key that is proposed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SuggestedKey {
    /// Its parts.
    pub parts: Vec<SuggestedPart>,
    /// Keys of one part more, to be tried where several rows hold a key.
    pub wider: Vec<SuggestedKey>,
}

/// A part of a key that is proposed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SuggestedPart {
    /// The part as it is to be written.
    pub on: String,
    /// How many different values the main table has.
    pub values: usize,
    /// How many of them the reference has too, however they are spelled.
    pub covered: usize,
}

/// How many rows of each table are looked at.
pub const LOOKED_AT: [usize; 2] = [50_000, 300_000];

/// How many keys are proposed.
const PROPOSED: usize = 2;

/// How many parts a proposed key has at most, but for those that are tried as wider ones.
const PARTS: usize = 3;

/// How many pairs of columns are tried together.
const PAIRS: usize = 14;

/// A pair is tried when so large a share of the main table's values is in the reference.
const COVERED: f64 = 0.25;

/// Columns in any of which a value stands have each at least so large a share, and together this.
const ANY_ONE: f64 = 0.02;
const ANY_ALL: f64 = 0.7;

/// Digits of no more different values are found anywhere by chance.
const FEW: usize = 10;

/// How many different values of a column are kept as they are read.
const KEPT: usize = 20_000;

/// How many values are compared to find the steps of a pair.
const COMPARED: usize = 2000;

/// A column of the rows that are looked at.
struct Column {
    /// The column of the table.
    of: usize,
    /// The step that takes a piece of it, if it is one.
    piece: Option<String>,
    /// For each row, what is left of the value; 0 where it is blank.
    loose: Vec<u64>,
    /// The same of the digits at its end, where there are such.
    tail: Vec<u64>,
    /// The different values as they are read.
    raw: HashSet<u64>,
    distinct: [HashSet<u64>; 2],
    /// By what is left of a value, one spelling.
    spellings: [HashMap<u64, String>; 2],
    looks: HashMap<Look, usize>,
    /// For each row the day that its date is, counted from 1970.
    days: Vec<Option<i32>>,
}

/// Which form of the values of a pair is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Form {
    Loose,
    Tail,
}

impl Column {
    fn of(column: usize, piece: Option<String>) -> Self {
        Self {
            of: column,
            piece,
            loose: Vec::new(),
            tail: Vec::new(),
            raw: HashSet::new(),
            distinct: Default::default(),
            spellings: Default::default(),
            looks: HashMap::new(),
            days: Vec::new(),
        }
    }

    fn form(&self, form: Form) -> &[u64] {
        match form {
            Form::Loose => &self.loose,
            Form::Tail => &self.tail,
        }
    }

    fn add(&mut self, text: &str, look: Look, loose: &mut Loose, hasher: &RandomState) {
        if look == Look::Blank {
            self.loose.push(0);
            self.tail.push(0);
            self.days.push(None);
            return;
        }
        *self.looks.entry(look).or_default() += 1;
        self.raw.insert(hasher.hash_one(text));
        let date = match look {
            Look::Date | Look::Time => dates_of(text)[0],
            _ => None,
        };
        let since = date.and_then(|date| date.since(jiff::civil::date(1970, 1, 1)).ok());
        self.days.push(since.map(|since| since.get_days()));
        let left = loose.of(text);
        // The digits at the end of a code; a number with a point has none.
        let is_code = left.iter().all(u8::is_ascii_alphanumeric);
        let digits = left.iter().rev().take_while(|byte| is_code && byte.is_ascii_digit()).count();
        let tail = &left[left.len() - digits..];
        let zeros = tail.iter().take_while(|byte| **byte == b'0').count();
        let tail =
            if digits == 0 { 0 } else { hasher.hash_one(&tail[zeros.min(digits - 1)..]) | 1 };
        let whole = match date {
            Some(date) => hasher.hash_one((date.year(), date.month(), date.day())) | 1,
            None => hasher.hash_one(left) | 1,
        };
        for (form, hash) in [whole, tail].into_iter().enumerate().filter(|(_, hash)| *hash != 0) {
            self.distinct[form].insert(hash);
            if self.spellings[form].len() < KEPT {
                self.spellings[form].entry(hash).or_insert_with(|| text.to_owned());
            }
        }
        self.loose.push(whole);
        self.tail.push(tail);
    }

    fn look(&self) -> Look {
        let common = self.looks.iter().max_by_key(|(look, count)| (**count, **look));
        common.map_or(Look::Blank, |(look, _)| *look)
    }

    /// Its template in a part.
    fn template(&self, headers: &Headers) -> String {
        let header = quoted_header(&headers.address(self.of));
        match &self.piece {
            Some(piece) => format!("{header} | {piece}"),
            None => header,
        }
    }
}

/// A pair of a main column and one or several of the reference's.
#[derive(Debug, Clone, PartialEq)]
struct Pair {
    main: usize,
    reference: Vec<usize>,
    form: Form,
    values: usize,
    covered: usize,
    /// How alike the headers are, from 0 to 1.
    named: f64,
}

impl Pair {
    fn share(&self) -> f64 {
        self.covered as f64 / self.values.max(1) as f64
    }
}

/// Proposes keys for two tables.
///
/// # Errors
/// Those of the sources.
pub fn suggest<M: Source, R: Source<Error = M::Error>>(
    main: &mut M,
    reference: &mut R,
    seed: Seed,
) -> Result<Suggestions, M::Error> {
    let hasher = RandomState::with_seeds(seed[0], seed[1], seed[2], seed[3]);
    let (ours, theirs) = (main.headers().clone(), reference.headers().clone());
    let left = columns(main, LOOKED_AT[0], &hasher, true)?;
    let right = columns(reference, LOOKED_AT[1], &hasher, false)?;
    let rows = |columns: &[Column]| columns.first().map_or(0, |column| column.loose.len());
    let looked_at = [rows(&left), rows(&right)];
    let naming = naming(&left, &theirs, &ours);
    let pairs = pairs((&left, &ours), (&right, &theirs));
    let bounds = bounds(&right);
    let has_date = left.iter().any(|column| matches!(column.look(), Look::Date | Look::Time));
    let lower = bounds.first().filter(|_| has_date).map(|(lower, _)| *lower);
    let sets = sets(&left, &right, &pairs, lower);
    let written = |set: &[Pair]| -> Vec<SuggestedPart> {
        set.iter().map(|pair| part(pair, (&left, &ours), (&right, &theirs), &hasher)).collect()
    };
    let keys: Vec<SuggestedKey> = sets
        .iter()
        .map(|Proposed { set, wider }| SuggestedKey {
            parts: written(set),
            wider: wider
                .iter()
                .map(|set| SuggestedKey { parts: written(set), wider: Vec::new() })
                .collect(),
        })
        .collect();
    let in_key: Vec<usize> = sets
        .first()
        .into_iter()
        .flat_map(|proposed| &proposed.set)
        .flat_map(|pair| pair.reference.iter().map(|&nth| right[nth].of))
        .collect();
    let within = ranges((&left, &ours), (&right, &theirs), &bounds, &in_key);
    let take = take(
        naming.as_ref(),
        (&right, &theirs),
        &ours,
        &in_key,
        sets.first().map(|best| &best.set),
    );
    Ok(Suggestions { looked_at, keys, take, within })
}

/// Reads the first rows of a table, column by column. `pieces` adds what stands between separators, for
/// columns whose every value is made of several.
fn columns<S: Source>(
    source: &mut S,
    most: usize,
    hasher: &RandomState,
    pieces: bool,
) -> Result<Vec<Column>, S::Error> {
    let width = source.headers().len();
    let mut all: Vec<Column> = (0..width).map(|column| Column::of(column, None)).collect();
    let mut loose = Loose::new();
    let (mut block, mut rows) = (Block::default(), 0);
    let mut split: Option<Vec<Option<(char, usize)>>> = None;
    while rows < most && source.read_block(&mut block)? {
        let split = split.get_or_insert_with(|| {
            let of = |column| if pieces { separator(&block, column) } else { None };
            let split: Vec<Option<(char, usize)>> = (0..width).map(of).collect();
            for (column, found) in split.iter().enumerate() {
                for nth in 1..=found.map_or(0, |(_, count)| count) {
                    let sign = found.map_or(' ', |(sign, _)| sign);
                    all.push(Column::of(column, Some(format!("piece {nth} \"{sign}\""))));
                }
            }
            split
        });
        for row in 0..block.rows().min(most - rows) {
            for (column, whole) in all[..width].iter_mut().enumerate() {
                let text = block.cell(row, column);
                let look = Look::of(text, block.kind(row, column));
                whole.add(text, look, &mut loose, hasher);
            }
            let mut at = width;
            for (column, found) in split.iter().enumerate() {
                let Some((sign, count)) = found else { continue };
                let mut values = block.cell(row, column).split(*sign);
                for piece in &mut all[at..at + count] {
                    let text = values.next().unwrap_or_default();
                    let look = Look::of(text, crate::table::CellKind::Unsaid);
                    piece.add(text, look, &mut loose, hasher);
                }
                at += count;
            }
        }
        rows += block.rows();
    }
    Ok(all)
}

/// The sign that parts every value of a column into the same number of pieces, with that number.
fn separator(block: &Block, column: usize) -> Option<(char, usize)> {
    const SIGNS: [char; 5] = ['/', '|', '_', '-', ':'];
    SIGNS.into_iter().find_map(|sign| {
        let mut counts = (0..block.rows())
            .map(|row| block.cell(row, column))
            .filter(|text| !text.is_empty())
            .map(|text| (text.split(sign).count(), Look::of(text, block.kind(0, column))));
        let (first, _) = counts.next()?;
        let is_it = |(count, look): (usize, Look)| count == first && look == Look::Text;
        ((2..=5).contains(&first) && counts.all(is_it)).then_some((sign, first))
    })
}

/// How alike two headers are, from 0 to 1.
fn alike(one: &str, other: &str) -> f64 {
    let words = |header: &str| -> String {
        header.to_lowercase().chars().filter(|sign| sign.is_alphanumeric()).collect()
    };
    strsim::normalized_damerau_levenshtein(&words(one), &words(other))
}

/// The pairs whose values meet, the best first.
fn pairs((left, ours): (&[Column], &Headers), (right, theirs): (&[Column], &Headers)) -> Vec<Pair> {
    let mut all = Vec::new();
    for (main, column) in left.iter().enumerate() {
        let values = column.distinct[0].len();
        if values == 0 {
            continue;
        }
        let mut single = 0.0_f64;
        let mut several: Vec<(usize, usize)> = Vec::new();
        for (nth, other) in right.iter().enumerate() {
            let named = alike(ours.name(column.of), theirs.name(other.of));
            let covered = column.distinct[0].intersection(&other.distinct[0]).count();
            let loose =
                Pair { main, reference: vec![nth], form: Form::Loose, values, covered, named };
            // Digits alone are compared where the values themselves don't meet.
            let covered = column.distinct[1].intersection(&other.distinct[1]).count();
            let tail = Pair {
                form: Form::Tail,
                values: column.distinct[1].len(),
                covered,
                ..loose.clone()
            };
            let most_have = column.tail.iter().filter(|tail| **tail != 0).count() * 10
                >= column.loose.iter().filter(|value| **value != 0).count() * 9;
            let is_varied = column.distinct[1].len() > FEW || named > 0.5;
            let is_tail = most_have && is_varied && tail.share() > loose.share() + 0.3;
            if loose.share() >= ANY_ONE {
                several.push((nth, loose.covered));
            }
            single = single.max(loose.share());
            let best = if is_tail { tail } else { loose };
            if best.share() >= COVERED || best.covered > 0 && named > 0.8 {
                all.push(best);
            }
        }
        let together: HashSet<u64> = several
            .iter()
            .flat_map(|(nth, _)| right[*nth].distinct[0].intersection(&column.distinct[0]))
            .copied()
            .collect();
        let share = together.len() as f64 / values as f64;
        if several.len() > 1 && share >= ANY_ALL && single < share * 0.7 {
            all.push(Pair {
                main,
                reference: several.iter().map(|(nth, _)| *nth).collect(),
                form: Form::Loose,
                values,
                covered: together.len(),
                named: 0.0,
            });
        }
    }
    all.sort_by(|a, b| (b.share() + b.named * 0.3).total_cmp(&(a.share() + a.named * 0.3)));
    all.truncate(PAIRS);
    all
}

/// What a set of pairs comes to: how many main rows it finds, of how many, and how many of these in
/// exactly one reference row.
struct Outcome {
    rows: usize,
    found: usize,
    unique: usize,
}

fn key_hash(hashes: impl Iterator<Item = u64>) -> Option<u64> {
    let mut all = 0_u64;
    for hash in hashes {
        if hash == 0 {
            return None;
        }
        let mixed = (all ^ hash).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        all = mixed ^ mixed >> 29;
    }
    Some(all)
}

/// With `lower` rows of the reference count as others where that bound of their range is another.
fn outcome(left: &[Column], right: &[Column], set: &[&Pair], lower: Option<usize>) -> Outcome {
    let rows = right.first().map_or(0, |column| column.loose.len());
    let any = set.iter().map(|pair| pair.reference.len()).max().unwrap_or(1);
    let mut held: HashMap<u64, usize> = HashMap::with_capacity(rows);
    let mut ranged: HashSet<u64> = HashSet::new();
    for row in 0..rows {
        for nth in 0..any {
            let hashes = set.iter().map(|pair| {
                let column = pair.reference[nth.min(pair.reference.len() - 1)];
                right[column].form(pair.form)[row]
            });
            let Some(key) = key_hash(hashes) else { continue };
            let bound = lower.map(|lower| right[lower].loose[row]);
            let is_another = bound.and_then(|bound| key_hash([key, bound].into_iter()));
            // A second row of the same key and the same range is one too many.
            if is_another.is_none_or(|both| !ranged.insert(both) || !held.contains_key(&key)) {
                *held.entry(key).or_default() += 1;
            }
        }
    }
    let mut outcome = Outcome { rows: 0, found: 0, unique: 0 };
    for row in 0..left.first().map_or(0, |column| column.loose.len()) {
        let hashes = set.iter().map(|pair| left[pair.main].form(pair.form)[row]);
        let Some(key) = key_hash(hashes) else { continue };
        outcome.rows += 1;
        if let Some(&count) = held.get(&key) {
            outcome.found += 1;
            outcome.unique += usize::from(count == 1);
        }
    }
    outcome
}

/// How good a set of pairs is as a key.
fn score(left: &[Column], right: &[Column], set: &[&Pair], lower: Option<usize>) -> f64 {
    let is_bound = |lower: &usize| set.iter().any(|pair| pair.reference.contains(lower));
    let outcome = outcome(left, right, set, lower.filter(|lower| !is_bound(lower)));
    let share = |of: usize, all: usize| of as f64 / all.max(1) as f64;
    let named = set.iter().map(|pair| pair.named).sum::<f64>() / set.len() as f64;
    let found = share(outcome.found, outcome.rows);
    let unique = share(outcome.unique, outcome.found);
    // A value that hardly varies is found anywhere by chance.
    let varied: usize = set.iter().map(|pair| pair.values).max().unwrap_or(0);
    let chance = if varied < 3 && outcome.rows > 20 { 0.3 } else { 0.0 };
    // What tells the rows of both tables apart is what they are about.
    let is_key = |column: &Column| {
        let filled = column.loose.iter().filter(|value| **value != 0).count();
        filled > 1 && column.distinct[0].len() == filled
    };
    let is_one_to_one = matches!(set, [only] if only.reference.len() == 1
        && is_key(&left[only.main]) && is_key(&right[only.reference[0]]));
    let unlikely = set.iter().map(|pair| {
        let piece = if left[pair.main].piece.is_some() { 0.1 } else { 0.0 };
        let tail = if pair.form == Form::Tail { 0.1 } else { 0.0 };
        piece + tail
    });
    found * (0.3 + 0.7 * unique) + 0.05 * named + if is_one_to_one { 0.25 } else { 0.0 }
        - 0.02 * (set.len() as f64 - 1.0)
        - chance
        - unlikely.fold(0.0, f64::max)
}

/// The best sets of pairs, and the best of those that are another key.
fn sets(left: &[Column], right: &[Column], pairs: &[Pair], lower: Option<usize>) -> Vec<Proposed> {
    let mut scored: Vec<(f64, Vec<usize>)> = Vec::new();
    let scored_of = |set: &[usize]| {
        let chosen: Vec<&Pair> = set.iter().map(|&nth| &pairs[nth]).collect();
        score(left, right, &chosen, lower)
    };
    let goes_with = |set: &[usize], nth: usize| {
        set.iter().all(|&other| {
            let (one, other) = (&pairs[nth], &pairs[other]);
            left[one.main].of != left[other.main].of
                && !one.reference.iter().any(|column| other.reference.contains(column))
                || left[one.main].of == left[other.main].of
                    && left[one.main].piece.is_some()
                    && left[other.main].piece.is_some()
                    && one.main != other.main
                    && !one.reference.iter().any(|column| other.reference.contains(column))
        }) && (pairs[nth].reference.len() == 1
            || set.iter().all(|&other| pairs[other].reference.len() == 1))
    };
    let mut now: Vec<(f64, Vec<usize>)> =
        (0..pairs.len()).map(|nth| (scored_of(&[nth]), vec![nth])).collect();
    for parts in 1..=PARTS {
        now.sort_by(|a, b| b.0.total_cmp(&a.0));
        scored.extend(now.iter().cloned());
        if parts == PARTS {
            break;
        }
        let mut next: BTreeMap<Vec<usize>, f64> = BTreeMap::new();
        for (_, set) in now.iter().take(PAIRS / 2) {
            for nth in 0..pairs.len() {
                if set.contains(&nth) || !goes_with(set, nth) {
                    continue;
                }
                let mut wider = set.clone();
                wider.push(nth);
                wider.sort_unstable();
                next.entry(wider).or_insert_with_key(|wider| scored_of(wider));
            }
        }
        now = next.into_iter().map(|(set, score)| (score, set)).collect();
    }
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.len().cmp(&b.1.len())));
    let mut told: Vec<Vec<usize>> = Vec::new();
    for (score, set) in &scored {
        // Another key has other columns, not the same in another form.
        let columns = |set: &[usize]| -> HashSet<(usize, usize)> {
            let of = |nth: &usize| {
                let pair = &pairs[*nth];
                (left[pair.main].of, right[pair.reference[0]].of)
            };
            set.iter().map(of).collect()
        };
        let is_new = told.iter().all(|known| !columns(known).is_subset(&columns(set)));
        if *score > 0.1 && is_new && told.len() < PROPOSED {
            told.push(set.clone());
        }
    }
    let by_place = |set: Vec<usize>| {
        let mut set: Vec<Pair> = set.into_iter().map(|nth| pairs[nth].clone()).collect();
        set.sort_by_key(|pair| pair.main);
        set
    };
    let wider_than = |set: &[usize]| -> Vec<Vec<usize>> {
        let is_wider = |other: &&Vec<usize>| {
            other.len() == set.len() + 1 && set.iter().all(|nth| other.contains(nth))
        };
        scored.iter().map(|(_, other)| other).filter(is_wider).take(WIDER).cloned().collect()
    };
    let proposed = told.into_iter().map(|set| Proposed {
        wider: wider_than(&set).into_iter().map(by_place).collect(),
        set: by_place(set),
    });
    proposed.collect()
}

/// A set of pairs that is proposed, and the best of those with one pair more.
struct Proposed {
    set: Vec<Pair>,
    wider: Vec<Vec<Pair>>,
}

/// How many of those there are.
const WIDER: usize = 2;

/// A pair as a part of a key, with the steps that make the spellings of both sides one.
fn part(
    pair: &Pair,
    (left, ours): (&[Column], &Headers),
    (right, theirs): (&[Column], &Headers),
    hasher: &RandomState,
) -> SuggestedPart {
    let main = &left[pair.main];
    let form = pair.form as usize;
    let differences = Differences::new();
    let mut steps: Option<Steps> = None;
    let mut values: Vec<(&u64, &String)> = main.spellings[form].iter().collect();
    values.sort_by_key(|(_, value)| &value[..]);
    let mut common: BTreeMap<Steps, usize> = BTreeMap::new();
    let has_raw = |value: &String| {
        let raw = hasher.hash_one(&value[..]);
        pair.reference.iter().any(|&nth| right[nth].raw.contains(&raw))
    };
    let others = values.into_iter().filter(|(_, value)| !has_raw(value));
    for (hash, value) in others.take(COMPARED) {
        let held = pair.reference.iter().filter_map(|&nth| right[nth].spellings[form].get(hash));
        for other in held {
            if let Some((_, steps)) = differences.between(value, other) {
                *common.entry(steps).or_default() += 1;
            }
        }
    }
    let mut common: Vec<(Steps, usize)> = common.into_iter().collect();
    common.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
    for (more, _) in common {
        steps = match steps {
            None => Some(more),
            Some(known) => Some(known.with(&more).unwrap_or(known)),
        };
    }
    let behind = |side: String, steps: Option<&str>| match steps {
        Some(steps) => format!("{side} | {steps}"),
        None => side,
    };
    let our_side = behind(main.template(ours), steps.as_ref().map(|steps| &steps.main[..]));
    let their_steps = steps.as_ref().map(|steps| &steps.reference[..]);
    let their_side = match &pair.reference[..] {
        [one] => behind(right[*one].template(theirs), their_steps),
        several => {
            let columns: Vec<usize> = several.iter().map(|&nth| right[nth].of).collect();
            behind(format!("any({})", run(&columns, theirs)), their_steps)
        }
    };
    let on = if our_side == their_side { our_side } else { format!("{our_side} = {their_side}") };
    SuggestedPart { on, values: pair.values, covered: pair.covered }
}

/// Columns as they are to be written: as a run where they stand side by side.
fn run(columns: &[usize], headers: &Headers) -> String {
    let name = |&column: &usize| quoted_header(&headers.address(column));
    let is_run = columns.windows(2).all(|pair| pair[1] == pair[0] + 1);
    match columns {
        [first, .., last] if is_run && columns.len() > 2 => {
            format!("{} .. {}", name(first), name(last))
        }
        _ => columns.iter().map(name).collect::<Vec<_>>().join(", "),
    }
}

/// What names a header of the reference: the main column, the step that makes it one, and the columns.
struct Named {
    template: String,
    name: String,
    columns: Vec<usize>,
}

/// Whether the values of a main column are headers of the reference.
fn naming(left: &[Column], theirs: &Headers, ours: &Headers) -> Option<Named> {
    let headers: Vec<&str> = theirs.iter().collect();
    for column in left.iter().filter(|column| column.piece.is_none()) {
        let values: HashSet<&String> = column.spellings[0].values().collect();
        if values.len() < 2 {
            continue;
        }
        for (step, cut) in [("", usize::MAX), (" | first 7", 7), (" | first 4", 4)] {
            let made = |value: &str| -> String { value.chars().take(cut).collect() };
            let named: Vec<usize> = values
                .iter()
                .filter_map(|value| headers.iter().position(|header| *header == made(value)))
                .collect();
            let mut columns = named.clone();
            columns.sort_unstable();
            columns.dedup();
            if columns.len() > 1 && named.len() * 10 >= values.len() * 8 {
                let header = quoted_header(&ours.address(column.of));
                let name = ours.name(column.of).to_owned();
                // Headers of the same form name columns too, though no row names them.
                let form = |header: &str| -> String {
                    header
                        .chars()
                        .map(|sign| if sign.is_ascii_digit() { '0' } else { sign })
                        .collect()
                };
                let first = form(headers[columns[0]]);
                let is_like = first.contains('0');
                columns
                    .extend((0..headers.len()).filter(|&at| is_like && form(headers[at]) == first));
                columns.sort_unstable();
                columns.dedup();
                return Some(Named { template: format!("{{{header}{step}}}"), name, columns });
            }
        }
    }
    None
}

/// The columns worth taking, as they are to be written: what is not in the key, varies, and is not in
/// the main table already.
fn take(
    naming: Option<&Named>,
    (right, theirs): (&[Column], &Headers),
    ours: &Headers,
    in_key: &[usize],
    best: Option<&Vec<Pair>>,
) -> Vec<String> {
    let named = naming.map_or(&[][..], |named| &named.columns);
    let mut all: Vec<String> = Vec::new();
    let is_worth = |column: &&Column| {
        let header = theirs.name(column.of);
        !in_key.contains(&column.of)
            && !named.contains(&column.of)
            && !column.distinct[0].is_empty()
            && !ours.iter().any(|own| own.eq_ignore_ascii_case(header))
    };
    for column in right.iter().filter(is_worth) {
        all.push(quoted_header(&theirs.address(column.of)));
    }
    if let Some(named) = naming {
        let name =
            format!("{} by {}", theirs.table().split('.').next().unwrap_or("Value"), named.name);
        all.push(format!("{} as {}", named.template, quoted_header(&name)));
    }
    let is_reverse = best.is_some_and(|best| best.iter().any(|pair| pair.reference.len() > 1));
    if is_reverse {
        all.push("@column as Column".to_owned());
    }
    if all.is_empty() {
        let others = right
            .iter()
            .filter(|column| !in_key.contains(&column.of) && !named.contains(&column.of));
        all.extend(others.map(|column| quoted_header(&theirs.address(column.of))));
    }
    if all.is_empty() {
        all.push("@row as Row".to_owned());
    }
    all
}

/// The columns of the reference that are the ends of ranges, as they stand among `right`: two dates
/// side by side, the first hardly ever behind the second.
fn bounds(right: &[Column]) -> Vec<(usize, usize)> {
    let is_date = |column: &Column| {
        column.piece.is_none() && matches!(column.look(), Look::Date | Look::Time)
    };
    let dates: Vec<usize> = (0..right.len()).filter(|&nth| is_date(&right[nth])).collect();
    let is_range = |pair: &[usize]| {
        let days = right[pair[0]].days.iter().zip(&right[pair[1]].days);
        let known: Vec<bool> = days.filter_map(|(from, to)| Some((*from)? <= (*to)?)).collect();
        let fit = known.iter().filter(|fits| **fits).count();
        known.len() > 1 && fit * 10 >= known.len() * 9
    };
    dates.windows(2).filter(|pair| is_range(pair)).map(|pair| (pair[0], pair[1])).collect()
}

/// Ways in which a date of the main table may lie in ranges of the reference.
fn ranges(
    (left, ours): (&[Column], &Headers),
    (right, theirs): (&[Column], &Headers),
    bounds: &[(usize, usize)],
    in_key: &[usize],
) -> Vec<String> {
    let name = |column: &Column, headers: &Headers| quoted_header(&headers.address(column.of));
    let mut all = Vec::new();
    for value in left {
        if value.piece.is_some() || !matches!(value.look(), Look::Date | Look::Time) {
            continue;
        }
        for (lower, upper) in bounds {
            let (lower, upper) = (&right[*lower], &right[*upper]);
            if in_key.contains(&lower.of) || in_key.contains(&upper.of) {
                continue;
            }
            let (from, to) = (name(lower, theirs), name(upper, theirs));
            all.push(format!("{} in {from} .. {to}", name(value, ours)));
        }
    }
    all
}
