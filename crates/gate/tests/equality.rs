//! The kernel's gate says what the reference says: random lists, random frames,
//! every direction, rates, records and answers. Other ones by a seed:
//! `TIPSTAFF_SEED=$RANDOM cargo test -p tipstaff-gate --test equality`.

#![allow(clippy::unwrap_used)]

use std::time::Duration;

use proptest::strategy::{Strategy, ValueTree};
use tipstaff_core::arbitrary;
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::decision::rates::{Rates, SourceState};
use tipstaff_core::decision::{Recorded, Speaker, decide, decide_within};
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Action, AtMost, LogLevel, Period, RuleName, Sharing, read};
use tipstaff_core::packet::{
    Direction, InterfaceIndex, Packet, PacketContext, Payload, ProgramIndex, parse_ethernet,
};
use tipstaff_core::tables::Tables;
use tipstaff_gate::kernel::{Asked, KernelGate};
use tipstaff_gate::{Event, Gate, Posting};
use tipstaff_host::lab;
use tipstaff_testing::{
    scene::{ALLOW, inside, knock, orders, record},
    seeded,
};

/// Streams of packets through random lists with rates of a few a day, so that
/// no time passes that matters: every decision is the reference's.
#[test]
fn the_kernel_counts_rates_as_the_reference_does() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let mut runner = seeded();
        let (mut rates, mut beyond, mut counted) = (Rates::default(), 0, 0);
        for case in 0..25 {
            let brief = arbitrary::brief(30).new_tree(&mut runner).unwrap().current();
            let mut brief = enforceable(brief);
            for (n, rule) in brief.rules.iter_mut().enumerate() {
                let rule = std::sync::Arc::make_mut(rule);
                rule.name = RuleName::parse(&format!("case-{case}-{n}")).unwrap();
                let sharing = [Sharing::PerSource, Sharing::InAll][n % 2];
                let burst = Some(1 + n as u32 % 3);
                let rate = AtMost::new(4, Period::Day, sharing, burst).unwrap();
                rule.at_most = (rule.action == Action::Allow && n % 3 > 0).then_some(rate);
                rule.until = None;
            }
            let posting = Posting { brief: &brief, record: record("") };
            gate.post(&posting, &all).unwrap();
            let frames: Vec<Vec<u8>> = (0..40)
                .map(|_| arbitrary::frame(mac).new_tree(&mut runner).unwrap().current())
                .filter(|f| f.len() >= 14 + if f[12..14] == [0x86, 0xdd] { 40 } else { 20 })
                // The gate remembers first fragments, and this reference does not.
                .filter(|f| !is_later_fragment(f))
                .collect();
            for n in 0..300 {
                if n == 150 {
                    // What was counted outlives a swap of orders.
                    gate.post(&posting, &all).unwrap();
                }
                let frame = &frames[(n * 7) % frames.len()];
                let facts = PacketContext {
                    interface: index,
                    direction: Direction::Inbound,
                    program: ProgramIndex::OTHER,
                    is_reply: false,
                    now: Moment(1),
                    packet: parse_ethernet(frame),
                };
                let reference =
                    decide_within(&brief, &facts, &mut rates, Duration::from_secs(1_000_000));
                let (kernel, answer) = gate.play(index, frame).unwrap();
                assert_eq!(kernel, reference, "packet {n} of case {case}: {facts:?}");
                assert!(answer.is_empty() || kernel.verdict == Action::Refuse);
                beyond += usize::from(matches!(kernel.speaker, Speaker::Beyond(_)));
            }
            let tallies = gate.tallies().unwrap();
            let over = tallies.iter().filter(|(s, _)| matches!(s, Speaker::Beyond(_)));
            counted += over.map(|(_, tally)| tally.packets).sum::<u64>();
            for (index, rule) in brief.indexed() {
                let Some(limit) = rule.limit() else { continue };
                let rooms = |states: Vec<SourceState>| {
                    states.into_iter().map(|s| (s.source, s.room)).collect::<Vec<_>>()
                };
                let ours = rooms(rates.sources(&limit, Duration::from_secs(1_000_000)));
                assert_eq!(rooms(gate.sources(&limit).unwrap()), ours, "{index:?}");
            }
        }
        assert!(beyond > 100 && counted > 50, "{beyond} {counted}");
        gate.withdraw().unwrap();
    });
}

/// What this host would forward meets the rules for transit, by its routes.
#[test]
fn the_three_executors_agree_about_what_passes_through() {
    inside(|run_dir, all| {
        std::fs::write("/proc/sys/net/ipv4/ip_forward", "1").unwrap();
        std::fs::write("/proc/sys/net/ipv6/conf/all/forwarding", "1").unwrap();
        lab::default_route("198.51.100.1".parse().unwrap()).unwrap();
        lab::default_route("2001:db8:51::1".parse().unwrap()).unwrap();
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let mut runner = seeded();
        let mut seen = std::collections::BTreeMap::<(Direction, &str), usize>::new();
        for case in 0..30 {
            let brief = arbitrary::brief([3, 64, 200][case % 3]).new_tree(&mut runner).unwrap();
            let brief = enforceable(brief.current());
            let tables = Tables::build(&brief).unwrap();
            gate.post(&Posting { brief: &brief, record: record("") }, &all).unwrap();
            for n in 0..120 {
                let mut frame = arbitrary::frame(mac).new_tree(&mut runner).unwrap().current();
                let six = frame[12..14] == [0x86, 0xdd];
                if frame.len() < 14 + if six { 40 } else { 20 } {
                    continue;
                }
                let through = n % 3 > 0;
                let direction = if through { Direction::Transit } else { Direction::Inbound };
                let (four, far_four) = ([198, 51, 100, 20], [203, 0, 113, (n % 4) as u8]);
                let own: std::net::Ipv6Addr = "2001:db8:51::20".parse().unwrap();
                let far: std::net::Ipv6Addr = "2001:db8:51:1::2".parse().unwrap();
                // From a sender whom a routing table takes seriously.
                let source = [203, 0, 113, (n % 5) as u8 + 1];
                if six {
                    frame[38..54].copy_from_slice(&if through { far } else { own }.octets());
                    frame[22] = 0x20;
                } else if frame[12..14] == [8, 0] {
                    frame[26..30].copy_from_slice(&source);
                    frame[30..34].copy_from_slice(&if through { far_four } else { four });
                }
                let facts = PacketContext {
                    interface: index,
                    direction,
                    program: ProgramIndex::OTHER,
                    is_reply: false,
                    now: Moment(std::time::UNIX_EPOCH.elapsed().unwrap().as_secs() as u32),
                    packet: parse_ethernet(&frame),
                };
                let reference = decide(&brief, &facts);
                assert_eq!(tables.decide(&facts), reference);
                let kernel = gate.ask(index, &frame).unwrap();
                assert_eq!(kernel, reference, "frame {frame:02x?}\n{facts:?}\n{brief:#?}");
                *seen.entry((direction, kind(reference.speaker))).or_default() += 1;
            }
        }
        assert!(seen[&(Direction::Transit, "rule")] > 150, "{seen:?}");
        assert!(seen[&(Direction::Transit, "standing")] > 150, "{seen:?}");
        gate.withdraw().unwrap();
    });
}

/// Frames a list and direction: with 60 lists 100,000 cases.
const FRAMES: usize = 900;

#[test]
fn the_three_executors_agree() {
    let cases: usize = std::env::var("TIPSTAFF_EQUALITY_LISTS").map_or(60, |n| n.parse().unwrap());
    inside(move |run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let mac = cable.hardware.unwrap();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let mut runner = seeded();
        let now = std::time::UNIX_EPOCH.elapsed().unwrap().as_secs() as u32;
        let mut speakers = std::collections::BTreeMap::<&str, usize>::new();
        for case in 0..cases {
            let most = [3, 40, 64, 65, 700][case % 5];
            let brief = arbitrary::brief(most).new_tree(&mut runner).unwrap().current();
            let mut brief = enforceable(brief);
            for rule in brief.rules.iter_mut().step_by(3) {
                std::sync::Arc::make_mut(rule).direction = Direction::Outbound;
            }
            brief.interfaces =
                all.iter().map(|i| (InterfaceIndex(i.index), i.name.clone())).collect();
            let tables = Tables::build(&brief).unwrap();
            let posting = Posting { brief: &brief, record: record("") };
            gate.post(&posting, &all).unwrap();
            for way in [Direction::Inbound, Direction::Outbound] {
                let mut asked = Vec::new();
                for n in 0..FRAMES {
                    let frame = arbitrary::frame(mac).new_tree(&mut runner).unwrap().current();
                    // Test runs refuse frames that end inside the IP header.
                    let header = if frame[12..14] == [0x86, 0xdd] { 40 } else { 20 };
                    if frame.len() < 14 + header {
                        continue;
                    }
                    let here = way == Direction::Inbound && n % 40 == 0;
                    let index = InterfaceIndex(if here { 1 } else { cable.index });
                    // The loopback interface has an all-zero hardware address.
                    let frame = if here { [&[0; 6], &frame[6..]].concat() } else { frame };
                    let program = Some(ProgramIndex(n as u32 % (brief.programs.len() as u32 + 1)));
                    asked.push(Asked { interface: index, program, frame });
                }
                let kernel = gate.ask_all(way, &asked).unwrap();
                for (Asked { interface, program, frame }, kernel) in asked.iter().zip(kernel) {
                    let facts = PacketContext {
                        interface: *interface,
                        direction: way,
                        program: program.unwrap_or_default(),
                        is_reply: false,
                        now: Moment(now),
                        packet: parse_ethernet(frame),
                    };
                    let reference = decide(&brief, &facts);
                    assert_eq!(tables.decide(&facts), reference);
                    assert_eq!(kernel, reference, "frame {frame:02x?}\n{facts:?}\n{brief:#?}");
                    *speakers.entry(kind(reference.speaker)).or_default() += 1;
                }
            }
        }
        eprintln!("the kernel agreed with the reference: {speakers:?}");
        assert!(["rule", "standing", "foundation"].iter().all(|kind| speakers[kind] > FRAMES));
        let asked: usize = speakers.values().sum();
        assert!(cases < 60 || asked >= 100_000, "only {asked} cases");
        assert!(gate.withdraw().unwrap());
        assert!(!run_dir.exists(), "something was left behind");
    });
}

/// What is recorded of a decision, and what the gate answers when it refuses, is what
/// the packet says.
#[test]
fn records_and_answers_are_those_of_the_packet() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let mut runner = seeded();
        let (mut recorded, mut answered) = (0, [0; 3]);
        for case in 0..20 {
            let mut brief =
                arbitrary::brief([3, 20, 65][case % 3]).new_tree(&mut runner).unwrap().current();
            for (n, rule) in brief.rules.iter_mut().enumerate() {
                let rule = std::sync::Arc::make_mut(rule);
                (rule.log, rule.until, rule.at_most) = (n % 2 == 0, None, None);
                if n % 3 == 0 {
                    rule.action = Action::Refuse;
                }
            }
            brief.log_level = LogLevel::ALL[case % 4].0;
            let record = record(&case.to_string());
            let hash = record.hash().first();
            gate.post(&Posting { brief: &brief, record }, &all).unwrap();
            let mut events = gate.events().unwrap();
            for _ in 0..200 {
                let frame = arbitrary::frame(mac).new_tree(&mut runner).unwrap().current();
                let packet = parse_ethernet(&frame);
                if frame.len() < 14 + if frame[12..14] == [0x86, 0xdd] { 40 } else { 20 } {
                    continue;
                }
                let (decision, answer) = gate.play(index, &frame).unwrap();
                let told = format!("{decision:?} {packet:?}\n{frame:02x?}\n{answer:02x?}");
                let found = events.drain();
                let logged = match decision.speaker {
                    Speaker::Rule(rule) => brief.rule(rule).unwrap().log,
                    _ => false,
                };
                let wanted = match logged {
                    true => Recorded::Each,
                    false => brief.log_level.records(decision.speaker, decision.verdict),
                };
                let right = match wanted {
                    Recorded::No => found.is_empty(),
                    Recorded::Sample => found.len() <= 1,
                    Recorded::Each => found.len() == 1,
                };
                assert!(right, "{wanted:?} {found:?}\n{told}");
                for event in &found {
                    // What cannot be read has no ends that could be told, and of some nothing else
                    // is looked at.
                    match decision.speaker {
                        Speaker::Foundation(Foundation::Malformed) => {}
                        Speaker::Foundation(Foundation::Martian) if event.protocol == 0 => {}
                        _ => is_of(event, &packet, &told),
                    }
                    assert_eq!(
                        (event.speaker, event.verdict),
                        (decision.speaker, decision.verdict)
                    );
                    assert_eq!((event.orders, event.interface), (hash, index), "{told}");
                    assert_eq!(event.direction, Direction::Inbound, "{told}");
                    recorded += usize::from(logged);
                }
                if decision.verdict == Action::Refuse && !answer.is_empty() {
                    answered[answers(&frame, &answer, &told)] += 1;
                } else {
                    assert!(answer.is_empty(), "{told}");
                }
            }
        }
        eprintln!("{recorded} records, {answered:?} answers by reset, ICMP and ICMPv6");
        assert!(
            recorded > 300 && answered.iter().all(|kind| *kind > 20),
            "{recorded} {answered:?}"
        );
        gate.withdraw().unwrap();
    });
}

fn is_later_fragment(frame: &[u8]) -> bool {
    let Packet::Ip(ip) = parse_ethernet(frame) else { return false };
    matches!(ip.payload, Payload::LaterFragment { .. })
}

/// The record names the packet's ends, as the reference reads them.
fn is_of(event: &Event, packet: &Packet, told: &str) {
    let Packet::Ip(ip) = packet else { panic!("a record of no packet: {event:?}\n{told}") };
    let (from, to) = match ip.payload {
        Payload::Tcp { from, to, .. } | Payload::Udp { from, to } => (Some(from), Some(to)),
        Payload::Icmp { kind, code, .. } => (None, Some(u16::from_be_bytes([kind, code]))),
        _ => (None, None),
    };
    assert_eq!((event.source, event.destination), (ip.source, ip.destination), "{told}");
    assert_eq!((event.from, event.to), (from, to), "{event:?}\n{told}");
    if let Some(key) = ip.key() {
        assert_eq!(event.protocol, key.protocol(), "{told}");
    }
}

/// A refusal goes back to whom it refuses: by a reset to a segment, else by an ICMP
/// error that quotes the packet. 0 for a reset, 1 for ICMP, 2 for ICMPv6.
fn answers(frame: &[u8], answer: &[u8], told: &str) -> usize {
    assert_eq!((&answer[..6], &answer[6..12]), (&frame[6..12], &frame[..6]), "{told}");
    let (asked, answer) = (parse_ethernet(frame), parse_ethernet(answer));
    let (Packet::Ip(asked), Packet::Ip(answer)) = (asked, answer) else { panic!("{told}") };
    let ends = (answer.destination, answer.source);
    assert_eq!(ends, (asked.source, asked.destination), "{told}");
    match (asked.payload, answer.payload) {
        (Payload::Tcp { from, to, flags }, Payload::Tcp { from: back, to: far, flags: reset }) => {
            assert!(reset.resets() && !flags.resets(), "{told}");
            assert_eq!((back, far), (to, from), "{told}");
            0
        }
        (Payload::Udp { from, to }, Payload::Icmp { .. }) => {
            let quoted = answer.quotes.unwrap();
            assert_eq!((quoted.source, quoted.destination), (asked.source, asked.destination));
            assert_eq!((quoted.from, quoted.to), (from, to), "{told}");
            1 + usize::from(asked.source.is_ipv6())
        }
        (_, Payload::Icmp { .. }) => 1 + usize::from(asked.source.is_ipv6()),
        _ => panic!("{told}"),
    }
}

/// Without the keys that the gate refuses to post.
fn enforceable(mut brief: Brief) -> Brief {
    for rule in &mut brief.rules {
        let rule = std::sync::Arc::make_mut(rule);
        // The programs of these tests are asked about, not looked up.
        rule.log = false;
    }
    brief
}

fn kind(speaker: Speaker) -> &'static str {
    match speaker {
        Speaker::Rule(_) => "rule",
        Speaker::Beyond(_) => "beyond",
        Speaker::Standing(_) => "standing",
        Speaker::Foundation(_) => "foundation",
        Speaker::Nobody => "nobody",
        Speaker::CorruptTables => panic!("the kernel's tables were corrupt"),
    }
}

/// Trees of three levels in the kernel, in both families, at their boundaries.
#[test]
fn deep_tables_in_the_kernel_say_what_the_reference_says() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let four = |n: u32| std::net::Ipv4Addr::from(0x0a00_0000 + n * 7);
        let six = |n: u32| {
            std::net::Ipv6Addr::from((0x2001_0db8_u128 << 96) + u128::from(n) * 0x1_0000_0001)
        };
        let members: Vec<String> = (0..5_000)
            .flat_map(|n| [format!("\"{}\"", four(n)), format!("\"{}\"", six(n))])
            .collect();
        let rules =
            format!("[addresses]\nmany = [{}]\n{ALLOW}source = \"many\"\n", members.join(", "));
        let text = orders(&rules);
        let brief = Brief::unplaced(&read(&text).unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        gate.post(&Posting { brief: &brief, record: record(&text) }, &all).unwrap();
        let mut allowed = 0;
        for n in (0..5_000).step_by(13).chain([4_999]) {
            let mut frame = knock(mac);
            for step in [0, 1] {
                let source = u32::from(four(n)) + step;
                frame[26..30].copy_from_slice(&source.to_be_bytes());
                let mut long = frame[..12].to_vec();
                long.extend([0x86, 0xdd, 0x60, 0, 0, 0, 0, 20, 6, 64]);
                long.extend((u128::from(six(n)) + u128::from(step)).to_be_bytes());
                long.extend([0x20, 1, 0xd, 0xb8, 0, 0x51, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x20]);
                long.extend(&frame[34..54]);
                for frame in [&frame, &long] {
                    let facts = PacketContext {
                        interface: index,
                        direction: Direction::Inbound,
                        program: ProgramIndex::OTHER,
                        is_reply: false,
                        now: Moment::default(),
                        packet: parse_ethernet(frame),
                    };
                    let reference = decide(&brief, &facts);
                    assert_eq!(gate.ask(index, frame).unwrap(), reference, "{n} {step}");
                    allowed += usize::from(reference.verdict == Action::Allow);
                }
            }
        }
        assert!(allowed > 700, "{allowed}");
        gate.withdraw().unwrap();
    });
}
