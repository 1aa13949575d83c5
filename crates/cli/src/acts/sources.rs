//! Sources as they are named: an address, a group of the orders, a stranger.

use std::net::IpAddr;

use tipstaff_core::analysis::reach::typical;
use tipstaff_core::orders::Orders;

use crate::failure::Failure;

/// What an address is called that no rule names.
pub const STRANGER: &str = "stranger";

/// An address of each range of a group; never one of `own`, and one of `known`, who are there,
/// where one is.
pub fn members(
    orders: &Orders,
    name: &str,
    own: &[IpAddr],
    known: &[IpAddr],
) -> Result<Vec<IpAddr>, Failure> {
    let Some(set) = orders.groups.get(name) else {
        let mut names: Vec<&str> = orders.groups.keys().map(String::as_str).collect();
        names.push(STRANGER);
        return Err(Failure::Argument {
            message: format!("`{name}` is neither an address nor an address group of the orders"),
            help: format!("Give an address, or one of {}.", names.join(", ")),
        });
    };
    Ok(typical(set, own, known))
}
