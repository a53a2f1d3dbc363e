//! Copies of what a file was, and sums that tell whether it still is.

use std::fs;
use std::io::Write;

use gather_keys_core::receipt::digest;
use gather_keys_formats::{Sum, WholeFile, keep_copy};

#[test]
fn a_copy_stays_what_the_file_was() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("keepers.csv");
    fs::write(&path, "before").unwrap();
    let copy = keep_copy(&path, "20260519T102000Z").unwrap();
    assert_eq!(copy.file_name().unwrap(), "keepers.backup-20260519T102000Z.csv");
    let mut file = WholeFile::create(&path, true).unwrap();
    file.write_all(b"after").unwrap();
    file.commit().unwrap();
    assert_eq!(fs::read(&copy).unwrap(), b"before");
    assert_eq!(fs::read(&path).unwrap(), b"after");
    // A second one of the same moment takes nothing away from the first.
    let second = keep_copy(&path, "20260519T102000Z").unwrap();
    assert_eq!(second.file_name().unwrap(), "keepers.backup-20260519T102000Z-2.csv");
    assert_eq!(fs::read(&copy).unwrap(), b"before");
    assert_eq!(fs::read(&second).unwrap(), b"after");
    // Without an ending, and behind a link.
    let bare = folder.path().join("keepers");
    fs::write(&bare, "x").unwrap();
    let link = folder.path().join("link.csv");
    std::os::unix::fs::symlink(&bare, &link).unwrap();
    let copy = keep_copy(&link, "1").unwrap();
    assert_eq!(copy.file_name().unwrap(), "keepers.backup-1");
    assert!(keep_copy(&folder.path().join("none"), "1").is_err());
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
    assert_eq!(sum.told(), want);
    assert_eq!(Sum::of_file(&path).unwrap().told(), want);
    assert!(Sum::of_file(&folder.path().join("none")).is_err());
}
