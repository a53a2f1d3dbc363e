//! A last row that looks like a total of the rows above it.

use super::Block;

/// The words that totals begin with, in the languages of many spreadsheets.
const WORDS: [&str; 12] = [
    "total",
    "totals",
    "subtotal",
    "sum",
    "grand total",
    "summe",
    "gesamt",
    "somme",
    "suma",
    "totale",
    "totaal",
    "total general",
];

/// A row that looks like a total.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TotalRow {
    /// The row, from 1, and the line it begins on.
    pub row: u64,
    /// The line it begins on, from 1.
    pub line: u64,
    /// Its first cell that is not blank.
    pub text: String,
}

impl TotalRow {
    /// The last row of a block, if it looks like a total.
    pub(crate) fn last_of(block: &Block) -> Option<Self> {
        let last = block.rows().checked_sub(1)?;
        let text = match block.row_bytes(last) {
            // Cells that nobody reads are in the row's own bytes.
            Some((own, _)) => {
                let own = &own[..own.len().min(64)];
                let own = String::from_utf8_lossy(own);
                let is_before = |character: char| !character.is_alphabetic();
                let ends = |character: char| !character.is_alphabetic() && character != ' ';
                own.trim_start_matches(is_before).split(ends).next().unwrap_or_default().to_owned()
            }
            None => {
                let (text, cells) = block.kept_cells(last);
                let cell = |nth: usize| &text[cells[nth].start as usize..cells[nth].end as usize];
                let mut cells = (0..cells.len()).map(cell).map(<[u8]>::trim_ascii);
                let first = cells.find(|cell| !cell.is_empty())?;
                String::from_utf8_lossy(first).into_owned()
            }
        };
        let is_total = {
            let lower = text.trim().to_lowercase();
            let begins = |word: &&str| {
                let rest = lower.strip_prefix(*word);
                rest.is_some_and(|rest| !rest.starts_with(char::is_alphanumeric))
            };
            WORDS.iter().any(begins)
        };
        let (row, line) = (block.row_number(last), block.line(last));
        is_total.then(|| Self { row, line, text: text.trim().to_owned() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn totals_are_told_from_other_rows() {
        for (cell, is_total) in [
            ("Total", true),
            ("  TOTAL 2026", true),
            ("Grand total:", true),
            ("Summe", true),
            ("Totally Bees", false),
            ("Summer Hill", false),
            ("Fellside", false),
            ("", false),
        ] {
            let block = Block::of_rows(2, &[["a", "1"], ["", cell]]);
            assert_eq!(TotalRow::last_of(&block).is_some(), is_total, "{cell}");
        }
        assert_eq!(TotalRow::last_of(&Block::new(1)), None);
    }
}
