//! Values: what a blank, a number, a date and a moment are.
//!
//! A text goes in; its canonical text, or its [`Point`] on a scale, comes out. Steps, ranges, ranks, surveys,
//! diagnosis and formats all go through this module, so that a value means the same everywhere. It uses no
//! other module.

pub(crate) mod any_date;
pub(crate) mod blank;
pub(crate) mod calendar_names;
pub mod date;
pub mod moment;
pub mod number;
mod point;

pub use blank::is_blank;
pub(crate) use blank::{is_blank_bytes, is_space, is_zero_width, trimmed};
pub use point::{Point, Scale};
