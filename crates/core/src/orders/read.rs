//! Text → [`Orders`], or every fault at once.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::action::{Action, Standing};
use super::attachments::{Attachments, Sheets, escape};
use super::blocks::Blocks;
use super::fault::{Fault, Faults, Place, Places};
use super::hosts::{Group, Host, Posture};
use super::keys::{self, Key};
use super::lists::{Lists, areas_of_feed};
use super::model::{FoundationSwitches, Memory, NameKind, Named, Orders};
use super::resolve::{Guesses, Names, Text, UNREADABLE, Unresolved, leads_out, nearest};
use crate::names::address::{AddressRange, AddressSet};
use crate::names::traffic::Term;
use crate::visible::is_hidden;

/// The version of the format that this code reads.
const VERSION: &str = "1";

/// Reads orders that name no other files.
///
/// # Errors
/// Every [`Fault`] of the text, in its order.
pub fn read(text: &str) -> Result<Orders, Faults> {
    read_all(text.into())
}

/// Reads orders together with the files that they name. Rules of included
/// files stand before those of the orders' own, in the order of
/// [`Sheets::parts`].
///
/// # Errors
/// Every [`Fault`], the orders' own file first.
pub fn read_all(sheets: Sheets<'_>) -> Result<Orders, Faults> {
    read_roots(sheets, |_| ()).map(|(orders, ())| orders)
}

/// Reads orders, and finds where the rules stand in each file ([`Sheets::parts`],
/// then the orders' own); `None` where they cannot be edited in place.
pub(super) fn read_for_an_edit(
    sheets: Sheets<'_>,
) -> Result<(Orders, Vec<Option<Blocks>>), Faults> {
    read_roots(sheets, |roots| {
        // The orders' own is the first that was read, and the last in the order of rules.
        let parts = sheets.parts().into_iter().map(|part| part.text.as_str());
        let roots = roots.iter().skip(1).chain(roots.first());
        parts
            .chain([sheets.text])
            .zip(roots)
            .map(|(text, root)| Blocks::of_tree(text, root))
            .collect()
    })
}

/// `look`: at the trees, before they are taken apart.
fn read_roots<R>(
    sheets: Sheets<'_>,
    look: impl FnOnce(&[DeTable<'_>]) -> R,
) -> Result<(Orders, R), Faults> {
    let lists = sheets.attachments.lists.as_ref();
    let mut files = vec![File { name: None, text: sheets.text }];
    let parts = sheets.parts();
    files.extend(
        parts.iter().map(|part| File { name: Some(part.name.as_str().into()), text: &part.text }),
    );
    let names_files = |f: &File<'_>| f.text.contains("\"file:") || f.text.contains("\"area:");
    let unknown_lists = lists.is_none() && files.iter().any(names_files);
    let texts: Vec<&str> = files.iter().map(|file| file.text).collect();
    let mut reader = Reader {
        files,
        at: 0,
        faults: Vec::new(),
        lists,
        guesses: Guesses::default(),
        unknown_lists,
    };
    let mut roots = Vec::new();
    for (at, text) in texts.into_iter().enumerate() {
        reader.at = at;
        let (root, syntax) = DeTable::parse_recoverable(text);
        for error in &syntax {
            let span = error.span().unwrap_or(0..0);
            reader.fault(
                "file",
                span,
                format!("not TOML: {}", error.message()),
                "Fix this line: quote strings with \"…\"; a key may appear only once per table.",
            );
        }
        roots.push(root.into_inner());
    }
    reader.at = 0;
    if let Some(main) = roots.first() {
        reader.includes(main, sheets.attachments);
    }
    let looked = look(&roots);
    let orders = reader.orders(roots);
    reader.faults.sort_by_key(|(file, fault)| (*file, fault.span.start));
    reader.faults.dedup();
    let mut faults = Vec::with_capacity(reader.faults.len());
    for of_file in reader.faults.chunk_by_mut(|(a, _), (b, _)| a == b) {
        let text = of_file.first().and_then(|(at, _)| reader.files.get(*at)).map_or("", |f| f.text);
        let mut places = Places::of(text);
        for (_, fault) in of_file {
            fault.place = places.at(fault.span.start);
            faults.push(fault.clone());
        }
    }
    match (orders, faults.is_empty()) {
        (Some(orders), true) => Ok((orders, looked)),
        _ => Err(Faults(faults)),
    }
}

/// One file of the orders.
struct File<'t> {
    /// `None` for the orders' own.
    name: Option<Arc<str>>,
    text: &'t str,
}

/// What rules can name.
pub(super) struct Known<'n> {
    pub(super) names: &'n Names,
    pub(super) hosts: &'n [Host],
    pub(super) postures: &'n [Posture],
    pub(super) rule_groups: &'n [Group],
}

pub(super) struct Reader<'t> {
    files: Vec<File<'t>>,
    /// The file that is read at the moment; the orders' own is 0.
    pub(super) at: usize,
    /// With the number of the file.
    faults: Vec<(usize, Fault)>,
    pub(super) lists: Option<&'t Lists>,
    pub(super) guesses: Guesses,
    /// Some addresses are not known, so that nothing can be said of empty sets.
    pub(super) unknown_lists: bool,
}

pub(super) type Value<'t> = Spanned<DeValue<'t>>;

impl<'t> Reader<'t> {
    pub(super) fn fault(
        &mut self,
        key: impl Into<String>,
        span: Range<usize>,
        message: impl Into<String>,
        mend: impl Into<String>,
    ) {
        // Its place is looked up with all others, once all are known.
        let place = Place { line: 1, column: 1 };
        let (key, message, mend) = (key.into(), message.into(), mend.into());
        let file = self.part().map(|name| name.to_string());
        self.faults.push((self.at, Fault { file, key, message, mend, span, place }));
    }

    /// The text of the file that is read at the moment.
    pub(super) fn text(&self) -> &'t str {
        self.files.get(self.at).map_or("", |file| file.text)
    }

    /// The name of the file that is read at the moment; `None` for the orders' own.
    pub(super) fn part(&self) -> Option<Arc<str>> {
        self.files.get(self.at)?.name.clone()
    }

    /// A name may have been written in another file than the one that uses it.
    pub(super) fn unresolved(&mut self, key: &str, u: Unresolved) {
        let reading = std::mem::replace(&mut self.at, u.file);
        self.fault(key, u.span, u.message, u.mend);
        self.at = reading;
    }

    /// Faults for includes that lead out of the folder, or cannot be read.
    fn includes(&mut self, main: &DeTable<'t>, attachments: &Attachments) {
        let Some(value) = main.get("include") else { return };
        for Text { text, span, .. } in self.strings("include", value) {
            if let Some(why) = escape(&text) {
                let mend = "Name files below that directory, such as `groups/*.toml`.";
                self.fault("include", span, format!("`{text}`: {why}"), mend);
                continue;
            }
            let found = attachments.included.iter().find(|(pattern, _)| *pattern == text);
            let (message, mend) = match found.map(|(_, parts)| parts) {
                Some(Ok(_)) => continue,
                Some(Err(why)) => (
                    format!("`{text}` cannot be included: {why}"),
                    "Correct the name; it is looked up in the directory of the orders.",
                ),
                None => (format!("`{text}` was not read"), "Give the orders as a file."),
            };
            self.fault("include", span, message, mend);
        }
    }

    /// Faults for keys that do not exist.
    pub(super) fn check_keys(&mut self, table: &DeTable<'_>, within: &str, known: &[Key]) {
        for key in table.keys() {
            let name: &str = key.get_ref();
            // Spelled out only for a fault: ten thousand rules have many keys.
            let path =
                || if within.is_empty() { name.to_owned() } else { format!("{within}.{name}") };
            let names = known.iter().map(|key| key.name);
            if names.clone().all(|known| known != name) {
                let mend = match nearest(name, names.clone()) {
                    Some(near) => format!("Did you mean `{near}`?"),
                    None => format!("Known here: {}.", names.collect::<Vec<_>>().join(", ")),
                };
                self.fault(path(), key.span(), format!("unknown key `{name}`"), mend);
            }
        }
    }

    pub(super) fn table<'v>(&mut self, key: &str, value: &'v Value<'t>) -> Option<&'v DeTable<'t>> {
        let table = value.get_ref().as_table();
        if table.is_none() {
            self.wrong_type(key, value, "a table");
        }
        table
    }

    pub(super) fn wrong_type(&mut self, key: &str, value: &Value<'_>, wanted: &str) {
        let is = match value.get_ref() {
            DeValue::String(_) => "a string",
            DeValue::Integer(_) | DeValue::Float(_) => "a number",
            DeValue::Boolean(_) => "true or false",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        let message = format!("`{}` is {is}, not {wanted}", leaf(key));
        self.fault(key, value.span(), message, format!("Write {wanted}."));
    }

    /// One or more sentences, which may stand in several lines; as one.
    pub(super) fn prose(&mut self, key: &str, value: &Value<'_>) -> Option<String> {
        let written = self.written(key, value, |c| matches!(c, '\n' | '\r' | '\t'))?;
        Some(written.text.split_whitespace().collect::<Vec<_>>().join(" "))
    }

    pub(super) fn string(&mut self, key: &str, value: &Value<'_>) -> Option<Text> {
        self.written(key, value, |_| false)
    }

    fn written(
        &mut self,
        key: &str,
        value: &Value<'_>,
        may_be: impl Fn(char) -> bool,
    ) -> Option<Text> {
        match value.get_ref().as_str() {
            Some(text) => {
                if let Some(hidden) = text.chars().find(|c| is_hidden(*c) && !may_be(*c)) {
                    let number = u32::from(hidden);
                    let leaf = leaf(key);
                    let message = format!("`{leaf}` contains a hidden character, U+{number:04X}");
                    self.fault(key, value.span(), message, "Remove it.");
                    return None;
                }
                Some(Text { text: text.to_owned(), span: value.span(), file: self.at })
            }
            None => {
                self.wrong_type(key, value, "a string in double quotes");
                None
            }
        }
    }

    pub(super) fn boolean(&mut self, key: &str, value: &Value<'_>) -> Option<bool> {
        let read = value.get_ref().as_bool();
        if read.is_none() {
            self.wrong_type(key, value, "true or false");
        }
        read
    }

    /// One string or a list of strings; an empty list is a fault.
    pub(super) fn strings(&mut self, key: &str, value: &Value<'_>) -> Vec<Text> {
        match value.get_ref() {
            DeValue::String(_) => self.string(key, value).into_iter().collect(),
            DeValue::Array(list) => {
                if list.is_empty() {
                    self.fault(
                        key,
                        value.span(),
                        format!("`{}` is an empty list, which would match nothing", leaf(key)),
                        "Name something, or remove the key.",
                    );
                }
                list.iter().filter_map(|item| self.string(key, item)).collect()
            }
            _ => {
                self.wrong_type(key, value, "a string or a list of strings");
                Vec::new()
            }
        }
    }

    pub(super) fn action(&mut self, key: &str, value: &Value<'_>) -> Option<Action> {
        let written = self.string(key, value)?;
        match written.text.as_str() {
            "allow" => Some(Action::Allow),
            "deny" => Some(Action::Deny),
            "refuse" => Some(Action::Refuse),
            other => {
                let mend = match nearest(other, ["allow", "deny", "refuse"].into_iter()) {
                    Some(near) => format!("Did you mean `{near}`?"),
                    None => "Write `allow`, `deny` or `refuse`.".to_owned(),
                };
                self.fault(key, written.span, format!("unknown action `{other}`"), mend);
                None
            }
        }
    }

    fn orders(&mut self, mut roots: Vec<DeTable<'t>>) -> Option<Orders> {
        let main = roots.first()?;
        self.check_keys(main, "", keys::ORDERS);
        self.version(main);
        let standing = self.standing(main);
        let foundations = self.foundations(main);
        let boot_written = main.get("boot").cloned();
        let foundations_line = self.foundations_line(main);
        let program_exact = match main.get("program_exact") {
            Some(value) => self.boolean("program_exact", value),
            None => Some(false),
        };
        let memory = self.memory(main);
        let mut names = Names { lists: self.lists.cloned(), ..Names::default() };
        names.areas = self.areas(main);
        let (mut hosts, mut postures, mut rule_groups) = (Vec::new(), Vec::new(), Vec::new());
        for (at, root) in roots.iter().enumerate() {
            self.at = at;
            if at > 0 {
                self.check_part(root);
            }
            let known = names.named.len();
            self.names(root, &mut names);
            self.lines(&mut names.named[known..]);
        }
        // Long lists are read; nobody looks at them twice, and rules need the room.
        roots.iter_mut().for_each(|root| drop(root.remove("addresses")));
        let groups = self.groups(&names);
        for (at, root) in roots.iter().enumerate() {
            self.at = at;
            self.hosts(root, &names, &mut hosts);
            self.postures(root, &mut postures);
        }
        let inside: BTreeSet<&str> =
            names.groups.values().flatten().map(|member| member.text.as_str()).collect();
        for one in names.named.iter_mut().filter(|one| one.kind == NameKind::Addresses) {
            one.inside = inside.contains(one.name.as_str());
        }
        drop(inside);
        names.groups.values_mut().for_each(|members| *members = Vec::new());
        for (at, root) in roots.iter().enumerate() {
            self.at = at;
            let known = names.named.len();
            let mut named = Vec::new();
            self.rule_groups(root, (&hosts, &postures), &mut rule_groups, &mut named);
            names.named.extend(named);
            self.lines(&mut names.named[known..]);
        }
        let known =
            Known { names: &names, hosts: &hosts, postures: &postures, rule_groups: &rule_groups };
        let (mut rules, mut seen) = (Some(Vec::new()), BTreeMap::new());
        for at in (1..roots.len()).chain([0]) {
            self.at = at;
            let more = self.rules(&roots[at], &known, &mut seen);
            rules = rules.zip(more).map(|(mut rules, more)| {
                // Mostly there is one file: nothing is moved then.
                if rules.is_empty() {
                    return more;
                }
                rules.extend(more);
                rules
            });
        }
        let boot = self.boot(boot_written.as_ref(), &postures);
        let (standing, foundations, rules) = (standing?, foundations?, rules?);
        Some(Orders {
            standing,
            foundations,
            memory: memory?,
            program_exact: program_exact?,
            boot: boot?,
            services: std::mem::take(&mut names.services),
            names: std::mem::take(&mut names.named),
            foundations_line,
            groups,
            hosts,
            postures,
            rule_groups,
            rules,
        })
    }

    fn check_part(&mut self, root: &DeTable<'t>) {
        for (key, _) in root.iter() {
            let name: &str = key.get_ref();
            let of_main = keys::ORDERS.iter().any(|key| key.name == name);
            if of_main && !keys::PART.contains(&name) {
                let message = format!("`{name}` is not allowed in an included file");
                self.fault(name, key.span(), message, "Move it to the main file of the orders.");
            }
        }
        self.check_keys(root, "", keys::ORDERS);
        if root.contains_key("version") {
            self.version(root);
        }
    }

    fn version(&mut self, root: &DeTable<'_>) {
        match root.get("version") {
            None => self.fault(
                "version",
                0..0,
                "`version` is missing",
                format!("Write `version = {VERSION}` in the first line."),
            ),
            Some(value) => {
                let right = value.get_ref().as_integer().is_some_and(|i| i.as_str() == VERSION);
                if !right {
                    self.fault(
                        "version",
                        value.span(),
                        "these orders have a version that this program does not support",
                        format!(
                            "Write `version = {VERSION}`, or use the version of Tipstaff they \
                             were written for."
                        ),
                    );
                }
            }
        }
    }

    fn standing(&mut self, root: &DeTable<'t>) -> Option<Standing> {
        let Some(value) = root.get("standing") else {
            self.fault(
                "standing",
                0..0,
                "the standing answers are missing",
                "Write [standing] with inbound, outbound and transit, each \"allow\" or \"deny\".",
            );
            return None;
        };
        let table = self.table("standing", value)?;
        self.check_keys(table, "standing", keys::STANDING);
        let mut answer = |direction: &str| {
            let key = format!("standing.{direction}");
            match table.get(direction) {
                Some(value) => self.action(&key, value),
                None => {
                    self.fault(
                        &key,
                        value.span(),
                        format!("the standing answer `{direction}` is missing"),
                        format!("Add it: `{direction} = \"allow\"` or `\"deny\"`."),
                    );
                    None
                }
            }
        };
        let (inbound, outbound, transit) =
            (answer("inbound"), answer("outbound"), answer("transit"));
        Some(Standing { inbound: inbound?, outbound: outbound?, transit: transit? })
    }

    fn foundations(&mut self, root: &DeTable<'t>) -> Option<FoundationSwitches> {
        let mut switches = FoundationSwitches::default();
        if let Some(value) = root.get("foundations") {
            let table = self.table("foundations", value)?;
            self.check_keys(table, "foundations", keys::FOUNDATIONS);
            if let Some(value) = table.get("address_assignment") {
                switches.address_assignment =
                    self.boolean("foundations.address_assignment", value)?;
            }
        }
        Some(switches)
    }

    /// The line of the orders' own file in which a foundation is switched.
    fn foundations_line(&self, root: &DeTable<'t>) -> Option<usize> {
        let (key, _) = root.get("foundations")?.get_ref().as_table()?.iter().next()?;
        Some(Place::of(self.text(), key.span().start).line)
    }

    /// Names of an address or a service that two files give are a fault.
    fn names(&mut self, root: &DeTable<'t>, names: &mut Names) {
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
    fn lines(&self, names: &mut [Named]) {
        names.sort_by_key(|one| one.line);
        let (mut line, mut at) = (1, 0);
        for one in names {
            let between = self.text().get(at..one.line).unwrap_or_default();
            line += between.matches('\n').count();
            at = one.line;
            one.line = line;
        }
    }

    fn given_twice<S: AsRef<str>>(&mut self, path: &str, key: &Spanned<S>, taken: bool) {
        if taken {
            let message = format!("`{}` is defined in another file, too", key.get_ref().as_ref());
            self.fault(path, key.span(), message, "Rename one of them.");
        }
    }

    fn memory(&mut self, root: &DeTable<'t>) -> Option<Memory> {
        let Some(value) = root.get("memory") else { return Some(Memory::default()) };
        let table = self.table("memory", value)?;
        self.check_keys(table, "memory", keys::MEMORY);
        let mut number = |name: &str, otherwise: u32| match table.get(name) {
            Some(value) => self.number(&format!("memory.{name}"), value),
            None => Some(otherwise),
        };
        let Memory { flows, sources } = Memory::default();
        let (flows, sources) = (number("flows", flows), number("sources", sources));
        Some(Memory { flows: flows?, sources: sources? })
    }

    /// A whole number of [`Memory`].
    fn number(&mut self, key: &str, value: &Value<'_>) -> Option<u32> {
        let Some(written) = value.get_ref().as_integer() else {
            self.wrong_type(key, value, "a whole number");
            return None;
        };
        let (least, most) = (Memory::LEAST, Memory::MOST);
        let read = u32::from_str_radix(written.as_str(), written.radix()).ok();
        let read = read.filter(|number| (least..=most).contains(number));
        if read.is_none() {
            let message = format!("`{}` must be {least} to {most}", leaf(key));
            self.fault(key, value.span(), message, "Write a number between the two.");
        }
        read
    }

    fn areas(&mut self, root: &DeTable<'t>) -> Option<BTreeMap<String, Vec<AddressRange>>> {
        let table = root.get("areas").and_then(|value| self.table("areas", value))?;
        self.check_keys(table, "areas", keys::AREAS);
        table.get("feed").and_then(|value| self.feed(value))
    }

    /// The areas of the feed; a fault when it cannot be read or has none.
    fn feed(&mut self, value: &Value<'_>) -> Option<BTreeMap<String, Vec<AddressRange>>> {
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

    fn check_name<S: AsRef<str>>(&mut self, path: &str, key: &Spanned<S>) {
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

    fn groups(&mut self, names: &Names) -> BTreeMap<String, Arc<AddressSet>> {
        for (name, fault) in names.resolve_groups() {
            self.unresolved(&format!("addresses.{name}"), fault);
        }
        names.group_sets()
    }
}

/// The last part of a key's path.
pub(super) fn leaf(path: &str) -> &str {
    path.rsplit('.').next().unwrap_or(path)
}
