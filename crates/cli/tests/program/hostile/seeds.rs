//! The files that are changed: one of every format, plans, and side files.

use std::sync::Arc;

use arrow_array::{ArrayRef, Float64Array, Int64Array, RecordBatch, StringArray};
use arrow_ipc::CompressionType;
use arrow_ipc::writer::{FileWriter, IpcWriteOptions, StreamWriter};

use super::super::scene::{HIVES, Scene};

/// A file that is changed, and the commands that read it.
pub(super) struct Seed {
    pub(super) name: String,
    pub(super) content: Vec<u8>,
    pub(super) is_binary: bool,
    pub(super) calls: Vec<String>,
    /// Files that the commands read too.
    pub(super) others: Vec<(String, Vec<u8>)>,
}

/// A plan that says much of what can be said.
const PLAN: &str = r#"
output = "out.csv"
overwrite = true
require = ["unmatched <= 100%"]

[main]
table = "harvest.csv"

[[reference]]
table = "hives.csv"
name = "registry"
on = ["Apiary = Site code | upper", "Hive | number = Tag | last 3 | number"]
clean = "trim | fold"
take = "Keeper, Line as Queen, @status, @count"
when_duplicate = "list"
when_unmatched = "fill none"
"#;

pub(super) fn seeds() -> Vec<Seed> {
    let scene = Scene::new();
    let made = |name: &str| {
        let call = "enrich hives.csv --from hives.csv --on Tag --take @count";
        scene.run(&format!("{call} -o {name}")).ended(0);
        std::fs::read(scene.path(name)).unwrap()
    };
    let fixture = |name: &str| {
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../formats/tests/formats/workbooks/");
        std::fs::read(format!("{folder}{name}")).unwrap()
    };
    let utf16 = HIVES.encode_utf16().flat_map(u16::to_le_bytes);
    let mut seeds = vec![
        table("m.csv", HIVES.into(), false),
        table("wide.csv", [0xff, 0xfe].into_iter().chain(utf16).collect(), false),
        table("m.csv.gz", made("m.csv.gz"), true),
        table("m.csv.zst", made("m.csv.zst"), true),
        table("m.jsonl", made("m.jsonl"), false),
        table("m.json", made("m.json"), false),
        table("m.json.gz", made("m.json.gz"), true),
        table("m.xlsx", made("m.xlsx"), true),
        table("f.xls", fixture("hives.xls"), true),
        table("f.xlsb", fixture("hives.xlsb"), true),
        table("f.ods", fixture("hives.ods"), true),
        table("m.parquet", made("m.parquet"), true),
        table("m.arrow", made("m.arrow"), true),
        table("lz4.arrow", arrow(Some(CompressionType::LZ4_FRAME), false), true),
        table("zstd.arrow", arrow(Some(CompressionType::ZSTD), false), true),
        table("stream.arrow", arrow(None, true), true),
        table("m.sqlite", made("m.sqlite"), true),
    ];
    let plan = |name: &str, content: &str| Seed {
        name: name.to_owned(),
        content: content.into(),
        is_binary: false,
        calls: ["enrich", "check", "why --row 2"].map(|call| format!("{call} {name}")).into(),
        others: Vec::new(),
    };
    seeds.push(plan("p.toml", PLAN));
    seeds.push(Seed {
        name: "aliases.csv".to_owned(),
        content: "Apiary,Hive,nearest Site code,nearest Tag,approve\nFellside,H-009,Fellside,H-004,yes\nLarkfield,H-9,Larkfield,H-001,no\n".into(),
        is_binary: false,
        calls: vec![
            "enrich harvest.csv --from hives.csv --on 'Apiary = Site code, Hive = Tag' \
             --aliases aliases.csv --take Keeper -o out.csv --overwrite"
                .to_owned(),
        ],
        others: Vec::new(),
    });
    seeds.extend(from_receipt());
    seeds
}

/// The receipt of a run and the corrections to it, as they are read by the next run.
fn from_receipt() -> [Seed; 2] {
    let scene = Scene::new();
    let plan = "output = \"out.csv\"\nreceipt = \"run.json\"\ncorrections = \"settled.csv\"\nedits = \"keep\"\n\
                [main]\ntable = \"harvest.csv\"\n[[reference]]\ntable = \"hives.csv\"\n\
                on = \"Apiary = Site code, Hive = Tag\"\ntake = \"Keeper\"\n";
    std::fs::write(scene.path("p.toml"), plan).unwrap();
    scene.run("enrich p.toml").ended(0);
    let out = scene.read("out.csv").replace("Edda", "Oswin");
    std::fs::write(scene.path("out.csv"), &out).unwrap();
    scene.run("enrich p.toml").ended(0);
    let read = |name: &str| std::fs::read(scene.path(name)).unwrap();
    ["run.json", "settled.csv"].map(|name| Seed {
        name: name.to_owned(),
        content: read(name),
        is_binary: false,
        calls: vec!["enrich p.toml".to_owned(), "check p.toml".to_owned()],
        others: ["p.toml", "out.csv", "run.json", "settled.csv"]
            .into_iter()
            .filter(|other| *other != name)
            .map(|other| (other.to_owned(), read(other)))
            .collect(),
    })
}

/// A table, and the commands that read it as one.
fn table(name: &str, content: Vec<u8>, is_binary: bool) -> Seed {
    let calls = [
        format!("survey {name}"),
        format!("find {name} H-001"),
        format!("check harvest.csv --from {name} --on 'Hive = Tag' --take *"),
        format!("enrich {name} --from hives.csv --on Tag --take Keeper -o out.csv --overwrite"),
        format!("enrich {name} --from hives.csv --on Tag --take @row -o out.xlsx --overwrite"),
        format!("suggest harvest.csv {name}"),
        format!("key test {name} Tag"),
        format!("why harvest.csv --from {name} --on 'Hive = Tag' --take * --row 3"),
    ];
    Seed { name: name.to_owned(), content, is_binary, calls: calls.into(), others: Vec::new() }
}

/// The registry as an Arrow file, or as a stream.
fn arrow(compression: Option<CompressionType>, is_stream: bool) -> Vec<u8> {
    let rows = || HIVES.lines().skip(1).map(|line| line.split(',').collect::<Vec<_>>());
    let column = |nth: usize| -> ArrayRef {
        Arc::new(StringArray::from(rows().map(|row| row[nth].to_owned()).collect::<Vec<_>>()))
    };
    let numbers: ArrayRef =
        Arc::new(Int64Array::from_iter_values(rows().zip(0..).map(|(_, nth)| nth)));
    let kg: ArrayRef =
        Arc::new(Float64Array::from_iter_values(rows().map(|row| row[0].len() as f64 / 4.0)));
    let names = ["Line", "Keeper", "Tag", "Site code"];
    let columns = names.into_iter().enumerate().map(|(nth, name)| (name, column(nth)));
    let batch =
        RecordBatch::try_from_iter(columns.chain([("Number", numbers), ("Kg", kg)])).unwrap();
    let options = IpcWriteOptions::default().try_with_compression(compression).unwrap();
    let mut out = Vec::new();
    if is_stream {
        let mut writer =
            StreamWriter::try_new_with_options(&mut out, &batch.schema(), options).unwrap();
        writer.write(&batch).unwrap();
        writer.finish().unwrap();
    } else {
        let mut writer =
            FileWriter::try_new_with_options(&mut out, &batch.schema(), options).unwrap();
        writer.write(&batch).unwrap();
        writer.finish().unwrap();
    }
    out
}

/// Every command reads every unchanged seed to its end.
#[test]
fn seeds_are_read_whole() {
    for seed in seeds() {
        let scene = Scene::new().with(&seed.name, &seed.content);
        for (name, other) in &seed.others {
            std::fs::write(scene.path(name), other).unwrap();
        }
        for call in &seed.calls {
            let ran = scene.run(call);
            assert!(ran.status == 0, "{call}: {}", ran.err);
        }
    }
}
