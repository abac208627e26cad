//! `registry/name-style`: a variable is not named in the project's style.

use crate::finding::{Finding, Level, RuleName};
use crate::registry::config::NameStyle;
use crate::registry::{Type, VarId};
use crate::rules::Facts;
use crate::rules::{Example, Rule};

/// The rule.
pub const RULE: Rule = Rule {
    name: RuleName("registry/name-style"),
    level: Level::Warning,
    means: "A variable is not named in the project's style.",
    hurts: "Names that look alike are found; names that do not are written a second time.",
    bad: Example {
        registry: r#"[variables.tide.waterHeight]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    waterHeight += 1
    note "{waterHeight}"
}
"#,
    },
    good: Example {
        registry: r#"[variables.tide.water_height]
type = "int"
scope = "global"
default = 0
"#,
        script: r#"script tides for tide

on bell {
    water_height += 1
    note "{water_height}"
}
"#,
    },
    check: Some(check),
};

fn check(facts: &Facts<'_>) -> Vec<Finding> {
    let registry = facts.registry();
    let config = &facts.project.config;
    let mut findings = Vec::new();
    for id in registry.var_ids() {
        let variable = registry.var(id);
        let problem = style_problem(&variable.name, config.style).or_else(|| prefix_problem(facts, id));
        if let Some(problem) = problem {
            let identity = registry.identity(id);
            findings.push(
                Finding::new(RULE.name, variable.place.header, format!("`{}` {problem}", variable.name))
                    .about(identity.clone())
                    .help("rename it, here and in the scripts"),
            );
        }
    }
    findings
}

fn style_problem(name: &str, style: NameStyle) -> Option<String> {
    let bare = name.trim_start_matches('_');
    let first = bare.chars().next()?;
    let (fits, words) = match style {
        NameStyle::Snake => (!bare.chars().any(char::is_uppercase), "snake style, `hold_size`"),
        NameStyle::Camel => (!first.is_uppercase() && !bare.contains('_'), "camel style, `holdSize`"),
        NameStyle::Pascal => (!first.is_lowercase() && !bare.contains('_'), "pascal style, `HoldSize`"),
        NameStyle::Any => (true, ""),
    };
    (!fits).then(|| format!("is not in the project's {words}"))
}

fn prefix_problem(facts: &Facts<'_>, id: VarId) -> Option<String> {
    let variable = facts.registry().var(id);
    let word = match variable.ty {
        Type::Enum(_) => "enum".to_owned(),
        Type::Ref(_) => "ref".to_owned(),
        ty => facts.registry().type_word(ty),
    };
    let (_, prefixes) = facts.project.config.prefixes.iter().find(|(ty, _)| *ty == word)?;
    let fits = prefixes.is_empty() || prefixes.iter().any(|prefix| variable.name.starts_with(prefix.as_str()));
    (!fits).then(|| format!("is a `{word}`, and those begin with {}", crate::words::either(prefixes)))
}

#[cfg(test)]
mod tests {
    use crate::rules::testing::expect_with;

    #[test]
    fn styles_and_prefixes() {
        expect_with(
            r#"[project]
name = "Saltmarsh Mail"
first_scene = "harbor"

[names]
variable = "snake"
prefixes = { bool = ["is_", "has_"] }
"#,
            r#"[variables.tide.openNow] # ~ registry/name-style
type = "bool"
scope = "global"
default = false
engine = "both"

[variables.tide.open_now] # ~ registry/name-style
type = "bool"
scope = "global"
default = false
engine = "both"

[variables.tide.is_open]
type = "bool"
scope = "global"
default = false
engine = "both"
"#,
            &[r#"script tides for tide

on bell {
    note "x"
}
"#],
        );
    }
}
