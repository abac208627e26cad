//! How far a variable stays from a bound that is a variable too: `parcels` counts up to `hold_size` and is put back as it comes
//! there, so that wherever others can look it is below. What it can hold does not tell that, where one boat's hold is larger than
//! another's, or grows.

use super::*;
use crate::registry::{End, Overflow};

/// How often a margin may shrink before it is taken to shrink as far as it can.
const MOST_CHANGES: u32 = 3;

/// The most that was seen of `variable - max`, or of `min - variable`.
#[derive(Clone, Copy, Debug)]
pub(super) struct Margin {
    most: f64,
    /// It is a whole number.
    whole: bool,
    changes: u32,
}

/// What is known of such bounds.
#[derive(Debug, Default)]
pub(super) struct Margins {
    /// By variable and end.
    known: FxHashMap<(CellId, End), Margin>,
    /// By bound: the variables that it is for.
    beside: FxHashMap<VarId, SmallVec<[(CellId, End); 2]>>,
}

impl<'p> World<'p> {
    pub(super) fn find_margins(&self) -> Margins {
        let registry = &self.project.registry;
        let mut margins = Margins::default();
        for (id, end) in registry.var_ids().flat_map(|id| [End::Min, End::Max].map(|end| (id, end))) {
            let Some(Bound::Variable(bound)) = registry.var(id).bound(end) else { continue };
            if let Some(margin) = self.margin_at_start(id, *bound, end) {
                margins.known.insert((CellId(id.0), end), margin);
                margins.beside.entry(*bound).or_default().push((CellId(id.0), end));
            }
        }
        margins
    }

    /// How near a variable begins to its bound, where that is not the same for good, and both begin and go together.
    fn margin_at_start(&self, id: VarId, bound: VarId, end: End) -> Option<Margin> {
        let registry = &self.project.registry;
        let variable = registry.var(id);
        let cells = [CellId(id.0), CellId(bound.0)];
        let is_scripts_own = |cell: &CellId| {
            let variable = registry.var(VarId(cell.0));
            let is_told = !self.given_unread[cell.index()] && !self.unsettled[cell.index()];
            is_told && !variable.engine_writes && variable.lifetime == Lifetime::Run
        };
        let together = self.home(cells[0]) == self.home(cells[1]);
        // One that is cut as its own bound moves comes nearer without a write.
        let moves = self.fixed(cells[1]).is_none() && !self.follows_a_bound(cells[1]);
        if !together || !moves || variable.overflow != Overflow::Error || !cells.iter().all(is_scripts_own) {
            return None;
        }
        let starts = registry.instances_of(variable.owner);
        let starts = starts.map(|instance| (registry.start_of(id, instance), registry.start_of(bound, instance)));
        let default = (variable.default.as_ref(), registry.var(bound).default.as_ref());
        let mut margin = Margin {
            most: f64::NEG_INFINITY,
            whole: variable.ty == Type::Int && registry.var(bound).ty == Type::Int,
            changes: 0,
        };
        for (own, bound) in starts.chain([default]) {
            let beyond = own?.as_number()? - bound?.as_number()?;
            margin.most = margin.most.max(if end == End::Max { beyond } else { -beyond });
        }
        Some(Margin { most: margin.most.min(0.0), ..margin })
    }

    /// The most that `variable - max`, or `min - variable`, is as a handler begins; 0 where no more is known.
    #[must_use]
    pub fn margin(&self, cell: CellId, end: End) -> f64 {
        self.margins.known.get(&(cell, end)).map_or(0.0, |margin| margin.most)
    }

    /// Whether more may be known of how far a cell stays from its bound than that it is not beyond.
    #[must_use]
    pub fn has_margin(&self, cell: CellId, end: End) -> bool {
        self.margins.known.contains_key(&(cell, end))
    }

    /// The cells that a variable bounds and that may stay away from it, each with the end that it is.
    pub(in crate::flow) fn margins_beside(&self, bound: VarId) -> impl Iterator<Item = (CellId, End)> + use<'_, 'p> {
        self.margins.beside.get(&bound).into_iter().flatten().copied()
    }

    /// The most that a cell which lies between these ends can be beyond its bound, of whichever instance that is.
    pub(in crate::flow) fn beyond_any_bound(&self, cell: CellId, end: End, (lo, hi): (f64, f64)) -> f64 {
        let Some(variable) = self.project.variable_of(cell) else { return 0.0 };
        let Some(Bound::Variable(bound)) = self.project.registry.var(variable).bound(end) else { return 0.0 };
        match &self.reach[CellId(bound.0).index()] {
            Value::Num(bound) if end == End::Max => hi - bound.lo,
            Value::Num(bound) => bound.hi - lo,
            _ => 0.0,
        }
    }

    /// What is told of how far a cell stays from its bounds.
    pub(super) fn told_of_margins(&self, cell: CellId) -> Option<[u64; 2]> {
        (!self.margins.known.is_empty()).then(|| [End::Min, End::Max].map(|end| self.margin(cell, end).to_bits()))
    }

    /// Takes in how near a handler has left a cell to its bound; says whether that is nearer.
    pub(super) fn take_margin(&mut self, key: (CellId, End), seen: f64) -> bool {
        let Some(margin) = self.margins.known.get_mut(&key).filter(|margin| seen > margin.most) else { return false };
        margin.changes += 1;
        margin.most = match margin.changes > MOST_CHANGES {
            // One short of the bound is where what is put back as it comes there stays.
            true if margin.whole && seen <= -1.0 && margin.most < -1.0 => -1.0,
            true => 0.0,
            false => seen.min(0.0),
        };
        true
    }
}
