//! What was found: counts, and the rows that findings name.

use gather_keys_core::enrich::{Corrections, Resolved, RowOutput};
use gather_keys_core::findings::{
    Appended, Change, ChangedBy, ChangingRow, Corrected, Counted, CountedRow, Kind, LookupFindings,
    NotAppended, Recorder,
};
use gather_keys_core::lookup::{AliasFacts, AliasKeys, Lookup, ProbeBuffers, Seed, SomeRows};
use gather_keys_core::plan::ReferencePlan;
use gather_keys_core::receipt::KeysSeen;
use gather_keys_core::sql::{
    AliasQueries, CorrectionQueries, LookupQueries, NamedRows, RowName, Shown, StoredTable,
    is_answered,
};
use gather_keys_core::table::Block;
use postgres::fallible_iterator::FallibleIterator;

use super::{AT_ONCE, InDatabase, count_at, failed};
use crate::Result;

/// How much of what was found comes here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Most {
    /// How many main rows of each kind of finding.
    pub sampled: usize,
    /// How many rows of a reference, or keys that several of them hold, of each kind of finding.
    pub named: usize,
    /// How many keys that no reference row holds, so that their reasons can be found.
    pub unmatched: usize,
    /// How many rows of each reference, whether findings name them or not.
    pub rows: usize,
    /// How many matched keys, and which.
    pub shown: Shown,
}

/// A reference as it was asked.
#[derive(Debug)]
pub struct Answering<'a> {
    /// The plan.
    pub plan: &'a ReferencePlan,
    /// The table.
    pub table: &'a StoredTable,
    /// The plan with its columns found.
    pub found: Resolved,
    /// Its aliases, if there are any.
    pub aliases: Option<AliasKeys>,
}

impl InDatabase {
    /// What was found of a reference: its lookup, with those of its rows that findings name, what that adds, and the findings.
    ///
    /// # Errors
    /// [`Error::Server`](crate::Error::Server) when the server refuses or is gone, and those of
    /// [`ReferenceBuilder::finish`](gather_keys_core::lookup::ReferenceBuilder::finish).
    pub fn findings(
        &mut self,
        queries: &LookupQueries,
        Answering { plan, table, found, aliases }: Answering<'_>,
        seed: Seed,
        most: Most,
    ) -> Result<(Lookup, RowOutput, LookupFindings)> {
        let mut counted = self.count(queries, most)?;
        let updated = found.output.updates.iter().map(|one| one.column);
        for ((column, _), updated) in counted.updates.iter_mut().zip(updated) {
            *column = updated;
        }
        let mut block = Block::new(table.columns.len());
        let (mut some, mut line) = (SomeRows::default(), 1);
        let named = NamedRows {
            has_keyless: counted.rows[1] > 0,
            has_unused: counted.rows[0] > counted.asked[0],
            unused: &[],
            shown: most.shown,
        };
        self.reference_rows(queries, (most, named), |row, name, asked, by, cells| {
            let mut cells = queries.rows.reference_columns.iter().zip(cells).peekable();
            for column in 0..table.columns.len() {
                let cell = cells.next_if(|(used, _)| **used == column);
                block.push_cell(cell.map_or("", |(_, cell)| cell));
            }
            line += 1;
            block.push_line(line);
            // Rows without numbers come in the order of their places.
            let position = row.checked_sub(1).map_or(some.positions.len() as u32, |row| row as u32);
            some.positions.push(position);
            some.names.extend(name.map(String::into_boxed_str));
            counted.asked_rows.push((asked, by));
        })?;
        let mut builder = found.builder(plan, &table.headers, seed);
        builder.add(&block)?;
        drop(block);
        (some.rows, some.keys) = (counted.rows[0], counted.keys);
        let reference = builder.some_of(some).finish()?;
        let (mut lookup, output) = found.lookup(reference);
        if let Some((aliases, queries)) = aliases.zip(queries.aliases.as_ref()) {
            lookup = lookup.aliased_by(aliases, &self.alias_facts(queries)?);
        }
        let columns = queries.rows.columns.iter().max().map_or(0, |last| last + 1);
        let columns = columns.max(width_of(&lookup));
        let findings = counted.findings(&lookup, columns, most.sampled);
        Ok((lookup, output, findings))
    }

    /// What the server found out of aliases.
    fn alias_facts(&mut self, queries: &AliasQueries) -> Result<AliasFacts> {
        let mut facts = AliasFacts::default();
        if let Some(query) = &queries.whole {
            for row in self.query(query)? {
                let nth = count_at(&row, 0) as usize;
                facts.needless.extend(row.get::<_, bool>(1).then_some(nth));
                facts.there.extend(row.get::<_, bool>(2).then_some(nth));
            }
        }
        if let Some(query) = &queries.parts {
            facts.there.extend(self.query(query)?.iter().map(|row| count_at(row, 0) as usize));
        }
        let used = self.query(&queries.used)?;
        facts.used = used.iter().map(|row| (count_at(row, 0) as usize, count_at(row, 1))).collect();
        Ok(facts)
    }

    /// The keys that a receipt has marks of: unmatched keys of a reference, and keys that several of its rows hold.
    ///
    /// # Errors
    /// [`Error::Server`](crate::Error::Server) when the server refuses or is gone.
    pub fn marked_keys(&mut self, queries: &LookupQueries) -> Result<[KeysSeen; 2]> {
        let mut both = [KeysSeen::default(), KeysSeen::default()];
        let all = [&queries.marked.unmatched, &queries.marked.duplicate];
        for (seen, query) in both.iter_mut().zip(all) {
            for row in self.query(query)? {
                let parts: Vec<&str> = (0..row.len())
                    .map(|nth| row.get::<_, Option<&str>>(nth).unwrap_or_default())
                    .collect();
                self.received += parts.iter().map(|part| part.len() as u64).sum::<u64>();
                seen.see(parts.iter().copied());
            }
        }
        Ok(both)
    }

    /// What was counted for a reference, with the first main rows of each trouble.
    fn count(&mut self, queries: &LookupQueries, most: Most) -> Result<Counted> {
        let rows = self.query(&queries.outcomes)?;
        let outcomes = rows.iter().map(|row| (row.get(0), row.get(1), count_at(row, 2)));
        let outcomes = outcomes.collect();
        let reference = self.one(&queries.reference)?;
        let repeated = self.one(&queries.repeated)?;
        let asked = match &queries.asked {
            Some(query) => {
                let asked = self.one(query)?;
                [0, 1].map(|nth| count_at(&asked, nth))
            }
            None => {
                let answered = rows.iter().filter(|row| is_answered(row.get(0)));
                [3, 4].map(|nth| answered.clone().map(|row| count_at(row, nth)).sum())
            }
        };
        let mut updates = Vec::new();
        if let Some(query) = &queries.updates {
            let row = self.one(query)?;
            let counts: Vec<u64> = (0..row.len()).map(|nth| count_at(&row, nth)).collect();
            let (each, _) = counts.as_chunks::<5>();
            updates.extend(each.iter().map(|counts| (0, *counts)));
        }
        let troubles = self.main_rows(&queries.rows.troubles(most.sampled), queries)?;
        let unmatched = match most.unmatched {
            0 => Vec::new(),
            most => self.main_rows(&queries.rows.unmatched(most), queries)?,
        };
        let appended = match &queries.appended {
            Some(query) => {
                let row = self.one(query)?;
                let [rows, blank_key, malformed, ambiguous, inseparable, lost] =
                    [0, 1, 2, 3, 4, 5].map(|nth| count_at(&row, nth));
                let not = NotAppended { blank_key, malformed, ambiguous, inseparable };
                Some(Appended { rows, not, lost })
            }
            None => None,
        };
        Ok(Counted {
            appended,
            outcomes,
            rows: [0, 1, 2].map(|nth| count_at(&reference, nth)),
            keys: count_at(&reference, 3),
            ranges: queries.has_ranges.then(|| count_at(&reference, 4)),
            repeated: [0, 1, 2].map(|nth| count_at(&repeated, nth)),
            asked,
            updates,
            counts_copies: queries.counts_copies,
            troubles,
            unmatched,
            asked_rows: Vec::new(),
        })
    }

    /// The main rows that a query gives.
    fn main_rows(&mut self, query: &str, queries: &LookupQueries) -> Result<Vec<CountedRow>> {
        let mut all = Vec::new();
        self.each_row(query, queries, |row, _| {
            all.push(row);
            Ok(())
        })?;
        Ok(all)
    }

    /// Passes the main rows that a query gives on, each with what is in a column after its cells, if there is one.
    fn each_row(
        &mut self,
        query: &str,
        queries: &LookupQueries,
        mut take: impl FnMut(CountedRow, Option<&str>) -> Result<()>,
    ) -> Result<()> {
        let named = |first: &str| name_of(&queries.rows.name, first);
        let none: [i32; 0] = [];
        let rows = self.client.query_raw(query, none);
        let mut rows = rows.map_err(|error| failed(&self.name, &error))?;
        let width = queries.rows.columns.len();
        while let Some(row) = rows.next().map_err(|error| failed(&self.name, &error))? {
            let cells = queries.rows.columns.iter().enumerate().map(|(at, &column)| {
                let cell: Option<String> = row.get(4 + at);
                (column, cell.unwrap_or_default())
            });
            let cells: Vec<(usize, String)> = cells.collect();
            self.received += cells.iter().map(|(_, cell)| cell.len() as u64).sum::<u64>();
            let name: Option<&str> = row.get(3);
            let after = if row.len() > 4 + width && row.columns()[4 + width].name() == "key_first" {
                row.get::<_, Option<&str>>(4 + width)
            } else {
                None
            };
            let counted = CountedRow {
                outcome: row.get(0),
                miss: row.get(1),
                rows: count_at(&row, 2),
                row: 0,
                name: Some(main_name(&queries.rows.name, name)),
                cells,
            };
            take(counted, after.map(named).as_deref())?;
        }
        Ok(())
    }

    /// Hands the first main rows of each kind of finding of a lookup, by its number, to a recorder, up to `most` of each.
    ///
    /// # Errors
    /// [`Error::Server`](crate::Error::Server) when the server refuses or is gone, and those of the recorder.
    pub fn record(
        &mut self,
        queries: &LookupQueries,
        (nth, lookup): (usize, &Lookup),
        most: usize,
        recorder: &mut dyn Recorder<Error = crate::Error>,
    ) -> Result<()> {
        let columns = width_of(lookup);
        let of = (nth, lookup, columns);
        let mut buffers = ProbeBuffers::default();
        self.each_row(&queries.rows.listed(most), queries, |row, _| {
            row.record(of, None, &mut buffers, recorder)
        })?;
        self.each_row(&queries.rows.repeated(most), queries, |row, earlier| {
            row.record(of, Some(earlier.unwrap_or_default()), &mut buffers, recorder)
        })
    }

    /// Hands some matched keys of a lookup, by its number, to a recorder, each as the first main row that asks for it.
    ///
    /// # Errors
    /// [`Error::Server`](crate::Error::Server) when the server refuses or is gone, and those of the recorder.
    pub fn record_matched(
        &mut self,
        queries: &LookupQueries,
        (nth, lookup): (usize, &Lookup),
        shown: Shown,
        recorder: &mut dyn Recorder<Error = crate::Error>,
    ) -> Result<()> {
        let columns = width_of(lookup);
        let mut buffers = ProbeBuffers::default();
        self.each_row(&queries.rows.matched(shown), queries, |mut row, _| {
            // One that a rule has chosen is matched too.
            Kind::Matched.label().clone_into(&mut row.outcome);
            row.record((nth, lookup, columns), None, &mut buffers, recorder)
        })
    }

    /// Hands the first cells that a lookup, by its number, changes to a recorder, up to `most`. The enriched table has
    /// `columns`.
    ///
    /// # Errors
    /// [`Error::Server`](crate::Error::Server) when the server refuses or is gone, and those of the recorder.
    pub fn record_changes(
        &mut self,
        queries: &LookupQueries,
        (nth, lookup): (usize, &Lookup),
        most: usize,
        recorder: &mut dyn Recorder<Error = crate::Error>,
    ) -> Result<()> {
        let Some(query) = queries.changes(most) else { return Ok(()) };
        let none: [i32; 0] = [];
        let rows = self.client.query_raw(&query, none);
        let mut rows = rows.map_err(|error| failed(&self.name, &error))?;
        // What changes is said by the names of rows, not by their cells.
        let mut block = Block::new(0);
        block.push_line(0);
        while let Some(row) = rows.next().map_err(|error| failed(&self.name, &error))? {
            let text = |nth: usize| row.get::<_, Option<&str>>(nth);
            let name = main_name(&queries.rows.name, text(0));
            let by_name = text(4).map(|name| name_of(&queries.rows.reference_name, name));
            let (before, after) = (text(2).unwrap_or_default(), text(3).unwrap_or_default());
            self.received += (before.len() + after.len()) as u64;
            recorder.changed(&Change {
                by: ChangedBy::Lookup {
                    nth,
                    lookup,
                    row: by_name.as_deref().or(text(5)).map(ChangingRow::Named),
                },
                row: gather_keys_core::table::Row::of(&block, 0),
                name: Some(&name),
                column: count_at(&row, 1) as usize,
                before,
                after,
            })?;
        }
        Ok(())
    }

    /// What became of each correction.
    ///
    /// # Errors
    /// [`Error::Server`](crate::Error::Server) when the server refuses or is gone.
    pub fn corrected(
        &mut self,
        queries: &CorrectionQueries,
        corrections: &Corrections,
    ) -> Result<Vec<Corrected>> {
        let counts = self.query(&queries.counts)?;
        let counts = counts
            .iter()
            .map(|row| (count_at(row, 0) as usize, [1, 2].map(|nth| count_at(row, nth))));
        Ok(corrections.counted(counts))
    }

    /// Hands the first cells that corrections change to a recorder, up to `most`. `name` is what names a main row.
    ///
    /// # Errors
    /// [`Error::Server`](crate::Error::Server) when the server refuses or is gone, and those of the recorder.
    pub fn record_corrected(
        &mut self,
        (queries, corrections): (&CorrectionQueries, &Corrections),
        name: &RowName,
        most: usize,
        recorder: &mut dyn Recorder<Error = crate::Error>,
    ) -> Result<()> {
        let mut block = Block::new(0);
        block.push_line(0);
        for row in self.query(&queries.changes(most))? {
            let text = |nth: usize| row.get::<_, Option<&str>>(nth).unwrap_or_default();
            let (before, after) = (text(2), text(3));
            self.received += (before.len() + after.len()) as u64;
            recorder.changed(&Change {
                by: ChangedBy::Correction(corrections.row(count_at(&row, 4) as usize)),
                row: gather_keys_core::table::Row::of(&block, 0),
                name: Some(&main_name(name, row.get(0))),
                column: count_at(&row, 1) as usize,
                before,
                after,
            })?;
        }
        Ok(())
    }

    /// Passes the rows of a reference that findings name on: the number of each, or 0, its name, how often it is asked for, by
    /// which of the searched columns, and its cells.
    fn reference_rows(
        &mut self,
        queries: &LookupQueries,
        (most, named): (Most, NamedRows<'_>),
        mut take: impl FnMut(u64, Option<String>, u64, Vec<usize>, &[String]),
    ) -> Result<()> {
        let unused = match queries.rows.unused(most.named).filter(|_| named.has_unused) {
            Some(query) => self.query(&query)?,
            None => Vec::new(),
        };
        let unused: Vec<u64> = unused.iter().map(|row| count_at(row, 0)).collect();
        let named = NamedRows { unused: &unused, ..named };
        let query = queries.rows.reference(&named, most.named, most.rows);
        self.execute(&format!("declare rows_named no scroll cursor without hold for {query}"))?;
        let mut cells = Vec::new();
        loop {
            let rows = self.query(&format!("fetch {AT_ONCE} from rows_named"))?;
            for row in &rows {
                cells.clear();
                cells.extend((4..row.len()).map(|nth| row.get::<_, String>(nth)));
                self.received += cells.iter().map(|cell| cell.len() as u64).sum::<u64>();
                let by: Option<&str> = row.get(2);
                let by = by.unwrap_or_default().trim_matches(['{', '}']).split(',');
                let by = by.filter_map(|place| place.parse::<usize>().ok()?.checked_sub(1));
                let name = row.get::<_, Option<&str>>(3).map(|name| match name {
                    "" => String::new(),
                    name => name_of(&queries.rows.reference_name, name),
                });
                take(count_at(row, 0), name, count_at(row, 1), by.collect(), &cells);
            }
            if rows.len() < AT_ONCE {
                break;
            }
        }
        self.execute("close rows_named").map(drop)
    }
}

/// What a row is called.
fn name_of(kind: &RowName, name: &str) -> String {
    match kind {
        RowName::Key(header) => format!("{header} {name}"),
        RowName::Place => format!("row at {name}"),
        RowName::None => "a row".to_owned(),
    }
}

/// What a row of the enriched table is called.
fn main_name(kind: &RowName, name: Option<&str>) -> String {
    match (kind, name) {
        (RowName::Key(_) | RowName::Place, None) => "a new row".to_owned(),
        (kind, name) => name_of(kind, name.unwrap_or_default()),
    }
}

/// How many columns a main row needs so that a lookup finds all that it looks at.
fn width_of(lookup: &Lookup) -> usize {
    lookup.columns().into_iter().max().map_or(0, |last| last + 1)
}
