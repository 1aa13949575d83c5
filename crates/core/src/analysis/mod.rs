//! Questions about orders: what changes, what is suspicious, who may come in, what
//! should be reachable, and what orders for a machine could be.

pub mod access_lists;
pub mod compare;
mod connections;
pub mod draft;
pub mod evidence;
pub mod exposure;
pub mod fleet;
pub mod learned;
pub mod log;
pub mod proposal;
pub mod questions;
pub mod reach;
pub mod remarks;
pub mod replay;
pub mod review;
