//! `demo`: the tables of a made-up honey co-operative, and enrichments of them run for real.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::{env, fs};

use comfy_table::presets::NOTHING;
use comfy_table::{Cell, CellAlignment, LineStyle, Table};

use super::Outcome;
use gather_keys_formats::{Address, Format};

use crate::arguments::Demo;
use crate::error::{Error, Result};
use crate::terminal::{STRONG, said};

/// The tables, as they are in the project's folder `demo`.
const TABLES: [(&str, &[u8]); 17] = [
    ("harvest.csv", include_bytes!("../../../../demo/harvest.csv")),
    ("hives.csv", include_bytes!("../../../../demo/hives.csv")),
    ("bloom.csv", include_bytes!("../../../../demo/bloom.csv")),
    ("notebook.csv", include_bytes!("../../../../demo/notebook.csv")),
    ("labels.csv", include_bytes!("../../../../demo/labels.csv")),
    ("orders.csv", include_bytes!("../../../../demo/orders.csv")),
    ("jars.csv", include_bytes!("../../../../demo/jars.csv")),
    ("prices-2025.csv", include_bytes!("../../../../demo/prices-2025.csv")),
    ("prices-2026.csv", include_bytes!("../../../../demo/prices-2026.csv")),
    ("keepers.csv", include_bytes!("../../../../demo/keepers.csv")),
    ("scale.csv", include_bytes!("../../../../demo/scale.csv")),
    ("new-rounds.csv", include_bytes!("../../../../demo/new-rounds.csv")),
    ("harvest-september.csv", include_bytes!("../../../../demo/harvest-september.csv")),
    ("sites.csv", include_bytes!("../../../../demo/sites.csv")),
    ("weather.jsonl", include_bytes!("../../../../demo/weather.jsonl")),
    ("co-op.sqlite", include_bytes!("../../../../demo/co-op.sqlite")),
    ("co-op.xlsx", include_bytes!("../../../../demo/co-op.xlsx")),
];

/// A command of the demo.
struct Step {
    about: &'static str,
    /// The command line as a person types it in a shell, without the program's name.
    typed: &'static str,
    /// The columns of the written table to show the first rows of.
    preview: Option<(&'static str, &'static [&'static str])>,
}

const STEPS: [Step; 14] = [
    Step {
        about: "Keeper, queen line and main bloom next to every harvest batch",
        typed: "enrich harvest.csv \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag' \\
            --take 'Keeper, Queen line as Line' \\
        --from bloom.csv --on Valley --take 'Main bloom' \\
        --lists findings --report report.html -o enriched.csv",
        preview: Some((
            "enriched.csv",
            &["Batch", "Apiary", "Hive", "Keeper", "Line", "Main bloom"],
        )),
    },
    Step {
        about: "A notebook with keys written in every way; steps make most of them alike",
        typed: "check notebook.csv \\
        --from hives.csv --clean 'tidy | fold' --on 'Apiary = Site code' \\
            --on 'Hive | digits | number = Tag | digits | number' --take Keeper",
        preview: None,
    },
    Step {
        about: "Why not row 43? (With `plain` before `digits` it would match.)",
        typed: "why notebook.csv --row 43 \\
        --from hives.csv --clean 'tidy | fold' --on 'Apiary = Site code' \\
            --on 'Hive | digits | number = Tag | digits | number' --take Keeper",
        preview: None,
    },
    Step {
        about: "Nobody knows the key yet? It is found from the values, with its steps",
        typed: "suggest notebook.csv hives.csv",
        preview: None,
    },
    Step {
        about: "What each order costs: its code is in any of six columns, and prices change\n\
                from day to day",
        typed: "enrich orders.csv \\
        --from jars.csv --on 'Code = any(125 g .. 5 kg)' \\
            --take 'Line, @column as Size' \\
        --from 'prices-*.csv' --on 'Line, Size' --take Price \\
            --within 'Ordered on in Valid from .. Valid to' -o priced.csv",
        preview: Some(("priced.csv", &["Order", "Ordered on", "Code", "Line", "Size", "Price"])),
    },
    Step {
        about: "Row 5 has no price, because no jar has its code; show the order",
        typed: "find orders.csv J770",
        preview: None,
    },
    Step {
        about: "Four lookups at once: what was in bloom that month, the reading by position,\n\
                the hive's keeper, and the keeper's round",
        typed: "enrich harvest.csv --quiet \\
        --from bloom.csv --on Valley --take '{Picked on | first 7} as Bloom' \\
        --from scale.csv --on @row --take 'Read kg' \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag' --take Keeper \\
            --when-duplicate 'highest Since' \\
        --from keepers.csv --on 'Keeper = Name' --take Round -o rounds.csv",
        preview: Some((
            "rounds.csv",
            &["Batch", "Picked on", "Valley", "Bloom", "Read kg", "Keeper", "Round"],
        )),
    },
    Step {
        about: "A gate, for the script that runs this every week",
        typed: "check harvest.csv --quiet --require 'unmatched <= 1%' \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag'",
        preview: None,
    },
    Step {
        about: "Write new rounds into the table of keepers, and add the new keeper",
        typed: "enrich keepers.csv \\
        --from new-rounds.csv --on Id --update 'Name, Round, Post to' \\
            --append-unused --take '@status as State' -o keepers-new.csv",
        preview: Some(("keepers-new.csv", &["Id", "Name", "Round", "Post to", "State"])),
    },
    Step {
        about: "The harvest as a workbook, with the keepers next to it",
        typed: "enrich harvest.csv --quiet \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag' --take Keeper -o harvest.xlsx",
        preview: None,
    },
    Step {
        about: "A workbook, a database, an export in an old encoding with a title, and JSON",
        typed: "enrich harvest.xlsx -o all.csv \\
        --from co-op.sqlite#members --on 'Keeper = name' --take 'round as Round' \\
        --from sites.csv --on Apiary --take 'Farm of' \\
        --from weather.jsonl --on 'Picked on = day' --take 'rain.mm as Rain'",
        preview: Some((
            "all.csv",
            &["Batch", "Picked on", "Apiary", "Keeper", "Round", "Farm of", "Rain"],
        )),
    },
    Step {
        about: "Into the co-operative's own workbook: a keeper for each sale, and new prices;\n\
                its formulas, its chart and its other worksheet stay",
        typed: "enrich co-op.xlsx#Batches --quiet --in-place --findings-sheet Findings \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag' \\
            --take 'Keeper, Queen line as Line' \\
        --from prices-2026.csv --name prices --on 'Line, Size' --update Price \\
            --within 'Picked on in Valid from .. Valid to'",
        preview: None,
    },
    Step {
        about: "Save the call as a plan, with a receipt of what it read and wrote",
        typed: "enrich harvest.csv --quiet \\
        --from hives.csv --on 'Apiary = Site code, Hive = Tag' \\
            --take 'Keeper, Queen line as Line' \\
        -o weekly.csv --receipt weekly.json --save-plan weekly.toml",
        preview: None,
    },
    Step {
        about: "In September the plan runs again, on the harvest with its last batches; the\n\
                receipt shows what has changed",
        typed: "enrich weekly.toml --main harvest-september.csv",
        preview: None,
    },
];

/// How many rows of a written table are shown.
const PREVIEW: usize = 8;

/// Writes the tables, then prints and runs the commands on them.
pub(crate) fn demo(demo: &Demo) -> Result<Outcome> {
    let folder = match &demo.folder {
        Some(folder) => {
            Address::check_file(folder.as_os_str())?;
            folder.clone()
        }
        None => first_free(),
    };
    if fs::read_dir(&folder).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(Error::FolderInUse { folder: folder.display().to_string() });
    }
    let refused = |path: &Path, cause| gather_keys_formats::Error::Write {
        name: path.display().to_string(),
        cause,
    };
    fs::create_dir_all(&folder).map_err(|cause| refused(&folder, cause))?;
    for (name, text) in TABLES {
        let path = folder.join(name);
        fs::write(&path, text).map_err(|cause| refused(&path, cause))?;
    }
    say(&format!("The tables of Highmeadow Honey Co-op are in {}:", folder.display()))?;
    for (name, text) in TABLES {
        let format = Address::new(name.as_ref()).format();
        let what = match String::from_utf8_lossy(text).lines().count() {
            _ if format == Format::Database => "a database".to_owned(),
            _ if format == Format::Workbook => "a workbook".to_owned(),
            lines => format!("{lines:>4} lines"),
        };
        say(&format!("  {name:21} {what}"))?;
    }
    for step in &STEPS {
        run(step, &folder)?;
    }
    say(&format!("\nEverything is in {}; try your own commands there.", folder.display()))?;
    Ok(Outcome::Done)
}

fn first_free() -> PathBuf {
    let names = (2..).map(|n| PathBuf::from(format!("honey-demo-{n}")));
    let mut all = std::iter::once(PathBuf::from("honey-demo")).chain(names);
    all.find(|path| !path.exists()).unwrap_or_default()
}

fn run(step: &Step, folder: &Path) -> Result<()> {
    say(&format!("\n{STRONG}{}{STRONG:#}\n\n  $ gather-keys {}\n", step.about, step.typed))?;
    let program = env::current_exe().map_err(|cause| Error::CannotRun { cause })?;
    let status = Command::new(program)
        .args(words(step.typed))
        .current_dir(folder)
        .stdin(Stdio::null())
        // The output of the commands is in one stream with the words about them.
        .stdout(std::io::stderr())
        .status()
        .map_err(|cause| Error::CannotRun { cause })?;
    if let Some((file, columns)) = step.preview
        && let Some(table) = preview(&folder.join(file), columns)
    {
        say(&format!("\nThe first rows of {file}, some of its columns:\n\n{table}"))?;
    }
    match status.code() {
        Some(0) => Ok(()),
        status => say(&format!("\n(exit status {})", status.unwrap_or(-1))),
    }
}

/// The words of a command line, as a shell would cut it: at spaces and line ends, but not within
/// single quotes.
fn words(typed: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (nth, piece) in typed.split('\'').enumerate() {
        if nth % 2 == 1 {
            words.push(piece.to_owned());
        } else {
            let bare = piece.split_whitespace().filter(|word| *word != "\\");
            words.extend(bare.map(str::to_owned));
        }
    }
    words
}

/// The first rows of a table's named columns.
fn preview(path: &Path, columns: &[&str]) -> Option<Table> {
    let mut reader = csv::Reader::from_path(path).ok()?;
    let headers = reader.headers().ok()?.clone();
    let place = |column: &&str| headers.iter().position(|header| header == *column);
    let places: Vec<usize> = columns.iter().filter_map(place).collect();
    let mut table = Table::new();
    let line = LineStyle::new('─', '─', '─', '─');
    table.load_style(NOTHING.header_separator(line)).set_header(columns);
    for record in reader.records().take(PREVIEW).flatten() {
        let cell = |&place: &usize| {
            let text = record.get(place).unwrap_or_default();
            let number = text.parse::<f64>().is_ok();
            let align = if number { CellAlignment::Right } else { CellAlignment::Left };
            Cell::new(text).set_alignment(align)
        };
        table.add_row(places.iter().map(cell));
    }
    Some(table)
}

/// Prints a line to standard error, where all that is for the person goes.
fn say(line: &str) -> Result<()> {
    let written = said(&format!("{line}\n"));
    let name = "standard error".to_owned();
    Ok(written.map_err(|cause| gather_keys_formats::Error::Write { name, cause })?)
}
