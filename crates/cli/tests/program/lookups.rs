//! Reverse, two-way and ranged lookups, by position, over several files, one after the other; and
//! the search for a record.

use super::scene::{Scene, snapshot};

/// Orders of jars, with something wrong in most of them.
const ORDERS: &str = "\
Order,Ordered on,Code,Month
1,2026-04-02,A25,May
2,2026-04-09,A50,june
3,2026-05-20,B25,July
4,2026-07-01,X,May
5,2026-01-01,B50,
6,soon,A25,Mai
7,2026-05-31 18:00,B25,May
";

/// A50 is in two places.
const JARS: &str = "\
Line,Size 250 g,Size 500 g,Note
Amber,A25,A50,a
Bright,B25,B50,A25
Copper,A50,C50,C50
";

const PRICES: &str = "\
Line,Valid from,Valid to,Price
Amber,2026-01-01,2026-04-05,5.00
Amber,2026-04-06,2026-12-31,5.50
Bright,2026-05-01,,6.00
Bright,2026-05-10,2026-05-31,6.20
Bright,2026-05-15,2026-05-25,6.20
";

const BLOOM: &str = "Line,May,June,July\nAmber,clover,lime,heather\nBright,thyme,lime,ivy\n";

fn scene() -> Scene {
    Scene::empty()
        .with("orders.csv", ORDERS)
        .with("jars.csv", JARS)
        .with("prices.csv", PRICES)
        .with("bloom.csv", BLOOM)
}

const LINES: &str = "--from jars.csv --on 'Code = any(Size *)' --take 'Line, @column as Size'";
const PRICED: &str = "--from prices.csv --on Line \
                      --within 'Ordered on in Valid from .. Valid to' --take Price";
const BLOOMING: &str = "--from bloom.csv --on Line --take '{Month} as Bloom'";

/// The columns of the output after those of the main table, row by row.
fn added(scene: &Scene, options: &str) -> Vec<String> {
    let own = ORDERS.lines().next().unwrap().split(',').count();
    let ran = scene.run(&format!("enrich orders.csv {options} -q")).ended(0);
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(ran.out.as_bytes());
    let row = |record: csv::StringRecord| record.iter().skip(own).collect::<Vec<_>>().join("|");
    reader.records().map(|record| row(record.unwrap())).collect()
}

#[test]
fn each_lookup_finds_what_it_should() {
    let scene = scene();
    for (options, want) in [
        (
            LINES.to_owned(),
            "Line|Size; Amber|Size 250 g; |; Bright|Size 250 g; |; Bright|Size 500 g; \
             Amber|Size 250 g; Bright|Size 250 g",
        ),
        // By the columns as written, then by row.
        (
            "--from jars.csv --on 'Code = any(Size 500 g, Size 250 g)' --take 'Line, @row, @count' \
             --when-duplicate first"
                .to_owned(),
            "Line|jars row|jars count; Amber|1|1; Amber|1|2; Bright|2|1; ||0; Bright|2|1; \
             Amber|1|1; Bright|2|1",
        ),
        (
            "--from jars.csv --on 'Code = any(*)' --take 'Line, @column' --when-duplicate list"
                .to_owned(),
            "Line|jars column; Amber; Bright|Size 250 g; Note; Copper; Amber|Size 250 g; Size 500 g; \
             Bright|Size 250 g; |; Bright|Size 500 g; Amber; Bright|Size 250 g; Note; \
             Bright|Size 250 g",
        ),
        (
            format!("{LINES} {PRICED}"),
            "Line|Size|Price; Amber|Size 250 g|5.00; ||; Bright|Size 250 g|6.20; ||; \
             Bright|Size 500 g|; Amber|Size 250 g|; Bright|Size 250 g|6.20",
        ),
        (
            format!("{LINES} {BLOOMING}"),
            "Line|Size|Bloom; Amber|Size 250 g|clover; ||; Bright|Size 250 g|ivy; ||; \
             Bright|Size 500 g|; Amber|Size 250 g|; Bright|Size 250 g|thyme",
        ),
        (
            "--from prices.csv --within 'Ordered on in Valid from ..' --reach '10 days' \
             --take 'Price, @status'"
                .to_owned(),
            "Price|prices status; |unmatched; 5.50|matched; 6.20|matched; |unmatched; \
             5.00|matched; |malformed; |unmatched",
        ),
        (
            "--from jars.csv --on @row --take 'Line, @key'".to_owned(),
            "Line|jars key; Amber|1; Bright|2; Copper|3; |4; |5; |6; |7",
        ),
    ] {
        assert_eq!(added(&scene, &options).join("; "), want, "{options}");
    }
}

#[test]
fn findings_of_lookups_are_told_listed_and_explained() {
    let scene = scene();
    let options = format!("{LINES} {PRICED} {BLOOMING}");
    let ran = scene.run(&format!("check orders.csv {options} --lists lists")).ended(0);
    let mut text = ran.out;
    for list in
        ["ambiguous", "conflicting", "duplicate", "malformed", "no-header", "unmatched", "unused"]
    {
        text += &format!("--- {list}\n{}", scene.read(&format!("lists/{list}.csv")));
    }
    snapshot("lookups-reported", &text);
    let mut text = String::new();
    for row in [2, 5, 6, 7] {
        text += &scene.run(&format!("why orders.csv --row {row} {options}")).ended(0).out;
        text += "\n";
    }
    text += &scene.run("why orders.csv --row 4 --from jars.csv --on @row").ended(0).out;
    snapshot("lookups-why", &text);
}

#[test]
fn a_later_reference_counts_the_rows_that_an_earlier_one_repeats() {
    let scene = Scene::empty()
        .with("main.csv", "Hive\n1\n2\n3\n")
        .with("keepers.csv", "Hive,Keeper\n1,Edda\n1,Jorun\n2,Edda\n")
        .with("rounds.csv", "Keeper,Round\nEdda,north\n");
    let repeated = "--from keepers.csv --on Hive --take Keeper --when-duplicate every";
    let chained = "--from rounds.csv --on Keeper --take Round";
    let ran = scene.run(&format!("enrich main.csv {repeated} {chained}")).ended(0);
    assert_eq!(ran.out, "Hive,Keeper,Round\n1,Edda,north\n1,Jorun,\n2,Edda,north\n3,,\n");
    let reported =
        "    unmatched       1    25.0%\n      1 row   nothing near\n              row 1: Jorun\n";
    assert!(ran.err.contains(reported), "{}", ran.err);
    let reported = "in all: the 3 rows of main.csv, as the references before repeat them";
    assert!(ran.err.contains(reported), "{}", ran.err);
    // A lookup that does not ask with a repeated column counts each main row once.
    let other = "--from rounds.csv --on 'Hive = Round' --take 'Keeper as K'";
    let ran = scene.run(&format!("enrich main.csv {repeated} {other}")).ended(0);
    assert!(ran.err.contains("    unmatched       3   100.0%\n"), "{}", ran.err);
}

#[test]
fn several_files_are_one_reference() {
    let scene =
        Scene::new().with("h-1.csv", "Tag,Keeper,Since\nH-001,Edda,\nH-009,Jorun,2021\n").with(
            "h-2.csv",
            "Since;Keeper;Tag\n;Tamsin;H-003\n;Brenna;H-009\n2022;\"Cor\nvin\";H-009\n",
        );
    let options = "--from 'h-*.csv' --on 'Hive = Tag' --take 'Keeper, @table, @row'";
    let ran = scene.run(&format!("enrich harvest.csv {options} --lists lists")).ended(0);
    let reported: Vec<&str> = ran.out.lines().filter(|line| line.starts_with("B6")).collect();
    assert_eq!(reported, ["B6,Fellside,H-003,,Tamsin,h-2.csv,1"]);
    assert!(ran.out.starts_with("Batch,Apiary,Hive,Note,Keeper,h table,h row\n"), "{}", ran.out);
    let reported = "row 4 (line 6): H-009\n                                  (h-1.csv row 2, h-2.csv rows 2, 3)";
    assert!(ran.err.contains(reported), "{}", ran.err);
    assert_eq!(
        scene.read("lists/conflicting.csv"),
        "reference,table,row,line,Tag,Keeper\nh,h-1.csv,2,3,H-009,Jorun\n\
         h,h-2.csv,2,3,H-009,Brenna\nh,h-2.csv,3,4,H-009,\"Cor\nvin\"\n"
    );
    // Columns that are not read may be anywhere, and may be all there is.
    let bare = "--from 'h-*.csv' --on @row --take @table";
    let ran = scene.run(&format!("enrich harvest.csv {bare}")).ended(0);
    let tables: Vec<&str> = ran.out.lines().filter_map(|line| line.rsplit(',').next()).collect();
    let of = |table: &str| tables.iter().filter(|reported| **reported == table).count();
    assert_eq!((of("h-1.csv"), of("h-2.csv")), (2, 3), "{}", ran.out);
    let ran = scene.run(&format!("enrich harvest.csv {options} -o h-2.csv --overwrite")).ended(2);
    assert!(ran.err.contains("h-2.csv is an input of this run"), "{}", ran.err);
}

#[test]
fn find_shows_records_as_cards() {
    let scene =
        Scene::new().with("long.csv", format!("A,B\n{},\"x\ny\u{a0}\"\n", "word ".repeat(30)));
    let mut text = String::new();
    for call in [
        "find hives.csv Fellside H-003 --on 'Site code, Tag'",
        "find hives.csv fellside 4 --on 'Site code | fold, Tag | digits | number'",
        "find hives.csv Edda",
        "find hives.csv Edda H-001",
        "find hives.csv H-0003 --on Tag --take Tag",
        "find hives.csv Nobody",
        "find hives.csv Goldsedge --as json --take 'Tag, Line'",
        "find long.csv 'x\ny\u{a0}'",
    ] {
        let ran = scene.run(call);
        // What is nearest is shown, but nothing is found.
        let is_found = !ran.out.starts_with("No row");
        let ran = ran.ended(i32::from(!is_found));
        text += &format!("$ gather-keys {call}\n{}\n", ran.out);
    }
    snapshot("find", &text);
}

/// A small main table filters a large reference; the output is the same, and the summary says which keys
/// it covers.
#[test]
fn a_small_table_asks_a_large_reference_first() {
    let note = "x".repeat(3400);
    let row = |n: u32| format!("H-{:04},keeper {},{note}\n", n % 4000, n % 9);
    let hives = (0..5000).map(row).collect::<Vec<_>>().concat();
    let scene = Scene::empty()
        .with("m.csv", "Hive,Note\nH-0007,\nH-3999,x\nH-9999,y\n,z\n")
        .with("hives.csv", format!("Tag,Keeper,Note\n{hives}"));
    let call = "enrich m.csv --from hives.csv --on Hive=Tag --take 'Keeper, @row, @count'";
    let first = scene.run(call).ended(0);
    // A gate about the reference's keys, lists and receipts need the whole of it.
    let whole = scene.run(&format!("{call} --require 'duplicate >= 0'")).ended(0);
    assert_eq!(first.out, whole.out);
    let reported = |err: &str| {
        let lines = err.lines().filter(|line| !line.contains("gate"));
        lines.collect::<Vec<_>>().join("\n")
    };
    snapshot(
        "asks-first",
        &format!("{}\n{}\n----\n{}", first.out, reported(&first.err), reported(&whole.err)),
    );
    for more in ["--lists lists", "--receipt run.json"] {
        let ran = scene.run(&format!("{call} {more}")).ended(0);
        assert!(ran.err.contains("\nhives (5,000 rows): "), "{}", ran.err);
        assert_eq!(ran.out, first.out);
    }
    let ran = scene.run(&call.replace("enrich", "check")).ended(0);
    assert!(ran.out.starts_with("hives (5,000 rows): "), "{}", ran.out);
}

/// Options that other commands have for each of several tables are those of the one table here.
#[test]
fn a_table_by_itself_is_read_as_was_said() {
    let scene = Scene::empty().with("t.csv", "Hives of the co-op\n\nTag;Keeper\nH-1;Edda\n");
    for call in ["find t.csv Edda", "survey t.csv", "key test t.csv Tag"] {
        let ran = scene.run(&format!("{call} --header-row 3 --delimiter semicolon"));
        let reported = ran.out.clone() + &ran.err;
        assert!(ran.status == 0 && reported.contains("Tag"), "{call}: {reported}");
    }
}
