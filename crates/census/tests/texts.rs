//! Files as texts: where keys and words stand in TOML, and what formatting does and leaves alone.

use census::registry::format::format as format_toml;
use census::registry::toml::words;
use census::script::format::format as format_script;
use census::script::parser::parse_duration;

/// The keys and texts of a file, as `path` or `path = text`.
fn told(text: &str) -> Vec<String> {
    words(text)
        .into_iter()
        .map(|word| {
            let path = word.path.join("/");
            let raw = &text[word.span.range()];
            if word.is_key { format!("{path} ({raw})") } else { format!("{path} = {} ({raw})", word.text) }
        })
        .collect()
}

#[test]
fn words_know_the_keys_that_lead_to_them() {
    let text = r#"top = "a"
[one."two 2"]
three = { four = "b", five.six = ['c', "\u0064"] }
seven.eight = 3
[[list]]
ten = "f"
[[list]]
ten = { x = "g" }
"#;
    assert_eq!(
        told(text),
        [
            "top (top)",
            "top = a (\"a\")",
            "one (one)",
            "one/two 2 (\"two 2\")",
            "one/two 2/three (three)",
            "one/two 2/three/four (four)",
            "one/two 2/three/four = b (\"b\")",
            "one/two 2/three/five (five)",
            "one/two 2/three/five/six (six)",
            "one/two 2/three/five/six = c ('c')",
            "one/two 2/three/five/six = d (\"\\u0064\")",
            "one/two 2/seven (seven)",
            "one/two 2/seven/eight (eight)",
            "list (list)",
            "list/ten (ten)",
            "list/ten = f (\"f\")",
            "list (list)",
            "list/ten (ten)",
            "list/ten/x (x)",
            "list/ten/x = g (\"g\")",
        ]
    );
}

#[test]
fn words_of_broken_files_are_found_up_to_the_mistake() {
    assert_eq!(told("a = \"x\"\nb = \nc = \"y\"\n").last().map(String::as_str), Some("c = y (\"y\")"));
    assert!(told("").is_empty());
    assert!(!told("[a\nb = \"x\"\n").is_empty());
    assert!(!told(&"a = [".repeat(500)).is_empty(), "deep nesting ends somewhere");
}

#[test]
fn formatting_toml_changes_white_space_alone() {
    for (before, after) in [
        ("a=1", "a = 1\n"),
        ("\n\n\na = 1\n\n\n\nb = 2\n\n", "a = 1\n\nb = 2\n"),
        ("  a   =   \"x  y\"   # c  \n", "a = \"x  y\"   # c\n"),
        ("[a]\n[b]\n", "[a]\n\n[b]\n"),
        ("x = 1\n# about b\n# more\n[b]\ny=2\n", "x = 1\n\n# about b\n# more\n[b]\ny = 2\n"),
        ("[a]\nb.c=1\nb.d  =2\n", "[a]\nb.c = 1\nb.d = 2\n"),
        ("a = [\n    1,\n\n\n    2,   # two\n]\n", "a = [\n    1,\n\n\n    2,   # two\n]\n"),
        ("a = { b=1,c = 2 }\n", "a = { b=1,c = 2 }\n"),
        ("a = '''\n  x  \n\n\n'''\n", "a = '''\n  x  \n\n\n'''\n"),
        ("\"k e\"=1\n'l'   = 2\n", "\"k e\" = 1\n'l' = 2\n"),
        ("[[s]]\na=1\n[[s]]\na=2\n", "[[s]]\na = 1\n\n[[s]]\na = 2\n"),
        ("", ""),
    ] {
        let once = format_toml(before).unwrap_or_else(|| panic!("{before:?}"));
        assert_eq!(once, after, "{before:?}");
        assert_eq!(format_toml(&once).as_deref(), Some(after), "twice: {before:?}");
    }
    assert_eq!(format_toml("a = "), None);
    assert_eq!(format_toml("a=1\r\nb=2\r\n").as_deref(), Some("a = 1\r\nb = 2\r\n"));
}

#[test]
fn formatting_scripts_changes_white_space_alone() {
    let head = "script s for tide\n";
    for (before, after) in [
        ("on start{a=1}", "on start { a = 1 }\n"),
        ("on start {\na=-1\n}", "on start {\n    a = -1\n}\n"),
        ("on start {\na=b-1\nc=b - -1\n}", "on start {\n    a = b - 1\n    c = b - -1\n}\n"),
        ("on start {\na = f( 1,-x )*2\n}", "on start {\n    a = f(1, -x) * 2\n}\n"),
        ("on start {\nif not(a)and(b){ c=1 }\n}", "on start {\n    if not (a) and (b) { c = 1 }\n}\n"),
        ("on start {\nlet x=1+\n2\nlet y=3\n}", "on start {\n    let x = 1 +\n        2\n    let y = 3\n}\n"),
        ("on start {\n\n\na = 1\n\n\n\nb = 2\n\n}", "on start {\n    a = 1\n\n    b = 2\n}\n"),
        ("on every   2s{\nwait   5t\n}", "on every 2s {\n    wait 5t\n}\n"),
        (
            "private a:int=3\nproc p( x:int )->int{return x}",
            "private a: int = 3\n\nproc p(x: int) -> int { return x }\n",
        ),
        ("on changed  tide . height {\n}", "on changed tide.height {\n}\n"),
        ("on start {\n// a\n\n  // b\n}", "on start {\n    // a\n\n    // b\n}\n"),
    ] {
        let once = format_script(&format!("{head}{before}")).unwrap_or_else(|| panic!("{before:?}"));
        let body = once.strip_prefix(head).expect("the header").trim_start_matches('\n');
        assert_eq!(body, after, "{before:?}");
        assert_eq!(format_script(&once).as_deref(), Some(once.as_str()), "twice: {before:?}");
    }
    assert_eq!(format_script("script s for tide\non start {"), None);
    assert_eq!(format_script("no script"), None);
}

#[test]
fn lengths_of_time_are_read_whole() {
    let ticks = |text: &str| parse_duration(text).and_then(|duration| duration.ticks(10.0));
    assert_eq!((ticks("1s"), ticks("0.25s")), (Some(10.0), Some(3.0)));
    assert_eq!((ticks("200ms"), ticks("7t")), (Some(2.0), Some(7.0)));
    for text in ["", "1", "s", "1 s", "-1s", "1s 2s", "1m", "seconds(1)", "1.s", "1e3s"] {
        assert_eq!(ticks(text), None, "{text:?}");
    }
}

#[test]
fn lists_counts_and_numbers_are_worded_as_people_do() {
    use census::words::{both, count, either, number};
    assert_eq!(either(&["a"]), "`a`");
    assert_eq!(either(&["a", "b"]), "`a` or `b`");
    assert_eq!(both(&["a", "b", "c"]), "`a`, `b` and `c`");
    assert_eq!(both::<&str>(&[]), "");
    assert_eq!(
        (count(0, "line"), count(1, "line"), count(2, "line")),
        ("0 lines".into(), "1 line".into(), "2 lines".into())
    );
    for (value, text) in [
        (0.0, "0"),
        (-0.0, "0"),
        (3.0, "3"),
        (-2.5, "-2.5"),
        (0.1, "0.1"),
        (1e16, "1e16"),
        (-3.28e-15, "-3.28e-15"),
        (f64::INFINITY, "any height"),
        (f64::NEG_INFINITY, "any depth"),
    ] {
        assert_eq!(number(value), text);
    }
}

#[test]
fn the_nearest_names_are_near() {
    use census::words::{did_you_mean, nearest};
    let names = ["tide.height", "tide.weight", "mailboat.parcels", "office.coins", "x"];
    assert_eq!(nearest("tide.hieght", names), ["tide.height", "tide.weight"]);
    assert_eq!(nearest("TIDE.HEIGHT", names), ["tide.height", "tide.weight"], "case is no distance");
    assert_eq!(nearest("mailboat.parcel", names), ["mailboat.parcels"]);
    assert_eq!(nearest("harbor.queue", names), Vec::<&str>::new());
    assert_eq!(nearest(&"a".repeat(10_000), names), Vec::<&str>::new());
    assert_eq!(did_you_mean("office.coin", names).as_deref(), Some("did you mean `office.coins`?"));
    assert_eq!(did_you_mean("", names).as_deref(), Some("did you mean `x`?"));
    assert_eq!(did_you_mean("lighthouse", names), None);
}

#[test]
fn a_file_knows_its_lines_and_columns() {
    use census::source::{FileKind, SourceFile};
    let file = SourceFile::new("a.oaken", FileKind::Script, "\u{feff}one\r\nzwei ß x\n\nlast".as_bytes().to_vec());
    let at = |offset: usize| {
        let position = file.position(u32::try_from(offset).expect("small"));
        (position.line, position.column)
    };
    let offset = |word: &str| file.text.find(word).expect("the word");
    assert_eq!(at(offset("one")), (1, 1), "a mark at the beginning is no column");
    assert_eq!(at(offset("x")), (2, 8), "columns count characters");
    assert_eq!(at(offset("last") + 4), (4, 5));
    assert_eq!(at(100_000), (4, 5));
    assert_eq!(file.line_count(), 4);
    assert_eq!(file.slice(file.line_span(1)), "zwei ß x");
    assert_eq!(file.slice(file.line_span(2)), "");
    let broken = SourceFile::new("b", FileKind::Script, b"ab\xffcd".to_vec());
    assert_eq!(broken.invalid_utf8, Some(2));
}
