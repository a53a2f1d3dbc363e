//! Plans: what is written can be read again.

use gather_keys_core::plan::{MainTable, Plan, ReferenceTable, Text, Texts};
use proptest::prelude::*;

fn text() -> impl Strategy<Value = Text> {
    let text = prop_oneof!["[ -~]{0,12}", "\\PC{0,6}", "[\"'\\\\\n\t#=\\[\\]]{1,6}"];
    text.prop_map(Text::typed)
}

fn texts() -> impl Strategy<Value = Texts> {
    prop::collection::vec(text(), 0..3).prop_map(Texts)
}

fn reference() -> impl Strategy<Value = ReferenceTable> {
    let some = || prop::option::of(text());
    let flag = || prop::option::of(any::<bool>());
    let texts = (text(), texts(), texts(), texts(), texts(), texts());
    let options = (some(), some(), some(), some(), some(), some(), some(), some());
    (texts, options, (flag(), flag(), flag())).prop_map(|(texts, options, flags)| {
        let (table, on, take, leave, update, blank) = texts;
        let (name, clean, within, reach, when_duplicate, when_unmatched, replace, delimiter) =
            options;
        let (match_blanks, bring_blanks, append_unused) = flags;
        let clean_again = clean.clone();
        ReferenceTable {
            table,
            name,
            on,
            clean,
            within,
            reach,
            order_by: leave.clone(),
            take,
            leave,
            when_duplicate,
            when_unmatched,
            match_blanks,
            aliases: clean_again.clone(),
            format: clean_again,
            update,
            replace,
            bring_blanks,
            replace_formulas: match_blanks,
            append_unused,
            delimiter,
            encoding: None,
            header_row: None,
            no_header: match_blanks,
            decimal_comma: bring_blanks,
            fill_down: blank.clone(),
            skip_last: match_blanks.map(u64::from),
            ragged: None,
            blank,
        }
    })
}

proptest! {
    #[test]
    fn a_written_plan_reads_the_same(
        main in (text(), prop::option::of(text()), texts()),
        references in prop::collection::vec(reference(), 0..3),
        (output, lists, receipt) in (prop::option::of(text()), prop::option::of(text()), prop::option::of(text())),
        (corrections, edits, memory, progress) in (prop::option::of(text()), prop::option::of(text()), prop::option::of(text()), prop::option::of(text())),
        flags in prop::collection::vec(prop::option::of(any::<bool>()), 6),
        (require, threads) in (texts(), prop::option::of(1_u16..=1024)),
    ) {
        let (table, delimiter, blank) = main;
        let plan = Plan {
            output,
            columns: require.clone(),
            drop: require.clone(),
            overwrite: flags[0],
            in_place: flags[1],
            no_backup: flags[2],
            in_database: flags[4],
            show_sql: edits.clone(),
            ship: memory.clone(),
            highlight: flags[3],
            findings_sheet: progress.clone(),
            lists,
            report: require.clone(),
            no_reasons: flags[1],
            require,
            write_anyway: flags[3],
            receipt,
            corrections,
            edits,
            quiet: flags[4],
            verbose: flags[5],
            progress,
            memory,
            threads,
            output_encoding: None,
            output_delimiter: None,
            output_bom: None,
            output_decimal_comma: None,
            guard_formulas: flags[3],
            plain: flags[0],
            main: MainTable { table, delimiter, blank, header_row: threads.map(u64::from), ..MainTable::default() },
            references,
        };
        let written = plan.write();
        let read = Plan::read("p.toml", &written).unwrap();
        prop_assert_eq!(read.write(), written);
        prop_assert!(read == plan);
    }
}

/// Nothing is reported twice: standing in for a plan with itself changes nothing.
#[test]
fn what_is_the_same_does_not_stand_in() {
    let text = "threads = 2\n[main]\ntable = 'm'\n[[reference]]\ntable = 'r'\non = 'K'\n";
    let mut plan = Plan::read("p.toml", text).unwrap();
    assert!(plan.override_with(plan.clone()).is_empty());
    let other = Plan { threads: Some(3), quiet: Some(true), ..Plan::default() };
    assert_eq!(plan.override_with(other), ["threads"]);
    let typed = ReferenceTable { on: vec!["L".to_owned()].into(), ..ReferenceTable::default() };
    assert_eq!(plan.references[0].override_with(typed), ["on"]);
    assert_eq!(plan.references[0].table.text, "r");
}
