//! The half of the yardstick that is work in memory; std alone, as `benches/build-time`
//! compiles it by itself.

use std::hint::black_box;
use std::time::{Duration, Instant};

/// So many million steps a second where the bars were set; see `SET_ON`.
pub const STEPS_SET_ON: f64 = 14.8;

/// Half a second of `work`, of which each turn is 10,000 steps; in millions a second.
pub fn rate(mut work: impl FnMut()) -> f64 {
    let (begin, mut turns) = (Instant::now(), 0u32);
    while begin.elapsed() < Duration::from_millis(500) {
        work();
        turns += 1;
    }
    f64::from(turns) * 1e4 / begin.elapsed().as_secs_f64() / 1e6
}

/// Steps from place to place in 16 MiB, in millions a second.
pub fn steps_in_memory() -> f64 {
    let places = 4usize << 20;
    // A full period (Hull and Dobell): every place comes once before any comes again.
    let next: Vec<u32> =
        (0..places).map(|at| ((at * 1_664_525 + 1_013_904_223) % places) as u32).collect();
    let mut at = 0u32;
    rate(|| (0..10_000).for_each(|_| at = black_box(next[at as usize])))
}
