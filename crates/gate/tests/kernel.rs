//! The kernel's gate: a post is all or nothing whatever fails, and a withdrawn
//! gate leaves nothing behind.

#![allow(clippy::unwrap_used)]

use std::cell::RefCell;
use std::net::IpAddr;
use std::ops::ControlFlow;
use std::rc::Rc;
use std::time::{Duration, Instant};

use tipstaff_core::brief::Brief;
use tipstaff_core::decision::flows::UDP_AGE;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::orders::{Action, read};
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::kernel::{KernelGate, RECORD_BYTES};
use tipstaff_gate::{Gate, Posting};
use tipstaff_host::{interfaces, lab};
use tipstaff_testing::scene::{ALLOW, inside, knock, orders, post, record};

#[test]
fn a_post_stopped_at_any_step_leaves_the_old_or_the_new() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, frame) = (InterfaceIndex(cable.index), knock(cable.hardware.unwrap()));
        let (old, new) = (orders(""), orders(ALLOW));
        // First the steps of a post onto nothing, then of one onto orders in force.
        for before in [None, Some(&old)] {
            let mut stopped = 0;
            for at in 0.. {
                let mut gate = KernelGate::new(&run_dir).unwrap();
                if let Some(before) = before {
                    post(&mut gate, before, &all).unwrap();
                }
                let seen = Rc::new(RefCell::new(0));
                let count = Rc::clone(&seen);
                let hook = move |_: &'static str| {
                    *count.borrow_mut() += 1;
                    if *count.borrow() > at {
                        ControlFlow::Break(())
                    } else {
                        ControlFlow::Continue(())
                    }
                };
                let mut dying = KernelGate::new(&run_dir).unwrap().with_hook(Box::new(hook));
                let done = post(&mut dying, &new, &all).is_ok();
                drop(dying);
                let in_force = gate.in_force().unwrap().map(|f| f.record.orders);
                if done {
                    assert_eq!(in_force.as_ref(), Some(&new));
                    assert_eq!(gate.ask(index, &frame).unwrap().verdict, Action::Allow);
                    assert!(gate.withdraw().unwrap());
                    break;
                }
                stopped += 1;
                assert_eq!(in_force.as_ref(), before, "stopped at step {at}");
                // The next command goes on from whatever was left.
                post(&mut gate, &new, &all).unwrap();
                assert_eq!(gate.in_force().unwrap().unwrap().record.orders, new);
                gate.withdraw().unwrap();
                assert!(!run_dir.exists(), "step {at} left something behind");
            }
            assert!(stopped >= 6, "only {stopped} steps");
        }
    });
}

#[test]
fn a_withdrawal_stopped_at_any_step_can_be_finished() {
    inside(|run_dir, all| {
        for at in 0.. {
            let mut gate = KernelGate::new(&run_dir).unwrap();
            post(&mut gate, &orders(ALLOW), &all).unwrap();
            let mut left = at;
            let hook = move |_: &'static str| {
                left -= 1;
                if left < 0 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            };
            let mut dying = KernelGate::new(&run_dir).unwrap().with_hook(Box::new(hook));
            let done = dying.withdraw();
            // Either it is still in force whole, or it is open whole.
            let in_force = gate.in_force().unwrap();
            assert!(at == 0 || in_force.is_none());
            let _ = gate.withdraw().unwrap();
            assert!(!run_dir.exists(), "step {at}");
            if done.is_ok() {
                assert!(at > 4);
                break;
            }
        }
    });
}

#[test]
fn tallies_go_on_over_a_post_and_asking_leaves_no_trace() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &orders(ALLOW), &all).unwrap();
        let asked = gate.ask(InterfaceIndex(cable.index), &knock(cable.hardware.unwrap())).unwrap();
        let rule = Speaker::Rule(tipstaff_core::brief::RuleIndex(0));
        assert_eq!(asked, Decision { verdict: Action::Allow, speaker: rule });
        let packets = |gate: &KernelGate, wanted| {
            let all = gate.tallies().unwrap();
            all.iter().find(|(speaker, _)| *speaker == wanted).unwrap().1.packets
        };
        assert_eq!(packets(&gate, rule), 0);
        // Real traffic over loopback is counted, and the count survives a post.
        let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
        socket.send_to(&[1], socket.local_addr().unwrap()).unwrap();
        let loopback =
            Speaker::Foundation(tipstaff_core::decision::foundations::Foundation::Loopback);
        let before = packets(&gate, loopback);
        assert!(before >= 1);
        let behind =
            format!("[[rules]]\nname = \"first\"\naction = \"deny\"\ntraffic = \"gre\"\n{ALLOW}");
        post(&mut gate, &orders(&behind), &all).unwrap();
        assert!(packets(&gate, loopback) >= before);
        gate.withdraw().unwrap();
    });
}

#[test]
fn an_interface_that_vanished_is_told_and_its_link_forgotten() {
    inside(|run_dir, mut all| {
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let mut ghost = all[0].clone();
        (ghost.index, ghost.name) = (4_000, "ts-ghost".into());
        all.push(ghost);
        let text = orders(ALLOW);
        let brief = Brief::unplaced(&read(&text).unwrap());
        let posted = gate.post(&Posting { brief: &brief, record: record(&text) }, &all).unwrap();
        assert_eq!(posted.vanished, ["ts-ghost"]);
        let guarded = gate.in_force().unwrap().unwrap().guarded.len();
        lab::unplug("ts-a").unwrap();
        assert_eq!(gate.in_force().unwrap().unwrap().guarded.len(), guarded - 1);
        post(&mut gate, &text, &interfaces::list().unwrap()).unwrap();
        gate.withdraw().unwrap();
        assert!(!run_dir.exists());
    });
}

/// Both places of the memory let the answer to a datagram in, and nothing else.
#[test]
fn what_the_host_sends_is_remembered() {
    inside(move |run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &orders(""), &all).unwrap();
        assert_eq!(gate.in_force().unwrap().unwrap().guarded_outwards, [index]);
        // A broadcast needs no neighbour to be there.
        let socket = std::net::UdpSocket::bind("198.51.100.20:5000").unwrap();
        socket.set_broadcast(true).unwrap();
        socket.send_to(b"?", "198.51.100.255:123").unwrap();
        let answer = |from: u16| {
            let mut frame = mac.to_vec();
            frame.extend([2, 0, 0, 0, 0, 0x99, 8, 0]);
            frame.extend([0x45, 0, 0, 28, 0, 1, 0, 0, 64, 17, 0, 0]);
            frame.extend([198, 51, 100, 255, 198, 51, 100, 20]);
            frame.extend(from.to_be_bytes());
            frame.extend([0x13, 0x88, 0, 8, 0, 0]);
            frame
        };
        let verdict = |from| gate.ask(index, &answer(from)).unwrap().verdict;
        assert_eq!(verdict(123), Action::Allow);
        assert_eq!(verdict(124), Action::Deny);
        assert!(gate.withdraw().unwrap());
        assert!(!run_dir.exists());
    });
}

/// What no sender means: each kind is dropped and counted, in both families.
#[test]
fn malformed_and_spoofed_packets_are_dropped_and_counted() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        // Everything else is let in: what is dropped, a foundation dropped.
        let open = orders("").replace("inbound = \"deny\"", "inbound = \"allow\"");
        post(&mut gate, &open, &all).unwrap();
        let four = knock(mac);
        let six = {
            let mut frame = mac.to_vec();
            frame.extend([2, 0, 0, 0, 0, 0x99, 0x86, 0xdd, 0x60, 0, 0, 0, 0, 20, 6, 64]);
            for last in [9u8, 0x20] {
                frame.extend([0x20, 1, 0xd, 0xb8, 0, 0x51, 0, 0, 0, 0, 0, 0, 0, 0, 0, last]);
            }
            frame.extend(&four[34..54]);
            frame
        };
        let with = |frame: &[u8], at: usize, bytes: &[u8]| {
            let mut frame = frame.to_vec();
            frame[at..at + bytes.len()].copy_from_slice(bytes);
            frame
        };
        let without = |frame: &[u8], bytes: usize| frame[..frame.len() - bytes].to_vec();
        let (flags_four, flags_six) = (14 + 20 + 13, 14 + 40 + 13);
        let mut local_six = [0; 16];
        local_six[15] = 1;
        let udp = |length: u16| {
            let frame = with(&four, 14 + 9, &[17]);
            with(&frame, 14 + 20 + 4, &length.to_be_bytes())
        };
        let mut headers = vec![
            ("another version, IPv4", with(&four, 14, &[0x65])),
            ("another version, IPv6", with(&six, 14, &[0x40])),
            ("a header shorter than a header", with(&four, 14, &[0x44])),
            ("a length shorter than its header", with(&four, 14 + 2, &[0, 19])),
            ("a length without room for TCP", with(&four, 14 + 2, &[0, 39])),
            ("a length without room for TCP, IPv6", with(&six, 14 + 4, &[0, 19])),
            ("a TCP header cut short", without(&four, 1)),
            ("a TCP header cut short, IPv6", without(&six, 1)),
            ("a TCP header that says it is too short", with(&four, 14 + 20 + 12, &[0x40])),
            ("a datagram that says it is too short", udp(7)),
        ];
        for (frame, at, family) in [(&four, flags_four, "IPv4"), (&six, flags_six, "IPv6")] {
            for flags in [0x00u8, 0x01, 0x03, 0x06, 0x07, 0x29, 0x3f] {
                let name = Box::leak(format!("flags {flags:#04x}, {family}").into_boxed_str());
                headers.push((name, with(frame, at, &[flags])));
            }
        }
        let elsewhere = [
            ("a loopback source", with(&four, 14 + 12, &[127, 0, 0, 1])),
            ("a loopback destination", with(&four, 14 + 16, &[127, 9, 9, 9])),
            ("a loopback source, IPv6", with(&six, 14 + 8, &local_six)),
            ("a loopback destination, IPv6", with(&six, 14 + 24, &local_six)),
        ];
        let mut wanted = std::collections::BTreeMap::new();
        for (foundation, cases) in [
            (Foundation::Malformed, headers.as_slice()),
            (Foundation::Martian, elsewhere.as_slice()),
        ] {
            for (what, frame) in cases {
                let (decision, answer) = gate.play(index, frame).unwrap();
                let dropped = Speaker::Foundation(foundation);
                assert_eq!(
                    decision,
                    Decision { verdict: Action::Deny, speaker: dropped },
                    "{what}"
                );
                assert!(answer.is_empty());
            }
            wanted.insert(foundation as u32, cases.len() as u64);
        }
        for (speaker, tally) in gate.tallies().unwrap() {
            if let Speaker::Foundation(foundation) = speaker {
                let count = wanted.get(&(foundation as u32)).copied().unwrap_or(0);
                assert_eq!(tally.packets, count, "{foundation}");
            }
        }
        // The frames that all these were made of are sound.
        for frame in [&four, &six] {
            assert_eq!(gate.play(index, frame).unwrap().0.verdict, Action::Allow);
        }
        gate.withdraw().unwrap();
    });
}

/// A packet that says it comes from this host itself, and arrives from outside:
/// few own addresses are compared, many are looked up.
#[test]
fn own_addresses_from_outside_are_dropped_and_counted() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let text = orders("").replace("inbound = \"deny\"", "inbound = \"allow\"");
        let from = |source: IpAddr| {
            let mut four = knock(mac);
            match source {
                IpAddr::V4(a) => four[26..30].copy_from_slice(&a.octets()),
                IpAddr::V6(a) => {
                    let mut six = mac.to_vec();
                    six.extend([2, 0, 0, 0, 0, 0x99, 0x86, 0xdd, 0x60, 0, 0, 0, 0, 20, 6, 64]);
                    six.extend(a.octets());
                    six.extend("2001:db8:51::20".parse::<std::net::Ipv6Addr>().unwrap().octets());
                    six.extend(&four[34..54]);
                    four = six;
                }
            }
            four
        };
        let ours: [IpAddr; 2] =
            ["198.51.100.20".parse().unwrap(), "2001:db8:51::20".parse().unwrap()];
        let others: [IpAddr; 2] =
            ["198.51.100.21".parse().unwrap(), "2001:db8:51::21".parse().unwrap()];
        let many = (0..60u8).flat_map(|n| {
            [
                IpAddr::from([192, 0, 2, n]),
                IpAddr::from([0x2001, 0xdb8, 0x99, 0, 0, 0, 0, n.into()]),
            ]
        });
        let lists = [ours.to_vec(), ours.into_iter().chain(many).collect()];
        for mut own in lists {
            own.sort_unstable();
            let mut brief = Brief::unplaced(&read(&text).unwrap());
            brief.own = own;
            gate.post(&Posting { brief: &brief, record: record(&text) }, &all).unwrap();
            for source in ours {
                let (said, _) = gate.play(index, &from(source)).unwrap();
                let dropped = Speaker::Foundation(Foundation::Martian);
                assert_eq!(said, Decision { verdict: Action::Deny, speaker: dropped }, "{source}");
            }
            for source in others {
                assert_eq!(gate.play(index, &from(source)).unwrap().0.verdict, Action::Allow);
            }
        }
        let tallies = gate.tallies().unwrap();
        let of = Speaker::Foundation(Foundation::Martian);
        assert_eq!(tallies.iter().find(|(s, _)| *s == of).unwrap().1.packets, 4);
        gate.withdraw().unwrap();
    });
}

/// The memory of flows is full of others: who is asked now may answer.
#[test]
fn a_full_memory_of_flows_still_knows_who_was_asked() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &orders(""), &all).unwrap();
        // A broadcast needs no neighbour to be there.
        let socket = std::net::UdpSocket::bind("198.51.100.20:5000").unwrap();
        socket.set_broadcast(true).unwrap();
        let ports = 1..=u16::MAX;
        let mut sent = Vec::new();
        for port in ports.clone() {
            socket.send_to(b"?", ("198.51.100.255", port)).unwrap();
            sent.push((port, Instant::now()));
        }
        let second = std::net::UdpSocket::bind("198.51.100.20:5001").unwrap();
        second.set_broadcast(true).unwrap();
        for port in ports.step_by(16) {
            second.send_to(b"?", ("198.51.100.255", port)).unwrap();
        }
        let answered = |from: u16, to: u16| {
            let mut frame = mac.to_vec();
            frame.extend([2, 0, 0, 0, 0, 0x99, 8, 0]);
            frame.extend([0x45, 0, 0, 28, 0, 1, 0, 0, 64, 17, 0, 0]);
            frame.extend([198, 51, 100, 255, 198, 51, 100, 20]);
            frame.extend(from.to_be_bytes());
            frame.extend(to.to_be_bytes());
            frame.extend([0, 8, 0, 0]);
            gate.ask(index, &frame).unwrap().verdict == Action::Allow
        };
        assert!(answered(u16::MAX - 14, 5001), "the newest of all");
        // On a slow machine the first are forgotten by their age meanwhile, as they should be.
        let (mut young, mut known) = (0, 0);
        for (port, at) in sent {
            if at.elapsed() < UDP_AGE - Duration::from_secs(5) {
                young += 1;
                known += usize::from(answered(port, 5000));
            }
        }
        let whole = usize::from(u16::MAX);
        assert!(known * whole > young * 50_000 && known < whole, "{known} of {young}");
        assert!(!answered(7, 5002), "nobody was asked from there");
        assert!(gate.withdraw().unwrap());
    });
}

/// Nobody reads the records: they are lost and counted, and decide nothing.
#[test]
fn a_full_ring_is_counted_and_changes_no_verdict() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, frame) = (InterfaceIndex(cable.index), knock(cable.hardware.unwrap()));
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &orders(&format!("{ALLOW}log = true\n")), &all).unwrap();
        let room = tipstaff_gate::kernel::RING_BYTES as usize / (RECORD_BYTES + 8);
        for n in 0..room + 50 {
            assert_eq!(gate.play(index, &frame).unwrap().0.verdict, Action::Allow, "{n}");
        }
        let lost = gate.unrecorded().unwrap().lost;
        assert!((50..=60).contains(&lost), "{lost}");
        let events = gate.events().unwrap().drain();
        assert_eq!(events.len() as u64 + lost, room as u64 + 50);
        assert!(events.iter().all(|event| event.verdict == Action::Allow));
        // Read, there is room again.
        gate.play(index, &frame).unwrap();
        assert_eq!(gate.unrecorded().unwrap().lost, lost);
        gate.withdraw().unwrap();
    });
}

/// The memory of rates is full of others: the newest are counted all the same.
#[test]
fn a_full_memory_of_rates_still_limits_who_comes() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mut frame) = (InterfaceIndex(cable.index), knock(cable.hardware.unwrap()));
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let rule = format!("{ALLOW}at_most = \"2 per day per source\"\n");
        post(&mut gate, &orders(&rule), &all).unwrap();
        // More sources than there is room for, of many networks: one has a share only.
        let mut say = |source: u32| {
            frame[26..30].copy_from_slice(&(0x0a00_0000 + source).to_be_bytes());
            gate.play(index, &frame).unwrap().0.verdict
        };
        for n in 0..(tipstaff_core::decision::rates::CAPACITY + 2_000) as u32 {
            let source = ((n % 64) << 16) + n / 64;
            assert_eq!(say(source), Action::Allow, "{source}");
        }
        let said = [say(0x00ff_0000), say(0x00ff_0000), say(0x00ff_0000)];
        assert_eq!(said, [Action::Allow, Action::Allow, Action::Deny]);
        gate.withdraw().unwrap();
    });
}
