//! What leaves, and through which interface, as ordinary programs meet it on
//! the real kernel.

#![allow(clippy::unwrap_used)]

mod common;

use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::{fs, io};

use common::{ARCHIVE, Lab, PARTNER, STRANGER};
use nix::sys::socket::{AddressFamily, SockFlag, SockProtocol, SockType};
use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_testing::{clients::ping, clients::told, ip, patience::PATIENCE};

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
        Err(io::ErrorKind::PermissionDenied) => "forbidden",
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
    // What may not leave is told to its sender.
    if asker.send_to(b"question", to).is_err() {
        return (false, false);
    }
    let mut buffer = [0; 16];
    let Ok((_, peer)) = asked.recv_from(&mut buffer) else { return (false, false) };
    asked.send_to(b"answer", peer).unwrap();
    (true, asker.recv_from(&mut buffer).is_ok())
}

/// What arrives on an interface: all IP packets but neighbours, routers and MLD.
struct Arrivals(OwnedFd);

impl Arrivals {
    fn on(interface: &str) -> Self {
        let own = nix::ifaddrs::getifaddrs().unwrap().find_map(|entry| {
            let link = entry.address?.as_link_addr().copied()?;
            (entry.interface_name == interface).then_some(link)
        });
        let flags = SockFlag::SOCK_NONBLOCK;
        let socket = nix::sys::socket::socket(
            AddressFamily::Packet,
            SockType::Raw,
            flags,
            SockProtocol::EthAll,
        )
        .unwrap();
        nix::sys::socket::bind(socket.as_raw_fd(), &own.unwrap()).unwrap();
        Self(socket)
    }

    fn seen(&self) -> Vec<Vec<u8>> {
        let mut seen = Vec::new();
        let mut frame = [0; 2048];
        while let Ok(length) = nix::unistd::read(&self.0, &mut frame) {
            let frame = &frame[..length];
            let housekeeping = match &frame[12..14] {
                [8, 0] => false,
                // ICMPv6 of neighbours and routers, and MLD behind a hop-by-hop header.
                [0x86, 0xdd] => {
                    frame[20] == 0 || frame[20] == 58 && (130..=143).contains(&frame[54])
                }
                _ => true,
            };
            if !housekeeping {
                seen.push(frame.to_vec());
            }
        }
        seen
    }
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
        // The neighbours may not know each other yet.
        let open = || from_archive(&lab, ARCHIVE[family], PARTNER[family], 443) == "answers";
        assert!((0..8).any(|_| open()), "{family}");
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
        assert_eq!(from_archive(&lab, own, stranger, 443), "forbidden", "at once");
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
    let web = SocketAddr::new(ip(PARTNER[0]), 443);
    let told = told(&lab.archive, ip(ARCHIVE[0]), web);
    assert_eq!(told, io::ErrorKind::HostUnreachable);
    let watched = lab.done(&["watch", "--json", "--count", "1"]);
    let line: serde_json::Value = serde_json::from_str(&watched).unwrap();
    // The first was a connect: it had no route yet, and its program is known.
    assert_eq!((&line["direction"], &line["interface"]), (&"outbound".into(), &"any".into()));
    let own = std::env::current_exe().unwrap();
    assert_eq!(line["program"], own.to_str().unwrap());
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
                lab::address(name, ip(own), 25).unwrap();
            })
            .unwrap();
    };
    plug("tun0", "t0", "192.0.2.130");
    far.run(|| {
        lab::up("t0").unwrap();
        lab::address("t0", ip("192.0.2.129"), 25).unwrap();
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
    let own = at(ARCHIVE[0], 6000);
    let server = (&lab.world, at(PARTNER[0], 4500));
    assert_eq!(exchange((&lab.archive, own), server), (true, true));
    let through = at("192.0.2.130", 6000);
    assert_eq!(exchange((&lab.archive, through), (&far, at("192.0.2.129", 53))), (true, true));
    let before = heard(&lab);
    talk(&lab);
    lab.archive.run(|| lab::unplug("tun0").unwrap()).unwrap();
    talk(&lab);
    assert_eq!(heard(&lab), before, "something left");
    let guest = Guest::plugged_in(&lab);
    guest.stays_silent(&lab);
    // The second line gone, something would have been heard.
    // The tunnel's server may still be spoken to.
    assert_eq!(exchange((&lab.archive, own), server), (true, true));
    assert_ne!(heard(&lab), before, "the counters count");
    lab.done(&["withdraw"]);
    guest.is_heard(&lab);
}

fn at(address: &str, port: u16) -> SocketAddr {
    SocketAddr::new(ip(address), port)
}

/// What the world has heard: of IPv4 everything; of IPv6, where neighbours and routers
/// are looked for too, all that carries something.
fn heard(lab: &Lab) -> [u64; 4] {
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
}

/// The archive tries to speak to a stranger.
fn talk(lab: &Lab) {
    for family in 0..2 {
        // It depends on the route: the packet is made, stopped, and its sender told.
        let met = from_archive(lab, ARCHIVE[family], STRANGER[family], 443);
        assert_eq!(met, "refuses", "{family}");
        assert!(!ping(&lab.archive, ARCHIVE[family], STRANGER[family]));
        let to = (&lab.world, at(STRANGER[family], 53));
        let from = (&*lab.archive, at(ARCHIVE[family], 6001));
        assert_eq!(exchange(from, to), (false, false));
    }
}

/// The archive's address on the interface that is plugged in, and the other end's.
const GUEST: [(&str, &str); 2] =
    [("192.0.2.130", "192.0.2.129"), ("2001:db8:99::10", "2001:db8:99::1")];

/// The other end of an interface that is plugged in after the post.
struct Guest {
    wire: Space,
    arrivals: Arrivals,
}

impl Guest {
    fn plugged_in(lab: &Lab) -> Self {
        let wire = Space::new(Mounts::Shared).unwrap();
        let end = wire.as_fd().try_clone_to_owned().unwrap();
        lab.archive
            .run(move || {
                lab::cable("guest0", "g0", end.as_fd()).unwrap();
                lab::up("guest0").unwrap();
                lab::address("guest0", ip("192.0.2.130"), 25).unwrap();
                lab::address("guest0", ip("2001:db8:99::10"), 64).unwrap();
            })
            .unwrap();
        let arrivals = wire.run(|| {
            lab::up("g0").unwrap();
            lab::address("g0", ip("192.0.2.129"), 25).unwrap();
            lab::address("g0", ip("2001:db8:99::1"), 64).unwrap();
            Arrivals::on("g0")
        });
        Self { wire, arrivals: arrivals.unwrap() }
    }

    fn knock(&self, own: &str, other: &str) -> bool {
        let (from, to) = (at(other, 0), at(own, 7410));
        let met = self.wire.run(move || {
            let socket = Socket::new(Domain::for_address(to), Type::STREAM, Some(Protocol::TCP))?;
            socket.bind(&from.into())?;
            socket.connect_timeout(&to.into(), PATIENCE)
        });
        met.unwrap().is_ok()
    }

    /// Nobody posts anything: nothing leaves there, and nothing comes in.
    fn stays_silent(&self, lab: &Lab) {
        for (own, other) in GUEST {
            assert_eq!(from_archive(lab, own, other, 443), "silent");
            let (from, to) = ((&*lab.archive, at(own, 6002)), (&self.wire, at(other, 53)));
            assert_eq!(exchange(from, to), (false, false));
            assert!(!ping(&lab.archive, own, other));
        }
        let seen = self.arrivals.seen();
        assert_eq!(seen, Vec::<Vec<u8>>::new(), "something left through the new interface");
        let _listener = lab.listen("::", 7410);
        for (own, other) in GUEST {
            assert!(!self.knock(own, other), "{own}");
        }
    }

    /// What was not heard before can be.
    fn is_heard(&self, lab: &Lab) {
        let (own, other) = GUEST[0];
        let (from, to) = ((&*lab.archive, at(own, 6003)), (&self.wire, at(other, 53)));
        assert_eq!(exchange(from, to), (true, true));
        assert!(!self.arrivals.seen().is_empty(), "the arrivals are seen");
        let _listener = lab.listen("::", 7410);
        assert!(GUEST.iter().all(|(own, other)| self.knock(own, other)));
    }
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
