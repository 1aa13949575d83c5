//! Names to what they stand for: services to traffic terms, groups to
//! addresses. Works on texts with their spans; says what it cannot resolve.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use super::attachments::escape;
use super::lists::{AREA, FILE, Lists, addresses_of_list};
use super::model::{self, Named};
use crate::names::address::{AddressFault, AddressRange, AddressSet};
use crate::names::services;
use crate::names::traffic::{Term, TermFault};

/// A text of the orders and where it stands.
#[derive(Clone, Debug)]
pub(super) struct Text {
    pub(super) text: String,
    pub(super) span: Range<usize>,
    /// The file, as the reader counts them.
    pub(super) file: usize,
}

/// Why a text could not be resolved: the sentence and the help.
pub(super) struct Unresolved {
    pub(super) file: usize,
    pub(super) span: Range<usize>,
    pub(super) message: String,
    pub(super) help: String,
}

/// So many letters at most are wrong in a name that is taken for another.
const MOST_WRONG: usize = 2;

/// The name out of `names` that `text` was probably meant to be.
pub(super) fn nearest<'n>(text: &str, names: impl Iterator<Item = &'n str>) -> Option<&'n str> {
    let letters = letters_of(text);
    // A wrong letter makes two sets of letters differ in two at most. That is cheap to see,
    // and spares most of thousands of names the long look.
    names
        .filter(|name| {
            name.len().abs_diff(text.len()) <= 4 * MOST_WRONG
                && (letters_of(name) ^ letters).count_ones() as usize <= 2 * MOST_WRONG
        })
        .map(|name| (strsim::damerau_levenshtein(text, name), name))
        .filter(|(distance, name)| *distance <= MOST_WRONG.min(name.len() / 2).max(1))
        .min()
        .map(|(_, name)| name)
}

/// `Did you mean …?` of the nearest name, or another help.
pub(super) fn nearest_help<'n>(
    text: &str,
    names: impl Iterator<Item = &'n str>,
    otherwise: impl FnOnce() -> String,
) -> String {
    nearest(text, names).map_or_else(otherwise, |name| format!("Did you mean `{name}`?"))
}

/// The bytes of a text as a set, folded to 64.
fn letters_of(text: &str) -> u64 {
    text.chars().fold(0, |set, letter| set | 1 << (u32::from(letter) & 63))
}

/// Looks for the names that were meant, for the first of many wrong ones:
/// nobody reads a thousand guesses, and each is a walk over all names.
pub(super) struct Guesses(Cell<u8>);

impl Default for Guesses {
    fn default() -> Self {
        Self(Cell::new(100))
    }
}

impl Guesses {
    /// Whether there is one more; it is taken.
    pub(super) fn take(&self) -> bool {
        let left = self.0.get();
        self.0.set(left.saturating_sub(1));
        left > 0
    }

    /// `Did you mean …?`, or another help.
    pub(super) fn help<'n>(
        &self,
        text: &str,
        names: impl Iterator<Item = &'n str>,
        otherwise: &str,
    ) -> String {
        match self.take() {
            true => nearest_help(text, names, || otherwise.to_owned()),
            false => otherwise.to_owned(),
        }
    }
}

/// The names that orders define for themselves.
#[derive(Default)]
pub(super) struct Names {
    pub(super) services: BTreeMap<String, Vec<Term>>,
    /// Sets of programs.
    pub(super) programs: BTreeMap<String, Vec<String>>,
    pub(super) groups: BTreeMap<String, Vec<Text>>,
    /// Where each is defined.
    pub(super) named: Vec<Named>,
    /// Texts of files; `None` when nobody looked.
    pub(super) lists: Option<Lists>,
    /// Prefixes by country and region; `None` when there is no feed.
    pub(super) areas: Option<BTreeMap<String, Vec<AddressRange>>>,
    pub(super) guesses: Guesses,
    /// The addresses of groups, lists and areas, each made once.
    pub(super) sets: RefCell<BTreeMap<String, Arc<AddressSet>>>,
}

/// What one text of a list of addresses stands for.
enum Member {
    Range(AddressRange),
    Set(Arc<AddressSet>),
}

/// Groups of addresses contain groups so deep at most, the outermost counted.
const MOST_NESTED: usize = 32;

/// The help for a file that cannot be read.
pub(super) const UNREADABLE: &str =
    "Name a file in the directory of the orders or below it, or give its absolute path.";

impl Names {
    /// The terms of one text of a traffic list.
    pub(super) fn terms(&self, written: &Text) -> Result<Vec<Term>, Unresolved> {
        let text = written.text.as_str();
        match model::terms(&self.services, text) {
            Some(Ok(terms)) => Ok(terms),
            Some(Err(fault)) => Err(Unresolved {
                file: written.file,
                span: written.span.clone(),
                message: format!("invalid traffic `{text}`: {fault}"),
                help: term_help(text, &fault),
            }),
            None => {
                let own = self.services.keys().map(String::as_str);
                let known: Vec<&str> = services::all_names().collect();
                let meant = services::meant(text).map(str::to_owned);
                Err(Unresolved {
                    file: written.file,
                    span: written.span.clone(),
                    message: format!("unknown service `{text}`"),
                    help: meant.unwrap_or_else(|| {
                        self.guesses.help(
                            text,
                            own.chain(known),
                            "Write a port such as `tcp/7410`, or define the name under [services].",
                        )
                    }),
                })
            }
        }
    }

    /// The addresses of a list, and what of it cannot be resolved; `None` is
    /// any. One name alone shares its set with all who use it.
    pub(super) fn addresses(&self, list: &[Text]) -> (Option<Arc<AddressSet>>, Vec<Unresolved>) {
        let (mut ranges, mut sets, mut faults) = (Vec::new(), Vec::new(), Vec::new());
        let mut any = false;
        for written in list {
            if written.text == "any" {
                any = true;
                continue;
            }
            match self.member(written) {
                Ok(Member::Range(range)) => ranges.push(range),
                Ok(Member::Set(set)) => sets.push(set),
                Err(fault) => faults.push(fault),
            }
        }
        if any {
            return (None, faults);
        }
        if let ([], [one]) = (ranges.as_slice(), sets.as_slice()) {
            return (Some(one.clone()), faults);
        }
        // Gathered first and made a set once, so that a long list costs little.
        sets.iter().for_each(|set| ranges.extend(set.ranges()));
        (Some(Arc::new(AddressSet::from_ranges(&ranges))), faults)
    }

    /// Resolves all groups, each once, those that others contain first. What
    /// cannot be resolved, with the group that it stands in.
    pub(super) fn resolve_groups(&self) -> Vec<(&str, Unresolved)> {
        let (mut depths, mut faults) = (BTreeMap::new(), Vec::new());
        for name in self.groups.keys() {
            self.resolve_group(name, &mut Vec::new(), &mut depths, &mut faults);
        }
        faults
    }

    /// How deep a group is nested, itself included.
    fn resolve_group<'n>(
        &'n self,
        name: &'n str,
        path: &mut Vec<&'n str>,
        depths: &mut BTreeMap<&'n str, usize>,
        faults: &mut Vec<(&'n str, Unresolved)>,
    ) -> usize {
        if let Some(depth) = depths.get(name) {
            return *depth;
        }
        let members = self.groups.get(name).map_or(&[][..], Vec::as_slice);
        path.push(name);
        let mut deepest = 0;
        for member in members {
            let Some((inner, _)) = self.groups.get_key_value(&member.text) else { continue };
            let mut fault = |message: String, help: &str| {
                let (file, span) = (member.file, member.span.clone());
                faults.push((name, Unresolved { file, span, message, help: help.to_owned() }));
            };
            if path.contains(&inner.as_str()) {
                let circle = path.join(" → ");
                let message = format!("the group `{inner}` contains itself ({circle} → {inner})");
                fault(message, "Break the cycle: remove one of the groups from it.");
                continue;
            }
            let too_deep = path.len() >= MOST_NESTED || {
                let depth = self.resolve_group(inner, path, depths, faults);
                deepest = deepest.max(depth);
                depth >= MOST_NESTED
            };
            if too_deep {
                // What is inside is told once, not again by everything around it.
                deepest = 0;
                let message = format!(
                    "`{inner}` is nested too deeply: at most {MOST_NESTED} levels of groups are \
                     allowed"
                );
                let (file, span) = (member.file, member.span.clone());
                let help = "Use fewer levels.".to_owned();
                faults.push((name, Unresolved { file, span, message, help }));
            }
        }
        path.pop();
        let (set, found) = self.addresses(members);
        faults.extend(found.into_iter().map(|fault| (name, fault)));
        let set = set.unwrap_or_else(|| Arc::new(AddressSet::full()));
        self.sets.borrow_mut().insert(name.to_owned(), set);
        depths.insert(name, deepest + 1);
        deepest + 1
    }

    /// The addresses of each group, once they are resolved.
    pub(super) fn group_sets(&self) -> BTreeMap<String, Arc<AddressSet>> {
        let sets = self.sets.borrow();
        let groups = sets.iter().filter(|(name, _)| self.groups.contains_key(*name));
        groups.map(|(name, set)| (name.clone(), set.clone())).collect()
    }

    /// What one text of a list stands for.
    fn member(&self, written: &Text) -> Result<Member, Unresolved> {
        let text = written.text.as_str();
        let unresolved = |message: String, help: String| Unresolved {
            file: written.file,
            span: written.span.clone(),
            message,
            help,
        };
        if let Some(set) = self.sets.borrow().get(text) {
            return Ok(Member::Set(set.clone()));
        }
        // Part of a circle, or nested too deep: that has been told.
        if self.groups.contains_key(text) {
            return Ok(Member::Set(Arc::new(AddressSet::empty())));
        }
        if text.starts_with(FILE) || text.starts_with(AREA) {
            let ranges = match text.strip_prefix(FILE) {
                Some(name) => self.list(name),
                None => self.area(text.strip_prefix(AREA).unwrap_or(text)),
            };
            let ranges = ranges.map_err(|(message, help)| unresolved(message, help))?;
            let set = Arc::new(AddressSet::from_ranges(&ranges));
            self.sets.borrow_mut().insert(text.to_owned(), set.clone());
            return Ok(Member::Set(set));
        }
        match AddressRange::parse(text) {
            Ok(range) => Ok(Member::Range(range)),
            Err(AddressFault::Unreadable) if !looks_like_address(text) => Err(unresolved(
                format!("unknown address group `{text}`"),
                self.guesses.help(
                    text,
                    self.groups.keys().map(String::as_str),
                    "Define it under [addresses], or write an address, a prefix or a first-last \
                     range.",
                ),
            )),
            Err(fault) => Err(unresolved(format!("`{text}`: {fault}"), address_help(&fault))),
        }
    }

    /// The addresses of a file; else the fault and its help.
    fn list(&self, name: &str) -> Result<Vec<AddressRange>, (String, String)> {
        if let Some(why) = leads_out(name) {
            return Err((format!("`{name}`: {why}"), UNREADABLE.into()));
        }
        let Some(lists) = &self.lists else { return Ok(Vec::new()) };
        match lists.get(name) {
            Some(Ok(list)) => addresses_of_list(list)
                .map_err(|why| (format!("{name}, {why}"), "Correct the file.".into())),
            Some(Err(why)) => Err((format!("{name} cannot be read: {why}"), UNREADABLE.into())),
            None => Err((format!("{name} was not read"), UNREADABLE.into())),
        }
    }

    /// The addresses of a country or region; else the fault and its help.
    fn area(&self, code: &str) -> Result<Vec<AddressRange>, (String, String)> {
        match (&self.areas, self.lists.is_some()) {
            (_, false) => Ok(Vec::new()),
            (Some(areas), true) => {
                areas.get(&code.to_ascii_uppercase()).cloned().ok_or_else(|| {
                    let help = "Write a country such as `NL`, or a region such as `NL-NH`.";
                    (format!("the feed has no area `{code}`"), help.into())
                })
            }
            (None, true) => Err((
                format!("no feed is configured to look up `{code}`"),
                "Name one: [areas] feed = \"feed.csv\", a file in the format of RFC 8805.".into(),
            )),
        }
    }
}

/// Why the name of a list or feed is none: a name that is no whole path stays
/// in the folder of the orders.
pub(super) fn leads_out(name: &str) -> Option<&'static str> {
    if name.starts_with('/') { None } else { escape(name) }
}

fn looks_like_address(text: &str) -> bool {
    text.contains([':', '/']) || text.starts_with(|c: char| c.is_ascii_digit())
}

fn address_help(fault: &AddressFault) -> String {
    match fault {
        AddressFault::HostBits { network } => {
            format!("Write `{network}` for the network, or the address alone.")
        }
        AddressFault::MixedFamilies { .. } => "Write one range for each family.".into(),
        AddressFault::Backwards => "Swap the two addresses.".into(),
        AddressFault::Mapped { four } => format!("Write `{four}`."),
        AddressFault::PrefixLength { .. } => "Correct the number after the slash.".into(),
        AddressFault::Unreadable => {
            "Write it like `198.51.100.7`, `2001:db8:51::/48` or `198.51.100.7-198.51.100.20`."
                .into()
        }
    }
}

fn term_help(text: &str, fault: &TermFault) -> String {
    match fault {
        TermFault::Port => {
            "Write a port such as `tcp/22`, a range `tcp/7420-7423`, or `tcp/*` for all.".into()
        }
        TermFault::Backwards => "Swap the two ports.".into(),
        TermFault::ProtocolNumber => "Write it like `protocol/47`.".into(),
        TermFault::IcmpKind | TermFault::IcmpPort => {
            "Write `icmp/echo` for echo requests, or `icmp/*` for all of ICMP.".into()
        }
        TermFault::UnknownKind => {
            let (kind, rest) = text.split_once('/').unwrap_or((text, ""));
            match nearest(kind, ["tcp", "udp", "icmp", "protocol"].into_iter()) {
                Some(kind) => format!("Did you mean `{kind}/{rest}`?"),
                None => {
                    "Write it like `tcp/22`, `udp/7420-7423`, `icmp/echo` or `protocol/47`.".into()
                }
            }
        }
    }
}
