//! Which tables bring wanted columns: as few as can be.
//!
//! In go the tables that can be reached, each with its headers and the table that leads to it; out comes for each wanted
//! header the table and the column it comes from, and the others that it could come from.

use super::pairs::{SAME, alike, letters};

/// A table that can be reached from a main table.
#[derive(Debug, Clone)]
pub struct Reached<'a> {
    /// Its headers.
    pub headers: Vec<&'a str>,
    /// The table that leads to it, by its place among all reached tables; `None` where the main table does.
    pub via: Option<usize>,
    /// How many rows of the main table it is found for.
    pub matched: u64,
}

/// A wanted column, and where it comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// The table and its column.
    pub column: (usize, usize),
    /// Whether its header is another spelling of the wanted one.
    pub is_near: bool,
    /// The other columns with as good a header.
    pub others: Vec<(usize, usize)>,
}

/// How many columns are considered for each wanted header, and how many choices of them.
const CONSIDERED: usize = 6;
const CHOICES: usize = 20_000;

/// The columns with wanted headers, so that they come from the fewest tables, those that lead to others included; of two
/// ways with as many tables the one that finds more rows. A header is found as it is, else however it is spelled. `None`
/// for a header that no table has.
///
/// ```
/// use gather_keys_core::survey::{Reached, fewest};
///
/// let table = |headers: &[&'static str], via| Reached { headers: headers.to_vec(), via, matched: 9 };
/// let reached = [
///     table(&["Shop", "District"], None),
///     table(&["District", "Region"], Some(0)),
///     table(&["Shop", "region", "Owner"], None),
/// ];
/// let wanted = fewest(&reached, &["Region".to_owned(), "Owner".to_owned()]);
/// assert_eq!(wanted[0].as_ref().map(|wanted| wanted.column), Some((1, 1)));
/// assert_eq!(wanted[1].as_ref().map(|wanted| wanted.column), Some((2, 2)));
/// ```
pub fn fewest(reached: &[Reached<'_>], wanted: &[String]) -> Vec<Option<Wanted>> {
    let considered: Vec<(Vec<(usize, usize)>, bool)> =
        wanted.iter().map(|header| columns_like(reached, header)).collect();
    let mut best: Option<(usize, u64, Vec<usize>)> = None;
    let mut choice = vec![0; wanted.len()];
    for _ in 0..CHOICES {
        let chosen: Vec<usize> = choice
            .iter()
            .zip(&considered)
            .filter_map(|(&nth, (columns, _))| columns.get(nth).map(|(table, _)| *table))
            .collect();
        let tables = with_those_between(reached, &chosen);
        let matched = tables.iter().map(|&table| reached[table].matched).sum::<u64>();
        // The mean, so that more tables are no merit.
        let matched = matched / tables.len().max(1) as u64;
        let is_better = best.as_ref().is_none_or(|(fewest, most, _)| {
            (tables.len(), std::cmp::Reverse(matched)) < (*fewest, std::cmp::Reverse(*most))
        });
        if is_better {
            best = Some((tables.len(), matched, choice.clone()));
        }
        // The next choice: the first that has another one takes it, and those before it begin again.
        let next = choice.iter_mut().zip(&considered).find_map(|(nth, (columns, _))| {
            if *nth + 1 < columns.len() {
                *nth += 1;
                return Some(());
            }
            *nth = 0;
            None
        });
        if next.is_none() {
            break;
        }
    }
    let choice = best.map_or_else(Vec::new, |(.., choice)| choice);
    considered
        .into_iter()
        .zip(choice)
        .map(|((mut columns, is_near), nth)| {
            let column = (nth < columns.len()).then(|| columns.remove(nth))?;
            Some(Wanted { column, is_near, others: columns })
        })
        .collect()
}

/// The tables and all that lead to them, each once and before what it leads to.
pub fn with_those_between(reached: &[Reached<'_>], tables: &[usize]) -> Vec<usize> {
    let mut all = Vec::new();
    for &table in tables {
        let mut way: Vec<usize> =
            std::iter::successors(Some(table), |&table| reached[table].via).collect();
        way.reverse();
        for table in way {
            if !all.contains(&table) {
                all.push(table);
            }
        }
    }
    all
}

/// The columns whose headers are most like one, and whether they are only like it.
fn columns_like(reached: &[Reached<'_>], header: &str) -> (Vec<(usize, usize)>, bool) {
    let wanted = letters(header);
    let with = |is_like: &dyn Fn(&str) -> bool| -> Vec<(usize, usize)> {
        let of = |(table, reached): (usize, &Reached<'_>)| -> Vec<(usize, usize)> {
            let columns = reached.headers.iter().enumerate();
            columns.filter(|(_, own)| is_like(own)).map(|(column, _)| (table, column)).collect()
        };
        reached.iter().enumerate().flat_map(of).take(CONSIDERED).collect()
    };
    let exact = with(&|own| own == header);
    if !exact.is_empty() {
        return (exact, false);
    }
    let same = with(&|own| letters(own) == wanted);
    if !same.is_empty() {
        return (same, true);
    }
    (with(&|own| alike(own, header) >= SAME), true)
}
