//! The cells that an enrichment writes into a worksheet that is there.
//!
//! In go blocks of rows as they go out, out come the cells of each row that differ from what is there: added ones, and
//! those of its own that were replaced. Which style they have depends on the cells that are there, so it is left to
//! the [merger](super::merger).

use std::sync::Arc;

use gather_keys_core::table::{Block, CellKind, Overlay, Renderer, RowOutcomes};

use crate::workbook::shown::Shown;
use crate::workbook::writer::{Ground, Look, Styles, WIDEST, is_too_long, push_content, width};

/// Cells to be written, row by row.
#[derive(Debug, Default)]
pub struct CellEdits {
    /// What follows the style of each cell, end to end.
    text: String,
    cells: Vec<CellEdit>,
    /// Each row's line, and the end of its cells.
    rows: Vec<(u64, u32)>,
    /// Whether the rows are appended to the table.
    pub(super) are_appended: bool,
    pub(super) facts: EditFacts,
}

/// A cell to be written.
#[derive(Debug, Clone, Copy)]
pub(super) struct CellEdit {
    /// The column of the worksheet, from 0.
    pub(super) column: u32,
    pub(super) role: Role,
    pub(super) look: Look,
    /// The ground that it is on, where cells are coloured.
    pub(super) ground: Option<Ground>,
    /// Where what follows its style is in the text.
    begin: u32,
    end: u32,
}

/// What a cell is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Role {
    /// The header of an added column.
    Header,
    /// It is in a column that is added, where nothing may be.
    Added,
    /// It is in a column that an earlier run added.
    Refreshed,
    /// It replaces a cell of the table.
    Updated,
    /// It is in a row that is appended.
    Appended,
}

/// Counts of cells to be written.
#[derive(Debug, Default)]
pub(super) struct EditFacts {
    /// How many characters wide each added column is.
    pub(super) widths: Vec<usize>,
    /// How many cells of each added column are numbers or dates, how many are texts, and how its first number looks.
    pub(super) numbers: Vec<(u64, u64, Option<Look>)>,
    /// How many whole numbers are text, since they have too many digits, and the first of their columns.
    pub(super) long: (u64, Option<usize>),
    /// The row and the column of the first text that is too long for a cell.
    pub(super) too_long: Option<(u64, usize)>,
}

impl EditFacts {
    /// Adds what other rows say.
    pub(super) fn add(&mut self, other: &Self) {
        self.widths.resize(other.widths.len(), 0);
        self.numbers.resize(other.numbers.len(), (0, 0, None));
        for (all, new) in self.widths.iter_mut().zip(&other.widths) {
            *all = (*all).max(*new);
        }
        for (all, new) in self.numbers.iter_mut().zip(&other.numbers) {
            *all = (all.0 + new.0, all.1 + new.1, all.2.or(new.2));
        }
        self.long = (self.long.0 + other.long.0, self.long.1.or(other.long.1));
    }
}

impl CellEdits {
    /// The row of the headers of added columns.
    pub(super) fn of_headers<'h>(
        line: u64,
        headers: impl Iterator<Item = (u32, &'h str)>,
        styles: &Styles,
    ) -> Self {
        let mut edits = Self::default();
        let look = styles.look(usize::MAX, &Shown::Text, "");
        for (column, header) in headers {
            let begin = edits.text.len() as u32;
            push_content(header, &Shown::Text, 0.0, &mut edits.text);
            edits.push((column, Role::Header), look, None, begin);
        }
        edits.end_row(line);
        edits
    }

    fn clear(&mut self, added: usize) {
        self.text.clear();
        self.cells.clear();
        self.rows.clear();
        self.are_appended = false;
        self.facts.widths.clear();
        self.facts.widths.resize(added, 0);
        self.facts.numbers.clear();
        self.facts.numbers.resize(added, (0, 0, None));
        self.facts.long = (0, None);
        self.facts.too_long = None;
    }

    /// Takes a cell whose text has begun at a place.
    fn push(
        &mut self,
        (column, role): (u32, Role),
        look: Look,
        ground: Option<Ground>,
        begin: u32,
    ) {
        let end = self.text.len() as u32;
        self.cells.push(CellEdit { column, role, look, ground, begin, end });
    }

    /// Ends a row: columns that an earlier run added may be between the table's own.
    fn end_row(&mut self, line: u64) {
        let begin = self.rows.last().map_or(0, |(_, end)| *end as usize);
        self.cells[begin..].sort_by_key(|cell| cell.column);
        self.rows.push((line, self.cells.len() as u32));
    }

    /// How many rows there are.
    pub(super) fn rows(&self) -> usize {
        self.rows.len()
    }

    /// Gives rows their lines, the first of which is one.
    pub(super) fn place(&mut self, first: u64) {
        for (nth, (line, _)) in self.rows.iter_mut().enumerate() {
            *line = first + if self.are_appended { nth as u64 } else { *line };
        }
    }

    /// The line of a row.
    pub(super) fn line(&self, row: usize) -> u64 {
        self.rows[row].0
    }

    /// The line of the last row.
    pub(super) fn last_line(&self) -> Option<u64> {
        self.rows.last().map(|(line, _)| *line)
    }

    /// The cells of a row, in the order of their columns, each with what follows its style.
    pub(super) fn cells(&self, row: usize) -> impl Iterator<Item = (CellEdit, &str)> {
        let begin = row.checked_sub(1).map_or(0, |before| self.rows[before].1 as usize);
        let cells = &self.cells[begin..self.rows[row].1 as usize];
        cells.iter().map(|cell| (*cell, &self.text[cell.begin as usize..cell.end as usize]))
    }
}

/// Makes cells to be written of blocks of rows.
#[derive(Debug, Clone)]
pub struct EditRenderer {
    pub(super) overlay: Overlay,
    pub(super) styles: Arc<Styles>,
    /// The column of the worksheet that each column of the table is.
    pub(super) own: Arc<[u32]>,
    /// The column of the worksheet that each added column is, and whether an earlier run added it.
    pub(super) added: Arc<[(u32, bool)]>,
    /// The lookup that each added column comes from.
    pub(super) lookups: Arc<[usize]>,
    pub(super) highlights: bool,
    /// How many days the workbook's epoch is later than the usual one.
    pub(super) later: f64,
}

impl EditRenderer {
    /// Writes a cell of a row.
    fn push(
        &self,
        (column, place, role): (usize, u32, Role),
        (text, kind): (&str, CellKind),
        ground: Option<Ground>,
        edits: &mut CellEdits,
    ) {
        let shown = Shown::of(text, kind);
        let look = self.styles.look(column, &shown, text);
        let begin = edits.text.len() as u32;
        push_content(text, &shown, self.later, &mut edits.text);
        edits.push((place, role), look, ground, begin);
        match shown {
            Shown::LongNumber => {
                edits.facts.long.0 += 1;
                edits.facts.long.1.get_or_insert(column);
            }
            Shown::Text if is_too_long(text) => {
                edits.facts.too_long.get_or_insert((edits.rows.len() as u64, column));
            }
            _ => {}
        }
        let Some(added) = column.checked_sub(self.own.len()) else { return };
        let widest = &mut edits.facts.widths[added];
        *widest = (*widest).max(width(text, &shown).min(WIDEST));
        let (numbers, texts, first) = &mut edits.facts.numbers[added];
        match shown {
            Shown::Blank => {}
            Shown::Text | Shown::LongNumber | Shown::Truth(_) => *texts += 1,
            _ => {
                *numbers += 1;
                first.get_or_insert(look);
            }
        }
    }
}

impl Renderer for EditRenderer {
    type Rendered = CellEdits;

    fn wants_outcomes(&self) -> bool {
        true
    }

    fn render(&self, main: &Block, rows: &[usize], added: &Block, rendered: &mut CellEdits) {
        self.render_with_outcomes(main, rows, added, &RowOutcomes::default(), rendered);
    }

    fn render_with_outcomes(
        &self,
        main: &Block,
        rows: &[usize],
        added: &Block,
        outcomes: &RowOutcomes,
        rendered: &mut CellEdits,
    ) {
        rendered.clear(self.added.len());
        rendered.are_appended = outcomes.are_appended();
        for (nth, &row) in rows.iter().enumerate() {
            for &column in self.overlay.columns() {
                let Some(place) = self.overlay.place(column) else { continue };
                let (now, kind) = (added.cell(nth, place), added.kind(nth, place));
                if !rendered.are_appended && now != main.cell(row, column) {
                    self.push_own(column, Role::Updated, (now, kind), rendered);
                }
            }
            for column in if rendered.are_appended { 0..main.columns() } else { 0..0 } {
                let (cell, kind) = match self.overlay.place(column) {
                    Some(place) => (added.cell(nth, place), added.kind(nth, place)),
                    None => (main.cell(row, column), main.kind(row, column)),
                };
                if !cell.is_empty() {
                    self.push_own(column, Role::Appended, (cell, kind), rendered);
                }
            }
            for column in 0..self.added.len() {
                self.push_added((nth, column), added, outcomes, rendered);
            }
            // Lines are counted from that of the first row until it is known.
            rendered.end_row(main.line(row) - main.line(0));
        }
    }
}

impl EditRenderer {
    /// Writes a cell of the table's own columns.
    fn push_own(&self, column: usize, role: Role, cell: (&str, CellKind), edits: &mut CellEdits) {
        let ground = if role == Role::Updated { Ground::Changed } else { Ground::Taken };
        let ground = Some(ground).filter(|_| self.highlights);
        self.push((column, self.own[column], role), cell, ground, edits);
    }

    /// Writes a cell of an added column.
    fn push_added(
        &self,
        (nth, next): (usize, usize),
        added: &Block,
        outcomes: &RowOutcomes,
        rendered: &mut CellEdits,
    ) {
        let overlaid = self.overlay.len();
        let (place, is_there) = self.added[next];
        let (text, kind) = (added.cell(nth, overlaid + next), added.kind(nth, overlaid + next));
        let lookup = self.lookups.get(next).copied().unwrap_or(usize::MAX);
        let outcome = (lookup < usize::MAX).then(|| outcomes.get(nth, lookup));
        let ground = outcome.map_or(Ground::Taken, Ground::of_outcome);
        let ground = Some(ground).filter(|ground| {
            self.highlights && (!text.is_empty() || ground.shows_blanks() || is_there)
        });
        let ground = match ground {
            Some(ground) if text.is_empty() && !ground.shows_blanks() => Some(Ground::Plain),
            ground => ground,
        };
        // Also a blank cell is said: nothing may be where it goes.
        let role = match (rendered.are_appended, is_there) {
            (true, _) => Role::Appended,
            (false, true) => Role::Refreshed,
            (false, false) => Role::Added,
        };
        self.push((self.own.len() + next, place, role), (text, kind), ground, rendered);
    }
}
