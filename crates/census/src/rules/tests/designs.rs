//! Whole designs (meters, cooldowns, shops, quests, toggles), right in one form and wrong in another.

use crate::rules::testing::expect_in_scripts;

const STATE: &str = r#"[signals.gust]
from = "engine"
to = "all"
parameters = { force = { type = "int", min = 0, max = 12 } }
[signals.hailed]
from = "engine"
parameters = { by = "mailboat" }
[signals.paid]
from = "script"
parameters = { sum = "int" }
[variables.office]
coins = { type = "int", scope = "global", default = 10, min = 0, engine = "reads" }
price = { type = "int", scope = "global", default = 4, constant = true }
trust = { type = "int", scope = "global", default = 50, min = 0, max = 100, engine = "reads" }
quest = { type = "enum", scope = "global", values = ["none", "asked", "taken", "done"], default = "none", engine = "reads" }
stock = { type = "int", scope = "global", default = 3, min = 0, max = 9, engine = "reads" }
open = { type = "bool", scope = "global", default = true, engine = "reads" }
[variables.tide]
height = { type = "int", scope = "global", default = 0, min = 0, max = 10, engine = "reads" }
pace = { type = "number", scope = "global", default = 1.0, min = 0, max = 4, engine = "reads" }
cooldown = { type = "int", scope = "global", default = 0, min = 0, max = 120, engine = "reads" }
[variables.mailboat]
oil = { type = "number", scope = "instance", default = 60, min = 0, max = 100, engine = "reads" }
burn = { type = "number", scope = "type", default = 0.3, constant = true }
heat = { type = "int", scope = "instance", default = 0, min = 0, max = 5, engine = "reads" }
mate = { type = "ref", scope = "instance", of = "mailboat", engine = "reads" }
home = { type = "bool", scope = "instance", default = true, engine = "reads" }
"#;

fn judged(scripts: &[&str]) {
    expect_in_scripts(STATE, scripts);
}

// ---- meters ----

#[test]
fn a_meter_that_drains_and_is_filled() {
    judged(&[r#"script lamp for mailboat

on tick {
    if oil > burn {
        oil -= burn
    } else {
        oil = 0
    }
}

on hailed(by) {
    oil = min(oil + 25, oil.max)
    if by.oil >= 10 and by != self {
        by.oil -= 10
    }
}
"#]);
}

#[test]
fn a_meter_that_is_only_tested_for_zero() {
    judged(&[r#"script lamp for mailboat

on tick {
    if oil > 0 {
        oil -= burn // ~ range/can-fall-below
    }
}

on hailed(by) {
    if oil < 100 {
        oil += 25 // ~ range/can-exceed
    }
    by.home = true // ~ unused/dead-write
    by.home = oil > 3
}
"#]);
}

#[test]
fn heat_that_is_let_off_before_it_is_too_much() {
    judged(&[r#"script engine for mailboat

on bell {
    heat += 1
    if heat > 5 {
        heat = 0
        show "The engine lets off steam."
    }
}

on gust(force) {
    heat -= force
    if heat < 0 { heat = 0 }
}
"#]);
}

#[test]
fn heat_that_is_let_off_too_late() {
    judged(&[r#"script engine for mailboat

on bell {
    heat += 1 // ~ range/can-exceed
    wait 1t
    if heat > 5 {
        heat = 0
    }
}
"#]);
}

// ---- shops ----

#[test]
fn a_shop_that_asks_for_the_price() {
    judged(&[r#"script shop for office

on bell when open {
    if stock == 0 {
        show "Sold out."
        return
    }
    if coins >= price {
        coins -= price
        stock -= 1
    } else {
        show "Not enough: {coins} of {price}."
    }
}

on gust(force) {
    open = force < 9
    stock = min(stock + force, stock.max)
}
"#]);
}

#[test]
fn a_shop_that_forgets_the_stock() {
    judged(&[r#"script shop for office

on bell {
    if coins >= price {
        coins -= price
        stock -= 1 // ~ range/can-fall-below
    }
}

on gust(force) {
    coins -= force // ~ range/can-fall-below
    stock += 1 // ~ range/can-exceed
}
"#]);
}

#[test]
fn a_price_that_is_paid_in_a_procedure() {
    judged(&[r#"script shop for office

proc can_pay(sum: int) -> bool {
    return coins >= sum
}

proc pay(sum: int) {
    if coins < sum { return }
    coins -= sum
}

on bell {
    if can_pay(6) {
        coins -= 6
    }
    pay(price)
}
"#]);
}

#[test]
fn a_question_answered_late_finds_less_in_the_purse() {
    judged(&[r#"script shop for office

on bell {
    if coins >= price {
        ask "A sheet of stamps?" {
            choice "Yes" {
                coins -= price // ~ range/can-fall-below
            }
            choice "Yes, if I may" when coins >= price { // ~ range/always
                note "The offer was made before the answer."
            }
            choice "No" {
                note "No stamps."
            }
        }
    }
}

on gust(force) when force > 11 {
    coins = 0
}
"#
    .replace("on bell {", "on bell { // ~ sharing/reentry")
    .as_str()]);
}

// ---- cooldowns ----

#[test]
fn a_cooldown_by_ticks() {
    judged(&[r#"script horn for tide

on bell when cooldown == 0 {
    cooldown = cooldown.max
    show "The horn sounds."
}

on tick {
    if cooldown > 0 {
        cooldown -= 1
    }
}
"#]);
}

#[test]
fn a_cooldown_that_counts_past_its_end() {
    judged(&[r#"script horn for tide

on bell when cooldown <= 0 {
    cooldown = 60
}

on tick {
    cooldown -= 1 // ~ range/can-fall-below
}
"#]);
}

#[test]
fn a_cooldown_by_a_wait() {
    judged(&[r#"script horn for office

private resting: bool = false

on bell when not resting {
    resting = true
    trust = min(trust + 2, 100)
    wait 10s
    resting = false
}
"#]);
}

#[test]
fn a_cooldown_that_two_ways_skip() {
    judged(&[r#"script horn for office

private resting: bool = false

on gust(force) when not resting {
    resting = true // ~ sharing/stuck-guard
    if force > 10 { return }
    wait 10s
    trust = min(trust + 2, 100)
    resting = false
}
"#]);
}

// ---- quests and modes ----

#[test]
fn a_quest_goes_from_step_to_step() {
    judged(&[r#"script quest for office

on bell {
    match quest {
        "none" {
            quest = "asked"
        }
        "asked" {
            quest = "taken"
            trust = min(trust + 5, trust.max)
        }
        "taken" {
            if stock > 0 {
                stock -= 1
                quest = "done"
            }
        }
        "done" {
            note "Nothing more to do."
        }
    }
}
"#]);
}

#[test]
fn a_quest_with_a_slip_in_a_value() {
    judged(&[r#"script quest for office

on bell {
    if quest == "asekd" { // ~ range/unknown-value
        quest = "taken"
    }
    if quest == "taken" {
        quest = "finished" // ~ range/unknown-value
    }
    if quest == "asked" or quest == "none" {
        quest = "done"
    }
}
"#]);
}

#[test]
fn a_mode_that_is_switched_and_looked_at() {
    judged(&[r#"script doors for office

on bell {
    open = not open
    if open {
        show "The office is open."
    } else {
        show "The office is closed."
    }
}

on gust(force) {
    if open and force > 8 {
        open = false
    }
}
"#]);
}

// ---- relationships ----

#[test]
fn trust_that_is_kept_between_its_ends() {
    judged(&[r#"script talk for office

proc please(by: int) {
    trust = clamp(trust + by, 0, 100)
}

on bell { please(5) }

on gust(force) {
    please(-force)
    if trust == 0 {
        show "Nobody trusts the mail any more."
    }
}
"#]);
}

#[test]
fn trust_that_is_kept_from_one_end_only() {
    judged(&[r#"script talk for office

proc please(by: int) {
    trust = min(trust + by, 100) // ~ range/can-fall-below
}

on bell { please(5) }

on gust(force) {
    please(-force)
}
"#]);
}

#[test]
fn a_gift_that_depends_on_how_much_is_left() {
    judged(&[r#"script gifts for office

on gust(force) {
    let gift = min(force, coins)
    coins -= gift
    let rest = force - gift
    if rest > 0 and trust >= rest {
        trust -= rest
    }
}
"#]);
}

// ---- divisions ----

#[test]
fn shares_of_a_count_that_may_be_none() {
    judged(&[r#"script shares for office

on bell {
    let boats = count(mailboat)
    if boats > 0 {
        coins = floor(60 / boats)
    }
    let most = max(stock, 1)
    trust = min(floor(100 / most), 100)
}

on gust(force) {
    trust = min(floor(100 / stock), 100) // ~ range/divide-by-zero
    coins = 30 % (force + 1)
    stock = 9 % force // ~ range/divide-by-zero
}
"#]);
}

#[test]
fn a_pace_that_can_come_to_a_stop() {
    judged(&[r#"script pace for tide

on gust(force) {
    pace = force / 3
    height = min(floor(10 / (pace + 1)), 10)
}

on bell {
    if pace != 0 {
        height = min(floor(abs(8 / pace)), 10)
    }
}

on every 3s {
    height = min(floor(abs(8 / pace)), 10) // ~ range/divide-by-zero
}
"#]);
}

// ---- refs ----

#[test]
fn a_mate_that_may_not_be_there() {
    judged(&[r#"script mates for mailboat

on hailed(by) {
    mate = by
}

on bell {
    if mate is not none and mate.oil > 10 {
        mate.oil -= 10
    }
    if mate is none { return }
    mate.home = false
}

on gust(force) when mate is set {
    if force > 3 {
        mate.heat = 0
    }
}
"#]);
}

#[test]
fn a_mate_that_is_not_asked_for() {
    judged(&[r#"script mates for mailboat

on hailed(by) {
    mate = by
    mate.home = true
}

on bell {
    mate.home = false // ~ init/empty-ref
}

on gust(force) {
    if mate is not none {
        wait 1s
        mate.heat = force % 5 // Nobody ever empties it again.
    }
}
"#]);
}

#[test]
fn boats_looked_through_one_by_one() {
    judged(&[r#"script fleet for mailboat

on bell {
    for boat in mailboat where boat.oil >= 20 and boat != self {
        boat.oil -= 20
    }
    for boat in mailboat {
        boat.oil -= 1 // ~ range/can-fall-below
    }
}

on gust(force) {
    for boat in mailboat where boat.heat < 5 {
        boat.heat += 1
        note "{boat.heat}"
    }
    heat = min(force, 5)
}
"#]);
}

// ---- names ----

#[test]
fn names_that_hide_one_another() {
    judged(&[r#"script names for office

private coins: int = 3 // ~ shadow/local

on bell {
    coins += 1
    let trust = coins // ~ shadow/local
    note "{trust}"
    let height = 1 // ~ shadow/local
    note "{height}"
    for heat in mailboat {
        note "{heat.oil}"
    }
}
"#
    .replace("note \"{heat.oil}\"", "note \"{heat.oil:1}\"")
    .as_str()]);
}

// ---- loops ----

#[test]
fn loops_that_come_to_an_end_and_one_that_does_not() {
    judged(&[r#"script loops for tide

on bell {
    let at = 0
    while at < 5 {
        at += 1
    }
    while height < 10 {
        height += 1
    }
    repeat 40 {
        if height > 0 { height -= 1 }
    }
    while chance(0.5) {
        note "again"
    }
}

on gust(force) {
    let left = force
    while left > 0 { // ~ flow/endless-loop
        note "blow"
    }
    left = 0
}
"#
    .replace("    left = 0\n", "")
    .as_str()]);
}

#[test]
fn a_wait_inside_a_loop() {
    judged(&[r#"script beacon for office

private on_duty: bool = false

on bell when not on_duty {
    on_duty = true
    repeat 3 {
        wait 1s
        if trust < 100 {
            trust += 1
        }
    }
    on_duty = false
}
"#]);
}

// ---- what is done in several hands ----

#[test]
fn two_scripts_that_step_the_same_counter() {
    judged(&[
        r#"script one for office

on bell {
    if stock < 9 { stock += 1 }
}
"#,
        r#"script two for office

on gust(force) {
    if stock > 0 { stock -= 1 }
    if force > 3 { send paid(force) }
}

on paid(sum) {
    coins += min(sum, 20)
}
"#,
    ]);
}

#[test]
fn a_sum_that_comes_with_a_signal_of_ones_own() {
    judged(&[r#"script till for office

on gust(force) {
    send paid(force - 20)
}

on paid(sum) {
    if sum > 0 { // ~ range/never
        coins += sum
    }
}
"#]);
}

#[test]
fn a_change_is_answered_once() {
    judged(&[r#"script marks for tide

on bell {
    height = (height + 1) % 11
}

on changed height {
    if height > was {
        show mark_label "Rising: {height}"
    } else {
        show mark_label "Falling: {height}"
    }
    if height == 10 {
        pace = 0
    }
}
"#]);
}

#[test]
fn what_was_is_unset_the_first_time() {
    expect_in_scripts(
        "[variables.tide.mark]\ntype = \"int\"\nscope = \"global\"\nengine = \"reads\"\n",
        &[r#"script marks for tide

on start {
    mark = 3
}

on bell {
    mark = 4
}

on changed mark {
    note "{was}" // ~ init/read-before-set
}
"#],
    );
}

#[test]
fn scenes_come_and_go() {
    expect_in_scripts(
        "[variables.harbor.guests]\ntype = \"int\"\nscope = \"scene\"\ndefault = 0\nmin = 0\nmax = 8\nengine = \"reads\"\n",
        &[
            r#"script pier for harbor

on enter {
    guests = random(0, 8)
}

on bell {
    if guests > 0 {
        guests -= 1
    } else {
        go marsh
    }
}
"#,
            r#"script tides for tide

on bell {
    if scene is harbor and harbor.guests < 3 {
        note "A quiet day."
    }
    note "{harbor.guests}" // ~ sharing/other-scene
}
"#
            .replace("on bell", "on every 5s")
            .as_str(),
            r#"script reeds for marsh

on bell {
    go harbor
}
"#,
        ],
    );
}

// ---- more hands and more ways ----

#[test]
fn a_procedure_that_says_whether_there_is_room() {
    judged(&[r#"script stockroom for office

proc has_room(for_more: int) -> bool {
    if for_more < 0 { return false } // ~ range/never
    return stock + for_more <= stock.max
}

proc is_closed() -> bool {
    return not open
}

on gust(force) {
    if has_room(force) {
        stock += force
    }
    open = force < 6
}

on bell {
    if is_closed() or not has_room(2) { return }
    stock += 2
    if stock > 0 and has_room(1) { // ~ range/always
        stock += 1
    } else if stock > 3 { // ~ range/always
        stock -= 3
    }
}
"#]);
}

#[test]
fn a_procedure_that_comes_to_its_end_without_an_answer() {
    judged(&[r#"script stockroom for office

proc is_full() -> bool {
    if stock >= 9 { return true }
}

on bell {
    if is_full() {
        stock = 0
    } else {
        stock += 2 // ~ range/can-exceed
    }
}

proc is_low() -> bool {
    while stock > 5 {
        return false
    }
    if stock < 3 {
        return stock > coins
    }
    return true
}

on gust(force) {
    if is_low() {
        stock += 4
    } else {
        stock = 0
    }
    coins = force
}
"#]);
}

#[test]
fn a_procedure_that_looks_at_the_wrong_thing() {
    judged(&[r#"script stockroom for office

proc has_room(for_more: int) -> bool {
    return coins + for_more <= 9
}

on gust(force) {
    if has_room(force) {
        stock += force // ~ range/can-exceed
    }
    coins = force
}
"#]);
}

#[test]
fn a_rest_is_never_more_than_what_it_was_taken_from() {
    judged(&[r#"script rest for office

on gust(force) {
    stock = 9 % (force + 1)
    trust = trust % 7
    coins = coins % 100
}

on bell {
    stock = 10 % (stock + 2) // ~ range/can-exceed
}
"#]);
}

#[test]
fn the_same_question_twice() {
    judged(&[r#"script twice for office

on bell {
    if stock > 4 {
        if stock > 2 { // ~ range/always
            stock -= 1
        }
    } else if stock > 6 { // ~ range/never
        stock -= 2
    } else if stock < 9 { // ~ range/always
        stock += 1
    }
}
"#]);
}

#[test]
fn what_is_thrown_away_and_what_is_kept() {
    judged(&[r#"script writes for office

on bell {
    stock = 2 // ~ unused/dead-write
    stock = 3
    coins = 5
    if open {
        coins = 6
    }
    trust = 10
    wait 1s
    trust = 20
}

on gust(force) {
    open = force > 3 // ~ unused/dead-write
    if force > 6 {
        open = true
    } else {
        open = false
    }
}
"#]);
}

#[test]
fn ways_that_end_before_the_end() {
    judged(&[r#"script ends for office

on bell {
    if stock > 3 {
        return
        stock = 3 // ~ unused/unreachable
    }
    while open {
        break
        open = false // ~ unused/unreachable
    }
    restart
    coins = 1 // ~ unused/unreachable
}

on gust(force) {
    open = force > 3
    stock = min(force, 9)
}
"#]);
}

// ---- rounds and heads ----

#[test]
fn as_many_rounds_as_there_is_room() {
    judged(&[r#"script packing for office

on bell {
    repeat stock.max - stock {
        stock += 1
    }
    if trust <= 97 {
        repeat 3 {
            trust += 1
        }
    }
    if coins >= 8 {
        repeat 4 {
            if chance(0.5) { coins -= 2 }
        }
    }
    let left = 3
    if trust >= 6 {
        while left > 0 {
            left -= 1
            trust -= 2
        }
    }
}

on gust(force) {
    if trust + force <= 100 {
        repeat force {
            trust += 1
        }
    }
    if trust <= 97 {
        repeat 4 {
            trust += 1 // ~ range/can-exceed
        }
    }
    repeat stock + 1 {
        stock -= 1 // ~ range/can-fall-below
    }
}
"#]);
}

#[test]
fn a_share_for_each_head() {
    judged(&[
        r#"script sharing_out for office

on bell {
    let share = 0.0
    if count(mailboat) > 0 {
        share = coins / count(mailboat)
    }
    for boat in mailboat {
        share += coins / count(mailboat)
    }
    spawn parcel as fresh
    share += coins / count(parcel)
    remove fresh
    share += coins / count(parcel) // ~ range/divide-by-zero
    note "{share:1}"
}

on gust(force) {
    if count(parcel) == 0 { return }
    wait 1s
    note "{force / count(parcel):1}" // ~ range/divide-by-zero
}
"#,
        r#"script boats for mailboat

on gust(force) {
    note "{force / count(mailboat):1}"
}

on hailed(by) {
    remove by
    note "{oil / count(mailboat):1}" // ~ range/divide-by-zero
}
"#,
    ]);
}

#[test]
fn a_price_asked_for_twice() {
    judged(&[r#"script shop for office

proc cost(pieces: int) -> int {
    return pieces * price
}

proc affordable(pieces: int) -> bool {
    return coins >= cost(pieces) and stock + pieces <= stock.max
}

proc free() -> int {
    return stock.max - stock
}

on gust(force) {
    if coins >= cost(force) {
        coins -= cost(force)
    }
    if not affordable(force) { return }
    coins -= cost(force)
    stock += force
    if free() > 0 and trust > 0 {
        trust -= 1
        stock += 1
    }
    if coins >= cost(force) {
        coins -= cost(force + 1) // ~ range/can-fall-below
    }
}
"#]);
}

// ---- modes that keep one another out ----

#[test]
fn a_mode_that_only_ends_what_it_guards() {
    judged(&[r#"script boats for mailboat

private mode: office.quest = "none"

on bell when mode == "none" and heat < heat.max {
    mode = "asked"
    wait 2s
    if mode != "asked" { return }
    heat += 1
    mode = "none"
}

on hailed(by) {
    if mode != "none" { return }
    mode = "taken"
    wait 3s
    if mode == "taken" {
        heat = 0
        mode = "none"
    }
}

on touched(other) {
    mode = "done"
}
"#]);
}

#[test]
fn guards_of_two_handlers_that_do_not_fit_together() {
    judged(&[r#"script boats for mailboat

private stage: int = 0
private later: int = 0

on bell when stage == 0 and heat < heat.max {
    stage = 1
    wait 1s
    heat += 1 // ~ range/can-exceed
    stage = 0
}

on hailed(by) when stage < 5 and heat < heat.max {
    stage = 7
    wait 1s
    heat += 1 // ~ range/can-exceed
    stage = 0
}

on touched(other) when later == 0 and oil <= 99 {
    later = 1
    after 1s {
        oil += 1
        later = 0
    }
}

on removed when later == 0 and oil >= 1 {
    later = 2
    wait 1s
    oil -= 1
    later = 0
}
"#]);
}

// ---- what is easily lost on the way ----

#[test]
fn what_a_test_does_counts_whichever_way_it_comes_out() {
    judged(&[r#"script gates for office

proc spend() -> bool {
    stock -= 1 // ~ range/can-fall-below
    return stock > 5
}

proc take() -> bool {
    trust -= 1 // ~ range/can-fall-below
    return trust > 5
}

on bell when spend() {
    note "open"
}

on gust(force) {
    for boat in mailboat where take() {
        note "{boat.heat}"
    }
}
"#]);
}

#[test]
fn a_test_of_a_name_does_not_put_its_variables_right() {
    judged(&[r#"script loads for mailboat

on hailed(by: mailboat) {
    by.heat += 1 // ~ range/can-exceed
    if by is set {
        note "hailed"
    }
}
"#]);
}

#[test]
fn thirds_and_sevenths_end_no_loop_early() {
    judged(&[r#"script ledger for office

on bell {
    repeat 2 {
        trust -= 7 // ~ unused/dead-write
        trust = -2 // ~ range/can-fall-below
    }
}
"#]);
}

#[test]
fn what_a_signal_brings_may_be_gone_by_ones_turn() {
    // What happens to a boat is not answered by a parcel's scripts.
    let taking = "script rams for mailboat\n\non hailed(by) {\n    remove by\n}\n";
    judged(&[taking, "script parcels for parcel\n\non hailed(by) {\n    note \"{by.heat}\"\n}\n"]);
    let before = "script fires for office\n\non hailed(by) {\n    remove by\n}\n";
    judged(&[
        before,
        r#"script boats for tide

on hailed(by) {
    note "{by.heat}" // ~ init/empty-ref
}

on hailed(by: mailboat) {
    note "{by.heat}"
}
"#,
    ]);
    judged(&[
        "script a for office\n\non hailed(by) {\n    wait 1s\n    remove by\n}\non hailed(by) {\n    note \"{by.heat}\"\n}\n",
    ]);
}

#[test]
fn an_invariant_that_is_false_from_the_start_is_not_built_upon() {
    expect_in_scripts(
        &format!("{STATE}\n[invariants.rich]\nholds = \"office.coins >= 20\"\n"),
        &["script shop for office\n\non bell {\n    coins -= 15 // ~ range/can-fall-below\n}\n"],
    );
}

#[test]
fn fractions_that_are_put_back_inside() {
    judged(&[
        r#"script lamps for mailboat

on gust(force) {
    oil += force / 10
    if oil > 100 { oil = 100 }
    oil -= force / 5
    if not (oil >= 0) { oil = 0 }
    oil += random(-0.5, 0.5)
    if oil < 0 {
        oil = 0
    } else if oil > oil.max {
        oil = oil.max
    }
    oil += force / 10 // ~ range/can-exceed
    if oil > 100.5 { oil = 100 }
}
"#,
        r#"script breezes for tide

on gust(force) {
    let rest = pace - force / 10
    if rest < 0 { rest = 0 }
    pace = rest
    pace += 0.5
    if pace >= 4 { pace = 4 }
    pace = 4 - pace + 0.6 // ~ range/can-exceed
}
"#,
    ]);
}

#[test]
fn a_rest_is_no_more_than_what_it_was_taken_from() {
    let fog = r#"[variables.tide.fog]
type = "number"
scope = "global"
default = 0
min = 0
max = "tide.top"
engine = "reads"
[variables.tide.top]
type = "number"
scope = "global"
default = 20
min = 10
max = 40
"#;
    expect_in_scripts(
        &format!("{STATE}{fog}"),
        &[r#"script fogs for tide

on gust(force) {
    let rest = fog - force
    if rest < 0 { rest = 0 }
    fog = rest
    top -= force
    if top < 10 { top = 10 }
    if fog > top { fog = top }
    note "{fog:1}"
    fog = rest + 1 // ~ range/can-exceed
}
"#],
    );
}

#[test]
fn a_loop_over_all_that_trims_what_a_smaller_bound_leaves_outside() {
    let state = r#"[variables.mailboat]
hold = { type = "int", scope = "type", default = 20, min = 1, max = 60 }
cargo = { type = "int", scope = "instance", default = 0, min = 0, max = "mailboat.hold", writers = ["*"] }
[signals.gust]
from = "engine"
to = "all"
parameters = { force = "int" }
"#;
    let script = |body: &str| {
        let loading = "on touched(other) {\n    if cargo < hold { cargo += 1 }\n}\n\n";
        format!(
            "script boats for mailboat\n\n{loading}on bell {{\n    if hold < 6 {{ return }}\n    mailboat.hold -= 5\n{body}}}\n"
        )
    };
    for right in [
        "    for boat in mailboat {\n        if boat.cargo > hold { boat.cargo = hold }\n    }\n",
        "    for boat in mailboat where boat.cargo > hold {\n        boat.cargo = hold\n    }\n",
        "    for boat in mailboat {\n        boat.cargo = min(boat.cargo, hold)\n    }\n",
    ] {
        expect_in_scripts(state, &[&script(right)]);
    }
    for wrong in [
        "    cargo = min(cargo, hold)\n",
        "    for boat in mailboat where boat.cargo > hold + 1 {\n        boat.cargo = hold\n    }\n",
        "    for boat in mailboat {\n        if boat.cargo > hold { boat.cargo = hold }\n        if chance(0.5) { break }\n    }\n",
    ] {
        let marked = script(wrong).replace("hold -= 5", "hold -= 5 // ~ range/can-exceed");
        expect_in_scripts(state, &[&marked]);
    }
}

#[test]
fn what_was_taken_too_much_is_given_back() {
    judged(&[r#"script tills for office

on gust(force) {
    coins -= force
    if coins < 0 {
        coins += force
        note "too poor"
        return
    }
    trust += force
    if trust > 100 { trust -= force }
}

on bell {
    let gift = random(1, 9)
    trust += gift // ~ range/can-exceed
    if trust > 100 { trust -= gift - 1 }
}
"#]);
}
