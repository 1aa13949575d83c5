//! What is sound, and probably not meant.

use schemars::JsonSchema;
use serde::Serialize;

use crate::brief::Brief;
use crate::host::programs::ProgramNote;
use crate::moment::Moment;
use crate::orders::{Inactive, Rule};

/// A remark about a rule.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Remark {
    /// Its name.
    pub rule: String,
    /// What is odd, one sentence without a full stop.
    pub message: String,
}

/// Remarks about one rule at a moment; with a list also about the host that
/// obeys it.
pub fn remarks_of(rule: &Rule, brief: Option<&Brief>, now: Moment) -> Vec<Remark> {
    let mut messages = Vec::new();
    if let Some(until) = rule.until.filter(|until| *until <= now) {
        messages.push(format!("it expired at {until} and no longer matches"));
    }
    let nowhere =
        |brief: &&Brief| brief.interfaces_of(&rule.interface).is_some_and(|meant| meant.is_empty());
    let is_active = matches!(rule.inactive, None | Some(Inactive::Expired));
    if is_active && brief.as_ref().is_some_and(nowhere) {
        let on = rule.interface.describe();
        messages.push(format!("no interface is named {on}: it matches nothing until one is"));
    }
    messages.into_iter().map(|message| Remark { rule: rule.name.to_string(), message }).collect()
}

/// Remarks about all rules that are meant for this host.
pub fn remarks(brief: &Brief, now: Moment) -> Vec<Remark> {
    rules_here(brief).flat_map(|r| remarks_of(r, Some(brief), now)).collect()
}

/// The rules that are meant for this host, whether they are active now or not.
fn rules_here(brief: &Brief) -> impl Iterator<Item = &Rule> {
    brief.rules().filter(|r| !matches!(r.inactive, Some(Inactive::OtherHost | Inactive::Paused)))
}

/// Whether any rule that is meant for this host names the program of a note.
pub fn is_named_here(brief: &Brief, note: &ProgramNote) -> bool {
    rules_here(brief).any(|rule| rule.program.names(&note.path))
}

/// The notes as remarks about the rules that name these programs here.
pub fn program_remarks(brief: &Brief, notes: &[ProgramNote]) -> Vec<Remark> {
    let remarks = rules_here(brief).flat_map(|rule| {
        notes
            .iter()
            .filter(|note| rule.program.names(&note.path))
            .map(|note| Remark { rule: rule.name.to_string(), message: note.to_string() })
    });
    remarks.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::orders::read;

    #[test]
    fn an_end_in_the_past_and_an_interface_that_is_not_there_are_told() {
        let text = "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
                    [[rules]]\nname = \"old\"\naction = \"allow\"\ntraffic = \"ssh\"\nuntil = 2026-01-01T00:00:00Z\n\
                    [[rules]]\nname = \"elsewhere\"\naction = \"allow\"\ntraffic = \"ssh\"\ninterface = \"tun*\"\n";
        let brief = Brief::unplaced(&read(text).unwrap());
        let told = |now: &str| {
            let remarks = remarks(&brief, now.parse().unwrap());
            remarks.into_iter().map(|r| format!("{}: {}", r.rule, r.message)).collect::<Vec<_>>()
        };
        let elsewhere = "elsewhere: no interface is named tun*: it matches nothing until one is";
        assert_eq!(told("2025-12-31T23:59:59Z"), [elsewhere]);
        let old = "old: it expired at 2026-01-01T00:00:00Z and no longer matches";
        assert_eq!(told("2026-01-01T00:00:00Z"), [old, elsewhere]);
    }
}
