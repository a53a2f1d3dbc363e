//! Tables that are much of something: equal keys, columns, files; and systems that allow little.

use super::hostile::measured;
use super::scene::Scene;

const MIB: u64 = 1 << 20;

/// A key on many rows of both tables makes long cells or many rows, which are processed a few rows at a time.
#[test]
fn a_key_that_is_everywhere_takes_little_memory() {
    let main: String = (0..1_500).map(|nth| format!("{nth},x\n")).collect();
    let reference: String = (0..20_000).map(|nth| format!("x,value {nth}\n")).collect();
    let scene = Scene::empty()
        .with("main.csv", format!("Id,K\n{main}"))
        .with("ref.csv", format!("K,V\n{reference}"));
    let call = "enrich main.csv --from ref.csv --on K --take V -q --when-duplicate";
    for memory in ["", "--memory 1MB"] {
        // The text of every row has 240 KB, and there are 1,500 of them.
        let ended = measured(&scene, &format!("{call} list {memory}"));
        assert!(ended.status == Some(0) && ended.peak < 200 * MIB, "{ended:?}");
    }
    let few = scene.with("few.csv", "Id,K\n1,x\n2,y\n3,x\n");
    for memory in ["", "--memory 1MB"] {
        let ran =
            few.run(&format!("{} every {memory}", call.replace("main.csv", "few.csv"))).ended(0);
        let rows: Vec<&str> = ran.out.lines().collect();
        assert_eq!(
            (rows.len(), rows[1], rows[20_001], rows[20_002]),
            (40_002, "1,x,value 0", "2,y,", "3,x,value 0")
        );
    }
}

/// What comes out is the same, however few rows are processed at a time, with every kind of cell.
#[test]
fn rows_worked_on_by_few_are_the_same() {
    let main: String = (0..1_500).map(|nth| format!("{nth},k{}\n", nth % 3)).collect();
    let long = "honey ".repeat(40);
    let reference: String =
        (0..150).map(|nth| format!("k{},{long}{nth},{nth}\n", nth % 2)).collect();
    let scene = Scene::empty()
        .with("main.csv", format!("Id,K\n{main}"))
        .with("ref.csv", format!("K,V,N\n{reference}"))
        .with("settled.csv", "Id,header,value,note\n7,V,settled,\n");
    let rest = "--from ref.csv --on K --take 'V, @row, @status, @count, @key' --from ref.csv --name again --on K --take N --when-duplicate highest N -q";
    for rule in ["every", "list"] {
        let whole = |main: &str, more: &str| {
            let rest = rest.replacen(
                "--from ref.csv --on K",
                &format!("--from ref.csv --on K --when-duplicate {rule}"),
                1,
            );
            let rest = rest.replace("highest N", "'highest N'");
            scene.run(&format!("enrich {main} {rest} --corrections settled.csv --report r.json --overwrite {more}")).ended(0).out
        };
        let all = whole("main.csv", "");
        // But for the call, which it shows.
        let report = || {
            let report = scene.read("r.json");
            let lines = report.lines().filter(|line| !line.starts_with("  \"command\": "));
            lines.collect::<String>()
        };
        let of_all = report();
        assert!(all.len() > 17 << 20, "{}", all.len());
        assert!(all == whole("main.csv", "--threads 1"), "{rule}");
        assert!(of_all == report(), "{rule}");
        // Rows by themselves are never too much.
        let mut by_rows = String::new();
        for (nth, row) in main.lines().enumerate().step_by(500) {
            std::fs::write(scene.path("one.csv"), format!("Id,K\n{row}\n")).unwrap();
            let one = whole("one.csv", "");
            by_rows = one.split_once('\n').unwrap().1.to_owned();
            assert!(all.contains(&by_rows), "{rule}: row {nth}");
        }
        assert!(!by_rows.is_empty());
    }
}

#[test]
fn a_row_that_becomes_too_much_ends_the_run_with_a_sentence() {
    let long = "honey ".repeat(160);
    let reference: String = (0..1_000).map(|nth| format!("x,{long}{nth}\n")).collect();
    let scene = Scene::empty()
        .with("main.csv", "Id,K\n1,y\n2,x\n")
        .with("ref.csv", format!("K,V\n{reference}"));
    let every = "--from ref.csv --on K --take V --when-duplicate every";
    let call = format!(
        "enrich main.csv {every} {} -o out.csv",
        every.replace("--on", "--name again --on")
    );
    let ended = measured(&scene, &call);
    assert_eq!(ended.status, Some(2), "{ended:?}");
    let err = ended.err.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(err.contains("row 2 of main") && err.contains("give the key more parts"), "{err}");
    assert!(!scene.path("out.csv").exists());
}

/// Thousands of columns of the same few values, and of the same header: the key is found all the same.
#[test]
fn wide_tables_are_read() {
    let header =
        |names: &dyn Fn(usize) -> String| (0..1_200).map(names).collect::<Vec<_>>().join(",");
    let row = |row: usize| {
        (0..1_200).map(|nth| ((nth * row) % 7).to_string()).collect::<Vec<_>>().join(",")
    };
    let table = |key: &str, names: &dyn Fn(usize) -> String| {
        let rows: String = (1..40).map(|nth| format!("{key}-{nth},{}\n", row(nth))).collect();
        format!("{key} tag,{}\n{rows}", header(names))
    };
    let scene = Scene::empty()
        .with("main.csv", table("Hive", &|nth| format!("Mark {nth}")))
        .with("wide.csv", table("Hive", &|nth| format!("Size {nth}")))
        .with("same.csv", table("Hive", &|_| "Size".to_owned()));
    let suggested = scene.run("suggest main.csv wide.csv").ended(0).out;
    assert!(suggested.contains("--on 'Hive tag'"), "{suggested}");
    let surveyed = scene.run("survey same.csv").ended(0).out;
    assert!(surveyed.contains("39 rows, 1,201 columns"), "{surveyed}");
    let ran = scene.run("enrich main.csv --from same.csv --on 'Hive tag' --take * -q").ended(0);
    let headers: Vec<&str> = ran.out.lines().next().unwrap().split(',').collect();
    assert_eq!(
        (headers.len(), headers[1201], headers[1202], headers[1203]),
        (2401, "Size", "Size (same)", "Size (same) 2")
    );
    assert_eq!(headers[2400], "Size (same) 1199");
}

/// A pattern may mean more files than may be open at a time.
#[test]
#[cfg(unix)]
fn more_files_than_may_be_open() {
    let mut scene = Scene::empty();
    for nth in 0..300 {
        scene = scene.with(&format!("hives-{nth:03}.csv"), format!("Tag,Keeper\nH-{nth},K{nth}\n"));
    }
    let scene = scene.with("main.csv", "Hive\nH-0\nH-64\nH-299\nH-300\n");
    let call = "enrich main.csv --from 'hives-*.csv' --on 'Hive = Tag' --take 'Keeper, @table'";
    let more = "--lists found --receipt r.json --report r.html -o out.csv --overwrite";
    let ran = scene.shell(&format!("ulimit -n 128; gather-keys {call} {more}")).ended(0);
    assert!(ran.err.contains("300 rows"), "{}", ran.err);
    assert_eq!(
        scene.read("out.csv"),
        "Hive,Keeper,hives table\nH-0,K0,hives-000.csv\nH-64,K64,hives-064.csv\nH-299,K299,hives-299.csv\nH-300,,\n"
    );
    assert_eq!(scene.read("found/unused.csv").lines().count(), 298);
}

/// A system that allows fewer threads than were asked for gets the work done by those it allows.
#[test]
#[cfg(target_os = "linux")]
fn fewer_threads_than_asked_for() {
    let scene = Scene::new();
    for call in [
        "enrich harvest.csv --from hives.csv --on 'Apiary = Site code, Hive = Tag' --take Keeper -q --threads 1024",
        "survey hives.csv",
    ] {
        let free = scene.shell(&format!("gather-keys {call}")).ended(0);
        // Each thread takes a large part of the memory for its stack, so that one or none can be started.
        for stack in [600_000_000, 2_000_000_000] {
            let bound = format!("ulimit -v 1000000; export RUST_MIN_STACK={stack}");
            let bounded = scene.shell(&format!("{bound}; gather-keys {call}")).ended(0);
            assert_eq!((&free.out, &free.err), (&bounded.out, &bounded.err));
        }
    }
}
