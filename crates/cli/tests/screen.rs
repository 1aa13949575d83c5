//! The full screen of `watch`, in a terminal that a test reads. Needs root for the kernel's
//! part.

#![allow(clippy::unwrap_used)]

mod common;

use std::cell::RefCell;
use std::fs::{self, File};
use std::io::{Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::process::{Child, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

use common::{ARCHIVE, Lab, PARTNER, PLATES, STRANGER};
use nix::fcntl::{FcntlArg, FdFlag, fcntl};
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::pty::Winsize;
use nix::sys::signal::{Signal, kill};
use nix::sys::termios::{LocalFlags, tcgetattr};
use nix::unistd::Pid;
use tipstaff_testing::patience::in_time;

/// A program on a terminal of its own.
struct Seen {
    child: RefCell<Child>,
    /// This end, and the other one, kept so that its state can be read.
    keys: File,
    slave: OwnedFd,
    parser: Arc<Mutex<(vt100::Parser, Vec<u8>)>>,
    /// Ends the reading, and with it the last use of this end but for the keys.
    over: Arc<AtomicBool>,
    reads: Option<JoinHandle<()>>,
}

impl Seen {
    fn of(lab: &Lab, arguments: &[&str], (rows, columns): (u16, u16)) -> Self {
        let size = Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
        let pair = nix::pty::openpty(Some(&size), None).unwrap();
        // Or the program would have this end of its own terminal.
        fcntl(&pair.master, FcntlArg::F_SETFD(FdFlag::FD_CLOEXEC)).unwrap();
        let mut command = lab.command(arguments);
        command.env("TERM", "xterm-256color");
        let end = || Stdio::from(pair.slave.try_clone().unwrap());
        command.stdin(end()).stdout(end()).stderr(end());
        let child = lab.archive.run(move || command.spawn().unwrap()).unwrap();
        let parser = vt100::Parser::new(rows, columns, 0);
        let parser = Arc::new(Mutex::new((parser, Vec::new())));
        let (reads, written) = (pair.master.try_clone().unwrap(), Arc::clone(&parser));
        let over = Arc::new(AtomicBool::new(false));
        let ends = Arc::clone(&over);
        let reads = std::thread::spawn(move || {
            let (mut bytes, mut from) = ([0; 4_096], File::from(reads));
            while !ends.load(Ordering::Relaxed) {
                let mut waiting = [PollFd::new(from.as_fd(), PollFlags::POLLIN)];
                if poll(&mut waiting, PollTimeout::from(20u16)).unwrap() == 0 {
                    continue;
                }
                let Ok(n @ 1..) = from.read(&mut bytes) else { return };
                let mut parser = written.lock().unwrap();
                parser.0.process(&bytes[..n]);
                parser.1.extend(&bytes[..n]);
            }
        });
        Self {
            child: RefCell::new(child),
            keys: File::from(pair.master),
            slave: pair.slave,
            parser,
            over,
            reads: Some(reads),
        }
    }

    fn text(&self) -> String {
        self.parser.lock().unwrap().0.screen().contents()
    }

    #[track_caller]
    fn shows(&self, what: &str) {
        assert!(in_time(|| self.text().contains(what)), "{what}:\n{}", self.text());
    }

    fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).unwrap();
    }

    /// Closes what lies over the screen. Keys that follow at once would be another one.
    #[track_caller]
    fn closes(&mut self, what: &str) {
        self.press("\u{1b}");
        assert!(in_time(|| !self.text().contains(what)), "{}", self.text());
    }

    fn resize(&self, rows: u16, columns: u16) {
        let size =
            rustix::termios::Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
        rustix::termios::tcsetwinsize(&self.keys, size).unwrap();
        self.parser.lock().unwrap().0.screen_mut().set_size(rows, columns);
    }

    fn is_over(&self) -> bool {
        in_time(|| self.child.borrow_mut().try_wait().unwrap().is_some())
    }

    /// Closes this end, as when a connection is cut.
    fn hang_up(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        self.reads.take().unwrap().join().unwrap();
        self.keys = File::open("/dev/null").unwrap();
    }

    /// It has ended, and the terminal is as it was before.
    #[track_caller]
    fn has_ended(&self) {
        assert!(self.is_over(), "{}", self.text());
        let flags = tcgetattr(self.slave.as_fd()).unwrap().local_flags;
        assert!(flags.contains(LocalFlags::ICANON | LocalFlags::ECHO), "{flags:?}");
        assert!(in_time(|| {
            let written = self.parser.lock().unwrap().1.clone();
            let written = String::from_utf8_lossy(&written).into_owned();
            let last = |what: &str| written.rfind(what);
            last("\u{1b}[?1049l") > last("\u{1b}[?1049h")
                && last("\u{1b}[?25h") > last("\u{1b}[?25l")
        }));
    }
}

impl Drop for Seen {
    fn drop(&mut self) {
        let _ = self.child.get_mut().kill();
        let _ = self.child.get_mut().wait();
    }
}

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
