//! Hard orders stay quick: time and memory of each kind, with sizes doubled three
//! times: `cargo bench -p tipstaff --bench growth`. They grow no faster than n log n
//! of what is written, or the work has an end that is told. Each size is a process of
//! its own, so that its memory is its own. Needs no root.

#![allow(clippy::unwrap_used, missing_docs)]

use std::fmt::Write;
use std::hint::black_box;
use std::process::Command;
use std::time::{Duration, Instant};

use tipstaff_core::analysis::compare::Comparison;
use tipstaff_core::analysis::reach::{
    Arrival, Cell, CellContext, Checked, How, Observed, Outcome, Report, Row, Subject, Vantage,
    cell, changes, merge, tables_of_many,
};
use tipstaff_core::analysis::review::coverage::coverage;
use tipstaff_core::analysis::review::fix;
use tipstaff_core::brief::{Brief, rules_on_each_host};
use tipstaff_core::moment::Moment;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::{Action, Attachments, Documents, Orders, read, read_all};
use tipstaff_core::orders::{OrdersHash, Origin};

const HEAD: &str =
    "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";

/// A kind of hard orders.
struct Case {
    name: &'static str,
    what: &'static str,
    /// The smallest size; the others are twice, four and eight times that.
    size: usize,
    /// Where growth has an end: so long it may take at most.
    bound: Option<Duration>,
    run: fn(usize) -> Duration,
}

const CASES: [Case; 13] = [
    Case {
        name: "nested",
        what: "groups that contain two groups, 30 deep",
        size: 1_000,
        bound: None,
        run: nested,
    },
    Case {
        name: "chain",
        what: "a chain of groups that is too long",
        size: 2_000,
        bound: None,
        run: chain,
    },
    Case {
        name: "faults",
        what: "rules with a wrong name each, and as many names",
        size: 1_000,
        bound: None,
        run: faults,
    },
    Case {
        name: "list",
        what: "addresses of a list that 30 rules name",
        size: 125_000,
        bound: None,
        run: list,
    },
    Case { name: "hosts", what: "hosts, and as many rules", size: 1_000, bound: None, run: hosts },
    Case {
        name: "change",
        what: "rules behind ten times as many prefixes, a change of two",
        size: 1_250,
        bound: None,
        run: small_change,
    },
    Case {
        name: "tangled",
        what: "overlapping rules compared with others",
        size: 200,
        bound: Some(Duration::from_secs(2)),
        run: tangled,
    },
    Case {
        name: "review",
        what: "rules behind ten times as many prefixes, reviewed",
        size: 1_250,
        bound: None,
        run: review_long,
    },
    Case {
        name: "knot",
        what: "overlapping rules reviewed",
        size: 200,
        bound: Some(Duration::from_secs(2)),
        run: knot,
    },
    Case {
        name: "fix",
        what: "duplicates on 20 hosts taken out",
        size: 50,
        bound: None,
        run: duplicates,
    },
    Case {
        name: "merge",
        what: "rows of whole ranges merged",
        size: 1_000,
        bound: None,
        run: merged,
    },
    Case {
        name: "changes",
        what: "rows of whole ranges compared",
        size: 1_000,
        bound: None,
        run: changed,
    },
    Case {
        name: "cells",
        what: "cells judged by as many rules",
        size: 2_500,
        bound: None,
        run: cells,
    },
];

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if arguments.iter().any(|a| a == "--test") {
        return;
    }
    if let [flag, name, size] = arguments.as_slice()
        && flag == "--one"
    {
        let case = CASES.iter().find(|case| case.name == name).unwrap();
        let took = (case.run)(size.parse().unwrap());
        println!("{} {}", took.as_secs_f64(), peak());
        return;
    }
    let wanted = |case: &&Case| {
        let mut named = arguments.iter().filter(|a| !a.starts_with('-')).peekable();
        named.peek().is_none() || named.any(|name| name == case.name)
    };
    println!("{:<58} {:>8} {:>36} {:>28}", "what", "n", "seconds of n, 2n, 4n, 8n", "MB");
    for case in CASES.iter().filter(wanted) {
        let all: Vec<(f64, f64)> =
            [1, 2, 4, 8].map(|times| measure(case, times * case.size)).into();
        let columns =
            |of: fn(&(f64, f64)) -> String| all.iter().map(of).collect::<Vec<String>>().join(" ");
        let seconds = columns(|one| format!("{:>8.3}", one.0));
        let memory = columns(|one| format!("{:>6.0}", one.1));
        let judged = if is_fine(case, &all) { "holds" } else { "BEYOND" };
        println!("{:<58} {:>8} {seconds:>36} {memory:>28}  {judged}", case.what, case.size);
    }
}

/// Seconds and megabytes; the quickest of three, as a machine is never too quick.
fn measure(case: &Case, size: usize) -> (f64, f64) {
    let one = || {
        let own = std::env::current_exe().unwrap();
        let output =
            Command::new(own).args(["--one", case.name, &size.to_string()]).output().unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        let mut numbers = text.split_whitespace().map(|word| word.parse::<f64>().unwrap());
        (numbers.next().unwrap(), numbers.next().unwrap())
    };
    let mut all = [one(), one(), one()];
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    all[0]
}

/// n log n, with room for what a machine does meanwhile: half as much again. What is
/// shorter than 20 ms or smaller than 16 MB tells nothing.
fn is_fine(case: &Case, all: &[(f64, f64)]) -> bool {
    let n = case.size as f64;
    let most = 1.5 * 8.0 * (8.0 * n).log2() / n.log2();
    let grows = |small: f64, large: f64, least: f64| large <= most * small.max(least);
    let (small, large) = (all[0], all[3]);
    match case.bound {
        Some(bound) => all.iter().all(|one| one.0 <= bound.as_secs_f64()),
        None => grows(small.0, large.0, 0.02) && grows(small.1, large.1, 16.0),
    }
}

/// The most memory that this process has had, in megabytes (proc_pid_status(5)).
fn peak() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
    line.split_whitespace().next().unwrap().parse::<f64>().unwrap() / 1e3
}

fn timed<R>(work: impl FnOnce() -> R) -> Duration {
    let begin = Instant::now();
    black_box(work());
    begin.elapsed()
}

fn rule(name: &str, source: &str) -> String {
    format!(
        "[[rules]]\nname = \"{name}\"\naction = \"allow\"\ntraffic = \"ssh\"\nsource = {source}\n"
    )
}

fn with_list(text: &str, list: String) -> Orders {
    let lists = Some([("many.txt".to_owned(), Ok(list))].into());
    let attachments = Attachments { lists, ..Attachments::default() };
    read_all(Documents { text, attachments: &attachments }).unwrap()
}

fn brief(text: &str) -> Brief {
    Brief::unplaced(&read(text).unwrap())
}

fn nested(n: usize) -> Duration {
    let mut text = format!("{HEAD}[addresses]\n");
    for group in 0..n {
        let (ladder, depth) = (group / 30, group % 30);
        let below = depth.wrapping_sub(1);
        let both = match depth {
            0 => format!("\"192.0.2.{}\"", ladder % 250),
            _ => format!("[\"a{ladder}-{below}\", \"b{ladder}-{below}\"]"),
        };
        writeln!(text, "a{ladder}-{depth} = {both}\nb{ladder}-{depth} = {both}").unwrap();
    }
    text += &rule("all", "\"a0-29\"");
    timed(|| read(&text).unwrap())
}

fn chain(n: usize) -> Duration {
    let mut text = format!("{HEAD}[addresses]\n");
    for group in 0..n {
        let next = if group + 1 == n { "192.0.2.1".into() } else { format!("g{:06}", group + 1) };
        writeln!(text, "g{group:06} = \"{next}\"").unwrap();
    }
    timed(|| read(&text).unwrap_err())
}

fn faults(n: usize) -> Duration {
    let mut text = format!("{HEAD}[addresses]\n");
    (0..n).for_each(|n| writeln!(text, "telescope-{n} = \"192.0.2.1\"").unwrap());
    (0..n).for_each(|n| text += &rule(&format!("r{n}"), &format!("\"telescope_{n}x\"")));
    timed(|| assert_eq!(read(&text).unwrap_err().0.len(), n))
}

fn list(n: usize) -> Duration {
    let address = |n: usize| format!("{}\n", std::net::Ipv4Addr::from(0x0a00_0000 + 2 * n as u32));
    let list: String = (0..n).map(address).collect();
    let mut text = format!("{HEAD}[addresses]\nmany = \"file:many.txt\"\n");
    (0..30).for_each(|n| text += &rule(&format!("r{n}"), "\"many\""));
    timed(|| with_list(&text, list))
}

fn hosts(n: usize) -> Duration {
    let mut text = HEAD.to_owned();
    for host in 0..n {
        writeln!(text, "[[hosts]]\nname = \"dome-{host}\"\ntags = [\"t{}\"]", host % 50).unwrap();
    }
    for nth in 0..n {
        let own = format!("hosts = [\"dome-{nth}\", \"dome-{}\"]\n", (nth + 7) % n);
        text += &(rule(&format!("r{nth}"), "\"192.0.2.0/24\"") + &own);
    }
    let orders = read(&text).unwrap();
    timed(|| rules_on_each_host(&orders))
}

/// Rules about a port and a network each, behind one about a long list.
fn behind_a_list(rules: usize) -> Brief {
    let prefix =
        |n: usize| format!("{}/24\n", std::net::Ipv4Addr::from(0x1400_0000 + 512 * n as u32));
    let list: String = (0..10 * rules).map(prefix).collect();
    let mut text = format!("{HEAD}[addresses]\nmany = \"file:many.txt\"\n");
    text += &rule("known", "\"many\"").replace("\"ssh\"", "\"any\"").replace("allow", "deny");
    for n in 0..rules {
        let source = format!("\"10.{}.{}.0/24\"", n / 256, n % 256);
        text += &rule(&format!("r{n}"), &source).replace("ssh", &format!("tcp/{}", n + 1));
    }
    Brief::unplaced(&with_list(&text, list))
}

fn small_change(n: usize) -> Duration {
    let before = behind_a_list(n);
    let mut after = before.clone();
    for at in [n / 3, n / 2] {
        std::sync::Arc::make_mut(&mut after.rules[at]).action = Action::Refuse;
    }
    timed(|| assert_eq!(Comparison::between(&before, &after).changes.len(), 2))
}

fn review_long(n: usize) -> Duration {
    let brief = behind_a_list(n);
    timed(|| assert!(!coverage(&brief).gave_up))
}

/// Overlapping rules; `split`: each range in two pieces, and the other answer.
fn overlapping(number: usize, split: bool) -> Brief {
    let rules = (0..number).map(|n| {
        let (first, last) = (1 + n, 30_000 + n);
        let middle = first + 10_000;
        let traffic = match split {
            false => format!("\"tcp/{first}-{last}\""),
            true => format!("[\"tcp/{first}-{middle}\", \"tcp/{}-{last}\"]", middle + 1),
        };
        let action = if n % 2 == usize::from(split) { "allow" } else { "deny" };
        format!(
            "[[rules]]\nname = \"r{n}\"\naction = \"{action}\"\ntraffic = {traffic}\n\
             source = [\"198.{}.{}.0/24\", \"203.0.113.0/24\"]\n",
            n / 250,
            n % 250
        )
    });
    brief(&format!("{HEAD}{}", rules.collect::<String>()))
}

fn tangled(n: usize) -> Duration {
    let (before, after) = (overlapping(n, false), overlapping(n, true));
    timed(|| Comparison::between(&before, &after).lines())
}

fn knot(n: usize) -> Duration {
    let brief = overlapping(n, true);
    timed(|| coverage(&brief))
}

fn duplicates(n: usize) -> Duration {
    let mut text = HEAD.to_owned();
    (0..20).for_each(|n| writeln!(text, "[[hosts]]\nname = \"dome-{n}\"").unwrap());
    for n in 0..n {
        for copy in ["first", "second"] {
            text += &rule(&format!("{copy}-{n}"), &format!("\"10.0.{}.0/24\"", n % 250));
        }
    }
    let attachments = Attachments::default();
    let brief = brief(&text);
    let sheets = Documents { text: &text, attachments: &attachments };
    timed(|| fix(sheets, &brief, Moment(1)).unwrap())
}

fn observed(outcome: Outcome) -> Observed {
    Observed { outcome, how: How::Wire, ..Observed::unknown("") }
}

/// Rows about all ports, of as many own addresses.
fn whole_ranges(n: usize, outcome: Outcome) -> Report {
    let seen = Cell {
        expected: Outcome::Silent,
        expected_by: "the standing answer inbound".into(),
        observed: observed(outcome),
        why: None,
        next: None,
        accepted: None,
    };
    let row = |n: usize| Row {
        subject: Subject::Port(Transport::Tcp, 1),
        last: Some(u16::MAX),
        at: Some(std::net::Ipv4Addr::from(0x0a00_0000 + n as u32).into()),
        programs: vec![],
        heard: false,
        cells: vec![Some(seen.clone())],
    };
    let checked = Checked {
        host: "archive".into(),
        orders: Origin::File { path: "orders.toml".into(), hash: OrdersHash::digest("") },
        gate: "up".into(),
        at: Moment(7),
    };
    Report::new(checked, vec![Vantage::Here], (0..n).map(row).collect())
}

fn merged(n: usize) -> Duration {
    let reports = [whole_ranges(n, Outcome::Silent), whole_ranges(n, Outcome::Answers)];
    timed(|| merge(&reports).unwrap())
}

fn changed(n: usize) -> Duration {
    let (before, after) = (whole_ranges(n, Outcome::Silent), whole_ranges(n, Outcome::Answers));
    timed(|| changes(&before, &after))
}

fn cells(n: usize) -> Duration {
    let mut text = HEAD.to_owned();
    for n in 0..n {
        let source = format!("\"10.{}.{}.0/24\"", n / 256, n % 256);
        text += &rule(&format!("r{n}"), &source).replace("ssh", &format!("tcp/{}", n + 1));
    }
    let brief = brief(&text);
    let interface = tipstaff_core::packet::InterfaceIndex(2);
    let at = Arrival { target: [198, 51, 100, 20].into(), interface };
    timed(|| {
        let tables = tables_of_many(&brief);
        let around =
            CellContext { tables: tables.as_ref(), ..CellContext::plain(&brief, Some(&[])) };
        let one = |port: usize| {
            let subject = Subject::Port(Transport::Tcp, port as u16);
            cell(subject, &Vantage::Here, at, observed(Outcome::Refuses), &around)
        };
        (1..=n).map(one).collect::<Vec<Cell>>()
    })
}
