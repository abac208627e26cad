//! `unused/override`: an instance's starting value that is the default anyway.

use crate::finding::{Finding, Level, RuleName};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("unused/override"),
    level: Level::Note,
    means: "An instance's starting value that is the default anyway.",
    hurts: "When the default is tuned, this instance stays behind, and nobody meant it to.",
    bad: Example {
        registry: r#"[variables.mailboat.parcels]
type = "int"
scope = "instance"
default = 0
min = 0
max = 20
engine = "reads"

[instances.dusk_boat]
of = "mailboat"
start = { parcels = 0 }
"#,
        script: r#"script loading for mailboat in harbor

on bell {
    note "{parcels}"
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

[instances.dusk_boat]
of = "mailboat"
start = { parcels = 2 }
"#,
        script: r#"script loading for mailboat in harbor

on bell {
    note "{parcels}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let starts =
        registry.instances.iter().flat_map(|instance| instance.start.iter().map(move |start| (instance, start)));
    let same = starts.filter(|(_, start)| registry.var(start.variable).default.as_ref() == Some(&start.value));
    same.map(|(instance, start)| {
        let name = &registry.var(start.variable).name;
        let message = format!(
            "`{}` starts with `{name}` = {}, which is the default",
            instance.name,
            registry.value_text(&start.value)
        );
        Finding::new(RULE.name, start.at, message)
            .about(registry.identity(start.variable))
            .help("take it out, so that it follows the default")
    })
    .collect()
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn the_default_said_again() {
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

[instances.dusk_boat]
of = "mailboat"
start = { parcels = 0, oil = 3 } # ~ unused/override
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    note "{parcels} {hold_size} {oil:1}"
}
"#],
        );
    }
}
