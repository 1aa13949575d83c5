//! Locks of files: only their owner can open them, nobody waits for ever, and
//! who waits in vain is told for whom. And files that say that something runs.

use std::fs::{self, File};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use std::{io, thread};

use nix::fcntl::{FcntlArg, Flock, FlockArg, fcntl};
use nix::libc;

/// How long a command waits for another one to end.
pub const PATIENCE: Duration = Duration::from_secs(10);
/// How often it looks: nobody tells when a lock is free.
const INTERVAL: Duration = Duration::from_millis(20);

/// A lock that is held until it is dropped.
#[derive(Debug)]
pub struct Lock {
    _file: Flock<File>,
    path: PathBuf,
    passing: bool,
}

/// Why a lock was not taken.
#[derive(Debug, thiserror::Error)]
pub enum LockError {
    /// Somebody else held it all the time.
    #[error("{} has been locked by {} for {} s", path, holder.as_deref().unwrap_or("another process"), waited.as_secs())]
    Held {
        /// The file.
        path: String,
        /// Who, where /proc/locks tells: `process 4711 (tipstaff post)`.
        holder: Option<String>,
        /// How long was waited.
        waited: Duration,
    },
    /// The file cannot be opened, made or locked.
    #[error("{path} cannot be locked: {source}")]
    System {
        /// The file.
        path: String,
        /// What the system said.
        source: io::Error,
    },
}

impl Lock {
    /// Waits for a lock file, at most so long. The file is made where it is
    /// not, for its owner alone; one that others could open is replaced, as
    /// somebody may hold it open for ever.
    ///
    /// # Errors
    /// [`LockError`].
    pub fn wait_for(path: &Path, patience: Duration) -> Result<Self, LockError> {
        let failed = |source| LockError::System { path: path.display().to_string(), source };
        let begin = Instant::now();
        loop {
            let file = open(path).map_err(failed)?;
            let own = file.metadata().map_err(failed)?;
            match Flock::lock(file, FlockArg::LockExclusiveNonblock) {
                Ok(file) => {
                    // Whoever held it before may have taken the file away.
                    if stands_at(&own, path) {
                        return Ok(Self { _file: file, path: path.to_owned(), passing: false });
                    }
                }
                Err((_, nix::errno::Errno::EWOULDBLOCK)) => {
                    let waited = begin.elapsed();
                    if waited >= patience {
                        let holder = holder_of(&own);
                        return Err(LockError::Held {
                            path: path.display().to_string(),
                            holder,
                            waited,
                        });
                    }
                    thread::sleep(INTERVAL);
                }
                Err((_, errno)) => return Err(failed(errno.into())),
            }
        }
    }
}

impl Lock {
    /// Its file goes when the lock is released: it stands where people look.
    #[must_use]
    pub fn passing(mut self) -> Self {
        self.passing = true;
        self
    }
}

impl Drop for Lock {
    fn drop(&mut self) {
        if self.passing {
            // Whoever waits for it sees that the file is another one, and makes it anew.
            let _ = fs::remove_file(&self.path);
        }
    }
}

/// Says that something runs, for as long as this is kept, to whoever [`runs`] asks. Others
/// may say so of the same file; the last one takes it away.
#[derive(Debug)]
pub struct Running {
    file: File,
    path: PathBuf,
}

impl Running {
    /// Locks the file, which is made where it is not.
    ///
    /// # Errors
    /// The file cannot be opened, made or locked, or is not this account's or root's.
    pub fn new(path: &Path) -> io::Result<Self> {
        loop {
            let running = Self { file: open(path)?, path: path.to_owned() };
            fcntl(&running.file, FcntlArg::F_OFD_SETLK(&whole_file(libc::F_RDLCK)))?;
            // Another one, ending, may have taken the file away.
            if running.is_there() {
                return Ok(running);
            }
        }
    }

    fn is_there(&self) -> bool {
        self.file.metadata().is_ok_and(|own| stands_at(&own, &self.path))
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if self.is_there() && !is_locked(&self.file) {
            let _ = fs::remove_file(&self.path);
        }
    }
}

/// Whether somebody says so by this file. One that other accounts could lock says nothing.
pub fn runs(path: &Path) -> bool {
    let mut options = File::options();
    options.read(true).custom_flags(libc::O_NOFOLLOW | libc::O_NONBLOCK);
    let Ok(file) = options.open(path) else { return false };
    let trusted = file.metadata().is_ok_and(|found| is_own(&found) && is_closed(&found));
    trusted && is_locked(&file)
}

/// Whether somebody else has a lock on a file: asked, not tried, so that two who ask do not
/// take each other for one (F_OFD_GETLK, fcntl(2)).
fn is_locked(file: &File) -> bool {
    let mut asked = whole_file(libc::F_WRLCK);
    let told = fcntl(file, FcntlArg::F_OFD_GETLK(&mut asked));
    told.is_ok() && i32::from(asked.l_type) != libc::F_UNLCK
}

fn whole_file(kind: i32) -> libc::flock {
    libc::flock {
        l_type: kind as libc::c_short,
        l_whence: libc::SEEK_SET as libc::c_short,
        l_start: 0,
        l_len: 0,
        l_pid: 0,
    }
}

/// Opens or makes the file. No link is followed, and nobody else can open it.
fn open(path: &Path) -> io::Result<File> {
    let mut options = File::options();
    options.read(true).write(true).custom_flags(libc::O_NOFOLLOW | libc::O_NONBLOCK);
    loop {
        match options.clone().create_new(true).mode(0o600).open(path) {
            Ok(file) => return Ok(file),
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
            Err(e) => return Err(e),
        }
        let file = match options.open(path) {
            Ok(file) => file,
            Err(e) if e.kind() == io::ErrorKind::NotFound => continue,
            Err(e) => return Err(e),
        };
        let found = file.metadata()?;
        if !found.is_file() {
            return Err(io::Error::other("it is not a regular file"));
        }
        if !is_own(&found) {
            return Err(io::Error::other(format!("it is owned by the account {}", found.uid())));
        }
        if is_closed(&found) {
            return Ok(file);
        }
        fs::remove_file(path)?;
    }
}

/// Whether an open file is still what stands at a path.
fn stands_at(file: &fs::Metadata, path: &Path) -> bool {
    let now = fs::symlink_metadata(path);
    now.is_ok_and(|now| (now.dev(), now.ino()) == (file.dev(), file.ino()))
}

/// Whether it is this account's, or root's.
fn is_own(file: &fs::Metadata) -> bool {
    file.uid() == nix::unistd::geteuid().as_raw() || file.uid() == 0
}

/// Whether its owner alone can open it.
fn is_closed(file: &fs::Metadata) -> bool {
    file.mode() & 0o077 == 0
}

/// Who holds a lock on a file, by proc_locks(5).
fn holder_of(file: &fs::Metadata) -> Option<String> {
    let (major, minor) = (nix::sys::stat::major(file.dev()), nix::sys::stat::minor(file.dev()));
    let wanted = format!("{major:02x}:{minor:02x}:{}", file.ino());
    let text = fs::read_to_string("/proc/locks").ok()?;
    // 1: FLOCK  ADVISORY  WRITE 4711 fd:00:1234 0 EOF
    let process = text.lines().find_map(|line| {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words.as_slice() {
            [_, "FLOCK", _, "WRITE", process, inode, ..] if *inode == wanted => {
                process.parse::<u32>().ok()
            }
            _ => None,
        }
    })?;
    let command = fs::read(format!("/proc/{process}/cmdline")).unwrap_or_default();
    let words = command.split(|byte| *byte == 0).filter(|word| !word.is_empty()).take(3);
    let words: Vec<_> = words.map(String::from_utf8_lossy).collect();
    Some(match words.as_slice() {
        [] => format!("process {process}"),
        words => format!("process {process} ({})", words.join(" ")),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn a_second_one_waits_in_vain_and_is_told_for_whom() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("lock");
        let first = Lock::wait_for(&path, Duration::ZERO).unwrap();
        assert_eq!(fs::metadata(&path).unwrap().mode() & 0o777, 0o600);
        let told = Lock::wait_for(&path, Duration::ZERO).unwrap_err().to_string();
        assert!(told.contains(&format!("process {}", std::process::id())), "{told}");
        drop(first);
        drop(Lock::wait_for(&path, Duration::ZERO).unwrap().passing());
        assert!(!path.exists());
    }

    #[test]
    fn the_last_who_runs_takes_the_file_away() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("runs");
        assert!(!runs(&path));
        let (first, second) = (Running::new(&path).unwrap(), Running::new(&path).unwrap());
        assert!(runs(&path));
        drop(first);
        assert!(runs(&path));
        // One that ends late leaves the file of the next one alone.
        fs::remove_file(&path).unwrap();
        let third = Running::new(&path).unwrap();
        drop(second);
        assert!(runs(&path));
        drop(third);
        assert!(!path.exists());
        // Killed, one leaves its file behind, and no lock.
        fs::write(&path, "").unwrap();
        assert!(!runs(&path));
        // What anybody could lock says nothing and is replaced, and a link leads nowhere.
        fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
        let anybody = File::open(&path).unwrap();
        fcntl(&anybody, FcntlArg::F_OFD_SETLK(&whole_file(libc::F_RDLCK))).unwrap();
        assert!(!runs(&path));
        let _running = Running::new(&path).unwrap();
        assert_eq!(fs::metadata(&path).unwrap().mode() & 0o777, 0o600);
        let link = folder.path().join("link");
        std::os::unix::fs::symlink(&path, &link).unwrap();
        assert!(Running::new(&link).is_err() && !runs(&link));
    }

    #[test]
    fn whoever_opened_a_file_for_all_holds_up_nobody() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("lock");
        fs::write(&path, "").unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
        let held = Flock::lock(File::open(&path).unwrap(), FlockArg::LockExclusive).unwrap();
        Lock::wait_for(&path, Duration::ZERO).unwrap();
        drop(held);
        // A link leads nowhere.
        fs::remove_file(&path).unwrap();
        std::os::unix::fs::symlink(folder.path().join("elsewhere"), &path).unwrap();
        assert!(matches!(Lock::wait_for(&path, Duration::ZERO), Err(LockError::System { .. })));
        assert!(!folder.path().join("elsewhere").exists());
    }
}
