//! Tables on a server, against a real one; see the formats' tests of it.

use super::scene::{Scene, snapshot};

/// The server's address, if there is one.
// A test that is skipped should say so.
#[allow(clippy::print_stderr)]
pub(super) fn server() -> Option<String> {
    let server = std::env::var("GATHER_KEYS_TEST_SERVER").ok();
    if server.is_none() {
        eprintln!("skipped: set GATHER_KEYS_TEST_SERVER to what `.ci/server start DIR` prints");
    }
    server
}

/// A table goes to the server and comes back; its password goes nowhere.
#[test]
fn a_server_has_tables() {
    let Some(server) = server() else { return };
    let (user, host) = server.rsplit_once('@').unwrap();
    let password = user.rsplit_once(':').unwrap().1;
    let scene = Scene::new();
    let reported = |text: &str| {
        assert!(!text.contains(password), "{text}");
        text.replace(host, "HOST/co-op")
    };
    // Where a line is broken depends on the length of the address.
    let flat = |text: &str| {
        reported(&text.split_whitespace().collect::<Vec<_>>().join(" "))
            .replace(" error: ", "\nerror: ")
            + "\n"
    };
    let table = |name: &str| format!("{server}#{name}");
    let (hives, out) = (table("cli_hives"), table("cli_out"));
    let copy = "enrich hives.csv --from harvest.csv --on 'Tag = Hive' --take '@count'";
    let ran = scene.run(&format!("{copy} -q --overwrite -o {hives}")).ended(0);
    assert_eq!((&ran.out[..], &ran.err[..]), ("", ""));
    let call = format!(
        "enrich harvest.csv --from {hives} --on 'Apiary = Site code, Hive = Tag' --take Keeper"
    );
    let ran =
        scene.run(&format!("{call} --save-plan hives.toml --receipt r.json -o a.csv")).ended(0);
    let mut text = flat(&ran.err);
    text += &scene.read("a.csv");
    let plan = reported(&scene.read("hives.toml"));
    text += &plan;
    assert!(reported(&scene.read("r.json")).contains("#cli_hives"));
    // The plan has no password: it comes from where such things are kept.
    let lacks = scene.run("enrich hives.toml -o b.csv").ended(2);
    text += &flat(&lacks.err);
    let run = |arguments: &str| {
        let mut program = scene.program();
        program.args(super::scene::words(arguments)).env("PGPASSWORD", password);
        super::scene::Ran::from(program.output().unwrap())
    };
    run("enrich hives.toml -o b.csv --receipt s.json").ended(0);
    assert_eq!(scene.read("a.csv"), scene.read("b.csv"));
    let proposed = scene.run(&format!("suggest harvest.csv {hives}")).ended(0).out;
    assert!(reported(&proposed).contains("--from 'postgres://"), "{proposed}");
    let other = scene.run(&format!("enrich hives.toml --from {server}#other --on Hive")).ended(2);
    assert!(reported(&other.err).contains("#other"), "{}", other.err);
    // Into the server, seen only when it may be.
    text += &flat(&scene.run(&format!("{call} --overwrite -o {out}")).ended(0).err);
    text += &flat(&scene.run(&format!("{call} -o {out}")).ended(2).err);
    text += &flat(&scene.run(&format!("{call} -o {hives} --overwrite")).ended(2).err);
    text += &flat(&scene.run(&format!("{call} --receipt t.json -o {out}")).ended(2).err);
    let more =
        "--report f.html --report f.md --report f.json --lists found --receipt u.json -o f.csv";
    scene.run(&format!("{call} {more}")).ended(0);
    for (path, content) in scene.files() {
        assert!(!String::from_utf8_lossy(&content).contains(password), "{}", path.display());
    }
    let gone = table("cli_gone");
    scene.run(&format!("{call} --require 'unmatched = 0' -o {gone}")).ended(1);
    let none = flat(&scene.run(&format!("survey {gone}")).ended(2).err);
    assert!(none.contains("has no table `cli_gone`; it has `"), "{none}");
    let back = format!("enrich {out} --from harvest.csv --on Batch --take 'Note as Again' -q");
    text += &scene.run(&back).ended(0).out;
    snapshot("servers", &text);
}

/// A server that is not trusted is not talked to, unless it is said that it may be.
#[test]
fn connections_are_encrypted() {
    let (Some(server), Ok(certificate)) = (server(), std::env::var("GATHER_KEYS_TEST_CERTIFICATE"))
    else {
        return;
    };
    let scene = Scene::new();
    let table = format!("{}#cli_encrypted", server.replace("disable", "require"));
    let copy = format!(
        "enrich hives.csv --from harvest.csv --on 'Tag = Hive' --take '@count' -q -o {table}"
    );
    let refused = scene.run(&copy).ended(2).err;
    assert!(refused.contains("name its\n       file in SSL_CERT_FILE"), "{refused}");
    let mut program = scene.program();
    program.args(super::scene::words(&copy)).arg("--overwrite").env("SSL_CERT_FILE", certificate);
    let ran = super::scene::Ran::from(program.output().unwrap()).ended(0);
    assert_eq!(ran.err, "");
}

/// A table that is replaced stays the same table, whatever its address is spelled like, and types cross as they are.
#[test]
fn a_table_of_a_server_is_left_whole() {
    let Some(server) = server() else { return };
    let scene =
        Scene::empty().with("none.csv", "id\n").with("more.csv", "id,kg,tag\n1,2.50,a\n3,4.00,b\n");
    let psql = |sql: &str| {
        let mut client = postgres::Client::connect(&server, postgres::NoTls).unwrap();
        client.simple_query(sql).unwrap()
    };
    let one = |sql: &str| {
        let mut client = postgres::Client::connect(&server, postgres::NoTls).unwrap();
        client.query_one(sql, &[]).unwrap().get::<_, String>(0)
    };
    psql(
        "drop table if exists cli_kept, cli_other, cli_typed, cli_new cascade; drop type if exists cli_mood cascade;
         create type cli_mood as enum ('calm', 'busy');
         create table cli_kept (id int primary key, kg numeric(12, 2) not null, tag text);
         create index cli_tags on cli_kept (tag); grant select on cli_kept to public;
         alter table cli_kept enable row level security;
         create policy cli_all on cli_kept using (true);
         insert into cli_kept values (1, 1.5, 'x'), (2, 2.5, 'y');
         create table cli_typed (id bigint, kg numeric(12, 2), at timestamptz, mood cli_mood, tags text[], data jsonb,
            uid uuid, raw bytea, n int);
         insert into cli_typed values (1, 3.40, '2026-05-19 10:20+02', 'busy', '{a,b}', '{\"k\": [1]}',
            '6b0c7e1e-6f0b-4d6e-8c37-0a5f5d1f0a11', '\\x00ff', 7);",
    );
    let table = |name: &str| format!("{server}#{name}");
    let other_host = server.replace("127.0.0.1", "localhost");
    // An input is an input, however it is spelled.
    let call = format!(
        "enrich {} --from none.csv --on id --update 'kg = id' -q --overwrite",
        table("cli_kept")
    );
    for output in [table("public.cli_kept"), format!("{other_host}#cli_kept"), table("cli_kept")] {
        let ran = scene.run(&format!("{call} -o {output}")).ended(2);
        assert!(
            ran.err.contains("is an input of this run") || ran.err.contains("is an"),
            "{}",
            ran.err
        );
    }
    assert_eq!(one("select count(*)::text from cli_kept"), "2");
    // The rows are replaced, and the table stays.
    let call = "enrich more.csv --from none.csv --on id --update 'kg = id' -q --overwrite";
    scene.run(&format!("{call} -o {}", table("cli_kept"))).ended(0);
    assert_eq!(
        one("select string_agg(id || ':' || kg, ' ' order by id) from cli_kept"),
        "1:2.50 3:4.00"
    );
    let kept = "select concat_ws(' ', (select count(*) from pg_index where indrelid = 'cli_kept'::regclass), \
                (select count(*) from pg_policy where polrelid = 'cli_kept'::regclass), \
                (select relacl is not null from pg_class where oid = 'cli_kept'::regclass), \
                pg_typeof(kg)) from cli_kept limit 1";
    assert_eq!(one(kept), "2 1 t numeric");
    // With other columns it would not.
    let call = "enrich more.csv --from none.csv --on id --take @count -q --overwrite";
    let ran = scene.run(&format!("{call} -o {}", table("cli_kept"))).ended(2);
    let err = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
    for lost in ["1 key or rule", "1 index", "1 policy", "its grants"] {
        assert!(err.contains(lost), "{err}");
    }
    psql("create table cli_other (id int references cli_kept)");
    let call = "enrich more.csv --from none.csv --on id --update 'kg = id' -q --overwrite";
    let ran = scene.run(&format!("{call} -o {}", table("cli_kept"))).ended(2);
    assert!(ran.err.contains("foreign key"), "{}", ran.err);
    assert_eq!(one("select count(*)::text from cli_kept"), "2");
    // From table to table types stay.
    let call = format!("enrich {} --from none.csv --on id --take @count -q", table("cli_typed"));
    scene.run(&format!("{call} -o {}", table("cli_new"))).ended(0);
    let types = "select string_agg(format_type(atttypid, atttypmod), ', ' order by attnum) from pg_attribute \
                 where attrelid = 'cli_new'::regclass and attnum > 0";
    assert_eq!(
        one(types),
        "bigint, numeric(12,2), timestamp with time zone, cli_mood, text[], jsonb, uuid, bytea, integer, bigint"
    );
    assert_eq!(
        one("select (select t::text from cli_typed t) || ' = ' || (select row(id, kg, at, mood, tags, data, uid, raw, n)::text from cli_new)")
            .split(" = ").collect::<std::collections::HashSet<_>>().len(),
        1
    );
}

/// A table that somebody makes during the run is not dropped.
#[test]
fn a_table_made_meanwhile_is_left_alone() {
    let Some(server) = server() else { return };
    let scene = Scene::new();
    let mut client = postgres::Client::connect(&server, postgres::NoTls).unwrap();
    client.batch_execute("drop table if exists cli_meanwhile").unwrap();
    let made = std::process::Command::new("mkfifo").arg(scene.path("pipe.csv")).status().unwrap();
    assert!(made.success());
    let call = format!(
        "enrich harvest.csv --from pipe.csv --on 'Hive = Tag' --take Keeper --overwrite -o {server}#cli_meanwhile"
    );
    let mut program = scene.program();
    let child =
        program.args(super::scene::words(&call)).stderr(std::process::Stdio::piped()).spawn();
    let mut pipe = std::fs::File::options().write(true).open(scene.path("pipe.csv")).unwrap();
    client
        .batch_execute(
            "create table cli_meanwhile (theirs int); insert into cli_meanwhile values (7)",
        )
        .unwrap();
    std::io::Write::write_all(&mut pipe, b"Tag,Keeper\nH-001,Edda\n").unwrap();
    drop(pipe);
    let ran: super::scene::Ran = child.unwrap().wait_with_output().unwrap().into();
    assert_eq!(ran.status, 2, "{}", ran.err);
    assert!(ran.err.contains("was changed by another program"), "{}", ran.err);
    let theirs: i32 = client.query_one("select theirs from cli_meanwhile", &[]).unwrap().get(0);
    assert_eq!(theirs, 7);
}

/// What has no order has no first row; with one it is the same in every run.
#[test]
fn first_and_last_need_an_order() {
    let Some(server) = server() else { return };
    let mut client = postgres::Client::connect(&server, postgres::NoTls).unwrap();
    client
        .batch_execute(
            "drop table if exists cli_ordered; create table cli_ordered (tag text, since int, keeper text);
             insert into cli_ordered select 'H-001', (n * 7919) % 50000, 'k' || (n * 7919) % 50000
             from generate_series(1, 49999) n",
        )
        .unwrap();
    let scene = Scene::empty().with("m.csv", "Hive\nH-001\n");
    let call = format!(
        "enrich m.csv --from {server}#cli_ordered --on 'Hive = tag' --take 'keeper, @row' -q"
    );
    let ran = scene.run(&format!("{call} --when-duplicate first")).ended(2);
    let err = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(err.contains("order it with --order-by COLUMNS"), "{err}");
    for (rule, want) in [("first", "k1,1"), ("last", "k49999,49999")] {
        let ran = scene.run(&format!("{call} --when-duplicate {rule} --order-by since")).ended(0);
        assert_eq!(ran.out, format!("Hive,keeper,cli_ordered row\nH-001,{want}\n"));
    }
    let ran = scene.run(&format!("{call} --when-duplicate first --order-by sinc")).ended(2);
    assert!(ran.err.contains("no header `sinc`"), "{}", ran.err);
    let ran =
        scene.run("enrich m.csv --from m.csv --on Hive --take @row --order-by Hive -q").ended(2);
    assert!(ran.err.contains("--order-by does not apply to m.csv"), "{}", ran.err);
}

/// A table of a server is written into in one transaction, and keeps what is not written.
#[test]
fn a_table_on_a_server_is_written_into() {
    let Some(server) = server() else { return };
    let mut client = postgres::Client::connect(&server, postgres::NoTls).unwrap();
    let tables = "drop table if exists in_place, in_place_bare; drop type if exists in_place_mood; \
        create type in_place_mood as enum ('calm', 'wild'); \
        create table in_place(apiary text, hive int, keeper text not null, round text, paid numeric(6,2) default 5, \
            mood in_place_mood, note text default 'new', primary key (apiary, hive)); \
        create index in_place_round on in_place(round); grant select on in_place to public; \
        create view in_place_view as select keeper from in_place; \
        insert into in_place values ('Fellside', 1, 'Edda', 'north', 7.00, 'calm', ''), \
            ('Fellside', 2, 'Brenna', 'south', 7.25, null, null); \
        create table in_place_bare(apiary text)";
    client.batch_execute(&format!("drop view if exists in_place_view; {tables}")).unwrap();
    let scene = Scene::empty().with(
        "rounds.csv",
        "Site,Tag,Keeper,Round,Since,Post\nFellside,1,Edda,east,2026-05-01,12\nMill Race,9,Aldis,west,2026-05-03,99\n",
    );
    let on = "--from rounds.csv --on 'apiary = Site, hive = Tag'";
    let call = format!(
        "enrich {server}#public.in_place {on} --take 'Since, Post' --update 'keeper = Keeper, round = Round' \
         --append-unused --in-place"
    );
    let ran = scene.run(&call).ended(0);
    let flat = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        flat.contains("2 columns (Since and Post) in 2 rows, 1 updated cell and 1 new row"),
        "{flat}"
    );
    let rows = client
        .query("select in_place::text, pg_typeof(\"Since\")::text, pg_typeof(\"Post\")::text from in_place order by hive", &[])
        .unwrap();
    let rows: Vec<String> = rows.iter().map(|row| row.get(0)).collect();
    assert_eq!(
        rows,
        [
            "(Fellside,1,Edda,east,7.00,calm,\"\",2026-05-01,12)",
            "(Fellside,2,Brenna,south,7.25,,,,)",
            "(\"Mill Race\",9,Aldis,west,5.00,,new,2026-05-03,99)",
        ]
    );
    let types = client
        .query_one(
            "select string_agg(format_type(atttypid, atttypmod), ' ' order by attnum), \
             (select count(*) from pg_index where indrelid = 'in_place'::regclass), \
             has_table_privilege('public', 'in_place', 'select') \
             from pg_attribute where attrelid = 'in_place'::regclass and attnum > 0",
            &[],
        )
        .unwrap();
    let want = "text integer text text numeric(6,2) in_place_mood text date bigint";
    assert_eq!(
        (types.get::<_, String>(0), types.get::<_, i64>(1), types.get::<_, bool>(2)),
        (want.to_owned(), 2, true)
    );
    // Without a key rows can't be found again, and a server that refuses leaves all as it was.
    let bare = format!(
        "enrich {server}#in_place_bare --from rounds.csv --on 'apiary = Site' --take Post --in-place -q"
    );
    assert!(scene.run(&bare).ended(2).err.contains("primary key"));
    let other = scene.with("bad.csv", "Site,Tag,Mood\nFellside,1,furious\n");
    let bad = format!(
        "enrich {server}#in_place --from bad.csv --on 'apiary = Site, hive = Tag' --take 'Mood as More' --update 'mood = Mood' --in-place -q"
    );
    other.run(&bad).ended(2);
    let columns: i64 = client
        .query_one("select count(*) from pg_attribute where attrelid = 'in_place'::regclass and attnum > 0", &[])
        .unwrap()
        .get(0);
    assert_eq!(columns, 9);
    client
        .batch_execute("drop table in_place, in_place_bare cascade; drop type in_place_mood")
        .unwrap();
}
