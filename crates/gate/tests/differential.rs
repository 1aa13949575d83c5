//! The kernel's gate against the reference, packet by packet, with everything
//! that both remember: conversations both ways, for this host and through it,
//! fragments, errors that quote, rates; and what a fuzzer makes of such frames
//! (bits, tags, extension headers, lengths).
//!
//! 200,000 packets; as many as wanted, from any seed:
//! `TIPSTAFF_PACKETS=10000000 TIPSTAFF_SEED=$RANDOM cargo test --release -p tipstaff-gate --test differential`

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::time::{Duration, Instant};

use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use tipstaff_core::arbitrary;
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::flows::{Flows, Known};
use tipstaff_core::decision::rates::Rates;
use tipstaff_core::decision::{Decision, Speaker, decide_within};
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Action, AtMost, Period, RuleName, Sharing};
use tipstaff_core::packet::{
    Direction, InterfaceIndex, Packet, PacketContext, ProgramIndex, parse_ethernet,
};
use tipstaff_gate::kernel::{KernelGate, Note};
use tipstaff_gate::{Gate, Posting};
use tipstaff_host::lab;
use tipstaff_testing::{
    from_environment,
    harm::{Harm, harm, harmed},
    runner,
    scene::{inside, record},
    wire::{self, Header},
};

const OWN: [&str; 2] = ["198.51.100.20", "2001:db8:51::20"];
/// Whom this host talks to, and for whom it forwards.
const FAR: [[&str; 3]; 2] = [
    ["203.0.113.9", "203.0.113.10", "192.0.2.66"],
    ["2001:db8:113::9", "2001:db8:113::10", "2001:db8:66::66"],
];
const BEHIND: [[&str; 2]; 2] =
    [["192.0.2.140", "192.0.2.141"], ["2001:db8:52::8", "2001:db8:52::9"]];
const PORTS: [u16; 5] = [53, 7410, 7420, 40_000, 40_001];

/// Packets before a gate of its own begins: nothing gets old meanwhile.
const WORLD: usize = 2_000;

/// The reference, with its memories.
struct Model {
    brief: Brief,
    flows: Flows,
    rates: Rates,
    begin: Instant,
}

impl Model {
    fn now(&self) -> Duration {
        Duration::from_secs(1_000_000) + self.begin.elapsed()
    }

    fn decide(
        &mut self,
        (interface, direction): (InterfaceIndex, Direction),
        packet: Packet,
    ) -> (Decision, Known) {
        let (stamps, at) = (self.brief.stamps(), self.now());
        let known = match packet {
            Packet::Ip(ip) => self.flows.look_up(direction, &ip, stamps, at),
            _ => Known::default(),
        };
        // Of this host a test run sends by a socket that nobody has made.
        let program = match direction {
            Direction::Outbound => ProgramIndex::UNKNOWN,
            _ => ProgramIndex::OTHER,
        };
        let is_reply = known.is_reply;
        let now = Moment(std::time::UNIX_EPOCH.elapsed().unwrap().as_secs() as u32);
        let facts = PacketContext { interface, direction, program, is_reply, now, packet };
        (decide_within(&self.brief, &facts, &mut self.rates, at), known)
    }

    fn comes_in(&mut self, way: (InterfaceIndex, Direction), frame: &[u8]) -> Decision {
        let packet = parse_ethernet(frame);
        let (decision, _) = self.decide(way, packet);
        if let (Packet::Ip(ip), Action::Allow) = (packet, decision.verdict) {
            self.flows.note_fragment(&ip, self.now());
            if way.1 == Direction::Inbound && !matches!(decision.speaker, Speaker::Foundation(_)) {
                self.flows.let_in(&ip, self.brief.stamps(), self.now());
            }
        }
        decision
    }

    fn goes_out(&mut self, interface: InterfaceIndex, frame: &[u8]) -> Decision {
        let packet = parse_ethernet(frame);
        let (decision, known) = self.decide((interface, Direction::Outbound), packet);
        if let (Packet::Ip(ip), Action::Allow) = (packet, decision.verdict) {
            self.flows.sent(&ip, known, self.brief.stamps(), self.now());
        }
        decision
    }

    fn passes_on(&mut self, frame: &[u8], opens: bool) {
        if let Packet::Ip(ip) = parse_ethernet(frame) {
            self.flows.forwarded(&ip, opens, self.brief.stamps(), self.now());
        }
    }
}

/// One side talks to the other; the first is the one that this host knows, or is.
#[derive(Clone, Debug)]
struct Talk {
    six: usize,
    own: IpAddr,
    far: IpAddr,
    ports: (u16, u16),
    kind: Kind,
    id: u16,
}

#[derive(Clone, Copy, Debug)]
enum Kind {
    Tcp,
    Udp,
    Echo,
    Other(u8),
}

impl Talk {
    fn packet(&self, away: bool, step: u8) -> Vec<u8> {
        let (from, to) = if away { (self.own, self.far) } else { (self.far, self.own) };
        let (a, b) = self.ports;
        let (from_port, to_port) = if away { (a, b) } else { (b, a) };
        let ends = ((from, from_port), (to, to_port));
        let header = Header::default();
        let (protocol, payload) = match self.kind {
            Kind::Tcp => {
                let flags = [0x02, 0x12, 0x10, 0x18, 0x11, 0x04][usize::from(step) % 6];
                (6, wire::tcp(ends.0, ends.1, flags, (1, 1)))
            }
            Kind::Udp => (17, wire::udp(ends.0, ends.1, b"larkfield")),
            Kind::Echo => {
                let number = wire::icmp_number(from);
                let kind = match (step % 5, from.is_ipv4()) {
                    (0 | 1, true) => 8,
                    (0 | 1, false) => 128,
                    (2 | 3, true) => 0,
                    (2 | 3, false) => 129,
                    _ => return self.error(away, step),
                };
                let rest = [&self.id.to_be_bytes()[..], &[0, 1], b"larkfield!"].concat();
                (number, wire::icmp(from, to, kind, 0, &rest))
            }
            Kind::Other(protocol) => (protocol, vec![0; 16]),
        };
        let fragment = match (step / 6) % 6 {
            0 => (u32::from(self.id) + 1, 0x2000u16),
            1 => (u32::from(self.id) + 1, 8),
            _ => (0, 0),
        };
        let fragment = match (fragment, self.six) {
            ((id, 0x2000), 1) => (id, 1),
            ((id, 8), 1) => (id, 8 << 3),
            (other, _) => other,
        };
        wire::ip(from, to, protocol, &payload, &Header { fragment, ..header })
    }

    /// An error about a packet of the talk the other way.
    fn error(&self, away: bool, step: u8) -> Vec<u8> {
        let (from, to) = if away { (self.own, self.far) } else { (self.far, self.own) };
        let plain = Self { kind: Kind::Udp, ..self.clone() };
        let quoted = plain.packet(!away, 2 * 6);
        let kind = if from.is_ipv4() { [3, 11, 12][usize::from(step) % 3] } else { 1 + step % 4 };
        let rest = [&[0; 4][..], &quoted].concat();
        let payload = wire::icmp(from, to, kind, 0, &rest);
        wire::ip(from, to, wire::icmp_number(from), &payload, &Header::default())
    }
}

/// What is drawn for each packet.
#[derive(Clone, Debug)]
struct Draw {
    talk: prop::sample::Index,
    step: u8,
    /// Who says it: 0 to 3 comes in, 4 to 7 goes out or on.
    side: u8,
    harm: Option<Harm>,
    random: bool,
}

fn draws(count: usize) -> impl Strategy<Value = Vec<Draw>> {
    let draw = (any::<prop::sample::Index>(), any::<u8>(), 0u8..8);
    let more = (prop::option::weighted(0.3, harm()), prop::bool::weighted(0.15));
    let draw = (draw, more).prop_map(|((talk, step, side), (harm, random))| Draw {
        talk,
        step,
        side,
        harm,
        random,
    });
    prop::collection::vec(draw, count)
}

fn talks() -> impl Strategy<Value = Vec<Talk>> {
    use prop::sample::select;
    let kind = prop_oneof![
        3 => Just(Kind::Udp),
        2 => Just(Kind::Tcp),
        2 => Just(Kind::Echo),
        1 => select(vec![47u8, 132, 50]).prop_map(Kind::Other),
    ];
    let ports = (select(PORTS.to_vec()), select(PORTS.to_vec()));
    let ends = (0usize..2, prop::option::weighted(0.4, 0usize..2), 0usize..3);
    let talk = (ends, ports, kind, 0u16..4).prop_map(|((six, behind, far), ports, kind, id)| {
        let own = behind.map_or(OWN[six], |n| BEHIND[six][n]).parse().unwrap();
        Talk { six, own, far: FAR[six][far].parse().unwrap(), ports, kind, id }
    });
    prop::collection::vec(talk, 24)
}

/// Lists whose rates are so slow that no time passes that matters.
fn prepared(
    mut brief: Brief,
    world: usize,
    all: &[tipstaff_core::host::interface::Interface],
) -> Brief {
    for (n, rule) in brief.rules.iter_mut().enumerate() {
        let rule = std::sync::Arc::make_mut(rule);
        rule.log = false;
        rule.until = None;
        rule.name = RuleName::parse(&format!("w{world}-{n}")).unwrap();
        let sharing = [Sharing::PerSource, Sharing::InAll][n % 2];
        let rate = AtMost::new(4, Period::Day, sharing, Some(1 + n as u32 % 5)).unwrap();
        rule.at_most = (rule.action == Action::Allow && n % 3 == 0).then_some(rate);
    }
    brief.own = OWN.iter().map(|a| a.parse().unwrap()).collect();
    brief.interfaces = all.iter().map(|i| (InterfaceIndex(i.index), i.name.clone())).collect();
    brief
}

#[test]
fn the_kernel_remembers_what_the_reference_does() {
    let packets = from_environment("TIPSTAFF_PACKETS", 200_000) as usize;
    let seed = from_environment("TIPSTAFF_SEED", 1);
    eprintln!("TIPSTAFF_PACKETS={packets} TIPSTAFF_SEED={seed}");
    inside(move |run_dir, _| {
        std::fs::write("/proc/sys/net/ipv4/ip_forward", "1").unwrap();
        std::fs::write("/proc/sys/net/ipv6/conf/all/forwarding", "1").unwrap();
        lab::default_route("198.51.100.1".parse().unwrap()).unwrap();
        lab::default_route("2001:db8:51::1".parse().unwrap()).unwrap();
        let all = tipstaff_host::interfaces::list().unwrap();
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let mut runner = runner(seed);
        let mut seen = BTreeMap::<String, usize>::new();
        let (mut done, mut world) = (0, 0);
        while done < packets {
            let mut gate = KernelGate::new(&run_dir).unwrap();
            let drawn = |runner: &mut TestRunner| {
                let most = [2, 12, 64][world % 3];
                arbitrary::brief(most).new_tree(runner).unwrap().current()
            };
            let brief = prepared(drawn(&mut runner), world, &all);
            let mut model = Model {
                brief,
                flows: Flows::default(),
                rates: Rates::default(),
                begin: Instant::now(),
            };
            let posted = |gate: &mut KernelGate, brief: &Brief| {
                gate.post(&Posting { brief, record: record("") }, &all).unwrap();
            };
            posted(&mut gate, &model.brief);
            let talks = talks().new_tree(&mut runner).unwrap().current();
            for (n, draw) in
                draws(WORLD).new_tree(&mut runner).unwrap().current().iter().enumerate()
            {
                if n == WORLD / 2 {
                    // Other orders, or the same: what was remembered holds or does not.
                    if world % 2 == 0 {
                        model.brief = prepared(drawn(&mut runner), world, &all);
                    }
                    posted(&mut gate, &model.brief);
                }
                let talk = draw.talk.get(&talks);
                let own = OWN[talk.six].parse::<IpAddr>().unwrap() == talk.own;
                let away = draw.side >= 4;
                let frame = frame_of(draw, talk, mac, &mut runner);
                let long = if frame[12..14] == [0x86, 0xdd] { 54 } else { 34 };
                // Test runs refuse what ends inside the IP header.
                if frame.len() < long {
                    continue;
                }
                let told = |model: &Model| told(world, n, draw, &frame, model);
                let what = decided_alike((&gate, &mut model), index, (&frame, away, own), &told);
                let speaker = format!("{:?}", what.1);
                let speaker = speaker.trim_end_matches(|c: char| c == ')' || c.is_ascii_digit());
                *seen.entry(format!("{} {speaker}", what.0)).or_default() += 1;
                done += 1;
            }
            gate.withdraw().unwrap();
            world += 1;
        }
        eprintln!("{seen:#?}");
        let replies = |way: &str| seen.get(&format!("{way} Foundation(Replies")).copied();
        // Enough of each that is remembered.
        for way in ["in", "out", "through"] {
            assert!(replies(way) > Some(packets / 400), "{way}: {seen:#?}");
        }
    });
}

/// A frame as it is drawn: of the talk, at random, or harmed.
fn frame_of(draw: &Draw, talk: &Talk, mac: [u8; 6], runner: &mut TestRunner) -> Vec<u8> {
    let away = draw.side >= 4;
    let packet = talk.packet(away, draw.step);
    let kind = wire::kind_of(talk.own);
    let mut frame = wire::ethernet(mac, [2, 0, 0, 0, 0, 0x99], &[], kind, &packet);
    if draw.random && !away {
        // Anything at all, to this host.
        let random = arbitrary::frame(mac).new_tree(runner).unwrap().current();
        let long = if random[12..14] == [0x86, 0xdd] { 54 } else { 34 };
        if random.len() >= long {
            frame = random;
            let to: IpAddr = OWN[usize::from(long == 54)].parse().unwrap();
            match to {
                IpAddr::V4(to) if frame[12..14] == [8, 0] => {
                    frame[30..34].copy_from_slice(&to.octets());
                }
                IpAddr::V6(to) => frame[38..54].copy_from_slice(&to.octets()),
                IpAddr::V4(_) => {}
            }
        }
    }
    match &draw.harm {
        Some(harm) if frame.len() >= 54 => harmed(frame, harm),
        _ => frame,
    }
}

/// The gate and the reference decide one frame, and remember it. Returns which way
/// it went, and what decided.
fn decided_alike(
    (gate, model): (&KernelGate, &mut Model),
    index: InterfaceIndex,
    (frame, away, own): (&[u8], bool, bool),
    told: &dyn Fn(&Model) -> String,
) -> (&'static str, Speaker) {
    if away && own {
        let reference = model.goes_out(index, frame);
        let kernel = gate.play_out(index, frame).unwrap();
        assert_eq!(kernel, reference, "{}", told(model));
        ("out", reference.speaker)
    } else if away && is_through(frame) {
        // From behind this host, on through it: decided, then seen to leave.
        let way = (index, Direction::Transit);
        let reference = model.comes_in(way, frame);
        let (kernel, _) = gate.play(index, frame).unwrap();
        assert_eq!(kernel, reference, "{}", told(model));
        forwarded((gate, model), index, frame, reference);
        ("through", reference.speaker)
    } else {
        let through = is_through(frame);
        let direction = if through { Direction::Transit } else { Direction::Inbound };
        let reference = model.comes_in((index, direction), frame);
        let (kernel, _) = gate.play(index, frame).unwrap();
        assert_eq!(kernel, reference, "{}", told(model));
        if through {
            forwarded((gate, model), index, frame, reference);
        }
        ("in", reference.speaker)
    }
}

/// Whether a frame of IP is for somebody else than this host.
fn is_through(frame: &[u8]) -> bool {
    let to: IpAddr = match frame[12..14] {
        [8, 0] => <[u8; 4]>::try_from(&frame[30..34]).unwrap().into(),
        [0x86, 0xdd] => <[u8; 16]>::try_from(&frame[38..54]).unwrap().into(),
        _ => return false,
    };
    FAR.as_flattened().iter().chain(BEHIND.as_flattened()).any(|a| a.parse() == Ok(to))
}

/// What this host lets through leaves it again, as the kernel's stack would send it.
fn forwarded(
    (gate, model): (&KernelGate, &mut Model),
    index: InterfaceIndex,
    frame: &[u8],
    decision: Decision,
) {
    if decision.verdict != Action::Allow || !matches!(parse_ethernet(frame), Packet::Ip(_)) {
        return;
    }
    let (note, opens) = match decision.speaker {
        Speaker::Foundation(_) => (Note::Reply, false),
        _ => (Note::Through, true),
    };
    assert!(gate.forward(index, index, frame, Some(note)).unwrap());
    model.passes_on(frame, opens);
}

fn told(world: usize, n: usize, draw: &Draw, frame: &[u8], model: &Model) -> String {
    let packet = parse_ethernet(frame);
    format!("world {world}, packet {n}: {draw:?}\n{packet:?}\n{frame:02x?}\n{:#?}", model.brief)
}
