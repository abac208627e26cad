//! Concrete values: what a variable holds in a run, and the arithmetic of the language on them.

use super::layout::InstanceAt;
use crate::registry::{self, Registry, Type};
use std::sync::Arc;

/// What a place holds.
#[derive(Clone, PartialEq, Debug)]
#[allow(missing_docs, reason = "the kinds are those of `Type`; an enum's value is its text")]
pub enum Value {
    Bool(bool),
    Int(i64),
    Number(f64),
    Text(Arc<str>),
    Ref(Option<InstanceAt>),
    Vec2([f64; 2]),
    Vec3([f64; 3]),
}

impl Value {
    /// What the read of an unset place gives.
    #[must_use]
    pub fn zero(ty: Type, registry: &Registry) -> Self {
        match ty {
            Type::Bool => Self::Bool(false),
            Type::Int => Self::Int(0),
            Type::Number => Self::Number(0.0),
            Type::Enum(of) => Self::Text(registry.var(of).values.first().cloned().unwrap_or_else(|| "".into())),
            Type::Text => Self::Text("".into()),
            Type::Ref(_) | Type::Unknown => Self::Ref(None),
            Type::Vec2 => Self::Vec2([0.0; 2]),
            Type::Vec3 => Self::Vec3([0.0; 3]),
        }
    }

    /// A constant of the registry, for a variable of that type. A `ref` is looked up by whoever knows the instances.
    #[must_use]
    pub fn constant(value: &registry::Value, ty: Type) -> Self {
        match value {
            registry::Value::Bool(value) => Self::Bool(*value),
            registry::Value::Text(text) => Self::Text(text.clone()),
            registry::Value::Ref(_) => Self::Ref(None),
            registry::Value::Vector(parts) => match parts[..] {
                [x, y] => Self::Vec2([x, y]),
                [x, y, z] => Self::Vec3([x, y, z]),
                _ => Self::Vec2([0.0; 2]),
            },
            registry::Value::Int(value) if ty == Type::Int => Self::Int(*value),
            number => Self::Number(number.as_number().unwrap_or(0.0)),
        }
    }

    /// As a number, if it is one.
    #[must_use]
    #[allow(clippy::cast_precision_loss, reason = "a whole number is wanted as a float")]
    #[inline]
    pub fn as_number(&self) -> Option<f64> {
        match self {
            Self::Int(value) => Some(*value as f64),
            Self::Number(value) => Some(*value),
            _ => None,
        }
    }

    /// As a condition; what is none counts as false.
    #[inline]
    #[must_use]
    pub fn is_true(&self) -> bool {
        matches!(self, Self::Bool(true))
    }

    /// The value as a place of that type keeps it.
    #[inline]
    #[must_use]
    pub fn fitted(self, ty: Type) -> Self {
        match (self, ty) {
            (value @ Self::Int(_), Type::Number) => Self::Number(value.as_number().unwrap_or(0.0)),
            (Self::Number(value), Type::Int) => Self::Int(whole(value.floor())),
            (value, _) => value,
        }
    }

    /// Whether two values are equal, as `==` asks.
    #[inline]
    #[must_use]
    pub fn equals(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Int(_), Self::Number(_)) | (Self::Number(_), Self::Int(_)) => self.as_number() == other.as_number(),
            _ => self == other,
        }
    }

    /// Their order, if they are numbers.
    #[inline]
    #[must_use]
    pub fn compare(&self, other: &Self) -> Option<std::cmp::Ordering> {
        match (self, other) {
            (Self::Int(a), Self::Int(b)) => Some(a.cmp(b)),
            _ => self.as_number()?.partial_cmp(&other.as_number()?),
        }
    }

    /// Adds, subtracts or multiplies: numbers, or vectors part by part.
    #[must_use]
    pub fn combine(&self, other: &Self, whole: fn(i64, i64) -> i64, float: fn(f64, f64) -> f64) -> Self {
        let float = |a, b| finite(float(a, b));
        match (self, other) {
            (Self::Int(a), Self::Int(b)) => Self::Int(whole(*a, *b)),
            (Self::Vec2([a, b]), Self::Vec2([x, y])) => Self::Vec2([float(*a, *x), float(*b, *y)]),
            (Self::Vec3([a, b, c]), Self::Vec3([x, y, z])) => Self::Vec3([float(*a, *x), float(*b, *y), float(*c, *z)]),
            (Self::Vec2([a, b]), by) => {
                by.as_number().map_or_else(|| self.clone(), |by| Self::Vec2([float(*a, by), float(*b, by)]))
            }
            (Self::Vec3([a, b, c]), by) => by
                .as_number()
                .map_or_else(|| self.clone(), |by| Self::Vec3([float(*a, by), float(*b, by), float(*c, by)])),
            (by, Self::Vec2(_) | Self::Vec3(_)) => other.combine(by, whole_left, |a, b| a * b),
            _ => Self::Number(float(self.as_number().unwrap_or(0.0), other.as_number().unwrap_or(0.0))),
        }
    }

    /// The quotient, a `number`; a vector part by part. The divisor is not zero.
    #[must_use]
    pub fn divided(&self, by: f64) -> Self {
        match self {
            Self::Vec2(parts) => Self::Vec2(parts.map(|part| finite(part / by))),
            Self::Vec3(parts) => Self::Vec3(parts.map(|part| finite(part / by))),
            _ => Self::Number(finite(self.as_number().unwrap_or(0.0) / by)),
        }
    }

    /// The rest of a division, with the divisor's sign. The divisor is not zero.
    #[must_use]
    pub fn remainder(&self, by: &Self) -> Self {
        match (self, by) {
            (Self::Int(a), Self::Int(b)) => {
                let rest = a.wrapping_rem(*b);
                Self::Int(if rest != 0 && (rest < 0) != (*b < 0) { rest + b } else { rest })
            }
            _ => {
                let (a, b) = (self.as_number().unwrap_or(0.0), by.as_number().unwrap_or(1.0));
                Self::Number(finite(crate::flow::value::remainder(a, b)))
            }
        }
    }

    /// The negative.
    #[must_use]
    pub fn negative(&self) -> Self {
        match self {
            Self::Int(value) => Self::Int(value.saturating_neg()),
            Self::Number(value) => Self::Number(-value),
            Self::Vec2(parts) => Self::Vec2(parts.map(|part| -part)),
            Self::Vec3(parts) => Self::Vec3(parts.map(|part| -part)),
            other => other.clone(),
        }
    }

    /// One number of a vector.
    #[must_use]
    pub fn axis(&self, axis: u8) -> Self {
        let parts: &[f64] = match self {
            Self::Vec2(parts) => parts,
            Self::Vec3(parts) => parts,
            _ => &[],
        };
        Self::Number(parts.get(usize::from(axis)).copied().unwrap_or(0.0))
    }

    /// The vector with one number changed.
    #[must_use]
    pub fn with_axis(mut self, axis: u8, value: f64) -> Self {
        let parts: &mut [f64] = match &mut self {
            Self::Vec2(parts) => parts,
            Self::Vec3(parts) => parts,
            _ => &mut [],
        };
        if let Some(part) = parts.get_mut(usize::from(axis)) {
            *part = value;
        }
        self
    }
}

fn whole_left(a: i64, _: i64) -> i64 {
    a
}

/// A `number` stops at the largest finite one; one that would be not-a-number is 0.
#[must_use]
pub fn finite(value: f64) -> f64 {
    if value.is_nan() { 0.0 } else { value.clamp(f64::MIN, f64::MAX) }
}

/// A whole number stops at the ends of 64 bits.
#[must_use]
#[allow(clippy::cast_possible_truncation, reason = "a cast from float saturates, which is what is meant")]
pub fn whole(value: f64) -> i64 {
    value as i64
}

/// A number as the player reads it: as many decimals as it has, or as many as are asked for.
#[must_use]
pub fn number_text(value: f64, decimals: Option<u8>) -> String {
    match decimals {
        // Adding zero turns a negative zero into a plain one.
        Some(decimals) => format!("{:.*}", usize::from(decimals), value + 0.0),
        None => format!("{}", value + 0.0),
    }
}
