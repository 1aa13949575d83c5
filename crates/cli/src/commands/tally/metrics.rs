//! Metrics in the text format of OpenMetrics 1.0
//! (<https://prometheus.io/docs/specs/om/open_metrics_spec/>).

use std::fmt::{self, Write};
use std::path::Path;

use tipstaff_core::analysis::reach::Report;
use tipstaff_core::decision::Speaker;
use tipstaff_core::moment::Moment;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError, InForce};
use tipstaff_host::files::{self, Access};

use super::{Known, Row};
use crate::acts::last_check;
use crate::arguments::Common;
use crate::chosen::{self, Visible};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::terminal::Terminal;

/// Prints them, or writes them to a file. That nothing is in force is one of them.
pub(super) fn write(common: &Common, file: &Path, terminal: &Terminal) -> Result<Ending, Failure> {
    let (in_force, visible) = chosen::in_force(common)?;
    if visible == Visible::OnlyToRoot {
        return Err(GateError::NotRoot.into());
    }
    let mut text = Text(String::new());
    // Writing to a string does not fail.
    let _ = match &in_force {
        None => text.gauge("tipstaff_in_force", "Whether orders are in force.", "0"),
        Some(in_force) => {
            let gate = KernelGate::new(&common.run_dir)?;
            let known = Known::new(in_force, &gate)?;
            let rows = super::rows(&known, &gate.tallies()?, &gate.counted_since()?, None);
            text.of_force(in_force, &known, &rows)
        }
    };
    if let Some(report) = report(common, in_force.as_ref()) {
        let _ = text.of_check(&report);
    }
    text.0.push_str("# EOF\n");
    if file == Path::new("-") {
        terminal.document(&text.0);
        return Ok(Ending::Fine);
    }
    files::replace(file, text.0.as_bytes(), Access::Mode(0o644))
        .map_err(|source| Failure::Unwritable { path: file.to_owned(), source })?;
    Ok(Ending::Fine)
}

/// The last reach check of this host.
fn report(common: &Common, in_force: Option<&InForce>) -> Option<Report> {
    let host = in_force.and_then(|in_force| in_force.record.host.clone());
    let own = nix::unistd::gethostname().ok().and_then(|name| name.into_string().ok());
    let places = host.into_iter().chain(own).filter_map(|host| last_check::place(common, &host));
    places.into_iter().find_map(|place| last_check::read(&place).ok())
}

struct Text(String);

impl Text {
    fn family(&mut self, name: &str, kind: &str, unit: &str, help: &str) -> fmt::Result {
        writeln!(self.0, "# TYPE {name} {kind}")?;
        if !unit.is_empty() {
            writeln!(self.0, "# UNIT {name} {unit}")?;
        }
        writeln!(self.0, "# HELP {name} {help}")
    }

    fn gauge(&mut self, name: &str, help: &str, value: &str) -> fmt::Result {
        self.family(name, "gauge", "", help)?;
        writeln!(self.0, "{name} {value}")
    }

    fn time(&mut self, name: &str, help: &str, at: i64) -> fmt::Result {
        self.family(name, "gauge", "seconds", help)?;
        writeln!(self.0, "{name} {at}")
    }

    fn of_force(&mut self, in_force: &InForce, known: &Known, rows: &[Row]) -> fmt::Result {
        let record = &in_force.record;
        self.gauge("tipstaff_in_force", "Whether orders are in force.", "1")?;
        self.family("tipstaff_orders", "info", "", "The orders in force.")?;
        let hash = label(&record.hash().to_string());
        let host = label(record.host.as_deref().unwrap_or_default());
        let posture = label(record.posture.as_deref().unwrap_or_default());
        writeln!(
            self.0,
            "tipstaff_orders_info{{hash=\"{hash}\",host=\"{host}\",posture=\"{posture}\"}} 1"
        )?;
        let help = "When the orders were put in force.";
        self.time("tipstaff_posted_timestamp_seconds", help, record.posted_at)?;
        let guarded = in_force.guarded.len().to_string();
        self.gauge("tipstaff_guarded_interfaces", "Interfaces with a gate.", &guarded)?;
        self.counter("tipstaff_packets", "", "Packets decided.", rows, |row| {
            Some(row.tally.packets)
        })?;
        self.counter("tipstaff_bytes", "bytes", "Bytes of these packets.", rows, |row| {
            Some(row.tally.bytes)
        })?;
        let help = "Packets beyond the rate of a rule.";
        let begun = "Connections and exchanges that began.";
        self.counter("tipstaff_connections", "", begun, rows, |row| Some(row.tally.connections))?;
        self.counter("tipstaff_beyond_rate_packets", "packets", help, rows, |row| {
            let rule = match row.speaker {
                Speaker::Rule(index) => known.rule(index),
                _ => None,
            };
            rule.filter(|rule| rule.has_rate).map(|_| row.beyond)
        })
    }

    fn counter(
        &mut self,
        name: &str,
        unit: &str,
        help: &str,
        rows: &[Row],
        value: impl Fn(&Row) -> Option<u64>,
    ) -> fmt::Result {
        self.family(name, "counter", unit, help)?;
        for (row, value) in rows.iter().filter_map(|row| Some((row, value(row)?))) {
            let (kind, of) = match row.speaker {
                Speaker::Rule(_) => ("rule", row.name.as_deref().unwrap_or_default()),
                Speaker::Standing(direction) => ("standing", direction.name()),
                Speaker::Foundation(foundation) => ("foundation", foundation.name()),
                _ => continue,
            };
            let of = label(of);
            writeln!(self.0, "{name}_total{{kind=\"{kind}\",name=\"{of}\"}} {value}")?;
            if let Some(Moment(since)) = row.since {
                writeln!(self.0, "{name}_created{{kind=\"{kind}\",name=\"{of}\"}} {since}")?;
            }
        }
        Ok(())
    }

    fn of_check(&mut self, report: &Report) -> fmt::Result {
        let help = "When the last reach check that was kept ended.";
        self.time("tipstaff_reach_check_timestamp_seconds", help, i64::from(report.at.0))?;
        for (name, help, value) in [
            ("differences", "Cells of it that are not as they should be.", report.differences),
            ("unknown", "Cells of it that could not be found out.", report.unknown),
        ] {
            self.gauge(&format!("tipstaff_reach_{name}"), help, &value.to_string())?;
        }
        Ok(())
    }
}

/// A label's value: a backslash before what would end it.
fn label(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

#[cfg(test)]
mod tests {
    #[test]
    fn labels_are_escaped() {
        assert_eq!(super::label("a\"b\\c\nd"), "a\\\"b\\\\c\\nd");
    }
}
