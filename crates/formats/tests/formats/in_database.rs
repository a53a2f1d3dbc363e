//! Enrichments inside a database, against those of the program's own engine, on a real server.

// A test that is skipped should say so.
#![allow(clippy::print_stderr)]

use std::fmt::Write as _;
use std::io::Write as _;

use gather_keys_core::enrich::{ANY, Corrections, EnrichmentBuilder, Resolved};
use gather_keys_core::findings::{
    Corrected, Correction, Findings, Kind, LookupFindings, MainFinding, Recorder, Written,
};
use gather_keys_core::key::Key;
use gather_keys_core::lookup::{Alias, AliasKeys, Lookup};
use gather_keys_core::plan::{
    Columns, Mark, On, Reach, ReferencePlan, Replace, Take, Update, WhenDuplicate, WhenUnmatched,
    Within,
};
use gather_keys_core::receipt::KeysSeen;
use gather_keys_core::sql::{Asking, Script, Shown, StoredTable};
use gather_keys_core::table::{Collected, OutputColumns, Sink, Source};
use gather_keys_core::template::read_steps;
use gather_keys_formats::postgresql::{Answering, InDatabase, Most, ServerAddress, Watcher};
use gather_keys_formats::{Address, Described, Table, Untapped};
use postgres::{Client, NoTls};
use proptest::prelude::*;

const SEED: [u64; 4] = [1, 2, 3, 4];
const MOST: Most = Most {
    sampled: 100,
    named: 100,
    unmatched: 1000,
    rows: 1000,
    shown: Shown { most: 0, seed: 0 },
};

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

/// A schema of its own for a test, created afresh, on the server that `GATHER_KEYS_TEST_SERVER` names.
fn schema(name: &str) -> Option<(String, Schema)> {
    let Ok(server) = std::env::var("GATHER_KEYS_TEST_SERVER") else {
        eprintln!("skipped: set GATHER_KEYS_TEST_SERVER to what `.ci/server start DIR` prints");
        return None;
    };
    let mut client = Client::connect(&server, NoTls).unwrap();
    client
        .batch_execute(&format!("drop schema if exists {name} cascade; create schema {name}"))
        .unwrap();
    Some((server, Schema { client, name: name.to_owned() }))
}

/// What is asked of a reference: its table, the order of its rows, and the plan.
#[derive(Debug, Clone)]
struct Asked {
    table: String,
    order_by: Vec<String>,
    plan: ReferencePlan,
    /// Aliases with the cells of whole rows.
    aliases: Vec<Alias>,
}

/// What is asked of all references, and what the output is to be.
#[derive(Debug, Clone, Default)]
struct Job {
    asked: Vec<Asked>,
    columns: Vec<Columns>,
    /// By these columns, or else `id` and `a` of the main table.
    key: Vec<String>,
    corrections: Vec<Correction>,
}

impl From<Vec<Asked>> for Job {
    fn from(asked: Vec<Asked>) -> Self {
        Self { asked, ..Self::default() }
    }
}

impl Asked {
    /// The aliases with the cells of the keys.
    fn aliases(&self, found: &Resolved) -> Vec<Alias> {
        let of_key = |cells: &[String], key: &Key| {
            key.columns().iter().map(|&column| cells[column].clone()).collect()
        };
        let count = found.main_key.parts().len();
        let aliases = self.aliases.iter().map(|alias| Alias {
            row: alias.row,
            parts: alias.parts.iter().copied().filter(|&part| part < count).collect(),
            main: of_key(&alias.main, &found.main_key),
            reference: of_key(&alias.reference, &found.reference_keys[0]),
        });
        aliases.collect()
    }
}

impl Job {
    /// Chooses the columns of the output, and finds those of the corrections.
    fn arrange(&self, builder: &mut EnrichmentBuilder) -> Result<Option<Corrections>, String> {
        if !self.columns.is_empty() {
            builder.choose(&self.columns, &[]).map_err(|error| error.to_string())?;
        }
        if self.corrections.is_empty() {
            return Ok(None);
        }
        let usual = ["id", "a"].map(str::to_owned);
        let key = if self.key.is_empty() { &usual[..] } else { &self.key[..] };
        let find = |header: &str| builder.find_output(header);
        let corrections = Corrections::new("fixes.csv", key, self.corrections.clone(), find);
        corrections.map(Some).map_err(|error| error.to_string())
    }
}

/// What came out: the rows, and what was found of each reference and each correction.
struct Outcome {
    headers: Vec<String>,
    rows: Vec<Vec<String>>,
    lookups: Vec<(Lookup, LookupFindings)>,
    corrected: Vec<Corrected>,
    /// For each reference the keys that a receipt has marks of: unmatched keys, and keys that several rows hold.
    keys: Vec<[KeysSeen; 2]>,
}

/// Notes unmatched keys.
struct Notes(Vec<KeysSeen>);

impl Recorder for Notes {
    type Error = gather_keys_formats::Error;

    fn main_row(&mut self, finding: &MainFinding<'_>) -> Result<(), Self::Error> {
        if finding.kind == Kind::Unmatched {
            let key = finding.lookup.key().as_compared(finding.row);
            self.0[finding.nth].see(key.iter().map(String::as_str));
        }
        Ok(())
    }
}

/// The keys that several rows of a reference hold.
fn duplicate(lookup: &Lookup) -> KeysSeen {
    let (mut seen, reference) = (KeysSeen::default(), lookup.reference());
    for group in reference.groups() {
        let key: Vec<&str> = reference.as_compared(group.entries[0]).collect();
        seen.see(key.iter().copied());
    }
    seen
}

/// A table of the server by its own reader.
fn open(server: &str, table: &str, order_by: &[String]) -> Table {
    let address = Address::new(format!("{server}#{table}").as_ref());
    let described = Described { order_by: order_by.to_vec(), ..Described::default() };
    Table::open(&address, &described, &Untapped).unwrap().0
}

/// The enrichment by the program's own engine.
fn here(server: &str, main: &str, job: &Job) -> Result<Outcome, String> {
    let mut main = open(server, main, &[]);
    let mut builder = EnrichmentBuilder::new(main.headers(), SEED);
    for asked in &job.asked {
        let Asked { table, order_by, plan, .. } = asked;
        let mut table = open(server, table, order_by);
        let headers = table.headers().clone();
        let found = builder.resolve(plan, &headers, &[]).map_err(|error| error.to_string())?;
        let mut reference = found.builder(plan, &headers, SEED);
        reference.read(&mut table, 1).map_err(|error| error.to_string())?;
        let reference = reference.finish().map_err(|error| error.to_string())?;
        let aliases = asked.aliases(&found);
        let (lookup, output) = found.lookup(reference);
        builder.add(lookup.aliased(aliases), output);
    }
    let corrections = job.arrange(&mut builder)?;
    let mut enrichment = builder.finish().explaining(true).sampling(100).corrected(corrections);
    let mut out = Collected::default();
    let mut notes = Notes(vec![KeysSeen::default(); job.asked.len()]);
    let findings = enrichment.run(&mut main, &mut Adapter(&mut out), Some(&mut notes), 1);
    let findings: Findings = findings.map_err(|error| error.to_string())?;
    let lookups = enrichment.into_lookups().map(|(lookup, _)| lookup);
    let lookups: Vec<(Lookup, LookupFindings)> = lookups.zip(findings.lookups).collect();
    let keys = notes.0.into_iter().zip(&lookups);
    let keys = keys.map(|(unmatched, (lookup, _))| [unmatched, duplicate(lookup)]).collect();
    let corrected = findings.corrected;
    Ok(Outcome { headers: out.headers, rows: out.rows, lookups, corrected, keys })
}

/// Collects rows with the errors of this crate.
struct Adapter<'c>(&'c mut Collected);

impl Sink for Adapter<'_> {
    type Error = gather_keys_formats::Error;
    type Renderer = <Collected as Sink>::Renderer;

    fn write_headers(&mut self, columns: &OutputColumns) -> Result<(), Self::Error> {
        Ok(self.0.write_headers(columns)?)
    }

    fn renderer(&self, columns: &OutputColumns) -> Self::Renderer {
        self.0.renderer(columns)
    }

    fn write(&mut self, rendered: &mut Vec<Vec<String>>) -> Result<(), Self::Error> {
        Ok(self.0.write(rendered)?)
    }
}

/// The same inside the database.
fn there(server: &str, main: &str, job: &Job) -> Result<Outcome, String> {
    let said = |error: gather_keys_formats::Error| error.to_string();
    let address = |table: &str| ServerAddress::of(&format!("{server}#{table}")).unwrap();
    let mut database = InDatabase::begin(&address(main)).map_err(said)?;
    let out = format!("{}.out", main.split('.').next().unwrap());
    database.set_target(&address(&out), true).map_err(said)?;
    let (main, _) = database.describe(&address(main), &[]).map_err(said)?;
    let mut builder = EnrichmentBuilder::new(&main.headers, SEED);
    let mut all: Vec<(StoredTable, Resolved, Option<AliasKeys>)> = Vec::new();
    for asked in &job.asked {
        let Asked { table, order_by, plan, .. } = asked;
        let (table, _) = database.describe(&address(table), order_by).map_err(said)?;
        let found = builder.resolve(plan, &table.headers, &[]);
        let found = found.map_err(|error| error.to_string())?;
        let sides = (&found.main_key, &found.reference_keys[0]);
        let aliases = AliasKeys::new(asked.aliases(&found), sides, plan.match_blanks);
        all.push((table, found, Some(aliases).filter(|all| !all.is_empty())));
    }
    let corrections = job.arrange(&mut builder)?;
    let asking: Vec<Asking<'_>> = all
        .iter()
        .zip(&job.asked)
        .map(|((table, found, aliases), asked)| Asking {
            name: &asked.plan.name,
            found,
            match_blanks: asked.plan.match_blanks,
            aliases: aliases.as_ref(),
            table,
        })
        .collect();
    let shared = database.shared_name().map_err(said)?;
    let output = builder.output_columns();
    let script = Script::new(&main, &asking, (&output, corrections.as_ref()), shared.as_deref());
    drop(asking);
    let carried = database.carry_out(&script, |_| ());
    carried.map_err(|error| format!("{error}\n{}", text_of(&script)))?;
    let mut lookups = Vec::new();
    for (((table, found, aliases), asked), queries) in
        all.into_iter().zip(&job.asked).zip(&script.lookups)
    {
        let answering = Answering { plan: &asked.plan, table: &table, found, aliases };
        let found = database.findings(queries, answering, SEED, MOST);
        let (lookup, _, findings) =
            found.map_err(|error| format!("{error}\n{queries:#?}\n{}", text_of(&script)))?;
        lookups.push((lookup, findings));
    }
    let keys = script.lookups.iter().map(|queries| database.marked_keys(queries));
    let keys: Result<Vec<_>, _> = keys.collect();
    let keys = keys.map_err(|error| format!("{error}\n{}", text_of(&script)))?;
    let mut corrected = Vec::new();
    if let Some((queries, corrections)) = script.corrected.as_ref().zip(corrections.as_ref()) {
        let found = database.corrected(queries, corrections);
        corrected = found.map_err(|error| format!("{error}\n{queries:#?}"))?;
    }
    let written =
        database.write(&script).map_err(|error| format!("{error}\n{}", text_of(&script)))?;
    database.commit().map_err(said)?;
    let mut table = open(server, &out, &[]);
    let mut out = Collected::default();
    let builder = EnrichmentBuilder::new(table.headers(), SEED);
    builder.finish().run(&mut table, &mut Adapter(&mut out), None, 1).map_err(said)?;
    assert_eq!(written, out.rows.len() as u64);
    Ok(Outcome { headers: out.headers, rows: out.rows, lookups, corrected, keys })
}

/// A script, to be read in a failed test.
fn text_of(script: &Script) -> String {
    let mut text = String::new();
    for step in &script.steps {
        let _ = writeln!(text, "{step:#?}");
    }
    text.replace("\\n", "\n")
}

/// What was found, as far as both have to say the same.
fn told((lookup, found): &(Lookup, LookupFindings)) -> String {
    let mut text = String::new();
    for kind in Kind::ALL {
        let _ = write!(text, "{} {}, ", kind.label(), found.counts.of(kind));
    }
    let counts = &found.counts;
    let _ = writeln!(
        text,
        "main rows {}, rows {}, keys {}, without a key {}, malformed {}, out of range {}, ranges {:?}",
        counts.main_rows,
        counts.reference_rows,
        counts.reference_keys,
        counts.keyless_rows,
        counts.malformed_rows,
        counts.out_of_range,
        counts.ranges,
    );
    for update in &found.updates {
        let each = Written::ALL.map(|one| format!("{} {}", one.label(), update.written.of(one)));
        let _ = writeln!(text, "column {}: {}", update.column, each.join(", "));
    }
    let _ = writeln!(text, "appended {:?}", found.appended);
    let mut keys: Vec<String> = found
        .unmatched
        .keys()
        .iter()
        .map(|key| format!("{:?}: {}", key.parts().collect::<Vec<_>>(), key.rows))
        .collect();
    keys.sort();
    let groups = found.groups(lookup).map(|group| {
        let reference = lookup.reference();
        let rows: Vec<u64> = group.rows.iter().map(|&row| reference.number(row)).collect();
        format!("{rows:?} {} {}", group.conflicting, group.collapsed)
    });
    let mut groups: Vec<String> = groups.collect();
    groups.sort();
    let unused: Vec<u64> = found.unused(lookup).map(|row| lookup.reference().number(row)).collect();
    for kind in [Kind::Ambiguous, Kind::Malformed, Kind::NoHeader, Kind::Unmatched, Kind::BlankKey]
    {
        let mut samples: Vec<String> = found
            .samples(kind)
            .iter()
            .map(|sample| {
                let (nearest, header) = (sample.nearest.is_some(), &sample.header);
                let rows = lookup.reference().rows_among(&sample.candidates);
                let rows: Vec<u64> =
                    rows.iter().map(|&row| lookup.reference().number(row)).collect();
                format!("{:?} {rows:?} {:?} {nearest} {header:?}", sample.key, sample.unreadable)
            })
            .collect();
        samples.sort();
        // Rows of the same cells come once.
        samples.dedup();
        let _ = writeln!(text, "{}: {samples:?}", kind.label());
    }
    let _ = writeln!(text, "unmatched {keys:?}\nrepeated {groups:?}\nunused {unused:?}");
    let _ = writeln!(text, "blank columns {:?}", found.blank_columns);
    for (alias, state) in lookup.aliases() {
        let _ = writeln!(text, "alias {}: {state:?}", alias.row);
    }
    text
}

/// Compares both ways.
fn compare(server: &str, main: &str, job: &Job) -> Result<(), String> {
    let ours = here(server, main, job);
    let theirs = there(server, main, job);
    let (mut ours, mut theirs) = match (ours, theirs) {
        (Ok(ours), Ok(theirs)) => (ours, theirs),
        (Err(_), Err(_)) => return Ok(()),
        (ours, theirs) => {
            return Err(format!(
                "here {:?}, there {}",
                ours.err(),
                theirs.err().unwrap_or_default()
            ));
        }
    };
    if ours.headers != theirs.headers {
        return Err(format!("headers {:?} {:?}", ours.headers, theirs.headers));
    }
    ours.rows.sort();
    theirs.rows.sort();
    if ours.rows != theirs.rows {
        let rows = |rows: &[Vec<String>]| format!("{rows:#?}");
        return Err(format!("here\n{}\nthere\n{}", rows(&ours.rows), rows(&theirs.rows)));
    }
    for (ours, theirs) in ours.lookups.iter().zip(&theirs.lookups) {
        let (ours, theirs) = (told(ours), told(theirs));
        if ours != theirs {
            return Err(format!("here\n{ours}\nthere\n{theirs}"));
        }
    }
    for (ours, theirs) in ours.keys.iter().zip(&theirs.keys) {
        let marks = |keys: &[KeysSeen; 2]| [keys[0].marks(), keys[1].marks()];
        if marks(ours) != marks(theirs) {
            return Err(format!("here {ours:#?}\nthere {theirs:#?}"));
        }
    }
    if ours.corrected != theirs.corrected {
        return Err(format!("here {:#?}\nthere {:#?}", ours.corrected, theirs.corrected));
    }
    Ok(())
}

/// Texts that meet each other by steps, or nearly.
fn text() -> impl Strategy<Value = Option<String>> {
    let texts = ["H-1", "h-1 ", "H-01", "H-2", "2", " ", "", "H\u{a0}1", "it's; \\ $$", "B; C"];
    prop::option::weighted(0.9, prop::sample::select(texts.to_vec()).prop_map(str::to_owned))
}

/// A type of a column, and values of it.
fn typed() -> impl Strategy<Value = (&'static str, Vec<&'static str>)> {
    prop::sample::select(vec![
        ("integer", vec!["1", "2", "3"]),
        ("bigint", vec!["1", "2", "-1"]),
        ("text", vec!["1", "2.0", "x", "", " 1"]),
        ("numeric", vec!["1", "2.00", "0.10", "NaN"]),
        ("double precision", vec!["1", "2", "1e-7", "-0", "NaN"]),
        ("boolean", vec!["true", "false"]),
        ("char(3)", vec!["1", "2", "x"]),
        ("timestamptz", vec!["2026-05-19 10:00+02", "2026-05-19 08:00+00", "infinity"]),
    ])
}

/// Days, among them one that is none.
fn day() -> impl Strategy<Value = Option<String>> {
    let days = ["2026-05-01", "2026-05-03", "2026-05-05", "2026-06-01", "2026-06-10", "2026-07-01"];
    prop::option::weighted(0.9, prop::sample::select(days.to_vec()).prop_map(str::to_owned))
}

fn literal(value: Option<&str>) -> String {
    value.map_or("null".to_owned(), |value| {
        format!("E'{}'", value.replace('\\', "\\\\").replace('\'', "''"))
    })
}

/// The values of a table's rows.
fn values(rows: &[Vec<Option<String>>]) -> String {
    let row = |row: &Vec<Option<String>>| {
        let cells: Vec<String> = row.iter().map(|cell| literal(cell.as_deref())).collect();
        format!("({})", cells.join(", "))
    };
    rows.iter().map(row).collect::<Vec<_>>().join(", ")
}

/// A plan of the reference `ref`, in the forms that a person writes.
fn plan() -> impl Strategy<Value = ReferencePlan> {
    let on = prop::sample::select(vec![
        "a = k",
        "a = k",
        "b = k2",
        "a = k, b = k2",
        "a | fold | trim = k | fold | trim",
        "b | number = k2 | number",
        "{a}/{b} = {k}/{k2}",
        "a | code = k | code, b = k2",
        "a = any(k, s1, s2)",
        "a | fold | tidy = any(s1, s2) | fold | tidy",
        "a = k | fold",
        "size = s1",
    ]);
    let within = prop::option::weighted(
        0.3,
        prop::sample::select(vec![
            ("day in lo .. hi", None),
            ("day in lo ..< hi", None),
            ("day in lo ..", None),
            ("day in .. lo", Some("3 days")),
            ("day in lo ..", Some("2 days")),
        ]),
    );
    let take = prop::sample::subsequence(
        vec![
            "w",
            "v as Value",
            "{size} as Named",
            "@status",
            "@count",
            "@key",
            "@row",
            "@table",
            "x",
            "@column",
        ],
        0..6,
    );
    let rule = prop::sample::select(vec![
        "report",
        "first",
        "last",
        "highest v",
        "lowest lo",
        "every",
        "list",
    ]);
    let unmatched = prop::sample::select(vec!["blank", "blank", "drop", "only", "fill none"]);
    let update = prop::option::weighted(
        0.3,
        (prop::sample::select(vec!["note = w", "n = v", "note = v"]), any::<bool>(), any::<bool>()),
    );
    let how = (any::<bool>(), prop::bool::weighted(0.15), prop::bool::weighted(0.3));
    (on, within, take, rule, unmatched, update, how).prop_map(
        |(on, within, take, rule, unmatched, update, (cleans, match_blanks, appends))| {
            ReferencePlan {
                append_unused: appends && !on.contains("any(") && !on.contains("s1"),
                name: "ref".to_owned(),
                on: On::parse(&[on]).unwrap(),
                clean: if cleans { read_steps("clean", "compact").unwrap() } else { Vec::new() },
                within: within.map(|(within, _)| Within::parse(within).unwrap()),
                reach: within.and_then(|(_, reach)| Some(Reach::parse(reach?).unwrap())),
                when_duplicate: WhenDuplicate::parse(rule).unwrap(),
                when_unmatched: WhenUnmatched::parse(unmatched).unwrap(),
                match_blanks,
                take: Some(
                    take.iter()
                        .filter(|one| **one != "@column" || on.contains("any("))
                        .flat_map(|one| Take::parse(one).unwrap())
                        .collect(),
                ),
                update: update
                    .iter()
                    .flat_map(|(update, ..)| Update::parse(update).unwrap())
                    .collect(),
                replace: match update {
                    Some((_, true, _)) => Replace::Blanks,
                    _ => Replace::All,
                },
                bring_blanks: update.is_some_and(|(.., brings)| brings),
                ..ReferencePlan::default()
            }
        },
    )
}

/// A plan of the reference `ref` whose rows are joined where they are, if types are alike.
fn plain_plan() -> impl Strategy<Value = ReferencePlan> {
    let on = prop::sample::select(vec!["a = k", "b = k2", "b = k2", "a = k, b = k2", "size = s1"]);
    (plan(), on).prop_map(|(plan, on)| ReferencePlan {
        on: On::parse(&[on]).unwrap(),
        clean: Vec::new(),
        within: None,
        reach: None,
        when_duplicate: WhenDuplicate::default(),
        match_blanks: false,
        take: plan.take.map(|take| {
            let is_plain = |one: &Take| match one {
                Take::Mark { mark, .. } => matches!(mark, Mark::Status | Mark::Count | Mark::Table),
                Take::Named { .. } => false,
                _ => true,
            };
            take.into_iter().filter(is_plain).collect()
        }),
        ..plan
    })
}

/// Corrections of different cells, if there are any.
fn corrections() -> impl Strategy<Value = Vec<Correction>> {
    let any = || Some(ANY.to_owned());
    let id = prop::sample::select(vec!["0", "1", "2", "3", "77", ANY]);
    let a = prop_oneof![text(), Just(any()), Just(any())];
    let header = prop::sample::select(vec!["note", "note", "n", "day", "size", "a", "w"]);
    let value = prop::sample::select(vec!["x", "H-1", "2.5", "12345.1", "2026-05-03", ""]);
    let all = prop::collection::vec((id, a, header, value), 0..5);
    prop_oneof![Just(Vec::new()), all].prop_map(|all| {
        let all = all.into_iter().zip(1..).map(|((id, a, header, value), row)| Correction {
            key: vec![id.to_owned(), a.unwrap_or_default()],
            header: header.to_owned(),
            value: value.to_owned(),
            row,
        });
        let mut all: Vec<Correction> = all.collect();
        let mut seen = std::collections::HashSet::new();
        all.retain(|one| seen.insert((one.key.clone(), one.header.clone())));
        all
    })
}

/// The rows of a main table.
type MainRow = (Option<String>, usize, Option<String>, &'static str, Option<String>);
/// The rows of a reference.
type ReferenceRow = (
    Option<String>,
    usize,
    Option<String>,
    Option<String>,
    Option<String>,
    (Option<String>, Option<String>),
    Option<i32>,
);

fn main_rows() -> impl Strategy<Value = Vec<MainRow>> {
    let size = prop::sample::select(vec!["s1", "s2", "S1 ", "s9", ""]);
    prop::collection::vec((text(), 0..9_usize, day(), size, text()), 0..12)
}

fn reference_rows() -> impl Strategy<Value = Vec<ReferenceRow>> {
    let values = (text(), text());
    let number = prop::option::of(0..3_i32);
    prop::collection::vec((text(), 0..9_usize, day(), day(), text(), values, number), 0..10)
}

/// The tables `main` and `ref` of a schema.
struct Tables {
    /// The types of `b` and `k2`, with values of them.
    ours: (&'static str, Vec<&'static str>),
    theirs: (&'static str, Vec<&'static str>),
    main: Vec<MainRow>,
    reference: Vec<ReferenceRow>,
    /// What follows the columns of the main table's `id`, of both tables, and what is said once their rows are there, which
    /// may be refused.
    key: &'static str,
    divided: [&'static str; 2],
    then: &'static str,
}

impl Tables {
    /// The rows of both tables.
    fn rows(&self) -> [Vec<Vec<Option<String>>>; 2] {
        let value =
            |values: &[&str], nth: usize| (nth < 8).then(|| values[nth % values.len()].to_owned());
        let Self { ours, theirs, .. } = self;
        let main = self.main.iter().enumerate().map(|(nth, (a, b, day, size, note))| {
            vec![
                Some(nth.to_string()),
                a.clone(),
                value(&ours.1, *b),
                day.clone(),
                Some((*size).to_owned()),
                note.clone(),
                (nth % 3 > 0).then(|| (nth % 4).to_string()),
            ]
        });
        let rows = self.reference.iter().enumerate();
        let reference = rows.map(|(nth, (k, k2, lo, hi, w, (s1, s2), v))| {
            vec![
                Some((nth * 7 % 10).to_string()),
                k.clone(),
                value(&theirs.1, *k2),
                lo.clone(),
                hi.clone(),
                v.map(|v| v.to_string()),
                w.clone(),
                s1.clone(),
                s2.clone(),
                Some((nth % 2 == 0).to_string()),
            ]
        });
        [main.collect(), reference.collect()]
    }

    /// Aliases between rows.
    fn aliases(&self, pairs: &Pairs) -> Vec<Alias> {
        let [main, reference] = self.rows();
        if main.is_empty() || reference.is_empty() {
            return Vec::new();
        }
        let cells = |rows: &[Vec<Option<String>>], at: &prop::sample::Index| {
            at.get(rows).iter().map(|cell| cell.clone().unwrap_or_default()).collect()
        };
        let aliases = pairs.iter().zip(1..).map(|((ours, theirs, parts), row)| Alias {
            row,
            parts: parts.clone(),
            main: cells(&main, ours),
            reference: cells(&reference, theirs),
        });
        aliases.collect()
    }

    fn create(&self, client: &mut Client, schema: &str) {
        let Self { ours, theirs, key, divided, .. } = self;
        let [main, reference] = self.rows();
        let parts = |table: &str, divided: &str| {
            let part = |nth: usize| {
                format!(
                    "create table {schema}.{table}_{nth} partition of {schema}.{table} for values with (modulus 2, remainder {nth});"
                )
            };
            if divided.is_empty() { String::new() } else { part(0) + &part(1) }
        };
        let create = |table: &str, columns: &str, divided: &str, rows: &[Vec<Option<String>>]| {
            let mut create = format!(
                "create table {schema}.{table} ({columns}) {divided}; {}",
                parts(table, divided)
            );
            if !rows.is_empty() {
                let _ = write!(create, "insert into {schema}.{table} values {}", values(rows));
            }
            create
        };
        let columns = format!(
            "id integer{key}, a text, b {}, day date, size text, note text, n numeric(6, 2)",
            ours.0
        );
        client.batch_execute(&create("main", &columns, divided[0], &main)).unwrap();
        let columns = format!(
            "pos integer, k text, k2 {}, lo date, hi date, v numeric(6, 2), w text, s1 text, s2 text, x boolean",
            theirs.0
        );
        client.batch_execute(&create("ref", &columns, divided[1], &reference)).unwrap();
        let _ = client.batch_execute(self.then);
    }
}

/// Aliases, each from the cells of a main row to those of a row of the reference, by their numbers, about some parts of the key.
type Pairs = Vec<(prop::sample::Index, prop::sample::Index, Vec<usize>)>;

fn pairs() -> impl Strategy<Value = Pairs> {
    let parts = prop::sample::select(vec![vec![0], vec![0], vec![1], vec![0, 1]]);
    let all = (any::<prop::sample::Index>(), any::<prop::sample::Index>(), parts);
    prop_oneof![Just(Vec::new()), prop::collection::vec(all, 1..6)]
}

/// The plans of both references of the table `ref` of a schema, of which the second may ask for what the first takes.
fn asked(
    plans: Vec<(ReferencePlan, Vec<Alias>)>,
    schema: &str,
    chains: bool,
    orders: bool,
) -> Vec<Asked> {
    let is_updating = |(plan, _): &(ReferencePlan, _)| {
        plan.when_duplicate == WhenDuplicate::Every && !plan.update.is_empty()
    };
    let updates_copies = plans.first().is_some_and(is_updating);
    let asked = plans.into_iter().enumerate().map(|(nth, (mut plan, aliases))| {
        if nth > 0 {
            "more".clone_into(&mut plan.name);
            if chains {
                plan.on = On::parse(&["note = w"]).unwrap();
                // Of copies of a row of which some are dropped, the engine counts the updated cells of all.
                if updates_copies {
                    plan.when_unmatched = WhenUnmatched::Blank;
                }
            }
        }
        let order_by = if orders { vec!["pos".to_owned()] } else { Vec::new() };
        Asked { table: format!("{schema}.ref"), order_by, plan, aliases }
    });
    asked.collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), ..ProptestConfig::default() })]

    /// Whatever is asked of whatever tables, the table and the findings are those of the program's own engine.
    #[test]
    fn a_database_answers_as_the_engine_does(
        (ours, theirs) in (typed(), typed()),
        (main, reference) in (main_rows(), reference_rows()),
        plans in prop::collection::vec((plan(), pairs()), 1..3),
        (chains, has_key, orders) in any::<(bool, bool, bool)>(),
        chosen in prop::bool::weighted(0.2),
        corrections in corrections(),
    ) {
        let Some((server, mut client)) = schema("within") else { return Ok(()) };
        let key = if has_key { " primary key" } else { "" };
        let tables = Tables { ours, theirs, main, reference, key, divided: ["", ""], then: "" };
        tables.create(&mut client, "within");
        let plans = plans.into_iter().map(|(plan, pairs)| (plan, tables.aliases(&pairs))).collect();
        let asked = asked(plans, "within", chains, orders);
        let columns = if chosen { Columns::parse("note as Remark, id, *").unwrap() } else { Vec::new() };
        let takes_w = asked[0].plan.take.iter().flatten().any(|one| format!("{one:?}").contains("\"w\""));
        let is_there = |one: &Correction| one.header != "w" || takes_w;
        let corrections = corrections.into_iter().filter(is_there).collect();
        let outcome = compare(&server, "within.main", &Job { asked, columns, corrections, ..Job::default() });
        prop_assert!(outcome.is_ok(), "{}", outcome.unwrap_err());
    }

    /// The same where rows of the reference are joined where they are, in one table or in parts, and whether the server sees to it
    /// that no two have one key or not.
    #[test]
    fn rows_that_stay_answer_as_the_engine_does(
        (ours, theirs, is_one_type) in (typed(), typed(), prop::bool::weighted(0.8)),
        (main, reference) in (main_rows(), reference_rows()),
        plans in prop::collection::vec((plain_plan(), Just(Vec::new())), 1..3),
        chains in any::<bool>(),
        divided in prop::sample::select(vec![
            ["", ""],
            ["", ""],
            ["partition by hash (a)", "partition by hash (k)"],
            ["", "partition by hash (k2)"],
        ]),
        is_unique in any::<bool>(),
    ) {
        let Some((server, mut client)) = schema("staying") else { return Ok(()) };
        let then = if is_unique { "alter table staying.ref add unique (k2)" } else { "" };
        let theirs = if is_one_type { ours.clone() } else { theirs };
        let tables = Tables { ours, theirs, main, reference, key: "", divided, then };
        tables.create(&mut client, "staying");
        let outcome = compare(&server, "staying.main", &asked(plans, "staying", chains, false).into());
        prop_assert!(outcome.is_ok(), "{}", outcome.unwrap_err());
    }
}

/// How many tables are tried.
fn cases() -> u32 {
    std::env::var("CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(60)
}

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

/// Types, and texts of values of them.
const VALUES: &[(&str, &[&str])] = &[
    ("smallint", &["-4", "0", "32767"]),
    ("integer", &["-2147483648", "7"]),
    ("bigint", &["12345678901234567", "-9223372036854775808"]),
    ("oid", &["17"]),
    (
        "numeric",
        &[
            "12.50",
            "100",
            "100.00",
            "0.0",
            "-0.0",
            "1e-7",
            "1e30",
            "NaN",
            "Infinity",
            "-Infinity",
            "99999999999999999999.10",
            "0.000000000000000000000000001",
        ],
    ),
    ("numeric(9, 2)", &["12.5", "0"]),
    (
        "double precision",
        &[
            "1e-7",
            "-0",
            "0",
            "1e20",
            "1e21",
            "1.5e300",
            "123456789012345680",
            "0.1",
            "NaN",
            "Infinity",
            "-Infinity",
            "5e-324",
            "-1.5",
        ],
    ),
    ("real", &["0.1", "1e10", "1e-5", "16777216", "-0", "NaN", "3.4e38"]),
    ("boolean", &["true", "false"]),
    ("date", &["1900-02-28", "infinity", "0044-03-15 BC", "12026-01-01", "2026-05-01"]),
    (
        "timestamp",
        &[
            "2026-05-19 10:20:00.5",
            "2026-05-19 00:00",
            "0044-03-15 10:20 BC",
            "infinity",
            "12026-01-01 10:00",
        ],
    ),
    (
        "timestamptz",
        &["2026-05-19 12:20:00+02", "2026-05-19 00:00+00", "-infinity", "1800-01-01 10:00+00"],
    ),
    ("time", &["10:20", "23:59:59.123456"]),
    ("timetz", &["10:20+02"]),
    (
        "interval",
        &[
            "26 hours 30 minutes",
            "1 day 2 hours 30 minutes",
            "-2 days -0.5 seconds",
            "2 days",
            "2 days -1 hour",
            "-1 day 1 hour",
            "1 month",
            "2 years 1 day",
            "0",
            "-3 hours",
            "-26:30:00.25",
            "400 days",
            "1000 hours",
        ],
    ),
    ("bytea", &["\\x00ff", "\\x"]),
    ("text", &["007", " H-1 ", "two\nlines", "it's; \\ $$ \u{200b}"]),
    ("varchar(40)", &["say \"x\""]),
    ("char(5)", &["ab", " a "]),
    ("name", &["keeper"]),
    ("\"char\"", &["x"]),
    ("uuid", &["6b0c7e1e-6f0b-4d6e-8c37-0a5f5d1f0a11"]),
    ("json", &["{\"a\":  1}"]),
    ("jsonb", &["{\"a\": [1, null]}"]),
    ("xml", &["<hive/>"]),
    ("inet", &["127.0.0.1", "10.0.0.0/8"]),
    ("cidr", &["10.0.0.0/8"]),
    ("money", &["12.50"]),
    ("bit(3)", &["101"]),
    ("point", &["(1.5,2)"]),
    ("int4range", &["[1,5)"]),
    ("tsvector", &["'honey' 'jar'"]),
    ("integer[]", &["{1,2}", "{}"]),
    ("text[]", &["{a,\"b c\",null}"]),
    ("within_types.mood", &["busy"]),
    ("within_types.tag", &["H-001"]),
    ("within_types.kg", &["4.50"]),
];

/// Every type has the same text on the server as its reader gives it.
#[test]
fn types_have_the_texts_of_the_reader() {
    let Some((server, mut client)) = schema("within_types") else { return };
    client
        .batch_execute(
            "create domain within_types.tag as text; create domain within_types.kg as numeric(6, 2);
             create type within_types.mood as enum ('calm', 'busy');
             set datestyle = iso; set timezone = utc; set intervalstyle = postgres; set extra_float_digits = 1;
             set bytea_output = hex",
        )
        .unwrap();
    for (nth, (kind, texts)) in VALUES.iter().enumerate() {
        let table = format!("within_types.t{nth}");
        client.batch_execute(&format!("create table {table} (row integer, v {kind})")).unwrap();
        for (row, text) in texts.iter().enumerate() {
            let insert =
                format!("insert into {table} values ({row}, {}::{kind})", literal(Some(text)));
            client
                .batch_execute(&insert)
                .unwrap_or_else(|error| panic!("{kind} {text}: {error:?}"));
        }
        client
            .batch_execute(&format!("insert into {table} values ({}, null)", texts.len()))
            .unwrap();
        let address = ServerAddress::of(&format!("{server}#{table}")).unwrap();
        let (described, _) = InDatabase::begin(&address).unwrap().describe(&address, &[]).unwrap();
        let text = described.columns[1].value.text("t.v");
        let query = format!("select coalesce({text}, '') from {table} t order by row");
        let rows = client.query(&query, &[]).unwrap_or_else(|error| panic!("{query}: {error:?}"));
        let theirs: Vec<String> = rows.iter().map(|row| row.get(0)).collect();
        let mut table = open(&server, &table, &["row".to_owned()]);
        let mut out = Collected::default();
        let builder = EnrichmentBuilder::new(table.headers(), SEED);
        builder.finish().run(&mut table, &mut Adapter(&mut out), None, 1).unwrap();
        let ours: Vec<String> = out.rows.into_iter().map(|mut row| row.remove(1)).collect();
        assert_eq!(theirs, ours, "{kind}");
    }
}

/// Names and values that mean something in a statement mean nothing there.
#[test]
fn hostile_names_are_names() {
    let Some((server, mut client)) = schema("within_hostile") else { return };
    let long = "x".repeat(63);
    let names = [
        "a\"b",
        "'; drop table main; --",
        "$$ \\ %s",
        "{most} {all}",
        "row",
        "key1",
        "two\nlines",
        "é ü 蜂",
        &long[..],
        "E'\\'",
        ":name",
        "\\gexec",
    ];
    let quoted = gather_keys_core::sql::quoted;
    for (nth, name) in names.iter().enumerate() {
        let (main, reference) = (format!("m{nth} {name}"), format!("r{nth} {name}"));
        let cut = |name: &str| name.chars().take(20).collect::<String>();
        let (main, reference) = (cut(&main), cut(&reference));
        let other = names[(nth + 1) % names.len()];
        client
            .batch_execute(&format!(
                "create table within_hostile.{main} ({0} text, {1} integer);
                 create table within_hostile.{reference} ({0} text, {1} integer, taken text);
                 insert into within_hostile.{main} values ({2}, 1), ('x', 2), (null, 3);
                 insert into within_hostile.{reference} values ({2}, 1, {2}), ('x', 5, 'y'), ({2}, 1, 'other')",
                quoted(name),
                quoted(other),
                literal(Some(name)),
                main = quoted(&main),
                reference = quoted(&reference),
            ))
            .unwrap();
        let header = gather_keys_core::plan::quoted_header(name);
        let (main, reference) =
            (format!("within_hostile.{main}"), format!("within_hostile.{reference}"));
        for (on, rule) in [
            (header.clone(), "report"),
            (format!("{header} | trim"), "list"),
            (format!("{header} = any({header}, taken)"), "every"),
        ] {
            let plan = ReferencePlan {
                name: (*name).to_owned(),
                on: On::parse(&[&on]).unwrap(),
                when_duplicate: WhenDuplicate::parse(rule).unwrap(),
                when_unmatched: WhenUnmatched::parse(&format!("fill {name}")).unwrap(),
                take: Some(Take::parse("taken, @status as s, @key as k").unwrap()),
                append_unused: !on.contains("any("),
                ..ReferencePlan::default()
            };
            let aliases = [("x", *name), (*name, "x")].into_iter().zip(1..);
            let aliases = aliases.map(|((main, reference), row)| {
                let cells = |cell: &str| vec![cell.to_owned(); 3];
                Alias { row, parts: vec![0], main: cells(main), reference: cells(reference) }
            });
            let aliases = aliases.collect();
            let asked = Asked { table: reference.clone(), order_by: Vec::new(), plan, aliases };
            let corrections = [("taken", *name), (*name, other), (other, *name)];
            let corrections = corrections.into_iter().zip(1..);
            let corrections = corrections.map(|((of, value), row)| Correction {
                key: vec![(*name).to_owned()],
                header: of.to_owned(),
                value: value.to_owned(),
                row,
            });
            let (key, corrections) = (vec![(*name).to_owned()], corrections.collect());
            let job = Job { key, corrections, ..vec![asked].into() };
            compare(&server, &main, &job).unwrap_or_else(|error| panic!("{name}: {error}"));
            // Neither way refuses it.
            let outcome = here(&server, &main, &job).unwrap();
            assert!(outcome.corrected.iter().any(|one| one.changed > 0), "{name}");
        }
    }
}
