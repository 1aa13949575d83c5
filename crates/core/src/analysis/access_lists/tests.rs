use super::*;
use crate::brief::Brief;
use crate::orders::read;

const ORDERS: &str = r#"
version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[addresses]
partner = ["203.0.113.0/24", "2001:db8:113::/48"]
[[rules]]
name = "plates"
action = "allow"
traffic = ["tcp/7410", "udp/7420-7423", "icmp/echo"]
source = "partner"
log = true
[[rules]]
name = "mast"
action = "refuse"
direction = "outbound"
traffic = "protocol/47"
destination = "192.0.2.10-192.0.2.13"
interface = "mast0"
[[rules]]
name = "by-program"
action = "allow"
traffic = "tcp/443"
program = "/usr/sbin/plated"
[[rules]]
name = "slow"
action = "allow"
traffic = "ssh"
at_most = "6 per minute per source"
until = 2027-01-01T00:00:00Z
"#;

fn exported() -> Exported {
    export(&Brief::unplaced(&read(ORDERS).unwrap()))
}

#[test]
fn rules_become_entries_and_what_does_not_fit_is_told() {
    let exported = exported();
    insta::assert_snapshot!(serde_json::to_string_pretty(&exported.lists).unwrap());
    assert_eq!(
        exported.unfit,
        [
            "rule 3 (by-program) is left out: programs are not known there",
            "rule 4 (slow) is left out: rates are not known there, times are not known there",
        ]
    );
}

#[test]
fn they_come_back_as_orders() {
    let imported = import(&exported().lists);
    insta::assert_snapshot!(imported.text);
    assert!(imported.unfit.is_empty() && imported.notes.is_empty());
    read(&imported.text).unwrap();
}

#[test]
fn lists_of_others_are_read_with_what_is_attached_and_what_is_not_known() {
    let text = r#"{"ietf-access-control-list:acls": {
        "acl": [{"name": "guests", "type": "ietf-access-control-list:ipv4-acl-type", "aces": {"ace": [
            {"name": "web 1", "matches": {"ipv4": {"protocol": 6, "source-ipv4-network": "192.0.2.77/24"},
             "tcp": {"destination-port": {"operator": "gte", "port": 8000}}},
             "actions": {"forwarding": "accept", "logging": "log-none"}},
            {"name": "7", "matches": {"ipv4": {}, "udp": {"destination-port": {"operator": "neq", "port": 53}}},
             "actions": {"forwarding": "ietf-access-control-list:drop"}},
            {"name": "mar\\u001b\\nked", "matches": {"ipv4": {"dscp": 10}}, "actions": {"forwarding": "drop"}},
            {"name": "from", "matches": {"ipv4": {}, "tcp": {"source-port": {"port": 20}}},
             "actions": {"forwarding": "accept"}},
            {"name": "time", "matches": {"ipv4": {}, "icmp": {"type": 13}}, "actions": {"forwarding": "drop"}}
        ]}}],
        "attachment-points": {"interface": [{"interface-id": "guest0",
            "ingress": {"acl-sets": {"acl-set": [{"name": "guests"}]}}}]}}}"#;
    let imported = import(&serde_json::from_str(text).unwrap());
    insta::assert_snapshot!(format!("{}---\n{}", imported.text, imported.notes.join("\n")));
    assert_eq!(imported.unfit.len(), 3);
    read(&imported.text).unwrap();
}

/// RFC 8519 counts ports from 0, orders from 1: what says 0 loses nothing and gains nothing.
#[test]
fn ports_mean_what_they_meant_with_0_too() {
    let all = |first: u16, last: u16| (first..=last).collect::<Vec<_>>();
    for (ports, expected) in [
        (r#"{"operator": "eq", "port": 0}"#, vec![0]),
        (r#"{"operator": "eq", "port": 53}"#, vec![53]),
        (r#"{"operator": "neq", "port": 0}"#, all(1, u16::MAX)),
        (r#"{"operator": "lte", "port": 0}"#, vec![0]),
        (r#"{"operator": "lte", "port": 1023}"#, all(0, 1023)),
        (r#"{"operator": "lte", "port": 65535}"#, all(0, u16::MAX)),
        (r#"{"operator": "gte", "port": 0}"#, all(0, u16::MAX)),
        (r#"{"operator": "gte", "port": 1}"#, all(1, u16::MAX)),
        (r#"{"lower-port": 0, "upper-port": 1}"#, vec![0, 1]),
        (r#"{"lower-port": 0, "upper-port": 0}"#, vec![0]),
        (r#"{"lower-port": 1, "upper-port": 65535}"#, all(1, u16::MAX)),
        (r#"{"lower-port": 0, "upper-port": 65535}"#, all(0, u16::MAX)),
    ] {
        let text = format!(
            r#"{{"ietf-access-control-list:acls": {{"acl": [{{"name": "dome", "aces": {{"ace": [
            {{"name": "a", "matches": {{"ipv4": {{}}, "udp": {{"destination-port": {ports}}}}},
             "actions": {{"forwarding": "drop"}}}}]}}}}]}}}}"#
        );
        let imported = import(&serde_json::from_str(&text).unwrap());
        assert_eq!(imported.unfit, Vec::<String>::new(), "{ports}");
        let orders = read(&imported.text).unwrap();
        let keys = orders.rules[0].traffic.keys.clone().unwrap();
        let key = |port| crate::names::traffic::Transport::Udp.key(port);
        let got: Vec<u16> =
            all(0, u16::MAX).into_iter().filter(|p| keys.contains(key(*p))).collect();
        assert!(got == expected, "{ports}: {}", imported.text);
    }
}
