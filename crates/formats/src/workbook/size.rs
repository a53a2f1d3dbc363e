//! The size of a worksheet in any format, and the letters of its columns.

/// How many rows a worksheet has.
pub(super) const MOST_ROWS: u64 = 1_048_576;

/// How many columns a worksheet has.
pub(super) const MOST_COLUMNS: usize = 16_384;

/// The letters of a column, from 0: A, B, … Z, AA.
pub(super) fn letters(mut column: usize) -> String {
    let mut letters = Vec::new();
    loop {
        letters.push(b'A' + (column % 26) as u8);
        if column < 26 {
            break;
        }
        column = column / 26 - 1;
    }
    letters.iter().rev().map(|&letter| char::from(letter)).collect()
}

/// The column of letters, from 0; `None` where they are too many, or none.
pub(super) fn column(letters: &[u8]) -> Option<usize> {
    const MOST_LETTERS: usize = 4;
    let is_column =
        (1..=MOST_LETTERS).contains(&letters.len()) && letters.iter().all(u8::is_ascii_alphabetic);
    let letter =
        |sum: usize, letter: &u8| sum * 26 + usize::from(letter.to_ascii_uppercase() - b'A') + 1;
    is_column.then(|| letters.iter().fold(0, letter) - 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_have_letters() {
        for (number, text) in
            [(0, "A"), (25, "Z"), (26, "AA"), (701, "ZZ"), (702, "AAA"), (16_383, "XFD")]
        {
            assert_eq!(letters(number), text);
            assert_eq!(column(text.as_bytes()), Some(number));
            assert_eq!(column(text.to_lowercase().as_bytes()), Some(number));
        }
        for text in ["", "A1", "ABCDE"] {
            assert_eq!(column(text.as_bytes()), None, "{text}");
        }
    }
}
