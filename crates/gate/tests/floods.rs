//! Floods: a rate lets in what it says and not more, however fast it is asked;
//! no network pushes all others out of the memories; their sizes are the orders'.

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, Ipv6Addr, UdpSocket};
use std::time::{Duration, Instant};

use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_testing::{
    scene::{OWN, STRANGER, inside_with_wire, orders, post},
    wire,
};

fn rule(at_most: &str) -> String {
    orders(&format!(
        "[[rules]]\nname = \"sky\"\naction = \"allow\"\ntraffic = \"udp/7420\"\nat_most = \"{at_most}\"\n"
    ))
}

fn heard(socket: &UdpSocket) -> usize {
    std::iter::from_fn(|| socket.recv(&mut [0; 64]).ok()).count()
}

/// As many questions as go into 3 seconds, from one port and from many.
#[test]
fn a_rate_lets_in_what_it_says() {
    inside_with_wire(|scene| {
        let socket = UdpSocket::bind("[::]:7420").unwrap();
        socket.set_nonblocking(true).unwrap();
        for (at_most, every, burst) in [
            ("6 per minute per source, burst 3", 10.0, 3),
            ("60 per minute in all, burst 1", 1.0, 1),
        ] {
            for ports in [1, 1_000] {
                let mut gate = KernelGate::new(&scene.run_dir).unwrap();
                post(&mut gate, &rule(at_most), &scene.interfaces()).unwrap();
                let frames: Vec<_> = (0..ports)
                    .map(|n| {
                        let (from, to) = ((STRANGER[0], 40_000 + n), (OWN[0], 7420));
                        let datagram = wire::udp(from, to, b"?");
                        scene.to_us(STRANGER[0], OWN[0], 17, &datagram)
                    })
                    .collect();
                let (begin, mut sent, mut came) = (Instant::now(), 0, 0);
                while begin.elapsed() < Duration::from_secs(3) {
                    for frame in frames.iter().cycle().take(500) {
                        sent += usize::from(scene.wire.try_send(frame).is_ok());
                    }
                    came += heard(&socket);
                }
                std::thread::sleep(Duration::from_millis(20));
                came += heard(&socket);
                let more = (begin.elapsed().as_secs_f64() / every) as usize;
                assert!(sent > 5_000, "{sent}");
                assert!(came.abs_diff(burst + more) <= 1, "{came} of {sent}, {at_most}, {ports}");
                gate.withdraw().unwrap();
            }
        }
    });
}

/// One /48 with a new /64 for each question.
#[test]
fn a_network_has_a_share_of_the_memory() {
    inside_with_wire(|scene| {
        let socket = UdpSocket::bind("[::]:7420").unwrap();
        socket.set_nonblocking(true).unwrap();
        let text =
            format!("{}\n[memory]\nsources = 1600\n", rule("1 per hour per source, burst 1"));
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        post(&mut gate, &text, &scene.interfaces()).unwrap();
        let ask = |network: &str, n: u16| {
            let mut parts = network.parse::<Ipv6Addr>().unwrap().segments();
            parts[3] = n;
            let from = IpAddr::V6(Ipv6Addr::from(parts));
            let datagram = wire::udp((from, 40_000), (OWN[1], 7420), b"?");
            scene.wire.send(&scene.to_us(from, OWN[1], 17, &datagram));
        };
        let mut came = 0;
        for n in 0..3_000 {
            ask("2001:db8:66::7", n);
            came += heard(&socket);
        }
        std::thread::sleep(Duration::from_millis(20));
        came += heard(&socket);
        // Its share in one window; this may have met two.
        assert!((100..=200).contains(&came), "{came}");
        // Another network comes in, and once only.
        for wanted in [1, 0] {
            ask("2001:db8:67::7", 1);
            std::thread::sleep(Duration::from_millis(20));
            assert_eq!(heard(&socket), wanted);
        }
        gate.withdraw().unwrap();
    });
}

/// Other sizes take over what was remembered.
#[test]
fn sizes_change_and_nothing_is_forgotten() {
    inside_with_wire(|scene| {
        let socket = UdpSocket::bind("[::]:7420").unwrap();
        socket.set_nonblocking(true).unwrap();
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let sized = |size: u32| {
            let rule = rule("1 per hour per source, burst 1");
            format!("{rule}\n[memory]\nflows = {size}\nsources = {size}\n")
        };
        let ask = |from: IpAddr| {
            let datagram = wire::udp((from, 40_000), (OWN[0], 7420), b"?");
            scene.wire.send(&scene.to_us(from, OWN[0], 17, &datagram));
            std::thread::sleep(Duration::from_millis(20));
            heard(&socket)
        };
        let size = || {
            let path = scene.run_dir.join("bpf");
            let mut folder = std::fs::read_dir(path).unwrap().flatten().map(|e| e.path());
            let folder = folder.find(|path| path.join("rates").exists()).unwrap();
            let pinned = std::fs::read_dir(&folder).unwrap().flatten();
            let left = pinned.filter(|e| e.file_name().to_string_lossy().starts_with("new-"));
            assert_eq!(left.count(), 0);
            let map = tipstaff_bpf::sys::pinned(&folder.join("rates")).unwrap();
            tipstaff_bpf::sys::map_info(std::os::fd::AsFd::as_fd(&map)).unwrap().entries
        };
        post(&mut gate, &sized(1_024), &scene.interfaces()).unwrap();
        assert_eq!((ask(STRANGER[0]), ask(STRANGER[0]), size()), (1, 0, 1_024));
        for more in [4_096, 2_048] {
            post(&mut gate, &sized(more), &scene.interfaces()).unwrap();
            assert_eq!((ask(STRANGER[0]), size()), (0, more), "remembered");
        }
        gate.withdraw().unwrap();
    });
}
