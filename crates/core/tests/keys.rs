//! The keys of the orders, as the schema tells them, and what the reader makes of each.

#![allow(clippy::unwrap_used)]

use serde_json::Value;
use tipstaff_core::orders::{part_schema, read, schema};

#[test]
fn the_schema_of_orders_is_told_whole() {
    insta::assert_snapshot!("orders", serde_json::to_string_pretty(&schema()).unwrap());
    insta::assert_snapshot!("part", serde_json::to_string_pretty(&part_schema()).unwrap());
}

const HEAD: &str = "version = 1\n";
const STANDING: &str = "[standing]\ninbound = \"deny\"\noutbound = \"deny\"\ntransit = \"deny\"\n";
const RULE: &str = "[[rules]]\nname = \"plates\"\ntraffic = \"tcp/7410\"\n";

/// Orders in which one key says one word.
fn orders_with(table: &str, key: &str, word: &str) -> String {
    let said = format!("{key} = \"{word}\"\n");
    match table {
        "standing" => {
            let others = ["inbound", "outbound", "transit"].into_iter().filter(|k| *k != key);
            let others: String = others.map(|k| format!("{k} = \"deny\"\n")).collect();
            format!("{HEAD}[standing]\n{said}{others}")
        }
        "rules" if key == "action" => format!("{HEAD}{STANDING}{RULE}{said}"),
        "rules" if key == "over" => {
            format!(
                "{HEAD}{STANDING}{RULE}action = \"allow\"\nat_most = \"6 per minute per source\"\n{said}"
            )
        }
        "rules" => format!("{HEAD}{STANDING}{RULE}action = \"allow\"\n{said}"),
        table => format!("{HEAD}{STANDING}[{table}]\n{said}"),
    }
}

/// The words that the schema offers are those that are read, and a fault offers the same.
#[test]
fn what_may_be_said_is_read_and_offered() {
    let schema = schema();
    let words = |table: &Value, key: &str| -> Vec<String> {
        let all = table["properties"][key]["enum"].as_array();
        all.unwrap_or_else(|| panic!("{key}: {table}"))
            .iter()
            .map(|word| word.as_str().unwrap().to_owned())
            .collect()
    };
    let properties = &schema["properties"];
    let rule = &properties["rules"]["items"];
    for (name, table, key, wanted) in [
        ("standing", &properties["standing"], "inbound", "allow deny refuse"),
        ("rules", rule, "action", "allow deny refuse"),
        ("rules", rule, "direction", "inbound outbound transit"),
        ("rules", rule, "family", "ipv4 ipv6"),
        ("rules", rule, "over", "deny refuse"),
        ("boot", &properties["boot"], "on_failure", "last-good closed open"),
        ("log", &properties["log"], "level", "off denied rules all"),
    ] {
        let offered = words(table, key);
        let mut sorted = [offered.clone(), wanted.split(' ').map(str::to_owned).collect()];
        sorted.iter_mut().for_each(|words| words.sort());
        assert_eq!(sorted[0], sorted[1], "{name}.{key}");
        for word in &offered {
            read(&orders_with(name, key, word)).unwrap_or_else(|f| panic!("{key} = {word}: {f}"));
        }
        let faults = read(&orders_with(name, key, "xyzzy")).unwrap_err();
        let told = format!("{faults:?}");
        for word in &offered {
            assert!(told.contains(word.as_str()), "{name}.{key}: {word} in {told}");
        }
    }
}

/// Words that people bring along are answered by what they mean, not by the nearest letters.
#[test]
fn a_word_of_elsewhere_is_answered_by_the_one_that_is_meant_here() {
    let told = |table: &str, line: &str| {
        let text = match table {
            "action" => format!("{HEAD}{STANDING}{RULE}{line}\n"),
            "rules" => format!("{HEAD}{STANDING}{RULE}action = \"allow\"\n{line}\n"),
            _ => format!("{HEAD}{line}\n{STANDING}"),
        };
        let faults = read(&text).unwrap_err();
        let helps: Vec<&str> = faults.0.iter().map(|fault| fault.help.as_str()).collect();
        helps.join(" | ")
    };
    for (table, line, meant) in [
        ("rules", "rate = \"5/s\"", "`at_most` (Rate limit of an allow"),
        ("rules", "port = 22", "`traffic` (Traffic that it matches: ssh, tcp/7410"),
        ("rules", "from = \"198.51.100.9\"", "`source` ("),
        ("rules", "DST = \"198.51.100.9\"", "`destination` ("),
        ("rules", "comment = \"x\"", "`note` (Why"),
        ("rules", "rate-limit = \"x\"", "`at_most` ("),
        ("rules", "disabled = true", "`enabled` (false pauses it"),
        ("rules", "policy = \"deny\"", "`action` ("),
        ("orders", "policy = \"deny\"", "`standing` ("),
        ("action", "action = \"drop\"", "Write `deny`."),
        ("action", "action = \"Accept\"", "Write `allow`."),
        ("action", "action = \"reject\"", "Write `refuse`."),
        ("action", "action = \"limit\"", "`at_most`"),
        ("action", "action = \"alow\"", "Did you mean `allow`?"),
        ("rules", "direction = \"in\"", "Write `inbound`."),
        ("rules", "direction = \"forward\"", "Write `transit`."),
        // Where the key is none of this table, what there is is listed.
        ("orders", "comment = \"x\"", "Known here"),
    ] {
        assert!(told(table, line).contains(meant), "{line}: {}", told(table, line));
    }
}
