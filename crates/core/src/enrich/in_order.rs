//! Work on the blocks of a table by several threads, handed on in the order of the table.
//!
//! Each thread takes the next piece, makes a block of it and works on it; then it waits until the
//! blocks before are handed on, hands on its own, and takes the next piece. So there are never more
//! blocks than threads, and none waits for a queue.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;

use crate::table::{Before, Block, Parser, Source};

/// What every thread of a run shares.
struct Shared<'s, S: Source, H> {
    reading: Mutex<Reading<'s, S>>,
    handing: Mutex<Handing<S::Error, H>>,
    /// Told whenever a block was handed on, or the run stops.
    moved: Condvar,
}

struct Reading<'s, S> {
    source: &'s mut S,
    /// The number of the next piece.
    next: u64,
    ended: bool,
}

struct Handing<E, H> {
    hand_on: H,
    /// The number of the piece whose turn it is.
    next: u64,
    before: Before,
    stopped: bool,
    error: Option<E>,
}

/// Works a source off on `threads` threads, each with a space of its own. `work` is done with blocks
/// in any order, and does not know where they stand in the table unless there is one thread;
/// `hand_on` is given them in order.
///
/// # Errors
/// Those of the source and of `hand_on`; of several the one that comes first in the table.
pub(crate) fn in_order<S, W>(
    source: &mut S,
    threads: usize,
    wanted: Option<&[usize]>,
    space: impl Fn() -> W + Sync,
    work: impl Fn(&mut W, &Block) + Sync,
    mut hand_on: impl FnMut(&mut W, &Block) -> Result<(), S::Error> + Send,
) -> Result<(), S::Error>
where
    S: Source<Error: Send> + Send,
    W: Send,
{
    let mut parser = source.parser();
    if let Some(wanted) = wanted {
        parser.want(wanted);
    }
    if threads < 2 {
        let (mut space, mut piece, mut block) = (space(), S::Piece::default(), Block::default());
        while source.read_piece(&mut piece)? {
            let before = source.before();
            let parsed = parser.parse(&mut piece, &mut block);
            let lines = parsed.map_err(|fault| parser.error(fault, before))?;
            source.passed(block.rows() as u64, lines);
            block.place(before.rows + 1, before.lines + 1);
            work(&mut space, &block);
            hand_on(&mut space, &block)?;
        }
        return Ok(());
    }
    let before = source.before();
    let shared = Shared::<S, _> {
        reading: Mutex::new(Reading { source, next: 0, ended: false }),
        handing: Mutex::new(Handing { hand_on, next: 0, before, stopped: false, error: None }),
        moved: Condvar::new(),
    };
    thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                let _stops = StopsOnPanic(&shared);
                shared.run(&parser, &mut space(), &work);
            });
        }
    });
    let handing = shared.handing.into_inner().unwrap_or_else(PoisonError::into_inner);
    handing.error.map_or(Ok(()), Err)
}

impl<S: Source, H> Shared<'_, S, H> {
    fn run<W>(&self, parser: &S::Parser, space: &mut W, work: impl Fn(&mut W, &Block))
    where
        H: FnMut(&mut W, &Block) -> Result<(), S::Error>,
    {
        let (mut piece, mut block) = (S::Piece::default(), Block::default());
        loop {
            let (number, read) = {
                let mut reading = locked(&self.reading);
                if reading.ended {
                    return;
                }
                let read = reading.source.read_piece(&mut piece);
                reading.ended = !matches!(read, Ok(true));
                reading.next += 1;
                (reading.next - 1, read)
            };
            let parsed = match read {
                Ok(true) => Ok(parser.parse(&mut piece, &mut block)),
                Ok(false) => return,
                Err(error) => Err(error),
            };
            if let Ok(Ok(_)) = parsed {
                work(space, &block);
            }
            let mut handing = locked(&self.handing);
            while handing.next != number && !handing.stopped {
                handing = self.moved.wait(handing).unwrap_or_else(PoisonError::into_inner);
            }
            if handing.stopped {
                return;
            }
            let before = handing.before;
            let handed_on = match parsed {
                Ok(Ok(lines)) => {
                    block.place(before.rows + 1, before.lines + 1);
                    handing.before.rows += block.rows() as u64;
                    handing.before.lines += lines;
                    (handing.hand_on)(space, &block)
                }
                Ok(Err(fault)) => Err(parser.error(fault, before)),
                Err(error) => Err(error),
            };
            handing.next += 1;
            if let Err(error) = handed_on {
                handing.stopped = true;
                handing.error = Some(error);
            }
            drop(handing);
            self.moved.notify_all();
        }
    }
}

/// Stops the other threads when one panics, so that none waits for it.
struct StopsOnPanic<'a, 's, S: Source, H>(&'a Shared<'s, S, H>);

impl<S: Source, H> Drop for StopsOnPanic<'_, '_, S, H> {
    fn drop(&mut self) {
        if thread::panicking() {
            locked(&self.0.handing).stopped = true;
            self.0.moved.notify_all();
        }
    }
}

/// A panic elsewhere ends the run by itself; what it left behind is not looked at.
fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
