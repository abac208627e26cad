//! What a handler goes on to write from each of its blocks on.

use super::*;
use crate::flow::called::procedures;
use crate::flow::graph::{Block, BlockId};

/// The cells that are written from each block of a handler on, also through procedures.
#[derive(Debug)]
pub struct WrittenFrom {
    /// Those that are written at all, in order.
    cells: Vec<CellId>,
    /// By block, a bit for each of those cells.
    bits: Vec<u64>,
}

impl WrittenFrom {
    /// Whether a cell is written from a block on.
    #[must_use]
    pub fn contains(&self, from: BlockId, cell: CellId) -> bool {
        let words = self.words();
        let known = self.cells.binary_search(&cell);
        known.is_ok_and(|at| self.bits[from.index() * words + at / 64] & (1 << (at % 64)) != 0)
    }

    fn words(&self) -> usize {
        self.cells.len().div_ceil(64)
    }

    /// Adds to a block what is written from another on; says whether that is more.
    fn add(&mut self, to: usize, from: usize) -> bool {
        let words = self.words();
        (0..words).fold(false, |grown, word| {
            let more = self.bits[from * words + word];
            let known = &mut self.bits[to * words + word];
            let before = *known;
            *known |= more;
            grown | (*known != before)
        })
    }
}

impl World<'_> {
    /// What a handler goes on to write from each of its blocks on.
    #[must_use]
    pub fn written_from(&self, handler: HandlerId) -> &WrittenFrom {
        self.written_from[handler.index()].get_or_init(|| self.find_written_from(handler))
    }

    /// A backward may-analysis; the blocks stand in reverse postorder, so that what has no loop is done in one pass.
    fn find_written_from(&self, handler: HandlerId) -> WrittenFrom {
        let (unit, _, graph) = self.parts(handler);
        let (script, _) = self.handler(handler);
        let by_block: Vec<FxHashSet<CellId>> =
            graph.blocks.iter().map(|block| self.written_in(script, unit, block)).collect();
        let mut cells: Vec<CellId> = by_block.iter().flatten().copied().collect();
        cells.sort_unstable();
        cells.dedup();
        let words = cells.len().div_ceil(64);
        let mut written = WrittenFrom { cells, bits: vec![0; words * graph.blocks.len()] };
        for (block, own) in by_block.iter().enumerate() {
            for cell in own {
                let at = written.cells.binary_search(cell).unwrap_or(0);
                written.bits[block * words + at / 64] |= 1 << (at % 64);
            }
        }
        loop {
            let mut grown = false;
            for at in (0..graph.blocks.len()).rev() {
                for next in graph.blocks[at].exit.successors() {
                    // Where the way leads back the pass has to be made again.
                    grown |= written.add(at, next.index()) && next.index() <= at;
                }
            }
            if !grown {
                return written;
            }
        }
    }

    pub(super) fn written_in(&self, script: ScriptId, unit: &ScriptUnit, block: &Block) -> FxHashSet<CellId> {
        let mut written = FxHashSet::default();
        for step in &block.steps {
            if let StepKind::Assign { place, .. } | StepKind::Clear { place, .. } = step.kind {
                written.extend(self.project.cell_of(unit, place));
            }
        }
        let called = procedures(unit, std::iter::once(block));
        called.into_iter().for_each(|id| written.extend(self.written_by(script, id)));
        written
    }
}
