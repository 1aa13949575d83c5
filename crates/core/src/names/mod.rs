//! The names that orders are written in: traffic expressions, the service
//! catalogue, address ranges and groups of them.

pub mod address;
pub(crate) mod boundaries;
pub mod range_set;
pub mod services;
pub mod spelling;
pub mod traffic;
