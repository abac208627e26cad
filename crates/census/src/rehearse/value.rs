//! Concrete values: what a variable holds in a run, and the arithmetic of the language on them.

use super::layout::InstanceAt;
use crate::registry::{self, Registry, Type};
use crate::script::ast::BinaryOp;
use std::cmp::Ordering;
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
        match self.scalar() {
            Some(scalar) => scalar.fitted(ty).into(),
            None => self,
        }
    }

    /// As a number or a flag, if it is one.
    #[inline]
    #[must_use]
    pub fn scalar(&self) -> Option<Scalar> {
        match self {
            Self::Bool(value) => Some((*value).into()),
            Self::Int(value) => Some((*value).into()),
            Self::Number(value) => Some((*value).into()),
            _ => None,
        }
    }

    /// Whether two values are equal, as `==` asks.
    #[inline]
    #[must_use]
    pub fn equals(&self, other: &Self) -> bool {
        match (self.scalar(), other.scalar()) {
            (Some(a), Some(b)) => a.equals(b),
            _ => self == other,
        }
    }

    /// Their order, if they are numbers.
    #[inline]
    #[must_use]
    pub fn compare(&self, other: &Self) -> Option<Ordering> {
        self.scalar()?.compare(other.scalar()?)
    }

    /// The sum, the difference or the product: of numbers, or of vectors part by part.
    #[must_use]
    pub fn combine(&self, op: BinaryOp, other: &Self) -> Self {
        let float = |a: f64, b: f64| finite(arithmetic(op, a, b));
        match (self, other) {
            (Self::Vec2([a, b]), Self::Vec2([x, y])) => Self::Vec2([float(*a, *x), float(*b, *y)]),
            (Self::Vec3([a, b, c]), Self::Vec3([x, y, z])) => Self::Vec3([float(*a, *x), float(*b, *y), float(*c, *z)]),
            (Self::Vec2([a, b]), by) => {
                by.as_number().map_or_else(|| self.clone(), |by| Self::Vec2([float(*a, by), float(*b, by)]))
            }
            (Self::Vec3([a, b, c]), by) => by
                .as_number()
                .map_or_else(|| self.clone(), |by| Self::Vec3([float(*a, by), float(*b, by), float(*c, by)])),
            (by, Self::Vec2(_) | Self::Vec3(_)) => other.combine(BinaryOp::Multiply, by),
            _ => match (self.scalar(), other.scalar()) {
                (Some(a), Some(b)) => a.operate(op, b).map_or(Self::Number(0.0), Self::from),
                _ => Self::Number(float(self.as_number().unwrap_or(0.0), other.as_number().unwrap_or(0.0))),
            },
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

/// A number or a flag: what most of a script is about. Its kind stands apart from its bits, so that it is handed around
/// in two registers.
#[derive(Clone, Copy, Debug)]
pub struct Scalar {
    kind: Kind,
    bits: u64,
}

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Kind {
    Bool,
    Int,
    Number,
}

impl From<bool> for Scalar {
    #[inline]
    fn from(value: bool) -> Self {
        Self { kind: Kind::Bool, bits: u64::from(value) }
    }
}

impl From<i64> for Scalar {
    #[inline]
    fn from(value: i64) -> Self {
        Self { kind: Kind::Int, bits: value.cast_unsigned() }
    }
}

impl From<f64> for Scalar {
    #[inline]
    fn from(value: f64) -> Self {
        Self { kind: Kind::Number, bits: value.to_bits() }
    }
}

impl From<Scalar> for Value {
    #[inline]
    fn from(scalar: Scalar) -> Self {
        match scalar.kind {
            Kind::Bool => Self::Bool(scalar.is_true()),
            Kind::Int => Self::Int(scalar.whole()),
            Kind::Number => Self::Number(scalar.float()),
        }
    }
}

impl Scalar {
    /// Whether it is a flag that is up.
    #[inline]
    #[must_use]
    pub fn is_true(self) -> bool {
        self.kind == Kind::Bool && self.bits != 0
    }

    /// Whether it is a flag that is down.
    #[inline]
    #[must_use]
    pub fn is_false(self) -> bool {
        self.kind == Kind::Bool && self.bits == 0
    }

    /// What an `int` holds.
    #[inline]
    fn whole(self) -> i64 {
        self.bits.cast_signed()
    }

    /// What a `number` holds.
    #[inline]
    fn float(self) -> f64 {
        f64::from_bits(self.bits)
    }

    /// As a number, if it is one.
    #[must_use]
    #[allow(clippy::cast_precision_loss, reason = "a whole number is wanted as a float")]
    #[inline]
    pub fn as_number(self) -> Option<f64> {
        match self.kind {
            Kind::Int => Some(self.whole() as f64),
            Kind::Number => Some(self.float()),
            Kind::Bool => None,
        }
    }

    /// The value as a place of that type keeps it.
    #[inline]
    #[must_use]
    pub fn fitted(self, ty: Type) -> Self {
        match (self.kind, ty) {
            (Kind::Int, Type::Number) => self.as_number().map_or(self, Self::from),
            (Kind::Number, Type::Int) => whole(self.float().floor()).into(),
            _ => self,
        }
    }

    /// Whether both are of one kind, and of which.
    #[inline]
    fn both(self, other: Self, kind: Kind) -> bool {
        self.kind == kind && other.kind == kind
    }

    /// Whether two are equal, as `==` asks.
    #[inline]
    #[must_use]
    pub fn equals(self, other: Self) -> bool {
        if self.kind == other.kind && self.kind != Kind::Number {
            return self.bits == other.bits;
        }
        matches!((self.as_number(), other.as_number()), (Some(a), Some(b)) if a == b)
    }

    /// Their order, if they are numbers.
    #[inline]
    #[must_use]
    pub fn compare(self, other: Self) -> Option<Ordering> {
        if self.both(other, Kind::Int) {
            return Some(self.whole().cmp(&other.whole()));
        }
        self.as_number()?.partial_cmp(&other.as_number()?)
    }

    /// The result of an operation; none where there is no such result, or a divisor is zero.
    #[inline]
    #[must_use]
    pub fn operate(self, op: BinaryOp, other: Self) -> Option<Self> {
        let ordered = |wanted: fn(Ordering) -> bool| Some(self.compare(other).is_some_and(wanted).into());
        match op {
            BinaryOp::Equal => Some(self.equals(other).into()),
            BinaryOp::NotEqual => Some((!self.equals(other)).into()),
            BinaryOp::Less => ordered(Ordering::is_lt),
            BinaryOp::LessEqual => ordered(Ordering::is_le),
            BinaryOp::Greater => ordered(Ordering::is_gt),
            BinaryOp::GreaterEqual => ordered(Ordering::is_ge),
            BinaryOp::Add | BinaryOp::Subtract | BinaryOp::Multiply => {
                if self.both(other, Kind::Int) {
                    return Some(whole_arithmetic(op, self.whole(), other.whole()).into());
                }
                Some(finite(arithmetic(op, self.as_number()?, other.as_number()?)).into())
            }
            BinaryOp::Divide | BinaryOp::Remainder if other.as_number() == Some(0.0) => None,
            BinaryOp::Divide => Some(finite(self.as_number()? / other.as_number()?).into()),
            BinaryOp::Remainder => self.remainder(other),
            BinaryOp::And | BinaryOp::Or | BinaryOp::Implies if !self.both(other, Kind::Bool) => None,
            BinaryOp::And => Some((self.is_true() && other.is_true()).into()),
            BinaryOp::Or => Some((self.is_true() || other.is_true()).into()),
            BinaryOp::Implies => Some((self.is_false() || other.is_true()).into()),
        }
    }

    /// The rest of a division, with the divisor's sign. The divisor is not zero.
    fn remainder(self, by: Self) -> Option<Self> {
        if self.both(by, Kind::Int) {
            let (a, b) = (self.whole(), by.whole());
            let rest = a.wrapping_rem(b);
            return Some((if rest != 0 && (rest < 0) != (b < 0) { rest + b } else { rest }).into());
        }
        Some(finite(crate::flow::value::remainder(self.as_number()?, by.as_number()?)).into())
    }

    /// Itself, as the one that a choice between it and another gives: whole only if both are.
    #[inline]
    #[must_use]
    pub fn beside(self, other: Self) -> Self {
        if self.kind == Kind::Bool || self.both(other, Kind::Int) {
            return self;
        }
        self.as_number().map_or(self, Self::from)
    }

    /// The negative of a number, the opposite of a flag.
    #[inline]
    #[must_use]
    pub fn opposite(self) -> Self {
        match self.kind {
            Kind::Bool => self.is_false().into(),
            Kind::Int => self.whole().saturating_neg().into(),
            Kind::Number => (-self.float()).into(),
        }
    }
}

/// A sum, a difference or a product of whole numbers, which stops at the ends of 64 bits.
fn whole_arithmetic(op: BinaryOp, a: i64, b: i64) -> i64 {
    match op {
        BinaryOp::Add => a.saturating_add(b),
        BinaryOp::Subtract => a.saturating_sub(b),
        _ => a.saturating_mul(b),
    }
}

fn arithmetic(op: BinaryOp, a: f64, b: f64) -> f64 {
    match op {
        BinaryOp::Add => a + b,
        BinaryOp::Subtract => a - b,
        _ => a * b,
    }
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
