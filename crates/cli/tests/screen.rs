//! The full screen of `watch`, in a terminal that a test reads. Needs root for the kernel's
//! part.

#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/terminal.rs"]
mod terminal;

use std::fs;
use std::process::{Child, Stdio};

use common::{ARCHIVE, Lab, PARTNER, PLATES, STRANGER};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use terminal::Seen;
use tipstaff_testing::patience::in_time;

/// A program that ends with the test.
struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

const DOWN: &str = "\u{1b}[B";

#[test]
fn the_screen_shows_who_is_turned_away_and_lets_in_on_the_second_key() {
    let Some(lab) = Lab::new() else { return };
    let orders = lab.orders(&format!("[log]\nlevel = \"rules\"\n{PLATES}"));
    let _listener = lab.listen("::", 7410);
    lab.done(&["post"]);
    let mut seen = Seen::of(&lab, &["watch"], (24, 80));
    seen.shows("decisions/s");
    assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 7410), "answers");
    assert_eq!(lab.knock(STRANGER[0], ARCHIVE[0], 7411), "silent");
    for what in ["tcp/7411", "192.0.2.66", "standing answer", "plates", "turned away", "q end"] {
        seen.shows(what);
    }
    assert_eq!(seen.text().lines().count(), 24, "{}", seen.text());
    // Why, by the gate; the newest is on top.
    seen.press(DOWN);
    seen.shows("by the standing answer inbound");
    seen.press("\r");
    seen.shows("dropped silently by the standing answer");
    seen.closes("passed over");
    // Offered, left; offered, done.
    let offer = "tipstaff rule add allow tcp/7411 --source 192.0.2.66";
    let before = fs::read_to_string(&orders).unwrap();
    seen.press("a");
    seen.shows(offer);
    seen.press("n");
    assert!(in_time(|| !seen.text().contains(offer)));
    assert_eq!(fs::read_to_string(&orders).unwrap(), before);
    seen.press("a");
    seen.shows(offer);
    seen.press("y");
    assert!(in_time(|| fs::read_to_string(&orders).unwrap().contains("tcp/7411")));
    seen.shows("done");
    seen.closes("done");
    // Paused, nothing moves; then all of it is there.
    seen.press(" ");
    seen.shows("PAUSED");
    lab.knock(STRANGER[0], ARCHIVE[0], 7412);
    seen.shows("more");
    seen.press(" ");
    seen.shows("tcp/7412");
    // Another size.
    seen.resize(60, 200);
    seen.shows("decided by, the last 5 min");
    assert!(in_time(|| seen.text().lines().count() == 60), "{}", seen.text());
    seen.resize(10, 40);
    assert!(in_time(|| seen.text().lines().count() <= 10 && seen.text().contains("tcp/")));
    seen.press("q");
    seen.has_ended();
    lab.done(&["withdraw"]);
}

#[test]
fn a_terminal_of_an_old_locale_gets_ascii_alone() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(&format!("[log]\nlevel = \"rules\"\n{PLATES}"));
    lab.done(&["post"]);
    for locale in ["C", "C.UTF-8"] {
        let archive = std::sync::Arc::clone(&lab.archive);
        let mut command = lab.command(&["watch"]);
        command.env("LC_ALL", locale);
        let mut seen = Seen::started(command, (24, 80), move |mut command| {
            archive.run(move || command.spawn().unwrap()).unwrap()
        });
        seen.shows("decisions/s");
        assert_eq!(lab.knock(STRANGER[0], ARCHIVE[0], 7411), "silent");
        seen.shows("192.0.2.66");
        assert_eq!(seen.text().is_ascii(), locale == "C", "{}", seen.text());
        seen.press("q");
    }
}

#[test]
fn the_terminal_is_given_back_on_every_way_out() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    lab.done(&["post"]);
    for signal in [Signal::SIGTERM, Signal::SIGINT, Signal::SIGHUP] {
        let seen = Seen::of(&lab, &["watch"], (24, 80));
        seen.shows("decisions/s");
        kill(Pid::from_raw(seen.child.borrow().id() as i32), signal).unwrap();
        seen.has_ended();
    }
    let mut seen = Seen::of(&lab, &["watch"], (24, 80));
    seen.shows("decisions/s");
    seen.press("\u{3}");
    seen.has_ended();
    // The terminal itself goes, and with it this end of it.
    let mut seen = Seen::of(&lab, &["watch"], (24, 80));
    seen.shows("decisions/s");
    seen.hang_up();
    assert!(seen.is_over());
    // Where nothing is in force any more, it says so and stays.
    let mut seen = Seen::of(&lab, &["watch"], (24, 80));
    seen.shows("decisions/s");
    lab.done(&["withdraw"]);
    seen.shows("withdrawn");
    seen.press("q");
    seen.has_ended();
    // The same where `keep` reads.
    lab.done(&["post"]);
    let mut keep = lab.command(&["keep"]);
    keep.stdout(Stdio::null()).stderr(Stdio::null());
    let keep = Ended(lab.archive.run(move || keep.spawn().unwrap()).unwrap());
    assert!(in_time(|| lab.path().join("run/decisions").exists()));
    let mut seen = Seen::of(&lab, &["watch"], (24, 80));
    seen.shows("decisions/s");
    lab.done(&["withdraw"]);
    seen.shows("withdrawn");
    seen.press("q");
    seen.has_ended();
    drop(keep);
    // Nothing to watch: a sentence, no screen.
    let seen = Seen::of(&lab, &["watch"], (24, 80));
    seen.shows("no orders are in force");
    assert!(seen.is_over());
    assert!(!seen.parser.lock().unwrap().1.windows(8).any(|part| part == b"\x1b[?1049h"));
}

/// In a real shell: what is typed, and the key that completes it.
#[test]
fn bash_completes_the_names_of_rules() {
    let folder = tempfile::tempdir().unwrap();
    let orders = folder.path().join("orders.toml");
    fs::write(&orders, include_str!("../demo/orders.toml")).unwrap();
    let program = assert_cmd::cargo::cargo_bin!("tipstaff");
    let mut command = std::process::Command::new("bash");
    command.args(["--norc", "--noprofile", "-i"]).env("TIPSTAFF_ORDERS", &orders);
    let path = std::env::var("PATH").unwrap();
    command.env("PATH", format!("{}:{path}", program.parent().unwrap().display()));
    let mut seen = Seen::started(command, (24, 100), |mut command| command.spawn().unwrap());
    seen.press("PS1='ready> '; source <(tipstaff completions bash)\r");
    seen.shows("\nready> ");
    seen.press("tipstaff rule pause sh\t");
    seen.shows("rule pause shell-for-staff");
    seen.press("\u{15}tipstaff rule add allow ssh --source \t\t");
    seen.shows("night-staff");
    seen.press("\u{15}tipstaff surv\t");
    seen.shows("tipstaff survey");
    seen.press("\u{15}exit\r");
    seen.has_ended_in_lines();
}

/// A pager shows what is longer than the terminal, and nothing else.
#[test]
fn a_text_that_is_longer_than_the_terminal_is_paged() {
    let folder = tempfile::tempdir().unwrap();
    let orders = folder.path().join("orders.toml");
    fs::write(&orders, include_str!("../demo/orders.toml")).unwrap();
    let shown = |rows: u16| {
        let mut command = std::process::Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
        command.arg("rules").env("TIPSTAFF_ORDERS", &orders).env("LANG", "C.UTF-8");
        command.env("PAGER", "sh -c 'echo by a pager; head -n 4'");
        let seen = Seen::started(command, (rows, 120), |mut command| command.spawn().unwrap());
        seen.shows("7 rules");
        assert!(seen.is_over());
        seen.text()
    };
    assert!(shown(8).starts_with("by a pager"));
    let whole = shown(40);
    assert!(!whole.contains("by a pager") && whole.contains("standing transit"), "{whole}");
}
