//! Files that are not what they should be: pipes and devices instead of
//! orders, lists and reports; files that other accounts can change; locks that
//! others hold; modes that are open to all.

#![allow(clippy::unwrap_used)]

mod common;

use std::fmt::Write;
use std::fs::{self, File};
use std::os::fd::AsFd;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::time::Duration;

use common::{ARCHIVE, HEAD, Lab, PARTNER, PLATES};
use nix::fcntl::{Flock, FlockArg};
use serde_json::Value;
use tipstaff_host::lab;
use tipstaff_testing::patience::{in_time, stretched};

fn run(folder: &Path, arguments: &[&str]) -> Output {
    assert_cmd::Command::cargo_bin("tipstaff")
        .unwrap()
        .args(arguments)
        .current_dir(folder)
        .env("NO_COLOR", "1")
        .env("TIPSTAFF_ORDERS", "orders.toml")
        .env("TIPSTAFF_RUN", folder.join("run"))
        .env("TIPSTAFF_HISTORY", folder.join("history"))
        // What waits or reads without an end is stopped, which fails the test.
        .timeout(stretched(Duration::from_secs(20)))
        .output()
        .unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// Things at paths where a file is expected, and what is said of them.
fn odd_things(folder: &Path) -> Vec<(PathBuf, &'static str)> {
    let at = |name: &str| folder.join(name);
    nix::unistd::mkfifo(&at("pipe"), nix::sys::stat::Mode::S_IRWXU).unwrap();
    fs::create_dir(at("directory")).unwrap();
    File::create(at("endless")).unwrap().set_len(1 << 40).unwrap();
    fs::write(at("latin"), b"# L\xe4rkfield\n").unwrap();
    std::os::unix::fs::symlink("/dev/zero", at("zero")).unwrap();
    vec![
        (at("pipe"), "it is a named pipe, not a file"),
        (at("directory"), "it is a directory, not a file"),
        (at("zero"), "it is a device, not a file"),
        (at("endless"), "longer than 64 MiB"),
        (at("latin"), "line 1 is not valid UTF-8"),
        (at("gone"), "No such file"),
    ]
}

#[test]
fn what_is_no_file_is_not_read_and_not_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    let orders = |rest: &str| fs::write(folder.path().join("orders.toml"), rest).unwrap();
    let rule = |source: &str| {
        format!(
            "{HEAD}[[rules]]\nname = \"x\"\naction = \"deny\"\ntraffic = \"any\"\nsource = \
             \"{source}\"\n"
        )
    };
    for (path, why) in odd_things(folder.path()) {
        let name = path.file_name().unwrap().to_str().unwrap();
        let check = |arguments: &[&str], why: &str| {
            let output = run(folder.path(), arguments);
            let told = text(&output.stderr);
            assert!(output.status.code().is_some_and(|code| code > 1), "{arguments:?}: {told}");
            // What is no text is wrong, and not a failure of the system.
            let no_text = name == "latin" && arguments.contains(&"--orders");
            assert!(!no_text || output.status.code() == Some(2), "{arguments:?}: {told}");
            // The words are broken into lines where they stand in a frame.
            let words = told.split_whitespace().filter(|word| *word != "│").collect::<Vec<_>>();
            assert!(words.join(" ").contains(why), "{name} {arguments:?}: {told}");
        };
        let missing = name == "gone";
        let why_orders = if missing { "no orders at" } else { why };
        for command in [&["rules"][..], &["review"], &["post", "--check"], &["hosts"]] {
            let arguments: Vec<&str> = command.iter().copied().chain(["--orders", name]).collect();
            check(&arguments, why_orders);
        }
        check(&["rule", "pause", "x", "--orders", name], why_orders);
        orders(&rule(&format!("file:{name}")));
        check(&["rules"], why);
        orders(&format!("{HEAD}[areas]\nfeed = \"{name}\"\n"));
        check(&["rules"], why);
        orders(&format!("include = [\"{name}\"]\n{HEAD}"));
        check(&["rules"], if missing { "no such file" } else { why });
        orders(HEAD);
        check(&["group", "import", name], why);
        if name != "endless" {
            check(&["reach", "merge", name, name], why);
        }
    }
}

#[test]
fn links_do_not_lead_out_of_the_folder_of_the_orders() {
    let folder = tempfile::tempdir().unwrap();
    let inside = folder.path().join("inside");
    fs::create_dir(&inside).unwrap();
    fs::write(folder.path().join("outside.txt"), "192.0.2.1\n").unwrap();
    std::os::unix::fs::symlink("../outside.txt", inside.join("link.txt")).unwrap();
    fs::write(inside.join("own.txt"), "192.0.2.2\n").unwrap();
    std::os::unix::fs::symlink("own.txt", inside.join("own-link.txt")).unwrap();
    let whole = folder.path().join("outside.txt");
    for (name, fine) in [
        ("link.txt", false),
        ("../outside.txt", false),
        ("own-link.txt", true),
        (whole.to_str().unwrap(), true),
    ] {
        let text = format!("{HEAD}listed = \"file:{name}\"\n");
        fs::write(inside.join("orders.toml"), text).unwrap();
        assert_eq!(run(&inside, &["rules"]).status.success(), fine, "{name}");
    }
}

/// A value of another kind that goes over thousands of lines is not shown whole.
#[test]
fn a_fault_of_many_lines_is_shown_by_its_ends() {
    let folder = tempfile::tempdir().unwrap();
    let lines = "  \"tcp/1\",\n".repeat(5_000);
    let orders = format!("{HEAD}[[rules]]\nname = [\n{lines}]\naction = \"allow\"\n");
    fs::write(folder.path().join("orders.toml"), orders).unwrap();
    let output = run(folder.path(), &["rules"]);
    assert_eq!(output.status.code(), Some(2));
    let told = text(&output.stderr);
    assert!(told.contains("name = [") && told.lines().count() < 60, "{}", told.lines().count());
}

#[test]
fn thousands_of_faults_are_shown_as_far_as_anybody_reads() {
    let folder = tempfile::tempdir().unwrap();
    let mut orders = HEAD.to_owned();
    for n in 0..8_000 {
        writeln!(orders, "[[rules]]\nname = \"r{n}\"\naction = \"alow\"\ntraffic = \"ssh\"")
            .unwrap();
    }
    fs::write(folder.path().join("orders.toml"), orders).unwrap();
    let output = run(folder.path(), &["post", "--check"]);
    assert_eq!(output.status.code(), Some(2));
    let told = text(&output.stderr);
    assert!(told.lines().count() < 600 && told.contains("8000 errors"), "{told}");
    assert!(told.contains("and 7950 more"), "{told}");
    let output = run(folder.path(), &["post", "--check", "--json"]);
    let faults: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(faults["faults"].as_array().unwrap().len(), 8_000);
}

fn mode(path: &Path, mode: u32) {
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

/// Orders, an included file, a list and a feed, in folders of their own.
fn scattered(lab: &Lab) -> Vec<PathBuf> {
    let at = |name: &str| lab.path().join(name);
    for folder in ["etc", "etc/groups", "etc/lists"] {
        fs::create_dir(at(folder)).unwrap();
    }
    let orders = format!(
        "include = [\"groups/*.toml\"]\n{HEAD}unwanted = \"file:lists/unwanted.txt\"\n\
         [areas]\nfeed = \"lists/feed.csv\"\n{PLATES}"
    );
    let part =
        "[[rules]]\nname = \"no\"\naction = \"deny\"\ntraffic = \"any\"\nsource = \"unwanted\"\n";
    let files = [
        ("etc/orders.toml", orders.as_str()),
        ("etc/groups/one.toml", part),
        ("etc/lists/unwanted.txt", "192.0.2.0/25\n"),
        ("etc/lists/feed.csv", "203.0.113.0/24,NL,,,\n"),
    ];
    files.iter().for_each(|(name, text)| fs::write(at(name), text).unwrap());
    files.map(|(name, _)| at(name)).into()
}

#[test]
fn nothing_that_others_can_change_is_put_in_force() {
    let Some(lab) = Lab::new() else { return };
    let files = scattered(&lab);
    let orders = files[0].to_str().unwrap();
    let post = || lab.tipstaff(&["post", "--orders", orders]);
    let folders = ["etc", "etc/groups", "etc/lists"].map(|name| lab.path().join(name));
    for place in files.iter().chain(&folders) {
        let good = fs::metadata(place).unwrap().mode();
        let refused = |how: &str| {
            let output = post();
            let told = text(&output.stderr);
            assert_eq!(output.status.code(), Some(2), "{how} {}: {told}", place.display());
            assert!(told.contains("can be changed by accounts other than root"), "{told}");
            assert!(told.contains(&format!("chmod go-w {}", place.display())), "{told}");
            assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(10), "nothing is in force");
        };
        mode(place, good | 0o020);
        refused("group");
        mode(place, good | 0o002);
        refused("world");
        mode(place, good);
        std::os::unix::fs::chown(place, Some(1_000), None).unwrap();
        refused("owner");
        std::os::unix::fs::chown(place, Some(0), None).unwrap();
    }
    assert!(post().status.success());
    // A link that another account may turn elsewhere is no matter: what was opened counts.
    let link = lab.path().join("link.toml");
    std::os::unix::fs::symlink("etc/orders.toml", &link).unwrap();
    lab.done(&["withdraw"]);
}

/// Any account may hold a lock on what it can open. That stops nobody.
#[test]
fn locks_of_others_hold_up_nobody() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let path = lab.orders(PLATES);
    let held =
        |path: &Path| Flock::lock(File::open(path).unwrap(), FlockArg::LockExclusive).unwrap();
    let _orders = held(&path);
    lab.done(&["post"]);
    lab.done(&["rule", "pause", "plates"]);
    lab.done(&["rule", "resume", "plates"]);
    // Nothing that another account can open is waited for.
    let _run = held(&lab.path().join("run"));
    let _history = held(&lab.path().join("history"));
    for entry in [lab.path().join("run"), lab.path().join("history")].iter().flat_map(|folder| {
        fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect::<Vec<_>>()
    }) {
        let open = fs::metadata(&entry).unwrap().mode() & 0o044 != 0;
        assert!(!open || entry.ends_with("boot.json"), "{}", entry.display());
    }
    lab.done(&["post"]);
    // Root's own, as a post that hangs: the machine is sealed at once all the same.
    let gate = held(&lab.path().join("run/lock"));
    let history = held(&lab.path().join("history/revisions/lock"));
    let knock = || lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    assert_eq!(knock(), "answers");
    let mut seal = lab.command(&["posture", "sealed"]);
    seal.stderr(std::process::Stdio::piped());
    let mut seal = lab.archive.run(move || seal.spawn().unwrap()).unwrap();
    assert!(in_time(|| knock() == "silent"));
    drop((gate, history));
    assert!(seal.wait().unwrap().success());
    lab.done(&["withdraw"]);
}

#[test]
fn sealed_is_written_down_and_needs_no_orders_that_can_be_read() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    lab.orders(PLATES);
    lab.done(&["post"]);
    let knock = || lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    // A trial is running: it ends.
    lab.done(&["post", "--trial", "1m"]);
    lab.done(&["posture", "sealed", "--for", "1m"]);
    assert_eq!(knock(), "silent");
    let history: Value =
        serde_json::from_slice(&lab.tipstaff(&["history", "--json"]).stdout).unwrap();
    let history = &history["revisions"];
    assert_eq!((&history[0]["posture"], &history[0]["kept"]), (&"sealed".into(), &true.into()));
    lab.done(&["withdraw"]);
    lab.tipstaff(&["boot"]);
    assert_eq!(knock(), "silent", "after a restart too");
    lab.done(&["withdraw"]);
}

/// Every revision is broken, or somebody else's: nobody knows what to let in.
#[test]
fn a_history_that_cannot_be_used_seals_the_machine() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    lab.orders(PLATES);
    let knock = || lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    type Harm = fn(&Path);
    let harms: [Harm; 4] = [
        |path| fs::write(path, "{").unwrap(),
        |path| std::os::unix::fs::chown(path, Some(1_000), None).unwrap(),
        |path| mode(path, 0o622),
        |path| {
            fs::remove_file(path).unwrap();
            nix::unistd::mkfifo(path, nix::sys::stat::Mode::S_IRWXU).unwrap();
        },
    ];
    for harm in harms {
        lab.done(&["post"]);
        lab.done(&["post"]);
        lab.done(&["withdraw"]);
        let revisions = lab.path().join("history/revisions");
        let files = || fs::read_dir(&revisions).unwrap().map(|entry| entry.unwrap().path());
        files().filter(|path| path.extension().is_some_and(|e| e == "json")).for_each(|p| harm(&p));
        assert_eq!(knock(), "answers");
        let boot = lab.tipstaff(&["boot"]);
        let told = text(&boot.stdout);
        assert_eq!(boot.status.code(), Some(1), "{told}");
        assert!(told.contains("in force instead: sealed"), "{told}");
        assert_eq!(knock(), "silent");
        lab.done(&["withdraw"]);
        fs::remove_dir_all(&revisions).unwrap();
    }
}

/// The owner of a program's folder cannot take the gate down by links.
#[test]
fn a_program_that_cannot_be_found_stops_neither_post_nor_boot() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let program = lab.path().join("domed");
    let path = program.to_str().unwrap();
    let rule = format!(
        "{PLATES}[[rules]]\nname = \"dome\"\naction = \"allow\"\ntraffic = \"tcp/7411\"\nprogram \
         = \"{path}\"\n"
    );
    lab.orders(&rule);
    fs::write(&program, "").unwrap();
    lab.done(&["post"]);
    let mut keep = lab.command(&["keep"]);
    keep.stdout(std::process::Stdio::null());
    let mut keep = lab.archive.run(move || keep.spawn().unwrap()).unwrap();
    let knock = || lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    let remark = |arguments: &[&str]| {
        let output = lab.tipstaff(arguments);
        let told = text(&output.stdout);
        assert!(matches!(output.status.code(), Some(0 | 1 | 11)), "{}", text(&output.stderr));
        told
    };
    for what in ["cannot be resolved", "is a symbolic link to", "does not exist"] {
        let _ = fs::remove_file(&program);
        match what {
            "cannot be resolved" => std::os::unix::fs::symlink(&program, &program).unwrap(),
            "is a symbolic link to" => {
                std::os::unix::fs::symlink(fs::canonicalize("/bin/sh").unwrap(), &program).unwrap();
            }
            _ => {}
        }
        lab.done(&["withdraw"]);
        assert_eq!(lab.tipstaff(&["boot"]).status.code(), Some(0), "{what}");
        assert_eq!(knock(), "answers");
        assert!(remark(&["state"]).contains(what));
        assert!(remark(&["post"]).contains(what));
        assert_eq!(knock(), "answers");
        let found = remark(&["review"]).contains("program-not-found");
        assert_eq!(found, what != "is a symbolic link to");
        // What a link leads to is told wherever programs matter.
        let asked = ["ask", "tcp/7411", "--source", PARTNER[0]];
        let asked_gate = [&asked[..], &["--in-force"]].concat();
        for arguments in [&asked[..], &asked_gate, &["survey"], &["reach"], &["reach", "--json"]] {
            assert_eq!(
                remark(arguments).contains("is a symbolic link to"),
                what == "is a symbolic link to"
            );
        }
    }
    // The service lives on, and does its work.
    let end = lab.world.as_fd().try_clone_to_owned().unwrap();
    let _ = fs::remove_file(&program);
    std::os::unix::fs::symlink(&program, &program).unwrap();
    lab.archive.run(move || lab::cable("dish0", "w7", end.as_fd()).unwrap()).unwrap();
    assert!(in_time(|| remark(&["state", "--json"]).contains("\"dish0\"")));
    assert!(keep.try_wait().unwrap().is_none());
    keep.kill().unwrap();
    keep.wait().unwrap();
    lab.done(&["withdraw"]);
}

#[test]
fn modes_are_set_and_not_inherited() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    mode(&lab.path().join("orders.toml"), 0o644);
    let own = assert_cmd::cargo::cargo_bin!("tipstaff");
    let loose = |arguments: &str| {
        let mut command = Command::new("sh");
        let line = format!("umask 000; exec {} {arguments}", own.display());
        command.args(["-c", &line]).current_dir(lab.path());
        for (name, value) in lab.command(&[]).get_envs() {
            command.env(name, value.unwrap());
        }
        let output = lab.archive.run(move || command.output().unwrap()).unwrap();
        assert!(output.status.code().is_some_and(|c| c < 2), "{}", text(&output.stderr));
    };
    for arguments in [
        "post",
        "rule pause plates",
        "draft --to drafted.toml",
        "draft --example example",
        "install-boot --root units",
        "reach --html page.html",
        "withdraw",
        "boot",
    ] {
        loose(arguments);
    }
    let mut seen = 0;
    let mut folders = vec![lab.path().to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let found = fs::symlink_metadata(&path).unwrap();
            if found.is_symlink() {
                continue;
            }
            seen += 1;
            assert_eq!(found.mode() & 0o022, 0, "{}: {:o}", path.display(), found.mode());
            let secret = path.starts_with(lab.path().join("history"))
                || path.starts_with(lab.path().join("run/bpf"));
            assert!(!secret || found.mode() & 0o077 == 0, "{}: {:o}", path.display(), found.mode());
            if found.is_dir() {
                folders.push(path);
            }
        }
    }
    assert!(seen > 15, "{seen}");
    loose("withdraw");
}
