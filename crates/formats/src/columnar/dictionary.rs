//! Columns whose values are in a dictionary, each once.
//!
//! A file has one dictionary for a column, which must hold all of its values. So values are collected
//! while the table waits in the spool, in the order in which they occur.

use std::sync::Arc;

use arrow_array::types::{
    ArrowDictionaryKeyType, Int8Type, Int16Type, Int32Type, Int64Type, UInt8Type, UInt16Type,
    UInt32Type, UInt64Type,
};
use arrow_array::{ArrayRef, ArrowNativeTypeOp, DictionaryArray, PrimitiveArray, StringArray};
use arrow_buffer::ArrowNativeType;
use arrow_schema::DataType;
use indexmap::IndexSet;

/// The result of a function for keys of a type.
macro_rules! of_key {
    ($key:expr, $of:ident($($with:expr),*)) => {
        match $key {
            DataType::Int8 => Some($of::<Int8Type>($($with),*)),
            DataType::Int16 => Some($of::<Int16Type>($($with),*)),
            DataType::Int32 => Some($of::<Int32Type>($($with),*)),
            DataType::Int64 => Some($of::<Int64Type>($($with),*)),
            DataType::UInt8 => Some($of::<UInt8Type>($($with),*)),
            DataType::UInt16 => Some($of::<UInt16Type>($($with),*)),
            DataType::UInt32 => Some($of::<UInt32Type>($($with),*)),
            DataType::UInt64 => Some($of::<UInt64Type>($($with),*)),
            _ => None,
        }
    };
}

/// The values of a column, each once.
#[derive(Debug, Clone, Default)]
pub(super) struct DistinctTexts(IndexSet<Box<str>>);

/// A dictionary that holds all values of a column.
#[derive(Debug)]
pub(super) struct Dictionary {
    places: IndexSet<Box<str>>,
    values: ArrayRef,
    key: DataType,
}

impl DistinctTexts {
    /// Whether a type is one of dictionaries of texts.
    pub(super) fn are_kept_by(stored: &DataType) -> bool {
        matches!(stored, DataType::Dictionary(_, value) if **value == DataType::Utf8)
    }

    /// Notes the values that are not blank.
    pub(super) fn note(&mut self, texts: &StringArray) {
        texts.iter().flatten().for_each(|text| self.add(text));
    }

    /// Notes those of other cells of the column.
    pub(super) fn merge(&mut self, other: &Self) {
        other.0.iter().for_each(|text| self.add(text));
    }

    fn add(&mut self, text: &str) {
        if !self.0.contains(text) {
            self.0.insert(text.into());
        }
    }

    /// The type of a dictionary that has room for them: the one that the column had, or else one with
    /// larger keys.
    pub(super) fn stored_by(&self, stored: &DataType) -> DataType {
        let key = match stored {
            DataType::Dictionary(key, _) if self.0.len() <= keys_of(key) => key.clone(),
            _ if self.0.len() <= keys_of(&DataType::Int32) => Box::new(DataType::Int32),
            _ => Box::new(DataType::Int64),
        };
        DataType::Dictionary(key, Box::new(DataType::Utf8))
    }

    /// A dictionary of them, whose keys are of this type.
    pub(super) fn into_dictionary(self, key: DataType) -> Dictionary {
        let values = StringArray::from_iter_values(self.0.iter());
        Dictionary { places: self.0, values: Arc::new(values), key }
    }
}

impl Dictionary {
    /// Texts as they are in it; `None` when it lacks one of them.
    pub(super) fn keyed(&self, texts: &StringArray) -> Option<ArrayRef> {
        fn keyed<K: ArrowDictionaryKeyType>(
            dictionary: &Dictionary,
            texts: &StringArray,
        ) -> Option<ArrayRef> {
            let key = |text| K::Native::from_usize(dictionary.places.get_index_of(text)?);
            // Blank cells have no key, and every other one must have one.
            let keys = texts.iter().map(|text| text.map(|text| key(text).ok_or(())).transpose());
            let keys: PrimitiveArray<K> = keys.collect::<Result<_, _>>().ok()?;
            let array = DictionaryArray::try_new(keys, dictionary.values.clone());
            array.ok().map(|array| Arc::new(array) as ArrayRef)
        }
        of_key!(&self.key, keyed(self, texts)).flatten()
    }
}

/// How many values keys of a type can distinguish.
fn keys_of(key: &DataType) -> usize {
    fn keys_of<K: ArrowDictionaryKeyType>() -> usize {
        K::Native::MAX_TOTAL_ORDER.to_usize().map_or(usize::MAX, |most| most.saturating_add(1))
    }
    of_key!(key, keys_of()).unwrap_or(0)
}
