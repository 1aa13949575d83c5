//! The `[[hosts]]` and `[[groups]]` of the orders.

use std::collections::BTreeSet;
use std::ops::Range;

use toml::de::{DeTable, DeValue};

use super::hosts::{
    Boot, Group, Host, NO_POSTURE, OnFailure, OwnStanding, Posture, Recognition, SEALED, Selector,
};
use super::keys;
use super::model::{NameKind, Named};
use super::read::{Reader, Value};
use super::resolve::{Names, Text, nearest};
use crate::names::address::AddressRange;

impl<'t> Reader<'t> {
    pub(super) fn hosts(&mut self, root: &DeTable<'t>, names: &Names, hosts: &mut Vec<Host>) {
        for (path, table, span) in self.tables(root, "hosts") {
            self.check_keys(table, &path, keys::HOSTS);
            let Some(name) = self.own_name(&path, table, &span) else { continue };
            if hosts.iter().any(|h| h.name == name.text) {
                self.twice(&path, &name);
                continue;
            }
            let tags = self.list(&path, table, "tags");
            let addresses = self.list(&path, table, "addresses");
            let (_, faults) = names.addresses(&addresses);
            faults.into_iter().for_each(|f| self.unresolved(&format!("{path}.addresses"), f));
            let ssh = self.ssh_name(&path, table);
            let standing = match table.get("standing") {
                Some(value) => self.own_standing(&format!("{path}.standing"), value),
                None => OwnStanding::default(),
            };
            fn plain(list: Vec<Text>) -> Vec<String> {
                list.into_iter().map(|t| t.text).collect::<Vec<_>>()
            }
            let tags = plain(tags).iter().map(|t| t.trim_start_matches('#').to_owned()).collect();
            let addresses = plain(addresses);
            hosts.push(Host { name: name.text, tags, addresses, ssh, standing });
        }
    }

    /// What ssh calls a host. It stands on a command line: no option, and one word.
    fn ssh_name(&mut self, path: &str, table: &DeTable<'t>) -> Option<String> {
        let path = format!("{path}.ssh");
        let written = self.string(&path, table.get("ssh")?)?;
        let text = &written.text;
        let odd = |c: char| c.is_whitespace() || c.is_control();
        if text.is_empty() || text.starts_with('-') || text.contains(odd) {
            let message = format!("`{text}` is not a host name for ssh");
            let help = "Write a host of your ssh configuration, or user@address.";
            self.fault(path, written.span, message, help);
            return None;
        }
        Some(written.text)
    }

    pub(super) fn postures(&mut self, root: &DeTable<'t>, postures: &mut Vec<Posture>) {
        for (path, table, span) in self.tables(root, "postures") {
            self.check_keys(table, &path, keys::POSTURES);
            let Some(name) = self.own_name(&path, table, &span) else { continue };
            if postures.iter().any(|p| p.name == name.text) {
                self.twice(&path, &name);
                continue;
            }
            if [SEALED, NO_POSTURE].contains(&name.text.as_str()) {
                let message = format!("`{}` is built in and cannot be redefined", name.text);
                self.fault(format!("{path}.name"), name.span, message, "Choose another name.");
                continue;
            }
            let standing = match table.get("standing") {
                Some(value) => self.own_standing(&format!("{path}.standing"), value),
                None => OwnStanding::default(),
            };
            let mut word = |key: &str, address: bool| {
                let path = format!("{path}.{key}");
                let written = self.string(&path, table.get(key)?)?;
                if let (true, Err(fault)) = (address, AddressRange::parse(&written.text)) {
                    let message = format!("`{}`: {fault}", written.text);
                    self.fault(path, written.span, message, "Write it like `198.51.100.0/24`.");
                }
                Some(written.text)
            };
            let recognition = Recognition {
                interface: word("interface", false),
                network: word("network", true),
                gateway: word("gateway", true),
            };
            let note = table.get("note").and_then(|v| self.prose(&format!("{path}.note"), v));
            postures.push(Posture { name: name.text, note, standing, recognition });
        }
    }

    /// `[boot]`; its posture must exist.
    pub(super) fn boot(
        &mut self,
        written: Option<&Value<'t>>,
        postures: &[Posture],
    ) -> Option<Boot> {
        let Some(written) = written else { return Some(Boot::default()) };
        let table = self.table("boot", written)?;
        self.check_keys(table, "boot", keys::BOOT);
        let mut boot = Boot::default();
        if let Some(value) = table.get("on_failure") {
            let word = self.string("boot.on_failure", value)?;
            match OnFailure::ALL.into_iter().find(|(_, name)| *name == word.text) {
                Some((on_failure, _)) => boot.on_failure = on_failure,
                None => self.fault(
                    "boot.on_failure",
                    word.span,
                    format!("invalid value `{}`", word.text),
                    "Write `last-good`, `closed` or `open`.",
                ),
            }
        }
        if let Some(value) = table.get("posture") {
            let word = self.string("boot.posture", value)?;
            if word.text != SEALED && postures.iter().all(|p| p.name != word.text) {
                let names = postures.iter().map(|p| p.name.as_str());
                let otherwise = "Define it under [[postures]] first, or write `sealed`.";
                let help = self.guesses.help(&word.text, names, otherwise);
                let message = format!("unknown posture `{}`", word.text);
                self.fault("boot.posture", word.span, message, help);
            }
            boot.posture = Some(word.text);
        }
        Some(boot)
    }

    /// The `postures` of a rule or a group; each must exist.
    pub(super) fn postures_of(
        &mut self,
        path: &str,
        table: &DeTable<'t>,
        postures: &[Posture],
    ) -> Vec<String> {
        let key = format!("{path}.postures");
        let mut names = Vec::new();
        for written in self.list(path, table, "postures") {
            if !postures.iter().any(|p| p.name == written.text) {
                let known = postures.iter().map(|p| p.name.as_str());
                let otherwise = "Define it under [[postures]] first.";
                let help = self.guesses.help(&written.text, known, otherwise);
                let message = format!("unknown posture `{}`", written.text);
                self.fault(&key, written.span, message, help);
            }
            names.push(written.text);
        }
        names
    }

    pub(super) fn rule_groups(
        &mut self,
        root: &DeTable<'t>,
        hosts: &[Host],
        postures: &[Posture],
        groups: &mut Vec<Group>,
        named: &mut Vec<Named>,
    ) {
        for (path, table, span) in self.tables(root, "groups") {
            self.check_keys(table, &path, keys::GROUPS);
            let Some(name) = self.own_name(&path, table, &span) else { continue };
            if groups.iter().any(|g| g.name == name.text) {
                self.twice(&path, &name);
                continue;
            }
            let note = table.get("note").and_then(|v| self.prose(&format!("{path}.note"), v));
            let enabled = match table.get("enabled") {
                Some(value) => self.boolean(&format!("{path}.enabled"), value).unwrap_or(true),
                None => true,
            };
            let hosts = self.selectors(&path, table, hosts);
            let postures = self.postures_of(&path, table, postures);
            let part = self.part();
            named.push(self.named(NameKind::Group, &name.text, name.span.clone()));
            groups.push(Group { name: name.text, note, hosts, postures, enabled, part });
        }
    }

    /// The `hosts` of a rule or a group; each must select somebody.
    pub(super) fn selectors(
        &mut self,
        path: &str,
        table: &DeTable<'t>,
        hosts: &[Host],
    ) -> Vec<Selector> {
        let key = format!("{path}.hosts");
        let mut selectors = Vec::new();
        for written in self.list(path, table, "hosts") {
            let selector = Selector::from(written.text.clone());
            if selector != Selector::All && !hosts.iter().any(|host| selector.selects(host)) {
                let help = self.known_hosts(&written.text, hosts);
                let message = format!("`{}` matches no host", written.text);
                self.fault(&key, written.span, message, help);
            }
            selectors.push(selector);
        }
        selectors
    }

    /// The help for a selector that selects no host.
    fn known_hosts(&self, text: &str, hosts: &[Host]) -> String {
        let first = "Define it under [[hosts]] first.";
        if hosts.is_empty() || !self.guesses.take() {
            return first.to_owned();
        }
        let tags: BTreeSet<String> =
            hosts.iter().flat_map(|h| h.tags.iter().map(|t| format!("#{t}"))).collect();
        let names = hosts.iter().map(|h| h.name.as_str());
        let known: Vec<&str> = names.chain(tags.iter().map(String::as_str)).collect();
        match nearest(text, known.iter().copied()) {
            Some(near) => format!("Did you mean `{near}`?"),
            None if known.len() > 50 => first.to_owned(),
            None => format!("Known are: {}.", known.join(", ")),
        }
    }

    /// The group that a rule names.
    pub(super) fn group_of(
        &mut self,
        path: &str,
        table: &DeTable<'t>,
        groups: &[Group],
    ) -> Option<String> {
        let key = format!("{path}.group");
        let written = table.get("group").and_then(|value| self.string(&key, value))?;
        if !groups.iter().any(|g| g.name == written.text) {
            let known = groups.iter().map(|g| g.name.as_str());
            let help = self.guesses.help(&written.text, known, "Define it under [[groups]] first.");
            let message = format!("unknown rule group `{}`", written.text);
            self.fault(key, written.span, message, help);
        }
        Some(written.text)
    }

    fn own_standing(&mut self, path: &str, value: &Value<'t>) -> OwnStanding {
        let Some(table) = self.table(path, value) else { return OwnStanding::default() };
        self.check_keys(table, path, keys::OWN_STANDING);
        let mut answer = |direction: &str| {
            table
                .get(direction)
                .and_then(|value| self.action(&format!("{path}.{direction}"), value))
        };
        OwnStanding {
            inbound: answer("inbound"),
            outbound: answer("outbound"),
            transit: answer("transit"),
        }
    }

    /// The tables of a list such as `[[hosts]]`, each with its path and span.
    fn tables<'v>(
        &mut self,
        root: &'v DeTable<'t>,
        key: &str,
    ) -> Vec<(String, &'v DeTable<'t>, Range<usize>)> {
        let Some(value) = root.get(key) else { return Vec::new() };
        let DeValue::Array(list) = value.get_ref() else {
            self.wrong_type(key, value, &format!("a list of tables, each under [[{key}]]"));
            return Vec::new();
        };
        let mut tables = Vec::new();
        for (at, value) in list.iter().enumerate() {
            let path = format!("{key}[{}]", at + 1);
            if let Some(table) = self.table(&path, value) {
                tables.push((path, table, value.span()));
            }
        }
        tables
    }

    fn own_name(&mut self, path: &str, table: &DeTable<'t>, span: &Range<usize>) -> Option<Text> {
        let key = format!("{path}.name");
        let Some(value) = table.get("name") else {
            self.fault(key, span.clone(), "it has no `name`", "Give it one.");
            return None;
        };
        let name = self.string(&key, value)?;
        if name.text.is_empty()
            || name.text.starts_with(['#', '*'])
            || name.text.contains([' ', ','])
        {
            let message = format!("invalid name `{}`", name.text);
            self.fault(
                key,
                name.span,
                message,
                "Names begin with a letter and contain no spaces or commas.",
            );
            return None;
        }
        Some(name)
    }

    fn twice(&mut self, path: &str, name: &Text) {
        let message = format!("`{}` is already defined", name.text);
        self.fault(format!("{path}.name"), name.span.clone(), message, "Rename one of them.");
    }

    pub(super) fn list(&mut self, path: &str, table: &DeTable<'t>, key: &str) -> Vec<Text> {
        match table.get(key) {
            Some(value) => self.strings(&format!("{path}.{key}"), value),
            None => Vec::new(),
        }
    }
}
