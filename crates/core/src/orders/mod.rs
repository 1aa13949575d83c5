//! The policy file as typed data. [`read()`] turns text into [`Orders`] or into
//! every fault of the text at once; nothing half read comes out.

mod action;
mod at_most;
mod attachments;
mod blocks;
mod change;
mod codes;
mod document;
pub mod edit;
mod edit_names;
mod edit_postures;
pub mod edit_tables;
pub mod exchange;
mod fault;
mod hash;
mod hosts;
mod keys;
mod lists;
mod log;
mod meant;
mod model;
mod origin;
mod read;
mod read_conditions;
mod read_hosts;
mod read_names;
mod read_rules;
mod read_values;
mod reference;
mod resolve;
mod schema;
mod sheets;
mod values;

pub use action::{Action, Standing};
pub use at_most::{AtMost, AtMostFault, Limit, Over, Period, Sharing};
pub use attachments::{Attachments, Documents, Part, feed_named, includes_named, lists_named};
pub use codes::{Code, Severity};
pub use fault::{Fault, Faults, Place};
pub use hash::{NoHash, OrdersHash};
pub use hosts::{
    Boot, Group, Host, HostSetting, Inactive, NO_POSTURE, OnFailure, OwnStanding, Posture,
    Recognition, SEALED, Selector, recognise,
};
pub use lists::{Lists, areas_of_feed};
pub use log::{Log, LogLevel};
pub use model::{
    Accepted, AddressCondition, FoundationSwitches, InterfaceCondition, Memory, NameKind, Named,
    Orders, ProgramCondition, Rule, RuleName, TrafficCondition, built_in_terms,
};
pub use origin::Origin;
pub use read::{read, read_all};
pub use reference::reference;
pub use schema::{part_schema, schema};
