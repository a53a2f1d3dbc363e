//! Attributes of a file other than its content: mode, owner, access list and extended attributes. A file
//! that replaces another gets them from it.

use std::fs::{File, Metadata};
use std::io;

/// The attributes of a replaced file that could not be kept.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Lost {
    /// Whether its owner or group is another now.
    pub(super) owner: bool,
    /// The extended attributes that the new file could not be given.
    pub(super) attributes: Vec<String>,
}

/// Gives `new` the mode, the owner and the extended attributes that another file has; `from` is that file,
/// where it can be read.
///
/// # Errors
/// When it can't be given the mode.
#[cfg(unix)]
pub(super) fn carry_over(facts: &Metadata, from: Option<&File>, new: &File) -> io::Result<Lost> {
    use std::os::unix::fs::MetadataExt;

    let mut lost = Lost::default();
    let own = new.metadata()?;
    if (own.uid(), own.gid()) != (facts.uid(), facts.gid()) {
        let both = std::os::unix::fs::fchown(new, Some(facts.uid()), Some(facts.gid()));
        // A user who may not give a file to another user may still give it to one of their groups.
        let group = || std::os::unix::fs::fchown(new, None, Some(facts.gid()));
        lost.owner = both.is_err() && {
            let _ = group();
            true
        };
    }
    if let Some(from) = from {
        lost.attributes = extended(from, new);
    }
    // After the owner, since a change of owner takes bits of the mode away.
    new.set_permissions(facts.permissions())?;
    Ok(lost)
}

#[cfg(not(unix))]
pub(super) fn carry_over(facts: &Metadata, _: Option<&File>, new: &File) -> io::Result<Lost> {
    new.set_permissions(facts.permissions())?;
    Ok(Lost::default())
}

/// Copies the extended attributes, access lists included; returns the names of those that can't be
/// copied.
#[cfg(target_os = "linux")]
fn extended(from: &File, new: &File) -> Vec<String> {
    use rustix::fs::{XattrFlags, fgetxattr, flistxattr, fsetxattr};

    /// More than the system lets one have.
    const MOST: usize = 64 << 10;
    let mut names = vec![0_u8; MOST];
    // A file system without such has none to lose.
    let Ok(length) = flistxattr(from, &mut names[..]) else { return Vec::new() };
    let mut value = vec![0_u8; MOST];
    let mut lost = Vec::new();
    for name in names[..length].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let Ok(length) = fgetxattr(from, name, &mut value[..]) else { continue };
        let given = fsetxattr(new, name, &value[..length], XattrFlags::empty());
        // Labels of the system's own keeping are set by the system.
        if given.is_err() && !name.starts_with(b"security.") && !name.starts_with(b"trusted.") {
            lost.push(String::from_utf8_lossy(name).into_owned());
        }
    }
    lost
}

#[cfg(all(unix, not(target_os = "linux")))]
fn extended(_: &File, _: &File) -> Vec<String> {
    Vec::new()
}
