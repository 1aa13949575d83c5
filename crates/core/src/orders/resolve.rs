//! Names to what they stand for: services to traffic terms, groups to
//! addresses. Works on texts with their spans; says what it cannot resolve.

use std::collections::BTreeMap;
use std::ops::Range;

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

/// Why a text could not be resolved: the sentence and the mend.
pub(super) struct Unresolved {
    pub(super) file: usize,
    pub(super) span: Range<usize>,
    pub(super) message: String,
    pub(super) mend: String,
}

/// The name out of `names` that `text` was probably meant to be.
pub(super) fn nearest<'n>(text: &str, names: impl Iterator<Item = &'n str>) -> Option<&'n str> {
    names
        .map(|name| (strsim::damerau_levenshtein(text, name), name))
        .filter(|(distance, name)| *distance <= 2.min(name.len() / 2).max(1))
        .min()
        .map(|(_, name)| name)
}

fn did_you_mean<'n>(text: &str, names: impl Iterator<Item = &'n str>, otherwise: &str) -> String {
    match nearest(text, names) {
        Some(name) => format!("Did you mean `{name}`?"),
        None => otherwise.to_owned(),
    }
}

/// The names that orders define for themselves.
#[derive(Default)]
pub(super) struct Names {
    pub(super) services: BTreeMap<String, Vec<Term>>,
    pub(super) groups: BTreeMap<String, Vec<Text>>,
    /// Where each is defined.
    pub(super) named: Vec<Named>,
    /// Texts of files; `None` when nobody looked.
    pub(super) lists: Option<Lists>,
    /// Prefixes by country and region; `None` when there is no feed.
    pub(super) areas: Option<BTreeMap<String, Vec<AddressRange>>>,
}

/// The mend for a file that cannot be read.
pub(super) const UNREADABLE: &str = "Name a file beside the orders, or give its whole path.";

impl Names {
    /// The terms of one text of a traffic list.
    pub(super) fn terms(&self, written: &Text) -> Result<Vec<Term>, Unresolved> {
        let text = written.text.as_str();
        match model::terms(&self.services, text) {
            Some(Ok(terms)) => Ok(terms),
            Some(Err(fault)) => Err(Unresolved {
                file: written.file,
                span: written.span.clone(),
                message: format!("`{text}` is no traffic: {fault}"),
                mend: term_mend(text, &fault),
            }),
            None => {
                let own = self.services.keys().map(String::as_str);
                let known = services::CATALOGUE.iter().map(|s| s.name);
                Err(Unresolved {
                    file: written.file,
                    span: written.span.clone(),
                    message: format!("no service is called `{text}`"),
                    mend: did_you_mean(
                        text,
                        own.chain(known),
                        "Write a port such as `tcp/7410`, or define the name under [services].",
                    ),
                })
            }
        }
    }

    /// The addresses of a list, and what of it cannot be resolved; `None` is
    /// any. Gathered first and made a set once, so that a long list costs little.
    pub(super) fn addresses(&self, list: &[Text]) -> (Option<AddressSet>, Vec<Unresolved>) {
        let (mut ranges, mut faults) = (Vec::new(), Vec::new());
        let mut any = false;
        for written in list {
            if written.text == "any" {
                any = true;
            } else if let Err(fault) = self.collect(written, &mut Vec::new(), &mut ranges) {
                faults.push(fault);
            }
        }
        ((!any).then(|| AddressSet::from_ranges(&ranges)), faults)
    }

    fn collect(
        &self,
        written: &Text,
        path: &mut Vec<String>,
        ranges: &mut Vec<AddressRange>,
    ) -> Result<(), Unresolved> {
        let text = written.text.as_str();
        let unresolved = |message: String, mend: String| Unresolved {
            file: written.file,
            span: written.span.clone(),
            message,
            mend,
        };
        if let Some(members) = self.groups.get(text) {
            if path.iter().any(|p| p == text) {
                return Err(unresolved(
                    format!("the group `{text}` contains itself ({} → {text})", path.join(" → ")),
                    "Take one of the groups out of the circle.".into(),
                ));
            }
            path.push(text.to_owned());
            for member in members {
                self.collect(member, path, ranges)?;
            }
            path.pop();
            return Ok(());
        }
        if let Some(name) = text.strip_prefix(FILE) {
            let Some(lists) = &self.lists else { return Ok(()) };
            let mend = "Mend the file.".to_owned();
            return match lists.get(name) {
                Some(Ok(list)) => addresses_of_list(list)
                    .map(|list| ranges.extend(list))
                    .map_err(|why| unresolved(format!("{name}, {why}"), mend)),
                Some(Err(why)) => {
                    Err(unresolved(format!("{name} cannot be read: {why}"), UNREADABLE.into()))
                }
                None => Err(unresolved(format!("{name} was not read"), UNREADABLE.into())),
            };
        }
        if let Some(code) = text.strip_prefix(AREA) {
            return match (&self.areas, self.lists.is_some()) {
                (_, false) => Ok(()),
                (Some(areas), true) => match areas.get(&code.to_ascii_uppercase()) {
                    Some(area) => {
                        ranges.extend(area);
                        Ok(())
                    }
                    None => Err(unresolved(
                        format!("the feed has no area `{code}`"),
                        "Write a country such as `NL`, or a region such as `NL-NH`.".into(),
                    )),
                },
                (None, true) => Err(unresolved(
                    format!("there is no feed that says where `{code}` is"),
                    "Name one: [areas] feed = \"feed.csv\", a file as RFC 8805 has it.".into(),
                )),
            };
        }
        match AddressRange::parse(text) {
            Ok(range) => {
                ranges.push(range);
                Ok(())
            }
            Err(AddressFault::Unreadable) if !looks_like_address(text) => Err(unresolved(
                format!("no group of addresses is called `{text}`"),
                did_you_mean(
                    text,
                    self.groups.keys().map(String::as_str),
                    "Define it under [addresses], or write an address, a prefix or a first-last range.",
                ),
            )),
            Err(fault) => Err(unresolved(format!("`{text}`: {fault}"), address_mend(&fault))),
        }
    }
}

fn looks_like_address(text: &str) -> bool {
    text.contains([':', '/']) || text.starts_with(|c: char| c.is_ascii_digit())
}

fn address_mend(fault: &AddressFault) -> String {
    match fault {
        AddressFault::HostBits { network } => {
            format!("Write `{network}` for the network, or the address alone.")
        }
        AddressFault::MixedFamilies { .. } => "Write one range for each family.".into(),
        AddressFault::Backwards => "Swap the two addresses.".into(),
        AddressFault::PrefixLength { .. } => "Mend the number behind the slash.".into(),
        AddressFault::Unreadable => {
            "Write it like `198.51.100.7`, `2001:db8:51::/48` or `198.51.100.7-198.51.100.20`."
                .into()
        }
    }
}

fn term_mend(text: &str, fault: &TermFault) -> String {
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
