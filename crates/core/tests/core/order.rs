//! Several threads at one table: results come in the order of the table, and of several errors the first
//! is reported.

use gather_keys_core::Error;
use gather_keys_core::enrich::EnrichmentBuilder;
use gather_keys_core::table::{
    Before, Block, Headers, OutputColumns, Parser, Renderer, Sink, Source,
};
use proptest::prelude::*;

/// Pieces of one row each, of which some can't be read or parsed.
struct Faulty {
    headers: Headers,
    pieces: usize,
    at: usize,
    unreadable: Option<usize>,
    malformed: Vec<usize>,
    before: Before,
}

struct FaultyParser {
    malformed: Vec<usize>,
}

fn wrong(table: &str, row: u64) -> Error {
    Error::TooManyRows { table: table.to_owned(), most: row }
}

impl Source for Faulty {
    type Error = Error;
    type Chunk = usize;
    type Parser = FaultyParser;

    fn headers(&self) -> &Headers {
        &self.headers
    }

    fn parser(&self) -> FaultyParser {
        FaultyParser { malformed: self.malformed.clone() }
    }

    fn read_chunk(&mut self, piece: &mut usize) -> Result<bool, Error> {
        *piece = self.at;
        self.at += 1;
        match self.unreadable {
            Some(at) if at == *piece => Err(wrong("read", 0)),
            _ => Ok(*piece < self.pieces),
        }
    }

    fn before(&self) -> Before {
        self.before
    }

    fn passed(&mut self, rows: u64, lines: u64) {
        self.before = Before { rows: self.before.rows + rows, lines: self.before.lines + lines };
    }
}

impl Parser for FaultyParser {
    type Chunk = usize;
    type Error = Error;
    type Fault = ();

    fn want(&mut self, _: &[usize]) {}

    fn parse(&self, piece: &mut usize, block: &mut Block) -> Result<u64, ()> {
        if self.malformed.contains(piece) {
            return Err(());
        }
        *block = Block::of_rows(1, &[[piece.to_string()]]).placed(1, 0);
        Ok(1)
    }

    fn error(&self, (): (), before: Before) -> Error {
        wrong("parse", before.rows)
    }
}

/// Keeps the rows with their numbers, and refuses one of them.
struct Refusing {
    refused: Option<u64>,
    rows: Vec<(u64, String)>,
}

struct Numbered;

impl Sink for Refusing {
    type Error = Error;
    type Renderer = Numbered;

    fn write_headers(&mut self, _: &OutputColumns) -> Result<(), Error> {
        Ok(())
    }

    fn renderer(&self, _: &OutputColumns) -> Numbered {
        Numbered
    }

    fn write(&mut self, rows: &mut Vec<String>) -> Result<(), Error> {
        for row in rows.drain(..) {
            let number = self.rows.len() as u64;
            if Some(number) == self.refused {
                return Err(wrong("write", number));
            }
            self.rows.push((number, row));
        }
        Ok(())
    }
}

impl Renderer for Numbered {
    type Rendered = Vec<String>;

    fn render(&self, main: &Block, rows: &[usize], _: &Block, rendered: &mut Vec<String>) {
        rendered.clear();
        rendered.extend(rows.iter().map(|&row| main.cell(row, 0).to_owned()));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn the_first_of_what_is_wrong_is_told(
        pieces in 0_usize..60,
        unreadable in prop::option::of(0_usize..60),
        malformed in prop::collection::vec(0_usize..60, 0..3),
        refused in prop::option::of(0_u64..60),
        threads in 1_usize..6,
    ) {
        let headers = Headers::new("main", ["A"]);
        let before = Before::default();
        let mut source =
            Faulty { headers, pieces, at: 0, unreadable, malformed: malformed.clone(), before };
        let mut sink = Refusing { refused, rows: Vec::new() };
        let mut enrichment = EnrichmentBuilder::new(&source.headers, [1, 2, 3, 4]).finish();
        let ran = enrichment.run(&mut source, &mut sink, None, threads);
        let mut want = Ok(pieces as u64);
        for piece in 0..=pieces {
            want = match piece {
                _ if unreadable == Some(piece) => Err(wrong("read", 0)),
                _ if piece == pieces => break,
                _ if malformed.contains(&piece) => Err(wrong("parse", piece as u64)),
                _ if refused == Some(piece as u64) => Err(wrong("write", piece as u64)),
                _ => continue,
            };
            break;
        }
        let upto = sink.rows.len();
        prop_assert_eq!(ran.map(|findings| findings.main_rows), want);
        let in_order = (0..upto).map(|piece| (piece as u64, piece.to_string()));
        prop_assert_eq!(sink.rows, in_order.collect::<Vec<_>>());
    }
}
