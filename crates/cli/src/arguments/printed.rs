//! How a command prints what it found.

use clap::{Args, ValueEnum};
use gather_keys_core::report::Document;

/// The form of what a command prints.
#[derive(Debug, Args)]
pub(crate) struct Printed {
    /// What to print: text for a person, or JSON for a program
    #[arg(long = "as", value_name = "FORM", default_value = "text", hide_possible_values = true)]
    form: PrintedAs,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum PrintedAs {
    Text,
    Json,
}

impl Printed {
    /// Whether a program reads it.
    pub(crate) fn is_json(&self) -> bool {
        self.form == PrintedAs::Json
    }

    /// What is printed: the document, or the text.
    pub(crate) fn of<D: Document>(
        &self,
        document: impl FnOnce() -> D,
        text: impl FnOnce() -> String,
    ) -> String {
        if self.is_json() { document().json() } else { text() }
    }
}
