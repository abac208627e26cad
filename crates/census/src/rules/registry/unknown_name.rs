//! `registry/unknown-name`: a name that means nothing here: no local, no private, no variable of the owner, the scene or a system.

use crate::finding::{Level, RuleName};
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/unknown-name"),
    level: Level::Error,
    means: "A name that means nothing here: no local, no private, no variable of the owner, the scene or a system.",
    hurts: "The script can not do what it was written for; a slip of one letter looks just like the real name.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on start {
    hieght = 3
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
"#,
        script: "script tides for tide

on start {
    height = 3
}
",
    },
    check: None,
};

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn names_that_mean_nothing() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[
                r#"script tides for tide

on bell {
    hieght = 3 // ~ registry/unknown-name
    height = wind.speed // ~ registry/unknown-name
    note "{self.flow}" // ~ registry/unknown-name
    note "{height.max} {height.top}" // ~ registry/unknown-name
    spawn gull // ~ registry/unknown-name
    go market // ~ registry/unknown-name
}
"#,
                r#"script desk for office

on touched(other) {
    note "{height}"
}
"#,
            ],
        );
    }
}
