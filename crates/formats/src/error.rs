//! Everything that can be wrong with a file.

use std::fmt;
use std::io;
use std::path::PathBuf;

use gather_keys_core::table::Differing;

use crate::Reading;
use crate::delimited::{NotInEncoding, Unencodable};
use crate::workbook::Refusal;

/// A result of the formats.
pub type Result<T> = std::result::Result<T, Error>;

/// A table that can't be read or written; each says what would fix it.
#[derive(Debug)]
#[non_exhaustive]
pub enum Error {
    /// An error of the computation.
    Core(gather_keys_core::Error),
    /// There is no such file.
    Missing {
        /// The address.
        name: String,
        /// A file next to it that is spelled much like it.
        nearest: Option<PathBuf>,
    },
    /// No file matches a pattern.
    NothingLike {
        /// The path as it was written.
        pattern: String,
    },
    /// A pattern of several files can't be understood.
    BadGlob {
        /// The path as it was written.
        pattern: String,
        /// Where, in bytes.
        at: usize,
        /// The fault in words.
        fault: &'static str,
    },
    /// A file that is read as one table with another has other headers.
    OtherHeaders {
        /// Its address.
        name: String,
        /// The address of the first.
        first: String,
        /// The missing part, and the parts that the file has.
        differing: Differing,
    },
    /// The file can't be opened or read.
    Read {
        /// The address.
        name: String,
        /// Why.
        cause: io::Error,
    },
    /// There is not even a header row.
    Empty {
        /// The address.
        name: String,
    },
    /// The headers should be on a line that is blank, or not there, or within a cell.
    NoHeaderLine {
        /// The address.
        name: String,
        /// The line, from 1.
        line: u64,
    },
    /// The content can't be read.
    Unread {
        /// The address.
        name: String,
        /// Why.
        said: String,
        /// The fix in words.
        fix: &'static str,
    },
    /// A file has no part of this name.
    NoPart {
        /// The address.
        name: String,
        /// The parts of the file.
        what: &'static str,
        /// The name that was asked for.
        asked: String,
        /// The names that there are.
        all: Vec<String>,
    },
    /// The part of an output has no name, or one that can't be written.
    BadPart {
        /// The output.
        name: String,
    },
    /// Something was said of a table that its format knows nothing of.
    NotOfFormat {
        /// The table.
        name: String,
        /// The name of its format.
        format: &'static str,
        /// The statement that does not apply.
        reading: Reading,
    },
    /// A table can't be written in the form that was asked for.
    Unwritten {
        /// The output.
        name: String,
        /// Why.
        said: String,
    },
    /// A workbook can't hold as many columns.
    WideForWorkbook {
        /// The address.
        name: String,
        /// How many columns there are.
        columns: usize,
    },
    /// A table of a database that is written into has no primary key by which its rows are found.
    NoKey {
        /// The database.
        name: String,
        /// The table.
        table: String,
    },
    /// Other tables inherit from a table that is to be written, so that their rows would be written too.
    Inherited {
        /// The database.
        name: String,
        /// The table.
        table: String,
    },
    /// An update would change the primary key of a table that is written into.
    UpdatesKey {
        /// The table.
        name: String,
        /// The header of the column.
        header: String,
    },
    /// Nothing is written into a workbook that is there.
    NotInto {
        /// The workbook.
        name: String,
        /// Why not.
        why: Refusal,
    },
    /// A table has more rows than a worksheet.
    TooManyForWorkbook {
        /// The output.
        name: String,
        /// How many rows a worksheet has below its headers.
        most: u32,
    },
    /// A cell has more text than one of a workbook.
    LongForWorkbook {
        /// The output.
        name: String,
        /// The data row, from 1.
        row: u64,
        /// The column's header.
        header: String,
    },
    /// A header is not in the worksheet that is read, but in others.
    HeaderElsewhere {
        /// The address.
        name: String,
        /// The worksheet that is read.
        worksheet: String,
        /// The header.
        asked: String,
        /// The worksheets that have it.
        holders: Vec<String>,
    },
    /// A worksheet can't have a name.
    BadWorksheet {
        /// The address.
        name: String,
        /// The name of the worksheet.
        worksheet: String,
    },
    /// Several worksheets hold the headers that are asked for.
    SeveralWorksheets {
        /// The address.
        name: String,
        /// The worksheets.
        all: Vec<String>,
    },
    /// The content is in some other format.
    OtherFormat {
        /// The address.
        name: String,
        /// The format that it seems to have.
        seems: &'static str,
        /// The fix in words.
        fix: &'static str,
    },
    /// A cell is not UTF-8.
    NotText {
        /// The address.
        name: String,
        /// Where.
        place: Place,
    },
    /// A row has another number of cells than there are headers.
    Ragged {
        /// The address.
        name: String,
        /// Where.
        place: Place,
        /// How many cells it has.
        cells: usize,
        /// How many headers there are.
        headers: usize,
    },
    /// A quote is never closed.
    OpenQuote {
        /// The address.
        name: String,
        /// The place of the opening quote.
        place: Place,
    },
    /// A row takes more memory than any sensible row would.
    RowTooLong {
        /// The address.
        name: String,
        /// The byte at which it begins, from 0.
        at: u64,
        /// The most bytes that a row may take.
        most: usize,
        /// Whether there is a double quote in it.
        is_quoted: bool,
    },
    /// A table is too large to be copied to a server for a run.
    TooLargeToShip {
        /// The address.
        name: String,
        /// The most bytes that are copied.
        most: u64,
    },
    /// A server of a database can't be worked with.
    Server {
        /// The address, without a password.
        name: String,
        /// The message of the server.
        said: String,
        /// The fix in words.
        fix: &'static str,
    },
    /// Rows that wait to be written can't be stored.
    Spool {
        /// The output.
        name: String,
        /// Why.
        cause: io::Error,
    },
    /// A database has a table, or a view, of the name that is to be written.
    TableExists {
        /// The database.
        name: String,
        /// The table.
        table: String,
        /// Whether it is a view, which is not replaced.
        is_view: bool,
    },
    /// A table has other columns than the rows that are to replace its own.
    WouldLose {
        /// The database.
        name: String,
        /// The table.
        table: String,
        /// The things that would be lost with the table.
        lost: Vec<String>,
    },
    /// Rows of other tables refer to keys that the new rows of a table lack.
    BreaksKeys {
        /// The database.
        name: String,
        /// The table.
        table: String,
        /// How many such rows there are.
        count: u64,
    },
    /// A column of numbers would make a number of a text.
    BecomesNumber {
        /// The output.
        name: String,
        /// The data row, from 1.
        row: u64,
        /// The column's header.
        header: String,
        /// The text.
        cell: String,
    },
    /// A database can't be written to.
    Database {
        /// The database.
        name: String,
        /// The message of the database.
        said: String,
        /// The fix in words.
        fix: &'static str,
    },
    /// The output is there already.
    OutputExists {
        /// Its path.
        name: String,
    },
    /// The output is one of the inputs.
    OutputIsInput {
        /// Its path.
        name: String,
    },
    /// Another run is writing the file.
    InUse {
        /// Its path.
        name: String,
    },
    /// The file that is to be written is another than when the run began.
    TargetChanged {
        /// Its path.
        name: String,
    },
    /// Some of a run's files are in their places, and the rest can be neither put there nor taken back.
    Unsettled {
        /// The path of the file that could not be placed.
        name: String,
        /// Why.
        cause: io::Error,
    },
    /// The folder that the output should be in does not exist.
    FolderMissing {
        /// The output's path.
        name: String,
        /// The folder.
        folder: PathBuf,
    },
    /// The output can't be written.
    Write {
        /// Its path.
        name: String,
        /// Why.
        cause: io::Error,
    },
}

/// A place in a table, as a person counts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The data row, from 1; 0 is the header row.
    pub row: u64,
    /// The line of the file, from 1.
    pub line: u64,
    /// The column's header, where one cell is meant.
    pub header: Option<String>,
}

impl Error {
    /// Whether this is the reader of our output having closed it, which is no error of ours.
    pub fn is_closed_pipe(&self) -> bool {
        matches!(self, Self::Write { cause, .. } if cause.kind() == io::ErrorKind::BrokenPipe)
    }
}

impl From<gather_keys_core::Error> for Error {
    fn from(error: gather_keys_core::Error) -> Self {
        Self::Core(error)
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.row {
            0 => write!(f, "the header row (line {})", self.line)?,
            row => write!(f, "row {row} (line {})", self.line)?,
        }
        self.header.as_ref().map_or(Ok(()), |header| write!(f, ", column `{header}`"))
    }
}

impl fmt::Display for Error {
    // A sentence for each.
    #[allow(clippy::too_many_lines)]
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Core(error) => error.fmt(f),
            Self::Missing { name, nearest: Some(nearest) } => {
                write!(f, "the file {name} does not exist; did you mean {}?", nearest.display())
            }
            Self::Missing { name, nearest: None } => {
                write!(
                    f,
                    "the file {name} does not exist: check the path and the folder you are in"
                )
            }
            Self::NothingLike { pattern } => {
                write!(f, "no file matches {pattern}: check the path and the folder you are in")
            }
            Self::BadGlob { pattern, at, fault } => {
                write!(f, "{pattern} can't be understood at byte {}: {fault}; ", at + 1)?;
                write!(f, "put a character that is meant literally in brackets, such as `[*]`")
            }
            Self::OtherHeaders { name, first, differing: Differing { missing, surplus } } => {
                write!(f, "{name} has other headers than {first}: ")?;
                let listed = |names: &[String]| format!("`{}`", names.join("`, `"));
                if !missing.is_empty() {
                    write!(f, "it lacks {}", listed(missing))?;
                }
                let joint = if missing.is_empty() { "it has" } else { " and has" };
                if !surplus.is_empty() {
                    write!(f, "{joint} also {}", listed(surplus))?;
                }
                write!(f, "; give it the same headers, or make it a reference of its own")
            }
            Self::Read { name, cause } => {
                write!(f, "{name} can't be read: {}", reason(cause))
            }
            Self::Empty { name } => {
                write!(f, "{name} is empty: a table begins with a row of headers")
            }
            Self::NoHeaderLine { name, line } => {
                write!(
                    f,
                    "{name} has no row that begins on line {line}: name the line of the headers"
                )
            }
            Self::Unread { name, said, fix } => write!(f, "{name} can't be read: {said}; {fix}"),
            Self::NoPart { name, asked, all, .. } if asked.is_empty() => {
                write!(f, "{name} has several parts; name one of them")?;
                match all.first() {
                    Some(first) => write!(f, ", such as {name}#{first}"),
                    None => write!(f, ", if it has any"),
                }
            }
            Self::NoPart { name, what, asked, all } => {
                write!(f, "{name} has no {what} `{asked}`; it has `{}`", all.join("`, `"))
            }
            Self::BadPart { name } => write!(
                f,
                "{name} names no part that can be written: give its name after one `#`, or leave \
                 the `#` out"
            ),
            Self::NotOfFormat { name, format, reading } => {
                write!(f, "`{}` does not apply to {name}, whose format is ", reading.key())?;
                write!(f, "{format}: leave it out, or state another format")
            }
            Self::Unwritten { name, said } => {
                write!(f, "{name} can't be written: {said}; name another output")
            }
            Self::WideForWorkbook { name, columns } => {
                write!(
                    f,
                    "{name}: {columns} columns are more than the 16384 of a worksheet; name an "
                )?;
                write!(f, "output such as enriched.csv")
            }
            Self::NoKey { name, table } => write!(
                f,
                "{name} has no table `{table}` with a primary key, by which rows are found again; give \
                 it one, or write another table with -o"
            ),
            Self::Inherited { name, table } => write!(
                f,
                "{name}: other tables inherit from `{table}`, and their rows would be written too; write \
                 another table with -o"
            ),
            Self::UpdatesKey { name, header } => write!(
                f,
                "`{header}` is of the primary key of {name}, by which rows are found again; leave it \
                 out of the update"
            ),
            Self::NotInto { name, why } => write!(f, "{name} is not written to: {why}"),
            Self::TooManyForWorkbook { name, most } => {
                write!(f, "{name} can't be written: a worksheet holds {most} rows below its ")?;
                write!(f, "headers, and there are more; name an output such as enriched.csv")
            }
            Self::LongForWorkbook { name, row, header } => {
                write!(
                    f,
                    "{name}, row {row}, column `{header}`: the text is longer than the 32767 "
                )?;
                write!(f, "characters that a workbook's cell holds; name an output such as ")?;
                write!(f, "enriched.csv")
            }
            Self::HeaderElsewhere { name, worksheet, asked, holders } => {
                let file = name.split('#').next().unwrap_or(name);
                let first = holders.first().map_or("", |first| first);
                let all: Vec<String> = holders.iter().map(|one| format!("`{one}`")).collect();
                let have = if all.len() == 1 { "has" } else { "have" };
                write!(
                    f,
                    "{name}: worksheet `{worksheet}` has no header `{asked}`, but {} ",
                    all.join(", ")
                )?;
                write!(f, "{have} it: name the worksheet, such as `{file}#{first}`")
            }
            Self::BadWorksheet { name, worksheet } => {
                write!(
                    f,
                    "{name}: a worksheet can't be called `{worksheet}`; give it a name of 1 to 31 "
                )?;
                write!(
                    f,
                    "characters, without any of [ ] : * ? / \\ and without an apostrophe at "
                )?;
                write!(f, "either end")
            }
            Self::SeveralWorksheets { name, all } => {
                let first = all.first().map_or("", |first| first);
                let all: Vec<String> = all.iter().map(|one| format!("`{one}`")).collect();
                write!(f, "{name}: several worksheets have the headers that are asked for: ")?;
                write!(f, "{}; name one, such as `{name}#{first}`, ", all.join(", "))?;
                write!(f, "or all of them as one reference, `{name}#*`")
            }
            Self::OtherFormat { name, seems, fix } => {
                write!(f, "{name} seems to be {seems}, not delimited text: {fix}")
            }
            Self::NotText { name, place } => {
                write!(f, "{name}, {place}: the text is not UTF-8; ")?;
                write!(f, "state its encoding, such as windows-1252")
            }
            Self::Ragged { name, place, cells, headers } => {
                let plural = if *cells == 1 { "" } else { "s" };
                write!(f, "{name}, {place}: {cells} cell{plural}, but the table has {headers} ")?;
                write!(f, "header{}; ", if *headers == 1 { "" } else { "s" })?;
                if cells > headers {
                    f.write_str("put a cell that holds the delimiter in double quotes")
                } else {
                    f.write_str("put a cell that holds a line break in double quotes, ")?;
                    f.write_str("or add the missing delimiters")
                }
            }
            Self::OpenQuote { name, place } => {
                write!(f, "{name}, {place}: the double quote that opens here is never closed; ")?;
                write!(f, "close it, or write a quote within a cell twice")
            }
            Self::RowTooLong { name, at, most, is_quoted } => {
                write!(f, "{name}: the row that begins at byte {at} goes on for more than ")?;
                write!(f, "{} MiB; ", most >> 20)?;
                f.write_str(if *is_quoted {
                    "close the double quote that is open in it"
                } else {
                    "it has no line ends, so get the file again"
                })
            }
            Self::TooLargeToShip { name, most } => write!(
                f,
                "{name}: it has more than {} MiB, the most that is copied to the server; load it into the \
                 database, and name the table there",
                most >> 20
            ),
            Self::Server { name, said, fix } => write!(f, "{name}: {said}; {fix}"),
            Self::Spool { name, cause } => write!(
                f,
                "{name} can't be written: its rows can't be stored in the folder for temporary files: \
                 {cause}; free some space there, or use another folder"
            ),
            Self::TableExists { name, table, is_view: true } => write!(
                f,
                "{name} has a view `{table}`, which is not replaced; name another table, such as \
                 {name}#{table}_enriched"
            ),
            Self::TableExists { name, table, .. } => write!(
                f,
                "{name} already has a table `{table}`: allow it to be replaced, or name another"
            ),
            Self::WouldLose { name, table, lost } => write!(
                f,
                "{name} has a table `{table}` with other columns, and to replace it would lose {}: \
                 name another table, such as {name}#{table}_enriched",
                lost.join(", ")
            ),
            Self::BreaksKeys { name, table, count } => {
                let (rows, verb) = if *count == 1 { ("row", "refers") } else { ("rows", "refer") };
                write!(
                    f,
                    "{name} is left as it is: {count} {rows} of other tables {verb} to keys that \
                     the new rows of `{table}` lack; add these rows, or name another table"
                )
            }
            Self::BecomesNumber { name, row, header, cell } => write!(
                f,
                "{name}, row {row}, column `{header}`: the text `{cell}` would become a number, \
                 since the column is declared as one; declare it as text, or name another table"
            ),
            Self::Database { name, said, fix } => {
                write!(f, "{name} can't be written to: {said}; {fix}")
            }
            Self::OutputExists { name } => {
                write!(f, "{name} already exists: allow it to be replaced, or name another file")
            }
            Self::OutputIsInput { name } => {
                write!(f, "{name} is an input of this run and is never written to: ")?;
                write!(f, "name another output")
            }
            Self::InUse { name } => {
                write!(f, "{name} is being written by another run: wait until it has ended, and ")?;
                write!(f, "run again")
            }
            Self::TargetChanged { name } => {
                write!(
                    f,
                    "{name} was changed by another program while this run read the tables, "
                )?;
                write!(f, "and is left as it is: run again")
            }
            Self::Unsettled { name, cause } => write!(
                f,
                "{name} can't be put in its place: {}; the next run into this folder finishes \
                 it",
                reason(cause)
            ),
            Self::FolderMissing { name, folder } => {
                write!(
                    f,
                    "{name} can't be written: the folder {} does not exist; ",
                    folder.display()
                )?;
                write!(f, "make it first, or name another output")
            }
            Self::Write { name, cause } => {
                write!(f, "{name} can't be written: {}", reason(cause))
            }
        }
    }
}

impl std::error::Error for Error {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        match self {
            Self::Core(error) => Some(error),
            Self::Read { cause, .. } | Self::Write { cause, .. } | Self::Spool { cause, .. } => {
                Some(cause)
            }
            _ => None,
        }
    }
}

/// An error of reading or writing whose words say what to do already.
#[derive(Debug)]
struct Said(String);

impl fmt::Display for Said {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Said {}

/// An error of reading or writing in these words, which say what to do.
pub(crate) fn said(words: String) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, Said(words))
}

/// Why the system refused, and what to do.
fn reason(cause: &io::Error) -> String {
    // These say what to do themselves.
    let is_whole = |cause: &(dyn std::error::Error + Send + Sync + 'static)| {
        cause.is::<Said>() || cause.is::<NotInEncoding>() || cause.is::<Unencodable>()
    };
    if let Some(cause) = cause.get_ref().filter(|cause| is_whole(*cause)) {
        return cause.to_string();
    }
    match cause.kind() {
        io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput => {
            format!("{cause}; the file is damaged; get it again")
        }
        io::ErrorKind::UnexpectedEof => "it ends too early; get it again".to_owned(),
        io::ErrorKind::PermissionDenied => {
            "permission is denied; change the permissions, or name another place".to_owned()
        }
        io::ErrorKind::IsADirectory => "it is a folder; name a file in it".to_owned(),
        io::ErrorKind::NotFound => {
            "no file can be made in the folder; name another place".to_owned()
        }
        io::ErrorKind::NotADirectory => "it is not a folder; name a folder".to_owned(),
        io::ErrorKind::FileTooLarge => {
            "it would be larger than the system allows here; raise that limit, or name another \
             place"
                .to_owned()
        }
        io::ErrorKind::QuotaExceeded => {
            "it would be more than your share of the disk; free some space, or name another place"
                .to_owned()
        }
        io::ErrorKind::StorageFull => {
            "the disk is full; free some space, or name another place".to_owned()
        }
        _ => format!("{cause}; check the place, or name another"),
    }
}
