//! The outputs that runs of this process have written.

use std::path::{Path, PathBuf};

use gather_keys_formats::{Stamp, real_path};

/// The outputs that runs of this process have written, as they were then.
#[derive(Debug, Default)]
pub(crate) struct Own(Vec<(PathBuf, Stamp)>);

impl Own {
    /// Whether a file is as a run of this process wrote it.
    pub(super) fn has(&self, path: &Path) -> bool {
        let path = real_path(path);
        let own = self.0.iter().find(|(other, _)| *other == path);
        own.is_some_and(|(_, stamp)| Stamp::of_path(&path).is_ok_and(|now| now == *stamp))
    }

    pub(super) fn note(&mut self, paths: Vec<PathBuf>) {
        for path in paths {
            let Ok(stamp) = Stamp::of_path(&path) else { continue };
            self.0.retain(|(other, _)| *other != path);
            self.0.push((path, stamp));
        }
    }
}
