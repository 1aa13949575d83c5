//! The packets that a traffic text means.

use std::net::IpAddr;

use tipstaff_core::names::services;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, Term, TrafficKey};

use crate::chosen::LoadedPolicy;
use crate::failure::Failure;

/// One packet of a traffic text.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum AskedPacket {
    Key(TrafficKey),
    /// An echo request, which has another key in each family.
    Echo,
}

impl AskedPacket {
    /// Its key, spoken with `other`.
    pub fn key(self, other: Option<IpAddr>) -> TrafficKey {
        match self {
            Self::Key(key) => key,
            Self::Echo if other.is_none_or(|address| address.is_ipv4()) => {
                TrafficKey::new(ICMP, 0x0800)
            }
            Self::Echo => TrafficKey::new(ICMPV6, 0x8000),
        }
    }
}

/// So many packets are asked about at once.
const MOST_PACKETS: usize = 4_096;

/// All packets that a traffic text means.
pub fn keys_of_text(judge: &LoadedPolicy, text: &str) -> Result<Vec<AskedPacket>, Failure> {
    fn wrong(message: String) -> Failure {
        let help = "Ask about packets: tcp/22, udp/7420-7423, icmp/echo, protocol/47, or a \
                    service such as ssh.";
        Failure::Argument { message, help: help.into() }
    }
    let terms = match judge.orders.terms(text) {
        Some(Ok(terms)) => terms,
        Some(Err(fault)) => return Err(wrong(format!("invalid traffic `{text}`: {fault}"))),
        None => {
            let fault = wrong(format!("unknown service `{text}`"));
            return Err(match (services::meant(text), fault) {
                (Some(help), Failure::Argument { message, .. }) => {
                    Failure::Argument { message, help: help.to_owned() }
                }
                (_, fault) => fault,
            });
        }
    };
    let mut packets = Vec::new();
    for term in terms {
        match term {
            Term::Ports(transport, first, last)
                if usize::from(last - first) + packets.len() < MOST_PACKETS =>
            {
                packets.extend((first..=last).map(|port| AskedPacket::Key(transport.key(port))));
            }
            Term::Echo => packets.push(AskedPacket::Echo),
            Term::Protocol(number) => {
                packets.push(AskedPacket::Key(TrafficKey::new(number, 0)));
            }
            Term::Any | Term::Icmp | Term::Ports(..) => {
                return Err(wrong(format!(
                    "`{text}` is more than {MOST_PACKETS} kinds of packets; ask about fewer"
                )));
            }
        }
    }
    packets.dedup();
    Ok(packets)
}
