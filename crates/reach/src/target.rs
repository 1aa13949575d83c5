//! Another host of the orders, from this machine's own address.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use tipstaff_core::analysis::reach::{
    Arrival, Cell, CellContext, Outcome, Subject, Vantage, cell, tables_of_many,
};
use tipstaff_core::brief::Brief;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_knock::Reply;
use tipstaff_knock::sockets::{self, Door};

use crate::evidence::of_reply;
use crate::place::Place;

/// What this machine sees of another host of the orders. `go_on` is asked before each
/// knock.
pub fn target_column(
    brief: &Brief,
    places: &[Place],
    vantage: &Vantage,
    target: IpAddr,
    patience: Duration,
    go_on: &mut dyn FnMut() -> bool,
) -> Vec<Option<Cell>> {
    let doors: Vec<Door> = places
        .iter()
        .filter_map(|place| match place.subject {
            Subject::Port(transport, port) => {
                let to = SocketAddr::new(target, port);
                Some(Door { transport, to, from: None, local: false })
            }
            Subject::Echo => None,
        })
        .collect();
    let mut replies = sockets::knock(&doors, patience, &mut |_| go_on()).into_iter();
    let tables = tables_of_many(brief);
    let around = CellContext { tables: tables.as_ref(), ..CellContext::plain(brief, None) };
    let judge = |place: &Place, reply: Reply| {
        let observed = of_reply(reply, target);
        cell(
            place.subject,
            vantage,
            Arrival { target, interface: InterfaceIndex(0) },
            observed,
            &around,
        )
    };
    places
        .iter()
        .map(|place| {
            let reply = match place.subject {
                Subject::Echo => match go_on() {
                    true => Some(sockets::ping(target, patience)),
                    false => Some(Reply::NotAsked),
                },
                Subject::Port(Transport::Tcp | Transport::Udp, _) => replies.next(),
            }?;
            let mut cell = judge(place, reply);
            if let Some(words) = cell.observed.evidence.as_mut()
                && cell.observed.outcome == Outcome::Unknown
            {
                words.push_str("; on the host itself it can be known");
            }
            Some(cell)
        })
        .collect()
}
