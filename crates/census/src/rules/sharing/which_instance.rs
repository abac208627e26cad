//! `sharing/which-instance`: a variable of which every instance has its own is named through the actor.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("sharing/which-instance"),
    level: Level::Error,
    means: "A variable of which every instance has its own is named through the actor.",
    hurts: "There are many, and the name does not say which one is meant.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"
"#,
        script: r#"script pier for harbor

on enter {
    note "{mailboat.parcels}"
}
"#,
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
        script: r#"script pier for harbor

on enter {
    note "{dawn_boat.parcels}"
}
"#,
    },
    check: None,
};

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn many_boats_need_a_name() {
        expect(
            r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
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

on bell {
    note "{mailboat.parcels}" // ~ sharing/which-instance
    note "{dawn_boat.parcels} {dawn_boat.oil:1} {dawn_boat.hold_size}"
}
"#],
        );
    }

    #[test]
    fn an_actor_of_which_there_is_one_needs_none() {
        expect(
            r#"[variables.lighthouse.lit]
type = "bool"
scope = "instance"
default = false
writers = ["*"]
engine = "reads"
"#,
            &[r#"script pier for harbor

on bell {
    lighthouse.lit = true
}
"#],
        );
    }
}
