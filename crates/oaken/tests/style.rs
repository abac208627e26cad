//! `oaken format`, `completions` and `manual`.

mod support;

use support::{CONFIG, Project};

fn formatted(name: &str, text: &str) -> String {
    let project = Project::empty();
    project.write("oaken.toml", CONFIG);
    project.write(name, text);
    let run = project.oaken(&["format"]);
    assert_eq!(run.code, 0, "{}{}", run.out, run.err);
    let once = project.read(name);
    project.oaken(&["format"]);
    assert_eq!(project.read(name), once, "twice is the same as once");
    assert_eq!(project.oaken(&["format", "--check"]).code, 0);
    once
}

#[test]
fn scripts_get_one_style_and_keep_their_comments() {
    let text = "script  loading for boat   in harbor
private busy:bool=false // held
// comes first
on touched( other : parcel )   when not busy {
busy=true


  if parcels<hold_size and( parcels>=0 or -1 ==depth ) { // room?
        parcels+=1
      // inside

      show label \"{parcels}  of { hold_size }\"
   }
   else if parcels == -2 {
  }
else{ go marsh }
    let long = min( parcels ,
      3 ) +
   2
  for other in boat where ( other.parcels>- 1 ) { }
}
proc add( by:int )->int { return by*2 }
";
    let wanted = "script loading for boat in harbor
private busy: bool = false // held

// comes first
on touched(other: parcel) when not busy {
    busy = true

    if parcels < hold_size and (parcels >= 0 or -1 == depth) { // room?
        parcels += 1
        // inside

        show label \"{parcels}  of { hold_size }\"
    }
    else if parcels == -2 {
    }
    else { go marsh }
    let long = min(parcels,
        3) +
        2
    for other in boat where (other.parcels > -1) {}
}

proc add(by: int) -> int { return by * 2 }
";
    assert_eq!(formatted("scripts/one.oaken", text), wanted);
    let windows = formatted("scripts/one.oaken", &text.replace('\n', "\r\n"));
    assert_eq!(windows, wanted.replace('\n', "\r\n"), "line ends stay what they are");
}

#[test]
fn registry_files_get_one_style_and_keep_what_is_inside_values() {
    let text = "# The tide\n\n\n  [owners.tide]   \nkind=\"system\"\nabout   =   \"\"\"\n  two  \n\n\n lines \"\"\"\n# marks\n[variables.tide]\n  height={type=\"int\",scope = \"global\",  default=0 }   # deep\nmood = {type=\"enum\", scope=\"global\", values=[\n   \"calm\",   # still\n   \"storm\" ] }\n\n\n";
    let wanted = "# The tide\n\n[owners.tide]\nkind = \"system\"\nabout = \"\"\"\n  two  \n\n\n lines \"\"\"\n\n# marks\n[variables.tide]\nheight = {type=\"int\",scope = \"global\",  default=0 }   # deep\nmood = {type=\"enum\", scope=\"global\", values=[\n   \"calm\",   # still\n   \"storm\" ] }\n";
    assert_eq!(formatted("registry/tide.toml", text), wanted);
}

#[test]
fn what_can_t_be_read_is_left_alone() {
    let project = Project::empty();
    project.write("oaken.toml", CONFIG);
    let broken = "script  tides for tide\non bell {\n  let = 3\n}\n";
    project.write("scripts/broken.oaken", broken);
    project.write("scripts/fine.oaken", "script  tides for tide\n");
    let check = project.oaken(&["format", "--check"]);
    assert_eq!(check.code, 1);
    assert!(check.out.contains("scripts/fine.oaken is not in style"), "{}", check.out);
    let run = project.oaken(&["format"]);
    assert!(run.err.contains("scripts/broken.oaken has mistakes, so it is left as it is"), "{}", run.err);
    assert_eq!(project.read("scripts/broken.oaken"), broken);
    assert_eq!(project.read("scripts/fine.oaken"), "script tides for tide\n");
    project.oaken(&["format", "nowhere"]).could_not("nowhere");
}

#[test]
fn shells_and_manual_readers_are_served() {
    let project = Project::empty();
    for shell in ["bash", "zsh", "fish"] {
        let run = project.oaken(&["completions", shell]);
        assert!(run.code == 0 && run.out.contains("rehearse"), "{shell}: {}", run.err);
    }
    assert!(project.oaken(&["manual"]).out.contains(".TH oaken 1"));
    assert_eq!(project.oaken(&["manual", "pages"]).code, 0);
    assert!(project.read("pages/oaken-rename.1").contains("dry\\-run"));
}
