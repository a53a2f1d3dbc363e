//! The fuzz targets, each run on a fixed number of inputs.

use proptest::prelude::*;

#[path = "../../../../fuzz/src/delimited.rs"]
mod delimited;
#[path = "../../../../fuzz/src/templates.rs"]
mod templates;

#[path = "../../../../fuzz/src/worksheets.rs"]
mod worksheets;

/// The tokens that a dictionary of the fuzzer has.
fn tokens(dictionary: &str) -> Vec<String> {
    let quoted = dictionary.lines().filter_map(|line| line.trim().strip_prefix('"'));
    let tokens = quoted.filter_map(|line| line.strip_suffix('"'));
    tokens.map(|token| token.replace("\\\"", "\"").replace("\\\\", "\\")).collect()
}

/// The attributes of rows.
const ROWS: [&str; 5] = ["", " r=\"2\"", " r='4'", " spans=\"1:3\" r=\"9\"", " hidden=\"1\""];

/// The attributes of cells, each with a value that fits them.
const CELLS: [(&str, &str); 22] = [
    ("", "<v>0</v>"),
    (" s=\"1\"", "<v>2.50</v>"),
    (" s='2'", "<v>44000.5</v>"),
    (" s=\"2\"", "<v>0.25</v>"),
    (" s=\"4\"", "<v>1.5</v>"),
    (" s=\"99\"", "<v>0.30000000000000004</v>"),
    (" t=\"n\" cm=\"1\"", "<v>1E3</v>"),
    (" s=\"5\"", "<v>-7</v>"),
    ("", "<v/>"),
    ("", "<v></v>"),
    ("", ""),
    (" t=\"s\"", "<v>0</v>"),
    (" t=\"s\"", "<v>3</v>"),
    (" t=\"str\"", "<v>a &amp; &#233;&#xe9; _x0041_</v>"),
    (" t='str'", "<v xml:space=\"preserve\"> x\r\ny </v>"),
    (" t=\"b\"", "<v>1</v>"),
    (" t=\"b\"", "<v>false</v>"),
    (" t=\"e\"", "<v>#N/A</v>"),
    (" t=\"d\"", "<v>2026-11-30</v>"),
    (" t=\"inlineStr\"", "<is><t> Fellside </t></is>"),
    (
        " t=\"inlineStr\"",
        "<is><r><rPr><b/></rPr><t xml:space=\"preserve\"> x </t></r><r><t>y</t></r><rPh sb=\"0\"><t>no</t></rPh></is>",
    ),
    (" t=\"inlineStr\"", "<is/>"),
];

/// What may be before or after a value.
const AROUND: [&str; 5] = ["", " ", "\n", "<!-- <row> </c> -->", "<?note ?>"];
const FORMULAS: [&str; 4] = ["", "<f>A1&amp;\"x\"</f>", "<f t=\"shared\" si=\"0\"/>", "<f></f>"];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]

    #[test]
    fn delimited_text_is_read_alike(
        head in any::<[u8; 2]>(),
        text in prop::collection::vec(
            prop_oneof![
                6 => prop::sample::select(b",;\t|a\"\n\r b1".to_vec()),
                1 => any::<u8>(),
            ],
            0..200,
        ),
    ) {
        delimited::run(&[&head[..], &text[..]].concat());
    }

    #[test]
    fn no_text_makes_a_parser_panic(
        text in prop::collection::vec(
            prop_oneof![
                8 => prop::sample::select(tokens(include_str!("../../../../fuzz/templates.dict"))),
                1 => any::<char>().prop_map(String::from),
            ],
            0..20,
        ),
        value in ".{0,24}",
    ) {
        templates::run(&format!("{}\n{value}", text.concat()));
    }
    #[test]
    fn odd_worksheets_are_read_alike(
        rows in prop::collection::vec(
            (
                prop::sample::select(ROWS.to_vec()),
                prop::collection::vec(
                    (
                        prop::sample::select(CELLS.to_vec()),
                        prop::sample::select(FORMULAS.to_vec()),
                        [prop::sample::select(AROUND.to_vec()), prop::sample::select(AROUND.to_vec())],
                    ),
                    0..4,
                ),
            ),
            0..5,
        ),
    ) {
        let cell = |((cell, value), formula, [before, after]): &((&str, &str), &str, [&str; 2])| {
            format!("<c{cell}>{before}{formula}{value}{after}</c>")
        };
        let row = |(row, cells): &(&str, Vec<_>)| {
            format!("<row{row}>{}</row>", cells.iter().map(cell).collect::<Vec<_>>().concat())
        };
        worksheets::run(&rows.iter().map(row).collect::<Vec<_>>().concat());
    }

    #[test]
    fn worksheets_are_read_alike(
        rows in prop::collection::vec(
            prop::sample::select(tokens(include_str!("../../../../fuzz/worksheets.dict"))), 0..24,
        ),
    ) {
        worksheets::run(&rows.concat());
    }
}

/// A cell of a worksheet, as it is written.
#[derive(Debug, Clone)]
struct Written {
    /// How many columns are left out before it.
    gap: usize,
    style: usize,
    what: What,
    has_place: bool,
}

#[derive(Debug, Clone)]
enum What {
    Blank,
    Number(String),
    Shared(usize),
    Text(String),
    Inline(Vec<(String, bool)>),
    Truth(bool),
    Error,
    Formula(Option<String>),
}

impl Written {
    /// The cell in a column, with a prefix before the name of each element.
    fn xml(&self, line: usize, column: usize, prefix: &str) -> String {
        let escaped =
            |text: &str| text.replace('&', "&amp;").replace('<', "&lt;").replace('\r', "&#13;");
        let element = |name: &str, text: &str| format!("<{prefix}{name}>{text}</{prefix}{name}>");
        let (kind, content) = match &self.what {
            What::Blank => ("", String::new()),
            What::Number(number) => ("", element("v", number)),
            What::Shared(nth) => ("s", element("v", &nth.to_string())),
            What::Text(text) => ("str", element("v", &escaped(text))),
            What::Inline(runs) => {
                let run = |(text, keeps): &(String, bool)| {
                    let space = if *keeps { " xml:space=\"preserve\"" } else { "" };
                    let text = format!("<{prefix}t{space}>{}</{prefix}t>", escaped(text));
                    if runs.len() > 1 { element("r", &text) } else { text }
                };
                ("inlineStr", element("is", &runs.iter().map(run).collect::<String>()))
            }
            What::Truth(is) => ("b", element("v", if *is { "1" } else { "0" })),
            What::Error => ("e", element("v", "#N/A")),
            What::Formula(value) => {
                let value = value.as_ref().map(|value| element("v", value)).unwrap_or_default();
                ("", format!("{}{value}", element("f", "A1*2")))
            }
        };
        let letter = char::from(b'A' + column as u8);
        let place = if self.has_place { format!(" r=\"{letter}{line}\"") } else { String::new() };
        let style = if self.style > 0 { format!(" s=\"{}\"", self.style) } else { String::new() };
        let kind = if kind.is_empty() { String::new() } else { format!(" t=\"{kind}\"") };
        format!("<{prefix}c{place}{style}{kind}>{content}</{prefix}c>")
    }
}

/// Cells of every kind, with numbers that both can show.
fn written() -> impl Strategy<Value = Written> {
    let number = prop_oneof![
        "-?[1-9][0-9]{0,9}",
        "[0-9]{1,5}\\.[0-9]{1,4}",
        "[1-9][0-9]{0,3}\\.[0-9]{12}(5|7)",
        "[1-9]\\.[0-9]{1,6}E[+-]?[0-9]",
    ];
    let text = "[a-z<>&\"' é\\n_xF0]{0,8}";
    let what = prop_oneof![
        Just(What::Blank),
        number.prop_map(What::Number),
        (0..worksheets::SHARED.len()).prop_map(What::Shared),
        text.prop_map(What::Text),
        prop::collection::vec((text, any::<bool>()), 0..3).prop_map(What::Inline),
        any::<bool>().prop_map(What::Truth),
        Just(What::Error),
        prop::option::of("[1-9][0-9]{2,4}").prop_map(What::Formula),
    ];
    (0..3_usize, 0..worksheets::FORMATS.len(), what, any::<bool>()).prop_map(
        |(gap, style, what, has_place)| {
            // A date is within the years that there are, and no fraction of a second is shown.
            let days = match &what {
                What::Number(number) if style > 1 => number.parse::<f64>().ok(),
                _ => None,
            };
            let days = days.map(|days| ((days.abs() % 60_000.0 + 61.0) * 4.0).round() / 4.0);
            let what = days.map_or(what, |days| What::Number(days.to_string()));
            Written { gap, style, has_place: has_place || gap > 0, what }
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    /// Sound worksheets are read as the library reads them, all cells of them.
    #[test]
    fn sound_worksheets_are_read_alike(
        rows in prop::collection::vec((1..4_usize, prop::collection::vec(written(), 0..5)), 0..12),
        prefix in prop::sample::select(vec!["", "x:"]),
        is_1904 in any::<bool>(),
    ) {
        let (mut line, mut text) = (1, String::new());
        for (gap, cells) in rows {
            line += gap;
            let (mut column, mut row) = (0, String::new());
            for cell in cells {
                column += cell.gap;
                if column < worksheets::COLUMNS {
                    row += &cell.xml(line, column, prefix);
                }
                column += 1;
            }
            text += &format!("<{prefix}row r=\"{line}\">{row}</{prefix}row>");
        }
        let workbook = worksheets::workbook(&text, prefix, is_1904);
        let ours = worksheets::ours(&workbook).map_err(|error| TestCaseError::fail(error.to_string()))?;
        let theirs = worksheets::theirs(&workbook).ok_or_else(|| TestCaseError::fail("the library refuses it"))?;
        prop_assert_eq!(ours, theirs);
    }
}
