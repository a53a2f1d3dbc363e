//! References that do not fit into memory: what comes out is what comes out when they do.

use std::io;
use std::sync::{Arc, Mutex};

use super::kinds::Kinds;
use super::memory::{Kept, Memory, Row, enrichments, enrichments_by};
use gather_keys_core::Error;
use gather_keys_core::enrich::{Enrichment, EnrichmentBuilder};
use gather_keys_core::findings::{Findings, Kind};
use gather_keys_core::lookup::{Lookup, Overflow, RowId};
use gather_keys_core::plan::{On, ReferencePlan, Take, WhenDuplicate};
use gather_keys_core::spill::Scratch;
use gather_keys_core::table::CellKind;
use proptest::prelude::*;

/// A scratch with room for this many bytes.
#[derive(Debug)]
struct Room(usize, Mutex<Vec<u8>>);

impl Room {
    fn of(bytes: usize) -> Arc<dyn Scratch> {
        Arc::new(Self(bytes, Mutex::default()))
    }
}

impl Scratch for Room {
    fn append(&self, bytes: &[u8]) -> io::Result<u64> {
        let mut all = self.1.lock().unwrap();
        let at = all.len();
        if at + bytes.len() > self.0 {
            return Err(io::Error::other("no space left"));
        }
        all.extend_from_slice(bytes);
        Ok(at as u64)
    }

    fn read(&self, at: u64, bytes: &mut [u8]) -> io::Result<()> {
        let (all, at) = (self.1.lock().unwrap(), at as usize);
        bytes.copy_from_slice(&all[at..at + bytes.len()]);
        Ok(())
    }
}

/// How references may take up memory.
#[derive(Debug, Clone, Copy)]
enum Memories {
    Whole,
    Within(u64),
}

/// The enrichment of plans with a reference each, of several tables.
fn enrichment(
    plans: &[(ReferencePlan, Vec<Memory>)],
    main: &Memory,
    memory: Memories,
    threads: usize,
    room: &Arc<dyn Scratch>,
) -> Result<Enrichment, Error> {
    let all = plans.iter().map(|(plan, tables)| (plan, tables.iter().map(Memory::again).collect()));
    let Memories::Within(bytes) = memory else { return enrichments(all.collect(), main, threads) };
    let made = enrichments_by(all.collect(), main, threads, |before, found, builder| {
        let taken: u64 = before.iter().map(|(lookup, _)| lookup.reference().cost()).sum();
        let overflow = match found.needs_whole(main.headers.len(), &[]) {
            None => Overflow::Spill(Arc::clone(room)),
            Some(why) => Overflow::Refuse(why.to_string()),
        };
        builder.memory_limit(bytes.saturating_sub(taken), overflow)
    });
    Ok(made?.memory_limit(Some(bytes)))
}

/// What there is to say of rows and keys of a reference, by the numbers of the rows.
fn reported(lookup: &Lookup, findings: &Findings, nth: usize) -> Vec<String> {
    let (reference, found) = (lookup.reference(), &findings.lookups[nth]);
    let number = |row: RowId| {
        format!("{:?} {} line {}", reference.table(row), reference.number(row), reference.line(row))
    };
    let rows = |rows: &[RowId]| rows.iter().map(|&row| number(row)).collect::<Vec<_>>();
    let mut all = vec![format!("{:?}", found.counts)];
    for conflicting in [false, true] {
        let groups = found.groups(lookup).filter(|group| group.conflicting == conflicting);
        all.extend(groups.take(3).map(|group| format!("{:?}", rows(&group.rows))));
    }
    let collapsed = found.groups(lookup).filter(|group| group.collapsed).take(3);
    all.extend(collapsed.map(|group| format!("collapsed {:?}", rows(&group.rows))));
    all.extend(found.unused(lookup).take(3).map(|row| format!("unused {}", number(row))));
    for kind in Kind::ALL {
        all.extend(found.samples(kind).iter().map(|sample| {
            let held = sample.candidates.iter().map(|&one| reference.row(one)).collect::<Vec<_>>();
            format!("{kind:?} {} {:?} {:?}", sample.row, sample.key, rows(&held))
        }));
    }
    all.push(format!("{:?} {:?}", found.unmatched, reference.disputed().collect::<Vec<_>>()));
    all.extend(reference.keyless().first().map(|&row| number(row)));
    all.extend(reference.malformed().first().map(|&row| number(row)));
    all
}

/// A row with the kind of each cell.
type OfKinds = Vec<(String, CellKind)>;

/// Runs plans over a main table; gives the rows with their kinds, all that there is to say, and how many
/// references did not fit.
fn run(
    plans: &[(ReferencePlan, Vec<Memory>)],
    main: &Memory,
    memory: Memories,
    threads: usize,
) -> (Vec<OfKinds>, Vec<String>, usize) {
    let made = enrichment(plans, main, memory, threads, &Room::of(usize::MAX)).unwrap();
    let mut made = made.explaining(true);
    let spilled = made.lookups().filter(|lookup| lookup.reference().is_spilled()).count();
    let mut kept = Kinds::default();
    let findings = made.run(&mut main.again(), &mut kept, None, threads).unwrap();
    let mut said = vec![format!("{} {}", findings.main_rows, findings.written)];
    for (nth, lookup) in made.lookups().enumerate() {
        said.extend(reported(lookup, &findings, nth));
    }
    (kept.0, said, spilled)
}

const MAIN: [&str; 3] = ["Apiary", "Hive", "Note"];
const REFERENCE: [&str; 4] = ["Keeper", "Hive", "Site", "Line"];

fn plan(name: &str, on: &str, take: &str, rule: &str) -> ReferencePlan {
    ReferencePlan {
        name: name.to_owned(),
        on: On::parse(&[on]).unwrap(),
        take: Some(Take::parse(take).unwrap()),
        when_duplicate: WhenDuplicate::parse(rule).unwrap(),
        ..ReferencePlan::default()
    }
}

fn table(name: &str, headers: &[&str], rows: &[Row]) -> Memory {
    // Long texts count as text, so that some cells have a kind and others have none.
    let kind = |cell: &str| if cell.len() > 1 { CellKind::Text } else { CellKind::Untyped };
    Memory::new(name, headers, rows, 3).saying(kind)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// Whatever does not fit, rows and findings are those of references that do.
    #[test]
    fn nothing_else_comes_out(
        main in prop::collection::vec(prop::collection::vec("[ab]|0?1| b|", 3), 0..40),
        one in prop::collection::vec(prop::collection::vec("[ab]|0?1|B|", 4), 0..40),
        other in prop::collection::vec(prop::collection::vec("[ab]|[12]|", 4), 1..9),
        rule in prop::sample::select(vec!["report", "first", "last", "every", "list", "highest Keeper"]),
        steps in prop::sample::select(vec!["", " | number", " | fold | trim"]),
        blanks in any::<bool>(),
        memory in 0_u64..4000,
        threads in 1_usize..3,
    ) {
        let on = format!("Apiary{steps} = Site{steps}, Hive");
        let mut first = plan("hives", &on, "Keeper, Line as Strain, @row, @table, @count, @key, @status", rule);
        first.match_blanks = blanks;
        let second = plan("lines", "Hive", "Keeper as Who, @row as Where", "first");
        // It uses what the first one took, so that it must fit.
        let third = plan("few", "Strain = Line", "Site as Place", "last");
        let main = table("harvest", &MAIN, &main);
        let halves = one.split_at(one.len() / 2);
        let plans = [
            (first, vec![table("north", &REFERENCE, halves.0), table("south", &REFERENCE, halves.1)]),
            (second, vec![table("lines", &REFERENCE, &other)]),
            (third, vec![table("few", &REFERENCE, &other[..1])]),
        ];
        let (rows, said, _) = run(&plans, &main, Memories::Whole, threads);
        // What the third one takes is left in any case.
        let memory = Memories::Within(memory.max(100));
        match enrichment(&plans, &main, memory, threads, &Room::of(usize::MAX)) {
            Ok(_) => {
                let (same, reported, _) = run(&plans, &main, memory, threads);
                prop_assert_eq!(same, rows);
                prop_assert_eq!(reported, said);
            }
            Err(error) => {
                let refused = matches!(&error, Error::OverMemory { reference, .. } if reference == "few");
                prop_assert!(refused, "{}", error);
            }
        }
    }
}

/// Tables so large that there are several runs, and spans of several runs.
fn large() -> (Vec<(ReferencePlan, Vec<Memory>)>, Memory) {
    let row = |n: usize| vec![format!("a{}", n * 7 % 900), (n % 5).to_string(), n.to_string()];
    let main: Vec<Row> = (0..6000).map(row).collect();
    let held = |n: usize| {
        let (keeper, line) = (format!("k{n}"), format!("line {}", n % 13));
        vec![keeper, (n % 5).to_string(), format!("a{}", n % 1100), line]
    };
    let reference: Vec<Row> = (0..4000).map(held).collect();
    let take = plan("hives", "Apiary = Site, Hive", "Keeper, Line, @row", "first");
    let main = Memory::new("harvest", &MAIN, &main, 100);
    (vec![(take, vec![Memory::new("hives", &REFERENCE, &reference, 100)])], main)
}

#[test]
fn many_lots_come_back_in_order() {
    let (plans, main) = large();
    let (rows, said, spilled) = run(&plans, &main, Memories::Whole, 1);
    assert_eq!((rows.len(), spilled), (6000, 0));
    for (memory, threads) in [(1, 1), (20_000, 2), (100_000, 2), (200_000, 1)] {
        let (same, reported, spilled) = run(&plans, &main, Memories::Within(memory), threads);
        assert_eq!(spilled, 1, "{memory}");
        assert!(same == rows, "{memory}");
        assert_eq!(reported, said, "{memory}");
    }
}

#[test]
fn rows_that_are_asked_for_may_not_fit_either() {
    let (plans, main) = large();
    let room = Room::of(usize::MAX);
    let mut whole = enrichment(&plans, &main, Memories::Whole, 1, &room).unwrap();
    let mut rows = Kept::default();
    let expected = whole.run(&mut main.again(), &mut rows, None, 1).unwrap();
    let (plan, tables) = &plans[0];
    let headers = &tables[0].headers;
    let mut made = EnrichmentBuilder::new(&main.headers, [1, 2, 3, 4]);
    let found = made.resolve(plan, headers, &[]).unwrap();
    let mut builder = found.builder(plan, headers, [1, 2, 3, 4]);
    builder.filter_by(&found.main_key, &mut main.again()).unwrap();
    let mut builder = builder.memory_limit(20_000, Overflow::Spill(room));
    builder.read(&mut tables[0].again(), 2).unwrap();
    let (lookup, output) = found.lookup(builder.finish().unwrap());
    made.add(lookup, output);
    let mut made = made.finish().memory_limit(Some(20_000));
    assert!(made.lookups().all(|lookup| lookup.reference().is_spilled()));
    let mut kept = Kept::default();
    let findings = made.run(&mut main.again(), &mut kept, None, 2).unwrap();
    assert!(kept.0 == rows.0);
    let reference = made.lookups().next().unwrap().reference();
    assert!(reference.is_filtered() && reference.rows() == 4000);
    // Of rows and their use there is no less to say.
    let [counts, expected] = [findings, expected].map(|findings| findings.lookups[0].counts);
    for kind in [Kind::Matched, Kind::Unmatched, Kind::Unused, Kind::Repeated] {
        assert_eq!(counts.of(kind), expected.of(kind), "{kind:?}");
    }
}

#[test]
fn a_scratch_without_room_is_an_error() {
    let (plans, main) = large();
    let mut refused = 0;
    // Enough for nothing, for the reference, for that and the main table, for all of it.
    for room in (0..).step_by(100_000) {
        let made = enrichment(&plans, &main, Memories::Within(50_000), 2, &Room::of(room));
        let run = made.and_then(|mut made| {
            made.run(&mut main.again(), &mut Kept::default(), None, 2).map(|_| ())
        });
        let Err(error) = run else { break };
        assert!(matches!(&error, Error::Scratch { cause } if cause == "no space left"));
        refused += 1;
    }
    assert!(refused > 3, "{refused}");
}

#[test]
fn what_needs_the_whole_reference_says_so() {
    let (plans, main) = large();
    let tables = &plans[0].1;
    let mut appending = plan("hives", "Hive", "Keeper", "first");
    appending.append_unused = true;
    let cases = [
        (plan("hives", "@row", "Keeper", "first"), "a match by position"),
        (plan("hives", "Apiary = any(Site, Line)", "Keeper", "first"), "a reverse lookup"),
        (appending, "appending unused rows"),
    ];
    for (plan, why) in cases {
        let plans = [(plan, vec![tables[0].again()])];
        let error =
            enrichment(&plans, &main, Memories::Within(1000), 1, &Room::of(usize::MAX)).err();
        assert!(error.unwrap().to_string().contains(why), "{why}");
    }
}
