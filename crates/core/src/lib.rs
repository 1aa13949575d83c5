//! Every computation of Tipstaff, without a file, a socket or a terminal.
//!
//! **The way of a rule.** [`orders::read()`] turns the text of `orders.toml` into
//! [`orders::Orders`] (names resolved, every fault told at once);
//! [`brief::Brief`] is the one ordered list that this host obeys;
//! [`tables::Tables`] is that list as one flat blob of bytes, which the user-space
//! executor and the kernel's program read alike.
//!
//! **The way of a packet.** [`packet`] turns bytes into [`packet::PacketContext`];
//! [`decision`] says what happens to it, slowly: it is the definition of truth.
//! [`tables::Tables::decide`] says the same fast.
//!
//! **Questions about orders** are in [`analysis`]: what a change means, what is
//! suspicious, who may come in, and what should be reachable against what is.
//!
//! [`names`] has the words of orders (traffic, addresses, services), [`host`] what a
//! machine has.
//!
//! # In ten lines
//!
//! ```
//! use tipstaff_core::analysis::compare::Comparison;
//! use tipstaff_core::analysis::reach::{Subject, first_packet};
//! use tipstaff_core::analysis::review::{ReviewContext, review};
//! use tipstaff_core::brief::Brief;
//! use tipstaff_core::decision::{Speaker, decide};
//! use tipstaff_core::names::traffic::Transport;
//! use tipstaff_core::orders::{Action, Code, read};
//! use tipstaff_core::packet::InterfaceIndex;
//!
//! let text = r#"
//! version = 1
//! [standing]
//! inbound = "deny"
//! outbound = "allow"
//! transit = "deny"
//! [[rules]]
//! name = "plates"
//! action = "allow"
//! traffic = "tcp/7410"
//! source = "203.0.113.0/24"
//! "#;
//! // Read: every name resolved, or all faults at once.
//! let brief = Brief::unplaced(&read(text)?);
//!
//! // Ask: what happens to a first packet, and who says so?
//! let plates = Subject::Port(Transport::Tcp, 7410);
//! let from = |source: &str| {
//!     let (source, target) = (source.parse().unwrap(), "198.51.100.20".parse().unwrap());
//!     decide(&brief, &first_packet(plates, source, target, InterfaceIndex(2)))
//! };
//! assert_eq!(from("203.0.113.9").verdict, Action::Allow);
//! assert!(matches!(from("192.0.2.66").speaker, Speaker::Standing(_)));
//!
//! // Compare: what would a change mean, in traffic?
//! let closed = Brief::unplaced(&read(&text.replace("\"allow\"\ntraffic", "\"deny\"\ntraffic"))?);
//! let change = &Comparison::between(&brief, &closed).changes[0];
//! assert_eq!(change.traffic(), ["tcp/7410"]);
//!
//! // Review: what is sound, and probably not meant?
//! let around = ReviewContext { now: "2026-11-28T12:00:00Z".parse()?, ..ReviewContext::default() };
//! assert!(review(&brief, &around).findings.iter().any(|f| f.code == Code::OneFamily));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
#![forbid(unsafe_code)]

pub mod analysis;
#[cfg(feature = "arbitrary")]
pub mod arbitrary;
pub mod brief;
pub mod bytes;
pub mod decision;
pub mod host;
pub mod moment;
pub mod names;
pub mod orders;
pub mod packet;
pub mod tables;
pub mod visible;
