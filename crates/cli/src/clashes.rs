//! Outputs that would be written over inputs, or over each other.
//!
//! Every output of a run is compared with every input and every other output before any work, whether or not
//! it is there yet and by whatever links it is reached.

use std::path::{Path, PathBuf};

use gather_keys_formats::{Address, Error as FormatError, Format, Stamp, real_path};

use crate::call::{Call, Destination};
use crate::error::{Error, Result};
use crate::typed::Asked;
use crate::{lists, output};

/// A file that a run reads or writes, and what for.
struct Use<'p> {
    path: &'p Path,
    what: &'static str,
    /// Without links and dots.
    real: PathBuf,
    /// Which file it is, where there is one.
    stamp: Option<Stamp>,
}

impl<'p> Use<'p> {
    fn of(what: &'static str, path: &'p Path) -> Self {
        // To look at a pipe would be to open it, so only files are identified by more than their path.
        let facts = path.metadata().ok().filter(std::fs::Metadata::is_file);
        let stamp = facts.and_then(|_| Stamp::of_path(path).ok());
        Self { path, what, real: real_path(path), stamp }
    }

    fn is_same(&self, other: &Self) -> bool {
        let is_one_file = |(one, other): (Stamp, Stamp)| one.is_same_file(&other);
        self.real == other.real
            || (cfg!(unix) && self.stamp.zip(other.stamp).is_some_and(is_one_file))
    }
}

/// Refuses a run of which an output is an input, or two outputs are one or within each other.
pub(crate) fn refuse(asked: &Asked, call: &Call) -> Result<()> {
    let is_in_place = matches!(call.into, Destination::Main);
    let main = call.main.address.path().filter(|_| !is_in_place);
    let mut inputs: Vec<Use<'_>> =
        main.map(|path| Use::of("the main table", path)).into_iter().collect();
    let references = call.reference_inputs().filter_map(Address::path);
    inputs.extend(references.map(|path| Use::of("a reference", path)));
    inputs.extend(asked.file.as_ref().map(|plan| Use::of("the plan", &plan.path)));
    let lists = call.lists.as_deref().map(lists::paths).unwrap_or_default();
    let table = call.output().and_then(Address::path).map(|path| Use::of("the table", path));
    let mut outputs: Vec<Use<'_>> = table.into_iter().collect();
    outputs.extend(lists.iter().map(|path| Use::of("a list", path)));
    outputs.extend(call.reports.iter().map(|path| Use::of("a report", path)));
    outputs.extend(call.receipt.iter().map(|path| Use::of("the receipt", path)));
    outputs.extend(call.corrections.iter().map(|path| Use::of("the corrections", path)));
    outputs.extend(asked.save.iter().map(|path| Use::of("the saved plan", path)));
    outputs.extend(call.statements().map(|path| Use::of("the statements", path)));
    // A workbook or database that is an input may get another table.
    let has_others = match (&call.into, call.output()) {
        (Destination::Main, Some(main)) => main.format().info().has_parts,
        (_, Some(output)) => is_worksheet(output) || output.is_database(),
        (_, None) => false,
    };
    for (nth, one) in outputs.iter().enumerate() {
        let may_be_input = nth == 0 && has_others;
        if !may_be_input && inputs.iter().any(|input| input.is_same(one)) {
            return Err(FormatError::OutputIsInput { name: one.path.display().to_string() }.into());
        }
        if let Some(other) = outputs[..nth].iter().find(|other| other.is_same(one)) {
            let (name, one, other) = (one.path.display().to_string(), one.what, other.what);
            return Err(Error::WrittenTwice { name, one: other, other: one });
        }
        let is_within =
            |other: &&Use<'_>| other.real != one.real && other.real.starts_with(&one.real);
        if let Some(other) = outputs.iter().find(is_within) {
            let name = one.path.display().to_string();
            return Err(Error::WithinOutput { name, one: one.what, other: other.what });
        }
    }
    let all: Vec<&Address> = call.inputs().collect();
    match &call.into {
        Destination::Output(Address::Standard) => output::refuse_standard(&all),
        Destination::Output(output @ Address::Server(_)) if all.contains(&output) => {
            Err(FormatError::OutputIsInput { name: output.to_string() }.into())
        }
        _ => Ok(()),
    }
}

/// Whether an address is of a worksheet of a workbook that is there.
pub(crate) fn is_worksheet(address: &Address) -> bool {
    matches!(address, Address::Part(path, _) if path.is_file())
        && address.format() == Format::Workbook
}

/// Refuses an output that is a worksheet, or a table of a database, which is one of the inputs: each of these with
/// its path.
pub(crate) fn refuse_part<'p>(
    output: &Address,
    inputs: impl Iterator<Item = (&'p Path, &'p str)>,
) -> Result<()> {
    let Some(path) = output.path() else { return Ok(()) };
    let part = output.part().map_or_else(|| output.stem(), str::to_owned);
    for (input, table) in inputs {
        let of_file = Use::of("a table", input).is_same(&Use::of("the table", path));
        if of_file && table.to_lowercase() == part.to_lowercase() {
            return Err(FormatError::OutputIsInput { name: output.to_string() }.into());
        }
    }
    Ok(())
}

/// Refuses an output that is the only input.
pub(crate) fn refuse_input(output: &Address, input: &Address) -> Result<()> {
    if let Some((to, from)) = output.path().zip(input.path())
        && Use::of("the table", to).is_same(&Use::of("the main table", from))
    {
        return Err(FormatError::OutputIsInput { name: to.display().to_string() }.into());
    }
    Ok(())
}

/// Every file that a run writes, to be checked for remains of an earlier run.
pub(crate) fn targets(asked: &Asked, call: &Call) -> Vec<PathBuf> {
    let lists = call.lists.as_deref().map(lists::paths).unwrap_or_default();
    let table = call.output().and_then(Address::path).map(Path::to_owned);
    let rest = call.reports.iter().chain(&call.receipt).chain(&call.corrections).chain(&asked.save);
    let statements = call.statements().map(Path::to_owned);
    table.into_iter().chain(lists).chain(rest.cloned()).chain(statements).collect()
}
