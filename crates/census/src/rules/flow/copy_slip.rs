//! `flow/copy-slip`: two blocks alike but for a consistent change of names, where one name was not changed along.

use crate::finding::{Finding, Level, RuleName};
use crate::project::ScriptUnit;
use crate::registry::read::is_keyword;
use crate::rules::Facts;
use crate::rules::{Example, Rule};
use crate::script::ast::*;
use crate::script::lexer::{self, TokenKind};
use crate::source::Span;
use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};
use std::hash::BuildHasher;

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("flow/copy-slip"),
    level: Level::Note,
    means: "Two blocks are alike but for a consistent change of names, and one name was not changed along.",
    hurts: "A block was copied and changed for the other mast, but one line still moves the first.",
    bad: Example {
        registry: STATE,
        script: r#"script crews for mailboat

on bell {
    if port_oil > 5 {
        port_oil = port_oil - 5
        note "port {port_oil}"
    }
    if bow_oil > 5 {
        bow_oil = port_oil - 5
        note "bow {bow_oil}"
    }
}
"#,
    },
    good: Example {
        registry: STATE,
        script: r#"script crews for mailboat

on bell {
    if port_oil > 5 {
        port_oil = port_oil - 5
        note "port {port_oil}"
    }
    if bow_oil > 5 {
        bow_oil = bow_oil - 5
        note "bow {bow_oil}"
    }
}
"#,
    },
    check: Some(check),
};

const STATE: &str = r#"[variables.mailboat]
port_oil = { type = "int", scope = "instance", default = 50, min = 0, max = 100 }
bow_oil = { type = "int", scope = "instance", default = 50, min = 0, max = 100 }
"#;

/// How many words and signs a block must have to count as a copy.
const SHORTEST: usize = 10;
/// How many bytes a block may have; longer ones are no copies of one another.
const LONGEST: u32 = 4_000;
/// How many blocks of one shape are compared with one another.
const MOST_ALIKE: usize = 24;

/// A word or a sign, as it is written.
type Written<'a> = (TokenKind, &'a str, Span);

/// A block, or a statement with blocks, as its words and signs.
struct Piece<'a> {
    span: Span,
    tokens: &'a [Written<'a>],
    /// The shape of each.
    shapes: &'a [u64],
}

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let variables: FxHashSet<&str> = registry.var_ids().map(|id| &*registry.var(id).name).collect();
    facts.project.scripts.par_iter().flat_map_iter(|unit| check_script(facts, &variables, unit)).collect()
}

fn check_script(facts: &Facts<'_>, variables: &FxHashSet<&str>, unit: &ScriptUnit) -> Vec<Finding> {
    let all = words(&facts.project.sources.file(unit.file).text);
    let shaped: Vec<u64> = all.iter().map(|token| rustc_hash::FxBuildHasher.hash_one(shape(token))).collect();
    let prints = Prints::of(&shaped);
    let mut alike: FxHashMap<(u64, usize), Vec<Piece<'_>>> = FxHashMap::default();
    for span in spans(&unit.tree).into_iter().filter(|span| span.end - span.start <= LONGEST) {
        let begin = all.partition_point(|(.., at)| at.start < span.start);
        let tokens = &all[begin..][..all[begin..].partition_point(|(.., at)| at.end <= span.end)];
        if tokens.len() >= SHORTEST {
            let end = begin + tokens.len();
            let piece = Piece { span, tokens, shapes: &shaped[begin..end] };
            alike.entry((prints.print(begin, end), tokens.len())).or_default().push(piece);
        }
    }
    let mut findings: Vec<Finding> = Vec::new();
    for alike in alike.values() {
        let alike = &alike[..alike.len().min(MOST_ALIKE)];
        for (at, first) in alike.iter().enumerate() {
            findings.extend(alike[at + 1..].iter().filter_map(|later| slip(unit, variables, first, later)));
        }
    }
    findings.sort_by_key(|finding| finding.at);
    findings.dedup_by_key(|finding| finding.at);
    findings
}

/// Fingerprints of the shapes of all stretches of a script, by a polynomial over its words and signs (Karp and Rabin, 1987):
/// blocks stand in blocks, and no word should be looked at once for each.
struct Prints {
    upto: Vec<u64>,
    powers: Vec<u64>,
}

impl Prints {
    const BASE: u64 = 0x9e37_79b9_7f4a_7c15;

    fn of(shapes: &[u64]) -> Self {
        let (mut upto, mut powers) = (vec![0_u64], vec![1_u64]);
        for shape in shapes {
            upto.push(upto[upto.len() - 1].wrapping_mul(Self::BASE).wrapping_add(*shape));
            powers.push(powers[powers.len() - 1].wrapping_mul(Self::BASE));
        }
        Self { upto, powers }
    }

    fn print(&self, begin: usize, end: usize) -> u64 {
        self.upto[end].wrapping_sub(self.upto[begin].wrapping_mul(self.powers[end - begin]))
    }
}

/// The bodies, the blocks and the statements with blocks of a script.
fn spans(tree: &Script) -> Vec<Span> {
    let handlers = tree.handlers.iter().map(|handler| &handler.body);
    let mut spans = Vec::new();
    for body in handlers.chain(tree.procedures.iter().map(|procedure| &procedure.body)) {
        spans.push(body.span);
        walk(body, &mut |statement| {
            let inner = blocks(statement);
            if !inner.is_empty() {
                spans.push(statement.span);
            }
            spans.extend(inner.iter().map(|block| block.span));
        });
    }
    spans
}

/// The words and signs of a script; a text falls apart into its words, since its tokens hold names too.
fn words(text: &str) -> Vec<Written<'_>> {
    let mut found = Vec::new();
    for token in lexer::tokens(text, 0, text.len()) {
        match token.kind {
            TokenKind::Comment | TokenKind::Newline | TokenKind::End => {}
            TokenKind::Text => found.extend(names_in_text(text, token.span)),
            kind => found.push((kind, &text[token.span.range()], token.span)),
        }
    }
    found
}

/// The words between braces in a text.
fn names_in_text(text: &str, span: Span) -> Vec<Written<'_>> {
    let (mut found, mut at) = (vec![(TokenKind::Text, "", span)], span.start as usize);
    let end = span.end as usize;
    while let Some(open) = text[at..end].find('{').map(|open| at + open + 1) {
        let close = text[open..end].find('}').map_or(end, |close| open + close);
        let inside = lexer::tokens(text, open, close).into_iter().filter(|token| token.kind == TokenKind::Word);
        found.extend(inside.map(|token| (TokenKind::Word, &text[token.span.range()], token.span)));
        at = close;
    }
    found
}

/// What two copies must have in common: everything but their names and their plain text.
#[derive(PartialEq, Eq, Hash)]
enum Shape<'a> {
    Name,
    Text,
    Other(&'a str),
}

fn shape<'a>(token: &Written<'a>) -> Shape<'a> {
    match token.0 {
        TokenKind::Word if !is_keyword(token.1) => Shape::Name,
        TokenKind::Text => Shape::Text,
        _ => Shape::Other(token.1),
    }
}

/// The one name that was not changed along from the first block to the later one; `known` are the names that there are.
fn slip(unit: &ScriptUnit, known: &FxHashSet<&str>, first: &Piece<'_>, later: &Piece<'_>) -> Option<Finding> {
    if first.span.contains(later.span) || later.span.contains(first.span) {
        return None;
    }
    if first.shapes != later.shapes {
        return None;
    }
    let pairs = || {
        let pairs = first.tokens.iter().zip(later.tokens);
        pairs.filter(|(a, _)| a.0 == TokenKind::Word).map(|(a, b)| (a.1, b.1, b.2))
    };
    let times = pairs().filter(|(a, b, _)| a != b).count();
    if times < 2 {
        return None; // One name more or less is no copy.
    }
    let mut changed: FxHashMap<&str, &str> = FxHashMap::default();
    for (a, b, _) in pairs().filter(|(a, b, _)| a != b) {
        if *changed.entry(a).or_insert(b) != b {
            return None;
        }
    }
    let part = swapped(&changed);
    let wanted = |name: &str| match (changed.get(name), part) {
        (Some(other), _) => Some((*other).to_owned()),
        (None, Some((from, to))) if name.contains(from) => {
            Some(name.replacen(from, to, 1)).filter(|other| known.contains(other.as_str()))
        }
        _ => None,
    };
    let mut odd = pairs().filter(|(a, b, _)| a == b).filter_map(|(name, _, at)| Some((name, wanted(name)?, at)));
    let (name, wanted, at) = odd.next()?;
    if odd.next().is_some() {
        return None;
    }
    let message = format!(
        "this block is like an earlier one, with names changed in {times} places, but here `{name}` was left, where \
         `{wanted}` would go with them"
    );
    Some(
        Finding::new(RULE.name, unit.at(at), message)
            .help(format!("write `{wanted}`, if that is what is meant"))
            .with(unit.at(Span { start: first.span.start, end: first.span.start }), "the earlier block is here"),
    )
}

/// The part of their names that all changed ones have exchanged for another: `port` for `bow` in `port_oil` and `port_cap`.
fn swapped<'a>(changed: &FxHashMap<&'a str, &'a str>) -> Option<(&'a str, &'a str)> {
    let (&a, &b) = changed.iter().min()?;
    let same = |(a, b): &(char, char)| a == b;
    let before: usize = a.chars().zip(b.chars()).take_while(same).map(|(c, _)| c.len_utf8()).sum();
    let (from, to) = (&a[before..], &b[before..]);
    let behind: usize = from.chars().rev().zip(to.chars().rev()).take_while(same).map(|(c, _)| c.len_utf8()).sum();
    let (from, to) = (&from[..from.len() - behind], &to[..to.len() - behind]);
    let alike = |(a, b): (&&str, &&str)| a.replacen(from, to, 1) == **b;
    (!from.is_empty() && !to.is_empty() && changed.iter().all(alike)).then_some((from, to))
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    const STATE: &str = r#"[variables.tide]
left = { type = "int", scope = "global", default = 0, min = 0, max = 9, engine = "both" }
right = { type = "int", scope = "global", default = 0, min = 0, max = 9, engine = "both" }
step = { type = "int", scope = "global", default = 1, constant = true, engine = "reads" }
"#;

    #[test]
    fn a_name_left_behind_in_a_copy() {
        expect(
            STATE,
            &[r#"script gates for tide

on bell {
    if left < 9 {
        left = min(left + step, 9)
        note "{left} marks"
    }
    if right < 9 {
        right = min(right + step, 9)
        note "{left} marks" // ~ flow/copy-slip
    }
}
"#],
        );
    }

    #[test]
    fn whole_procedures_are_copied_too() {
        expect(
            STATE,
            &[r"script gates for tide

on bell {
    raise_left()
    raise_right()
}

proc raise_left() {
    left = min(left + step, 9)
    left = max(left, 1)
}

proc raise_right() {
    right = min(right + step, 9) // ~ unused/dead-write
    right = max(left, 1) // ~ flow/copy-slip
}
"],
        );
    }

    #[test]
    fn copies_that_were_changed_through_and_blocks_that_only_look_alike() {
        expect(
            STATE,
            &[r#"script gates for tide

on bell {
    if left < 9 {
        left = min(left + step, 9)
        note "{left} marks"
    }
    if right < 9 {
        right = min(right + step, 9)
        note "{right} marks"
    }
}

on touched(other) {
    if left > right {
        left = right
        note "{left} and {right}"
    }
    if right > step {
        right = step
        note "{right} and {step}"
    }
}
"#],
        );
    }

    #[test]
    fn a_name_that_goes_with_those_that_were_changed() {
        let registry = r#"[variables.tide]
port_oil = { type = "int", scope = "global", default = 0, engine = "both" }
port_cap = { type = "int", scope = "global", default = 9, engine = "both" }
port_lamp = { type = "bool", scope = "global", default = true, engine = "both" }
bow_oil = { type = "int", scope = "global", default = 0, engine = "both" }
bow_cap = { type = "int", scope = "global", default = 9, engine = "both" }
bow_lamp = { type = "bool", scope = "global", default = true, engine = "both" }
mast_oil = { type = "int", scope = "global", default = 0, engine = "both" }
"#;
        let copied = |head: &str, body: &str| {
            let first = "    if port_oil > port_cap {\n        port_oil = port_cap\n        port_lamp = false\n    }\n";
            let later = format!("    if {head} {{\n        {body}\n    }}\n");
            expect(registry, &[&format!("script lamps for tide\n\non bell {{\n{first}{later}}}\n")]);
        };
        copied("bow_oil > bow_cap", "bow_oil = bow_cap\n        bow_lamp = false");
        copied("bow_oil > bow_cap", "bow_oil = bow_cap\n        port_lamp = false // ~ flow/copy-slip");
        copied("bow_oil > bow_cap", "bow_oil = port_cap // ~ flow/copy-slip\n        bow_lamp = false");
        copied("mast_oil > port_cap", "mast_oil = port_cap\n        port_lamp = false"); // Only one of its kind.
    }
}
