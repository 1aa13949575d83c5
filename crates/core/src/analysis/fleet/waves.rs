//! The waves of a roll-out: few hosts first, all of them in the end.

use std::fmt;
use std::ops::Range;
use std::str::FromStr;

/// How many hosts have the new orders after each wave.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Waves(Vec<Step>);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Step {
    Hosts(usize),
    Percent(u8),
}

/// Waves that cannot be.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WavesFault {
    /// Neither a number of hosts nor a percentage.
    #[error("`{0}` is neither a number of hosts nor a percentage such as 10%")]
    NotAStep(String),
    /// Fewer hosts than before.
    #[error("`{0}` is no more than the wave before")]
    NotMore(String),
}

impl FromStr for Waves {
    type Err = WavesFault;

    /// `1,10%,100%`: so many hosts, or so many of a hundred, have them after each wave.
    fn from_str(text: &str) -> Result<Self, WavesFault> {
        let mut steps: Vec<Step> = Vec::new();
        for word in text.split(',').map(str::trim) {
            let wrong = || WavesFault::NotAStep(word.to_owned());
            let step = match word.strip_suffix('%') {
                Some(number) => {
                    let percent = number.parse::<u8>().map_err(|_| wrong())?;
                    (1..=100).contains(&percent).then_some(Step::Percent(percent))
                }
                None => {
                    let hosts = word.parse::<usize>().map_err(|_| wrong())?;
                    (hosts > 0).then_some(Step::Hosts(hosts))
                }
            };
            let step = step.ok_or_else(wrong)?;
            let less = match (steps.last(), step) {
                (Some(Step::Hosts(before)), Step::Hosts(now)) => now <= *before,
                (Some(Step::Percent(before)), Step::Percent(now)) => now <= *before,
                // How these compare depends on how many hosts there are.
                _ => false,
            };
            if less {
                return Err(WavesFault::NotMore(word.to_owned()));
            }
            steps.push(step);
        }
        Ok(Self(steps))
    }
}

impl fmt::Display for Waves {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (nth, step) in self.0.iter().enumerate() {
            let comma = if nth == 0 { "" } else { "," };
            match step {
                Step::Hosts(hosts) => write!(f, "{comma}{hosts}")?,
                Step::Percent(percent) => write!(f, "{comma}{percent}%")?,
            }
        }
        Ok(())
    }
}

impl Waves {
    /// Cuts so many hosts into waves. Percentages are rounded up, waves that would be empty
    /// are left out, and what the last one leaves over is a wave of its own.
    pub fn cut(&self, hosts: usize) -> Vec<Range<usize>> {
        let mut waves = Vec::new();
        let mut begin = 0;
        for step in &self.0 {
            let until = match step {
                Step::Hosts(hosts) => *hosts,
                Step::Percent(percent) => (hosts * usize::from(*percent)).div_ceil(100),
            };
            let until = until.min(hosts);
            if until > begin {
                waves.push(begin..until);
                begin = until;
            }
        }
        if begin < hosts {
            waves.push(begin..hosts);
        }
        waves
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn cut(text: &str, hosts: usize) -> Vec<Range<usize>> {
        text.parse::<Waves>().unwrap().cut(hosts)
    }

    #[test]
    fn the_waves_of_many_and_of_few() {
        assert_eq!(cut("1,10%,100%", 30), [0..1, 1..3, 3..30]);
        assert_eq!(cut("1,10%,100%", 6), [0..1, 1..6]);
        assert_eq!(cut("1,10%,100%", 1).len(), 1);
        assert_eq!(cut("2", 5), [0..2, 2..5]);
        assert!(cut("1", 0).is_empty());
        for (wrong, says) in [
            ("", "`` is neither"),
            ("0", "`0` is neither"),
            ("101%", "`101%` is neither"),
            ("5,5", "`5` is no more"),
            ("20%,10%", "`10%` is no more"),
            ("one", "`one` is neither"),
        ] {
            let fault = wrong.parse::<Waves>().unwrap_err().to_string();
            assert!(fault.starts_with(says), "{fault}");
        }
        assert_eq!("1, 10%,100%".parse::<Waves>().unwrap().to_string(), "1,10%,100%");
    }

    proptest! {
        #[test]
        fn every_host_is_in_one_wave(steps in proptest::collection::vec(1usize..60, 1..5), hosts in 0usize..80) {
            let steps = steps.into_iter().map(|n| if n % 2 == 0 { Step::Hosts(n) } else { Step::Percent(n as u8) });
            let waves = Waves(steps.collect()).cut(hosts);
            prop_assert!(waves.iter().all(|wave| !wave.is_empty()));
            let all: Vec<usize> = waves.into_iter().flatten().collect();
            prop_assert_eq!(all, (0..hosts).collect::<Vec<_>>());
        }
    }
}
