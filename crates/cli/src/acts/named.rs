//! What people name: a rule in force, traffic.

use tipstaff_core::brief::RuleIndex;
use tipstaff_core::names::range_set::RangeSet;
use tipstaff_core::names::traffic::{TrafficKey, Transport, keys_of};
use tipstaff_core::names::{services, spelling};
use tipstaff_core::orders::edit::Which;
use tipstaff_core::orders::{Orders, built_in_terms};
use tipstaff_host::{interfaces, listeners};

use crate::chosen::LoadedPolicy;
use crate::failure::Failure;

/// The rule in force of that name or position.
pub fn rule(judge: &LoadedPolicy, wanted: &str) -> Result<RuleIndex, Failure> {
    rule_among(judge.brief.rules().map(|rule| rule.name.as_str()), wanted)
}

/// The same among names in their order.
pub fn rule_among<'n>(
    names: impl Iterator<Item = &'n str>,
    wanted: &str,
) -> Result<RuleIndex, Failure> {
    let which = Which::parse(wanted);
    let mut indexed = (0..).map(RuleIndex).zip(names);
    let found = indexed.find(|(index, name)| match &which {
        Which::Name(wanted) => name == wanted,
        Which::Position(position) => index.position() == *position,
    });
    found.map(|(index, _)| index).ok_or_else(|| Failure::Argument {
        message: format!("no rule {which} is in force"),
        help: "See their names and positions with `tipstaff rules --in-force`.".into(),
    })
}

/// `key=value`, `key+=value`, `key-=value`: the key with its sign, and the value.
pub fn assignments(texts: &[String]) -> Result<Vec<(String, String)>, Failure> {
    texts.iter().map(|text| assignment(text)).collect()
}

fn assignment(text: &str) -> Result<(String, String), Failure> {
    text.split_once('=').map(|(key, value)| (key.trim().into(), value.trim().into())).ok_or_else(
        || Failure::Argument {
            message: format!("`{text}` sets nothing"),
            help: "Write key=value, such as source=observatory,203.0.113.9; key+= and key-= \
                   change a list."
                .into(),
        },
    )
}

/// How a traffic text was read, where it is written otherwise than it is printed.
pub fn read_as(text: &str) -> Option<String> {
    let items = spelling::items(text);
    (items != [text]).then(|| format!("read as {}", items.join(", ")))
}

/// That a number alone is a port of TCP, where a program takes datagrams on that port.
pub fn also_udp(text: &str) -> Option<String> {
    let numbers = text.split(',').filter_map(|item| item.trim().parse::<u16>().ok());
    let numbers: Vec<u16> = numbers.collect();
    let all = interfaces::list().ok().filter(|_| !numbers.is_empty())?;
    let found = listeners::list(&all).ok()?.listeners;
    let taken =
        |port: &&u16| found.iter().any(|l| l.transport == Transport::Udp && l.port == **port);
    let ports: Vec<String> =
        numbers.iter().filter(taken).map(|port| format!("udp/{port}")).collect();
    (!ports.is_empty())
        .then(|| format!("a number alone is TCP; {} is taken here, too", ports.join(", ")))
}

/// The keys of a traffic text; a bare number is a TCP port, as everywhere.
pub fn traffic(judge: &LoadedPolicy, text: &str) -> Result<RangeSet<TrafficKey>, Failure> {
    traffic_of(Some(&judge.orders), text)
}

/// The same; without orders, by the services that are built in.
pub fn traffic_of(orders: Option<&Orders>, text: &str) -> Result<RangeSet<TrafficKey>, Failure> {
    let wrong = |why: String| Failure::Argument {
        message: format!("invalid traffic `{text}`{why}"),
        help: services::meant(text)
            .unwrap_or("Write a port such as 22, or tcp/22, ssh, icmp/echo.")
            .into(),
    };
    let terms = match orders {
        Some(orders) => orders.terms(text),
        None => built_in_terms(text),
    };
    match terms {
        Some(Ok(terms)) => Ok(keys_of(&terms).unwrap_or_else(RangeSet::full)),
        Some(Err(fault)) => Err(wrong(format!(": {fault}"))),
        None => Err(wrong(String::new())),
    }
}
