//! Runs inside a database, against a real server; see the formats' tests of it.

use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use postgres::{Client, NoTls};

use super::scene::{Ran, Scene, snapshot, words};

/// The server's address, if there is one.
// A test that is skipped should say so.
#[allow(clippy::print_stderr)]
fn server() -> Option<String> {
    let server = std::env::var("GATHER_KEYS_TEST_SERVER").ok();
    if server.is_none() {
        eprintln!("skipped: set GATHER_KEYS_TEST_SERVER to what `.ci/server start DIR` prints");
    }
    server
}

/// A folder with the demo's tables.
fn demo() -> Scene {
    let mut scene = Scene::empty();
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        if entry.path().extension().is_some_and(|ext| ext == "csv") {
            let name = entry.file_name().into_string().unwrap();
            scene = scene.with(&name, std::fs::read(entry.path()).unwrap());
        }
    }
    scene
}

/// Loads tables of a scene into a schema of the server, which is made afresh, each as texts and with its first column as its
/// key if it is the main table.
fn load(scene: &Scene, server: &str, schema: &str, tables: &[&str]) -> Client {
    let mut client = Client::connect(server, NoTls).unwrap();
    client
        .batch_execute(&format!("drop schema if exists {schema} cascade; create schema {schema}"))
        .unwrap();
    for (nth, table) in tables.iter().enumerate() {
        let bytes = std::fs::read(scene.path(&format!("{table}.csv"))).unwrap();
        let delimiter = if bytes.iter().take(60).any(|byte| *byte == b';') { b';' } else { b',' };
        let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).from_reader(&bytes[..]);
        let headers = reader.headers().unwrap().clone();
        let columns: Vec<String> = headers.iter().map(|one| format!("\"{one}\" text")).collect();
        let key = if nth == 0 { format!(", primary key (\"{}\")", &headers[0]) } else { String::new() };
        let create = format!("create table {schema}.{table} ({}{key})", columns.join(", "));
        client.batch_execute(&create).unwrap();
        let places: Vec<String> = (1..=headers.len()).map(|at| format!("nullif(${at}, '')")).collect();
        let insert = format!("insert into {schema}.{table} values ({})", places.join(", "));
        let insert = client.prepare(&insert).unwrap();
        for record in reader.records() {
            let record = record.unwrap();
            let cells: Vec<&str> = record.iter().collect();
            let cells: Vec<&(dyn postgres::types::ToSql + Sync)> =
                cells.iter().map(|cell| cell as &(dyn postgres::types::ToSql + Sync)).collect();
            client.execute(&insert, &cells).unwrap();
        }
    }
    client
}

/// The rows of a table of the server, as texts in order.
fn rows(client: &mut Client, table: &str) -> Vec<String> {
    let rows = client.query(&format!("select t::text from {table} t order by 1"), &[]).unwrap();
    rows.iter().map(|row| row.get(0)).collect()
}

/// A text with the address of the server left out, in one line a paragraph.
fn flat(text: &str, server: &str) -> String {
    let host = server.rsplit_once('@').unwrap().1;
    let user = server.split_once("://").unwrap().1.split_once(':').unwrap().0;
    let words = text.split_whitespace().collect::<Vec<_>>().join(" ");
    words.replace(&format!("postgres://{user}@{host}#"), "")
}

const LOOK: &str = "--on 'Apiary = Site code, Hive = Tag' --take 'Keeper, Queen line as Line'";

/// The demo's tables give the same table inside the database as here, and the same findings; the statements give it too.
#[test]
fn the_demo_is_the_same_inside_a_database() {
    let Some(server) = server() else { return };
    let scene = demo();
    let mut client = load(&scene, &server, "inside", &["harvest", "hives", "bloom", "jars"]);
    let table = |name: &str| format!("{server}#inside.{name}");
    let call = |out: &str| {
        format!(
            "enrich {} --from {} {LOOK} --from {} --on Valley --take '{{Picked on | date | month}} as Bloom' -o {}",
            table("harvest"),
            table("hives"),
            table("bloom"),
            table(out)
        )
    };
    let here = scene.run(&call("here").replace(" | date | month", " | first 7")).ended(0);
    let calm = call("inside").replace(" | date | month", " | first 7");
    let inside = scene.run(&format!("{calm} --in-database --show-sql run.sql --report r.json")).ended(0);
    assert_eq!(rows(&mut client, "inside.here"), rows(&mut client, "inside.inside"));
    let counts = |text: &str| {
        let flat = flat(text, &server);
        let at = flat.find("240 rows of").unwrap();
        flat[at..].split(" hives (").next().unwrap().to_owned()
    };
    assert_eq!(counts(&here.err), counts(&inside.err));
    let text = flat(&inside.err, &server).replace(". ", ".\n") + "\n";
    snapshot("in_database", &text);
    let report: serde_json::Value = serde_json::from_str(&scene.read("r.json")).unwrap();
    let unmatched = &report["references"][0]["unmatched"][0];
    assert_eq!(unmatched["name"], "Batch B0004", "{unmatched}");
    // Nothing but the output is left.
    let left = "select count(*) from pg_class where relname like 'gather_keys%'";
    assert_eq!(client.query_one(left, &[]).unwrap().get::<_, i64>(0), 0);
    // Somebody else runs the statements by hand.
    client.batch_execute("create table inside.before as select * from inside.inside; drop table inside.inside").unwrap();
    let psql = Command::new("psql").args([&server, "-q", "-f"]).arg(scene.path("run.sql")).output();
    let psql = psql.unwrap();
    assert!(psql.status.success(), "{}", String::from_utf8_lossy(&psql.stderr));
    assert_eq!(rows(&mut client, "inside.before"), rows(&mut client, "inside.inside"));
    // Both sides of a reverse lookup and of a range, from files that are copied there.
    let orders = "check ORDERS --from jars.csv --on 'Code = any(125 g .. 5 kg)' --take 'Line, @column as Size' \
        --from 'prices-*.csv' --on 'Line, Size' --take Price --within 'Ordered on in Valid from .. Valid to'";
    load(&scene, &server, "inside", &["orders"]);
    let here = scene.run(&orders.replace("ORDERS", "orders.csv")).ended(0).out;
    let inside = scene.run(&format!("{} --in-database", orders.replace("ORDERS", &table("orders"))));
    let inside = flat(&inside.ended(0).out, &server);
    for line in ["jars 5 42 1 1 1", "prices 120 38 2 1 4"] {
        assert!(flat(&here, &server).contains(line) && inside.contains(line), "{here}\n{inside}");
    }
}

/// A gate that does not hold leaves nothing, and so does a server that refuses, is busy or is gone.
#[test]
fn nothing_is_half_written_inside_a_database() {
    let Some(server) = server() else { return };
    let scene = demo();
    let mut client = load(&scene, &server, "halfway", &["harvest", "hives"]);
    let table = |name: &str| format!("{server}#halfway.{name}");
    let call = format!("enrich {} --from {} {LOOK} --in-database", table("harvest"), table("hives"));
    let tables = |client: &mut Client| -> i64 {
        let count = "select count(*) from pg_class c join pg_namespace n on n.oid = c.relnamespace \
                     where n.nspname = 'halfway' and c.relkind = 'r'";
        client.query_one(count, &[]).unwrap().get(0)
    };
    let out = table("out");
    let ran = scene.run(&format!("{call} -o {out} --require 'unmatched = 0' --report r.md")).ended(1);
    assert!(flat(&ran.err, &server).contains("halfway.out was not written."), "{}", ran.err);
    assert!(scene.read("r.md").contains("unmatched"));
    assert_eq!(tables(&mut client), 2);
    // What a rule of the table that is there refuses.
    client
        .batch_execute(
            "create table halfway.strict as select *, ''::text as \"Keeper\", ''::text as \"Line\" from halfway.harvest limit 1;
             alter table halfway.strict alter \"Keeper\" set not null",
        )
        .unwrap();
    let ran = scene.run(&format!("{call} -o {} --overwrite", table("strict"))).ended(2);
    assert!(flat(&ran.err, &server).contains("violates not-null"), "{}", ran.err);
    assert_eq!(rows(&mut client, "halfway.strict").len(), 1);
    // A lock that another has.
    let mut other = Client::connect(&server, NoTls).unwrap();
    other.batch_execute("begin; lock table halfway.strict in access share mode").unwrap();
    let patient = format!("{server}&options=-c%20lock_timeout%3D300ms");
    let locked = call.replace(&server, &patient);
    let ran = scene.run(&format!("{locked} -o {patient}#halfway.strict --overwrite")).ended(2);
    assert!(flat(&ran.err, &server).contains("lock timeout"), "{}", ran.err);
    other.batch_execute("rollback").unwrap();
    assert_eq!(rows(&mut client, "halfway.strict").len(), 1);
    // A connection that is lost, and one that is given up, while the server works.
    client
        .batch_execute(
            "create view halfway.slow as select h.*, pg_sleep(0.05)::text as nap from halfway.harvest h",
        )
        .unwrap();
    let slow = call.replace("#halfway.harvest", "#halfway.slow").replace("Hive = Tag", "Hive = Tag, nap = Keeper");
    for is_killed in [true, false] {
        let mut program = scene.program();
        program.args(words(&format!("{slow} -o {out}")));
        let child = program.stderr(std::process::Stdio::piped()).spawn().unwrap();
        let is_at_work = "select pid from pg_stat_activity where application_name = 'gather-keys' and state = 'active' \
                          and query like '%asked_1%'";
        let began = Instant::now();
        let pid = loop {
            if let Some(row) = client.query_opt(is_at_work, &[]).unwrap() {
                break row.get::<_, i32>(0);
            }
            assert!(began.elapsed() < Duration::from_secs(30));
            std::thread::sleep(Duration::from_millis(20));
        };
        if is_killed {
            client.execute("select pg_terminate_backend($1)", &[&pid]).unwrap();
        } else {
            let status = Command::new("kill").args(["-INT", &child.id().to_string()]).status();
            assert!(status.unwrap().success());
        }
        let ran = Ran::from(child.wait_with_output().unwrap());
        if is_killed {
            assert_eq!(ran.status, 2);
            assert!(flat(&ran.err, &server).contains("nothing was written"), "{}", ran.err);
        } else {
            assert_eq!(ran.status, 130);
        }
        // The server does not go on for nobody.
        let began = Instant::now();
        while client.query_opt(is_at_work, &[]).unwrap().is_some() {
            assert!(began.elapsed() < Duration::from_secs(3), "the server goes on");
            std::thread::sleep(Duration::from_millis(20));
        }
        assert_eq!(tables(&mut client), 3);
    }
}

/// What has no meaning inside a database, or is not done there, is refused with what to do.
#[test]
fn mistakes_with_a_database_are_answered() {
    let Some(server) = server() else { return };
    let scene = demo();
    drop(load(&scene, &server, "refused", &["harvest", "hives"]));
    let main = format!("{server}#refused.harvest");
    let out = format!("-o {server}#refused.out");
    let hives = format!("--from {server}#refused.hives --on 'Hive = Tag'");
    let mut text = String::new();
    for call in [
        format!("enrich harvest.csv {hives} --take Keeper --in-database {out}"),
        format!("enrich {main} {hives} --take Keeper --in-database -o out.csv"),
        format!("enrich {main} {hives} --take Keeper --in-database"),
        format!("enrich {main} {hives} --take Keeper --show-sql x.sql {out}"),
        format!("enrich {main} {hives} --take Keeper --in-database --ship 1kB {out} --from hives.csv --on Hive=Tag --take Since"),
        format!("enrich {main} {hives} --take '@row' --in-database {out}"),
        format!("enrich {main} {hives} --take Keeper --when-duplicate first --in-database {out}"),
        format!("enrich {main} {hives} --take Keeper --lists found --in-database {out}"),
        format!("enrich {main} {hives} --take Keeper --in-database -o {main} --overwrite"),
        format!("enrich {main} --from {server}#refused.none --on Hive --take Keeper --in-database {out}"),
    ] {
        let ran = scene.run(&call).ended(2);
        text += &format!("$ gather-keys {}\n", flat(&call, &server).replace(&server, "SERVER"));
        text += &format!("{}\n", flat(&ran.err, &server).replace(&server, "SERVER"));
    }
    let host = server.rsplit_once('@').unwrap().1;
    let text = text.replace(host, "HOST").replace("keeper@HOST", "USER@HOST");
    let at = text.find("it has `").unwrap_or(text.len());
    let cut = text[at..].split(';').next().unwrap_or_default().to_owned();
    snapshot("in_database_mistakes", &text.replace(&cut, "it has …"));
}
