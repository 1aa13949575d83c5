//! Editing what is no rule, in place: standing answers, names, postures, the feed. As with
//! rules, everything else of a file stays as it is, and what would not read is refused.

use toml_edit::value;

use super::action::Action;
use super::attachments::Documents;
use super::change::{EditFault, NewText};
use super::document::with_line_ends_of;
use super::edit_names::{add_to_name, remove_name, rename, set_name};
use super::edit_postures::{add_posture, remove_posture, set_posture};
use super::model::{NameKind, Orders};
use super::read::read_all;
use super::sheets::{Sheet, put, table_of};
use crate::packet::Direction;

/// One edit of what is no rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TableEdit {
    /// A standing answer.
    Standing(Direction, Action),
    /// More that a name stands for; a new name is made.
    AddToName(NameKind, String, Vec<String>),
    /// All that a name stands for; a new name is made.
    SetName(NameKind, String, Vec<String>),
    /// Less that a name stands for; without items, the whole name.
    RemoveName(NameKind, String, Vec<String>),
    /// Another name, wherever it is used.
    RenameName(NameKind, String, String),
    /// A new posture with these keys, as for [`TableEdit::SetPosture`].
    AddPosture(String, Vec<(String, String)>),
    /// Keys of a posture, and its standing answers by their directions; an empty value takes
    /// the key out.
    SetPosture(String, Vec<(String, String)>),
    /// A posture.
    RemovePosture(String),
    /// The file of the areas.
    Feed(String),
}

/// What an edit made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TablesEdited {
    /// The files that have another text now.
    pub texts: Vec<NewText>,
    /// What happened, a sentence each.
    pub told: Vec<String>,
}

/// Applies an edit.
///
/// # Errors
/// [`EditFault`]; then there is no new text.
pub fn edit_tables<'t>(
    sheets: impl Into<Documents<'t>>,
    edit: &TableEdit,
) -> Result<TablesEdited, EditFault> {
    let sheets = sheets.into();
    let orders = read_all(sheets).map_err(EditFault::WrongOrders)?;
    let named = sheets.parts().into_iter().map(|p| (Some(p.name.as_str()), p.text.as_str()));
    let mut files = Vec::new();
    // The orders' own file comes first: what is new goes there.
    for (part, before) in [(None, sheets.text)].into_iter().chain(named) {
        let document = before.parse().map_err(|_| EditFault::NotTables)?;
        files.push(Sheet { part, before, document });
    }
    let told = match edit {
        TableEdit::Standing(direction, action) => {
            standing(&mut files, &orders, *direction, *action)?
        }
        TableEdit::AddToName(kind, name, items) => add_to_name(&mut files, *kind, name, items)?,
        TableEdit::SetName(kind, name, items) => set_name(&mut files, *kind, name, items)?,
        TableEdit::RemoveName(kind, name, items) => remove_name(&mut files, *kind, name, items)?,
        TableEdit::RenameName(kind, name, new) => rename(&mut files, &orders, (*kind, name), new)?,
        TableEdit::AddPosture(name, keys) => add_posture(&mut files, &orders, name, keys)?,
        TableEdit::SetPosture(name, keys) => set_posture(&mut files, &orders, name, keys)?,
        TableEdit::RemovePosture(name) => remove_posture(&mut files, &orders, name)?,
        TableEdit::Feed(file) => feed(&mut files, file)?,
    };
    finished(sheets, files, told)
}

/// The new texts, where they read without a fault.
fn finished(
    sheets: Documents<'_>,
    files: Vec<Sheet<'_>>,
    told: Vec<String>,
) -> Result<TablesEdited, EditFault> {
    let mut texts = Vec::new();
    let (mut main, mut attachments) = (sheets.text.to_owned(), sheets.attachments.clone());
    for Sheet { part, before, document } in files {
        let text = with_line_ends_of(before, document.to_string());
        if text != before {
            let now = Documents { text: &main, attachments: &attachments };
            (main, attachments) = now.with(part, &text);
            texts.push(NewText { part: part.map(str::to_owned), text });
        }
    }
    if texts.is_empty() {
        return Err(EditFault::NothingToDo("it is so already".into()));
    }
    let new = Documents { text: &main, attachments: &attachments };
    match read_all(new) {
        Ok(_) => Ok(TablesEdited { texts, told }),
        Err(faults) => {
            // Shown is the file that the first fault is in.
            let part = faults.0.first().and_then(|fault| fault.file.clone());
            let text = texts.iter().find(|t| t.part == part).or(texts.first());
            let text = text.map(|new| new.text.clone()).unwrap_or_default();
            Err(EditFault::WouldBeUnsound { part, text, faults })
        }
    }
}

fn standing(
    files: &mut [Sheet<'_>],
    orders: &Orders,
    direction: Direction,
    action: Action,
) -> Result<Vec<String>, EditFault> {
    let before = orders.standing.of(direction);
    if before == action {
        return Err(EditFault::NothingToDo(format!(
            "the standing answer {direction} is {action} already"
        )));
    }
    let table = table_of(files, 0, "standing")?;
    put(table, direction.name(), value(action.to_string()));
    Ok(vec![format!("the standing answer {direction} is now {action} (was {before})")])
}

fn feed(files: &mut [Sheet<'_>], file: &str) -> Result<Vec<String>, EditFault> {
    put(table_of(files, 0, "areas")?, "feed", value(file));
    Ok(vec![format!("areas come from {file}")])
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "# of archive\nversion = 1\n[standing]\ninbound = \"deny\" # closed\n\
        outbound = \"allow\"\ntransit = \"deny\"\n\n[addresses]\n# the partner institute\n\
        partner = [\"203.0.113.0/24\"] # since spring\nhouse = \"198.51.100.0/24\"\n\
        all = [\n  \"partner\",\n  \"house\", # us\n]\n\n[[rules]]\nname = \"plates\" # why\n\
        action = \"allow\"\ntraffic = \"tcp/7410\"\nsource = [\"partner\", \"house\"]\n";

    fn edited(edit: TableEdit) -> Result<String, EditFault> {
        let mut done = edit_tables(TEXT, &edit)?;
        assert_eq!((done.texts.len(), done.told.is_empty()), (1, false));
        Ok(done.texts.remove(0).text)
    }

    fn one(text: &str) -> Vec<String> {
        vec![text.to_owned()]
    }

    #[test]
    fn everything_else_of_the_file_stays() {
        let new = edited(TableEdit::Standing(Direction::Inbound, Action::Refuse)).unwrap();
        assert_eq!(new, TEXT.replace("\"deny\" # closed", "\"refuse\" # closed"));
        let add = |name: &str, item| {
            TableEdit::AddToName(NameKind::Addresses, name.to_owned(), one(item))
        };
        let new = edited(add("partner", "192.0.2.7")).unwrap();
        assert_eq!(new, TEXT.replace("/24\"] # since", "/24\", \"192.0.2.7\"] # since"));
        let new = edited(add("all", "192.0.2.7")).unwrap();
        assert!(new.contains("\"192.0.2.7\"") && new.contains("# us"), "{new}");
        let new = edited(add("house", "2001:db8:51::/48")).unwrap();
        assert!(new.contains("house = [\"198.51.100.0/24\", \"2001:db8:51::/48\"]\nall"), "{new}");
        let new =
            edited(TableEdit::AddToName(NameKind::Service, "plates".into(), one("7410, udp:7411")));
        let new = new.unwrap();
        assert!(new.contains("\n[services]\nplates = [\"tcp/7410\", \"udp/7411\"]\n"), "{new}");
        assert!(new.find("[services]") < new.find("[[rules]]"), "{new}");
    }

    #[test]
    fn a_name_is_renamed_wherever_it_is_used() {
        let rename = TableEdit::RenameName(NameKind::Addresses, "house".into(), "desks".into());
        let new = edited(rename).unwrap();
        assert_eq!(new, TEXT.replace("house", "desks"));
    }

    #[test]
    fn what_is_used_or_unknown_or_so_already_is_no_edit() {
        let remove = |name: &str, items: Vec<String>| {
            edited(TableEdit::RemoveName(NameKind::Addresses, name.to_owned(), items))
        };
        match remove("partner", Vec::new()) {
            Err(EditFault::InUse { users, .. }) => assert_eq!(users, ["rule plates", "all"]),
            other => panic!("{other:?}"),
        }
        assert!(matches!(remove("partnr", Vec::new()),
            Err(EditFault::NoSuchName { near: Some(near), .. }) if near == "partner"));
        assert_eq!(remove("all", Vec::new()).unwrap().matches("partner").count(), 3);
        let less = remove("all", one("partner")).unwrap();
        assert!(less.contains("\"house\", # us"), "{less}");
        assert!(matches!(
            edited(TableEdit::Standing(Direction::Inbound, Action::Deny)),
            Err(EditFault::NothingToDo(_))
        ));
        // What would not read is not written.
        let wrong = TableEdit::SetName(NameKind::Addresses, "house".into(), one("hose"));
        assert!(matches!(edited(wrong), Err(EditFault::WouldBeUnsound { .. })));
    }

    #[test]
    fn postures_come_change_and_go() {
        let pair = |key: &str, value: &str| (key.to_owned(), value.to_owned());
        let keys = vec![pair("note", "Nobody is here"), pair("inbound", "deny")];
        let new = edited(TableEdit::AddPosture("night".into(), keys)).unwrap();
        let part = "[[postures]]\nname = \"night\"\nnote = \"Nobody is here\"\n\
            standing = { inbound = \"deny\" }\n";
        assert!(new.contains(part), "{new}");
        let set = |keys| TableEdit::SetPosture("night".into(), keys);
        let again = edit_tables(&new, &set(vec![pair("inbound", ""), pair("outbound", "deny")]));
        let again = again.unwrap().texts.remove(0).text;
        assert!(again.contains("standing = { outbound = \"deny\" }"), "{again}");
        let gone = edit_tables(&again, &TableEdit::RemovePosture("night".into())).unwrap();
        assert!(!gone.texts[0].text.contains("postures"), "{}", gone.texts[0].text);
    }

    /// What was done, as it is told, and the text.
    fn told(text: &str, edit: TableEdit) -> (String, String) {
        let mut done = edit_tables(text, &edit).unwrap();
        (done.told.join("; "), done.texts.remove(0).text)
    }

    #[test]
    fn items_stand_as_those_before_them_do() {
        let head = TEXT.split("[addresses]").next().unwrap();
        let added = |list: &str| {
            let text = format!("{head}[addresses]\nhouse = {list}\n");
            let add = |name: &str, item| {
                TableEdit::AddToName(NameKind::Addresses, name.to_owned(), one(item))
            };
            let (told, text) = told(&text, add("house", "192.0.2.7"));
            assert_eq!(told, "house also holds 192.0.2.7");
            text.split("house = ").nth(1).unwrap().trim_end().to_owned()
        };
        assert_eq!(added("\"192.0.2.1\""), "[\"192.0.2.1\", \"192.0.2.7\"]");
        assert_eq!(added("[\"192.0.2.1\"]"), "[\"192.0.2.1\", \"192.0.2.7\"]");
        assert_eq!(
            added("[\"192.0.2.1\", \"192.0.2.2\"]"),
            "[\"192.0.2.1\", \"192.0.2.2\", \"192.0.2.7\"]"
        );
        assert_eq!(added("[\n  \"192.0.2.1\",\n]"), "[\n  \"192.0.2.1\",\n  \"192.0.2.7\",\n]");
        assert_eq!(
            added("[\n  \"192.0.2.1\",\n  \"192.0.2.2\",\n]"),
            "[\n  \"192.0.2.1\",\n  \"192.0.2.2\",\n  \"192.0.2.7\",\n]"
        );
    }

    #[test]
    fn what_changed_and_how_often_is_told() {
        let rename = |kind, name: &str, new: &str| {
            TableEdit::RenameName(kind, name.to_owned(), new.to_owned())
        };
        let (words, _) = told(TEXT, rename(NameKind::Addresses, "house", "desks"));
        assert_eq!(words, "house is now called desks; 2 places use it");
        let (words, _) = told(TEXT, rename(NameKind::Addresses, "all", "everybody"));
        assert_eq!(words, "all is now called everybody; 0 places use it");
        let services = format!("{TEXT}[services]\nhouse = \"tcp/1\"\n");
        let (words, new) = told(&services, rename(NameKind::Service, "house", "desks"));
        assert_eq!(words, "house is now called desks; 0 places use it");
        assert_eq!(new, services.replace("house = \"tcp/1\"", "desks = \"tcp/1\""));
        // Another kind may have the same name.
        let fault = edit_tables(TEXT, &rename(NameKind::Addresses, "house", "partner"));
        assert!(
            matches!(fault, Err(EditFault::NothingToDo(why)) if why == "partner is there already")
        );
        let (words, _) = told(&services, rename(NameKind::Service, "house", "partner"));
        assert!(words.starts_with("house is now called partner"), "{words}");
        let (words, new) = told(TEXT, TableEdit::Feed("areas.csv".into()));
        assert_eq!(words, "areas come from areas.csv");
        assert!(new.contains("[areas]\nfeed = \"areas.csv\"\n"), "{new}");
    }

    #[test]
    fn a_name_keeps_an_item() {
        let remove = |items: &[&str]| {
            let items = items.iter().map(|item| (*item).to_owned()).collect();
            edit_tables(TEXT, &TableEdit::RemoveName(NameKind::Addresses, "all".into(), items))
        };
        let told = remove(&["partner"]).unwrap().told;
        assert_eq!(told, ["all no longer holds partner"]);
        let fault = remove(&["partner", "house"]).unwrap_err();
        assert!(
            matches!(&fault, EditFault::NothingToDo(why) if why.starts_with("that is all of all")),
            "{fault:?}"
        );
    }

    /// The text that is shown is that of the file with the fault.
    #[test]
    fn what_would_not_read_is_shown_where_it_does_not() {
        let main = format!("include = \"more.toml\"\n{TEXT}");
        let part = "[[rules]]\nname = \"more\"\naction = \"allow\"\ntraffic = \"ssh\"\nsource = \"house\"\n";
        let part = crate::orders::Part { name: "more.toml".into(), text: part.into() };
        let attachments = crate::orders::Attachments {
            included: vec![("more.toml".into(), Ok(vec![part]))],
            ..crate::orders::Attachments::default()
        };
        let rename = TableEdit::RenameName(NameKind::Addresses, "house".into(), "7 desks".into());
        let sheets = Documents { text: &main, attachments: &attachments };
        match edit_tables(sheets, &rename) {
            Err(EditFault::WouldBeUnsound { part: None, text, .. }) => {
                assert!(text.contains("[standing]") && text.contains("7 desks"), "{text}");
            }
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn postures_that_are_there_are_not_new() {
        let add = |name: &str| TableEdit::AddPosture(name.to_owned(), Vec::new());
        let text = told(TEXT, add("night")).1;
        for name in ["night", "sealed", "none"] {
            let fault = edit_tables(&text, &add(name)).unwrap_err();
            assert!(
                matches!(&fault, EditFault::NothingToDo(why)
                if *why == format!("the posture {name} is there already")),
                "{fault:?}"
            );
        }
        assert_eq!(told(&text, add("day")).0, "the posture day is new");
    }
}
