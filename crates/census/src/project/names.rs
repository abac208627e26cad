//! What the registry's names offer to a script, and what to say of a name that means nothing.

use crate::registry::{Bound, End, Named, OwnerId, OwnerKind, Registry, Scope, VarId};
use rustc_hash::FxHashMap;

/// The registry as resolving sees it.
pub struct NameTable<'a> {
    /// The entries.
    pub registry: &'a Registry,
    /// For each variable, those that it bounds.
    bounded: FxHashMap<VarId, Vec<VarId>>,
}

impl<'a> NameTable<'a> {
    /// A table over a registry.
    #[must_use]
    pub fn new(registry: &'a Registry) -> Self {
        let mut bounded: FxHashMap<VarId, Vec<VarId>> = FxHashMap::default();
        for id in registry.var_ids() {
            for end in [End::Min, End::Max] {
                if let Some(Bound::Variable(bound)) = registry.var(id).bound(end) {
                    bounded.entry(*bound).or_default().push(id);
                }
            }
        }
        Self { registry, bounded }
    }

    /// The variables that one bounds.
    #[must_use]
    pub fn bounded_by(&self, variable: VarId) -> &[VarId] {
        self.bounded.get(&variable).map_or(&[], Vec::as_slice)
    }

    /// The variables of all systems with a short name.
    pub fn globals(&self, name: &str) -> Vec<VarId> {
        let all = self.registry.by_short_name.get(name).map_or(&[][..], Vec::as_slice);
        all.iter()
            .copied()
            .filter(|&id| self.registry.owner(self.registry.var(id).owner).kind == OwnerKind::System)
            .collect()
    }

    /// The variables of all actors with a short name.
    pub fn of_actors(&self, name: &str) -> Vec<VarId> {
        let all = self.registry.by_short_name.get(name).map_or(&[][..], Vec::as_slice);
        all.iter().copied().filter(|&id| self.registry.is_actor(self.registry.var(id).owner)).collect()
    }

    /// Where else a variable of that name is: "`points` belongs to `ferry`, not to `gull`: write `ferry.points`".
    #[must_use]
    pub fn belongs_elsewhere(&self, name: &str, owner: Option<OwnerId>) -> Option<String> {
        let all = self.registry.by_short_name.get(name)?;
        let owners: Vec<&str> = all.iter().map(|&id| &*self.registry.owner(self.registry.var(id).owner).name).collect();
        let not = owner.map_or(String::new(), |id| format!(", not to `{}`", self.registry.owner(id).name));
        let first = all.first()?;
        let home = self.registry.owner(self.registry.var(*first).owner);
        let many = home.kind == OwnerKind::Actor { many: true } && self.registry.var(*first).scope == Scope::Instance;
        let cure = match (many, owners.len()) {
            (true, 1) => format!("take it from a `{}`: an instance's name, a parameter, or a `for`", home.name),
            (false, 1) => format!("write `{}.{name}`", home.name),
            _ => format!("write the owner's name before it, as in `{}.{name}`", home.name),
        };
        let belongs = if owners.len() == 1 { "belongs" } else { "is the name of a variable that belongs" };
        Some(format!("`{name}` {belongs} to {}{not}: {cure}", crate::words::both(&owners)))
    }

    /// The names that a script of that owner and in that scene can write bare, beside its own.
    #[must_use]
    pub fn bare_names(&self, owner: Option<OwnerId>, scene: Option<OwnerId>) -> Vec<&'a str> {
        let mut names: Vec<&str> = Vec::new();
        for owner in [owner, scene].into_iter().flatten() {
            names.extend(self.registry.owner(owner).variables.iter().map(|&id| &*self.registry.var(id).name));
        }
        for at in &self.registry.owners {
            if at.kind == OwnerKind::System {
                names.extend(at.variables.iter().map(|&id| &*self.registry.var(id).name));
            }
        }
        names.extend(
            self.registry.names.iter().filter(|(_, n)| !matches!(n, Named::Signal(_))).map(|(name, _)| &**name),
        );
        names
    }
}
