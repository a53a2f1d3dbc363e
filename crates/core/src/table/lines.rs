//! The line of every row of a table, kept small: for a table without line breaks in its cells the
//! line follows from the row's number, and nothing is stored for each row.

/// The lines on which the rows of a table begin. Rows count from 0 here, lines from the first one that is
/// pushed.
#[derive(Debug, Clone, Default)]
pub struct Lines {
    /// The line of row 0.
    first: u64,
    rows: u64,
    /// The line of the next row, unless lines run ahead.
    next: u64,
    /// Rows from which on the lines run ahead by more than before, and by how much in all.
    shifts: Vec<(u64, u64)>,
}

impl Lines {
    /// Forgets all rows.
    pub fn clear(&mut self) {
        self.first = 0;
        self.rows = 0;
        self.next = 0;
        self.shifts.clear();
    }

    /// The lines of this many rows, the first of which is on `first`, with the rows from which on they
    /// run ahead.
    pub(crate) fn from_shifts(first: u64, rows: u64, shifts: Vec<(u64, u64)>) -> Self {
        let next = first + rows + shifts.last().map_or(0, |last| last.1);
        Self { first, rows, next, shifts }
    }

    /// Rows from which on the lines run ahead by more than before, and by how much in all.
    pub(crate) fn shifts(&self) -> &[(u64, u64)] {
        &self.shifts
    }

    /// Notes the line of the next row.
    #[inline]
    pub fn push(&mut self, line: u64) {
        if line != self.next || self.rows == 0 {
            self.run_ahead(line);
        }
        self.rows += 1;
        self.next += 1;
    }

    /// Notes the lines of this many rows, each of which is on the line after that of the one before.
    pub fn push_run(&mut self, first: u64, rows: u64) {
        if rows > 0 {
            self.push(first);
            self.rows += rows - 1;
            self.next += rows - 1;
        }
    }

    /// Notes that the next row are not on the line that follows.
    #[cold]
    fn run_ahead(&mut self, line: u64) {
        if self.rows == 0 {
            self.first = line;
        }
        self.shift(line.saturating_sub(self.first + self.rows));
    }

    /// Notes by how much the lines run ahead from the next row on.
    fn shift(&mut self, shift: u64) {
        if shift != self.shifts.last().map_or(0, |last| last.1) {
            self.shifts.push((self.rows, shift));
        }
        self.next = self.first + self.rows + shift;
    }

    /// Adds the lines of a part of the table, before which there are `before` lines.
    pub(crate) fn append(&mut self, part: &Self, before: u64) {
        if part.rows == 0 {
            return;
        }
        let mut shifts = part.shifts.iter().copied().peekable();
        let own = shifts.next_if(|(row, _)| *row == 0).map_or(0, |(_, shift)| shift);
        let end = self.rows + part.rows;
        self.run_ahead(before + part.first + own);
        let ahead = self.next - self.first - self.rows;
        for (row, shift) in shifts {
            self.rows = end - part.rows + row;
            self.shift(ahead + shift - own);
        }
        self.next += end - self.rows;
        self.rows = end;
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
            let mut runs = Lines::default();
            let run = |pair: &u64, other: &u64| pair + 1 == *other;
            for run in lines.chunk_by(run) {
                runs.push_run(run[0], run.len() as u64);
                runs.push_run(100, 0);
            }
            assert_eq!(
                (runs.rows(), runs.next, &runs.shifts),
                (kept.rows(), kept.next, &kept.shifts)
            );
            // So they do in parts, whose first lines are 0.
            for cut in 0..=lines.len() {
                let mut joined = Lines::default();
                for part in [&lines[..cut], &lines[cut..]] {
                    let before = part.first().copied().unwrap_or_default();
                    let mut rows = Lines::default();
                    for line in part {
                        rows.push(line - before);
                    }
                    joined.append(&rows, before);
                }
                assert_eq!(Some(joined.next), lines.last().map(|line| line + 1));
                joined.push(20);
                let back: Vec<u64> = (0..joined.rows()).map(|row| joined.of(row)).collect();
                assert_eq!(back, [&lines[..], &[20]].concat());
                assert!(joined.shifts.windows(2).all(|pair| pair[0].1 != pair[1].1));
            }
        }
    }
}
