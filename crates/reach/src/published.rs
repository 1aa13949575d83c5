//! Published ports: what comes to a port of this host that no socket of it takes, and
//! is translated and forwarded to another machine or network namespace.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};

use tipstaff_core::analysis::reach::{
    Arrival, CellContext, Observed, Subject, Vantage, is_published,
};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::host::listener::{Listener, taker};
use tipstaff_core::names::traffic::Transport;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_knock::Reply;
use tipstaff_knock::witness::{Approach, Knocked, Through, WitnessFault};

use crate::across::forwards;

/// So many ports are looked after: each takes some 40 ms where nothing is forwarded.
const MOST: usize = 64;

/// Looks where that goes which was let in and which no socket of this host takes, and
/// notes it in `known`. Only where this host forwards at all.
pub(crate) fn look(
    approach: &Approach,
    gate: Option<&KernelGate>,
    interfaces: &[Interface],
    listeners: &[Listener],
    doors: &[(Subject, IpAddr)],
    known: &mut [Knocked],
) -> Result<(), WitnessFault> {
    let arrives = approach.interface.name.as_str();
    if !forwards(arrives, approach.source) {
        return Ok(());
    }
    let is_open = |(subject, target): (Subject, IpAddr), one: &Knocked| match (subject, one.reply) {
        (Subject::Port(Transport::Tcp, port), Reply::Accepted(_) | Reply::Data(_)) => {
            taker(listeners, Transport::Tcp, port, target, Some(arrives)).is_none()
        }
        (Subject::Port(Transport::Udp, port), Reply::CameIn) => {
            taker(listeners, Transport::Udp, port, target, Some(arrives)).is_none()
        }
        _ => false,
    };
    let open: Vec<usize> =
        (0..doors.len()).filter(|nth| is_open(doors[*nth], &known[*nth])).take(MOST).collect();
    let leaves: Vec<u32> = interfaces
        .iter()
        .filter(|i| i.up && !i.is_loopback() && i.index != approach.interface.index)
        .map(|i| i.index)
        .collect();
    if open.is_empty() || leaves.is_empty() {
        return Ok(());
    }
    let marks = gate.map(KernelGate::marks).transpose();
    let marks = marks.map_err(|e| WitnessFault::System(std::io::Error::other(e)))?.flatten();
    let mut through = Through::open(approach.clone(), &leaves, marks)?;
    for nth in open {
        let (subject, target) = doors[nth];
        known[nth].forwarded_to = through.forwarded_to(subject, target)?;
    }
    Ok(())
}

/// What this host passes on to somebody else, of all that was seen.
pub(crate) fn found<'s>(
    around: &CellContext<'_>,
    seen: impl Iterator<Item = (Subject, &'s Vantage, Arrival, &'s Observed)>,
) -> Vec<Subject> {
    let passed = seen.filter(|(subject, vantage, at, observed)| {
        is_published(*subject, vantage, *at, observed, around)
    });
    let all: BTreeSet<Subject> = passed.map(|(subject, ..)| subject).collect();
    all.into_iter().collect()
}

/// What came of a datagram that was forwarded, in words.
pub(crate) fn datagram(to: SocketAddr) -> String {
    format!("forwarded to {} port {}; whether it was accepted is unknown", to.ip(), to.port())
}
