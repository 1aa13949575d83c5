//! Many machines: which hosts are meant, in which waves they get new orders, and what a
//! roll-out does next. No machine is asked here.

mod matrix;
mod rollout;
mod select;
mod sums;
mod waves;

pub use matrix::{Matrix, Pair, explain, matrix};
pub use rollout::{Next, Phase, Progress, RollOut};
pub use select::{UnknownSelector, select};
pub use sums::{Counts, HostCounts, Seen, SeenByAll, Sum, add_up, top};
pub use waves::{Waves, WavesFault};
