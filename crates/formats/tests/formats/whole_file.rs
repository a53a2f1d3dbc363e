//! An output file appears whole or not at all.

use std::fs;
use std::io::Write;

use gather_keys_formats::{Error, WholeFile};

fn names(folder: &tempfile::TempDir) -> Vec<String> {
    let entries = fs::read_dir(folder.path()).unwrap().flatten();
    entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect()
}

#[test]
fn a_large_file_is_whole_once_it_has_its_name() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("out.csv");
    // More than is sent to the disk at a time.
    let piece: Vec<u8> = (0..1 << 20).map(|nth: u32| (nth % 251) as u8).collect();
    let mut file = WholeFile::create(&path, false).unwrap();
    for _ in 0..20 {
        file.write_all(&piece).unwrap();
        assert!(!path.exists());
    }
    file.commit().unwrap();
    assert_eq!(names(&folder), ["out.csv"]);
    let written = fs::read(&path).unwrap();
    assert_eq!(written.len(), 20 << 20);
    assert!(written.chunks(piece.len()).all(|part| part == piece));
}

#[test]
fn a_file_that_is_not_finished_leaves_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("out.csv");
    let mut file = WholeFile::create(&path, false).unwrap();
    file.write_all(&vec![b'x'; 20 << 20]).unwrap();
    drop(file);
    assert!(names(&folder).is_empty());
}

#[test]
fn a_file_that_is_there_is_replaced_only_when_asked() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("out.csv");
    fs::write(&path, "old").unwrap();
    assert!(matches!(WholeFile::create(&path, false), Err(Error::OutputExists { .. })));
    let mut file = WholeFile::create(&path, true).unwrap();
    file.write_all(b"new").unwrap();
    assert_eq!(fs::read(&path).unwrap(), b"old");
    file.commit().unwrap();
    assert_eq!(fs::read(&path).unwrap(), b"new");
    // One that appears meanwhile is not replaced either.
    let other = folder.path().join("other.csv");
    let file = WholeFile::create(&other, false).unwrap();
    fs::write(&other, "theirs").unwrap();
    assert!(matches!(file.commit(), Err(Error::OutputExists { .. })));
    assert_eq!(fs::read(&other).unwrap(), b"theirs");
}
