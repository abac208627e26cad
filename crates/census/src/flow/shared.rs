//! Lists that copies share.

use std::sync::Arc;

/// A list that copies share until one of them changes it. An empty one costs nothing.
#[derive(Clone, Debug)]
pub struct Shared<T>(Option<Arc<Vec<T>>>);

impl<T> Default for Shared<T> {
    fn default() -> Self {
        Self(None)
    }
}

impl<T: PartialEq> PartialEq for Shared<T> {
    fn eq(&self, other: &Self) -> bool {
        match (&self.0, &other.0) {
            (Some(mine), Some(theirs)) => Arc::ptr_eq(mine, theirs) || mine == theirs,
            (None, None) => true,
            _ => false,
        }
    }
}

impl<T> std::ops::Deref for Shared<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        self.0.as_ref().map_or(&[], |list| list)
    }
}

impl<'a, T> IntoIterator for &'a Shared<T> {
    type Item = &'a T;
    type IntoIter = std::slice::Iter<'a, T>;

    fn into_iter(self) -> Self::IntoIter {
        self.iter()
    }
}

impl<T: Clone> Shared<T> {
    /// The list, to be changed.
    pub fn to_mut(&mut self) -> &mut Vec<T> {
        Arc::make_mut(self.0.get_or_insert_default())
    }

    /// Adds one.
    pub fn push(&mut self, item: T) {
        self.to_mut().push(item);
    }

    /// Adds one that is not there yet.
    pub fn push_new(&mut self, item: T)
    where
        T: PartialEq,
    {
        if !self.contains(&item) {
            self.push(item);
        }
    }

    /// Leaves out those that are not to be kept.
    pub fn retain(&mut self, mut keep: impl FnMut(&T) -> bool) {
        let Some(first) = self.iter().position(|item| !keep(item)) else { return };
        let list = self.to_mut();
        let mut at = 0;
        list.retain(|item| {
            at += 1;
            at <= first || at > first + 1 && keep(item)
        });
        if list.is_empty() {
            self.0 = None;
        }
    }

    /// The list itself; what is left behind is empty.
    #[must_use]
    pub fn take(&mut self) -> Vec<T> {
        self.0.take().map_or_else(Vec::new, Arc::unwrap_or_clone)
    }
}

impl<T> From<Vec<T>> for Shared<T> {
    fn from(list: Vec<T>) -> Self {
        Self((!list.is_empty()).then(|| Arc::new(list)))
    }
}
