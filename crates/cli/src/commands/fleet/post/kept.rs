//! What is known of the last roll-out, written down at every step: where it stopped, and
//! what `--resume` goes on with.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_core::analysis::fleet::{Phase, RollOut};
use tipstaff_core::orders::OrdersHash;
use tipstaff_host::files::{self, Access, MOST_TEXT};

use super::super::Fleet;
use super::plan::Planned;
use crate::acts::last_check;
use crate::arguments::Common;
use crate::failure::Failure;
use crate::shape::{self, Shape, Tagged, shape};

/// A roll-out, as far as it came.
#[derive(JsonSchema, Serialize, Deserialize)]
pub struct Kept {
    /// The orders.
    orders: OrdersHash,
    hosts: Vec<KeptHost>,
}

shape!(Kept => "kept-roll-out");

#[derive(JsonSchema, Serialize, Deserialize)]
struct KeptHost {
    host: String,
    #[serde(flatten)]
    phase: Phase,
}

fn place(common: &Common) -> Option<PathBuf> {
    Some(last_check::folder(common)?.join("fleet-post.json"))
}

impl Kept {
    /// How a roll-out stands.
    pub fn of(orders: OrdersHash, planned: &[Planned<'_>], rollout: &RollOut) -> Self {
        let hosts = planned.iter().zip(rollout.phases()).map(|(planned, phase)| KeptHost {
            host: planned.host.name.clone(),
            phase: phase.clone(),
        });
        Self { orders, hosts: hosts.collect() }
    }

    /// Writes it down.
    pub fn write(&self, common: &Common) -> std::io::Result<()> {
        let path = place(common)
            .ok_or_else(|| std::io::Error::other("this account has no home directory"))?;
        files::make_folder(files::folder(&path), 0o700)?;
        let text = serde_json::to_vec(&Tagged::new(self)).map_err(std::io::Error::other)?;
        files::replace(&path, &text, Access::Mode(0o600))
    }

    /// Reads what the last roll-out has written down.
    pub fn read(common: &Common) -> Result<Self, Failure> {
        let path = place(common).filter(|path| path.exists()).ok_or_else(|| Failure::Argument {
            message: "there is no roll-out to go on with".into(),
            help: "Begin one: tipstaff fleet post.".into(),
        })?;
        fn wrong(path: &Path, source: std::io::Error) -> Failure {
            Failure::Unreadable { path: path.to_owned(), source }
        }
        let text = files::text(&path, MOST_TEXT).map_err(|e| wrong(&path, e))?;
        shape::check(&text, Self::NAME).map_err(|e| wrong(&path, std::io::Error::other(e)))?;
        serde_json::from_str(&text).map_err(|e| wrong(&path, e.into()))
    }

    /// The hosts that do not have the orders, for which these must be the same.
    pub fn open_hosts(&self, fleet: &Fleet) -> Result<Vec<String>, Failure> {
        let now = fleet.origin.hash();
        if now != self.orders {
            return Err(Failure::Argument {
                message: format!(
                    "the last roll-out was of orders {}, and these are {}",
                    self.orders.short(),
                    now.short()
                ),
                help: "Begin a new one: tipstaff fleet post.".into(),
            });
        }
        let open = self.hosts.iter().filter(|host| !host.phase.has_them());
        let open: Vec<String> = open.map(|host| host.host.clone()).collect();
        match open.is_empty() {
            false => Ok(open),
            true => Err(Failure::Argument {
                message: "all hosts of the last roll-out have its orders".into(),
                help: "See them with `tipstaff fleet state`.".into(),
            }),
        }
    }
}
