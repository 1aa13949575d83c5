//! The review of orders: exact about coverage, and readable.

#![allow(clippy::unwrap_used)]

use std::net::IpAddr;
use std::sync::Arc;

use proptest::prelude::*;
use tipstaff_core::analysis::compare::Comparison;
use tipstaff_core::analysis::log::Wanted;
use tipstaff_core::analysis::review::coverage::coverage;
use tipstaff_core::analysis::review::{Finding, ReviewContext, review};
use tipstaff_core::arbitrary;
use tipstaff_core::brief::{Brief, RuleIndex};
use tipstaff_core::host::listener::{Listener, Owner, Program};
use tipstaff_core::moment::Moment;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::{Action, AtMost, Code, Inactive, Period, Sharing, read};

const NOW: Moment = Moment(2_000_000_000);

fn without(brief: &Brief, index: RuleIndex) -> Brief {
    let mut other = brief.clone();
    Arc::make_mut(&mut other.rules[index.0 as usize]).inactive = Some(Inactive::Paused);
    other
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 80, ..ProptestConfig::default() })]

    /// A rule is needed exactly when something changes without it; and it decides
    /// exactly when something could change if it said something else.
    #[test]
    fn what_speaks_and_what_is_needed_is_exact(mut brief in arbitrary::brief(14)) {
        brief.expire(NOW);
        for rule in &mut brief.rules {
            let rule = Arc::make_mut(rule);
            rule.at_most = None;
            rule.log = false;
        }
        let covered = coverage(&brief);
        prop_assert!(!covered.gave_up);
        for (index, rule) in brief.indexed() {
            let known = &covered.rules[index.0 as usize];
            let gone = without(&brief, index);
            prop_assert_eq!(known.needed, !Comparison::between(&brief, &gone).is_empty(), "{:?}", rule);
            // Something else about the same packets: whoever cannot be identified meets
            // what keeps out by program, and never what lets in.
            let mut other = brief.clone();
            let changed = Arc::make_mut(&mut other.rules[index.0 as usize]);
            match changed.action {
                Action::Allow => {
                    changed.at_most =
                        AtMost::new(1, Period::Day, Sharing::InAll, None).ok();
                }
                Action::Deny => changed.action = Action::Refuse,
                Action::Refuse => changed.action = Action::Deny,
            }
            let otherwise = !Comparison::between(&brief, &other).is_empty();
            prop_assert_eq!(known.decides, otherwise, "{:?}", rule);
            prop_assert!(known.decides || known.covered_by.iter().all(|by| *by < index));
        }
    }
}

fn listener(transport: Transport, port: u16, program: &str) -> Listener {
    let programs = vec![Program { pid: 1, name: program.into(), path: None }];
    Listener {
        owner: Owner { uid: 0, account: "root".into(), programs },
        ..Listener::of_root(transport, port, IpAddr::from([0, 0, 0, 0]))
    }
}

/// Mistakes that were planted, each found once and by its code.
const PLANTED: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[foundations]
address_assignment = false
[addresses]
observatory = ["198.51.100.0/24", "2001:db8:51::/48"]
[[rules]]
name = "low-half"
note = "n"
action = "allow"
traffic = "tcp/7410"
source = ["198.51.100.0/25", "2001:db8:51::/49"]
[[rules]]
name = "high-half"
note = "n"
action = "refuse"
traffic = ["tcp/7410", "tcp/7430"]
source = ["198.51.100.128/25", "2001:db8:51:8000::/49"]
[[rules]]
name = "covered-by-both"
note = "n"
action = "deny"
traffic = "tcp/7410"
source = "observatory"
[[rules]]
name = "shell"
note = "n"
action = "allow"
traffic = "ssh"
[[rules]]
name = "shell-again"
note = "n"
action = "allow"
traffic = "tcp/22"
[[rules]]
name = "said-anyway"
note = "n"
action = "deny"
traffic = "tcp/7450"
[[rules]]
name = "museum"
note = "n"
action = "allow"
traffic = "postgresql"
accepted = ["too-wide: a museum piece without data", "nothing-listens: only on open days"]
[[rules]]
name = "everything-for-the-house"
action = "allow"
traffic = "any"
source = "198.51.100.0/24"
[[rules]]
name = "swapped"
note = "n"
action = "allow"
traffic = "tcp/7404"
source = "203.0.113.0/24"
family = "ipv4"
[[rules]]
name = "over"
note = "n"
action = "allow"
traffic = "tcp/7460"
until = 2026-01-01T00:00:00Z
"#;

#[test]
fn planted_mistakes_are_found() {
    let brief = Brief::unplaced(&read(PLANTED).unwrap());
    let heard = [
        listener(Transport::Tcp, 7410, "plated"),
        listener(Transport::Tcp, 7440, "domed"),
        listener(Transport::Tcp, 22, "shelld"),
        listener(Transport::Udp, 7420, "skycam"),
    ];
    let found = review(
        &brief,
        &ReviewContext { listeners: Some(&heard), now: NOW, ..ReviewContext::default() },
    );
    assert_eq!(found.accepted, 2);
    let lines: Vec<String> = found
        .findings
        .iter()
        .map(|f| {
            let rule = f.rule.as_deref().unwrap_or("-");
            format!("{:?} {} {rule}: {}\n  {}", f.severity, f.code.name(), f.what, f.help)
        })
        .collect();
    insta::assert_snapshot!(lines.join("\n"));
}

#[test]
fn what_is_accepted_needs_a_known_code_and_a_reason() {
    for wrong in ["too-wide", "too-wide:", "to-wide: because"] {
        let text = PLANTED.replace("too-wide: a museum piece without data", wrong);
        let faults = read(&text).unwrap_err();
        assert_eq!(faults.0.len(), 1);
        assert!(faults.0[0].help.contains("too-wide"), "{}", faults.0[0].help);
    }
    assert_eq!(Code::ALL.map(Code::name)[0], "never-matches");
}

const ONE: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[[rules]]
name = "web"
note = "n"
action = "allow"
traffic = "tcp/442"
"#;

fn codes(text: &str, around: &ReviewContext<'_>) -> Vec<Code> {
    let orders = read(text).unwrap();
    review(&Brief::unplaced(&orders), around).findings.into_iter().map(|f| f.code).collect()
}

#[test]
fn a_port_near_a_well_known_service_is_probably_mistyped() {
    let around = ReviewContext { listeners: Some(&[]), now: NOW, ..ReviewContext::default() };
    let orders = read(ONE).unwrap();
    let found = review(&Brief::unplaced(&orders), &around);
    assert_eq!(found.findings[0].code, Code::MistypedPort);
    assert!(found.findings[0].help.ends_with("tipstaff rule set web traffic=https"));
    // A port that a service has is no slip, and one above 1023 belongs to whoever takes it.
    for other in ["tcp/443", "tcp/8442"] {
        assert_eq!(codes(&ONE.replace("tcp/442", other), &around), [Code::NothingListens]);
    }
    // Somebody who listens one slip away is nearer.
    let heard = [listener(Transport::Tcp, 542, "plated")];
    let around = ReviewContext { listeners: Some(&heard), ..around };
    let found = review(&Brief::unplaced(&orders), &around);
    assert!(found.findings[0].what.contains("something does on tcp/542"), "{found:?}");
}

#[test]
fn each_item_of_a_list_is_judged_by_itself() {
    let heard = [listener(Transport::Tcp, 80, "plated"), listener(Transport::Tcp, 7421, "skycam")];
    let around = ReviewContext { listeners: Some(&heard), now: NOW, ..ReviewContext::default() };
    let found = |traffic: &str| {
        let text = ONE.replace("\"tcp/442\"", traffic);
        let orders = read(&text).unwrap();
        let mut findings = review(&Brief::unplaced(&orders), &around).findings;
        findings.retain(|f| f.code != Code::ListenerDenied);
        let words = |f: tipstaff_core::analysis::review::Finding| (f.code, f.what, f.help);
        findings.into_iter().map(words).collect::<Vec<_>>()
    };
    let slip = found(r#"["http", "tcp/442"]"#);
    assert_eq!(slip.len(), 1, "{slip:?}");
    assert_eq!(slip[0].0, Code::MistypedPort);
    assert!(slip[0].2.ends_with("tipstaff rule set web traffic=http,https"), "{}", slip[0].2);
    // Neighbours are two, and a range is one.
    let neighbours = found(r#"["tcp/7420", "tcp/7421", "tcp/7421"]"#);
    assert_eq!(neighbours.len(), 1, "{neighbours:?}");
    assert!(neighbours[0].1.starts_with("nothing listens on tcp/7420"), "{neighbours:?}");
    assert_eq!(found(r#"["tcp/7420-7421", "http"]"#), []);
    assert_eq!(found(r#"["http", "udp/7420-7423"]"#)[0].0, Code::NothingListens);
    let but = r#"["tcp/80-81", "tcp/442"]"#.to_owned() + "\ntraffic_except = \"tcp/442\"";
    assert_eq!(found(&but), []);
}

#[test]
fn orders_that_cut_off_who_asks_are_an_error() {
    let cut_off = Some(("your own shell would not be let in again", "Add a rule for it."));
    let around = ReviewContext { cut_off, now: NOW, ..ReviewContext::default() };
    let found = review(&Brief::unplaced(&read(ONE).unwrap()), &around);
    assert_eq!(found.findings[0].code, Code::CutsYouOff);
    assert_eq!(found.findings[0].severity, tipstaff_core::orders::Severity::Error);
}

#[test]
fn an_exception_is_no_contradiction_and_a_crossing_is() {
    let around = ReviewContext { now: NOW, ..ReviewContext::default() };
    let two = |first: &str, second: &str| {
        let rule = |name: &str, action: &str, rest: &str| {
            format!("[[rules]]\nname = \"{name}\"\nnote = \"n\"\naction = \"{action}\"\n{rest}\n")
        };
        let rules = [rule("a", "deny", first), rule("b", "allow", second)].concat();
        codes(
            &ONE.replace(ONE.split_once("[[rules]]").unwrap().1, "").replace("[[rules]]", &rules),
            &around,
        )
        .contains(&Code::PartlyContradicted)
    };
    let visitors = "traffic = \"tcp/7410\"\nsource = \"198.51.100.128/25\"";
    // Narrower before wider: meant.
    assert!(!two(visitors, "traffic = \"tcp/7410\"\nsource = \"198.51.100.0/24\""));
    assert!(!two(visitors, "traffic = \"tcp/7410-7420\"\nsource = \"198.51.100.0/24\""));
    // Each has something that the other has not.
    assert!(two(visitors, "traffic = \"tcp/7410-7420\"\nsource = \"198.51.100.192/26\""));
    assert!(two(visitors, "traffic = \"tcp/7410\"\nsource = \"198.51.100.64-198.51.100.150\""));
    // Nothing in common.
    assert!(!two(visitors, "traffic = \"tcp/7411\"\nsource = \"198.51.100.0/24\""));
    assert!(!two(visitors, "traffic = \"tcp/7410-7420\"\nsource = \"203.0.113.0/24\""));
    assert!(!two(visitors, "traffic = \"tcp/7410-7420\"\nfamily = \"ipv6\""));
}

#[test]
fn what_was_seen_lately_is_told_of_rules_and_listeners() {
    let heard =
        [listener(Transport::Tcp, 7430, "weatherd"), listener(Transport::Tcp, 7410, "plated")];
    let text = "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
                [[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\n";
    let ago = |days: u32| Moment(NOW.0 - days * 86_400);
    let found = |unmatched: &[(String, Moment)], wanted: &[Wanted]| {
        let brief = Brief::unplaced(&read(text).unwrap());
        let around = ReviewContext {
            listeners: Some(&heard),
            unmatched,
            wanted,
            now: NOW,
            ..ReviewContext::default()
        };
        review(&brief, &around).findings
    };
    let about = |findings: Vec<Finding>, code: Code| {
        findings.into_iter().find(|f| f.code == code).map(|f| (f.rule, f.what))
    };
    let quiet = |name: &str, days: u32| {
        about(found(&[(name.into(), ago(days))], &[]), Code::NotMatchedLately)
    };
    let (rule, what) = quiet("plates", 40).unwrap();
    assert!(rule.as_deref() == Some("plates") && what.contains("for 40 days"), "{what}");
    // A month is nothing, and other rules are not meant.
    assert_eq!((quiet("plates", 30), quiet("others", 40)), (None, None));
    let wanted = |traffic: &str| Wanted {
        traffic: traffic.into(),
        days: 6,
        of: 7,
        source: "203.0.113.9".into(),
        sources: 3,
    };
    let (_, what) = about(found(&[], &[wanted("tcp/7430")]), Code::ListenerDenied).unwrap();
    assert!(what.ends_with("; 203.0.113.9 and 2 others asked on 6 of 7 logged days"), "{what}");
    let two = Wanted { sources: 2, ..wanted("tcp/7430") };
    let (_, what) = about(found(&[], &[two]), Code::ListenerDenied).unwrap();
    assert!(what.ends_with("; 203.0.113.9 and one other asked on 6 of 7 logged days"), "{what}");
    let (_, what) = about(found(&[], &[wanted("tcp/7431")]), Code::ListenerDenied).unwrap();
    assert!(what.ends_with("no rule lets anyone in"), "{what}");
}
