//! The output: a file that appears whole, the main file itself, or standard output.

use std::fs::File;
use std::io::{self, IoSlice, Seek, Write};
use std::path::Path;

use gather_keys_formats::commit::Finished;
use gather_keys_formats::delimited::{Encoded, Encoding, Layout, Writer};
use gather_keys_formats::json::JsonWriter;
use gather_keys_formats::postgresql::{ServerUpdater, ServerWriter};
use gather_keys_formats::sqlite::{DatabaseWriter, TableUpdater};
use gather_keys_formats::workbook::{AddedWorksheet, WorkbookOptions, WorkbookWriter, refuse_open};
use gather_keys_formats::{Address, Codec, Error, InputFile, Packed, Sum, WholeFile};
use same_file::Handle;

use crate::error::{self, Result};
use crate::standard_output;
use crate::targets::Ready;
use crate::terminal::TableOut;

/// The name of standard output in messages.
pub(crate) const STANDARD: &str = "standard output";

/// The output of a run.
#[derive(Debug)]
pub(crate) struct Output {
    at: At,
    /// The sum of what is written, where it is wanted.
    sum: Option<Sum>,
    /// Whether the reader of standard output has closed it, so that nobody wants the rest.
    is_closed: bool,
    /// Whether a reader that closes standard output ends the run.
    ends_when_closed: bool,
    /// The workbook that is there, of which a worksheet is written, and whether one may be replaced.
    book: Option<(InputFile, bool)>,
}

#[derive(Debug)]
enum At {
    /// A file; the main file with the stamp in the name of its backup, if it gets one.
    File(WholeFile, Option<String>),
    /// A table on a server.
    Server(Box<ServerWriter>),
    /// A table of a database; of a new one with the file that it will be.
    Database {
        writer: Box<DatabaseWriter>,
        file: Option<WholeFile>,
    },
    /// The main table, on a server or in a database, that is written into.
    ServerTable(Box<ServerUpdater>),
    DatabaseTable(Box<TableUpdater>),
    /// Standard output, as the rows come.
    Straight(TableOut),
    /// Standard output, or a device or pipe, but only once it is known that the table may be written.
    Held(File, Option<WholeFile>),
}

/// An output that is written, and has only to appear.
#[derive(Debug)]
pub(crate) struct Ended {
    /// Its file, where it is one.
    pub(crate) file: Option<Finished>,
    /// Its size and digest, where they were wanted.
    pub(crate) sum: Option<(u64, String)>,
    unsent: Unsent,
}

/// An output that is not a file, and is sent by itself.
#[derive(Debug)]
enum Unsent {
    Nothing,
    Server(Box<ServerWriter>),
    Database(Box<DatabaseWriter>),
    ServerTable(Box<ServerUpdater>),
    DatabaseTable(Box<TableUpdater>),
    Held(File, Option<WholeFile>),
}

impl Ended {
    /// Sends what was held back from standard output, a device or a pipe.
    pub(crate) fn send(&mut self) -> Result<()> {
        let Unsent::Held(held, target) = &mut self.unsent else { return Ok(()) };
        held.rewind().map_err(refused)?;
        let copied = match target {
            Some(target) => {
                let copied = io::copy(held, target).and_then(|_| target.flush());
                copied.map_err(|cause| Error::Write { name: target.name().to_owned(), cause })
            }
            None => {
                let mut out = TableOut::new();
                io::copy(held, &mut out).and_then(|_| out.flush()).map_err(refused)
            }
        };
        match copied {
            // Its reader has closed it.
            Err(error) if error.is_closed_pipe() => Ok(()),
            copied => Ok(copied?),
        }
    }

    /// Ends the transaction of a database, so that its table appears.
    pub(crate) fn end_transaction(self) -> gather_keys_formats::Result<()> {
        match self.unsent {
            Unsent::Nothing | Unsent::Held(..) => Ok(()),
            Unsent::Server(writer) => writer.commit(),
            Unsent::Database(writer) => writer.commit(),
            Unsent::ServerTable(updater) => updater.commit(),
            Unsent::DatabaseTable(updater) => updater.commit(),
        }
    }
}

/// Writes a table to an output, encoded and packed.
pub(crate) type TableWriter<'o> = Writer<Encoded<Packed<&'o mut Output>>>;

/// The form that a table is written in.
#[derive(Debug, Clone)]
pub(crate) struct Form {
    pub(crate) layout: Layout,
    pub(crate) packing: Option<Codec>,
}

impl Form {
    /// The form of a table, in another encoding if one is asked for; packed as the output's name says.
    pub(crate) fn like(mut layout: Layout, output: &Address, encoding: Option<Encoding>) -> Self {
        if let Some(encoding) = encoding.filter(|encoding| *encoding != layout.dialect.encoding) {
            layout.dialect.encoding = encoding;
            // Text with two bytes a character can't be recognised without its byte-order mark; other text
            // has none.
            layout.dialect.byte_order_mark = encoding.is_utf_16();
        }
        layout.preamble.clear();
        Self { layout, packing: output.path().and_then(Codec::of) }
    }
}

impl Output {
    /// Begins the output. With `held` nothing reaches standard output before [`Ended::send`].
    pub(crate) fn create(
        address: &Address,
        overwrite: bool,
        held: bool,
        summed: bool,
    ) -> Result<Self> {
        address.check_written()?;
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
                let file = is_new.then(|| WholeFile::create_named(path, overwrite)).transpose()?;
                let place = file.as_ref().and_then(WholeFile::beside).unwrap_or(path);
                let writer = DatabaseWriter::begin(&name, place, &table, overwrite)?;
                At::Database { writer: Box::new(writer), file }
            }
            _ if !address.is_written() => {
                return Err(error::Error::NotWritable { name: address.to_string() });
            }
            Address::File(path) | Address::Part(path, _) => {
                let file = WholeFile::create(path, overwrite)?;
                if file.is_straight() && held {
                    At::Held(tempfile::tempfile().map_err(refused)?, Some(file))
                } else {
                    At::File(file, None)
                }
            }
            Address::Standard if standard_output::was_closed() => {
                return Err(error::Error::StandardOutputClosed);
            }
            Address::Standard if held => At::Held(tempfile::tempfile().map_err(refused)?, None),
            Address::Standard => At::Straight(TableOut::new()),
        };
        Ok(Self::at(at, summed))
    }

    fn at(at: At, summed: bool) -> Self {
        let sum = summed.then(Sum::default);
        Self { at, sum, is_closed: false, ends_when_closed: true, book: None }
    }

    /// Begins a worksheet of a workbook that is there, which is kept as it was under a name with `kept`, if there is
    /// such.
    pub(crate) fn in_workbook(
        path: &Path,
        overwrite: bool,
        kept: Option<String>,
        summed: bool,
    ) -> Result<Self> {
        refuse_open(path)?;
        let unreadable = |cause| Error::Read { name: path.display().to_string(), cause };
        let file = InputFile::open(path).map_err(unreadable)?;
        file.lock()?;
        let whole = WholeFile::replacing(&file)?;
        let book = Some((file, overwrite));
        Ok(Self { book, ..Self::at(At::File(whole, kept), summed) })
    }

    /// Goes on when the reader of standard output closes it, since the run has other outputs too.
    pub(crate) fn outlives_reader(&mut self) {
        self.ends_when_closed = false;
    }

    /// Whether the reader of standard output has closed it before all was written.
    pub(crate) fn is_closed(&self) -> bool {
        self.is_closed
    }

    /// Begins what is to take the place of the main file, which is locked. With a `stamp` what it was is
    /// kept under a name with that.
    pub(crate) fn in_place(main: &InputFile, stamp: Option<String>, summed: bool) -> Result<Self> {
        Ok(Self::at(At::File(WholeFile::replacing(main)?, stamp), summed))
    }

    /// Begins to write into the main table of a database.
    pub(crate) fn in_table(address: &Address, table: Option<&str>) -> Result<Self> {
        let at = match address {
            Address::Server(server) => At::ServerTable(Box::new(ServerUpdater::begin(server)?)),
            other => {
                let path = other.path().unwrap_or(Path::new(""));
                let (name, table) = (path.display().to_string(), table.unwrap_or_default());
                At::DatabaseTable(Box::new(TableUpdater::begin(&name, path, table)?))
            }
        };
        Ok(Self::at(at, false))
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
        packing: Option<Codec>,
    ) -> Result<JsonWriter<Packed<&mut Self>>> {
        let name = self.name();
        let packed = Packed::new(self, packing);
        let packed = packed.map_err(|cause| Error::Write { name: name.clone(), cause })?;
        Ok(JsonWriter::new(name, packed, lines))
    }

    /// Begins to write a table as a worksheet of the workbook that is there, if there is one.
    pub(crate) fn worksheet(&self, options: WorkbookOptions<'_>) -> Result<Option<AddedWorksheet>> {
        let Some((file, overwrite)) = &self.book else { return Ok(None) };
        Ok(Some(AddedWorksheet::new(file, *overwrite, options)?))
    }

    /// The worksheet that it is, where the rest of its workbook stays.
    pub(crate) fn worksheet_name<'a>(&self, address: Option<&'a Address>) -> Option<&'a str> {
        address.and_then(Address::part).filter(|_| self.book.is_some())
    }

    /// Begins to write a table as a workbook.
    pub(crate) fn workbook(&self, options: WorkbookOptions<'_>) -> Result<WorkbookWriter> {
        Ok(WorkbookWriter::new(self.name(), options)?)
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

    /// The writer into the main table of a database.
    pub(crate) fn database_table(&mut self) -> Option<&mut TableUpdater> {
        match &mut self.at {
            At::DatabaseTable(updater) => Some(updater),
            _ => None,
        }
    }

    /// The writer into the main table on a server.
    pub(crate) fn server_table(&mut self) -> Option<&mut ServerUpdater> {
        match &mut self.at {
            At::ServerTable(updater) => Some(updater),
            _ => None,
        }
    }

    /// Its name in messages.
    pub(crate) fn name(&self) -> String {
        match &self.at {
            At::Server(writer) => writer.name().to_owned(),
            At::ServerTable(updater) => updater.name().to_owned(),
            At::DatabaseTable(updater) => updater.name().to_owned(),
            At::Database { writer, .. } => writer.name().to_owned(),
            At::File(file, _) | At::Held(_, Some(file)) => file.name().to_owned(),
            At::Straight(_) | At::Held(_, None) => STANDARD.to_owned(),
        }
    }

    /// Its content so far, for a file.
    pub(crate) fn written(&self) -> Result<Option<InputFile>> {
        match &self.at {
            At::File(file, _) => Ok(file.written()?),
            _ => Ok(None),
        }
    }

    /// Lets an output appear that is the only one, and was made of what is in a file.
    pub(crate) fn appear(self, read: Option<&InputFile>) -> Result<()> {
        let output = Some(self.finish(None)?);
        if let Some(read) = read.filter(|read| !read.is_unchanged()) {
            return Err(error::Error::InputChanged { name: read.name().to_owned() });
        }
        Ready { output, ..Ready::default() }.commit().map(drop)
    }

    /// Ends the output, so that only its place is missing. What is replaced is kept under a name with
    /// `kept`, if there is such.
    pub(crate) fn finish(self, kept: Option<&str>) -> Result<Ended> {
        let sum = self.sum.map(|sum| sum.size_and_digest());
        let (mut file, mut unsent) = (None, Unsent::Nothing);
        match self.at {
            At::File(whole, stamp) => {
                let mut finished = whole.finish()?;
                if let Some(stamp) = stamp.as_deref().or(kept) {
                    finished.keep_replaced(stamp)?;
                }
                file = Some(finished);
            }
            At::Server(writer) => unsent = Unsent::Server(writer),
            At::ServerTable(updater) => unsent = Unsent::ServerTable(updater),
            At::DatabaseTable(updater) => unsent = Unsent::DatabaseTable(updater),
            At::Database { writer, file: None } => unsent = Unsent::Database(writer),
            At::Database { writer, file: Some(whole) } => {
                writer.commit()?;
                file = Some(whole.finish()?);
            }
            At::Straight(mut out) => match out.flush() {
                Err(_) if self.is_closed => {}
                done => done.map_err(refused)?,
            },
            At::Held(held, target) => unsent = Unsent::Held(held, target),
        }
        Ok(Ended { file, sum, unsent })
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
        let all = pieces.iter().map(|piece| piece.len()).sum();
        let written = match &mut self.at {
            At::File(file, _) => file.write_vectored(pieces),
            // Its rows go by way of its own writer.
            At::Database { .. } | At::Server(_) | At::ServerTable(_) | At::DatabaseTable(_) => {
                Ok(all)
            }
            At::Straight(_) if self.is_closed => Ok(all),
            At::Straight(out) => match out.write_vectored(pieces) {
                Err(error)
                    if error.kind() == io::ErrorKind::BrokenPipe && !self.ends_when_closed =>
                {
                    self.is_closed = true;
                    Ok(all)
                }
                written => written,
            },
            At::Held(file, _) => file.write_vectored(pieces),
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
            At::File(file, _) => file.flush(),
            At::Straight(_) if self.is_closed => Ok(()),
            At::Straight(out) => out.flush(),
            At::Database { .. } | At::Server(_) | At::ServerTable(_) | At::DatabaseTable(_) => {
                Ok(())
            }
            At::Held(file, _) => file.flush(),
        }
    }
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
