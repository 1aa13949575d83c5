//! Who asked for what, and the shortest list of rules that would let them in.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use super::draft::name_of;
use super::log::Entry;
use super::proposal::Proposal;
use crate::names::traffic::Term;
use crate::orders::Action;
use crate::packet::Direction;

/// From so many networks it is the world that asks.
const MOST_NETWORKS: usize = 32;

/// What was asked for, by whom.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Request {
    /// Which way.
    pub direction: Direction,
    /// To which port, or which message: `tcp/22`, `icmp/echo`.
    pub traffic: String,
    /// Who is at the other end: who asks, of what comes in or passes through; who is asked,
    /// of what leaves.
    pub peer: IpAddr,
    /// To whom, of what passes through.
    pub destination: Option<IpAddr>,
    /// Who listens or sends here, where one is known.
    pub program: Option<String>,
    /// The rule that turned it away; `None`: the standing answer.
    pub denied_by: Option<String>,
}

/// How often, and when.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Seen {
    times: u64,
    first: String,
    last: String,
}

impl Seen {
    fn add(&mut self, other: &Self) {
        self.times += other.times;
        if other.first < self.first {
            self.first.clone_from(&other.first);
        }
        if other.last > self.last {
            self.last.clone_from(&other.last);
        }
    }
}

/// All that was asked for.
#[derive(Clone, Debug, Default)]
pub struct Evidence {
    all: BTreeMap<Request, Seen>,
}

impl Evidence {
    /// Notes that something was asked for at a moment, so many times. What no rule can name,
    /// such as port 0, is no evidence for one.
    pub fn add(&mut self, request: Request, times: u64, (first, last): (&str, &str)) {
        if !matches!(Term::parse(&request.traffic), Some(Ok(_))) {
            return;
        }
        let seen = Seen { times, first: first.to_owned(), last: last.to_owned() };
        match self.all.get_mut(&request) {
            Some(known) => known.add(&seen),
            None => drop(self.all.insert(request, seen)),
        }
    }

    /// Notes a decision of the log, where it tells who asked, and for what.
    pub fn add_entry(&mut self, entry: &Entry<'_>) {
        let (source, destination) = (entry.source_address(), entry.destination_address());
        let (peer, destination) = match entry.direction {
            Direction::Inbound => (source, None),
            Direction::Outbound => (destination, None),
            Direction::Transit => (source, destination),
        };
        let Some(peer) = peer else { return };
        let denied_by = entry.rule.as_deref().filter(|_| entry.verdict != Action::Allow);
        let request = Request {
            direction: entry.direction,
            traffic: entry.traffic.to_string(),
            peer,
            destination,
            program: entry.program.as_deref().map(str::to_owned),
            denied_by: denied_by.map(str::to_owned),
        };
        self.add(request, 1, (&entry.time, &entry.time));
    }

    /// With what another part has.
    pub fn merge(&mut self, other: Self) {
        for (request, seen) in other.all {
            self.add(request, seen.times, (&seen.first, &seen.last));
        }
    }

    /// Whether nobody asked for anything.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Keeps what is meant.
    pub fn retain(&mut self, mut is_meant: impl FnMut(&Request) -> bool) {
        self.all.retain(|request, _| is_meant(request));
    }

    /// The rules that let in all of it, the most wanted first: neighbours are taken together as
    /// their network, and what the same ones ask for is one rule.
    pub fn proposals(&self) -> Vec<Proposal> {
        named(self.wanted()).into_iter().map(|(proposal, _)| proposal).collect()
    }

    /// A rule for each network, where they are not too many: who decides about one need not
    /// decide so about another one.
    pub fn proposals_by_network(&self) -> Vec<Proposal> {
        self.by_network().into_iter().map(|(proposal, _)| proposal).collect()
    }

    /// The same, with all that asked.
    pub(super) fn by_network(&self) -> Vec<(Proposal, BTreeSet<IpAddr>)> {
        let mut many: BTreeMap<What, BTreeSet<IpAddr>> = BTreeMap::new();
        for request in self.all.keys() {
            many.entry(What::of(request)).or_default().insert(network(request.peer));
        }
        let mut wanted = BTreeMap::new();
        for (request, seen) in &self.all {
            let mut what = What::of(request);
            let split = many.get(&what).is_some_and(|networks| networks.len() <= MOST_NETWORKS);
            what.network = split.then(|| network(request.peer));
            Who::add(&mut wanted, what, &Who::of(request, seen));
        }
        named(wanted)
    }

    fn wanted(&self) -> BTreeMap<What, Who> {
        let mut wanted = BTreeMap::new();
        for (request, seen) in &self.all {
            Who::add(&mut wanted, What::of(request), &Who::of(request, seen));
        }
        wanted
    }
}

/// The rules, each with a name of its own and all that asked: the most wanted first.
fn named(wanted: BTreeMap<What, Who>) -> Vec<(Proposal, BTreeSet<IpAddr>)> {
    let all = join(
        wanted,
        |what| std::mem::take(&mut what.destinations),
        |what, joined| what.destinations = joined,
    );
    let all =
        join(all, |what| std::mem::take(&mut what.traffic), |what, joined| what.traffic = joined);
    let mut names = BTreeSet::new();
    let mut proposals = Vec::new();
    for (what, who) in all {
        let mut proposal = proposal(what, &who);
        let plain = proposal.name.clone();
        let mut n = 1;
        while !names.insert(proposal.name.clone()) {
            n += 1;
            proposal.name = format!("{plain}-{n}");
        }
        proposals.push((proposal, who.peers));
    }
    proposals
        .sort_by(|(a, _), (b, _)| b.times.cmp(&a.times).then_with(|| a.traffic.cmp(&b.traffic)));
    proposals
}

impl What {
    fn of(request: &Request) -> Self {
        Self {
            direction: request.direction,
            network: None,
            traffic: BTreeSet::from([request.traffic.clone()]),
            destinations: request.destination.into_iter().collect(),
            program: request.program.clone(),
            denied_by: request.denied_by.clone(),
        }
    }
}

/// What a rule would let in.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct What {
    direction: Direction,
    /// Where each network is by itself.
    network: Option<IpAddr>,
    denied_by: Option<String>,
    program: Option<String>,
    traffic: BTreeSet<String>,
    destinations: BTreeSet<IpAddr>,
}

/// Whom it would let in.
#[derive(Clone, Debug)]
struct Who {
    peers: BTreeSet<IpAddr>,
    seen: Seen,
}

impl Who {
    fn of(request: &Request, seen: &Seen) -> Self {
        Self { peers: BTreeSet::from([request.peer]), seen: seen.clone() }
    }

    fn add(all: &mut BTreeMap<What, Self>, what: What, who: &Self) {
        match all.get_mut(&what) {
            Some(known) => {
                known.peers.extend(&who.peers);
                known.seen.add(&who.seen);
            }
            None => drop(all.insert(what, who.clone())),
        }
    }
}

/// Takes together what is the same for the same networks but for one thing.
fn join<T: Ord + Clone>(
    all: BTreeMap<What, Who>,
    take: impl Fn(&mut What) -> BTreeSet<T>,
    put: impl Fn(&mut What, BTreeSet<T>),
) -> BTreeMap<What, Who> {
    let mut joined: BTreeMap<(What, Vec<String>), (BTreeSet<T>, Who)> = BTreeMap::new();
    for (mut what, who) in all {
        let taken = take(&mut what);
        match joined.get_mut(&(what.clone(), networks(&who.peers))) {
            Some((known, by)) => {
                known.extend(taken);
                by.peers.extend(&who.peers);
                by.seen.add(&who.seen);
            }
            None => drop(joined.insert((what, networks(&who.peers)), (taken, who))),
        }
    }
    let mut all = BTreeMap::new();
    for ((mut what, _), (taken, who)) in joined {
        put(&mut what, taken);
        Who::add(&mut all, what, &who);
    }
    all
}

/// One address by itself, neighbours as their network; nothing where they are too many.
fn networks(peers: &BTreeSet<IpAddr>) -> Vec<String> {
    let mut by_network: BTreeMap<IpAddr, Vec<IpAddr>> = BTreeMap::new();
    for peer in peers {
        by_network.entry(network(*peer)).or_default().push(*peer);
    }
    if by_network.len() > MOST_NETWORKS {
        return Vec::new();
    }
    let all = by_network.into_iter().map(|(network, peers)| match peers.as_slice() {
        [alone] => alone.to_string(),
        _ => format!("{network}/{}", if network.is_ipv4() { 24 } else { 64 }),
    });
    all.collect()
}

/// The usual network of a host: 24 bits, or 64.
fn network(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V4(four) => Ipv4Addr::from_bits(four.to_bits() & !0xff).into(),
        IpAddr::V6(six) => Ipv6Addr::from_bits(six.to_bits() >> 64 << 64).into(),
    }
}

fn proposal(what: What, who: &Who) -> Proposal {
    let traffic: Vec<String> = what.traffic.into_iter().collect();
    let programs = what.program.iter();
    let programs: Vec<String> =
        programs.map(|path| path.rsplit('/').next().unwrap_or(path).to_owned()).collect();
    let first = traffic.first().map(String::as_str).unwrap_or_default();
    Proposal {
        name: name_of(first, &programs),
        direction: what.direction,
        peers: networks(&who.peers),
        destinations: what.destinations.iter().map(ToString::to_string).collect(),
        // What is not a path – a file that is gone – no rule can name.
        program: what.program.filter(|path| path.starts_with('/')),
        before: what.denied_by,
        times: who.seen.times,
        addresses: who.peers.len(),
        first: who.seen.first.clone(),
        last: who.seen.last.clone(),
        traffic,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::brief::Brief;
    use crate::decision::decide;
    use crate::moment::Moment;
    use crate::orders::read;
    use crate::packet::{IpPacket, Packet, PacketContext, Payload, TcpFlags};

    const NIGHT: (&str, &str) = ("2026-11-28T22:10:00.000000Z", "2026-11-29T03:40:00.000000Z");

    fn request(traffic: &str, peer: &str) -> Request {
        Request {
            direction: Direction::Inbound,
            traffic: traffic.into(),
            peer: peer.parse().unwrap(),
            destination: None,
            program: None,
            denied_by: None,
        }
    }

    #[test]
    fn neighbours_are_a_network_and_the_same_ones_one_rule() {
        let mut evidence = Evidence::default();
        for (traffic, peer) in [
            ("tcp/7410", "203.0.113.9"),
            ("tcp/7410", "203.0.113.11"),
            ("tcp/7411", "203.0.113.9"),
            ("tcp/7411", "203.0.113.11"),
            ("tcp/22", "192.0.2.66"),
        ] {
            evidence.add(request(traffic, peer), 3, NIGHT);
        }
        let out = Request {
            direction: Direction::Outbound,
            program: Some("/usr/sbin/plated".into()),
            denied_by: Some("no-way-out".into()),
            ..request("udp/123", "2001:db8:77::1")
        };
        evidence.add(out, 1, (NIGHT.0, NIGHT.0));
        let all = evidence.proposals();
        let told: Vec<String> = all.iter().map(|p| p.arguments().join(" ")).collect();
        assert_eq!(
            told,
            [
                "allow tcp/7410 tcp/7411 --source 203.0.113.0/24",
                "allow tcp/22 --source 192.0.2.66",
                "allow udp/123 --direction outbound --destination 2001:db8:77::1 --program \
                 /usr/sbin/plated --before no-way-out",
            ]
        );
        assert_eq!(
            all[0].evidence(),
            "asked for 12 times by 2 addresses, 2026-11-28 22:10 to 2026-11-29 03:40 UTC"
        );
        assert_eq!(all[2].evidence(), "asked for once, 2026-11-28 22:10 UTC");
        // Each network by itself.
        let (net, other) = ("192.0.2.66", "allow tcp/22 --source 192.0.2.66");
        evidence.add(request("tcp/7410", net), 1, NIGHT);
        let told = |all: Vec<Proposal>| -> Vec<String> {
            all.iter().map(|p| p.arguments().join(" ")).collect()
        };
        let split = told(evidence.proposals_by_network());
        assert!(split.contains(&"allow tcp/7410 tcp/7411 --source 203.0.113.0/24".into()));
        assert!(split.contains(&"allow tcp/22 tcp/7410 --source 192.0.2.66".into()), "{split:?}");
        assert!(told(evidence.proposals()).contains(&other.into()));
        // The same in parts.
        let (mut one, two) = (evidence.clone(), evidence.clone());
        one.merge(two);
        assert_eq!(one.proposals_by_network()[0].times, 24);
    }

    #[test]
    fn from_everywhere_it_is_the_world() {
        let mut evidence = Evidence::default();
        for n in 0..40 {
            evidence.add(request("tcp/443", &format!("198.18.{n}.1")), 1, NIGHT);
        }
        let all = evidence.proposals();
        assert_eq!(all[0].arguments().join(" "), "allow tcp/443");
        assert_eq!((all[0].addresses, all.len()), (40, 1));
    }

    proptest! {
        /// The rules read, have names of their own, and let in everybody who asked.
        #[test]
        fn whoever_asked_is_let_in(
            asked in prop::collection::vec((0u16..5, 0u8..3, 0u8..40, any::<bool>(), any::<bool>()), 1..60),
        ) {
            let mut evidence = Evidence::default();
            let mut packets = Vec::new();
            for (port, net, host, six, passes) in asked {
                let peer = match six {
                    true => format!("2001:db8:{net}::{host:x}"),
                    false => format!("203.0.{net}.{host}"),
                };
                let inside = if six { "2001:db8:51::20" } else { "198.51.100.20" };
                let destination: IpAddr = inside.parse().unwrap();
                let direction = if passes { Direction::Transit } else { Direction::Inbound };
                let wanted = Request {
                    direction,
                    destination: passes.then_some(destination),
                    ..request(&format!("tcp/{port}"), &peer)
                };
                let source = wanted.peer;
                evidence.add(wanted, 1, NIGHT);
                packets.push((direction, source, destination, port));
            }
            let rules: String = evidence.proposals().iter().map(Proposal::rule).collect();
            let standing = "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"deny\"\ntransit = \"deny\"\n";
            let text = format!("{standing}{rules}");
            let orders = read(&text).map_err(|e| TestCaseError::fail(format!("{e}\n{text}")))?;
            let brief = Brief::unplaced(&orders);
            for (direction, source, destination, port) in packets {
                // No rule can name port 0, and nothing listens there.
                if port == 0 {
                    continue;
                }
                let flags = TcpFlags(TcpFlags::SYN);
                let payload = Payload::Tcp { from: 40_000, to: port, flags };
                let packet = IpPacket { source, destination, first_of: None, quotes: None, payload };
                let facts = PacketContext {
                    interface: crate::packet::InterfaceIndex(2),
                    direction,
                    program: Default::default(),
                    is_reply: false,
                    now: Moment(0),
                    packet: Packet::Ip(packet),
                };
                prop_assert_eq!(decide(&brief, &facts).verdict, Action::Allow, "{}", text);
            }
        }
    }
}
