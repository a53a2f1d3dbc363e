//! A piece of a table in any format, and what makes a block of it.

use gather_keys_core::table::{Before, Block, Parser};

use crate::Error;
use crate::columnar::{BatchFault, BatchParser, BatchPiece};
use crate::delimited::{Fault, TextParser};
use crate::json::{BadLine, LinesParser, LinesPiece};
use crate::sqlite::{NotText, ValuesParser, ValuesPiece};

/// A piece of a table.
#[derive(Debug)]
pub enum Piece {
    /// A piece of text.
    Text(Vec<u8>),
    /// Rows, and how many lines they take.
    Rows(Block, u64),
    /// Rows in typed columns.
    Batch(BatchPiece),
    /// Lines of JSON.
    Lines(LinesPiece),
    /// Values of a database.
    Values(ValuesPiece),
}

impl Default for Piece {
    fn default() -> Self {
        Self::Text(Vec::new())
    }
}

/// Makes blocks of the pieces of a table.
#[derive(Debug, Clone)]
pub enum TableParser {
    /// Of pieces of text.
    Text(TextParser),
    /// Of rows.
    Rows,
    /// Of rows in typed columns.
    Batches(BatchParser),
    /// Of lines of JSON of the table called so.
    Lines(LinesParser, String),
    /// Of values of a database.
    Values(ValuesParser),
}

/// What is wrong with a piece.
#[derive(Debug)]
pub enum PieceFault {
    /// With one of text.
    Text(Fault),
    /// With a line of JSON.
    Line(BadLine),
    /// With the rows of a batch.
    Batch(BatchFault),
    /// With a text of a database.
    NotText(NotText),
}

impl Parser for TableParser {
    type Piece = Piece;
    type Error = Error;
    type Fault = PieceFault;

    fn want(&mut self, columns: &[usize]) {
        match self {
            Self::Text(parser) => parser.want(columns),
            Self::Batches(parser) => parser.want(columns),
            Self::Lines(parser, _) => parser.want(columns),
            // Its reader asks for no others.
            Self::Rows | Self::Values(_) => {}
        }
    }

    fn parse(&self, piece: &mut Piece, block: &mut Block) -> std::result::Result<u64, PieceFault> {
        match (self, piece) {
            (Self::Text(parser), Piece::Text(text)) => {
                parser.parse(text, block).map_err(PieceFault::Text)
            }
            (Self::Lines(parser, _), Piece::Lines(lines)) => {
                parser.parse(lines, block).map_err(PieceFault::Line)
            }
            (_, Piece::Rows(rows, lines)) => {
                std::mem::swap(rows, block);
                Ok(*lines)
            }
            (Self::Batches(parser), Piece::Batch(batch)) => {
                parser.parse(batch, block).map_err(PieceFault::Batch)
            }
            (Self::Values(parser), Piece::Values(values)) => {
                parser.parse(values, block).map_err(PieceFault::NotText)
            }
            // Pieces are of the table that the parser is of.
            _ => Ok(0),
        }
    }

    fn error(&self, fault: PieceFault, before: Before) -> Error {
        match (self, fault) {
            (Self::Text(parser), PieceFault::Text(fault)) => parser.error(fault, before),
            (Self::Lines(_, name), PieceFault::Line(bad)) => bad.told(name),
            (Self::Batches(parser), PieceFault::Batch(fault)) => parser.error(fault, before),
            (Self::Values(parser), PieceFault::NotText(fault)) => parser.error(&fault, before.rows),
            // Faults are of the parser that found them.
            (_, PieceFault::NotText(_)) => Error::Unread {
                name: "table".to_owned(),
                said: "a text is not UTF-8".to_owned(),
                mend: "correct it",
            },
            (_, PieceFault::Text(fault)) => fault.of("table", before),
            (_, PieceFault::Line(bad)) => bad.told("table"),
            (_, PieceFault::Batch(fault)) => fault.of("table", before),
        }
    }
}
