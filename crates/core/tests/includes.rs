//! Orders in several files: their order, their edits, their faults.

#![allow(clippy::unwrap_used)]

use tipstaff_core::orders::edit::{
    Destination, Edit, EditFault, NewRule, Which, edit, enable_group,
};
use tipstaff_core::orders::{Attachments, Documents, OrdersHash, Part, read_all};

const HEAD: &str =
    "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";

fn including(main: &str, parts: &[(&str, &str)]) -> (String, Attachments) {
    let text = format!("include = [\"groups/*.toml\"]\n{HEAD}{main}");
    let part = |(name, text): &(&str, &str)| Part { name: (*name).into(), text: (*text).into() };
    let parts = Ok(parts.iter().map(part).collect());
    let included = vec![("groups/*.toml".to_owned(), parts)];
    (text, Attachments { included, lists: None })
}

#[test]
fn rules_of_included_files_stand_before_the_orders_own() {
    let rest = "[[rules]]\nname = \"rest\"\naction = \"deny\"\ntraffic = \"any\"\n";
    let dome = "[addresses]\ndesks = \"198.51.100.0/25\"\n[[groups]]\nname = \
                \"dome\"\n\n[[rules]]\nname = \"dome\"\naction = \"allow\"\ntraffic = \
                \"dome-control\"\nsource = \"desks\"\ngroup = \"dome\"\n";
    let mast = "[services]\ndome-control = \"tcp/7410\"\n# why\n[[rules]]\nname = \
                \"mast\"\naction = \"allow\"\ntraffic = \"tcp/7430\"\n";
    let (text, attachments) =
        including(rest, &[("groups/dome.toml", dome), ("groups/mast.toml", mast)]);
    let sheets = Documents { text: &text, attachments: &attachments };
    let orders = read_all(sheets).unwrap();
    let places: Vec<(&str, Option<&str>, usize)> =
        orders.rules.iter().map(|r| (r.name.as_str(), r.part.as_deref(), r.line)).collect();
    let (dome_at, mast_at) =
        (("dome", Some("groups/dome.toml"), 6), ("mast", Some("groups/mast.toml"), 4));
    assert_eq!(places, [dome_at, mast_at, ("rest", None, 7)]);
    assert_ne!(OrdersHash::digest(sheets), OrdersHash::digest(&text));

    // An edit goes to the file in which the rule stands.
    let paused = edit(sheets, &Edit::Pause(Which::Name("mast".into()))).unwrap();
    assert_eq!((paused.part.as_deref(), paused.position), (Some("groups/mast.toml"), 2));
    assert_eq!(paused.text, format!("{mast}enabled = false\n"));
    let grouped = enable_group(sheets, "dome", false).unwrap();
    assert_eq!(grouped.part.as_deref(), Some("groups/dome.toml"));
    let new = NewRule {
        name: None,
        note: None,
        action: "allow".into(),
        traffic: vec!["ntp".into()],
        source: vec!["desks".into()],
        further: vec![],
    };
    let added = edit(sheets, &Edit::Add(new, None)).unwrap();
    assert_eq!((added.part, added.position), (None, 3));
    let across = Edit::Move(Which::Name("dome".into()), Destination::Last);
    assert!(matches!(edit(sheets, &across), Err(EditFault::AcrossFiles { .. })));
    let missing = edit(sheets, &Edit::Pause(Which::Name("mats".into())));
    assert_eq!(
        missing,
        Err(EditFault::NoSuchRule(Which::Name("mats".into()), Some("mast".into())))
    );
}

#[test]
fn faults_name_the_file_that_they_are_in() {
    let rule = "[[rules]]\nname = \"dome\"\naction = \"allow\"\ntraffic = \"ssh\"\n";
    let part =
        format!("[standing]\ninbound = \"allow\"\n[addresses]\ndesks = \"198.51.100.300\"\n{rule}");
    let more = "include = \"more.toml\"\n[addresses]\ndesks = \"198.51.100.0/25\"\n";
    let own = format!("{rule}source = \"desks\"\n");
    let (text, attachments) = including(
        &own,
        &[("groups/a.toml", &part), ("groups/b.toml", more), ("groups/c.toml", "[[rules")],
    );
    let faults = read_all(Documents { text: &text, attachments: &attachments }).unwrap_err();
    insta::assert_snapshot!(faults.to_string());
}

#[test]
fn includes_stay_in_the_folder_of_the_orders() {
    let text = format!(
        "include = [\"/etc/other.toml\", \"groups/../../x.toml\", \"\", \"gone.toml\", \
         \"unread.toml\"]\n{HEAD}"
    );
    let included = vec![("gone.toml".to_owned(), Err("no such file".to_owned()))];
    let attachments = Attachments { included, lists: None };
    let faults = read_all(Documents { text: &text, attachments: &attachments }).unwrap_err();
    insta::assert_snapshot!(faults.to_string());
}
