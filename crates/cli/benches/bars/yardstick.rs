//! How fast this machine is, and how bars are judged by it.

use std::hint::black_box;
use std::time::Duration;

use crate::steps::{STEPS_SET_ON, rate, steps_in_memory};

/// What is measured against what was asked for. Bars of time and of work in a second are
/// those of the machine that they were set on: they are judged scaled by the yardstick.
pub fn line(what: &str, measured: String, bar: &str) {
    let judged = match (number(&measured), bar.split_once(' ')) {
        (Some(found), Some(("≤", most))) => number(most).map(|most| found <= most),
        // A rate of this processor would be as many times higher where the bars were set; a
        // rate of the tests' traffic is asked for here.
        (Some(found), Some(("≥", least))) => {
            let here = if least.ends_with("million/s") { slower() } else { 1.0 };
            number(least).map(|least| found * here >= least)
        }
        _ => None,
    };
    let judged = judged.map_or("", |holds| if holds { "holds" } else { "BEYOND" });
    println!("{what:<62} {measured:>16}  {bar:<14} {judged}");
}

/// A figure with its unit, times and rates as they would be where the bars were
/// set, if it was measured here: `1.3s`, `≤ 0.5 s` is read without its sign.
pub fn number(text: &str) -> Option<f64> {
    let text = text.trim();
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let value: f64 = text[..end].parse().ok()?;
    // A bar has a gap before its unit, what was measured has none.
    let here = if text[end..].starts_with(' ') { 1.0 } else { slower() };
    Some(match text[end..].trim() {
        "s" => value / here,
        "ms" => value * 1e-3 / here,
        "µs" => value * 1e-6 / here,
        "ns" => value * 1e-9 / here,
        // Ratios and bytes are the same everywhere; rates are scaled where they are judged.
        _ => value,
    })
}

/// The yardstick where the bars were set. It was not taken there: it is worked out
/// from ten figures whose code has not changed since, which took 1.3 to 2.8 times,
/// in the middle 1.8 times, as long on a machine whose yardstick was 8.2 and 6.65.
pub const SET_ON: (f64, f64) = (STEPS_SET_ON, 12.0);

/// Fixed work: steps from place to place in 16 MiB, and the cheapest system call,
/// half a second each; in millions a second.
pub fn yardstick() -> (f64, f64) {
    static MEASURED: std::sync::OnceLock<(f64, f64)> = std::sync::OnceLock::new();
    *MEASURED.get_or_init(|| {
        let calls = || (0..10_000).for_each(|_| _ = black_box(nix::unistd::getppid()));
        (steps_in_memory(), rate(calls))
    })
}

/// How many times as long things take here as where the bars were set.
pub fn slower() -> f64 {
    let (memory, calls) = yardstick();
    (SET_ON.0 / memory * SET_ON.1 / calls).sqrt()
}

pub fn median(mut all: Vec<Duration>) -> Duration {
    all.sort_unstable();
    all[all.len() / 2]
}
