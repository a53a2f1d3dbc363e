//! Where the enriched table goes: a file that appears whole, or standard output.

use std::fs::File;
use std::io::{self, Seek, Write};
use std::path::Path;

use gather_keys_formats::{Address, Error, WholeFile};
use same_file::Handle;

use crate::error::Result;

const STANDARD: &str = "standard output";

/// The output of a run.
#[derive(Debug)]
pub(crate) enum Output {
    /// A file.
    File(WholeFile),
    /// Standard output, as the rows come.
    Straight(io::Stdout),
    /// Standard output, but only once it is known that the table may be written.
    Held(File),
}

impl Output {
    /// Begins the output. With `held` nothing reaches standard output before
    /// [`Output::commit`].
    pub(crate) fn create(address: &Address, overwrite: bool, held: bool) -> Result<Self> {
        Ok(match address {
            Address::File(path) => Self::File(WholeFile::create(path, overwrite)?),
            Address::Standard if held => Self::Held(tempfile::tempfile().map_err(refused)?),
            Address::Standard => Self::Straight(io::stdout()),
        })
    }

    /// What it is called in messages.
    pub(crate) fn name(&self) -> String {
        match self {
            Self::File(file) => file.name().to_owned(),
            Self::Straight(_) | Self::Held(_) => STANDARD.to_owned(),
        }
    }

    /// Lets the output appear.
    pub(crate) fn commit(self) -> Result<()> {
        match self {
            Self::File(file) => file.commit()?,
            Self::Straight(mut out) => out.flush().map_err(refused)?,
            Self::Held(mut file) => {
                file.rewind().map_err(refused)?;
                let mut out = io::stdout().lock();
                io::copy(&mut file, &mut out).map_err(refused)?;
                out.flush().map_err(refused)?;
            }
        }
        Ok(())
    }
}

fn refused(cause: io::Error) -> Error {
    Error::Write { name: STANDARD.to_owned(), cause }
}

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Self::File(file) => file.write(bytes),
            Self::Straight(out) => out.write(bytes),
            Self::Held(file) => file.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Self::File(file) => file.flush(),
            Self::Straight(out) => out.flush(),
            Self::Held(file) => file.flush(),
        }
    }
}

/// Refuses an output that is one of the inputs, whatever names they go by.
pub(crate) fn refuse_inputs<'a>(
    outputs: impl IntoIterator<Item = &'a Path>,
    inputs: &[&Address],
) -> Result<()> {
    let is_input = |output: &Handle| {
        let paths = inputs.iter().filter_map(|input| input.path());
        let mut handles = paths.filter_map(|path| Handle::from_path(path).ok());
        handles.any(|input| input == *output)
    };
    for path in outputs {
        if Handle::from_path(path).is_ok_and(|output| is_input(&output)) {
            return Err(Error::OutputIsInput { name: path.display().to_string() }.into());
        }
    }
    Ok(())
}

/// Refuses standard output when it leads to one of the inputs.
pub(crate) fn refuse_standard(inputs: &[&Address]) -> Result<()> {
    let Ok(output) = Handle::stdout() else { return Ok(()) };
    let is_file = |path: &Path| path.metadata().is_ok_and(|facts| facts.is_file());
    let paths = inputs.iter().filter_map(|input| input.path()).filter(|path| is_file(path));
    for path in paths {
        if Handle::from_path(path).is_ok_and(|input| input == output) {
            return Err(Error::OutputIsInput { name: path.display().to_string() }.into());
        }
    }
    Ok(())
}
