//! The types of a policy that has been read without a fault.

use std::collections::BTreeMap;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::action::{Action, Standing};
use super::at_most::{AtMost, Limit, Over};
use super::codes::Code;
use super::hosts::{Boot, Group, Host, Inactive, Posture, Selector};
use super::log::Log;
use crate::moment::Moment;
use crate::names::address::{AddressSet, Family};
use crate::names::range_set::RangeSet;
use crate::names::traffic::{Term, TermFault, TrafficKey};
use crate::names::{services, spelling};
use crate::packet::Direction;

/// Foundations that orders can switch off.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
pub struct FoundationSwitches {
    /// DHCP and DHCPv6 answers pass.
    pub address_assignment: bool,
}

impl Default for FoundationSwitches {
    fn default() -> Self {
        Self { address_assignment: true }
    }
}

/// A rule's name: unique, 1 to 64 characters, no white space, not only digits.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
pub struct RuleName(String);

impl RuleName {
    /// Reads a name.
    ///
    /// # Errors
    /// A sentence that says what a name must be.
    pub fn parse(text: &str) -> Result<Self, &'static str> {
        if text.is_empty() || text.chars().count() > 64 {
            Err("a rule's name has 1 to 64 characters")
        } else if text.chars().any(|c| c.is_whitespace() || c.is_control()) {
            Err("a rule's name has no spaces in it")
        } else if text.chars().all(|c| c.is_ascii_digit()) {
            Err("a rule's name is not only digits, since those mean a position")
        } else {
            Ok(Self(text.to_owned()))
        }
    }

    /// The name.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for RuleName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// The traffic a rule is about, as written and as keys.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TrafficCondition {
    /// As the orders write it.
    pub written: Vec<String>,
    /// What is taken out again, as the orders write it.
    pub except: Vec<String>,
    /// Each item as it was written, its names resolved: neighbouring ports that are
    /// named one by one stay so, and a range is a range.
    pub items: Vec<Term>,
    /// What is decided by; `None` is any.
    pub keys: Option<RangeSet<TrafficKey>>,
}

/// The sources or destinations a rule is about, as written and as addresses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AddressCondition {
    /// As the orders write it; empty when the key is absent.
    pub written: Vec<String>,
    /// What is taken out again, as the orders write it.
    pub except: Vec<String>,
    /// `None` is any. Rules that name the same share it.
    pub addresses: Option<Arc<AddressSet>>,
}

impl TrafficCondition {
    /// `ssh, tcp/7410`, `any but tcp/25`.
    pub fn describe(&self) -> String {
        in_words(&self.written, &self.except)
    }
}

/// A list and its exceptions, for people.
fn in_words(written: &[String], except: &[String]) -> String {
    let list = if written.is_empty() { "any".to_owned() } else { written.join(", ") };
    if except.is_empty() { list } else { format!("{list} but {}", except.join(", ")) }
}

impl AddressCondition {
    /// `observatory, 203.0.113.9`, `any but observatory`.
    pub fn describe(&self) -> String {
        in_words(&self.written, &self.except)
    }

    /// No condition.
    pub fn any() -> Self {
        Self { written: Vec::new(), except: Vec::new(), addresses: None }
    }
}

/// The interfaces a rule is about: names, or `tun*` for all names that begin with `tun`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct InterfaceCondition {
    /// As the orders write it; empty is any.
    pub written: Vec<String>,
    /// What is taken out again.
    pub except: Vec<String>,
}

impl InterfaceCondition {
    /// `lan0, tun*`, `any but lan9`.
    pub fn describe(&self) -> String {
        in_words(&self.written, &self.except)
    }

    /// Whether there is a condition at all.
    pub fn is_any(&self) -> bool {
        self.written.is_empty() && self.except.is_empty()
    }

    /// Whether an interface of that name is meant.
    pub fn holds(&self, name: &str) -> bool {
        let meant = |pattern: &String| match pattern.strip_suffix('*') {
            Some(begin) => name.starts_with(begin),
            None => name == pattern,
        };
        (self.written.is_empty() || self.written.iter().any(meant))
            && !self.except.iter().any(meant)
    }
}

/// The programs a rule is about, by the absolute paths of their files: who
/// listens, for a packet on its way in; who sends, for one on its way out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ProgramCondition {
    /// As the orders write it, paths and names of sets; empty is any.
    pub written: Vec<String>,
    /// What is taken out again.
    pub except: Vec<String>,
    /// The paths that this means.
    pub files: Vec<String>,
    /// The paths that are taken out again.
    pub files_except: Vec<String>,
}

/// By what it means: a name says the same as what it stands for.
impl Hash for ProgramCondition {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (&self.files, &self.files_except).hash(state);
    }
}

impl ProgramCondition {
    /// A condition that names no sets.
    pub fn of_paths(paths: Vec<String>, except: Vec<String>) -> Self {
        Self { files: paths.clone(), files_except: except.clone(), written: paths, except }
    }

    /// All paths that it names.
    pub fn paths(&self) -> impl Iterator<Item = &String> {
        self.files.iter().chain(&self.files_except)
    }

    /// `/usr/sbin/plated`, `any but /usr/sbin/skycam`.
    pub fn describe(&self) -> String {
        in_words(&self.written, &self.except)
    }

    /// Whether there is a condition at all.
    pub fn is_any(&self) -> bool {
        self.written.is_empty() && self.except.is_empty()
    }

    /// Whether it names that path, by itself or in a set.
    pub fn names(&self, path: &str) -> bool {
        self.paths().any(|known| known == path)
    }
}

/// How much is remembered of what has no connection of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Memory {
    /// Flows, in each of three memories.
    pub flows: u32,
    /// Sources of rates.
    pub sources: u32,
}

impl Memory {
    /// The least room that makes sense: a burst of a busy second.
    pub const LEAST: u32 = 1_024;
    /// The most; the kernel takes some 120 bytes for each entry.
    pub const MOST: u32 = 1 << 20;
    /// Where the orders do not say.
    pub const USUAL: u32 = 1 << 16;
}

impl Default for Memory {
    fn default() -> Self {
        Self { flows: Self::USUAL, sources: Self::USUAL }
    }
}

/// A finding of the review that is meant, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Accepted {
    /// Which.
    pub code: Code,
    /// Why.
    pub why: String,
}

/// One rule; all of its conditions must hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rule {
    /// Unique and stable.
    pub name: RuleName,
    /// Why it is there.
    pub note: Option<String>,
    /// What it says.
    pub action: Action,
    /// Which way.
    pub direction: Direction,
    /// What it is about.
    pub traffic: TrafficCondition,
    /// From whom.
    pub source: AddressCondition,
    /// To which address.
    pub destination: AddressCondition,
    /// Where it arrives; where it leaves, for an outbound rule.
    pub interface: InterfaceCondition,
    /// Who listens, or who sends. Never on a transit rule.
    pub program: ProgramCondition,
    /// Only packets of this family.
    pub family: Option<Family>,
    /// When the rule expires.
    pub until: Option<Moment>,
    /// How often it may match; only an allow has one.
    pub at_most: Option<AtMost>,
    /// What it says beyond that.
    pub over: Over,
    /// Whether each of its decisions is recorded.
    pub log: bool,
    /// Findings of the review that are meant.
    pub accepted: Vec<Accepted>,
    /// The group that it belongs to.
    pub group: Option<String>,
    /// The hosts it is for; as its group says, or all, when empty.
    pub hosts: Vec<Selector>,
    /// The postures in which it holds; as its group says, or all, when empty.
    pub postures: Vec<String>,
    /// Why it is not active; `None` when it does.
    pub inactive: Option<Inactive>,
    /// The included file that it stands in; `None` for the orders' own.
    pub part: Option<Arc<str>>,
    /// Line of that file where the rule begins, from 1.
    pub line: usize,
}

impl Rule {
    /// Whether it can decide what goes that way.
    pub fn is_active_in(&self, direction: Direction) -> bool {
        self.is_active() && self.direction == direction
    }

    /// Whether it can decide packets of a family that go that way.
    pub fn is_active_for(&self, direction: Direction, family: Family) -> bool {
        self.is_active_in(direction) && self.family.is_none_or(|of| of == family)
    }

    /// Whether its traffic, which may be any, has this key.
    pub fn is_about(&self, key: TrafficKey) -> bool {
        self.traffic.keys.as_ref().is_none_or(|keys| keys.contains(key))
    }

    /// Whether its traffic names this key.
    pub fn names(&self, key: TrafficKey) -> bool {
        self.traffic.keys.as_ref().is_some_and(|keys| keys.contains(key))
    }

    /// The rule's rate as it is counted.
    pub fn limit(&self) -> Option<Limit> {
        Some(self.at_most?.limit(self.name.as_str(), self.over))
    }

    /// Whether two rules decide the same, whatever they are called and wherever
    /// they stand.
    pub fn decides_like(&self, other: &Self) -> bool {
        let decisive = |rule: &Self| {
            ((rule.action, rule.direction, rule.family, rule.until), (rule.at_most, rule.over))
        };
        decisive(self) == decisive(other)
            && self.traffic.keys == other.traffic.keys
            && self.source.addresses == other.source.addresses
            && self.destination.addresses == other.destination.addresses
            && (&self.interface, &self.program) == (&other.interface, &other.program)
    }
}

/// What a name stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NameKind {
    /// A service.
    Service,
    /// A group of addresses.
    Addresses,
    /// A group of rules.
    Group,
    /// A set of programs.
    Programs,
}

/// A name that orders define, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Named {
    /// What it stands for.
    pub kind: NameKind,
    /// The name.
    pub name: String,
    /// The included file that it stands in; `None` for the orders' own.
    pub part: Option<Arc<str>>,
    /// Its line of that file, from 1.
    pub line: usize,
    /// Whether another name holds it.
    pub inside: bool,
}

/// A policy without a fault.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Orders {
    /// Answers for traffic that no rule matches.
    pub standing: Standing,
    /// Foundations that can be switched off.
    pub foundations: FoundationSwitches,
    /// Whether rules mean the very file at a program's path: device and inode
    /// number. Otherwise they mean the path, which outlives an upgrade.
    pub program_exact: bool,
    /// How much the gate remembers.
    pub memory: Memory,
    /// What is logged.
    pub log: Log,
    /// What is in force after a restart.
    pub boot: Boot,
    /// Services that the orders define for themselves.
    pub services: BTreeMap<String, Vec<Term>>,
    /// Sets of programs, by their paths.
    pub programs: BTreeMap<String, Vec<String>>,
    /// Named groups of addresses, groups inside them resolved.
    pub groups: BTreeMap<String, Arc<AddressSet>>,
    /// Hosts that the orders know; empty: these orders are for one machine.
    pub hosts: Vec<Host>,
    /// Named ways of standing.
    pub postures: Vec<Posture>,
    /// Groups that rules can belong to.
    pub rule_groups: Vec<Group>,
    /// The line in which a foundation is switched.
    pub foundations_line: Option<usize>,
    /// The names that they define, in the order of the files.
    pub names: Vec<Named>,
    /// The rules in order; briefs share them.
    pub rules: Vec<Arc<Rule>>,
}

impl Orders {
    /// The rules in order.
    pub fn rules(&self) -> impl Iterator<Item = &Rule> {
        self.rules.iter().map(AsRef::as_ref)
    }

    /// What a traffic text means under these orders: a term, one of their own
    /// services, or one of the catalogue. `None`: no service has that name.
    ///
    /// # Errors
    /// [`TermFault`].
    pub fn terms(&self, text: &str) -> Option<Result<Vec<Term>, TermFault>> {
        terms(&self.services, text)
    }
}

/// What a traffic text means without any orders: a term, or a service of the catalogue.
pub fn built_in_terms(text: &str) -> Option<Result<Vec<Term>, TermFault>> {
    terms(&BTreeMap::new(), text)
}

/// See [`Orders::terms`].
pub(super) fn terms(
    own: &BTreeMap<String, Vec<Term>>,
    text: &str,
) -> Option<Result<Vec<Term>, TermFault>> {
    // Mostly it is written as it is printed.
    if let Some(Ok(term)) = Term::parse(text) {
        return Some(Ok(vec![term]));
    }
    let mut all = Vec::new();
    for item in spelling::items(text) {
        match Term::parse(&item) {
            Some(Ok(term)) => all.push(term),
            Some(Err(fault)) => return Some(Err(fault)),
            None => {
                let terms = own.get(&item).map(Vec::as_slice);
                all.extend(terms.or_else(|| services::find(&item).map(|s| s.terms))?);
            }
        }
    }
    Some(Ok(all))
}

impl Rule {
    /// Whether it denies everything of its direction from everybody: nothing
    /// of that direction behind it ever matches.
    pub fn catches_all(&self) -> bool {
        self.is_about_everything() && self.action != Action::Allow
    }

    /// Whether it matches everything of its direction, whatever it says.
    pub fn is_about_everything(&self) -> bool {
        self.is_active()
            && self.traffic.keys.is_none()
            && self.source.addresses.is_none()
            && self.destination.addresses.is_none()
            && self.interface.is_any()
            && self.program.is_any()
            && self.family.is_none()
            && self.until.is_none()
    }

    /// Whether it can match at all.
    pub fn is_active(&self) -> bool {
        self.inactive.is_none()
    }

    /// From whom, and what most rules do not say, for people: `partner; to
    /// 198.51.100.20, on lan0, IPv4 only`.
    pub fn condition_words(&self) -> String {
        let (source, further) = (self.source.describe(), self.further_words());
        if further.is_empty() { source } else { format!("{source}; {further}") }
    }

    /// What most rules do not say, for people: `to 198.51.100.20, on lan0,
    /// IPv4 only`. Empty when there are none.
    pub fn further_words(&self) -> String {
        let mut words = Vec::new();
        if self.direction != Direction::Inbound {
            words.push(self.direction.to_string());
        }
        if self.destination.addresses.is_some() {
            words.push(format!("to {}", self.destination.describe()));
        }
        if !self.interface.is_any() {
            words.push(format!("on {}", self.interface.describe()));
        }
        if !self.program.is_any() {
            words.push(format!("program {}", self.program.describe()));
        }
        words.extend(self.family.map(|family| format!("{family} only")));
        words.extend(self.until.map(|until| format!("until {until}")));
        words.extend(self.at_most.map(|at_most| match self.over {
            Over::Deny => format!("at most {at_most}"),
            Over::Refuse => format!("at most {at_most}, then refuse"),
        }));
        words.extend(self.log.then(|| "logged".to_owned()));
        words.join(", ")
    }
}
