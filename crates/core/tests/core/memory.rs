//! Tables in memory, and a sink that keeps what it is given.

use gather_keys_core::Error;
use gather_keys_core::enrich::{Enrichment, Side, resolve};
use gather_keys_core::lookup::{Lookup, ReferenceBuilder};
use gather_keys_core::plan::ReferencePlan;
use gather_keys_core::table::{AsRead, Block, Headers, Sink, Source};

pub(crate) type Row = Vec<String>;

/// A table in memory, given out in blocks of a few rows.
pub(crate) struct Memory {
    pub(crate) headers: Headers,
    rows: Vec<Row>,
    at: usize,
    block_rows: usize,
}

impl Memory {
    pub(crate) fn new(name: &str, headers: &[&str], rows: &[Row], block_rows: usize) -> Self {
        let headers = Headers::new(name, headers.iter().copied());
        Self { headers, rows: rows.to_vec(), at: 0, block_rows }
    }
}

impl Source for Memory {
    type Error = Error;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn read_block(&mut self, block: &mut Block) -> Result<bool, Error> {
        let rows = &self.rows[self.at..self.rows.len().min(self.at + self.block_rows)];
        let first = self.at as u64 + 1;
        self.at += rows.len();
        let lines = (0..rows.len() as u64).map(|nth| first + nth + 1).collect();
        *block = Block::of_rows(self.headers.len(), rows).placed(first, lines, AsRead::default());
        Ok(!rows.is_empty())
    }
}

/// Keeps main cells and added cells of every row.
#[derive(Default)]
pub(crate) struct Kept(pub(crate) Vec<Row>);

impl Sink for Kept {
    type Error = Error;

    fn write_headers(&mut self, _: &Headers, _: &[String]) -> Result<(), Error> {
        Ok(())
    }

    fn write_block(&mut self, main: &Block, rows: &[usize], added: &Block) -> Result<(), Error> {
        for (nth, &row) in rows.iter().enumerate() {
            let own = (0..main.columns()).map(|column| main.cell(row, column));
            let taken = (0..added.columns()).map(|column| added.cell(nth, column));
            self.0.push(own.chain(taken).map(str::to_owned).collect());
        }
        Ok(())
    }
}

/// The enrichment of a plan with one reference.
pub(crate) fn enrichment(
    plan: &ReferencePlan,
    main: &Memory,
    mut reference: Memory,
) -> Result<Enrichment, Error> {
    let side = |headers| Side { headers, blanks: &[] };
    let found = resolve(plan, side(&main.headers), side(&reference.headers))?;
    let mut builder = ReferenceBuilder::new(
        &plan.name,
        &reference.headers,
        found.reference_keys,
        found.looked_in,
        found.taken,
        [1, 2, 3, 4],
    )
    .resolving(found.rule, found.rank)
    .matching_blanks(plan.match_blanks)
    .by_position(found.by_position);
    if let Some(bounds) = found.bounds {
        builder = builder.ranged(bounds, found.reach);
    }
    builder.read::<Error>(&mut reference)?;
    let lookup = Lookup::new(found.main_key, found.on, builder.finish()?);
    let lookup = lookup.within(found.within).naming(found.naming);
    Ok(Enrichment::new(vec![(lookup, found.taking)], &main.headers, found.names))
}

/// Rows from texts.
pub(crate) fn rows(cells: &[&[&str]]) -> Vec<Row> {
    cells.iter().map(|row| row.iter().map(|&cell| cell.to_owned()).collect()).collect()
}
