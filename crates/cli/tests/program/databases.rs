//! Databases are left whole: other tables, keys, indexes and triggers stay, and nothing is read wrong.

use std::fs;
use std::process::Stdio;
use std::thread::sleep;
use std::time::Instant;

use rusqlite::Connection;

use super::scene::{Scene, words};

fn database(scene: &Scene, make: &str) -> Connection {
    let database = Connection::open(scene.path("co-op.sqlite")).unwrap();
    database.execute_batch(make).unwrap();
    database
}

/// Everything in a database, as text.
fn content(scene: &Scene) -> String {
    let database = Connection::open(scene.path("co-op.sqlite")).unwrap();
    let mut all = String::new();
    let mut made = database
        .prepare("select type, name, coalesce(sql, '') from sqlite_master order by 1, 2")
        .unwrap();
    let made = made.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).unwrap();
    let made: Vec<(String, String, String)> = made.map(Result::unwrap).collect();
    for (kind, name, sql) in made {
        all += &format!("{kind} {name}: {sql}\n");
        if kind == "table" {
            let mut rows = database.prepare(&format!("select * from \"{name}\"")).unwrap();
            let columns = rows.column_count();
            let mut rows = rows.query([]).unwrap();
            while let Some(row) = rows.next().unwrap() {
                let cells =
                    (0..columns).map(|column| format!("{:?}", row.get_ref(column).unwrap()));
                all += &format!("  {}\n", cells.collect::<Vec<_>>().join(" "));
            }
        }
    }
    all
}

const MADE: &str = "pragma foreign_keys = on;
    create table hives (Tag text primary key, Keeper text not null, Kg real);
    create table batches (Batch text, Tag text references hives (Tag) on delete cascade);
    create table log (what text);
    create index by_keeper on hives (Keeper);
    create trigger logged after delete on hives begin insert into log values (old.Tag); end;
    create view seen as select * from hives;
    insert into hives values ('H-001', 'Edda', 3.5), ('H-002', 'Corvin', null);
    insert into batches values ('B1', 'H-001'), ('B2', 'H-002');";

#[test]
fn a_table_that_is_replaced_stays_the_same_table() {
    let scene = Scene::empty()
        .with("new.csv", "Tag,Keeper,Kg\nH-001,Edda,3.5\nH-002,Brenna,\nH-003,Jorun,0.1\n")
        .with("less.csv", "Tag,Keeper,Kg\nH-001,Edda,3.5\n")
        .with("wide.csv", "Tag,Keeper,Kg,More\nH-001,Edda,3.5,x\n")
        .with("odd.csv", "Tag,Keeper,Kg\nH-001,Edda,007\nH-002,Edda,1\n")
        .with("none.csv", "Tag\n");
    database(&scene, MADE);
    let before = content(&scene);
    let call = |main: &str, options: &str| {
        scene.run(&format!("enrich {main} --from none.csv --on Tag --take @count -q {options}"))
    };
    // Its columns are others with the added one, and would be lost.
    let ran = call("new.csv", "-o co-op.sqlite#hives --overwrite").ended(2);
    let err = ran.err.replace("\n       ", " ");
    assert!(err.contains("would lose the types of its columns, its keys and rules"), "{err}");
    assert!(err.contains("1 trigger, 1 key of another table"), "{err}");
    let update = |main: &str| {
        let call = "--from none.csv --on Tag --update 'Kg = Tag' --when-unmatched blank";
        scene.run(&format!("enrich {main} {call} -q -o co-op.sqlite#hives --overwrite"))
    };
    for (main, said) in [
        ("less.csv", "1 row of other tables refers to keys that the new rows of `hives` lack"),
        ("wide.csv", "with other columns"),
        ("odd.csv", "row 1, column `Kg`: the text `007` would become a number"),
    ] {
        let err = update(main).ended(2).err.replace("\n       ", " ");
        assert!(err.contains(said), "{main}: {err}");
        assert_eq!(content(&scene), before, "{main}");
    }
    let ran = scene.run("enrich new.csv --from none.csv --on Tag --update 'Kg = Tag' -q -o co-op.sqlite#seen --overwrite");
    assert!(ran.ended(2).err.contains("a view `seen`"));
    update("new.csv").ended(0);
    let database = Connection::open(scene.path("co-op.sqlite")).unwrap();
    let one = |query: &str| database.query_row(query, [], |row| row.get::<_, i64>(0)).unwrap();
    assert_eq!(one("select count(*) from batches"), 2);
    assert_eq!(one("select count(*) from log"), 0);
    assert_eq!(one("select count(*) from hives where Kg = 0.1"), 1);
    assert_eq!(one("select count(*) from sqlite_master where type in ('index', 'trigger')"), 3);
    // A table of our own making is replaced by one with other columns, since nothing is lost.
    for main in ["new.csv", "wide.csv"] {
        call(main, "-o co-op.sqlite#ours --overwrite").ended(0);
    }
}

#[test]
fn text_that_is_not_utf_8_is_told_with_its_place() {
    let scene = Scene::empty().with("main.csv", "Tag\nH-001\n");
    let database = database(&scene, "create table hives (Tag, Keeper)");
    database.execute("insert into hives values ('H-001', 'Edda')", []).unwrap();
    database.execute("insert into hives values ('H-002', cast(x'ff41' as text))", []).unwrap();
    let call = "enrich main.csv --from co-op.sqlite#hives --on Tag --take Keeper -o out.csv";
    let ran = scene.run(call).ended(2);
    let err = ran.err.replace("\n       ", " ");
    assert!(err.contains("the text in row 2, column `Keeper`, is not UTF-8"), "{err}");
    assert!(!scene.path("out.csv").exists());
    // Names too.
    drop(database);
    let bytes = fs::read(scene.path("co-op.sqlite")).unwrap();
    for (name, changed) in
        [(&b"Keeper)"[..], &b"K\xffeper)"[..]), (b"tablehives", b"tableh\xffves")]
    {
        let mut bytes = bytes.clone();
        let at = bytes.windows(name.len()).position(|part| part == name).unwrap();
        bytes[at..at + name.len()].copy_from_slice(changed);
        fs::write(scene.path("co-op.sqlite"), bytes).unwrap();
        let ran = scene.run(&call.replace("#hives", "")).ended(2);
        assert!(ran.err.contains("not UTF-8") || ran.err.contains("malformed"), "{}", ran.err);
        assert!(!ran.err.contains("panicked"), "{}", ran.err);
    }
}

/// A run that is killed while the database is written leaves what the next program restores; one that is interrupted
/// leaves the database as it was, or done.
#[test]
fn a_database_is_the_old_one_or_the_new_one() {
    let rows = (0..20_000).map(|n| format!("K{n},keeper {n}\n")).collect::<Vec<_>>().concat();
    let scene = Scene::empty()
        .with("main.csv", format!("Id,Keeper\n{rows}"))
        .with("none.csv", "Id,Keeper\n");
    let call =
        "enrich main.csv --from none.csv --on Id --update Keeper -q -o co-op.sqlite#t --overwrite";
    scene.run(call).ended(0);
    database(&scene, "update t set Keeper = 'old'; create index by_keeper on t (Keeper)");
    let started = Instant::now();
    scene.run(call).ended(0);
    let usual = started.elapsed();
    let (mut old, mut new) = (0, 0);
    for nth in 0..12 {
        database(&scene, "update t set Keeper = 'old'");
        let mut child = scene.program().args(words(call)).stderr(Stdio::null()).spawn().unwrap();
        sleep(usual.mul_f64(0.4 + (f64::from(nth) * 0.618_034).fract() * 0.65));
        super::signals::signal(&child, if nth % 2 == 0 { "-INT" } else { "-KILL" });
        let status = child.wait().unwrap();
        // This program itself reads what was left.
        let find = scene.run("find co-op.sqlite#t K7 --on Id");
        assert!([0, 1].contains(&find.status), "{status}: {}", find.err);
        let reported = Connection::open(scene.path("co-op.sqlite")).unwrap();
        let count =
            |query: &str| reported.query_row(query, [], |row| row.get::<_, i64>(0)).unwrap();
        assert_eq!(count("select count(*) from t"), 20_000);
        match count("select count(*) from t where Keeper = 'old'") {
            0 => new += 1,
            20_000 => old += 1,
            mixed => panic!("{mixed} old rows"),
        }
        if status.code() == Some(0) {
            assert_eq!(count("select count(*) from t where Keeper = 'old'"), 0);
        }
        let journal = scene.path("co-op.sqlite-journal");
        assert!(!journal.exists() || status.code().is_none(), "a journal stays after {status}");
    }
    println!("{old} old, {new} new");
}
