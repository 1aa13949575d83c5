//! Orders that are hard to read: deeply nested, with thousands of faults, or
//! naming files that they must not.

#![allow(clippy::unwrap_used)]

use std::fmt::Write;
use std::sync::Arc;

use tipstaff_core::analysis::compare::{Change, Comparison};
use tipstaff_core::analysis::review::coverage::coverage;
use tipstaff_core::analysis::review::fix;
use tipstaff_core::brief::{Brief, RuleIndex, Setting, rules_on_each_host};
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Action, Attachments, Documents, Faults, Orders, read, read_all};

const HEAD: &str =
    "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";

fn rule(name: &str, source: &str) -> String {
    format!(
        "[[rules]]\nname = \"{name}\"\naction = \"allow\"\ntraffic = \"ssh\"\nsource = {source}\n"
    )
}

/// Each group contains the one before twice, under two names.
#[test]
fn a_group_is_resolved_once_however_often_it_is_contained() {
    let mut text = format!("{HEAD}[addresses]\na0 = \"192.0.2.7\"\nb0 = \"2001:db8::7\"\n");
    for n in 1..30 {
        let before = n - 1;
        writeln!(text, "a{n} = [\"a{before}\", \"b{before}\"]").unwrap();
        writeln!(text, "b{n} = [\"b{before}\", \"a{before}\"]").unwrap();
    }
    text += &rule("all", "\"a29\"");
    let orders = read(&text).unwrap();
    let set = orders.rules[0].source.addresses.as_ref().unwrap();
    assert_eq!(set.ranges().len(), 2);
}

#[test]
fn a_chain_of_groups_has_an_end_that_is_told() {
    let chain = |length: usize, from_below: bool| {
        let mut text = format!("{HEAD}[addresses]\n");
        for n in 0..length {
            // The other way round the names come deepest first.
            let name = |n: usize| if from_below { length - n } else { n };
            let member = match n + 1 {
                last if last == length => "192.0.2.1".to_owned(),
                next => format!("g{:06}", name(next)),
            };
            writeln!(text, "g{:06} = \"{member}\"", name(n)).unwrap();
        }
        read(&text)
    };
    for from_below in [false, true] {
        assert!(chain(32, from_below).is_ok());
        let Faults(faults) = chain(33, from_below).unwrap_err();
        assert_eq!(faults.len(), 1, "{faults:?}");
        assert!(faults[0].message.contains("at most 32 levels of groups are allowed"));
        // Told as often as it happens, and no stack is too small for it.
        assert!(chain(16_000, from_below).unwrap_err().0.len() <= 500);
    }
}

#[test]
fn any_in_a_group_is_any_wherever_it_is_contained() {
    let text = format!("{HEAD}[addresses]\nall = \"any\"\nouter = [\"all\", \"192.0.2.1\"]\n");
    let orders = read(&(text + &rule("all", "\"outer\""))).unwrap();
    assert!(orders.rules[0].source.addresses.as_ref().unwrap().is_full());
}

fn with_list(text: &str, name: &str, list: String) -> Result<Orders, Faults> {
    let lists = Some([(name.to_owned(), Ok(list))].into());
    read_all(Documents { text, attachments: &Attachments { lists, ..Attachments::default() } })
}

#[test]
fn rules_that_name_the_same_long_list_share_it() {
    let list: String = (0..50_000u32).map(|n| format!("10.{}.{}.1\n", n >> 8, n & 255)).collect();
    let mut text = format!("{HEAD}[addresses]\nmany = \"file:many.txt\"\n");
    for n in 0..30 {
        text += &rule(&format!("r{n}"), ["\"many\"", "\"file:many.txt\""][n % 2]);
    }
    let orders = with_list(&text, "many.txt", list).unwrap();
    let set = |n: usize| orders.rules[n].source.addresses.as_ref().unwrap();
    assert!((2..30).all(|n| Arc::ptr_eq(set(n), set(n % 2))));
    assert_eq!(set(0), set(1));
}

#[test]
fn a_relative_name_stays_in_the_folder_of_the_orders() {
    for name in ["../shadow", "lists/../../shadow", ""] {
        let text = format!("{HEAD}{}", rule("x", &format!("\"file:{name}\"")));
        for faults in [
            with_list(&text, name, "192.0.2.1\n".into()).unwrap_err(),
            // Nor is it written by an edit, which reads no lists.
            read(&text).unwrap_err(),
        ] {
            assert_eq!(faults.0.len(), 1, "{name}: {faults}");
        }
        let text = format!("{HEAD}[areas]\nfeed = \"{name}\"\n");
        assert!(with_list(&text, name, "192.0.2.0/24,NL,,,\n".into()).is_err());
    }
    let text = format!("{HEAD}{}", rule("x", "\"file:/srv/lists/a.txt\""));
    assert!(with_list(&text, "/srv/lists/a.txt", "192.0.2.1\n".into()).is_ok());
}

/// Nothing is left out, each at its place, and names that are nearly right are found.
#[test]
fn thousands_of_faults_are_all_told() {
    const MANY: usize = 4_000;
    let mut text = format!("{HEAD}[addresses]\n");
    for n in 0..MANY {
        writeln!(text, "telescope-{n} = \"192.0.2.1\"").unwrap();
    }
    for n in 0..MANY {
        text += &rule(&format!("r{n}"), &format!("\"telescope_{n}x\""));
    }
    let Faults(faults) = read(&text).unwrap_err();
    assert_eq!(faults.len(), MANY);
    let first = 6 + MANY;
    assert!(faults.iter().enumerate().all(|(n, f)| f.place.line == first + 5 * (n + 1)));
    assert_eq!(faults[77].help, "Did you mean `telescope-77`?");
}

/// Overlapping rules, and the same with each range in two pieces.
fn overlapping(number: usize, split: bool) -> String {
    let rules = (0..number).map(|n| {
        let (first, last) = (1 + n, 30_000 + n);
        let middle = first + 10_000;
        let traffic = match split {
            false => format!("\"tcp/{first}-{last}\""),
            true => format!("[\"tcp/{first}-{middle}\", \"tcp/{}-{last}\"]", middle + 1),
        };
        let action = if n % 2 == usize::from(split) { "allow" } else { "deny" };
        let source = format!("198.{}.{}.0/24", n / 250, n % 250);
        format!(
            "[[rules]]\nname = \"r{n}\"\naction = \"{action}\"\ntraffic = {traffic}\n\
             source = [\"{source}\", \"203.0.113.0/24\"]\n"
        )
    });
    format!("{HEAD}{}", rules.collect::<String>())
}

#[test]
fn what_a_change_means_has_an_end() {
    let brief = |text: &str| Brief::unplaced(&read(text).unwrap());
    let few = |number| {
        let (before, after) = (overlapping(number, false), overlapping(number, true));
        Comparison::between(&brief(&before), &brief(&after))
    };
    assert!(!few(20).cut_off && !few(20).changes.is_empty());
    let begin = std::time::Instant::now();
    let many = few(1_600);
    eprintln!("1,600 with 1,600: {:?}, {} pieces", begin.elapsed(), many.changes.len());
    assert!(many.cut_off, "told as at least");
    let lines = many.lines();
    assert!(lines.len() <= many.changes.len());
}

/// Rules about a port and a network each, behind one about a long list.
fn with_long_list(rules: usize, prefixes: u32) -> Brief {
    let list = (0..prefixes).map(|n| {
        let address = std::net::Ipv4Addr::from(0x1400_0000 + n * 512);
        format!("{address}/24\n")
    });
    let mut text = format!("{HEAD}[addresses]\nmany = \"file:many.txt\"\n");
    text += &rule("known", "\"many\"").replace("\"ssh\"", "\"any\"").replace("allow", "deny");
    for n in 0..rules {
        let source = format!("\"10.{}.{}.0/24\"", n / 256, n % 256);
        text += &rule(&format!("r{n}"), &source).replace("ssh", &format!("tcp/{}", n + 1));
    }
    Brief::unplaced(&with_list(&text, "many.txt", list.collect()).unwrap())
}

#[test]
fn a_small_change_beside_a_long_list_is_told_exactly() {
    let before = with_long_list(4_000, 40_000);
    let mut after = before.clone();
    for at in [700, 1_900] {
        Arc::make_mut(&mut after.rules[at]).action = Action::Refuse;
    }
    let comparison = Comparison::between(&before, &after);
    assert!(!comparison.cut_off);
    assert_eq!(comparison.changes.len(), 2, "{:?}", comparison.lines());
    // All that changes from everything passing is bounded, and told as that.
    let all = Comparison::between(&before.nothing_in_force(), &before);
    assert!(all.cut_off && !all.changes.is_empty());
    let ranges = |change: &Change| change.sources().map_or(0, |set| set.ranges().len());
    assert!(all.changes.iter().map(ranges).sum::<usize>() < 1_000_000);
}

#[test]
fn a_long_list_before_many_rules_is_reviewed_to_the_end() {
    let mut brief = with_long_list(4_000, 40_000);
    let covered = coverage(&brief);
    assert!(!covered.gave_up);
    assert!(
        covered.rules.iter().all(|rule| rule.decides && rule.needed == (rule != &covered.rules[0]))
    );
    // A rule within the list never matches, and the list covers it.
    let inside = read(&format!("{HEAD}{}", rule("inside", "\"20.0.2.7\""))).unwrap();
    brief.rules.push(inside.rules[0].clone());
    let covered = coverage(&brief);
    let last = covered.rules.last().unwrap();
    assert!(!covered.gave_up && !last.decides);
    assert_eq!(last.covered_by, [RuleIndex(0)].into());
}

#[test]
fn rules_on_hosts_are_counted_as_their_lists_have_them() {
    let mut text = HEAD.to_owned();
    for n in 0..12 {
        writeln!(text, "[[hosts]]\nname = \"dome-{n}\"\ntags = [\"t{}\", \"u{}\"]", n % 3, n % 4)
            .unwrap();
    }
    text += "[[groups]]\nname = \"lamps\"\nhosts = [\"#t1\", \"dome-0\"]\n\
             [[groups]]\nname = \"off\"\nenabled = false\n\
             [[groups]]\nname = \"away\"\npostures = [\"dark\"]\n\
             [[postures]]\nname = \"dark\"\n";
    let further = [
        "",
        "hosts = [\"*\"]",
        "hosts = [\"dome-3\", \"#t0\", \"#u3\"]",
        "hosts = [\"dome-4\"]\nenabled = false",
        "group = \"lamps\"",
        "group = \"lamps\"\nhosts = [\"#u2\"]",
        "group = \"off\"\nhosts = [\"dome-1\"]",
        "group = \"away\"",
        "postures = [\"dark\"]\nhosts = [\"dome-5\"]",
        "hosts = [\"dome-5\", \"*\", \"#t2\"]",
    ];
    for (n, keys) in further.iter().enumerate() {
        text += &format!("{}{keys}\n", rule(&format!("r{n}"), "\"192.0.2.0/24\""));
    }
    let orders = read(&text).unwrap();
    let on = |host| {
        let setting = Setting { host: Some(host), ..Setting::default() };
        Brief::on(&orders, &setting).rules().filter(|rule| rule.is_active()).count()
    };
    let counts: Vec<usize> = orders.hosts.iter().map(on).collect();
    assert!(counts.iter().any(|count| *count != counts[0]));
    assert_eq!(rules_on_each_host(&orders), counts);
}

/// Duplicates on many hosts go together; of two rules of which one can go, one does.
#[test]
fn what_can_go_goes_at_once() {
    let mut text = HEAD.to_owned();
    for n in 0..20 {
        writeln!(text, "[[hosts]]\nname = \"dome-{n}\"").unwrap();
    }
    for n in 0..100 {
        for copy in ["first", "second"] {
            let name = format!("{copy}-{n}");
            text += &rule(&name, &format!("\"10.0.{n}.0/24\""));
        }
    }
    // Either covers what the other says of this network, with the standing answer behind.
    let deny = |name: &str| rule(name, "\"10.0.3.0/24\"").replace("allow", "deny");
    let before = text.replacen("[[rules]]", &format!("{}[[rules]]", deny("early")), 1);
    let attachments = Attachments::default();
    let brief = |text: &str| Brief::unplaced(&read(text).unwrap());
    let sheets = Documents { text: &before, attachments: &attachments };
    let fix = fix(sheets, &brief(&before), Moment(1)).unwrap();
    let after = read(&fix.edited.text).unwrap();
    let left: Vec<&str> = after.rules().map(|rule| rule.name.as_str()).collect();
    // Behind the deny neither of the third pair says anything; both are left to people.
    assert_eq!(fix.findings.len(), 100 + usize::from(!left.contains(&"first-3")), "{left:?}");
    assert!(left.contains(&"early") && left.contains(&"first-4") && !left.contains(&"second-4"));
    assert!(Comparison::between(&brief(&before), &brief(&fix.edited.text)).is_empty());
}
