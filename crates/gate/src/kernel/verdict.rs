//! The outer gate's program: foundations, replies, the first rule, the
//! standing answer. The same shape for every policy; where the tables stand in
//! the blob is written into it as immediates.

use std::net::IpAddr;
use std::os::fd::BorrowedFd;

use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decide::Speaker;
use tipstaff_core::foundations::Foundation;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::TCP;
use tipstaff_core::orders::{Action, FoundationSwitches, Standing};
use tipstaff_core::packet::Direction;
use tipstaff_core::tables::layout::{Layout, Verdict};

use super::assembler::{Assembler, If, Label, Misfit, Op, R0, R1, R2, R6, R7, R8, STACK, Width};
use super::before::before_rules;
use super::hooks::{EARLY, Hook, OUTWARDS};
use super::reading::{Ways, at, family_jumps, helper, ip_header, skb};
use super::rows::{address_rows, first_rule};
use super::{events, refuse, remember};

/// tcx: let the next program decide, and the stack after it.
pub(super) const NEXT: i32 = -1;
/// tcx: drop.
pub(super) const DROP: i32 = 2;
/// A packet with this mark is not counted. Test runs set it; nothing that
/// arrives on a wire has a mark yet.
pub const UNCOUNTED: u32 = 0x7469_7073;
/// A packet with this mark is a knock of the reach check: decided and answered
/// like any other, but neither counted nor recorded, and no rate is taken from.
pub const KNOCK: u32 = 0x7469_706b;

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
    /// The labels of the sockets; `None` on kernels that do not describe
    /// themselves.
    pub labels: Option<BorrowedFd<'m>>,
    /// The numbers of the programs that rules name.
    pub programs: BorrowedFd<'m>,
    /// This host's own addresses, by their 16 bytes.
    pub own: BorrowedFd<'m>,
    /// The same, sorted.
    pub own_addresses: &'m [IpAddr],
    /// Whether programs are told by their files.
    pub program_exact: bool,
    /// The interfaces that have an outer gate.
    pub guarded: BorrowedFd<'m>,
    /// Whether anything may be kept from passing through.
    pub restricts_transit: bool,
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

/// The program of one revision that decides packets: at interfaces, or at the
/// sockets.
///
/// # Errors
/// [`Misfit`] if the code does not fit together.
pub(super) fn program(hook: Hook, parts: &Parts<'_>) -> Result<Vec<u8>, Misfit> {
    let mut a = Assembler::default();
    let finish = a.label();
    let foundations = Foundation::ALL.map(|f| (f, a.label()));
    let foundation = |wanted: Foundation| foundations[wanted as usize].1;
    let labels = Labels {
        hook,
        ways: Ways {
            malformed: foundation(Foundation::Malformed),
            later_fragment: foundation(Foundation::LaterFragments),
            loopback: Some(foundation(Foundation::LoopbackElsewhere)),
        },
        neighbours: foundation(Foundation::NeighbourDiscovery),
        errors: foundation(Foundation::IcmpErrors),
        elsewhere: foundation(Foundation::LoopbackElsewhere),
        assignment: foundation(Foundation::AddressAssignment),
        replies: foundation(Foundation::Replies),
        transit: a.label(),
        outbound: a.label(),
        rules: a.label(),
        unsound: a.label(),
        stray: a.label(),
    };
    let (four, six, outwards) = (a.label(), a.label(), a.label());

    a.copy(R6, R1);
    a.store_value(Width::D, STACK, at::LOG, events::wanted::NOTHING);
    a.store_value(Width::W, STACK, at::KEY, 0);
    a.load(Width::W, R2, R6, skb::INTERFACE);
    let not_ours = a.label();
    match hook {
        // The outer gate counts it.
        Hook::Inner => a.jump_if(If::Eq, R2, 1, not_ours),
        _ => a.jump_if(If::Eq, R2, 1, foundation(Foundation::Loopback)),
    }
    // What bears the tag of a VLAN is decided on that VLAN's own interface.
    a.load(Width::W, R2, R6, skb::TAG);
    a.jump_if(If::Set, R2, 0xfff, not_ours);
    a.load(Width::W, R2, R6, skb::OUTWARDS);
    a.jump_if(If::Set, R2, OUTWARDS, outwards);
    a.load(Width::W, R2, R6, skb::PACKET_TYPE);
    a.jump_if(If::Eq, R2, 3, not_ours);
    family_jumps(&mut a, four, six);
    a.place(not_ours);
    a.store_value(Width::W, R6, skb::NOTES, CounterSlot::NOBODY as i32);
    a.store_value(Width::W, R6, skb::NOTES + 4, i32::from(Verdict::ALLOW));
    a.mov(R0, hook.pass());
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
    first_rule(&mut a, (hook, parts), labels.unsound, finish, not_ours);
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
        (labels.stray, transit, Action::Deny),
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
    count_and_return(&mut a, hook, parts);
    a.finish()
}

/// What leaves this host. What it only forwards was decided where it came in,
/// and is remembered here.
fn way_out(a: &mut Assembler, parts: &Parts<'_>, labels: &Labels, not_ours: Label) {
    if labels.hook == Hook::Outer {
        let own = a.label();
        a.load(Width::W, R2, R6, skb::CAME_FROM);
        a.jump_if(If::Eq, R2, 0, own);
        passing_through(a, parts, labels);
        a.place(own);
    }
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

/// A packet that this host forwards, on its way out.
fn passing_through(a: &mut Assembler, parts: &Parts<'_>, labels: &Labels) {
    let (four, six, pass) = (a.label(), a.label(), a.label());
    let families = [(four, Family::V4), (six, Family::V6)];
    if parts.restricts_transit {
        // Where no outer gate stood, nobody has decided it.
        let decided = a.label();
        a.store(Width::W, STACK, at::SLOT, R2);
        a.map(R1, parts.guarded);
        a.stack(R2, at::SLOT);
        a.call(helper::MAP_LOOKUP);
        a.jump_if(If::Ne, R0, 0, decided);
        let (four, six) = (a.label(), a.label());
        family_jumps(a, four, six);
        a.jump(pass);
        for (label, family) in [(four, Family::V4), (six, Family::V6)] {
            a.place(label);
            events::begin(a, family);
            a.store_value(Width::D, STACK, at::WAY, Direction::Transit as i32);
            ip_header(a, family, labels.ways);
            a.jump(labels.stray);
        }
        a.place(decided);
    }
    family_jumps(a, four, six);
    a.jump(pass);
    for (label, family) in families {
        a.place(label);
        remember::forwarded(a, family, parts, pass);
    }
    a.place(pass);
    a.mov(R0, NEXT);
    a.exit();
}

/// Where the packet goes from here.
pub(super) struct Labels {
    pub(super) hook: Hook,
    pub(super) ways: Ways,
    pub(super) neighbours: Label,
    pub(super) errors: Label,
    pub(super) elsewhere: Label,
    pub(super) assignment: Label,
    pub(super) replies: Label,
    pub(super) transit: Label,
    outbound: Label,
    rules: Label,
    unsound: Label,
    stray: Label,
}

pub(super) fn outcome(a: &mut Assembler, speaker: Speaker, action: Action, finish: Label) {
    if matches!(speaker, Speaker::Standing(_)) && action != Action::Allow {
        a.store_value(Width::D, STACK, at::LOG, events::wanted::SAMPLE);
    }
    a.mov(R7, CounterSlot::of(speaker).0 as i32);
    a.mov(R8, i32::from(Verdict::said(action)));
    a.jump(finish);
}

/// r7 the slot, r8 the action as [`Verdict`] has it.
fn count_and_return(a: &mut Assembler, hook: Hook, parts: &Parts<'_>) {
    let (done, pass, silent) = (a.label(), a.label(), a.label());
    if hook == Hook::Inner {
        // The outer gate counts, and answers, what is not stopped here.
        let whole = a.label();
        a.load(Width::W, R1, R6, skb::OUTWARDS);
        a.jump_if(If::Set, R1, EARLY, whole);
        let on = a.label();
        a.jump(on);
        a.place(whole);
        a.jump_if(If::Ne, R8, i32::from(Verdict::DENY), pass);
        a.place(on);
    }
    a.store(Width::W, R6, skb::NOTES, R7);
    a.store(Width::W, R6, skb::NOTES + 4, R8);
    a.load(Width::W, R1, R6, skb::MARK);
    a.jump_if(If::Eq, R1, UNCOUNTED as i32, done);
    let untold = a.label();
    a.jump_if(If::Eq, R1, KNOCK as i32, untold);
    count(a, hook, parts, done);
    if parts.records {
        events::record(a, hook, parts);
    }
    a.place(untold);
    remember::passed(a, parts);
    a.place(done);
    a.jump_if(If::Eq, R8, i32::from(Verdict::ALLOW), pass);
    if hook == Hook::Outer && (parts.refuses || parts.restricts_outbound) {
        // A question changes nothing.
        a.load(Width::W, R1, R6, skb::MARK);
        a.jump_if(If::Eq, R1, UNCOUNTED as i32, silent);
        let answer = a.label();
        a.jump_if(If::Eq, R8, i32::from(Verdict::REFUSE), answer);
        // Silence is for strangers: a program of this host that connects is told at once.
        a.load(Width::D, R1, STACK, at::WAY);
        a.jump_if(If::Ne, R1, Direction::Outbound as i32, silent);
        a.load(Width::W, R1, STACK, at::KEY);
        a.op(Op::Rsh, R1, 16);
        a.jump_if(If::Ne, R1, i32::from(TCP), silent);
        a.load(Width::D, R1, R6, skb::SOCKET);
        a.jump_if(If::Eq, R1, 0, silent);
        a.place(answer);
        refuse::answer(a, parts, silent);
    }
    a.place(silent);
    a.mov(R0, hook.stop());
    a.exit();
    a.place(pass);
    a.mov(R0, hook.pass());
    a.exit();
}

/// Counts for the slot in r7, or goes to `otherwise`. r0 to r5 are lost.
pub(super) fn count(a: &mut Assembler, hook: Hook, parts: &Parts<'_>, otherwise: Label) {
    a.store(Width::W, STACK, at::SLOT, R7);
    count_one(a, parts, otherwise);
    // Who only connects has sent nothing yet.
    if matches!(hook, Hook::Outer | Hook::Inner) {
        a.load(Width::W, R2, R6, skb::LEN);
        a.load(Width::D, R1, R0, 8);
        a.op_reg(Op::Add, R1, R2);
        a.store(Width::D, R0, 8, R1);
    }
}

/// Adds one packet for the slot on the stack, or goes to `otherwise`; r0 is the
/// counter then. r0 to r5 are lost.
pub(super) fn count_one(a: &mut Assembler, parts: &Parts<'_>, otherwise: Label) {
    a.map(R1, parts.counters);
    a.stack(R2, at::SLOT);
    a.call(helper::MAP_LOOKUP);
    a.jump_if(If::Eq, R0, 0, otherwise);
    a.load(Width::D, R1, R0, 0);
    a.op(Op::Add, R1, 1);
    a.store(Width::D, R0, 0, R1);
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
