//! The names that orders are written in: traffic expressions, the service
//! catalogue, address ranges and groups of them.

pub mod address;
pub mod services;
pub mod spans;
pub mod spelling;
pub mod traffic;
