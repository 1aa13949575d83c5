//! Connections that the orders would not let in again.

use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::Decision;
use tipstaff_core::host::connection::Connection;
use tipstaff_host::{SocketKey, connections};

use crate::chosen;
use crate::failure::{Failure, system};

/// A connection that would not be let in again.
pub struct Stranded {
    pub connection: Connection,
    pub said: Decision,
    key: SocketKey,
}

impl Stranded {
    /// `203.0.113.9:50022 → 198.51.100.20:22 (shelld), by rule 2 (no-shell)`.
    pub fn describe(&self, brief: &Brief) -> String {
        let Connection { local, remote, owner, .. } = &self.connection;
        let program = owner.programs.first().map_or("an unknown program", |p| p.name.as_str());
        let by = speaker_words(brief, self.said.speaker);
        let (from, to) = match self.connection.direction {
            tipstaff_core::packet::Direction::Outbound => (local, remote),
            _ => (remote, local),
        };
        format!("{from} → {to} ({program}), by {by}")
    }
}

/// The connections of this moment that a list would not let in again.
pub fn stranded(brief: &Brief) -> Result<Vec<Stranded>, Failure> {
    let now = chosen::now();
    let all = connections::list().map_err(system("reading the connections"))?;
    Ok(all
        .into_iter()
        .filter_map(|(connection, key)| {
            let said = connection.shut_out_by(brief, now)?;
            Some(Stranded { connection, said, key })
        })
        .collect())
}

/// Ends them; how many there still were.
pub fn end(all: &[Stranded]) -> Result<usize, Failure> {
    let mut ended = 0;
    for stranded in all {
        ended += usize::from(stranded.key.destroy().map_err(system("ending a connection"))?);
    }
    Ok(ended)
}
