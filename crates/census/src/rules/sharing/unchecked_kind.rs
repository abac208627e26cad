//! `sharing/unchecked-kind`: a variable of one actor is taken from a name that may be any actor.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/unchecked-kind"),
    level: Level::Error,
    means: "A variable of one actor is taken from a name that may be any actor.",
    hurts: "The day something else touches it, the script reads a variable that is not there.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script pier for harbor

on touched(other) {
    other.parcels = 0
}
",
    },
    good: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: "script pier for harbor

on touched(other) {
    if other is mailboat {
        other.parcels = 0
    }
}
",
    },
    check: None,
};

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn a_test_tells_the_kind_wherever_it_holds() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
writers = ["*"]
min = 0
max = "mailboat.hold_size"
engine = "reads"

[variables.mailboat.hold_size]
type = "int"
scope = "instance"
default = 20
constant = true

[variables.mailboat.oil]
type = "number"
scope = "instance"
default = 50
min = 0
max = 100
engine = "reads"
"#,
            &[r#"script pier for harbor

on touched(other) {
    other.parcels = 0 // ~ sharing/unchecked-kind
}

on bumped(other) {
    if other is not mailboat {
        return
    }
    other.parcels = 0
}

on bell {
    for boat in mailboat {
        boat.parcels = 0
    }
    note "{dawn_boat.oil:1}"
}
"#],
        );
    }
}
