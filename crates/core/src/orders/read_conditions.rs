//! The conditions of a rule: what it matches.

use std::ops::Range;
use std::sync::Arc;

use toml::de::DeTable;

use super::model::{AddressCondition, InterfaceCondition, ProgramCondition, TrafficCondition};
use super::read::{Known, Reader, Value};
use super::resolve::{Names, Text};
use crate::names::address::{AddressSet, Family};
use crate::names::range_set::RangeSet;
use crate::names::traffic::{TCP, Term, UDP, keys_except, keys_of};
use crate::packet::Direction;

/// Lists of a rule and the keys that take something out of them again.
const EXCEPTIONS: [(&str, &str); 5] = [
    ("traffic", "traffic_except"),
    ("source", "source_except"),
    ("destination", "destination_except"),
    ("interface", "interface_except"),
    ("program", "program_except"),
];

impl<'t> Reader<'t> {
    /// The programs of a rule: absolute paths and names of sets, and only where there can be a
    /// program.
    pub(super) fn programs(
        &mut self,
        (path, table): (&str, &DeTable<'t>),
        direction: Option<Direction>,
        traffic: Option<&TrafficCondition>,
        names: &Names,
    ) -> Option<ProgramCondition> {
        let pair = self.pair(path, "program", table);
        let mut whole = true;
        for (key, span, texts) in pair.iter().flatten() {
            whole &= !texts.is_empty();
            if direction == Some(Direction::Transit) {
                whole = false;
                self.fault(
                    key,
                    span.clone(),
                    "traffic in transit belongs to no program on this host",
                    "Remove the key, or make the rule inbound or outbound.",
                );
            }
            let keys = traffic.and_then(|traffic| traffic.keys.as_ref());
            if direction == Some(Direction::Inbound)
                && keys.is_some_and(|keys| {
                    keys.ranges().iter().all(|(first, last)| {
                        let protocols = first.protocol()..=last.protocol();
                        !protocols.contains(&TCP) && !protocols.contains(&UDP)
                    })
                })
            {
                whole = false;
                self.fault(
                    key,
                    span.clone(),
                    "only TCP and UDP ports have a program that listens; the kernel handles the \
                     rest",
                    "Remove the key, or name ports in `traffic`.",
                );
            }
        }
        let [files, files_except] = [0, 1].map(|n| {
            let mut all = Vec::new();
            for (key, _, texts) in pair[n].iter() {
                for written in texts {
                    match names.programs.get(&written.text) {
                        Some(set) => all.extend(set.iter().cloned()),
                        None if self.is_program(key, written, names) => {
                            all.push(written.text.clone());
                        }
                        None => whole = false,
                    }
                }
            }
            all
        });
        let [list, except] = pair;
        whole.then(|| ProgramCondition {
            written: texts(list),
            except: texts(except),
            files,
            files_except,
        })
    }

    /// Whether a text is the path of a program; else that is a fault.
    pub(super) fn is_program(&mut self, key: &str, written: &Text, names: &Names) -> bool {
        let Text { text, span, .. } = written;
        let plain = text.split('/').skip(1).all(|part| !matches!(part, "" | "." | ".."));
        if text.starts_with('/') && plain {
            return true;
        }
        let help = names.guesses.help(
            text,
            names.programs.keys().map(String::as_str),
            "Write it like `/usr/sbin/plated`, or define a set of programs under [programs].",
        );
        let message = format!("`{text}` is not the absolute path of a program");
        self.fault(key, span.clone(), message, help);
        false
    }

    pub(super) fn family(&mut self, key: &str, value: &Value<'_>) -> Option<Family> {
        let written = self.string(key, value)?;
        match written.text.as_str() {
            "ipv4" => Some(Family::V4),
            "ipv6" => Some(Family::V6),
            other => {
                let message = format!("unknown address family `{other}`");
                self.fault(
                    key,
                    written.span,
                    message,
                    "Write `ipv4` or `ipv6`; the default is \
                                                        both.",
                );
                None
            }
        }
    }

    /// A list and its `_except`: the texts of both, `None` where a key is absent.
    pub(super) fn pair(
        &mut self,
        path: &str,
        key: &str,
        table: &DeTable<'t>,
    ) -> [Option<Listed>; 2] {
        let except = EXCEPTIONS.iter().find(|(list, _)| *list == key).map_or("", |(_, e)| *e);
        [key, except].map(|key| {
            let value = table.get(key)?;
            let path = format!("{path}.{key}");
            let texts = self.strings(&path, value);
            Some((path, value.span(), texts))
        })
    }

    pub(super) fn traffic(
        &mut self,
        path: &str,
        table: &DeTable<'t>,
        names: &Names,
    ) -> Option<TrafficCondition> {
        let [list, except] = self.pair(path, "traffic", table);
        let mut whole = true;
        let mut terms_of = |reader: &mut Self, list: &Option<Listed>| {
            let mut terms = Vec::new();
            let Some((key, _, texts)) = list else { return terms };
            whole &= !texts.is_empty();
            for text in texts {
                match names.terms(text) {
                    Ok(t) => terms.extend(t),
                    Err(u) => {
                        reader.unresolved(key, u);
                        whole = false;
                    }
                }
            }
            terms
        };
        let items = terms_of(self, &list);
        let keys_of_list =
            |list: &Option<Listed>, terms: &[Term]| list.as_ref().and_then(|_| keys_of(terms));
        let mut keys = keys_of_list(&list, &items);
        if except.is_some() {
            let out = keys_of_list(&except, &terms_of(self, &except));
            keys = Some(keys_except(keys, out));
        }
        self.check_leftover(
            whole && keys.as_ref().is_some_and(RangeSet::is_empty),
            except.as_ref(),
        )?;
        let (written, except) = (texts(list), texts(except));
        whole.then_some(TrafficCondition { written, except, items, keys })
    }

    /// A fault when `_except` takes everything away again.
    pub(super) fn check_leftover(
        &mut self,
        nothing_left: bool,
        except: Option<&Listed>,
    ) -> Option<()> {
        match except {
            Some((key, span, _)) if nothing_left && !self.unknown_lists => {
                self.fault(
                    key,
                    span.clone(),
                    "the exceptions leave nothing that the rule could match",
                    "Remove some of them.",
                );
                None
            }
            _ => Some(()),
        }
    }

    pub(super) fn addresses(
        &mut self,
        path: &str,
        key: &str,
        table: &DeTable<'t>,
        known: &Known<'_>,
        family: Option<Family>,
    ) -> Option<AddressCondition> {
        let [list, except] = self.pair(path, key, table);
        let mut whole = true;
        let mut set_of_list = |reader: &mut Self, list: &Option<Listed>| {
            let (key, _, texts) = list.as_ref()?;
            whole &= !texts.is_empty();
            let (set, faults) = known.names.addresses(texts);
            whole &= faults.is_empty();
            faults.into_iter().for_each(|fault| reader.unresolved(key, fault));
            set
        };
        let mut addresses = set_of_list(self, &list);
        if except.is_some() {
            fn full() -> Arc<AddressSet> {
                Arc::new(AddressSet::full())
            }
            let out = set_of_list(self, &except).unwrap_or_else(full);
            addresses = Some(Arc::new(addresses.unwrap_or_else(full).difference(&out)));
        }
        let nothing = addresses.as_ref().is_some_and(|set| set.is_empty());
        self.check_leftover(whole && nothing, except.as_ref())?;
        if let (true, Some(family), Some(set)) = (whole, family, &addresses)
            && !set.has(family)
            && !self.unknown_lists
        {
            let (path, span) =
                list.as_ref().or(except.as_ref()).map(|(p, s, _)| (p.clone(), s.clone()))?;
            self.fault(
                path,
                span,
                format!("`{key}` has no {family} address, but `family` asks for one"),
                "Remove `family`, or name addresses of that family.",
            );
            return None;
        }
        let (written, except) = (texts(list), texts(except));
        whole.then_some(AddressCondition { written, except, addresses })
    }

    pub(super) fn interfaces(
        &mut self,
        path: &str,
        table: &DeTable<'t>,
    ) -> Option<InterfaceCondition> {
        let pair = self.pair(path, "interface", table);
        let mut whole = true;
        for (key, _, texts) in pair.iter().flatten() {
            whole &= !texts.is_empty();
            for Text { text, span, .. } in texts {
                let name = text.strip_suffix('*').unwrap_or(text);
                // IFNAMSIZ of linux/if.h, less the NUL.
                if text.is_empty() || name.len() > 15 || name.contains(['/', '*', ' ']) {
                    whole = false;
                    self.fault(
                        key,
                        span.clone(),
                        format!("`{text}` is not a valid interface name"),
                        "Write a name such as `lan0`, or `tun*` for all names that begin with \
                         `tun`.",
                    );
                }
            }
        }
        let [list, except] = pair;
        whole.then(|| InterfaceCondition { written: texts(list), except: texts(except) })
    }
}

/// A list of a rule: its path, where it stands, its texts.
type Listed = (String, Range<usize>, Vec<Text>);

fn texts(list: Option<Listed>) -> Vec<String> {
    let texts = list.map(|(_, _, texts)| texts).unwrap_or_default();
    let mut words: Vec<String> = texts.into_iter().map(|t| t.text).collect();
    // Collected in place, in room for more than words.
    words.shrink_to_fit();
    words
}
