//! Rates and refusals, as ordinary clients meet them on the real kernel.

#![allow(clippy::unwrap_used)]

mod ground;

use std::fs;
use std::io;
use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::os::fd::AsFd;

use ground::{ARCHIVE, Lab, PARTNER, PATIENCE, STRANGER, ip, ping};
use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_gate::kernel::sys::set_transmit_checksum;
use tipstaff_host::lab::{self, Mounts, Space};

#[test]
fn a_rate_lets_in_its_burst_and_no_more_and_outlives_a_swap() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let rule = |rate: &str, over: &str| {
        format!(
            "[[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\nat_most = \"{rate}\"\nover = \"{over}\"\n"
        )
    };
    lab.orders(&rule("3 per hour per source", "deny"));
    lab.done(&["post"]);
    let knocks = |from: &str, to: &str, n: usize| {
        (0..n).map(|_| lab.knock(from, to, 7410)).collect::<Vec<_>>()
    };
    for family in 0..2 {
        let met = knocks(PARTNER[family], ARCHIVE[family], 4);
        assert_eq!(met, ["answers", "answers", "answers", "silent"]);
        assert_eq!(knocks(STRANGER[family], ARCHIVE[family], 1), ["answers"], "its own rate");
    }
    let tally = lab.done(&["tally", "plates", "--sources"]);
    assert!(tally.contains("203.0.113.9 ") && tally.contains("2001:db8:113::/64"), "{tally}");
    let json: serde_json::Value =
        serde_json::from_str(&lab.done(&["tally", "plates", "--sources", "--json"])).unwrap();
    let sources = json["sources"].as_array().unwrap();
    let partner = sources.iter().find(|s| s["source"] == PARTNER[0]).unwrap();
    assert_eq!((&partner["room"], sources.len()), (&0.into(), 4));
    assert!(json["rows"][0]["beyond"].as_u64() >= Some(2));

    // Other orders, the same rule: nobody begins anew, and now it says no.
    lab.orders(&rule("3 per hour per source", "refuse"));
    lab.done(&["post"]);
    assert_eq!(knocks(PARTNER[0], ARCHIVE[0], 1), ["refuses"]);
    assert_eq!(knocks(STRANGER[1], ARCHIVE[1], 3), ["answers", "answers", "refuses"]);
    let asked = lab.done(&["ask", "tcp/7410", "--source", PARTNER[0], "--in-force"]);
    assert!(asked.contains("let in by rule 1 (plates)"), "a question takes nothing: {asked}");
    lab.done(&["withdraw"]);
}

/// Checksums by the sender or left to its card, on either side.
#[test]
fn a_refusal_says_no_at_once_whoever_computes_the_checksums() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(
        "[[rules]]\nname = \"no\"\naction = \"refuse\"\ntraffic = [\"tcp/*\", \"udp/*\", \"icmp/echo\"]\n",
    );
    lab.done(&["post"]);
    for (inside, outside) in [(true, true), (true, false), (false, true), (false, false)] {
        lab.archive.run(move || set_transmit_checksum("lan0", inside).unwrap()).unwrap();
        lab.world.run(move || set_transmit_checksum("w0", outside).unwrap()).unwrap();
        for family in 0..2 {
            let (own, partner) = (ARCHIVE[family], PARTNER[family]);
            let cards = format!("{own}, inside {inside}, outside {outside}");
            assert_eq!(lab.knock(partner, own, 7410), "refuses", "{cards}");
            let (from, to) = (ip(partner), ip(own));
            let met = lab
                .world
                .run(move || {
                    let socket = UdpSocket::bind((from, 0)).unwrap();
                    socket.set_read_timeout(Some(PATIENCE)).unwrap();
                    socket.connect((to, 123)).unwrap();
                    socket.send(b"what time is it").unwrap();
                    socket.recv(&mut [0; 8]).unwrap_err().kind()
                })
                .unwrap();
            // What Linux makes of "administratively prohibited", by family.
            let said = [io::ErrorKind::HostUnreachable, io::ErrorKind::PermissionDenied][family];
            assert_eq!(met, said, "{cards}");
        }
    }
    let asked = lab.done(&["ask", "ssh", "--source", PARTNER[0], "--in-force"]);
    assert!(asked.contains("refused by rule 1 (no)"), "{asked}");
    let reach = lab.tipstaff(&["reach", "--as", PARTNER[0], "--as", PARTNER[1], "--json"]);
    assert_eq!(reach.status.code(), Some(0), "{}", String::from_utf8_lossy(&reach.stdout));
    lab.done(&["withdraw"]);
}

#[test]
fn decisions_are_recorded_and_watched() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    lab.orders(
        "[[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\nsource = \"partner\"\nlog = true\n",
    );
    lab.done(&["post"]);
    for family in 0..2 {
        assert_eq!(lab.knock(PARTNER[family], ARCHIVE[family], 7410), "answers");
        assert!(!ping(&lab.world, STRANGER[family], ARCHIVE[family]));
    }
    let text = lab.done(&["watch", "--json", "--count", "4"]);
    let lines: Vec<serde_json::Value> =
        text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let cells = |line: &serde_json::Value| {
        let cell = |key: &str| line[key].as_str().unwrap().to_owned();
        [
            cell("verdict"),
            cell("traffic"),
            cell("source"),
            cell("destination"),
            cell("by"),
            cell("interface"),
        ]
    };
    let (rule, standing) = ("rule 1 (plates)", "the standing answer inbound");
    for (family, own) in ARCHIVE.iter().enumerate() {
        let [verdict, traffic, source, destination, by, interface] = cells(&lines[2 * family]);
        assert_eq!([verdict, traffic, by, interface], ["allow", "tcp/7410", rule, "lan0"]);
        assert!(source.contains(PARTNER[family]) && destination.contains(own), "{text}");
        let [verdict, traffic, source, destination, by, _] = cells(&lines[2 * family + 1]);
        assert_eq!([&*verdict, &*traffic, &*by], ["deny", "icmp/echo", standing]);
        assert_eq!([&*source, &*destination], [STRANGER[family], own]);
    }
    // A flood of denied knocks is sampled, and what is left out is counted.
    let target = ip(ARCHIVE[0]);
    lab.world
        .run(move || {
            let socket = UdpSocket::bind((ip(STRANGER[0]), 0)).unwrap();
            for _ in 0..1_000 {
                socket.send_to(b"?", (target, 9)).unwrap();
            }
        })
        .unwrap();
    let text = lab.done(&["watch", "--count", "90"]);
    assert!(text.contains("  deny    inbound on lan0  udp/9") && text.contains(standing), "{text}");
    let tally: serde_json::Value = serde_json::from_str(&lab.done(&["tally", "--json"])).unwrap();
    let rows = tally["rows"].as_array().unwrap();
    let denied = rows.iter().find(|row| row["by"] == standing).unwrap();
    assert!(denied["packets"].as_u64() >= Some(1_002), "{denied}");
    let left_out = tally["unrecorded"]["left_out"].as_u64().unwrap();
    assert!((500..1_000).contains(&left_out), "{tally}");
    lab.done(&["withdraw"]);
}

/// What a client in the archive meets.
fn from_archive(lab: &Lab, from: &str, to: &str, port: u16) -> &'static str {
    let (from, to) = (SocketAddr::new(ip(from), 0), SocketAddr::new(ip(to), port));
    let met = lab.archive.run(move || {
        let socket = Socket::new(Domain::for_address(to), Type::STREAM, Some(Protocol::TCP))?;
        socket.bind(&from.into())?;
        socket.connect_timeout(&to.into(), PATIENCE)
    });
    match met.unwrap().map_err(|e| e.kind()) {
        Ok(()) => "answers",
        Err(io::ErrorKind::ConnectionRefused) => "refuses",
        Err(io::ErrorKind::TimedOut) => "silent",
        Err(other) => panic!("{other}"),
    }
}

/// A datagram from one space to another, and an answer to it: what arrived of both.
fn exchange((here, from): (&Space, SocketAddr), (there, to): (&Space, SocketAddr)) -> (bool, bool) {
    let bind = move |address: SocketAddr| {
        move || {
            let socket = UdpSocket::bind(address).unwrap();
            socket.set_read_timeout(Some(PATIENCE)).unwrap();
            socket
        }
    };
    let (asker, asked) = (here.run(bind(from)).unwrap(), there.run(bind(to)).unwrap());
    asker.send_to(b"question", to).unwrap();
    let mut buffer = [0; 16];
    let Ok((_, peer)) = asked.recv_from(&mut buffer) else { return (false, false) };
    asked.send_to(b"answer", peer).unwrap();
    (true, asker.recv_from(&mut buffer).is_ok())
}

fn closed_outwards(lab: &Lab, rules: &str) {
    let path = lab.orders(rules);
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, text.replace("outbound = \"allow\"", "outbound = \"deny\"")).unwrap();
}

#[test]
fn the_way_out_is_closed_but_for_what_is_allowed_and_for_answers() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let _world = lab.world.run(|| TcpListener::bind("[::]:443").unwrap()).unwrap();
    for family in 0..2 {
        assert_eq!(from_archive(&lab, ARCHIVE[family], PARTNER[family], 443), "answers");
    }
    let rule = |name: &str, rest: &str| {
        format!("[[rules]]\nname = \"{name}\"\ndirection = \"outbound\"\n{rest}\n")
    };
    let inwards = "[[rules]]\nname = \"in\"\naction = \"allow\"\ntraffic = [\"tcp/7410\", \"tcp/7499\", \"udp/5000\", \"icmp/echo\"]\nsource = \"partner\"\n";
    closed_outwards(
        &lab,
        &[
            inwards.to_owned(),
            rule("time", "action = \"allow\"\ntraffic = \"ntp\"\ndestination = \"partner\"\nlog = true"),
            rule("no-web", "action = \"refuse\"\ntraffic = [\"tcp/443\", \"udp/443\"]\ndestination = \"partner\""),
        ]
        .concat(),
    );
    lab.done(&["post"]);
    for family in 0..2 {
        let (own, partner, stranger) = (ARCHIVE[family], PARTNER[family], STRANGER[family]);
        assert_eq!(from_archive(&lab, own, stranger, 443), "silent");
        assert_eq!(from_archive(&lab, own, partner, 443), "refuses", "at once, by the rule");
        let at = |address: &str, port| SocketAddr::new(ip(address), port);
        let to = |address, port| (&lab.world, at(address, port));
        let here = |port| (&*lab.archive, at(own, port));
        assert_eq!(exchange(here(6000), to(partner, 123)), (true, true));
        assert_eq!(exchange(here(6001), to(partner, 124)), (false, false));
        assert_eq!(exchange(here(6002), to(stranger, 123)), (false, false));
        assert!(!ping(&lab.archive, own, partner));
        // A datagram that did not leave opens no way back.
        let inside = here(6001).1;
        let unasked = (&lab.world, at(partner, 124));
        assert_eq!(exchange(unasked, (&lab.archive, inside)), (false, false));
        // What was let in is answered, whoever answers.
        assert_eq!(lab.knock(partner, own, 7410), "answers");
        assert_eq!(lab.knock(partner, own, 7499), "refuses", "nobody listens, the kernel says no");
        assert_eq!(exchange(to(partner, 6003), here(5000)), (true, true));
        assert!(ping(&lab.world, partner, own));
        // ... and nobody else may be spoken to from there.
        assert_eq!(exchange(here(5000), to(stranger, 6003)), (false, false));
    }
    let asked = lab.done(&[
        "ask",
        "ntp",
        "--direction",
        "outbound",
        "--destination",
        PARTNER[1],
        "--in-force",
    ]);
    assert!(asked.contains("udp/123 to 2001:db8:113::9: let out by rule 2 (time)"), "{asked}");
    // A program that asks for the web over UDP is told at once.
    let (own, partner) = (ip(ARCHIVE[0]), ip(PARTNER[0]));
    let told = lab
        .archive
        .run(move || {
            let socket = UdpSocket::bind((own, 0)).unwrap();
            socket.set_read_timeout(Some(PATIENCE)).unwrap();
            socket.connect((partner, 443)).unwrap();
            socket.send(b"?").unwrap();
            socket.recv(&mut [0; 8]).unwrap_err().kind()
        })
        .unwrap();
    assert_eq!(told, io::ErrorKind::HostUnreachable);
    let watched = lab.done(&["watch", "--json", "--count", "1"]);
    let line: serde_json::Value = serde_json::from_str(&watched).unwrap();
    assert_eq!((&line["direction"], &line["interface"]), (&"outbound".into(), &"lan0".into()));
    let tally = lab.done(&["tally"]);
    assert!(
        tally.contains("rule 2 (time)") && tally.contains("standing answer outbound"),
        "{tally}"
    );
    lab.done(&["withdraw"]);
    assert_eq!(from_archive(&lab, ARCHIVE[0], PARTNER[0], 443), "answers");
}

/// Only the tunnel may be used: whatever interface there is, nothing else leaves.
#[test]
fn with_the_tunnel_down_not_one_packet_leaves_elsewhere() {
    let Some(lab) = Lab::new() else { return };
    let far = Space::new(Mounts::Shared).unwrap();
    let plug = |name: &'static str, other: &'static str, own: &'static str| {
        let end = far.as_fd().try_clone_to_owned().unwrap();
        lab.archive
            .run(move || {
                lab::cable(name, other, end.as_fd()).unwrap();
                lab::up(name).unwrap();
                lab::address(name, ip(own), 24).unwrap();
            })
            .unwrap();
    };
    plug("tun0", "t0", "192.0.2.10");
    far.run(|| {
        lab::up("t0").unwrap();
        lab::address("t0", ip("192.0.2.1"), 24).unwrap();
    })
    .unwrap();
    // The tunnel's server is the partner, by UDP 4500; everything else goes through it.
    let rule = |name: &str, rest: &str| {
        format!(
            "[[rules]]\nname = \"{name}\"\naction = \"allow\"\ndirection = \"outbound\"\n{rest}\n"
        )
    };
    closed_outwards(
        &lab,
        &[
            rule("tunnel-server", "traffic = \"udp/4500\"\ndestination = \"203.0.113.9\""),
            rule("through-the-tunnel", "traffic = \"any\"\ninterface = \"tun*\""),
        ]
        .concat(),
    );
    lab.done(&["post"]);
    let at = |address: &str, port| SocketAddr::new(ip(address), port);
    let own = at(ARCHIVE[0], 6000);
    let server = (&lab.world, at(PARTNER[0], 4500));
    assert_eq!(exchange((&lab.archive, own), server), (true, true));
    let through = at("192.0.2.10", 6000);
    assert_eq!(exchange((&lab.archive, through), (&far, at("192.0.2.1", 53))), (true, true));
    // What the world hears: of IPv4 everything; of IPv6, where neighbours and routers are
    // looked for too, all that carries something.
    let heard = || {
        let counters = || {
            let text = fs::read_to_string("/proc/thread-self/net/snmp").unwrap();
            let count = |group: &str, wanted: &str| -> u64 {
                let mut lines = text.lines().filter(|line| line.starts_with(group));
                let (names, values) = (lines.next().unwrap(), lines.next().unwrap());
                let at = names.split(' ').position(|name| name == wanted).unwrap();
                values.split(' ').nth(at).unwrap().parse().unwrap()
            };
            let (four, segments) = (count("Ip:", "InReceives"), count("Tcp:", "InSegs"));
            let text = fs::read_to_string("/proc/thread-self/net/snmp6").unwrap();
            let six = |name: &str| -> u64 {
                let mut words = text.lines().map(str::split_whitespace);
                words
                    .find_map(|mut w| (w.next() == Some(name)).then(|| w.next())?)
                    .map_or(0, |n| n.parse().unwrap())
            };
            let datagrams = six("Udp6InDatagrams") + six("Udp6NoPorts");
            [four, segments, datagrams, six("Icmp6InEchos")]
        };
        lab.world.run(counters).unwrap()
    };
    let talk = || {
        for family in 0..2 {
            assert_eq!(from_archive(&lab, ARCHIVE[family], STRANGER[family], 443), "silent");
            assert!(!ping(&lab.archive, ARCHIVE[family], STRANGER[family]));
            let to = (&lab.world, at(STRANGER[family], 53));
            let from = (&*lab.archive, at(ARCHIVE[family], 6001));
            assert_eq!(exchange(from, to), (false, false));
        }
    };
    let before = heard();
    talk();
    lab.archive.run(|| lab::unplug("tun0").unwrap()).unwrap();
    talk();
    assert_eq!(heard(), before, "something left");
    // The tunnel's server may still be spoken to.
    assert_eq!(exchange((&lab.archive, own), server), (true, true));
    assert_ne!(heard(), before, "the counters count");
    lab.done(&["withdraw"]);
}

/// Waits for what `met` says, a second at most.
fn within_a_second(met: impl Fn() -> bool) -> bool {
    let begin = std::time::Instant::now();
    while begin.elapsed() < std::time::Duration::from_secs(1) {
        if met() {
            return true;
        }
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    false
}

#[test]
fn an_interface_that_appears_is_kept_and_patterns_follow() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let text = "[[rules]]\nname = \"tunnel\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\ninterface = \"tun*\"\n";
    lab.orders(text);
    lab.done(&["post"]);
    let notified = lab.path().join("notified");
    let manager = std::os::unix::net::UnixDatagram::bind(&notified).unwrap();
    manager.set_read_timeout(Some(std::time::Duration::from_secs(5))).unwrap();
    let mut command = std::process::Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
    command.args(["keep", "--json"]).env("TIPSTAFF_RUN", lab.path().join("run"));
    command.env("NOTIFY_SOCKET", &notified).stdout(std::process::Stdio::piped());
    let mut keeper = lab.archive.run(move || command.spawn().unwrap()).unwrap();
    let told = || {
        let mut buffer = [0; 64];
        let length = manager.recv(&mut buffer).unwrap();
        String::from_utf8(buffer[..length].to_vec()).unwrap()
    };
    assert_eq!(told(), "READY=1");
    let plug = |name: &'static str, other: &'static str, own: &'static str, far: &'static str| {
        let end = lab.world.as_fd().try_clone_to_owned().unwrap();
        lab.archive
            .run(move || {
                lab::cable(name, other, end.as_fd()).unwrap();
                lab::up(name).unwrap();
                lab::address(name, ip(own), 24).unwrap();
            })
            .unwrap();
        lab.world
            .run(move || {
                lab::up(other).unwrap();
                lab::address(other, ip(far), 24).unwrap();
            })
            .unwrap();
    };
    for (name, other, own, far, met) in [
        ("guest0", "w1", "192.0.2.10", "192.0.2.1", "silent"),
        ("tun0", "w2", "203.0.113.130", "203.0.113.129", "answers"),
    ] {
        plug(name, other, own, far);
        let held = || lab.tipstaff(&["state"]).status.code() == Some(0);
        assert!(
            within_a_second(held),
            "{name}: {}",
            String::from_utf8_lossy(&lab.tipstaff(&["state"]).stdout)
        );
        assert!(within_a_second(|| lab.knock(far, own, 7410) == met), "{name}");
    }
    let state = lab.done(&["state"]);
    assert!(state.contains("guest0") && state.contains("tun0"), "{state}");
    // Told to stop it stops, and opens nothing.
    let pid = nix::unistd::Pid::from_raw(keeper.id() as i32);
    nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGTERM).unwrap();
    assert_eq!(told(), "STOPPING=1");
    assert!(keeper.wait().unwrap().success());
    assert_eq!(lab.knock("192.0.2.1", "192.0.2.10", 7410), "silent");
    let mut said = String::new();
    io::Read::read_to_string(&mut keeper.stdout.take().unwrap(), &mut said).unwrap();
    assert!(said.contains("\"guarded\":[\"guest0\"") && said.contains("\"tun0\""), "{said}");
    lab.done(&["withdraw"]);
}

/// A tagged packet is the VLAN interface's, not its parent's, both ways.
#[test]
fn the_interface_of_a_vlan_has_rules_of_its_own() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let made = lab.archive.run(|| lab::vlan("sensors", "lan0", 7)).unwrap();
    if made.as_ref().is_err_and(|e| e.kind() == io::ErrorKind::Unsupported) {
        let line = "SKIPPED: this kernel has no VLANs, so their interfaces were not tested\n";
        io::Write::write_all(&mut io::stderr(), line.as_bytes()).unwrap();
        return;
    }
    made.unwrap();
    lab.archive
        .run(|| {
            lab::up("sensors").unwrap();
            lab::address("sensors", ip("192.0.2.10"), 24).unwrap();
        })
        .unwrap();
    lab.world
        .run(|| {
            lab::vlan("w7", "w0", 7).unwrap();
            lab::up("w7").unwrap();
            lab::address("w7", ip("192.0.2.1"), 24).unwrap();
        })
        .unwrap();
    let both = |inside: &str, outside: &str| {
        format!(
            "[[rules]]\nname = \"in\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\ninterface = \"{inside}\"\n\
             [[rules]]\nname = \"out\"\naction = \"allow\"\ndirection = \"outbound\"\ntraffic = \"any\"\ninterface = \"{outside}\"\n"
        )
    };
    let tagged = || {
        let from = SocketAddr::new(ip("192.0.2.10"), 6000);
        let to = SocketAddr::new(ip("192.0.2.1"), 123);
        (
            lab.knock("192.0.2.1", "192.0.2.10", 7410),
            exchange((&lab.archive, from), (&lab.world, to)),
        )
    };
    let untagged = || {
        let from = SocketAddr::new(ip(ARCHIVE[0]), 6000);
        let to = SocketAddr::new(ip(PARTNER[0]), 123);
        (lab.knock(PARTNER[0], ARCHIVE[0], 7410), exchange((&lab.archive, from), (&lab.world, to)))
    };
    let (open, shut) = (("answers", (true, true)), ("silent", (false, false)));
    assert_eq!([tagged(), untagged()], [open, open]);
    closed_outwards(&lab, &both("sensors", "sensors"));
    lab.done(&["post"]);
    assert_eq!([tagged(), untagged()], [open, shut]);
    closed_outwards(&lab, &both("lan0", "lan0"));
    lab.done(&["post"]);
    assert_eq!([tagged(), untagged()], [shut, open]);
    lab.done(&["withdraw"]);
}

/// Sends a frame out of an interface of the world, as it is.
fn send_frame(lab: &Lab, device: &'static str, frame: Vec<u8>) {
    use nix::sys::socket::{
        AddressFamily, LinkAddr, MsgFlags, SockFlag, SockProtocol, SockType, bind, send, socket,
    };
    use std::os::fd::AsRawFd;
    lab.world
        .run(move || {
            let (family, kind) = (AddressFamily::Packet, SockType::Raw);
            let fd = socket(family, kind, SockFlag::empty(), SockProtocol::EthAll).unwrap();
            let mut all =
                nix::ifaddrs::getifaddrs().unwrap().filter(|i| i.interface_name == device);
            let address: Option<LinkAddr> = all.find_map(|i| i.address?.as_link_addr().copied());
            bind(fd.as_raw_fd(), &address.unwrap()).unwrap();
            send(fd.as_raw_fd(), &frame, MsgFlags::empty()).unwrap();
        })
        .unwrap();
}

/// The tag of a VLAN takes a packet out of the hands of the parent's gate; a
/// tag that only says how urgent it is does not.
#[test]
fn only_packets_without_a_vlan_are_decided_on_the_interface_itself() {
    let Some(lab) = Lab::new() else { return };
    lab.orders("");
    lab.done(&["post"]);
    let all = lab.archive.run(|| tipstaff_host::interfaces::list().unwrap()).unwrap();
    let mac = all.iter().find(|i| i.name == "lan0").unwrap().hardware.unwrap();
    let denied = || -> u64 {
        let tally: serde_json::Value =
            serde_json::from_str(&lab.done(&["tally", "--all", "--json"])).unwrap();
        let rows = tally["rows"].as_array().unwrap().clone();
        let row = rows.into_iter().find(|row| row["by"] == "the standing answer inbound").unwrap();
        row["packets"].as_u64().unwrap()
    };
    let hears = lab
        .archive
        .run(|| {
            let socket = UdpSocket::bind((ip(ARCHIVE[0]), 9)).unwrap();
            socket.set_read_timeout(Some(PATIENCE)).unwrap();
            socket
        })
        .unwrap();
    // A datagram of a stranger to a port.
    let ip_packet = [
        &[0x45, 0, 0, 28, 0, 1, 0, 0, 64, 17, 0x8e, 0x46, 192, 0, 2, 66, 198, 51, 100, 20][..],
        &[0x13, 0x88, 0, 9, 0, 8, 0, 0],
    ]
    .concat();
    let frame = |tag: Option<u16>| {
        let mut frame = [&mac[..], &[2, 0, 0, 0, 0, 0x99]].concat();
        frame.extend(
            tag.map(|tag| [&[0x81, 0][..], &tag.to_be_bytes()].concat()).unwrap_or_default(),
        );
        frame.extend([8, 0]);
        frame.extend(&ip_packet);
        frame
    };
    for (tag, decided) in
        [(None, true), (Some(7), false), (Some(0xe000), true), (Some(0xe007), false)]
    {
        let before = denied();
        send_frame(&lab, "w0", frame(tag));
        assert_eq!(denied() - before, u64::from(decided), "{tag:?}");
        // Where no interface has that VLAN, the kernel takes nothing of it.
        assert!(hears.recv(&mut [0; 8]).is_err(), "{tag:?} came in");
    }
    lab.done(&["withdraw"]);
    send_frame(&lab, "w0", frame(Some(7)));
    assert!(hears.recv(&mut [0; 8]).is_err(), "not even without a gate");
    send_frame(&lab, "w0", frame(None));
    assert!(hears.recv(&mut [0; 8]).is_ok(), "it would have been heard");
}
