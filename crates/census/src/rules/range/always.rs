//! `range/always`: a condition that is always true, whatever happens in play.

use crate::finding::{Finding, Level, RuleName};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("range/always"),
    level: Level::Warning,
    means: "A condition that is always true, whatever happens in play.",
    hurts: "The test decides nothing, and what it was meant to keep out gets in.",
    bad: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 5
"#,
        script: "script tides for tide

on bell {
    if height >= 0 {
        height = random(0, 5)
    }
}
",
    },
    good: Example {
        registry: r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 5
"#,
        script: "script tides for tide

on bell {
    if height > 0 {
        height = random(0, 5)
    } else {
        height = 1
    }
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    super::decided::check(facts, RULE.name, true)
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::{expect, expect_in_scripts};

    #[test]
    fn bounds_are_taken_to_be_kept() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    if height >= 0 { // ~ range/always
        height = 2
    }
    if height > 6 { // ~ range/never
        note "flood"
    }
}

on touched(other) {
    height = random(0, 6)
}
"#],
        );
    }

    #[test]
    fn what_only_constants_decide_is_no_finding() {
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
            &[r#"script loading for mailboat in harbor

on bell {
    if hold_size > 10 {
        note "large"
    }
    let limit = 3
    if limit > 2 {
        note "fine"
    }
    while true {
        wait 1s
    }
}
"#],
        );
    }

    #[test]
    fn a_name_for_a_test_is_no_second_finding_either_way_round() {
        let registry = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 6, engine = "both" }
"#;
        for asked in ["low", "not low", "not not low", "(not low) == false"] {
            let script = format!(
                "script tides for tide\n\non bell {{\n    let low = height <= 6 // ~ range/always\n    if {asked} {{\n        note \"low\"\n    }}\n}}\n"
            );
            expect(registry, &[&script]);
        }
    }

    #[test]
    fn what_guards_a_reported_write_in_a_choice_is_no_second_finding() {
        expect(
            r#"[variables.tide]
oil = { type = "int", scope = "global", default = 9, min = 0, max = 9, engine = "reads" }
lit = { type = "bool", scope = "global", default = false, engine = "reads" }
"#,
            &[r#"script tides for tide

on bell when not lit {
    lit = true
    ask "Refill?" {
        choice "Burn some" when oil >= 0 {
            oil -= 1 // ~ range/can-fall-below
        }
        choice "Look" when oil <= 9 { // ~ range/always
            show "{oil}"
        }
    }
    lit = false
}
"#],
        );
    }

    #[test]
    fn what_guards_a_reported_write_is_no_second_finding() {
        expect(
            r#"[variables.mailboat]
parcels = { type = "int", scope = "instance", default = 0, min = 0, max = "mailboat.hold_size", engine = "reads" }
hold_size = { type = "int", scope = "instance", default = 20, min = 8, engine = "both" }

[variables.parcel]
weight = { type = "int", scope = "instance", default = 1, min = 1, max = 4, engine = "both" }
"#,
            &[r#"script loading for mailboat

on touched(other: parcel) {
    if other.weight > hold_size {
        return
    }
    parcels += other.weight // ~ range/can-exceed
    remove other
}
"#],
        );
    }

    #[test]
    fn a_test_that_an_earlier_one_has_decided() {
        expect(
            r#"[variables.tide.height]
type = "int"
scope = "global"
default = 0
min = 0
max = 6
engine = "reads"
"#,
            &[r#"script tides for tide

on bell {
    height = random(0, 6)
    if height < 3 {
        return
    }
    if height >= 2 { // ~ range/always
        note "high"
    }
}
"#],
        );
    }

    /// More calls than a run goes into, one inside the other and each twice: what stands in the last ones is still asked about
    /// whatever can be there.
    #[test]
    fn what_deep_procedures_do_counts() {
        let calls = (1..90).map(|at| format!("proc p{at}() {{\n    p{}()\n    p{}()\n}}\n", at - 1, at - 1));
        let script = format!(
            r#"script tides for tide

proc p0() {{
    if height < 6 {{
        height += 1
    }}
    if height < 0 {{ // ~ range/never
        height = 0
    }}
}}

{}
on touched(other) {{
    p89()
}}

on bell {{
    height = 0
}}
"#,
            calls.collect::<String>()
        );
        let registry = "[variables]\ntide.height = { type = \"int\", scope = \"global\", default = 0, min = 0, max = 6, engine = \"reads\" }\n";
        expect_in_scripts(registry, &[&script]);
    }
}
