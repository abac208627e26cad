//! `invariant/can-break`: a handler can leave an invariant false that was true when it began.

use crate::finding::{Finding, Level, RuleName};
use crate::flow::engine::Event;
use crate::rules::Facts;
use crate::rules::facts::each_event;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("invariant/can-break"),
    level: Level::Error,
    means: "A handler can leave an invariant false that was true when it began.",
    hurts: "The two numbers no longer fit together, and everything that relies on it goes wrong.",
    bad: Example {
        registry: r#"[variables.mailboat.mast_fitted]
type = "bool"
scope = "instance"
default = false

[variables.mailboat.flag_up]
type = "bool"
scope = "instance"
default = false

[invariants.flag_needs_mast]
holds = "mailboat.flag_up implies mailboat.mast_fitted"
"#,
        script: "script loading for mailboat in harbor

on bell {
    flag_up = true
}

on tide_turned {
    mast_fitted = true
}
",
    },
    good: Example {
        registry: r#"[variables.mailboat.mast_fitted]
type = "bool"
scope = "instance"
default = false

[variables.mailboat.flag_up]
type = "bool"
scope = "instance"
default = false

[invariants.flag_needs_mast]
holds = "mailboat.flag_up implies mailboat.mast_fitted"
"#,
        script: "script loading for mailboat in harbor

on bell {
    if mast_fitted {
        flag_up = true
    }
}

on tide_turned {
    mast_fitted = true
}
",
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    each_event(facts, |unit, event| {
        let Event::Broken { at, invariant } = event else { return None };
        let entry = &facts.registry().invariants[invariant.index()];
        let about = entry.about.as_ref().map_or(String::new(), |about| format!(" ({about})"));
        let message = format!("after this, `{}` need not hold any more{about}: {}", entry.name, entry.holds);
        Some(
            Finding::new(RULE.name, unit.at(*at), message)
                .help("set it only where the invariant holds, or set what it needs first")
                .with(entry.place.key("holds"), "the invariant is written here"),
        )
    })
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect;

    #[test]
    fn for_the_instance_that_was_written() {
        expect(
            r#"[variables.mailboat.mast]
type = "bool"
scope = "instance"
default = false

[variables.mailboat.flag]
type = "bool"
scope = "instance"
default = false

[invariants.flag_needs_mast]
holds = "mailboat.flag implies mailboat.mast"
"#,
            &[r#"script loading for mailboat in harbor

on bell {
    if mast {
        flag = true
    }
}

on touched(other) {
    mast = false // ~ invariant/can-break
}

on bumped(other) {
    mast = true
    flag = true
}

on enter {
    flag = false
    mast = false
}
"#],
        );
    }

    #[test]
    fn what_is_cleared_counts_as_zero() {
        expect(
            r#"[variables.office]
debt = { type = "int", scope = "global", default = 30, engine = "reads" }
fines = { type = "int", scope = "global", default = 0, engine = "reads" }

[invariants.no_debt_no_fines]
holds = "office.debt == 0 implies office.fines == 0"
"#,
            &[r#"script desk for office

on bell {
    debt = 20
    fines = 3
}

on touched(other) {
    clear debt // ~ invariant/can-break
}

on bumped(other) {
    clear debt
    fines = 0
    wait 1s
    fines = 2 // ~ invariant/can-break
}
"#],
        );
    }

    const STORES: &str = r#"[variables]
tide.level = { type = "int", scope = "global", default = 1, min = -2, max = 17, writers = ["*"] }
mailboat.load = { type = "int", scope = "instance", default = 7, engine = "reads" }
mailboat.sail = { type = "enum", values = ["furled", "full"], scope = "instance", default = "furled" }
mailboat.speed = { type = "int", scope = "instance", default = 0, min = 0, max = 9 }

[invariants.afloat]
holds = "mailboat.load + tide.level >= -5"

[invariants.fast_needs_sail]
holds = "mailboat.speed <= 4 or mailboat.sail == \"full\""
"#;

    #[test]
    fn of_any_instance_by_a_wider_variable() {
        expect(
            STORES,
            &["script loading for mailboat

on bell {
    if load + tide.level >= -4 { load -= 1 }
}

on touched(other) when tide.level < 17 {
    tide.level += 1
    for boat in mailboat {
        boat.load += 2
    }
}

on bumped(other) when tide.level > 0 {
    tide.level -= 1 // ~ invariant/can-break sharing/burst
}

on enter {
    tide.level = 3 // ~ invariant/can-break
}
"],
        );
    }

    #[test]
    fn by_what_was_written_through_a_name_that_took_another() {
        expect(
            STORES,
            &["script loading for mailboat

on bell { // ~ sharing/reentry
    for boat in mailboat {
        boat.load -= 1 // ~ invariant/can-break
        ask \"Unload?\" {
            choice \"Some\" {
                if boat is set { boat.load -= 4 } // ~ invariant/can-break
            }
        }
    }
    tide.level = max(tide.level, 3) // ~ invariant/can-break
}
"],
        );
    }

    #[test]
    fn by_another_name_for_what_was_broken_before() {
        expect(
            STORES,
            &["script loading for mailboat

on bell {
    load = -10 // ~ invariant/can-break
    for boat in mailboat {
        boat.load += 1 // ~ invariant/can-break
    }
}
"],
        );
    }

    #[test]
    fn of_a_ref_which_starts_as_none() {
        expect(
            r#"[variables.mailboat.moored]
type = "ref"
of = "mailboat"
scope = "instance"

[variables.mailboat.sail]
type = "int"
scope = "instance"
default = 0
min = 0
max = 3

[invariants.moored_sails_down]
holds = "mailboat.moored is none or mailboat.sail == 0"
"#,
            &[r#"script sailing for mailboat

on touched(other: mailboat) {
    moored = other
    sail = 0
}

on bell when moored is none {
    sail = min(sail + 1, 3)
}

on bumped(other) {
    sail = 1 // ~ invariant/can-break
}
"#],
        );
    }

    #[test]
    fn what_holds_is_built_on() {
        expect(
            STORES,
            &["script loading for mailboat

on bell {
    if sail == \"full\" { speed = min(speed + 1, 9) } else { speed = min(speed + 1, 4) }
    if sail == \"furled\" { sail = \"full\" }
}

on touched(other) {
    if speed > 2 { return }
    sail = \"furled\"
}

on bumped(other) {
    sail = \"furled\" // ~ invariant/can-break
}
"],
        );
    }

    #[test]
    fn flags_that_are_worked_out_from_one_another() {
        let registry = r#"[variables.tide]
mast = { type = "bool", scope = "global", default = false, engine = "reads" }
flag = { type = "bool", scope = "global", default = false, engine = "reads" }
wind = { type = "int", scope = "global", default = 0, engine = "both" }

[invariants.flag_needs_mast]
holds = "tide.flag implies tide.mast"
"#;
        let elsewhere = "on bell {\n mast = true\n if wind > 3 { flag = true }\n}\n";
        let told = |lines: &str| {
            let script = format!("script tides for tide\n\non touched(other) {{\n{lines}\n}}\n\n{elsewhere}");
            expect(registry, &[&script]);
        };
        told("flag = mast");
        told("mast = flag");
        told("flag = wind > 3 and mast");
        told("mast = wind > 3 or flag");
        told("flag = mast and not flag");
        told("let up = mast\n wind = 0\n flag = up");
        told("let up = mast\n mast = wind > 3 // ~ invariant/can-break\n wind = 0\n if mast { flag = up }");
        told("flag = not mast // ~ invariant/can-break");
        told("mast = wind > 3 or not flag // ~ invariant/can-break");
        told("flag = not flag // ~ invariant/can-break");
    }

    #[test]
    fn what_is_left_of_more_than_was_taken() {
        let registry = r#"[variables.tide]
lamp = { type = "bool", scope = "global", default = false, engine = "reads" }
oil = { type = "number", scope = "global", default = 5, min = 0, max = 50, engine = "reads" }
wind = { type = "number", scope = "global", default = 0, min = 0, max = 12, engine = "both" }

[invariants.lamp_needs_oil]
holds = "tide.lamp implies tide.oil > 0"
"#;
        let told = |test: &str, mark: &str| {
            let script = format!(
                "script tides for tide\n\non touched(other) {{\n let drain = wind * 0.1\n if {test} {{\n oil -= drain{mark}\n }}
 if oil > 0 {{ lamp = true }}\n}}\n"
            );
            expect(registry, &[&script]);
        };
        told("oil > drain", "");
        told("oil >= drain", " // ~ invariant/can-break");
    }

    const CREWS: &str = r#"[variables.tide]
sailing = { type = "bool", scope = "global", default = false, engine = "reads" }
crew = { type = "int", scope = "global", default = 2, min = 0, max = 8, engine = "reads" }
low = { type = "int", scope = "global", default = 2, engine = "reads" }
high = { type = "int", scope = "global", default = 8, engine = "reads" }

[invariants.sailing_needs_crew]
holds = "tide.sailing implies tide.crew > 0"
[invariants.low_below_high]
holds = "tide.low < tide.high"
"#;

    /// A handler with these lines, beside one that sets sail.
    fn manned(lines: &str) {
        let script = format!(
            "script tides for tide\n\non gust(force) {{\n{lines}}}\n\non bell when crew > 0 {{\n    sailing = true\n}}\n"
        );
        expect(&format!("{CREWS}{GUST}"), &[&script]);
    }

    const GUST: &str = r#"[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "int", min = 1, max = 6 } }
"#;

    #[test]
    fn a_flag_joined_with_another_test() {
        manned("    if crew > 1 or not sailing {\n        crew = max(crew - 1, 0)\n    }\n");
        manned("    if sailing and crew < 2 {\n        return\n    }\n    crew = max(crew - 1, 0)\n");
        manned("    if crew > 0 or not sailing {\n        crew = max(crew - 1, 0) // ~ invariant/can-break\n    }\n");
    }

    #[test]
    fn what_hangs_on_a_broken_one_is_no_second_finding() {
        manned("    if low < high {\n        low += force // ~ invariant/can-break\n    }\n");
        manned(
            "    low += force // ~ invariant/can-break\n    wait 1s\n    if low >= high {\n        low = high - 1\n    }\n",
        );
    }
}
