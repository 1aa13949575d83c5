//! `watch`: decisions as they happen.

mod screen;

use std::io::IsTerminal;
use std::time::Duration;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::log::LogFilter;
use tipstaff_core::orders::LogLevel;
use tipstaff_gate::GateError;

use crate::acts::decisions::{Feed, GapLine, Line, Next, Told, as_text, filter, moment};
use crate::acts::{named, rehearsing};
use crate::arguments::{Common, WatchOptions};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::Terminal;

/// One decision, for scripts: a line of JSON each.
#[derive(JsonSchema, Serialize)]
pub struct Watched<'l> {
    /// It was decided before this watch began.
    earlier: bool,
    #[serde(flatten)]
    line: &'l Line,
}

shape!(Watched<'_> => "watch");

pub fn run(
    common: &Common,
    options: &WatchOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let judge = judge(common)?;
    if let Some(judge) = &judge {
        for rule in &options.decisions.rules {
            named::rule(judge, rule)?;
        }
    }
    let filter = filter(&options.decisions, judge.as_ref().map(|judge| &judge.orders))?;
    let keys = std::io::stdin().is_terminal();
    if keys && terminal.is_seen() && !options.plain && options.count.is_none() {
        return screen::run(common, &filter, (title(judge.as_ref()), terminal.is_ascii()));
    }
    let mut feed = Feed::open(common, Duration::from_secs(1))?;
    if !terminal.json {
        terminal.note(&format!("{}; Ctrl-C ends", what_is_recorded(judge.as_ref())));
    }
    let mut shown = Shown::nothing();
    loop {
        let told = match feed.next()? {
            Next::Told(told) => told,
            Next::Down => return Ok(withdrawn(terminal)),
        };
        for told in told {
            shown.show(&told, &filter, terminal);
            if options.count == Some(shown.count) || terminal.is_closed() {
                return Ok(Ending::Fine);
            }
        }
    }
}

/// The orders in force; `None` for who may perhaps watch, but not see them.
fn judge(common: &Common) -> Result<Option<LoadedPolicy>, Failure> {
    match chosen::in_force(common)? {
        (Some(in_force), _) => chosen::from_force(&in_force).map(Some),
        (None, Visible::OnlyToRoot) => Ok(None),
        // What is rehearsed on an open machine is watched, too.
        (None, Visible::Yes) => match rehearsing::here(common)? {
            Some(rehearsal) => chosen::of_record(&rehearsal.record).map(Some),
            None => Err(GateError::NothingInForce.into()),
        },
    }
}

/// Whose decisions these are.
fn title(judge: Option<&LoadedPolicy>) -> String {
    let host = judge.and_then(|judge| judge.host.clone());
    let host = host.or_else(|| nix::unistd::gethostname().ok()?.into_string().ok());
    let orders = judge.map(|judge| format!("   orders {}", judge.origin.hash().short()));
    format!("{}{}", host.unwrap_or_default(), orders.unwrap_or_default())
}

fn what_is_recorded(judge: Option<&LoadedPolicy>) -> String {
    let own =
        "decisions of rules with `log = true`, and of what is denied (a sample under a flood)";
    match judge.map(|judge| judge.orders.log.level) {
        Some(LogLevel::Rules) => format!("{own} or allowed by a rule"),
        Some(LogLevel::All) => format!("{own} or allowed"),
        _ => own.to_owned(),
    }
}

fn withdrawn(terminal: &Terminal) -> Ending {
    if !terminal.json {
        terminal.line("The gate was withdrawn.");
    }
    Ending::Fine
}

/// What was shown so far.
struct Shown {
    count: u64,
    /// The day that lines on a terminal are of: they have the time alone.
    day: Option<Date>,
    /// When this watch began, as decisions have it.
    begun: String,
    /// Whether the last one was decided before.
    earlier: bool,
}

impl Shown {
    fn nothing() -> Self {
        Self { count: 0, day: None, begun: moment(Timestamp::now()), earlier: false }
    }

    /// Shows a decision where the filter means it.
    fn show(&mut self, told: &Told, filter: &LogFilter, terminal: &Terminal) {
        match told {
            Told::Line(line) if filter.shows(&line.entry()) => self.line(line, terminal),
            Told::Line(_) => {}
            Told::Gap(gap) => gap_shown(gap, terminal),
        }
    }

    fn line(&mut self, line: &Line, terminal: &Terminal) {
        self.count += 1;
        let earlier = line.time < self.begun;
        if terminal.json {
            terminal.json_line(&Watched { earlier, line });
            return;
        }
        if self.earlier && !earlier {
            terminal.note("the above was decided before this watch began");
        }
        self.earlier = earlier;
        let time = self.time(&line.time, terminal);
        terminal.line(as_text(&time, &line.entry()));
    }

    /// The time of a decision: on a terminal that of the administrator's clock, below a line
    /// for its day; else RFC 3339.
    fn time(&mut self, time: &str, terminal: &Terminal) -> String {
        let Some(moment) = time.parse::<Timestamp>().ok().filter(|_| terminal.is_seen()) else {
            return time.to_owned();
        };
        let zoned = moment.to_zoned(TimeZone::system());
        if self.day != Some(zoned.date()) {
            self.day = Some(zoned.date());
            terminal.note(&zoned.strftime("%Y-%m-%d, offset %:z").to_string());
        }
        zoned.strftime("%H:%M:%S%.3f").to_string()
    }
}

fn gap_shown(gap: &GapLine, terminal: &Terminal) {
    match terminal.json {
        true => terminal.json_line(gap),
        false => terminal.note(&format!("missing here: {}", gap.words())),
    }
}
