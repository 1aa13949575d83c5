//! Editing orders in place: what changes, what stays, what is refused.

#![allow(clippy::unwrap_used)]

use tipstaff_core::orders::edit::{
    Destination, Edit, EditFault, Edited, NewRule, Which, block_of, edit, edit_all, enable_group,
};
use tipstaff_core::orders::read;

const ORDERS: &str = r#"# Orders of the archive
version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"

# The plates, see
# the partner's letter
[[rules]]
name = "plates"   # stable
note = """
[[rules]] is not a header in here
"""
action = "allow"
traffic = [
  "tcp/7410", # plates
  "tcp/7411",
]

[[rules]]
name = "shell"
action = "allow" # staff only
traffic = "ssh"

# the end
[[rules]]
name = "nothing-else"
action = "deny"
traffic = "any"

[foundations]
address_assignment = true
"#;

fn done(what: Edit) -> Edited {
    edit(ORDERS, &what).unwrap()
}

fn named(name: &str) -> Which {
    Which::Name(name.into())
}

fn order(text: &str) -> Vec<String> {
    read(text).unwrap().rules.iter().map(|r| r.name.to_string()).collect()
}

fn ntp(name: Option<&str>) -> NewRule {
    NewRule {
        name: name.map(str::to_owned),
        note: None,
        action: "allow".into(),
        traffic: vec!["ntp".into()],
        source: vec!["203.0.113.0/24".into()],
        further: vec![("interface".into(), "lan0, tun*".into()), ("family".into(), String::new())],
    }
}

#[test]
fn a_new_rule_goes_before_the_catch_all_and_says_why() {
    let edited = done(Edit::Add(ntp(None), None));
    assert_eq!(edited.rule.name.as_str(), "allow-ntp-from-203-0-113-0-24");
    assert_eq!(edited.position, 3);
    assert_eq!(
        edited.told,
        [
            "added at position 3: after `nothing-else`, which denies everything, it would never match",
            "rule 4 moved down by one"
        ]
    );
    assert!(edited.text.contains(
        "source = \"203.0.113.0/24\"\ninterface = [\"lan0\", \"tun*\"]\n\n# the end\n[[rules]]"
    ));
    // Twice the same gets another name.
    let again = edit(&edited.text, &Edit::Add(ntp(None), Some(Destination::First))).unwrap();
    assert_eq!(again.rule.name.as_str(), "allow-ntp-from-203-0-113-0-24-2");
    assert_eq!(again.told[1], "rules 2–5 moved down by one");
}

#[test]
fn an_edit_touches_its_own_keys_and_nothing_else() {
    let paused = done(Edit::Pause(named("shell")));
    let line = "traffic = \"ssh\"\nenabled = false\n";
    assert_eq!(paused.text, ORDERS.replace("traffic = \"ssh\"\n", line));
    let resumed = edit(&paused.text, &Edit::Resume(Which::Position(2))).unwrap();
    assert_eq!(resumed.text, ORDERS);
    let swapped = done(Edit::SwapAction(named("shell")));
    assert_eq!(swapped.text, ORDERS.replace("\"allow\" # staff", "\"deny\" # staff"));
    let set = [("source".to_owned(), "198.51.100.0/24, 203.0.113.9".to_owned())];
    let set = done(Edit::Set(named("nothing-else"), set.to_vec()));
    assert!(set.text.contains(
        "traffic = \"any\"\nsource = [\"198.51.100.0/24\", \"203.0.113.9\"]\n\n[foundations]"
    ));
}

#[test]
fn a_rule_moves_with_its_comments() {
    let last = done(Edit::Move(named("plates"), Destination::Last));
    assert_eq!(order(&last.text), ["shell", "nothing-else", "plates"]);
    assert_eq!(last.told, ["moved from position 1 to 3", "rules 1–2 moved up by one"]);
    assert!(
        last.text
            .contains("# The plates, see\n# the partner's letter\n[[rules]]\nname = \"plates\"")
    );
    assert!(last.text.ends_with("[foundations]\naddress_assignment = true\n"));
    let back = edit(&last.text, &Edit::Move(named("plates"), Destination::First)).unwrap();
    assert_eq!(back.told, ["moved from position 3 to 1", "rules 2–3 moved down by one"]);
    assert_eq!(back.text, ORDERS);
    let before = done(Edit::Move(Which::Position(3), Destination::Before(named("shell"))));
    assert_eq!(order(&before.text), ["plates", "nothing-else", "shell"]);
}

#[test]
fn removing_and_copying() {
    let removed = done(Edit::Remove(Which::Position(1)));
    assert_eq!(order(&removed.text), ["shell", "nothing-else"]);
    assert_eq!((removed.rule.name.as_str(), removed.position), ("plates", 1));
    assert_eq!(removed.told, ["rules 1–2 moved up by one"]);
    let copied = done(Edit::Copy(named("shell"), None, None));
    assert_eq!(order(&copied.text), ["plates", "shell", "shell-2", "nothing-else"]);
}

#[test]
fn refusals_say_why() {
    let fault = |what: Edit| edit(ORDERS, &what).unwrap_err().to_string();
    assert_eq!(fault(Edit::Pause(named("shel"))), "no rule `shel`");
    assert_eq!(fault(Edit::Remove(Which::Position(4))), "no rule at position 4");
    assert_eq!(fault(Edit::Resume(named("shell"))), "shell is not paused");
    let itself = Destination::Before(named("shell"));
    assert_eq!(fault(Edit::Move(named("shell"), itself)), "a rule cannot be moved next to itself");
    let bad = Edit::Set(named("shell"), vec![("traffic".into(), "tcp/0".into())]);
    let Err(EditFault::WouldBeUnsound { faults, .. }) = edit(ORDERS, &bad) else { panic!() };
    assert_eq!(faults.0[0].key, "rules[2] (shell).traffic");
    let inline = "version = 1\nrules = []\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";
    assert_eq!(edit(inline, &Edit::Add(ntp(None), None)), Err(EditFault::NotTables));
}

#[test]
fn a_group_is_paused_and_resumed_in_its_own_block() {
    let group = "\n# for the day\n[[groups]]\nname = \"open-day\" # once a year\n";
    let text = format!("{ORDERS}{group}");
    let paused = enable_group(&text, "open-day", false).unwrap().text;
    assert_eq!(paused, format!("{text}enabled = false\n"));
    assert_eq!(enable_group(&paused, "open-day", true).unwrap().text, text);
    let fault = |name| enable_group(&text, name, true).unwrap_err().to_string();
    assert_eq!(fault("open-day"), "the group open-day is not paused");
    assert_eq!(fault("desks"), "no rule group `desks`");
}

#[test]
fn a_text_without_rules_gets_its_first() {
    let head = &ORDERS[..ORDERS.find("\n# The plates").unwrap()];
    let edited = edit(head, &Edit::Add(ntp(Some("time")), None)).unwrap();
    assert_eq!(order(&edited.text), ["time"]);
    assert!(edited.text.starts_with(head));
}

/// Any number of moves keeps every line of the text.
#[test]
fn moves_lose_nothing() {
    use proptest::prelude::*;
    proptest!(|(moves in prop::collection::vec((1usize..=3, 0usize..=3), 1..8))| {
        let mut text = ORDERS.to_owned();
        for (from, to) in moves {
            let to = if to == 0 { Destination::First } else { Destination::After(Which::Position(to)) };
            if let Ok(edited) = edit(&text, &Edit::Move(Which::Position(from), to)) {
                text = edited.text;
            }
        }
        let sorted = |t: &str| { let mut l: Vec<String> = t.lines().map(str::to_owned).collect(); l.sort(); l };
        prop_assert_eq!(sorted(&text), sorted(ORDERS));
    });
}

/// Files from an editor that ends lines in CR LF keep them, in what is new too.
#[test]
fn line_ends_stay_what_they_are() {
    let crlf = ORDERS.replace('\n', "\r\n");
    let edits = [
        Edit::Add(ntp(Some("clock")), None),
        Edit::Set(named("shell"), vec![("note".into(), "why".into())]),
        Edit::Pause(named("shell")),
        Edit::SwapAction(named("plates")),
        Edit::Remove(named("shell")),
        Edit::Copy(named("shell"), Some("again".into()), None),
        Edit::Move(named("shell"), Destination::First),
    ];
    for what in edits {
        let edited = edit(&crlf, &what).unwrap();
        assert_eq!(edited.text, done(what.clone()).text.replace('\n', "\r\n"), "{what:?}");
    }
    // Of a file that has both nothing is changed but what is asked for.
    let mixed = ORDERS.replacen('\n', "\r\n", 3);
    let edited = edit(&mixed, &Edit::Pause(named("shell"))).unwrap();
    assert_eq!(edited.text.matches("\r\n").count(), 3);
}

#[test]
fn several_edits_name_the_rules_as_they_stand_before() {
    let all = vec![Edit::Remove(Which::Position(1)), Edit::Pause(Which::Position(2))];
    let done = edit_all(ORDERS, all).unwrap();
    assert_eq!(done.texts.len(), 1);
    assert_eq!(order(&done.texts[0].text), ["shell", "nothing-else"]);
    let names: Vec<&str> = done.edits.iter().map(|e| e.rule.name.as_str()).collect();
    assert_eq!(names, ["plates", "shell"]);
    // What is so already does not keep the others from being done; all of it is no edit.
    let again = vec![Edit::Pause(named("shell")), Edit::Pause(named("plates"))];
    let some = edit_all(&done.texts[0].text, again.clone()).unwrap_err();
    assert_eq!(some.to_string(), "no rule `plates`");
    let paused = edit_all(ORDERS, again.clone()).unwrap().texts.remove(0).text;
    let fault = edit_all(&paused, again).unwrap_err();
    assert!(matches!(fault, EditFault::NothingToDo(why) if why.contains("shell is paused")));
    let half = edit_all(&paused, vec![Edit::Pause(named("shell")), Edit::Resume(named("plates"))]);
    let half = half.unwrap();
    assert_eq!((half.edits.len(), half.already.len()), (1, 1));
}

#[test]
fn rules_move_together_by_the_positions_that_they_have_before() {
    let after = |n| Destination::After(Which::Position(n));
    let moves = vec![
        Edit::Move(Which::Position(3), Destination::First),
        Edit::Move(Which::Position(2), after(3)),
    ];
    let done = edit_all(ORDERS, moves).unwrap();
    assert_eq!(order(&done.texts[0].text), ["nothing-else", "shell", "plates"]);
    let positions: Vec<usize> = done.edits.iter().map(|e| e.position).collect();
    assert_eq!(positions, [1, 2]);
}

#[test]
fn a_position_is_where_a_rule_stands_afterwards() {
    for (from, to) in [(1, 3), (3, 1), (2, 3), (1, 2), (3, 2)] {
        let moved = done(Edit::Move(Which::Position(from), Destination::At(to)));
        let name = order(ORDERS).remove(from - 1);
        assert_eq!((moved.position, &order(&moved.text)[to - 1]), (to, &name), "{from} to {to}");
    }
    let added = done(Edit::Add(ntp(Some("clock")), Some(Destination::At(2))));
    assert_eq!(order(&added.text), ["plates", "clock", "shell", "nothing-else"]);
    let added = done(Edit::Add(ntp(Some("clock")), Some(Destination::At(4))));
    assert_eq!(order(&added.text)[3], "clock");
    let fault = |what| edit(ORDERS, &what).unwrap_err().to_string();
    let far = Edit::Add(ntp(None), Some(Destination::At(5)));
    assert_eq!(fault(far), "no rule at position 5");
    let still = Edit::Move(Which::Position(2), Destination::At(2));
    assert_eq!(fault(still), "shell is already there");
}

#[test]
fn items_are_added_to_lists_and_taken_from_them() {
    let set = |text: &str, key: &str, value: &str| {
        edit(text, &Edit::Set(named("shell"), vec![(key.to_owned(), value.to_owned())]))
    };
    let any = set(ORDERS, "source+", "203.0.113.9").unwrap_err().to_string();
    assert_eq!(any, "the rule has no source, so it is about any; nothing was changed");
    let one = set(ORDERS, "source", "198.51.100.0/24").unwrap().text;
    let more = set(&one, "source+", "203.0.113.9,192.0.2.0/24").unwrap();
    assert_eq!(more.told, ["`source` also has 203.0.113.9,192.0.2.0/24"]);
    assert!(more.rule.source.written.ends_with(&["203.0.113.9".into(), "192.0.2.0/24".into()]));
    let same = set(&more.text, "source+", "203.0.113.9").unwrap_err();
    assert!(matches!(same, EditFault::NothingToDo(_)), "{same}");
    let less = set(&more.text, "source-", "203.0.113.9").unwrap();
    assert!(!less.rule.source.written.contains(&"203.0.113.9".to_owned()));
    // Nobody means everybody by taking the last one out.
    let all = more.rule.source.written.join(",");
    let none = set(&more.text, "source-", &all).unwrap_err();
    assert_eq!(
        none.to_string(),
        "that would leave no source, which means any; nothing was changed"
    );
    let ports = set(ORDERS, "traffic+", "udp:2222, http").unwrap();
    assert!(ports.rule.traffic.written.ends_with(&["udp/2222".into(), "http".into()]));
}

#[test]
fn a_rule_is_replaced_by_the_text_that_somebody_wrote() {
    let block = block_of(ORDERS, &named("plates")).unwrap();
    assert!(block.starts_with("# The plates, see") && block.contains("name = \"plates\""));
    let new = block.replace("\"plates\"", "\"star-plates\"");
    let replaced = done(Edit::Replace(named("plates"), new));
    assert_eq!(order(&replaced.text), ["star-plates", "shell", "nothing-else"]);
    let fault = edit(ORDERS, &Edit::Replace(named("plates"), block)).unwrap_err();
    assert!(matches!(fault, EditFault::NothingToDo(_)), "{fault}");
    let wrong = Edit::Replace(named("plates"), "[[rules]]\nname = \"plates\"\n".into());
    assert!(matches!(edit(ORDERS, &wrong), Err(EditFault::WouldBeUnsound { .. })));
}

/// A rule to be added with nothing but these.
fn new(action: &str, traffic: &[&str], source: &[&str]) -> NewRule {
    let words = |all: &[&str]| all.iter().map(|word| (*word).to_owned()).collect();
    NewRule {
        name: Some("new".into()),
        note: None,
        action: action.into(),
        traffic: words(traffic),
        source: words(source),
        further: Vec::new(),
    }
}

/// Before what catches all, but for what catches all itself.
#[test]
fn a_new_rule_has_its_usual_place() {
    let place = |rule: NewRule| done(Edit::Add(rule, None)).position;
    assert_eq!(place(new("deny", &["any"], &[])), 4);
    assert_eq!(place(new("refuse", &["any"], &[])), 4);
    assert_eq!(place(new("allow", &["any"], &[])), 3);
    assert_eq!(place(new("deny", &["ssh"], &[])), 3);
    assert_eq!(place(new("deny", &["any"], &["203.0.113.9"])), 3);
    let further = vec![("direction".to_owned(), "outbound".to_owned())];
    assert_eq!(place(NewRule { further, ..new("allow", &["ssh"], &[]) }), 4);
}

#[test]
fn what_is_written_in_one_word_is_read_as_several() {
    let edited = done(Edit::Add(new("allow", &["ssh, tcp:7412"], &[]), None));
    assert!(edited.text.contains("traffic = [\"ssh\", \"tcp/7412\"]\n"), "{}", edited.text);
    assert_eq!(edited.told[0], "read as ssh, tcp/7412");
    // Blocks stay apart by one empty line, however lines end.
    for text in [ORDERS.to_owned(), ORDERS.replace('\n', "\r\n")] {
        let whole = edit(&text, &Edit::Add(new("allow", &["ssh"], &[]), None)).unwrap().text;
        let plain = whole.replace("\r\n", "\n");
        assert!(!plain.contains("\n\n\n"), "{plain}");
        assert!(plain.contains("\n\n[[rules]]\nname = \"new\"\n"), "{plain}");
        assert!(plain.contains("traffic = \"ssh\"\n\n# the end\n"), "{plain}");
    }
}

#[test]
fn what_happened_to_each_key_is_told() {
    let set = |key: &str, written: &str| {
        let keys = vec![(key.to_owned(), written.to_owned())];
        let edited = edit(ORDERS, &Edit::Set(named("plates"), keys));
        edited.map(|edited| edited.told.join("; ")).map_err(|fault| fault.to_string())
    };
    let told = |key, written| set(key, written).unwrap();
    assert_eq!(told("traffic+", "tcp/7412"), "`traffic` also has tcp/7412");
    assert_eq!(told("traffic-", "tcp/7411"), "`traffic` no longer has tcp/7411");
    assert_eq!(told("traffic", "ssh,7412"), "`traffic` is now ssh, tcp/7412");
    assert_eq!(told("traffic_except", "7411"), "`traffic_except` is now tcp/7411");
    assert_eq!(told("note", ""), "`note` is removed");
    assert_eq!(told("note", "a,b"), "`note` is now a,b");
    assert_eq!(told("source", "203.0.113.9"), "`source` is now 203.0.113.9");
    assert_eq!(set("traffic+", "tcp/7410").unwrap_err(), "plates says that already");
    let text = |key: &str, written: &str| {
        done(Edit::Set(named("plates"), vec![(key.to_owned(), written.to_owned())])).text
    };
    // Switches are no words, and words no switches.
    assert!(text("log", "true").contains("\nlog = true\n"));
    assert!(text("enabled", "false").contains("\nenabled = false\n"));
    assert!(text("note", "true").contains("note = \"true\"\n"));
    // An exception may come from nothing and go to nothing; a list may not.
    assert_eq!(told("source_except+", "203.0.113.9"), "`source_except` also has 203.0.113.9");
    assert!(set("source+", "203.0.113.9").unwrap_err().contains("source"));
    assert!(set("traffic-", "tcp/7410, tcp/7411").unwrap_err().contains("traffic"));
}

#[test]
fn copies_stand_behind_and_have_free_names() {
    let copied = done(Edit::Copy(named("plates"), None, None));
    assert_eq!((copied.rule.name.as_str(), copied.position), ("plates-2", 2));
    assert_eq!(
        copied.told,
        ["a copy of `plates` was added at position 2", "rules 3–4 moved down by one"]
    );
    let again = edit(&copied.text, &Edit::Copy(named("plates"), None, None)).unwrap();
    let third = edit(&again.text, &Edit::Copy(named("plates"), None, None)).unwrap();
    assert_eq!(order(&third.text)[..4], ["plates", "plates-4", "plates-3", "plates-2"]);
}

#[test]
fn a_rule_that_is_there_already_stays() {
    let moved = |name: &str, to| edit(ORDERS, &Edit::Move(named(name), to));
    for to in [
        Destination::Before(named("nothing-else")),
        Destination::After(named("plates")),
        Destination::At(2),
    ] {
        let fault = moved("shell", to).unwrap_err();
        assert!(matches!(&fault, EditFault::NothingToDo(why) if why == "shell is already there"));
    }
    let last = moved("shell", Destination::Last).unwrap();
    assert_eq!(order(&last.text), ["plates", "nothing-else", "shell"]);
    assert_eq!(last.told, ["moved from position 2 to 3", "rule 2 moved up by one"]);
    let first = moved("nothing-else", Destination::First).unwrap();
    assert_eq!(first.told, ["moved from position 3 to 1", "rules 2–3 moved down by one"]);
}
