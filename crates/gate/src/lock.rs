//! Locks of files: only their owner can open them, nobody waits for ever, and
//! who waits in vain is told for whom.

use std::fs::{self, File};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use std::{io, thread};

use nix::fcntl::{Flock, FlockArg};

/// How long a command waits for another one to end.
pub const PATIENCE: Duration = Duration::from_secs(10);
/// How often it looks: nobody tells when a lock is free.
const INTERVAL: Duration = Duration::from_millis(20);

/// A lock that is held until it is dropped.
#[derive(Debug)]
pub struct Lock {
    file: Flock<File>,
    path: PathBuf,
    passing: bool,
    shared: bool,
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
        Self::wait(path, patience, false)
    }

    /// As [`Self::wait_for`], together with others that share it.
    ///
    /// # Errors
    /// [`LockError`].
    pub fn share(path: &Path, patience: Duration) -> Result<Self, LockError> {
        Self::wait(path, patience, true)
    }

    fn wait(path: &Path, patience: Duration, shared: bool) -> Result<Self, LockError> {
        let kind = match shared {
            true => FlockArg::LockSharedNonblock,
            false => FlockArg::LockExclusiveNonblock,
        };
        let failed = |source| LockError::System { path: path.display().to_string(), source };
        let begin = Instant::now();
        loop {
            let file = open(path).map_err(failed)?;
            let own = file.metadata().map_err(failed)?;
            match Flock::lock(file, kind) {
                Ok(file) => {
                    // Whoever held it before may have taken the file away.
                    let now = fs::symlink_metadata(path);
                    if now.is_ok_and(|now| (now.dev(), now.ino()) == (own.dev(), own.ino())) {
                        let path = path.to_owned();
                        return Ok(Self { file, path, passing: false, shared });
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
    /// Its file goes when the lock is released, by the last who shared it: it stands where
    /// people look.
    #[must_use]
    pub fn passing(mut self) -> Self {
        self.passing = true;
        self
    }
}

impl Drop for Lock {
    fn drop(&mut self) {
        let alone = || self.file.relock(FlockArg::LockExclusiveNonblock).is_ok();
        if self.passing && (!self.shared || alone()) {
            // Whoever waits for it sees that the file is another one, and makes it anew.
            let _ = fs::remove_file(&self.path);
        }
    }
}

/// Whether somebody holds a lock on this file, or shares one. A file of another account says
/// nothing.
pub fn is_held(path: &Path) -> bool {
    let mut options = File::options();
    options.read(true).custom_flags(nix::libc::O_NOFOLLOW | nix::libc::O_NONBLOCK);
    let Ok(file) = options.open(path) else { return false };
    let own = nix::unistd::geteuid().as_raw();
    if !file.metadata().is_ok_and(|found| found.uid() == own || found.uid() == 0) {
        return false;
    }
    let locked = Flock::lock(file, FlockArg::LockExclusiveNonblock);
    matches!(locked, Err((_, nix::errno::Errno::EWOULDBLOCK)))
}

/// Opens or makes the file. No link is followed, and nobody else can open it.
fn open(path: &Path) -> io::Result<File> {
    let mut options = File::options();
    options.read(true).write(true).custom_flags(nix::libc::O_NOFOLLOW | nix::libc::O_NONBLOCK);
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
        let own = nix::unistd::geteuid().as_raw();
        if found.uid() != own && found.uid() != 0 {
            return Err(io::Error::other(format!("it is owned by the account {}", found.uid())));
        }
        if found.mode() & 0o077 == 0 {
            return Ok(file);
        }
        fs::remove_file(path)?;
    }
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
    fn the_last_who_shares_a_lock_takes_its_file_away() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("shared");
        assert!(!is_held(&path));
        let share = || Lock::share(&path, Duration::ZERO).unwrap().passing();
        let (first, second) = (share(), share());
        assert!(is_held(&path));
        assert!(matches!(Lock::wait_for(&path, Duration::ZERO), Err(LockError::Held { .. })));
        drop(first);
        assert!(is_held(&path));
        drop(second);
        assert!(!path.exists());
        // Killed, one leaves its file behind, and no lock.
        fs::write(&path, "").unwrap();
        assert!(!is_held(&path));
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
