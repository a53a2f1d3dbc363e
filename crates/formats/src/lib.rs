//! Open table formats as sources and sinks of Gather Keys.
//!
//! In goes a path or a stream, out comes a [`gather_keys_core::table::Source`]; the other way
//! round a [`gather_keys_core::table::Sink`] writes a table, and [`WholeFile`] sees to it that a
//! file appears whole or not at all. [`Table`] opens a table in any format; [`delimited`] text,
//! [`workbook`]s, [`json`], [`columnar`] files and tables of
//! [`sqlite`] and [`postgresql`] databases are written too.

mod address;
mod adjusted;
mod backup;
mod chunk;
pub mod columnar;
pub mod commit;
mod compression;
pub mod delimited;
mod digest;
mod error;
mod every_table;
mod format;
mod guard;
mod input_file;
pub mod json;
mod large_writes;
mod marked_rows;
pub mod postgresql;
mod read_as;
mod rows;
mod scratch;
mod secrets;
mod side_file;
pub mod sqlite;
mod table;
mod tap;
pub mod workbook;

pub use address::Address;
pub use chunk::{Chunk, ChunkFault, TableParser};
pub use commit::{Stamp, WholeFile, real_path};
pub use compression::{Codec, Packed, unpacked};
pub use digest::Sum;
pub use error::{Error, Place, Result};
pub use format::{Described, FORMATS, Format, FormatInfo, Reading};
pub use guard::{FileName, guarded_name, memory_limit, opened_names};
pub use input_file::{FileReader, InputFile};
pub use read_as::{Part, PartChoice, ReadAs};
pub use scratch::TempScratch;
pub use secrets::{passwords, without_passwords, without_passwords_at};
pub use side_file::{SideFile, SideForm, SideWriter};
pub use table::Table;
pub use tap::{Tap, Untapped};
