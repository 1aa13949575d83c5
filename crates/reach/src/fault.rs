//! Why a check could not be made.

use std::io;
use std::net::IpAddr;

use tipstaff_gate::GateError;
use tipstaff_knock::witness::WitnessFault;

/// Why a check could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CheckFault {
    /// The gate could not be asked.
    #[error(transparent)]
    Gate(#[from] GateError),
    /// A source could not be played.
    #[error(transparent)]
    Witness(#[from] WitnessFault),
    /// A destination is this host.
    #[error("{0} is an address of this host itself")]
    OwnAddress(IpAddr),
    /// Anything else of the system.
    #[error("{doing}: {source}")]
    System {
        /// What was tried.
        doing: &'static str,
        /// What the system said.
        source: io::Error,
    },
}

/// Turns an I/O error into a fault with a context.
pub(crate) fn system(doing: &'static str) -> impl FnOnce(io::Error) -> CheckFault {
    move |source| CheckFault::System { doing, source }
}
