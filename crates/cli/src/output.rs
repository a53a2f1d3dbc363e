//! Where the enriched table goes: a file that appears whole, the main file itself, or standard
//! output.

use std::fs::{self, File, Metadata};
use std::io::{self, IoSlice, Seek, Write};
use std::path::{Path, PathBuf};

use gather_keys_formats::delimited::{Encoded, Encoding, Layout, Writer};
use gather_keys_formats::json::JsonWriter;
use gather_keys_formats::postgresql::ServerWriter;
use gather_keys_formats::sqlite::DatabaseWriter;
use gather_keys_formats::workbook::WorkbookWriter;
use gather_keys_formats::{Address, Error, Packed, Packing, Sum, WholeFile, keep_copy};
use same_file::Handle;

use crate::error::{self, Result};

const STANDARD: &str = "standard output";

/// The output of a run.
#[derive(Debug)]
pub(crate) struct Output {
    at: At,
    /// The sum of what is written, where it is wanted.
    sum: Option<Sum>,
}

#[derive(Debug)]
enum At {
    /// A file.
    File(WholeFile),
    /// The main file.
    Main { file: WholeFile, main: Box<MainFile>, stamp: Option<String> },
    /// A table on a server.
    Server(Box<ServerWriter>),
    /// A table of a database; of a new one with the file that it will be.
    Database { writer: Box<DatabaseWriter>, file: Option<WholeFile> },
    /// Standard output, as the rows come.
    Straight(io::Stdout),
    /// Standard output, but only once it is known that the table may be written.
    Held(File),
}

/// The main file as it was when it was opened.
#[derive(Debug, Clone)]
pub(crate) struct MainFile {
    path: PathBuf,
    was: Metadata,
}

impl MainFile {
    /// What is there now, to be asked before it is opened; `None` when it is no file.
    pub(crate) fn at(address: &Address) -> Option<Self> {
        let path = address.path()?.to_owned();
        let was = fs::metadata(&path).ok()?;
        Some(Self { path, was })
    }

    /// Whether nobody has written to it since.
    fn is_same(&self) -> bool {
        fs::metadata(&self.path).is_ok_and(|now| {
            now.len() == self.was.len() && now.modified().ok() == self.was.modified().ok()
        })
    }
}

/// Writes a table to an output, encoded and packed.
pub(crate) type TableWriter<'o> = Writer<Encoded<Packed<&'o mut Output>>>;

/// The form that a table is written in.
#[derive(Debug, Clone)]
pub(crate) struct Form {
    pub(crate) layout: Layout,
    pub(crate) packing: Option<Packing>,
}

impl Form {
    /// The form of a table, in another encoding if one is asked for; packed as the output's name says.
    pub(crate) fn like(mut layout: Layout, output: &Address, encoding: Option<Encoding>) -> Self {
        if let Some(encoding) = encoding.filter(|encoding| *encoding != layout.dialect.encoding) {
            layout.dialect.encoding = encoding;
            // Text of two bytes a sign can't be told without its mark; others have none.
            layout.dialect.byte_order_mark = encoding.is_utf_16();
        }
        Self { layout, packing: output.path().and_then(Packing::of) }
    }
}

/// What is known of an output that has appeared.
#[derive(Debug)]
pub(crate) struct Appeared {
    /// Its size and digest, where they were wanted.
    pub(crate) sum: Option<(u64, String)>,
    /// Where what was there before is kept.
    pub(crate) backup: Option<PathBuf>,
}

impl Output {
    /// Begins the output. With `held` nothing reaches standard output before [`Output::commit`].
    pub(crate) fn create(
        address: &Address,
        overwrite: bool,
        held: bool,
        summed: bool,
    ) -> Result<Self> {
        let of_database = matches!(address, Address::Server(_)) || address.is_database();
        if of_database && summed {
            return Err(error::Error::ReceiptOfDatabase { name: address.to_string() });
        }
        let at = match address {
            Address::Server(server) => {
                At::Server(Box::new(ServerWriter::begin(server, overwrite)?))
            }
            Address::File(path) | Address::Part(path, _) if address.is_database() => {
                let name = path.display().to_string();
                let stem = || Address::File(path.clone()).stem();
                let table = address.part().map_or_else(stem, str::to_owned);
                // A new one appears whole, as every file does; one that is there has its own ways.
                let is_new = !path.exists();
                let file = is_new.then(|| WholeFile::create(path, overwrite)).transpose()?;
                let place = file.as_ref().and_then(WholeFile::beside).unwrap_or(path);
                let writer = DatabaseWriter::begin(&name, place, &table, overwrite)?;
                At::Database { writer: Box::new(writer), file }
            }
            _ if !address.is_text()
                && !address.is_workbook()
                && address.is_json().is_none()
                && address.is_columnar().is_none() =>
            {
                return Err(error::Error::NotWritable { name: address.to_string() });
            }
            Address::File(path) | Address::Part(path, _) => {
                At::File(WholeFile::create(path, overwrite)?)
            }
            Address::Standard if held => At::Held(tempfile::tempfile().map_err(refused)?),
            Address::Standard => At::Straight(io::stdout()),
        };
        Ok(Self { at, sum: summed.then(Sum::default) })
    }

    /// Begins what is to take the place of the main file, which was so when it was opened. With a
    /// `stamp` what it was is kept under a name with that.
    pub(crate) fn in_place(main: &MainFile, stamp: Option<String>, summed: bool) -> Result<Self> {
        let file = WholeFile::create(&main.path, true)?;
        let at = At::Main { file, main: Box::new(main.clone()), stamp };
        Ok(Self { at, sum: summed.then(Sum::default) })
    }

    /// Begins to write a table of a form.
    pub(crate) fn writer(&mut self, form: &Form) -> Result<TableWriter<'_>> {
        let name = self.name();
        let packed = Packed::new(self, form.packing);
        let packed = packed.map_err(|cause| Error::Write { name: name.clone(), cause })?;
        let encoded = Encoded::new(packed, form.layout.dialect.encoding);
        Ok(Writer::new(name, encoded, form.layout.clone()))
    }

    /// Begins to write a table as JSON, on lines or as a document.
    pub(crate) fn json(
        &mut self,
        lines: bool,
        packing: Option<Packing>,
    ) -> Result<JsonWriter<Packed<&mut Self>>> {
        let name = self.name();
        let packed = Packed::new(self, packing);
        let packed = packed.map_err(|cause| Error::Write { name: name.clone(), cause })?;
        Ok(JsonWriter::new(name, packed, lines))
    }

    /// Begins to write a table as a workbook.
    pub(crate) fn workbook(&self, worksheet: Option<&str>, plain: bool) -> Result<WorkbookWriter> {
        Ok(WorkbookWriter::new(self.name(), worksheet, plain)?)
    }

    /// The writer of a table of a database, where it is one.
    pub(crate) fn database(&mut self) -> Option<&mut DatabaseWriter> {
        match &mut self.at {
            At::Database { writer, .. } => Some(writer),
            _ => None,
        }
    }

    /// The writer of a table on a server, where it is one.
    pub(crate) fn server(&mut self) -> Option<&mut ServerWriter> {
        match &mut self.at {
            At::Server(writer) => Some(writer),
            _ => None,
        }
    }

    /// What it is called in messages.
    pub(crate) fn name(&self) -> String {
        match &self.at {
            At::Server(writer) => writer.name().to_owned(),
            At::Database { writer, .. } => writer.name().to_owned(),
            At::File(file) | At::Main { file, .. } => file.name().to_owned(),
            At::Straight(_) | At::Held(_) => STANDARD.to_owned(),
        }
    }

    /// Where its content stands until it appears, for a file.
    pub(crate) fn beside(&self) -> Option<&Path> {
        match &self.at {
            At::File(file) | At::Main { file, .. } => file.beside(),
            At::Straight(_) | At::Held(_) | At::Database { .. } | At::Server(_) => None,
        }
    }

    /// Lets the output appear.
    pub(crate) fn commit(self) -> Result<Appeared> {
        let sum = self.sum.map(|sum| sum.told());
        let mut backup = None;
        match self.at {
            At::File(file) => file.commit()?,
            At::Main { file, main, stamp } => {
                if !main.is_same() {
                    return Err(error::Error::MainMoved { name: main.path.display().to_string() });
                }
                if let Some(stamp) = stamp {
                    backup = Some(keep_copy(&main.path, &stamp)?);
                }
                if let Err(error) = file.commit() {
                    // Nothing took the place of the file, so that there is nothing to keep.
                    if let Some(backup) = &backup {
                        let _ = fs::remove_file(backup);
                    }
                    return Err(error.into());
                }
            }
            At::Server(writer) => writer.commit()?,
            At::Database { writer, file } => {
                writer.commit()?;
                file.map_or(Ok(()), WholeFile::commit)?;
            }
            At::Straight(mut out) => out.flush().map_err(refused)?,
            At::Held(mut file) => {
                file.rewind().map_err(refused)?;
                let mut out = io::stdout().lock();
                io::copy(&mut file, &mut out).map_err(refused)?;
                out.flush().map_err(refused)?;
            }
        }
        Ok(Appeared { sum, backup })
    }
}

/// Ends a table that was written.
pub(crate) fn finish(writer: TableWriter<'_>) -> Result<()> {
    let name = writer.name().to_owned();
    let finished = writer.finish()?.into_inner().finish();
    finished.map_err(|cause| Error::Write { name, cause })?;
    Ok(())
}

fn refused(cause: io::Error) -> Error {
    Error::Write { name: STANDARD.to_owned(), cause }
}

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.write_vectored(&[IoSlice::new(bytes)])
    }

    fn write_vectored(&mut self, pieces: &[IoSlice<'_>]) -> io::Result<usize> {
        let written = match &mut self.at {
            At::File(file) | At::Main { file, .. } => file.write_vectored(pieces),
            // Its rows go by way of its own writer.
            At::Database { .. } | At::Server(_) => Ok(pieces.iter().map(|piece| piece.len()).sum()),
            At::Straight(out) => out.write_vectored(pieces),
            At::Held(file) => file.write_vectored(pieces),
        }?;
        if let Some(sum) = &mut self.sum {
            let mut left = written;
            for piece in pieces {
                let piece = &piece[..piece.len().min(left)];
                sum.add(piece);
                left -= piece.len();
            }
        }
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        match &mut self.at {
            At::File(file) | At::Main { file, .. } => file.flush(),
            At::Straight(out) => out.flush(),
            At::Database { .. } | At::Server(_) => Ok(()),
            At::Held(file) => file.flush(),
        }
    }
}

/// Refuses an output that is one of the inputs, whatever names they go by.
pub(crate) fn refuse_inputs<'a>(
    outputs: impl IntoIterator<Item = &'a Path>,
    inputs: &[&Address],
) -> Result<()> {
    // To look at a pipe would be to open it, and it can be opened only once.
    let is_file = |path: &&Path| path.metadata().is_ok_and(|facts| facts.is_file());
    let is_input = |output: &Handle| {
        let paths = inputs.iter().filter_map(|input| input.path()).filter(is_file);
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
