//! The core as its users meet it, against naive truths.

// A test that can't go on should say so at once.
#![allow(clippy::unwrap_used)]

mod advice;
mod chains;
mod diagnosis;
mod engine;
mod keys;
mod kinds;
mod lookups;
mod memory;
mod naming;
mod order;
mod outcomes;
mod output_columns;
mod pass_through;
mod plans;
mod receipts;
mod reports;
mod review;
mod spills;
mod statements;
mod surveys;
mod updates;
mod values;
