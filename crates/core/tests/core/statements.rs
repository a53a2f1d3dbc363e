//! An enrichment as statements, without a server.

use gather_keys_core::enrich::{Corrections, EnrichmentBuilder};
use gather_keys_core::findings::Correction;
use gather_keys_core::lookup::{Alias, AliasKeys};
use gather_keys_core::plan::{On, ReferencePlan, Take, Within};
use gather_keys_core::sql::{
    Asking, NamedRows, Script, Shown, Step, StoredColumn, StoredTable, ValueType,
};
use gather_keys_core::table::Headers;

/// A table of a database with columns of these types.
fn stored(name: &str, columns: &[(&str, ValueType, &str)]) -> StoredTable {
    let column = |(name, value, declared): &(&str, ValueType, &str)| StoredColumn {
        name: (*name).to_owned(),
        value: *value,
        declared: (*declared).to_owned(),
    };
    StoredTable {
        name: format!("\"public\".\"{name}\""),
        headers: Headers::new(name, columns.iter().map(|(name, ..)| *name)),
        columns: columns.iter().map(column).collect(),
        key: vec![0],
        order_by: Vec::new(),
        unique: vec![vec![0]],
        place: &["ctid"],
        parts: Vec::new(),
    }
}

const TEXT: ValueType = ValueType::Text { bytewise: true };

/// The main table.
fn harvest() -> StoredTable {
    let (hive, day) = ((ValueType::Integer, "integer"), (ValueType::Day, "date"));
    stored("harvest", &[("Batch", TEXT, "text"), ("Hive", hive.0, hive.1), ("Day", day.0, day.1)])
}

/// The script of one reference.
fn script(on: &str, take: &str, within: Option<&str>, shared: Option<&str>) -> Script {
    let main = harvest();
    let hives = stored(
        "hives",
        &[
            ("Tag", ValueType::Integer, "bigint"),
            ("Keeper", TEXT, "text"),
            ("Since", ValueType::Day, "date"),
        ],
    );
    let plan = ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&[on]).unwrap(),
        within: within.map(|within| Within::parse(within).unwrap()),
        take: Some(Take::parse(take).unwrap()),
        ..ReferencePlan::default()
    };
    statements((&main, &hives), &plan, (&[], &[]), shared)
}

/// The statements of a plan, with aliases and corrections by the batch.
fn statements(
    (main, hives): (&StoredTable, &StoredTable),
    plan: &ReferencePlan,
    (aliases, corrections): (&[Alias], &[Correction]),
    shared: Option<&str>,
) -> Script {
    let mut builder = EnrichmentBuilder::new(&main.headers, [1, 2, 3, 4]);
    let found = builder.resolve(plan, &hives.headers, &[]).unwrap();
    let sides = (&found.main_key, &found.reference_keys[0]);
    let aliases = AliasKeys::new(aliases.to_vec(), sides, false);
    let aliases = Some(&aliases).filter(|all| !all.is_empty());
    let find = |header: &str| builder.find_output(header);
    let key = ["Batch".to_owned()];
    let corrections = Corrections::new("fixes.csv", &key, corrections.to_vec(), find).unwrap();
    let asking =
        Asking { name: "hives", found: &found, match_blanks: false, aliases, table: hives };
    Script::new(main, &[asking], (&builder.output_columns(), Some(&corrections)), shared)
}

/// The text of a script.
fn text_of(script: &Script) -> String {
    let step = |step: &Step| match step {
        Step::Statement { about, sql } => format!("-- {about}\n{sql};\n"),
        Step::Reading { about, reading } => {
            format!("-- {about}\n{};\n-- of {}\n", reading.create(), reading.query())
        }
    };
    script.steps.iter().map(step).collect()
}

/// Whole numbers are compared as they are, a unique key needs no search for others, and a type stays what it is.
#[test]
fn a_key_without_steps_is_compared_by_its_values() {
    let script = script("Hive = Tag", "Keeper, Since", None, Some("public.run"));
    let text = text_of(&script);
    assert!(!text.contains("read_1") && !text.contains("::text as c1"), "{text}");
    assert!(text.contains("group by e.key1 having false"), "{text}");
    assert!(text.contains("create temp view rows_1 as"), "{text}");
    assert!(text.contains("create unlogged table public.run_repeated_1 as"), "{text}");
    let declared: Vec<&str> = script.output.iter().map(|column| &column.declared[..]).collect();
    assert_eq!(declared, ["text", "integer", "date", "text", "date"]);
    assert!(
        script
            .source
            .ends_with("left join pg_temp.rows_1 e1 on e1.key1 = m.\"Hive\" and e1.is_whole"),
        "{}",
        script.source
    );
}

/// What a person decided: aliases of parts are read here, corrections keep types, and new rows come to the main table.
#[test]
fn decisions_are_statements() {
    let main = harvest();
    let hives = stored(
        "hives",
        &[("Tag", ValueType::Integer, "bigint"), ("Since", TEXT, "text"), ("Keeper", TEXT, "text")],
    );
    let plan = ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&["Hive = Tag, Day = Since"]).unwrap(),
        take: Some(Take::parse("Keeper, @status").unwrap()),
        append_unused: true,
        ..ReferencePlan::default()
    };
    let cells = |first: &str, second: &str| vec![first.to_owned(), second.to_owned()];
    let alias = |row, parts: &[usize], main, reference| Alias {
        row,
        parts: parts.to_vec(),
        main,
        reference,
    };
    let aliases = [
        alias(1, &[0], cells("7", ""), cells("8", "")),
        alias(2, &[0, 1], cells("9", "2026-05-19"), cells("8", "2026-05-20")),
        alias(3, &[1], cells("", ""), cells("", "2026-05-20")),
    ];
    let correction = |row, header: &str, value: &str| Correction {
        key: vec![format!("B{row}")],
        header: header.to_owned(),
        value: value.to_owned(),
        row,
    };
    let corrections = [correction(1, "Day", "2026-05-21"), correction(2, "Hive", "12")];
    let script = statements((&main, &hives), &plan, (&aliases, &corrections), None);
    let reading = script.steps.iter().find_map(|step| match step {
        Step::Reading { reading, .. } => Some(reading),
        Step::Statement { .. } => None,
    });
    let reading = reading.unwrap();
    for (day, hive, want) in [
        ("2026-05-19", "7", "0 | 8 | 2026-05-19"),
        // An alias of a whole key is joined on the server, and a broken one does nothing.
        ("2026-05-19", "9", "null | null | null"),
        ("", "7", "0 | 8 | "),
    ] {
        let mut results = Vec::new();
        let cells = [hive.to_owned(), day.to_owned()];
        reading.reader().read(&cells, |one| results.push(one.unwrap_or("null").to_owned()));
        assert_eq!(results.join(" | "), want);
    }
    let text = text_of(&script);
    assert!(text.contains("(values (1::bigint, '9', '2026-05-19', '8', '2026-05-20'))"), "{text}");
    // The hive is of a wider type now. A day is of another type in the reference, and so becomes text.
    let declared: Vec<&str> = script.output.iter().map(|column| &column.declared[..]).collect();
    assert_eq!(declared, ["text", "bigint", "text", "text", "text"]);
    let (new, _) = script.new.as_ref().unwrap();
    assert_eq!(new.iter().map(|(column, _)| *column).collect::<Vec<_>>(), [1, 2]);
    assert!(script.source.contains("t.\"Hive\"::bigint as \"Hive\""), "{}", script.source);
    let corrected = script.corrected.as_ref().unwrap().changes(5);
    assert!(corrected.ends_with("order by place, col limit 5"), "{corrected}");
    // Without new rows a corrected column keeps its type.
    let plan = ReferencePlan { append_unused: false, ..plan };
    let script = statements((&main, &hives), &plan, (&[], &corrections), None);
    let declared: Vec<&str> = script.output.iter().map(|column| &column.declared[..]).collect();
    assert_eq!(declared, ["text", "integer", "date", "text", "text"]);
    assert!(script.new.is_none());
}

/// What steps make of values is read here: the query gives the different ones, and each becomes a state and a value.
#[test]
fn values_are_read_as_they_are_elsewhere() {
    let script = script("Batch | digits | number = Tag", "Keeper", Some("Day in Since .."), None);
    let readings = script.steps.iter().filter_map(|step| match step {
        Step::Reading { reading, .. } => Some(reading),
        Step::Statement { .. } => None,
    });
    let mut read = String::new();
    for reading in readings {
        for cell in ["B-007", "n/a", "", " ", "2026-05-19", "26"] {
            let mut results = Vec::new();
            reading.reader().read(&[cell.to_owned()], |one| results.push(one.map(str::to_owned)));
            let results: Vec<String> =
                results.into_iter().map(|one| one.unwrap_or_else(|| "null".to_owned())).collect();
            read.push_str(&[&format!("{cell:?}"), ": ", &results.join(" | "), "\n"].concat());
        }
        read.push('\n');
    }
    let want = [
        // A range of one bound: state, scale, and both ends of a day.
        "\"2026-05-19\": 0 | 1 | 1779148800000000000 | 1779235199999999999",
        // A part of the key: state and value.
        "\"B-007\": 0 | 7",
        "\"n/a\": 1 | ",
        "\" \": 1 | ",
        // A value that must be in a range: state, scale and place.
        "\"2026-05-19\": 0 | 1 | 1779148800000000000\n",
        "\"n/a\": 2 | null | null",
        "\"\": 1 | null | null",
        "\"26\": 0 | 0 | 26000000000000000000",
    ];
    for line in want {
        assert!(read.contains(line), "{line:?} in\n{read}");
    }
}

/// What cannot be known before the run is asked for by number, whatever tables and columns are called.
#[test]
fn queries_are_of_as_many_rows_as_are_wanted() {
    // Rows that stay where they are, and ones that are numbered.
    for on in ["Hive = Tag", "Hive | number = Tag | number"] {
        let script = script(on, "Keeper, @status, @count", None, None);
        let (rows, shown) = (&script.lookups[0].rows, Shown { most: 4, seed: 17 });
        let named = NamedRows { has_keyless: true, has_unused: true, unused: &[3, 11], shown };
        assert!(rows.troubles(7).contains("at <= 7"));
        assert!(rows.unmatched(8).ends_with("limit 8"));
        let (unused, reference) = (rows.unused(9), rows.reference(&named, 5, 1000));
        assert!(reference.contains("limit 1000"), "{reference}");
        for query in [&rows.matched(shown), &reference] {
            assert!(query.contains("md5('17' ||") && query.contains("limit 4)"), "{query}");
        }
        assert_eq!(unused.is_some(), reference.contains("'{3,11}'"), "{reference}");
        assert!(unused.iter().all(|query| query.ends_with("limit 9")));
        for query in [rows.troubles(1), rows.unmatched(1), reference].iter().chain(&unused) {
            assert!(!query.contains('\0'), "{query}");
        }
    }
}
