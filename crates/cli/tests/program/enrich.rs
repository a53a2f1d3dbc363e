//! What `enrich` writes.

use std::io::{Read, Write};
use std::process::Stdio;

use super::scene::{HARVEST, HIVES, ON_HIVES, Scene, snapshot};

#[test]
fn taken_columns_stand_beside_the_right_rows() {
    let scene = Scene::new();
    let ran = scene
        .run(&format!("enrich harvest.csv {ON_HIVES} --take 'Keeper, Line as Queen' -o out.csv"));
    snapshot("summary", &ran.ended(0).err);
    snapshot("table", &scene.read("out.csv"));
}

/// Whatever their quoting, main rows come out byte for byte. `¤` marks where a cell is appended.
#[test]
fn rows_keep_their_bytes() {
    for (marked, delimiter, taken) in [
        ("Tag,\"N\"¤\n\"H-004\",\"a\"\"b\"¤\n H-004 ,plain \"q\"¤\n", ",", ["Who", "Brenna", ""]),
        ("\u{feff}Tag¤\r\n\"H-002\"¤\r\n\"H\r\n1\"¤\r\n", ",", ["Who", "Corvin", ""]),
        ("N;Tag¤\n;¤\r\n\"x,\"\"y\";H-004¤", ";", ["Who", "", "Brenna"]),
        ("Tag\t\"N, of\"¤\rH-004\t\"\t\"¤\rH-0\"4\t¤", "\t", ["Who", "Brenna", ""]),
    ] {
        let scene = Scene::new().with("main.csv", marked.replace('¤', ""));
        let call = "enrich main.csv --from hives.csv --on Tag --take 'Keeper as Who'";
        let mut pieces = marked.split('¤');
        let mut want = pieces.next().unwrap().to_owned();
        for (piece, cell) in pieces.zip(taken) {
            want = want + delimiter + cell + piece;
        }
        let out = scene.run(call).ended(0).out;
        assert_eq!(out, want);
    }
}

/// Taken cells are passed through, unless a mark is among them: either way each cell is the same,
/// whatever it holds and whatever the output is.
#[test]
fn taken_cells_are_the_same_beside_a_mark() {
    let long = "x".repeat(70);
    let hives = format!(
        "Tag,Line,Note\n1,Amberline,\n2,\"Dusk, veil\",a;b\n3,\"said \"\"so\"\"\",\"two\nlines\"\n\
         4,Łąka,a\tb\n5,{long},\n6,Goldsedge,x\n6,Goldsedge,y\n7,,\n8,\"cut\rhere\",|\n"
    );
    let sites = "Tag,Valley\n1,Upper Wend\n3,\"Moor, \"\"nether\"\"\"\n9,Fell\n";
    let batches = ["1", "9", "2", "3", "", "4", "5", "6", "7", "8", "1"];
    for (delimiter, line_end, open) in
        [(",", "\n", ""), (";", "\r\n", "1"), ("\t", "\r", ""), (";", "\n", "2")]
    {
        let row = |(nth, tag): (usize, &&str)| format!("{tag}{delimiter}b{nth}{line_end}");
        let rows: String = batches.iter().enumerate().map(row).collect();
        let end = if open.is_empty() { String::new() } else { format!("{open}{delimiter}") };
        let scene = Scene::empty()
            .with("main.csv", format!("Tag{delimiter}Batch{line_end}{rows}{end}"))
            .with("hives.csv", &hives)
            .with("sites.csv", sites);
        for more in ["", "--when-duplicate last", "--when-unmatched 'fill n/a'", "--memory 1KiB"] {
            let table = |mark: &str| {
                let ran = scene.run(&format!(
                    "enrich main.csv --from hives.csv --on Tag --take 'Line, Note' {more} \
                     --from sites.csv --on Tag --take 'Valley{mark}'"
                ));
                ran.ended(0).out
            };
            let (plain, marked) = (table(""), table(", @row as Row"));
            let without = |line: &str| {
                let row = line.rsplit_once(delimiter);
                let row = row
                    .filter(|(_, mark)| mark.parse::<u8>().is_ok() || ["", "Row"].contains(mark));
                row.map_or(line, |(row, _)| row).to_owned()
            };
            let lines: Vec<String> = marked.split(line_end).map(without).collect();
            assert_eq!(plain, lines.join(line_end), "{delimiter:?} {more}");
            assert!(plain.contains("\"said \"\"so\"\"\"") && plain.contains(&long));
        }
    }
}

/// Moving the columns of either table has no effect on what is looked up.
#[test]
fn the_order_of_columns_does_not_matter() {
    let moved = |text: &str, order: &[usize]| {
        let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(text.as_bytes());
        let mut writer = csv::Writer::from_writer(Vec::new());
        for record in reader.records().map(Result::unwrap) {
            writer.write_record(order.iter().map(|&column| &record[column])).unwrap();
        }
        String::from_utf8(writer.into_inner().unwrap()).unwrap()
    };
    let taken = |main: &[usize], reference: &[usize]| {
        let scene = Scene::empty()
            .with("harvest.csv", moved(HARVEST, main))
            .with("hives.csv", moved(HIVES, reference));
        let ran = scene.run(&format!("enrich harvest.csv {ON_HIVES} --take 'Keeper, Line'"));
        let (out, err) = {
            let ran = ran.ended(0);
            (ran.out, ran.err)
        };
        let mut reader = csv::Reader::from_reader(out.as_bytes());
        let headers = reader.headers().unwrap().clone();
        let column = |name: &str| headers.iter().position(|header| header == name).unwrap();
        let columns = ["Batch", "Keeper", "Line"].map(column);
        let row = |record: csv::StringRecord| columns.map(|column| record[column].to_owned());
        let rows: Vec<_> = reader.records().map(|record| row(record.unwrap())).collect();
        (rows, err.split_once("Wrote").unwrap().0.to_owned())
    };
    let first = taken(&[0, 1, 2, 3], &[0, 1, 2, 3]);
    assert_eq!(first.0[0], ["B1", "Edda", "Amberline"]);
    assert_eq!(taken(&[3, 2, 1, 0], &[2, 0, 3, 1]), first);
    assert_eq!(taken(&[1, 3, 0, 2], &[3, 2, 1, 0]), first);
}

#[test]
fn several_references_are_taken_from_in_one_run() {
    let scene = Scene::new().with("sites.csv", "Site;Valley;Keeper\nFellside;Upper Wend;Orla\n");
    let ran = scene.run(&format!(
        "enrich harvest.csv {ON_HIVES} --take keeper --from sites.csv --on Apiary=Site \
         --take 'Valley, Keeper' --take 'Keeper as Batch' --name places"
    ));
    let ran = ran.ended(0);
    assert!(ran.out.starts_with(
        "Batch,Apiary,Hive,Note,Keeper,Valley,Keeper (places),Batch (places)\n\
         B1,Fellside,H-001,,Edda,Upper Wend,Orla,Orla\n"
    ));
    assert!(ran.err.contains("note: hives.csv has no header `keeper`; `Keeper` is used instead."));
    assert!(ran.err.contains("`Keeper\n      (places)`"), "{}", ran.err);
    assert!(ran.err.contains("  places             1 "), "{}", ran.err);
}

#[test]
fn headers_that_need_quotes_are_reached() {
    let scene = Scene::empty()
        .with("main.csv", "\"Site, code\",\"a = \"\"b\"\"\"\n1,2\n")
        .with("other.csv", "Tag,Tag,\"kept as\nis\"\nx,1,y\n");
    let ran = scene.run(
        "enrich main.csv --from other.csv --on '\"Site, code\" = Tag#2' \
         --take '\"kept as\nis\" as \"a, b\", Tag#1'",
    );
    assert_eq!(ran.ended(0).out, "\"Site, code\",\"a = \"\"b\"\"\",\"a, b\",Tag\n1,2,y,x\n");
}

#[test]
fn tables_pass_through_pipes() {
    let scene = Scene::new();
    let args = "--on 'Apiary = Site code, Hive = Tag' --take Keeper -q";
    let file = scene.run(&format!("enrich harvest.csv --from hives.csv {args}")).ended(0);
    assert_eq!(file.err, "");
    for line in [
        format!("cat harvest.csv | gather-keys enrich - --from hives.csv {args}"),
        format!("cat hives.csv | gather-keys enrich harvest.csv --from - {args} -o -"),
    ] {
        assert_eq!(scene.shell(&line).ended(0).out, file.out);
    }
}

/// A reader that has seen enough is no error, and nothing is said about it.
#[test]
fn a_pipe_may_be_closed_early() {
    let many = "B1,Fellside,H-001,\n".repeat(100_000);
    let scene = Scene::new().with("harvest.csv", format!("Batch,Apiary,Hive,Note\n{many}"));
    let mut program = scene.program();
    program.args(["enrich", "harvest.csv", "--from", "hives.csv", "--on", "Hive = Tag"]);
    program.args(["--take", "Site code"]).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = program.spawn().unwrap();
    let mut first = [0; 5];
    child.stdout.take().unwrap().read_exact(&mut first).unwrap();
    let ended = child.wait_with_output().unwrap();
    assert_eq!(&first, b"Batch");
    assert_eq!(String::from_utf8(ended.stderr).unwrap(), "");
    assert_eq!(ended.status.code(), Some(0));
}

#[test]
fn delimiters_are_found_and_can_be_set() {
    let scene = Scene::empty()
        .with("main.txt", "Hive|Note\n1|a,b\n")
        .with("other.tsv", "Hive\tKeeper\n1\tEdda; Corvin\n");
    let ran = scene
        .run("enrich --delimiter bar main.txt --from other.tsv --on Hive --take Keeper --verbose");
    let ran = ran.ended(0);
    assert_eq!(ran.out, "Hive|Note|Keeper\n1|a,b|Edda; Corvin\n");
    assert!(ran.err.starts_with(
        "main.txt: 2 columns, delimiter bar, UTF-8\nother.tsv: 2 columns, delimiter tab, UTF-8\n"
    ));
}

#[test]
fn an_output_is_replaced_only_when_asked() {
    let scene = Scene::new().with("out.csv", "mine\n");
    let args = format!("enrich harvest.csv {ON_HIVES} --take Keeper -o out.csv");
    assert!(scene.run(&args).ended(2).err.contains("--overwrite"));
    assert_eq!(scene.read("out.csv"), "mine\n");
    scene.run(&format!("{args} --overwrite")).ended(0);
    assert!(scene.read("out.csv").starts_with("Batch,Apiary,Hive,Note,Keeper\n"));
}

#[cfg(unix)]
#[test]
fn a_new_output_has_the_usual_permissions_and_an_old_one_keeps_its_own() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let scene = Scene::new().with("old.csv", "");
    let mode = |name: &str| scene.path(name).metadata().unwrap().permissions().mode() & 0o777;
    std::fs::set_permissions(scene.path("old.csv"), PermissionsExt::from_mode(0o640)).unwrap();
    symlink("old.csv", scene.path("link.csv")).unwrap();
    let run = |out: &str| {
        let args = format!("{ON_HIVES} --take Keeper --overwrite -q -o {out}");
        scene.shell(&format!("umask 022; gather-keys enrich harvest.csv {args}")).ended(0);
    };
    run("new.csv");
    run("link.csv");
    assert_eq!((mode("new.csv"), mode("old.csv")), (0o644, 0o640));
    assert!(scene.path("link.csv").is_symlink() && scene.read("old.csv").contains("Edda"));
}

/// The main table streams: rows come out before the last one has gone in.
#[test]
fn the_main_table_streams() {
    let scene = Scene::new();
    let mut program = scene.program();
    program.args(["enrich", "-", "--from", "hives.csv", "--on", "Hive = Tag", "-q"]);
    program.args(["--take", "Site code"]).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut child = program.spawn().unwrap();
    let (mut input, mut output) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
    input.write_all(b"Hive\n").unwrap();
    let rows = "H-002\n".repeat(200_000);
    let writer = std::thread::spawn(move || {
        input.write_all(rows.as_bytes()).unwrap();
        input
    });
    let mut first = vec![0; 1 << 20];
    output.read_exact(&mut first).unwrap();
    assert!(first.starts_with(b"Hive,Site code\nH-002,Fellside\n"));
    let drain = std::thread::spawn(move || output.read_to_end(&mut Vec::new()).unwrap());
    drop(writer.join().unwrap());
    drain.join().unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

#[test]
fn what_comes_out_does_not_depend_on_the_number_of_threads() {
    let mut main = "Batch,Apiary,Hive,Note\n".to_owned();
    for batch in 0..20_000 {
        let note = ["", "\"two buckets,\none open\"", "\"\"\"spring\"\"\""][batch % 3];
        main += &format!("B{batch},Site {},H-{},{note}\n", batch % 13, batch * 7 % 211);
    }
    let mut hives = "Site code,Tag,Keeper\n".to_owned();
    for hive in 0..4_000 {
        hives += &format!("Site {},H-{},Keeper {}\n", hive % 11, hive % 199, hive % 17);
    }
    let scene = Scene::empty().with("main.csv", main).with("hives.csv", hives);
    let run = |threads: u8| {
        let to = format!("-o out-{threads}.csv --lists lists-{threads} --threads {threads}");
        let key = "--on 'Apiary = Site code, Hive = Tag' --take 'Keeper, @status, @row'";
        let ran = scene.run(&format!("enrich main.csv --from hives.csv {key} {to}")).ended(0);
        let reported = ran.err.replace(&format!("out-{threads}"), "out");
        let reported = reported.replace(&format!("lists-{threads}"), "lists");
        let lists = scene.files().into_iter();
        let own = format!("lists-{threads}");
        let lists = lists.filter(|(path, _)| path.to_string_lossy().contains(&own));
        let lists: Vec<Vec<u8>> = lists.map(|(_, bytes)| bytes).collect();
        (reported, scene.read(&format!("out-{threads}.csv")), lists)
    };
    let one = run(1);
    assert!(one.0.contains("unmatched") && one.2.iter().any(|list| list.len() > 10_000));
    for threads in [2, 5] {
        let (reported, out, lists) = run(threads);
        assert_eq!(reported, one.0, "{threads} threads");
        assert!(out == one.1, "the table of {threads} threads");
        assert!(lists == one.2, "the lists of {threads} threads");
    }
}
