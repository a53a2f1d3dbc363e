//! Packing the rows of a worksheet, on threads of its own, in the order in which they came.

use std::collections::VecDeque;
use std::io;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};

use super::packed_part::{PackedPart, PackedPiece};

/// How many pieces wait for each thread.
const WAITING: usize = 2;

/// Rows of a worksheet, in whatever form they come to be packed.
pub(in crate::workbook) trait AsText: Default + Send + 'static {
    /// Replaces `text` with theirs.
    fn write_text(&self, text: &mut Vec<u8>);
}

/// Rows that are packed, and the buffers that are free again.
type Packed<R> = io::Result<(PackedPiece, R)>;

/// Rows to be packed.
struct Job<R> {
    rows: R,
    /// A buffer for the piece.
    bytes: Vec<u8>,
    done: SyncSender<Packed<R>>,
}

/// Packs rows into a part.
pub(in crate::workbook) struct Packer<R> {
    part: PackedPart,
    threads: Vec<JoinHandle<()>>,
    /// Takes rows to the threads; nothing while there are none.
    jobs: Option<SyncSender<Job<R>>>,
    /// Pieces on their way, in order.
    waiting: VecDeque<Receiver<Packed<R>>>,
    free: Vec<(Vec<u8>, R)>,
    /// The text of a piece, where there are no threads.
    text: Vec<u8>,
}

impl<R: AsText> Packer<R> {
    /// Packs rows into a part, on up to `threads` threads.
    pub(in crate::workbook) fn new(part: PackedPart, threads: usize) -> Self {
        let (send, jobs) = sync_channel::<Job<R>>(WAITING * threads);
        let jobs = Arc::new(Mutex::new(jobs));
        let begin = |_| {
            let jobs = jobs.clone();
            let work = move || {
                let mut text = Vec::new();
                loop {
                    let next = jobs.lock().unwrap_or_else(PoisonError::into_inner).recv();
                    let Ok(Job { rows, bytes, done }) = next else { return };
                    // Nobody waits for it after another piece failed.
                    let _ = done.send(packed(rows, &mut text, bytes));
                }
            };
            thread::Builder::new().name("packer".to_owned()).spawn(work).ok()
        };
        // Where the system allows no threads, rows are packed as they come.
        let threads: Vec<_> =
            if threads > 1 { (0..threads).filter_map(begin).collect() } else { Vec::new() };
        let jobs = Some(send).filter(|_| !threads.is_empty());
        let (waiting, free, text) = (VecDeque::new(), Vec::new(), Vec::new());
        Self { part, threads, jobs, waiting, free, text }
    }

    /// Takes rows, and leaves room for others.
    ///
    /// # Errors
    /// When rows before can't be packed or written.
    pub(in crate::workbook) fn take(&mut self, rows: &mut R) -> io::Result<()> {
        let Some(jobs) = &self.jobs else {
            let bytes = self.free.pop().map(|(bytes, _)| bytes).unwrap_or_default();
            let all = std::mem::take(rows);
            let (piece, all) = packed(all, &mut self.text, bytes)?;
            self.part.add(&piece)?;
            *rows = all;
            self.free.push((piece.bytes, R::default()));
            return Ok(());
        };
        let (bytes, free) = self.free.pop().unwrap_or_default();
        let rows = std::mem::replace(rows, free);
        let (done, waiting) = sync_channel(1);
        self.waiting.push_back(waiting);
        let gone = |_| io::Error::other("a thread that packs has ended");
        jobs.send(Job { rows, bytes, done }).map_err(gone)?;
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
    pub(in crate::workbook) fn finish(mut self) -> io::Result<PackedPart> {
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

fn packed<R: AsText>(rows: R, text: &mut Vec<u8>, bytes: Vec<u8>) -> Packed<R> {
    rows.write_text(text);
    Ok((PackedPiece::pack(text, bytes, false)?, rows))
}
