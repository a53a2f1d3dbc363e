//! The errors that end a run, and how they are shown.

use std::fmt;
use std::fmt::Write as _;
use std::path::Path;

use gather_keys_core::findings::Counts;
use gather_keys_core::receipt::Input;
use gather_keys_formats::{Address, Format, without_passwords, without_passwords_at};
use unicode_width::UnicodeWidthStr;

use crate::arguments::option_of;
use crate::nearby::Nearby;
use crate::terminal::{BAD, ERROR, say};
use crate::typed::PlanFile;
use crate::wording;

/// A result of the command line.
pub(crate) type Result<T> = std::result::Result<T, Error>;

/// Why a run can't be carried out.
#[derive(Debug)]
pub(crate) enum Error {
    /// A table, or what was asked of it, is wrong.
    Table(gather_keys_formats::Error),
    /// No reference was named.
    NoReference,
    /// An option of a reference is before the first `--from`.
    BeforeReference { option: String, value: String, reference: Option<String>, main: String },
    /// The call can't be read; the sentence is in the words of the call.
    Mistyped { sentence: String },
    /// A column of a reference is to be in the output, and is not taken.
    NotTaken { header: String, reference: String },
    /// A reference without a needed option.
    NeedsOption { reference: String, option: &'static str, example: Option<String> },
    /// The first or last row of a table that has no order.
    NeedsOrder { reference: String },
    /// The number of a row of a table that has no order, inside a database.
    NumberNeedsOrder { reference: String },
    /// An option that only a run inside a database has.
    OnlyInDatabase { option: &'static str },
    /// Something that a run inside a database does not do.
    NotInDatabase { what: String },
    /// The main table of a run inside a database is not in one.
    MainNotInDatabase { name: String },
    /// The output of a run inside a database is not in it.
    OutputNotInDatabase { name: String, database: String },
    /// A table that is too large to be copied to a server.
    TooLargeToShip { name: String, most: u64 },
    /// A gate on the run before, of which there is no record.
    NeedsReceipt { gate: String },
    /// A range, where rows are matched by their position.
    RangeByPosition { reference: String },
    /// A search by key for a value in any of several columns.
    AnyInFind,
    /// An option was given twice for one table.
    Twice { option: &'static str, value: String },
    /// A delimiter that is none.
    BadDelimiter { value: String },
    /// An encoding that is none.
    BadEncoding { value: String },
    /// A size that is none.
    BadMemory { value: String },
    /// The headers of a table are on a line, and there are none.
    HeaderRowTwice { table: String },
    /// Two references have one name.
    SameName { name: String },
    /// Another place is given for a reference that is in no plan.
    TableWithoutPlan,
    /// Standard input is named for several tables.
    TwiceStandardInput,
    /// The main table has no row of this number.
    NoSuchRow { table: String, row: u64, rows: u64 },
    /// Another number of key values than the keys have columns.
    KeyValues { given: usize, columns: Vec<String> },
    /// Another number of values than the key of a search has parts.
    FindValues { given: usize, parts: Vec<String> },
    /// A gate on something that can't be said of a table by itself.
    NotOfATable { gate: String },
    /// Something in a plan is wrong; the core's errors have a place of their own.
    InPlan { plan: String, line: usize, text: String, at: usize, cause: Box<Error> },
    /// A reference of another name than those in the plan has.
    NotInPlan { asked: String, all: Vec<String> },
    /// Another main table was named, but no plan.
    MainWithoutPlan,
    /// Something was named to be watched that is no plan.
    NoPlan { name: String },
    /// The folder for temporary files is none.
    NoTempDir { name: String },
    /// A path is not UTF-8.
    PathNotText { path: String },
    /// The table is to go into the main file and to an output.
    InPlaceWithOutput,
    /// The table and JSON are both to go to standard output.
    TableAndJson,
    /// A part of a key names two tables where there is one.
    NotOneTable {
        /// The part.
        part: String,
    },
    /// Columns are chosen of a table that is written into.
    InPlaceColumns {
        /// The main table.
        name: String,
    },
    /// The main file would lose rows or blank cells.
    InPlaceAdjusted {
        /// The main file.
        name: String,
    },
    /// The main table is standard input, and is to be written into.
    InPlaceOfStandard,
    /// Rows of a worksheet that is written into would be left out or repeated.
    InPlaceOtherRows {
        name: String,
        /// The reference whose rules say so.
        reference: String,
    },
    /// A word of a plan or of the command line is none of those there are.
    NotOneOf { key: &'static str, value: String, all: String },
    /// An option for updates, where there is none.
    WithoutUpdate { reference: String, option: &'static str },
    /// `suggest` reads tables twice, which standard input can't be.
    SuggestTwice,
    /// The ending of a report's file asks for no form that there is.
    ReportForm {
        /// The file.
        name: String,
    },
    /// A file of aliases lacks headers of one.
    NotAliases {
        /// The file.
        name: String,
        /// The headers, joined.
        missing: String,
    },
    /// A file of corrections has not the headers of one.
    NotCorrections { name: String },
    /// Changes are to be kept, but there is no place for them.
    EditsUnplaced,
    /// Rows were changed that no column identifies; `columns` are those that were tried.
    EditsUnkeyed { columns: Option<Vec<String>> },
    /// A cell was changed that a key is made of.
    EditsOfKey { row: u64, header: String },
    /// An output was changed, and is no table now.
    EditsUnreadable { name: String, cause: Box<Error> },
    /// A receipt of a table of a database.
    ReceiptOfDatabase { name: String },
    /// A receipt is to be written of a table of a server that is written into.
    ReceiptOfMain { name: String },
    /// An output in a format that is read, but not written.
    NotWritable { name: String },
    /// A key column is to go into something else than delimited text.
    KeyWritesText { name: String },
    /// A table is not where it was.
    Lost { name: String, reported: Box<Input>, nearby: Vec<Nearby> },
    /// Two outputs of a run are one file.
    WrittenTwice { name: String, one: &'static str, other: &'static str },
    /// An output would have to be a file and a folder.
    WithinOutput { name: String, one: &'static str, other: &'static str },
    /// An input is another than when it was read.
    InputChanged { name: String },
    /// There is no standard output.
    StandardOutputClosed,
    /// Corrections are added to a file that is no delimited text.
    CorrectionsNotText { name: String },
    /// Aliases can't be written back.
    AliasesNotText { name: String },
    /// Questions need a terminal.
    NoTerminal,
    /// The terminal refuses.
    Terminal { cause: std::io::Error },
    /// The demo's folder holds something.
    FolderInUse { folder: String },
    /// The program could not be run again, for the demo.
    CannotRun { cause: std::io::Error },
}

impl Error {
    /// Whether this is the reader of our output having closed it.
    pub(crate) fn is_closed_pipe(&self) -> bool {
        matches!(self, Self::Table(error) if error.is_closed_pipe())
    }

    /// Prints the error, and for a text that is malformed the text with the place marked.
    pub(crate) fn print(&self) {
        let message = without_passwords(&self.to_string());
        let wrapped = wording::wrapped(&message, "error: ".len(), "       ");
        let mut said = format!("{ERROR}error:{ERROR:#} {wrapped}\n");
        if let Some((text, at)) = self.marked_text() {
            let (text, at) = without_passwords_at(text, at);
            let (text, column) = around(&text, at);
            let _ = writeln!(said, "\n    {text}\n    {:column$}{BAD}^{BAD:#}", "");
        }
        say(&said);
    }

    /// An error about a plan, at a byte of its text.
    pub(crate) fn in_plan(plan: &PlanFile, at: usize, cause: Self) -> Self {
        let (name, text) = plan.named();
        let place = gather_keys_core::Error::NothingToAppend { reference: String::new() };
        match gather_keys_core::Error::in_plan(&name, text, at, place) {
            gather_keys_core::Error::InPlan { plan, line, text, at, .. } => {
                Self::InPlan { plan, line, text, at, cause: Box::new(cause) }
            }
            _ => cause,
        }
    }

    fn marked_text(&self) -> Option<(&str, usize)> {
        match self {
            Self::InPlan { text, at, .. }
            | Self::Table(gather_keys_formats::Error::Core(
                gather_keys_core::Error::InPlan { text, at, .. }
                | gather_keys_core::Error::Malformed { text, at, .. },
            )) => Some((text, *at)),
            _ => None,
        }
    }
}

/// The option that does what the sentence of an error advises.
fn option_for(error: &gather_keys_formats::Error) -> Option<&'static str> {
    use gather_keys_core::Error as Core;
    use gather_keys_formats::Error as Formats;
    use gather_keys_formats::delimited::{NotInEncoding, Unencodable};
    match error {
        Formats::NotText { .. } => Some("--encoding"),
        Formats::Read { cause, .. } => {
            cause.get_ref().filter(|cause| cause.is::<NotInEncoding>()).map(|_| "--encoding")
        }
        Formats::Write { cause, .. } => {
            cause.get_ref().filter(|cause| cause.is::<Unencodable>()).map(|_| "--output-encoding")
        }
        Formats::OtherHeaders { .. } => Some("--from"),
        Formats::Spool { .. } | Formats::Core(Core::Scratch { .. }) => Some("--temp-dir"),
        Formats::Core(Core::OverMemory { .. }) => Some("--memory"),
        _ => None,
    }
}

/// How much of a text is shown on either side of a marked place.
const AROUND: usize = 36;

/// The text around a place, on one line, and the place's column in it.
fn around(text: &str, at: usize) -> (String, usize) {
    let shown = |part: &str| part.chars().map(wording::visible).collect::<String>();
    let (before, behind) = text.split_at_checked(at).unwrap_or((text, ""));
    let (mut before, mut behind) = (shown(before), shown(behind));
    if before.width() > AROUND {
        let cut = before.chars().count() - AROUND;
        before = format!("…{}", before.chars().skip(cut).collect::<String>());
    }
    if behind.width() > AROUND {
        behind = format!("{}…", behind.chars().take(AROUND).collect::<String>());
    }
    let column = before.width();
    (before + &behind, column)
}

impl From<gather_keys_formats::Error> for Error {
    fn from(error: gather_keys_formats::Error) -> Self {
        Self::Table(error)
    }
}

impl From<gather_keys_core::Error> for Error {
    fn from(error: gather_keys_core::Error) -> Self {
        Self::Table(error.into())
    }
}

/// Whether an address is of a workbook of a kind that is read and not written.
fn is_other_workbook(name: &str) -> bool {
    let address = Address::new(name.as_ref());
    address.format() == Format::Workbook && !address.is_written()
}

impl fmt::Display for Error {
    // A sentence for each.
    #[allow(clippy::too_many_lines)]
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Table(gather_keys_formats::Error::Core(gather_keys_core::Error::Malformed {
                option,
                expected,
                ..
            })) => {
                let what = if *option == "template" { "the " } else { "--" };
                write!(f, "{what}{option} can't be understood at ^: expected {expected}")
            }
            Self::Table(gather_keys_formats::Error::NotOfFormat { name, format, reading }) => {
                let option = option_of(reading.key());
                write!(
                    f,
                    "{option} does not apply to {name}, whose format is {format}: leave it "
                )?;
                write!(f, "out, or state another --format")
            }
            Self::Table(gather_keys_formats::Error::OutputExists { name }) => {
                write!(
                    f,
                    "{name} already exists: add --overwrite to replace it, or name another "
                )?;
                write!(f, "file")
            }
            Self::Table(gather_keys_formats::Error::TableExists {
                name,
                table,
                is_view: false,
            }) => {
                write!(f, "{name} already has a table `{table}`: add --overwrite to replace it, ")?;
                write!(f, "or name another")
            }
            Self::Table(error) => {
                error.fmt(f)?;
                option_for(error).map_or(Ok(()), |option| write!(f, " ({option})"))
            }
            Self::NoReference => {
                write!(f, "no reference is named: add --from REFERENCE --on KEY --take COLUMNS")
            }
            Self::BeforeReference { option, value, reference, main } => {
                let typed = if value.is_empty() { String::new() } else { format!(" '{value}'") };
                write!(f, "--{option} belongs to a reference: ")?;
                match reference {
                    Some(from) => write!(f, "put --{option}{typed} after --from {from}"),
                    None => write!(
                        f,
                        "name that first, as in `{main} --from REFERENCE --{option}{typed}`"
                    ),
                }
            }
            Self::Mistyped { sentence } => f.write_str(sentence),
            Self::NotTaken { header, reference } => write!(
                f,
                "the output has no header `{header}`; {reference} has it: add it to the --take after \
                 --from {reference}"
            ),
            Self::NeedsOption { reference, option, example } => {
                write!(f, "{reference} has no --{option}: add one after its --from")?;
                example.as_ref().map_or(Ok(()), |example| write!(f, "{example}"))
            }
            Self::NeedsOrder { reference } => write!(
                f,
                "{reference}: a table on a server has no order of its own, so it has no first and no \
                 last row: order it with --order-by COLUMNS, or choose with --when-duplicate \
                 'highest COLUMN'"
            ),
            Self::NumberNeedsOrder { reference } => write!(
                f,
                "{reference}: a table on a server has no order of its own, so its rows have no number: order it \
                 with --order-by COLUMNS, or leave out @row"
            ),
            Self::OnlyInDatabase { option } => write!(
                f,
                "{} is for a run inside a database; add --in-database, or leave it out",
                option_of(option)
            ),
            Self::NotInDatabase { what } => {
                write!(f, "{what} does not go with --in-database; leave one of the two out")
            }
            Self::MainNotInDatabase { name } => write!(
                f,
                "{name} is not a table of a server, and --in-database leaves the main table where it is: load it \
                 into the database and name it as postgres://USER@HOST/DATABASE#TABLE, or leave out --in-database"
            ),
            Self::OutputNotInDatabase { name, database } => write!(
                f,
                "with --in-database the output is a table of the same database, and {name} is not: name one, such \
                 as -o {database}#enriched"
            ),
            Self::TooLargeToShip { name, most } => write!(
                f,
                "{name} has more than {}, the most that is copied to the server: allow more with --ship SIZE, or \
                 load it into the database and name the table there",
                bytesize::ByteSize(*most)
            ),
            Self::NeedsReceipt { gate } => write!(
                f,
                "the gate `{gate}` compares with the previous run, which left no record: add \
                 --receipt FILE"
            ),
            Self::RangeByPosition { reference } => write!(
                f,
                "{reference} is matched by position, where no range can choose among rows: leave \
                 out --within, or match it on a key"
            ),
            Self::AnyInFind => write!(
                f,
                "`any(…)` is not needed in find: leave out --on, and every column is searched"
            ),
            Self::Twice { option, value } => {
                let option = option.replace('_', "-");
                write!(f, "a second --{option} for one table, `{value}`: leave one of them out")
            }
            Self::BadDelimiter { value } => write!(
                f,
                "`{value}` is not a delimiter: use comma, semicolon, tab, bar or one ASCII character"
            ),
            Self::BadEncoding { value } => write!(
                f,
                "`{value}` is not a known encoding: use one such as utf-8, utf-16le, windows-1252 or \
                 iso-8859-15"
            ),
            Self::BadMemory { value } => {
                write!(f, "`{value}` is not a size of memory: use one such as 2 GB or 512 MiB")
            }
            Self::HeaderRowTwice { table } => {
                write!(f, "{table}: use either --header-row or --no-header, not both")
            }
            Self::TableWithoutPlan => write!(
                f,
                "--table gives a reference of a plan another place: name the table after --from \
                 instead, or a plan as the first argument"
            ),
            Self::SameName { name } => {
                write!(f, "two references are called `{name}`: give one of them another --name")
            }
            Self::TwiceStandardInput => {
                write!(f, "standard input is named twice: only one table can come from it")
            }
            Self::NoSuchRow { table, row, rows } => write!(
                f,
                "{table} has no row {}: its rows are 1 to {}",
                wording::number(*row),
                wording::number(*rows)
            ),
            Self::KeyValues { given, columns } => write!(
                f,
                "--key has {}, but the key is made from {}: {}; give one value for each",
                wording::counted(*given as u64, "value"),
                wording::counted(columns.len() as u64, "column"),
                wording::joined(columns, "and")
            ),
            Self::FindValues { given, parts } => write!(
                f,
                "{} given to find, but the key has {}: {}; give one value for each",
                if *given == 1 {
                    "1 value is".to_owned()
                } else {
                    format!("{} are", wording::counted(*given as u64, "value"))
                },
                wording::counted(parts.len() as u64, "part"),
                wording::joined(parts, "and")
            ),
            Self::NotOfATable { gate } => {
                let kinds = Counts::OF_A_TABLE.map(|kind| format!("`{}`", kind.label()));
                let kinds = wording::joined(&kinds, "or");
                write!(f, "the gate `{gate}` can't be judged by one table: use {kinds}")
            }
            Self::InPlan { plan, line, cause, .. } => write!(f, "{plan}, line {line}: {cause}"),
            Self::NotInPlan { asked, all } => {
                let all: Vec<String> = all.iter().map(|name| format!("`{name}`")).collect();
                write!(f, "the plan has no reference `{asked}`: after --from write ")?;
                write!(f, "{}", wording::joined(&all, "or"))
            }
            Self::MainWithoutPlan => write!(
                f,
                "--main names the main table of a plan: name the plan before it, or leave it out"
            ),
            Self::NoPlan { name } => {
                write!(f, "{name} is not a plan: name a TOML file, as --save-plan writes it")
            }
            Self::PathNotText { path } => {
                write!(f, "the path {path} is not UTF-8: give the file another name")
            }
            Self::InPlaceWithOutput => {
                write!(f, "use either --in-place, which writes into the main file, or -o, not both")
            }
            Self::TableAndJson => write!(
                f,
                "the table and the JSON would both go to standard output: name a file for the table with -o"
            ),
            Self::NotOneTable { part } => write!(
                f,
                "`{part}` names columns of two tables, and here there is one: write one side of it"
            ),
            Self::InPlaceColumns { name } => write!(
                f,
                "{name} is written into, and its columns stay as they are: with --columns or --drop, name \
                 another file with -o"
            ),
            Self::InPlaceAdjusted { name } => write!(
                f,
                "with --fill-down or --skip-last, {name} is not written as it was read; leave out \
                 --in-place, and name an output (-o)"
            ),
            Self::InPlaceOtherRows { name, reference } => write!(
                f,
                "with the rules of {reference}, rows of {name} would be left out or repeated, and a table \
                 that is written into keeps its rows; leave out --in-place, and name an output (-o)"
            ),
            Self::InPlaceOfStandard => {
                write!(f, "standard input can't be written into: name an output with -o")
            }
            Self::NotOneOf { key, value, all } => {
                write!(f, "{key} can't be `{value}`: use {all}")
            }
            Self::WithoutUpdate { reference, option } => {
                write!(f, "--{option} of {reference} needs --update: add one, or leave it out")
            }
            Self::SuggestTwice => write!(
                f,
                "suggest reads the tables twice, and standard input can be read only once; save it to a file"
            ),
            Self::ReportForm { name } => write!(
                f,
                "the name of a report ends with .html, .md or .json, and {name} does not; rename it"
            ),
            Self::NotAliases { name, missing } => write!(
                f,
                "{name} is not a table of aliases: it lacks {missing}. The list nearest.csv that \
                 --lists writes has the right headers; put yes under approve where a pair is right"
            ),
            Self::NotCorrections { name } => write!(
                f,
                "{name} is not a table of corrections: it needs the headers that identify a row, then \
                 header, value and note"
            ),
            Self::NoTempDir { name } => write!(
                f,
                "the folder {name} for temporary files does not exist; make it first, or name another in \
                 --temp-dir"
            ),
            Self::EditsUnplaced => {
                write!(f, "no file is named to keep the changes in: add --corrections FILE")
            }
            Self::EditsUnkeyed { columns: Some(columns) } => write!(
                f,
                "the changes can't be kept: {} in the file of corrections do not identify each \
                 changed row; keep them in another file, or discard them",
                wording::joined(columns, "and")
            ),
            Self::EditsUnkeyed { columns: None } => write!(
                f,
                "the changes can't be kept: no column identifies each changed row; \
                 make the changes in the tables themselves, or discard them"
            ),
            Self::EditsOfKey { row, header } => write!(
                f,
                "the change of `{header}` in row {} can't be kept as a correction, since it is \
                 part of a key: make it in the main table, or discard it",
                wording::number(*row)
            ),
            Self::EditsUnreadable { name, cause } => write!(
                f,
                "{name} was changed after it was written, and can't be read now, so it is left as \
                 it is: repair it, or replace it with --edits discard, which keeps a copy. {cause}"
            ),
            Self::ReceiptOfDatabase { name } => write!(
                f,
                "a receipt records a file, and {name} is a table of a database; leave out \
                 --receipt, or write a file"
            ),
            Self::ReceiptOfMain { name } => write!(
                f,
                "a receipt records a table that a run made, and {name} is written into; leave out \
                 --receipt, or name an output with -o"
            ),
            Self::KeyWritesText { name } => {
                write!(f, "{name}: `key` writes delimited text; name an output such as keys.csv")
            }
            Self::NotWritable { name } if is_other_workbook(name) => {
                let path = Path::new(name.split('#').next().unwrap_or(name));
                let fitting = path.with_extension("xlsx");
                let fitting = fitting.display();
                write!(f, "{name}: a workbook is written as .xlsx; name the output {fitting}")
            }
            Self::NotWritable { name } => write!(
                f,
                "{name}: this format can't be written; name an output of delimited text, JSON, \
                 Parquet or Arrow, a workbook of its own (.xlsx), or a table of a database \
                 (FILE.sqlite#TABLE)"
            ),
            Self::Lost { name, reported, nearby } => {
                write!(f, "the file {name} does not exist any more; ")?;
                write!(f, "the receipt saw it with {}", wording::counted(reported.rows, "row"))?;
                if let Some(modified) = &reported.modified {
                    write!(f, ", last written {modified}")?;
                }
                let digest = reported.file.digest.get(..19).unwrap_or(&reported.file.digest);
                write!(f, " ({digest}…). ")?;
                let named = |nearby: &Nearby| nearby.path.display().to_string();
                let names: Vec<String> = nearby.iter().map(named).collect();
                let names = wording::joined(&names, "and");
                let one = nearby.len() == 1;
                match nearby.first().map(|first| first.is_same) {
                    None => write!(f, "No file near it has its content or headers: "),
                    Some(true) if one => write!(f, "{names} has the same content: "),
                    Some(true) => write!(f, "{names} have the same content: "),
                    Some(false) if one => write!(f, "{names} has the same headers: "),
                    Some(false) => write!(f, "{names} have the same headers: "),
                }?;
                write!(f, "name its new place in the plan or the call")
            }
            Self::WrittenTwice { name, one, other } if one == other => write!(
                f,
                "{name} would be written twice in this run, each time as {one}; leave one out"
            ),
            Self::WrittenTwice { name, one, other } => write!(
                f,
                "{name} would be both {one} and {other} of this run; name another file for one of \
                 them"
            ),
            Self::WithinOutput { name, one, other } => write!(
                f,
                "{name} would be {one} of this run, and a folder with {other} in it; name another \
                 place for one of them"
            ),
            Self::InputChanged { name } => write!(
                f,
                "{name} was changed by another program while it was read, so nothing was written: \
                 run again once it is complete"
            ),
            Self::StandardOutputClosed => {
                write!(
                    f,
                    "standard output is closed, and the table would go there: name an output "
                )?;
                write!(f, "with -o, or leave standard output open")
            }
            Self::CorrectionsNotText { name } => write!(
                f,
                "{name} can't be added to: corrections are kept in delimited text; save it as a \
                 CSV file, and name that with --corrections"
            ),
            Self::AliasesNotText { name } => write!(
                f,
                "{name} can't be added to: aliases are kept in delimited text; save it as a CSV \
                 file, and name that with --aliases"
            ),
            Self::NoTerminal => write!(
                f,
                "questions need a terminal for input and output. Without one, write the pairs with \
                 `check --lists DIR`, put yes under approve in nearest.csv, and use it with --aliases"
            ),
            Self::Terminal { cause } => {
                write!(f, "the terminal can't be used: {cause}; try --plain-prompts")
            }
            Self::FolderInUse { folder } => {
                write!(f, "{folder} is in use: name a folder that is empty or not there yet")
            }
            Self::CannotRun { cause } => {
                write!(f, "the program can't be started again: {cause}; check its file")
            }
        }
    }
}

impl std::error::Error for Error {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        match self {
            Self::Table(error) => Some(error),
            Self::CannotRun { cause } => Some(cause),
            _ => None,
        }
    }
}
