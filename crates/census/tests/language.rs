//! Mistakes in scripts: each is told once, at its line, with what was expected and, where there is one, the cure.

use census::script::parse;

/// Asserts that a script with one mistake, behind its header, is told so and not otherwise.
#[track_caller]
fn told(script: &str, line: usize, message: &str, cure: &str) {
    let text = format!("script tides for tide\n{script}");
    let tree = parse(&text);
    let found: Vec<(usize, &str, &str)> = tree
        .errors
        .iter()
        .map(|error| {
            let line = text[..error.span.start as usize].matches('\n').count() + 1;
            (line, error.message.as_str(), error.help.as_deref().unwrap_or(""))
        })
        .collect();
    assert_eq!(found, [(line, message, cure)], "{script}");
}

#[test]
fn assignments_and_conditions() {
    told(
        "on bell {
    height = 
}
",
        3,
        "expected a value after `=`",
        "",
    );
    told(
        "on bell {
    height == 3
}
",
        3,
        "`height` begins no statement",
        "to set it, write `height = …` with one `=`",
    );
    told(
        "on bell {
    if height = 3 { height = 1 }
}
",
        3,
        "`=` sets a value and can't stand in a condition",
        "to compare, write `==`",
    );
    told(
        "on bell {
    let = 3
}
",
        3,
        "expected a name, found `=`",
        "",
    );
    told(
        "on bell {
    let x 3
}
",
        3,
        "expected `=`, found `3`",
        "",
    );
    told(
        "on bell {
    height += 1 height += 2
}
",
        3,
        "expected the end of the line, found `height`",
        "",
    );
    told(
        "on bell {
    height = (1 + 2
}
",
        3,
        "expected `)` after `2`",
        "",
    );
    told(
        "on bell {
    height = 1 + * 2
}
",
        3,
        "expected a value, found `*`",
        "",
    );
    told(
        "on bell {
    height = 1 < 2 < 3
}
",
        3,
        "comparisons don't chain",
        "join two comparisons with `and`: `0 <= x and x < 5`",
    );
    told(
        "on bell {
    height = @
}
",
        3,
        "expected a value, found `@`",
        "",
    );
    told(
        "on bell {
    height = 1..2
}
",
        3,
        "expected the end of the line, found `.`",
        "",
    );
    told(
        "on bell {
    height = 1.
}
",
        3,
        "expected the end of the line, found `.`",
        "",
    );
    told(
        "on bell {
    height = .5
}
",
        3,
        "expected a value, found `.`",
        "",
    );
    told(
        "on bell {
    height = 99999999999999999999
}
",
        3,
        "`99999999999999999999` is too large for a whole number",
        "the largest is 9223372036854775807",
    );
    told(
        "on bell {
    height++
}
",
        3,
        "`height` begins no statement",
        "",
    );
    told(
        "on bell {
    mood.calm()
}
",
        3,
        "expected `=`, `+=`, `-=`, `*=` or `/=`, found `(`",
        "",
    );
    told(
        "on bell {
    do_it
}
",
        3,
        "`do_it` begins no statement",
        "to call a procedure, write `do_it()`; to set a variable, `do_it = …`",
    );
    told(
        "on bell {
    clear
}
",
        3,
        "expected a variable's name after `clear`",
        "",
    );
    told(
        "on bell {
    clear 3
}
",
        3,
        "expected a variable's name, found `3`",
        "",
    );
}

#[test]
fn blocks_and_loops() {
    told(
        "on bell {
    if height > 3
    {
        height = 1
    }
}
",
        3,
        "expected `{` after `3`",
        "a `{` stands on the line of what it belongs to",
    );
    told(
        "on bell {
    if { height = 1 }
}
",
        3,
        "expected a value, found `{`",
        "",
    );
    told(
        "on bell {
    while { height = 1 }
}
",
        3,
        "expected a value, found `{`",
        "",
    );
    told(
        "on bell {
    repeat { height = 1 }
}
",
        3,
        "expected a value, found `{`",
        "",
    );
    told(
        "on bell {
    for boat mailboat { height = 1 }
}
",
        3,
        "expected `in`, found `mailboat`",
        "",
    );
    told(
        "on bell {
    for in mailboat { height = 1 }
}
",
        3,
        "expected `in`, found `mailboat`",
        "",
    );
    told(
        "on bell {
    match height {
        1 height = 1
    }
}
",
        4,
        "expected `{`, found `height`",
        "",
    );
    told(
        "on bell {
    else { height = 1 }
}
",
        3,
        "this `else` belongs to no `if`",
        "",
    );
    told(
        "on bell {
    height = height is
}
",
        3,
        "expected `set`, `none`, or the name of an actor after `is`",
        "",
    );
    told(
        "on bell {
    if height is not { height = 1 }
}
",
        3,
        "expected `set`, `none`, or the name of an actor, found `{`",
        "",
    );
    told(
        "on bell {
    if not { height = 1 }
}
",
        3,
        "expected a value, found `{`",
        "",
    );
    told(
        "on bell {
    if height and { height = 1 }
}
",
        3,
        "expected a value, found `{`",
        "",
    );
}

#[test]
fn time() {
    told(
        "on bell {
    wait
}
",
        3,
        "expected a duration such as `0.5s`, `200ms` or `10t` after `wait`",
        "",
    );
    told(
        "on bell {
    wait 5
}
",
        3,
        "expected a duration such as `0.5s`, `200ms` or `10t`, found `5`",
        "",
    );
    told(
        "on bell {
    wait 5 s
}
",
        3,
        "expected a duration such as `0.5s`, `200ms` or `10t`, found `5`",
        "",
    );
    told(
        "on bell {
    wait 5m
}
",
        3,
        "expected a duration such as `0.5s`, `200ms` or `10t`, found `5m`",
        "",
    );
    told(
        "on bell {
    wait until
}
",
        3,
        "expected a value after `until`",
        "",
    );
    told(
        "on bell {
    after { height = 1 }
}
",
        3,
        "expected a duration such as `0.5s`, `200ms` or `10t`, found `{`",
        "",
    );
}

#[test]
fn signals_texts_and_questions() {
    told(
        "on bell {
    send
}
",
        3,
        "expected a signal's name after `send`",
        "",
    );
    told(
        "on bell {
    send told(
}
",
        3,
        "expected a value after `(`",
        "",
    );
    told(
        r#"on bell {
    show "open {height"
}
"#,
        3,
        "this token is never closed",
        "close it with `}`; for a brace in a text write `{{`",
    );
    told(
        r#"on bell {
    show "close } it"
}
"#,
        3,
        "this `}` closes no token",
        "write `}}` for a brace in a text",
    );
    told(
        r#"on bell {
    show "not closed
}
"#,
        3,
        r#"this text has no closing `"` on its line"#,
        "",
    );
    told(
        r#"on bell {
    show "bad \q escape"
}
"#,
        3,
        r"`\q` means nothing in a text",
        r#"write `\"`, `\\` or `\n`"#,
    );
    told(
        r#"on bell {
    show "{}"
}
"#,
        3,
        "expected a value",
        "",
    );
    told(
        "on bell {
    hide
}
",
        3,
        "expected a label's name after `hide`",
        "",
    );
    told(
        "on bell {
    spawn
}
",
        3,
        "expected an actor's name after `spawn`",
        "",
    );
    told(
        "on bell {
    spawn parcel as
}
",
        3,
        "expected a name after `as`",
        "",
    );
    told(
        "on bell {
    remove
}
",
        3,
        "expected a value after `remove`",
        "",
    );
    told(
        "on bell {
    go
}
",
        3,
        "expected a scene's name after `go`",
        "",
    );
}

#[test]
fn what_stands_at_the_top() {
    told(
        "on {
    height = 1
}
",
        2,
        "expected what the handler answers, found `{`",
        "",
    );
    told(
        "on bell
    height = 1
}
",
        2,
        "expected `{` after `bell`",
        "",
    );
    told(
        "on bell {
    height = 1
",
        2,
        "this `{` is never closed",
        "",
    );
    told(
        "on bell( {
    height = 1
}
",
        2,
        "expected a parameter's name or `)`, found `{`",
        "",
    );
    told(
        "on bell when {
    height = 1
}
",
        2,
        "expected a value, found `{`",
        "",
    );
    told(
        "on every {
    height = 1
}
",
        2,
        "expected a duration such as `0.5s`, `200ms` or `10t`, found `{`",
        "",
    );
    told(
        "on every 5 {
    height = 1
}
",
        2,
        "expected a duration such as `0.5s`, `200ms` or `10t`, found `5`",
        "",
    );
    told(
        "on changed {
    height = 1
}
",
        2,
        "expected a variable's name, found `{`",
        "",
    );
    told(
        "private x
",
        2,
        "expected `:` and a type after `x`",
        "",
    );
    told(
        "private x: = 3
",
        2,
        "expected a type, found `=`",
        "",
    );
    told(
        "private : int = 3
",
        2,
        "expected the private's name, found `:`",
        "",
    );
    told(
        "proc {
    height = 1
}
",
        2,
        "expected the procedure's name, found `{`",
        "",
    );
    told(
        "proc f {
    height = 1
}
",
        2,
        "expected `(`, found `{`",
        "",
    );
    told(
        "proc f(x {
    height = 1
}
",
        2,
        "expected `,` or `)`, found `{`",
        "",
    );
    told(
        "proc f() -> {
    height = 1
}
",
        2,
        "expected a type, found `{`",
        "",
    );
    told(
        "height = 1
",
        2,
        "`height` can't stand here, outside a handler",
        "what stands here is `private`, `on` or `proc`; look for a `}` too many above",
    );
    told(
        "}
",
        2,
        "`}` can't stand here, outside a handler",
        "what stands here is `private`, `on` or `proc`; look for a `}` too many above",
    );
}

#[test]
fn slips_from_elsewhere() {
    told(
        r#"on bell {
    ask "what?" {
        height = 1
    }
}
"#,
        4,
        "a question has choices, and `height` is none",
        "",
    );
    told(
        r#"on bell {
    ask "what?" {
        choice { height = 1 }
    }
}
"#,
        4,
        "expected a value, found `{`",
        "",
    );
    told(
        "on bell {
    if a implies b { height = 1 }
}
",
        3,
        "`implies` is for invariants only",
        "write `not a or b` for `a implies b`",
    );
    told(
        "on bell {
    height = 'text'
}
",
        3,
        "expected a value, found `'`",
        r#"a text stands in `"`"#,
    );
    told(
        "on bell {
    height = 1; height = 2
}
",
        3,
        "expected the end of the line, found `;`",
        "a statement ends with its line: write the next one below",
    );
    told(
        "/* a comment */
on bell { height = 1 }
",
        2,
        "`/` can't stand here, outside a handler",
        "a comment runs from `//` to the end of the line",
    );
    told(
        "# a comment
on bell { height = 1 }
",
        2,
        "`#` can't stand here, outside a handler",
        "a comment runs from `//` to the end of the line",
    );
    told(
        "function f() { height = 1 }
",
        2,
        "`function` can't stand here, outside a handler",
        "what stands here is `private`, `on` or `proc`; look for a `}` too many above",
    );
    told(
        "on bell {
    var x = 1
}
",
        3,
        "`var` begins no statement",
        "",
    );
    told(
        "on bell {
    height = true ? 1 : 2
}
",
        3,
        "expected the end of the line, found `?`",
        "there is no short form of `if`: write it out",
    );
    told(
        "on bell {
    if height > 1 && height < 3 { height = 1 }
}
",
        3,
        "expected `{`, found `&`",
        "write `and`",
    );
    told(
        "on bell {
    if !busy { height = 1 }
}
",
        3,
        "expected a value, found `!`",
        "write `not`; to compare, `!=`",
    );
}

/// Reading goes on behind a mistake: three mistakes are three findings, and what is sound is read.
#[test]
fn three_mistakes_are_three_findings() {
    let text = "script tides for tide

private x: = 3

on bell {
    height =
    log = 1
    ask \"what?\" {
        chioce \"a\" { log = 2 }
        choice \"b\" { log = 3 }
    }
    match log {
        1 log = 2
        2 { log = 3 }
    }
    log = 4
}

on raise(by) {
    log = by
}
";
    let tree = parse(text);
    let lines: Vec<usize> =
        tree.errors.iter().map(|error| text[..error.span.start as usize].matches('\n').count() + 1).collect();
    assert_eq!(lines, [3, 6, 9, 13]);
    assert_eq!(tree.handlers.len(), 2);
    assert_eq!(tree.handlers[0].body.statements.len(), 4, "the sound statements are there");
}

#[test]
fn statements_of_every_kind_are_read() {
    let text = r#"script all for boat in harbor
private a: int = -3
private b: islander.mood
private c: number = 0.5

on start { a = 1 }
on enter { a += 1 }
on leave { a -= 1 }
on spawn { a *= 2 }
on removed { c /= 2 }
on tick { clear a }
on every 2s { let x = a }
on changed tide.height { note "{was}" }
on touched(other: parcel, by) when a > 1 and not (b is set) {
    if a == 1 { a = 2 } else if a == 2 { a = 3 } else { a = 4 }
    match b {
        "calm", "glad" { a = 1 }
        else { a = 2 }
    }
    while a < 3 { a += 1 }
    repeat a + 1 { break }
    for each in boat where each.load > 1 { each.load = 0 }
    wait 0.5s
    wait 200ms
    wait seconds(a / 2)
    wait until a > 3
    after 10t { a = 9 }
    send told(1, a) to other
    send quiet
    show "text {a} and {c:1} and {{braces}} \" \\ \n"
    show label "text"
    hide label
    ask "Which?" {
        choice "One" when a > 0 { a = 1 }
        choice "Two" { a = 2 }
    }
    note "n"
    spawn parcel as fresh
    spawn parcel
    remove fresh
    go marsh
    help(a, -a, +a, a % 2 * 3 - (4 + 5))
    let y = min(a, max(1, 2)) >= 3 or other is parcel or other is not none
    return
}

proc help(p: int, q: number, r: actor, s: vec2) {
    restart
}

proc half(of: int) -> number {
    return of / 2
}
"#;
    let tree = parse(text);
    let told: Vec<&str> = tree.errors.iter().map(|error| error.message.as_str()).collect();
    assert_eq!(told, Vec::<&str>::new());
    assert_eq!((tree.privates.len(), tree.handlers.len(), tree.procedures.len()), (3, 9, 2));
    assert_eq!(tree.handlers[8].body.statements.len(), 24);
}
