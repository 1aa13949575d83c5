//! What sources took of rates, read back.

use std::net::{IpAddr, Ipv6Addr};
use std::os::fd::BorrowedFd;

use tipstaff_bpf::sys;
use tipstaff_core::bytes::ReadAt;
use tipstaff_core::decision::rates::SourceState;
use tipstaff_core::orders::{Limit, Sharing};

use crate::contract::GateError;
use crate::kernel::error::{bpf, system};

/// Everybody who is not level with a rate.
///
/// # Errors
/// [`GateError`].
pub(crate) fn sources(rates: BorrowedFd<'_>, limit: &Limit) -> Result<Vec<SourceState>, GateError> {
    use nix::time::{ClockId, clock_gettime};
    fn reading() -> impl FnOnce(std::io::Error) -> GateError {
        bpf("to read the rates")
    }
    let now = clock_gettime(ClockId::CLOCK_MONOTONIC)
        .map_err(|e| system("reading the clock")(e.into()))?;
    let now = now.tv_sec() as u64 * 1_000_000_000 + now.tv_nsec() as u64;
    let mut states = Vec::new();
    let mut theoretical_arrival = [0; 8];
    for key in sys::map_keys(rates).map_err(reading())? {
        let Some((rule, source)) = bucket(&key).filter(|(rule, _)| *rule == limit.id) else {
            continue;
        };
        // It may have made room for another one meanwhile.
        if sys::map_lookup(rates, &key, &mut theoretical_arrival).map_err(reading())? {
            let theoretical_arrival = u64::from_ne_bytes(theoretical_arrival);
            let source = source.filter(|_| limit.sharing == Sharing::PerSource);
            states.extend(SourceState::from_theoretical_arrival(
                limit,
                source,
                theoretical_arrival,
                now,
            ));
        }
        debug_assert_eq!(rule, limit.id);
    }
    states.sort_unstable();
    Ok(states)
}

/// The rule and the source of a key.
fn bucket(key: &[u8]) -> Option<(u64, Option<IpAddr>)> {
    Some((key.u64_ne(0)?, Some(Ipv6Addr::from(key.array_at::<16>(8)?).to_canonical())))
}
