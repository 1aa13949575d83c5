//! Every computation of Tipstaff, without a file, a socket or a terminal.
//!
//! **The way of a rule.** [`orders::read()`] turns the text of `orders.toml` into
//! [`orders::Orders`] (names resolved, every fault told at once);
//! [`brief::Brief`] is the one ordered list that this host obeys;
//! [`tables::Tables`] is that list as one flat blob of bytes, which the user-space
//! executor and the kernel's program read alike.
//!
//! **The way of a packet.** [`packet`] turns bytes into [`packet::Facts`];
//! [`foundations`] speak first, then replies ([`flows`]), then the first rule
//! that holds, then the standing answer: [`decide::decide`] says so slowly and is
//! the definition of truth, [`tables::Tables::decide`] says the same fast.
//!
//! [`exposure`] says whom orders let in to a port, [`reach`] compares what was
//! meant with what was observed.
#![forbid(unsafe_code)]

#[cfg(feature = "arbitrary")]
pub mod arbitrary;
pub mod brief;
pub mod compare;
pub mod connection;
pub mod decide;
pub mod draft;
pub mod exposure;
pub mod flows;
pub mod foundations;
pub mod interface;
pub mod listener;
pub mod moment;
pub mod names;
pub mod orders;
pub mod packet;
pub mod programs;
pub mod rates;
pub mod reach;
pub mod review;
pub mod shares;
pub mod tables;
pub mod visible;
