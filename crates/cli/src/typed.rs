//! Typed options as a plan; and a plan file, with options in place of its keys.

use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

use gather_keys_core::plan::{MainTable, Plan, ReferenceTable, Text, Texts};
use gather_keys_formats::Address;

use crate::arguments::{Tables, TypedOption, TypedOptions, option_of};
use crate::entered::entered;
use crate::error::{Error, Result};

/// A run as it was asked for, in texts.
#[derive(Debug, Clone)]
pub(crate) struct Asked {
    /// The plan; its paths are relative to the current folder.
    pub(crate) plan: Plan,
    /// The plan file that it comes from, if it does.
    pub(crate) file: Option<PlanFile>,
    /// The options that replace keys of the file, each with its reference.
    pub(crate) overridden: Vec<String>,
    /// The plan file to write.
    pub(crate) save: Option<PathBuf>,
}

/// A plan file as it was read.
#[derive(Debug, Clone)]
pub(crate) struct PlanFile {
    pub(crate) path: PathBuf,
    pub(crate) text: String,
}

impl PlanFile {
    /// Its name in messages, and its text.
    pub(crate) fn named(&self) -> (String, &str) {
        (self.path.display().to_string(), &self.text)
    }

    /// A path as this plan names it.
    pub(crate) fn relative(&self, path: &Path) -> Option<String> {
        let whole = |path: &Path| std::path::absolute(path).ok();
        let folder = whole(&self.path)?.parent()?.to_owned();
        let place = pathdiff::diff_paths(whole(path)?, folder)?;
        Some(place.to_string_lossy().replace('\\', "/"))
    }
}

impl Asked {
    /// The run that `enrich`, `check` or `why` was asked for.
    pub(crate) fn typed(tables: &Tables, typed: TypedOptions) -> Result<Self> {
        let TypedOptions { run, tables: of_tables, save_plan } = typed;
        let mut plan = Plan::default();
        for option in run {
            option.add(|key, value| plan.add(key, value))?;
        }
        Self::new(plan, tables, of_tables, save_plan)
    }

    /// The run of a plan file.
    pub(crate) fn planned(path: &Path) -> Result<Self> {
        let (plan, file) = read(path)?;
        Ok(Self { plan, file: Some(file), overridden: Vec::new(), save: None })
    }

    fn new(
        typed: Plan,
        tables: &Tables,
        of_tables: Vec<Vec<TypedOption>>,
        save: Option<OsString>,
    ) -> Result<Self> {
        let mut of_tables = of_tables.into_iter();
        let main = main_options(of_tables.next().unwrap_or_default(), tables)?;
        let typed = Plan { main, ..typed };
        let mut asked = if is_plan(&tables.main) {
            let mut asked = Self::planned(Path::new(&tables.main))?;
            asked.override_with(typed, tables, of_tables)?;
            asked
        } else {
            if tables.other_main.is_some() {
                return Err(Error::MainWithoutPlan);
            }
            let mut plan = typed;
            plan.main.table = text(&tables.main)?;
            for (address, typed) in tables.from.iter().zip(of_tables) {
                let table = text(address)?;
                let options = reference_options(typed)?;
                if !options.table.text.is_empty() {
                    return Err(Error::TableWithoutPlan);
                }
                plan.references.push(ReferenceTable { table, ..options });
            }
            Self { plan, file: None, overridden: Vec::new(), save: None }
        };
        asked.save = save.map(PathBuf::from);
        asked.place_corrections();
        Ok(asked)
    }

    /// An error about a name in the plan, shown where the plan has it.
    pub(crate) fn located(&self, error: Error) -> Error {
        let Error::Table(
            gather_keys_formats::Error::Core(
                gather_keys_core::Error::HeaderUnknown { asked, .. }
                | gather_keys_core::Error::HeaderRepeated { asked, .. }
                | gather_keys_core::Error::NothingLike { pattern: asked, .. },
            )
            | gather_keys_formats::Error::HeaderElsewhere { asked, .. },
        ) = &error
        else {
            return error;
        };
        let Some(file) = &self.file else { return error };
        let places = self.plan.references.iter().flat_map(ReferenceTable::header_texts);
        let places = self.plan.header_texts().into_iter().chain(places);
        let mut places = places.filter_map(|text| {
            let written = file.text.get(text.place.clone()?)?;
            Some(text.place.as_ref()?.start + written.find(&asked[..])?)
        });
        match places.next() {
            Some(at) => Error::in_plan(file, at, error),
            None => error,
        }
    }

    /// Gives changes that are to be kept a file next to the plan, where none is named.
    fn place_corrections(&mut self) {
        let keeps = self.plan.edits.as_ref().is_some_and(|edits| edits.text.trim() == "keep");
        if let Some(file) = self.file.as_ref().filter(|_| keeps && self.plan.corrections.is_none())
        {
            let stem = file.path.file_stem().unwrap_or_default().to_string_lossy();
            let place = file.path.with_file_name(format!("{stem}-corrections.csv"));
            self.plan.corrections = Some(Text::typed(place.to_string_lossy()));
        }
    }

    /// The plan file with the corrections that it does not name itself; `None` where it does, or where they can't be
    /// entered.
    pub(crate) fn with_corrections(&self) -> Option<(&Path, String)> {
        let file = self.file.as_ref().filter(|_| self.types_corrections())?;
        let place = file.relative(Path::new(&self.plan.corrections.as_ref()?.text))?;
        let (name, text) = file.named();
        Some((&file.path, entered(&name, text, "corrections", &place)?))
    }

    /// Whether the corrections are named on the command line.
    pub(crate) fn types_corrections(&self) -> bool {
        self.plan.corrections.as_ref().is_some_and(|file| file.place.is_none())
    }

    /// Puts what was typed in the place of what the plan file says.
    fn override_with(
        &mut self,
        mut typed: Plan,
        tables: &Tables,
        of_tables: impl Iterator<Item = Vec<TypedOption>>,
    ) -> Result<()> {
        let plan = &mut self.plan;
        if let Some(main) = &tables.other_main {
            typed.main.table = text(main)?;
        }
        if typed.verbose.is_some() {
            plan.quiet = None;
        } else if typed.quiet.is_some() {
            plan.verbose = None;
        }
        if typed.output.is_some() {
            plan.in_place = None;
        } else if typed.in_place == Some(true) {
            plan.output = None;
        }
        self.overridden = plan.override_with(typed).into_iter().map(option_of).collect();
        for (address, typed) in tables.from.iter().zip(of_tables) {
            let asked = address.to_string_lossy().into_owned();
            let names = names_of(&plan.references);
            let meant = names.iter().position(|name| *name == asked).or_else(|| {
                plan.references.iter().position(|reference| reference.table.text == asked)
            });
            let Some(meant) = meant else {
                return Err(Error::NotInPlan { asked: Address::shown(&asked), all: names });
            };
            let reference = &mut plan.references[meant];
            let over = reference.override_with(reference_options(typed)?);
            // In another place it is still the one of that name, which rules and keys of the plan may use.
            reference.name.get_or_insert_with(|| Text::typed(&names[meant]));
            let replaced =
                over.into_iter().map(|key| format!("{} of {}", option_of(key), names[meant]));
            self.overridden.extend(replaced);
        }
        Ok(())
    }
}

/// The names of the references of a plan. Without a name of its own, the second of one table is `hives#2`.
pub(crate) fn names_of(references: &[ReferenceTable]) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for reference in references {
        let own = reference.name.as_ref().map(|name| name.text.clone());
        names.push(own.unwrap_or_else(|| {
            let stem = Address::stem_of_any(OsStr::new(&reference.table.text));
            let numbered = (2..).map(|number| format!("{stem}#{number}"));
            let mut all = std::iter::once(stem.clone()).chain(numbered);
            all.find(|name| !names.contains(name)).unwrap_or_default()
        }));
    }
    names
}

/// Whether an argument is a plan, by its ending.
pub(crate) fn is_plan(argument: &OsStr) -> bool {
    Path::new(argument).extension().is_some_and(|ending| ending.eq_ignore_ascii_case("toml"))
}

/// Reads a plan file; the paths in it are made to lead from here.
fn read(path: &Path) -> Result<(Plan, PlanFile)> {
    let name = path.display().to_string();
    let text = Address::File(path.to_owned()).read_to_string()?;
    let mut plan = Plan::read(&name, &text)?;
    let folder = path.parent().unwrap_or(Path::new(""));
    plan.change_paths(|path| {
        if Address::is_path(OsStr::new(&path.text)) {
            path.text = from_folder(folder, &path.text);
        }
    });
    Ok((plan, PlanFile { path: path.to_owned(), text }))
}

/// A path that leads from a folder, made to lead from here.
fn from_folder(folder: &Path, path: &str) -> String {
    let there = |folder: &Path| folder.join(path).to_string_lossy().into_owned();
    // Wildcards have their meaning in the plan's text only.
    if Address::is_glob(OsStr::new(path)) && !folder.join(path).exists() {
        let folder = Address::escaped(&folder.to_string_lossy());
        return there(Path::new(&folder));
    }
    there(folder)
}

/// The options of the main table.
fn main_options(typed: Vec<TypedOption>, tables: &Tables) -> Result<MainTable> {
    let mut main = MainTable::default();
    for option in typed {
        let is_of_main = MainTable::KEYS.iter().any(|key| key.name == option.key);
        if !is_of_main || option.key == "table" {
            let shown = |table: &OsString| Address::shown(&table.to_string_lossy());
            return Err(Error::BeforeReference {
                option: option.key.replace('_', "-"),
                value: option.value().to_owned(),
                reference: tables.from.first().map(shown),
                main: shown(&tables.main),
            });
        }
        option.add(|key, value| main.add(key, value))?;
    }
    Ok(main)
}

/// The options of a reference.
fn reference_options(typed: Vec<TypedOption>) -> Result<ReferenceTable> {
    let mut all = ReferenceTable::default();
    for option in typed {
        option.add(|key, value| all.add(key, value))?;
    }
    Ok(all)
}

fn text(path: &OsStr) -> Result<Text> {
    let text = path
        .to_str()
        .ok_or_else(|| Error::PathNotText { path: path.to_string_lossy().into_owned() });
    Ok(Text::typed(text?))
}

/// The run as a receipt at a path records it: the plan without comments, and without what has no effect
/// on the result; the tables that are read are recorded separately.
pub(crate) fn as_receipt_has_it(asked: &Plan, path: &Path) -> String {
    let mut plan = asked.clone();
    (plan.overwrite, plan.write_anyway, plan.edits) = (None, None, None);
    (plan.memory, plan.threads, plan.lists, plan.no_reasons) = (None, None, None, None);
    plan.report = Texts::default();
    plan.main.table = Text::default();
    let names = names_of(&plan.references);
    for (reference, name) in plan.references.iter_mut().zip(names) {
        reference.name.get_or_insert_with(|| Text::typed(name));
        reference.table = Text::default();
    }
    let text = as_plan_at(&plan, path);
    text.lines().filter(|line| !line.starts_with('#')).collect::<Vec<_>>().join("\n")
}

/// The run as a report shows it: the plan in the current folder, without comments and without what has
/// no effect on the result.
pub(crate) fn as_report_has_it(asked: &Plan) -> String {
    let plan = Plan { memory: None, threads: None, ..asked.clone() };
    let text = as_plan_at(&plan, Path::new("plan.toml"));
    let lines = text.lines().filter(|line| !line.starts_with('#') && !line.is_empty());
    let mut shown = String::new();
    for line in lines {
        if line.starts_with('[') && !shown.is_empty() {
            shown.push('\n');
        }
        shown.push_str(line);
        shown.push('\n');
    }
    shown
}

/// The run as a plan at a path, without the options for output to the terminal.
pub(crate) fn as_plan_at(asked: &Plan, path: &Path) -> String {
    let mut plan = Plan { quiet: None, verbose: None, progress: None, ..asked.clone() };
    let whole = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let place = whole(path);
    let folder = place.parent().unwrap_or(&place);
    plan.change_paths(|path| match Address::new(OsStr::new(&path.text)) {
        Address::Standard => {}
        // Without its password, which is nobody else's.
        Address::Server(server) => path.text = server.to_string(),
        Address::File(_) | Address::Part(..) => {
            if let Some(from) = pathdiff::diff_paths(whole(Path::new(&path.text)), folder) {
                path.text = from.to_string_lossy().into_owned();
            }
        }
    });
    plan.write()
}
