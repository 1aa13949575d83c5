//! What this host can reach, and what can be reached through it, against ordinary
//! clients in namespaces of the test's own. Needs root.

#![allow(clippy::unwrap_used)]

mod common;

use std::net::TcpListener;
use std::os::fd::{AsFd, OwnedFd};

use common::{Lab, PARTNER, STRANGER};
use serde_json::Value;
use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{Assembler, If, R0, R1, R2, R3, R4, R5, R6, STACK, Width};
use tipstaff_bpf::sys::{self, Attach, Order, ProgramKind};
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_testing::ip;

const BEHIND: [&str; 2] = ["192.0.2.7", "2001:db8:7::7"];
const RULES: &str = r#"[[rules]]
name = "plates"
direction = "outbound"
action = "allow"
traffic = ["tcp/7410", "udp/7420"]
destination = "partner"
[[rules]]
name = "closed"
direction = "outbound"
action = "allow"
traffic = "tcp/7499"
[[rules]]
name = "mail"
direction = "outbound"
action = "refuse"
traffic = "tcp/25"
[[rules]]
name = "lamps"
direction = "transit"
action = "allow"
traffic = ["tcp/7410", "icmp/echo"]
source = "partner"
[[rules]]
name = "no-lamps"
direction = "transit"
action = "refuse"
traffic = "tcp/7411"
"#;

fn report(lab: &Lab, arguments: &[&str]) -> (Option<i32>, Value) {
    let output = lab.tipstaff(&[&["reach", "--json"], arguments].concat());
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let report = serde_json::from_str(&text)
        .unwrap_or_else(|e| panic!("{e}: {text}{}", String::from_utf8_lossy(&output.stderr)));
    (output.status.code(), report)
}

/// `subject at destination: expected, observed by how`, a line each.
fn lines(report: &Value) -> Vec<String> {
    let word = |one: &Value, key: &str| one[key].as_str().unwrap().to_owned();
    let line = |one: &Value| {
        let [subject, to, expected] = ["subject", "destination", "expected"].map(|k| word(one, k));
        format!("{subject} {to}: {expected}, {} by {}", word(one, "observed"), word(one, "how"))
    };
    report["crossings"].as_array().unwrap().iter().map(line).collect()
}

#[test]
fn what_this_host_can_reach_is_what_a_connection_meets() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.world.run(|| TcpListener::bind("[::]:7410").unwrap()).unwrap();
    let orders = lab.orders(RULES);
    let text = std::fs::read_to_string(&orders).unwrap();
    std::fs::write(&orders, text.replacen("outbound = \"allow\"", "outbound = \"deny\"", 1))
        .unwrap();
    let ask: Vec<String> = [PARTNER[0].to_owned(), format!("[{}]", PARTNER[1])]
        .iter()
        .flat_map(|to| [7410, 7411, 7499, 25].map(|port| format!("--outbound={to}:{port}")))
        .chain([format!("--outbound=udp/{}:7420", PARTNER[0])])
        .chain([format!("--outbound=icmp/{}", PARTNER[0])])
        .collect();
    let ask: Vec<&str> = ask.iter().map(String::as_str).collect();
    // Nothing is in force: what is meant to stay in leaves.
    let (code, before) = report(&lab, &ask);
    let told = lines(&before);
    assert_eq!(code, Some(1));
    assert_eq!(told[0], format!("tcp/7410 {}: passes, passes by wire", PARTNER[0]));
    assert_eq!(told[1], format!("tcp/7411 {}: kept, passes by wire", PARTNER[0]));
    assert_eq!(before["crossings"][1]["why"], "nothing is in force");
    assert_eq!(told[8], format!("udp/7420 {}: passes, passes by gate", PARTNER[0]));

    lab.done(&["post"]);
    let (code, after) = report(&lab, &ask);
    assert_eq!(code, Some(0), "{after:#}");
    let told = lines(&after);
    for (at, to) in PARTNER.into_iter().enumerate() {
        assert_eq!(told[at * 4], format!("tcp/7410 {to}: passes, passes by wire"));
        // Denied connecting ends with EPERM, refused with ECONNREFUSED, and the other end's
        // own refusal is its own affair.
        assert_eq!(told[at * 4 + 1], format!("tcp/7411 {to}: kept, kept by wire"));
        assert_eq!(told[at * 4 + 2], format!("tcp/7499 {to}: passes, passes by wire"));
        assert_eq!(told[at * 4 + 3], format!("tcp/25 {to}: refused, refused by gate"));
    }
    assert_eq!(told[8], format!("udp/7420 {}: passes, passes by gate", PARTNER[0]));
    assert_eq!(told[9], format!("icmp/echo {}: kept, kept by gate", PARTNER[0]));

    // Another program, and a group of the orders.
    let with_program = text.replacen("outbound = \"allow\"", "outbound = \"deny\"", 1).replacen(
        "destination = \"partner\"",
        "destination = \"partner\"\nprogram = \"/usr/sbin/plated\"",
        1,
    );
    std::fs::write(&orders, with_program).unwrap();
    lab.done(&["post"]);
    let (code, mine) = report(&lab, &["--outbound", "partner:7410"]);
    assert_eq!(code, Some(0), "{mine:#}");
    assert!(lines(&mine).iter().all(|line| line.ends_with("kept, kept by wire")), "{mine:#}");
    assert_eq!(lines(&mine).len(), 2);
    let plated = ["--outbound", "partner:7410", "--program", "/usr/sbin/plated"];
    let (code, its) = report(&lab, &plated);
    assert_eq!(code, Some(0), "{its:#}");
    assert!(lines(&its).iter().all(|line| line.ends_with("passes, passes by gate")), "{its:#}");
    assert_eq!(its["crossings"][0]["program"], "/usr/sbin/plated");

    // Where no route leads nobody sends anything.
    lab.archive.run(|| lab::down("lan0").unwrap()).unwrap();
    let (code, nowhere) = report(&lab, &["--outbound", "203.0.113.9:7410"]);
    assert_eq!((code, &nowhere["crossings"][0]["leaves"]), (Some(1), &Value::Null), "{nowhere:#}");
    assert_eq!(lines(&nowhere)[0].rsplit(' ').nth(2), Some("unknown"));
    lab.archive.run(|| lab::up("lan0").unwrap()).unwrap();
    for (wrong, help) in [
        ("198.51.100.20:22", "reach without"),
        ("203.0.113.9", "Write it as"),
        ("nobody:22", "Write it as"),
        ("203.0.113.9:7410-7412", "Write it as"),
    ] {
        let output = lab.tipstaff(&["reach", "--outbound", wrong]);
        assert_eq!(output.status.code(), Some(2), "{wrong}");
        assert!(String::from_utf8_lossy(&output.stderr).contains(help), "{wrong}");
    }
    lab.done(&["withdraw", "--yes"]);
}

/// A network behind the archive, with one machine in it.
fn dish(lab: &Lab) -> Space {
    let behind = Space::new(Mounts::Shared).unwrap();
    let end = behind.as_fd().try_clone_to_owned().unwrap();
    lab.archive
        .run(move || {
            lab::cable("dish0", "d0", end.as_fd()).unwrap();
            lab::up("dish0").unwrap();
            lab::address("dish0", ip("192.0.2.1"), 28).unwrap();
            lab::address("dish0", ip("2001:db8:7::1"), 64).unwrap();
        })
        .unwrap();
    behind
        .run(|| {
            lab::up("d0").unwrap();
            lab::address("d0", ip(BEHIND[0]), 28).unwrap();
            lab::address("d0", ip(BEHIND[1]), 64).unwrap();
            lab::default_route(ip("192.0.2.1")).unwrap();
        })
        .unwrap();
    behind
}

/// Publishes every port of the archive but those of its own listeners' address family:
/// behind the gate, what comes in for it by IPv4 is given the address of the machine
/// behind it, as translating hosts do. While the descriptor is open.
fn published() -> OwnedFd {
    const NETWORK: i32 = 14;
    let number = |address: &str| {
        let octets: Vec<u8> = address.split('.').map(|part| part.parse().unwrap()).collect();
        i32::from_ne_bytes(octets.try_into().unwrap())
    };
    let (own, behind) = (number(common::ARCHIVE[0]), number(BEHIND[0]));
    let mut a = Assembler::default();
    let next = a.label();
    a.copy(R6, R1);
    a.mov(R2, NETWORK + 16);
    a.stack(R3, -8);
    a.mov(R4, 4);
    a.mov(R5, 0);
    a.call(helper::SKB_LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, next);
    a.load(Width::W, R1, STACK, -8);
    a.jump32_if(If::Ne, R1, own as u32, next);
    // bpf_l4_csum_replace (11) of TCP, then bpf_l3_csum_replace (10).
    for (helper, at, flags) in [(11, NETWORK + 36, 0x10 | 4), (10, NETWORK + 10, 4)] {
        a.copy(R1, R6);
        a.mov(R2, at);
        a.mov(R3, own);
        a.mov(R4, behind);
        a.mov(R5, flags);
        a.call(helper);
    }
    a.store_imm(Width::W, STACK, -8, behind);
    a.copy(R1, R6);
    a.mov(R2, NETWORK + 16);
    a.stack(R3, -8);
    a.mov(R4, 4);
    a.mov(R5, 0);
    a.call(helper::SKB_STORE_BYTES);
    a.place(next);
    a.mov(R0, -1);
    a.exit();
    let lan = interfaces::list().unwrap().into_iter().find(|i| i.name == "lan0").unwrap();
    let code = a.finish().unwrap();
    let program = sys::program_load(ProgramKind::SchedCls, "translates", &code).unwrap();
    sys::link_interface(program.as_fd(), lan.index, Attach::TcxIngress, Order::Last).unwrap()
}

#[test]
fn a_published_port_is_told_with_the_machine_it_is_forwarded_to_to() {
    let Some(lab) = Lab::new() else { return };
    let behind = dish(&lab);
    let listener = behind.run(|| TcpListener::bind("[::]:7410").unwrap()).unwrap();
    listener.set_nonblocking(true).unwrap();
    lab.orders(common::PLATES);
    lab.done(&["post"]);
    let _published = lab
        .archive
        .run(|| {
            std::fs::write("/proc/sys/net/ipv4/ip_forward", "1").unwrap();
            published()
        })
        .unwrap();
    let (code, seen) = report(&lab, &["--as", PARTNER[0]]);
    assert_eq!(code, Some(0), "{seen:#}");
    let row = seen["rows"].as_array().unwrap().iter().find(|row| row["subject"] == "tcp/7410");
    let cell = &row.unwrap()["cells"][1];
    assert_eq!(cell["observed"]["outcome"], "answers", "{cell:#}");
    assert_eq!(cell["observed"]["forwarded_to"], "192.0.2.7:7410");
    let text = lab.done(&["reach", "--as", PARTNER[0]]);
    let words = "published: forwarded to 192.0.2.7 port 7410; no program on this host listens";
    assert!(text.split_whitespace().collect::<Vec<_>>().join(" ").contains(words), "{text}");
    // Nobody there was troubled.
    assert!(listener.accept().is_err());
    lab.done(&["withdraw", "--yes"]);
}

#[test]
fn what_passes_through_is_seen_where_it_leaves() {
    let Some(lab) = Lab::new() else { return };
    let behind = dish(&lab);
    let listener = behind.run(|| TcpListener::bind("[::]:7410").unwrap()).unwrap();
    listener.set_nonblocking(true).unwrap();
    lab.orders(RULES);
    lab.done(&["post"]);
    let six = format!("[{}]", BEHIND[1]);
    let through: Vec<String> = [BEHIND[0], &six]
        .iter()
        .flat_map(|to| [7410, 7411, 7499].map(|port| format!("--through={to}:{port}")))
        .chain(BEHIND.map(|to| format!("--through=icmp/{to}")))
        .collect();
    let ask = |sources: [&'static str; 2]| {
        let named = sources.into_iter().flat_map(|source| ["--as", source]);
        let all: Vec<&str> = named.chain(through.iter().map(String::as_str)).collect();
        report(&lab, &all)
    };
    // This host forwards nothing: what the orders let through stays away.
    let (code, still) = ask(PARTNER);
    assert_eq!(code, Some(1));
    let why = still["crossings"][0]["why"].as_str().unwrap();
    assert_eq!(why, "this host does not forward IPv4 from lan0");
    lab.archive
        .run(|| {
            std::fs::write("/proc/sys/net/ipv4/ip_forward", "1").unwrap();
            std::fs::write("/proc/sys/net/ipv6/conf/all/forwarding", "1").unwrap();
        })
        .unwrap();
    let (code, seen) = ask(PARTNER);
    assert_eq!(code, Some(0), "{seen:#}");
    let told = lines(&seen);
    for to in BEHIND {
        for line in [
            format!("tcp/7410 {to}: passes, passes by wire"),
            format!("tcp/7411 {to}: refused, refused by gate"),
            format!("tcp/7499 {to}: kept, kept by wire"),
            format!("icmp/echo {to}: passes, passes by wire"),
        ] {
            assert!(told.contains(&line), "{line}: {told:#?}");
        }
    }
    assert_eq!(seen["crossings"][0]["leaves"], "dish0");
    let (code, strangers) = ask([STRANGER[0], STRANGER[1]]);
    assert_eq!(code, Some(0), "{strangers:#}");
    let kept = lines(&strangers).iter().filter(|line| line.ends_with("kept, kept by wire")).count();
    assert_eq!(kept, 6, "{strangers:#}");
    // Nobody is there: what the gate let pass does not leave, and that is told as unknown.
    let (code, away) = report(&lab, &["--as", PARTNER[0], "--through", "192.0.2.9:7410"]);
    assert_eq!((code, away["unknown"].as_u64()), (Some(1), Some(1)));
    let evidence = away["crossings"][0]["evidence"].as_str().unwrap();
    assert!(evidence.contains("192.0.2.9 does not respond on dish0"), "{evidence}");
    // None of it has come to anybody behind this host.
    assert!(listener.accept().is_err());
    lab.done(&["withdraw", "--yes"]);
}
