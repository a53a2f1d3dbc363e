//! Cases that are rare among generated ones, and what only a server knows.

use std::io::Write as _;

use gather_keys_core::plan::{On, ReferencePlan, Take, Update, WhenDuplicate, Within};
use gather_keys_formats::postgresql::{ServerAddress, Watcher};

use super::both_ways::{Asked, compare, here, schema, there};

/// Cases that chance seldom meets.
#[test]
fn rare_cases_are_the_same_inside() {
    let Some((server, mut client)) = schema("within_rare") else { return };
    client
        .batch_execute(
            "create table within_rare.main (id integer, a text, b integer, note text);
             insert into within_rare.main values (1, 'x', null, 'n'), (2, '', 2, ''), (3, null, 2, null), (4, ' x ', 7, 'y');
             create table within_rare.ref (k text, s1 text, s2 text, b integer, w text, v numeric);
             insert into within_rare.ref values (null, null, 'x', 2, null, 1), (null, 'x', 'x', null, 'y', 2.50),
                ('', 'x', null, 7, '', 'NaN'), (' x ', null, '', 7, ' y', 2.5)",
        )
        .unwrap();
    // What is unique in a table is not so with the rows of one that inherits its columns.
    client
        .batch_execute(
            "create table within_rare.parent (b integer primary key, w text);
             create table within_rare.child () inherits (within_rare.parent);
             insert into within_rare.parent values (2, 'x'), (7, 'y');
             insert into within_rare.child values (7, 'other'), (2, 'x'), (9, 'z')",
        )
        .unwrap();
    let plan = ReferencePlan {
        name: "ref".to_owned(),
        on: On::parse(&["b"]).unwrap(),
        take: Some(Take::parse("w, @status, @count").unwrap()),
        ..ReferencePlan::default()
    };
    let asked = Asked {
        table: "within_rare.parent".to_owned(),
        order_by: Vec::new(),
        plan,
        aliases: Vec::new(),
    };
    compare(&server, "within_rare.main", &vec![asked].into()).unwrap();
    let of = |on: &str, rule: &str, take: &str, update: &str| ReferencePlan {
        name: "ref".to_owned(),
        on: On::parse(&[on]).unwrap(),
        when_duplicate: WhenDuplicate::parse(rule).unwrap(),
        take: Some(Take::parse(take).unwrap()),
        update: if update.is_empty() { Vec::new() } else { Update::parse(update).unwrap() },
        ..ReferencePlan::default()
    };
    for plan in [
        // The last of the columns counts, not the last row.
        of("a = any(k, s1, s2)", "last", "w, @column, @row, @count", ""),
        of("a = any(k, s1, s2)", "list", "w, v, @column, @row, @count", ""),
        of("a | trim = any(k, s2)", "every", "w, @column", ""),
        // A row that names an unknown header gets nothing, however many rows have its key.
        of("b", "list", "{note} as Named, w, v", ""),
        // A value that has no place among others decides nothing.
        of("b", "highest v", "w, v, @status", ""),
        // Blank is blank, and not the same as no value.
        of("a | trim = k | trim", "report", "w, @status, @key", "note = w"),
        of("b", "list", "w, v as n", "note = w"),
        of("a, b", "report", "w, @key, @count", ""),
        // A row may spell a key in several ways by itself.
        ReferencePlan {
            within: Some(Within::parse("b in b ..").unwrap()),
            ..of("a | trim = any(k, s1, s2)", "report", "w", "")
        },
    ] {
        for match_blanks in [false, true] {
            let plan = ReferencePlan { match_blanks, ..plan.clone() };
            let said = format!("{plan:?}");
            let asked = Asked {
                table: "within_rare.ref".to_owned(),
                order_by: Vec::new(),
                plan,
                aliases: Vec::new(),
            };
            let outcome = compare(&server, "within_rare.main", &vec![asked].into());
            outcome.unwrap_or_else(|error| panic!("{said}: {error}"));
        }
    }
}

/// Of many keys, and of keys of whatever length, a receipt has the marks that the program's own engine makes.
#[test]
fn many_keys_have_the_marks_of_the_engine() {
    let Some((server, mut client)) = schema("within_many") else { return };
    client
        .batch_execute(
            "create table within_many.main as select 'key ' || n as a from generate_series(1, 2500) n;
             create table within_many.long as
                select repeat('ü', n) || repeat('x', m) as a from unnest(array[0, 1, 31, 32, 2047, 2048, 131072]) n, generate_series(0, 1) m;
             create table within_many.ref as select 'other ' || n % 1500 as k, n as w from generate_series(1, 3000) n",
        )
        .unwrap();
    for main in ["within_many.main", "within_many.long"] {
        for on in ["a = k", "a | trim = k"] {
            let plan = ReferencePlan {
                name: "ref".to_owned(),
                on: On::parse(&[on]).unwrap(),
                take: Some(Take::parse("w").unwrap()),
                ..ReferencePlan::default()
            };
            let table = "within_many.ref".to_owned();
            let job = vec![Asked { table, order_by: Vec::new(), plan, aliases: Vec::new() }].into();
            let ours = here(&server, main, &job).unwrap();
            let theirs = there(&server, main, &job).unwrap();
            let [ours, theirs] =
                [&ours.keys[0], &theirs.keys[0]].map(|keys| [keys[0].marks(), keys[1].marks()]);
            assert_eq!(ours, theirs, "{main} {on}");
        }
    }
}

/// What the server counts of a session can be seen while it goes on.
#[test]
fn counters_are_those_of_the_server() {
    let Some((server, mut client)) = schema("within_counters") else { return };
    client.batch_execute("create table within_counters.t (v text)").unwrap();
    let session: i32 = client.query_one("select pg_backend_pid()", &[]).unwrap().get(0);
    let address = ServerAddress::of(&format!("{server}#within_counters.t")).unwrap();
    let mut watcher = Watcher::of(&address, session).unwrap();
    assert_eq!(watcher.counter(), None);
    let mut rows = client.copy_in("copy within_counters.t from stdin").unwrap();
    let mut sent = 0;
    let seen = (0..100).find_map(|_| {
        rows.write_all("a row\n".repeat(1_000).as_bytes()).unwrap();
        rows.flush().unwrap();
        sent += 1_000;
        std::thread::sleep(std::time::Duration::from_millis(20));
        watcher.counter().filter(|counter| counter.done > 0)
    });
    let seen = seen.unwrap();
    assert!(seen.unit == "rows" && seen.done <= sent && seen.of.is_none(), "{seen:?}");
    assert_eq!(rows.finish().unwrap(), sent);
    assert_eq!(watcher.counter(), None);
}
