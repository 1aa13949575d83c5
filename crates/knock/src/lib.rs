//! Vantages: where a reach check looks from. [`sockets`] knocks as any program
//! may, [`witness`] plays an outside source on the same machine, [`frames`]
//! builds the packets that the witness and the gate's dry run use.
#![forbid(unsafe_code)]

pub mod frames;
pub mod sockets;
pub mod witness;

use std::fmt;
use std::time::Duration;

use tipstaff_core::analysis::reach::Outcome;

/// What a knock gave, with the evidence.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reply {
    /// A TCP connection was accepted, or a SYN-ACK came.
    Accepted(Duration),
    /// A TCP connection was accepted and closed again at once.
    Closed(Duration),
    /// Data or an echo reply came.
    Data(Duration),
    /// A TCP reset came.
    Reset(Duration),
    /// An ICMP or ICMPv6 error came.
    Icmp {
        /// Type.
        kind: u8,
        /// Code.
        code: u8,
    },
    /// Nothing came, where a closed port would have refused.
    Taken,
    /// Nothing came.
    Nothing(Duration),
    /// A datagram came past the gate, and was taken away there: what its port
    /// does with it, the socket table says.
    CameIn,
    /// No answer to a datagram: it may have been taken, or dropped on its way.
    Mute,
    /// Nothing came, and whether an answer could have come is not known.
    Unproven,
    /// The knock could not be sent.
    NotSent(i32),
    /// The check ended before.
    NotAsked,
}

impl Reply {
    /// The outcome that it means.
    pub fn outcome(self) -> Outcome {
        match self {
            Self::Accepted(_) | Self::Closed(_) | Self::Data(_) | Self::Taken => Outcome::Answers,
            Self::Reset(_) | Self::Icmp { .. } => Outcome::Refuses,
            Self::Nothing(_) => Outcome::Silent,
            Self::CameIn | Self::Mute | Self::Unproven | Self::NotSent(_) | Self::NotAsked => {
                Outcome::Unknown
            }
        }
    }
}

impl fmt::Display for Reply {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fn ms(d: &Duration) -> String {
            match d.as_micros() {
                0..100 => "under 0.1".to_owned(),
                micros => format!("{:.1}", micros as f64 / 1000.0),
            }
        }
        match self {
            Self::Accepted(d) => write!(f, "accepted in {} ms", ms(d)),
            Self::Closed(d) => write!(f, "accepted in {} ms, and closed again", ms(d)),
            Self::Data(d) => write!(f, "an answer in {} ms", ms(d)),
            Self::Reset(d) => write!(f, "a reset in {} ms", ms(d)),
            Self::Icmp { kind, code } => write!(f, "ICMP type {kind} code {code}"),
            Self::Taken => f.write_str("no refusal, where a closed port refuses"),
            Self::Nothing(d) => write!(f, "nothing in {} ms", d.as_millis()),
            Self::CameIn => f.write_str("the gate let it in"),
            Self::Mute => f.write_str("nothing, so the datagram was either taken or dropped"),
            Self::Unproven => f.write_str("nothing, and no other answer got out either"),
            Self::NotAsked => f.write_str("the check ended before it was probed"),
            Self::NotSent(errno) => {
                write!(f, "not sent: {}", std::io::Error::from_raw_os_error(*errno))
            }
        }
    }
}
