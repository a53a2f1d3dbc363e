//! `suggest` on tables that are made with known keys, and on folders of such tables.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use serde_json::Value;

use super::scene::Scene;

/// Numbers that look like chance, the same in each run.
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn below(&mut self, bound: usize) -> usize {
        (self.next() % bound as u64) as usize
    }
}

const SITES: [&str; 14] = [
    "Fellside",
    "Nether Moor",
    "Larkfield",
    "Old Quarry",
    "Brackenhow",
    "Sorrel Bank",
    "Millrace",
    "Thornwell",
    "Askrigg Lane",
    "Upper Holm",
    "Stonebeck",
    "Wren Cottage",
    "Heather Edge",
    "Ferry Point",
];
const LINES: [&str; 7] =
    ["Carnica", "Ligustica", "Mellifera", "Caucasica", "Buckfast", "Sicula", "Iberiensis"];
const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];

/// A table: its headers and rows.
struct Made {
    headers: Vec<&'static str>,
    rows: Vec<Vec<String>>,
}

impl Made {
    fn new<const N: usize>(
        headers: [&'static str; N],
        rows: impl Iterator<Item = [String; N]>,
    ) -> Self {
        Self { headers: headers.to_vec(), rows: rows.map(Vec::from).collect() }
    }

    fn text(&self) -> String {
        let mut text = self.headers.join(",");
        text.push('\n');
        for row in &self.rows {
            let _ = writeln!(text, "{}", row.join(","));
        }
        text
    }
}

/// Two tables whose key is known: the headers in it, main side first, and how many rows of the main table have exactly
/// one answer.
struct Pair {
    name: &'static str,
    main: Made,
    reference: Made,
    key: [&'static [&'static str]; 2],
    matched: usize,
}

fn site(n: usize) -> String {
    let round = n / SITES.len();
    let site = SITES[n % SITES.len()];
    if round == 0 { site.to_owned() } else { format!("{site} {round}") }
}

/// A number of no meaning, different for each `n`.
fn code(n: usize) -> u64 {
    (n as u64 + 3) * 7_919 % 99_991
}

/// The pairs of one round; each round has other sizes and other values.
// One table of cases, long as it is.
#[allow(clippy::too_many_lines)]
fn pairs(round: usize) -> Vec<Pair> {
    let mut chance = Chance(0x9e37_79b9 + round as u64 * 77);
    let few = 60 + round * 37;
    let many = 150 + round * 91;
    // Which row of the reference each main row belongs to; beyond its end there is none.
    let of: Vec<usize> = (0..many).map(|_| chance.below(few + few / 10)).collect();
    let matched = of.iter().filter(|nth| **nth < few).count();
    let kg: Vec<String> =
        (0..many).map(|_| format!("{}.{}", chance.below(60), chance.below(100))).collect();
    let keeper = |n: usize| format!("Keeper {}", code(n * 3));
    let line = |n: usize| LINES[n * 5 % LINES.len()].to_owned();
    let main = |cell: &dyn Fn(usize) -> String, header: &'static str| {
        Made::new(
            ["No", header, "Kg"],
            (0..many).map(|row| [(row + 1).to_string(), cell(of[row]), kg[row].clone()]),
        )
    };
    let reference = |cell: &dyn Fn(usize) -> String, header: &'static str| {
        Made::new(
            ["Running", header, "Keeper", "Stock"],
            (0..few).map(|n| [(n + 1).to_string(), cell(n), keeper(n), line(n)]),
        )
    };
    let tag = |n: usize| format!("H-{:03}", code(n) % 1000 + n as u64 * 1000);
    let simple = |name,
                  ours: &dyn Fn(usize) -> String,
                  theirs: &dyn Fn(usize) -> String,
                  heads: [&'static str; 2],
                  key| Pair {
        name,
        main: main(ours, heads[0]),
        reference: reference(theirs, heads[1]),
        key,
        matched,
    };
    let mut all = vec![
        simple("the same header and spelling", &tag, &tag, ["Tag", "Tag"], [&["Tag"], &["Tag"]]),
        simple("another header", &tag, &tag, ["Hive", "Tag"], [&["Hive"], &["Tag"]]),
        simple(
            "names with blanks",
            &|n| format!(" {} ", site(n)),
            &site,
            ["Apiary", "Site"],
            [&["Apiary"], &["Site"]],
        ),
        simple(
            "capital letters",
            &|n| site(n).to_uppercase(),
            &site,
            ["Apiary", "Site"],
            [&["Apiary"], &["Site"]],
        ),
        simple(
            "codes as people say them",
            &|n| format!("hive {}", code(n)),
            &|n| format!("H-{:05}", code(n)),
            ["Hive", "Tag"],
            [&["Hive"], &["Tag"]],
        ),
        simple(
            "codes without their dash",
            &|n| format!("h{}", code(n)),
            &|n| format!("H-{:05}", code(n)),
            ["Hive", "Tag"],
            [&["Hive"], &["Tag"]],
        ),
        simple(
            "numbers with leading zeros",
            &|n| code(n).to_string(),
            &|n| format!("{:07}", code(n)),
            ["Member", "Member no"],
            [&["Member"], &["Member no"]],
        ),
        simple(
            "whole numbers with a point",
            &|n| format!("{}.0", code(n)),
            &|n| code(n).to_string(),
            ["Member", "Member no"],
            [&["Member"], &["Member no"]],
        ),
        simple(
            "a prefix",
            &|n| format!("HM{:05}", code(n)),
            &|n| format!("{:05}", code(n)),
            ["Article", "Article no"],
            [&["Article"], &["Article no"]],
        ),
        simple(
            "a suffix",
            &|n| format!("{:05}-X", code(n)),
            &|n| format!("{:05}", code(n)),
            ["Article", "Article no"],
            [&["Article"], &["Article no"]],
        ),
        simple(
            "dates in another form",
            &|n| format!("{}.{}.{}", n % 28 + 1, n / 28 % 12 + 1, 2020 + n / 336),
            &|n| format!("{}-{:02}-{:02}", 2020 + n / 336, n / 28 % 12 + 1, n % 28 + 1),
            ["Picked on", "Day"],
            [&["Picked on"], &["Day"]],
        ),
    ];
    // Two columns together: each alone is on many rows.
    let wide = few.div_ceil(6);
    let two = |n: usize| [site(n % wide), format!("H-{:03}", n / wide + 1)];
    all.push(Pair {
        name: "two columns",
        main: Made::new(
            ["No", "Apiary", "Hive", "Kg"],
            (0..many).map(|row| {
                let [site, tag] = two(of[row]);
                [(row + 1).to_string(), site, tag, kg[row].clone()]
            }),
        ),
        reference: Made::new(
            ["Running", "Site", "Tag", "Keeper"],
            (0..few).map(|n| {
                let [site, tag] = two(n);
                [(n + 1).to_string(), site, tag, keeper(n)]
            }),
        ),
        key: [&["Apiary", "Hive"], &["Site", "Tag"]],
        matched: of.iter().filter(|n| **n < few).count(),
    });
    all.push(Pair {
        name: "two columns, spelled otherwise",
        main: Made::new(
            ["No", "Apiary", "Hive", "Kg"],
            (0..many).map(|row| {
                let [site, tag] = two(of[row]);
                let hive = tag.trim_start_matches("H-").trim_start_matches('0').to_owned();
                [
                    (row + 1).to_string(),
                    site.to_lowercase(),
                    format!("hive {hive}"),
                    kg[row].clone(),
                ]
            }),
        ),
        reference: Made::new(
            ["Running", "Site", "Tag", "Keeper"],
            (0..few).map(|n| {
                let [site, tag] = two(n);
                [(n + 1).to_string(), site, tag, keeper(n)]
            }),
        ),
        key: [&["Apiary", "Hive"], &["Site", "Tag"]],
        matched: of.iter().filter(|n| **n < few).count(),
    });
    let label = |n: usize| {
        let [site, tag] = two(n);
        format!("{site}/{tag}")
    };
    let in_two = |row: usize| {
        let [site, tag] = two(of[row]);
        [(row + 1).to_string(), site, tag, kg[row].clone()]
    };
    all.push(Pair {
        name: "a label built of two columns",
        main: Made::new(["No", "Apiary", "Hive", "Kg"], (0..many).map(in_two)),
        reference: reference(&label, "Label"),
        key: [&["Apiary", "Hive"], &["Label"]],
        matched,
    });
    all.push(Pair {
        name: "two columns built into a label",
        main: main(&label, "Label"),
        reference: Made::new(
            ["Running", "Site", "Tag", "Keeper"],
            (0..few).map(|n| {
                let [site, tag] = two(n);
                [(n + 1).to_string(), site, tag, keeper(n)]
            }),
        ),
        key: [&["Label"], &["Site", "Tag"]],
        matched,
    });
    // A slot is built of the end of one column and another one, without anything between.
    let vehicle = |n: usize| format!("V{}-{:02}", code(n) % 90 + 10, n % 40);
    let status = |n: usize| ["OK", "RS", "XT", "MN", "QV"][n / 40 % 5].to_owned();
    all.push(Pair {
        name: "a slot cut and built of two columns",
        main: Made::new(
            ["No", "Vehicle", "Status", "Kg"],
            (0..many).map(|row| {
                [(row + 1).to_string(), vehicle(of[row]), status(of[row]), kg[row].clone()]
            }),
        ),
        reference: reference(&|n| format!("{:02}{}", n % 40, status(n)), "Slot"),
        key: [&["Vehicle", "Status"], &["Slot"]],
        matched,
    });
    all.push(Pair {
        name: "a label built of three columns",
        main: Made::new(
            ["No", "Site", "Line", "Tag", "Kg"],
            (0..many).map(|row| {
                let n = of[row];
                [
                    (row + 1).to_string(),
                    format!("S{}", n % 5 + 1),
                    LINES[n / 5 % 7].to_owned(),
                    format!("T-{:04}", code(n / 35) % 89 + 100),
                    kg[row].clone(),
                ]
            }),
        ),
        reference: reference(
            &|n| {
                format!(
                    "S{}/{}/{:02}",
                    n % 5 + 1,
                    LINES[n / 5 % 7],
                    (code(n / 35) % 89 + 100) % 100
                )
            },
            "Label",
        ),
        key: [&["Site", "Line", "Tag"], &["Label"]],
        matched,
    });
    // The value may be in any of several columns.
    let sizes: [usize; 4] = [0, 1, 2, 3];
    let jar = |n: usize, size: usize| format!("{:05}", code(n * 4 + size));
    all.push(Pair {
        name: "any of several columns",
        main: Made::new(
            ["No", "Code", "Kg"],
            (0..many).map(|row| [(row + 1).to_string(), jar(of[row], row % 4), kg[row].clone()]),
        ),
        reference: Made::new(
            ["Running", "250 g", "500 g", "1 kg", "2 kg", "Product"],
            (0..few).map(|n| {
                let [a, b, c, d] = sizes.map(|size| jar(n, size));
                [(n + 1).to_string(), a, b, c, d, format!("Honey {}", code(n))]
            }),
        ),
        key: [&["Code"], &["250 g", "2 kg"]],
        matched,
    });
    // Two columns that match by chance: small numbers and yes or no.
    all.push(Pair {
        name: "small numbers and yes or no in both",
        main: Made::new(
            ["No", "Frames", "Treated", "Warden of"],
            (0..many).map(|row| {
                [
                    (row + 1).to_string(),
                    (row * 5 % 12 + 1).to_string(),
                    ["yes", "no"][row % 2].to_owned(),
                    site(of[row]),
                ]
            }),
        ),
        reference: Made::new(
            ["Running", "Boxes", "Open", "Site", "Warden"],
            (0..few).map(|n| {
                [
                    (n + 1).to_string(),
                    (n % 12 + 1).to_string(),
                    ["no", "yes"][n % 2].to_owned(),
                    site(n),
                    keeper(n),
                ]
            }),
        ),
        key: [&["Warden of"], &["Site"]],
        matched,
    });
    all.push(Pair {
        name: "months by name and by number",
        main: Made::new(
            ["No", "Month", "Kg"],
            (0..many).map(|row| {
                [(row + 1).to_string(), MONTHS[of[row] % 12].to_owned(), kg[row].clone()]
            }),
        ),
        reference: Made::new(
            ["Month no", "Main bloom"],
            (0..12).map(|n| [format!("{:02}", n + 1), format!("Bloom {}", code(n))]),
        ),
        key: [&["Month"], &["Month no"]],
        matched: many,
    });
    all
}

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
