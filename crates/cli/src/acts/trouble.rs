//! What does not work at the moment, for what runs without an end.

use crate::failure::Failure;
use crate::terminal::Terminal;

/// What does not work. It is tried again at each look: who is away at the first trouble
/// keeps nothing.
#[derive(Default)]
pub struct Trouble {
    told: Option<String>,
}

impl Trouble {
    /// Says what is new.
    pub fn tell(&mut self, done: Result<(), Failure>, terminal: &Terminal) {
        let what = done.err().map(|failure| failure.to_string());
        if what != self.told {
            match &what {
                Some(what) => terminal.warning(&format!("{what}; trying again")),
                None => terminal.warning("that works again"),
            }
        }
        self.told = what;
    }
}
