//! What can be done from a line: the answer of `ask`, and the edit of `rule add`, by this
//! very program.

use std::process::{Command, Stdio};

use tipstaff_core::analysis::evidence::Evidence;
use tipstaff_core::packet::Direction;

use crate::acts::decisions::Line;
use crate::arguments::Common;

/// Why it was decided so: what `ask` says of the same packet now, by the gate.
pub fn why(common: &Common, line: &Line) -> String {
    let entry = line.entry();
    let mut words = vec!["ask".to_owned(), line.traffic.clone(), "--in-force".into()];
    words.extend(["--direction".into(), line.direction.to_string()]);
    if let Some(source) = entry.source_address() {
        words.extend(["--source".into(), source.to_string()]);
    }
    if let Some(destination) = entry.destination_address() {
        words.extend(["--destination".into(), destination.to_string()]);
    }
    if line.interface != "any" {
        words.extend(["--interface".into(), line.interface.clone()]);
    }
    if let (Direction::Outbound, Some(program)) = (line.direction, &line.program) {
        words.extend(["--program".into(), program.clone()]);
    }
    run(common, &words)
}

/// The command that would let the like of it in: from this source, to this port. `None`:
/// no rule can.
pub fn rule_for(line: &Line) -> Option<Vec<String>> {
    if line.speaker_is_a_foundation() {
        return None;
    }
    let mut asked = Evidence::default();
    asked.add_entry(&line.entry());
    let rule = asked.proposals().pop()?;
    Some(["rule".to_owned(), "add".into()].into_iter().chain(rule.arguments()).collect())
}

/// Runs this program, and gives what it says.
pub fn run(common: &Common, words: &[String]) -> String {
    let done = std::env::current_exe().and_then(|program| {
        let mut command = Command::new(program);
        command.args(words).arg("--run-dir").arg(&common.run_dir);
        command.arg("--history").arg(&common.history);
        if let Some(orders) = &common.orders {
            command.arg("--orders").arg(orders);
        }
        if let Some(host) = &common.host {
            command.arg("--host").arg(host);
        }
        command.env("NO_COLOR", "1").stdin(Stdio::null()).output()
    });
    match done {
        Ok(output) => {
            let text = [output.stdout, output.stderr].concat();
            String::from_utf8_lossy(&text).trim().to_owned()
        }
        Err(e) => format!("that cannot be run: {e}"),
    }
}

#[cfg(test)]
mod tests {
    use tipstaff_core::brief::RuleIndex;
    use tipstaff_core::decision::Speaker;
    use tipstaff_core::decision::foundations::Foundation;

    use super::*;
    use crate::acts::decisions::example;

    #[test]
    fn a_rule_lets_in_what_was_kept_out() {
        let mut line = Line {
            traffic: "tcp/7411".into(),
            source: "[2001:db8:66::66]:4242".into(),
            destination: "[2001:db8:51::20]:7411".into(),
            by: "rule 2 (no)".into(),
            rule: Some("no".into()),
            position: Some(2),
            speaker: Speaker::Rule(RuleIndex(1)),
            ..example()
        };
        let told = |line: &Line| rule_for(line).map(|words| words.join(" "));
        let words = "rule add allow tcp/7411 --source 2001:db8:66::66 --before no";
        assert_eq!(told(&line).unwrap(), words);
        (line.direction, line.rule) = (Direction::Outbound, None);
        let words = "rule add allow tcp/7411 --direction outbound --destination 2001:db8:51::20";
        assert_eq!(told(&line).unwrap(), words);
        line.speaker = Speaker::Foundation(Foundation::Martian);
        assert_eq!(told(&line), None);
    }
}
