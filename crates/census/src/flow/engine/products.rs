//! Products of a local and a place, or of what a procedure gives and a place: what is known of them goes along as one of
//! the two is given something else. Behind `trips += 1`, `trips * cost` is more by one `cost`; where `trips` is given 0 on
//! one way and `floor(oil / cost)` on the other, `trips * cost` is no more than `oil` on both.

use super::*;
use crate::flow::access::{MOST_PRODUCTS, Used};
use crate::flow::forms::Side;

/// A product that is kept track of.
#[derive(Clone, Copy, Debug)]
pub(super) struct Product {
    /// Its own slot.
    slot: Slot,
    /// What is multiplied.
    factors: [Slot; 2],
    /// Names that it hangs on, beside what a procedure gave.
    names: ExprId,
}

/// What becomes of the products of a slot that is given a value.
#[derive(Default)]
pub(super) struct MovedProducts {
    /// They are something else, with names that they hang on.
    kept: SmallVec<[(Slot, ExprId); 2]>,
    /// Nothing is known of them any more.
    gone: SmallVec<[Slot; 2]>,
}

impl Product {
    /// What a slot is multiplied with.
    fn beside(&self, slot: Slot) -> Option<Slot> {
        match self.factors {
            [a, b] if a == b => None,
            [a, b] if a == slot => Some(b),
            [a, b] if b == slot => Some(a),
            _ => None,
        }
    }
}

impl SlotTable {
    /// The products that are kept track of, once all slots are there: those among the terms, and those of what procedures give.
    pub(super) fn find_products(&mut self, unit: &ScriptUnit, used: &Used) {
        let mut products: Vec<Product> = Vec::new();
        if used.length == BodyLength::Long {
            return;
        }
        for places in &used.terms.terms {
            if let ExprKind::Binary(BinaryOp::Multiply, left, right) = unit.tree.expr(places[0]).kind
                && let (Some(left), Some(right)) = (self.slot_named(unit, left), self.slot_named(unit, right))
                && let Some(slot) = self.slot(Key::Term(places[0]))
            {
                products.push(Product { slot, factors: [left, right], names: places[0] });
            }
        }
        for &(call, price) in &used.products {
            if let (Some(given), Some(by)) = (self.slot(Key::Result(call)), self.slot_named(unit, price)) {
                let slot = self.add(Key::Product(call, price), Type::Number, None, None);
                products.push(Product { slot, factors: [given, by], names: price });
            }
        }
        products.truncate(MOST_PRODUCTS);
        self.products = products;
    }

    /// Whether a slot is that of such a product.
    pub(super) fn tracks(&self, slot: Slot) -> bool {
        self.factors(slot).is_some()
    }

    /// What is multiplied in a product that is kept track of, by its slot.
    pub(super) fn factors(&self, slot: Slot) -> Option<[Slot; 2]> {
        self.products.iter().find(|product| product.slot == slot).map(|product| product.factors)
    }

    fn slot_named(&self, unit: &ScriptUnit, name: ExprId) -> Option<Slot> {
        match unit.meaning(name) {
            Meaning::Value(place) => self.slot(Key::Place(place)),
            _ => None,
        }
    }
}

impl Run<'_, '_> {
    /// The products with a slot that is about to be given a value between these forms become what they are then. They are
    /// no terms until [`Self::keep_products`], for what they were is over.
    pub(super) fn move_products(
        &self,
        state: &mut State,
        slot: Slot,
        value: &Value,
        uppers: &[Linear],
        lowers: &[Linear],
    ) -> MovedProducts {
        let mut moved = MovedProducts::default();
        if self.table.products.is_empty() || self.foreign.is_some() {
            return moved;
        }
        for product in &self.table.products {
            let Some(other) = product.beside(slot) else { continue };
            let mut all = uppers.iter().chain(lowers);
            if all.any(|form| form.factor(product.slot) != 0.0) {
                // The slot is given what hangs on the product as it was: that has to stay until then.
                state.terms.retain(|(term, _)| *term != product.slot);
                moved.gone.push(product.slot);
                continue;
            }
            let (uppers, lowers) = self.moved_product(state, product, (slot, other), (uppers, lowers));
            state.terms.retain(|(term, _)| *term != product.slot);
            let (Value::Num(num), Some(by), true) = (value, state.num(other), !uppers.is_empty() || !lowers.is_empty())
            else {
                state.forget_all(&[product.slot], self.in_loop);
                continue;
            };
            let value = Value::Num(narrowed(state, num.mul(by), &Forms::of_sides(&uppers, &lowers)));
            state.relate(product.slot, &uppers, &lowers, value.ends());
            state.values[product.slot as usize] = Abstract::of(value);
            moved.kept.push((product.slot, product.names));
        }
        moved
    }

    /// The forms that a product lies between once a factor is given what lies between these.
    fn moved_product(
        &self,
        state: &State,
        product: &Product,
        (factor, other): (Slot, Slot),
        (uppers, lowers): (&[Linear], &[Linear]),
    ) -> (Side, Side) {
        let (given, by) = (Forms::of_sides(uppers, lowers), self.slot_forms(other));
        let forms = match self.known_products(state, &given, &by) {
            Forms::Exactly(form) => Forms::Exactly(form),
            _ => self.times(state, &given, &by),
        };
        let mut above = places_above(state, forms.uppers());
        self.affordable(state, &given, &by).iter().for_each(|sum| above.extend_from_slice(sum.uppers()));
        let (mut uppers, mut lowers): (Side, Side) = (forms.uppers().into(), forms.lowers().into());
        uppers.extend(above);
        let (down, up) = self.beside_what_it_was(state, product, (factor, other), &given);
        uppers.extend(down.filter(|form| !forms.uppers().contains(form)));
        lowers.extend(up.filter(|form| !forms.lowers().contains(form)));
        (uppers, lowers)
    }

    /// Where a factor is no more than it was, neither is its product with what is not below zero: what that is at most by this,
    /// and at least.
    fn beside_what_it_was(
        &self,
        state: &State,
        product: &Product,
        (factor, other): (Slot, Slot),
        given: &Forms,
    ) -> (Option<Linear>, Option<Linear>) {
        let is_known = state.terms.iter().any(|&(term, _)| term == product.slot);
        if !is_known || state.ends(other).0 < 0.0 {
            return (None, None);
        }
        let (own, ends) = (Linear::slot(factor), |slot| state.ends(slot));
        let goes = |sides: &[Linear], sign: f64| {
            sides.iter().any(|form| state.facts.implies(&form.plus(&own, -1.0).times(sign), &ends))
        };
        let was = |holds: bool| holds.then(|| Linear::slot(product.slot));
        (was(goes(given.uppers(), 1.0)), was(goes(given.lowers(), -1.0)))
    }

    /// What has been moved holds from here on.
    pub(super) fn keep_products(&self, state: &mut State, moved: MovedProducts) {
        moved.kept.into_iter().for_each(|product| self.add_term(state, product));
        state.forget_all(&moved.gone, self.in_loop);
    }

    /// What is known of a product whose other factor is a place: of `min(want, trips) * cost` that it is no more than
    /// `trips * cost`.
    pub(in crate::flow) fn known_products(&self, state: &State, count: &Forms, price: &Forms) -> Forms {
        let Forms::Exactly(form) = price else { return Forms::Unknown };
        let [(price, 1.0)] = form.terms[..] else { return Forms::Unknown };
        if form.constant != 0.0 || self.table.products.is_empty() || self.foreign.is_some() {
            return Forms::Unknown;
        }
        let times = |form: &Linear| self.multiplied(state, form, price);
        match count {
            Forms::Exactly(form) => times(form).map_or(Forms::Unknown, Forms::Exactly),
            Forms::Between(_) if state.ends(price).0 >= 0.0 => {
                let side = |forms: &[Linear]| forms.iter().filter_map(times).collect();
                Forms::between(side(count.uppers()), side(count.lowers()))
            }
            _ => Forms::Unknown,
        }
    }

    /// A form times a place, where each product in it is known.
    fn multiplied(&self, state: &State, form: &Linear, price: Slot) -> Option<Linear> {
        let mut all = Linear::slot(price).times(form.constant);
        for &(slot, factor) in form.terms.iter() {
            let known = self.known_product(state, slot, price);
            let by_number = || Some(Linear::slot(price).times(state.num(slot)?.single()?));
            all = all.plus(&known.or_else(by_number)?, factor);
        }
        all.is_known().then_some(all)
    }

    /// Whether a parameter that is named in terms holds the same as another place.
    fn is_passed_as(&self, state: &State, parameter: Slot, slot: Slot) -> bool {
        self.table.passed.contains(&parameter)
            && is_zero(state, &Linear::slot(parameter).plus(&Linear::slot(slot), -1.0))
    }

    fn known_product(&self, state: &State, slot: Slot, price: Slot) -> Option<Linear> {
        let is_it = |product: &&Product| {
            product.beside(price).is_some_and(|factor| factor == slot || self.is_passed_as(state, factor, slot))
        };
        let mut meant = self.table.products.iter().filter(is_it);
        let known = meant.find(|product| state.terms.iter().any(|&(term, _)| term == product.slot));
        known.map(|product| Linear::slot(product.slot))
    }
}

/// Whether a form is known to be zero.
pub(super) fn is_zero(state: &State, form: &Linear) -> bool {
    let implies = |form: &Linear| state.facts.implies(form, &|slot| state.ends(slot));
    form.is_known() && implies(form) && implies(&form.times(-1.0))
}

/// The places that a form is known to lie below: where ways meet, only what is said outright is held against the other.
fn places_above(state: &State, forms: &[Linear]) -> SmallVec<[Linear; 4]> {
    let ends = |slot| state.ends(slot);
    let mut places: SmallVec<[Linear; 4]> = SmallVec::new();
    for form in forms {
        let above = state.facts.places_above(form).into_iter();
        places.extend(above.filter(|place| place != form && state.facts.implies(&form.plus(place, -1.0), &ends)));
    }
    places
}
