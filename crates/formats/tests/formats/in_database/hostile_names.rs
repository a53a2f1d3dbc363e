//! Names and values that look like parts of a statement.

use gather_keys_core::findings::Correction;
use gather_keys_core::lookup::Alias;
use gather_keys_core::plan::{On, ReferencePlan, Take, WhenDuplicate, WhenUnmatched};

use super::both_ways::{Asked, Job, compare, here, schema};
use super::generated::literal;

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
