//! The same programs in other words: what is found may not hang on how it is said.

use crate::generate::Program;
use census::finding::Level;
use census::project::Project;
use census::report;
use std::collections::BTreeSet;

/// The lines that one becomes, and those that stand at the end of the script for it.
type Reworded = (Vec<String>, Vec<String>);

/// A way to say the same otherwise.
pub struct Rewording {
    pub name: &'static str,
    /// What a line becomes; none where it stays as it is.
    reword: fn(&Line<'_>) -> Option<Reworded>,
    /// It needs names that a procedure has none of.
    moves: bool,
    /// What is only told of the line as it was.
    of_form: &'static [&'static str],
}

/// Mistakes that lie in how a line is written.
const OF_WORDS: [&str; 5] =
    ["type/plus-sign-assign", "type/mismatch", "range/hardcoded-limit", "flow/copy-slip", "unused/dead-write"];

pub const ALL: [Rewording; 12] = [
    Rewording { name: "values by lets", reword: value_by_let, moves: false, of_form: &["unused/local"] },
    Rewording { name: "tests by lets", reword: test_by_let, moves: false, of_form: &[] },
    Rewording { name: "not not", reword: not_not, moves: false, of_form: &[] },
    Rewording { name: "flags compared", reword: flag_compared, moves: false, of_form: &[] },
    Rewording { name: "steps from below zero", reword: step_by_minus, moves: false, of_form: &[] },
    Rewording { name: "steps spelled out", reword: step_spelled_out, moves: false, of_form: &[] },
    Rewording { name: "sides changed", reword: sides_changed, moves: false, of_form: &[] },
    Rewording { name: "opposites denied", reword: opposite_denied, moves: false, of_form: &[] },
    Rewording { name: "notes between", reword: notes_between, moves: false, of_form: &[] },
    Rewording { name: "writes by procedures", reword: write_by_procedure, moves: true, of_form: &[] },
    Rewording { name: "writes by answers", reword: write_by_answer, moves: true, of_form: &[] },
    Rewording { name: "tests by answers", reword: test_by_answer, moves: true, of_form: &["unused/dead-write"] },
];

/// A line of a script.
struct Line<'a> {
    at: usize,
    indent: &'a str,
    text: &'a str,
}

impl<'a> Line<'a> {
    fn new(at: usize, line: &'a str) -> Self {
        let text = line.trim_start();
        Self { at, indent: &line[..line.len() - text.len()], text }
    }

    /// The target, the sign and the value of an assignment.
    fn assignment(&self) -> Option<(&'a str, &'a str, &'a str)> {
        let (target, rest) = self.text.split_once(' ')?;
        let (sign, value) = rest.split_once(' ')?;
        let is_path = target.chars().all(|c| c.is_alphanumeric() || "_.".contains(c));
        (is_path && ["=", "+=", "-=", "*=", "/="].contains(&sign)).then_some((target, sign, value))
    }

    /// The condition of an `if` whose block stands below it.
    fn test(&self) -> Option<&'a str> {
        self.text.strip_prefix("if ")?.strip_suffix(" {")
    }

    /// The two sides of such a condition that is one comparison, and between them its sign, the one for the sides the other way round,
    /// and its opposite.
    fn comparison(&self) -> Option<(&'a str, [&'static str; 3], &'a str)> {
        const SIGNS: [[&str; 3]; 6] = [
            ["==", "==", "!="],
            ["!=", "!=", "=="],
            ["<=", ">=", ">"],
            [">=", "<=", "<"],
            ["<", ">", ">="],
            [">", "<", "<="],
        ];
        let test = self.test()?;
        let mut words = test.split([' ', '(', ')']);
        if words.any(|word| ["and", "or", "not", "is"].contains(&word)) {
            return None;
        }
        let signs = SIGNS.into_iter().find(|[sign, ..]| test.contains(&format!(" {sign} ")))?;
        let (left, right) = test.split_once(&format!(" {} ", signs[0]))?;
        let is_whole = |side: &str| side.matches('(').count() == side.matches(')').count();
        is_whole(left).then_some((left, signs, right))
    }

    fn lines<const N: usize>(&self, lines: [String; N]) -> Option<Reworded> {
        Some((lines.into_iter().map(|line| format!("{}{line}", self.indent)).collect(), Vec::new()))
    }

    /// The line by a call, and the procedure that it calls.
    fn called<const N: usize>(&self, call: String, procedure: [String; N]) -> Option<Reworded> {
        Some((vec![format!("{}{call}", self.indent)], procedure.to_vec()))
    }
}

fn value_by_let(line: &Line<'_>) -> Option<Reworded> {
    let ((target, sign, value), at) = (line.assignment()?, line.at);
    let plain = value != "none" && !value.starts_with('"');
    plain.then(|| line.lines([format!("let zz{at} = {value}"), format!("{target} {sign} zz{at}")]))?
}

fn test_by_let(line: &Line<'_>) -> Option<Reworded> {
    let (test, at) = (line.test()?, line.at);
    line.lines([format!("let zz{at} = {test}"), format!("if zz{at} {{")])
}

fn not_not(line: &Line<'_>) -> Option<Reworded> {
    line.lines([format!("if not (not ({})) {{", line.test()?)])
}

fn flag_compared(line: &Line<'_>) -> Option<Reworded> {
    let test = line.test()?;
    let (flag, value) = test.strip_prefix("not ").map_or((test, true), |flag| (flag, false));
    let is_path = flag.chars().all(|c| c.is_alphanumeric() || "_.".contains(c));
    is_path.then(|| line.lines([format!("if {flag} == {value} {{")]))?
}

fn step_by_minus(line: &Line<'_>) -> Option<Reworded> {
    let (target, sign, value) = line.assignment()?;
    let other = match sign {
        "+=" => "-=",
        "-=" => "+=",
        _ => return None,
    };
    line.lines([format!("{target} {other} -({value})")])
}

fn step_spelled_out(line: &Line<'_>) -> Option<Reworded> {
    let (target, sign, value) = line.assignment()?;
    let op = sign.strip_suffix('=').filter(|op| ["+", "-"].contains(op))?;
    line.lines([format!("{target} = {target} {op} ({value})")])
}

fn sides_changed(line: &Line<'_>) -> Option<Reworded> {
    let (left, [_, turned, _], right) = line.comparison()?;
    line.lines([format!("if {right} {turned} {left} {{")])
}

fn opposite_denied(line: &Line<'_>) -> Option<Reworded> {
    let (left, [.., opposite], right) = line.comparison()?;
    line.lines([format!("if not ({left} {opposite} {right}) {{")])
}

fn notes_between(line: &Line<'_>) -> Option<Reworded> {
    line.assignment()?;
    line.lines(["note \"before\"".to_owned(), line.text.to_owned(), "note \"behind\"".to_owned()])
}

fn write_by_procedure(line: &Line<'_>) -> Option<Reworded> {
    let ((target, sign, value), at) = (line.assignment()?, line.at);
    line.called(format!("zz{at}()"), [format!("proc zz{at}() {{"), format!("{target} {sign} {value}"), "}".to_owned()])
}

fn write_by_answer(line: &Line<'_>) -> Option<Reworded> {
    let ((target, sign, value), at) = (line.assignment()?, line.at);
    let lines = [format!("proc zz{at}() -> int {{"), format!("{target} {sign} {value}"), "return 1".into(), "}".into()];
    line.called(format!("note \"{{zz{at}()}}\""), lines)
}

fn test_by_answer(line: &Line<'_>) -> Option<Reworded> {
    let (test, at) = (line.test()?, line.at);
    // What an instance's kind was found to be is known where it was asked alone.
    let is_plain = !test.contains(" is ");
    let lines = [format!("proc zz{at}() -> bool {{"), format!("return {test}"), "}".to_owned()];
    is_plain.then(|| line.called(format!("if zz{at}() {{"), lines))?
}

/// The names that only their own body knows.
fn locals(script: &str) -> BTreeSet<&str> {
    let words: Vec<&str> =
        script.split(|c: char| !c.is_alphanumeric() && c != '_').filter(|word| !word.is_empty()).collect();
    let after = |word: &str| matches!(word, "let" | "for" | "as");
    let mut names: BTreeSet<&str> =
        words.windows(2).filter(|pair| after(pair[0])).map(|pair| pair[1]).chain(["was"]).collect();
    let heads = script.lines().filter(|line| line.starts_with("on ") || line.starts_with("proc "));
    for given in heads.filter_map(|line| line.split_once('(')?.1.split(')').next()) {
        names.extend(given.split(',').filter_map(|parameter| parameter.split(':').next()).map(str::trim));
    }
    names
}

/// A script in other words, and for each of its lines the number of the line that it comes from.
fn reworded(script: &str, by: &Rewording) -> (String, Vec<usize>) {
    let locals = locals(script);
    let names_local = |line: &str| {
        let texts_out: String = line.split('"').step_by(2).collect();
        let mut names = texts_out.split(|c: char| !c.is_alphanumeric() && !"_.".contains(c));
        line.contains('"') || names.any(|path| locals.contains(path.split('.').next().unwrap_or_default()))
    };
    let (mut lines, mut tail) = (Vec::new(), Vec::new());
    for (at, text) in (1..).zip(script.lines()) {
        let line = Line::new(at, text);
        let other = (by.reword)(&line).filter(|_| !by.moves || !names_local(text));
        let (here, behind) = other.unwrap_or_else(|| (vec![text.to_owned()], Vec::new()));
        lines.extend(here.into_iter().map(|line| (at, line)));
        tail.extend(behind.into_iter().map(|line| (at, line)));
    }
    lines.append(&mut tail);
    let (numbers, texts): (Vec<usize>, Vec<String>) = lines.into_iter().unzip();
    (texts.join("\n") + "\n", numbers)
}

/// What is told: the file, the line, and the rule; whether a test always or never comes out hangs on its words.
pub type Told = BTreeSet<(String, usize, &'static str)>;

fn told(project: &Project, line_of: impl Fn(&str, usize) -> usize) -> Option<Told> {
    let report = report::check(project);
    let mut all = Told::new();
    for told in report.findings.iter().filter(|told| told.level != Level::Note) {
        let rule = told.finding.rule.0;
        if rule == "registry/unknown-name" {
            return None; // A name that was known by a test around it, or a slip of the generator.
        }
        let file = project.sources.file(told.finding.at.file);
        let line = line_of(&file.path, file.position(told.finding.at.span.start).line as usize);
        if !OF_WORDS.contains(&rule) {
            let rule = if rule == "range/never" { "range/always" } else { rule };
            all.insert((file.path.to_string(), line, rule));
        }
    }
    Some(all)
}

/// What is told of a program as it stands.
pub fn plainly(program: &Program) -> Option<Told> {
    told(&crate::build(program), |_, line| line)
}

/// What is told of a program in one of the two forms only, but for names that mean nothing in other words.
pub fn compare(program: &Program, before: &Told, by: &Rewording) -> Option<Vec<String>> {
    let (scripts, numbers): (Vec<String>, Vec<Vec<usize>>) =
        program.scripts.iter().map(|script| reworded(script, by)).unzip();
    let line_of = |path: &str, line: usize| {
        let script = path.strip_prefix("scripts/").and_then(|name| name.strip_suffix(".oaken")?.parse::<usize>().ok());
        let numbers = script.and_then(|at| numbers.get(at));
        numbers.map_or(line, |numbers| numbers[line.clamp(1, numbers.len()) - 1])
    };
    let after = told(&crate::build(&Program { scripts, ..program.clone() }), line_of)?;
    let only = |sign: char, a: &Told, b: &Told| -> Vec<String> {
        let counts = a.difference(b).filter(|(.., rule)| !by.of_form.contains(rule));
        counts.map(|(file, line, rule)| format!("{sign} {file}:{line} {rule}")).collect()
    };
    Some([only('-', before, &after), only('+', &after, before)].concat())
}
