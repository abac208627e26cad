//! Entries of the registry, and the names that scripts use for them.

use crate::rules::testing::{CONFIG, expect, expect_in_scripts, expect_with};

/// A registry with this in it, and nothing said of any script.
fn entry(text: &str) {
    expect(text, &[]);
}

/// One variable of the tide, marked as used by the game so that nothing else is said of it.
fn variable(keys: &str) {
    entry(&format!("[variables.tide.height]\nengine = \"both\"\n{keys}"));
}

// ---- entries ----

#[test]
fn an_entry_that_is_in_order() {
    variable(
        "type = \"int\"\nscope = \"global\"\ndefault = 3\nmin = 0\nmax = 6\nunit = \"marks\"\nabout = \"x\"\ntags = [\"a\"]\nsteward = \"world\"\nslot = 4\n",
    );
    variable("type = \"number\"\nscope = \"global\"\ndefault = 3\nmin = -1.5\n");
    variable("type = \"enum\"\nscope = \"global\"\nvalues = [\"low\", \"high\"]\ndefault = \"low\"\n");
    variable("type = \"vec2\"\nscope = \"global\"\ndefault = [0.0, 1.5]\n");
    variable("type = \"vec3\"\nscope = \"global\"\ndefault = [0.0, 1.5, 2.0]\n");
    variable("type = \"ref\"\nscope = \"global\"\nof = \"mailboat\"\ndefault = \"dawn_boat\"\n");
    variable("type = \"int\"\nscope = \"global\"\ndefault = 0\nmin = 0\nmax = 5\noverflow = \"wrap\"\n");
    variable("type = \"bool\"\nscope = \"global\"\ndefault = true\nlifetime = \"saved\"\nwriters = [\"office\"]\n");
}

#[test]
fn types_that_do_not_exist_or_do_not_fit() {
    variable("type = \"integer\" # ~ registry/bad-entry\nscope = \"global\"\n");
    variable("type = \"int\"\nscope = \"global\"\ndefault = 2.0 # ~ registry/bad-entry\n");
    variable("type = \"int\"\nscope = \"global\"\ndefault = \"two\" # ~ registry/bad-entry\n");
    variable("type = \"bool\"\nscope = \"global\"\ndefault = 1 # ~ registry/bad-entry\n");
    variable("type = \"number\"\nscope = \"global\"\ndefault = nan # ~ registry/bad-entry\n");
    variable("type = \"number\"\nscope = \"global\"\ndefault = inf # ~ registry/bad-entry\n");
    variable("type = \"vec2\"\nscope = \"global\"\ndefault = [1.0] # ~ registry/bad-entry\n");
    variable("type = \"ref\"\nscope = \"global\"\nof = \"tide\" # ~ registry/bad-entry\n");
    variable("type = \"ref\"\nscope = \"global\"\nof = \"mailboat\"\ndefault = \"nobody\" # ~ registry/bad-entry\n");
}

#[test]
fn enums_name_their_values() {
    variable("type = \"enum\"\nscope = \"global\"\nvalues = [\"low\"] # ~ registry/bad-entry\ndefault = \"low\"\n");
    variable(
        "type = \"enum\"\nscope = \"global\"\nvalues = [\"low\", \"low\"] # ~ registry/bad-entry\ndefault = \"low\"\n",
    );
    variable(
        "type = \"enum\"\nscope = \"global\"\nvalues = [\"low\", \"high\"]\ndefault = \"middle\" # ~ registry/bad-entry\n",
    );
    variable("type = \"int\"\nscope = \"global\"\ndefault = 0\nvalues = [\"low\", \"high\"] # ~ registry/bad-entry\n");
}

#[test]
fn ranges_that_can_not_be() {
    variable("type = \"int\"\nscope = \"global\"\ndefault = 3\nmin = 6\nmax = 2 # ~ registry/bad-entry\n");
    variable("type = \"bool\"\nscope = \"global\"\ndefault = true\nmax = 3 # ~ registry/bad-entry\n");
    variable("type = \"int\"\nscope = \"global\"\ndefault = 7 # ~ range/start-outside\nmax = 6\n");
    variable("type = \"int\"\nscope = \"global\"\ndefault = -1 # ~ range/start-outside\nmin = 0\n");
    variable("type = \"int\"\nscope = \"global\"\ndefault = 3\nmax = \"tide.missing\" # ~ registry/bad-entry\n");
    variable(
        "type = \"number\"\nscope = \"global\"\ndefault = 0.5\nmax = 2\noverflow = \"wrap\" # ~ registry/bad-entry\n",
    );
    variable("type = \"int\"\nscope = \"global\"\ndefault = 0\nmin = 0\noverflow = \"wrap\" # ~ registry/bad-entry\n");
    variable(
        "type = \"int\"\nscope = \"global\"\ndefault = 0\nmin = 0\nmax = \"5\" # ~ registry/bad-entry\noverflow = \"wrap\"\n",
    );
    variable("type = \"int\"\nscope = \"global\"\ndefault = 0\noverflow = \"burst\" # ~ registry/bad-entry\n");
}

#[test]
fn scopes_and_owners_fit_together() {
    variable("type = \"int\"\nscope = \"instance\" # ~ registry/bad-entry\ndefault = 0\n");
    variable("type = \"int\"\nscope = \"everywhere\" # ~ registry/bad-entry\ndefault = 0\n");
    entry(
        "[variables.mailboat.load]\nengine = \"both\"\ntype = \"int\"\nscope = \"global\" # ~ registry/bad-entry\ndefault = 0\n",
    );
    entry(
        "[variables.harbor.guests]\nengine = \"both\"\ntype = \"int\"\nscope = \"scene\"\ndefault = 0\nlifetime = \"saved\" # ~ registry/bad-entry\n",
    );
    entry(
        "[variables.ferry.load] # ~ registry/bad-entry\nengine = \"both\"\ntype = \"int\"\nscope = \"instance\"\ndefault = 0\n",
    );
}

#[test]
fn keys_that_nothing_knows() {
    variable("type = \"int\"\nscope = \"global\"\ndefalt = 3 # ~ registry/bad-entry\ndefault = 0\n");
    entry("[owners.ferry]\nkind = \"aktor\" # ~ registry/bad-entry\n");
    entry("[signals.horn] # ~ unused/signal\nfrom = \"engine\"\nburst = true # ~ registry/bad-entry\n");
    entry("[instances.gull]\nof = \"nobody\" # ~ registry/bad-entry\n");
    entry("[instances.gull]\nof = \"mailboat\"\nscene = \"cave\" # ~ registry/bad-entry\n");
    entry("[instances.gull]\nof = \"mailboat\"\nstart = { wings = 2 } # ~ registry/bad-entry\n");
}

#[test]
fn the_same_name_twice() {
    entry("[owners.tide] # ~ registry/duplicate\nkind = \"system\"\n");
    entry("[owners.bell] # ~ registry/duplicate\nkind = \"system\"\n");
    entry("[instances.harbor] # ~ registry/duplicate\nof = \"mailboat\"\n");
    entry(
        "[variables.tide]\na = { type = \"int\", scope = \"global\", default = 0, engine = \"both\", slot = 3 }\nb = { type = \"int\", scope = \"global\", default = 0, engine = \"both\", slot = 3 } # ~ registry/duplicate-slot\n",
    );
}

#[test]
fn words_of_the_language_are_no_names() {
    entry("[owners.while] # ~ registry/bad-entry\nkind = \"system\"\n");
    let words = "after and as ask break changed choice clear else enter every false for go hide if implies in is leave let match \
                 max min none not note on or private proc remove removed repeat restart return scene script seconds self send \
                 set show spawn start tick to true until wait was when where while";
    for word in words.split(' ') {
        entry(&format!(
            "[variables.tide.{word}] # ~ registry/bad-entry\nengine = \"both\"\ntype = \"int\"\nscope = \"global\"\ndefault = 0\n"
        ));
    }
}

#[test]
fn bounds_that_lead_in_a_circle() {
    entry(
        r#"[variables.tide]
low = { type = "int", scope = "global", default = 0, max = "tide.high", engine = "both" } # ~ registry/bad-entry
high = { type = "int", scope = "global", default = 0, max = "tide.low", engine = "both" }
"#,
    );
}

#[test]
fn a_bound_lives_as_long_as_what_it_bounds() {
    entry(
        "[variables.harbor.room]\nengine = \"both\"\ntype = \"int\"\nscope = \"scene\"\ndefault = 5\n\n[variables.tide.height]\nengine = \"both\"\ntype = \"int\"\nscope = \"global\"\ndefault = 3\nmax = \"harbor.room\" # ~ registry/bad-entry\n",
    );
    entry(
        "[variables.tide.room]\nengine = \"both\"\ntype = \"int\"\nscope = \"global\"\n\n[variables.tide.height]\nengine = \"both\"\ntype = \"int\"\nscope = \"global\"\ndefault = 3\nmax = \"tide.room\" # ~ registry/bad-entry\n",
    );
}

#[test]
fn invariants_are_expressions_over_the_registry() {
    let with = |holds: &str| {
        entry(&format!(
            "[variables.tide]\nheight = {{ type = \"int\", scope = \"global\", default = 0, engine = \"both\" }}\nopen = {{ type = \"bool\", scope = \"global\", default = true, engine = \"both\" }}\nblank = {{ type = \"int\", scope = \"global\", engine = \"both\" }}\n\n[invariants.kept]\nholds = {holds}\n"
        ))
    };
    with("\"tide.open implies tide.height < 3\"");
    with("\"tide.height < 3 or tide.open\"");
    with("\"tide.height\" # ~ registry/bad-entry");
    with("\"tide.hieght < 3\" # ~ registry/bad-entry");
    with("\"tide.height <\" # ~ registry/bad-entry");
    with("\"tide.blank < 3\" # ~ registry/bad-entry");
    with("\"tide.height < random(1, 9)\" # ~ registry/bad-entry");
    with("3 # ~ registry/bad-entry");
}

#[test]
fn starting_values_of_instances() {
    let load =
        "[variables.mailboat.load]\nengine = \"both\"\ntype = \"int\"\nscope = \"instance\"\ndefault = 0\nmax = 5\n";
    entry(&format!("{load}\n[instances.gull]\nof = \"mailboat\"\nstart = {{ load = 3 }}\n"));
    entry(&format!("{load}\n[instances.gull]\nof = \"mailboat\"\nstart = {{ load = 9 }} # ~ range/start-outside\n"));
    entry(&format!(
        "{load}\n[instances.gull]\nof = \"mailboat\"\nstart = {{ load = \"full\" }} # ~ registry/bad-entry\n"
    ));
    entry(&format!("{load}\n[instances.gull]\nof = \"mailboat\"\nstart = {{ load = 0 }} # ~ unused/override\n"));
}

#[test]
fn saves_need_a_value_for_what_they_keep() {
    variable("type = \"int\"\nscope = \"global\"\nlifetime = \"saved\"\ndefault = 0\n");
    entry(
        "[variables.tide.height] # ~ init/saved-without-default\nengine = \"both\"\ntype = \"int\"\nscope = \"global\"\nlifetime = \"saved\"\n",
    );
    entry("[variables.mailboat.mate]\nengine = \"both\"\ntype = \"ref\"\nscope = \"instance\"\nlifetime = \"saved\"\n");
}

#[test]
fn names_in_the_style_of_the_project() {
    let variable = |name: &str, kind: &str, mark: &str| {
        format!(
            "[variables.tide.{name}]{mark}\nengine = \"both\"\ntype = \"{kind}\"\nscope = \"global\"\n{}",
            if kind == "bool" { "default = true\n" } else { "default = 0\n" }
        )
    };
    let styled = |style: &str, text: &str| expect_with(&format!("{CONFIG}\n[names]\n{style}\n"), text, &[]);
    styled("variable = \"snake\"", &variable("high_water", "int", ""));
    styled("variable = \"snake\"", &variable("highWater", "int", " # ~ registry/name-style"));
    styled("variable = \"camel\"", &variable("highWater", "int", ""));
    styled("variable = \"pascal\"", &variable("HighWater", "int", ""));
    styled("variable = \"pascal\"", &variable("high_water", "int", " # ~ registry/name-style"));
    styled("variable = \"any\"", &variable("high_Water", "int", ""));
    styled("prefixes = { bool = [\"is_\", \"has_\"] }", &variable("is_open", "bool", ""));
    styled("prefixes = { bool = [\"is_\", \"has_\"] }", &variable("open", "bool", " # ~ registry/name-style"));
}

// ---- names in scripts ----

const STATE: &str = r#"[variables.tide]
height = { type = "int", scope = "global", default = 0, engine = "both", writers = ["*"] }
level = { type = "int", scope = "global", default = 0, engine = "both", writers = ["*"] }
old_height = { type = "int", scope = "global", default = 0, engine = "both", writers = ["*"], retired = { since = "0.4", use = "tide.height" } }

[variables.office]
level = { type = "int", scope = "global", default = 0, engine = "both", writers = ["*"] }

[variables.harbor]
guests = { type = "int", scope = "scene", default = 0, engine = "both", writers = ["*"] }

[variables.mailboat]
load = { type = "int", scope = "instance", default = 0, engine = "both", writers = ["*"] }
height = { type = "int", scope = "instance", default = 0, engine = "both", writers = ["*"] }
"#;

fn script(text: &str) {
    expect_in_scripts(STATE, &[text]);
}

#[test]
fn names_that_mean_nothing() {
    script(
        "script tides for tide\n\non bell {\n    hieght = 3 // ~ registry/unknown-name\n    tide.hieght = 3 // ~ registry/unknown-name\n    note \"{watre}\" // ~ registry/unknown-name\n}\n",
    );
    script("script tides for tides // ~ registry/unknown-name\n\non bell {\n    note \"x\"\n}\n");
    script("script tides for tide in habror // ~ registry/unknown-name\n\non bell {\n    note \"x\"\n}\n");
    script("script tides for tide\n\non bel { // ~ registry/unknown-signal\n    note \"x\"\n}\n");
    script("script tides for tide\n\non bell {\n    send tide_turns // ~ registry/unknown-signal\n}\n");
    script(
        "script tides for tide\n\non bell {\n    spawn mailbote // ~ registry/unknown-name\n    go habror // ~ registry/unknown-name\n}\n",
    );
    script("script tides for tide\n\non bell {\n    note \"{was}\" // ~ registry/unknown-name\n}\n");
    script(
        "script tides for tide\n\nprivate rest: integer // ~ registry/unknown-name\n\non bell {\n    rest = 3\n    note \"{rest}\"\n}\n",
    );
}

#[test]
fn a_name_that_two_systems_have() {
    script(
        "script crews for mailboat\n\non bell {\n    note \"{level}\" // ~ registry/ambiguous-name\n    note \"{tide.level}\"\n}\n",
    );
    script("script tides for tide\n\non bell {\n    note \"{level}\" // ~ shadow/inner-scope\n}\n");
}

#[test]
fn a_retired_variable_is_still_used() {
    script(
        "script tides for tide\n\non bell {\n    note \"{old_height}\" // ~ registry/retired-used\n    old_height = 3 // ~ registry/retired-used\n}\n",
    );
}

#[test]
fn the_nearest_meaning_hides_the_one_further_out() {
    script(
        "script crews for mailboat\n\non bell {\n    note \"{height}\" // ~ shadow/inner-scope\n    note \"{self.height}\"\n}\n",
    );
    script("script crews for mailboat\n\non bell {\n    note \"{self.height} {tide.height}\"\n}\n");
    script("script tides for tide\n\non bell {\n    let height = 3 // ~ shadow/local\n    note \"{height}\"\n}\n");
    script(
        "script tides for tide\n\nprivate height: int = 0 // ~ shadow/local\n\non bell {\n    note \"{height}\"\n}\n",
    );
    script(
        "script tides for tide\n\nproc rise(height: int) { // ~ shadow/local\n    note \"{height}\"\n}\n\non bell {\n    rise(3)\n}\n",
    );
    script(
        "script tides for tide\n\non bell {\n    for height in mailboat { // ~ shadow/local\n        note \"{height.load}\"\n    }\n}\n",
    );
    script("script tides for office\n\non bell {\n    let load = 3\n    note \"{load}\"\n}\n");
}

#[test]
fn a_scenes_variable_where_another_scene_may_be() {
    script(
        "script tides for tide\n\non bell {\n    harbor.guests = 3 // ~ sharing/other-scene\n    if scene is harbor {\n        harbor.guests = 4\n    }\n}\n",
    );
    script("script tides for tide in harbor\n\non bell {\n    guests = 3\n}\n");
    script("script tides for harbor\n\non bell {\n    guests = 3\n}\n");
}

#[test]
fn waivers_say_why() {
    script("script tides for tide\n\non bell {\n    // waive registry/unknown-name: the game adds it at run time\n    hieght = 3\n    tide.level = 2 // waive unused/dead-write: kept for the log\n}\n".replace("    tide.level = 2 // waive unused/dead-write: kept for the log\n", "").as_str());
    script(
        "script tides for tide\n\non bell {\n    // waive registry/unknown-name // ~ registry/bad-waiver\n    hieght = 3 // ~ registry/unknown-name\n}\n",
    );
    script(
        "script tides for tide\n\non bell {\n    // waive registry/no-such: because // ~ registry/bad-waiver\n    tide.level = 3\n}\n",
    );
    script(
        "script tides for tide\n\non bell {\n    // waive range/can-exceed: nothing here does // ~ unused/waiver\n    tide.level = 3\n}\n",
    );
    script(
        "script tides for tide\n\n// waive registry: old names, see the plan\non bell {\n    hieght = 3\n    watre = 4\n}\n",
    );
}

// ---- what can not be read ----

#[test]
fn one_mistake_is_one_finding_and_the_rest_is_read() {
    script(
        "script tides for tide\n\non bell {\n    tide.level = = 3 // ~ syntax/error\n    hieght = 3 // ~ registry/unknown-name\n}\n",
    );
    script(
        "script tides for tide\n\non bell {\n    if tide.level = 3 { note \"x\" } // ~ syntax/error\n    hieght = 3 // ~ registry/unknown-name\n}\n",
    );
    script(
        "script tides for tide\n\non bell {\n    tide.level += // ~ syntax/error\n}\n\non touched(other) {\n    hieght = 3 // ~ registry/unknown-name\n}\n",
    );
    script("script tides for tide\n\non bell {\n    note \"open // ~ syntax/error\n    tide.level = 3\n}\n");
    script("script tides for tide\n\non bell {\n    wait 5 // ~ syntax/error\n    tide.level = 3\n}\n");
    script("script tides for tide\n\non bell {\n    if 1 < tide.level < 3 { note \"x\" } // ~ syntax/error\n}\n");
    script(
        "script tides for tide\n\nbell { // ~ syntax/error\n    tide.level = 3\n}\n\non bell {\n    tide.level = 3\n}\n",
    );
}
