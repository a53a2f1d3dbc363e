//! An enrichment by the program's own engine and inside a database, and what both must have alike.

// A test that is skipped should say so.
#![allow(clippy::print_stderr)]

use std::fmt::Write as _;

use gather_keys_core::enrich::{Corrections, EnrichmentBuilder, Resolved};
use gather_keys_core::findings::{
    Corrected, Correction, Findings, Kind, LookupFindings, MainFinding, Recorder, Written,
};
use gather_keys_core::key::Key;
use gather_keys_core::lookup::{Alias, AliasKeys, Lookup};
use gather_keys_core::plan::{Columns, ReferencePlan};
use gather_keys_core::receipt::KeysSeen;
use gather_keys_core::sql::{Asking, Script, Shown, StoredTable};
use gather_keys_core::table::{Collected, OutputColumns, Sink, Source};
use gather_keys_formats::postgresql::{Answering, InDatabase, Most, ServerAddress};
use gather_keys_formats::{Address, Described, Table, Untapped};
use postgres::{Client, NoTls};

pub(super) const SEED: [u64; 4] = [1, 2, 3, 4];
pub(super) const MOST: Most = Most {
    sampled: 100,
    named: 100,
    unmatched: 1000,
    rows: 1000,
    shown: Shown { most: 0, seed: 0 },
};

/// A schema of a test's own, which is dropped with it.
pub(super) struct Schema {
    pub(super) client: Client,
    pub(super) name: String,
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
pub(super) fn schema(name: &str) -> Option<(String, Schema)> {
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
pub(super) struct Asked {
    pub(super) table: String,
    pub(super) order_by: Vec<String>,
    pub(super) plan: ReferencePlan,
    /// Aliases with the cells of whole rows.
    pub(super) aliases: Vec<Alias>,
}

/// What is asked of all references, and what the output is to be.
#[derive(Debug, Clone, Default)]
pub(super) struct Job {
    pub(super) asked: Vec<Asked>,
    pub(super) columns: Vec<Columns>,
    /// By these columns, or else `id` and `a` of the main table.
    pub(super) key: Vec<String>,
    pub(super) corrections: Vec<Correction>,
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
pub(super) struct Outcome {
    pub(super) headers: Vec<String>,
    pub(super) rows: Vec<Vec<String>>,
    pub(super) lookups: Vec<(Lookup, LookupFindings)>,
    pub(super) corrected: Vec<Corrected>,
    /// For each reference the keys that a receipt has marks of: unmatched keys, and keys that several rows hold.
    pub(super) keys: Vec<[KeysSeen; 2]>,
}

/// Notes unmatched keys.
pub(super) struct Notes(Vec<KeysSeen>);

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
pub(super) fn duplicate(lookup: &Lookup) -> KeysSeen {
    let (mut seen, reference) = (KeysSeen::default(), lookup.reference());
    for group in reference.groups() {
        let key: Vec<&str> = reference.as_compared(group.entries[0]).collect();
        seen.see(key.iter().copied());
    }
    seen
}

/// A table of the server by its own reader.
pub(super) fn open(server: &str, table: &str, order_by: &[String]) -> Table {
    let address = Address::new(format!("{server}#{table}").as_ref());
    let described = Described { order_by: order_by.to_vec(), ..Described::default() };
    Table::open(&address, &described, &Untapped).unwrap().0
}

/// The enrichment by the program's own engine.
pub(super) fn here(server: &str, main: &str, job: &Job) -> Result<Outcome, String> {
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
pub(super) struct Adapter<'c>(pub(super) &'c mut Collected);

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
pub(super) fn there(server: &str, main: &str, job: &Job) -> Result<Outcome, String> {
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
pub(super) fn text_of(script: &Script) -> String {
    let mut text = String::new();
    for step in &script.steps {
        let _ = writeln!(text, "{step:#?}");
    }
    text.replace("\\n", "\n")
}

/// What was found, as far as both have to say the same.
pub(super) fn told((lookup, found): &(Lookup, LookupFindings)) -> String {
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
pub(super) fn compare(server: &str, main: &str, job: &Job) -> Result<(), String> {
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
