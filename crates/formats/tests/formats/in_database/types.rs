//! The types of columns, and the texts of their values.

use gather_keys_core::enrich::EnrichmentBuilder;
use gather_keys_core::table::{Collected, Source};
use gather_keys_formats::postgresql::{InDatabase, ServerAddress};

use super::both_ways::{Adapter, SEED, open, schema};
use super::generated::literal;

/// Types, and texts of values of them.
const VALUES: &[(&str, &[&str])] = &[
    ("smallint", &["-4", "0", "32767"]),
    ("integer", &["-2147483648", "7"]),
    ("bigint", &["12345678901234567", "-9223372036854775808"]),
    ("oid", &["17"]),
    (
        "numeric",
        &[
            "12.50",
            "100",
            "100.00",
            "0.0",
            "-0.0",
            "1e-7",
            "1e30",
            "NaN",
            "Infinity",
            "-Infinity",
            "99999999999999999999.10",
            "0.000000000000000000000000001",
        ],
    ),
    ("numeric(9, 2)", &["12.5", "0"]),
    (
        "double precision",
        &[
            "1e-7",
            "-0",
            "0",
            "1e20",
            "1e21",
            "1.5e300",
            "123456789012345680",
            "0.1",
            "NaN",
            "Infinity",
            "-Infinity",
            "5e-324",
            "-1.5",
        ],
    ),
    ("real", &["0.1", "1e10", "1e-5", "16777216", "-0", "NaN", "3.4e38"]),
    ("boolean", &["true", "false"]),
    ("date", &["1900-02-28", "infinity", "0044-03-15 BC", "12026-01-01", "2026-05-01"]),
    (
        "timestamp",
        &[
            "2026-05-19 10:20:00.5",
            "2026-05-19 00:00",
            "0044-03-15 10:20 BC",
            "infinity",
            "12026-01-01 10:00",
        ],
    ),
    (
        "timestamptz",
        &["2026-05-19 12:20:00+02", "2026-05-19 00:00+00", "-infinity", "1800-01-01 10:00+00"],
    ),
    ("time", &["10:20", "23:59:59.123456"]),
    ("timetz", &["10:20+02"]),
    (
        "interval",
        &[
            "26 hours 30 minutes",
            "1 day 2 hours 30 minutes",
            "-2 days -0.5 seconds",
            "2 days",
            "2 days -1 hour",
            "-1 day 1 hour",
            "1 month",
            "2 years 1 day",
            "0",
            "-3 hours",
            "-26:30:00.25",
            "400 days",
            "1000 hours",
        ],
    ),
    ("bytea", &["\\x00ff", "\\x"]),
    ("text", &["007", " H-1 ", "two\nlines", "it's; \\ $$ \u{200b}"]),
    ("varchar(40)", &["say \"x\""]),
    ("char(5)", &["ab", " a "]),
    ("name", &["keeper"]),
    ("\"char\"", &["x"]),
    ("uuid", &["6b0c7e1e-6f0b-4d6e-8c37-0a5f5d1f0a11"]),
    ("json", &["{\"a\":  1}"]),
    ("jsonb", &["{\"a\": [1, null]}"]),
    ("xml", &["<hive/>"]),
    ("inet", &["127.0.0.1", "10.0.0.0/8"]),
    ("cidr", &["10.0.0.0/8"]),
    ("money", &["12.50"]),
    ("bit(3)", &["101"]),
    ("point", &["(1.5,2)"]),
    ("int4range", &["[1,5)"]),
    ("tsvector", &["'honey' 'jar'"]),
    ("integer[]", &["{1,2}", "{}"]),
    ("text[]", &["{a,\"b c\",null}"]),
    ("within_types.mood", &["busy"]),
    ("within_types.tag", &["H-001"]),
    ("within_types.kg", &["4.50"]),
];

/// Every type has the same text on the server as its reader gives it.
#[test]
fn types_have_the_texts_of_the_reader() {
    let Some((server, mut client)) = schema("within_types") else { return };
    client
        .batch_execute(
            "create domain within_types.tag as text; create domain within_types.kg as numeric(6, 2);
             create type within_types.mood as enum ('calm', 'busy');
             set datestyle = iso; set timezone = utc; set intervalstyle = postgres; set extra_float_digits = 1;
             set bytea_output = hex",
        )
        .unwrap();
    for (nth, (kind, texts)) in VALUES.iter().enumerate() {
        let table = format!("within_types.t{nth}");
        client.batch_execute(&format!("create table {table} (row integer, v {kind})")).unwrap();
        for (row, text) in texts.iter().enumerate() {
            let insert =
                format!("insert into {table} values ({row}, {}::{kind})", literal(Some(text)));
            client
                .batch_execute(&insert)
                .unwrap_or_else(|error| panic!("{kind} {text}: {error:?}"));
        }
        client
            .batch_execute(&format!("insert into {table} values ({}, null)", texts.len()))
            .unwrap();
        let address = ServerAddress::of(&format!("{server}#{table}")).unwrap();
        let (described, _) = InDatabase::begin(&address).unwrap().describe(&address, &[]).unwrap();
        let text = described.columns[1].value.text("t.v");
        let query = format!("select coalesce({text}, '') from {table} t order by row");
        let rows = client.query(&query, &[]).unwrap_or_else(|error| panic!("{query}: {error:?}"));
        let theirs: Vec<String> = rows.iter().map(|row| row.get(0)).collect();
        let mut table = open(&server, &table, &["row".to_owned()]);
        let mut out = Collected::default();
        let builder = EnrichmentBuilder::new(table.headers(), SEED);
        builder.finish().run(&mut table, &mut Adapter(&mut out), None, 1).unwrap();
        let ours: Vec<String> = out.rows.into_iter().map(|mut row| row.remove(1)).collect();
        assert_eq!(theirs, ours, "{kind}");
    }
}
