//! What the server says of a table: its columns with their types, its keys, and whether its rows have a place.

use gather_keys_core::sql::{StoredColumn, StoredTable};
use gather_keys_core::table::Headers;
use postgres::Client;

use super::{InDatabase, failed};
use crate::postgresql::identity::TableIdentity;
use crate::postgresql::inheritance::has_children;
use crate::postgresql::reader::{NAMED, chosen, names};
use crate::postgresql::value::value_type;
use crate::postgresql::{ServerAddress, quoted};
use crate::{Error, Result};

impl InDatabase {
    /// What the server says of the table of an address, whose rows are in the order of some columns if these are given.
    ///
    /// # Errors
    /// When the server has no such table, or the table no such columns.
    pub fn describe(
        &mut self,
        address: &ServerAddress,
        order_by: &[String],
    ) -> Result<(StoredTable, TableIdentity)> {
        let name = address.to_string();
        let failed = |error: postgres::Error| failed(&name, &error);
        let client = &mut self.client;
        let Some((schema, table, _)) = chosen(client, address).map_err(failed)? else {
            let all = names(client, NAMED).unwrap_or_default();
            let asked = address.table().unwrap_or_default().to_owned();
            return Err(Error::NoPart { name: address.database(), what: "table", asked, all });
        };
        let identity = TableIdentity::find(client, &schema, &table).map_err(failed)?;
        let stored = format!("{}.{}", quoted(&schema), quoted(&table));
        let statement = client.prepare(&format!("select * from {stored}")).map_err(failed)?;
        let rows = client.query(
            "select a.attname::text, format_type(a.atttypid, a.atttypmod), coalesce(c.collisdeterministic, true), \
             coalesce(array_position(i.indkey::smallint[], a.attnum), -1)::integer from pg_attribute a \
             left join pg_collation c on c.oid = a.attcollation \
             left join pg_index i on i.indrelid = a.attrelid and i.indisprimary \
             where a.attrelid = $1 and a.attnum > 0 and not a.attisdropped order by a.attnum",
            &[&identity.table],
        );
        let rows = rows.map_err(failed)?;
        let kinds = statement.columns().iter().map(postgres::Column::type_);
        let columns: Vec<StoredColumn> = rows
            .iter()
            .zip(kinds)
            .map(|(row, kind)| StoredColumn {
                name: row.get(0),
                value: value_type(kind, row.get(2)),
                declared: row.get(1),
            })
            .collect();
        let headers: Vec<String> = columns.iter().map(|column| column.name.clone()).collect();
        let headers = Headers::new(&name, headers);
        let order_by = order_by.iter().map(|header| Ok(headers.find(header)?.column));
        let order_by = order_by.collect::<Result<Vec<usize>>>()?;
        let mut key: Vec<(i32, usize)> =
            rows.iter().zip(0..).map(|(row, at)| (row.get(3), at)).collect();
        key.retain(|(place, _)| *place >= 0);
        key.sort_unstable();
        let key = key.into_iter().map(|(_, at)| at).collect();
        let unique = client
            .query(
                "select i.indkey::smallint[], i.indnkeyatts from pg_index i where i.indrelid = $1 and i.indisunique \
                 and i.indisvalid and i.indimmediate and i.indpred is null and i.indexprs is null",
                &[&identity.table],
            )
            .map_err(failed)?;
        let numbers = client
            .query(
                "select attnum from pg_attribute where attrelid = $1 and attnum > 0 and not attisdropped order by attnum",
                &[&identity.table],
            )
            .map_err(failed)?;
        let numbers: Vec<i16> = numbers.iter().map(|row| row.get(0)).collect();
        let unique = unique.iter().filter_map(|row| {
            let (columns, keys): (Vec<i16>, i16) = (row.get(0), row.get(1));
            let place = |number: &i16| numbers.iter().position(|other| other == number);
            columns.iter().take(keys.cast_unsigned().into()).map(place).collect::<Option<Vec<_>>>()
        });
        let unique = unique.collect();
        let (parts, place) = divided(client, identity.table).map_err(failed)?;
        let mut described =
            StoredTable { name: stored, headers, columns, key, order_by, unique, place, parts };
        if has_children(client, identity.table).map_err(failed)? {
            // What the server sees to in a table, it does not in tables that inherit its columns.
            (described.key, described.unique, described.place) = (Vec::new(), Vec::new(), &[]);
        }
        Ok((described, identity))
    }
}

/// The parts of a table that is divided, and the server's own columns that are the place of a row, where rows have one: not
/// those of a view, or of a part that is another kind of table on another server.
fn divided(
    client: &mut Client,
    table: u32,
) -> std::result::Result<(Vec<String>, &'static [&'static str]), postgres::Error> {
    let rows = client.query(
        "select format('%I.%I', n.nspname, c.relname), c.relkind::text, s.srvname::text, c.relname::text, \
         (select option_value from pg_options_to_table(f.ftoptions) where option_name = 'schema_name'), \
         (select option_value from pg_options_to_table(f.ftoptions) where option_name = 'table_name') \
         from pg_partition_tree($1::oid::regclass) p join pg_class c on c.oid = p.relid \
         join pg_namespace n on n.oid = c.relnamespace left join pg_foreign_table f on f.ftrelid = c.oid \
         left join pg_foreign_server s on s.oid = f.ftserver \
         left join pg_foreign_data_wrapper w on w.oid = s.srvfdw and w.fdwname = 'postgres_fdw' \
         where p.isleaf and (f.ftrelid is null or w.oid is not null) order by 1",
        &[&table],
    )?;
    let leaves = client.query_one(
        "select count(*) filter (where isleaf), c.relkind::text from pg_class c \
         left join pg_partition_tree($1::oid::regclass) on true where c.oid = $1 group by c.relkind",
        &[&table],
    )?;
    let (leaves, kind): (i64, &str) = (leaves.get(0), leaves.get(1));
    if matches!(kind, "r" | "m") {
        return Ok((Vec::new(), &["ctid"]));
    }
    if kind != "p" || u64::try_from(leaves) != Ok(rows.len() as u64) {
        return Ok((Vec::new(), &[]));
    }
    let mut have_places = true;
    for row in &rows {
        let (kind, server): (&str, Option<&str>) = (row.get(1), row.get(2));
        have_places &= match server {
            None => matches!(kind, "r" | "m"),
            Some(server) => {
                let (name, schema, table): (&str, Option<&str>, Option<&str>) =
                    (row.get(3), row.get(4), row.get(5));
                is_table_there(client, server, schema.unwrap_or("public"), table.unwrap_or(name))?
            }
        };
    }
    let place: &[&str] = if have_places { &["tableoid", "ctid"] } else { &[] };
    Ok((rows.iter().map(|row| row.get(0)).collect(), place))
}

/// Whether a table of another server is one whose rows have one place each; no view, and not divided again.
fn is_table_there(
    client: &mut Client,
    server: &str,
    schema: &str,
    table: &str,
) -> std::result::Result<bool, postgres::Error> {
    // That server has a view of all such tables. Who may not look there is content without places.
    client.batch_execute("savepoint looking")?;
    let create = format!(
        "create foreign table pg_temp.gather_keys_tables (schemaname name, relname name) server {} \
         options (schema_name 'pg_catalog', table_name 'pg_stat_all_tables')",
        quoted(server)
    );
    let found = client.batch_execute(&create).and_then(|()| {
        client.query_one(
            "select count(*) from pg_temp.gather_keys_tables where schemaname::text = $1 and relname::text = $2",
            &[&schema, &table],
        )
    });
    // Nothing of it is left.
    client.batch_execute("rollback to savepoint looking; release savepoint looking")?;
    Ok(found.is_ok_and(|row| row.get::<_, i64>(0) == 1))
}
