use super::*;

fn packet(source: &str, destination: &str, payload: Payload) -> IpPacket {
    IpPacket::whole(source.parse().unwrap(), destination.parse().unwrap(), payload)
}

const HOST: &str = "198.51.100.20";
const PARTNER: &str = "203.0.113.9";
const STAMPS: Stamps = Stamps { opened: 1, let_in: 2 };
const BEGIN: Duration = Duration::ZERO;

fn udp(from: u16, to: u16) -> Payload {
    Payload::Udp { from, to }
}

fn tcp(from: u16, to: u16, flags: u8) -> Payload {
    Payload::Tcp { from, to, flags: TcpFlags(flags) }
}

fn sent(flows: &mut Flows, packet: &IpPacket, now: Duration) -> Known {
    let known = flows.look_up(Direction::Outbound, packet, STAMPS, now);
    flows.sent(packet, known, STAMPS, now);
    known
}

fn comes_in(flows: &mut Flows, packet: &IpPacket, now: Duration) -> bool {
    flows.look_up(Direction::Inbound, packet, STAMPS, now).is_reply
}

#[test]
fn an_answer_comes_in_until_it_is_too_old() {
    let mut flows = Flows::default();
    sent(&mut flows, &packet(HOST, PARTNER, udp(5000, 123)), BEGIN);
    let answer = packet(PARTNER, HOST, udp(123, 5000));
    assert!(comes_in(&mut flows, &answer, UDP_AGE));
    assert!(!comes_in(&mut flows, &answer, UDP_AGE + Duration::from_nanos(1)));
    for stranger in [
        packet("192.0.2.66", HOST, udp(123, 5000)),
        packet(PARTNER, HOST, udp(124, 5000)),
        packet(PARTNER, HOST, udp(123, 5001)),
    ] {
        assert!(!comes_in(&mut flows, &stranger, BEGIN));
    }
}

#[test]
fn an_answer_of_this_host_opens_nothing() {
    let mut flows = Flows::default();
    let question = packet(PARTNER, HOST, udp(40_000, 53));
    let answer = packet(HOST, PARTNER, udp(53, 40_000));
    flows.let_in(&question, STAMPS, BEGIN);
    assert_eq!(sent(&mut flows, &answer, BEGIN), Known { is_reply: true, answers: true });
    assert!(!comes_in(&mut flows, &question, BEGIN), "each question is decided");
    // Under another list the answer is decided, and still opens nothing.
    let other = Stamps { opened: 3, let_in: 4 };
    let known = flows.look_up(Direction::Outbound, &answer, other, BEGIN);
    assert_eq!(known, Known { is_reply: false, answers: true });
    flows.sent(&answer, known, other, BEGIN);
    assert!(!flows.look_up(Direction::Inbound, &question, other, BEGIN).is_reply);
    // Long after the last question it is this host that speaks to somebody.
    let late = UDP_AGE + Duration::from_secs(1);
    sent(&mut flows, &answer, late);
    assert!(comes_in(&mut flows, &question, late));
}

#[test]
fn what_was_opened_under_another_list_is_decided_again() {
    let mut flows = Flows::default();
    sent(&mut flows, &packet(HOST, PARTNER, udp(5000, 123)), BEGIN);
    let answer = packet(PARTNER, HOST, udp(123, 5000));
    let other = Stamps { opened: 3, ..STAMPS };
    assert!(!flows.look_up(Direction::Inbound, &answer, other, BEGIN).is_reply);
    assert!(comes_in(&mut flows, &answer, BEGIN));
}

#[test]
fn a_forwarded_connection_is_remembered_and_its_reset_is_not() {
    let mut flows = Flows::default();
    let syn = packet(HOST, PARTNER, tcp(5000, 443, TcpFlags::SYN));
    let answer = packet(PARTNER, HOST, tcp(443, 5000, TcpFlags::SYN | TcpFlags::ACK));
    sent(&mut flows, &syn, BEGIN);
    assert!(!comes_in(&mut flows, &answer, BEGIN), "of its own, the sockets know");
    let reset = packet(HOST, PARTNER, tcp(5001, 443, TcpFlags::RST));
    flows.forwarded(&reset, true, STAMPS, BEGIN);
    flows.forwarded(&syn, true, STAMPS, BEGIN);
    assert!(comes_in(&mut flows, &answer, TCP_AGE));
    let other = packet(PARTNER, "198.51.100.21", tcp(443, 5000, TcpFlags::ACK));
    assert!(!comes_in(&mut flows, &other, BEGIN), "to another one behind this host");
    let after = packet(PARTNER, HOST, tcp(443, 5001, TcpFlags::ACK));
    assert!(!comes_in(&mut flows, &after, BEGIN));
    assert!(!comes_in(&mut flows, &packet(PARTNER, HOST, tcp(443, 5000, TcpFlags::SYN)), BEGIN));
}

#[test]
fn an_error_passes_through_when_it_quotes_what_was_forwarded() {
    let mut flows = Flows::default();
    flows.forwarded(&packet(HOST, PARTNER, udp(5000, 123)), true, STAMPS, BEGIN);
    let error = |quotes| IpPacket {
        quotes: Some(quotes),
        ..packet("192.0.2.1", HOST, Payload::Icmp { kind: 3, code: 1, id: 0 })
    };
    let quote = |from, to| Quote {
        source: HOST.parse().unwrap(),
        destination: PARTNER.parse().unwrap(),
        protocol: UDP,
        from,
        to,
    };
    let mut through =
        |quote| flows.look_up(Direction::Transit, &error(quote), STAMPS, BEGIN).is_reply;
    assert!(through(quote(5000, 123)));
    assert!(!through(quote(5000, 124)));
    // An echo has one identifier, whoever quotes it.
    let echo = Payload::Icmp { kind: 8, code: 0, id: 77 };
    flows.forwarded(&packet(HOST, PARTNER, echo), true, STAMPS, BEGIN);
    let of_echo = |id| Quote { protocol: ICMP, ..quote(id, 0) };
    let mut through =
        |quote| flows.look_up(Direction::Transit, &error(quote), STAMPS, BEGIN).is_reply;
    assert!(through(of_echo(77)) && !through(of_echo(78)));
}

#[test]
fn an_echo_request_from_outside_is_no_answer() {
    let mut flows = Flows::default();
    let echo = |kind| Payload::Icmp { kind, code: 0, id: 77 };
    sent(&mut flows, &packet(HOST, PARTNER, echo(8)), BEGIN);
    assert!(comes_in(&mut flows, &packet(PARTNER, HOST, echo(0)), ECHO_AGE));
    assert!(!comes_in(&mut flows, &packet(PARTNER, HOST, echo(8)), ECHO_AGE));
    let late = ECHO_AGE + Duration::from_nanos(1);
    assert!(!comes_in(&mut flows, &packet(PARTNER, HOST, echo(0)), late));
    // A question for the time has an identifier, too.
    assert!(!comes_in(&mut flows, &packet(PARTNER, HOST, echo(13)), BEGIN));
    let unasked = packet(HOST, "192.0.2.66", echo(0));
    assert_eq!(sent(&mut flows, &unasked, BEGIN), Known::default());
    flows.let_in(&packet("192.0.2.66", HOST, echo(8)), STAMPS, BEGIN);
    assert!(sent(&mut flows, &unasked, BEGIN).is_reply);
}

#[test]
fn later_fragments_follow_a_first_one() {
    let mut flows = Flows::default();
    let later = packet(PARTNER, HOST, Payload::LaterFragment { id: 9 });
    assert!(!comes_in(&mut flows, &later, BEGIN));
    let first = IpPacket { first_of: Some(9), ..packet(PARTNER, HOST, udp(1, 2)) };
    flows.note_fragment(&first, BEGIN);
    assert!(comes_in(&mut flows, &later, FRAGMENT_AGE));
    assert!(!comes_in(&mut flows, &later, FRAGMENT_AGE + Duration::from_nanos(1)));
    let other = packet(PARTNER, HOST, Payload::LaterFragment { id: 8 });
    assert!(!comes_in(&mut flows, &other, BEGIN));
}

#[test]
fn the_memory_is_bounded_and_a_flood_forgets_no_flow_that_was_answered() {
    let mut flows = Flows::with_room(50);
    let out = |port| packet(HOST, PARTNER, udp(port, 123));
    let back = |port| packet(PARTNER, HOST, udp(123, port));
    let at = |n: u16| Duration::from_nanos(n.into());
    sent(&mut flows, &out(9), at(1));
    assert!(comes_in(&mut flows, &back(9), at(2)));
    sent(&mut flows, &out(9), at(3));
    for n in 10..200 {
        sent(&mut flows, &out(n), at(n));
    }
    assert_eq!((flows.answered.seen.len(), flows.unanswered.seen.len()), (1, 50));
    assert!(comes_in(&mut flows, &back(9), at(200)));
    assert!(comes_in(&mut flows, &back(199), at(200)));
    assert!(!comes_in(&mut flows, &back(10), at(200)));
}

#[test]
fn a_question_of_this_hosts_own_is_no_answer() {
    let mut flows = Flows::default();
    let echo = |kind| Payload::Icmp { kind, code: 0, id: 77 };
    assert!(flows.let_in(&packet(PARTNER, HOST, echo(8)), STAMPS, BEGIN), "it begins");
    assert!(!flows.let_in(&packet(PARTNER, HOST, echo(8)), STAMPS, BEGIN), "it goes on");
    assert_eq!(sent(&mut flows, &packet(HOST, PARTNER, echo(8)), BEGIN), Known::default());
    // What is let in by a rule although it answers, or by TCP, begins nothing.
    assert!(!flows.let_in(
        &packet(PARTNER, HOST, Payload::Icmp { kind: 0, code: 0, id: 9 }),
        STAMPS,
        BEGIN
    ));
    assert!(!flows.let_in(&packet(PARTNER, HOST, tcp(5000, 443, TcpFlags::SYN)), STAMPS, BEGIN));
    assert_eq!(flows.let_in.seen.len(), 1);
}

#[test]
fn a_connection_is_answered_when_its_opener_goes_on() {
    let mut flows = Flows::default();
    let syn = packet(HOST, PARTNER, tcp(5000, 443, TcpFlags::SYN));
    flows.forwarded(&syn, false, STAMPS, BEGIN);
    let back = |flags| packet(PARTNER, HOST, tcp(443, 5000, flags));
    assert!(comes_in(&mut flows, &back(TcpFlags::SYN | TcpFlags::ACK), BEGIN));
    assert_eq!((flows.answered.seen.len(), flows.unanswered.seen.len()), (0, 1));
    assert!(comes_in(&mut flows, &back(TcpFlags::ACK), BEGIN));
    assert_eq!(flows.answered.seen.len(), 1);
    // What was asked twice and never answered is not answered.
    let mut flows = Flows::default();
    for _ in 0..2 {
        sent(&mut flows, &packet(HOST, PARTNER, udp(5000, 123)), BEGIN);
    }
    assert_eq!((flows.answered.seen.len(), flows.unanswered.seen.len()), (0, 1));
}

#[test]
fn one_who_forwards_much_fills_a_part_and_keeps_what_is_there() {
    let mut flows = Flows::with_room(1_600);
    let out = |port| packet(HOST, PARTNER, udp(port, 123));
    let back = |port| packet(PARTNER, HOST, udp(123, port));
    flows.forwarded(&out(9), false, STAMPS, BEGIN);
    assert!(flows.unanswered.seen.is_empty(), "a flow that was known opens none");
    for port in 1..=200 {
        flows.forwarded(&out(port), true, STAMPS, BEGIN);
    }
    assert_eq!(flows.unanswered.seen.len(), 100);
    // What is known takes no new part.
    let later = Duration::from_secs(20);
    flows.forwarded(&out(1), true, STAMPS, later);
    assert!(comes_in(&mut flows, &back(1), UDP_AGE + later));
    assert!(!comes_in(&mut flows, &back(2), UDP_AGE + later));
}
