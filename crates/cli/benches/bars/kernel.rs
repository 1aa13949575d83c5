//! Figures of the gate's programs and of the witness.

use std::net::{IpAddr, TcpListener};
use std::os::fd::AsFd;
use std::time::{Duration, Instant};

use tipstaff_bpf::asm::{Assembler, If, Op, R0, R1, R2, R3, R4, R6, R7, R8, R9, STACK, Width};
use tipstaff_bpf::sys::{self, MapKind, ProgramKind, SKB_CONTEXT};
use tipstaff_core::analysis::reach::Subject;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::interfaces;
use tipstaff_knock::frames::{self, FIRST_PORT, Knock};
use tipstaff_knock::witness::{Witness, approach};

use crate::yardstick::{line, median};
use crate::{REPEAT, meeting, post};

pub fn verdicts(gate: &mut KernelGate) {
    let lan = interfaces::list().unwrap().into_iter().find(|i| i.name == "lan0").unwrap();
    let (index, mac) = (InterfaceIndex(lan.index), lan.hardware.unwrap());
    let target = "198.51.100.20".parse().unwrap();
    let empty = {
        let mut a = Assembler::default();
        a.mov(R0, -1);
        a.exit();
        sys::program_load(ProgramKind::SchedCls, "ts_empty", &a.finish().unwrap()).unwrap()
    };
    let empty_run = |frame: &[u8]| {
        let runs = (0..9).map(|_| {
            let mut context = [0u8; SKB_CONTEXT];
            context[40..44].copy_from_slice(&lan.index.to_ne_bytes());
            sys::test_run_skb(empty.as_fd(), frame, &mut context, REPEAT).unwrap().0.duration
        });
        median(runs.collect())
    };
    let mut small = Duration::ZERO;
    for rules in [10, 1_000, 10_000] {
        let took = post(gate, rules);
        let (subject, source) = meeting(rules / 2);
        let frame = frames::first(subject, Knock { source, target, from: FIRST_PORT, tag: 1 }, mac);
        let nothing = empty_run(&frame);
        let verdict = median((0..9).map(|_| gate.time(index, &frame, REPEAT).unwrap()).collect());
        let net = verdict.saturating_sub(nothing);
        let bar = if rules == 10 { "≤ 150 ns" } else { "" };
        line(
            &format!("verdict on a SYN in the kernel, {rules} rules, less an empty program"),
            format!("{net:.0?}"),
            bar,
        );
        line(&format!("post of {rules} rules, text to in force"), format!("{took:.1?}"), "");
        if rules == 10 {
            small = net;
        } else if rules == 10_000 {
            let ratio = net.as_secs_f64() / small.as_secs_f64();
            line("verdict, 10,000 rules / 10 rules", format!("{ratio:.1}"), "≤ 5");
            let chain = chain(rules);
            // To the rule in the middle, and to the last one.
            for meets in [rules / 2, rules - 1] {
                let (subject, source) = meeting(meets);
                let frame =
                    frames::first(subject, Knock { source, target, from: FIRST_PORT, tag: 1 }, mac);
                let run = |_| {
                    let mut context = [0u8; SKB_CONTEXT];
                    context[40..44].copy_from_slice(&lan.index.to_ne_bytes());
                    let run = sys::test_run_skb(chain.as_fd(), &frame, &mut context, REPEAT / 20);
                    let run = run.unwrap().0;
                    assert_eq!(run.returned, meets as u32, "the chain finds the same rule");
                    run.duration
                };
                let walked = median((0..9).map(run).collect()).saturating_sub(nothing);
                let times = (0..9).map(|_| gate.time(index, &frame, REPEAT).unwrap());
                let net = median(times.collect()).saturating_sub(nothing);
                let ratio = walked.as_secs_f64() / net.as_secs_f64();
                line(
                    &format!("to rule {}: a straight chain ({walked:.0?}) / tables", meets + 1),
                    format!("{ratio:.0}"),
                    "≥ 20",
                );
            }
        }
    }
}

/// What the tables are measured against: a program that walks the same rules
/// one by one, as fast as such a walk can be. It returns the number of the rule.
/// Two rules a turn: more branches the verifier would not follow.
pub fn chain(rules: usize) -> std::os::fd::OwnedFd {
    const KEY: i16 = -8;
    const SOURCE: i16 = -16;
    // Port, network, mask; one a rule.
    let mut list = Vec::new();
    for n in 0..rules {
        let (subject, source) = meeting(n);
        let (Subject::Port(_, port), IpAddr::V4(source)) = (subject, source) else { panic!() };
        for word in [u32::from(port), u32::from(source) & !0xff, !0xff] {
            list.extend(word.to_ne_bytes());
        }
    }
    let map = sys::map_create(MapKind::Array, "ts_chain", 4, list.len() as u32, 1).unwrap();
    sys::map_update(map.as_fd(), &[0; 4], &list).unwrap();
    let mut a = Assembler::default();
    let (found, second, out) = (a.label(), a.label(), a.label());
    for (from, to, length) in [(36, KEY, 2), (26, SOURCE, 4)] {
        a.copy(R6, R1);
        a.store_imm(Width::D, STACK, to, 0);
        a.mov(R2, from);
        a.stack(R3, to);
        a.mov(R4, length);
        a.call(26); // bpf_skb_load_bytes
        a.copy(R1, R6);
    }
    a.load(Width::H, R7, STACK, KEY);
    a.to_be(R7, 16);
    a.load(Width::W, R8, STACK, SOURCE);
    a.to_be(R8, 32);
    a.ld_map_value(R9, map.as_fd(), 0);
    a.mov(R6, 0);
    let differs = |a: &mut Assembler, to, rule: i16| {
        a.load(Width::W, to, R9, rule * 12);
        a.alu64(Op::Xor, to, R7);
        a.load(Width::W, R2, R9, rule * 12 + 8);
        a.alu64(Op::And, R2, R8);
        a.load(Width::W, R3, R9, rule * 12 + 4);
        a.alu64(Op::Xor, R2, R3);
        a.alu64(Op::Or, to, R2);
    };
    let turn = a.label_here();
    differs(&mut a, R0, 0);
    differs(&mut a, R1, 1);
    a.copy(R2, R0);
    a.alu64(Op::Mul, R2, R1);
    a.jump_if(If::Eq, R2, 0, found);
    a.alu64_imm(Op::Add, R9, 24);
    a.alu64_imm(Op::Add, R6, 2);
    a.jump32_if(If::Lt, R6, rules as u32, turn);
    a.jump(out);
    a.place(found);
    a.jump_if(If::Ne, R0, 0, second);
    a.jump(out);
    a.place(second);
    a.alu64_imm(Op::Add, R6, 1);
    a.place(out);
    a.copy(R0, R6);
    a.exit();
    sys::program_load(ProgramKind::SchedCls, "ts_chain", &a.finish().unwrap()).unwrap()
}

/// All TCP ports by the witness: silent behind a gate, refused and answering without.
pub fn witness(open: bool) {
    let _listeners: Vec<TcpListener> = if open {
        (20_000..20_100).map(|port| TcpListener::bind(("0.0.0.0", port)).unwrap()).collect()
    } else {
        Vec::new()
    };
    let all = interfaces::list().unwrap();
    let approach = approach("203.0.113.9".parse().unwrap(), None, &all).unwrap();
    let doors: Vec<(Subject, IpAddr)> =
        (1..=u16::MAX).map(|port| (Subject::Port(Transport::Tcp, port), approach.target)).collect();
    let begin = Instant::now();
    let mut witness = Witness::open(approach, None).unwrap();
    let replies = witness.knock(&doors, Duration::from_millis(150), &mut |_| true).unwrap();
    let took = begin.elapsed();
    let answering = replies
        .iter()
        .filter(|r| r.reply.outcome() == tipstaff_core::analysis::reach::Outcome::Answers)
        .count();
    let (what, bar) = match open {
        true => ("refused, 100 answering", "≤ 1.5 s"),
        false => ("silent", "≤ 4 s"),
    };
    assert_eq!(answering, if open { 100 } else { 0 });
    line(&format!("65,535 ports by the witness, {what}"), format!("{took:.2?}"), bar);
}
