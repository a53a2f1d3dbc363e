//! Formulas as other cells have them.

use crate::workbook::size::{self, MOST_COLUMNS, MOST_ROWS, letters};

/// A formula moved by so many columns and rows: what it says of cells relative to its own moves along, as when
/// somebody copies it. What would be outside the worksheet becomes `#REF!`.
pub(super) fn moved(formula: &str, columns: i64, rows: i64) -> String {
    let mut out = String::with_capacity(formula.len() + 8);
    let mut rest = formula;
    while let Some(first) = rest.chars().next() {
        // Texts, names of worksheets and columns of tables are no cells.
        let quoted = match first {
            '"' | '\'' => rest[1..].find(first).map(|end| end + 2),
            '[' => rest.find(']').map(|end| end + 1),
            _ => None,
        };
        let is_word = |one: char| one.is_alphanumeric() || matches!(one, '$' | '_' | '.' | '\\');
        let length = quoted.unwrap_or_else(|| {
            let word = rest.find(|one| !is_word(one)).unwrap_or(rest.len());
            word.max(first.len_utf8())
        });
        let (word, after) = rest.split_at(length);
        rest = after;
        let is_name = after.starts_with(['(', '!']);
        let is_of_range = after.starts_with(':') || out.ends_with(':');
        match Cell::of(word, is_of_range).filter(|_| quoted.is_none() && !is_name) {
            Some(cell) => out.push_str(&cell.moved(columns, rows)),
            None => out.push_str(word),
        }
    }
    out
}

/// A cell, or a whole column or row of a range, as a formula says it.
struct Cell {
    column: Option<(bool, i64)>,
    row: Option<(bool, i64)>,
}

impl Cell {
    /// The cell of a word; `A` and `7` are some in the ranges `A:C` and `7:9`.
    fn of(word: &str, is_of_range: bool) -> Option<Self> {
        let (column_fixed, rest) = fixed(word);
        let letters = rest.bytes().take_while(u8::is_ascii_alphabetic).count();
        let (column, rest) = rest.split_at(letters);
        // The `$` of a row without a column is the first.
        let (row_fixed, rest) = if letters == 0 { (column_fixed, rest) } else { fixed(rest) };
        let column = size::column(column.as_bytes()).filter(|column| *column < MOST_COLUMNS);
        let row =
            rest.parse::<i64>().ok().filter(|row| (1..=MOST_ROWS.cast_signed()).contains(row));
        let is_said = (letters > 0 && column.is_none(), !rest.is_empty() && row.is_none());
        let is_whole = column.is_some() && row.is_some();
        let is_part = is_of_range && (column.is_some() || row.is_some());
        if is_said != (false, false) || !is_whole && !is_part {
            return None;
        }
        Some(Self {
            column: column.map(|column| (column_fixed, column.cast_signed() as i64)),
            row: row.map(|row| (row_fixed, row)),
        })
    }

    fn moved(&self, columns: i64, rows: i64) -> String {
        let mut text = String::new();
        if let Some((is_fixed, column)) = self.column {
            let column = if is_fixed { column } else { column + columns };
            let Some(column) = usize::try_from(column).ok().filter(|one| *one < MOST_COLUMNS)
            else {
                return "#REF!".to_owned();
            };
            text.push_str(if is_fixed { "$" } else { "" });
            text.push_str(&letters(column));
        }
        if let Some((is_fixed, row)) = self.row {
            let row = if is_fixed { row } else { row + rows };
            if !(1..=MOST_ROWS.cast_signed()).contains(&row) {
                return "#REF!".to_owned();
            }
            text.push_str(if is_fixed { "$" } else { "" });
            text.push_str(&row.to_string());
        }
        text
    }
}

/// Whether a text begins with `$`, and what follows that.
fn fixed(text: &str) -> (bool, &str) {
    match text.strip_prefix('$') {
        Some(rest) => (true, rest),
        None => (false, text),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn formulas_move_with_their_cells() {
        for (formula, columns, rows, want) in [
            ("B2*$C$2", 0, 3, "B5*$C$2"),
            ("SUM(B2:D9)+AA1", 1, 0, "SUM(C2:E9)+AB1"),
            ("IF(A1=\"B2\",'C1 x'!C1,LOG10(2))", 0, 1, "IF(A2=\"B2\",'C1 x'!C2,LOG10(2))"),
            ("Harvest[[#This Row],[B2]]*$A3", 2, 2, "Harvest[[#This Row],[B2]]*$A5"),
            ("A1+Total_1+Prices!B$2", -1, 0, "#REF!+Total_1+Prices!A$2"),
            ("SUM(A:$B,3:$4,A1:C3)", 1, 2, "SUM(B:$B,5:$4,B3:D5)"),
            ("é1&\"ü\"", 0, 1, "é1&\"ü\""),
        ] {
            assert_eq!(moved(formula, columns, rows), want, "{formula}");
        }
    }
}
