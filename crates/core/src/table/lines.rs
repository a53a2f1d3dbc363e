//! The line of every row of a table, kept small: for a table without line breaks in its cells the
//! line follows from the row's number, and nothing is stored for each row.

/// Where the rows of a table stand. Rows count from 0 here, and lines from wherever they are pushed
/// from.
#[derive(Debug, Clone, Default)]
pub struct Lines {
    /// The line of row 0.
    first: u64,
    rows: u64,
    /// Rows from which on the lines run ahead by more than before, and by how much in all.
    shifts: Vec<(u64, u64)>,
}

impl Lines {
    /// Forgets all rows.
    pub fn clear(&mut self) {
        self.first = 0;
        self.rows = 0;
        self.shifts.clear();
    }

    /// The lines of so many rows, the first of which stands on `first`, with the rows from which on they
    /// run ahead.
    pub(crate) fn from_shifts(first: u64, rows: u64, shifts: Vec<(u64, u64)>) -> Self {
        Self { first, rows, shifts }
    }

    /// Rows from which on the lines run ahead by more than before, and by how much in all.
    pub(crate) fn shifts(&self) -> &[(u64, u64)] {
        &self.shifts
    }

    /// Notes the line of the next row.
    pub fn push(&mut self, line: u64) {
        if self.rows == 0 {
            self.first = line;
        }
        let shift = line.saturating_sub(self.first + self.rows);
        if shift != self.shifts.last().map_or(0, |last| last.1) {
            self.shifts.push((self.rows, shift));
        }
        self.rows += 1;
    }

    /// How many rows were pushed.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// The line of a row that was pushed.
    pub fn of(&self, row: u64) -> u64 {
        let past = self.shifts.partition_point(|shift| shift.0 <= row);
        let shift = if past == 0 { 0 } else { self.shifts[past - 1].1 };
        self.first + row + shift
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_come_back_as_they_were_pushed() {
        for lines in [vec![2, 3, 4], vec![2, 5, 6, 9, 10], vec![4], vec![2, 4, 6, 8]] {
            let mut kept = Lines::default();
            for &line in &lines {
                kept.push(line);
            }
            let back: Vec<u64> = (0..lines.len() as u64).map(|row| kept.of(row)).collect();
            assert_eq!(back, lines);
        }
    }
}
