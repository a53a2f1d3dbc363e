//! Backups of what a file was, and sums that tell whether it still is.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use gather_keys_core::receipt::digest;
use gather_keys_formats::commit::commit;
use gather_keys_formats::{Sum, WholeFile};

/// Replaces a file and keeps what it was; gives where that is.
fn replace(path: &Path, content: &str, stamp: &str) -> PathBuf {
    let mut file = WholeFile::create(path, true).unwrap();
    file.write_all(content.as_bytes()).unwrap();
    let mut finished = file.finish().unwrap();
    finished.keep_replaced(stamp).unwrap();
    commit(vec![finished], || Ok(())).unwrap().remove(0).backup.unwrap()
}

#[test]
fn a_backup_stays_what_the_file_was() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("keepers.csv");
    fs::write(&path, "before").unwrap();
    let copy = replace(&path, "after", "20260519T102000Z");
    assert_eq!(copy.file_name().unwrap(), "keepers.backup-20260519T102000Z.csv");
    assert_eq!(fs::read(&copy).unwrap(), b"before");
    assert_eq!(fs::read(&path).unwrap(), b"after");
    // A second one of the same moment takes nothing away from the first.
    let second = replace(&path, "later", "20260519T102000Z");
    assert_eq!(second.file_name().unwrap(), "keepers.backup-20260519T102000Z-2.csv");
    assert_eq!(fs::read(&copy).unwrap(), b"before");
    assert_eq!(fs::read(&second).unwrap(), b"after");
    // Without an ending, and at a link.
    let bare = folder.path().join("keepers");
    fs::write(&bare, "x").unwrap();
    let link = folder.path().join("link.csv");
    std::os::unix::fs::symlink(&bare, &link).unwrap();
    let copy = replace(&link, "y", "1");
    assert_eq!(copy.file_name().unwrap(), "keepers.backup-1");
    assert_eq!((fs::read(&bare).unwrap(), fs::read(&copy).unwrap()), (b"y".into(), b"x".into()));
    assert!(link.is_symlink());
}

#[test]
fn sums_are_of_all_bytes() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("big");
    let content = b"0123456789abcdef".repeat(10_000);
    fs::write(&path, &content).unwrap();
    let mut sum = Sum::default();
    content.chunks(777).for_each(|part| sum.add(part));
    let want = (content.len() as u64, digest(&content));
    assert_eq!(sum.size_and_digest(), want);
    assert_eq!(Sum::of_file(&path).unwrap().size_and_digest(), want);
    assert!(Sum::of_file(&folder.path().join("none")).is_err());
}
