//! The place that a path leads to, whether or not something is there.

use std::fs;
use std::path::{Component, Path, PathBuf};

/// How many links are followed.
const MOST_LINKS: usize = 40;

/// The path without links and dots that a path leads to, also when the file or some of its folders are not
/// there yet, and through links that lead nowhere yet.
///
/// ```
/// use gather_keys_formats::real_path;
///
/// let here = std::env::current_dir().unwrap().canonicalize().unwrap();
/// assert_eq!(real_path("new/../lists/./unused.csv".as_ref()), here.join("lists/unused.csv"));
/// ```
pub fn real(path: &Path) -> PathBuf {
    let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let mut links = 0;
    let mut at = PathBuf::new();
    // The steps left to walk, the next one last.
    let mut steps: Vec<PathBuf> = Vec::new();
    let push = |steps: &mut Vec<PathBuf>, path: &Path| {
        let parts: Vec<PathBuf> =
            path.components().map(|part| PathBuf::from(part.as_os_str())).collect();
        steps.extend(parts.into_iter().rev());
    };
    push(&mut steps, &whole);
    while let Some(step) = steps.pop() {
        match step.components().next() {
            Some(Component::CurDir) | None => {}
            Some(Component::ParentDir) => {
                at.pop();
            }
            Some(Component::Prefix(_) | Component::RootDir) => at.push(&step),
            Some(Component::Normal(_)) => {
                at.push(&step);
                if links < MOST_LINKS
                    && let Ok(leads_to) = fs::read_link(&at)
                {
                    links += 1;
                    at.pop();
                    push(&mut steps, &leads_to);
                }
            }
        }
    }
    at
}

#[cfg(all(test, unix))]
mod tests {
    use super::*;

    #[test]
    fn links_are_followed_to_where_nothing_is_yet() {
        let folder = tempfile::tempdir().unwrap();
        let top = folder.path().canonicalize().unwrap();
        fs::create_dir(top.join("lists")).unwrap();
        let link = |to: &str, name: &str| std::os::unix::fs::symlink(to, top.join(name)).unwrap();
        link("lists", "also");
        link("lists/new.csv", "new");
        link("round", "round");
        for (path, want) in [
            ("also/unused.csv", "lists/unused.csv"),
            ("new", "lists/new.csv"),
            ("also/../out.csv", "out.csv"),
            ("not/yet/./there.csv", "not/yet/there.csv"),
            ("round", "round"),
        ] {
            assert_eq!(real(&top.join(path)), top.join(want), "{path}");
        }
    }
}
