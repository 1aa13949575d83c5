//! What other hosts answer never reaches a terminal as it is: every answer with an odd
//! name at every place, shown as text, as tables and as JSON; and each output follows the
//! schema that it names.

#![allow(clippy::unwrap_used)]

#[path = "common/crowd.rs"]
mod crowd;
#[path = "common/hidden.rs"]
mod hidden;
#[path = "common/shapes.rs"]
mod shapes;

use std::fs;
use std::process::Stdio;

use crowd::Crowd;
use hidden::{ODD, check, strings_of};
use serde_json::Value;
use shapes::Shapes;

/// The commands, and the answers that each reads.
const COMMANDS: [(&[&str], &[&str]); 7] = [
    (&["fleet", "state"], &["old"]),
    (&["fleet", "post", "--check"], &["old", "change"]),
    (
        &["fleet", "post", "--yes", "--checkers", "1", "--trial", "1s"],
        &["posted", "differs", "confirmed"],
    ),
    (&["fleet", "reach"], &["differs"]),
    (&["fleet", "tally", "--by-host"], &["tally"]),
    (&["fleet", "log"], &["log"]),
    (&["fleet", "log", "--top", "sources"], &["top"]),
];

#[test]
fn no_host_writes_on_the_terminal() {
    let names: Vec<String> = ["bad-1", "mast-2", "off-3", "key-4"].map(str::to_owned).to_vec();
    let crowd = Crowd::new(&names);
    let mut shapes = Shapes::default();
    let mut show = |words: &[&str]| {
        for form in [&[][..], &["--json"], &["--csv"]] {
            let words = [form, words].concat();
            let output = crowd.command(&words).stdin(Stdio::null()).output().unwrap();
            let (text, errors) =
                (String::from_utf8(output.stdout), String::from_utf8(output.stderr));
            let text = text.unwrap();
            check(&words, &text);
            check(&words, &errors.unwrap());
            if form == ["--json"] && !text.trim().is_empty() {
                shapes.check(&words, &text);
            }
        }
        for name in &names {
            for kind in ["new", "trial"] {
                let _ = fs::remove_file(crowd.folder.path().join(format!("{name}.{kind}")));
            }
        }
    };
    for (words, answers) in COMMANDS {
        show(words);
        for name in answers {
            let path = crowd.folder.path().join(name);
            let good = fs::read_to_string(&path).unwrap();
            let answer: Value = serde_json::from_str(&good).unwrap();
            let (mut places, mut inner) = (Vec::new(), Vec::new());
            strings_of(&answer, "", &mut places);
            // What a command has written there is JSON in a string.
            let said = answer["ran"][0]["output"].as_str().unwrap();
            let said: Value = serde_json::from_str(said).unwrap();
            strings_of(&said, "", &mut inner);
            let outer = places.iter().map(|place| {
                let mut odd = answer.clone();
                *odd.pointer_mut(place).unwrap() = ODD.into();
                odd
            });
            let inner = inner.iter().map(|place| {
                let (mut odd, mut said) = (answer.clone(), said.clone());
                *said.pointer_mut(place).unwrap() = ODD.into();
                odd["ran"][0]["output"] = said.to_string().into();
                odd
            });
            for odd in outer.chain(inner).collect::<Vec<_>>() {
                fs::write(&path, odd.to_string()).unwrap();
                // A roll-out that goes on and on is tried once in each way.
                if words.contains(&"--yes") {
                    let output = crowd.command(words).stdin(Stdio::null()).output().unwrap();
                    check(words, &String::from_utf8(output.stdout).unwrap());
                    check(words, &String::from_utf8(output.stderr).unwrap());
                    fs::write(&path, &good).unwrap();
                    break;
                }
                show(words);
            }
            fs::write(&path, good).unwrap();
        }
    }
    // Nothing of ours at all.
    fs::write(crowd.folder.path().join("run"), format!("{ODD}\n")).unwrap();
    show(&["fleet", "run", "--", "rules"]);
}
