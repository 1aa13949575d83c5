//! The files of the log: lines of JSON, begun anew each day and when they are large, removed
//! when they are old or too much.

use std::fs::{self, File, OpenOptions, Permissions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::fd::AsFd;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use jiff::Timestamp;
use nix::unistd::{Gid, Uid};
use tipstaff_core::orders::{Log, LogLevel};
use tipstaff_host::files;

use super::line::{GapLine, Told, moment};
use super::viewers::group_called;
use crate::arguments::Common;
use crate::failure::Failure;

/// A file is a part of what the log may take: so many files there are at most.
const PARTS: u64 = 8;
/// More are not written in a second, and counted: a disk has other work to do.
pub const MOST_LINES: u64 = 10_000;

/// The file that is written at present.
pub fn log_file(common: &Common) -> PathBuf {
    common.log_dir.join(format!("decisions{}.jsonl", common.of_namespace()))
}

/// All files of the log, the oldest first.
pub fn log_files(current: &Path) -> io::Result<Vec<PathBuf>> {
    let stem = current.file_stem().and_then(|stem| stem.to_str()).unwrap_or_default();
    let begin = format!("{stem}.");
    let is_part = |name: &str| name.starts_with(&begin) && name.ends_with(".jsonl");
    let mut all = Vec::new();
    for entry in fs::read_dir(files::folder(current))? {
        let path = entry?.path();
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        if path != current && is_part(name) {
            all.push(path);
        }
    }
    // Their names have the moments of their first lines.
    all.sort_unstable();
    all.extend(current.exists().then(|| current.to_owned()));
    Ok(all)
}

/// All files of the log; none where there is no log.
///
/// # Errors
/// Where it cannot be looked at.
pub fn logged(common: &Common) -> Result<Vec<PathBuf>, Failure> {
    match log_files(&log_file(common)) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
        Err(source) => Err(Failure::Unreadable { path: common.log_dir.clone(), source }),
        Ok(files) => Ok(files),
    }
}

/// What is said where there is none.
pub fn no_log(common: &Common) -> String {
    format!(
        "there is no log at {}; `tipstaff keep` writes it, and `tipstaff install-boot` installs \
         that as a service",
        log_file(common).display()
    )
}

/// The file that is open.
struct Open {
    file: File,
    size: u64,
    /// The day of its first line, as lines have it.
    day: Option<String>,
    group: Option<String>,
}

/// The writing end.
pub struct Files {
    path: PathBuf,
    open: Option<Open>,
    /// The second in which lines were written last, and how many.
    second: (u64, u64),
    /// What is not in the log, and not told there yet.
    missing: GapLine,
}

impl Files {
    /// Nothing is opened yet.
    pub fn new(path: PathBuf) -> Self {
        Self { path, open: None, second: (0, 0), missing: GapLine::default() }
    }

    /// Opens the file again before the next line: it may be another one by then.
    pub fn close(&mut self) {
        self.open = None;
    }

    /// Appends what was told, at a moment (for ages and for how much a second may take).
    /// What cannot be written is counted, and told once it can.
    ///
    /// # Errors
    /// What the system says; a later call tries again.
    pub fn write(&mut self, told: &[Told], log: &Log, now: SystemTime) -> io::Result<()> {
        let rehearsed: Vec<Told>;
        let told = match log.level {
            // Records are what a rehearsal is for.
            LogLevel::Off => {
                let lines = told.iter().filter(|t| matches!(t, Told::Line(l) if l.rehearsed));
                rehearsed = lines.cloned().collect();
                &rehearsed
            }
            _ => told,
        };
        if log.level == LogLevel::Off && told.is_empty() {
            self.open = None;
            return Ok(());
        }
        let since = now.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default().as_secs();
        if self.second.0 != since {
            self.second = (since, 0);
        }
        let room = usize::try_from(MOST_LINES - self.second.1).unwrap_or(usize::MAX);
        let (written, beyond) = told.split_at(told.len().min(room));
        self.second.1 += written.len() as u64;
        if written.is_empty() && (self.missing.is_empty() || room == 0) {
            self.miss(beyond);
            return Ok(());
        }
        let time = match written.first() {
            Some(first) => first.time().to_owned(),
            None => moment_of(now),
        };
        let mut text = String::new();
        if !self.missing.is_empty() {
            let gap = GapLine { time: time.clone(), ..self.missing.clone() };
            text = Told::Gap(gap).json() + "\n";
        }
        for told in written {
            text.push_str(&told.json());
            text.push('\n');
        }
        if let Err(e) = self.append(&text, &time, log, now) {
            self.miss(told);
            return Err(e);
        }
        self.missing = GapLine::default();
        self.miss(beyond);
        Ok(())
    }

    /// Tells what is missing, at the end, also where this second has no room left.
    ///
    /// # Errors
    /// As [`Self::write`].
    pub fn finish(&mut self, log: &Log, now: SystemTime) -> io::Result<()> {
        self.second = (0, 0);
        self.write(&[], log, now)
    }

    /// Counts what is not written; what was told to be missing still is.
    fn miss(&mut self, told: &[Told]) {
        for told in told {
            match told {
                Told::Line(_) => self.missing.not_written += 1,
                Told::Gap(gap) => self.missing.add(gap),
            }
        }
    }

    fn append(&mut self, text: &str, time: &str, log: &Log, now: SystemTime) -> io::Result<()> {
        let part = u64::from(log.max_megabytes) * (1 << 20) / PARTS;
        let begins = self.open.is_none();
        let open = self.opened(log.viewers.as_deref())?;
        let other_day = open.day.as_deref().is_some_and(|day| !time.starts_with(day));
        let is_over = other_day || open.size > 0 && open.size + text.len() as u64 > part;
        if is_over {
            self.open = None;
            self.begin_anew()?;
        }
        if is_over || begins {
            self.clear(log, now, part)?;
        }
        let open = self.opened(log.viewers.as_deref())?;
        if let Err(e) = open.file.write_all(text.as_bytes()) {
            // What is counted as not written is not there in part. Where even that fails, who
            // opens the file next ends the line.
            let _ = open.file.set_len(open.size);
            self.open = None;
            return Err(e);
        }
        open.size += text.len() as u64;
        if open.day.is_none() {
            open.day = time.get(..10).map(str::to_owned);
        }
        Ok(())
    }

    /// Gives the file its name for good: the moment of its first line.
    fn begin_anew(&self) -> io::Result<()> {
        let mut first = String::new();
        let mut head = vec![0; 4_096];
        let n = File::open(&self.path)?.read(&mut head)?;
        if let Some(line) = String::from_utf8_lossy(&head[..n]).lines().next() {
            first = Told::parse(line).map(|told| told.time().to_owned()).unwrap_or_default();
        }
        let plain: String = first.chars().take(19).filter(|c| c.is_alphanumeric()).collect();
        let stem = self.path.file_stem().and_then(|stem| stem.to_str()).unwrap_or_default();
        for n in 0.. {
            let name = format!("{stem}.{plain}Z{n:03}.jsonl");
            let path = files::folder(&self.path).join(name);
            if !path.exists() {
                return fs::rename(&self.path, path);
            }
        }
        Ok(())
    }

    /// Removes what is old, and the oldest of what is too much.
    fn clear(&self, log: &Log, now: SystemTime, part: u64) -> io::Result<()> {
        if !files::folder(&self.path).exists() {
            return Ok(());
        }
        let (mut left, most) = (part, u64::from(log.max_megabytes) << 20);
        let age = Duration::from_secs(u64::from(log.max_days) * 86_400);
        for path in log_files(&self.path)?.into_iter().rev().filter(|path| *path != self.path) {
            let found = fs::metadata(&path)?;
            let is_old = now.duration_since(found.modified()?).is_ok_and(|old| old > age);
            left += found.len();
            if is_old || left > most {
                fs::remove_file(&path)?;
            }
        }
        Ok(())
    }

    fn opened(&mut self, viewers: Option<&str>) -> io::Result<&mut Open> {
        let open = match self.open.take().filter(|open| open.group.as_deref() == viewers) {
            Some(open) => open,
            None => open(&self.path, viewers)?,
        };
        Ok(self.open.insert(open))
    }
}

fn moment_of(time: SystemTime) -> String {
    moment(Timestamp::try_from(time).unwrap_or_default())
}

/// Opens the file, for root and the members of a group, and ends a line that was cut.
fn open(path: &Path, viewers: Option<&str>) -> io::Result<Open> {
    let folder = files::folder(path);
    files::make_folder(folder, 0o700)?;
    let mut options = OpenOptions::new();
    options.read(true).append(true).create(true).mode(0o600);
    let mut file = options.custom_flags(nix::libc::O_NOFOLLOW | nix::libc::O_CLOEXEC).open(path)?;
    let group = viewers.map(group_called).transpose();
    // Whom to show it to matters less than that it is written.
    if let Ok(Some(group)) = group {
        for (place, mode) in [(folder, 0o750), (path, 0o640)] {
            nix::unistd::chown(place, None::<Uid>, Some::<Gid>(group))?;
            fs::set_permissions(place, Permissions::from_mode(mode))?;
        }
    }
    let size = file.metadata()?.len();
    let mut head = vec![0; 4_096];
    let n = file.read(&mut head)?;
    let first = String::from_utf8_lossy(&head[..n]).lines().next().and_then(Told::parse);
    let day = first.and_then(|told| told.time().get(..10).map(str::to_owned));
    if size > 0 {
        let mut last = [0];
        file.seek(SeekFrom::End(-1))?;
        file.read_exact(&mut last)?;
        if last != *b"\n" {
            file.write_all(b"\n")?;
        }
    }
    Ok(Open { file, size, day, group: viewers.map(str::to_owned) })
}

impl Drop for Files {
    fn drop(&mut self) {
        if let Some(open) = &self.open {
            let _ = nix::unistd::fdatasync(open.file.as_fd());
        }
    }
}

#[cfg(test)]
mod tests {
    use tipstaff_core::analysis::log::{Read as ReadLine, read_line};

    use super::super::line::{Line, example};
    use super::*;

    fn told(time: &str) -> Told {
        Told::Line(Line { time: time.into(), ..example() })
    }

    const DAY: &str = "2026-11-29T10:00:00.000000Z";

    fn texts(path: &Path) -> Vec<String> {
        log_files(path).unwrap().iter().map(|path| fs::read_to_string(path).unwrap()).collect()
    }

    fn now() -> SystemTime {
        SystemTime::now()
    }

    #[test]
    fn a_line_that_was_cut_spoils_no_other() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log/decisions.jsonl");
        Files::new(path.clone()).write(&[told(DAY)], &Log::default(), now()).unwrap();
        let mut file = OpenOptions::new().append(true).open(&path).unwrap();
        file.write_all(&told(DAY).json().as_bytes()[..50]).unwrap();
        Files::new(path.clone()).write(&[told(DAY)], &Log::default(), now()).unwrap();
        let text = fs::read_to_string(&path).unwrap();
        let read: Vec<_> =
            text.lines().map(|line| read_line(line) == ReadLine::Unreadable).collect();
        assert_eq!(read, [false, true, false]);
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        // Off is off.
        let off = Log { level: LogLevel::Off, ..Log::default() };
        Files::new(path.clone()).write(&[told(DAY)], &off, now()).unwrap();
        assert_eq!(fs::read_to_string(&path).unwrap(), text);
    }

    #[test]
    fn a_day_and_a_size_begin_a_file_and_the_oldest_goes() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("decisions.jsonl");
        let log = Log { max_megabytes: 2, ..Log::default() };
        let mut files = Files::new(path.clone());
        files.write(&[told("2026-11-28T23:59:59.000000Z")], &log, now()).unwrap();
        files.write(&[told(DAY)], &log, now()).unwrap();
        let all = log_files(&path).unwrap();
        assert!(all[0].ends_with("decisions.20261128T235959Z000.jsonl"), "{all:?}");
        // It goes on where it was, also when it is opened anew.
        drop(files);
        let mut files = Files::new(path.clone());
        files.write(&[told("2026-11-30T00:00:00.000000Z")], &log, now()).unwrap();
        assert_eq!(texts(&path).len(), 3);
        // 2 MiB in files of a quarter; the first ones are gone then.
        let lines = vec![told("2026-11-30T00:00:01.000000Z"); 400];
        for n in 0..30 {
            let later = now() + Duration::from_secs(n);
            files.write(&lines, &log, later).unwrap();
        }
        let texts = texts(&path);
        let size: usize = texts.iter().map(String::len).sum();
        assert!(texts.len() > 5 && size <= 2 << 20 && size > 1 << 20, "{} {size}", texts.len());
        assert!(!texts.concat().contains("2026-11-28"));
        // What is old goes, however little it is.
        let later = now() + Duration::from_secs(31 * 86_400);
        files.write(&[told("2026-12-31T00:00:00.000000Z")], &log, later).unwrap();
        assert_eq!(log_files(&path).unwrap().len(), 1);
    }

    #[test]
    fn what_was_not_written_is_counted_in_the_log() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("decisions.jsonl");
        let log = Log::default();
        let mut files = Files::new(path.clone());
        let (flood, now) = (vec![told(DAY); MOST_LINES as usize + 5], now());
        files.write(&flood, &log, now).unwrap();
        // What was missing before it came here is told on.
        let lost = GapLine { time: DAY.into(), lost: 7, ..GapLine::default() };
        let gap = Told::Gap(lost);
        files
            .write(&[flood[0].clone(), gap, flood[1].clone(), flood[2].clone()], &log, now)
            .unwrap();
        // It need not wait for another decision.
        files.write(&[], &log, now + Duration::from_secs(1)).unwrap();
        assert!(texts(&path).concat().contains("\"not_written\":8"));
        files.write(&flood[..1], &log, now + Duration::from_secs(1)).unwrap();
        let text = texts(&path).concat();
        let gaps = text.lines().filter_map(|line| match read_line(line) {
            ReadLine::Gap(gap) => Some((gap.not_written, gap.lost)),
            _ => None,
        });
        assert_eq!(gaps.collect::<Vec<_>>(), [(8, 7)]);
        assert_eq!(text.lines().count(), MOST_LINES as usize + 2);
        // Where nothing can be written it is told, and counted for later.
        let blocked = folder.path().join("file");
        fs::write(&blocked, "").unwrap();
        let mut files = Files::new(blocked.join("decisions.jsonl"));
        files.write(&flood[..7], &log, now).unwrap_err();
        fs::remove_file(&blocked).unwrap();
        files.write(&flood[..1], &log, now).unwrap();
        let text = fs::read_to_string(blocked.join("decisions.jsonl")).unwrap();
        assert!(text.contains("\"not_written\":7"), "{text}");
    }
}
