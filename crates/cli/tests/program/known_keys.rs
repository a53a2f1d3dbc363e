//! Tables that are made with known keys: pairs of them, the same in each run.

use std::fmt::Write as _;

/// Numbers that look like chance, the same in each run.
pub(super) struct Chance(pub(super) u64);

impl Chance {
    pub(super) fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    pub(super) fn below(&mut self, bound: usize) -> usize {
        (self.next() % bound as u64) as usize
    }
}

pub(super) const SITES: [&str; 14] = [
    "Fellside",
    "Nether Moor",
    "Larkfield",
    "Old Quarry",
    "Brackenhow",
    "Sorrel Bank",
    "Millrace",
    "Thornwell",
    "Alder Lane",
    "Upper Holm",
    "Stonerill",
    "Wren Cottage",
    "Heather Edge",
    "Ferry Point",
];
const LINES: [&str; 7] =
    ["Amberline", "Goldsedge", "Coppermark", "Heathgold", "Mooramber", "Fellbrown", "Larkdark"];
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
pub(super) struct Made {
    pub(super) headers: Vec<&'static str>,
    pub(super) rows: Vec<Vec<String>>,
}

impl Made {
    pub(super) fn new<const N: usize>(
        headers: [&'static str; N],
        rows: impl Iterator<Item = [String; N]>,
    ) -> Self {
        Self { headers: headers.to_vec(), rows: rows.map(Vec::from).collect() }
    }

    pub(super) fn text(&self) -> String {
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
pub(super) struct Pair {
    pub(super) name: &'static str,
    pub(super) main: Made,
    pub(super) reference: Made,
    pub(super) key: [&'static [&'static str]; 2],
    pub(super) matched: usize,
}

pub(super) fn site(n: usize) -> String {
    let round = n / SITES.len();
    let site = SITES[n % SITES.len()];
    if round == 0 { site.to_owned() } else { format!("{site} {round}") }
}

/// A number of no meaning, different for each `n`.
pub(super) fn code(n: usize) -> u64 {
    (n as u64 + 3) * 7_919 % 99_991
}

/// The pairs of one round; each round has other sizes and other values.
// One table of cases, long as it is.
#[allow(clippy::too_many_lines)]
pub(super) fn pairs(round: usize) -> Vec<Pair> {
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
    all.push(Pair {
        name: "a letter after the number",
        main: Made::new(
            ["Lot", "Kg"],
            (0..many).map(|row| [format!("{}X", 41_000 + of[row] * 7), kg[row].clone()]),
        ),
        reference: Made::new(
            ["Lot no", "Warden"],
            (0..few).map(|n| [(41_000 + n * 7).to_string(), keeper(n)]),
        ),
        key: [&["Lot"], &["Lot no"]],
        matched,
    });
    all
}
