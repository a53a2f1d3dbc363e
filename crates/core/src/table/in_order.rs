//! Processing the blocks of a table on several threads, with the results in the order of the table.
//!
//! Each thread takes the next chunk, parses a block, processes it and puts it in a queue. The thread that
//! finds the next block in the queue, while no other thread is consuming, passes it to the consumer. So
//! no thread waits for another, unless all the blocks that there may be at once wait for an earlier one.
//!
//! A thread is started when the one before it has a chunk, so that a small table does not start many.

use std::collections::BTreeMap;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::{self, Scope};

use super::{Before, Block, Parser, Source};

/// How many blocks there may be at once for each thread.
const BLOCKS: usize = 4;

/// A block on its way; kept from chunk to chunk.
struct Job<S: Source, W> {
    chunk: S::Chunk,
    block: Block,
    workspace: W,
    /// The result of reading and parsing the chunk: how many lines it has.
    parsed: Result<Result<u64, <S::Parser as Parser>::Fault>, S::Error>,
    /// The thread that works on it.
    by: usize,
}

/// The state that the threads of a run share.
struct Shared<'s, S: Source, W, H> {
    reading: Mutex<Reading<'s, S>>,
    /// Processed blocks that wait for their turn, by the number of their chunk.
    queue: Mutex<BTreeMap<u64, Job<S, W>>>,
    consumer: Mutex<Consumer<S::Error, H>>,
    free: Mutex<Free<Job<S, W>>>,
    /// Notified when a job is free again and a thread waits for one, or when the run stops.
    freed: Condvar,
}

/// Free jobs, by the thread that used them last: their buffers are in its cache.
struct Free<J> {
    jobs: Vec<Vec<J>>,
    /// How many threads wait for one.
    waiting: usize,
}

struct Reading<'s, S> {
    source: &'s mut S,
    /// The number of the next chunk.
    next: u64,
    ended: bool,
}

struct Consumer<E, H> {
    consume: H,
    /// The number of the chunk whose turn it is.
    next: u64,
    before: Before,
    error: Option<E>,
}

/// Processes a source on `threads` threads, each block in its own workspace. `wanted` are the columns that are
/// read. `process` gets blocks in any order; it knows a block's place in the table only when there is one thread.
/// `consume` gets the blocks in order.
///
/// # Errors
/// The errors of the source and of `consume`; of several errors, the first in the table.
pub(crate) fn in_order<S, W>(
    source: &mut S,
    threads: usize,
    wanted: &[usize],
    workspace: impl Fn() -> W + Sync,
    process: impl Fn(&mut W, &Block) + Sync,
    mut consume: impl FnMut(&mut W, &Block) -> Result<(), S::Error> + Send,
) -> Result<(), S::Error>
where
    S: Source<Error: Send> + Send,
    W: Send,
{
    source.want(wanted);
    let mut parser = source.parser();
    parser.want(wanted);
    if threads < 2 {
        let (mut workspace, mut chunk, mut block) =
            (workspace(), S::Chunk::default(), Block::default());
        while source.read_chunk(&mut chunk)? {
            let before = source.before();
            let parsed = parser.parse(&mut chunk, &mut block);
            let lines = parsed.map_err(|fault| parser.error(fault, before))?;
            source.passed(block.rows() as u64, lines);
            block.place(before.rows + 1, before.lines + 1);
            process(&mut workspace, &block);
            consume(&mut workspace, &block)?;
        }
        return Ok(());
    }
    let before = source.before();
    let shared = Shared::<S, W, _> {
        reading: Mutex::new(Reading { source, next: 0, ended: false }),
        queue: Mutex::new(BTreeMap::new()),
        consumer: Mutex::new(Consumer { consume, next: 0, before, error: None }),
        free: Mutex::new(Free { jobs: Vec::new(), waiting: 0 }),
        freed: Condvar::new(),
    };
    let team = Team { shared: &shared, parser: &parser, workspace, process, threads };
    thread::scope(|scope| team.work(scope, 0));
    let consumer = shared.consumer.into_inner().unwrap_or_else(PoisonError::into_inner);
    consumer.error.map_or(Ok(()), Err)
}

/// What each thread of a run needs.
struct Team<'t, 's, S: Source, W, H, N, P> {
    shared: &'t Shared<'s, S, W, H>,
    parser: &'t S::Parser,
    workspace: N,
    process: P,
    threads: usize,
}

impl<S, W, H, N, P> Team<'_, '_, S, W, H, N, P>
where
    S: Source<Error: Send> + Send,
    W: Send,
    H: FnMut(&mut W, &Block) -> Result<(), S::Error> + Send,
    N: Fn() -> W + Sync,
    P: Fn(&mut W, &Block) + Sync,
{
    /// The work of one thread, which starts the next one as soon as it has a chunk.
    fn work<'scope>(&'scope self, scope: &'scope Scope<'scope, '_>, thread: usize) {
        let _stops = StopsOnPanic(self.shared);
        let job = |_| Job {
            chunk: S::Chunk::default(),
            block: Block::default(),
            workspace: (self.workspace)(),
            parsed: Ok(Ok(0)),
            by: thread,
        };
        locked(&self.shared.free).jobs.push((0..BLOCKS).map(job).collect());
        let mut starts_none = thread + 1 >= self.threads;
        self.shared.run(thread, self.parser, &self.process, || {
            if !std::mem::replace(&mut starts_none, true) {
                // Where the system allows fewer threads, those that started do all of the work.
                let work = move || self.work(scope, thread + 1);
                let _ = thread::Builder::new().spawn_scoped(scope, work);
            }
        });
    }
}

impl<J> Free<J> {
    /// One for a thread, if need be of another one.
    fn pop(&mut self, thread: usize) -> Option<J> {
        let own = self.jobs[thread].pop();
        own.or_else(|| self.jobs.iter_mut().find_map(Vec::pop))
    }
}

impl<S: Source, W, H> Shared<'_, S, W, H>
where
    H: FnMut(&mut W, &Block) -> Result<(), S::Error>,
{
    /// Works on chunks until there are no more; `begun` is called for each one that was read.
    fn run(
        &self,
        thread: usize,
        parser: &S::Parser,
        process: impl Fn(&mut W, &Block),
        mut begun: impl FnMut(),
    ) {
        while let Some((number, mut job)) = self.next_chunk(thread) {
            begun();
            if let Ok(parsed) = &mut job.parsed {
                *parsed = parser.parse(&mut job.chunk, &mut job.block);
                if parsed.is_ok() {
                    process(&mut job.workspace, &job.block);
                }
            }
            locked(&self.queue).insert(number, job);
            self.consume_ready(parser);
        }
    }

    /// The next chunk, in a free job, with its number.
    fn next_chunk(&self, thread: usize) -> Option<(u64, Job<S, W>)> {
        let mut job = {
            let mut free = locked(&self.free);
            loop {
                match free.pop(thread) {
                    Some(job) => break job,
                    None if locked(&self.reading).ended => return None,
                    None => {
                        free.waiting += 1;
                        free = self.freed.wait(free).unwrap_or_else(PoisonError::into_inner);
                        free.waiting -= 1;
                    }
                }
            }
        };
        let mut reading = locked(&self.reading);
        if reading.ended {
            return None;
        }
        let read = reading.source.read_chunk(&mut job.chunk);
        reading.ended = !matches!(read, Ok(true));
        let number = reading.next;
        reading.next += 1;
        job.by = thread;
        match read {
            Ok(false) => return None,
            Ok(true) => job.parsed = Ok(Ok(0)),
            Err(error) => job.parsed = Err(error),
        }
        Some((number, job))
    }

    /// Consumes blocks while the next one is in the queue and no other thread is consuming.
    fn consume_ready(&self, parser: &S::Parser) {
        // A thread that queues a block while another thread is consuming leaves it to that thread, which
        // looks at the queue again when it is done.
        while let Ok(mut consumer) = self.consumer.try_lock() {
            loop {
                let next = locked(&self.queue).remove(&consumer.next);
                let Some(mut job) = next else { break };
                consumer.take(&mut job, parser);
                if consumer.error.is_some() {
                    // The lock of the queue is not held: it is only ever taken by itself.
                    consumer.next = u64::MAX;
                    self.stop();
                }
                let mut free = locked(&self.free);
                free.jobs[job.by].push(job);
                // A notice that nobody waits for takes time too.
                if free.waiting > 0 {
                    self.freed.notify_one();
                }
            }
            let next = consumer.next;
            drop(consumer);
            if !locked(&self.queue).contains_key(&next) {
                return;
            }
        }
    }

    /// Stops reading.
    fn stop(&self) {
        locked(&self.reading).ended = true;
        // The lock makes sure that no thread misses the notice between looking and waiting.
        let _free = locked(&self.free);
        self.freed.notify_all();
    }
}

impl<E, H> Consumer<E, H> {
    /// Consumes one block.
    fn take<S: Source<Error = E>, W>(&mut self, job: &mut Job<S, W>, parser: &S::Parser)
    where
        H: FnMut(&mut W, &Block) -> Result<(), E>,
    {
        let before = self.before;
        let consumed = match std::mem::replace(&mut job.parsed, Ok(Ok(0))) {
            Ok(Ok(lines)) => {
                job.block.place(before.rows + 1, before.lines + 1);
                self.before.rows += job.block.rows() as u64;
                self.before.lines += lines;
                (self.consume)(&mut job.workspace, &job.block)
            }
            Ok(Err(fault)) => Err(parser.error(fault, before)),
            Err(error) => Err(error),
        };
        self.error = consumed.err();
        self.next += 1;
    }
}

/// Lets the other threads end when one panics, so that none waits for it.
struct StopsOnPanic<'a, 's, S: Source, W, H>(&'a Shared<'s, S, W, H>)
where
    H: FnMut(&mut W, &Block) -> Result<(), S::Error>;

impl<S: Source, W, H> Drop for StopsOnPanic<'_, '_, S, W, H>
where
    H: FnMut(&mut W, &Block) -> Result<(), S::Error>,
{
    fn drop(&mut self) {
        if thread::panicking() {
            self.0.stop();
        }
    }
}

/// A panic on another thread ends the run, so that its lock may be taken.
fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
