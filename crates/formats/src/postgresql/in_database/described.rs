//! What the server says of a table: its columns with their types, its keys, and whether its rows have a place.

use gather_keys_core::sql::{StoredColumn, StoredTable};
use gather_keys_core::table::Headers;

use super::{InDatabase, failed};
use crate::postgresql::identity::TableIdentity;
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
        let kind = client
            .query_one("select relkind::text from pg_class where oid = $1", &[&identity.table])
            .map_err(failed)?;
        let has_places = matches!(kind.get(0), "r" | "m");
        let (unique, place) = (unique.collect(), has_places.then_some("ctid"));
        Ok((StoredTable { name: stored, headers, columns, key, order_by, unique, place }, identity))
    }
}
