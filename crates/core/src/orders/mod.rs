//! The policy file as typed data. [`read()`] turns text into [`Orders`] or into
//! every fault of the text at once; nothing half read comes out.

mod at_most;
mod attachments;
mod blocks;
pub mod edit;
pub mod exchange;
mod fault;
mod hosts;
mod keys;
mod lists;
mod model;
mod read;
mod read_hosts;
mod read_rules;
mod remarks;
mod resolve;

pub use at_most::{AtMost, AtMostFault, Limit, Over, Period, Sharing};
pub use attachments::{Attachments, Part, Sheets, includes_named, lists_named};
pub use fault::{Fault, Faults, Place};
pub use hosts::{
    Boot, Group, Host, NO_POSTURE, OnFailure, OwnStanding, Posture, Recognition, SEALED, Selector,
    Silence, Surroundings, recognise,
};
pub use keys::schema;
pub use lists::Lists;
pub use model::{
    Accepted, Action, AddressCondition, FoundationSwitches, InterfaceCondition, Memory, NameKind,
    Named, Orders, OrdersHash, ProgramCondition, Rule, RuleName, Standing, TrafficCondition,
};
pub use read::{read, read_all};
pub use remarks::{Remark, remarks, remarks_of};
