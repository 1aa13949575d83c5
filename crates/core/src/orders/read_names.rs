//! `[services]`, `[programs]`, `[addresses]` and `[areas]` of the orders.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use toml::Spanned;
use toml::de::DeTable;

use super::keys;
use super::lists::areas_of_feed;
use super::model::{NameKind, Named};
use super::read::{Reader, Value};
use super::resolve::{Names, UNREADABLE, leads_out};
use crate::names::address::{AddressRange, AddressSet};
use crate::names::traffic::Term;
use crate::visible::is_hidden;

impl<'t> Reader<'t> {
    /// Names of an address or a service that two files give are a fault.
    pub(super) fn names(&mut self, root: &DeTable<'t>, names: &mut Names) {
        if let Some(table) = root.get("services").and_then(|v| self.table("services", v)) {
            for (key, value) in table.iter() {
                let path = format!("services.{}", key.get_ref());
                self.check_name(&path, key);
                let mut terms: Vec<Term> = Vec::new();
                for written in self.strings(&path, value) {
                    if written.text == "any" || !written.text.contains('/') {
                        self.fault(
                            &path,
                            written.span,
                            format!(
                                "a service consists of ports and protocols, not of `{}`",
                                written.text
                            ),
                            "Write it like `tcp/7410` or `udp/7420-7423`.",
                        );
                        continue;
                    }
                    match names.terms(&written) {
                        Ok(t) => terms.extend(t),
                        Err(u) => self.unresolved(&path, u),
                    }
                }
                let taken = names.services.insert(key.get_ref().to_string(), terms).is_some();
                self.given_twice(&path, key, taken);
                names.named.push(self.named(NameKind::Service, key.get_ref(), key.span()));
            }
        }
        if let Some(table) = root.get("programs").and_then(|v| self.table("programs", v)) {
            for (key, value) in table.iter() {
                let path = format!("programs.{}", key.get_ref());
                self.check_name(&path, key);
                let mut files = Vec::new();
                for written in self.strings(&path, value) {
                    if self.is_program(&path, &written, &Names::default()) {
                        files.push(written.text);
                    }
                }
                let taken = names.programs.insert(key.get_ref().to_string(), files).is_some();
                self.given_twice(&path, key, taken);
                names.named.push(self.named(NameKind::Programs, key.get_ref(), key.span()));
            }
        }
        if let Some(table) = root.get("addresses").and_then(|v| self.table("addresses", v)) {
            for (key, value) in table.iter() {
                let path = format!("addresses.{}", key.get_ref());
                self.check_name(&path, key);
                let members = self.strings(&path, value);
                let taken = names.groups.insert(key.get_ref().to_string(), members).is_some();
                self.given_twice(&path, key, taken);
                names.named.push(self.named(NameKind::Addresses, key.get_ref(), key.span()));
            }
        }
    }

    /// A name and where it stands: a byte offset, before [`Reader::lines`].
    pub(super) fn named(&self, kind: NameKind, name: &str, span: Range<usize>) -> Named {
        Named { kind, name: name.to_owned(), part: self.part(), line: span.start, inside: false }
    }

    /// Makes lines of the offsets of names of the file that is read.
    pub(super) fn lines(&self, names: &mut [Named]) {
        names.sort_by_key(|one| one.line);
        let (mut line, mut at) = (1, 0);
        for one in names {
            let between = self.text().get(at..one.line).unwrap_or_default();
            line += between.matches('\n').count();
            at = one.line;
            one.line = line;
        }
    }

    pub(super) fn given_twice<S: AsRef<str>>(&mut self, path: &str, key: &Spanned<S>, taken: bool) {
        if taken {
            let message = format!("`{}` is defined in another file, too", key.get_ref().as_ref());
            self.fault(path, key.span(), message, "Rename one of them.");
        }
    }

    pub(super) fn areas(
        &mut self,
        root: &DeTable<'t>,
    ) -> Option<BTreeMap<String, Vec<AddressRange>>> {
        let table = root.get("areas").and_then(|value| self.table("areas", value))?;
        self.check_keys(table, "areas", keys::AREAS);
        table.get("feed").and_then(|value| self.feed(value))
    }

    /// The areas of the feed; a fault when it cannot be read or has none.
    pub(super) fn feed(
        &mut self,
        value: &Value<'_>,
    ) -> Option<BTreeMap<String, Vec<AddressRange>>> {
        let written = self.string("areas.feed", value)?;
        if let Some(why) = leads_out(&written.text) {
            let message = format!("`{}`: {why}", written.text);
            self.fault("areas.feed", written.span, message, UNREADABLE);
            return None;
        }
        let areas = match self.lists?.get(&written.text) {
            Some(Ok(text)) => areas_of_feed(text),
            Some(Err(why)) => {
                let message = format!("{} cannot be read: {why}", written.text);
                self.fault("areas.feed", written.span, message, UNREADABLE);
                return None;
            }
            None => BTreeMap::new(),
        };
        if areas.is_empty() {
            let message = format!("{} contains no entry", written.text);
            self.fault(
                "areas.feed",
                written.span,
                message,
                "A line is `prefix,country,region,city,postal` (RFC 8805).",
            );
            return None;
        }
        Some(areas)
    }

    pub(super) fn check_name<S: AsRef<str>>(&mut self, path: &str, key: &Spanned<S>) {
        let name = key.get_ref().as_ref();
        let odd = name.is_empty()
            || name == "any"
            || name.contains(['/', ':', '#', '*', ','])
            || name.contains(|c: char| c.is_whitespace() || is_hidden(c))
            || name.starts_with(|c: char| c.is_ascii_digit());
        if odd {
            self.fault(
                path,
                key.span(),
                format!("invalid name `{name}`"),
                "Names begin with a letter and contain no spaces, slashes, colons or commas; \
                 `any` is reserved.",
            );
        }
    }

    pub(super) fn groups(&mut self, names: &Names) -> BTreeMap<String, Arc<AddressSet>> {
        for (name, fault) in names.resolve_groups() {
            self.unresolved(&format!("addresses.{name}"), fault);
        }
        names.group_sets()
    }
}
