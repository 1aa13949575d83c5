//! Rates and refusals, as ordinary clients meet them on the real kernel.

#![allow(clippy::unwrap_used)]

mod ground;

use std::io;
use std::net::UdpSocket;

use ground::{ARCHIVE, Lab, PARTNER, PATIENCE, STRANGER, ip};
use tipstaff_gate::kernel::sys::set_transmit_checksum;

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
