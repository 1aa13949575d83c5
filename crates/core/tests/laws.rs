//! Laws of the decision: the tables say what the reference says.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use proptest::prelude::*;
use tipstaff_core::analysis::exposure::answered_sources;
use tipstaff_core::arbitrary::{brief, frame};
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::decision::rates::{Bucket, Rates};
use tipstaff_core::decision::{RuleQuery, Speaker, decide, decide_within};
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::{
    Direction, InterfaceIndex, Packet, PacketContext, Payload, ProgramIndex, parse_ethernet,
};
use tipstaff_core::tables::Tables;

/// Of a connection its SYN alone takes from a rate.
fn opens(payload: &Payload) -> bool {
    !matches!(payload, Payload::Tcp { flags, .. } if !flags.is_pure_syn())
}

/// Between the moments at which random rules end.
const NOW: u32 = 1_800_000_000;

fn facts(frame: &[u8], is_reply: bool, direction: Direction, interface: u32) -> PacketContext {
    let interface = InterfaceIndex(interface);
    let now = Moment(NOW);
    let program = ProgramIndex::OTHER;
    PacketContext { interface, direction, program, is_reply, now, packet: parse_ethernet(frame) }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn tables_say_what_the_reference_says(
        brief in brief(150),
        frames in proptest::collection::vec(frame([2, 0, 0, 0, 0, 1]), 40),
        is_reply in any::<bool>(),
        direction in prop::sample::select(Direction::ALL.to_vec()),
        program in prop_oneof![8 => 0u32..5, 1 => Just(u32::MAX)],
        interface in prop_oneof![1u32..4, Just(9)],
        now in prop::sample::select(vec![0, 1, 2, NOW, u32::MAX - 1, u32::MAX]).prop_map(Moment),
    ) {
        let tables = Tables::build(&brief).unwrap();
        for frame in frames {
            let mut facts = facts(&frame, is_reply, direction, interface);
            facts.now = now;
            facts.program = match ProgramIndex(program) {
                ProgramIndex::UNKNOWN => ProgramIndex::UNKNOWN,
                _ => ProgramIndex(program % (brief.programs.len() as u32 + 1)),
            };
            prop_assert_eq!(tables.decide(&facts), decide(&brief, &facts));
        }
    }

    /// The name of a set of programs says what the set says.
    #[test]
    fn a_name_means_what_it_stands_for(
        brief in brief(40),
        frames in proptest::collection::vec(frame([2, 0, 0, 0, 0, 1]), 20),
        direction in prop::sample::select(vec![Direction::Inbound, Direction::Outbound]),
        program in 0u32..5,
    ) {
        let mut plain = brief.clone();
        for rule in &mut plain.rules {
            let program = &mut Arc::make_mut(rule).program;
            program.written = program.files.clone();
            program.except = program.files_except.clone();
        }
        prop_assert_eq!(brief.meanings(), plain.meanings());
        for frame in frames {
            let mut facts = facts(&frame, false, direction, 2);
            facts.program = ProgramIndex(program % (brief.programs.len() as u32 + 1));
            prop_assert_eq!(decide(&brief, &facts), decide(&plain, &facts));
        }
    }

    /// Rates too: both count a stream of packets alike, whatever the times, and
    /// nobody gets more out of a rate than its burst and what time gives.
    #[test]
    fn rates_are_counted_alike_and_hold(
        brief in brief(12),
        frames in proptest::collection::vec(frame([2, 0, 0, 0, 0, 1]), 6),
        steps in proptest::collection::vec((0usize..6, prop::sample::select(vec![0u64, 1, 10_000_000, 900_000_000, 70_000_000_000])), 60),
    ) {
        let tables = Tables::build(&brief).unwrap();
        let (mut ours, mut theirs) = (Rates::default(), Rates::default());
        let begin = Duration::from_secs(1_000_000);
        let mut at = begin;
        let mut let_in: BTreeMap<(u32, Option<IpAddr>), u64> = BTreeMap::new();
        for (frame, step) in steps {
            at += Duration::from_nanos(step);
            let facts = facts(&frames[frame], false, Direction::Inbound, 2);
            let said = decide_within(&brief, &facts, &mut ours, at);
            prop_assert_eq!(tables.decide_within(&facts, &mut theirs, at), said);
            match (said.speaker, facts.packet) {
                (Speaker::Rule(index), Packet::Ip(ip)) if opens(&ip.payload) => {
                    if let Some(limit) = brief.rule(index).and_then(|rule| rule.limit()) {
                        let bucket = Bucket::for_source(&limit, ip.source);
                        *let_in.entry((index.0, bucket.source)).or_default() += 1;
                    }
                }
                (Speaker::Beyond(index), _) => {
                    let rule = brief.rule(index).unwrap();
                    prop_assert_eq!(said.verdict, Action::from(rule.over));
                    prop_assert_eq!(decide(&brief, &facts).speaker, Speaker::Rule(index));
                }
                _ => {}
            }
        }
        for ((index, _), count) in let_in {
            let limit = brief.rules[index as usize].limit().unwrap();
            let burst = limit.tolerance / limit.increment + 1;
            let gone_by = (at - begin).as_nanos() as u64 / limit.increment;
            prop_assert!(count <= burst + gone_by, "{} of {} + {}", count, burst, gone_by);
        }
    }

    /// A rule decides in its direction only, and a standing answer too.
    #[test]
    fn directions_do_not_mix(
        brief in brief(60),
        frame in frame([2, 0, 0, 0, 0, 1]),
        direction in prop::sample::select(Direction::ALL.to_vec()),
    ) {
        match decide(&brief, &facts(&frame, false, direction, 2)).speaker {
            Speaker::Rule(index) => {
                prop_assert_eq!(brief.rules[index.0 as usize].direction, direction);
            }
            Speaker::Standing(standing) => prop_assert_eq!(standing, direction),
            _ => {}
        }
    }

    #[test]
    fn a_paused_rule_never_speaks_and_a_first_match_hides_the_rest(
        mut brief in brief(30),
        frame in frame([2, 0, 0, 0, 0, 1]),
    ) {
        let facts = facts(&frame, false, Direction::Inbound, 2);
        let before = decide(&brief, &facts);
        if let Speaker::Rule(index) = before.speaker {
            prop_assert!(brief.rules[index.0 as usize].is_active());
            // Whatever stands behind the speaker changes nothing.
            brief.rules.truncate(index.position());
            prop_assert_eq!(decide(&brief, &facts), before);
            let speaker = Arc::make_mut(&mut brief.rules[index.0 as usize]);
            speaker.inactive = Some(tipstaff_core::orders::Inactive::Paused);
            prop_assert_ne!(decide(&brief, &facts).speaker, before.speaker);
        }
    }

    #[test]
    fn nothing_passes_an_empty_list_under_a_standing_deny_but_foundations(
        mut brief in brief(0),
        frame in frame([2, 0, 0, 0, 0, 1]),
    ) {
        brief.standing.inbound = Action::Deny;
        let decision = decide(&brief, &facts(&frame, false, Direction::Inbound, 2));
        if decision.verdict == Action::Allow {
            prop_assert!(matches!(decision.speaker, Speaker::Foundation(_) | Speaker::Nobody));
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Who is answered what by kinds of source is what the reference says of each.
    #[test]
    fn answers_by_source_are_those_of_the_reference(
        brief in brief(40),
        frames in proptest::collection::vec(frame([2, 0, 0, 0, 0, 1]), 40),
        interface in 1u32..4,
    ) {
        for frame in frames {
            let facts = facts(&frame, false, Direction::Inbound, interface);
            let decision = decide(&brief, &facts);
            let decided = match decision.speaker {
                Speaker::Rule(index) | Speaker::Beyond(index) => Some(index),
                Speaker::Standing(Direction::Inbound) => None,
                _ => continue,
            };
            let Packet::Ip(packet) = facts.packet else { continue };
            let query = RuleQuery::from_packet(&facts, &packet).unwrap();
            let all = answered_sources(&brief, query.key, facts.now);
            let of_source: Vec<_> =
                all.iter().filter(|kind| kind.sources.contains(query.source)).collect();
            let at = of_source.iter().position(|kind| kind.rule == decided);
            prop_assert!(at.is_some(), "{:?} {:?} {:?}", decision, query, all);
            let before = &of_source[..at.unwrap()];
            prop_assert!(before.iter().all(|kind| kind.only_partly), "{:?} {:?}", decision, all);
            // All sources are in it: nobody is answered by nothing.
            let last = of_source.last().unwrap();
            let has_rate = last.rule.is_some_and(|r| brief.rule(r).unwrap().at_most.is_some());
            prop_assert!(!last.only_partly || has_rate, "{:?}", last);
        }
    }
}

/// Random frames reach every kind of speaker; otherwise the laws above would say little.
#[test]
fn the_random_frames_reach_every_speaker() {
    use proptest::strategy::{Strategy, ValueTree};
    use proptest::test_runner::TestRunner;
    let mut runner = TestRunner::deterministic();
    let mut seen = std::collections::BTreeSet::new();
    for n in 0..8000 {
        let brief = brief(20).new_tree(&mut runner).unwrap().current();
        let frame = frame([2, 0, 0, 0, 0, 1]).new_tree(&mut runner).unwrap().current();
        let facts = facts(&frame, n % 4 == 0, Direction::Inbound, 1 + u32::from(n % 50 != 0));
        let text = format!("{:?}", decide(&brief, &facts).speaker);
        seen.insert(text.trim_end_matches(|c: char| c == ')' || c.is_ascii_digit()).to_owned());
    }
    // Each foundation, another VLAN, a rule, the standing answer.
    assert_eq!(seen.len(), Foundation::ALL.len() + 3, "{seen:?}");
}

/// Trees of three levels in both families: every boundary and its neighbours.
#[test]
fn deep_tables_say_what_the_sets_say() {
    use std::net::{Ipv4Addr, Ipv6Addr};
    use tipstaff_core::decision::{RuleQuery, first_mismatch};
    use tipstaff_core::names::traffic::Transport;
    use tipstaff_core::orders::read;

    // 6,000 separate ranges a family: more than 64 × 64 boundaries.
    let four = |n: u32| Ipv4Addr::from(0x0a00_0000 + n * 7);
    let six =
        |n: u32| Ipv6Addr::from((0x2001_0db8_u128 << 96) + u128::from(n) * 0x1_0000_0000_0001);
    let members: Vec<String> = (0..6_000)
        .flat_map(|n| {
            let last4 = Ipv4Addr::from(u32::from(four(n)) + n % 5);
            let last6 = Ipv6Addr::from(u128::from(six(n)) + u128::from(n % 5));
            [format!("\"{}-{last4}\"", four(n)), format!("\"{}-{last6}\"", six(n))]
        })
        .collect();
    let text = format!(
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
         [addresses]\nmany = [{}]\nends = [\"0.0.0.0\", \"255.255.255.255\", \"::\", \"ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff\"]\n\
         [[rules]]\nname = \"many\"\naction = \"allow\"\ntraffic = \"ssh\"\nsource = \"many\"\n\
         [[rules]]\nname = \"ends\"\naction = \"deny\"\ntraffic = \"any\"\nsource = \"ends\"\n",
        members.join(", ")
    );
    let brief = tipstaff_core::brief::Brief::unplaced(&read(&text).unwrap());
    let tables = Tables::build(&brief).unwrap();
    assert_eq!(tables.layout().source4.levels.len(), 3);
    assert_eq!(tables.layout().source6.levels.len(), 3);
    let mut sources: Vec<IpAddr> = vec![
        Ipv4Addr::UNSPECIFIED.into(),
        Ipv4Addr::BROADCAST.into(),
        Ipv6Addr::UNSPECIFIED.into(),
        Ipv6Addr::from(u128::MAX).into(),
    ];
    for n in 0..6_000 {
        for step in [0, n % 5, n % 5 + 1] {
            sources.push(Ipv4Addr::from(u32::from(four(n)) + step).into());
            sources.push(Ipv6Addr::from(u128::from(six(n)) + u128::from(step)).into());
        }
    }
    let mut met = 0;
    for source in sources {
        let question = RuleQuery {
            direction: Direction::Inbound,
            program: ProgramIndex::OTHER,
            key: Transport::Tcp.key(22),
            source,
            destination: source,
            interface: InterfaceIndex(2),
            now: Moment(NOW),
        };
        let walked = brief
            .indexed()
            .find(|(_, r)| first_mismatch(&brief, r, &question).is_none())
            .map(|(i, _)| i);
        assert_eq!(tables.first(&question), walked, "{source}");
        met += usize::from(walked.is_some());
    }
    assert!(met > 20_000, "{met}");
}

proptest! {
    #[test]
    fn no_bytes_make_the_reader_of_packets_panic(bytes in proptest::collection::vec(any::<u8>(), 0..200), six in any::<bool>()) {
        let _ = parse_ethernet(&bytes);
        let _ = tipstaff_core::packet::parse_ip(six, &bytes);
    }
}

/// The exceptions of one direction say nothing of another one, in the tables too.
#[test]
fn everything_but_something_stays_in_its_direction() {
    use tipstaff_core::orders::read;
    let rule = |name: &str, action: &str, direction: &str| {
        format!(
            "[[rules]]\nname = \"{name}\"\naction = \"{action}\"\ndirection = \"{direction}\"\n\
             traffic = \"any\"\ntraffic_except = \"ssh\"\n"
        )
    };
    let text = format!(
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"deny\"\ntransit = \"deny\"\n{}{}",
        rule("in", "deny", "inbound"),
        rule("out", "allow", "outbound"),
    );
    let brief = tipstaff_core::brief::Brief::unplaced(&read(&text).unwrap());
    let tables = Tables::build(&brief).unwrap();
    let mut frame = vec![2, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 0x99, 8, 0];
    frame.extend([0x45, 0, 0, 40, 0, 1, 0, 0, 64, 6, 0, 0, 203, 0, 113, 9, 198, 51, 100, 20]);
    frame.extend([0xee, 0x48, 1, 187, 0, 0, 0, 1, 0, 0, 0, 0, 0x50, 2, 0xff, 0xff, 0, 0, 0, 0]);
    let said = |direction| tables.decide(&facts(&frame, false, direction, 2));
    assert_eq!(said(Direction::Outbound).verdict, Action::Allow);
    assert_eq!(said(Direction::Transit).speaker, Speaker::Standing(Direction::Transit));
    for direction in Direction::ALL {
        let facts = facts(&frame, false, direction, 2);
        assert_eq!(tables.decide(&facts), decide(&brief, &facts));
    }
}
