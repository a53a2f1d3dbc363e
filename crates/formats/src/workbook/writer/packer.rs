//! Packing the rows of a worksheet, on threads of its own, in the order in which they came.

use std::collections::VecDeque;
use std::io;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};

use super::packed_part::{PackedPart, PackedPiece};
use super::rows::SheetRows;

/// How many pieces wait for each thread.
const WAITING: usize = 2;

/// Rows that are packed, and the buffers that are free again.
type Packed = io::Result<(PackedPiece, SheetRows)>;

/// Rows to be packed, from a line on.
struct Job {
    rows: SheetRows,
    first: u64,
    /// A buffer for the piece.
    bytes: Vec<u8>,
    done: SyncSender<Packed>,
}

/// Packs rows into a part.
pub(super) struct Packer {
    part: PackedPart,
    /// The line of the next row.
    line: u64,
    columns: Arc<[String]>,
    threads: Vec<JoinHandle<()>>,
    /// Takes rows to the threads; nothing while there are none.
    jobs: Option<SyncSender<Job>>,
    /// Pieces on their way, in order.
    waiting: VecDeque<Receiver<Packed>>,
    free: Vec<(Vec<u8>, SheetRows)>,
    /// The text of a piece, where there are no threads.
    text: Vec<u8>,
}

impl Packer {
    /// Packs rows into a part, from a line on, on up to `threads` threads; `columns` are the letters of the columns.
    pub(super) fn new(part: PackedPart, line: u64, columns: Vec<String>, threads: usize) -> Self {
        let columns: Arc<[String]> = columns.into();
        let (send, jobs) = sync_channel::<Job>(WAITING * threads);
        let jobs = Arc::new(Mutex::new(jobs));
        let begin = |_| {
            let (jobs, columns) = (jobs.clone(), columns.clone());
            let work = move || {
                let mut text = Vec::new();
                loop {
                    let next = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
                    let Ok(Job { rows, first, bytes, done }) = next else { return };
                    // Nobody waits for it after another piece failed.
                    let _ = done.send(packed(rows, first, &columns, &mut text, bytes));
                }
            };
            thread::Builder::new().name("packer".to_owned()).spawn(work).ok()
        };
        // Where the system allows no threads, rows are packed as they come.
        let threads: Vec<_> =
            if threads > 1 { (0..threads).filter_map(begin).collect() } else { Vec::new() };
        let jobs = Some(send).filter(|_| !threads.is_empty());
        let (waiting, free, text) = (VecDeque::new(), Vec::new(), Vec::new());
        Self { part, line, columns, threads, jobs, waiting, free, text }
    }

    /// How many rows there are, with those before the first.
    pub(super) fn rows(&self) -> u64 {
        self.line - 1
    }

    /// Takes rows, and leaves room for others.
    ///
    /// # Errors
    /// When rows before can't be packed or written.
    pub(super) fn take(&mut self, rows: &mut SheetRows) -> io::Result<()> {
        let first = self.line;
        self.line += rows.rows as u64;
        let Some(jobs) = &self.jobs else {
            let bytes = self.free.pop().map(|(bytes, _)| bytes).unwrap_or_default();
            let all = std::mem::take(rows);
            let (piece, all) = packed(all, first, &self.columns, &mut self.text, bytes)?;
            self.part.add(&piece)?;
            *rows = all;
            self.free.push((piece.bytes, SheetRows::default()));
            return Ok(());
        };
        let (bytes, free) = self.free.pop().unwrap_or_default();
        let rows = std::mem::replace(rows, free);
        let (done, waiting) = sync_channel(1);
        self.waiting.push_back(waiting);
        let gone = |_| io::Error::other("a thread that packs has ended");
        jobs.send(Job { rows, first, bytes, done }).map_err(gone)?;
        while self.waiting.len() > (WAITING + 1) * self.threads.len() {
            self.add_next()?;
        }
        Ok(())
    }

    /// Adds the next piece to the part.
    fn add_next(&mut self) -> io::Result<()> {
        let Some(next) = self.waiting.pop_front() else { return Ok(()) };
        let (piece, rows) = next.recv().map_err(io::Error::other)??;
        self.part.add(&piece)?;
        self.free.push((piece.bytes, rows));
        Ok(())
    }

    /// Ends, once all rows are packed; gives the part.
    ///
    /// # Errors
    /// When rows can't be packed or written.
    pub(super) fn finish(mut self) -> io::Result<PackedPart> {
        while !self.waiting.is_empty() {
            self.add_next()?;
        }
        self.jobs = None;
        for thread in self.threads {
            thread.join().map_err(|_| io::Error::other("a thread that packs has failed"))?;
        }
        Ok(self.part)
    }
}

fn packed(
    rows: SheetRows,
    first: u64,
    columns: &[String],
    text: &mut Vec<u8>,
    bytes: Vec<u8>,
) -> Packed {
    rows.place(first, columns, text);
    Ok((PackedPiece::pack(text, bytes, false)?, rows))
}
