//! Rows with marks of what an enrichment changed in them, for tables that are written into.
//!
//! In goes the renderer of a sink; out comes one that gives it more added columns: for each column of the table that is
//! overlaid whether its cell is another now, and at the end whether the row is appended.

use gather_keys_core::table::{Block, OutputColumns, Overlay, Renderer, RowOutcomes};

/// The mark of a cell that is another, or of a row that is appended. Others are blank.
const MARK: &str = "1";

/// Renders rows with marks.
#[derive(Debug, Clone)]
pub struct MarkedRenderer<R> {
    inner: R,
    overlay: Overlay,
}

impl<R> MarkedRenderer<R> {
    /// Gives the rows to `inner`, whose columns have the marks.
    pub(crate) fn new(inner: R, overlay: &Overlay) -> Self {
        Self { inner, overlay: overlay.clone() }
    }
}

/// Columns followed by those of the marks.
pub(crate) fn with_marks(columns: &OutputColumns, overlaid: usize) -> OutputColumns {
    let marks = (0..=overlaid).map(|nth| format!("gather-keys, mark {nth}"));
    columns.clone().with(&marks.collect::<Vec<_>>())
}

impl<R: Renderer> Renderer for MarkedRenderer<R> {
    type Rendered = R::Rendered;

    fn wants_outcomes(&self) -> bool {
        true
    }

    fn render(&self, main: &Block, rows: &[usize], added: &Block, rendered: &mut R::Rendered) {
        self.render_with_outcomes(main, rows, added, &RowOutcomes::default(), rendered);
    }

    fn render_with_outcomes(
        &self,
        main: &Block,
        rows: &[usize],
        added: &Block,
        outcomes: &RowOutcomes,
        rendered: &mut R::Rendered,
    ) {
        let mark = |is: bool| if is { MARK } else { "" };
        let overlaid = self.overlay.columns();
        let mut marked = Block::new(added.columns() + overlaid.len() + 1);
        for (nth, &row) in rows.iter().enumerate() {
            for column in 0..added.columns() {
                marked.push_cell_of(added.cell(nth, column), added.kind(nth, column));
            }
            for (place, &column) in overlaid.iter().enumerate() {
                marked.push_cell(mark(added.cell(nth, place) != main.cell(row, column)));
            }
            marked.push_cell(mark(outcomes.are_appended()));
        }
        self.inner.render(main, rows, &marked, rendered);
    }
}
