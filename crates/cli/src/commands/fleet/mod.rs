//! `fleet`: the hosts of the orders, worked on together over ssh.

mod log;
mod post;
mod reach;
mod run;
mod state;
mod tally;

use std::time::Duration;

use tipstaff_core::orders::{Documents, Host, Orders, OrdersHash, Origin, read_all};

use crate::acts::fleet::message::Sheets;
use crate::acts::fleet::{Crowd, hosts_of};
use crate::arguments::{Common, FleetCommand, FleetOptions};
use crate::attachments::{self, Written};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::terminal::Terminal;

pub use log::{Decisions, Tops};
pub use post::Report as Posted;
pub use reach::Report as Reached;
pub use run::Report as Ran;
pub use state::Report as State;
pub use tally::Report as Tallied;

/// The orders that a fleet is worked on by.
struct Fleet {
    orders: Orders,
    origin: Origin,
    /// As they are sent.
    sheets: Sheets,
    crowd: Crowd,
}

impl Fleet {
    fn load(common: &Common, options: &FleetOptions) -> Result<Self, Failure> {
        let path = common.orders_path();
        let Written { text, attachments, .. } =
            attachments::read(path).map_err(Failure::unreadable(path))?;
        let documents = Documents { text: &text, attachments: &attachments };
        let hash = OrdersHash::digest(documents);
        let orders = match read_all(documents) {
            Ok(orders) => orders,
            Err(faults) => return Err(Failure::wrong(path, text, attachments, faults)),
        };
        let crowd = Crowd { parallel: options.parallel.into(), answer: options.patience };
        let origin = Origin::File { path: path.display().to_string(), hash };
        Ok(Self { orders, origin, sheets: Sheets { text, attachments }, crowd })
    }

    fn hosts(&self, selectors: &[String]) -> Result<Vec<&Host>, Failure> {
        hosts_of(&self.orders, selectors)
    }
}

/// A clock that is further away than this is told: rules that expire depend on it.
const CLOCK: i64 = 60;

/// How a host's clock stands beside ours, where that is worth a word. `off`: seconds, see
/// [`Answer::clock_off`](crate::acts::fleet::Answer).
fn clock_words(off: i64) -> Option<String> {
    let span = crate::terminal::spoken(Duration::from_secs(off.unsigned_abs()));
    match off {
        _ if off > CLOCK => Some(format!("its clock is {span} ahead")),
        _ if off < -CLOCK => Some(format!("its clock is {span} behind")),
        _ => None,
    }
}

pub fn run(
    common: &Common,
    options: &FleetOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let fleet = Fleet::load(common, options)?;
    match &options.command {
        FleetCommand::State { hosts } => state::run(&fleet, hosts, terminal),
        FleetCommand::Post(options) => post::run(common, &fleet, options, terminal),
        FleetCommand::Reach(options) => reach::run(common, &fleet, options, terminal),
        FleetCommand::Tally { hosts, by_host, all } => {
            tally::run(&fleet, hosts, *by_host, *all, terminal)
        }
        FleetCommand::Log(options) => log::run(&fleet, options, terminal),
        FleetCommand::Run { hosts, command } => run::run(&fleet, hosts, command, terminal),
    }
}
