//! What passes through this host, with real packets over two cables: only what
//! was let through, whatever the kernel would forward.

#![allow(clippy::unwrap_used)]

use std::fs;
use std::net::IpAddr;
use std::path::Path;
use std::time::Duration;

use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::lab::{self, Space};
use tipstaff_testing::{
    scene::{OWN, STRANGER, Scene, inside_with_wire, orders, post, second_cable},
    wire::{self, Header, Wire},
};

/// Machines behind this host, on the second cable.
const BEHIND: [&str; 2] = ["203.0.113.30", "2001:db8:113::30"];
/// This host there.
const OTHER: [&str; 2] = ["203.0.113.1", "2001:db8:113::1"];

/// A packet that must not pass: what it is, from, to, protocol, payload, header.
type Leak = (&'static str, IpAddr, IpAddr, u8, Vec<u8>, Header);

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

struct Router {
    scene: Scene,
    behind: Wire,
    /// The hardware address of the second cable's near end.
    inner: [u8; 6],
    _space: Space,
}

fn on_a_router(test: impl FnOnce(Router) + Send + 'static) {
    inside_with_wire(|scene| {
        let (behind, space) = second_cable();
        for ((address, prefix), machine) in OTHER.into_iter().zip([24, 64]).zip(BEHIND) {
            lab::address("ts-c", ip(address), prefix).unwrap();
            lab::neighbour("ts-c", ip(machine), behind.hardware).unwrap();
        }
        set("ipv4/ip_forward", "1");
        set("ipv6/conf/all/forwarding", "1");
        let all = scene.interfaces();
        let inner = all.iter().find(|i| i.name == "ts-c").unwrap().hardware.unwrap();
        test(Router { scene, behind, inner, _space: space });
    });
}

fn set(knob: &str, value: &str) {
    fs::write(format!("/proc/sys/net/{knob}"), value).unwrap();
}

/// IP frames that arrived at the far end of a cable, but for what every
/// interface says by itself.
fn arrived(wire: &Wire) -> usize {
    std::thread::sleep(Duration::from_millis(8));
    let mut seen = wire.seen();
    seen.retain(|frame| match frame[12..14] {
        [8, 0] => true,
        [0x86, 0xdd] => frame[22..38] != frame[38..54] && !matches!(frame[22], 0xfe | 0),
        _ => false,
    });
    seen.len()
}

impl Router {
    /// A packet from a stranger to a machine behind; whether it got there.
    fn passes(&self, from: IpAddr, to: IpAddr, protocol: u8, payload: &[u8]) -> bool {
        self.passes_with(from, to, protocol, payload, &Header::default())
    }

    fn passes_with(
        &self,
        from: IpAddr,
        to: IpAddr,
        protocol: u8,
        payload: &[u8],
        header: &Header,
    ) -> bool {
        self.behind.seen();
        let packet = wire::ip(from, to, protocol, payload, header);
        self.scene.wire.send(&self.scene.framed(from, &packet));
        arrived(&self.behind) > 0
    }

    /// A packet from a machine behind to a stranger; whether it left.
    fn leaves(&self, from: IpAddr, to: IpAddr, protocol: u8, payload: &[u8]) -> bool {
        self.scene.wire.seen();
        let packet = wire::ip(from, to, protocol, payload, &Header::default());
        let hardware = (self.inner, self.behind.hardware);
        let frame = wire::ethernet(hardware.0, hardware.1, &[], wire::kind_of(from), &packet);
        self.behind.send(&frame);
        arrived(&self.scene.wire) > 0
    }
}

fn syn(from: IpAddr, to: IpAddr) -> Vec<u8> {
    wire::tcp((from, 40_000), (to, 22), 0x02, (1, 0))
}

const FORCED: &str = "/proc/sys/net/ipv6/conf/ts-a/force_forwarding";

/// Switches IPv6's forwarding on in each way that this kernel has, one after the other.
fn forwarding_each_way() -> impl Iterator<Item = String> {
    let forced = || Path::new(FORCED).exists();
    let ways = [("1", "1", "0"), ("1", "0", "0"), ("0", "0", "1")];
    ways.into_iter().filter(move |(.., force)| *force == "0" || forced()).map(
        move |(all, own, force)| {
            set("ipv6/conf/all/forwarding", all);
            set("ipv6/conf/ts-a/forwarding", own);
            if forced() {
                fs::write(FORCED, force).unwrap();
            }
            format!("all {all}, own {own}, forced {force}")
        },
    )
}

/// Whichever switch makes IPv6 forward: what is for a machine behind is no
/// inbound traffic.
#[test]
fn an_inbound_rule_reaches_nobody_behind_this_host() {
    on_a_router(|router| {
        let (from, to) = (STRANGER[1], ip(BEHIND[1]));
        let mut gate = KernelGate::new(&router.scene.run_dir).unwrap();
        let inbound = "[[rules]]\nname = \"shell\"\naction = \"allow\"\ntraffic = \"ssh\"\n";
        let transit = inbound.replace("traffic", "direction = \"transit\"\ntraffic");
        for way in forwarding_each_way() {
            assert!(router.passes(from, to, 6, &syn(from, to)), "the kernel forwards: {way}");
            post(&mut gate, &orders(inbound), &router.scene.interfaces()).unwrap();
            assert!(!router.passes(from, to, 6, &syn(from, to)), "{way}");
            // To an own address, that of the other side too, the rule decides.
            for own in [OWN[1], ip(OTHER[1])] {
                router.scene.wire.seen();
                router.scene.wire.send(&router.scene.to_us(from, own, 6, &syn(from, own)));
                assert!(arrived(&router.scene.wire) > 0, "{own}");
            }
            post(&mut gate, &orders(&transit), &router.scene.interfaces()).unwrap();
            assert!(router.passes(from, to, 6, &syn(from, to)), "{way}");
            gate.withdraw().unwrap();
        }
    });
}

/// What routers do beside routing: none of it leads through a gate that denies.
#[test]
fn nothing_leaks_through_a_host_that_denies_transit() {
    on_a_router(|router| {
        set("ipv4/conf/all/accept_source_route", "1");
        set("ipv4/conf/ts-a/accept_source_route", "1");
        set("ipv4/conf/all/bc_forwarding", "1");
        set("ipv4/conf/ts-a/bc_forwarding", "1");
        set("ipv6/conf/all/accept_source_route", "1");
        let leaks = || -> Vec<Leak> {
            let mut all = Vec::new();
            let plain = Header::default;
            let [four, six] = STRANGER;
            let behind = BEHIND.map(ip);
            for (hops, kind) in [(255, 135), (64, 135), (64, 136), (255, 134), (64, 137)] {
                let body = [&[0; 4][..], &[0x20; 16]].concat();
                let message = wire::icmp(six, behind[1], kind, 0, &body);
                let header = Header { hops, ..plain() };
                all.push(("neighbour discovery", six, behind[1], 58, message, header));
            }
            for (from, to) in [(four, behind[0]), (six, behind[1])] {
                let quoted = wire::ip(to, from, 6, &syn(to, from), &plain());
                let kind = if from.is_ipv4() { 3 } else { 1 };
                let error = wire::icmp(from, to, kind, 1, &[&[0; 4][..], &quoted].concat());
                let number = wire::icmp_number(from);
                all.push(("an error about nothing", from, to, number, error, plain()));
                let later =
                    Header { fragment: (9, if from.is_ipv4() { 2 } else { 16 }), ..plain() };
                all.push(("a later fragment", from, to, 17, vec![0x41; 32], later));
                let datagram = wire::udp((from, 40_000), (to, 7420), b"sky?");
                all.push(("a datagram", from, to, 17, datagram, plain()));
                all.push(("a connection", from, to, 6, syn(from, to), plain()));
                let reset = wire::tcp((from, 443), (to, 40_000), 0x04, (1, 0));
                all.push(("a reset", from, to, 6, reset, plain()));
            }
            // To an own address, with a route behind it.
            let [IpAddr::V4(machine), _] = behind else { unreachable!() };
            for kind in [131, 137] {
                let options = [&[kind, 7, 4][..], &machine.octets(), &[0]].concat();
                let datagram = wire::udp((four, 40_000), (OWN[0], 7420), b"sky?");
                let header = Header { options, ..plain() };
                all.push(("a source route", four, OWN[0], 17, datagram, header));
            }
            let datagram = wire::udp((four, 40_000), (ip("203.0.113.255"), 7420), b"sky?");
            all.push(("a broadcast", four, ip("203.0.113.255"), 17, datagram, plain()));
            all
        };
        let mut forwarded = std::collections::BTreeSet::new();
        for (what, from, to, protocol, payload, header) in leaks() {
            if router.passes_with(from, to, protocol, &payload, &header) {
                forwarded.insert(what);
            }
        }
        // The kernel forwards these where there is no gate: otherwise this would test little.
        for what in
            ["neighbour discovery", "an error about nothing", "a later fragment", "a broadcast"]
        {
            assert!(forwarded.contains(what), "{forwarded:?}");
        }
        eprintln!("without a gate the kernel forwards {forwarded:?}");
        let mut gate = KernelGate::new(&router.scene.run_dir).unwrap();
        // The inbound half of it may even be allowed.
        for rules in ["", "[[rules]]\nname = \"in\"\naction = \"allow\"\ntraffic = \"any\"\n"] {
            post(&mut gate, &orders(rules), &router.scene.interfaces()).unwrap();
            for (what, from, to, protocol, payload, header) in leaks() {
                let passes = router.passes_with(from, to, protocol, &payload, &header);
                assert!(!passes, "{what} from {from} to {to}");
            }
        }
        gate.withdraw().unwrap();
    });
}

/// Fragments and errors of what was let through pass, and nothing else of theirs.
#[test]
fn what_belongs_to_what_was_let_through_passes() {
    on_a_router(|router| {
        let mut gate = KernelGate::new(&router.scene.run_dir).unwrap();
        let rule = "[[rules]]\nname = \"sky\"\naction = \"allow\"\ndirection = \"transit\"\n\
                    traffic = [\"udp/7420\", \"tcp/22\"]\ninterface = \"ts-a\"\n";
        post(&mut gate, &orders(rule), &router.scene.interfaces()).unwrap();
        for family in 0..2 {
            let (from, to) = (STRANGER[family], ip(BEHIND[family]));
            let datagram = wire::udp((from, 40_000), (to, 7420), &[0x41; 24]);
            let more = if family == 0 { 0x2000 } else { 1 };
            let first = Header { fragment: (9, more), ..Header::default() };
            let offset = if family == 0 { 4 } else { 32 };
            let later = |id| Header { fragment: (id, offset), ..Header::default() };
            assert!(!router.passes_with(from, to, 17, &[0x41; 32], &later(9)));
            assert!(router.passes_with(from, to, 17, &datagram, &first));
            assert!(router.passes_with(from, to, 17, &[0x41; 32], &later(9)));
            assert!(!router.passes_with(from, to, 17, &[0x41; 32], &later(10)));

            // An answer passes, and opens nothing.
            assert!(!router.leaves(to, from, 17, &wire::udp((to, 7421), (from, 40_000), b"no")));
            assert!(router.leaves(to, from, 17, &wire::udp((to, 7420), (from, 40_000), b"yes")));
            // An error about it, from a router on the way.
            let hop = ip(["192.0.2.1", "2001:db8:bad::1"][family]);
            let error = |port| {
                let quoted = wire::udp((to, port), (from, 40_000), b"yes");
                let quoted = wire::ip(to, from, 17, &quoted, &Header::default());
                let kind = if family == 0 { 3 } else { 1 };
                wire::icmp(hop, to, kind, 1, &[&[0; 4][..], &quoted].concat())
            };
            let number = wire::icmp_number(hop);
            assert!(router.passes(hop, to, number, &error(7420)), "{family}");
            assert!(!router.passes(hop, to, number, &error(7421)), "{family}");

            // A connection: its answers, and its opener going on.
            let segment = |a, b, flags| wire::tcp(a, b, flags, (5, 5));
            let (opener, server) = ((from, 41_000), (to, 22));
            assert!(!router.passes(from, to, 6, &segment(opener, (to, 23), 0x10)));
            assert!(!router.leaves(to, from, 6, &segment(server, opener, 0x12)));
            assert!(router.passes(from, to, 6, &segment(opener, server, 0x02)));
            assert!(router.leaves(to, from, 6, &segment(server, opener, 0x12)));
            assert!(router.passes(from, to, 6, &segment(opener, server, 0x10)));
        }
        // Other orders: a connection that is open goes on, an exchange is decided again.
        post(&mut gate, &orders(""), &router.scene.interfaces()).unwrap();
        for family in 0..2 {
            let (from, to) = (STRANGER[family], ip(BEHIND[family]));
            let segment = wire::tcp((from, 41_000), (to, 22), 0x10, (6, 6));
            assert!(router.passes(from, to, 6, &segment));
            let datagram = wire::udp((from, 40_000), (to, 7420), b"sky?");
            assert!(!router.passes(from, to, 17, &datagram));
            let answer = wire::udp((to, 7420), (from, 40_000), b"yes");
            assert!(!router.leaves(to, from, 17, &answer));
        }
        gate.withdraw().unwrap();
    });
}

/// `ip6_forward` sends on, where it came from, what `bpf_fib_lookup` says is
/// never forwarded: from and to addresses of the link.
#[test]
fn what_comes_from_the_link_or_is_for_it_is_not_sent_on_either() {
    on_a_router(|router| {
        let stranger = STRANGER[1];
        let (away, neighbour) = (ip("2001:db8:51:2::3"), ip("fe80::77"));
        lab::neighbour("ts-a", neighbour, router.scene.wire.hardware).unwrap();
        let pairs = [
            (ip("fe80::1"), away),
            (ip("::"), away),
            (stranger, neighbour),
            (ip("fe80::1"), neighbour),
            (stranger, away),
        ];
        let sent_on = |from: IpAddr, to: IpAddr| {
            router.scene.wire.seen();
            let packet = wire::ip(from, to, 6, &syn(from, to), &Header::default());
            router.scene.wire.send(&router.scene.framed(from, &packet));
            std::thread::sleep(Duration::from_millis(8));
            router.scene.wire.seen().iter().any(|frame| frame[20] == 6)
        };
        for (from, to) in pairs {
            assert!(sent_on(from, to), "the kernel sends on {from} to {to}");
        }
        let mut gate = KernelGate::new(&router.scene.run_dir).unwrap();
        let inbound = "[[rules]]\nname = \"shell\"\naction = \"allow\"\ntraffic = \"ssh\"\n";
        post(&mut gate, &orders(inbound), &router.scene.interfaces()).unwrap();
        for (from, to) in pairs {
            assert!(!sent_on(from, to), "{from} to {to} by an inbound rule");
        }
        let transit = inbound.replace("traffic", "direction = \"transit\"\ntraffic");
        post(&mut gate, &orders(&transit), &router.scene.interfaces()).unwrap();
        for (from, to) in pairs {
            assert!(sent_on(from, to), "{from} to {to} by a transit rule");
        }
        // Where nothing is forwarded they are for this host, or for nobody.
        set("ipv6/conf/all/forwarding", "0");
        let all = router.scene.interfaces();
        let own = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (own, _) = *own.addresses.iter().find(|(a, _)| a.is_ipv6() && *a != OWN[1]).unwrap();
        post(&mut gate, &orders(inbound), &all).unwrap();
        assert!(sent_on(neighbour, own), "{own} answers");
    });
}

/// Addresses that came after the post, as each does at an interface that appears: who asks
/// for one is a neighbour, and is no transit, however forwarding was switched on.
#[test]
fn neighbours_find_an_address_that_the_orders_do_not_know() {
    on_a_router(|router| {
        let mut all = router.scene.interfaces();
        let card = all.iter_mut().find(|i| i.name == "ts-a").unwrap();
        let (of_the_link, _) =
            *card.addresses.iter().find(|(a, _)| a.is_ipv6() && *a != OWN[1]).unwrap();
        card.addresses.retain(|(a, _)| a.is_ipv4());
        let index = InterfaceIndex(card.index);
        let mut gate = KernelGate::new(&router.scene.run_dir).unwrap();
        let from = ip("fe80::1");
        let message = |kind, to: IpAddr| {
            let IpAddr::V6(target) = to else { unreachable!() };
            let option = [&[1, 1][..], &router.scene.wire.hardware].concat();
            let asked = [&[0; 4][..], &target.octets(), &option].concat();
            // Of discovery (RFC 4861) no router has taken anything off; MLD does not pass one.
            let header = Header {
                hops: if kind < 133 || kind == 143 { 1 } else { 255 },
                ..Header::default()
            };
            let packet = wire::ip(from, to, 58, &wire::icmp(from, to, kind, 0, &asked), &header);
            router.scene.framed(from, &packet)
        };
        lab::neighbour("ts-a", ip("fe80::77"), router.scene.wire.hardware).unwrap();
        let (asks, answers) = (135, 136);
        let heard = |to| {
            router.scene.wire.seen();
            router.scene.wire.send(&message(asks, to));
            std::thread::sleep(Duration::from_millis(8));
            let seen = router.scene.wire.seen();
            let of = |kind| seen.iter().filter(|f| f[20] == 58 && f[54] == kind).count();
            (of(answers), of(asks))
        };
        for way in forwarding_each_way() {
            for own in [of_the_link, OWN[1]] {
                assert_eq!(heard(own).0, 1, "{own} without a gate, {way}");
            }
            post(&mut gate, &orders(""), &all).unwrap();
            for own in [of_the_link, OWN[1]] {
                assert_eq!(heard(own).0, 1, "{own}, {way}");
                for kind in (130..=137).chain([143]) {
                    let said = gate.ask(index, &message(kind, own)).unwrap();
                    let passes = Speaker::Foundation(Foundation::NeighbourDiscovery);
                    assert_eq!(said.speaker, passes, "{kind} to {own}, {way}");
                }
            }
            // Whom it asks beside this host is not asked through it.
            assert_eq!(heard(ip("fe80::77")), (0, 0));
            gate.withdraw().unwrap();
        }
    });
}
