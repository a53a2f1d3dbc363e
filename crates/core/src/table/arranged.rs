//! A source whose columns are in the order of another table's.

use super::{Before, Block, Headers, KeptColumns, Parser, Source, ascending};

/// A source with its columns put in another order.
#[derive(Debug)]
pub struct Arranged<'s, S: ?Sized> {
    source: &'s mut S,
    headers: Headers,
    /// For each column, which of the source's it is; empty when they are in that order already.
    order: Vec<usize>,
}

/// The headers of two tables that should have the same ones.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Differing {
    /// The headers that only the first table has.
    pub missing: Vec<String>,
    /// The headers that only the second table has.
    pub surplus: Vec<String>,
}

impl<'s, S: Source + ?Sized> Arranged<'s, S> {
    /// Puts the columns of a source in the order of `like`.
    ///
    /// # Errors
    /// [`Differing`] when the source has other headers.
    pub fn like(like: &Headers, source: &'s mut S) -> Result<Self, Differing> {
        let addresses = |headers: &Headers| -> Vec<String> {
            (0..headers.len()).map(|column| headers.address(column)).collect()
        };
        let (ours, theirs) = (addresses(like), addresses(source.headers()));
        let only = |these: &[String], those: &[String]| -> Vec<String> {
            these.iter().filter(|header| !those.contains(header)).cloned().collect()
        };
        let (missing, surplus) = (only(&ours, &theirs), only(&theirs, &ours));
        if !missing.is_empty() || !surplus.is_empty() {
            return Err(Differing { missing, surplus });
        }
        let place = |header| theirs.iter().position(|other| other == header);
        let order: Vec<usize> = ours.iter().filter_map(place).collect();
        let in_order = order.iter().enumerate().all(|(at, &from)| at == from);
        let order = if in_order { Vec::new() } else { order };
        let headers = Headers::new(source.headers().table(), like.iter());
        Ok(Self { source, headers, order })
    }
}

/// Parses like the source, and then puts the columns in order.
#[derive(Debug, Clone)]
pub struct ArrangedParser<P> {
    parser: P,
    order: Vec<usize>,
    /// The columns that will be looked at, ascending, and how blocks hold them.
    wanted: Vec<usize>,
    kept: KeptColumns,
}

impl<S: Source + ?Sized> Source for Arranged<'_, S> {
    type Error = S::Error;
    type Chunk = S::Chunk;
    type Parser = ArrangedParser<S::Parser>;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn want(&mut self, columns: &[usize]) {
        let place = |&column: &usize| self.order.get(column).copied().unwrap_or(column);
        let columns: Vec<usize> = columns.iter().map(place).collect();
        self.source.want(&columns);
    }

    fn parser(&self) -> Self::Parser {
        let columns = self.headers.len();
        ArrangedParser {
            parser: self.source.parser(),
            order: self.order.clone(),
            wanted: (0..columns).collect(),
            kept: KeptColumns::all(columns),
        }
    }

    fn read_chunk(&mut self, piece: &mut S::Chunk) -> Result<bool, S::Error> {
        self.source.read_chunk(piece)
    }

    fn passed(&mut self, rows: u64, lines: u64) {
        self.source.passed(rows, lines);
    }

    fn before(&self) -> Before {
        self.source.before()
    }
}

impl<P: Parser> Parser for ArrangedParser<P> {
    type Chunk = P::Chunk;
    type Error = P::Error;
    type Fault = P::Fault;

    fn want(&mut self, columns: &[usize]) {
        let place = |&column: &usize| self.order.get(column).copied().unwrap_or(column);
        self.parser.want(&columns.iter().map(place).collect::<Vec<_>>());
        self.wanted = ascending(columns);
        self.kept = KeptColumns::only(&self.wanted, self.order.len());
    }

    fn parse(&self, piece: &mut P::Chunk, block: &mut Block) -> Result<u64, P::Fault> {
        if self.order.is_empty() {
            return self.parser.parse(piece, block);
        }
        let mut read = Block::default();
        let lines = self.parser.parse(piece, &mut read)?;
        block.reset_to(self.kept.clone());
        for row in 0..read.rows() {
            for &column in &self.wanted {
                let from = self.order[column];
                block.push_cell_of(read.cell(row, from), read.kind(row, from));
            }
            block.push_line(read.line(row));
        }
        block.place(1, 0);
        Ok(lines)
    }

    fn error(&self, fault: P::Fault, before: Before) -> P::Error {
        self.parser.error(fault, before)
    }
}
