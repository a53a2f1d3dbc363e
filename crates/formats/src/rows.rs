//! Tables that come row by row, as all but delimited text do.

use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread;

use gather_keys_core::table::{Block, CellKind, Headers};

use crate::guard::guarded;
use crate::{Error, Result};

/// How many rows are read at a time.
pub(crate) const AT_ONCE: usize = 1024;

/// How many bytes of text are enough for a block, however few rows they are.
pub(crate) const ENOUGH_TEXT: usize = 4 << 20;

/// How many blocks are read ahead.
pub(crate) const AHEAD: usize = 4;

/// A table that is read row by row.
pub(crate) trait ReadRows {
    /// Its headers.
    fn headers(&self) -> &Headers;

    /// The line that they are on, from 1; 0 when they are on none.
    fn header_line(&self) -> u64;

    /// Replaces a block with the next rows, and returns how many lines they take; `None` when there are
    /// none left. The first line after the last block counts as 0.
    ///
    /// # Errors
    /// When the table can't be read.
    fn read_rows(&mut self, block: &mut Block) -> Result<Option<u64>>;
}

/// A table that is read by a thread of its own, row after row, each on a line.
pub(crate) struct Streamed {
    headers: Headers,
    rows: Receiver<Result<Block>>,
    /// Takes used blocks, to be filled again.
    used: SyncSender<Block>,
}

/// The receiver of the headers and rows from a reading thread.
pub(crate) struct Hand {
    tell: SyncSender<Result<Headers>>,
    send: SyncSender<Result<Block>>,
    has_told: bool,
    block: Block,
    used: Receiver<Block>,
}

/// Why a table is not read on.
pub(crate) enum End {
    /// Nobody wants more rows.
    Unwanted,
    /// A sentence that can't occur.
    Failed(Error),
}

impl From<Error> for End {
    fn from(error: Error) -> Self {
        Self::Failed(error)
    }
}

impl Streamed {
    /// Begins to read the table called `name` by `read`, which passes on the headers first and then every
    /// row.
    ///
    /// # Errors
    /// The errors of `read` up to the headers.
    pub(crate) fn begin(
        name: &str,
        read: impl FnOnce(&mut Hand) -> std::result::Result<(), End> + Send + 'static,
    ) -> Result<Self> {
        let (send, rows) = sync_channel(AHEAD);
        let (tell, reported) = sync_channel(1);
        let (free, used) = sync_channel(2 * AHEAD);
        let damaged = {
            let name = name.to_owned();
            move || Error::Unread {
                name,
                said: "its content is damaged".to_owned(),
                fix: "get the file again",
            }
        };
        let gone = damaged.clone();
        let guarded_name = name.to_owned();
        let mut hand = Hand { tell, send, has_told: false, block: Block::default(), used };
        let work = move || {
            // A reader that fails on what it is given must not end the program.
            let ended = guarded(&guarded_name, || {
                read(&mut hand)?;
                hand.hand_over()
            });
            let failed = match ended {
                Some(Ok(()) | Err(End::Unwanted)) => return,
                Some(Err(End::Failed(error))) => error,
                None => damaged(),
            };
            // Nobody needs to know if nobody waits.
            if hand.has_told {
                let _ = hand.send.send(Err(failed));
            } else {
                let _ = hand.tell.send(Err(failed));
            }
        };
        let began = thread::Builder::new().name("table".to_owned()).spawn(work);
        began.map_err(|cause| Error::Read { name: name.to_owned(), cause })?;
        let headers = reported.recv().unwrap_or_else(|_| Err(gone()))?;
        Ok(Self { headers, rows, used: free })
    }
}

impl Hand {
    /// Tells the headers.
    pub(crate) fn headers(&mut self, headers: Headers) -> std::result::Result<(), End> {
        self.block = Block::new(headers.len());
        self.has_told = true;
        self.tell.send(Ok(headers)).map_err(|_| End::Unwanted)
    }

    /// Takes the next cell.
    pub(crate) fn cell(&mut self, cell: &str, kind: CellKind) {
        self.block.push_cell_of(cell, kind);
    }

    /// Takes a block of rows, after earlier ones.
    pub(crate) fn block(&mut self, block: Block) -> std::result::Result<(), End> {
        self.hand_over()?;
        self.send.send(Ok(block)).map_err(|_| End::Unwanted)
    }

    /// Ends a row, once all its cells are taken.
    pub(crate) fn end_row(&mut self) -> std::result::Result<(), End> {
        let rows = self.block.rows();
        self.block.push_line(rows as u64 - 1);
        let is_full = rows == AT_ONCE || self.block.text_length() > ENOUGH_TEXT;
        if is_full { self.hand_over() } else { Ok(()) }
    }

    fn hand_over(&mut self) -> std::result::Result<(), End> {
        if self.block.rows() == 0 {
            return Ok(());
        }
        let mut next = self.used.try_recv().unwrap_or_default();
        next.reset(self.block.columns());
        let block = std::mem::replace(&mut self.block, next);
        self.send.send(Ok(block)).map_err(|_| End::Unwanted)
    }
}

impl ReadRows for Streamed {
    fn headers(&self) -> &Headers {
        &self.headers
    }

    // Rows without lines of their own are reported as if each were on the line after the headers.
    fn header_line(&self) -> u64 {
        1
    }

    fn read_rows(&mut self, block: &mut Block) -> Result<Option<u64>> {
        match self.rows.recv() {
            Ok(rows) => {
                // A block that finds no room is dropped.
                let _ = self.used.try_send(std::mem::replace(block, rows?));
                Ok(Some(block.rows() as u64))
            }
            Err(_) => Ok(None),
        }
    }
}
