//! Work on independent items by several threads.

use std::sync::{Mutex, PoisonError};

/// Applies `work` to each item on up to `threads` threads, and returns the results in the order of the items.
///
/// # Panics
/// When `work` does.
///
/// ```
/// use gather_keys_core::parallel::in_parallel;
///
/// assert_eq!(in_parallel(&[1, 2, 3], 2, |number| number * 7), [7, 14, 21]);
/// ```
pub fn in_parallel<T: Sync, R: Send>(
    items: &[T],
    threads: usize,
    work: impl Fn(&T) -> R + Sync,
) -> Vec<R> {
    if threads < 2 || items.len() < 2 {
        return items.iter().map(work).collect();
    }
    let next = std::sync::atomic::AtomicUsize::new(0);
    let worker = || {
        let mut done = Vec::new();
        loop {
            let at = next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
            match items.get(at) {
                Some(item) => done.push((at, work(item))),
                None => return done,
            }
        }
    };
    let mut all: Vec<(usize, R)> = std::thread::scope(|scope| {
        // Where the system allows fewer threads, those that started do all of the work.
        let start = |_| std::thread::Builder::new().spawn_scoped(scope, worker).ok();
        let workers: Vec<_> = (1..threads.min(items.len())).filter_map(start).collect();
        let own = worker();
        let joined = workers.into_iter().flat_map(|worker| match worker.join() {
            Ok(done) => done,
            Err(panic) => std::panic::resume_unwind(panic),
        });
        joined.chain(own).collect()
    });
    all.sort_by_key(|(at, _)| *at);
    all.into_iter().map(|(_, result)| result).collect()
}

/// Applies `work` to each task on up to `threads` threads, of which this one does `own` first.
pub(crate) fn alongside<T: Send>(
    tasks: impl ExactSizeIterator<Item = T> + Send,
    threads: usize,
    work: impl Fn(T) + Sync,
    own: impl FnOnce(),
) {
    let others = tasks.len().min(threads.saturating_sub(1));
    let tasks = Mutex::new(tasks);
    let go_on = || {
        let next = || tasks.lock().unwrap_or_else(PoisonError::into_inner).next();
        while let Some(task) = next() {
            work(task);
        }
    };
    std::thread::scope(|scope| {
        // Where the system allows fewer threads, the ones there are do all of the work.
        let start = |_| std::thread::Builder::new().spawn_scoped(scope, go_on).ok();
        (0..others).for_each(|nth| drop(start(nth)));
        own();
        go_on();
    });
}
