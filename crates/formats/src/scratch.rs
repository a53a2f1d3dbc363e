//! A temporary file for what does not fit into memory.

use std::fs::File;
use std::io;
use std::sync::{Mutex, PoisonError};

use gather_keys_core::spill::Scratch;

/// A file that has no name, and so goes with the program however it ends. It is in the folder for
/// temporary files.
#[derive(Debug)]
pub struct TempScratch {
    file: File,
    /// How long it is by now, and what its end does not hold yet.
    end: Mutex<End>,
}

#[derive(Debug, Default)]
struct End {
    written: u64,
    waiting: Vec<u8>,
}

/// So many bytes are written at once.
const AT_ONCE: usize = 1 << 20;

impl TempScratch {
    /// An empty one.
    ///
    /// # Errors
    /// When there can be no file in the folder for temporary files.
    pub fn new() -> io::Result<Self> {
        Ok(Self { file: tempfile::tempfile()?, end: Mutex::default() })
    }
}

impl Scratch for TempScratch {
    fn append(&self, bytes: &[u8]) -> io::Result<u64> {
        let mut end = self.end.lock().unwrap_or_else(PoisonError::into_inner);
        let at = end.written + end.waiting.len() as u64;
        end.waiting.extend_from_slice(bytes);
        if end.waiting.len() >= AT_ONCE {
            write_at(&self.file, end.written, &end.waiting)?;
            end.written += end.waiting.len() as u64;
            end.waiting.clear();
        }
        Ok(at)
    }

    fn read(&self, at: u64, bytes: &mut [u8]) -> io::Result<()> {
        {
            let end = self.end.lock().unwrap_or_else(PoisonError::into_inner);
            // A part of what waits may be in the file already.
            if at + bytes.len() as u64 > end.written {
                let in_file = end.written.saturating_sub(at).min(bytes.len() as u64) as usize;
                let from = (at + in_file as u64 - end.written) as usize;
                let waiting = end.waiting.get(from..from + bytes.len() - in_file);
                let waiting = waiting.ok_or(io::ErrorKind::UnexpectedEof)?;
                bytes[in_file..].copy_from_slice(waiting);
                return read_at(&self.file, at, &mut bytes[..in_file]);
            }
        }
        read_at(&self.file, at, bytes)
    }
}

#[cfg(unix)]
fn read_at(file: &File, at: u64, bytes: &mut [u8]) -> io::Result<()> {
    std::os::unix::fs::FileExt::read_exact_at(file, bytes, at)
}

#[cfg(unix)]
fn write_at(file: &File, at: u64, bytes: &[u8]) -> io::Result<()> {
    std::os::unix::fs::FileExt::write_all_at(file, bytes, at)
}

#[cfg(windows)]
fn read_at(file: &File, mut at: u64, mut bytes: &mut [u8]) -> io::Result<()> {
    while !bytes.is_empty() {
        match std::os::windows::fs::FileExt::seek_read(file, bytes, at)? {
            0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            read => {
                at += read as u64;
                bytes = &mut bytes[read..];
            }
        }
    }
    Ok(())
}

#[cfg(windows)]
fn write_at(file: &File, mut at: u64, mut bytes: &[u8]) -> io::Result<()> {
    while !bytes.is_empty() {
        match std::os::windows::fs::FileExt::seek_write(file, bytes, at)? {
            0 => return Err(io::ErrorKind::WriteZero.into()),
            written => {
                at += written as u64;
                bytes = &bytes[written..];
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_kept_comes_back() {
        let scratch = TempScratch::new().unwrap();
        let pieces: Vec<Vec<u8>> =
            (0..40).map(|n| vec![n as u8; (n * 7919) % 90_000 + n % 2]).collect();
        let mut places = Vec::new();
        for (nth, piece) in pieces.iter().enumerate() {
            places.push(scratch.append(piece).unwrap());
            for (place, piece) in places.iter().zip(&pieces).take(nth + 1) {
                let mut bytes = vec![0; piece.len()];
                scratch.read(*place, &mut bytes).unwrap();
                assert!(bytes == *piece);
            }
        }
        // Several extents next to each other, the last of which is not written yet.
        let all = pieces.concat();
        for from in (0..all.len()).step_by(100_003) {
            let mut bytes = vec![0; all.len() - from];
            scratch.read(from as u64, &mut bytes).unwrap();
            assert!(bytes == all[from..]);
        }
        assert!(scratch.read(all.len() as u64, &mut [0]).is_err());
    }
}
