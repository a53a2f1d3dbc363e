//! Surveys of tables, for programs.

use schemars::JsonSchema;
use serde::Serialize;

use super::FORM;
use crate::survey::{CandidateKey, ColumnProfile, Count, Survey, Trouble};

/// The surveys of tables.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
#[schemars(title = "A survey of Gather Keys")]
pub struct SurveyTold {
    /// The number of this form; another one means other things.
    pub form: u32,
    /// The tables, in the order in which they were named.
    pub tables: Vec<SurveyedTable>,
}

/// The survey of a table.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct SurveyedTable {
    /// Its name.
    pub table: String,
    /// How many rows it has.
    pub rows: u64,
    /// Its columns, in order.
    pub columns: Vec<ColumnTold>,
    /// The columns, or sets of columns, that distinguish the rows or nearly do; the best first.
    pub keys: Vec<CandidateTold>,
    /// How many rows are the same as one before them, cell for cell.
    pub repeated_rows: Counted,
    /// Headers that are above several columns.
    pub repeated_headers: Vec<String>,
}

/// A count, exact or an estimate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Counted {
    /// The count.
    pub count: u64,
    /// Whether it is exact; otherwise it may be off by a few per cent.
    pub exact: bool,
}

/// A column.
#[derive(Debug, Clone, PartialEq, Serialize, JsonSchema)]
pub struct ColumnTold {
    /// Its header, as it is written in a call: with `#N` where several columns have it.
    pub header: String,
    /// How many cells look like each kind, the commonest first.
    pub looks: Vec<LookTold>,
    /// How many cells are blank.
    pub blank: u64,
    /// How many different values the others have.
    pub different: Counted,
    /// The shortest value, in characters.
    pub shortest: Option<String>,
    /// The longest value, in characters.
    pub longest: Option<String>,
    /// The least number or date, where it holds such.
    pub least: Option<String>,
    /// The greatest number or date, where it holds such.
    pub greatest: Option<String>,
    /// The commonest values.
    pub commonest: Vec<ValueTold>,
    /// Whether these were counted exactly; otherwise they may occur a little more often.
    pub commonest_exact: bool,
    /// What may be wrong with the cells.
    pub troubles: Vec<TroubleTold>,
}

/// How many cells look like a kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct LookTold {
    /// The kind: number, date, date-time, true/false or text.
    pub look: String,
    /// How many cells.
    pub count: u64,
}

/// A value, and how often it occurs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ValueTold {
    /// The value.
    pub value: String,
    /// How often.
    pub count: u64,
}

/// Something that may be wrong with the cells of a column.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct TroubleTold {
    /// What it is, in words.
    pub trouble: String,
    /// In how many cells; of spellings, how many values.
    pub count: u64,
    /// Whether that is all; otherwise there may be more.
    pub exact: bool,
    /// The first such row, from 1.
    pub row: u64,
    /// The line on which that begins, from 1.
    pub line: u64,
    /// The cell there.
    pub value: String,
    /// The step that helps in a key.
    pub step: Option<String>,
}

/// Columns that may be a key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct CandidateTold {
    /// Their headers.
    pub columns: Vec<String>,
    /// How many rows they do not distinguish.
    pub not_distinguished: Counted,
}

impl SurveyTold {
    /// The surveys of tables, each with the table's name.
    pub fn of(surveys: &[(String, Survey)]) -> Self {
        let tables = surveys.iter().map(|(table, survey)| SurveyedTable::of(table, survey));
        Self { form: FORM, tables: tables.collect() }
    }
}

impl SurveyedTable {
    fn of(table: &str, survey: &Survey) -> Self {
        let candidate = |key: &CandidateKey| CandidateTold {
            columns: key.columns.iter().map(|&at| survey.columns[at].header.clone()).collect(),
            not_distinguished: key.failing.into(),
        };
        Self {
            table: table.to_owned(),
            rows: survey.rows,
            columns: survey.columns.iter().map(ColumnTold::from).collect(),
            keys: survey.keys.iter().map(candidate).collect(),
            repeated_rows: survey.repeated_rows.into(),
            repeated_headers: survey.repeated_headers.clone(),
        }
    }
}

impl From<Count> for Counted {
    fn from(count: Count) -> Self {
        Self { count: count.value, exact: count.is_exact }
    }
}

impl From<&ColumnProfile> for ColumnTold {
    fn from(column: &ColumnProfile) -> Self {
        let look = |&(look, count): &(crate::survey::Look, u64)| LookTold {
            look: look.label().to_owned(),
            count,
        };
        let value =
            |(value, count): &(String, u64)| ValueTold { value: value.clone(), count: *count };
        let (least, greatest) = column.range.clone().unzip();
        Self {
            header: column.header.clone(),
            looks: column.looks.iter().map(look).collect(),
            blank: column.blanks,
            different: column.distinct.into(),
            shortest: column.shortest.clone(),
            longest: column.longest.clone(),
            least,
            greatest,
            commonest: column.commonest.iter().map(value).collect(),
            commonest_exact: column.is_counted,
            troubles: column.troubles.iter().map(TroubleTold::from).collect(),
        }
    }
}

impl From<&Trouble> for TroubleTold {
    fn from(trouble: &Trouble) -> Self {
        Self {
            trouble: trouble.kind.label().to_owned(),
            count: trouble.count,
            exact: trouble.is_exact,
            row: trouble.row,
            line: trouble.line,
            value: trouble.value.clone(),
            step: trouble.kind.step().map(str::to_owned),
        }
    }
}
