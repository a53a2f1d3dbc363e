//! Everything that can be wrong with the input of the core.

use std::fmt;

use crate::table::meant_header;

/// A result of the core.
pub type Result<T> = std::result::Result<T, Error>;

/// Something a person wrote that the core can't carry out; each says what would fix it.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Error {
    /// The text of an option does not follow its form.
    Malformed {
        /// The option or plan key the text was given for, such as `on`.
        option: &'static str,
        /// The whole text.
        text: String,
        /// Where the fault is, in bytes.
        at: usize,
        /// What is expected there, in words.
        expected: String,
    },
    /// A table has no header of this name.
    HeaderUnknown {
        /// The table.
        table: String,
        /// The name that was asked for.
        asked: String,
        /// Headers that are spelled much like it, the nearest first.
        nearest: Vec<String>,
        /// All headers of the table.
        all: Vec<String>,
    },
    /// Several headers of a table fit the name.
    HeaderRepeated {
        /// The table.
        table: String,
        /// The name that was asked for.
        asked: String,
        /// How to name each of them, and its column, from 1.
        places: Vec<(String, usize)>,
    },
    /// No header of a table is like the text with `*`.
    NothingLike {
        /// The table.
        table: String,
        /// The text.
        pattern: String,
        /// All headers of the table.
        all: Vec<String>,
    },
    /// The last header of a run is before its first.
    RunBackwards {
        /// The table.
        table: String,
        /// The first header.
        first: String,
        /// The last header.
        last: String,
    },
    /// No header of a reference can be what a template makes.
    NothingNamed {
        /// The table.
        table: String,
        /// The template.
        template: String,
        /// All headers of the table.
        all: Vec<String>,
    },
    /// The mark `@column` is taken, but only one column is searched.
    NoColumn {
        /// The reference.
        reference: String,
    },
    /// No bound of a range is a number or a date.
    NoPosition {
        /// The table.
        table: String,
        /// The header of the bound.
        header: String,
        /// The first row with a value there, from 1.
        row: u64,
        /// The value.
        value: String,
    },
    /// A reach for times was given for numbers, or the other way round.
    ReachOff {
        /// The table.
        table: String,
        /// Whether its bounds are dates or times.
        is_time: bool,
    },
    /// A reach was given where there are two bounds, or none.
    ReachUnbound {
        /// The reference.
        reference: String,
    },
    /// A row of the main table becomes more rows, or longer cells, than fit into memory.
    TooManyCopies {
        /// The table.
        table: String,
        /// The row, from 1.
        row: u64,
    },
    /// A reference takes more memory than it may, and can't be processed in shares.
    OverMemory {
        /// The reference.
        reference: String,
        /// How much it may take, in bytes.
        most: u64,
        /// The feature that needs all of it, in words.
        why: String,
    },
    /// Rows that do not fit in memory can't be stored elsewhere.
    Scratch {
        /// The fault in words.
        cause: String,
    },
    /// Something in a plan is wrong.
    InPlan {
        /// The plan.
        plan: String,
        /// The line, from 1.
        line: usize,
        /// The text of the line.
        text: String,
        /// Where the fault is in the line, in bytes.
        at: usize,
        /// The error.
        cause: Box<Error>,
    },
    /// A plan is not TOML, has a key that there is none of, or a value of another kind.
    PlanMalformed {
        /// The error.
        said: String,
    },
    /// A receipt can't be read.
    ReceiptUnread {
        /// Its path.
        receipt: String,
        /// The fault in words.
        said: String,
    },
    /// A header of the corrections is not in the output.
    CorrectionAstray {
        /// The table of corrections.
        table: String,
        /// Its row, from 1; 0 is the header row.
        row: u64,
        /// The error of the header that was not found.
        cause: Box<Error>,
    },
    /// Two corrections of one cell disagree.
    CorrectedTwice {
        /// The table of corrections.
        table: String,
        /// Their rows, from 1.
        rows: [u64; 2],
        /// The header of the cell.
        header: String,
    },
    /// Two updates of a reference write into one column.
    UpdatedTwice {
        /// The reference.
        reference: String,
        /// The main table's header.
        header: String,
    },
    /// A run, a pattern or `*` to update finds no column that both tables have.
    NothingShared {
        /// The reference.
        reference: String,
        /// All headers of the reference.
        all: Vec<String>,
    },
    /// The sides of a key are the wrong way round.
    SidesSwapped {
        /// The main table.
        main: String,
        /// The key with its sides turned round.
        turned: String,
    },
    /// A column to write into is not there.
    NothingToUpdate {
        /// The main table.
        main: String,
        /// The header.
        header: String,
        /// All headers of the main table.
        all: Vec<String>,
    },
    /// A column is named for the output, and dropped from it.
    NamedAndDropped {
        /// Its header.
        header: String,
    },
    /// Two columns of the output would have the same header.
    OutputTwice {
        /// The header.
        name: String,
    },
    /// Every column is dropped from the output.
    NothingLeft,
    /// Rows can't be added from a reference, since their key has no place in the main table.
    NothingToAppend {
        /// The reference.
        reference: String,
    },
    /// A gate names a reference that the run does not have.
    ReferenceUnknown {
        /// The name that was asked for.
        asked: String,
        /// The references of the run.
        all: Vec<String>,
    },
    /// A reference table has more rows than row numbers are kept for.
    TooManyRows {
        /// The reference.
        table: String,
        /// The most rows that a reference can have.
        most: u64,
    },
}

impl Error {
    /// An error about a plan called `name`, at a byte of its text.
    pub fn in_plan(name: &str, plan: &str, at: usize, cause: Self) -> Self {
        let before = plan.get(..at).unwrap_or(plan);
        let start = before.rfind('\n').map_or(0, |end| end + 1);
        let rest = &plan[start..];
        let text = rest[..rest.find('\n').unwrap_or(rest.len())].trim_end().to_owned();
        Self::InPlan {
            plan: name.to_owned(),
            line: before.matches('\n').count() + 1,
            at: (before.len() - start).min(text.len()),
            text,
            cause: Box::new(cause),
        }
    }
}

impl fmt::Display for Error {
    // A sentence for each.
    #[allow(clippy::too_many_lines)]
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Malformed { option, text, at, expected } => {
                let place = text.get(..*at).map_or(0, |before| before.chars().count()) + 1;
                write!(f, "`{option}` can't be understood at character {place} of `{text}`: ")?;
                write!(f, "expected {expected}")
            }
            Self::HeaderUnknown { table, asked, nearest, all } => {
                write!(f, "{table} has no header `{asked}`; ")?;
                if let Some(meant) = meant_header(asked, all) {
                    return meant.fmt(f);
                }
                match &nearest[..] {
                    [] => write!(f, "its headers are {}", Ticked(all, "and")),
                    [one] => write!(f, "the nearest is `{one}`"),
                    _ => write!(f, "the nearest are {}", Ticked(nearest, "and")),
                }
            }
            Self::HeaderRepeated { table, asked, places } => {
                write!(f, "{table} has several headers `{asked}`: write ")?;
                for (nth, (address, column)) in places.iter().enumerate() {
                    let joint = match nth {
                        0 => "",
                        _ if nth + 1 == places.len() => " or ",
                        _ => ", ",
                    };
                    write!(f, "{joint}`{address}` (column {column})")?;
                }
                Ok(())
            }
            Self::NothingLike { table, pattern, all } => {
                write!(f, "no header of {table} matches `{pattern}`; ")?;
                write!(f, "its headers are {}", Ticked(all, "and"))
            }
            Self::RunBackwards { table, first, last } => {
                write!(f, "in {table}, `{last}` is before `{first}`: ")?;
                write!(f, "turn the run around, `{last} .. {first}`")
            }
            Self::NothingNamed { table, template, all } => {
                write!(f, "no header of {table} can be a result of `{template}`; ")?;
                write!(f, "its headers are {}", Ticked(all, "and"))
            }
            Self::NoColumn { reference } => {
                write!(f, "`@column` of {reference} needs a reverse lookup, such as ")?;
                write!(f, "`Code = any(Size *)`; leave it out")
            }
            Self::NoPosition { table, header, row, value } => {
                write!(f, "`within` finds no number and no date in `{header}` of {table}: ")?;
                write!(f, "row {row} holds {value:?}; convert it with a step, ")?;
                write!(f, "such as `{header} | date %d.%m.%Y`")
            }
            Self::ReachOff { table, is_time: true } => {
                write!(f, "the bounds in {table} are dates, but `reach` is a number: ")?;
                write!(f, "give it a unit, such as `2 days`")
            }
            Self::ReachOff { table, is_time: false } => {
                write!(f, "the bounds in {table} are numbers, but `reach` is a time: ")?;
                write!(f, "give it as a number")
            }
            Self::ReachUnbound { reference } => {
                write!(f, "`reach` of {reference} needs a range with one bound, such as ")?;
                write!(f, "`VALUE in LOWER ..`")
            }
            Self::TooManyCopies { table, row } => {
                write!(f, "row {row} of {table} becomes more than 256 MiB of rows: ")?;
                write!(f, "give the key more parts, or choose another rule than `every`")
            }
            Self::OverMemory { reference, most, why } => write!(
                f,
                "{reference} needs more than the {} of memory that are left for it, and {why} needs all \
                 of it in memory; raise the memory limit, or leave that out",
                size(*most)
            ),
            Self::Scratch { cause } => write!(
                f,
                "rows that do not fit in memory can't be stored in the folder for temporary files: \
                 {cause}; free some space there, or use another folder"
            ),
            Self::InPlan { plan, line, cause, .. } => write!(f, "{plan}, line {line}: {cause}"),
            Self::PlanMalformed { said } => {
                write!(f, "{said}; docs/plans.md has every key of a plan")
            }
            Self::ReceiptUnread { receipt, said } => {
                write!(f, "{receipt} can't be read as a receipt: {said}; ")?;
                write!(f, "name another file, or delete it to start a new one")
            }
            Self::CorrectionAstray { table, row: 0, cause } => {
                write!(f, "{table}, header row: {cause}")
            }
            Self::CorrectionAstray { table, row, cause } => {
                write!(f, "{table}, row {row}: {cause}")
            }
            Self::CorrectedTwice { table, rows: [first, second], header } => {
                write!(f, "{table}: rows {first} and {second} give `{header}` of the same rows ")?;
                write!(f, "different values; leave one of them out")
            }
            Self::UpdatedTwice { reference, header } => {
                write!(f, "{reference} updates `{header}` twice: leave one of them out")
            }
            Self::NothingShared { reference, all } => {
                write!(f, "besides the key, {reference} has no such column that the main table ")?;
                write!(f, "has too: update by name, `MAIN = REFERENCE`; its headers are ")?;
                write!(f, "{}", Ticked(all, "and"))
            }
            Self::SidesSwapped { main, turned } => {
                write!(f, "the side of {main} comes first: `{turned}`")
            }
            Self::NothingToUpdate { main, header, all } => {
                write!(
                    f,
                    "{main} has no header `{header}` to write into: `take` adds it as a new "
                )?;
                write!(f, "column; its headers are {}", Ticked(all, "and"))
            }
            Self::NamedAndDropped { header } => {
                write!(f, "`{header}` is in `columns` and in `drop`: leave it out of one of them")
            }
            Self::OutputTwice { name } => {
                write!(f, "two columns of the output would be called `{name}`: ")?;
                write!(f, "give one of them another name, `{name} as NAME`, or leave it out")
            }
            Self::NothingLeft => {
                write!(f, "`drop` leaves the output without a column: name fewer of them there")
            }
            Self::NothingToAppend { reference } => {
                write!(
                    f,
                    "`append_unused` of {reference} is not possible with a reverse lookup, "
                )?;
                write!(f, "where a row holds several keys; leave it out")
            }
            Self::ReferenceUnknown { asked, all } => {
                write!(f, "no reference is called `{asked}`: use {}", Ticked(all, "or"))
            }
            Self::TooManyRows { table, most } => {
                write!(f, "{table} has more than {most} rows, the most for a reference: ")?;
                write!(f, "leave out the rows that the main table can't ask for")
            }
        }
    }
}

impl std::error::Error for Error {}

/// Names in ticks, joined as a sentence joins them; a long list is cut with its count.
struct Ticked<'a>(&'a [String], &'static str);

/// How many names a sentence takes.
const NAMES: usize = 12;

/// A size as a person reads it.
fn size(bytes: u64) -> String {
    match bytes {
        1 => "1 byte".to_owned(),
        0..0x400 => format!("{bytes} bytes"),
        0x400..0x10_0000 => format!("{} KiB", bytes >> 10),
        _ => format!("{} MiB", bytes >> 20),
    }
}

impl fmt::Display for Ticked<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self(names, joint) = self;
        let shown = if names.len() > NAMES { &names[..NAMES] } else { names };
        let rest = names.len() - shown.len();
        for (nth, name) in shown.iter().enumerate() {
            match nth {
                0 => {}
                _ if nth + 1 == names.len() => write!(f, " {joint} ")?,
                _ => f.write_str(", ")?,
            }
            write!(f, "`{name}`")?;
        }
        if rest > 0 { write!(f, " and {rest} more") } else { Ok(()) }
    }
}
