//! What happens to a packet: [`decide()`] is the definition of truth. It asks the
//! [`foundations`] first, then what is remembered ([`flows`]), then the first rule that
//! matches and its rate ([`rates`]), then the standing answer.

mod decide;
pub mod flows;
pub mod foundations;
pub mod rates;
mod recorded;
pub mod shares;
mod verdict;

pub(crate) use decide::decide_with;
pub use decide::{Mismatch, RuleQuery, decide, decide_within, first_mismatch};
pub use recorded::{Recorded, UNRECORDED};
pub use verdict::{Decision, Speaker};
