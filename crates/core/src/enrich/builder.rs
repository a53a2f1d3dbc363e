//! From plans and tables to an enrichment that is ready to run.

use super::chosen::chosen_columns;
use super::resolve::{added_names, finding};
use super::{Enrichment, Note, Resolved, RowOutput, Side, resolve};
use crate::lookup::{Lookup, Seed};
use crate::plan::{Columns, ReferencePlan, Selection};
use crate::table::{Headers, OutputColumns, Overlay, Source};
use crate::{Error, Result};

/// Builds an [`Enrichment`] of a main table, reference by reference.
///
/// [`reference`](Self::reference) does all of it for one table. A caller that opens every table before it reads any
/// calls [`resolve`](Self::resolve) for each first, and [`add`](Self::add) once the reference is loaded.
///
/// ```
/// use gather_keys_core::enrich::EnrichmentBuilder;
/// use gather_keys_core::plan::{On, ReferencePlan, Take};
/// use gather_keys_core::table::{Collected, MemoryTable};
///
/// let mut harvest = MemoryTable::new("harvest", ["Batch", "Hive"], [["B1", "7"], ["B2", "8"]]);
/// let mut hives = MemoryTable::new("hives", ["Tag", "Keeper"], [["7", "Edda Larkhollow"]]);
/// let plan = ReferencePlan {
///     name: "hives".to_owned(),
///     on: On::parse(&["Hive = Tag"])?,
///     take: Some(Take::parse("Keeper")?),
///     ..ReferencePlan::default()
/// };
/// let mut builder = EnrichmentBuilder::new(harvest.headers(), [1, 2, 3, 4]);
/// builder.reference(&plan, &mut hives, 1)?;
/// let mut out = Collected::default();
/// let findings = builder.finish().run(&mut harvest, &mut out, None, 1)?;
/// assert_eq!(out.rows, [["B1", "7", "Edda Larkhollow"], ["B2", "8", ""]]);
/// # Ok::<(), gather_keys_core::Error>(())
/// ```
#[derive(Debug)]
pub struct EnrichmentBuilder {
    main: Headers,
    /// The texts that count as blank in the main table's keys.
    blanks: Vec<String>,
    /// The headers of the main table, followed by those that the resolved references add.
    headers: Headers,
    added: Vec<String>,
    notes: Vec<Note>,
    lookups: Vec<(Lookup, RowOutput)>,
    seed: Seed,
    /// The columns of the output with their names, where they are chosen.
    chosen: Option<Vec<(usize, String)>>,
}

impl EnrichmentBuilder {
    /// Begins the enrichment of a main table with these headers. `seed` is four numbers that hash keys; random ones
    /// keep a crafted table from slowing the lookups down.
    pub fn new(main: &Headers, seed: Seed) -> Self {
        Self {
            main: main.clone(),
            blanks: Vec::new(),
            headers: main.clone(),
            added: Vec::new(),
            notes: Vec::new(),
            lookups: Vec::new(),
            seed,
            chosen: None,
        }
    }

    /// Sets the texts that count as blank in the main table's keys. The default is none.
    #[must_use]
    pub fn blanks(mut self, blanks: Vec<String>) -> Self {
        self.blanks = blanks;
        self
    }

    /// Finds the columns of the next reference, whose table has `headers`. Its added columns follow those of the
    /// references before, which its key may use.
    ///
    /// # Errors
    /// Those of [`resolve`].
    pub fn resolve(
        &mut self,
        plan: &ReferencePlan,
        headers: &Headers,
        blanks: &[String],
    ) -> Result<Resolved> {
        let ours = Side { headers: &self.headers, blanks: &self.blanks };
        let found = resolve(plan, ours, Side { headers, blanks })?;
        let (names, renamed) = added_names(&self.headers, &plan.name, &found.names);
        self.notes.extend(found.notes.iter().cloned().chain(renamed));
        self.headers = self.headers.clone().with(&names);
        self.added.extend(names);
        Ok(found)
    }

    /// Chooses the columns of the output, of those of the main table and of the references resolved so far: `columns`
    /// says which, in order, and `drop` which not. Without either it has all of them.
    ///
    /// # Errors
    /// When there is no such header, or several; [`Error::NamedAndDropped`], [`Error::OutputTwice`] and
    /// [`Error::NothingLeft`].
    pub fn choose(&mut self, columns: &[Columns], drop: &[Selection]) -> Result<()> {
        let all = self.headers.clone().of_table("the output");
        self.chosen = Some(chosen_columns(&all, columns, drop, &mut finding(&mut self.notes))?);
        Ok(())
    }

    /// The column of the enriched table that a name means: by the header that it has in the output, else by its own.
    ///
    /// # Errors
    /// When there is no such header, or several.
    pub fn find_output(&self, name: &str) -> Result<usize> {
        let Some(chosen) = &self.chosen else { return Ok(self.headers.find(name)?.column) };
        let all = OutputColumns::all(&self.main, &self.added, Overlay::default());
        match all.chosen(chosen).headers().find(name) {
            Ok(found) => Ok(chosen[found.column].0),
            Err(Error::HeaderUnknown { .. }) => Ok(self.headers.find(name)?.column),
            Err(error) => Err(error),
        }
    }

    /// The columns of the output, of the main table and of the references resolved so far.
    pub fn output_columns(&self) -> OutputColumns {
        let all = OutputColumns::all(&self.main, &self.added, Overlay::default());
        self.chosen.as_ref().map_or(all.clone(), |chosen| all.chosen(chosen))
    }

    /// Adds the lookup of the next resolved reference.
    pub fn add(&mut self, lookup: Lookup, output: RowOutput) {
        self.lookups.push((lookup, output));
    }

    /// Resolves a plan, loads its reference on up to `threads` threads, and adds the lookup.
    ///
    /// # Errors
    /// Those of [`resolve`](Self::resolve), of the table, and of
    /// [`ReferenceBuilder::finish`](crate::lookup::ReferenceBuilder::finish).
    pub fn reference<S: Source<Error: From<Error> + Send> + Send>(
        &mut self,
        plan: &ReferencePlan,
        table: &mut S,
        threads: usize,
    ) -> std::result::Result<(), S::Error> {
        let headers = table.headers().clone();
        let found = self.resolve(plan, &headers, &[])?;
        let mut builder = found.builder(plan, &headers, self.seed);
        builder.read(table, threads)?;
        let (lookup, output) = found.lookup(builder.finish()?);
        self.add(lookup, output);
        Ok(())
    }

    /// The headers of the main table, followed by those that the resolved references add.
    pub fn headers(&self) -> &Headers {
        &self.headers
    }

    /// Notes about names that were found loosely or changed.
    pub fn notes(&self) -> &[Note] {
        &self.notes
    }

    /// The lookups that were added, with what each adds to a row.
    pub fn lookups(&self) -> &[(Lookup, RowOutput)] {
        &self.lookups
    }

    /// The seed that hashes keys.
    pub fn seed(&self) -> Seed {
        self.seed
    }

    /// The enrichment, once all lookups are added.
    pub fn finish(self) -> Enrichment {
        Enrichment::new(self.lookups, &self.main, self.added, self.chosen)
    }
}
