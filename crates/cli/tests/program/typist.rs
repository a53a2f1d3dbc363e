//! A person at a terminal: types keys, and sees what is on the screen.

use std::io::{ErrorKind, Write};
use std::num::NonZeroU16;
use std::process::Stdio;
use std::thread::sleep;
use std::time::{Duration, Instant};

use expectrl::process::Healthcheck;
use expectrl::process::unix::WaitStatus;
use expectrl::session::OsSession;

use super::scene::{Scene, words};

/// How long is waited for something that is about to be seen.
const PATIENCE: Duration = Duration::from_secs(30);

pub(crate) struct Typist {
    session: OsSession,
    screen: vt100::Parser,
    /// All that was written to the terminal, until it is taken.
    pub(crate) written: String,
    status: Option<i32>,
}

impl Typist {
    /// Starts the program in a terminal of a number of columns and rows.
    pub(crate) fn begin(scene: &Scene, arguments: &str, (columns, rows): (u16, u16)) -> Self {
        let mut program = scene.program();
        // It takes the terminal from this process, which has it as its own by then.
        program.args(words(arguments)).stdin(Stdio::inherit()).env("TERM", "xterm-256color");
        Self::at(program, (columns, rows))
    }

    /// Starts a program that is ready.
    pub(crate) fn at(program: std::process::Command, (columns, rows): (u16, u16)) -> Self {
        let mut session = OsSession::spawn(program).unwrap();
        session.get_process_mut().set_window_size(columns, rows).unwrap();
        let screen = vt100::Parser::new(size(rows), size(columns), 0);
        Self { session, screen, written: String::new(), status: None }
    }

    /// Reads what has been written, or waits a moment; `false` when there will be no more.
    fn read(&mut self) -> bool {
        match self.try_read() {
            Ok(count) => count > 0,
            Err(ErrorKind::WouldBlock) => {
                sleep(Duration::from_millis(5));
                true
            }
            // The other end of the terminal is closed.
            Err(_) => false,
        }
    }

    /// Reads more, if it is there.
    fn is_read(&mut self) -> bool {
        self.try_read().is_ok_and(|count| count > 0)
    }

    fn try_read(&mut self) -> Result<usize, ErrorKind> {
        let mut bytes = [0; 4096];
        let count = self.session.try_read(&mut bytes).map_err(|error| error.kind())?;
        self.screen.process(&bytes[..count]);
        self.written.push_str(&String::from_utf8_lossy(&bytes[..count]));
        Ok(count)
    }

    /// Waits until the screen has a text, and gives the screen.
    #[track_caller]
    pub(crate) fn sees(&mut self, text: &str) -> String {
        self.waits(text, |typist| typist.shown().contains(text))
    }

    /// Waits until a text has been written since the last wait for one.
    #[track_caller]
    pub(crate) fn reads(&mut self, text: &str) -> String {
        self.waits(text, |typist| typist.written.contains(text));
        let at = self.written.find(text).unwrap() + text.len();
        self.written.drain(..at).collect()
    }

    /// Waits until one of some texts is the last that has been written; `false` when the program ends before.
    pub(crate) fn reads_any(&mut self, texts: &[&str]) -> bool {
        let began = Instant::now();
        while !texts.iter().any(|text| self.written.ends_with(text)) {
            if !self.read() || !self.is_running() {
                while self.is_read() {}
                return texts.iter().any(|text| self.written.ends_with(text));
            }
            assert!(began.elapsed() < PATIENCE, "no question comes:\n{}", self.written);
        }
        true
    }

    /// Takes what has been written since the last time.
    pub(crate) fn taken(&mut self) -> String {
        std::mem::take(&mut self.written)
    }

    #[track_caller]
    fn waits(&mut self, what: &str, holds: impl Fn(&Self) -> bool) -> String {
        let began = Instant::now();
        while !holds(self) {
            let goes_on = self.read() && began.elapsed() < PATIENCE;
            assert!(goes_on || holds(self), "`{what}` does not come:\n{}", self.shown());
        }
        self.shown()
    }

    /// The screen as it is.
    pub(crate) fn shown(&self) -> String {
        self.screen.screen().contents()
    }

    /// The characters of the screen that are underlined.
    pub(crate) fn underlined(&self) -> String {
        let (rows, columns) = self.screen.screen().size();
        let cells = (0..rows.get()).flat_map(|row| (0..columns.get()).map(move |at| (row, at)));
        let cells = cells.filter_map(|(row, at)| self.screen.screen().cell(row, at));
        cells.filter(|cell| cell.underline()).map(vt100::Cell::contents).collect()
    }

    /// Whether the screen is one that is taken away at the end.
    pub(crate) fn has_own_screen(&self) -> bool {
        self.screen.screen().alternate_screen()
    }

    /// Types keys.
    pub(crate) fn types(&mut self, keys: &str) {
        self.session.write_all(keys.as_bytes()).unwrap();
        self.session.flush().unwrap();
    }

    /// Gives the terminal another size.
    pub(crate) fn resizes(&mut self, (columns, rows): (u16, u16)) {
        self.session.get_process_mut().set_window_size(columns, rows).unwrap();
        self.screen.screen_mut().set_size(size(rows), size(columns));
    }

    /// Sends the program a signal, by its number.
    pub(crate) fn signals(&mut self, name: &str) {
        let id = self.session.get_process().pid().to_string();
        assert!(std::process::Command::new("kill").args([name, &id]).status().unwrap().success());
    }

    /// Whether the program runs; its exit status is kept once it does not.
    fn is_running(&mut self) -> bool {
        if self.status.is_none() {
            self.status = match self.session.get_process().get_status().unwrap() {
                WaitStatus::StillAlive => None,
                WaitStatus::Exited(_, status) => Some(status),
                other => panic!("it ended otherwise: {other:?}"),
            };
        }
        self.status.is_none()
    }

    /// Types a key that ends the program, and waits for its end. A key that comes at the very moment of another size may wait
    /// for the next one, so it is typed again after a while.
    pub(crate) fn ends_by(mut self, key: &str) -> (i32, String) {
        for _ in 0..3 {
            self.types(key);
            let began = Instant::now();
            while began.elapsed() < Duration::from_secs(2) && self.is_running() {
                self.read();
            }
            if !self.is_running() {
                break;
            }
        }
        self.ends()
    }

    /// Waits for the end of the program; returns its exit status, and what is written last.
    pub(crate) fn ends(mut self) -> (i32, String) {
        let began = Instant::now();
        // Programs of other tests may keep the terminal open, so its end is not waited for.
        let status = loop {
            self.read();
            if !self.is_running() {
                break self.status;
            }
            assert!(began.elapsed() < PATIENCE, "it does not end:\n{}", self.shown());
        };
        while self.is_read() {}
        (status.unwrap(), self.written)
    }
}

fn size(size: u16) -> NonZeroU16 {
    NonZeroU16::new(size).unwrap()
}
