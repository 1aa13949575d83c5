//! Random lists and random frames for property tests. Addresses, ports and
//! protocols come from small pools with the edges in them, so that packets and
//! conditions meet often and at their borders.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::sync::Arc;

use proptest::collection::vec;
use proptest::prelude::*;
use proptest::sample::select;

use crate::brief::{Brief, Executables, programs_of};
use crate::moment::Moment;
use crate::names::address::{AddressRange, AddressSet, Family};
use crate::names::traffic::{Term, Transport, keys_except, keys_of};
use crate::orders::{
    Action, AddressCondition, AtMost, FoundationSwitches, Inactive, InterfaceCondition, LogLevel,
    Memory, Over, Period, ProgramCondition, Rule, RuleName, Sharing, Standing, TrafficCondition,
};
use crate::packet::{Direction, InterfaceIndex, LINK_PROTOCOLS, PRIORITY_TAGS};

const PORTS: [u16; 10] = [0, 1, 22, 53, 68, 546, 7410, 7420, 7423, 65_535];
/// The interfaces that random lists know; tests on a real machine put its own there.
pub const INTERFACES: [(u32, &str); 4] = [(1, "lo"), (2, "lan0"), (3, "tun0"), (9, "ts-a")];
/// The addresses that a host with a random list has.
pub const OWN: [IpAddr; 2] = [
    IpAddr::V4(Ipv4Addr::new(198, 51, 100, 7)),
    IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0x51, 2, 0, 0, 0, 4)),
];
/// The programs that random rules name.
pub const PROGRAMS: [&str; 3] = ["/usr/sbin/plated", "/usr/sbin/skycam", "/usr/bin/domed"];
/// When random rules end: long ago, or in a far future, and at the ends of time.
pub const UNTIL: [Moment; 5] =
    [Moment(0), Moment(1), Moment(1_700_000_000), Moment(4_000_000_000), Moment(u32::MAX)];
const PROTOCOLS: [u8; 9] = [0, 1, 6, 17, 47, 58, 59, 132, 255];

fn ipv4() -> impl Strategy<Value = Ipv4Addr> {
    prop_oneof![
        4 => (0u8..8).prop_map(|n| Ipv4Addr::new(198, 51, 100, n)),
        2 => (0u8..4).prop_map(|n| Ipv4Addr::new(203, 0, 113, n)),
        1 => select(vec![
            Ipv4Addr::UNSPECIFIED,
            Ipv4Addr::BROADCAST,
            Ipv4Addr::LOCALHOST,
            Ipv4Addr::new(126, 255, 255, 255),
            Ipv4Addr::new(128, 0, 0, 0),
        ]),
    ]
}

fn ipv6() -> impl Strategy<Value = Ipv6Addr> {
    prop_oneof![
        4 => (0u16..3, 0u16..5).prop_map(move |(h, l)| Ipv6Addr::new(0x2001, 0xdb8, 0x51, h, 0, 0, 0, l)),
        1 => any::<u64>().prop_map(|n| Ipv6Addr::from(0x2001_0db8_0051_0000_u128 << 64 | u128::from(n))),
        1 => select(vec![
            Ipv6Addr::UNSPECIFIED,
            Ipv6Addr::LOCALHOST,
            Ipv6Addr::from(2u128),
            Ipv6Addr::new(0xfe80, 0, 0, 0, 0, 0, 0, 1),
            Ipv6Addr::from(u128::MAX),
            Ipv6Addr::from(u128::from(u64::MAX)),
            Ipv6Addr::from(u128::from(u64::MAX) + 1),
        ]),
    ]
}

fn range() -> impl Strategy<Value = AddressRange> {
    fn ordered(a: IpAddr, b: IpAddr) -> AddressRange {
        AddressRange::between(a.min(b), a.max(b)).unwrap_or(AddressRange::single(a))
    }
    prop_oneof![
        ipv4().prop_map(|a| AddressRange::single(a.into())),
        ipv6().prop_map(|a| AddressRange::single(a.into())),
        (ipv4(), ipv4()).prop_map(move |(a, b)| ordered(a.into(), b.into())),
        (ipv6(), ipv6()).prop_map(move |(a, b)| ordered(a.into(), b.into())),
    ]
}

fn term() -> impl Strategy<Value = Term> {
    fn transport() -> impl Strategy<Value = Transport> {
        select(vec![Transport::Tcp, Transport::Udp])
    }
    prop_oneof![
        5 => (transport(), select(PORTS.to_vec())).prop_map(|(t, p)| Term::Ports(t, p, p)),
        2 => (transport(), select(PORTS.to_vec()), select(PORTS.to_vec()))
            .prop_map(|(t, a, b)| Term::Ports(t, a.min(b), a.max(b))),
        1 => transport().prop_map(|t| Term::Ports(t, 0, u16::MAX)),
        1 => Just(Term::Echo),
        1 => Just(Term::Icmp),
        1 => select(PROTOCOLS.to_vec()).prop_map(Term::Protocol),
        1 => Just(Term::Any),
    ]
}

/// The exceptions of a list: mostly none.
fn except<T: std::fmt::Debug + Clone>(
    one: impl Strategy<Value = T>,
) -> impl Strategy<Value = Vec<T>> {
    prop_oneof![4 => Just(Vec::new()), 1 => vec(one, 1..3)]
}

fn action() -> impl Strategy<Value = Action> {
    select(Action::ALL.to_vec())
}

prop_compose! {
    fn rule()(
        action in action(),
        (terms, but_terms) in (vec(term(), 1..4), except(term())),
        (sources, but_sources) in (proptest::option::of(vec(range(), 1..5)), except(range())),
        (destinations, but_destinations) in
            (proptest::option::weighted(0.2, vec(range(), 1..3)), except(range())),
        interface in interface(),
        family in proptest::option::weighted(0.15, select(Family::BOTH.to_vec())),
        until in proptest::option::weighted(0.15, select(UNTIL.to_vec())),
        enabled in prop::bool::weighted(0.85),
        (direction, program) in (direction(), program()),
        (at_most, over, log) in (proptest::option::weighted(0.2, at_most()), over(), any::<bool>()),
    ) -> Conditions {
        let program = if direction == Direction::Transit { ProgramCondition::default() } else { program };
        let at_most = at_most.filter(|_| action == Action::Allow);
        Conditions {
            action, direction, terms, but_terms, sources, but_sources, destinations,
            but_destinations, interface, program, family, until, at_most, over, log, enabled,
        }
    }
}

/// A list of up to `most` rules.
pub fn brief(most: usize) -> impl Strategy<Value = Brief> {
    let standing = (action(), action(), action())
        .prop_map(|(inbound, outbound, transit)| Standing { inbound, outbound, transit });
    (standing, any::<bool>(), vec(rule(), 0..=most)).prop_map(
        |(standing, address_assignment, rules)| {
            let rules: Vec<_> = rules.into_iter().enumerate().map(numbered).map(Arc::new).collect();
            let interfaces = INTERFACES.iter().map(|(i, n)| (InterfaceIndex(*i), (*n).into()));
            Brief {
                standing,
                foundations: FoundationSwitches { address_assignment },
                memory: Memory::default(),
                log_level: LogLevel::default(),
                program_exact: false,
                programs: programs_of(&rules, &Executables::new()),
                executables: Executables::new(),
                rules,
                interfaces: interfaces.collect(),
                own: OWN.to_vec(),
            }
        },
    )
}

fn direction() -> impl Strategy<Value = Direction> {
    prop_oneof![
        4 => Just(Direction::Inbound),
        1 => Just(Direction::Outbound),
        1 => Just(Direction::Transit),
    ]
}

fn program() -> impl Strategy<Value = ProgramCondition> {
    fn paths() -> impl Strategy<Value = Vec<String>> {
        vec(select(PROGRAMS.to_vec()).prop_map(str::to_owned), 1..3)
    }
    let pair = prop_oneof![
        2 => paths().prop_map(|files| (files, Vec::new())),
        1 => paths().prop_map(|except| (Vec::new(), except)),
        1 => (paths(), paths()),
    ];
    // Sets of programs go by names, which no path is.
    let named = (pair, any::<bool>()).prop_map(|((files, except), by_name)| {
        let mut condition = ProgramCondition::of_paths(files, except);
        for list in [&mut condition.written, &mut condition.except] {
            if by_name && !list.is_empty() {
                *list = vec!["desktop".into()];
            }
        }
        condition
    });
    prop_oneof![8 => Just(ProgramCondition::default()), 4 => named]
}

/// Rates that a handful of packets goes beyond.
fn at_most() -> impl Strategy<Value = AtMost> {
    let sharing = select(vec![Sharing::PerSource, Sharing::InAll]);
    let period = select(Period::ALL.to_vec());
    (1u32..5, period, sharing, proptest::option::of(1u32..4)).prop_map(
        |(count, period, sharing, burst)| {
            AtMost::new(count, period, sharing, burst).unwrap_or_else(|e| unreachable!("{e}"))
        },
    )
}

fn over() -> impl Strategy<Value = Over> {
    select(Over::ALL.to_vec())
}

#[derive(Clone, Debug)]
struct Conditions {
    action: Action,
    direction: Direction,
    terms: Vec<Term>,
    but_terms: Vec<Term>,
    sources: Option<Vec<AddressRange>>,
    but_sources: Vec<AddressRange>,
    destinations: Option<Vec<AddressRange>>,
    but_destinations: Vec<AddressRange>,
    interface: InterfaceCondition,
    program: ProgramCondition,
    family: Option<Family>,
    until: Option<Moment>,
    at_most: Option<AtMost>,
    over: Over,
    log: bool,
    enabled: bool,
}

fn interface() -> impl Strategy<Value = InterfaceCondition> {
    let names =
        || vec(select(vec!["ts-a", "ts-*", "tun*", "lo", "lan0"]).prop_map(str::to_owned), 1..3);
    prop_oneof![
        6 => Just(InterfaceCondition::default()),
        2 => names().prop_map(|written| InterfaceCondition { written, except: Vec::new() }),
        1 => names().prop_map(|except| InterfaceCondition { written: Vec::new(), except }),
        1 => (names(), names())
            .prop_map(|(written, except)| InterfaceCondition { written, except }),
    ]
}

fn numbered((at, conditions): (usize, Conditions)) -> Rule {
    let Conditions {
        action,
        direction,
        terms,
        but_terms,
        sources,
        but_sources,
        destinations,
        but_destinations,
        interface,
        program,
        family,
        until,
        at_most,
        over,
        log,
        enabled,
    } = conditions;
    let name = RuleName::parse(&format!("rule-{at}"));
    Rule {
        name: name.unwrap_or_else(|why| unreachable!("{why}")),
        note: None,
        action,
        direction,
        traffic: TrafficCondition {
            written: terms.iter().map(ToString::to_string).collect(),
            except: but_terms.iter().map(ToString::to_string).collect(),
            items: terms.clone(),
            keys: match but_terms.as_slice() {
                [] => keys_of(&terms),
                out => Some(keys_except(keys_of(&terms), keys_of(out))),
            },
        },
        source: addresses(sources.as_deref(), &but_sources),
        destination: addresses(destinations.as_deref(), &but_destinations),
        interface,
        program,
        family,
        until,
        at_most,
        over,
        log,
        accepted: Vec::new(),
        group: None,
        hosts: Vec::new(),
        postures: Vec::new(),
        inactive: (!enabled).then_some(Inactive::Paused),
        part: None,
        line: at + 1,
    }
}

fn addresses(ranges: Option<&[AddressRange]>, but: &[AddressRange]) -> AddressCondition {
    let listed = ranges.map(AddressSet::from_ranges);
    AddressCondition {
        written: ranges.iter().copied().flatten().map(ToString::to_string).collect(),
        except: but.iter().map(ToString::to_string).collect(),
        addresses: match but {
            [] => listed,
            out => {
                let all = listed.unwrap_or_else(AddressSet::full);
                Some(all.difference(&AddressSet::from_ranges(out)))
            }
        }
        .map(Arc::new),
    }
}

/// What stands behind an IP header: a transport header, mostly sound.
fn transport() -> BoxedStrategy<(u8, Vec<u8>)> {
    fn ports() -> impl Strategy<Value = (u16, u16)> {
        (select(PORTS.to_vec()), select(PORTS.to_vec()))
    }
    let tcp =
        (ports(), prop_oneof![4 => Just(0x02u8), 1 => any::<u8>()], select(vec![5u8, 5, 5, 4, 8]))
            .prop_map(|((from, to), flags, offset)| {
                let mut h = [from.to_be_bytes(), to.to_be_bytes()].concat();
                h.extend([0, 0, 0, 1, 0, 0, 0, 0, offset << 4, flags, 0xff, 0xff, 0, 0, 0, 0]);
                (6u8, h)
            });
    let udp = (ports(), select(vec![8u16, 8, 8, 7, 0])).prop_map(|((from, to), length)| {
        let h = [from.to_be_bytes(), to.to_be_bytes(), length.to_be_bytes(), [0, 0]].concat();
        (17u8, h)
    });
    let icmp = (
        select(vec![1u8, 58]),
        prop_oneof![select(vec![0u8, 8, 128, 129]), 0u8..=20, 125u8..=150],
        0u8..3,
    )
        .prop_map(|(protocol, kind, code)| (protocol, vec![kind, code, 0, 0, 0x12, 0x34, 0, 1]));
    // An error with what it quotes: the begin of a packet, of its family or not.
    let error = (select(vec![(1u8, 3u8), (1, 11), (58, 1), (58, 2), (58, 4)]), quoted()).prop_map(
        |((protocol, kind), quoted)| {
            (protocol, [&[kind, 1, 0, 0, 0, 0, 0, 0][..], &quoted].concat())
        },
    );
    let other = (select(PROTOCOLS.to_vec()), vec(any::<u8>(), 0..24));
    prop_oneof![4 => tcp, 3 => udp, 3 => icmp, 1 => error, 2 => other].boxed()
}

fn quoted() -> impl Strategy<Value = Vec<u8>> {
    let ports = (select(PORTS.to_vec()), select(PORTS.to_vec()));
    let protocol = select(vec![1u8, 6, 17, 58]);
    (any::<bool>(), ipv4(), ipv4(), ipv6(), ipv6(), protocol, ports).prop_map(
        |(four, a, b, c, d, protocol, (from, to))| {
            let mut bytes = match four {
                true => {
                    let mut header = vec![0x45, 0, 0, 28, 0, 1, 0, 0, 64, protocol, 0, 0];
                    header.extend([a.octets(), b.octets()].concat());
                    header
                }
                false => {
                    let mut header = vec![0x60, 0, 0, 0, 0, 8, protocol, 64];
                    header.extend([c.octets(), d.octets()].concat());
                    header
                }
            };
            bytes.extend([from.to_be_bytes(), to.to_be_bytes(), [0, 8], [0, 0]].concat());
            bytes
        },
    )
}

/// What others follow has a multiple of 8 bytes.
fn piece(mut payload: Vec<u8>, followed: bool) -> Vec<u8> {
    if followed {
        payload.resize(payload.len().next_multiple_of(8), 0);
    }
    payload
}

fn ipv4_frame() -> BoxedStrategy<Vec<u8>> {
    let fragment = prop_oneof![8 => Just(0u16), 1 => Just(0x2000u16), 1 => 1u16..0x2000];
    let first_byte = prop_oneof![9 => Just(0x45u8), 1 => Just(0x46u8), 1 => any::<u8>()];
    let length = prop_oneof![9 => Just(None), 1 => (0u16..80).prop_map(Some)];
    (ipv4(), ipv4(), (0u8..3, fragment), first_byte, length, transport())
        .prop_map(|(source, destination, (id, fragment), first, length, (protocol, payload))| {
            let payload = piece(payload, fragment & 0x2000 != 0 && id != 2);
            let options = if first == 0x46 { 4 } else { 0 };
            let length = length.unwrap_or(20 + options as u16 + payload.len() as u16);
            let mut bytes = vec![first, 0];
            bytes.extend(length.to_be_bytes());
            bytes.extend([0, id]);
            bytes.extend(fragment.to_be_bytes());
            bytes.extend([64, protocol, 0, 0]);
            bytes.extend(source.octets());
            bytes.extend(destination.octets());
            bytes.extend(vec![1; options]);
            bytes.extend(payload);
            bytes
        })
        .boxed()
}

fn ipv6_frame() -> BoxedStrategy<Vec<u8>> {
    let extension = prop_oneof![
        4 => (select(vec![0u8, 43, 60]), 0u8..3).prop_map(|(kind, n)| (kind, n, 8 * (usize::from(n) + 1))),
        1 => (0u8..3).prop_map(|n| (51u8, n, (usize::from(n) + 2) * 4)),
    ];
    let fragment = proptest::option::weighted(0.15, select(vec![0u16, 1, 8, 9, 0xff00, 0xfff8]));
    let fragment = (0u8..3, fragment);
    let first_byte = prop_oneof![15 => Just(0x60u8), 1 => any::<u8>()];
    let first_byte = (first_byte, select(vec![255u8, 255, 64, 1]));
    let length = prop_oneof![9 => Just(None), 1 => (0u16..80).prop_map(Some)];
    let extensions = prop_oneof![3 => Just(Vec::new()), 1 => vec(extension, 1..8)];
    (ipv6(), ipv6(), first_byte, length, extensions, fragment, transport())
        .prop_map(
            |(source, destination, (first, hops), length, extensions, fragment, transport)| {
                let ((protocol, payload), (id, fragment)) = (transport, fragment);
                let payload = piece(payload, fragment.is_some_and(|f| f & 1 != 0) && id != 2);
                let mut chain: Vec<(u8, Vec<u8>)> = extensions
                    .into_iter()
                    .map(|(kind, n, bytes)| {
                        let mut header = vec![0; bytes.max(8)];
                        header[1] = n;
                        (kind, header)
                    })
                    .collect();
                if let Some(fragment) = fragment {
                    let offset = fragment.to_be_bytes();
                    chain.push((44, vec![0, 0, offset[0], offset[1], 0, 0, 0, id]));
                }
                chain.push((protocol, payload));
                for at in 0..chain.len() - 1 {
                    chain[at].1[0] = chain[at + 1].0;
                }
                let body: usize = chain.iter().map(|(_, bytes)| bytes.len()).sum();
                let mut bytes = vec![first, 0, 0, 0];
                bytes.extend(length.unwrap_or(body as u16).to_be_bytes());
                bytes.extend([chain[0].0, hops]);
                bytes.extend(source.octets());
                bytes.extend(destination.octets());
                bytes.extend(chain.into_iter().flat_map(|(_, bytes)| bytes));
                bytes
            },
        )
        .boxed()
}

/// Address assignment, and what looks like it.
fn dhcp() -> impl Strategy<Value = (u16, Vec<u8>)> {
    let ports = select(vec![(67u16, 68u16), (547, 546), (68, 67), (546, 547)]);
    let four = prop_oneof![Just(Ipv4Addr::BROADCAST), ipv4()];
    let six = prop_oneof![Just(Ipv6Addr::new(0xfe80, 0, 0, 0, 0, 0, 0, 1)), ipv6()];
    (ports, (ipv4(), four), (six, ipv6())).prop_map(|((from, to), four, six)| {
        let datagram = [from.to_be_bytes(), to.to_be_bytes(), [0, 8], [0, 0]].concat();
        if from < 500 {
            let header = [0x45, 0, 0, 28, 0, 1, 0, 0, 64, 17, 0, 0];
            (0x0800, [&header[..], &four.0.octets(), &four.1.octets(), &datagram].concat())
        } else {
            let header = [0x60, 0, 0, 0, 0, 8, 17, 64];
            (0x86dd, [&header[..], &six.0.octets(), &six.1.octets(), &datagram].concat())
        }
    })
}

/// What stands in the field of the EtherType: known, unknown, no EtherType at all.
fn link() -> impl Strategy<Value = u16> {
    prop_oneof![
        3 => select(LINK_PROTOCOLS.map(|(kind, _)| kind).to_vec()),
        1 => select(vec![0u16, 1, 38, 0x05ff, 0x0600, 0x8847, 0x8848, 0x9100, 0xffff]),
        1 => any::<u16>().prop_filter("IP has frames of its own", |kind| {
            !matches!(kind, 0x0800 | 0x86dd | 0x8100 | 0x88a8)
        }),
    ]
}

/// An Ethernet frame to `to`: mostly IP, sometimes cut short.
pub fn frame(to: [u8; 6]) -> impl Strategy<Value = Vec<u8>> {
    let ip = prop_oneof![
        5 => ipv4_frame().prop_map(|bytes| (0x0800u16, bytes)),
        5 => ipv6_frame().prop_map(|bytes| (0x86dd, bytes)),
        1 => dhcp(),
        1 => (link(), vec(any::<u8>(), 20..60)),
        1 => (select(PRIORITY_TAGS.to_vec()), select(vec![0u16, 0xe000, 5, 0x0fff]), ipv4_frame())
            .prop_map(|(kind, tag, packet)| (kind, [&tag.to_be_bytes(), &[8, 0][..], &packet].concat())),
    ];
    (ip, proptest::option::weighted(0.1, any::<prop::sample::Index>())).prop_map(
        move |((ethertype, mut bytes), cut)| {
            if let Some(cut) = cut {
                bytes.truncate(cut.index(bytes.len()));
            }
            let mut frame = to.to_vec();
            frame.extend([2, 0, 0, 0, 0, 0x99]);
            frame.extend(ethertype.to_be_bytes());
            frame.extend(bytes);
            frame
        },
    )
}
