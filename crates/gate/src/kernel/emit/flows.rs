//! The memory of flows in the kernel, as [`tipstaff_core::decision::flows`] has it: what
//! this host opened (answered, and not answered yet), what it let in, and the
//! first fragments that passed.

use std::os::fd::BorrowedFd;
use std::time::Duration;

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{
    Assembler, Flag, If, IfSigned, Label, Op, R0, R1, R2, R3, R4, R6, R7, R8, R9, STACK, Width,
};
use tipstaff_bpf::headers::{icmp as icmp_header, tcp as tcp_header};
use tipstaff_bpf::parse::{
    Ways, address_bytes, destination_offset, ip_header, load, source_offset, transport_header,
};
use tipstaff_core::decision::flows::{ECHO_AGE, FRAGMENT_AGE, TCP_AGE, UDP_AGE};
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::packet::{Direction, TcpFlags};
use tipstaff_core::tables::layout::Verdict;

use crate::kernel::emit::context::{FlowTable, Parts, cb, told};
use crate::kernel::emit::counters::{CounterSlot, count_exchange};
use crate::kernel::emit::flow_key::{
    Answer, addresses, begin, by_family, fragment_key, key, ports,
};
use crate::kernel::emit::frame::{at, flow, flow_value};
use crate::kernel::emit::shares::{self, Whose};

/// r0 = the value of the key on the stack, or 0.
fn look_up(a: &mut Assembler, map: BorrowedFd<'_>) {
    a.map(R1, map);
    a.stack(R2, at::FLOW);
    a.call(helper::MAP_LOOKUP_ELEM);
}

/// Goes to `test_run` when this is a question that must change nothing.
fn jump_if_asked(a: &mut Assembler, test_run: Label) {
    a.load(Width::W, R1, R6, cb::TOLD);
    a.jump_if(If::Set, R1, told::ASKED, test_run);
}

/// r0 = now; goes to `old` when the value at r7 is older than `age`. r1 is lost.
fn age(a: &mut Assembler, age: Duration, old: Label) {
    a.call(helper::KTIME_GET_NS);
    a.load(Width::D, R1, R7, flow_value::TIME);
    a.copy(R2, R0);
    a.alu64(Op::Sub, R2, R1);
    a.ld_imm64(R1, age.as_nanos() as u64);
    a.jump_if_reg_signed(IfSigned::Gt, R2, R1, old);
}

/// Whose stamps matter.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stamped {
    /// An open connection goes on, whatever list it was made under.
    No,
    Yes,
}

/// What a flow that this side opened must be, and where the packet goes then.
struct Opened {
    /// How long ago its last packet may have been.
    longest: Duration,
    stamped: Stamped,
    /// Where it was answered.
    answered: Label,
    /// Where it was not yet.
    unanswered: Label,
}

impl Opened {
    /// Answered or not yet, it goes the same way.
    fn alike(longest: Duration, stamped: Stamped, known: Label) -> Self {
        Self { longest, stamped, answered: known, unanswered: known }
    }
}

/// Looks the key on the stack up among the flows that this side opened. Goes
/// on with its value in r7 and the time in r0; else to `none`.
fn opened(a: &mut Assembler, table: FlowTable<'_>, wanted: &Opened, none: Label) {
    let second = a.label();
    look_up(a, table.maps.answered);
    a.jump_if(If::Eq, R0, 0, second);
    found(a, table, wanted, none);
    a.jump(wanted.answered);
    a.place(second);
    look_up(a, table.maps.unanswered);
    a.jump_if(If::Eq, R0, 0, none);
    found(a, table, wanted, none);
    a.jump(wanted.unanswered);
}

fn found(a: &mut Assembler, table: FlowTable<'_>, wanted: &Opened, none: Label) {
    a.copy(R7, R0);
    if wanted.stamped == Stamped::Yes {
        a.load(Width::W, R1, R7, flow_value::STAMP);
        a.jump32_if(If::Ne, R1, table.stamps.opened, none);
    }
    age(a, wanted.longest, none);
}

/// Goes to `replies` when a packet on its way in, of the protocol in r9,
/// answers a flow that this side opened; else to `decide`. r0 to r5 and r7 are lost.
pub(crate) fn find_answered(
    a: &mut Assembler,
    family: Family,
    table: FlowTable<'_>,
    answer: Answer,
    replies: Label,
    decide: Label,
) {
    key(a, family, Direction::Inbound, answer);
    let (answered, unanswered, note) = (a.label(), a.label(), a.label());
    let connection = answer == Answer::Connection;
    let stamped = if connection { Stamped::No } else { Stamped::Yes };
    let wanted = Opened { longest: answer.age(), stamped, answered, unanswered };
    opened(a, table, &wanted, decide);
    a.place(answered);
    if connection {
        // The opener, or who answers it, goes on.
        a.jump_if(If::Set, R8, TcpFlags::SYN.into(), replies);
        jump_if_asked(a, replies);
        a.store(Width::D, R7, flow_value::TIME, R0);
    }
    a.jump(replies);
    a.place(unanswered);
    jump_if_asked(a, replies);
    if connection {
        // A SYN-ACK alone is no answered connection: that needs its third step.
        a.jump_if(If::Set, R8, TcpFlags::SYN.into(), note);
        a.store(Width::D, STACK, at::NOW, R0);
        put(a, table.maps.answered, table.stamps.opened, true);
        a.jump(replies);
    }
    a.place(note);
    a.mov(R1, 1);
    a.store(Width::W, R7, flow_value::ANSWERED, R1);
    a.jump(replies);
}

/// Goes to `replies` when a packet on its way out, of the protocol in r9,
/// answers what was let in under this list; else to `decide`, having noted
/// that it answers where it was let in under another one. r0 to r5 and r7 are lost.
pub(crate) fn answers(
    a: &mut Assembler,
    family: Family,
    table: FlowTable<'_>,
    answer: Answer,
    replies: Label,
    decide: Label,
) {
    key(a, family, Direction::Outbound, answer);
    look_up(a, table.maps.let_in);
    a.jump_if(If::Eq, R0, 0, decide);
    a.copy(R7, R0);
    age(a, answer.age(), decide);
    at::ANSWERS.set(a, 1);
    a.load(Width::W, R1, R7, flow_value::STAMP);
    a.jump32_if(If::Ne, R1, table.stamps.let_in, decide);
    jump_if_asked(a, replies);
    a.store(Width::D, R7, flow_value::TIME, R0);
    a.jump(replies);
}

/// Goes to `passes` when the first fragment of this one's packet was let pass,
/// else to `lone`. The family stands on the stack; r0 to r5 and r7 are lost.
pub(crate) fn fragment_known(a: &mut Assembler, table: FlowTable<'_>, passes: Label, lone: Label) {
    fragment_key(a);
    look_up(a, table.maps.fragments);
    a.jump_if(If::Eq, R0, 0, lone);
    a.copy(R7, R0);
    age(a, FRAGMENT_AGE, lone);
    a.jump(passes);
}

/// Goes to `known` when the packet that an ICMP error quotes belongs to a flow
/// that this host forwards; else falls through. r7 is where the error's header
/// begins; r0 to r5, r7 and r8 are lost.
pub(crate) fn quoted(a: &mut Assembler, family: Family, table: FlowTable<'_>, known: Label) {
    const TRANSPORT: i16 = at::QUOTE + 40;
    let (header, icmp, request, protocol) = match family {
        Family::V4 => (20, ICMP, 8, 9),
        Family::V6 => (40, ICMPV6, 128, 6),
    };
    let unknown = a.label();
    a.copy(R8, R7);
    a.alu64_imm(Op::Add, R8, 8);
    load(a, Some(R8), at::QUOTE, header, unknown);
    match family {
        Family::V4 => {
            a.load(Width::B, R1, STACK, at::QUOTE);
            a.alu64_imm(Op::And, R1, 15);
            a.alu64_imm(Op::Lsh, R1, 2);
            a.alu64(Op::Add, R8, R1);
        }
        Family::V6 => a.alu64_imm(Op::Add, R8, 40),
    }
    load(a, Some(R8), TRANSPORT, 8, unknown);
    a.load(Width::B, R9, STACK, at::QUOTE + protocol);
    let (source, destination) = (source_offset(family), destination_offset(family));
    let quote = at::QUOTE - at::HEADER;
    // The flow that the quoted packet opened, and the one that it answered.
    for (remote, local, from, to) in [(destination, source, 2, 0), (source, destination, 0, 2)] {
        let (with_ports, echo, bare) = (a.label(), a.label(), a.label());
        begin(a);
        a.store(Width::B, STACK, at::FLOW + flow::PROTOCOL, R9);
        for (offset, place) in [(remote, flow::REMOTE), (local, flow::LOCAL)] {
            address_bytes(a, family, quote + offset, at::FLOW + place);
        }
        let other = a.label();
        a.jump_if(If::Eq, R9, TCP.into(), with_ports);
        a.jump_if(If::Eq, R9, UDP.into(), with_ports);
        a.jump_if(If::Eq, R9, icmp.into(), echo);
        a.jump(bare);
        a.place(with_ports);
        for (at_quote, to_flow) in [(from, flow::REMOTE_PORT), (to, flow::LOCAL_PORT)] {
            a.load(Width::H, R1, STACK, TRANSPORT + at_quote);
            a.store(Width::H, STACK, at::FLOW + to_flow, R1);
        }
        a.jump_if(If::Ne, R9, TCP.into(), bare);
        opened(a, table, &Opened::alike(TCP_AGE, Stamped::No, known), other);
        a.place(echo);
        let message = a.label();
        a.load(Width::B, R1, STACK, TRANSPORT);
        a.jump_if(If::Ne, R1, request, message);
        a.load(Width::H, R1, STACK, TRANSPORT + icmp_header::IDENTIFIER);
        a.store(Width::H, STACK, at::FLOW + flow::REMOTE_PORT, R1);
        a.place(message);
        opened(a, table, &Opened::alike(ECHO_AGE, Stamped::Yes, known), other);
        a.place(bare);
        opened(a, table, &Opened::alike(UDP_AGE, Stamped::Yes, known), other);
        a.place(other);
    }
    a.place(unknown);
}

/// Takes note of a packet that passes; r7 is the counter's slot, r8 the
/// action. r0 to r5 are lost.
pub(crate) fn passed(a: &mut Assembler, parts: &Parts<'_>) {
    let (inwards, outwards, done) = (a.label(), a.label(), a.label());
    a.jump_if(If::Ne, R8, Verdict::ALLOW.into(), done);
    // Nothing was read of what foundations took for whole.
    a.load(Width::W, R1, STACK, at::KEY);
    a.jump_if(If::Eq, R1, 0, done);
    first_fragment(a, parts.flows);
    // What belongs to a flow opens none.
    a.jump_if(If::Eq, R7, CounterSlot::REPLIES, done);
    at::WAY.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(Direction::Outbound as u16), outwards);
    a.jump_if(If::Eq, R1, Flag::with(Direction::Inbound as u16), inwards);
    a.jump(done);
    a.place(outwards);
    at::ANSWERS.load(a, R1);
    a.jump_if(If::Ne, R1, Flag::with(0), done);
    passed_this_way(a, parts, Direction::Outbound, done);
    a.place(inwards);
    passed_this_way(a, parts, Direction::Inbound, done);
    a.place(done);
}

/// Takes note of the first of several fragments.
fn first_fragment(a: &mut Assembler, table: FlowTable<'_>) {
    let whole = a.label();
    at::FIRST_FRAGMENT.load(a, R1);
    a.jump_if(If::Ne, R1, Flag::with(1), whole);
    fragment_key(a);
    a.call(helper::KTIME_GET_NS);
    a.store(Width::D, STACK, at::NOW, R0);
    put(a, table.maps.fragments, 0, false);
    a.place(whole);
}

fn passed_this_way(a: &mut Assembler, parts: &Parts<'_>, way: Direction, done: Label) {
    let (table, counters) = (parts.flows, parts.counters);
    let (udp, icmp, icmp_six, note) = (a.label(), a.label(), a.label(), a.label());
    begin(a);
    a.load(Width::W, R2, STACK, at::KEY);
    a.alu64_imm(Op::Rsh, R2, 16);
    a.alu64_imm(Op::And, R2, 0xff);
    // Of this host's connections the sockets know.
    a.jump_if(If::Eq, R2, TCP.into(), done);
    a.store(Width::B, STACK, at::FLOW + flow::PROTOCOL, R2);
    a.jump_if(If::Eq, R2, UDP.into(), udp);
    // In the other family it is a protocol like any other.
    at::FAMILY.load(a, R3);
    let (other_six, other_four) = (a.label(), a.label());
    a.jump_if(If::Eq, R3, Flag::with(6), other_six);
    a.jump_if(If::Eq, R2, ICMP.into(), icmp);
    a.jump(note);
    a.place(other_six);
    a.jump_if(If::Eq, R2, ICMPV6.into(), icmp_six);
    a.place(other_four);
    a.jump(note);
    a.place(udp);
    ports(a, way);
    a.jump(note);
    let echo = a.label();
    for (label, request) in [(icmp, 8), (icmp_six, 128)] {
        a.place(label);
        a.load(Width::B, R1, STACK, at::TRANSPORT);
        a.jump_if(If::Eq, R1, request, echo);
        a.jump(done);
    }
    a.place(echo);
    a.load(Width::H, R1, STACK, at::TRANSPORT + icmp_header::IDENTIFIER);
    a.store(Width::H, STACK, at::FLOW + flow::REMOTE_PORT, R1);

    a.place(note);
    by_family(a, |a, family| addresses(a, family, way));
    if way == Direction::Outbound {
        open(a, table, Begins::Here(counters), done);
    } else {
        renew_or_put(a, table.maps.let_in, table.stamps.let_in, (counters, done));
    }
}

/// Who opens a flow.
#[derive(Clone, Copy)]
enum Begins<'m> {
    /// This host, which counts it.
    Here(BorrowedFd<'m>),
    /// Who sends what is forwarded, of a family: it has a share of the memory, and was counted
    /// where it came in.
    Forwarded(Family),
}

/// Notes that this side opens the flow on the stack, or goes on in it; goes to
/// `done`.
fn open(a: &mut Assembler, table: FlowTable<'_>, begins: Begins<'_>, done: Label) {
    let (second, insert, renew, goes_on) = (a.label(), a.label(), a.label(), a.label());
    let stamp = table.stamps.opened;
    a.call(helper::KTIME_GET_NS);
    a.store(Width::D, STACK, at::NOW, R0);
    look_up(a, table.maps.answered);
    a.jump_if(If::Eq, R0, 0, second);
    a.jump(renew);
    a.place(second);
    look_up(a, table.maps.unanswered);
    a.jump_if(If::Eq, R0, 0, insert);
    // Of connections their answers tell when they are open.
    a.load(Width::B, R1, STACK, at::FLOW + flow::PROTOCOL);
    a.jump_if(If::Eq, R1, TCP.into(), renew);
    a.load(Width::W, R1, R0, flow_value::ANSWERED);
    a.jump_if(If::Ne, R1, 0, goes_on);
    a.place(renew);
    // Renewing in place is several times cheaper than inserting anew.
    a.load(Width::D, R1, STACK, at::NOW);
    a.store(Width::D, R0, flow_value::TIME, R1);
    a.mov(R1, stamp as i32);
    a.store(Width::W, R0, flow_value::STAMP, R1);
    a.jump(done);
    a.place(goes_on);
    put(a, table.maps.answered, stamp, true);
    a.jump(done);
    a.place(insert);
    if let Begins::Forwarded(family) = begins {
        shares::take(a, table.shares, Whose::Sender(family), at::FLOW + flow::LOCAL, done);
    }
    put(a, table.maps.unanswered, stamp, false);
    if let Begins::Here(counters) = begins {
        count_exchange(a, counters);
    }
    a.jump(done);
}

fn renew_or_put(
    a: &mut Assembler,
    map: BorrowedFd<'_>,
    stamp: u32,
    (counters, done): (BorrowedFd<'_>, Label),
) {
    let insert = a.label();
    a.call(helper::KTIME_GET_NS);
    a.store(Width::D, STACK, at::NOW, R0);
    look_up(a, map);
    a.jump_if(If::Eq, R0, 0, insert);
    a.load(Width::D, R1, STACK, at::NOW);
    a.store(Width::D, R0, flow_value::TIME, R1);
    a.mov(R1, stamp as i32);
    a.store(Width::W, R0, flow_value::STAMP, R1);
    a.jump(done);
    a.place(insert);
    put(a, map, stamp, false);
    count_exchange(a, counters);
    a.jump(done);
}

/// Writes an entry for the key on the stack with the time on the stack. r0 to
/// r5 are lost.
fn put(a: &mut Assembler, map: BorrowedFd<'_>, stamp: u32, answered: bool) {
    a.load(Width::D, R1, STACK, at::NOW);
    a.store(Width::D, STACK, at::FLOW_VALUE + flow_value::TIME, R1);
    a.store_imm(Width::W, STACK, at::FLOW_VALUE + flow_value::STAMP, stamp as i32);
    a.store_imm(Width::W, STACK, at::FLOW_VALUE + flow_value::ANSWERED, answered.into());
    a.map(R1, map);
    a.stack(R2, at::FLOW);
    a.stack(R3, at::FLOW_VALUE);
    a.mov(R4, 0);
    a.call(helper::MAP_UPDATE_ELEM);
}

/// Takes note of a packet on its way out that this host only forwards, and
/// goes to `pass`. At `reply` it begins for one that belongs to a known flow:
/// of those only connections are noted.
pub(crate) fn forwarded(
    a: &mut Assembler,
    family: Family,
    table: FlowTable<'_>,
    reply: Option<Label>,
    pass: Label,
) {
    let ways = Ways { malformed: pass, later_fragment: pass, loopback: None };
    let (icmp_number, request) = match family {
        Family::V4 => (ICMP, 8),
        Family::V6 => (ICMPV6, 128),
    };
    let (tcp, udp, echo, with_ports, note) =
        (a.label(), a.label(), a.label(), a.label(), a.label());
    let start = |a: &mut Assembler| {
        ip_header(a, family, ways);
        begin(a);
        a.store(Width::B, STACK, at::FLOW + flow::PROTOCOL, R9);
        a.jump_if(If::Eq, R9, TCP.into(), tcp);
    };
    start(a);
    a.jump_if(If::Eq, R9, UDP.into(), udp);
    a.jump_if(If::Eq, R9, icmp_number.into(), echo);
    a.jump(note);
    if let Some(reply) = reply {
        a.place(reply);
        start(a);
        a.jump(pass);
    }
    a.place(tcp);
    transport_header(a, 20, ways);
    a.load(Width::B, R1, STACK, at::TRANSPORT + tcp_header::FLAGS);
    a.jump_if(If::Set, R1, TcpFlags::RST.into(), pass);
    a.jump(with_ports);
    a.place(udp);
    transport_header(a, 8, ways);
    a.place(with_ports);
    ports(a, Direction::Outbound);
    a.jump(note);
    a.place(echo);
    transport_header(a, 8, ways);
    a.load(Width::B, R1, STACK, at::TRANSPORT);
    a.jump_if(If::Ne, R1, request, pass);
    a.load(Width::H, R1, STACK, at::TRANSPORT + icmp_header::IDENTIFIER);
    a.store(Width::H, STACK, at::FLOW + flow::REMOTE_PORT, R1);
    a.place(note);
    addresses(a, family, Direction::Outbound);
    open(a, table, Begins::Forwarded(family), pass);
}
