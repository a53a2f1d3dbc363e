//! The pass where a reference does not fit into memory.
//!
//! Such a reference is kept in shares by the hash of its keys. The main table is read once: its blocks
//! are kept as they are, in lots, and of each lot the hashes of the keys that it asks for. Then every
//! share is worked off by itself: what is known of its keys is counted, and for each lot the rows that
//! it asks for are kept. In the end the lots go through the lookups as ever, in the order of the main
//! table and so many at once as fit into memory, each with a reference of just the rows it asks for.

use super::Enrichment;
use super::hands::Hands;
use super::lots::{Lots, told_of};
use super::pass::Way;
use crate::Error;
use crate::findings::RowsAsked;
use crate::lookup::{KeysTold, Lookup};
use crate::table::{Sink, Source};

/// What is known of a reference that is in shares.
pub(super) struct Shared {
    /// Which lookup asks it.
    pub(super) nth: usize,
    pub(super) keys: KeysTold,
    pub(super) asked: RowsAsked,
}

impl Enrichment {
    /// Which lookups have a reference that is in shares.
    pub(super) fn in_shares(&self) -> Vec<usize> {
        let all = self.lookups().enumerate();
        let shared = all.filter(|(_, lookup)| lookup.reference().is_in_shares());
        shared.map(|(nth, _)| nth).collect()
    }

    /// Sends the main table through the lookups in spans; gives how many rows it has, and what is known
    /// of each reference that is in shares.
    pub(super) fn run_in_spans<S, K>(
        &mut self,
        main: &mut S,
        way: Way<'_>,
        (renderer, hands): (&K::Renderer, &mut Hands<'_, '_, K>),
    ) -> Result<(u64, Vec<Shared>), S::Error>
    where
        S: Source<Error: From<Error> + Send> + Send,
        K: Sink<Error = S::Error> + Send,
    {
        let nths = self.in_shares();
        let taken: u64 = self.lookups().map(|lookup| lookup.reference().cost()).sum();
        let memory = self.memory.unwrap_or_default().saturating_sub(taken);
        let lookups: Vec<&Lookup> = nths.iter().map(|&nth| &self.stages.lookups[nth].0).collect();
        let mut lots = Lots::read(main, &lookups, way.wanted, way.threads, memory)?;
        let mut sharing = Vec::new();
        for (place, &nth) in nths.iter().enumerate() {
            let like = self.stages.lookups[nth].0.reference();
            let keys = lots.gather(place, like, self.sampled, way.threads)?;
            sharing.push(Shared { nth, keys, asked: RowsAsked::none(like.rows()) });
        }
        let mut likes = Vec::new();
        let mut next = 0;
        while next < lots.len() {
            let span = lots.span(next, memory);
            next = span.end;
            for (place, &nth) in nths.iter().enumerate() {
                let lookup = &mut self.stages.lookups[nth].0;
                let like = likes.get(place).unwrap_or_else(|| lookup.reference());
                let reference = lots.reference(place, span.clone(), like, way.threads)?;
                hands.tallies[nth].begin_span(&reference);
                let before = lookup.ask_in(reference);
                if likes.len() == place {
                    likes.push(before);
                }
            }
            let mut source = lots.spool.read(lots.blocks(&span), main.headers().clone());
            self.go_through(&mut source, way, renderer, hands)?;
            for Shared { nth, asked, .. } in &mut sharing {
                let reference = self.stages.lookups[*nth].0.reference();
                hands.tallies[*nth].end_span(reference, asked);
            }
        }
        for (like, Shared { nth, keys, asked }) in likes.into_iter().zip(&sharing) {
            let unused = asked.unused(like.rows()).take(self.sampled);
            let sampled = hands.tallies[*nth].sampled_places();
            let places = keys.positions().chain(unused).chain(sampled).collect();
            self.stages.lookups[*nth].0.ask_in(told_of(like, keys, places, way.threads)?);
        }
        Ok((lots.spool.rows(), sharing))
    }
}
