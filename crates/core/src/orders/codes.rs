//! Kinds of findings, which rules name where they accept one, and how much each
//! matters.

use schemars::JsonSchema;
use serde::Serialize;

/// How much it matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Good to know.
    Note,
    /// Probably not meant.
    Warning,
    /// The orders do not do what they say.
    Error,
}

/// What kind of finding it is; its name is its stable code.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Code {
    /// Earlier rules take everything that it is about.
    NeverMatches,
    /// No packet on this machine can meet its conditions.
    NotHere,
    /// The same as an earlier rule.
    Duplicate,
    /// Nothing would change without it.
    Redundant,
    /// A rule before it matches everything.
    AfterCatchAll,
    /// A rule before it says the opposite of a part of it.
    PartlyContradicted,
    /// Its time is over.
    Expired,
    /// Lets anybody in to a service that is often attacked.
    TooWide,
    /// A remote shell for everyone without a rate.
    ShellWithoutRate,
    /// Lets a network in to everything.
    AllPorts,
    /// Addresses of one family only.
    OneFamily,
    /// Allows what nobody listens to.
    NothingListens,
    /// Only a reach check finds it: what it lets in to does not answer.
    NotReached,
    /// A port one slip away from one that somebody listens on.
    MistypedPort,
    /// Somebody listens, and nobody may come.
    ListenerDenied,
    /// Nothing has matched it for a long time.
    NotMatchedLately,
    /// A foundation is switched off.
    FoundationOff,
    /// Lets out what leaves by itself: the answers to what is let in.
    OutboundHalf,
    /// The remote shell of who asks would not be let in again.
    CutsYouOff,
    /// A program that is not where the rule says, or that cannot be told there.
    ProgramNotFound,
    /// A name that nothing uses.
    UnusedName,
    /// Nobody says why it is there.
    NoNote,
}

impl Code {
    /// All.
    pub const ALL: [Self; 22] = [
        Self::NeverMatches,
        Self::NotHere,
        Self::Duplicate,
        Self::Redundant,
        Self::AfterCatchAll,
        Self::PartlyContradicted,
        Self::Expired,
        Self::TooWide,
        Self::ShellWithoutRate,
        Self::AllPorts,
        Self::OneFamily,
        Self::NothingListens,
        Self::NotReached,
        Self::MistypedPort,
        Self::ListenerDenied,
        Self::NotMatchedLately,
        Self::FoundationOff,
        Self::OutboundHalf,
        Self::CutsYouOff,
        Self::ProgramNotFound,
        Self::UnusedName,
        Self::NoNote,
    ];

    /// As orders and reports write it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::NeverMatches => "never-matches",
            Self::NotHere => "not-here",
            Self::Duplicate => "duplicate",
            Self::Redundant => "redundant",
            Self::AfterCatchAll => "after-catch-all",
            Self::PartlyContradicted => "partly-contradicted",
            Self::Expired => "expired",
            Self::TooWide => "too-wide",
            Self::ShellWithoutRate => "shell-without-rate",
            Self::AllPorts => "all-ports",
            Self::OneFamily => "one-family",
            Self::NothingListens => "nothing-listens",
            Self::NotReached => "not-reached",
            Self::MistypedPort => "mistyped-port",
            Self::ListenerDenied => "listener-denied",
            Self::NotMatchedLately => "not-matched-lately",
            Self::FoundationOff => "foundation-off",
            Self::OutboundHalf => "outbound-half",
            Self::CutsYouOff => "cuts-you-off",
            Self::ProgramNotFound => "program-not-found",
            Self::UnusedName => "unused-name",
            Self::NoNote => "no-note",
        }
    }

    /// How much it matters.
    pub const fn severity(self) -> Severity {
        match self {
            Self::NeverMatches | Self::AfterCatchAll | Self::Duplicate | Self::CutsYouOff => {
                Severity::Error
            }
            Self::Redundant
            | Self::TooWide
            | Self::ShellWithoutRate
            | Self::AllPorts
            | Self::MistypedPort
            | Self::ProgramNotFound
            | Self::FoundationOff => Severity::Warning,
            Self::NotHere
            | Self::Expired
            | Self::OneFamily
            | Self::NothingListens
            | Self::NotReached
            | Self::ListenerDenied
            | Self::NotMatchedLately
            | Self::PartlyContradicted
            | Self::OutboundHalf
            | Self::UnusedName
            | Self::NoNote => Severity::Note,
        }
    }

    /// Why it matters, a sentence.
    pub const fn why(self) -> &'static str {
        match self {
            Self::NeverMatches => "This rule never matches, so it misleads readers.",
            Self::NotHere => "It waits for an interface that may never appear.",
            Self::Duplicate => "Sooner or later only one of two identical rules gets edited.",
            Self::Redundant => "Rules that change nothing hide those that do.",
            Self::AfterCatchAll => "Rules after a catch-all are never consulted.",
            Self::PartlyContradicted => {
                "Readers cannot see which of the two was meant for that \
                                         part."
            }
            Self::Expired => "Expired rules are only in the way.",
            Self::TooWide => "Services like this are probed and attacked all the time.",
            Self::ShellWithoutRate => "Passwords can be guessed as fast as the network allows.",
            Self::AllPorts => "Anything started there later is open to all of them.",
            Self::OneFamily => {
                "The rule covers only one address family; the same clients over the other are \
                 not matched."
            }
            Self::NothingListens => "Any program that later binds this port will be reachable.",
            Self::NotReached => "Clients that are let in find nothing there.",
            Self::MistypedPort => "The intended port stays closed, and another one is open.",
            Self::ListenerDenied => "Either the program should not listen, or a rule is missing.",
            Self::NotMatchedLately => "What nobody needs any more is only a way in.",
            Self::FoundationOff => "Without it this host may lose its address.",
            Self::OutboundHalf => "It also allows new connections in the other direction.",
            Self::CutsYouOff => "Once they are in force, you cannot log in again to fix them.",
            Self::ProgramNotFound => "The rule may match no program, or a different one.",
            Self::UnusedName => "An unused name can be mistaken for a rule in effect.",
            Self::NoNote => "In a year nobody will know whether it can be removed.",
        }
    }
}
