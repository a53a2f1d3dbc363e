//! Tables that inherit the columns of another one.
//!
//! Their rows are among those of the other, and a statement about it is about them too: what is unique there is not so
//! among all its rows, and whoever empties it empties them.

use postgres::Client;

/// Whether other tables inherit the columns of a table, so that their rows are among its own; not the parts of one that is
/// divided.
pub(super) fn has_children(
    client: &mut Client,
    table: u32,
) -> std::result::Result<bool, postgres::Error> {
    let query = "select exists (select from pg_inherits i join pg_class c on c.oid = i.inhparent \
                 where i.inhparent = $1 and c.relkind <> 'p')";
    Ok(client.query_one(query, &[&table])?.get(0))
}
