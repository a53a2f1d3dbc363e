//! What programs read: a JSON text of one form, and the schema of that form.

use schemars::JsonSchema;
use serde::Serialize;

/// A model that is printed as JSON.
pub trait Document: Serialize + JsonSchema {
    /// It as JSON.
    fn json(&self) -> String {
        let mut text = serde_json::to_string_pretty(self).unwrap_or_default();
        text.push('\n');
        text
    }

    /// A JSON schema of its form.
    ///
    /// ```
    /// use gather_keys_core::report::{Document, Report};
    ///
    /// assert!(Report::schema().contains("newly_ambiguous"));
    /// ```
    fn schema() -> String {
        let schema = schemars::schema_for!(Self);
        serde_json::to_string_pretty(&schema).unwrap_or_default() + "\n"
    }
}

impl<T: Serialize + JsonSchema> Document for T {}
