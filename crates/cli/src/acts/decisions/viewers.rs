//! The local socket at which others watch: lines of JSON, the last ones first. Who reads too
//! slowly is told how much it misses, and who does not read at all is dropped: nobody waits.

use std::collections::VecDeque;
use std::fs::{self, Permissions};
use std::io::{self, ErrorKind, Read, Write};
use std::os::fd::{AsFd, BorrowedFd};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use nix::sys::socket::{getsockopt, sockopt::PeerCredentials};
use nix::unistd::{Gid, Group, Uid};

use super::line::{GapLine, Told, moment};

/// So many lines are shown to who comes later.
const RECENT: usize = 200;
/// Bytes that wait for a viewer at most, beside what the kernel holds for it.
const WAITING: usize = 1 << 20;
/// Who takes nothing for so long is dropped.
const STALLED: Duration = Duration::from_secs(10);
/// Whether there is a group by now is asked so often.
const ASKED_AGAIN: Duration = Duration::from_secs(5);
/// Viewers at once.
const MOST: usize = 64;
/// What `keep` writes to take over from a `watch` that reads.
const HAND_OVER: &[u8] = b"hand over\n";

/// Where the socket is.
pub fn socket_path(run_dir: &Path) -> PathBuf {
    run_dir.join("decisions")
}

/// Whether somebody reads the records.
pub fn is_recorded(run_dir: &Path) -> bool {
    UnixStream::connect(socket_path(run_dir)).is_ok()
}

/// Asks whoever reads to end that; `false`: nobody does.
pub fn ask_to_hand_over(run_dir: &Path) -> bool {
    let Ok(mut reader) = UnixStream::connect(socket_path(run_dir)) else { return false };
    reader.write_all(HAND_OVER).is_ok()
}

struct Viewer {
    stream: UnixStream,
    waiting: VecDeque<u8>,
    is_root: bool,
    /// What there was no room for.
    missed: GapLine,
    /// When it last took something, or had nothing to take.
    read: Instant,
}

/// What became of a viewer.
#[derive(PartialEq, Eq)]
enum Still {
    Here,
    Gone,
    /// It wants to read itself.
    TakesOver,
}

/// The serving end. Dropped, the socket goes.
pub struct Viewers {
    listener: UnixListener,
    path: PathBuf,
    all: Vec<Viewer>,
    recent: VecDeque<Told>,
    group: Option<String>,
    /// Why that group is not let in, and since when that is known.
    problem: Option<(String, Instant)>,
}

impl Viewers {
    /// Opens the socket, for root alone. Who calls it holds the lock of the one reader.
    pub fn open(run_dir: &Path) -> io::Result<Self> {
        let path = socket_path(run_dir);
        match fs::remove_file(&path) {
            Err(e) if e.kind() != ErrorKind::NotFound => return Err(e),
            _ => {}
        }
        // Nobody else writes what this process makes, and nobody but root connects.
        let listener = UnixListener::bind(&path)?;
        fs::set_permissions(&path, Permissions::from_mode(0o600))?;
        listener.set_nonblocking(true)?;
        let (all, recent) = (Vec::new(), VecDeque::new());
        Ok(Self { listener, path, all, recent, group: None, problem: None })
    }

    /// Lets the members of a group in, or none. A group that is not there yet is asked for
    /// again from time to time.
    pub fn admit(&mut self, group: Option<&str>, now: Instant) -> io::Result<()> {
        let again = |(_, since): &(String, Instant)| now.duration_since(*since) >= ASKED_AGAIN;
        if self.group.as_deref() != group || self.problem.as_ref().is_some_and(again) {
            self.group = group.map(str::to_owned);
            self.problem = self.open_to(group).err().map(|e| (e.to_string(), now));
        }
        match &self.problem {
            Some((problem, _)) => Err(io::Error::other(problem.clone())),
            None => Ok(()),
        }
    }

    fn open_to(&self, group: Option<&str>) -> io::Result<()> {
        let gid = group.map(group_called).transpose()?;
        let owner = gid.unwrap_or(Gid::from_raw(0));
        nix::unistd::chown(&self.path, None::<Uid>, Some(owner))?;
        let mode = if gid.is_some() { 0o660 } else { 0o600 };
        fs::set_permissions(&self.path, Permissions::from_mode(mode))
    }

    /// Shows them to all who watch.
    pub fn tell(&mut self, told: &[Told]) {
        // Where nobody watches, no line is made of them.
        if !self.all.is_empty() {
            for told in told {
                let line = told.json();
                self.all.iter_mut().for_each(|viewer| viewer.tell(told, &line));
            }
        }
        let last = &told[told.len().saturating_sub(RECENT)..];
        self.recent.extend(last.iter().cloned());
        self.recent.drain(..self.recent.len().saturating_sub(RECENT));
    }

    /// Lets in who waits, and writes what can be written. `true`: somebody takes over.
    pub fn serve(&mut self) -> bool {
        while let Ok((stream, _)) = self.listener.accept() {
            if self.all.len() < MOST
                && let Ok(viewer) = self.admitted(stream)
            {
                self.all.push(viewer);
            }
        }
        let mut takes_over = false;
        self.all.retain_mut(|viewer| {
            let still = viewer.go_on();
            takes_over |= still == Still::TakesOver;
            still == Still::Here
        });
        takes_over
    }

    fn admitted(&self, stream: UnixStream) -> io::Result<Viewer> {
        stream.set_nonblocking(true)?;
        let is_root = getsockopt(&stream, PeerCredentials).is_ok_and(|peer| peer.uid() == 0);
        let mut waiting = VecDeque::new();
        for told in &self.recent {
            waiting.extend(told.json().bytes().chain(*b"\n"));
        }
        let (missed, read) = (GapLine::default(), Instant::now());
        Ok(Viewer { stream, waiting, is_root, missed, read })
    }

    /// What to wait on: who comes, who speaks, and who can take more.
    pub fn polled(&self) -> Vec<(BorrowedFd<'_>, bool)> {
        let viewers = self.all.iter().map(|v| (v.stream.as_fd(), !v.waiting.is_empty()));
        std::iter::once((self.listener.as_fd(), false)).chain(viewers).collect()
    }
}

impl Viewer {
    /// Keeps a line for it; where it reads too slowly, counts what it misses.
    fn tell(&mut self, told: &Told, line: &str) {
        if self.waiting.len() + line.len() >= WAITING {
            match told {
                Told::Line(_) => self.missed.lost += 1,
                Told::Gap(gap) => self.missed.add(gap),
            }
            return;
        }
        self.tell_what_is_missing(told.time());
        self.waiting.extend(line.bytes().chain(*b"\n"));
    }

    /// Keeps a line for what it misses, where it misses anything.
    fn tell_what_is_missing(&mut self, time: &str) {
        if !self.missed.is_empty() {
            let time = time.to_owned();
            let gap = Told::Gap(GapLine { time, ..std::mem::take(&mut self.missed) });
            self.waiting.extend(gap.json().bytes().chain(*b"\n"));
        }
    }

    fn go_on(&mut self) -> Still {
        let mut said = [0; 64];
        match self.stream.read(&mut said) {
            Ok(0) => return Still::Gone,
            Ok(n) if self.is_root && said[..n] == *HAND_OVER => return Still::TakesOver,
            Ok(_) => return Still::Gone,
            Err(e) if e.kind() == ErrorKind::WouldBlock => {}
            Err(_) => return Still::Gone,
        }
        if self.write().is_err() {
            return Still::Gone;
        }
        if self.waiting.is_empty() && !self.missed.is_empty() {
            // It need not wait for another decision.
            self.tell_what_is_missing(&moment(Timestamp::now()));
            if self.write().is_err() {
                return Still::Gone;
            }
        }
        match self.waiting.is_empty() {
            true => self.read = Instant::now(),
            false if self.read.elapsed() > STALLED => return Still::Gone,
            false => {}
        }
        Still::Here
    }

    /// Writes as much as it takes.
    fn write(&mut self) -> io::Result<()> {
        while !self.waiting.is_empty() {
            match self.stream.write(self.waiting.as_slices().0) {
                Ok(n) => {
                    self.waiting.drain(..n);
                    self.read = Instant::now();
                }
                Err(e) if e.kind() == ErrorKind::WouldBlock => break,
                Err(e) => return Err(e),
            }
        }
        Ok(())
    }
}

impl Drop for Viewers {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.path);
    }
}

/// The number of a group of accounts.
///
/// # Errors
/// When there is none of that name.
pub fn group_called(name: &str) -> io::Result<Gid> {
    let found = Group::from_name(name).map_err(io::Error::from)?;
    let missing = || io::Error::other(format!("there is no group `{name}`, see [log] viewers"));
    Ok(found.ok_or_else(missing)?.gid)
}

#[cfg(test)]
mod tests {
    use std::io::{BufRead, BufReader};

    use super::*;

    /// Something to tell, with a number.
    fn told(n: u64) -> Told {
        Told::Gap(GapLine { time: "x".repeat(900), not_sampled: n, ..GapLine::default() })
    }

    #[test]
    fn who_comes_later_sees_the_last_lines_and_who_is_slow_what_is_missing() {
        let folder = tempfile::tempdir().unwrap();
        let mut viewers = Viewers::open(folder.path()).unwrap();
        let connect = || UnixStream::connect(socket_path(folder.path())).unwrap();
        let lazy = connect();
        lazy.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
        assert!(!viewers.serve());
        for _ in 0..RECENT + 10 {
            viewers.tell(&[told(1)]);
        }
        let mut late = BufReader::new(connect());
        assert!(!viewers.serve());
        let mut line = String::new();
        let mut next = |viewers: &mut Viewers, from: &mut BufReader<UnixStream>| {
            viewers.serve();
            line.clear();
            from.read_line(&mut line).unwrap();
            match Told::parse(line.trim_end()) {
                Some(Told::Gap(gap)) => gap.not_sampled + gap.lost,
                other => panic!("{other:?}: {line}"),
            }
        };
        // One reads on while the other one has more than its share.
        let many = 2 * (WAITING / 900) as u64;
        let mut read = 0;
        for _ in 0..many {
            viewers.tell(&[told(1)]);
            read += next(&mut viewers, &mut late);
        }
        while read < many + RECENT as u64 {
            read += next(&mut viewers, &mut late);
        }
        // The other one misses none without being told.
        // Also when nothing more is decided.
        let mut lazy = BufReader::new(lazy);
        let mut read = 0;
        while read < many + RECENT as u64 + 10 {
            read += next(&mut viewers, &mut lazy);
        }
        assert_eq!(read, many + RECENT as u64 + 10);
        drop((lazy, late));
        viewers.serve();
        assert!(viewers.all.is_empty());
        drop(viewers);
        assert!(!socket_path(folder.path()).exists());
    }

    #[test]
    fn only_root_takes_over() {
        let folder = tempfile::tempdir().unwrap();
        assert!(!ask_to_hand_over(folder.path()));
        let mut viewers = Viewers::open(folder.path()).unwrap();
        assert!(ask_to_hand_over(folder.path()));
        assert_eq!(viewers.serve(), nix::unistd::geteuid().is_root());
        UnixStream::connect(socket_path(folder.path())).unwrap().write_all(b"what?\n").unwrap();
        assert!(!viewers.serve());
        let missing = viewers.admit(Some("no-such-group"), Instant::now()).unwrap_err();
        assert!(missing.to_string().contains("see [log] viewers"), "{missing}");
    }

    /// Groups may be made after the orders that name them.
    #[test]
    fn who_could_not_be_let_in_is_let_in_later() {
        let folder = tempfile::tempdir().unwrap();
        let (mut viewers, now) = (Viewers::open(folder.path()).unwrap(), Instant::now());
        let own = nix::unistd::Group::from_gid(nix::unistd::getegid()).unwrap().unwrap().name;
        // The socket is away for a moment: what is tried fails, as it does without a group.
        let away = folder.path().join("away");
        fs::rename(socket_path(folder.path()), &away).unwrap();
        assert!(viewers.admit(Some(&own), now).is_err());
        fs::rename(&away, socket_path(folder.path())).unwrap();
        assert!(viewers.admit(Some(&own), now + ASKED_AGAIN / 2).is_err(), "not at every look");
        viewers.admit(Some(&own), now + ASKED_AGAIN).unwrap();
        let mode = fs::metadata(socket_path(folder.path())).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o660);
    }
}
