//! What the host crate reads, held against sockets and namespaces that the
//! test made itself.

#![allow(clippy::unwrap_used)]

use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::os::fd::AsFd;
use std::os::unix::process::ExitStatusExt;
use std::process::Command;

use nix::unistd::Pid;
use tipstaff_core::host::listener::Scope;
use tipstaff_core::names::traffic::Transport;
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_host::routes::{Way, way_to};
use tipstaff_host::snapshot::Snapshot;
use tipstaff_host::stations::{self, Station};
use tipstaff_host::{interfaces, listeners, namespace};
use tipstaff_testing::{ip, skipped};

/// A namespace, or a loud line about why there is none.
fn space() -> Option<Space> {
    match Space::new(Mounts::Shared) {
        Ok(space) => Some(space),
        Err(why) => {
            skipped("namespaces were", &why);
            None
        }
    }
}

#[test]
fn sockets_of_this_test_are_seen_with_their_owner() {
    let tcp = TcpListener::bind("127.0.0.1:0").unwrap();
    let udp = UdpSocket::bind("[::]:0").unwrap();
    let found = listeners::list(&interfaces::list().unwrap()).unwrap();
    let seen = |transport, address: SocketAddr| {
        let all = found.listeners.iter();
        all.clone().find(|l| l.transport == transport && l.port == address.port()).cloned()
    };
    let tcp = seen(Transport::Tcp, tcp.local_addr().unwrap()).unwrap();
    assert_eq!((tcp.scope(), tcp.queue), (Scope::Loopback, Some((0, 128))));
    let own = tcp.program().unwrap();
    assert_eq!(own.pid, std::process::id());
    assert_eq!(own.path.as_deref(), std::env::current_exe().unwrap().to_str());
    let udp = seen(Transport::Udp, udp.local_addr().unwrap()).unwrap();
    assert_eq!((udp.scope(), udp.only_v6, udp.queue), (Scope::All, false, None));
    assert!(udp.takes(ip("198.51.100.20")));
}

#[test]
fn a_connected_or_closed_socket_is_no_listener() {
    let udp = UdpSocket::bind("127.0.0.1:0").unwrap();
    udp.connect("127.0.0.1:9").unwrap();
    let port = udp.local_addr().unwrap().port();
    let found = listeners::list(&[]).unwrap();
    assert!(!found.listeners.iter().any(|l| l.transport == Transport::Udp && l.port == port));
}

#[test]
fn interfaces_and_ways_of_a_namespace_are_its_own() {
    let (Some(near), Some(far)) = (space(), space()) else { return };
    let end = far.as_fd().try_clone_to_owned().unwrap();
    near.run(move || {
        lab::cable("lan0", "w0", end.as_fd()).unwrap();
        lab::up("lan0").unwrap();
        lab::address("lan0", ip("198.51.100.20"), 24).unwrap();
        lab::address("lan0", ip("2001:db8:51::20"), 64).unwrap();
        assert_eq!(way_to(ip("203.0.113.9")).unwrap(), Way::None);
        lab::default_route(ip("198.51.100.1")).unwrap();
        let all = interfaces::list().unwrap();
        assert_eq!(all.iter().map(|i| i.name.as_str()).collect::<Vec<_>>(), ["lo", "lan0"]);
        let lan = &all[1];
        assert!(all[0].is_loopback() && lan.up && lan.hardware.is_some());
        // The link-local address is there too, but is not one to knock on.
        assert_eq!(lan.addresses_of(true).collect::<Vec<_>>(), [ip("2001:db8:51::20")]);
        assert_eq!(way_to(ip("198.51.100.20")).unwrap(), Way::Own);
        let out =
            |gateway| Way::Out { interface: lan.index, source: Some(ip("198.51.100.20")), gateway };
        assert_eq!(way_to(ip("198.51.100.23")).unwrap(), out(None));
        assert_eq!(way_to(ip("203.0.113.9")).unwrap(), out(Some(ip("198.51.100.1"))));
        assert_eq!(way_to(ip("2001:db8:113::9")).unwrap(), Way::None);
    })
    .unwrap();
}

#[test]
fn a_namespace_that_is_not_there_is_named() {
    let fault = namespace::enter("ts-nowhere").unwrap_err().to_string();
    assert_eq!(fault, "there is no network namespace `ts-nowhere` (/run/netns/ts-nowhere)");
}

#[test]
fn a_snapshot_reads_back_as_it_was_written() {
    let _listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let snapshot = Snapshot::live().unwrap();
    let text = serde_json::to_string(&snapshot).unwrap();
    assert_eq!(Snapshot::from_json(&text).unwrap(), snapshot);
    assert!(Snapshot::from_json("{}").is_err());
}

#[test]
fn nothing_that_runs_on_a_station_outlives_it() {
    let Some(_) = space() else { return };
    let folder = tempfile::tempdir().unwrap();
    let switch = stations::switch().unwrap();
    let station = Station::new(&switch, "mast", ip("198.51.100.22"), folder.path());
    let Ok(station) = station.map_err(|why| skipped("a host of the lab was", &why)) else { return };
    let sleep = || Command::new("sleep").arg("1000").spawn().unwrap();
    let (inside, mut outside) = (station.space.run(sleep).unwrap(), sleep());
    let own = i32::try_from(inside.id()).unwrap();
    assert_eq!(station.space.processes(), [Pid::from_raw(own)]);
    drop(station);
    let mut inside = inside;
    assert_eq!(inside.wait().unwrap().signal(), Some(9));
    assert!(outside.try_wait().unwrap().is_none());
    outside.kill().unwrap();
    outside.wait().unwrap();
}
