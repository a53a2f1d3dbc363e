//! Tables in memory, and a sink that keeps what it is given.

use gather_keys_core::Error;
use gather_keys_core::enrich::{Enrichment, EnrichmentBuilder, Resolved, RowOutput};
use gather_keys_core::lookup::{Lookup, ReferenceBuilder};
use gather_keys_core::plan::ReferencePlan;
use gather_keys_core::table::{
    Arranged, Before, Block, CellKind, Headers, OutputCell, OutputColumns, Parser, PassThrough,
    RawColumns, RawForm, RawRow, Renderer, Sink, Source,
};

pub(crate) type Row = Vec<String>;

/// A table in memory, given out in blocks of a few rows.
pub(crate) struct Memory {
    pub(crate) headers: Headers,
    rows: Vec<Row>,
    at: usize,
    passed: u64,
    block_rows: usize,
    kinds: Option<fn(&str) -> CellKind>,
}

impl Memory {
    pub(crate) fn new(name: &str, headers: &[&str], rows: &[Row], block_rows: usize) -> Self {
        let headers = Headers::new(name, headers.iter().copied());
        Self { headers, rows: rows.to_vec(), at: 0, passed: 0, block_rows, kinds: None }
    }

    /// The same with a kind for each cell, by its text.
    pub(crate) fn saying(self, kinds: fn(&str) -> CellKind) -> Self {
        Self { kinds: Some(kinds), ..self }
    }
}

impl Memory {
    /// The same table, to be read once more.
    pub(crate) fn again(&self) -> Self {
        Self { headers: self.headers.clone(), rows: self.rows.clone(), at: 0, passed: 0, ..*self }
    }
}

impl Source for Memory {
    type Error = Error;
    type Chunk = Block;
    type Parser = Whole;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn parser(&self) -> Whole {
        Whole
    }

    fn read_chunk(&mut self, piece: &mut Block) -> Result<bool, Error> {
        let rows = &self.rows[self.at..self.rows.len().min(self.at + self.block_rows)];
        self.at += rows.len();
        *piece = Block::of_rows(self.headers.len(), rows).placed(1, 0);
        if let Some(kinds) = self.kinds {
            piece.reset(self.headers.len());
            for (line, row) in (0..).zip(rows) {
                for cell in row {
                    piece.push_cell_of(cell, kinds(cell));
                }
                piece.push_line(line);
            }
        }
        Ok(!rows.is_empty())
    }

    fn before(&self) -> Before {
        // The headers are on the first line.
        Before { rows: self.passed, lines: self.passed + 1 }
    }

    fn passed(&mut self, rows: u64, _: u64) {
        self.passed += rows;
    }
}

/// Pieces that are blocks already.
pub(crate) struct Whole;

impl Parser for Whole {
    type Chunk = Block;
    type Error = Error;
    type Fault = Error;

    fn want(&mut self, _: &[usize]) {}

    fn parse(&self, piece: &mut Block, block: &mut Block) -> Result<u64, Error> {
        std::mem::swap(piece, block);
        Ok(block.rows() as u64)
    }

    fn error(&self, fault: Error, _: Before) -> Error {
        fault
    }
}

/// Keeps main cells and added cells of every row.
#[derive(Default)]
pub(crate) struct Kept(pub(crate) Vec<Row>);

impl Sink for Kept {
    type Error = Error;
    type Renderer = Cells;

    fn write_headers(&mut self, _: &OutputColumns) -> Result<(), Error> {
        Ok(())
    }

    fn renderer(&self, columns: &OutputColumns) -> Cells {
        Cells(columns.clone())
    }

    fn write(&mut self, rendered: &mut Vec<Row>) -> Result<(), Error> {
        self.0.append(rendered);
        Ok(())
    }
}

/// Makes rows of their cells.
pub(crate) struct Cells(OutputColumns);

impl Renderer for Cells {
    type Rendered = Vec<Row>;

    fn render(&self, main: &Block, rows: &[usize], added: &Block, rendered: &mut Vec<Row>) {
        rendered.clear();
        for (nth, &row) in rows.iter().enumerate() {
            let cells = self.0.cells().iter().map(|cell| cell.of((main, row), (added, nth)).0);
            rendered.push(cells.map(str::to_owned).collect());
        }
    }

    fn pass_through(&self) -> Option<(RawForm, &dyn PassThrough<Vec<Row>>)> {
        Some((raw_form()?, self))
    }
}

impl PassThrough<Vec<Row>> for Cells {
    fn render_pass_through(
        &self,
        main: &Block,
        beside: &[RawColumns<'_>],
        rendered: &mut Vec<Row>,
    ) {
        rendered.clear();
        let mut beside: Vec<_> = beside.iter().map(|one| one.rows()).collect();
        for row in 0..main.rows() {
            let added: Vec<RawRow<'_>> = beside.iter_mut().map(|one| one.next().unwrap()).collect();
            for one in &added {
                let RawRow::Raw(cells) = one else { continue };
                let (text, length) = cells.all();
                let whole = std::str::from_utf8(&text[..length]).unwrap();
                let one_by_one = (0..one.columns()).map(|nth| one.cell(nth));
                assert!(whole.split(BEFORE).skip(1).eq(one_by_one));
            }
            let cells = |one: &RawRow<'_>| -> Row {
                (0..one.columns()).map(|nth| one.cell(nth).to_owned()).collect()
            };
            let added: Row = added.iter().flat_map(cells).collect();
            let cell = |cell: &OutputCell| match *cell {
                OutputCell::Own(column) => main.cell(row, column).to_owned(),
                OutputCell::Over { place, .. } | OutputCell::Added(place) => added[place].clone(),
            };
            rendered.push(self.0.cells().iter().map(cell).collect());
        }
    }
}

/// The byte before each cell that is passed through.
const BEFORE: char = '|';

/// How [`Kept`] writes cells: some that tests have in many places are special.
pub(crate) fn raw_form() -> Option<RawForm> {
    RawForm::new(BEFORE as u8, *b"|a7\"")
}

/// The enrichment of a plan with one reference.
pub(crate) fn enrichment(
    plan: &ReferencePlan,
    main: &Memory,
    reference: Memory,
    threads: usize,
) -> Result<Enrichment, Error> {
    enrichments(vec![(plan, vec![reference])], main, threads)
}

/// The enrichment of several plans, each with the tables that its reference is read from.
pub(crate) fn enrichments(
    plans: Vec<(&ReferencePlan, Vec<Memory>)>,
    main: &Memory,
    threads: usize,
) -> Result<Enrichment, Error> {
    enrichments_by(plans, main, threads, |_, _, builder| builder)
}

/// The same with references that are built as `adapt` has it, which is reported those before each.
pub(crate) fn enrichments_by(
    plans: Vec<(&ReferencePlan, Vec<Memory>)>,
    main: &Memory,
    threads: usize,
    adapt: impl Fn(&[(Lookup, RowOutput)], &Resolved, ReferenceBuilder) -> ReferenceBuilder,
) -> Result<Enrichment, Error> {
    let mut enrichment = EnrichmentBuilder::new(&main.headers, [1, 2, 3, 4]);
    for (plan, mut tables) in plans {
        let headers = tables[0].headers.clone();
        let found = enrichment.resolve(plan, &headers, &[])?;
        let raw_form = raw_form().filter(|_| found.passes_through(main.headers.len()));
        let builder = found.builder(plan, &headers, [1, 2, 3, 4]).raw_form(raw_form);
        let mut builder = adapt(enrichment.lookups(), &found, builder);
        for table in &mut tables {
            builder.read(&mut Arranged::like(&headers, table).unwrap(), threads)?;
        }
        let (lookup, output) = found.lookup(builder.finish()?);
        enrichment.add(lookup, output);
    }
    Ok(enrichment.finish())
}

/// Rows from texts.
pub(crate) fn rows(cells: &[&[&str]]) -> Vec<Row> {
    cells.iter().map(|row| row.iter().map(|&cell| cell.to_owned()).collect()).collect()
}
