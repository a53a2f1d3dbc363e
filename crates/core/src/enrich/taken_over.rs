//! Main rows whose taken cells go out as they stand in the references.
//!
//! Where all that lookups do is to add taken cells, and the format can take those over, there is no need
//! to bring a row's cells together: of each answer it is noted where they stand. A row that is not answered
//! by one reference row, or whose cells have to be looked at, gets them as ever, in a block apart.

use super::Status;
use super::stage::{Space, Stages, is_crowded};
use super::taking::Given;
use crate::lookup::Answer;
use crate::table::{Beside, Block, Piece, Plainly, TakesOver};

/// What one lookup adds to the rows of a block.
#[derive(Debug, Default)]
pub(super) struct TakenOver {
    pieces: Vec<Piece>,
    /// What is added to the rows that have no piece.
    apart: Block,
}

impl Stages {
    /// Whether all that is added goes out in this way: the references were loaded so, and nothing else is
    /// done with rows.
    pub(super) fn are_written(&self, plainly: Plainly) -> bool {
        self.overlay.is_empty()
            && self.corrections.is_none()
            && self.lookups.iter().all(|(lookup, taking)| {
                let reference = lookup.reference();
                reference.plainly() == Some(plainly) && taking.only_adds(reference.taken().len())
            })
    }

    /// Answers every row of a block, as [`Stages::answer`] does.
    pub(super) fn answer_over<R>(&self, block: &Block, space: &mut Space<R>) {
        let Space { count, is_crowded: crowded, stages, out, corrected, asking, .. } = space;
        corrected.clear();
        asking.begin_block();
        for ((lookup, taking), stage) in self.lookups.iter().zip(&mut *stages) {
            stage.rows.begin(block, 0..block.rows(), &self.overlay);
            stage.written.clear();
            stage.changes.clear();
            let (rows, reference) = (&stage.rows, lookup.reference());
            let row = |nth: usize| rows.row(nth, block, &self.overlay);
            let own = Some((block, &rows.of[..]));
            lookup.answer_all((rows.of.len(), own), row, asking, &mut stage.answers);
            let joined = lookup.value().is_none().then_some(&stage.joined);
            let TakenOver { pieces, apart } = &mut stage.over;
            pieces.clear();
            apart.reset(taking.cells.len());
            pieces.extend(stage.answers.iter().enumerate().map(|(nth, &answer)| {
                let one = match answer {
                    Answer::Matched(holder) | Answer::Chosen { holder, .. } => Some(holder),
                    _ => None,
                };
                let at = asking.taken(nth);
                if one.is_none() && taking.leaves_blank(answer) {
                    return Piece::Blank;
                }
                one.and_then(|one| reference.piece(one, at)).unwrap_or_else(|| {
                    *crowded |= is_crowded(*count, apart.text_length());
                    if *crowded {
                        return Piece::Blank;
                    }
                    let given = Given { answer, one, at, named: &[], joined };
                    taking.add(lookup, row(nth), given, Status::of(answer, None), apart);
                    Piece::Apart
                })
            }));
            stage.count_written(&out.of, taking.updates.len());
        }
    }

    /// Renders a block whose rows were answered so.
    pub(super) fn render_over<R>(
        &self,
        block: &Block,
        (plainly, over): (Plainly, &dyn TakesOver<R>),
        space: &mut Space<R>,
    ) {
        let Space { stages, rendered, .. } = space;
        let most = self.lookups.iter().map(|(_, taking)| taking.cells.len()).max();
        let blank = plainly.blank(most.unwrap_or_default());
        let beside: Vec<Beside<'_>> = (self.lookups.iter().zip(&*stages))
            .map(|((lookup, taking), stage)| {
                let TakenOver { pieces, apart } = &stage.over;
                let (text, blank) = (lookup.reference().text(), (&blank[..], taking.cells.len()));
                Beside::new(text.as_bytes(), pieces, blank, apart)
            })
            .collect();
        over.render_beside(block, &beside, rendered);
    }
}
