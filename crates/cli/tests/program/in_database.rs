//! Runs inside a database, against a real server; see the formats' tests of it.

use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use postgres::{Client, NoTls};

use super::scene::{Ran, Scene, snapshot, words};
use super::servers::server;

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

/// A schema of a test's own, which is dropped with it.
struct Schema {
    client: Client,
    name: String,
}

impl std::ops::Deref for Schema {
    type Target = Client;

    fn deref(&self) -> &Client {
        &self.client
    }
}

impl std::ops::DerefMut for Schema {
    fn deref_mut(&mut self) -> &mut Client {
        &mut self.client
    }
}

impl Drop for Schema {
    fn drop(&mut self) {
        // A server that is gone has none.
        let _ = self.client.batch_execute(&format!("rollback; drop schema {} cascade", self.name));
    }
}

/// A schema of the server, made afresh.
fn made(server: &str, name: &str) -> Schema {
    let mut client = Client::connect(server, NoTls).unwrap();
    let anew = format!("drop schema if exists {name} cascade; create schema {name}");
    client.batch_execute(&anew).unwrap();
    Schema { client, name: name.to_owned() }
}

/// Loads tables of a scene into a schema of the server, which is made afresh, each as texts and with its first column as its
/// key if it is the main table.
fn load(scene: &Scene, server: &str, schema: &str, tables: &[&str]) -> Schema {
    let mut client = made(server, schema);
    for (nth, table) in tables.iter().enumerate() {
        let bytes = std::fs::read(scene.path(&format!("{table}.csv"))).unwrap();
        let delimiter = if bytes.iter().take(60).any(|byte| *byte == b';') { b';' } else { b',' };
        let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).from_reader(&bytes[..]);
        let headers = reader.headers().unwrap().clone();
        let columns: Vec<String> = headers.iter().map(|one| format!("\"{one}\" text")).collect();
        let key =
            if nth == 0 { format!(", primary key (\"{}\")", &headers[0]) } else { String::new() };
        let create = format!("create table {schema}.{table} ({}{key})", columns.join(", "));
        client.batch_execute(&create).unwrap();
        let places: Vec<String> =
            (1..=headers.len()).map(|at| format!("nullif(${at}, '')")).collect();
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
    let inside =
        scene.run(&format!("{calm} --in-database --show-sql run.sql --report r.json")).ended(0);
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
    // The command can be run again, by who knows the password.
    let command = report["command"].as_str().unwrap();
    assert!(command.contains("'postgres://keeper@127.0.0.1:"), "{command}");
    let unmatched = &report["references"][0]["unmatched"][0];
    assert_eq!(unmatched["name"], "Batch B0004", "{unmatched}");
    // Nothing but the output is left.
    let left = "select count(*) from pg_class where relname like 'gather_keys%'";
    assert_eq!(client.query_one(left, &[]).unwrap().get::<_, i64>(0), 0);
    // Somebody else runs the statements.
    client
        .batch_execute(
            "create table inside.before as select * from inside.inside; drop table inside.inside",
        )
        .unwrap();
    let psql = Command::new("psql").args([&server, "-q", "-f"]).arg(scene.path("run.sql")).output();
    let psql = psql.unwrap();
    assert!(psql.status.success(), "{}", String::from_utf8_lossy(&psql.stderr));
    assert_eq!(rows(&mut client, "inside.before"), rows(&mut client, "inside.inside"));
    // Both sides of a reverse lookup and of a range, from files that are copied there.
    let orders = "check ORDERS --from jars.csv --on 'Code = any(125 g .. 5 kg)' --take 'Line, @column as Size' \
        --from 'prices-*.csv' --on 'Line, Size' --take Price --within 'Ordered on in Valid from .. Valid to'";
    drop(client);
    let _schema = load(&scene, &server, "inside", &["orders"]);
    let here = scene.run(&orders.replace("ORDERS", "orders.csv")).ended(0).out;
    let inside =
        scene.run(&format!("{} --in-database", orders.replace("ORDERS", &table("orders"))));
    let inside = flat(&inside.ended(0).out, &server);
    for line in ["jars 5 42 1 1 1", "prices 120 38 2 1 4"] {
        assert!(flat(&here, &server).contains(line) && inside.contains(line), "{here}\n{inside}");
    }
}

/// Every list has the rows that it has here, named by their keys.
#[test]
fn lists_are_the_same_inside_a_database() {
    let Some(server) = server() else { return };
    let scene = demo();
    let mut client = load(&scene, &server, "listed", &["harvest", "hives"]);
    // Blank is blank, whether there is a value or none.
    client.batch_execute("update listed.harvest set \"Hive\" = '' where \"Batch\" < 'B0100' and \"Hive\" is null").unwrap();
    let cleaned = "Apiary = Site code, Hive | digits | number = Tag | digits | number";
    for (on, more) in [
        ("Apiary = Site code, Hive = Tag", "--take Keeper"),
        (cleaned, "--take Keeper --when-duplicate 'highest Since'"),
        ("Apiary = Site code, Hive = Tag", "--update 'Note = Keeper, Valley = Queen line'"),
        (cleaned, "--update 'Note = Keeper' --replace blanks --when-duplicate list"),
    ] {
        let call = format!(
            "check {server}#listed.harvest --from {server}#listed.hives --name hives --on '{on}' {more} \
             --overwrite --lists"
        );
        scene.run(&format!("{call} here")).ended(0);
        let ran = scene.run(&format!("{call} inside --in-database")).ended(0);
        assert!(
            flat(&ran.out, &server).contains("lists of findings to the folder inside."),
            "{}",
            ran.out
        );
        let batches = "select \"Batch\" from listed.harvest";
        let batches: Vec<String> =
            client.query(batches, &[]).unwrap().iter().map(|row| row.get(0)).collect();
        let places = "select ctid::text from listed.hives";
        let places: Vec<String> =
            client.query(places, &[]).unwrap().iter().map(|row| row.get(0)).collect();
        let numbered = |name: &str| {
            let place = name.strip_prefix("row at ");
            let place = place.and_then(|place| places.iter().position(|other| other == place));
            place.map_or_else(|| name.to_owned(), |at| (at + 1).to_string())
        };
        // Where rows have no key of their own they are numbered.
        let named = |file: &str| {
            let text = scene.read(file);
            let mut reader = csv::Reader::from_reader(text.as_bytes());
            let headers = reader.headers().unwrap().clone();
            let mut rows: Vec<String> = reader
                .records()
                .map(|record| {
                    let record = record.unwrap();
                    let cell = |(header, cell): (&str, &str)| match (header, cell.parse::<usize>())
                    {
                        ("line", _) => String::new(),
                        ("row" | "first row", Ok(row)) if record[1].ends_with("harvest") => {
                            format!("Batch {}", batches[row - 1])
                        }
                        // Rows that stay where they are are named by their place there.
                        _ => cell.split("; ").map(numbered).collect::<Vec<_>>().join("; "),
                    };
                    let cells: Vec<String> = headers.iter().zip(&record).map(cell).collect();
                    cells.join("|")
                })
                .collect();
            rows.sort();
            rows
        };
        let files = std::fs::read_dir(scene.path("here")).unwrap().flatten();
        for file in files.map(|file| file.file_name().into_string().unwrap()) {
            let (here, inside) = (named(&format!("here/{file}")), named(&format!("inside/{file}")));
            assert_eq!(here, inside, "{file} of {on}");
        }
        let is_updating = more.contains("--update");
        assert_eq!(named("inside/changes.csv").len() > 100, is_updating);
    }
}

/// Matched rows to look at are the same for the same seed, each with a row of the reference that has its key.
#[test]
fn matched_rows_are_shown_inside_a_database() {
    let Some(server) = server() else { return };
    let scene = demo();
    let mut client = load(&scene, &server, "shown", &["harvest", "hives"]);
    let pairs = client.query("select \"Site code\", \"Tag\" from shown.hives", &[]).unwrap();
    let pairs: Vec<String> = pairs
        .iter()
        .map(|row| {
            let cell = |nth: usize| row.get::<_, Option<String>>(nth).unwrap_or_default();
            format!("Site code {}, Tag {}", cell(0), cell(1))
        })
        .collect();
    // Rows that stay where they are, and ones that are copied.
    for rule in ["report", "highest Since"] {
        let call = format!(
            "check {server}#shown.harvest --from {server}#shown.hives --name hives --on 'Apiary = Site code, Hive = Tag' \
             --take Keeper --when-duplicate '{rule}' --in-database -q --show"
        );
        let show = |more: &str| scene.run(&format!("{call} {more}")).ended(0).out;
        let first = show("5");
        assert_eq!(first, show("5"));
        assert_ne!(first, show("5 --seed 2"));
        let lines: Vec<&str> = first.lines().collect();
        let rows = lines.iter().filter(|line| line.trim_start().starts_with("is row at ("));
        let keys: Vec<&str> = rows.map(|line| line.split_once(": ").unwrap().1).collect();
        assert_eq!(keys.len(), 5, "{first}");
        for key in keys {
            assert!(pairs.iter().any(|pair| pair == key), "{key}");
            let ours = key.replace("Site code", "Apiary").replace("Tag", "Hive");
            assert!(lines.iter().any(|line| line.ends_with(&ours)), "{ours} in {first}");
        }
        assert_eq!(lines.iter().filter(|line| line.contains("takes: Keeper ")).count(), 5);
    }
}

/// A gate that does not hold leaves nothing, and so does a server that refuses, is busy or is gone.
#[test]
fn nothing_is_half_written_inside_a_database() {
    let Some(server) = server() else { return };
    let scene = demo();
    let mut client = load(&scene, &server, "halfway", &["harvest", "hives"]);
    let table = |name: &str| format!("{server}#halfway.{name}");
    let call =
        format!("enrich {} --from {} {LOOK} --in-database", table("harvest"), table("hives"));
    let tables = |client: &mut Client| -> i64 {
        let count = "select count(*) from pg_class c join pg_namespace n on n.oid = c.relnamespace \
                     where n.nspname = 'halfway' and c.relkind = 'r'";
        client.query_one(count, &[]).unwrap().get(0)
    };
    let out = table("out");
    let ran =
        scene.run(&format!("{call} -o {out} --require 'unmatched = 0' --report r.md")).ended(1);
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
    let slow = call
        .replace("#halfway.harvest", "#halfway.slow")
        .replace("Hive = Tag", "Hive = Tag, nap = Keeper");
    for is_killed in [true, false] {
        let mut program = scene.program();
        program.args(words(&format!("{slow} -o {out}")));
        let child = program.stderr(std::process::Stdio::piped()).spawn().unwrap();
        let is_at_work = "select pid from pg_stat_activity a where application_name = 'gather-keys' and state = 'active' \
                          and query like '%answers_1%' and exists (select from pg_locks l where l.pid = a.pid \
                          and l.relation = 'halfway.slow'::regclass)";
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

/// A server of a test's own, which is stopped with it.
struct OwnServer {
    folder: tempfile::TempDir,
}

impl OwnServer {
    fn call(action: &str, folder: &Path) -> String {
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../.ci/server");
        let ran = Command::new(script).arg(action).arg(folder).output().unwrap();
        assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
        String::from_utf8(ran.stdout).unwrap().trim().to_owned()
    }

    /// Starts a server, with a folder that its user may read.
    fn begin() -> Self {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::TempDir::new().unwrap();
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        Self { folder }
    }

    fn start(&self) -> String {
        Self::call("start", &self.folder.path().join("server"))
    }

    fn stop(&self) {
        Self::call("stop", &self.folder.path().join("server"));
    }
}

impl Drop for OwnServer {
    fn drop(&mut self) {
        if self.folder.path().join("server/data/postmaster.pid").exists() {
            self.stop();
        }
        let small = self.folder.path().join("small");
        if small.exists() {
            let _ = Command::new("umount").arg(small).output();
        }
    }
}

/// A server that is killed, or whose disk is full, is left as it was.
#[test]
fn a_server_that_fails_is_left_as_it_was() {
    if server().is_none() {
        return;
    }
    let own = OwnServer::begin();
    let server = own.start();
    let scene = demo();
    let mut client = load(&scene, &server, "fails", &["harvest", "hives"]);
    client
        .batch_execute(
            "create view fails.slow as select h.*, pg_sleep(0.05)::text as nap from fails.harvest h;
             create table fails.large as select n::text as \"Batch\", 'Fellside' as \"Apiary\", 'H-' || n as \"Hive\"
                from generate_series(1, 200000) n",
        )
        .unwrap();
    let call = |main: &str| {
        format!(
            "enrich {server}#fails.{main} --from {server}#fails.hives --on 'Hive = Tag' --take Keeper --in-database \
             -o {server}#fails.out"
        )
    };
    let is_there = "select to_regclass('fails.out') is not null or exists \
                    (select from pg_class where relname like 'gather_keys%')";
    // A disk of few MiB, where there may be one.
    let small = own.folder.path().join("small");
    std::fs::create_dir(&small).unwrap();
    let mount =
        Command::new("mount").args(["-t", "tmpfs", "-o", "size=6m", "tmpfs"]).arg(&small).output();
    if mount.is_ok_and(|mount| mount.status.success()) {
        let place = small.join("tables");
        std::fs::create_dir(&place).unwrap();
        let owned = Command::new("chown").arg("postgres").arg(&place).status().unwrap();
        assert!(owned.success());
        client
            .batch_execute(&format!("create tablespace small location '{}'", place.display()))
            .unwrap();
        for of in ["default_tablespace", "temp_tablespaces"] {
            client.batch_execute(&format!("alter role keeper set {of} = small")).unwrap();
            let ran = scene.run(&call("large")).ended(2);
            let err = flat(&ran.err, &server);
            assert!(err.contains("No space left on device; nothing was written"), "{of}: {err}");
            assert!(!client.query_one(is_there, &[]).unwrap().get::<_, bool>(0));
            client.batch_execute(&format!("alter role keeper reset {of}")).unwrap();
        }
        client.batch_execute("drop tablespace small").unwrap();
    }
    let slow = call("slow").replace("'Hive = Tag'", "'Hive = Tag, nap = Keeper'");
    let child = scene.program().args(words(&slow)).stderr(std::process::Stdio::piped()).spawn();
    let began = Instant::now();
    let is_at_work = "select pid from pg_stat_activity where state = 'active' and query like '%create temp table answers_1%' \
                      and application_name = 'gather-keys'";
    while client.query_opt(is_at_work, &[]).unwrap().is_none() {
        assert!(began.elapsed() < Duration::from_secs(30));
        std::thread::sleep(Duration::from_millis(20));
    }
    own.stop();
    let ran = Ran::from(child.unwrap().wait_with_output().unwrap());
    assert_eq!(ran.status, 2);
    assert!(flat(&ran.err, &server).contains("nothing was written"), "{}", ran.err);
    assert_eq!(own.start(), server);
    let mut client = Client::connect(&server, NoTls).unwrap();
    assert!(!client.query_one(is_there, &[]).unwrap().get::<_, bool>(0));
    scene.run(&call("harvest")).ended(0);
}

/// What a person decided holds inside a database as it does here: aliases, corrections, and rows that are new.
#[test]
fn decisions_hold_inside_a_database() {
    let Some(server) = server() else { return };
    let scene = demo()
        .with(
            "aliases.csv",
            "Apiary,Hive,nearest Site code,nearest Tag,approve\n\
             Bramble Ende,,Bramble End,,yes\nLarkfield,H-O12,Larkfield,H-012,yes\nWend,,Wenden,,yes\n",
        )
        .with(
            "fixes.csv",
            "Batch,header,value,note\nB0004,Keeper,Edda Larkhollow,asked\nB0005,Note,,not so\n\
             B0001,Keeper,Edda Larkhollow,\nB9999,Keeper,Nobody,\n",
        );
    let mut client = load(&scene, &server, "decided", &["harvest", "hives"]);
    // Its number comes from the table.
    client.batch_execute("alter table decided.harvest add nr serial").unwrap();
    let table = |name: &str| format!("{server}#decided.{name}");
    let call = |main: &str, out: &str| {
        format!(
            "enrich {} --from {} --on 'Apiary = Site code, Hive = Tag' --take 'Keeper, @status, @key' \
             --aliases aliases.csv --corrections fixes.csv --append-unused {out}",
            table(main),
            table("hives")
        )
    };
    let into = |name: &str| format!("-o {}", table(name));
    let here = scene.run(&call("harvest", &into("here"))).ended(0);
    let inside = format!("{} --in-database --show-sql run.sql", into("inside"));
    let inside = scene.run(&call("harvest", &inside)).ended(0);
    assert_eq!(rows(&mut client, "decided.here"), rows(&mut client, "decided.inside"));
    let said = |ran: &Ran, from: &str| {
        let text = flat(&ran.err, &server);
        let at = text.find(from).unwrap_or_else(|| panic!("{from}: {text}"));
        text[at..].split(" ambiguous ").next().unwrap().to_owned()
    };
    assert_eq!(said(&here, "Written into"), said(&inside, "Written into"));
    assert_eq!(said(&here, "aliases:"), said(&inside, "aliases:"));
    let text = flat(&inside.err, &server).replace(". ", ".\n") + "\n";
    snapshot("in_database_decisions", &text);
    // A column keeps its type where corrections are values of it, and is wider where new rows need it.
    let types =
        "select string_agg(format_type(atttypid, atttypmod), ' ' order by attnum) from pg_attribute
                 where attrelid = 'decided.inside'::regclass and attnum > 0";
    let types: String = client.query_one(types, &[]).unwrap().get(0);
    assert_eq!(types, "text text text text text text text integer text text text");
    // The statements do the same, and so do they in the main table itself, whose own numbers go on.
    client
        .batch_execute(
            "create table decided.before as select * from decided.inside; drop table decided.inside;
             alter table decided.harvest drop constraint harvest_pkey; alter table decided.harvest alter \"Batch\" drop not null",
        )
        .unwrap();
    let psql = Command::new("psql").args([&server, "-q", "-f"]).arg(scene.path("run.sql")).output();
    let psql = psql.unwrap();
    assert!(psql.status.success(), "{}", String::from_utf8_lossy(&psql.stderr));
    assert_eq!(rows(&mut client, "decided.before"), rows(&mut client, "decided.inside"));
    scene.run(&call("harvest", "--in-place --in-database")).ended(0);
    let counts = "select count(*), count(distinct nr), max(nr)::bigint from decided.harvest";
    let counts = client.query_one(counts, &[]).unwrap();
    let [all, numbers, last] = [0, 1, 2].map(|nth| counts.get::<_, i64>(nth));
    assert!(all > 240 && all == numbers && all == last, "{all} {numbers} {last}");
    client
        .batch_execute("alter table decided.harvest drop nr; alter table decided.before drop nr")
        .unwrap();
    assert_eq!(rows(&mut client, "decided.before"), rows(&mut client, "decided.harvest"));
}

/// The receipt of a run inside a database says what has moved since, and whether somebody has changed the output.
#[test]
fn receipts_are_kept_inside_a_database() {
    let Some(server) = server() else { return };
    let scene = demo();
    let mut client = load(&scene, &server, "receipted", &["harvest", "hives"]);
    let table = |name: &str| format!("{server}#receipted.{name}");
    let call = format!(
        "enrich {} --from {} {LOOK} --from sites.csv --on Apiary --take '*' --in-database -o {} --receipt r.json",
        table("harvest"),
        table("hives"),
        table("out")
    );
    let lists = format!("{call} --lists found --require 'columns = same'");
    let first = scene.run(&lists).ended(0);
    assert!(flat(&first.err, &server).contains("Wrote the receipt r.json."), "{}", first.err);
    let receipt = scene.read("r.json");
    let kept: serde_json::Value = serde_json::from_str(&receipt).unwrap();
    let rows_of = |nth: usize| kept["inputs"][nth]["rows"].as_u64().unwrap();
    assert_eq!([rows_of(0), rows_of(1), rows_of(2)], [240, 117, 6]);
    assert_eq!(kept["output"]["rows"], 240);
    // What the run before wrote is replaced, the lists too, and the same tables make the same receipt.
    let again = scene.run(&lists).ended(0);
    assert!(
        !again.err.contains("Since the last run") && !again.err.contains(&server),
        "{}",
        again.err
    );
    assert_eq!(scene.read("r.json"), receipt);
    client
        .batch_execute(
            "update receipted.harvest set \"Hive\" = 'H-777' where \"Batch\" = 'B0001'; \
             delete from receipted.harvest where \"Batch\" = 'B0002'",
        )
        .unwrap();
    let moved = flat(&scene.run(&lists).ended(0).err, &server);
    for said in [
        "Since the last run",
        "receipted.harvest has 1 fewer row, 239 in all",
        "hives: 1 key is unmatched that was not: Fellside, H-777",
    ] {
        assert!(moved.contains(said), "{said}: {moved}");
    }
    // Somebody changes the output by hand.
    let change = "update receipted.out set \"Keeper\" = 'me' where \"Batch\" = 'B0009'";
    client.batch_execute(change).unwrap();
    let (before, kept) = (rows(&mut client, "receipted.out"), scene.read("r.json"));
    let refused = flat(&scene.run(&format!("{call} --overwrite")).ended(1).err, &server);
    assert!(
        refused.starts_with("receipted.out was changed after it was written, and is left as it is"),
        "{refused}"
    );
    assert_eq!((rows(&mut client, "receipted.out"), scene.read("r.json")), (before, kept));
    scene.run(&format!("{call} --edits discard")).ended(0);
    let me = "select count(*) from receipted.out where \"Keeper\" = 'me'";
    assert_eq!(client.query_one(me, &[]).unwrap().get::<_, i64>(0), 0);
}

/// What has no meaning inside a database, or is not done there, is refused with what to do.
#[test]
fn mistakes_with_a_database_are_answered() {
    let Some(server) = server() else { return };
    let scene = demo();
    let _schema = load(&scene, &server, "refused", &["harvest", "hives"]);
    let main = format!("{server}#refused.harvest");
    let out = format!("-o {server}#refused.out");
    let hives = format!("--from {server}#refused.hives --on 'Hive = Tag'");
    let mut text = String::new();
    for call in [
        format!("enrich harvest.csv {hives} --take Keeper --in-database {out}"),
        format!("enrich {main} {hives} --take Keeper --in-database -o out.csv"),
        format!("enrich {main} {hives} --take Keeper --in-database"),
        format!("enrich {main} {hives} --take Keeper --show-sql x.sql {out}"),
        format!(
            "enrich {main} {hives} --take Keeper --in-database --ship 1kB {out} --from hives.csv --on Hive=Tag --take Since"
        ),
        format!("enrich {main} {hives} --take '@row' --in-database {out}"),
        format!("enrich {main} {hives} --take Keeper --when-duplicate first --in-database {out}"),
        format!(
            "enrich {main} {hives} --update 'Note = Keeper' --receipt run.json --in-database --in-place"
        ),
        format!(
            "enrich {main} {hives} --take Keeper --receipt run.json --edits keep --corrections fixes.csv --in-database {out}"
        ),
        format!("enrich {main} {hives} --take Keeper --in-database -o {main} --overwrite"),
        format!(
            "enrich {main} --from {server}#refused.none --on Hive --take Keeper --in-database {out}"
        ),
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

/// The main table itself is written into as it is by the program's own engine, and keeps what is not written.
#[test]
fn the_main_table_is_written_into_inside_a_database() {
    let Some(server) = server() else { return };
    let scene = Scene::empty().with(
        "rounds.csv",
        "Site,Tag,Keeper,Round,Since,Post\nFellside,1,Edda,east,2026-05-01,12\nFellside,2,,west,2026-05-03,99\n",
    );
    let mut client = made(&server, "into_main");
    let call = |table: &str| {
        format!(
            "enrich {server}#into_main.{table} --from rounds.csv --on 'apiary = Site, hive = Tag' \
             --take 'Since, Post, @status' --update 'keeper = Keeper, round = Round' --in-place"
        )
    };
    let mut all = Vec::new();
    for (table, how) in [("here", ""), ("inside", " --in-database --show-sql into.sql --overwrite")]
    {
        client
            .batch_execute(&format!(
                "create table into_main.{table}(apiary text, hive int, keeper text not null, round varchar(9), paid numeric(6,2),
                    primary key (apiary, hive));
                 create index on into_main.{table}(round); grant select on into_main.{table} to public;
                 insert into into_main.{table} values ('Fellside', 1, 'Brenna', 'north', 7.00),
                    ('Fellside', 2, 'Corvin', null, 7.25), ('Mill Race', 9, 'Aldis', 'south', null)"
            ))
            .unwrap();
        let ran = scene.run(&format!("{}{how}", call(table))).ended(0);
        let text = flat(&ran.err, &server);
        assert!(
            text.contains(
                "3 columns (Since, Post and rounds status) in 3 rows and 3 updated cells"
            ),
            "{text}"
        );
        let facts = format!(
            "select string_agg(format_type(atttypid, atttypmod), ' ' order by attnum), \
             (select count(*)::text from pg_index where indrelid = 'into_main.{table}'::regclass), \
             has_table_privilege('public', 'into_main.{table}', 'select')::text \
             from pg_attribute where attrelid = 'into_main.{table}'::regclass and attnum > 0"
        );
        let facts = client.query_one(&facts, &[]).unwrap();
        let facts: Vec<String> = (0..3).map(|nth| facts.get(nth)).collect();
        all.push((rows(&mut client, &format!("into_main.{table}")), facts));
    }
    assert_eq!(all[0], all[1]);
    assert_eq!(all[1].1[0], "text integer text character varying(9) numeric(6,2) date bigint text");
    // The statements do the same.
    client
        .batch_execute(
            "drop table into_main.inside; alter table into_main.here drop column \"Since\", drop column \"Post\",
                drop column \"rounds status\";
             update into_main.here set keeper = 'Brenna', round = 'north' where hive = 1;
             update into_main.here set round = null where hive = 2;
             alter table into_main.here rename to inside",
        )
        .unwrap();
    let psql =
        Command::new("psql").args([&server, "-q", "-f"]).arg(scene.path("into.sql")).output();
    assert!(psql.unwrap().status.success());
    assert_eq!(rows(&mut client, "into_main.inside"), all[1].0);
    // Also with a reference that is there, whose rows share keys: ones that agree, and ones that don't.
    client
        .batch_execute(
            "create table into_main.rounds (site text, tag int, who text);
             insert into into_main.rounds values ('Fellside', 1, 'Edda'), ('Fellside', 1, 'Edda'), ('Fellside', 2, 'Jorun'),
                ('Fellside', 2, 'Aldis'), ('Mill Race', 9, 'Tamsin'), (null, 9, 'Wenna')",
        )
        .unwrap();
    let mut both = Vec::new();
    for how in ["", " --in-database --overwrite"] {
        client
            .batch_execute(
                "drop table if exists into_main.shared; create table into_main.shared (apiary text, hive int, keeper text,
                    primary key (apiary, hive));
                 insert into into_main.shared values ('Fellside', 1, 'a'), ('Fellside', 2, 'b'), ('Mill Race', 9, null),
                    ('Mill Race', 10, 'd')",
            )
            .unwrap();
        scene
            .run(&format!(
                "enrich {server}#into_main.shared --from {server}#into_main.rounds --on 'apiary = site, hive = tag' \
                 --update 'keeper = who' --take '@count' --in-place{how}"
            ))
            .ended(0);
        both.push(rows(&mut client, "into_main.shared"));
    }
    assert_eq!(both[0], both[1]);
    // Rows that are not to be written twice are not, and what the table refuses leaves it as it was.
    let again = "--on 'apiary = Site, hive = Tag' --update 'keeper = Keeper, round = Round' --in-place --in-database";
    let table = format!("{server}#into_main.inside");
    let ran = scene.run(&format!("enrich {table} --from rounds.csv {again}")).ended(0);
    assert!(
        flat(&ran.err, &server).contains("stays as it is: nothing in it changes."),
        "{}",
        ran.err
    );
    let bad = scene.with("bad.csv", "Site,Tag,Paid\nFellside,1,much\n");
    let call = format!(
        "enrich {table} --from bad.csv --on 'apiary = Site, hive = Tag' --take 'Paid as More' \
        --update 'paid = Paid' --in-place --in-database"
    );
    bad.run(&call).ended(2);
    assert_eq!(rows(&mut client, "into_main.inside"), all[1].0);
}

/// A plan says all of it, and is watched like any other.
#[test]
fn a_plan_runs_inside_a_database() {
    let Some(server) = server() else { return };
    let scene = demo();
    let mut client = load(&scene, &server, "planned", &["harvest"]);
    let call = format!(
        "enrich {server}#planned.harvest --from hives.csv {LOOK} --in-database --ship 1MB -o {server}#planned.out \
         --save-plan weekly.toml"
    );
    scene.run(&call).ended(0);
    let plan = scene.read("weekly.toml");
    assert!(plan.contains("in_database = true") && plan.contains("ship = \"1MB\""), "{plan}");
    let before = rows(&mut client, "planned.out");
    client.batch_execute("drop table planned.out").unwrap();
    let password = server.rsplit_once('@').unwrap().0.rsplit_once(':').unwrap().1;
    let mut program = scene.program();
    program.args(["watch", "weekly.toml"]).env("PGPASSWORD", password);
    let mut child = program.stderr(std::process::Stdio::null()).spawn().unwrap();
    let began = Instant::now();
    let is_there = "select to_regclass('planned.out') is not null";
    while !client.query_one(is_there, &[]).unwrap().get::<_, bool>(0) {
        assert!(began.elapsed() < Duration::from_secs(30));
        std::thread::sleep(Duration::from_millis(50));
    }
    // It is made again when a file that the plan reads has changed.
    client.batch_execute("drop table planned.out").unwrap();
    std::thread::sleep(Duration::from_millis(1100));
    let hives = scene.read("hives.csv");
    std::fs::write(scene.path("hives.csv"), hives + "\n").unwrap();
    while !client.query_one(is_there, &[]).unwrap().get::<_, bool>(0) {
        assert!(began.elapsed() < Duration::from_secs(60));
        std::thread::sleep(Duration::from_millis(50));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(rows(&mut client, "planned.out"), before);
}

/// The page on databases.
fn page() -> String {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/databases.md");
    std::fs::read_to_string(path).unwrap()
}

/// The blocks of a page with these words after the fence.
fn blocks(page: &str, words: &str) -> Vec<String> {
    let begin = format!("```{words}\n");
    let blocks = page.split(&begin[..]).skip(1);
    blocks.map(|block| block.split("```").next().unwrap().to_owned()).collect()
}

/// What the page on databases shows is what comes out.
#[test]
fn the_page_on_databases_is_right() {
    const SHOWN: &str = "postgres://keeper@db/co-op";
    let Some(server) = server() else { return };
    let scene = demo();
    let mut client = load(&scene, &server, "honey", &["harvest", "keepers"]);
    let hives = std::fs::read(scene.path("hives.csv")).unwrap();
    let columns = scene.read("hives.csv").lines().next().unwrap().to_owned();
    let columns: Vec<String> = columns.split(',').map(|one| format!("\"{one}\" text")).collect();
    client.batch_execute(&format!("create table honey.hives ({})", columns.join(", "))).unwrap();
    let mut copy = client.copy_in("copy honey.hives from stdin csv header").unwrap();
    std::io::Write::write_all(&mut copy, &hives).unwrap();
    copy.finish().unwrap();
    let words = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    let mut run = 0;
    for block in blocks(&page(), "console server") {
        for example in block.split("$ ").filter(|one| !one.trim().is_empty()) {
            // A command ends at the first line that does not go on.
            let mut ends = example.match_indices('\n').map(|(at, _)| at);
            let end = ends.find(|&at| !example[..at].ends_with('\\')).unwrap();
            let (command, shown) = example.split_at(end);
            let ran = scene.shell(&format!("{{ {}\n}} 2>&1", command.replace(SHOWN, &server)));
            let host = server.rsplit_once('@').unwrap().1;
            let printed = words(&ran.out).replace(&format!("postgres://keeper@{host}"), SHOWN);
            assert_eq!(printed, words(shown), "{command}");
            run += 1;
        }
    }
    assert!(run >= 5, "{run}");
}

/// Tables that are partitioned over two servers give the same table as tables of one; each server counts its own keys.
#[test]
fn tables_on_many_servers_are_one_table() {
    let Some(server) = server() else { return };
    let shards = std::env::var("GATHER_KEYS_TEST_SHARDS").unwrap_or_default();
    let shards: Vec<&str> = shards.split_whitespace().collect();
    let [one, two] = shards[..] else { return };
    let mut client = made(&server, "many");
    client
        .batch_execute(
            "set search_path = many, public;
             drop server if exists shard1 cascade; drop server if exists shard2 cascade",
        )
        .unwrap();
    for shard in [one, two] {
        let mut shard = Client::connect(shard, NoTls).unwrap();
        shard.batch_execute("drop table if exists harvest, hives").unwrap();
        shard.batch_execute(&blocks(&page(), "sql shard")[0]).unwrap();
    }
    let mut setup = blocks(&page(), "sql coordinator")[0].clone();
    for (nth, shard) in [one, two].into_iter().enumerate() {
        let (user, place) = shard.trim_start_matches("postgres://").split_once('@').unwrap();
        let (user, password) = user.split_once(':').unwrap();
        let (host, database) = place.split_once('/').unwrap();
        let (host, port) = host.split_once(':').unwrap();
        let database = database.split('?').next().unwrap();
        setup = setup
            .replace(
                &format!("host 'shard{}', port '5432', dbname 'co-op'", nth + 1),
                &format!("host '{host}', port '{port}', dbname '{database}'"),
            )
            .replace(
                &format!("user 'keeper', password 'secret{}'", nth + 1),
                &format!("user '{user}', password '{password}'"),
            );
    }
    client.batch_execute(&setup).unwrap();
    client
        .batch_execute(
            "insert into hives select 'Site ' || n % 10, n / 10, 'Keeper ' || n % 97 from generate_series(0, 999) n;
             insert into hives values ('Site 1', 1, 'another'), ('Site 2', 2, null), (null, 3, 'x');
             insert into harvest select n, 'Site ' || n * 7 % 1100 % 10, n * 7 % 1100 / 10, n % 50
                from generate_series(1, 5000) n;
             insert into harvest values (0, null, 1, 2);
             analyze harvest; analyze hives;
             create table harvest_here as table harvest; create table hives_here as table hives",
        )
        .unwrap();
    let scene = Scene::empty();
    let call = |main: &str, hives: &str, on: &str, out: &str| {
        format!(
            "enrich {server}#many.{main} --from {server}#many.{hives} --name hives --on '{on}' \
             --take 'keeper, @status, @count' --in-database -o {server}#many.{out} --report {out}.json --lists {out} --overwrite"
        )
    };
    for on in ["apiary = site, hive = tag", "apiary | fold = site | fold, hive = tag"] {
        let ran = scene
            .run(&format!("{} -v --show-sql many.sql", call("harvest", "hives", on, "many_out")))
            .ended(0);
        // Of 5,001 rows the output has all; the keys that are asked for are different ones.
        let crossed = if on.contains("fold") {
            "For the answers and the output 7,105 rows came from other servers, which joined no tables."
        } else {
            "For the answers and the output 7,115 rows came from other servers, which joined many.harvest_1 with \
             many.hives_1 and many.harvest_2 with many.hives_2."
        };
        assert!(flat(&ran.err, &server).contains(crossed), "{}", ran.err);
        scene.run(&call("harvest_here", "hives_here", on, "one_out")).ended(0);
        assert_eq!(rows(&mut client, "many.many_out"), rows(&mut client, "many.one_out"));
        let counts = |file: &str| {
            let report: serde_json::Value = serde_json::from_str(&scene.read(file)).unwrap();
            let of_hives = &report["references"][0];
            (of_hives["outcomes"].clone(), of_hives["reference_findings"].clone())
        };
        assert_eq!(counts("many_out.json"), counts("one_out.json"));
        // Rows without a name are listed too.
        let lines = |file: String| scene.read(&file).lines().count();
        for list in ["repeated", "unmatched", "ambiguous", "blank-key"] {
            let (many, one) = (format!("many_out/{list}.csv"), format!("one_out/{list}.csv"));
            let (many, one) = (lines(many), lines(one));
            assert!(many == one && many > 1, "{list}: {many} and {one}");
        }
        // Each server joins its rows: for the answers, where it counts them too, and for the output.
        if !on.contains("fold") {
            client.batch_execute("begin; drop table many.many_out").unwrap();
            let plans = plans(&mut client, &scene.read("many.sql"));
            client.batch_execute("rollback").unwrap();
            for (of, joined) in [
                ("create temp table answers_1", "Aggregate on ((many.harvest_"),
                ("create table \"many\".\"many_out\" as", "(many.harvest_"),
            ] {
                let plan = plans.iter().find(|plan| plan.starts_with(of)).unwrap();
                let joins = plan.lines().filter(|line| {
                    line.contains(&format!("Relations: {joined}"))
                        && line.contains(" LEFT JOIN (many.hives_")
                });
                assert_eq!(joins.count(), 2, "{plan}");
            }
        }
    }
}

/// The plans of the statements that make tables in a script, each after its statement. The script is carried out in the
/// transaction that is open.
fn plans(client: &mut Client, script: &str) -> Vec<String> {
    let mut plans = Vec::new();
    let script = script.split_once("repeatable read;\n").unwrap().1;
    for statement in script.split(";\n").map(str::trim) {
        let sql: Vec<&str> = statement.lines().filter(|line| !line.starts_with("--")).collect();
        let sql = sql.join("\n");
        if sql.is_empty() || sql == "commit" {
            continue;
        }
        if sql.starts_with("create") && !sql.starts_with("create temp view") {
            let plan = client.query(&format!("explain (verbose, costs off) {sql}"), &[]).unwrap();
            let plan: Vec<String> = plan.iter().map(|row| row.get(0)).collect();
            plans.push(format!("{sql}\n{}", plan.join("\n")));
        }
        client.batch_execute(&sql).unwrap();
    }
    plans
}
