//! A replay says of a packet that belongs to nothing what the reference says.

#![allow(clippy::unwrap_used)]

use std::time::Duration;

use proptest::prelude::*;
use tipstaff_core::analysis::replay::{Arrived, Replay};
use tipstaff_core::arbitrary;
use tipstaff_core::decision::{Speaker, decide};
use tipstaff_core::moment::Moment;
use tipstaff_core::packet::{
    InterfaceIndex, Packet, PacketContext, Payload, ProgramIndex, parse_ethernet,
};

proptest! {
    #[test]
    fn first_packets_are_decided_as_the_reference_does(
        brief in arbitrary::brief(20),
        frame in arbitrary::frame([2, 0, 0, 0, 0, 1]),
    ) {
        let (packet, interface) = (parse_ethernet(&frame), InterfaceIndex(2));
        let at = Duration::from_secs(1_795_000_000);
        let arrived = Arrived { packet: &packet, interface, to_many: false, at, length: 60 };
        let replayed = Replay::new(&brief).unwrap().packet(arrived);
        let direction = replayed.direction;
        // Of a connection that was begun before the capture the replay says more.
        let goes_on = matches!(packet, Packet::Ip(ip)
            if matches!(ip.payload, Payload::Tcp { flags, .. } if !flags.is_pure_syn()));
        if goes_on || matches!(replayed.decision.speaker, Speaker::Beyond(_)) {
            return Ok(());
        }
        let program = ProgramIndex::OTHER;
        let now = Moment(1_795_000_000);
        let facts = PacketContext { interface, direction, program, is_reply: false, now, packet };
        prop_assert_eq!(replayed.decision, decide(&brief, &facts));
    }
}
