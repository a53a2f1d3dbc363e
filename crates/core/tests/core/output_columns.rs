//! The columns of the output: which, in which order, under which names.

use gather_keys_core::enrich::{Enrichment, EnrichmentBuilder};
use gather_keys_core::plan::{Columns, On, ReferencePlan, Selection, Take, Update};
use gather_keys_core::table::{Collected, MemoryTable};
use proptest::prelude::*;

const MAIN: [&str; 4] = ["Batch", "Hive", "Size 1", "Size 2"];
const ROWS: [[&str; 4]; 3] = [["B1", "7", "a", "x"], ["B2", "8", "b", "y"], ["B3", "9", "c", "z"]];

/// An enrichment that updates `Size 2` and adds `Keeper` and `Size 3`.
fn enriched(columns: &str, drop: &str) -> Result<(Enrichment, MemoryTable), String> {
    let main = MemoryTable::new("harvest", MAIN, ROWS);
    let hives = [["7", "Edda", "p", "n"], ["8", "Orla", "q", "m"]];
    let mut hives = MemoryTable::new("hives", ["Hive", "Keeper", "Size 3", "New"], hives);
    let plan = ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&["Hive"]).unwrap(),
        take: Some(Take::parse("Keeper, Size 3").unwrap()),
        update: Update::parse("Size 2 = New").unwrap(),
        ..ReferencePlan::default()
    };
    let mut builder = EnrichmentBuilder::new(main.headers(), [1, 2, 3, 4]);
    builder.reference(&plan, &mut hives, 1).unwrap();
    let columns = if columns.is_empty() { Ok(Vec::new()) } else { Columns::parse(columns) };
    let drop = if drop.is_empty() { Ok(Vec::new()) } else { Selection::parse("drop", drop) };
    let chosen = builder.choose(&columns.map_err(|error| error.to_string())?, &drop.unwrap());
    chosen.map_err(|error| error.to_string())?;
    Ok((builder.finish(), main))
}

fn headers(columns: &str, drop: &str) -> Result<String, String> {
    let enrichment = enriched(columns, drop)?.0;
    Ok(enrichment.output().headers().iter().collect::<Vec<_>>().join("|"))
}

#[test]
fn columns_are_chosen_ordered_and_named() {
    for (columns, drop, want) in [
        ("*", "", "Batch|Hive|Size 1|Size 2|Keeper|Size 3"),
        ("", "Hive", "Batch|Size 1|Size 2|Keeper|Size 3"),
        ("Batch, Keeper as Beekeeper, Size *, *", "", "Batch|Beekeeper|Size 1|Size 2|Size 3|Hive"),
        ("*, Batch", "", "Hive|Size 1|Size 2|Keeper|Size 3|Batch"),
        // What is named by itself is not brought again, wherever it is named.
        ("Size *, Size 2, Hive .. Keeper", "Size 3", "Size 1|Size 2|Hive|Keeper"),
        ("hive", "", "Hive"),
        ("Batch, Batch as Copy", "", "Batch|Copy"),
        ("Keeper as Hive", "", "Hive"),
        ("", "Size *, Batch .. Hive", "Keeper"),
        ("*, *", "Batch .. Size 2", "Keeper|Size 3"),
        ("\"Keeper\" as \"A, B\"", "", "A, B"),
    ] {
        assert_eq!(headers(columns, drop).as_deref(), Ok(want), "{columns} / {drop}");
    }
}

#[test]
fn what_can_not_be_chosen_is_said() {
    for (columns, drop, want) in [
        ("Keper", "", "the output has no header `Keper`; the nearest is `Keeper`"),
        ("Size *, Tmp *", "", "no header of the output matches `Tmp *`"),
        ("", "Notes", "the output has no header `Notes`"),
        ("Batch, Keeper", "Keeper, Hive", "`Keeper` is in `columns` and in `drop`"),
        ("Hive, Keeper as Hive", "", "two columns of the output would be called `Hive`"),
        ("Hive, Hive", "", "two columns of the output would be called `Hive`"),
        ("*, Keeper as Batch", "", "two columns of the output would be called `Batch`"),
        ("", "*", "`drop` leaves the output without a column"),
        ("Keeper .. Hive", "", "in the output, `Hive` is before `Keeper`"),
        ("Size * as Size", "", "a comma before the next column"),
    ] {
        let said = headers(columns, drop).unwrap_err();
        assert!(said.contains(want), "{columns} / {drop}: {said}");
    }
}

proptest! {
    /// The cells of the output are those of the whole output, column by column.
    #[test]
    fn cells_follow_their_columns(order in prop::collection::vec(0_usize..6, 1..9), threads in 1_usize..4) {
        let (mut all, mut main) = enriched("", "").unwrap();
        let mut whole = Collected::default();
        all.run(&mut main, &mut whole, None, 1).unwrap();
        let names: Vec<String> =
            order.iter().enumerate().map(|(nth, &column)| format!("{} as C{nth}", whole.headers[column])).collect();
        let (mut some, mut main) = enriched(&names.join(", "), "").unwrap();
        let mut chosen = Collected::default();
        some.run(&mut main, &mut chosen, None, threads).unwrap();
        let want: Vec<Vec<String>> =
            whole.rows.iter().map(|row| order.iter().map(|&column| row[column].clone()).collect()).collect();
        prop_assert_eq!(chosen.rows, want);
        let columns: Vec<usize> = (0..order.len()).map(|nth| some.output().column(nth)).collect();
        prop_assert_eq!(columns, order);
    }
}
