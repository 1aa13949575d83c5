//! Knocks through a host that the test made itself, between two cables: what
//! leaves again is seen where it leaves, and nobody behind hears of it. Needs root.

#![allow(clippy::unwrap_used)]

use std::net::{SocketAddr, TcpListener};
use std::time::Duration;

use tipstaff_core::analysis::reach::Subject;
use tipstaff_core::brief::{Brief, RuleIndex};
use tipstaff_core::decision::Speaker;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::read;
use tipstaff_core::packet::Direction;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, Posting, Record};
use tipstaff_host::interfaces;
use tipstaff_host::lab::{Mounts, Space};
use tipstaff_knock::Reply;
use tipstaff_knock::witness::{LetIn, Through, WentThrough, approach};
use tipstaff_testing::pair::{Pair, cable};
use tipstaff_testing::{can_test, ip};

const PATIENCE: Duration = Duration::from_millis(150);
const TEXT: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[[rules]]
name = "plates"
direction = "transit"
action = "allow"
traffic = ["tcp/7410", "udp/7420", "icmp/echo"]
[[rules]]
name = "lamps"
direction = "transit"
action = "refuse"
traffic = "tcp/7411"
"#;

fn port(transport: Transport, port: u16) -> Subject {
    Subject::Port(transport, port)
}

fn at_door(address: &str, subject: Subject) -> SocketAddr {
    let port = if let Subject::Port(_, port) = subject { port } else { 0 };
    SocketAddr::new(ip(address), port)
}

#[test]
fn what_passes_is_seen_where_it_leaves_and_troubles_nobody() {
    if !can_test("knocks through a host were") {
        return;
    }
    let Pair { host, world: _near } = Pair::new();
    let far = Space::new(Mounts::Shared).unwrap();
    let behind = ["203.0.113.9", "2001:db8:113::9"];
    cable(&host, &far, ["dish0", "d0"], ["203.0.113.1", "2001:db8:113::1"], behind);
    let listener = far.run(|| TcpListener::bind("[::]:7410").unwrap()).unwrap();
    listener.set_nonblocking(true).unwrap();
    host.run(|| {
        let all = interfaces::list().unwrap();
        let leaves = all.iter().find(|i| i.name == "dish0").unwrap().index;
        let run_dir = tempfile::tempdir().unwrap();
        let mut gate = KernelGate::new(&run_dir.path().join("run")).unwrap();
        let brief = Brief::unplaced(&read(TEXT).unwrap());
        let ways = [("192.0.2.66", "203.0.113.9"), ("2001:db8:bad::66", "2001:db8:113::9")];
        let look = |gate: &KernelGate, (source, destination), subject| {
            let approach = approach(ip(source), None, &all).unwrap();
            let mut through = Through::open(approach, &[leaves], gate.marks().unwrap()).unwrap();
            through.knock(subject, ip(destination), PATIENCE).unwrap()
        };
        let open = [port(Transport::Tcp, 7410), port(Transport::Udp, 7420), Subject::Echo];
        // A host that does not forward.
        for way in ways {
            assert_eq!(look(&gate, way, open[0]).came_out, None, "{way:?}");
        }
        std::fs::write("/proc/sys/net/ipv4/ip_forward", "1").unwrap();
        std::fs::write("/proc/sys/net/ipv6/conf/all/forwarding", "1").unwrap();
        for way in ways {
            for subject in open.into_iter().chain([port(Transport::Tcp, 7499)]) {
                let WentThrough { let_in, came_out, .. } = look(&gate, way, subject);
                assert_eq!(came_out.map(|out| out.to), Some(at_door(way.1, subject)));
                assert_eq!(let_in, Some(LetIn { speaker: None }), "{way:?} {subject}");
            }
        }
        let posting = Posting { brief: &brief, record: Record::from_text(TEXT) };
        gate.post(&posting, &all).unwrap();
        for way in ways {
            for subject in open {
                let seen = look(&gate, way, subject);
                let let_in = LetIn { speaker: Some(Speaker::Rule(RuleIndex(0))) };
                assert!(seen.came_out.is_some(), "{way:?} {subject}");
                assert_eq!(seen.let_in, Some(let_in), "{way:?} {subject}");
            }
            let denied = look(&gate, way, port(Transport::Tcp, 7499));
            assert_eq!((denied.came_out, denied.let_in), (None, None), "{way:?}");
            assert!(matches!(denied.reply, Reply::Nothing(_)), "{way:?}: {denied:?}");
            let refused = look(&gate, way, port(Transport::Tcp, 7411));
            assert_eq!((refused.came_out, refused.let_in), (None, None), "{way:?}");
            assert!(matches!(refused.reply, Reply::Reset(_)), "{way:?}: {refused:?}");
        }
        // Knocks are not counted.
        for (speaker, tally) in gate.tallies().unwrap() {
            let of_transit =
                matches!(speaker, Speaker::Rule(_) | Speaker::Standing(Direction::Transit));
            assert!(!of_transit || tally.packets == 0, "{speaker:?}: {tally:?}");
        }
        gate.withdraw().unwrap();
    })
    .unwrap();
    // Nobody behind the host has heard of any of it.
    assert!(listener.accept().is_err());
}
