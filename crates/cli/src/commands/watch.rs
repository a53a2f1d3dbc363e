//! `watch`: a plan that is run again whenever one of its tables changes.
//!
//! A change is detected by the size and time of the files. The system reports activity in their folders,
//! so that a change is noticed at once; where it can't, a regular check does. A run begins only when
//! nothing has been written for a moment, so that a program that writes a table can finish.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{self, Receiver, RecvTimeoutError};
use std::time::{Duration, Instant, SystemTime};

use gather_keys_formats::Address;
use notify::{RecommendedWatcher, RecursiveMode, Watcher};

use super::Outcome;
use crate::arguments::Watch;
use crate::call::{Call, Purpose};
use crate::error::{Error, Result};
use crate::run::{Own, carry_out_again};

use crate::typed::{Asked, is_plan};

/// How often the files are looked at when nothing wakes us.
const LOOK: Duration = Duration::from_secs(2);

/// How long nothing may have changed before a run begins.
const SETTLED: Duration = Duration::from_millis(400);

/// How long a run is put off at most for files that never stop changing.
const PATIENCE: Duration = Duration::from_secs(30);

/// The size and time of a file; `None` when it does not exist.
type State = Vec<(PathBuf, Option<(u64, Option<SystemTime>)>)>;

/// Runs a plan again and again, until it is ended from outside.
pub(crate) fn watch(watch: &Watch) -> Result<Outcome> {
    if !is_plan(&watch.plan) {
        return Err(Error::NoPlan { name: watch.plan.to_string_lossy().into_owned() });
    }
    let plan = PathBuf::from(&watch.plan);
    // A plan that can't be read at the start was never meant.
    Asked::planned(&plan)?;
    let (wake, woken) = mpsc::channel();
    let mut watcher = notify::recommended_watcher(move |_| {
        // The receiver lives as long as the watch.
        let _ = wake.send(());
    })
    .ok();
    let mut folders = BTreeSet::new();
    let mut own = Own::default();
    loop {
        let paths = inputs(&plan);
        look_into(watcher.as_mut(), &paths, &mut folders);
        let mut before = settled(&paths, &woken);
        run(&plan, &mut own);
        // A change by the run itself starts no other run.
        let written = written(&plan);
        let after = state(&paths);
        for (was, is) in before.iter_mut().zip(after).filter(|(_, is)| written.contains(&is.0)) {
            *was = is;
        }
        while woken.try_recv().is_ok() {}
        say(&format!("Watching {}; Ctrl-C ends it.\n", reported(&paths)));
        loop {
            if woken.recv_timeout(LOOK) == Err(RecvTimeoutError::Disconnected) {
                // Without a watcher the look now and then remains.
                std::thread::sleep(LOOK);
            }
            if state(&inputs(&plan)) != before {
                break;
            }
        }
    }
}

/// Runs the plan once; what is wrong is reported, and may be fixed by the next change.
fn run(plan: &Path, own: &mut Own) {
    let time = jiff::Timestamp::now().strftime("%Y-%m-%d %H:%M:%S UTC").to_string();
    say(&format!("{time}: running {}", plan.display()));
    let ran = Asked::planned(plan).and_then(|asked| {
        let call = Call::new(&asked, Purpose::Table)?;
        carry_out_again(&asked, call, own)
    });
    if let Err(error) = ran {
        error.print();
    }
}

/// The files that a plan reads, and itself.
fn inputs(plan: &Path) -> Vec<PathBuf> {
    let mut paths = vec![plan.to_owned()];
    let Ok(asked) = Asked::planned(plan) else { return paths };
    match Call::new(&asked, Purpose::Table) {
        Ok(call) => {
            paths.extend(call.inputs().filter_map(|input| input.path()).map(Path::to_owned));
            paths.extend(call.corrections);
        }
        // A table may be gone for a while: its folder is looked at all the same.
        Err(_) => {
            let mut plan = asked.plan;
            plan.change_paths(|path| paths.push(PathBuf::from(&path.text)));
        }
    }
    paths
}

/// The paths that it writes. A workbook or database may be both an input and written to.
fn written(plan: &Path) -> Vec<PathBuf> {
    let Ok(Asked { plan, .. }) = Asked::planned(plan) else { return Vec::new() };
    let main = (plan.in_place == Some(true)).then_some(plan.main.table);
    let tables = main.into_iter().chain(plan.output);
    let tables = tables.map(|table| Address::new(OsStr::new(&table.text)));
    let tables = tables.filter_map(|table| table.path().map(Path::to_owned));
    tables.chain(plan.corrections.map(|path| PathBuf::from(path.text))).collect()
}

/// Has the system tell of changes in the folders of some files.
fn look_into(
    watcher: Option<&mut RecommendedWatcher>,
    paths: &[PathBuf],
    folders: &mut BTreeSet<PathBuf>,
) {
    let Some(watcher) = watcher else { return };
    for path in paths {
        let folder = match path.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder.to_owned(),
            _ => PathBuf::from("."),
        };
        // Files are replaced rather than written to, so that it is their folders that tell. One that
        // can't be watched is looked at now and then.
        if !folders.contains(&folder) && watcher.watch(&folder, RecursiveMode::NonRecursive).is_ok()
        {
            folders.insert(folder);
        }
    }
}

/// Waits until nothing has been written for a moment; gives the state that the files are in.
fn settled(paths: &[PathBuf], woken: &Receiver<()>) -> State {
    let began = Instant::now();
    let mut last = state(paths);
    loop {
        std::thread::sleep(SETTLED);
        while woken.try_recv().is_ok() {}
        let now = state(paths);
        if now == last || began.elapsed() > PATIENCE {
            return now;
        }
        last = now;
    }
}

fn state(paths: &[PathBuf]) -> State {
    let facts = |path: &PathBuf| {
        let facts = fs::metadata(path).ok()?;
        Some((facts.len(), facts.modified().ok()))
    };
    paths.iter().map(|path| (path.clone(), facts(path))).collect()
}

/// The first few of some paths.
fn reported(paths: &[PathBuf]) -> String {
    const NAMES: usize = 4;
    let names: Vec<String> = paths.iter().map(|path| path.display().to_string()).collect();
    match names.len() {
        0..=NAMES => crate::wording::joined(&names, "and"),
        all => format!("{} and {} more", names[..NAMES].join(", "), all - NAMES),
    }
}

fn say(words: &str) {
    // Nobody is left to tell when standard error is closed.
    crate::terminal::say(&format!("{}\n", crate::wording::wrapped(words, 0, "  ")));
}
