//! What the fuzzers of `fuzz/` run, and the tests on their seeds: whatever comes
//! in, the laws hold. Nothing of it touches the machine.

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;
use std::sync::OnceLock;
use std::time::Duration;

use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};
use tipstaff_core::analysis::compare::Comparison;
use tipstaff_core::analysis::reach::{Report, merge};
use tipstaff_core::arbitrary::{INTERFACES, frame};
use tipstaff_core::brief::{Brief, Setting};
use tipstaff_core::decision::flows::Flows;
use tipstaff_core::decision::{Speaker, decide};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::edit::{Destination, Edit, NewRule, Which, edit, enable_group};
use tipstaff_core::orders::exchange::{export_group, import_group};
use tipstaff_core::orders::{Action, Attachments, Documents, read, read_all};
use tipstaff_core::packet::{
    Direction, InterfaceIndex, Packet, PacketContext, ProgramIndex, parse_ethernet,
};
use tipstaff_core::tables::Tables;
use tipstaff_core::visible::is_hidden;

use crate::acts::reported::page;
use crate::arguments::Command;
use crate::chosen;
use crate::commands::rule;
use crate::help;
use crate::history::Revision;

/// Between a text and the bytes that are used otherwise.
const END: &[u8] = b"\n%%\n";

/// The lists that frames are decided by.
const LISTS: [&str; 3] = [
    include_str!("../../../fuzz/seeds/orders/closed.toml"),
    include_str!("../../../fuzz/seeds/orders/observatory.toml"),
    include_str!("../../../fuzz/seeds/orders/directions.toml"),
];

/// A frame, and what is known of it beside, as [`facts`] reads it.
type Known = (Vec<u8>, [u8; 4]);

/// A text and what stands behind its end.
fn parts(data: &[u8]) -> (&[u8], &[u8]) {
    match data.windows(END.len()).position(|window| window == END) {
        Some(at) => (&data[..=at], &data[at + END.len()..]),
        None => (data, &[]),
    }
}

/// The facts of a frame, with what is known of it beside taken from a few bytes.
fn facts(frame: &[u8], known: [u8; 4], brief: &Brief) -> PacketContext {
    let interfaces = [1, 2, 3, 9, 77];
    let program = match known[2] {
        255 => ProgramIndex::UNKNOWN,
        n => ProgramIndex(u32::from(n) % (brief.programs.len() as u32 + 1)),
    };
    PacketContext {
        interface: InterfaceIndex(interfaces[usize::from(known[1]) % interfaces.len()]),
        direction: Direction::ALL[usize::from(known[0] >> 1) % 3],
        program,
        is_reply: known[0] & 1 != 0,
        now: Moment([0, 1_800_000_000, u32::MAX][usize::from(known[3]) % 3]),
        packet: parse_ethernet(frame),
    }
}

/// Reference and tables say the same of each frame, and a list differs from
/// itself in nothing.
fn laws(brief: &Brief, frames: &[Known]) {
    let Ok(tables) = Tables::build(brief) else { return };
    let comparison = Comparison::between(brief, brief);
    assert!(comparison.changes.is_empty(), "{:?}", comparison.changes);
    for (frame, known) in frames {
        let facts = facts(frame, *known, brief);
        assert_eq!(tables.decide(&facts), decide(brief, &facts), "{facts:?}");
    }
}

/// Where two lists give a packet other answers, the comparison of them is not empty.
fn compared(before: &Brief, after: &Brief, frames: &[Known]) {
    let comparison = Comparison::between(before, after);
    if comparison.cut_off || !comparison.changes.is_empty() {
        return;
    }
    for (frame, known) in frames {
        let mut facts = facts(frame, *known, before);
        // What belongs to a flow, and what expires, is no matter of the lists alone.
        (facts.is_reply, facts.now) = (false, Moment(0));
        let (was, is) = (decide(before, &facts), decide(after, &facts));
        assert_eq!(was.verdict, is.verdict, "{facts:?}");
    }
}

/// Any text as orders, and bytes that frames are drawn from: the text is refused
/// with faults, or every host's and posture's list of it keeps the laws.
pub fn orders(data: &[u8]) {
    let (text, rest) = parts(data);
    let Ok(text) = std::str::from_utf8(text) else { return };
    let lists =
        [("list.txt", "192.0.2.0/25\n2001:db8:66::/48\n"), ("feed.csv", "192.0.2.0/24,NL,,,\n")];
    let lists = lists.map(|(name, text)| (name.to_owned(), Ok(text.to_owned()))).into();
    let attachments = Attachments { lists: Some(lists), ..Attachments::default() };
    let orders = match read_all(Documents { text, attachments: &attachments }) {
        Ok(orders) => orders,
        Err(faults) => {
            assert!(!faults.0.is_empty());
            // Each names its place and its help.
            assert!(faults.0.iter().all(|f| f.place.line > 0 && !f.help.is_empty()));
            return;
        }
    };
    let mut seed = [0u8; 32];
    for (n, byte) in rest.iter().enumerate() {
        seed[n % 32] = seed[n % 32].rotate_left(3) ^ byte;
    }
    let rng = TestRng::from_seed(RngAlgorithm::ChaCha, &seed);
    let mut runner = TestRunner::new_with_rng(Config::default(), rng);
    let frames: Vec<_> = (0..8u8)
        .filter_map(|n| {
            let frame = frame([2, 0, 0, 0, 0, 1]).new_tree(&mut runner).ok()?.current();
            Some((frame, [n, n / 2, n / 3, 1]))
        })
        .collect();
    let all: Vec<Interface> =
        INTERFACES.iter().map(|(index, name)| Interface::named(*index, *name)).collect();
    let none = Setting { interfaces: &all, ..Setting::default() };
    let mut lists = vec![Brief::on(&orders, &none)];
    for host in orders.hosts.iter().take(3) {
        lists.push(Brief::on(&orders, &Setting { host: Some(host), ..none }));
    }
    for posture in orders.postures.iter().take(3) {
        lists.push(Brief::on(&orders, &Setting { posture: Some(posture), ..none }));
    }
    for list in &lists {
        laws(list, &frames);
        compared(&lists[0], list, &frames);
    }
}

fn lists() -> &'static Vec<Tables<'static>> {
    static ALL: OnceLock<Vec<Tables<'static>>> = OnceLock::new();
    ALL.get_or_init(|| {
        let lan = [Interface::named(2, "lan0")];
        LISTS
            .iter()
            .map(|text| {
                let orders = read(text).expect("a list of the fuzzer's own");
                let brief = Brief::on(&orders, &Setting { interfaces: &lan, ..Setting::default() });
                Tables::build(&brief).expect("small enough").into_owned()
            })
            .collect()
    })
}

/// Any bytes as frames, each behind its length and what is known of it, under one
/// of a few lists: reference and tables agree, and the memory of flows takes
/// whatever comes.
pub fn frames(data: &[u8]) {
    let Some((first, mut rest)) = data.split_first() else { return };
    let tables = &lists()[usize::from(*first) % LISTS.len()];
    let brief = tables.brief();
    let (mut flows, stamps) = (Flows::with_room(16), brief.stamps());
    let mut now = Duration::ZERO;
    while let [length, a, b, c, d, behind @ ..] = rest {
        let length = usize::from(*length).min(behind.len());
        let (frame, behind) = behind.split_at(length);
        rest = behind;
        now += Duration::from_secs(u64::from(*d));
        let mut facts = facts(frame, [*a, *b, *c, *d], brief);
        if let Packet::Ip(ip) = facts.packet {
            let known = flows.look_up(facts.direction, &ip, stamps, now);
            facts.is_reply = known.is_reply;
            let decision = decide(brief, &facts);
            assert_eq!(tables.decide(&facts), decision, "{facts:?}");
            if decision.verdict == Action::Allow {
                let opens = !matches!(decision.speaker, Speaker::Foundation(_));
                match facts.direction {
                    Direction::Inbound => {
                        flows.let_in(&ip, stamps, now);
                    }
                    Direction::Outbound => flows.sent(&ip, known, stamps, now),
                    Direction::Transit => flows.forwarded(&ip, opens, stamps, now),
                }
            }
        } else {
            assert_eq!(tables.decide(&facts), decide(brief, &facts), "{facts:?}");
        }
    }
}

fn wanted(words: &[&str]) -> Option<Edit> {
    let word = |at: usize| words.get(at).copied().unwrap_or_default();
    let which = || Which::parse(word(1));
    let place = match word(2) {
        "first" => Some(Destination::First),
        "last" => Some(Destination::Last),
        "" => None,
        other => Some(Destination::Before(Which::parse(other))),
    };
    Some(match word(0) {
        "pause" => Edit::Pause(which()),
        "resume" => Edit::Resume(which()),
        "remove" => Edit::Remove(which()),
        "swap" => Edit::SwapAction(which()),
        "move" => Edit::Move(which(), place?),
        "copy" => Edit::Copy(which(), Some(word(3).to_owned()), place),
        "set" => Edit::Set(which(), vec![(word(2).to_owned(), word(3).to_owned())]),
        "add" => {
            fn list(text: &str) -> Vec<String> {
                text.split(',').map(str::to_owned).collect::<Vec<_>>()
            }
            let new = NewRule {
                name: Some(word(1).to_owned()).filter(|name| !name.is_empty()),
                note: None,
                action: word(3).to_owned(),
                traffic: list(word(4)),
                source: list(word(5)).into_iter().filter(|source| !source.is_empty()).collect(),
                further: vec![(word(6).to_owned(), word(7).to_owned())]
                    .into_iter()
                    .filter(|(key, _)| !key.is_empty())
                    .collect(),
            };
            Edit::Add(new, place)
        }
        _ => return None,
    })
}

/// Any text as orders and edits of it, one a line: what comes out can be read and
/// has lost nothing; a group that was exported is imported again.
pub fn edits(data: &[u8]) {
    let (text, rest) = parts(data);
    let (Ok(text), Ok(rest)) = (std::str::from_utf8(text), std::str::from_utf8(rest)) else {
        return;
    };
    let before = read(text);
    for line in rest.lines().take(4) {
        let words: Vec<&str> = line.split(' ').collect();
        let Some(wanted) = wanted(&words) else { continue };
        if let Ok(edited) = edit(text, &wanted) {
            let after = read(&edited.text).expect("an edit leaves orders that can be read");
            let before = before.as_ref().expect("only sound orders are edited");
            let (was, is) = (before.rules.len(), after.rules.len());
            assert!(was.abs_diff(is) <= 1, "{was} rules, then {is}");
            let kept = |name: &str| after.rules.iter().any(|rule| rule.name.as_str() == name);
            let gone = before.rules.iter().filter(|rule| !kept(rule.name.as_str())).count();
            // Removed, or given another name.
            assert!(gone <= 1, "{gone} are gone");
        }
    }
    let Ok(orders) = before else { return };
    for group in orders.rule_groups.iter().take(3) {
        if let Ok(edited) = enable_group(text, &group.name, !group.enabled) {
            read(&edited.text).expect("a switched group can be read");
        }
        if let Ok(fragment) = export_group(text, &group.name) {
            let empty = "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";
            if let Ok(together) = import_group(empty, &fragment) {
                read(&together).expect("an imported group can be read");
            }
        }
    }
}

/// Any words, one a line, as a command line; and what an edit makes of them.
pub fn command_line(data: &[u8]) {
    let words = data.split(|byte| *byte == b'\n').map(|word| OsStr::from_bytes(word).to_owned());
    let words = std::iter::once(OsString::from("tipstaff")).chain(words);
    let Ok(arguments) = help::read(words) else { return };
    if let Command::Rule(edit) = &arguments.command {
        let _ = rule::wanted(edit);
    }
}

/// Any text as a report of another machine, and as a revision of the history.
pub fn reports(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    report(text);
    revision(text);
}

/// Read, merged, written as pages.
fn report(text: &str) {
    let Ok(report) = serde_json::from_str::<Report>(text) else { return };
    let page = page::html(&report);
    assert!(!page.contains(|c| is_hidden(c) && c != '\n'), "{page:?}");
    page::markdown(&report);
    if let Ok(merged) = merge(&[report.clone(), report]) {
        page::html(&merged);
    }
}

/// Read, and its orders as after a restart.
fn revision(text: &str) {
    if let Ok(revision) = serde_json::from_str::<Revision>(text) {
        let _ = chosen::of_record(&revision.record);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    /// Whatever was found once stays found: each seed, and each cut off somewhere.
    fn seeds(name: &str, run: fn(&[u8])) {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds").join(name);
        let mut seen = 0;
        for entry in std::fs::read_dir(&folder).unwrap() {
            let seed = std::fs::read(entry.unwrap().path()).unwrap();
            run(&seed);
            for part in 1..8 {
                run(&seed[..seed.len() * part / 8]);
            }
            seen += 1;
        }
        assert!(seen > 1, "{}", folder.display());
    }

    #[test]
    fn the_seeds_keep_the_laws() {
        seeds("orders", orders);
        seeds("frames", frames);
        seeds("edits", edits);
        seeds("reports", reports);
        seeds("command_line", command_line);
    }
}
