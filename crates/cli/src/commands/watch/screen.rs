//! The full screen: what is decided, who is turned away, and what to do about it.

mod act;
mod draw;
mod state;

use std::io::{stdin, stdout};
use std::os::fd::AsFd;
use std::sync::mpsc::{self, Receiver, Sender};
use std::thread;
use std::time::Duration;

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::signal::{SigSet, Signal};
use nix::sys::signalfd::{SfdFlags, SignalFd};
use ratatui::DefaultTerminal;
use ratatui::crossterm::event::{self, Event, KeyEventKind};
use ratatui::crossterm::execute;
use ratatui::crossterm::terminal::SetTitle;
use tipstaff_core::analysis::log::LogFilter;

use crate::acts::decisions::{Feed, Next, Told};
use crate::arguments::Common;
use crate::ending::Ending;
use crate::failure::{Failure, system};

use state::{Asked, Screen};

/// How often it is drawn anew, and keys and signals are looked for.
const TICK: Duration = Duration::from_millis(100);

/// What the reading thread tells.
enum News {
    Told(Vec<Told>),
    Down,
    Failed(Failure),
}

/// Shows until a key or a signal ends it. The terminal is as before then, whatever happens.
pub fn run(
    common: &Common,
    filter: &LogFilter,
    (title, only_ascii): (String, bool),
) -> Result<Ending, Failure> {
    let signals = SigSet::from_iter([Signal::SIGTERM, Signal::SIGINT, Signal::SIGHUP]);
    signals.thread_block().map_err(|e| system("waiting for signals")(e.into()))?;
    let flags = SfdFlags::SFD_CLOEXEC | SfdFlags::SFD_NONBLOCK;
    let signals = SignalFd::with_flags(&signals, flags)
        .map_err(|e| system("waiting for signals")(e.into()))?;
    let (sender, news) = mpsc::channel();
    thread::scope(|scope| {
        scope.spawn(move || read(common, &sender));
        // What cannot be watched is told on the terminal as it is.
        if let Ok(News::Failed(failure)) = news.recv() {
            return Err(failure);
        }
        let mut terminal = ratatui::try_init().map_err(system("opening the screen"))?;
        let _restored = Restored;
        let _ = execute!(stdout(), SetTitle("tipstaff watch"));
        // The channel is dropped at the end, which ends the reading.
        let screen = Screen::new(title, only_ascii);
        show(common, filter, &mut terminal, &signals, screen, news)
    })
}

/// Puts the terminal back on every way out; a panic does it by itself (`try_init`).
struct Restored;

impl Drop for Restored {
    fn drop(&mut self) {
        ratatui::restore();
    }
}

/// Reads until nobody wants it any more. The first news is whether that can be done.
fn read(common: &Common, sender: &Sender<News>) {
    let mut feed = match Feed::open(common, TICK) {
        Ok(feed) => feed,
        Err(failure) => return drop(sender.send(News::Failed(failure))),
    };
    let mut news = News::Told(Vec::new());
    loop {
        let is_over = !matches!(news, News::Told(_));
        if sender.send(news).is_err() || is_over {
            return;
        }
        news = match feed.next() {
            Ok(Next::Told(told)) => News::Told(told),
            Ok(Next::Down) => News::Down,
            Err(failure) => News::Failed(failure),
        };
    }
}

/// What came within a tick.
enum Waited {
    Nothing,
    Keys,
    /// A signal, or the terminal is gone.
    Over,
}

/// Looked at here: of a terminal that is gone, crossterm reads nothing for ever.
fn waited(signals: &SignalFd) -> Result<Waited, Failure> {
    let input = stdin();
    let mut all = [
        PollFd::new(input.as_fd(), PollFlags::POLLIN),
        PollFd::new(signals.as_fd(), PollFlags::POLLIN),
    ];
    match poll(&mut all, PollTimeout::try_from(TICK).unwrap_or(PollTimeout::ZERO)) {
        Ok(_) | Err(nix::errno::Errno::EINTR) => {}
        Err(e) => return Err(system("waiting for keys")(e.into())),
    }
    let [keys, signal] = all.map(|fd| fd.revents().unwrap_or(PollFlags::empty()));
    let gone = PollFlags::POLLHUP | PollFlags::POLLERR | PollFlags::POLLNVAL;
    Ok(match () {
        () if keys.intersects(gone) || !signal.is_empty() => Waited::Over,
        () if !keys.is_empty() => Waited::Keys,
        () => Waited::Nothing,
    })
}

fn show(
    common: &Common,
    filter: &LogFilter,
    terminal: &mut DefaultTerminal,
    signals: &SignalFd,
    mut screen: Screen,
    news: Receiver<News>,
) -> Result<Ending, Failure> {
    loop {
        screen.move_on();
        terminal
            .draw(|frame| draw::draw(frame, &mut screen))
            .map_err(system("drawing on the terminal"))?;
        let keys = match waited(signals)? {
            Waited::Over => return Ok(Ending::Fine),
            Waited::Keys => event::poll(Duration::ZERO).map_err(system("reading keys"))?,
            Waited::Nothing => false,
        };
        if keys
            && let Event::Key(key) = event::read().map_err(system("reading keys"))?
            && key.kind != KeyEventKind::Release
        {
            match screen.key(key) {
                Asked::Nothing => {}
                Asked::End => return Ok(Ending::Fine),
                Asked::Why(line) => screen.show_text("why", act::why(common, &line)),
                Asked::Allow(line) => screen.offer(act::rule_for(&line)),
                Asked::Add(words) => screen.show_text("done", act::run(common, &words)),
            }
        }
        for news in news.try_iter() {
            match news {
                News::Told(told) => told.into_iter().for_each(|told| screen.add(told, filter)),
                News::Down => screen.end("The gate was withdrawn; q ends."),
                News::Failed(failure) => return Err(failure),
            }
        }
    }
}
