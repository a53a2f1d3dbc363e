//! A look at the headers of a table, for examples and completions: whatever is wrong with it shows nothing.

use std::ffi::OsStr;

use gather_keys_core::plan::quoted_header;
use gather_keys_core::table::{Headers, Source};
use gather_keys_formats::{Address, Described, Table, Untapped};

/// The headers of a table as they are written in a call; none where it can't be read, or not twice.
pub(crate) fn headers_of(table: &OsStr) -> Vec<String> {
    let first = Address::all(table).ok().and_then(|all| all.into_iter().next());
    let is_file = |address: &Address| address.path().is_some_and(std::path::Path::is_file);
    let Some(address) = first.filter(is_file) else { return Vec::new() };
    let Ok((table, _)) = Table::open(&address, &Described::default(), &Untapped) else {
        return Vec::new();
    };
    let headers: &Headers = table.headers();
    let all = (0..headers.len()).map(|column| quoted_header(&headers.address(column)));
    all.filter(|header| !header.contains(['\n', '\r'])).collect()
}

/// A header that two tables have, in the spelling of the first.
pub(crate) fn shared_header(main: &OsStr, reference: &OsStr) -> Option<String> {
    let theirs = headers_of(reference);
    let is_shared = |one: &String| theirs.iter().any(|other| other.eq_ignore_ascii_case(one));
    headers_of(main).into_iter().find(is_shared)
}
