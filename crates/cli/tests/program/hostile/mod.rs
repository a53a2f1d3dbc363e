//! Files that are damaged or made to harm: the program ends with a sentence, in bounded memory and time.
//!
//! Each case is a file of one format, mutated by a number, and a command that reads it.
//! `FILES=20000 cargo test -p gather-keys --release --test program -- hostile --nocapture` tries as many mutations, and
//! `FLIPS=5000` as many single changed bytes; `FILE=N` or `FLIP=N` runs one alone and keeps its folder.

mod bombs;
mod mutation;
mod seeds;
mod terminal;

use std::collections::BTreeMap;
use std::io::{Read, Seek};
use std::path::Path;
use std::process::{Child, Stdio};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use super::scene::{HARVEST, HIVES, Scene, words};
use mutation::Numbers;
use seeds::{Seed, seeds};

/// What no run of a small file may exceed.
const MOST_MEMORY: u64 = 1 << 30;
const MOST_TIME: Duration = Duration::from_secs(20);

/// How a run ended.
#[derive(Debug, Default)]
pub(crate) struct Ended {
    /// The exit status; `None` when a signal ended it.
    pub(crate) status: Option<i32>,
    pub(crate) err: String,
    /// The most memory it had at a time, in bytes.
    pub(crate) peak: u64,
    pub(crate) took: Duration,
}

impl Ended {
    /// What is wrong with it, if anything is.
    pub(crate) fn fault(&self) -> Option<&'static str> {
        match self.status {
            Some(0..=2) => {}
            _ => return Some("it did not end with a status of its own"),
        }
        if ["panicked at", "RUST_BACKTRACE", "memory allocation of"]
            .iter()
            .any(|said| self.err.contains(said))
        {
            return Some("it says what only its makers understand");
        }
        if self.status == Some(2) && self.err.trim().is_empty() {
            return Some("it says nothing");
        }
        if self.peak > MOST_MEMORY {
            return Some("it took too much memory");
        }
        (self.took > MOST_TIME).then_some("it took too long")
    }
}

/// Runs the program with these words, and measures it; after 60 seconds it is ended.
pub(crate) fn measured(scene: &Scene, call: &str) -> Ended {
    let err = tempfile::tempfile().unwrap();
    let mut program = scene.program();
    program.args(words(call)).stdout(Stdio::null()).stderr(err.try_clone().unwrap());
    let began = Instant::now();
    let child = program.spawn().unwrap();
    let (status, peak) = wait(child);
    let took = began.elapsed();
    let mut said = Vec::new();
    let mut err = err;
    err.rewind().unwrap();
    err.take(1 << 20).read_to_end(&mut said).unwrap();
    Ended { status, err: String::from_utf8_lossy(&said).into_owned(), peak, took }
}

/// Waits for a program, and gives its exit status and its peak of memory in bytes.
#[allow(unsafe_code)]
fn wait(mut child: Child) -> (Option<i32>, u64) {
    let (id, began) = (child.id().cast_signed(), Instant::now());
    loop {
        let (mut status, mut usage) = (0, std::mem::MaybeUninit::<libc::rusage>::zeroed());
        // SAFETY: both places live until the call returns, and the child is ours and not waited for by others.
        let ended = unsafe { libc::wait4(id, &raw mut status, libc::WNOHANG, usage.as_mut_ptr()) };
        if ended == id {
            // SAFETY: the call has filled it, and it was zero before.
            let usage = unsafe { usage.assume_init() };
            let exited = libc::WIFEXITED(status).then(|| libc::WEXITSTATUS(status));
            return (exited, usage.ru_maxrss.unsigned_abs() * 1024);
        }
        if began.elapsed() > Duration::from_secs(60) {
            let _ = child.kill();
        }
        std::thread::sleep(Duration::from_micros(500));
    }
}

/// A folder with the tables that a mutated file is matched with.
fn scene() -> Scene {
    Scene::empty().with("harvest.csv", HARVEST).with("hives.csv", HIVES)
}

/// Runs a case, in a folder of its own.
fn run(seed: &Seed, content: &[u8], numbers: &mut Numbers) -> (String, Ended) {
    let scene = scene().with(&seed.name, content);
    for (name, other) in &seed.others {
        std::fs::write(scene.path(name), other).unwrap();
    }
    let call = &seed.calls[numbers.below(seed.calls.len())];
    let ended = measured(&scene, call);
    if ended.fault().is_some() {
        keep(&scene, seed, numbers);
    }
    (call.clone(), ended)
}

/// Keeps the file of a case that failed, where `KEEP` names a folder.
fn keep(scene: &Scene, seed: &Seed, numbers: &Numbers) {
    if let Some(folder) = std::env::var_os("KEEP") {
        let name = format!("{}-{}", numbers.seed(), seed.name);
        let _ = std::fs::copy(scene.path(&seed.name), Path::new(&folder).join(name));
    }
}

/// Runs the cases with these numbers, each a seed changed by `change`, and reports the failures.
// Its figures are what a long campaign is for.
#[allow(clippy::print_stdout)]
fn campaign(
    what: &str,
    numbers: Vec<u64>,
    seeds: &[Seed],
    change: impl Fn(&Seed, &mut Numbers) -> Vec<u8> + Sync,
) {
    let faults = Mutex::new(Vec::new());
    let figures = Mutex::new(BTreeMap::<&str, (u64, [u64; 3], u64, Duration)>::new());
    let next = Mutex::new(numbers.into_iter());
    let threads = std::thread::available_parallelism().map_or(2, usize::from);
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                loop {
                    let Some(nth) = next.lock().unwrap().next() else { return };
                    let seed = &seeds[nth as usize % seeds.len()];
                    let mut numbers = Numbers::new(nth);
                    let content = change(seed, &mut numbers);
                    let (call, ended) = run(seed, &content, &mut numbers);
                    if let Some(fault) = ended.fault() {
                        let said =
                            format!("{what} {nth}, {}: {fault}: {call}\n{ended:?}", seed.name);
                        faults.lock().unwrap().push(said);
                    }
                    let mut figures = figures.lock().unwrap();
                    let of = figures.entry(&seed.name).or_default();
                    of.0 += 1;
                    if let Some(status @ 0..=2) = ended.status {
                        of.1[status.unsigned_abs() as usize] += 1;
                    }
                    of.2 = of.2.max(ended.peak);
                    of.3 = of.3.max(ended.took);
                }
            });
        }
    });
    for (name, (count, statuses, peak, took)) in figures.into_inner().unwrap() {
        let peak = peak >> 20;
        println!(
            "{what} {name}: {count} files, status 0, 1, 2: {statuses:?}, {peak} MiB, {took:.1?} at most"
        );
    }
    let faults = faults.into_inner().unwrap();
    assert!(faults.is_empty(), "{} of them fail: {}", faults.len(), faults.join("\n"));
}

/// The cases to run: one that is asked for, or as many as are asked for, or the usual number.
fn cases(one: &str, many: &str, usual: u64) -> Vec<u64> {
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse().ok());
    number(one).map_or_else(|| (0..number(many).unwrap_or(usual)).collect(), |one| vec![one])
}

/// All seeds, or the one that `SEED` names.
fn chosen_seeds() -> Vec<Seed> {
    let name = std::env::var("SEED").ok();
    seeds().into_iter().filter(|seed| name.as_ref().is_none_or(|name| *name == seed.name)).collect()
}

#[test]
fn mutated_files_end_in_a_sentence() {
    let change = |seed: &Seed, numbers: &mut Numbers| mutation::mutated(seed, numbers);
    campaign("file", cases("FILE", "FILES", 300), &chosen_seeds(), change);
}

#[test]
fn single_changed_bytes_end_in_a_sentence() {
    let seeds: Vec<Seed> = chosen_seeds().into_iter().filter(|seed| seed.is_binary).collect();
    campaign("flip", cases("FLIP", "FLIPS", 100), &seeds, |seed, numbers| {
        let mut content = seed.content.clone();
        let at = numbers.below(content.len());
        content[at] ^= 1 + numbers.below(255) as u8;
        content
    });
}
