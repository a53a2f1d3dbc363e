//! The built program, driven as its users drive it: on files in a temporary folder.

mod demo;
mod docs;
mod enrich;
mod findings;
mod scene;
mod trouble;
