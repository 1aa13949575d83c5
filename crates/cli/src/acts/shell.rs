//! The shell that a command is typed in.

use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::brief::Brief;
use tipstaff_core::host::connection::Connection;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::Direction;
use tipstaff_host::{connections, shell};

use crate::chosen;
use crate::failure::{Failure, system};

/// What orders would say to the shell that this is typed in, where they would
/// not let it in again, and the help. Whether it comes in by a named namespace,
/// the connections there say.
pub fn shut_out(brief: &Brief) -> Result<Option<(String, String)>, Failure> {
    let (told, ancestors) = (shell::find(), shell::ancestors());
    let open = connections::list().map_err(system("reading the connections"))?;
    // Either the environment tells, or an ancestor of this process holds the connection.
    let is_own = |connection: &Connection| {
        let tells = told.is_some_and(|shell| {
            connection.remote.ip() == shell.from && connection.local.port() == shell.port
        });
        let inbound = connection.direction == Direction::Inbound;
        inbound
            && (tells
                || connection.owner.programs.iter().any(|program| ancestors.contains(&program.pid)))
    };
    let shut_out = open.iter().map(|(connection, _)| connection).find_map(|connection| {
        let said = connection.shut_out_by(brief, chosen::now()).filter(|_| is_own(connection))?;
        Some((connection, said))
    });
    let Some((own, said)) = shut_out else { return Ok(None) };
    let by = speaker_words(brief, said.speaker);
    let how = if said.verdict == Action::Refuse { "refused" } else { "denied" };
    let (from, port) = (own.remote.ip(), own.local.port());
    let message =
        format!("your own shell, tcp/{port} from {from}, could not connect again: {how} by {by}");
    let help =
        format!("Add a rule for it: tipstaff rule add allow tcp/{port} --source {from} --first");
    Ok(Some((message, help)))
}
