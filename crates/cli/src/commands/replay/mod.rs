//! `replay`: what the orders would have said of a capture.

mod text;
mod write;

use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::time::Duration;

use foldhash::fast::RandomState;
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::analysis::replay::{Conversation, Ends, Replay, Replayed};
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::Speaker;
use tipstaff_core::names::traffic::{TCP, UDP};
use tipstaff_core::orders::{Action, Origin};

use crate::arguments::{Common, ReplayOptions};
use crate::chosen::{self, LoadedPolicy};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Terminal, counted};

use crate::acts::capture::{self, Captured, End, Input, News, NoCapture};
use write::Writing;

/// Conversations that are listed where nobody says how many.
const LISTED: usize = 20;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    /// The other orders that these are compared with.
    other: Option<&'r Origin>,
    packets: u64,
    bytes: u64,
    /// When the first and the last packet were captured; null: there is none.
    first: Option<String>,
    last: Option<String>,
    rows: Vec<Row>,
    conversations: usize,
    /// Conversations of both ends that these orders would stop.
    cut: Vec<Told>,
    /// Who asked, was not answered in the capture, and would be stopped.
    turned_away: Vec<Told>,
    /// Conversations that get another answer from the other orders; null: none were named.
    differ: Option<Vec<Told>>,
    /// Where the capture ends too early, and why.
    damaged: Option<Damage>,
    notes: Vec<String>,
}

shape!(Report<'_> => "replay");

#[derive(Clone, JsonSchema, Serialize)]
struct Row {
    by: String,
    packets: u64,
    bytes: u64,
}

#[derive(Clone, JsonSchema, Serialize)]
struct Told {
    traffic: String,
    source: String,
    destination: String,
    packets: u64,
    /// Packets that would be stopped.
    stopped: u64,
    by: String,
    begun: String,
    /// Under the other orders: packets that would be stopped, and by what.
    other: Option<OtherTold>,
}

#[derive(Clone, JsonSchema, Serialize)]
struct OtherTold {
    stopped: u64,
    by: String,
}

#[derive(Clone, JsonSchema, Serialize)]
struct Damage {
    /// Bytes that were read, unpacked.
    offset: u64,
    why: String,
}

/// A list, and what it said.
struct Side {
    brief: Brief,
    replay: Replay,
    by: HashMap<Speaker, Counted, RandomState>,
    /// Of the last speaker, who mostly speaks again: not in `by` yet.
    last: (Speaker, Counted),
}

/// Packets and bytes.
#[derive(Clone, Copy, Default)]
struct Counted {
    packets: u64,
    bytes: u64,
}

impl Side {
    fn new(mut brief: Brief, options: &ReplayOptions) -> Result<Self, Failure> {
        brief.own = capture::own(&options.own, &brief.own)?;
        brief.interfaces = Vec::new();
        let replay = Replay::new(&brief).map_err(tipstaff_gate::GateError::from)?;
        let last = (Speaker::Nobody, Counted::default());
        Ok(Self { brief, replay, by: HashMap::default(), last })
    }

    /// The capture names an interface; nobody knows all of them before.
    fn interface(&mut self, index: usize, name: &str) -> Result<(), Failure> {
        self.brief.interfaces.push((capture::number(index), name.to_owned()));
        Ok(self.replay.post(&self.brief).map_err(tipstaff_gate::GateError::from)?)
    }

    #[inline]
    fn packet(&mut self, captured: &Captured) -> Replayed {
        let replayed = self.replay.packet(captured.arrived());
        self.count(replayed.decision.speaker, captured.length);
        replayed
    }

    fn count(&mut self, speaker: Speaker, length: u64) {
        if speaker != self.last.0 {
            self.flush();
            self.last.0 = speaker;
        }
        self.last.1.packets += 1;
        self.last.1.bytes += length;
    }

    fn flush(&mut self) {
        let (speaker, counted) = (self.last.0, std::mem::take(&mut self.last.1));
        if counted.packets > 0 {
            let known = self.by.entry(speaker).or_default();
            known.packets += counted.packets;
            known.bytes += counted.bytes;
        }
    }

    /// Who decided how much: the most packets first.
    fn rows(&self) -> Vec<Row> {
        let mut rows: Vec<Row> = self
            .by
            .iter()
            .map(|(speaker, Counted { packets, bytes })| {
                let by = speaker_words(&self.brief, *speaker);
                Row { by, packets: *packets, bytes: *bytes }
            })
            .collect();
        rows.sort_by(|a, b| b.packets.cmp(&a.packets).then_with(|| a.by.cmp(&b.by)));
        rows
    }

    fn told(&self, ends: &Ends, conversation: &Conversation) -> Told {
        let Ends { source, from, destination, key } = ends;
        Told {
            traffic: key.to_string(),
            source: match key.protocol() {
                TCP | UDP => SocketAddr::new(*source, *from).to_string(),
                _ => source.to_string(),
            },
            destination: destination.to_string(),
            packets: conversation.packets,
            stopped: conversation.stopped,
            by: speaker_words(&self.brief, conversation.speaker),
            begun: capture::moment_of(conversation.begun),
            other: None,
        }
    }
}

/// The list of these orders for the host of the capture: with the addresses that the orders
/// give it.
fn brief_of(judge: &LoadedPolicy) -> Brief {
    let mut brief = judge.brief.clone();
    let host = judge.orders.hosts.iter().find(|host| Some(&host.name) == judge.host.as_ref());
    let written = host.into_iter().flat_map(|host| &host.addresses);
    brief.own = written.filter_map(|address| address.parse().ok()).collect();
    brief
}

/// What is done with packets beside deciding them.
struct Out<'o> {
    options: &'o ReplayOptions,
    writing: Option<Writing>,
}

impl Out<'_> {
    fn packet(
        &mut self,
        captured: &Captured,
        data: &[u8],
        (brief, replayed): (&Brief, Replayed),
    ) -> io::Result<()> {
        let Some(writing) = &mut self.writing else { return Ok(()) };
        let verdict = replayed.decision.verdict;
        let mut wanted = self.options.verdicts.iter().map(|wanted| Action::from(*wanted));
        if !self.options.verdicts.is_empty() && !wanted.any(|wanted| wanted == verdict) {
            return Ok(());
        }
        let by = speaker_words(brief, replayed.decision.speaker);
        let comment = format!("tipstaff: {verdict}, {} by {by}", replayed.direction);
        writing.packet(captured.interface, captured.at, captured.length, data, &comment)
    }
}

/// Whatever ends the reading.
enum Stop {
    Capture(NoCapture),
    Writing(io::Error),
    Other(Failure),
}

impl From<Failure> for Stop {
    fn from(failure: Failure) -> Self {
        Self::Other(failure)
    }
}

impl From<NoCapture> for Stop {
    fn from(why: NoCapture) -> Self {
        Self::Capture(why)
    }
}

impl From<io::Error> for Stop {
    fn from(source: io::Error) -> Self {
        Self::Writing(source)
    }
}

pub fn run(
    common: &Common,
    options: &ReplayOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let judge = chosen::from_file(common)?;
    let other =
        options.compare.as_deref().map(|path| chosen::of_file_at(common, path)).transpose()?;
    let path = &options.capture;
    let input = capture::opened(path).map_err(Failure::unreadable(path))?;
    play(&judge, other.as_ref(), input, options, terminal)
}

/// Plays a capture and shows what came of it.
pub fn play(
    judge: &LoadedPolicy,
    other: Option<&LoadedPolicy>,
    input: Input,
    options: &ReplayOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let target = options.write.clone().unwrap_or_default();
    let failed = |source| Failure::Unwritable { path: target.clone(), source };
    let writing = options.write.as_deref().map(Writing::begin).transpose().map_err(failed)?;
    let mut playing = Playing {
        side: Side::new(brief_of(judge), options)?,
        other: other.map(|judge| Side::new(brief_of(judge), options)).transpose()?,
        out: Out { options, writing },
        interfaces: 0,
        packets: 0,
        bytes: 0,
        times: None,
    };
    let end = capture::read(input, |news| playing.take(news)).map_err(|stop| match stop {
        Stop::Capture(why) => why.of(&options.capture),
        Stop::Writing(source) => failed(source),
        Stop::Other(failure) => failure,
    })?;
    if let Some(writing) = playing.out.writing.take() {
        writing.finish().map_err(failed)?;
    }
    std::iter::once(&mut playing.side).chain(&mut playing.other).for_each(Side::flush);
    let report = playing.report(judge, other, end);
    let took = playing.times.map(|(first, last)| last.saturating_sub(first)).unwrap_or_default();
    match terminal.json {
        true => terminal.json(&report),
        false => text::show(&report, took, options.count.unwrap_or(LISTED), terminal),
    }
    Ok(if report.damaged.is_some() { Ending::Differs } else { Ending::Fine })
}

/// A capture on its way through the lists.
struct Playing<'o> {
    side: Side,
    other: Option<Side>,
    out: Out<'o>,
    interfaces: usize,
    packets: u64,
    bytes: u64,
    /// Of the first and the last packet.
    times: Option<(Duration, Duration)>,
}

impl Playing<'_> {
    fn take(&mut self, news: News<'_>) -> Result<(), Stop> {
        match news {
            News::Interface { name, kind } => {
                let name = name.or_else(|| self.out.options.interface.clone());
                if let Some(writing) = &mut self.out.writing {
                    writing.interface(name.as_deref(), kind)?;
                }
                if let Some(name) = &name {
                    for side in std::iter::once(&mut self.side).chain(&mut self.other) {
                        side.interface(self.interfaces, name)?;
                    }
                }
                self.interfaces += 1;
            }
            News::Packet(captured, data) => {
                let replayed = self.side.packet(captured);
                if let Some(other) = &mut self.other {
                    other.packet(captured);
                }
                self.packets += 1;
                self.bytes += captured.length;
                self.times.get_or_insert((captured.at, captured.at)).1 = captured.at;
                self.out.packet(captured, data, (&self.side.brief, replayed))?;
            }
        }
        Ok(())
    }

    fn report<'r>(
        &self,
        judge: &'r LoadedPolicy,
        other: Option<&'r LoadedPolicy>,
        end: End,
    ) -> Report<'r> {
        let side = &self.side;
        let all = side.replay.conversations().in_order();
        let listed = |is_meant: fn(&Conversation) -> bool| {
            let meant = all.iter().filter(|(_, conversation)| is_meant(conversation));
            meant.map(|(ends, conversation)| side.told(ends, conversation)).collect()
        };
        Report {
            orders: &judge.origin,
            other: other.map(|other| &other.origin),
            packets: self.packets,
            bytes: self.bytes,
            first: self.times.map(|(first, _)| capture::moment_of(first)),
            last: self.times.map(|(_, last)| capture::moment_of(last)),
            rows: side.rows(),
            conversations: all.len(),
            cut: listed(Conversation::is_cut),
            turned_away: listed(Conversation::is_turned_away),
            differ: self.other.as_ref().map(|other| differ(&all, side, other)),
            notes: notes(&side.brief, &end),
            damaged: match end {
                End::Damaged { offset, why } => Some(Damage { offset, why }),
                End::Whole | End::Foreign { .. } => None,
            },
        }
    }
}

/// The conversations that two lists would not both let go on.
fn differ(all: &[(&Ends, &Conversation)], side: &Side, other: &Side) -> Vec<Told> {
    let differ = all.iter().filter_map(|(ends, conversation)| {
        let there = other.replay.conversations().get(ends)?;
        ((there.stopped == 0) != (conversation.stopped == 0)).then(|| {
            let by = speaker_words(&other.brief, there.speaker);
            let other = Some(OtherTold { stopped: there.stopped, by });
            Told { other, ..side.told(ends, conversation) }
        })
    });
    differ.collect()
}

/// What must be known to read the answer.
fn notes(brief: &Brief, end: &End) -> Vec<String> {
    let mut notes = Vec::new();
    let programs = brief.rules().filter(|rule| rule.is_active() && !rule.program.is_any()).count();
    if programs > 0 {
        notes.push(format!(
            "{} about programs: a capture does not tell them, so these match no packet",
            counted(programs, "rule is", "rules are")
        ));
    }
    let at = brief.rules().filter(|rule| rule.is_active() && !rule.interface.is_any()).count();
    if at > 0 && brief.interfaces.is_empty() {
        notes.push(format!(
            "{} about interfaces, and the capture names none: --interface NAME does",
            counted(at, "rule is", "rules are")
        ));
    }
    notes.extend(end.words().filter(|_| matches!(end, End::Foreign { .. })));
    notes
}
