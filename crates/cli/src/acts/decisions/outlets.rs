//! Others that are told of decisions: the journal of systemd by its native protocol
//! (<https://systemd.io/JOURNAL_NATIVE_PROTOCOL/>), and the local syslog (RFC 5424).

use std::os::unix::net::UnixDatagram;
use std::path::{Path, PathBuf};

use tipstaff_core::orders::{Action, Log};
use tipstaff_core::visible::visible;

use super::line::{Line, Told, as_text};

/// Severities of syslog(3).
const NOTICE: u8 = 5;
const INFO: u8 = 6;
/// The facility of system daemons.
const DAEMON: u8 = 3;
/// An SD-ID needs a number of one's own (RFC 5424, 6.3.2); this one is for documentation
/// (RFC 5612), as Tipstaff has none.
const SD_ID: &str = "tipstaff@32473";

/// Where they listen.
pub struct Outlets {
    socket: Option<UnixDatagram>,
    journal: PathBuf,
    syslog: PathBuf,
    host: String,
}

impl Outlets {
    /// At the usual places.
    pub fn new() -> Self {
        Self::at(Path::new("/run/systemd/journal/socket"), Path::new("/dev/log"))
    }

    fn at(journal: &Path, syslog: &Path) -> Self {
        let socket = UnixDatagram::unbound().ok().filter(|s| s.set_nonblocking(true).is_ok());
        let host = nix::unistd::gethostname().ok().and_then(|name| name.into_string().ok());
        let host = host.filter(|name| !name.is_empty()).unwrap_or_else(|| "-".into());
        Self { socket, journal: journal.to_owned(), syslog: syslog.to_owned(), host }
    }

    /// Tells whom the orders name; `false`: one of them did not take it.
    pub fn tell(&self, told: &Told, log: &Log) -> bool {
        let Some(socket) = &self.socket else { return !log.journal && !log.syslog };
        let send = |bytes: &[u8], to: &Path| socket.send_to(bytes, to).is_ok();
        let journal = !log.journal || send(&journal_entry(told), &self.journal);
        let syslog = !log.syslog || send(self.syslog_message(told).as_bytes(), &self.syslog);
        journal && syslog
    }

    fn syslog_message(&self, told: &Told) -> String {
        let priority = DAEMON * 8 + severity(told);
        let (time, data) = match told {
            Told::Line(line) => {
                let named = fields(line).into_iter().map(|(name, value)| {
                    let value = value.replace('\\', "\\\\").replace('"', "\\\"");
                    format!(" {}=\"{}\"", name.to_lowercase(), value.replace(']', "\\]"))
                });
                (&line.time, format!("[{SD_ID}{}]", named.collect::<String>()))
            }
            Told::Gap(gap) => (&gap.time, "-".into()),
        };
        let process = std::process::id();
        format!(
            "<{priority}>1 {time} {} tipstaff {process} decision {data} {}",
            self.host,
            message(told)
        )
    }
}

fn severity(told: &Told) -> u8 {
    match told {
        Told::Line(line) if line.verdict == Action::Allow || line.rehearsed => INFO,
        _ => NOTICE,
    }
}

/// What people read.
fn message(told: &Told) -> String {
    let text = match told {
        Told::Line(line) => as_text("", &line.entry()).trim_start().to_owned(),
        Told::Gap(gap) => format!("decisions are missing: {}", gap.words()),
    };
    visible(&text).into_owned()
}

/// What programs read: no value has the end of a line in it.
fn fields(line: &Line) -> Vec<(&'static str, String)> {
    let shown = |text: &str| visible(text).into_owned();
    let known = |name, text: &Option<String>| text.as_deref().map(|text| (name, shown(text)));
    let mut all = vec![
        ("VERDICT", line.verdict.to_string()),
        ("DIRECTION", line.direction.to_string()),
        ("INTERFACE", shown(&line.interface)),
        ("TRAFFIC", shown(&line.traffic)),
        ("SOURCE", shown(&line.source)),
        ("DESTINATION", shown(&line.destination)),
        ("BY", shown(&line.by)),
    ];
    if line.rehearsed {
        all.push(("REHEARSED", "1".into()));
    }
    all.extend(known("PROGRAM", &line.program));
    all.extend(known("RULE", &line.rule));
    all
}

fn journal_entry(told: &Told) -> Vec<u8> {
    let mut text = format!(
        "MESSAGE={}\nPRIORITY={}\nSYSLOG_IDENTIFIER=tipstaff\n",
        message(told),
        severity(told)
    );
    if let Told::Line(line) = told {
        for (name, value) in fields(line) {
            text.push_str(&format!("TIPSTAFF_{name}={value}\n"));
        }
    }
    text.into_bytes()
}

#[cfg(test)]
mod tests {
    use std::process::Command;

    use super::super::line::example;
    use super::*;

    fn told() -> Told {
        Told::Line(Line { program: Some("/srv/a\n]\"b\\c".into()), ..example() })
    }

    fn received(log: &Log) -> (Vec<u8>, Vec<u8>) {
        let folder = tempfile::tempdir().unwrap();
        let (journal, syslog) = (folder.path().join("journal"), folder.path().join("log"));
        let sockets = [&journal, &syslog].map(|path| UnixDatagram::bind(path).unwrap());
        let outlets = Outlets::at(&journal, &syslog);
        assert!(outlets.tell(&told(), log));
        let [journal, syslog] = sockets.map(|socket| {
            socket.set_nonblocking(true).unwrap();
            let mut bytes = vec![0; 4_096];
            let n = socket.recv(&mut bytes).unwrap_or_default();
            bytes[..n].to_vec()
        });
        drop(folder);
        assert_eq!(outlets.tell(&told(), log), !log.journal && !log.syslog);
        (journal, syslog)
    }

    #[test]
    fn nobody_is_told_who_is_not_named() {
        let (journal, syslog) = received(&Log::default());
        assert!(journal.is_empty() && syslog.is_empty());
        let (journal, syslog) = received(&Log { journal: true, ..Log::default() });
        assert!(!journal.is_empty() && syslog.is_empty());
        // Each line is a field: nothing that somebody chose begins another one.
        let text = String::from_utf8(journal).unwrap();
        assert!(text.lines().all(|line| line.split_once('=').is_some()), "{text}");
        assert!(text.contains("\nTIPSTAFF_SOURCE=203.0.113.9:4242\n"), "{text}");
    }

    const PARSER: &str = "
import sys
from syslog_rfc5424_parser import SyslogMessage
m = SyslogMessage.parse(sys.stdin.read())
d = m.sd['tipstaff@32473']
print(m.severity.name, m.facility.name, m.appname, m.msgid, d['verdict'], d['source'], d['program'])
";

    #[test]
    fn a_message_is_read_by_a_parser_of_rfc_5424_that_is_not_ours() {
        let (_, syslog) = received(&Log { syslog: true, ..Log::default() });
        let python = |text: &str| Command::new("python3").args(["-c", text]).output();
        if !python("import syslog_rfc5424_parser").is_ok_and(|output| output.status.success()) {
            let why = "python3 has no syslog-rfc5424-parser";
            tipstaff_testing::skipped("reading a syslog message was", &why);
            return;
        }
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("message");
        std::fs::write(&path, &syslog).unwrap();
        let mut command = Command::new("python3");
        command.args(["-c", PARSER]).stdin(std::fs::File::open(&path).unwrap());
        let output = command.output().unwrap();
        let told = String::from_utf8_lossy(&output.stdout).into_owned();
        let error = String::from_utf8_lossy(&output.stderr);
        assert!(
            told.starts_with("notice daemon tipstaff decision deny 203.0.113.9:4242 /srv/a"),
            "{told}{error}\n{}",
            String::from_utf8_lossy(&syslog)
        );
    }
}
