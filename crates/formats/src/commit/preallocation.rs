//! Room on the disk for a file that grows, asked for ahead of what is written.
//!
//! A system that finds room only when it must takes more time for it, piece by piece. Where it can't be
//! asked, nothing is lost. What is not filled is given back.

use std::fs::File;
use std::io;

/// The room of one file, which is written from its beginning on.
#[derive(Debug, Default)]
pub(crate) struct Preallocation {
    written: u64,
    /// Up to where there is room; `None` once there was none to be had.
    upto: Option<u64>,
    has_asked: bool,
}

/// How many bytes are asked for at once, and how many of a file are written before: most are small. Tests
/// reach both sooner.
const AT_ONCE: u64 = if cfg!(test) { 64 << 10 } else { 32 << 20 };
const BEFORE: u64 = AT_ONCE / 4;

/// How much room there is at least for what is written next.
const LEAST: u64 = AT_ONCE / 16;

impl Preallocation {
    /// Notes that this many bytes were written, and asks for more room when there is little left.
    pub(crate) fn wrote(&mut self, bytes: usize, file: &File) {
        self.written += bytes as u64;
        let upto = if self.has_asked { self.upto } else { Some(0) };
        let Some(upto) = upto.filter(|upto| self.written >= BEFORE && self.written + LEAST > *upto)
        else {
            return;
        };
        let from = upto.max(self.written);
        self.has_asked = true;
        self.upto = ask(file, from, AT_ONCE).then_some(from + AT_ONCE);
    }

    /// Gives back what is not filled, once all is written.
    ///
    /// # Errors
    /// When the file can't be made as long as what was written to it.
    pub(crate) fn give_back(self, file: &File) -> io::Result<()> {
        if self.has_asked { file.set_len(self.written) } else { Ok(()) }
    }
}

/// Asks for room that the file is no longer for; says whether there is.
#[cfg(target_os = "linux")]
fn ask(file: &File, from: u64, bytes: u64) -> bool {
    rustix::fs::fallocate(file, rustix::fs::FallocateFlags::KEEP_SIZE, from, bytes).is_ok()
}

#[cfg(not(target_os = "linux"))]
fn ask(_: &File, _: u64, _: u64) -> bool {
    false
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::io::Write;

    use super::*;

    #[test]
    fn what_is_not_filled_is_given_back() {
        for length in [0, BEFORE - 1, BEFORE, AT_ONCE, 5 * AT_ONCE + 7] {
            let mut file = tempfile::NamedTempFile::new().unwrap();
            let mut room = Preallocation::default();
            let bytes: Vec<u8> = (0..length).map(|at| (at % 251) as u8).collect();
            for piece in bytes.chunks(1000) {
                file.write_all(piece).unwrap();
                room.wrote(piece.len(), file.as_file());
                assert!(room.upto.is_none_or(|upto| upto >= room.written));
            }
            assert_eq!(room.has_asked, length >= BEFORE);
            room.give_back(file.as_file()).unwrap();
            assert!(fs::read(file.path()).unwrap() == bytes);
            #[cfg(unix)]
            {
                use std::os::unix::fs::MetadataExt;
                file.as_file().sync_all().unwrap();
                let on_disk = file.as_file().metadata().unwrap().blocks() * 512;
                assert!(on_disk < length + AT_ONCE / 2, "{on_disk} bytes for {length}");
            }
        }
    }
}
