//! The outer gate's program: foundations, replies, the first rule, the
//! standing answer. The same shape for every policy; where the tables stand in
//! the blob is written into it as immediates.

use tipstaff_bpf::abi::{hdr_start, helper, packet_type, skb};
use tipstaff_bpf::asm::{
    AssembleError, Assembler, Flag, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, STACK, Width,
};
use tipstaff_bpf::headers::{extension, ipv4, ipv6, vlan};
use tipstaff_bpf::parse::{Ways, destination_offset, family_jumps, ip_header};
use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::TCP;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::Direction;
use tipstaff_core::tables::layout::Verdict;

use crate::kernel::emit::context::{Hook, Labels, Parts, cb, guarded, told, wanted};
use crate::kernel::emit::counters::{CounterSlot, count, outcome};
use crate::kernel::emit::foundations::before_rules;
use crate::kernel::emit::frame::at;
use crate::kernel::emit::marks::{Note, jump_if_noted, write_note};
use crate::kernel::emit::route::own;
use crate::kernel::emit::search::{address_rows, first_rule};
use crate::kernel::emit::slot::into_rehearsal;
use crate::kernel::emit::{events, flows, link, reject};

/// The program of one revision that decides packets: at interfaces, or at the
/// sockets.
///
/// # Errors
/// [`AssembleError`] if the code does not fit together.
pub(crate) fn program(hook: Hook, parts: &Parts<'_>) -> Result<Vec<u8>, AssembleError> {
    let mut a = Assembler::default();
    let finish = a.label();
    let foundations = FoundationLabels::new(&mut a);
    let labels = Labels::new(&mut a, hook, &foundations);
    let (four, six, outwards) = (a.label(), a.label(), a.label());

    a.copy(R6, R1);
    at::LOG.set(&mut a, wanted::NOTHING);
    a.store_imm(Width::W, STACK, at::KEY, 0);
    at::FIRST_FRAGMENT.set(&mut a, 0);
    at::WAY.set(&mut a, Direction::Inbound as u16);
    a.load(Width::W, R2, R6, skb::IFINDEX);
    let not_ours = a.label();
    match hook {
        // The outer gate counts it.
        Hook::Inner => a.jump_if(If::Eq, R2, 1, not_ours),
        _ => a.jump_if(If::Eq, R2, 1, foundations.at(Foundation::Loopback)),
    }
    // What bears the tag of a VLAN is decided on that VLAN's own interface.
    let untagged = a.label();
    a.load(Width::W, R2, R6, skb::VLAN_PRESENT);
    a.jump_if(If::Eq, R2, 0, untagged);
    a.load(Width::W, R2, R6, skb::VLAN_TCI);
    a.jump_if(If::Set, R2, vlan::ID_MASK, not_ours);
    a.place(untagged);
    a.load(Width::W, R2, R6, cb::TOLD);
    if hook == Hook::Inner && !parts.restricts_outbound {
        // The outer gate, which remembers it, will let it out.
        a.jump_if(If::Set, R2, told::EARLY, not_ours);
    }
    a.jump_if(If::Set, R2, told::OUTWARDS, outwards);
    a.load(Width::W, R2, R6, skb::PKT_TYPE);
    a.jump_if(If::Eq, R2, packet_type::OTHERHOST, not_ours);
    family_jumps(&mut a, four, six);
    if hook == Hook::Outer {
        link::not_ip(&mut a, link::Begin::Network, &labels, not_ours);
    }
    a.place(not_ours);
    a.mov(R1, CounterSlot::NOBODY as i32);
    a.store(Width::W, R6, cb::SLOT, R1);
    a.mov(R1, Verdict::ALLOW.into());
    a.store(Width::W, R6, cb::ACTION, R1);
    a.mov(R0, hook.pass());
    a.exit();

    for (label, family) in [(four, Family::V4), (six, Family::V6)] {
        a.place(label);
        if let (Hook::Outer, Family::V6, Some(types)) = (hook, family, parts.types) {
            types.note_forwarding(&mut a, at::FORWARDS);
        }
        events::begin(&mut a, family);
        ip_header(&mut a, family, labels.ways);
        before_rules(&mut a, family, Direction::Inbound, parts, &labels);
        address_rows(&mut a, family, parts, labels.corrupt);
        a.jump(labels.rules);
    }
    a.place(outwards);
    way_out(&mut a, parts, &labels, not_ours);

    if a.is_used(labels.ways.later_fragment) {
        a.place(labels.ways.later_fragment);
        let passes = foundations.at(Foundation::LaterFragments);
        let lone = foundations.at(Foundation::LoneFragments);
        flows::fragment_known(&mut a, parts.flows, passes, lone);
    }

    a.place(labels.rules);
    first_rule(&mut a, hook, parts, labels.corrupt, finish, not_ours);
    outcomes(&mut a, parts, &labels, &foundations, finish);

    a.place(finish);
    // The verifier forgets which outcome it is, or it would go on from here once for each.
    a.load(Width::W, R1, R6, skb::LEN);
    for known in [R7, R8] {
        a.alu64(Op::Xor, known, R1);
        a.alu64(Op::Xor, known, R1);
    }
    count_and_return(&mut a, hook, parts);
    a.finish()
}

/// Where no rule matched: the standing answer of the direction; and whatever else
/// was decided on the way here.
fn outcomes(
    a: &mut Assembler,
    parts: &Parts<'_>,
    labels: &Labels,
    foundations: &FoundationLabels,
    finish: Label,
) {
    if parts.layout.directed {
        at::WAY.load(a, R1);
        a.jump_if(If::Eq, R1, Flag::with(Direction::Transit as u16), labels.transit);
        a.jump_if(If::Eq, R1, Flag::with(Direction::Outbound as u16), labels.outbound);
    }
    let inbound = Speaker::Standing(Direction::Inbound);
    outcome(a, inbound, parts.standing.inbound, finish);
    let transit = Speaker::Standing(Direction::Transit);
    let mut rest = vec![
        (labels.transit, transit, parts.standing.transit),
        (labels.outbound, Speaker::Standing(Direction::Outbound), parts.standing.outbound),
        (labels.corrupt, Speaker::CorruptTables, Action::Deny),
        (labels.stray, transit, Action::Deny),
        (labels.unanswered, inbound, Action::Deny),
    ];
    rest.extend(Foundation::ALL.map(|f| (foundations.at(f), Speaker::Foundation(f), f.action())));
    for (label, speaker, action) in rest {
        // The verifier refuses code that nothing leads to.
        if a.is_used(label) {
            a.place(label);
            outcome(a, speaker, action, finish);
        }
    }
}

/// Where each foundation decides.
struct FoundationLabels([Label; Foundation::ALL.len()]);

impl FoundationLabels {
    fn new(a: &mut Assembler) -> Self {
        Self(std::array::from_fn(|_| a.label()))
    }

    fn at(&self, foundation: Foundation) -> Label {
        self.0[foundation as usize]
    }
}

impl Labels {
    fn new(a: &mut Assembler, hook: Hook, foundations: &FoundationLabels) -> Self {
        Self {
            hook,
            ways: Ways {
                malformed: foundations.at(Foundation::Malformed),
                later_fragment: a.label(),
                loopback: Some(foundations.at(Foundation::Martian)),
            },
            neighbours: foundations.at(Foundation::NeighbourDiscovery),
            errors: foundations.at(Foundation::IcmpErrors),
            elsewhere: foundations.at(Foundation::Martian),
            named: foundations.at(Foundation::LinkProtocols),
            unreadable: foundations.at(Foundation::Unreadable),
            assignment: foundations.at(Foundation::AddressAssignment),
            replies: foundations.at(Foundation::Replies),
            transit: a.label(),
            outbound: a.label(),
            rules: a.label(),
            corrupt: a.label(),
            stray: a.label(),
            unanswered: a.label(),
        }
    }
}

/// What leaves this host. What it only forwards was decided where it came in,
/// and is remembered here.
fn way_out(a: &mut Assembler, parts: &Parts<'_>, labels: &Labels, not_ours: Label) {
    if labels.hook == Hook::Outer {
        let own = a.label();
        a.load(Width::W, R2, R6, skb::INGRESS_IFINDEX);
        a.jump_if(If::Eq, R2, 0, own);
        passing_through(a, parts, labels);
        a.place(own);
    }
    at::WAY.set(a, Direction::Outbound as u16);
    let (four, six) = (a.label(), a.label());
    family_jumps(a, four, six);
    match labels.hook {
        Hook::Outer => link::not_ip(a, link::Begin::Link, labels, not_ours),
        _ => a.jump(not_ours),
    }
    for (label, family) in [(four, Family::V4), (six, Family::V6)] {
        a.place(label);
        events::begin(a, family);
        at::WAY.set(a, Direction::Outbound as u16);
        ip_header(a, family, labels.ways);
        before_rules(a, family, Direction::Outbound, parts, labels);
        if parts.layout.directed {
            address_rows(a, family, parts, labels.corrupt);
            a.jump(labels.rules);
        } else {
            a.jump(labels.outbound);
        }
    }
}

/// A packet that this host forwards, on its way out. What was decided where it
/// came in says so by its note: let through, or part of a known flow, or let in
/// to an own address, which may be translated since. Nothing else leaves where
/// anything is kept from passing through: what was decided as for this host
/// alone, and what came in where nobody decided.
fn passing_through(a: &mut Assembler, parts: &Parts<'_>, labels: &Labels) {
    let (opens, replies, pass) = (a.label(), a.label(), a.label());
    let (own, unnoted, stray) = (a.label(), a.label(), a.label());
    a.store(Width::W, STACK, at::SLOT, R2);
    let noted = a.label();
    a.load(Width::W, R1, R6, cb::TOLD);
    a.copy(R2, R1);
    a.load(Width::W, R1, R6, cb::ASKED_NOTE);
    a.jump_if(If::Set, R2, told::NOTED, noted);
    a.load(Width::W, R1, R6, skb::TC_INDEX);
    a.place(noted);
    for (note, to) in
        [(Note::Through, opens), (Note::Reply, replies), (Note::Own, own), (Note::Inbound, stray)]
    {
        a.jump_if(If::Eq, R1, parts.marks.note(note), to);
    }

    a.place(unnoted);
    if parts.restricts_transit {
        // Where other programs take notes off (a filter of the old kind, at the ingress),
        // the interface must do.
        a.map(R1, parts.guarded);
        a.stack(R2, at::SLOT);
        a.call(helper::MAP_LOOKUP_ELEM);
        a.jump_if(If::Eq, R0, 0, stray);
        a.load(Width::W, R1, R0, 0);
        a.jump_if(If::Set, R1, guarded::NOTES_ARE_LOST, opens);
        a.jump(stray);
    } else {
        a.jump(opens);
    }

    a.place(own);
    if parts.restricts_transit {
        // A source route is no translation of addresses.
        let (four, six) = (a.label(), a.label());
        family_jumps(a, four, six);
        a.jump(pass);
        for (label, offset, length) in [(four, ipv4::VERSION_IHL, 1), (six, ipv6::NEXT_HEADER, 1)] {
            a.place(label);
            load_network(a, offset.into(), at::TRANSPORT, length, stray);
            a.load(Width::B, R1, STACK, at::TRANSPORT);
            if label == four {
                a.jump_if(If::Ne, R1, ipv4::PLAIN, stray);
            } else {
                a.jump_if(If::Eq, R1, extension::ROUTING, stray);
            }
            a.jump(opens);
        }
    } else {
        a.jump(opens);
    }

    a.place(stray);
    if parts.restricts_transit {
        let (four, six) = (a.label(), a.label());
        family_jumps(a, four, six);
        a.jump(pass);
        for (label, family) in [(four, Family::V4), (six, Family::V6)] {
            a.place(label);
            events::begin(a, family);
            at::WAY.set(a, Direction::Transit as u16);
            ip_header(a, family, Ways { later_fragment: labels.stray, ..labels.ways });
            a.jump(labels.stray);
        }
    } else {
        a.jump(opens);
    }

    let reply_of = [(Family::V4, a.label()), (Family::V6, a.label())];
    a.place(replies);
    family_jumps(a, reply_of[0].1, reply_of[1].1);
    a.jump(pass);
    a.place(opens);
    let (four, six) = (a.label(), a.label());
    family_jumps(a, four, six);
    a.jump(pass);
    for ((label, family), (_, reply)) in
        [(four, Family::V4), (six, Family::V6)].into_iter().zip(reply_of)
    {
        a.place(label);
        flows::forwarded(a, family, parts.flows, Some(reply), pass);
    }
    a.place(pass);
    let_pass(a, labels.hook, parts);
}

/// Ends by letting the packet pass; what is rehearsed sees what is in force lets through.
fn let_pass(a: &mut Assembler, hook: Hook, parts: &Parts<'_>) {
    if let (Hook::Outer, Some(rehearsed)) = (hook, parts.rehearsed) {
        let plain = a.label();
        a.load(Width::W, R1, R6, cb::TOLD);
        a.jump_if(If::Set, R1, told::ASKED | told::KNOCK, plain);
        into_rehearsal(a, rehearsed);
        a.place(plain);
    }
    a.mov(R0, hook.pass());
    a.exit();
}

/// Copies bytes from the network header on to the stack.
fn load_network(a: &mut Assembler, offset: i32, to: i16, length: i32, otherwise: Label) {
    a.copy(R1, R6);
    a.mov(R2, offset);
    a.stack(R3, to);
    a.mov(R4, length);
    a.mov(R5, hdr_start::NET);
    a.call(helper::SKB_LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, otherwise);
}

/// r7 the slot, r8 the action as [`Verdict`] has it.
fn count_and_return(a: &mut Assembler, hook: Hook, parts: &Parts<'_>) {
    let (done, pass, silent, counted) = (a.label(), a.label(), a.label(), a.label());
    if hook == Hook::Inner {
        // The outer gate counts, and answers, what is not stopped here.
        let whole = a.label();
        a.load(Width::W, R1, R6, cb::TOLD);
        a.jump_if(If::Set, R1, told::EARLY, whole);
        let on = a.label();
        a.jump(on);
        a.place(whole);
        a.jump_if(If::Ne, R8, u16::from(Verdict::DENY), pass);
        a.place(on);
    }
    if parts.is_rehearsal() {
        // What was decided stands there; only who asks this very program reads it.
        let other = a.label();
        a.load(Width::W, R1, R6, cb::TOLD);
        a.jump_if(If::Set, R1, told::ASKED, other);
        a.jump(counted);
        a.place(other);
    }
    a.store(Width::W, R6, cb::SLOT, R7);
    a.store(Width::W, R6, cb::ACTION, R8);
    a.load(Width::W, R1, R6, cb::TOLD);
    a.jump_if(If::Set, R1, told::ASKED, done);
    a.place(counted);
    let untold = a.label();
    a.load(Width::W, R1, R6, cb::TOLD);
    a.jump_if(If::Set, R1, told::KNOCK, untold);
    count(a, hook, parts, done);
    if parts.records {
        events::record(a, hook, parts);
    }
    a.place(untold);
    if parts.is_rehearsal() {
        // It passes here, so what follows it is known as if it had been let through: its
        // answers are not asked about again.
        a.mov(R8, Verdict::ALLOW.into());
    }
    flows::passed(a, parts);
    if hook == Hook::Outer {
        note(a, parts);
    }
    a.place(done);
    if parts.is_rehearsal() {
        let_pass(a, hook, parts);
        return;
    }
    a.jump_if(If::Eq, R8, u16::from(Verdict::ALLOW), pass);
    if hook == Hook::Outer && (parts.refuses || parts.restricts_outbound) {
        // A question changes nothing.
        a.load(Width::W, R1, R6, cb::TOLD);
        a.jump_if(If::Set, R1, told::ASKED, silent);
        let answer = a.label();
        a.jump_if(If::Eq, R8, u16::from(Verdict::REFUSE), answer);
        // Silence is for strangers: a program of this host that connects is told at once.
        at::WAY.load(a, R1);
        a.jump_if(If::Ne, R1, Flag::with(Direction::Outbound as u16), silent);
        a.load(Width::W, R1, STACK, at::KEY);
        a.alu64_imm(Op::Rsh, R1, 16);
        a.jump_if(If::Ne, R1, u16::from(TCP), silent);
        a.load(Width::D, R1, R6, skb::SK);
        a.jump_if(If::Eq, R1, 0, silent);
        a.place(answer);
        reject::answer(a, parts, silent);
    }
    a.place(silent);
    a.mov(R0, hook.stop());
    a.exit();
    a.place(pass);
    let_pass(a, hook, parts);
}

/// Notes on a packet that passes how it was decided, for where it leaves. r7
/// is the slot; r0 to r5 are lost.
fn note(a: &mut Assembler, parts: &Parts<'_>) {
    let (done, reply, out, through, inbound) =
        (a.label(), a.label(), a.label(), a.label(), a.label());
    a.jump_if(If::Ne, R8, u16::from(Verdict::ALLOW), done);
    if parts.is_rehearsal() {
        // What is in force has noted it, where anything is.
        for note in [Note::Inbound, Note::Own, Note::Through, Note::Reply, Note::Out] {
            jump_if_noted(a, parts.marks, note, done);
        }
    }
    at::WAY.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(Direction::Outbound as u16), out);
    for foundation in [Foundation::Replies, Foundation::IcmpErrors, Foundation::LaterFragments] {
        a.jump_if(If::Eq, R7, foundation as u16, reply);
    }
    a.jump_if(If::Eq, R1, Flag::with(Direction::Transit as u16), through);
    // Nothing else that foundations let pass is ever forwarded.
    a.jump_if(If::Lt, R7, CounterSlot::FOUNDATIONS as u16, inbound);
    if parts.restricts_transit {
        let (owned, four, checked) = (a.label(), a.label(), a.label());
        at::FAMILY.load(a, R1);
        a.jump_if(If::Eq, R1, Flag::with(4), four);
        own(a, Family::V6, destination_offset(Family::V6), parts, owned);
        a.jump(checked);
        a.place(four);
        own(a, Family::V4, destination_offset(Family::V4), parts, owned);
        a.place(checked);
        a.jump(inbound);
        a.place(owned);
    }
    write_note(a, parts.marks, Some(Note::Own));
    a.jump(done);
    for (label, note) in
        [(reply, Note::Reply), (out, Note::Out), (through, Note::Through), (inbound, Note::Inbound)]
    {
        a.place(label);
        write_note(a, parts.marks, Some(note));
        a.jump(done);
    }
    a.place(done);
}
