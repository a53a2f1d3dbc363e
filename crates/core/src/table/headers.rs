//! Headers, and how a name that a person wrote finds its column.

use std::collections::{HashMap, HashSet};

use crate::{Error, Result};

/// How many like-sounding headers an error offers.
const NEAREST: usize = 3;

/// The headers of a table, in the order of its columns.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Headers {
    table: String,
    names: Vec<String>,
    /// The columns of each name, ascending.
    columns: HashMap<String, Vec<usize>>,
}

/// The column that a name led to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Found {
    /// The column, from 0.
    pub column: usize,
    /// Whether the header is spelled exactly as asked; if not it differs in case or surplus space.
    pub exact: bool,
}

impl Headers {
    /// The headers of the table called `table` in messages.
    pub fn new<N: Into<String>>(
        table: impl Into<String>,
        names: impl IntoIterator<Item = N>,
    ) -> Self {
        let (own, columns) = (Vec::new(), HashMap::new());
        let mut headers = Self { table: table.into(), names: own, columns };
        names.into_iter().for_each(|name| headers.push(name.into()));
        headers
    }

    fn push(&mut self, name: String) {
        self.columns.entry(name.clone()).or_default().push(self.names.len());
        self.names.push(name);
    }

    /// The same headers for a table with another name.
    #[must_use]
    pub fn of_table(self, table: impl Into<String>) -> Self {
        Self { table: table.into(), ..self }
    }

    /// The headers, followed by more of them.
    #[must_use]
    pub fn with(mut self, more: &[String]) -> Self {
        for name in more {
            self.push(name.clone());
        }
        self
    }

    /// The name of the table in messages.
    pub fn table(&self) -> &str {
        &self.table
    }

    /// How many columns the table has.
    pub fn len(&self) -> usize {
        self.names.len()
    }

    /// Whether there are no columns.
    pub fn is_empty(&self) -> bool {
        self.names.is_empty()
    }

    /// The header of a column, from 0.
    ///
    /// # Panics
    /// When there is no such column.
    pub fn name(&self, column: usize) -> &str {
        &self.names[column]
    }

    /// The headers, in order.
    pub fn iter(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(String::as_str)
    }

    /// The name that leads to a column: its header, with `#N` when it is not the only one.
    ///
    /// # Panics
    /// When there is no such column.
    pub fn address(&self, column: usize) -> String {
        let name = self.name(column);
        let equal = self.spelled(name);
        match equal.binary_search(&column) {
            Ok(nth) if equal.len() > 1 => format!("{name}#{}", nth + 1),
            _ => name.to_owned(),
        }
    }

    /// How many of the names lead to a column, or to several.
    ///
    /// ```
    /// use gather_keys_core::table::Headers;
    ///
    /// let headers = Headers::new("hives.csv", ["Site code", "Tag", "Tag"]);
    /// assert_eq!(headers.held(&["tag".into(), "Keeper".into()]), 1);
    /// ```
    pub fn held(&self, names: &[String]) -> usize {
        let leads = |name: &&String| !matches!(self.find(name), Err(Error::HeaderUnknown { .. }));
        names.iter().filter(leads).count()
    }

    /// Finds the column that `name` means: the header spelled exactly so; the N-th of several
    /// equal ones for `Header#N`; or the only one that differs in no more than case and surplus
    /// space.
    ///
    /// ```
    /// use gather_keys_core::table::Headers;
    ///
    /// let headers = Headers::new("hives.csv", ["Site code", "Tag", "Tag"]);
    /// assert_eq!(headers.find("Tag#2")?.column, 2);
    /// assert!(!headers.find("site  CODE")?.exact);
    /// assert!(headers.find("Tag").is_err());
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    ///
    /// # Errors
    /// [`Error::HeaderRepeated`] when several headers fit, [`Error::HeaderUnknown`] when none does.
    pub fn find(&self, name: &str) -> Result<Found> {
        let loose = Self::loosened(name);
        let exact = self.spelled(name);
        let candidates = if exact.is_empty() {
            if let Some(column) = self.nth(name) {
                return Ok(Found { column, exact: true });
            }
            let loosely = self.names.iter().map(|header| Self::loosened(header) == loose);
            loosely.enumerate().filter(|(_, fits)| *fits).map(|(column, _)| column).collect()
        } else {
            exact.to_vec()
        };
        match candidates[..] {
            [column] => Ok(Found { column, exact: self.names[column] == name }),
            [] => Err(Error::HeaderUnknown {
                table: self.table.clone(),
                asked: name.to_owned(),
                nearest: self.nearest(&loose),
                all: self.names.clone(),
            }),
            _ => Err(Error::HeaderRepeated {
                table: self.table.clone(),
                asked: name.to_owned(),
                places: candidates
                    .iter()
                    .map(|&column| (self.address(column), column + 1))
                    .collect(),
            }),
        }
    }

    /// A header as it is compared when its exact spelling is not there.
    pub(crate) fn loosened(header: &str) -> String {
        header.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase()
    }

    /// The headers that are spelled much like `name`, the nearest first.
    pub fn near(&self, name: &str) -> Vec<String> {
        self.nearest(&Self::loosened(name))
    }

    /// The columns whose header is spelled exactly so.
    fn spelled(&self, name: &str) -> &[usize] {
        self.columns.get(name).map_or(&[], Vec::as_slice)
    }

    /// The column of `Header#N`: the N-th of the headers that are spelled `Header`.
    fn nth(&self, name: &str) -> Option<usize> {
        let (header, number) = name.rsplit_once('#')?;
        let number: usize = number.parse().ok()?;
        self.spelled(header).get(number.checked_sub(1)?).copied()
    }

    fn nearest(&self, loose: &str) -> Vec<String> {
        let mut scored: Vec<(f64, usize)> = (0..self.names.len())
            .map(|column| (likeness(loose, &Self::loosened(&self.names[column])), column))
            .filter(|(score, _)| *score >= 0.5)
            .collect();
        scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
        scored.into_iter().take(NEAREST).map(|(_, column)| self.address(column)).collect()
    }
}

/// How alike two loosened headers are, from 0 to 1; one that holds the other counts as near.
fn likeness(asked: &str, header: &str) -> f64 {
    let distance = strsim::normalized_damerau_levenshtein(asked, header);
    let short = asked.len().min(header.len()) < 3;
    let within = !short && (header.contains(asked) || asked.contains(header));
    if within { distance.max(0.7) } else { distance }
}

/// Gives each of the `wanted` names a spelling that no other has, of those in `taken` or among
/// themselves: `Name`, else `Name (suffix)`, else `Name (suffix) 2` and so on.
pub(crate) fn without_clash(taken: &[String], wanted: &[String], suffix: &str) -> Vec<String> {
    let mut seen: HashSet<String> = taken.iter().cloned().collect();
    let mut free = |name: &str| seen.insert(name.to_owned());
    // The number from which on none was tried yet.
    let mut untried: HashMap<String, usize> = HashMap::new();
    let rename = |name: &String| {
        let other = format!("{name} ({suffix})");
        let untried = untried.entry(other.clone()).or_insert(2);
        let numbered = (*untried..).map(|n| {
            *untried = n + 1;
            format!("{other} {n}")
        });
        [name.clone(), other.clone()].into_iter().chain(numbered).find(|name| free(name))
    };
    wanted.iter().filter_map(rename).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_find_their_columns() {
        let headers =
            Headers::new("hives.csv", ["Site code", "Tag", "tag ", "Line", "Line", "x#2", "Größe"]);
        let find = |name: &str| headers.find(name).map(|found| (found.column, found.exact));
        let cases = [
            ("Site code", (0, true)),
            ("site   Code ", (0, false)),
            ("Tag", (1, true)),
            ("tag ", (2, true)),
            ("Line#1", (3, true)),
            ("Line#2", (4, true)),
            ("x#2", (5, true)),
            ("größe", (6, false)),
        ];
        for (name, want) in &cases {
            assert_eq!(find(name).unwrap(), *want, "{name}");
        }
        for name in ["TAG", "Line", "Line#3", "Line#0", "Keeper", "x"] {
            assert!(find(name).is_err(), "{name}");
        }
    }

    #[test]
    fn errors_offer_what_is_near() {
        let headers = Headers::new("hives.csv", ["Site code", "Keeper", "Keeper", "Queen line"]);
        let message = |name: &str| headers.find(name).unwrap_err().to_string();
        assert_eq!(message("Site"), "hives.csv has no header `Site`; the nearest is `Site code`");
        assert_eq!(
            message("Keper"),
            "hives.csv has no header `Keper`; the nearest are `Keeper#1` and `Keeper#2`"
        );
        assert_eq!(
            message("Keeper"),
            "hives.csv has several headers `Keeper`: write `Keeper#1` (column 2) or `Keeper#2` (column 3)"
        );
        assert_eq!(
            message("zzz"),
            "hives.csv has no header `zzz`; its headers are `Site code`, `Keeper`, `Keeper` and `Queen line`"
        );
    }

    #[test]
    fn names_never_clash() {
        let own = |names: &[&str]| names.iter().map(|&name| name.to_owned()).collect::<Vec<_>>();
        let free = without_clash(
            &own(&["Keeper", "Line", "Line (hives)"]),
            &own(&["Keeper", "Line", "Queen", "Queen"]),
            "hives",
        );
        assert_eq!(free, own(&["Keeper (hives)", "Line (hives) 2", "Queen", "Queen (hives)"]));
    }
}
