//! Progress on a terminal, for runs that take more than a second.
//!
//! The readers count bytes as they pass; a thread of its own looks at the count now and then, so
//! that nothing on the way of the rows waits for the terminal.

use std::io::{self, IsTerminal, Read};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use gather_keys_formats::{Sum, Tap};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use crate::arguments::When;

/// How long a run may take before progress is shown.
const PATIENCE: Duration = Duration::from_secs(1);
const INTERVAL: Duration = Duration::from_millis(100);

/// Counts the bytes that are read.
#[derive(Debug, Clone, Default)]
pub(crate) struct Meter(Arc<AtomicU64>);

/// A reader whose bytes are counted, and summed up where that is wanted.
struct Metered {
    input: Box<dyn Read + Send>,
    meter: Meter,
    sum: Option<SharedSum>,
}

/// The sum of what a reader has read so far.
#[derive(Debug, Clone, Default)]
pub(crate) struct SharedSum(Arc<Mutex<Sum>>);

impl SharedSum {
    /// How many bytes there were, and their digest.
    pub(crate) fn size_and_digest(&self) -> (u64, String) {
        locked(&self.0).size_and_digest()
    }
}

/// Counts what is read of a file, and sums it up where that is wanted.
#[derive(Debug)]
pub(crate) struct Metering<'m> {
    pub(crate) meter: &'m Meter,
    pub(crate) sum: Option<&'m SharedSum>,
}

impl Tap for Metering<'_> {
    fn on(&self, input: Box<dyn Read + Send>) -> Box<dyn Read + Send> {
        Box::new(Metered { input, meter: self.meter.clone(), sum: self.sum.cloned() })
    }

    fn lets_by(&self, bytes: u64) -> bool {
        let is_enough = self.sum.is_none();
        if is_enough {
            self.meter.0.fetch_add(bytes, Ordering::Relaxed);
        }
        is_enough
    }
}

impl Read for Metered {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.input.read(buffer)?;
        self.meter.0.fetch_add(read as u64, Ordering::Relaxed);
        if let Some(sum) = &self.sum {
            locked(&sum.0).add(&buffer[..read]);
        }
        Ok(read)
    }
}

/// Shows progress until it is dropped.
#[derive(Debug)]
pub(crate) struct Progress {
    ended: Arc<AtomicBool>,
    shower: Option<JoinHandle<()>>,
}

impl Progress {
    /// Shows how far `meter` is on the way to `total` bytes, or just that it moves.
    pub(crate) fn start(meter: &Meter, total: Option<u64>, when: When, quiet: bool) -> Self {
        let ended = Arc::new(AtomicBool::new(false));
        let shower = is_shown(when, quiet).then_some(()).and_then(|()| {
            let (meter, ended) = (meter.clone(), ended.clone());
            thread::Builder::new().spawn(move || show(&meter, total, &ended)).ok()
        });
        Self { ended, shower }
    }
}

/// Shows the steps of a run on a server until it is dropped.
pub(crate) struct Steps {
    shown: bool,
    began: Instant,
    bar: Arc<Mutex<Option<ProgressBar>>>,
    /// The step that goes on.
    about: Arc<Mutex<String>>,
    ended: Arc<AtomicBool>,
    watcher: Option<JoinHandle<()>>,
}

impl Steps {
    /// Begins, where progress is to be shown. `watch` makes what says how far the server is with a step.
    pub(crate) fn start<W: FnMut() -> Option<String> + Send + 'static>(
        (when, quiet): (When, bool),
        watch: impl FnOnce() -> Option<W>,
    ) -> Self {
        let shown = is_shown(when, quiet);
        let (bar, about) = (Arc::<Mutex<Option<ProgressBar>>>::default(), Arc::default());
        let ended = Arc::new(AtomicBool::new(false));
        let watch = if shown { watch() } else { None };
        let watcher = watch.and_then(|mut watch| {
            let (bar, about, ended) =
                (bar.clone(), Arc::<Mutex<String>>::clone(&about), ended.clone());
            let look = move || {
                while !ended.load(Ordering::Relaxed) {
                    thread::park_timeout(PATIENCE);
                    let Some(bar) = locked(&bar).clone() else { continue };
                    let of = locked(&about).clone();
                    let far = watch();
                    // Another step may have begun while the server was asked.
                    if let Some(far) = far.filter(|_| *locked(&about) == of) {
                        // First, since the end of a long line is not shown.
                        bar.set_message(format!("{far}: {of}"));
                    }
                }
            };
            thread::Builder::new().spawn(look).ok()
        });
        Self { shown, began: Instant::now(), bar, about, ended, watcher }
    }

    /// Shows the step that begins: its number, how many there are, and what it does.
    pub(crate) fn show(&mut self, nth: usize, of: usize, about: &str) {
        if !self.shown || self.began.elapsed() < PATIENCE {
            return;
        }
        about.clone_into(&mut locked(&self.about));
        let mut bar = locked(&self.bar);
        let bar = bar.get_or_insert_with(|| {
            let bar = ProgressBar::new(of as u64);
            bar.set_draw_target(ProgressDrawTarget::stderr());
            let style = ProgressStyle::with_template("step {pos} of {len}, {elapsed}: {wide_msg}");
            bar.enable_steady_tick(INTERVAL);
            style.map(|style| bar.clone().with_style(style)).unwrap_or(bar)
        });
        bar.set_position(nth as u64);
        bar.set_message(about.to_owned());
    }
}

/// What a lock holds, whatever became of another thread.
fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Drop for Steps {
    fn drop(&mut self) {
        self.ended.store(true, Ordering::Relaxed);
        if let Some(watcher) = self.watcher.take() {
            watcher.thread().unpark();
            // A thread that only looks has nothing to tell when it fails.
            let _ = watcher.join();
        }
        if let Some(bar) = locked(&self.bar).take() {
            bar.finish_and_clear();
        }
    }
}

/// Whether progress is shown.
fn is_shown(when: When, quiet: bool) -> bool {
    match when {
        When::Always => true,
        When::Never => false,
        When::Auto => !quiet && io::stderr().is_terminal(),
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.ended.store(true, Ordering::Relaxed);
        if let Some(shower) = self.shower.take() {
            shower.thread().unpark();
            // A thread that only draws has nothing to tell when it fails.
            let _ = shower.join();
        }
    }
}

fn show(meter: &Meter, total: Option<u64>, ended: &AtomicBool) {
    let began = Instant::now();
    let mut bar: Option<ProgressBar> = None;
    while !ended.load(Ordering::Relaxed) {
        thread::park_timeout(INTERVAL);
        if began.elapsed() < PATIENCE {
            continue;
        }
        let bar = bar.get_or_insert_with(|| new_bar(total));
        bar.set_position(meter.0.load(Ordering::Relaxed));
        bar.tick();
    }
    if let Some(bar) = bar {
        bar.finish_and_clear();
    }
}

fn new_bar(total: Option<u64>) -> ProgressBar {
    let (bar, template) = match total {
        Some(total) => {
            (ProgressBar::new(total), "reading  {wide_bar} {bytes} of {total_bytes}, {eta} to go")
        }
        None => (ProgressBar::no_length(), "{spinner} reading  {bytes} in {elapsed}"),
    };
    bar.set_draw_target(ProgressDrawTarget::stderr());
    match ProgressStyle::with_template(template) {
        Ok(style) => bar.with_style(style.progress_chars("━━─")),
        Err(_) => bar,
    }
}
