//! Workbooks that are made part by part, as hardly any program writes them: what is read of them, and
//! which are refused.

use std::fs::File;
use std::io::Write;
use std::sync::atomic::Ordering;

use gather_keys_core::table::{Block, Source};

use super::beginning::MOST_TEXT;
use super::{Sought, open};
use crate::delimited::HeaderRow;
use crate::{Address, Described, InputFile, Table, Untapped};

const MIB: usize = 1 << 20;

/// The expected reading of a worksheet of a workbook with these parts.
fn reported<T: AsRef<[u8]>>(parts: &[(&str, T)], worksheet: Option<&str>) -> String {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("bomb");
    let mut archive = zip::ZipWriter::new(File::create(&path).unwrap());
    for (name, text) in parts {
        let options = zip::write::SimpleFileOptions::default();
        archive.start_file(*name, options).unwrap();
        archive.write_all(text.as_ref()).unwrap();
    }
    archive.finish().unwrap();
    let address = match worksheet {
        Some(worksheet) => Address::Part(path, worksheet.to_owned()),
        None => Address::File(path),
    };
    let (mut table, _) = match Table::open(&address, &Described::default(), &Untapped) {
        Ok(opened) => opened,
        Err(error) => return error.to_string(),
    };
    let headers = table.headers();
    let names = (0..headers.len()).map(|column| headers.name(column));
    let mut said = names.collect::<Vec<_>>().join("|");
    let mut block = Block::default();
    loop {
        match table.read_block(&mut block) {
            Ok(true) => {
                for row in 0..block.rows() {
                    let cells = (0..block.columns()).map(|column| block.cell(row, column));
                    said = format!("{said}/{}", cells.collect::<Vec<_>>().join("|"));
                }
            }
            Ok(false) => {
                let errors = table.read_as().error_cells.as_ref();
                return match errors.map_or(0, |errors| errors.load(Ordering::Relaxed)) {
                    0 => said,
                    errors => format!("{said} ({errors} errors)"),
                };
            }
            Err(error) => return format!("{said}: {error}"),
        }
    }
}

/// The expected reading of an XLSX workbook with these rows and another part.
fn xlsx(rows: &str, besides: (&str, String)) -> String {
    let sheet = format!("<worksheet><sheetData>{rows}</sheetData></worksheet>");
    let relations = |all: &[(&str, &str)]| {
        let kind = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
        let relation = |(what, part): &(&str, &str)| {
            format!("<Relationship Id=\"{what}\" Type=\"{kind}/{what}\" Target=\"{part}.xml\"/>")
        };
        format!("<Relationships>{}</Relationships>", all.iter().map(relation).collect::<String>())
    };
    let shared = [("worksheet", "worksheets/sheet1"), ("sharedStrings", "sharedStrings")];
    let workbook = "<workbook><sheets><sheet name=\"Hives\" sheetId=\"1\" r:id=\"worksheet\"/>\
                    </sheets></workbook>";
    reported(
        &[
            ("_rels/.rels", relations(&[("officeDocument", "xl/workbook")])),
            ("xl/workbook.xml", workbook.to_owned()),
            ("xl/_rels/workbook.xml.rels", relations(&shared)),
            ("xl/worksheets/sheet1.xml", sheet),
            besides,
        ],
        None,
    )
}

/// Workbooks as no common program writes them, which are well formed all the same.
#[test]
fn unusual_workbooks_are_read() {
    let utf_16 = |text: &str| -> Vec<u8> {
        [0xfeff].into_iter().chain(text.encode_utf16()).flat_map(u16::to_be_bytes).collect()
    };
    let utf_8 = |text: &str| text.as_bytes().to_vec();
    let latin = |text: &str| text.chars().map(|letter| letter as u8).collect::<Vec<u8>>();
    let rows = "<x:row><x:c t='str'><x:v>Größe</x:v></x:c><x:c t=\"inlineStr\"><x:is><x:t>Kg</x:t></x:is></x:c>\
                </x:row><!-- <x:row r='9'/> --><x:row><x:c t='str'><x:v>é &amp; &#x42;</x:v></x:c><x:c><x:v\n>1.50\
                </x:v ></x:c></x:row><?note?><x:row r=\"7\"><x:c t=\"inlineStr\"><x:is><x:t><![CDATA[<b>]]>\
                </x:t></x:is></x:c><x:c t=\"d\"><x:v>2026-11-30T00:00:00</x:v></x:c></x:row>";
    let sheet = |declaration: &str| {
        format!("{declaration}<x:worksheet><x:sheetData>{rows}</x:sheetData></x:worksheet>")
    };
    for sheet in [
        utf_8(&sheet("")),
        utf_8(&sheet("\u{feff}<?xml version='1.0'?>")),
        utf_16(&sheet("<?xml version='1.0' encoding='UTF-16'?>")),
        latin(&sheet("<?xml version='1.0' encoding='ISO-8859-1'?>")),
    ] {
        let kind = "http://purl.oclc.org/ooxml/officeDocument/relationships";
        let relation = |what: &str, part: &str| {
            format!(
                "<Relationships><Relationship Id='a' Type='{kind}/{what}' Target='{part}'/></Relationships>"
            )
        };
        let book = "<s:workbook conformance='strict'><s:sheets><s:sheet name='Hives' rel:id='a'/></s:sheets></s:workbook>";
        let parts = [
            ("_rels/.rels", utf_8(&relation("officeDocument", "/Book/Main.xml"))),
            ("Book/main.xml", utf_8(book)),
            ("Book/_rels/Main.xml.rels", utf_8(&relation("worksheet", "../Sheets\\One.xml"))),
            ("Sheets/one.xml", sheet),
        ];
        assert_eq!(reported(&parts, None), "Größe|Kg/é & B|1.5/<b>|2026-11-30");
    }
}

/// The expected reading of an ODS workbook with these rows in its second worksheet, by a name.
fn ods(rows: &str, worksheet: &str) -> String {
    let ranges = "<table:named-expressions><table:named-range table:name=\"Sites\" \
                  table:cell-range-address=\"$Hives.$B$2:.$B$4\"/></table:named-expressions>\
                  <table:database-ranges><table:database-range table:name=\"Kept\" \
                  table:target-range-address=\"Hives.A1:Hives.B2\" table:contains-header=\"false\"/>\
                  </table:database-ranges>";
    let other = "<table:table table:name=\"Notes\"><table:shapes><table:table table:name=\"No\"/>\
                 </table:shapes></table:table><table:table table:name=\"'file:///old.ods'#$Hives\" \
                 table:style-name=\"ta_extref\"/>";
    let content = format!(
        "<office:document-content><office:body><office:spreadsheet>{other}<table:table \
         table:name=\"Hives\"><table:table-column/>{rows}</table:table>{ranges}\
         </office:spreadsheet></office:body></office:document-content>"
    );
    reported(&[("content.xml", content)], Some(worksheet))
}

/// Letters that pack badly.
fn letters(count: usize) -> String {
    let mut state = 1_u32;
    let letter = |_| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        char::from(b'a' + (state >> 24) as u8 % 26)
    };
    (0..count).map(letter).collect()
}

#[test]
fn a_workbook_that_would_fill_the_memory_is_refused() {
    let none = || ("docProps/app.xml", String::new());
    let head = "<row r=\"1\"><c r=\"A1\" t=\"str\"><v>Site</v></c></row>";
    let cell = |text: &str| format!("<row r=\"2\"><c r=\"A2\" t=\"str\"><v>{text}</v></c></row>");
    let one = "a single row of it unpacks to more than 1 MiB; save the worksheet as CSV";
    let shared = "what all its worksheets share unpacks to 3 MiB; save the worksheet as CSV";
    let rich = "<r><t>abcdefgh</t></r><c></c>".repeat(100_000);
    let rich = format!("<row r=\"2\"><c r=\"A2\" t=\"inlineStr\"><is>{rich}</is></c></row>");
    let texts = |count: usize| ("xl/sharedStrings.xml", format!("<sst>{}</sst>", letters(count)));
    let wide = "<c t=\"s\"><v>0</v></c>".repeat(20);
    let wide = format!("<row r=\"2\">{wide}</row>");
    let long =
        || ("xl/sharedStrings.xml", format!("<sst><si><t>{}</t></si></sst>", letters(MIB / 10)));
    for (rows, besides, want) in [
        (format!("{head}{}", cell(&"x".repeat(3 * MIB))), none(), one),
        (format!("{head}{}", cell(&letters(3 * MIB))), none(), one),
        (format!("{head}{rich}"), none(), one),
        (format!("{head}<row {}/>", "x".repeat(3 * MIB)), none(), one),
        (head.to_owned(), texts(3 * MIB), shared),
        (
            head.to_owned(),
            ("xl/sharedStrings.xml", "<si></si>".repeat(20_000)),
            "share unpacks to 0 MiB",
        ),
        (format!("{head}{wide}"), long(), "a row of it has more than 1 MiB of text"),
        (
            format!("{head}<row r=\"2\"><c r=\"ZZZ2\"><v>1</v></c></row>"),
            none(),
            "it has more than 16,384 columns",
        ),
        (
            "<row><c r=\"B1\"><v>1</v></c><c r=\"A1\"><v>2</v></c></row>".to_owned(),
            none(),
            "the cells of a row are not in order",
        ),
        (
            "<row r=\"2\"><c><v>1</v></c></row><row r=\"1\"><c><v>2</v></c></row>".to_owned(),
            none(),
            "its rows are not in order",
        ),
    ] {
        let said = xlsx(&rows, besides);
        assert!(said.contains(want), "{want}: {said:.300}");
    }
    // Much that comes cell by cell is none; nor are many rows without cells.
    let rows: String = (2..40_000)
        .map(|row| format!("<row r=\"{row}\"><c r=\"A{row}\"><v>1</v></c></row>"))
        .chain((40_000..60_000).map(|row| format!("<row r=\"{row}\"/>")))
        .collect();
    assert_eq!(xlsx(&format!("{head}{rows}"), none()).len(), "Site".len() + 39_998 * 2);
}

#[test]
fn an_ods_is_read_as_it_says() {
    let cell = |text: &str| {
        format!(
            "<table:table-cell office:value-type=\"string\"><text:p>{text}</text:p></table:table-cell>"
        )
    };
    let row = |cells: &str| format!("<table:table-row>{cells}</table:table-row>");
    let head = row(&format!("{}{}", cell("Site"), cell("Tag")));
    let blank = "<table:table-cell table:number-columns-repeated=\"16382\"/>";
    let last = "<table:table-row table:number-rows-repeated=\"1048000\"><table:table-cell \
                table:number-columns-repeated=\"16384\"/></table:table-row>";
    let times =
        |times: &str, what: &str| what.replacen('>', &format!(" table:number-{times}\">"), 1);
    let number = "<table:table-cell office:value-type=\"float\" office:value=\"12.50\" \
                  calcext:value-type=\"float\"><text:p>12,5 kg</text:p></table:table-cell>";
    let pinned = "<table:table-cell office:value-type=\"string\"><office:annotation><text:p>no</text:p>\
                  </office:annotation><text:p>a <text:span> b</text:span><text:s text:c=\"2\"/>&amp;\
                  </text:p>\n <text:p>c<text:tab/>d</text:p></table:table-cell>";
    let error = "<table:table-cell office:value-type=\"string\" office:string-value=\"\" \
                 calcext:value-type=\"error\"><text:p>#N/A</text:p></table:table-cell>";
    let merged = "<table:table-cell table:number-columns-spanned=\"2\" office:value-type=\"string\">\
                  <text:p>Name</text:p></table:table-cell><table:covered-table-cell/>\
                  <table:table-cell office:value-type=\"string\"><text:p>Tag</text:p></table:table-cell>";
    let one = "a single cell of it unpacks to more than 1 MiB; save the worksheet as CSV";
    let wide = times("columns-repeated=\"2000", &cell(&"x".repeat(MOST_TEXT / 1000)));
    for (rows, want) in [
        (
            format!("{head}{}{last}", row(&format!("{}{number}{blank}", cell("Fellside")))),
            "Site|Tag/Fellside|12.5",
        ),
        (format!("{head}{}", row(&format!("{pinned}{}", cell("x")))), "Site|Tag/a b  &\nc\td|x"),
        (format!("{head}{}", row(&format!("{error}{}", cell("x")))), "Site|Tag/|x (1 errors)"),
        (
            format!(
                "{head}{}",
                times("rows-repeated=\"2", &row(&times("columns-repeated=\"2", &cell("x"))))
            ),
            "Site|Tag/x|x/x|x",
        ),
        (
            format!("{}{}", row(merged), row(&format!("{}{}", cell("Edda"), cell("Larkhollow")))),
            "Name|Name|Tag/Edda|Larkhollow|",
        ),
        (format!("{head}{}", row(&cell(&"x".repeat(3 * MIB)))), one),
        (format!("{head}{}", row(&cell("<text:s text:c=\"4000000000\"/>"))), one),
        (format!("{head}{}", row(&wide)), "a row of it has more than 1 MiB of text"),
        (
            format!("{head}{}", row(&times("columns-repeated=\"99999999", &cell("x")))),
            "more than 16,384 columns",
        ),
        (
            format!("{head}{}", times("rows-repeated=\"99999999", &row(&cell("x")))),
            "more than 1,048,576 rows",
        ),
        (
            format!(
                "{}{}",
                row(&merged.replace("spanned=\"2\"", "spanned=\"0\"")),
                row(&cell("x"))
            ),
            "Name||Tag/x||",
        ),
        ("<a>".repeat(MIB), one),
    ] {
        let said = ods(&rows, "Hives");
        assert!(
            said.ends_with(want) || said.contains(want) && want.contains("more than"),
            "{want}: {said:.300}"
        );
    }
    let rows = format!("{head}{0}{0}{0}", row(&format!("{}{number}", cell("Fellside"))));
    for (worksheet, want) in [
        ("sites", "12.5/12.5/12.5"),
        ("Kept", "Column 1|Column 2/Site|Tag/Fellside|12.5"),
        ("2", "Site|Tag/Fellside|12.5/Fellside|12.5/Fellside|12.5"),
        ("Notes", "bomb#Notes is empty"),
        (
            "Nope",
            "no worksheet, table or named range `Nope`; it has `Notes`, `Hives`, `Kept`, `Sites`",
        ),
    ] {
        let said = ods(&rows, worksheet);
        assert!(said.contains(want), "{worksheet}: {said}");
    }
    let document = "<office:text><table:table table:name=\"Hives\"/></office:text>".to_owned();
    let said = reported(&[("content.xml", document)], None);
    assert!(said.contains("it is not a workbook"), "{said}");
    let locked = "<manifest:encryption-data/>".to_owned();
    let said = reported(&[("content.xml", letters(9)), ("META-INF/manifest.xml", locked)], None);
    assert!(said.contains("it is protected by a password; open it, save a copy"), "{said}");
}
#[test]
fn an_xls_that_spans_too_much_is_refused() {
    let record = |kind: u16, content: &[u16]| {
        let words = [&[kind, content.len() as u16 * 2], content].concat();
        words.iter().flat_map(|word| word.to_le_bytes()).collect::<Vec<_>>()
    };
    let cell = |row, column| record(0x0203, &[row, column, 0, 0, 0, 0, 0]);
    let begin = || record(0x0809, &[0x0600, 5, 0, 0, 0, 0, 0, 0]);
    let end = || record(0x000A, &[]);
    let reported = |worksheets: u16, cells: &[Vec<u8>]| {
        // All of them begin at the same place.
        let length = begin().len() + usize::from(worksheets) * 14 + end().len();
        let one = |nth| record(0x0085, &[length as u16, 0, 0, 1, u16::from(b'a') + nth]);
        let mut stream = begin();
        (0..worksheets).for_each(|nth| stream.extend(one(nth)));
        stream.extend([end(), begin(), cells.concat(), end()].concat());
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("bomb");
        let mut compound = cfb::create(&path).unwrap();
        compound.create_stream("/Workbook").unwrap().write_all(&stream).unwrap();
        compound.flush().unwrap();
        drop(compound);
        let sought = Sought { headers: HeaderRow::Found, asked: &[], without: &[] };
        let opened = open("bomb", &InputFile::open(&path).unwrap(), None, &sought);
        opened.err().map(|error| error.to_string()).unwrap_or_default()
    };
    let far = [cell(0, 0), cell(65_535, 255)];
    let dimensions = record(0x0200, &[0, 0, 0xffff, 0xffff, 0, 0xff, 0]);
    let chart = [begin(), far.concat(), end()].concat();
    for (worksheets, cells, is_refused) in [
        (20, &[cell(0, 0), cell(9, 1)][..], false),
        (20, &[cell(0, 0), chart.clone()], false),
        (20, &[chart, far.concat()], true),
        (20, &far, true),
        (1, &[dimensions, cell(0, 0)], true),
        (3, &[cell(0, 0), record(0x00BD, &[65_535, 0, 0, 0, 0, 255])], true),
    ] {
        let said = reported(worksheets, cells);
        let want = "they span over 33,000,000 cells; save the worksheet as CSV";
        assert_eq!(said.contains(want), is_refused, "{worksheets}: {said}");
    }
}
