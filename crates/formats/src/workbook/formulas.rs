//! Formulas of an XLSX worksheet without a stored value: the program that wrote the file never calculated
//! them, so that their results are not in it.

use std::io::{BufRead, BufReader, Read};
use std::thread::{self, JoinHandle};

use zip::ZipArchive;

use crate::InputFile;
use crate::table::Uncalculated;

/// How many bytes are looked at for the name of an element and of its cell.
const LONGEST: usize = 4 << 10;

/// Begins to count them in a part of an archive, in parallel with the reader of its cells.
pub(super) fn count(input: &InputFile, nth: usize) -> Option<JoinHandle<Uncalculated>> {
    let input = input.clone();
    let work = move || {
        let Ok(mut archive) = ZipArchive::new(BufReader::new(input.reader())) else {
            return Uncalculated::default();
        };
        archive.by_index(nth).map(counted_in).unwrap_or_default()
    };
    // Without a thread for it nothing else is lost.
    thread::Builder::new().name("formulas".to_owned()).spawn(work).ok()
}

/// Counts the formulas without a value in the text of a worksheet, as far as it can be read.
fn counted_in(worksheet: impl Read) -> Uncalculated {
    let mut input = BufReader::with_capacity(64 << 10, worksheet);
    let (mut count, mut first) = Uncalculated::default();
    let (mut cell, mut has_formula, mut has_value) = (Vec::new(), false, false);
    let mut element = Vec::new();
    while input.skip_until(b'<').is_ok_and(|skipped| skipped > 0) {
        element.clear();
        let read = input.by_ref().take(LONGEST as u64).read_until(b'>', &mut element);
        if read.is_ok_and(|read| read == 0) {
            break;
        }
        let name = element.split(|byte| b" \t\r\n/>".contains(byte)).next().unwrap_or_default();
        let is_end = element.first() == Some(&b'/');
        let name = if is_end { &element[1..] } else { name };
        let name = name.split(|byte| b" \t\r\n/>".contains(byte)).next().unwrap_or_default();
        let name = name.rsplit(|byte| *byte == b':').next().unwrap_or_default();
        match (name, is_end) {
            (b"c", false) => {
                cell.clear();
                cell.extend_from_slice(&element);
                (has_formula, has_value) = (false, false);
            }
            (b"f", false) => has_formula = true,
            // An empty text is a value too.
            (b"v" | b"is", false) => has_value = true,
            (b"c", true) if has_formula && !has_value => {
                count += 1;
                first = first.or_else(|| place(&cell));
            }
            _ => {}
        }
    }
    (count, first)
}

/// The place that the start of a cell's element names.
fn place(cell: &[u8]) -> Option<String> {
    let at = memchr::memmem::find(cell, b" r=\"")? + 4;
    let end = at + memchr::memchr(b'"', &cell[at..])?;
    Some(String::from_utf8_lossy(&cell[at..end]).into_owned())
}

#[cfg(test)]
mod tests {
    use super::counted_in;

    #[test]
    fn only_formulas_without_a_value_count() {
        let sheet = r#"<sheetData><row r="1"><c r="A1"><f>1+1</f><v>2</v></c><c r="B1" t="str"><f>""</f><v></v></c>
            <c r="C1"><v>7</v></c><x:c s="2" r="D1"><x:f>A1*2</x:f></x:c><c r="E1"><f t="shared"/></c>
            <c r="F1"/><c r="G1" t="inlineStr"><is><t>f &lt;c&gt;</t></is></c><c r="H1"><f>A1</f><v/></c></row></sheetData>"#;
        assert_eq!(counted_in(sheet.as_bytes()), (2, Some("D1".to_owned())));
        assert_eq!(counted_in(&b"<c r=\"A1\"><f"[..]), (0, None));
        assert_eq!(counted_in(&b""[..]), (0, None));
    }
}
