//! Work on things that do not depend on each other, by several threads.

/// What `work` makes of each thing, in their order, on so many threads.
pub(crate) fn in_parallel<T: Sync, R: Send>(
    things: &[T],
    threads: usize,
    work: impl Fn(&T) -> R + Sync,
) -> Vec<R> {
    if threads < 2 || things.len() < 2 {
        return things.iter().map(work).collect();
    }
    let next = std::sync::atomic::AtomicUsize::new(0);
    let worker = || {
        let mut made = Vec::new();
        loop {
            let at = next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
            match things.get(at) {
                Some(thing) => made.push((at, work(thing))),
                None => return made,
            }
        }
    };
    let mut all: Vec<(usize, R)> = std::thread::scope(|scope| {
        // Where the system allows fewer threads, they do all of the work.
        let begin = |_| std::thread::Builder::new().spawn_scoped(scope, worker).ok();
        let workers: Vec<_> = (1..threads.min(things.len())).filter_map(begin).collect();
        let own = worker();
        let joined = workers.into_iter().flat_map(|worker| match worker.join() {
            Ok(made) => made,
            Err(panic) => std::panic::resume_unwind(panic),
        });
        joined.chain(own).collect()
    });
    all.sort_by_key(|(at, _)| *at);
    all.into_iter().map(|(_, made)| made).collect()
}
