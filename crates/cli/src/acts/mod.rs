//! What several commands do, in a file each.

pub mod beginning;
pub mod boot_trouble;
pub mod capture;
pub mod comparison;
pub mod confirming;
pub mod decisions;
pub mod editing;
pub mod editor;
pub mod fleet;
pub mod last_check;
pub mod named;
pub mod posture;
pub mod rehearsing;
pub mod reported;
pub mod requests;
pub mod seen;
pub mod shell;
pub mod sources;
pub mod stranded;
pub mod trouble;
pub mod units;
pub mod when;
