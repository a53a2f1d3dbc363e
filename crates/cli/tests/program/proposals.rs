//! `suggest` on tables that are made with known keys, and on folders of such tables.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use serde_json::Value;

use super::known_keys::{Chance, Made, Pair, SITES, code, pairs};
use super::scene::Scene;

/// What `suggest` proposed: the parts of each key, and how many rows each matched.
fn keys(document: &Value, table: usize) -> Vec<(Vec<String>, u64)> {
    let keys = document["tables"][table]["keys"].as_array().cloned().unwrap_or_default();
    let of = |key: &Value| {
        let parts = key["parts"].as_array().unwrap().iter();
        let parts = parts.map(|part| part["on"].as_str().unwrap().to_owned()).collect();
        let outcomes = key["outcomes"].as_array().unwrap();
        let matched = outcomes.iter().find(|outcome| outcome["kind"] == "matched").unwrap();
        (parts, matched["count"].as_u64().unwrap())
    };
    keys.iter().map(of).collect()
}

/// Whether the parts are of exactly these columns.
fn is_of(parts: &[String], pair: &Pair) -> bool {
    let text = parts.join(", ");
    let pieces: Vec<&str> =
        text.split(|character: char| "{}=|,()/".contains(character)).map(str::trim).collect();
    let is_named = |header: &&&'static str| {
        pieces.iter().any(|piece| piece.split(" .. ").any(|end| end.trim_matches('"') == **header))
    };
    let headers = pair.main.headers.iter().chain(&pair.reference.headers);
    let named: BTreeSet<&str> = headers.filter(is_named).copied().collect();
    named == pair.key.iter().flat_map(|side| side.iter().copied()).collect()
}

/// The right key is proposed first for nearly all pairs, among the first two for all, and what is proposed does what it says.
#[test]
fn known_keys_are_proposed() {
    let (mut all, mut first, mut among) = (0, 0, 0);
    let mut wrong = String::new();
    for round in 0..4 {
        for pair in pairs(round) {
            let scene = Scene::empty()
                .with("main.csv", pair.main.text())
                .with("reference.csv", pair.reference.text());
            let ran = scene.run("suggest main.csv reference.csv --as json");
            let document: Value = serde_json::from_str(&ran.out)
                .unwrap_or_else(|_| panic!("{}: {}", pair.name, ran.err));
            let keys = keys(&document, 0);
            let is_right = |(parts, matched): &(Vec<String>, u64)| {
                is_of(parts, &pair) && *matched == pair.matched as u64
            };
            all += 1;
            first += usize::from(keys.first().is_some_and(is_right));
            among += usize::from(keys.iter().take(2).any(is_right));
            if !keys.first().is_some_and(is_right) {
                let _ = writeln!(
                    wrong,
                    "{}, round {round}: {keys:?}, not {:?} of {}",
                    pair.name, pair.key, pair.matched
                );
            }
            if let (Some(command), Some((_, matched))) =
                (document["command"].as_str(), keys.first())
            {
                scene
                    .shell(&format!(
                        "{command} --receipt receipt.json --require 'unmatched <= 100%'"
                    ))
                    .ended(0);
                let receipt: Value = serde_json::from_str(&scene.read("receipt.json")).unwrap();
                let counts = receipt["references"][0]["counts"]["matched"].as_u64();
                assert_eq!(counts, Some(*matched), "{}: {command}", pair.name);
            }
        }
    }
    assert!(all >= 60, "{all}");
    assert!(first * 100 >= all * 95 && among == all, "{first} and {among} of {all}:\n{wrong}");
}

/// A folder of tables: orders lead to shops and products, shops to districts, and districts to regions.
fn folder(round: usize) -> (Scene, Vec<String>) {
    let mut chance = Chance(0x5851_f42d + round as u64 * 131);
    let (orders, shops, districts, products) =
        (80 + round * 9, 34 + round * 3, 14 + round, 18 + round);
    let shop = |n: usize| format!("S-{:04}", code(n) % 9000 + 1000);
    let spelled = |n: usize| match round % 4 {
        0 => shop(n),
        1 => shop(n).to_lowercase(),
        2 => format!(" {}", shop(n)),
        _ => shop(n).replace('-', ""),
    };
    let product = |n: usize| format!("{:05}", code(n + 50));
    let product_spelled = |n: usize| match round % 3 {
        0 => product(n),
        1 => product(n).trim_start_matches('0').to_owned(),
        _ => format!("{}.0", product(n).trim_start_matches('0')),
    };
    let district = |n: usize| format!("D{}{}", ["x", "k", "r"][n % 3], code(n) % 997);
    let region = |n: usize| format!("{} Region", SITES[n % 9]);
    let of: Vec<[usize; 2]> =
        (0..orders).map(|_| [chance.below(shops), chance.below(products)]).collect();
    let order = |n: usize| {
        let [shop, product] = of[n];
        let kg = format!("{}.{}", n * 7 % 31, n % 10);
        [format!("O{:05}", code(n)), spelled(shop), product_spelled(product), kg]
    };
    let main = Made::new(["Order", "Shop", "Product", "Kg"], (0..orders).map(order));
    let shop_header = ["Shop", "Code", "Shop code"][round % 3];
    let tables = [
        (
            "shops.csv",
            Made::new(
                [shop_header, "District", "Owner"],
                (0..shops)
                    .map(|n| [shop(n), district(n % districts), format!("Owner {}", code(n))]),
            ),
        ),
        (
            "districts.csv",
            Made::new(
                ["No", "District", "Part of"],
                (0..districts).map(|n| [(n + 1).to_string(), district(n), region(n)]),
            ),
        ),
        (
            "regions.csv",
            Made::new(
                ["Region", "Inspector"],
                (0..9).map(|n| [region(n), format!("Inspector {}", code(n))]),
            ),
        ),
        (
            "products.csv",
            Made::new(
                ["Product no", "Line", "Lid"],
                (0..products).map(|n| {
                    [
                        product(n),
                        format!("Line {}", code(n)),
                        ["gold", "white", "none"][n % 3].to_owned(),
                    ]
                }),
            ),
        ),
        (
            "counts.csv",
            Made::new(
                ["Id", "Remark"],
                (0..400).map(|n| [(n + 1).to_string(), format!("remark {n}")]),
            ),
        ),
        (
            "answers.csv",
            Made::new(
                ["Open", "Frames", "Weather"],
                (0..40).map(|n| {
                    [["yes", "no"][n % 2].to_owned(), (n % 12).to_string(), format!("w{}", code(n))]
                }),
            ),
        ),
        (
            "earlier.csv",
            Made::new(
                ["Order", "Shop", "Product", "Kg", "Owner"],
                (0..orders).map(|n| {
                    let [a, b, c, d] = order(n);
                    [a, b, c, d, "someone".to_owned()]
                }),
            ),
        ),
    ];
    let mut scene = Scene::empty()
        .with("main.csv", main.text())
        .with("tables/broken.xlsx", "PK\u{3}\u{4} no workbook");
    for (name, made) in tables {
        scene = scene.with(&format!("tables/{name}"), made.text());
    }
    let inspectors =
        of.iter().map(|[shop, _]| format!("Inspector {}", code(shop % districts % 9))).collect();
    (scene, inspectors)
}

/// In a folder the tables are found that the main table leads to, also by way of others, and no decoy; the command brings the
/// right cells, and for a wanted column it has no table more than needed.
#[test]
fn folders_are_searched() {
    for round in 0..12 {
        let (scene, inspectors) = folder(round);
        let ran = scene.run("suggest main.csv tables --as json").ended(0);
        let document: Value = serde_json::from_str(&ran.out).unwrap();
        let tables: Vec<(String, String)> = document["tables"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|table| table["left_out"].is_null())
            .map(|table| {
                let text = |key: &str| table[key].as_str().unwrap_or_default().to_owned();
                (text("table"), text("by_way_of"))
            })
            .collect();
        let expected = [
            ("districts", "tables/shops.csv"),
            ("products", ""),
            ("regions", "tables/districts.csv"),
            ("shops", ""),
        ];
        let expected = expected.map(|(name, via)| (format!("tables/{name}.csv"), via.to_owned()));
        assert_eq!(tables, expected, "round {round}: {}", ran.out);
        assert_eq!(document["not_read"][0]["table"], "tables/broken.xlsx");
        let command = document["command"].as_str().unwrap();
        scene.shell(command).ended(0);
        let all = scene.read("enriched.csv");
        let wanted = scene.run("suggest main.csv tables --want Inspector --as json").ended(0);
        let document: Value = serde_json::from_str(&wanted.out).unwrap();
        let command = document["command"].as_str().unwrap();
        assert!(!command.contains("products"), "{command}");
        scene.shell(&format!("{command} --overwrite")).ended(0);
        for (text, is_last) in [(all, false), (scene.read("enriched.csv"), true)] {
            let mut lines = text.lines();
            let headers: Vec<&str> = lines.next().unwrap().split(',').collect();
            let at = headers.iter().position(|header| *header == "Inspector").unwrap();
            assert!(!is_last || headers.len() == 5, "{headers:?}");
            let found: Vec<&str> = lines.map(|line| line.split(',').nth(at).unwrap()).collect();
            assert_eq!(found, inspectors, "round {round}: {command}");
        }
    }
}

/// Folders with nothing of use, and tables that are not there.
#[test]
fn folders_may_have_nothing() {
    let scene = Scene::new()
        .with("empty/notes.md", "no table")
        .with("broken/one.xlsx", "PK\u{3}\u{4} no workbook")
        .with("other/colours.csv", "Colour,Paint\nblue,oil\nred,oil\n")
        .with("book/.hidden.csv", "Hive\nH-001\n");
    for (call, status, said) in [
        ("suggest harvest.csv empty", 1, "leads to 0 of 0 tables"),
        ("suggest harvest.csv broken", 1, "Not read: "),
        ("suggest harvest.csv other", 1, "No columns of harvest.csv and other"),
        ("suggest harvest.csv book", 1, "leads to 0 of 0 tables"),
        ("suggest harvest.csv nowhere", 2, "nowhere does not exist"),
        ("suggest harvest.csv hives.csv --want Colour", 1, "no table has such a header"),
        (
            "suggest harvest.csv hives.csv other --want Paint",
            1,
            "which no key of harvest.csv leads to",
        ),
        ("suggest harvest.csv hives.csv --want Hive", 1, "in harvest.csv already"),
    ] {
        let ran = scene.run(call).ended(status);
        let text = format!("{}{}", ran.out, ran.err).replace("\n  ", " ");
        assert!(text.contains(said), "{call}: {text}");
    }
}
