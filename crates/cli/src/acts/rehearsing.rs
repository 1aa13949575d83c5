//! What commands say of orders that are rehearsed.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::orders::Origin;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{GateError, Left, Rehearsal};

use crate::arguments::Common;
use crate::chosen;
use crate::failure::Failure;
use crate::terminal::{Terminal, moment, spoken};

/// Orders that are rehearsed, or were until their time was over.
#[derive(JsonSchema, Serialize)]
pub struct Rehearsed {
    orders: Origin,
    /// Whether its time is over.
    over: bool,
    /// How much longer; null: until it is ended, or its time is over.
    seconds_left: Option<u64>,
}

impl Rehearsed {
    /// What the kernel says of one.
    pub fn of(rehearsal: &Rehearsal) -> Self {
        Self {
            orders: chosen::origin_of(&rehearsal.record),
            over: rehearsal.left == Left::Over,
            seconds_left: match rehearsal.left {
                Left::For(left) => Some(left.as_secs()),
                Left::UntilEnded | Left::Over => None,
            },
        }
    }
}

/// Which orders, since when and until when.
pub fn words(Rehearsal { record, left }: &Rehearsal) -> String {
    let until = match left {
        Left::UntilEnded => "until it is ended".to_owned(),
        Left::For(left) => format!("for {} more", spoken(*left)),
        Left::Over => "its time is over".to_owned(),
    };
    let (hash, since) = (record.hash(), moment(record.posted_at));
    format!("orders {} since {since}, {until}", hash.short())
}

/// What is rehearsed on this machine; nothing for who may not look.
pub fn here(common: &Common) -> Result<Option<Rehearsal>, Failure> {
    match KernelGate::new(&common.run_dir)?.rehearsal() {
        Err(GateError::NotRoot) => Ok(None),
        rehearsal => Ok(rehearsal?),
    }
}

/// What is said beside answers that rehearsed orders have no part in.
pub fn aside(common: &Common) -> Result<Option<String>, Failure> {
    let running = here(common)?.filter(|rehearsal| rehearsal.left != Left::Over);
    Ok(running.map(|running| format!("rehearsed, and stopping nothing: {}", words(&running))))
}

/// Says that, where anything is rehearsed.
pub fn note(common: &Common, terminal: &Terminal) -> Result<(), Failure> {
    if let Some(aside) = aside(common)?.filter(|_| !terminal.json) {
        terminal.note(&aside);
    }
    Ok(())
}
