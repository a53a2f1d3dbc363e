//! The columns of a table in those of a columnar file.
//!
//! A column of a file may have columns within it; each that has none is a column of the table, and
//! called by the names on the way to it: `Queen.line`.

use arrow_array::cast::AsArray;
use arrow_array::{Array, RecordBatch};
use arrow_schema::{DataType, FieldRef, Schema};

use super::cells::Cells;
use super::dictionary::DistinctTexts;

/// A column of the table.
#[derive(Debug, Clone)]
pub(super) struct Leaf {
    pub(super) header: String,
    /// The column of the file that it is in, and the columns within that lead to it.
    pub(super) root: usize,
    within: Vec<usize>,
    stored: DataType,
}

/// The type that a column has in its file, which a column taken from it keeps where it can.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredType(pub(super) DataType);

impl Leaf {
    /// The columns of a table in a file of this schema.
    pub(super) fn all(schema: &Schema) -> Vec<Self> {
        let mut leaves = Vec::new();
        for (root, field) in schema.fields().iter().enumerate() {
            add(field, field.name().clone(), (root, Vec::new()), &mut leaves);
        }
        leaves
    }

    /// The name of its type, if cells can't be made of it.
    pub(super) fn unknown_type(&self) -> Option<String> {
        (!Cells::are_known(&self.stored)).then(|| self.stored.to_string())
    }

    /// The type that the column keeps where it goes; none where its cells can't be known to have it.
    pub(super) fn kept_type(&self) -> Option<StoredType> {
        let is_kept = |stored: &DataType| {
            stored.is_integer()
                || matches!(
                    stored,
                    DataType::Boolean
                        | DataType::Utf8
                        | DataType::LargeUtf8
                        | DataType::Utf8View
                        | DataType::Float32
                        | DataType::Float64
                        | DataType::Decimal32(..)
                        | DataType::Decimal64(..)
                        | DataType::Decimal128(..)
                        | DataType::Date32
                        | DataType::Timestamp(..)
                        | DataType::Time32(_)
                        | DataType::Time64(_)
                )
        };
        let is_kept = is_kept(&self.stored) || DistinctTexts::are_kept_by(&self.stored);
        is_kept.then(|| StoredType(self.stored.clone()))
    }

    /// Its cells in a batch that has the columns `roots` of the file.
    pub(super) fn cells<'a>(&self, batch: &'a RecordBatch, roots: &[usize]) -> Cells<'a> {
        let Ok(place) = roots.binary_search(&self.root) else { return Cells::Blank };
        let mut array: &dyn Array = &**batch.column(place);
        let mut around = Vec::new();
        for &column in &self.within {
            around.push(array);
            array = &**array.as_struct().column(column);
        }
        let cells = Cells::of(array);
        if around.iter().all(|array| array.null_count() == 0) {
            return cells;
        }
        cells.blank_where(move |row| around.iter().any(|array| array.is_null(row)))
    }
}

fn add(field: &FieldRef, header: String, at: (usize, Vec<usize>), leaves: &mut Vec<Leaf>) {
    let (root, within) = at;
    if let DataType::Struct(fields) = field.data_type() {
        for (nth, field) in fields.iter().enumerate() {
            let within = within.iter().copied().chain([nth]).collect();
            add(field, format!("{header}.{}", field.name()), (root, within), leaves);
        }
    } else {
        leaves.push(Leaf { header, root, within, stored: field.data_type().clone() });
    }
}
