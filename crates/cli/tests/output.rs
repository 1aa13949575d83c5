//! Outputs that cannot be written: the work is done all the same, and nobody is
//! told that all is well by half a text.

#![allow(clippy::unwrap_used)]

use std::fs::{self, File};
use std::io::Read;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::{Command, Output, Stdio};

const ORDERS: &str = "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
    [[rules]]\nname = \"plates\"\nnote = \"n\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\nsource = \"192.0.2.0/24\"\n";

fn run(folder: &Path, arguments: &[&str], stdout: Stdio) -> Output {
    Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"))
        .args(arguments)
        .current_dir(folder)
        .envs([("NO_COLOR", "1"), ("TIPSTAFF_ORDERS", "orders.toml")])
        .env("TIPSTAFF_RUN", folder.join("run"))
        .env("TIPSTAFF_HISTORY", folder.join("history"))
        .stdin(Stdio::null())
        .stderr(Stdio::piped())
        .stdout(stdout)
        .spawn()
        .unwrap()
        .wait_with_output()
        .unwrap()
}

#[test]
fn a_full_disk_is_told_and_the_work_is_done() {
    let folder = tempfile::tempdir().unwrap();
    let orders = folder.path().join("orders.toml");
    fs::write(&orders, ORDERS).unwrap();
    for arguments in [
        &["rules"][..],
        &["rules", "--json"],
        &["review", "--elsewhere"],
        &["compare", "orders.toml"],
        &["schema"],
        &["draft"],
        &["rule", "pause", "plates"],
        // A failure of its own is told besides.
        &["rule", "pause", "plates", "--json"],
    ] {
        let full = File::options().write(true).open("/dev/full").unwrap();
        let output = run(folder.path(), arguments, full.into());
        let told = String::from_utf8(output.stderr).unwrap();
        assert_eq!(output.status.code(), Some(5), "{arguments:?}: {told}");
        assert!(told.contains("cannot be written: No space left"), "{arguments:?}: {told}");
    }
    assert!(fs::read_to_string(&orders).unwrap().contains("enabled = false"));
}

#[test]
fn a_reader_that_goes_away_changes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let orders = folder.path().join("orders.toml");
    fs::write(&orders, ORDERS.replace("note = \"n\"\n", "")).unwrap();
    let closed = || {
        let (reader, writer) = std::io::pipe().unwrap();
        drop(reader);
        Stdio::from(writer)
    };
    for (arguments, code) in [
        (&["rules"][..], 0),
        (&["rule", "pause", "plates"], 0),
        (&["rule", "resume", "plates"], 0),
        (&["review", "--elsewhere", "--fail-on", "note"], 1),
        (&["rules", "no-such-rule"], 2),
        (&["rules", "no-such-rule", "--json"], 2),
    ] {
        let output = run(folder.path(), arguments, closed());
        let told = String::from_utf8(output.stderr).unwrap();
        assert_eq!(output.status.code(), Some(code), "{arguments:?}: {told}");
        assert!(!told.contains("cannot be written"), "{told}");
    }
    assert!(!fs::read_to_string(&orders).unwrap().contains("enabled = false"));
}

/// A serial console, or a terminal of a script, says that it has no columns.
#[test]
fn a_terminal_without_a_size_gets_a_table_all_the_same() {
    let orders = concat!(env!("CARGO_MANIFEST_DIR"), "/demo/orders.toml");
    let pty = nix::pty::openpty(None, None).unwrap();
    let mut command = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
    command.args(["rules", "--orders", orders]).env_clear().env("NO_COLOR", "1");
    command.stdin(Stdio::null()).stdout(pty.slave.try_clone().unwrap()).stderr(pty.slave);
    let mut child = command.spawn().unwrap();
    drop(command);
    let mut said = Vec::new();
    // The last writer has closed it: EIO.
    let _ = File::from(pty.master).read_to_end(&mut said);
    child.wait().unwrap();
    let said = String::from_utf8(said).unwrap();
    assert!(said.contains("night-staff"), "{said}");
}

/// In the journal of systemd a failure is an error, and nowhere else does a line
/// begin with its number.
#[test]
fn the_journal_hears_how_urgent_a_line_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("stream");
    for (named, begins) in [(true, "<3>tipstaff: "), (false, "tipstaff: ")] {
        let stream = File::create(&path).unwrap();
        let of = stream.metadata().unwrap();
        let inode = if named { of.ino() } else { of.ino() + 1 };
        let status = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"))
            .args(["rules", "--orders", "missing.toml"])
            .current_dir(folder.path())
            .env("JOURNAL_STREAM", format!("{}:{inode}", of.dev()))
            .stderr(stream)
            .status()
            .unwrap();
        assert!(!status.success());
        let told = fs::read_to_string(&path).unwrap();
        assert!(told.starts_with(begins), "{told}");
        assert!(!named || told.lines().all(|line| line.starts_with("<3>")), "{told}");
    }
}

#[test]
fn quiet_leaves_out_what_went_well_and_verbose_says_what_took_how_long() {
    let folder = tempfile::tempdir().unwrap();
    let orders = folder.path().join("orders.toml");
    fs::write(&orders, ORDERS).unwrap();
    let texts = |arguments: &[&str]| {
        let output = run(folder.path(), arguments, Stdio::piped());
        [output.stdout, output.stderr].map(|text| String::from_utf8(text).unwrap())
    };
    assert!(texts(&["rule", "pause", "plates"])[0].contains("plates"));
    assert_eq!(texts(&["rule", "resume", "plates", "-q"]), ["", ""]);
    assert!(!fs::read_to_string(&orders).unwrap().contains("enabled = false"));
    // What is asked for is answered, what goes wrong is told, and scripts get their JSON.
    let [listed, _] = texts(&["rules", "--quiet"]);
    assert!(listed.contains("plates") && !listed.contains("No counters"), "{listed}");
    assert!(texts(&["rules"])[0].contains("No counters"));
    assert!(texts(&["rule", "pause", "nothing", "-q"])[1].contains("nothing"));
    assert!(texts(&["rule", "pause", "plates", "-q", "--json"])[0].contains("\"changed\": true"));

    let [plain, none] = texts(&["rules"]);
    let [text, times] = texts(&["rules", "-v"]);
    assert_eq!((plain, none.as_str()), (text, ""));
    let last = times.lines().last().unwrap();
    assert!(times.contains("ms  reading the orders orders.toml"), "{times}");
    assert!(
        last.trim_start().starts_with(|c: char| c.is_ascii_digit()) && last.ends_with("in all")
    );
}
