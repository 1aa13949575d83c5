//! Every computation of Tipstaff, without a file, a socket or a terminal.
//!
//! **The way of a rule.** [`orders::read()`] turns the text of `orders.toml` into
//! [`orders::Orders`] (names resolved, every fault told at once);
//! [`brief::Brief`] is the one ordered list that this host obeys;
//! [`tables::Tables`] is that list as one flat blob of bytes, which the user-space
//! executor and the kernel's program read alike.
//!
//! **The way of a packet.** [`packet`] turns bytes into [`packet::Facts`];
//! [`decision`] says what happens to it, slowly: it is the definition of truth.
//! [`tables::Tables::decide`] says the same fast.
//!
//! **Questions about orders** are in [`analysis`]: what a change means, what is
//! suspicious, who may come in, and what should be reachable against what is.
//!
//! [`names`] has the words of orders (traffic, addresses, services), [`host`] what a
//! machine has.
#![forbid(unsafe_code)]

pub mod analysis;
#[cfg(feature = "arbitrary")]
pub mod arbitrary;
pub mod brief;
pub mod decision;
pub mod host;
pub mod moment;
pub mod names;
pub mod orders;
pub mod packet;
pub mod tables;
pub mod visible;
