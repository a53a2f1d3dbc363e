//! The headers that a plan asks for by name, before any table is open: a table may have rows above its headers, and
//! a workbook several worksheets.

use super::{AnyOf, Held, On, Range, ReferencePlan, Selection, Take, Update, WhenDuplicate};
use crate::template::Template;

/// The headers that the plan of a reference asks for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AskedHeaders {
    /// Those of the main table, or of references before.
    pub main: Vec<String>,
    /// Those of the reference.
    pub reference: Vec<String>,
    /// The names of the columns that it adds, as far as the plan says them.
    pub added: Vec<String>,
    /// Whether it may add columns of other names.
    pub adds_others: bool,
}

impl ReferencePlan {
    /// The headers that it asks for by name, each once.
    ///
    /// ```
    /// use gather_keys_core::plan::{On, ReferencePlan, Take};
    ///
    /// let plan = ReferencePlan {
    ///     on: On::parse(&["Apiary = Site code"])?,
    ///     take: Some(Take::parse("Keeper as Name, Size *")?),
    ///     ..ReferencePlan::default()
    /// };
    /// let asked = plan.asked_headers();
    /// assert_eq!((asked.main, asked.reference), (vec!["Apiary".into()], vec!["Site code".into(), "Keeper".into()]));
    /// assert!(asked.added == ["Name"] && asked.adds_others);
    /// # Ok::<(), gather_keys_core::Error>(())
    /// ```
    pub fn asked_headers(&self) -> AskedHeaders {
        let mut asked =
            AskedHeaders { adds_others: self.take.is_none(), ..AskedHeaders::default() };
        if let On::Key(parts) = &self.on {
            for part in parts {
                asked.main.extend(headers(&part.main));
                match &part.reference {
                    Held::Made(template) => asked.reference.extend(headers(template)),
                    Held::Any(AnyOf { columns, .. }) => {
                        asked.reference.extend(columns.iter().flat_map(named));
                    }
                }
            }
        }
        if let Some(within) = &self.within {
            asked.main.extend(headers(&within.main));
            asked.reference.extend(match &within.range {
                Range::Between { lower, upper, .. } => [headers(lower), headers(upper)].concat(),
                Range::From(bound) | Range::UpTo(bound) => headers(bound),
            });
        }
        if let WhenDuplicate::Highest(by) | WhenDuplicate::Lowest(by) = &self.when_duplicate {
            asked.reference.extend(headers(by));
        }
        for update in &self.update {
            match update {
                Update::Column { main, reference } => {
                    asked.main.push(main.clone());
                    asked.reference.push(reference.clone());
                }
                Update::Many(selection) => asked.main.extend(named(selection)),
            }
        }
        self.take.iter().flatten().for_each(|take| asked.take(take));
        for all in [&mut asked.main, &mut asked.reference] {
            let mut seen = std::collections::HashSet::new();
            all.retain(|header| seen.insert(header.clone()));
        }
        asked
    }
}

impl AskedHeaders {
    fn take(&mut self, take: &Take) {
        let (header, rename) = match take {
            Take::Column { header, rename } => {
                self.reference.push(header.clone());
                (Some(header), rename)
            }
            Take::Many(selection) => {
                self.reference.extend(named(selection));
                self.adds_others |= !matches!(selection, Selection::Header(_));
                self.added.extend(named(selection));
                return;
            }
            Take::Named { template, rename } => {
                self.main.extend(headers(template));
                (None, rename)
            }
            Take::Mark { rename, .. } => (None, rename),
        };
        self.added.extend(rename.as_ref().or(header).cloned());
        self.adds_others |= header.is_none() && rename.is_none();
    }
}

fn headers(template: &Template) -> Vec<String> {
    template.headers().map(str::to_owned).collect()
}

/// The headers that a selection names.
fn named(selection: &Selection) -> Vec<String> {
    match selection {
        Selection::Header(header) => vec![header.clone()],
        Selection::Run { first, last } => vec![first.clone(), last.clone()],
        Selection::Like(_) | Selection::All => Vec::new(),
    }
}

/// The headers of the main table that the plans of its references ask for, one after the other: without columns that an
/// earlier reference may have added.
///
/// ```
/// use gather_keys_core::plan::{On, ReferencePlan, Take, asked_of_main};
///
/// let plan = |on: &str, take: &str| {
///     Ok::<_, gather_keys_core::Error>(ReferencePlan {
///         on: On::parse(&[on])?,
///         take: Some(Take::parse(take)?),
///         ..ReferencePlan::default()
///     })
/// };
/// let plans = [plan("Hive", "Keeper")?, plan("Keeper, Apiary", "Phone")?];
/// assert_eq!(asked_of_main(&plans.each_ref()), ["Hive", "Apiary"]);
/// # Ok::<(), gather_keys_core::Error>(())
/// ```
pub fn asked_of_main(plans: &[&ReferencePlan]) -> Vec<String> {
    let (mut asked, mut added) = (Vec::new(), Vec::<String>::new());
    for plan in plans {
        let own = plan.asked_headers();
        for header in own.main {
            let is_added = added.iter().any(|name| name.eq_ignore_ascii_case(&header));
            if !is_added && !asked.contains(&header) {
                asked.push(header);
            }
        }
        if own.adds_others {
            break;
        }
        added.extend(own.added);
    }
    asked
}
