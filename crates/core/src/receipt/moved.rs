//! The changes between two runs.

use super::{Input, KeysSeen, Receipt};

/// How many names are reported.
const TOLD: usize = 3;

/// Something that is not what it was in the run before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Moved {
    /// The program is of another version.
    Program {
        /// The version before.
        before: String,
    },
    /// The plan was changed.
    Plan,
    /// A table is read that was not, or the other way round.
    Table {
        /// Its role.
        role: String,
        /// Its path.
        path: String,
        /// Whether it is new.
        is_new: bool,
    },
    /// A table is read from another place.
    Path {
        /// The path before.
        before: String,
        /// The path now.
        now: String,
    },
    /// The headers of a table are others, or in another order.
    Headers {
        /// Its path.
        path: String,
        /// The inputs that are gone.
        gone: Vec<String>,
        /// The inputs that are new.
        new: Vec<String>,
    },
    /// A table has more rows, or fewer.
    Rows {
        /// Its path.
        path: String,
        /// How many it had.
        before: u64,
        /// How many it has.
        now: u64,
    },
    /// Some cells of a table are others, and nothing else is.
    Cells {
        /// Its path.
        path: String,
    },
    /// The columns taken of a reference have changed: a run of headers, a glob or `*` brings others.
    Columns {
        /// The reference.
        reference: String,
        /// The columns that are not taken any more.
        gone: Vec<String>,
        /// The columns that are taken now.
        new: Vec<String>,
    },
    /// Keys of a reference are unmatched or duplicate that were not.
    Keys {
        /// The reference.
        reference: String,
        /// Whether they are unmatched; duplicate if not.
        unmatched: bool,
        /// Which.
        new: NewKeys,
    },
}

/// Keys that were not there before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewKeys {
    /// How many.
    pub count: u64,
    /// The first few of them.
    pub first: Vec<String>,
    /// Whether there may be more, since the receipt does not keep all.
    pub or_more: bool,
}

impl NewKeys {
    fn since(seen: &KeysSeen, before: &super::KeyMarks) -> Option<Self> {
        let (new, or_more) = seen.new_since(before);
        let first = new.iter().take(TOLD).map(|&key| key.to_owned()).collect();
        (!new.is_empty()).then_some(Self { count: new.len() as u64, first, or_more })
    }
}

/// The changes from one receipt to the next. `seen` has, for each reference of the latter in order, its
/// unmatched and its duplicate keys.
pub fn moved(before: &Receipt, now: &Receipt, seen: &[(KeysSeen, KeysSeen)]) -> Vec<Moved> {
    let mut all = Vec::new();
    if before.gather_keys != now.gather_keys {
        all.push(Moved::Program { before: before.gather_keys.clone() });
    }
    if before.plan != now.plan {
        all.push(Moved::Plan);
    }
    for input in &now.inputs {
        match same(before, input) {
            Some(earlier) => all.extend(moved_input(earlier, input)),
            None => all.push(table(input, true)),
        }
    }
    let gone = before.inputs.iter().filter(|input| same(now, input).is_none());
    all.extend(gone.map(|input| table(input, false)));
    for (found, (unmatched, duplicate)) in now.references.iter().zip(seen) {
        let Some(earlier) = before.references.iter().find(|one| one.name == found.name) else {
            continue;
        };
        // A receipt of an earlier version has no columns.
        if earlier.columns != found.columns && !earlier.columns.is_empty() {
            let gone = only(&earlier.columns, &found.columns);
            let new = only(&found.columns, &earlier.columns);
            all.push(Moved::Columns { reference: found.name.clone(), gone, new });
        }
        let kinds = [(true, unmatched, &earlier.unmatched), (false, duplicate, &earlier.duplicate)];
        for (is_unmatched, seen, marks) in kinds {
            all.extend(NewKeys::since(seen, marks).map(|new| Moved::Keys {
                reference: found.name.clone(),
                unmatched: is_unmatched,
                new,
            }));
        }
    }
    all
}

/// The headers of the first list that are not in the second.
fn only(these: &[String], those: &[String]) -> Vec<String> {
    these.iter().filter(|header| !those.contains(header)).cloned().collect()
}

fn table(input: &Input, is_new: bool) -> Moved {
    Moved::Table { role: input.role.clone(), path: input.file.path.clone(), is_new }
}

/// The table of another receipt that was read for the same: of the same path, or the only one.
fn same<'r>(receipt: &'r Receipt, input: &Input) -> Option<&'r Input> {
    let mut alike = receipt.inputs.iter().filter(|other| other.role == input.role);
    let by_path = alike.clone().find(|other| other.file.path == input.file.path);
    by_path.or_else(|| alike.next().filter(|_| alike.next().is_none()))
}

fn moved_input(before: &Input, now: &Input) -> Vec<Moved> {
    let path = now.file.path.clone();
    let mut all = Vec::new();
    if before.file.path != path {
        all.push(Moved::Path { before: before.file.path.clone(), now: path.clone() });
    }
    let paths = all.len();
    if before.headers != now.headers {
        let gone = only(&before.headers, &now.headers);
        let new = only(&now.headers, &before.headers);
        all.push(Moved::Headers { path: path.clone(), gone, new });
    }
    if before.rows != now.rows {
        all.push(Moved::Rows { path: path.clone(), before: before.rows, now: now.rows });
    }
    // A digest that a server made of rows says nothing of one of a file's bytes.
    let kind = |digest: &str| digest.split_once(':').map(|(kind, _)| kind.to_owned());
    let are_alike = kind(&before.file.digest) == kind(&now.file.digest);
    if all.len() == paths && are_alike && before.file.digest != now.file.digest {
        all.push(Moved::Cells { path });
    }
    all
}
