//! One question to one host, over ssh(1) as the administrator has configured it. It never
//! asks: batch mode, a time for connecting, and one for the answer.

use std::io::{Read, Write};
use std::os::fd::AsFd;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};

use super::message::{Answer, Ran, Request};
use crate::shape::{self, WrongSchema};

/// Bytes of an answer at most: a log of a million lines has some 200 MiB.
const MOST: usize = 512 << 20;
/// So much of what ssh says is kept.
const MOST_ERRORS: usize = 64 << 10;
/// What runs there; a forced command runs in its place.
pub const REMOTE: &str = "tipstaff serve-fleet";

/// Why a host gave no answer.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// There is no ssh here.
    #[error("ssh cannot be run here: {0}")]
    NoSsh(String),
    /// Nobody answers there.
    #[error("cannot be reached: {0}")]
    Unreachable(String),
    /// It took too long.
    #[error("no answer within {} s", .0.as_secs())]
    TooLong(Duration),
    /// The host's key is another one than before.
    #[error("its host key has changed; nothing was sent")]
    OtherKey,
    /// The host's key is not known here.
    #[error("its host key is not known here; nothing was sent")]
    UnknownKey,
    /// ssh would have asked for a password, or the key is not let in.
    #[error("login refused, or a password would be needed: {0}")]
    NotLetIn(String),
    /// sudo would have asked for a password.
    #[error("sudo requires a password there")]
    Sudo,
    /// There is no tipstaff.
    #[error("tipstaff is not installed there")]
    NoTipstaff,
    /// There is one that cannot be asked.
    #[error("tipstaff is too old there: it has no `serve-fleet`")]
    TooOld,
    /// There is one that speaks another schema.
    #[error("tipstaff there is newer and answers in a form that this version cannot read: {0}")]
    OtherVersion(String),
    /// The answer ended in the middle.
    #[error("the connection was cut in the middle of the answer")]
    Cut,
    /// Something else answered.
    #[error("unexpected output, not from tipstaff: {0}")]
    NotOurs(String),
    /// The host did not do what it was asked to.
    #[error("{0}")]
    Refused(String),
}

impl Fault {
    /// Whether the host may be well, only nobody comes to it.
    pub fn is_away(&self) -> bool {
        matches!(self, Self::Unreachable(_) | Self::TooLong(_))
    }

    /// What to do about it.
    pub fn help(&self, ssh: &str) -> Option<String> {
        let help = match self {
            Self::NoSsh(_) => "Install OpenSSH's client.".to_owned(),
            Self::Unreachable(_) | Self::TooLong(_) => format!("Try `ssh {ssh}`."),
            Self::OtherKey => format!("Find out why, then `ssh-keygen -R {ssh}` and `ssh {ssh}`."),
            Self::UnknownKey => format!("Verify and accept it once: `ssh {ssh}`."),
            Self::NotLetIn(_) => format!("Add your key there; try `ssh {ssh}`."),
            Self::Sudo => "Add a line to sudoers; docs/fleet.md has it.".to_owned(),
            Self::NoTipstaff => "Install it there, on that account's PATH.".to_owned(),
            Self::TooOld | Self::OtherVersion(_) => {
                "Install the same version on both ends.".to_owned()
            }
            Self::NotOurs(_) => {
                format!("See what `ssh {ssh} {REMOTE} < /dev/null` prints.")
            }
            Self::Cut | Self::Refused(_) => return None,
        };
        Some(help)
    }
}

/// How the first command ended, of an answer to a request that had one.
///
/// # Errors
/// [`Fault::NotOurs`] where there is none.
pub fn first(answer: &Answer) -> Result<&Ran, Fault> {
    answer.ran.first().ok_or_else(|| Fault::NotOurs("an empty answer".into()))
}

/// How hosts are asked.
#[derive(Clone, Copy, Debug)]
pub struct SshLine {
    /// How long an answer may take, from the beginning.
    pub answer: Duration,
    /// Over a connection of its own, whatever the configuration shares.
    pub is_new: bool,
}

/// Seconds for connecting: a host that is off does not hold up the others for long.
const CONNECTING: u32 = 10;

impl SshLine {
    /// Asks a host, by the name that ssh knows it by.
    ///
    /// # Errors
    /// [`Fault`].
    pub fn ask(&self, host: &str, request: &Request<'_>) -> Result<Answer, Fault> {
        let text = serde_json::to_string(request).unwrap_or_default();
        let asked = now();
        let said = self.run(host, text.as_bytes())?;
        let answer = said.answer()?;
        let clock_off = clock_off(answer.clock, asked, now());
        match answer.refused {
            Some(why) => Err(Fault::Refused(why)),
            None => Ok(Answer { clock_off, ..answer }),
        }
    }

    fn run(&self, host: &str, input: &[u8]) -> Result<Said, Fault> {
        let mut command = Command::new("ssh");
        command.args(["-T", "-o", "BatchMode=yes"]);
        command.args(["-o", &format!("ConnectTimeout={CONNECTING}")]);
        command.args(["-o", "ServerAliveInterval=5", "-o", "ServerAliveCountMax=3"]);
        if self.is_new {
            command.args(["-o", "ControlMaster=no", "-o", "ControlPath=none"]);
        }
        command.args(["--", host, REMOTE]).env("LC_ALL", "C.UTF-8");
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let child = command.spawn().map_err(|e| Fault::NoSsh(e.to_string()))?;
        let mut child = Reaped(child);
        let begin = Instant::now();
        let stdin = child.0.stdin.take();
        std::thread::scope(|scope| {
            // Who answers before it has read everything must not wait for us, nor we for it.
            scope.spawn(move || stdin.map(|mut stdin| stdin.write_all(input)));
            let said = listen(&mut child.0, begin, self.answer);
            if said.is_err() {
                // The one who still writes ends with it.
                let _ = child.0.kill();
            }
            said
        })
    }
}

/// Our clock, in seconds since 1970-01-01 UTC.
fn now() -> i64 {
    jiff::Timestamp::now().as_second()
}

/// How far a clock is from ours that was read between the question and the answer; 0 where it
/// lies between them.
fn clock_off(theirs: i64, asked: i64, answered: i64) -> i64 {
    theirs - theirs.min(answered).max(asked)
}

/// A child that does not outlive whoever waits for it.
struct Reaped(Child);

impl Drop for Reaped {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// What came back.
struct Said {
    code: Option<i32>,
    output: Vec<u8>,
    errors: String,
}

/// How long what a child has written may take to arrive once it has ended.
const LINGERS: Duration = Duration::from_millis(500);
/// How often is looked whether it has ended, once it has nothing more to say.
const LOOKS: Duration = Duration::from_millis(20);

/// Reads both ends of a child until it is done, or the time is over.
fn listen(child: &mut Child, begin: Instant, longest: Duration) -> Result<Said, Fault> {
    fn lost(e: std::io::Error) -> Fault {
        Fault::NoSsh(e.to_string())
    }
    let (mut output, mut errors) = (Vec::new(), Vec::new());
    let (mut stdout, mut stderr) = (child.stdout.take(), child.stderr.take());
    let mut piece = vec![0; 64 << 10];
    let mut ended: Option<Instant> = None;
    while stdout.is_some() || stderr.is_some() {
        let mut left = longest.saturating_sub(begin.elapsed());
        if left.is_zero() {
            return Err(Fault::TooLong(longest));
        }
        // Whoever shares the connection, or relays it, may hold these ends open for hours.
        if ended.is_none() && child.try_wait().map_err(lost)?.is_some() {
            ended = Some(Instant::now());
        }
        match ended {
            Some(at) if at.elapsed() > LINGERS => break,
            // What it wrote is there already.
            Some(_) if stdout.is_none() => left = Duration::ZERO,
            Some(_) => left = left.min(LOOKS),
            None if stdout.is_none() => left = left.min(LOOKS),
            None => {}
        }
        let (out, err) = {
            let ends = [stdout.as_ref().map(AsFd::as_fd), stderr.as_ref().map(AsFd::as_fd)];
            let mut polled: Vec<PollFd<'_>> =
                ends.iter().flatten().map(|fd| PollFd::new(*fd, PollFlags::POLLIN)).collect();
            let wait = PollTimeout::try_from(left).unwrap_or(PollTimeout::MAX);
            match poll(&mut polled, wait) {
                Ok(_) | Err(nix::errno::Errno::EINTR) => {}
                Err(e) => return Err(lost(e.into())),
            }
            let mut ready = polled.iter().map(|fd| fd.any() == Some(true));
            let mut of = |end: bool| end && ready.next() == Some(true);
            (of(ends[0].is_some()), of(ends[1].is_some()))
        };
        if ended.is_some() && stdout.is_none() && !err {
            break;
        }
        if out && let Some(end) = &mut stdout {
            match end.read(&mut piece).map_err(lost)? {
                0 => stdout = None,
                n => output.extend_from_slice(&piece[..n]),
            }
        }
        if err && let Some(end) = &mut stderr {
            match end.read(&mut piece).map_err(lost)? {
                0 => stderr = None,
                n => errors.extend_from_slice(&piece[..n.min(MOST_ERRORS - errors.len())]),
            }
        }
        if output.len() > MOST {
            return Err(Fault::NotOurs(format!("it has written {} MiB", MOST >> 20)));
        }
    }
    let code = child.wait().map_err(lost)?.code();
    Ok(Said { code, output, errors: String::from_utf8_lossy(&errors).into_owned() })
}

/// What ssh ends with when the fault is its own (ssh(1), EXIT STATUS).
const OF_SSH: i32 = 255;
/// What a shell ends with that does not find a command.
const NOT_FOUND: i32 = 127;

impl Said {
    fn answer(&self) -> Result<Answer, Fault> {
        let output = String::from_utf8_lossy(&self.output);
        let wrong = match Answer::read(&output) {
            Ok(answer) => return Ok(answer),
            Err(wrong) => wrong,
        };
        let has = |words: &str| self.errors.contains(words);
        let begun = output.lines().any(|line| line.starts_with("{\"schema\":\"tipstaff.fleet-"));
        match self.code {
            Some(OF_SSH) if has("REMOTE HOST IDENTIFICATION HAS CHANGED") => Err(Fault::OtherKey),
            Some(OF_SSH) if has("Host key verification failed") => Err(Fault::UnknownKey),
            Some(OF_SSH) if has("Permission denied") => Err(Fault::NotLetIn(self.last_words())),
            _ if begun && matches!(wrong, WrongSchema::NotJson(_)) => Err(Fault::Cut),
            Some(OF_SSH) if !output.trim().is_empty() => Err(Fault::Cut),
            Some(OF_SSH) => Err(Fault::Unreachable(self.last_words())),
            Some(NOT_FOUND) => Err(Fault::NoTipstaff),
            _ if has("sudo:") && has("password") => Err(Fault::Sudo),
            Some(2) if has("serve-fleet") => Err(Fault::TooOld),
            _ if let Some(why) = own_words(&output) => Err(Fault::Refused(why)),
            _ => match wrong {
                WrongSchema::Newer(schema) => Err(Fault::OtherVersion(schema)),
                _ => Err(Fault::NotOurs(self.first_words(&output))),
            },
        }
    }

    /// The last line that ssh wrote: it says what happened, what stands before is a banner.
    fn last_words(&self) -> String {
        let line = self.errors.lines().rev().find(|line| !line.trim().is_empty());
        line.unwrap_or("ssh says nothing").trim().trim_start_matches("ssh: ").to_owned()
    }

    fn first_words(&self, output: &str) -> String {
        let line = output.lines().chain(self.errors.lines()).find(|line| !line.trim().is_empty());
        match line {
            Some(line) => format!("`{}`", line.trim().chars().take(60).collect::<String>()),
            None => match self.code {
                Some(code) => format!("nothing was written, and it ended with {code}"),
                None => "nothing was written, and a signal ended it".into(),
            },
        }
    }
}

/// What tipstaff there says when it cannot even read the question.
fn own_words(output: &str) -> Option<String> {
    shape::check(output, "error").ok()?;
    let ran = Ran { exit_code: None, output: output.to_owned(), errors: String::new() };
    Some(ran.why())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fault(code: i32, output: &str, errors: &str) -> Fault {
        let said = Said { code: Some(code), output: output.into(), errors: errors.into() };
        said.answer().unwrap_err()
    }

    #[test]
    fn a_host_that_answers_late_has_a_right_clock() {
        assert_eq!(clock_off(150, 100, 400), 0);
        assert_eq!((clock_off(90, 100, 400), clock_off(401, 100, 400)), (-10, 1));
        // Our own was set back meanwhile.
        assert_eq!(clock_off(100, 100, 40), 0);
    }

    #[test]
    fn what_went_wrong_is_told_apart() {
        let refused = "ssh: connect to host mast port 22: Connection refused\n";
        let Fault::Unreachable(words) = fault(255, "", refused) else { panic!() };
        assert_eq!(words, "connect to host mast port 22: Connection refused");
        let changed = "@@@@\n@ WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED! @\n@@@@\nHost key \
                       verification failed.\n";
        assert_eq!(fault(255, "", changed), Fault::OtherKey);
        assert_eq!(fault(255, "", "Host key verification failed.\n"), Fault::UnknownKey);
        let denied = "admin@mast: Permission denied (publickey,password).\n";
        assert!(matches!(fault(255, "", denied), Fault::NotLetIn(_)));
        assert_eq!(
            fault(127, "", "bash: line 1: tipstaff: command not found\n"),
            Fault::NoTipstaff
        );
        let old = "error: unrecognized subcommand 'serve-fleet'\n";
        assert_eq!(fault(2, "", old), Fault::TooOld);
        let begun = r#"{"schema":"tipstaff.fleet-answer/1","version":"0.1"#;
        assert_eq!(fault(255, begun, "Connection closed"), Fault::Cut);
        assert_eq!(fault(0, begun, ""), Fault::Cut);
        let newer = r#"{"schema":"tipstaff.fleet-answer/2"}"#;
        assert!(matches!(fault(0, newer, ""), Fault::OtherVersion(_)));
        assert_eq!(fault(0, "hello\n", ""), Fault::NotOurs("`hello`".into()));
        assert_eq!(fault(1, "", "sudo: a password is required\n"), Fault::Sudo);
        for fault in [Fault::OtherKey, Fault::Sudo, Fault::TooOld, Fault::NoTipstaff] {
            assert!(fault.help("mast").is_some() && !fault.is_away());
        }
    }
}
