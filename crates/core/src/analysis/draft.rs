//! First orders for a machine, from what listens on it: everything closed,
//! each open listener a paused rule with a question, the shell that somebody
//! sits at allowed from where they are.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::net::IpAddr;

use toml_edit::value;

use crate::host::listener::{Listener, Scope};
use crate::names::services::CATALOGUE;
use crate::names::traffic::Term;

/// A remote shell: who sits at it, and the port that they came in by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Shell {
    /// The other end.
    pub from: IpAddr,
    /// The own port.
    pub port: u16,
}

/// The text of first orders for `host`.
pub fn draft(host: &str, listeners: &[Listener], shell: Option<Shell>) -> String {
    let advice = "Read them, answer the\n\
                  # questions, remove `enabled = false` where a port is to be open, then:";
    let mut text = begin(host, ("what listens on it", advice), shell);
    rule(&mut text, "ping", "Should anybody be able to ping this host?", "icmp/echo", None, false);
    for ((traffic, _), programs) in open_ports(listeners) {
        let who = match programs.as_slice() {
            [] => "a program that only root can see".to_owned(),
            names => names.join(" and "),
        };
        let note = format!("{who} listens here: who needs it, and from where?");
        rule(&mut text, &name_of(&traffic, &programs), &note, &traffic, None, false);
    }
    text
}

/// How a draft begins: with the standing answers, and the shell that somebody sits at.
pub(super) fn begin(host: &str, (from, advice): (&str, &str), shell: Option<Shell>) -> String {
    let mut text = format!(
        "#:schema orders.schema.json\n\
         # First orders of {host}, drafted from {from}. {advice}\n\
         #   tipstaff post --check --orders THIS-FILE\n\
         # For an editor that checks it: tipstaff schema > orders.schema.json, beside this file.\n\
         version = 1\n\n\
         [standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n"
    );
    if let Some(shell) = shell {
        let port = format!("tcp/{}", shell.port);
        rule(
            &mut text,
            "your-shell",
            "You were logged in from here when this was drafted; without it you are cut off",
            &port,
            Some(&shell.from.to_string()),
            true,
        );
    }
    text
}

fn rule(
    text: &mut String,
    name: &str,
    note: &str,
    traffic: &str,
    source: Option<&str>,
    enabled: bool,
) {
    let _ = write!(
        text,
        "\n[[rules]]\nname = {}\nnote = {}\naction = \"allow\"\ntraffic = {}\n",
        quoted(name),
        quoted(note),
        quoted(traffic)
    );
    if let Some(source) = source {
        let _ = writeln!(text, "source = {}", quoted(source));
    }
    if !enabled {
        text.push_str("enabled = false\n");
    }
}

/// As TOML writes it.
pub(super) fn quoted(text: &str) -> String {
    value(text).to_string()
}

/// Ports that others could reach, with the programs behind them.
fn open_ports(listeners: &[Listener]) -> BTreeMap<(String, u16), Vec<String>> {
    let mut ports: BTreeMap<(String, u16), Vec<String>> = BTreeMap::new();
    for listener in listeners.iter().filter(|l| l.scope() != Scope::Loopback) {
        let traffic = listener.transport.key(listener.port).to_string();
        let programs = ports.entry((traffic, listener.port)).or_default();
        for program in &listener.owner.programs {
            if !programs.contains(&program.name) {
                programs.push(program.name.clone());
            }
        }
    }
    ports
}

/// `plated-tcp-7410`, or `ssh` where the catalogue knows the port.
pub(super) fn name_of(traffic: &str, programs: &[String]) -> String {
    let term = Term::parse(traffic).and_then(Result::ok);
    let known = CATALOGUE.iter().find(|s| term.is_some_and(|t| s.terms == [t]));
    if let Some(service) = known {
        return service.name.to_owned();
    }
    let port = traffic.replace('/', "-");
    match programs
        .first()
        .map(|name| {
            let words = name.split(|c: char| !c.is_ascii_alphanumeric() && !"-._".contains(c));
            let words: Vec<&str> = words.filter(|word| !word.is_empty()).collect();
            words.join("-").trim_start_matches('-').chars().take(40).collect::<String>()
        })
        .filter(|name| !name.is_empty())
    {
        Some(program) => format!("{program}-{port}"),
        None => format!("port-{port}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::analysis::exposure::Exposure;
    use crate::brief::Brief;
    use crate::host::listener::{Owner, Program};
    use crate::names::traffic::Transport;
    use crate::orders::{Action, read};

    fn listener(port: u16, address: &str, programs: &[&str]) -> Listener {
        let program = |name: &&str| Program { pid: 7, name: (*name).to_owned(), path: None };
        Listener {
            owner: Owner {
                uid: 0,
                account: "root".into(),
                programs: programs.iter().map(program).collect(),
            },
            ..Listener::of_root(Transport::Tcp, port, address.parse().unwrap())
        }
    }

    #[test]
    fn a_draft_reads_closes_everything_and_keeps_the_shell() {
        let shell = Shell { from: "203.0.113.9".parse().unwrap(), port: 22 };
        let listeners = [
            listener(22, "0.0.0.0", &["shelld"]),
            listener(22, "::", &["shelld"]),
            listener(7410, "::", &["plated \"x\""]),
            listener(7430, "127.0.0.1", &["mastd"]),
            listener(7440, "198.51.100.20", &[]),
            listener(7450, "198.51.100.20", &["python3 (mastd.py)"]),
            listener(7460, "198.51.100.20", &["-(…)"]),
        ];
        let text = draft("archive", &listeners, Some(shell));
        let orders = read(&text).unwrap_or_else(|faults| panic!("{faults}\n{text}"));
        let names: Vec<&str> = orders.rules.iter().map(|r| r.name.as_str()).collect();
        assert_eq!(names[..3], ["your-shell", "ping", "ssh"]);
        assert_eq!(names[3..5], ["plated-x-tcp-7410", "port-tcp-7440"]);
        assert_eq!(names[5..], ["python3-mastd.py-tcp-7450", "port-tcp-7460"]);
        assert_eq!(orders.standing.inbound, Action::Deny);
        let brief = Brief::unplaced(&orders);
        let words =
            |port| Exposure::compute(&brief, Transport::Tcp.key(port), None).describe(&brief);
        assert_eq!((words(22).as_str(), words(7410).as_str()), ("203.0.113.9", "nobody"));
    }

    #[test]
    fn a_machine_without_listeners_has_a_draft_too() {
        assert_eq!(read(&draft("desk-3", &[], None)).unwrap().rules.len(), 1);
    }
}
