//! The one ordered list that this host obeys.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::net::IpAddr;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::host::interface::Interface;
use crate::moment::Moment;
use crate::names::address::AddressSet;
use crate::names::range_set::RangeSet;
use crate::orders::{
    Action, FoundationSwitches, Host, Inactive, InterfaceCondition, LogLevel, Memory, Orders,
    OrdersHash, Posture, ProgramCondition, Rule, Selector, Standing,
};
use crate::packet::{Direction, InterfaceIndex, ProgramIndex};

/// Place of a rule in the list, from 0. People see [`RuleIndex::position`].
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(into = "u32", try_from = "u32")]
pub struct RuleIndex(pub u32);

/// What is written for others counts from 1, as people do.
impl From<RuleIndex> for u32 {
    fn from(index: RuleIndex) -> Self {
        index.0.saturating_add(1)
    }
}

impl TryFrom<u32> for RuleIndex {
    type Error = &'static str;

    fn try_from(position: u32) -> Result<Self, &'static str> {
        position.checked_sub(1).map(Self).ok_or("rules are counted from 1")
    }
}

/// The selector that brings a rule to a host; `None` when none does.
pub fn brought_by(orders: &Orders, rule: &Rule, host: &Host) -> Option<Selector> {
    let selectors = selectors_of(orders, rule);
    if selectors.is_empty() {
        return Some(Selector::All);
    }
    selectors.iter().find(|selector| selector.selects(host)).cloned()
}

/// A rule's own selectors, else those of its group.
fn selectors_of<'o>(orders: &'o Orders, rule: &'o Rule) -> &'o [Selector] {
    let group = || orders.rule_groups.iter().find(|g| Some(&g.name) == rule.group.as_ref());
    match rule.hosts.as_slice() {
        [] => group().map_or(&[], |group| group.hosts.as_slice()),
        own => own,
    }
}

/// Where and how a list is obeyed.
#[derive(Clone, Copy, Debug, Default)]
pub struct Setting<'s> {
    /// The host; `None` where the orders know none.
    pub host: Option<&'s Host>,
    /// The posture that holds; `None` for none.
    pub posture: Option<&'s Posture>,
    /// The host's interfaces.
    pub interfaces: &'s [Interface],
    /// Which files the programs of the orders are.
    pub executables: Option<&'s Executables>,
}

/// The file that a program's path leads to, where that is another path: by a
/// symbolic link, or because two paths are the same file. Two paths with one
/// file are the same program.
pub type Executables = BTreeMap<String, String>;

fn silence_in(orders: &Orders, rule: &Rule, setting: &Setting<'_>) -> Option<Inactive> {
    let everywhere = |s: &[Selector]| s.is_empty() || s.contains(&Selector::All);
    let placed_here = match setting.host {
        Some(host) => brought_by(orders, rule, host).is_some(),
        None => everywhere(selectors_of(orders, rule)),
    };
    if placed_here {
        inactive_at_its_hosts(orders, rule, setting)
    } else {
        Some(Inactive::OtherHost)
    }
}

/// Why a rule is silent where it is placed.
fn inactive_at_its_hosts(orders: &Orders, rule: &Rule, setting: &Setting<'_>) -> Option<Inactive> {
    let group = orders.rule_groups.iter().find(|g| Some(&g.name) == rule.group.as_ref());
    let postures = match rule.postures.as_slice() {
        [] => group.map_or(&[][..], |group| group.postures.as_slice()),
        own => own,
    };
    let holds = setting.posture.is_some_and(|posture| postures.contains(&posture.name));
    if setting.posture.is_some_and(Posture::is_sealed) || !postures.is_empty() && !holds {
        Some(Inactive::OtherPosture)
    } else {
        group.is_some_and(|group| !group.enabled).then_some(Inactive::GroupPaused)
    }
}

/// How many rules are active on each host of the orders, in no posture: as many as
/// [`Brief::on`] has there, without a list for each.
pub fn rules_on_each_host(orders: &Orders) -> Vec<usize> {
    let (mut named, mut tagged) = (HashMap::new(), HashMap::<&str, Vec<usize>>::new());
    for (at, host) in orders.hosts.iter().enumerate() {
        named.insert(host.name.as_str(), at);
        host.tags.iter().for_each(|tag| tagged.entry(tag.as_str()).or_default().push(at));
    }
    let mut counts = vec![0; orders.hosts.len()];
    let mut on_all = 0;
    for rule in orders.rules.iter().filter(|rule| {
        rule.inactive.is_none()
            && inactive_at_its_hosts(orders, rule, &Setting::default()).is_none()
    }) {
        let selectors = selectors_of(orders, rule);
        if selectors.is_empty() || selectors.contains(&Selector::All) {
            on_all += 1;
            continue;
        }
        let meant: BTreeSet<usize> = selectors
            .iter()
            .flat_map(|selector| match selector {
                Selector::All => Vec::new(),
                Selector::Tag(tag) => tagged.get(tag.as_str()).cloned().unwrap_or_default(),
                Selector::Name(name) => named.get(name.as_str()).copied().into_iter().collect(),
            })
            .collect();
        meant.into_iter().for_each(|host| counts[host] += 1);
    }
    counts.into_iter().map(|own| own + on_all).collect()
}

impl RuleIndex {
    /// Counted from 1.
    pub fn position(self) -> usize {
        self.0 as usize + 1
    }
}

/// Standing answers and rules of one host. Paused rules keep their place, so
/// that positions are those of the orders.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Brief {
    /// Answers for traffic that no rule matches.
    pub standing: Standing,
    /// Foundations that can be switched off.
    pub foundations: FoundationSwitches,
    /// How much the gate remembers.
    pub memory: Memory,
    /// Which decisions are recorded that no rule asks for.
    pub log_level: LogLevel,
    /// Whether programs are told by their files ([`Orders::program_exact`]).
    pub program_exact: bool,
    /// The rules in order, shared with the orders where nothing silences them.
    pub rules: Vec<Arc<Rule>>,
    /// The host's interfaces, by which interface conditions are resolved.
    pub interfaces: Vec<(InterfaceIndex, String)>,
    /// The host's own addresses, sorted.
    pub own: Vec<IpAddr>,
    /// The files of all programs that the rules name, sorted: the first one is
    /// [`ProgramIndex`] 1.
    pub programs: Vec<String>,
    /// Which files those are, where the rules write another path.
    pub executables: Executables,
}

fn own_addresses(interfaces: &[Interface]) -> Vec<IpAddr> {
    let all = interfaces.iter().flat_map(|interface| &interface.addresses);
    let mut own: Vec<IpAddr> = all.map(|(address, _)| *address).collect();
    own.sort_unstable();
    own.dedup();
    own
}

/// The programs that rules name, each once.
pub(crate) fn programs_of(rules: &[Arc<Rule>], executables: &Executables) -> Vec<String> {
    let named = rules.iter().flat_map(|r| r.program.paths());
    let files = named.map(|path| executables.get(path).unwrap_or(path).clone());
    files.collect::<BTreeSet<_>>().into_iter().collect()
}

/// Which lists entries are made under: one number for what leaves and passes
/// through, one for what comes in. Never 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Stamps {
    /// Of what the list says of outbound and transit.
    pub opened: u32,
    /// Of what it says of inbound.
    pub let_in: u32,
}

impl Brief {
    /// The list that these orders mean for a machine without a name and
    /// interfaces: rules that are placed, or name an interface, never match there.
    pub fn unplaced(orders: &Orders) -> Self {
        Self::on(orders, &Setting::default())
    }

    /// The list that these orders mean in a setting. Rules that are not for it
    /// keep their place and are silent.
    pub fn on(orders: &Orders, setting: &Setting<'_>) -> Self {
        let mut rules = orders.rules.clone();
        for rule in &mut rules {
            if rule.inactive.is_none()
                && let Some(inactive) = silence_in(orders, rule, setting)
            {
                Arc::make_mut(rule).inactive = Some(inactive);
            }
        }
        let own = setting.host.map(|host| host.standing).unwrap_or_default();
        let held = setting.posture.map(|posture| posture.standing).unwrap_or_default();
        let executables = setting.executables.cloned().unwrap_or_default();
        Self {
            standing: held.or(own.or(orders.standing)),
            foundations: orders.foundations,
            memory: orders.memory,
            log_level: orders.log.level,
            program_exact: orders.program_exact,
            programs: programs_of(&rules, &executables),
            executables,
            rules,
            interfaces: setting
                .interfaces
                .iter()
                .map(|i| (InterfaceIndex(i.index), i.name.clone()))
                .collect(),
            own: own_addresses(setting.interfaces),
        }
    }

    /// Everything passes, on a machine of which nothing is known.
    pub fn everything_passes() -> Self {
        let allow = Action::Allow;
        Self {
            standing: Standing { inbound: allow, outbound: allow, transit: allow },
            foundations: FoundationSwitches::default(),
            memory: Memory::default(),
            log_level: LogLevel::default(),
            program_exact: false,
            rules: Vec::new(),
            interfaces: Vec::new(),
            own: Vec::new(),
            programs: Vec::new(),
            executables: Executables::new(),
        }
    }

    /// What holds here while nothing is in force.
    #[must_use]
    pub fn nothing_in_force(&self) -> Self {
        Self {
            foundations: self.foundations,
            memory: self.memory,
            log_level: self.log_level,
            program_exact: self.program_exact,
            interfaces: self.interfaces.clone(),
            own: self.own.clone(),
            ..Self::everything_passes()
        }
    }

    /// Silences the rules whose time is over.
    pub fn expire(&mut self, now: Moment) {
        for rule in &mut self.rules {
            let over = rule.until.is_some_and(|until| until <= now);
            if over && rule.inactive.is_none() {
                Arc::make_mut(rule).inactive = Some(Inactive::Expired);
            }
        }
    }

    /// Tells this list from others: what decides, in the same order. Notes, lines, silent
    /// rules and the machine beneath count for nothing, so that two places agree which work
    /// out the list of one host from different files.
    pub fn digest(&self) -> OrdersHash {
        let rules = self.rules().filter(|rule| rule.is_active()).map(|rule| {
            let written = (&rule.name, rule.action, rule.direction, rule.family, rule.until);
            let conditions =
                (&rule.traffic, &rule.source, &rule.destination, &rule.interface, &rule.program);
            format!("{written:?} {conditions:?} {:?} {:?} {}", rule.at_most, rule.over, rule.log)
        });
        let rules: Vec<String> = rules.collect();
        let rest = (self.standing, self.foundations, self.memory, self.log_level);
        let text = format!("{rest:?} {}\n{}", self.program_exact, rules.join("\n"));
        OrdersHash::digest(text.as_str())
    }

    /// The name of an interface.
    pub fn interface_name(&self, index: InterfaceIndex) -> Option<&str> {
        self.interfaces.iter().find(|(i, _)| *i == index).map(|(_, name)| name.as_str())
    }

    /// The indexes of the interfaces that a condition means; `None` is any.
    pub fn interfaces_of(&self, condition: &InterfaceCondition) -> Option<RangeSet<u32>> {
        (!condition.is_any()).then(|| {
            RangeSet::from_ranges(
                self.interfaces
                    .iter()
                    .filter(|(_, name)| condition.holds(name))
                    .map(|(index, _)| (index.0, index.0)),
            )
        })
    }

    /// The same list where the programs are known to be these files.
    #[must_use]
    pub fn with_executables(mut self, executables: Executables) -> Self {
        self.programs = programs_of(&self.rules, &executables);
        self.executables = executables;
        self
    }

    /// The paths of programs as the rules write them, each once.
    pub fn programs_written(&self) -> BTreeSet<&str> {
        let conditions = self.rules().map(|rule| &rule.program);
        conditions.flat_map(|c| c.paths()).map(String::as_str).collect()
    }

    /// The file that a path leads to.
    pub fn executable<'p>(&'p self, path: &'p str) -> &'p str {
        self.executables.get(path).map_or(path, String::as_str)
    }

    /// The file of a program that a rule names; `None` for any other.
    pub fn program(&self, index: ProgramIndex) -> Option<&str> {
        let at = index.0.checked_sub(1)?;
        self.programs.get(at as usize).map(String::as_str)
    }

    /// The number of a program in this list.
    pub fn program_index(&self, path: &str) -> ProgramIndex {
        let path = self.executable(path);
        let found = self.programs.binary_search_by(|known| known.as_str().cmp(path));
        found.map_or(ProgramIndex::OTHER, |at| ProgramIndex(at as u32 + 1))
    }

    /// Whether a rule matches a program. Whoever cannot be identified never
    /// meets an allow by program, and always what keeps out by program.
    pub fn program_holds(&self, rule: &Rule, index: ProgramIndex) -> bool {
        match index {
            ProgramIndex::UNKNOWN => rule.program.is_any() || rule.action != Action::Allow,
            index => self.condition_holds(&rule.program, self.program(index)),
        }
    }

    /// Whether a condition means the program of a file; `None` is one that no
    /// rule names, or none.
    pub fn condition_holds(&self, condition: &ProgramCondition, file: Option<&str>) -> bool {
        let named = |list: &[String]| {
            file.is_some_and(|file| list.iter().any(|path| self.executable(path) == file))
        };
        (condition.files.is_empty() || named(&condition.files)) && !named(&condition.files_except)
    }

    /// The numbers of the programs that a rule matches; `None` is any.
    pub fn programs_meant(&self, rule: &Rule) -> Option<RangeSet<u32>> {
        let numbers = (0..=self.programs.len() as u32).map(ProgramIndex);
        let meant = numbers
            .chain([ProgramIndex::UNKNOWN])
            .filter(|index| self.program_holds(rule, *index))
            .map(|index| (index.0, index.0));
        (!rule.program.is_any()).then(|| RangeSet::from_ranges(meant))
    }

    /// What entries of the flow memory are made under: equal for lists that say
    /// the same of what comes in, or of what leaves and passes through.
    pub fn stamps(&self) -> Stamps {
        // Long lists are shared by many rules.
        let mut lists: HashMap<*const AddressSet, u64> = HashMap::new();
        let mut stamp = |directions: &[Direction]| {
            let mut hasher = DefaultHasher::new();
            for direction in directions {
                self.standing.of(*direction).hash(&mut hasher);
                for (_, rule) in self.indexed() {
                    if rule.is_active_in(*direction) {
                        self.hash_rule(rule, &mut lists, &mut hasher);
                    }
                }
            }
            let hash = hasher.finish();
            // 0 is no stamp.
            ((hash >> 32) as u32 ^ hash as u32).max(1)
        };
        Stamps {
            opened: stamp(&[Direction::Outbound, Direction::Transit]),
            let_in: stamp(&[Direction::Inbound]),
        }
    }

    /// What each rule says, as a number: equal for rules that decide alike
    /// ([`Rule::decides_like`]), whatever they are called, wherever they stand and
    /// whether they are paused. Interfaces and programs count as they are written.
    pub fn meanings(&self) -> Vec<u64> {
        let mut lists: HashMap<*const AddressSet, u64> = HashMap::new();
        self.rules()
            .map(|rule| {
                let mut hasher = DefaultHasher::new();
                rule.direction.hash(&mut hasher);
                hash_decisive(rule, &mut lists, &mut hasher);
                (&rule.interface, &rule.program).hash(&mut hasher);
                hasher.finish()
            })
            .collect()
    }

    /// All that decides in a rule.
    fn hash_rule(
        &self,
        rule: &Rule,
        lists: &mut HashMap<*const AddressSet, u64>,
        hasher: &mut DefaultHasher,
    ) {
        hash_decisive(rule, lists, hasher);
        self.interfaces_of(&rule.interface).hash(hasher);
        for list in [&rule.program.files, &rule.program.files_except] {
            list.iter().map(|path| self.executable(path)).collect::<Vec<_>>().hash(hasher);
        }
    }

    /// A rule by its place.
    pub fn rule(&self, index: RuleIndex) -> Option<&Rule> {
        self.rules.get(index.0 as usize).map(AsRef::as_ref)
    }

    /// The rules in order.
    pub fn rules(&self) -> impl DoubleEndedIterator<Item = &Rule> + Clone {
        self.rules.iter().map(AsRef::as_ref)
    }

    /// All rules with their places.
    pub fn indexed(&self) -> impl DoubleEndedIterator<Item = (RuleIndex, &Rule)> {
        self.rules.iter().enumerate().map(|(at, rule)| (RuleIndex(at as u32), rule.as_ref()))
    }
}
/// What decides in a rule but for its interfaces and programs. Long lists, which many
/// rules share, are looked at once.
fn hash_decisive(
    rule: &Rule,
    lists: &mut HashMap<*const AddressSet, u64>,
    hasher: &mut DefaultHasher,
) {
    (rule.action, rule.family, rule.until).hash(hasher);
    rule.limit().map(|l| (l.increment, l.tolerance, l.sharing, l.over)).hash(hasher);
    rule.traffic.keys.hash(hasher);
    for list in [&rule.source.addresses, &rule.destination.addresses] {
        list.as_ref()
            .map(|set| {
                *lists.entry(Arc::as_ptr(set)).or_insert_with(|| {
                    let mut hasher = DefaultHasher::new();
                    set.hash(&mut hasher);
                    hasher.finish()
                })
            })
            .hash(hasher);
    }
}
