//! A program of ours on a terminal that a test reads.

// Not every test that has this module uses all of it.
#![allow(dead_code)]

use std::cell::RefCell;
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

use nix::fcntl::{FcntlArg, FdFlag, fcntl};
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::pty::Winsize;
use nix::sys::termios::{FlowArg, LocalFlags, tcflow, tcgetattr};
use tipstaff_testing::patience::in_time;

use crate::common::Lab;

/// A program on a terminal of its own.
pub struct Seen {
    pub child: RefCell<Child>,
    /// This end, and the other one, kept so that its state can be read.
    pub keys: File,
    pub slave: OwnedFd,
    pub parser: Arc<Mutex<(vt100::Parser, Vec<u8>)>>,
    /// Ends the reading, and with it the last use of this end but for the keys.
    over: Arc<AtomicBool>,
    reads: Option<JoinHandle<()>>,
}

impl Seen {
    /// Starts it in a namespace.
    pub fn of(lab: &Lab, arguments: &[&str], size: (u16, u16)) -> Self {
        let archive = Arc::clone(&lab.archive);
        Self::started(lab.command(arguments), size, move |mut command| {
            archive.run(move || command.spawn().unwrap()).unwrap()
        })
    }

    /// Starts it.
    pub fn started(
        mut command: Command,
        (rows, columns): (u16, u16),
        start: impl FnOnce(Command) -> Child,
    ) -> Self {
        let size = Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
        let pair = nix::pty::openpty(Some(&size), None).unwrap();
        // Or the program would have this end of its own terminal.
        fcntl(&pair.master, FcntlArg::F_SETFD(FdFlag::FD_CLOEXEC)).unwrap();
        command.env("TERM", "xterm-256color");
        let end = || Stdio::from(pair.slave.try_clone().unwrap());
        command.stdin(end()).stdout(end()).stderr(end());
        let child = start(command);
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

    pub fn text(&self) -> String {
        self.parser.lock().unwrap().0.screen().contents()
    }

    #[track_caller]
    pub fn shows(&self, what: &str) {
        assert!(in_time(|| self.text().contains(what)), "{what}:\n{}", self.text());
    }

    pub fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).unwrap();
    }

    /// Nothing that the program writes comes to this end, until it may again (tcflow(3)).
    pub fn holds_output(&self, holds: bool) {
        let what = if holds { FlowArg::TCOOFF } else { FlowArg::TCOON };
        tcflow(&self.slave, what).unwrap();
    }

    /// Waits until the program is held in a write (proc_pid_syscall(5)).
    #[track_caller]
    pub fn waits_to_write(&self) {
        let syscall = format!("/proc/{}/syscall", self.child.borrow().id());
        let write = format!("{} ", nix::libc::SYS_write);
        assert!(in_time(|| std::fs::read_to_string(&syscall).unwrap().starts_with(&write)));
    }

    /// Closes what lies over the screen. Keys that follow at once would be another one.
    #[track_caller]
    pub fn closes(&mut self, what: &str) {
        self.press("\u{1b}");
        assert!(in_time(|| !self.text().contains(what)), "{}", self.text());
    }

    pub fn resize(&self, rows: u16, columns: u16) {
        let size =
            rustix::termios::Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
        rustix::termios::tcsetwinsize(&self.keys, size).unwrap();
        self.parser.lock().unwrap().0.screen_mut().set_size(rows, columns);
    }

    pub fn is_over(&self) -> bool {
        in_time(|| self.child.borrow_mut().try_wait().unwrap().is_some())
    }

    /// Closes this end, as when a connection is cut.
    pub fn hang_up(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        self.reads.take().unwrap().join().unwrap();
        self.keys = File::open("/dev/null").unwrap();
    }

    /// It has ended, and the terminal reads lines as before.
    #[track_caller]
    pub fn has_ended_in_lines(&self) {
        assert!(self.is_over(), "{}", self.text());
        let flags = tcgetattr(self.slave.as_fd()).unwrap().local_flags;
        assert!(flags.contains(LocalFlags::ICANON | LocalFlags::ECHO), "{flags:?}");
    }

    /// It has ended, and the whole screen is as it was before.
    #[track_caller]
    pub fn has_ended(&self) {
        self.has_ended_in_lines();
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
