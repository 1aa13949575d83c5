//! One file a command.

pub mod ask;
pub mod boot;
pub mod brief;
pub mod compare;
pub mod confirm;
pub mod cut;
pub mod demo;
pub mod draft;
pub mod group;
pub mod history;
pub mod hosts;
pub mod install_boot;
pub mod keep;
pub mod log;
pub mod names;
pub mod post;
pub mod posture;
pub mod reach;
pub mod review;
pub mod rule;
pub mod rules;
pub mod state;
pub mod survey;
pub mod tally;
pub mod watch;
pub mod withdraw;
