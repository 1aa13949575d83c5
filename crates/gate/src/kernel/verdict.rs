//! The outer gate's program: foundations, replies, the first rule, the
//! standing answer. The same shape for every policy; where the tables stand in
//! the blob is written into it as immediates.

use std::os::fd::BorrowedFd;

use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decide::Speaker;
use tipstaff_core::flows::{ECHO_AGE, TCP_AGE, UDP_AGE};
use tipstaff_core::foundations::Foundation;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::orders::{Action, FoundationSwitches, Standing};
use tipstaff_core::packet::{Direction, TcpFlags};
use tipstaff_core::tables::layout::{Layout, Verdict};

use super::assembler::{
    Assembler, If, Label, Misfit, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, STACK, Width,
};
use super::reading::{
    Ways, at, destination_offset, family_jumps, helper, ip_header, skb, source_offset,
    transport_header,
};
use super::remember::{self, Answer};
use super::rows::{address_rows, first_rule};
use super::{events, refuse};

/// tcx: let the next program decide, and the stack after it.
pub(super) const NEXT: i32 = -1;
/// tcx: drop.
pub(super) const DROP: i32 = 2;
/// What the dispatcher on the way out leaves for the program in the slot.
pub(super) const OUTWARDS: i32 = 1;
/// A packet with this mark is not counted. Test runs set it; nothing that
/// arrives on a wire has a mark yet.
pub const UNCOUNTED: u32 = 0x7469_7073;

/// A counter slot: who spoke, as a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CounterSlot(pub u32);

impl CounterSlot {
    const STANDING_INBOUND: u32 = 8;
    const STANDING_TRANSIT: u32 = 9;
    const UNSOUND: u32 = 10;
    const NOBODY: u32 = 11;
    const STANDING_OUTBOUND: u32 = 12;
    /// Decisions of the standing answers that were left out of the records.
    pub(super) const UNRECORDED: u32 = 13;
    /// Records for which the ring had no room.
    pub(super) const LOST: u32 = 14;
    pub(super) const FIRST_RULE: u32 = 16;

    /// How many slots a list of `rules` rules needs.
    pub fn count(rules: u32) -> u32 {
        Self::FIRST_RULE + 2 * rules
    }

    /// The slot of a speaker.
    pub fn of(speaker: Speaker) -> Self {
        Self(match speaker {
            Speaker::Nobody => Self::NOBODY,
            Speaker::Foundation(foundation) => foundation as u32,
            Speaker::Rule(index) => Self::FIRST_RULE + 2 * index.0,
            Speaker::Beyond(index) => Self::FIRST_RULE + 2 * index.0 + 1,
            Speaker::Standing(Direction::Inbound) => Self::STANDING_INBOUND,
            Speaker::Standing(Direction::Outbound) => Self::STANDING_OUTBOUND,
            Speaker::Standing(Direction::Transit) => Self::STANDING_TRANSIT,
            Speaker::Unsound => Self::UNSOUND,
        })
    }

    /// Who has this slot; `None` for the unused ones.
    pub fn speaker(self) -> Option<Speaker> {
        Some(match self.0 {
            n if (n as usize) < Foundation::ALL.len() => {
                Speaker::Foundation(Foundation::ALL[n as usize])
            }
            Self::STANDING_INBOUND => Speaker::Standing(Direction::Inbound),
            Self::STANDING_OUTBOUND => Speaker::Standing(Direction::Outbound),
            Self::STANDING_TRANSIT => Speaker::Standing(Direction::Transit),
            Self::UNSOUND => Speaker::Unsound,
            Self::NOBODY => Speaker::Nobody,
            n if n >= Self::FIRST_RULE => {
                let (index, beyond) = ((n - Self::FIRST_RULE) / 2, (n - Self::FIRST_RULE) % 2);
                let index = RuleIndex(index);
                if beyond == 1 { Speaker::Beyond(index) } else { Speaker::Rule(index) }
            }
            _ => return None,
        })
    }
}

/// What the program is made of.
pub struct Parts<'m> {
    /// The map whose one value is the blob.
    pub tables: BorrowedFd<'m>,
    /// Where everything stands in it.
    pub layout: &'m Layout,
    /// The counters, by [`CounterSlot`].
    pub counters: BorrowedFd<'m>,
    /// What this host sent.
    pub flows: BorrowedFd<'m>,
    /// What sources took of rates.
    pub rates: BorrowedFd<'m>,
    /// Whether anything is recorded.
    pub records: bool,
    /// The ring of the records.
    pub events: BorrowedFd<'m>,
    /// First bytes of the orders' hash, for the records.
    pub orders: [u8; 8],
    /// The standing answers.
    pub standing: Standing,
    /// Whether orders have anything to say of the way out.
    pub restricts_outbound: bool,
    /// Whether anybody refuses.
    pub refuses: bool,
    /// By how many seconds TAI is ahead of UTC.
    pub tai_ahead: i32,
    /// Foundations that can be off.
    pub foundations: FoundationSwitches,
}

/// The program that stands on either side of every interface and jumps to the revision in
/// force; with none in force everything passes.
///
/// # Errors
/// [`Misfit`] if the code does not fit together.
pub fn dispatcher(slot: BorrowedFd<'_>, outwards: bool) -> Result<Vec<u8>, Misfit> {
    let mut a = Assembler::default();
    a.store_value(Width::W, R1, skb::OUTWARDS, if outwards { OUTWARDS } else { 0 });
    a.map(R2, slot);
    a.mov(R3, 0);
    a.call(helper::TAIL_CALL);
    a.mov(R0, NEXT);
    a.exit();
    a.finish()
}

/// The program of one revision.
///
/// # Errors
/// [`Misfit`] if the code does not fit together.
pub fn program(parts: &Parts<'_>) -> Result<Vec<u8>, Misfit> {
    let mut a = Assembler::default();
    let finish = a.label();
    let foundations = Foundation::ALL.map(|f| (f, a.label()));
    let foundation = |wanted: Foundation| foundations[wanted as usize].1;
    let labels = Labels {
        ways: Ways {
            malformed: foundation(Foundation::Malformed),
            later_fragment: foundation(Foundation::LaterFragments),
            loopback: Some(foundation(Foundation::LoopbackElsewhere)),
        },
        neighbours: foundation(Foundation::NeighbourDiscovery),
        errors: foundation(Foundation::IcmpErrors),
        assignment: foundation(Foundation::AddressAssignment),
        replies: foundation(Foundation::Replies),
        transit: a.label(),
        outbound: a.label(),
        rules: a.label(),
        unsound: a.label(),
    };
    let (four, six, outwards) = (a.label(), a.label(), a.label());

    a.copy(R6, R1);
    a.store_value(Width::D, STACK, at::LOG, events::wanted::NOTHING);
    a.store_value(Width::W, STACK, at::KEY, 0);
    a.load(Width::W, R2, R6, skb::INTERFACE);
    a.jump_if(If::Eq, R2, 1, foundation(Foundation::Loopback));
    // What bears the tag of a VLAN is decided on that VLAN's own interface.
    let not_ours = a.label();
    a.load(Width::W, R2, R6, skb::TAG);
    a.jump_if(If::Set, R2, 0xfff, not_ours);
    a.load(Width::W, R2, R6, skb::OUTWARDS);
    a.jump_if(If::Eq, R2, OUTWARDS, outwards);
    a.load(Width::W, R2, R6, skb::PACKET_TYPE);
    a.jump_if(If::Eq, R2, 3, not_ours);
    family_jumps(&mut a, four, six);
    a.place(not_ours);
    a.store_value(Width::W, R6, skb::NOTES, CounterSlot::NOBODY as i32);
    a.store_value(Width::W, R6, skb::NOTES + 4, i32::from(Verdict::ALLOW));
    a.mov(R0, NEXT);
    a.exit();

    for (label, family) in [(four, Family::V4), (six, Family::V6)] {
        a.place(label);
        events::begin(&mut a, family);
        ip_header(&mut a, family, labels.ways);
        before_rules(&mut a, family, Direction::Inbound, parts, &labels);
        address_rows(&mut a, family, parts, labels.unsound);
        a.jump(labels.rules);
    }
    a.place(outwards);
    way_out(&mut a, parts, &labels, not_ours);

    a.place(labels.rules);
    first_rule(&mut a, parts, labels.unsound, finish);
    if parts.layout.directed {
        a.load(Width::D, R1, STACK, at::WAY);
        a.jump_if(If::Eq, R1, Direction::Transit as i32, labels.transit);
        a.jump_if(If::Eq, R1, Direction::Outbound as i32, labels.outbound);
    }
    let inbound = Speaker::Standing(Direction::Inbound);
    outcome(&mut a, inbound, parts.standing.inbound, finish);
    let transit = Speaker::Standing(Direction::Transit);
    let mut rest = vec![
        (labels.transit, transit, parts.standing.transit),
        (labels.outbound, Speaker::Standing(Direction::Outbound), parts.standing.outbound),
        (labels.unsound, Speaker::Unsound, Action::Deny),
    ];
    rest.extend(foundations.map(|(f, label)| (label, Speaker::Foundation(f), f.action())));
    for (label, speaker, action) in rest {
        // The verifier refuses code that nothing leads to.
        if a.is_used(label) {
            a.place(label);
            outcome(&mut a, speaker, action, finish);
        }
    }

    a.place(finish);
    count_and_return(&mut a, parts);
    a.finish()
}

/// What leaves this host. What it only forwards was decided where it came in,
/// and is remembered here.
fn way_out(a: &mut Assembler, parts: &Parts<'_>, labels: &Labels, not_ours: Label) {
    let (own, four, six, pass) = (a.label(), a.label(), a.label(), a.label());
    a.load(Width::W, R2, R6, skb::CAME_FROM);
    a.jump_if(If::Eq, R2, 0, own);
    family_jumps(a, four, six);
    a.jump(pass);
    for (label, family) in [(four, Family::V4), (six, Family::V6)] {
        a.place(label);
        remember::forwarded(a, family, parts, pass);
    }
    a.place(pass);
    a.mov(R0, NEXT);
    a.exit();

    a.place(own);
    let (four, six) = (a.label(), a.label());
    family_jumps(a, four, six);
    a.jump(not_ours);
    for (label, family) in [(four, Family::V4), (six, Family::V6)] {
        a.place(label);
        events::begin(a, family);
        a.store_value(Width::D, STACK, at::WAY, Direction::Outbound as i32);
        ip_header(a, family, labels.ways);
        before_rules(a, family, Direction::Outbound, parts, labels);
        if parts.layout.directed {
            address_rows(a, family, parts, labels.unsound);
            a.jump(labels.rules);
        } else {
            a.jump(labels.outbound);
        }
    }
}

struct Labels {
    ways: Ways,
    neighbours: Label,
    errors: Label,
    assignment: Label,
    replies: Label,
    transit: Label,
    outbound: Label,
    rules: Label,
    unsound: Label,
}

fn outcome(a: &mut Assembler, speaker: Speaker, action: Action, finish: Label) {
    if matches!(speaker, Speaker::Standing(_)) && action != Action::Allow {
        a.store_value(Width::D, STACK, at::LOG, events::wanted::SAMPLE);
    }
    a.mov(R7, CounterSlot::of(speaker).0 as i32);
    a.mov(R8, i32::from(Verdict::said(action)));
    a.jump(finish);
}

/// r7 the slot, r8 the action as [`Verdict`] has it.
fn count_and_return(a: &mut Assembler, parts: &Parts<'_>) {
    let done = a.label();
    a.store(Width::W, R6, skb::NOTES, R7);
    a.store(Width::W, R6, skb::NOTES + 4, R8);
    a.load(Width::W, R1, R6, skb::MARK);
    a.jump_if(If::Eq, R1, UNCOUNTED as i32, done);
    a.store(Width::W, STACK, at::SLOT, R7);
    a.map(R1, parts.counters);
    a.stack(R2, at::SLOT);
    a.call(helper::MAP_LOOKUP);
    a.jump_if(If::Eq, R0, 0, done);
    a.load(Width::D, R1, R0, 0);
    a.op(Op::Add, R1, 1);
    a.store(Width::D, R0, 0, R1);
    a.load(Width::W, R2, R6, skb::LEN);
    a.load(Width::D, R1, R0, 8);
    a.op_reg(Op::Add, R1, R2);
    a.store(Width::D, R0, 8, R1);
    if parts.records {
        events::record(a, parts);
    }
    remember::passed(a, parts);
    a.place(done);
    let (pass, silent) = (a.label(), a.label());
    a.jump_if(If::Eq, R8, i32::from(Verdict::ALLOW), pass);
    if parts.refuses {
        a.jump_if(If::Ne, R8, i32::from(Verdict::REFUSE), silent);
        // A question changes nothing.
        a.load(Width::W, R1, R6, skb::MARK);
        a.jump_if(If::Eq, R1, UNCOUNTED as i32, silent);
        refuse::answer(a, parts, silent);
    }
    a.place(silent);
    a.mov(R0, DROP);
    a.exit();
    a.place(pass);
    a.mov(R0, NEXT);
    a.exit();
}

/// Everything behind the IP header up to the rules; leaves the traffic key on
/// the stack.
fn before_rules(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    labels: &Labels,
) {
    let (tcp, udp, icmp, decide) = (a.label(), a.label(), a.label(), a.label());
    let icmp_number = if family == Family::V4 { ICMP } else { ICMPV6 };
    a.jump_if(If::Eq, R9, i32::from(TCP), tcp);
    a.jump_if(If::Eq, R9, i32::from(UDP), udp);
    a.jump_if(If::Eq, R9, i32::from(icmp_number), icmp);

    // A protocol without ports: its key is its number.
    a.copy(R2, R9);
    a.op(Op::Lsh, R2, 16);
    a.store(Width::W, STACK, at::KEY, R2);
    let ends = (labels.replies, decide);
    remember::known(a, family, parts, (way, Answer::Bare, UDP_AGE), ends);

    a.place(tcp);
    tcp_packet(a, family, way, parts, labels, decide);
    a.place(udp);
    udp_packet(a, family, way, parts, labels, decide);
    a.place(icmp);
    icmp_packet(a, family, way, parts, labels, decide);

    a.place(decide);
    if way == Direction::Inbound {
        transit_or_here(a, family, parts, labels);
    }
}

/// r2: a 16-bit value in network order → the traffic key on the stack.
fn traffic_key(a: &mut Assembler, protocol: u8) {
    a.from_network(R2, 16);
    a.op(Op::Or, R2, i32::from(protocol) << 16);
    a.store(Width::W, STACK, at::KEY, R2);
}

fn tcp_packet(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    labels: &Labels,
    decide: Label,
) {
    let flags = |bits: u8| i32::from(bits);
    let some = TcpFlags::SYN | TcpFlags::ACK | TcpFlags::RST;
    transport_header(a, 20, labels.ways);
    a.load(Width::B, R1, STACK, at::TRANSPORT + 12);
    a.op(Op::Rsh, R1, 4);
    a.jump_if(If::Lt, R1, 5, labels.ways.malformed);
    a.load(Width::B, R8, STACK, at::TRANSPORT + 13);
    a.copy(R1, R8);
    a.op(Op::And, R1, flags(some));
    a.jump_if(If::Eq, R1, 0, labels.ways.malformed);
    let possible = a.label();
    a.copy(R2, R8);
    a.op(Op::And, R2, flags(TcpFlags::SYN));
    a.jump_if(If::Eq, R2, 0, possible);
    a.jump_if(If::Set, R8, flags(TcpFlags::FIN | TcpFlags::RST), labels.ways.malformed);
    a.place(possible);
    a.load(Width::H, R2, STACK, at::TRANSPORT + 2);
    traffic_key(a, TCP);
    a.jump_if(If::Eq, R1, flags(TcpFlags::SYN), decide);
    match way {
        Direction::Outbound => tcp_of_a_socket(a, labels, decide),
        Direction::Inbound | Direction::Transit => {
            tcp_of_a_connection(a, family, parts, labels, decide);
        }
    }
}

/// On its way out: a reset is an answer of this host, and what a TCP socket
/// sends belongs to its connection. r8 the flags.
fn tcp_of_a_socket(a: &mut Assembler, labels: &Labels, decide: Label) {
    a.jump_if(If::Set, R8, i32::from(TcpFlags::RST), labels.replies);
    a.load(Width::D, R1, R6, skb::SOCKET);
    a.jump_if(If::Eq, R1, 0, decide);
    a.call(helper::FULL_SOCKET);
    // A connection that is being opened or has ended has no whole socket.
    a.jump_if(If::Eq, R0, 0, labels.replies);
    a.load(Width::W, R1, R0, 12); // bpf_sock.protocol
    a.jump_if(If::Eq, R1, i32::from(TCP), labels.replies);
    a.jump(decide);
}

/// On its way in: part of a connection that this host knows?
fn tcp_of_a_connection(
    a: &mut Assembler,
    family: Family,
    parts: &Parts<'_>,
    labels: &Labels,
    decide: Label,
) {
    // The lookup wants addresses and ports in one piece; the IP header on the
    // stack has room behind it.
    let (ports, tuple) = match family {
        Family::V4 => (20, 12),
        Family::V6 => (40, 36),
    };
    a.load(Width::W, R1, STACK, at::TRANSPORT);
    a.store(Width::W, STACK, at::HEADER + ports, R1);
    a.copy(R1, R6);
    a.stack(R2, at::HEADER + source_offset(family));
    a.mov(R3, tuple);
    a.mov(R4, -1); // BPF_F_CURRENT_NETNS
    a.mov(R5, 0);
    a.call(helper::SOCKET_LOOKUP_TCP);
    let unknown = a.label();
    a.jump_if(If::Eq, R0, 0, unknown);
    a.load(Width::W, R7, R0, 72); // bpf_sock.state
    a.copy(R1, R0);
    a.call(helper::SOCKET_RELEASE);
    // Only a listener (10) was found: no connection of this host. It may hear on all
    // addresses, and the packet be for another one.
    a.jump_if(If::Eq, R7, 10, unknown);
    a.jump(labels.replies);
    // Or one that it forwards?
    a.place(unknown);
    let asked = (Direction::Inbound, Answer::Ports, TCP_AGE);
    remember::known(a, family, parts, asked, (labels.replies, decide));
}

fn udp_packet(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    labels: &Labels,
    decide: Label,
) {
    transport_header(a, 8, labels.ways);
    a.load(Width::H, R1, STACK, at::TRANSPORT + 4);
    a.from_network(R1, 16);
    a.jump_if(If::Lt, R1, 8, labels.ways.malformed);
    a.load(Width::H, R2, STACK, at::TRANSPORT + 2);
    traffic_key(a, UDP);
    a.load(Width::W, R1, STACK, at::TRANSPORT);
    if parts.foundations.address_assignment {
        let (server, client): (u16, u16) = match family {
            Family::V4 => (67, 68),
            Family::V6 => (547, 546),
        };
        let (from, to) =
            if way == Direction::Outbound { (client, server) } else { (server, client) };
        let [f0, f1] = from.to_be_bytes();
        let [t0, t1] = to.to_be_bytes();
        let ports = i32::from_ne_bytes([f0, f1, t0, t1]);
        if way == Direction::Outbound {
            a.jump_if(If::Eq, R1, ports, labels.assignment);
        } else {
            // Told only when it is known whether the packet is for this host.
            let other = a.label();
            a.jump_if(If::Ne, R1, ports, other);
            a.store_value(Width::D, STACK, at::ASSIGNS, 1);
            a.place(other);
        }
    }
    let ends = (labels.replies, decide);
    remember::known(a, family, parts, (way, Answer::Ports, UDP_AGE), ends);
}

fn icmp_packet(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    labels: &Labels,
    decide: Label,
) {
    transport_header(a, 8, labels.ways);
    a.load(Width::H, R2, STACK, at::TRANSPORT);
    let protocol = if family == Family::V4 { ICMP } else { ICMPV6 };
    traffic_key(a, protocol);
    a.load(Width::B, R1, STACK, at::TRANSPORT);
    let reply = match family {
        Family::V4 => {
            for kind in [3, 11, 12] {
                a.jump_if(If::Eq, R1, kind, labels.errors);
            }
            0
        }
        Family::V6 => {
            for kind in 1..=4 {
                a.jump_if(If::Eq, R1, kind, labels.errors);
            }
            for kind in (130..=137).chain([143]) {
                a.jump_if(If::Eq, R1, kind, labels.neighbours);
            }
            129
        }
    };
    a.jump_if(If::Ne, R1, reply, decide);
    let ends = (labels.replies, decide);
    remember::known(a, family, parts, (way, Answer::Echo, ECHO_AGE), ends);
}

/// Asks the routing table whether this host would forward the packet; without
/// forwarding it answers at once.
fn transit_or_here(a: &mut Assembler, family: Family, parts: &Parts<'_>, labels: &Labels) {
    const SKIP_NEIGHBOUR: i32 = 4;
    const NOT_FORWARDED: i32 = 4;
    const FORWARDING_OFF: i32 = 5;
    let (here, through) = (a.label(), a.label());
    a.load(Width::W, R1, R6, skb::PACKET_TYPE);
    a.jump_if(If::Ne, R1, 0, here);
    for word in 0..8 {
        a.store_value(Width::D, STACK, at::ROUTE + word * 8, 0);
    }
    let (number, words) = match family {
        Family::V4 => (libc::AF_INET, 1),
        Family::V6 => (libc::AF_INET6, 4),
    };
    a.store_value(Width::B, STACK, at::ROUTE, number);
    a.load(Width::W, R1, R6, skb::INTERFACE);
    a.store(Width::W, STACK, at::ROUTE + 8, R1);
    for (from, to) in [(source_offset(family), 16), (destination_offset(family), 32)] {
        for word in 0..words {
            a.load(Width::W, R1, STACK, at::HEADER + from + word * 4);
            a.store(Width::W, STACK, at::ROUTE + to + word * 4, R1);
        }
    }
    a.copy(R1, R6);
    a.stack(R2, at::ROUTE);
    a.mov(R3, 64);
    a.mov(R4, SKIP_NEIGHBOUR);
    a.call(helper::ROUTE);
    a.op(Op::Lsh, R0, 32); // the helper returns an int
    a.jump_if(If::SLt, R0, 0, here);
    a.op(Op::Rsh, R0, 32);
    a.jump_if(If::Eq, R0, NOT_FORWARDED, here);
    a.jump_if(If::Eq, R0, FORWARDING_OFF, here);
    a.store_value(Width::D, STACK, at::WAY, Direction::Transit as i32);
    if !parts.layout.directed {
        a.jump(labels.transit);
    } else {
        a.jump(through);
    }
    a.place(here);
    if parts.foundations.address_assignment {
        a.load(Width::D, R1, STACK, at::ASSIGNS);
        a.jump_if(If::Ne, R1, 0, labels.assignment);
    }
    a.place(through);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_speaker_has_a_slot_of_its_own() {
        let mut speakers: Vec<Speaker> =
            Foundation::ALL.into_iter().map(Speaker::Foundation).collect();
        speakers.extend([
            Speaker::Nobody,
            Speaker::Unsound,
            Speaker::Standing(Direction::Inbound),
            Speaker::Standing(Direction::Outbound),
            Speaker::Standing(Direction::Transit),
            Speaker::Rule(RuleIndex(0)),
            Speaker::Beyond(RuleIndex(0)),
            Speaker::Rule(RuleIndex(9_999)),
        ]);
        for speaker in &speakers {
            assert_eq!(CounterSlot::of(*speaker).speaker(), Some(*speaker));
        }
        assert_eq!(CounterSlot(CounterSlot::LOST).speaker(), None);
        assert_eq!(CounterSlot::count(3), 22);
    }
}
