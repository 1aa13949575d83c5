//! Postures at work, and what stands after a restart.

#![allow(clippy::unwrap_used)]

mod common;

use std::fs;
use std::io::Write;
use std::net::{SocketAddr, UdpSocket};
use std::os::fd::AsFd;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Stdio};
use std::time::Duration;

use common::{ARCHIVE, HEAD, Lab, PARTNER, PLATES};
use serde_json::Value;
use tipstaff_host::lab;
use tipstaff_testing::ip;
use tipstaff_testing::patience::{OwnTime, in_time, stretched};

const HOUSES: &str = r#"[[postures]]
name = "open-house"
note = "Visitors walk about"

[[postures]]
name = "at-the-mast"
interface = "mast0"

[[rules]]
name = "plates-for-visitors"
action = "allow"
traffic = "tcp/7410"
source = "partner"
postures = "open-house"

[[rules]]
name = "readings"
action = "allow"
traffic = "tcp/7411"
postures = "at-the-mast"
"#;

/// Ended with its test, whatever becomes of it.
struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn spawned(lab: &Lab, arguments: &[&str]) -> Ended {
    let mut command = lab.command(arguments);
    command.stdin(Stdio::null()).stdout(Stdio::null());
    Ended(lab.archive.run(move || command.spawn().unwrap()).unwrap())
}

fn posture(lab: &Lab) -> Option<String> {
    let output = lab.tipstaff(&["posture", "--json"]);
    let rows: Value = serde_json::from_slice(&output.stdout).unwrap();
    let held = rows["postures"].as_array().unwrap().iter().find(|row| row["holds"] == true)?;
    Some(held["name"].as_str().unwrap().to_owned())
}

#[test]
fn a_posture_is_taken_up_for_good_for_a_time_and_while_somebody_waits() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    lab.orders(HOUSES);
    lab.done(&["post"]);
    let knock = || lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    assert_eq!((knock(), posture(&lab)), ("silent", None));
    lab.done(&["posture", "open-house", "--reason", "the open day"]);
    assert_eq!((knock(), posture(&lab).as_deref()), ("answers", Some("open-house")));
    let unknown = lab.tipstaff(&["posture", "open-hous"]);
    assert_eq!(unknown.status.code(), Some(2));
    lab.done(&["posture", "none"]);
    assert_eq!(knock(), "silent");
    // For a time that the kernel keeps.
    lab.done(&["posture", "open-house", "--for", "1s"]);
    assert_eq!(knock(), "answers");
    assert!(in_time(|| knock() == "silent"));
    // While somebody waits, however that ends.
    for killed in [true, false] {
        let mut waiting = spawned(&lab, &["posture", "open-house", "--while-i-wait"]);
        assert!(in_time(|| posture(&lab).is_some()));
        assert_eq!(knock(), "answers");
        if killed {
            waiting.0.kill().unwrap();
        } else {
            // It holds longer than its own deadline, as long as it is waited for.
            std::thread::sleep(Duration::from_millis(3_500));
            assert_eq!(knock(), "answers");
            let pid = nix::unistd::Pid::from_raw(waiting.0.id() as i32);
            nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGTERM).unwrap();
            assert!(waiting.0.wait().unwrap().success());
            assert_eq!(knock(), "silent", "at once");
        }
        // Nobody accepts: too many knocks would fill the queue.
        assert!(in_time(|| posture(&lab).is_none()));
        assert_eq!(knock(), "silent");
    }
    let history = lab.tipstaff(&["history", "--json"]);
    let history: Value = serde_json::from_slice(&history.stdout).unwrap();
    assert_eq!(history["revisions"][4]["reason"], "the open day");
    assert_eq!(history["revisions"][0]["kept"], false);
    lab.done(&["withdraw"]);
}

#[test]
fn sealed_is_the_panic_button_with_and_without_orders() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let out = || {
        let to = SocketAddr::new(ip(PARTNER[0]), 5000);
        let sent = move || UdpSocket::bind((ip(ARCHIVE[0]), 0)).unwrap().send_to(b"?", to).is_ok();
        lab.archive.run(sent).unwrap()
    };
    for orders in [Some(PLATES), None] {
        if let Some(orders) = orders {
            lab.orders(orders);
            lab.done(&["post"]);
        }
        assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 7410), "answers");
        assert!(out());
        // Within a second of the machine's own time, in one of three tries.
        let took: Vec<Duration> = (0..3)
            .map(|_| {
                let begin = OwnTime::begin();
                lab.done(&["posture", "sealed"]);
                begin.elapsed()
            })
            .collect();
        assert!(took.iter().min() < Some(&stretched(Duration::from_secs(1))), "{took:?}");
        assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 7410), "silent");
        assert!(!out());
        if orders.is_some() {
            lab.done(&["posture", "none"]);
            assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 7410), "answers");
        }
        lab.done(&["withdraw"]);
    }
}

#[test]
fn a_place_that_is_recognised_brings_its_posture() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(HOUSES);
    lab.done(&["post"]);
    let _keeper = spawned(&lab, &["keep"]);
    let end = lab.world.as_fd().try_clone_to_owned().unwrap();
    lab.archive
        .run(move || {
            lab::cable("mast0", "w7", end.as_fd()).unwrap();
            lab::up("mast0").unwrap();
        })
        .unwrap();
    assert!(in_time(|| posture(&lab).as_deref() == Some("at-the-mast")));
    // Sealed by hand stays sealed, wherever this is.
    lab.done(&["posture", "sealed"]);
    lab.archive.run(|| lab::unplug("mast0").unwrap()).unwrap();
    lab.archive.run(|| lab::address("lan0", ip("198.51.100.21"), 24).unwrap()).unwrap();
    std::thread::sleep(Duration::from_millis(200));
    assert_eq!(posture(&lab).as_deref(), Some("sealed"));
    lab.done(&["withdraw"]);
}

/// A restart: what the kernel held is gone, the history is there.
#[test]
fn after_a_restart_the_last_orders_hold_or_what_they_say_instead() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let restart = || lab.done(&["withdraw"]);
    let boot = || {
        let output = lab.tipstaff(&["boot"]);
        (output.status.code(), String::from_utf8(output.stdout).unwrap())
    };
    let knock = || lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    // Nothing was ever posted.
    let (code, told) = boot();
    assert!(code == Some(0) && told.contains("nothing has been posted"), "{told}");
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(10));
    // The last ones that were to stay, and not a trial; the file does not matter any more.
    let path = lab.orders(&format!("{PLATES}interface = \"ts-missing*\"\n"));
    lab.done(&["post"]);
    lab.orders(PLATES);
    lab.done(&["post"]);
    lab.orders("");
    lab.done(&["post", "--trial", "1m"]);
    fs::remove_file(&path).unwrap();
    restart();
    assert_eq!(boot().0, Some(0));
    assert_eq!(knock(), "answers");
    let state = lab.tipstaff(&["state"]);
    assert!(
        String::from_utf8_lossy(&state.stdout).contains(", and the file differs"),
        "it is gone"
    );
    // They are broken on disk: the newest before them, with their missing interface.
    let broken = lab.path().join("history/revisions/000002.json");
    let sound = fs::read_to_string(&broken).unwrap();
    fs::write(&broken, sound.replace("action = \\\"allow\\\"", "action = \\\"perhaps\\\""))
        .unwrap();
    restart();
    let (code, told) = boot();
    assert!(code == Some(1) && told.contains("in force instead: revision 1"), "{told}");
    assert_eq!(knock(), "silent");
    let state = lab.tipstaff(&["state"]);
    let state = String::from_utf8_lossy(&state.stdout).into_owned();
    assert!(state.contains("after the restart revision 2 could not be put in force"), "{state}");
    // A post makes it good.
    fs::write(&path, format!("{HEAD}{PLATES}")).unwrap();
    lab.done(&["post"]);
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(0));

    // Orders can say that nothing shall pass then, or everything.
    let bare = lab.path().join("history/revisions");
    for (way, met) in [("closed", "silent"), ("open", "answers")] {
        let text = format!("{HEAD}[boot]\non_failure = \"{way}\"\n{PLATES}");
        fs::write(&path, &text).unwrap();
        lab.done(&["post"]);
        let files = fs::read_dir(&bare).unwrap().flatten().map(|entry| entry.path());
        let last = files.filter(|path| path.extension().is_some()).max().unwrap();
        // What was right when it was posted cannot be put in force any more: it is more than fits.
        let more: String = (0..32_768)
            .map(|n| format!("[[rules]]\nname = \"n{n}\"\naction = \"deny\"\ntraffic = \"gre\"\n"))
            .collect();
        let mut record: serde_json::Value =
            serde_json::from_slice(&fs::read(&last).unwrap()).unwrap();
        record["record"]["orders"] = format!("{text}{more}").into();
        fs::write(&last, record.to_string()).unwrap();
        restart();
        let (code, told) = boot();
        assert_eq!(code, Some(1), "{told}");
        assert_eq!(knock(), met, "{told}");
        restart();
    }
}

/// What the last orders say of a failure is known although they cannot be read.
#[test]
fn a_damaged_history_opens_nothing_by_accident() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let path = lab.path().join("orders.toml");
    let history = lab.path().join("history");
    let knock = || lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    let last = || {
        let files = fs::read_dir(history.join("revisions")).unwrap().flatten().map(|e| e.path());
        files.filter(|path| path.extension().is_some()).max().unwrap()
    };
    let damage: [(&str, &dyn Fn()); 7] = [
        ("truncated", &|| {
            let text = fs::read(last()).unwrap();
            fs::write(last(), &text[..text.len() / 2]).unwrap();
        }),
        ("empty", &|| fs::write(last(), "").unwrap()),
        ("of a later version", &|| {
            let text = fs::read_to_string(last()).unwrap();
            fs::write(last(), text.replace("kept-revision/1", "kept-revision/2")).unwrap();
        }),
        ("somebody else's", &|| {
            fs::set_permissions(last(), fs::Permissions::from_mode(0o666)).unwrap();
        }),
        ("the last is gone", &|| fs::remove_file(last()).unwrap()),
        ("all are gone", &|| fs::remove_dir_all(history.join("revisions")).unwrap()),
        ("the history is gone", &|| fs::remove_dir_all(&history).unwrap()),
    ];
    for (way, instead) in [("closed", "sealed"), ("open", "nothing"), ("last-good", "")] {
        for (what, damage) in &damage {
            // An older revision that is sound and lets the partner in.
            fs::write(&path, format!("{HEAD}{PLATES}")).unwrap();
            lab.done(&["post"]);
            fs::write(&path, format!("{HEAD}[boot]\non_failure = \"{way}\"\n{PLATES}")).unwrap();
            lab.done(&["post"]);
            damage();
            lab.done(&["withdraw"]);
            // At the start after that one it is the same: what was put in force instead
            // is not what was posted.
            for start in 1..=2 {
                let output = lab.tipstaff(&["boot"]);
                let told = String::from_utf8(output.stdout).unwrap();
                assert_eq!(output.status.code(), Some(1), "{way}, {what}, start {start}: {told}");
                let gone = what.contains("all") || what.contains("history");
                let instead = match (instead, gone) {
                    ("", true) => "sealed",
                    ("", false) => "revision",
                    (instead, _) => instead,
                };
                let ends = format!("in force instead: {instead}");
                assert!(told.contains(&ends), "{way}, {what}, start {start}: {told}");
                let met = if instead == "sealed" { "silent" } else { "answers" };
                assert_eq!(knock(), met, "{way}, {what}, start {start}: {told}");
                let state = lab.tipstaff(&["state"]).stdout;
                let state = String::from_utf8_lossy(&state).into_owned();
                assert!(
                    state.contains("after the restart revision"),
                    "{way}, {what}, start {start}: {state}"
                );
                lab.done(&["withdraw"]);
            }
        }
    }
}

#[test]
fn boot_orders_can_begin_in_a_posture_and_units_are_written() {
    let Some(lab) = Lab::new() else { return };
    let text = format!("{HEAD}[boot]\nposture = \"open-house\"\n{HOUSES}");
    fs::write(lab.path().join("orders.toml"), text).unwrap();
    lab.done(&["post"]);
    assert_eq!(posture(&lab), None);
    lab.done(&["withdraw"]);
    lab.done(&["boot"]);
    assert_eq!(posture(&lab).as_deref(), Some("open-house"));
    lab.done(&["withdraw"]);

    let root = lab.path().join("root");
    let told = lab.done(&["install-boot", "--root", root.to_str().unwrap()]);
    assert!(
        told.contains("written and enabled") && told.contains("systemd is not running"),
        "{told}"
    );
    let units = root.join("etc/systemd/system");
    let wanted = fs::read_to_string(units.join("sysinit.target.wants/tipstaff-boot.service"));
    assert!(wanted.unwrap().contains("Before=network-pre.target"));
    assert!(units.join("sysinit.target.wants/tipstaff-keep.service").exists());
    // Again is no fault.
    lab.done(&["install-boot", "--root", root.to_str().unwrap()]);
    // It runs this very program, with the folders that it was told.
    let unit = fs::read_to_string(units.join("tipstaff-boot.service")).unwrap();
    let history = lab.path().join("history");
    let program = assert_cmd::cargo::cargo_bin!("tipstaff");
    assert!(unit.contains(&format!("ExecStart={} boot ", program.display())), "{unit}");
    assert!(unit.contains(&format!("--history {}", history.display())), "{unit}");
    // Before the network, and looked after.
    let unit = fs::read_to_string(units.join("tipstaff-keep.service")).unwrap();
    assert!(unit.contains("Before=network-pre.target"), "{unit}");
    // Each look may do what a start does: it gets as long.
    let seconds = |key: &str| unit.lines().find_map(|line| line.strip_prefix(key)).unwrap();
    assert_eq!(seconds("WatchdogSec="), seconds("TimeoutStartSec="), "{unit}");
    let told = lab.json(&["install-boot", "--remove", "--root", root.to_str().unwrap()]);
    assert_eq!(told["removed"].as_array().unwrap().len(), 4, "{told}");
    let left: Vec<_> =
        fs::read_dir(&units).unwrap().flatten().filter(|e| e.path().is_file()).collect();
    assert!(left.is_empty(), "{left:?}");
    let told = lab.done(&["install-boot", "--remove", "--root", root.to_str().unwrap()]);
    assert!(told.contains("no units were installed"), "{told}");
}

/// The units, as systemd reads them, where it is there to.
#[test]
fn systemd_finds_no_fault_with_the_units() {
    let folder = tempfile::tempdir().unwrap();
    let program = assert_cmd::cargo::cargo_bin!("tipstaff").display().to_string();
    for name in ["tipstaff-boot.service", "tipstaff-keep.service"] {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("contrib").join(name);
        let unit = fs::read_to_string(path).unwrap();
        // The pages are written when a package is made.
        let unit: String = unit
            .lines()
            .filter(|l| !l.starts_with("Documentation="))
            .map(|l| format!("{l}\n"))
            .collect();
        let path = folder.path().join(name);
        fs::write(&path, unit.replace("/usr/sbin/tipstaff", &program)).unwrap();
        let verify =
            std::process::Command::new("systemd-analyze").arg("verify").arg(&path).output();
        let Ok(output) = verify else {
            let told =
                b"SKIPPED: this machine has no systemd-analyze, so the units were not verified\n";
            std::io::stderr().write_all(told).unwrap();
            return;
        };
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(output.status.success() && !told.contains(name), "{told}");
        // Not more exposed than this, of 100.
        let threshold = format!("--threshold={}", if name.contains("keep") { 40 } else { 60 });
        let exposure = std::process::Command::new("systemd-analyze")
            .args(["security", "--offline=true", "--no-pager", &threshold])
            .arg(&path)
            .output()
            .unwrap();
        let told = String::from_utf8_lossy(&exposure.stdout).into_owned();
        assert!(exposure.status.success(), "{told}");
    }
}

#[test]
fn state_says_whether_the_orders_hold_after_a_restart() {
    use nix::mount::{MsFlags, mount};
    if std::path::Path::new("/run/systemd/system").exists() {
        eprintln!("SKIPPED: a systemd runs here, which a test must not reload");
        return;
    }
    let Some(lab) = Lab::new() else { return };
    let empty = || mount(Some("ts-etc"), "/etc", Some("tmpfs"), MsFlags::empty(), None::<&str>);
    lab.archive.run(empty).unwrap().unwrap();
    lab.orders(PLATES);
    lab.done(&["post", "--trial", "1m"]);
    let restart = || {
        let restart = lab.json(&["state"])["restart"].clone();
        (restart["in_force"].as_bool(), restart["why"].as_str().unwrap().to_owned())
    };
    let (holds, why) = restart();
    assert!(holds.is_none() && why.contains("systemd is not running"), "{why}");
    let told = lab.done(&["install-boot"]);
    assert!(told.contains("missing: orders posted permanently"), "{told}");
    let (holds, why) = restart();
    assert!(holds == Some(false) && why.contains("nothing has been posted permanently"), "{why}");
    lab.done(&["confirm"]);
    let (holds, why) = restart();
    assert!(holds == Some(true) && why.contains("revision 1"), "{why}");
    let change = |with: fn(&str) -> String| {
        lab.archive
            .run(move || {
                let unit = "/etc/systemd/system/tipstaff-boot.service";
                let text = fs::read_to_string(unit).unwrap();
                fs::write(unit, with(&text)).unwrap();
            })
            .unwrap();
    };
    change(|text| text.replace("ExecStopPost=", "# "));
    let (holds, why) = restart();
    assert!(holds == Some(true) && why.contains("if it is killed, everything passes"), "{why}");
    change(|text| text.replace("--history", "--run-dir"));
    let (holds, why) = restart();
    assert!(holds == Some(false) && why.contains("runs `"), "{why}");
    lab.done(&["install-boot"]);
    assert_eq!(restart().0, Some(true));
    let disable =
        || fs::remove_file("/etc/systemd/system/sysinit.target.wants/tipstaff-boot.service");
    lab.archive.run(disable).unwrap().unwrap();
    let (holds, why) = restart();
    assert!(holds == Some(false) && why.contains("not enabled"), "{why}");
    lab.done(&["withdraw"]);
}

#[test]
fn a_full_disk_stops_a_post_and_not_a_restart() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let history = lab.path().join("history");
    fs::create_dir(&history).unwrap();
    let folder = history.clone();
    let mounted = lab.archive.run(move || {
        use nix::mount::{MsFlags, mount};
        mount(
            Some("ts-small"),
            &folder,
            Some("tmpfs"),
            MsFlags::empty(),
            Some("size=64k,mode=0700"),
        )
    });
    mounted.unwrap().unwrap();
    lab.orders(PLATES);
    lab.done(&["post"]);
    let filler = history.join("filler");
    let filled = lab.archive.run(move || fs::write(filler, vec![0; 1 << 17]).is_err());
    assert!(filled.unwrap());
    lab.orders("");
    let refused = lab.tipstaff(&["post"]);
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && told.contains("No space left"), "{told}");
    assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 7410), "answers", "what was in force still is");
    lab.done(&["withdraw"]);
    lab.orders("");
    lab.done(&["boot"]);
    assert!(lab.done(&["rules", "--in-force"]).contains("plates"));
    // The panic button does not need the disk.
    lab.done(&["posture", "sealed"]);
    assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 7410), "silent");
    lab.done(&["withdraw"]);
}
