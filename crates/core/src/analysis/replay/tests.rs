use super::*;
use crate::names::traffic::TrafficKey;
use crate::orders::read;
use crate::packet::TcpFlags;

const ORDERS: &str = r#"
version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[[rules]]
name = "plates"
action = "allow"
traffic = "tcp/7410"
source = "203.0.113.0/24"
at_most = "2 per minute per source"
"#;
const OWN: &str = "198.51.100.20";
const PARTNER: &str = "203.0.113.9";

fn arrived(packet: &Packet, at: Duration) -> Arrived<'_> {
    Arrived { packet, interface: InterfaceIndex(2), to_many: false, at, length: 60 }
}

fn brief(text: &str) -> Brief {
    let mut brief = Brief::unplaced(&read(text).unwrap());
    brief.own = vec![OWN.parse().unwrap()];
    brief
}

fn tcp(source: &str, destination: &str, ports: (u16, u16), flags: u8) -> Packet {
    let payload = Payload::Tcp { from: ports.0, to: ports.1, flags: TcpFlags(flags) };
    Packet::Ip(IpPacket::whole(source.parse().unwrap(), destination.parse().unwrap(), payload))
}

fn udp(source: &str, destination: &str, ports: (u16, u16)) -> Packet {
    let payload = Payload::Udp { from: ports.0, to: ports.1 };
    Packet::Ip(IpPacket::whole(source.parse().unwrap(), destination.parse().unwrap(), payload))
}

const SYN: u8 = 2;
const SYN_ACK: u8 = 0x12;
const ACK: u8 = 0x10;
const RST: u8 = 4;

/// Plays packets a second apart; what was said of each, and of the conversations.
fn played(text: &str, packets: &[Packet]) -> (Vec<Action>, Replay) {
    let mut replay = Replay::new(&brief(text)).unwrap();
    let mut said = Vec::new();
    for (second, packet) in packets.iter().enumerate() {
        let at = Duration::from_secs(1_795_000_000 + second as u64);
        let replayed = replay.packet(arrived(packet, at));
        said.push(replayed.decision.verdict);
    }
    (said, replay)
}

#[test]
fn a_connection_that_was_let_in_goes_on_and_one_that_was_not_is_cut() {
    let talk = |source: &str, from: u16| {
        [
            tcp(source, OWN, (from, 7410), SYN),
            tcp(OWN, source, (7410, from), SYN_ACK),
            tcp(source, OWN, (from, 7410), ACK),
        ]
    };
    let (said, replay) =
        played(ORDERS, &[talk(PARTNER, 4_000), talk("192.0.2.66", 4_001)].concat());
    let all = replay.conversations();
    assert_eq!(said[..3], [Action::Allow; 3]);
    // The host's own answer is its own affair; what follows belongs to nothing.
    assert_eq!(said[3..], [Action::Deny, Action::Allow, Action::Deny]);
    let cut: Vec<_> = all.in_order().into_iter().filter(|(_, c)| c.is_cut()).collect();
    assert_eq!((cut.len(), cut[0].0.source.to_string()), (1, "192.0.2.66".to_owned()));
    assert_eq!(cut[0].0.key, TrafficKey::new(6, 7410));
    assert_eq!(cut[0].1.speaker, Speaker::Standing(Direction::Inbound));
}

#[test]
fn rates_go_by_the_time_of_the_capture() {
    let syn = |from: u16| tcp(PARTNER, OWN, (from, 7410), SYN);
    let (said, replay) = played(ORDERS, &[syn(1), syn(2), syn(3)]);
    assert_eq!(said.iter().filter(|said| **said == Action::Deny).count(), 1, "{said:?}");
    let all = replay.conversations();
    assert_eq!(all.len(), 3);
    assert!(all.in_order().iter().any(|(_, c)| c.is_turned_away()));
    let mut replay = Replay::new(&brief(ORDERS)).unwrap();
    for minute in 0..5 {
        let at = Duration::from_secs(1_795_000_000 + minute * 60);
        let said = replay.packet(arrived(&syn(1), at)).decision.verdict;
        assert_eq!(said, Action::Allow);
    }
}

#[test]
fn answers_come_in_and_what_was_open_before_stays_open() {
    let (said, replay) = played(
        ORDERS,
        &[
            udp(OWN, "192.0.2.53", (5_353, 53)),
            udp("192.0.2.53", OWN, (53, 5_353)),
            udp("192.0.2.53", OWN, (53, 5_354)),
            // In the middle of a connection; then it is reset, and opened by nobody.
            tcp("192.0.2.66", OWN, (9, 22), ACK),
            tcp("192.0.2.66", OWN, (9, 22), RST),
            tcp("192.0.2.66", OWN, (9, 22), ACK),
            tcp("192.0.2.66", OWN, (9, 22), SYN),
        ],
    );
    let (allow, deny) = (Action::Allow, Action::Deny);
    assert_eq!(said, [allow, allow, deny, allow, allow, deny, deny]);
    let first = replay.conversations().in_order()[0];
    assert!(first.1.answered && first.0.destination.to_string() == "192.0.2.53");
}

#[test]
fn what_is_for_others_is_forwarded_or_not() {
    let text = ORDERS.replace("transit = \"deny\"", "transit = \"allow\"");
    let packets =
        [udp("192.0.2.9", "203.0.113.9", (1, 2)), udp("192.0.2.9", "255.255.255.255", (68, 67))];
    let mut replay = Replay::new(&brief(&text)).unwrap();
    let directions =
        packets.map(|packet| replay.packet(arrived(&packet, Duration::from_secs(1))).direction);
    assert_eq!(directions, [Direction::Transit, Direction::Inbound]);
}
