//! The functions that the language brings along.

/// A built-in function.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
#[allow(missing_docs, reason = "each is named like its function")]
pub enum Builtin {
    Abs,
    Ceil,
    Clamp,
    Floor,
    Max,
    Min,
    Round,
    Random,
    Chance,
    Count,
    Length,
    Text,
    Number,
    Vec2,
    Vec3,
    TickLength,
    Shown,
}

const ALL: [(&str, Builtin, usize, usize); 16] = [
    ("abs", Builtin::Abs, 1, 1),
    ("ceil", Builtin::Ceil, 1, 1),
    ("clamp", Builtin::Clamp, 3, 3),
    ("floor", Builtin::Floor, 1, 1),
    ("max", Builtin::Max, 2, 16),
    ("min", Builtin::Min, 2, 16),
    ("round", Builtin::Round, 1, 1),
    ("random", Builtin::Random, 2, 2),
    ("chance", Builtin::Chance, 1, 1),
    ("count", Builtin::Count, 1, 1),
    ("length", Builtin::Length, 1, 1),
    ("text", Builtin::Text, 1, 1),
    ("number", Builtin::Number, 1, 1),
    ("vec2", Builtin::Vec2, 2, 2),
    ("vec3", Builtin::Vec3, 3, 3),
    ("tick_length", Builtin::TickLength, 0, 0),
];

impl Builtin {
    /// The function of a name.
    #[must_use]
    pub fn find(name: &str) -> Option<Self> {
        ALL.iter().find(|(word, ..)| *word == name).map(|(_, builtin, ..)| *builtin)
    }

    /// The name.
    #[must_use]
    pub fn name(self) -> &'static str {
        ALL.iter().find(|(_, builtin, ..)| *builtin == self).map_or("shown", |(word, ..)| *word)
    }

    /// The fewest and the most arguments it takes.
    #[must_use]
    pub fn arity(self) -> (usize, usize) {
        ALL.iter().find(|(_, builtin, ..)| *builtin == self).map_or((1, 1), |&(_, _, least, most)| (least, most))
    }

    /// All names.
    pub fn names() -> impl Iterator<Item = &'static str> {
        ALL.iter().map(|(word, ..)| *word)
    }
}
