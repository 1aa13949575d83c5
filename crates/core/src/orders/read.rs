//! Text → [`Orders`], or every fault at once.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::action::Standing;
use super::attachments::{Attachments, Documents, escape};
use super::blocks::Blocks;
use super::fault::{Fault, Faults, Place, Places};
use super::hosts::{Group, Host, Posture};
use super::keys::{self};
use super::lists::Lists;
use super::log::{Log, LogLevel};
use super::model::{FoundationSwitches, Memory, NameKind, Orders};
use super::resolve::{Guesses, Names, Text, Unresolved};

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
/// [`Documents::parts`].
///
/// # Errors
/// Every [`Fault`], the orders' own file first.
pub fn read_all(sheets: Documents<'_>) -> Result<Orders, Faults> {
    read_roots(sheets, |_| ()).map(|(orders, ())| orders)
}

/// Reads orders, and finds where the rules stand in each file ([`Documents::parts`],
/// then the orders' own); `None` where they cannot be edited in place.
pub(super) fn read_for_an_edit(
    sheets: Documents<'_>,
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
    sheets: Documents<'_>,
    look: impl FnOnce(&[DeTable<'_>]) -> R,
) -> Result<(Orders, R), Faults> {
    let lists = sheets.attachments.lists.as_ref();
    let mut files = vec![File { name: None, text: sheets.text }];
    let parts = sheets.parts();
    files.extend(
        parts.iter().map(|part| File { name: Some(part.name.as_str().into()), text: &part.text }),
    );
    let unknown_lists = lists.is_none()
        && files.iter().any(|f| f.text.contains("\"file:") || f.text.contains("\"area:"));
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
        let mut places = Places::new(text);
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
        help: impl Into<String>,
    ) {
        // Its place is looked up with all others, once all are known.
        let place = Place { line: 1, column: 1 };
        let (key, message, help) = (key.into(), message.into(), help.into());
        let file = self.part().map(|name| name.to_string());
        self.faults.push((self.at, Fault { file, key, message, help, span, place }));
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
        self.fault(key, u.span, u.message, u.help);
        self.at = reading;
    }

    /// Faults for includes that lead out of the folder, or cannot be read.
    fn includes(&mut self, main: &DeTable<'t>, attachments: &Attachments) {
        let Some(value) = main.get("include") else { return };
        for Text { text, span, .. } in self.strings("include", value) {
            if let Some(why) = escape(&text) {
                let help = "Name files below that directory, such as `groups/*.toml`.";
                self.fault("include", span, format!("`{text}`: {why}"), help);
                continue;
            }
            let found = attachments.included.iter().find(|(pattern, _)| *pattern == text);
            let (message, help) = match found.map(|(_, parts)| parts) {
                Some(Ok(_)) => continue,
                Some(Err(why)) => (
                    format!("`{text}` cannot be included: {why}"),
                    "Correct the name; it is looked up in the directory of the orders.",
                ),
                None => (format!("`{text}` was not read"), "Give the orders as a file."),
            };
            self.fault("include", span, message, help);
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
        let log = self.log(main);
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
            self.rule_groups(root, &hosts, &postures, &mut rule_groups, &mut named);
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
            log: log?,
            program_exact: program_exact?,
            boot: boot?,
            services: std::mem::take(&mut names.services),
            programs: std::mem::take(&mut names.programs),
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
        Some(Place::at_offset(self.text(), key.span().start).line)
    }

    fn memory(&mut self, root: &DeTable<'t>) -> Option<Memory> {
        let Some(value) = root.get("memory") else { return Some(Memory::default()) };
        let table = self.table("memory", value)?;
        self.check_keys(table, "memory", keys::MEMORY);
        let mut number = |name: &str, otherwise: u32| match table.get(name) {
            Some(value) => {
                self.number(&format!("memory.{name}"), value, (Memory::LEAST, Memory::MOST))
            }
            None => Some(otherwise),
        };
        let Memory { flows, sources } = Memory::default();
        let (flows, sources) = (number("flows", flows), number("sources", sources));
        Some(Memory { flows: flows?, sources: sources? })
    }

    fn log(&mut self, root: &DeTable<'t>) -> Option<Log> {
        let Some(value) = root.get("log") else { return Some(Log::default()) };
        let table = self.table("log", value)?;
        self.check_keys(table, "log", keys::LOG);
        let mut log = Log::default();
        if let Some(value) = table.get("level") {
            let word = self.string("log.level", value)?;
            match LogLevel::ALL.into_iter().find(|(_, name)| *name == word.text) {
                Some((level, _)) => log.level = level,
                None => self.fault(
                    "log.level",
                    word.span,
                    format!("invalid value `{}`", word.text),
                    "Write `off`, `denied`, `rules` or `all`.",
                ),
            }
        }
        if let Some(value) = table.get("max_megabytes") {
            log.max_megabytes = self.number("log.max_megabytes", value, Log::MEGABYTES)?;
        }
        if let Some(value) = table.get("max_days") {
            log.max_days = self.number("log.max_days", value, Log::DAYS)?;
        }
        if let Some(value) = table.get("journal") {
            log.journal = self.boolean("log.journal", value)?;
        }
        if let Some(value) = table.get("syslog") {
            log.syslog = self.boolean("log.syslog", value)?;
        }
        if let Some(value) = table.get("viewers") {
            log.viewers = Some(self.string("log.viewers", value)?.text);
        }
        Some(log)
    }
}

/// The last part of a key's path.
pub(super) fn leaf(path: &str) -> &str {
    path.rsplit('.').next().unwrap_or(path)
}
