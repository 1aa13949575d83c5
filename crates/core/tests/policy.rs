//! What is read of orders, as data: what each part says, means and is told as.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::net::IpAddr;

use tipstaff_core::names::traffic::{Term, Transport};
use tipstaff_core::orders::{
    Action, Attachments, Documents, HostSetting, Inactive, NameKind, Orders, OrdersHash, Origin,
    OwnStanding, Part, Posture, ProgramCondition, Recognition, Rule, RuleName, Selector,
    built_in_terms, feed_named, includes_named, lists_named, read, read_all, recognise, reference,
};

const HEAD: &str =
    "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";

fn orders(rest: &str) -> Orders {
    read(&format!("{HEAD}{rest}")).unwrap_or_else(|faults| panic!("{faults}\n{rest}"))
}

/// The sentences of all faults.
fn faults(rest: &str) -> Vec<String> {
    let faults = read(&format!("{HEAD}{rest}")).unwrap_err();
    faults
        .0
        .iter()
        .map(|fault| format!("{}: {} {}", fault.key, fault.message, fault.help))
        .collect()
}

/// A rule with these keys beside its name.
fn rule(keys: &str) -> Rule {
    let orders = orders(&format!("[[rules]]\nname = \"one\"\n{keys}"));
    (*orders.rules[0]).clone()
}

const PLAIN: &str = "action = \"allow\"\ntraffic = \"tcp/7410\"\n";

#[test]
fn a_name_of_a_rule_is_a_word() {
    for good in ["plates", &"x".repeat(64), "7a", "ä"] {
        assert_eq!(RuleName::parse(good).unwrap().as_str(), good);
    }
    for (bad, why) in [
        ("", "1 to 64"),
        (&*"x".repeat(65), "1 to 64"),
        (&*"x".repeat(66), "1 to 64"),
        ("a b", "no spaces"),
        ("a\u{7}b", "no spaces"),
        ("a\u{a0}b", "no spaces"),
        ("7410", "only digits"),
    ] {
        assert!(RuleName::parse(bad).unwrap_err().contains(why), "{bad:?}");
    }
}

#[test]
fn conditions_are_told_as_they_were_written() {
    let keys = "action = \"allow\"\ntraffic = [\"ssh\", \"tcp/7400-7410\"]\n\
                traffic_except = \"tcp/7405\"\nsource = \"203.0.113.9\"\n\
                interface = [\"lan0\", \"tun*\"]\nfamily = \"ipv4\"\nlog = true\n\
                at_most = \"6 per minute per source, burst 3\"\nover = \"refuse\"\n";
    let one = rule(keys);
    assert_eq!(one.traffic.describe(), "ssh, tcp/7400-7410 but tcp/7405");
    let further = "on lan0, tun*, IPv4 only, at most 6 per minute per source, burst 3, then \
                   refuse, logged";
    assert_eq!(one.further_words(), further);
    assert_eq!(one.condition_words(), format!("203.0.113.9; {further}"));
    assert_eq!(rule(PLAIN).condition_words(), "any");
    let out = rule(&format!("direction = \"outbound\"\n{PLAIN}destination = \"203.0.113.9\"\n"));
    assert_eq!(out.condition_words(), "any; outbound, to 203.0.113.9");
    let key = |port| Transport::Tcp.key(port);
    assert!(one.names(key(7400)) && one.names(key(22)) && !one.names(key(7405)));
    let any = rule("action = \"allow\"\ntraffic = \"any\"\n");
    assert!(any.is_about(key(7405)) && !any.names(key(7405)));
    assert!(!one.is_about(key(7405)));
}

#[test]
fn a_condition_of_programs_is_its_paths() {
    let of = |files: &[&str], except: &[&str]| {
        let words = |all: &[&str]| all.iter().map(|word| (*word).to_owned()).collect();
        ProgramCondition::of_paths(words(files), words(except))
    };
    let hash = |condition: &ProgramCondition| {
        let mut hasher = DefaultHasher::new();
        condition.hash(&mut hasher);
        hasher.finish()
    };
    let one = of(&["/usr/sbin/plated"], &["/usr/sbin/skycam"]);
    assert_eq!(one.describe(), "/usr/sbin/plated but /usr/sbin/skycam");
    assert!(one.names("/usr/sbin/plated") && one.names("/usr/sbin/skycam"));
    assert!(!one.names("/usr/sbin/domed") && !one.is_any());
    assert_ne!(hash(&one), hash(&of(&["/usr/sbin/plated"], &[])));
    assert_ne!(hash(&one), hash(&of(&["/usr/sbin/domed"], &["/usr/sbin/skycam"])));
    let by_name = ProgramCondition { written: vec!["plates".into()], ..one.clone() };
    assert_eq!(hash(&one), hash(&by_name));
}

/// Each key that decides makes another rule, and no other key does.
#[test]
fn rules_decide_alike_by_what_they_decide() {
    let plain = rule(PLAIN);
    for key in [
        "traffic_except = \"udp/1\"",
        "note = \"for the partner\"",
        "log = true",
        "accepted = \"too-wide: it is a museum\"",
    ] {
        assert!(plain.decides_like(&rule(&format!("{PLAIN}{key}\n"))), "{key}");
    }
    let others = [
        "source = \"203.0.113.9\"",
        "source_except = \"203.0.113.9\"",
        "destination = \"198.51.100.20\"",
        "interface = \"lan0\"",
        "program = \"/usr/sbin/plated\"",
        "family = \"ipv4\"",
        "until = 2027-01-01T00:00:00Z",
        "at_most = \"6 per minute per source\"",
        "direction = \"transit\"",
    ];
    for key in others {
        let other = rule(&format!("{PLAIN}{key}\n"));
        assert!(other.decides_like(&other) && !plain.decides_like(&other), "{key}");
    }
    for other in [
        "action = \"deny\"\ntraffic = \"tcp/7410\"\n",
        "action = \"allow\"\ntraffic = \"tcp/7411\"\n",
    ] {
        assert!(!plain.decides_like(&rule(other)), "{other}");
    }
}

#[test]
fn what_catches_all_has_no_condition_and_lets_nothing_in() {
    let any = |keys: &str| rule(&format!("traffic = \"any\"\n{keys}\n"));
    for action in ["deny", "refuse"] {
        assert!(any(&format!("action = \"{action}\"")).catches_all());
    }
    let allows = any("action = \"allow\"");
    assert!(allows.is_about_everything() && !allows.catches_all());
    for key in [
        "enabled = false",
        "traffic_except = \"tcp/1\"",
        "source = \"203.0.113.9\"",
        "destination = \"198.51.100.20\"",
        "interface = \"lan0\"",
        "program = \"/usr/sbin/plated\"",
        "family = \"ipv4\"",
        "until = 2027-01-01T00:00:00Z",
    ] {
        let one = any(&format!("action = \"deny\"\n{key}"));
        assert!(!one.catches_all() && !one.is_about_everything(), "{key}");
    }
}

#[test]
fn traffic_is_a_term_or_a_service() {
    let own = orders("[services]\nplates = [\"tcp/7410\", \"udp/7411\"]\n");
    let port = |transport, port| Term::Ports(transport, port, port);
    let plates = vec![port(Transport::Tcp, 7410), port(Transport::Udp, 7411)];
    assert_eq!(own.terms("plates").unwrap().unwrap(), plates);
    assert_eq!(built_in_terms("plates"), None);
    let shell = vec![port(Transport::Tcp, 22)];
    assert_eq!(built_in_terms("ssh").unwrap().unwrap(), shell);
    assert_eq!(own.terms("tcp/22").unwrap().unwrap(), shell);
    assert_eq!(own.terms("nothing-such"), None);
    assert!(own.terms("tcp/70000").unwrap().is_err());
    assert!(built_in_terms("tcp/70000").unwrap().is_err());
}

#[test]
fn names_are_where_they_stand() {
    let text = format!(
        "{HEAD}[addresses]\nhouse = \"198.51.100.0/24\"\nall = [\"house\", \"203.0.113.9\"]\n\n\
         [services]\nall = \"tcp/7410\"\nhouse = \"tcp/7411\"\n[programs]\nsky = \"/usr/bin/sky\"\n\
         [[groups]]\nname = \"night\"\n[[rules]]\nname = \"one\"\naction = \"allow\"\n\
         traffic = \"house\"\n"
    );
    let orders = read(&text).unwrap();
    let line = |begin: &str, nth: usize| {
        let mut lines = text.lines().zip(1..).filter(|(line, _)| line.starts_with(begin));
        lines.nth(nth).unwrap().1
    };
    let found: BTreeSet<(String, usize, bool)> = orders
        .names
        .iter()
        .map(|one| (format!("{:?} {}", one.kind, one.name), one.line, one.inside))
        .collect();
    let wanted = [
        (NameKind::Addresses, "house", line("house", 0), true),
        (NameKind::Addresses, "all", line("all", 0), false),
        (NameKind::Service, "all", line("all", 1), false),
        (NameKind::Service, "house", line("house", 1), false),
        (NameKind::Programs, "sky", line("sky", 0), false),
        (NameKind::Group, "night", line("name = \"night\"", 0), false),
    ];
    let wanted =
        wanted.map(|(kind, name, line, inside)| (format!("{kind:?} {name}"), line, inside));
    assert_eq!(found, wanted.into_iter().collect());
}

#[test]
fn names_are_words_of_their_own() {
    for name in ["", "any", "a/b", "a:b", "a#b", "a*b", "a,b", "a b", "a\\u200bb", "7house"] {
        let found = faults(&format!("[addresses]\n\"{name}\" = \"198.51.100.0/24\"\n"));
        assert_eq!(found.len(), 1, "{name:?}: {found:?}");
        assert!(found[0].contains("invalid name") || found[0].contains("Names begin"), "{found:?}");
    }
    let named = orders("[addresses]\n\"h0use-1_x\" = \"198.51.100.0/24\"\n");
    assert_eq!(named.names[0].name, "h0use-1_x");
}

#[test]
fn a_name_that_was_probably_meant_is_told() {
    let told = |named: &str, written: &str| {
        let rest = format!(
            "[[groups]]\nname = \"{named}\"\n[[rules]]\nname = \"one\"\n{PLAIN}group = \"{written}\"\n"
        );
        faults(&rest).remove(0)
    };
    assert!(told("night", "nihgt").contains("Did you mean `night`?"));
    assert!(told("night", "nigt").contains("Did you mean `night`?"));
    // Letters are letters, however many bytes they take.
    assert!(told("dome🔭🔭", "dome").contains("Did you mean `dome🔭🔭`?"));
    // Of a short name one letter at most.
    assert!(told("sky", "sxy").contains("Did you mean `sky`?"));
    assert!(told("sky", "sxx").contains("Define it under [[groups]] first."));
    assert!(told("night", "day").contains("Define it under [[groups]] first."));
}

#[test]
fn hosts_and_postures_are_read_whole() {
    let text = "[[hosts]]\nname = \"archive\"\ntags = [\"#plates\", \"old\"]\n\
                addresses = \"198.51.100.20\"\nssh = \"root@archive\"\n\
                standing = { inbound = \"refuse\", transit = \"allow\" }\n\
                [[postures]]\nname = \"day\"\ninterface = \"lan0\"\n\
                [[postures]]\nname = \"night\"\nnetwork = \"198.51.100.0/24\"\n\
                gateway = \"198.51.100.1\"\nstanding = { outbound = \"deny\" }\n\
                [boot]\non_failure = \"closed\"\nposture = \"night\"\n\
                [memory]\nflows = 2048\nsources = 4096\n[foundations]\n\n\
                address_assignment = false\n";
    let read = orders(text);
    let host = &read.hosts[0];
    assert_eq!((&*host.name, &host.tags[..]), ("archive", &["plates".into(), "old".into()][..]));
    assert_eq!(host.ssh.as_deref(), Some("root@archive"));
    let standing =
        OwnStanding { inbound: Some(Action::Refuse), outbound: None, transit: Some(Action::Allow) };
    assert_eq!(host.standing, standing);
    assert_eq!(read.postures[1].standing.outbound, Some(Action::Deny));
    assert_eq!(read.boot.posture.as_deref(), Some("night"));
    assert_eq!((read.memory.flows, read.memory.sources), (2048, 4096));
    let line = HEAD.lines().count() + text.lines().count();
    assert_eq!(read.foundations_line, Some(line));
    assert!(!read.foundations.address_assignment);
    assert_eq!(orders("[boot]\nposture = \"sealed\"\n").boot.posture.as_deref(), Some("sealed"));
    assert_eq!(orders("").foundations_line, None);
    for number in [1023, 1_048_577] {
        let found = faults(&format!("[memory]\nflows = {number}\n"));
        assert!(found[0].starts_with("memory.flows: `flows` must be 1024 to 1048576"), "{found:?}");
    }
    let found = faults("[boot]\nposture = \"nigt\"\n[[postures]]\nname = \"night\"\n");
    assert!(found[0].contains("Did you mean `night`?"), "{found:?}");
    let twice = faults("[[postures]]\nname = \"night\"\n[[postures]]\nname = \"night\"\n");
    assert_eq!(twice.len(), 1, "{twice:?}");
    let interface =
        |name: &str| format!("[[rules]]\nname = \"one\"\n{PLAIN}interface = \"{name}\"\n");
    orders(&interface("fifteen-letters"));
    orders(&interface("fifteen-letters*"));
    for name in ["sixteen-letters1", "lan/0", "l*n", "lan 0", ""] {
        assert_eq!(faults(&interface(name)).len(), 1, "{name}");
    }
}

/// It stands on a command line.
#[test]
fn what_ssh_calls_a_host_is_one_word_and_no_option() {
    let host = |ssh: &str| format!("[[hosts]]\nname = \"archive\"\nssh = \"{ssh}\"\n");
    for bad in ["-oProxyCommand=x", "a b", "a\\u00a0b"] {
        let found = faults(&host(bad));
        assert_eq!(found.len(), 1, "{found:?}");
        assert!(found[0].contains("is not a host name for ssh"), "{found:?}");
    }
    assert_eq!(faults(&host("a\\u0007b")).len(), 1);
    assert!(!faults(&host("")).is_empty());
    assert_eq!(orders(&host("a-b")).hosts[0].ssh.as_deref(), Some("a-b"));
}

#[test]
fn a_selector_of_no_host_is_told_the_hosts_there_are() {
    let told = |hosts: usize, selector: &str| {
        let hosts: String = (0..hosts)
            .map(|n| format!("[[hosts]]\nname = \"host-{n:02}\"\ntags = \"all\"\n"))
            .collect();
        let rest = format!("{hosts}[[rules]]\nname = \"one\"\n{PLAIN}hosts = \"{selector}\"\n");
        faults(&rest).remove(0)
    };
    assert!(told(0, "dome").contains("Define it under [[hosts]] first."));
    assert!(told(2, "dome").contains("Known are: host-00, host-01, #all."), "{}", told(2, "dome"));
    assert!(told(2, "host-0").contains("Did you mean `host-0"));
    assert!(told(49, "dome").contains("Known are: host-00"));
    assert!(told(50, "dome").contains("Define it under [[hosts]] first."));
}

#[test]
fn a_place_is_recognised_by_the_first_posture_that_knows_it() {
    let posture = |name: &str, recognition| Posture {
        name: name.into(),
        note: None,
        standing: OwnStanding::default(),
        recognition,
    };
    let gateway = Recognition { gateway: Some("198.51.100.1".into()), ..Recognition::default() };
    let network = Recognition { network: Some("198.51.100.0/24".into()), ..Recognition::default() };
    let all = [
        posture("day", Recognition::default()),
        posture("dome", gateway),
        posture("house", network),
    ];
    let address = |text: &str| -> IpAddr { text.parse().unwrap() };
    let place = |own: &str, router: &str| HostSetting {
        interfaces: vec![],
        addresses: vec![address(own)],
        gateways: vec![address(router)],
    };
    let name = |place: &HostSetting| recognise(&all, place).map(|posture| posture.name.clone());
    assert_eq!(name(&place("203.0.113.9", "198.51.100.1")).as_deref(), Some("dome"));
    assert_eq!(name(&place("198.51.100.9", "198.51.100.1")).as_deref(), Some("dome"));
    assert_eq!(name(&place("198.51.100.9", "198.51.100.2")).as_deref(), Some("house"));
    assert_eq!(name(&place("203.0.113.9", "203.0.113.1")), None);
    assert!(Posture::sealed().is_sealed() && !all[0].is_sealed());
    let selector = Selector::from("#plates".to_owned());
    assert_eq!(String::from(selector), "#plates");
    let words = [
        (Inactive::Paused, "paused"),
        (Inactive::GroupPaused, "group paused"),
        (Inactive::OtherHost, "other hosts"),
        (Inactive::OtherPosture, "other postures"),
        (Inactive::Expired, "expired"),
    ];
    assert!(words.iter().all(|(why, word)| why.describe() == *word));
}

#[test]
fn a_hash_is_told_short_and_whole() {
    let hash = OrdersHash::digest(Documents { text: "x", attachments: &Attachments::default() });
    let digits = "2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881";
    assert_eq!((hash.to_string(), format!("{hash:?}")), (digits.to_owned(), digits.to_owned()));
    assert_eq!(hash.short(), digits[..12]);
    assert_eq!(hash.first(), [0x2d, 0x71, 0x16, 0x42, 0xb7, 0x26, 0xb0, 0x44]);
    assert_eq!(digits.parse(), Ok(hash));
    let path = "/etc/tipstaff/orders.toml".to_owned();
    let there = Origin::InForce { path: Some(path.clone()), hash, since: Default::default() };
    let file = Origin::File { path, hash };
    assert_eq!([file.hash(), there.hash()], [hash, hash]);
    let schema = schemars::schema_for!(OrdersHash);
    let schema = serde_json::to_value(&schema).unwrap();
    assert_eq!(schema["title"], "OrdersHash");
    assert_eq!(schema["pattern"], "^[0-9a-f]{64}$");
}

/// Before any file is read it is known which ones will be.
#[test]
fn what_a_text_names_is_known_without_reading_it() {
    let list = "include = [\"groups/*.toml\", \"hosts.toml\"]\n";
    assert_eq!(includes_named(list), ["groups/*.toml", "hosts.toml"]);
    assert_eq!(includes_named("include = \"hosts.toml\"\n"), ["hosts.toml"]);
    assert_eq!(includes_named("# include\n"), [""; 0]);
    assert_eq!(includes_named(HEAD), [""; 0]);
    assert_eq!(includes_named("include = 7\n"), [""; 0]);
    let feed = "[areas]\nfeed = \"areas.csv\"\n";
    assert_eq!(feed_named(feed).as_deref(), Some("areas.csv"));
    assert_eq!(feed_named(HEAD), None);
    assert_eq!(lists_named(feed), ["areas.csv"]);
    let lists = "[addresses]\nbad = [\"file:bad.txt\", \"198.51.100.0/24\"]\n";
    assert_eq!(lists_named(lists), ["bad.txt"]);
    assert_eq!(lists_named(&format!("{lists}{feed}")), ["areas.csv", "bad.txt"]);
    assert_eq!(lists_named("[[rules]]\nsource = \"file:bad.txt\"\n"), ["bad.txt"]);
    assert_eq!(lists_named(HEAD), [""; 0]);
}

#[test]
fn lists_that_nobody_has_read_are_no_fault() {
    let by_family = |source: &str| {
        format!(
            "[areas]\nfeed = \"areas.csv\"\n[[rules]]\nname = \"one\"\n{PLAIN}family = \"ipv6\"\n\
             source = \"{source}\"\n"
        )
    };
    for source in ["file:bad.txt", "area:DE"] {
        orders(&by_family(source));
    }
    let found = faults(&by_family("198.51.100.0/24"));
    assert!(found[0].contains("has no IPv6 address"), "{found:?}");
}

#[test]
fn what_an_included_file_may_not_say_is_told_once() {
    let main = format!("include = \"more.toml\"\n{HEAD}");
    let told = |text: &str| {
        let part = Part { name: "more.toml".into(), text: text.into() };
        let attachments = Attachments {
            included: vec![("more.toml".into(), Ok(vec![part]))],
            ..Attachments::default()
        };
        let read = read_all(Documents { text: &main, attachments: &attachments });
        read.map(|orders| orders.rules.len())
            .map_err(|faults| faults.0.iter().map(|f| f.message.clone()).collect::<Vec<_>>())
    };
    assert_eq!(told(&format!("[[rules]]\nname = \"one\"\n{PLAIN}")), Ok(1));
    assert_eq!(told("servces = 1\n").unwrap_err().len(), 1);
    let log = told("[log]\nlevel = \"all\"\n").unwrap_err();
    assert_eq!(log, ["`log` is not allowed in an included file"]);
}

#[test]
fn the_page_of_keys_says_what_must_be_there() {
    let page = reference();
    let row =
        |key: &str| page.lines().find(|line| line.starts_with(&format!("| `{key}` |"))).unwrap();
    assert!(row("traffic").ends_with("| **must be there** |"), "{}", row("traffic"));
    assert!(row("note").ends_with("|  |"), "{}", row("note"));
    assert!(row("enabled").ends_with("| true |"), "{}", row("enabled"));
}

/// The kernel keeps what was counted under this number, whatever comes and goes around a rule.
#[test]
fn a_rate_is_counted_under_its_rules_name() {
    let limit = |name: &str, at_most: &str| {
        let text = format!("[[rules]]\nname = \"{name}\"\n{PLAIN}at_most = \"{at_most}\"\n");
        orders(&text).rules[0].limit().unwrap()
    };
    let one = limit("plates", "6 per minute per source, burst 3");
    // The first eight bytes of the name's SHA-256.
    assert_eq!(one.id, PLATES);
    assert_eq!((one.increment, one.tolerance), (10_000_000_000, 20_000_000_000));
    assert_ne!(limit("shell", "6 per minute per source, burst 3").id, one.id);
}

const PLATES: u64 = 0xe7bf_93b4_28be_ad01;

#[test]
fn groups_hold_groups_so_deep_and_no_deeper() {
    // They are looked at in the order of their names, and what is known is used.
    let chain_of = |name: fn(usize) -> String, levels: usize| -> String {
        let of = |n: usize| match n {
            0 => format!("{} = \"198.51.100.0/24\"\n", name(0)),
            n => format!("{} = [\"{}\", \"203.0.113.{n}\"]\n", name(n), name(n - 1)),
        };
        let groups: String = (0..levels).map(of).collect();
        format!("[addresses]\n{groups}")
    };
    let inner_first = |n: usize| format!("g{n:02}");
    let inner_last = |n: usize| format!("g{:02}", 99 - n);
    let middle_first = |n: usize| format!("{}{:02}", if n == 16 { 'a' } else { 'g' }, 99 - n);
    let chain = |levels| chain_of(inner_first, levels);
    let read = orders(&chain(MOST_LEVELS));
    let address = |text: &str| -> IpAddr { text.parse().unwrap() };
    let last = &read.groups[&format!("g{:02}", MOST_LEVELS - 1)];
    assert!(last.contains(address("198.51.100.7")) && last.contains(address("203.0.113.1")));
    assert!(!last.contains(address("192.0.2.1")));
    assert_eq!(read.groups.len(), MOST_LEVELS);
    for name in [inner_first, inner_last, middle_first] {
        orders(&chain_of(name, MOST_LEVELS));
        for beyond in 1..4 {
            let deep = faults(&chain_of(name, MOST_LEVELS + beyond));
            assert!(deep[0].contains("nested too deeply"), "{deep:?}");
        }
    }
}

const MOST_LEVELS: usize = 32;
