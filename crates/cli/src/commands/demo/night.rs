//! The night after: a capture of the night before is played through the orders.

use std::time::Duration;

use tipstaff_core::analysis::evidence::{Evidence, Request};
use tipstaff_core::analysis::log::{Entry, GroupBy, Summary};
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::analysis::replay::Replay;
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::orders::Action;
use tipstaff_core::packet::{Direction, IpPacket, Packet};
use tipstaff_gate::GateError;

use super::archive::{address, tightened};
use super::step::Steps;
use crate::acts::capture::{self, News, NoCapture};
use crate::acts::requests;
use crate::arguments::ReplayOptions;
use crate::chosen::LoadedPolicy;
use crate::commands::{log, replay};
use crate::failure::{Failure, system};
use crate::terminal::{Terminal, counted};

/// A capture of the night before, which a helper of the tests makes.
const NIGHT: &[u8] = include_bytes!("../../../demo/night.pcap");
const ARCHIVE: &str = "198.51.100.20";
/// Lines of each table.
const SHOWN: usize = 4;

/// Tells the last steps.
pub(super) fn tell(
    judge: &LoadedPolicy,
    steps: &Steps,
    terminal: &Terminal,
) -> Result<(), Failure> {
    steps.next(
        terminal,
        "replay night.pcap",
        "And last night, when there were no orders: whom would they have cut, whom turned away?",
    );
    let options = ReplayOptions {
        capture: "night.pcap".into(),
        own: vec![address(ARCHIVE)?],
        interface: None,
        compare: None,
        write: None,
        verdicts: Vec::new(),
        count: Some(SHOWN),
    };
    replay::play(judge, None, Box::new(NIGHT), &options, terminal)?;
    let tighter = tightened();
    let (mut sources, mut evidence) = (Summary::new(GroupBy::Sources), Evidence::default());
    let mut cut = 0;
    played([judge, &tighter], |ip, at, [said, tried]| {
        let (now, traffic) = (capture::moment_of(at), ip.key().map(|key| key.to_string()));
        let Some(traffic) = traffic else { return };
        let peer = ip.source;
        sources.add(&Entry {
            time: now.as_str().into(),
            direction: Direction::Inbound,
            interface: "lan0".into(),
            traffic: traffic.as_str().into(),
            source: peer.to_string().as_str().into(),
            destination: ARCHIVE.into(),
            program: None,
            verdict: said.verdict,
            rehearsed: false,
            by: speaker_words(&judge.brief, said.speaker).as_str().into(),
            rule: None,
            position: None,
        });
        if said.verdict == Action::Allow && tried.verdict != Action::Allow {
            cut += 1;
            let request = Request {
                direction: Direction::Inbound,
                traffic,
                peer,
                destination: None,
                program: None,
                denied_by: None,
            };
            evidence.add(request, 1, (&now, &now));
        }
    })?;
    steps.next(
        terminal,
        "log --top sources",
        "With the orders in force, such a night stands in the log: who was turned away most?",
    );
    let rows = sources.rows();
    let (shown, more) = rows.split_at(rows.len().min(SHOWN));
    log::table(shown, GroupBy::Sources, terminal);
    if !more.is_empty() {
        terminal.note(&format!("{} more", more.len()));
    }
    steps.next(
        terminal,
        "post --rehearse, and rehearse report in the morning",
        "The plates and the shell for the house alone? Rehearsed, these orders stop nothing:",
    );
    terminal.line(format!(
        "{} that passed would have been denied by the standing answer inbound",
        counted(cut, "packet", "packets")
    ));
    requests::show(&evidence.proposals_by_network(), SHOWN, terminal);
    Ok(())
}

/// Plays the capture through both lists; what comes in and goes on from no connection.
fn played(
    judges: [&LoadedPolicy; 2],
    mut take: impl FnMut(&IpPacket, Duration, [Decision; 2]),
) -> Result<(), Failure> {
    let own = vec![address(ARCHIVE)?];
    let [first, second] = judges.map(|judge| Brief { own: own.clone(), ..judge.brief.clone() });
    let mut lists = [
        Replay::new(&first).map_err(GateError::from)?,
        Replay::new(&second).map_err(GateError::from)?,
    ];
    let read = capture::read(Box::new(NIGHT), |news| {
        if let News::Packet(captured, _) = news {
            let said = lists.each_mut().map(|list| list.packet(captured.arrived()));
            let decisions = said.map(|said| said.decision);
            let asks = !matches!(decisions[0].speaker, Speaker::Foundation(_));
            let way = said[0].direction;
            if let (Packet::Ip(ip), true, Direction::Inbound) = (&captured.packet, asks, way) {
                take(ip, captured.at, decisions);
            }
        }
        Ok::<(), NoCapture>(())
    });
    read.map(drop).map_err(|e| system("reading the demo's capture")(std::io::Error::other(e)))
}
