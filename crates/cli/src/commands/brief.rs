//! `brief`: the list of one host, each rule with the selector that brought it;
//! or what two hosts obey otherwise.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::brief::{Brief, RuleIndex, brought_by};
use tipstaff_core::orders::{Action, Host, Orders, Rule, Selector, Standing};

use crate::arguments::{BriefOptions, Common};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, action, counted, faint, plain};
use tipstaff_core::orders::Origin;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    host: &'r str,
    standing: Standing,
    rules: Vec<Row<'r>>,
}

#[derive(JsonSchema, Serialize)]
struct Row<'r> {
    position: usize,
    name: &'r str,
    action: Action,
    traffic: &'r [String],
    source: &'r [String],
    brought_by: Selector,
    group: Option<&'r str>,
    #[serde(skip)]
    rule: &'r Rule,
}

#[derive(JsonSchema, Serialize)]
pub struct Difference<'r> {
    orders: &'r Origin,
    only: [Side<'r>; 2],
}

#[derive(JsonSchema, Serialize)]
struct Side<'r> {
    host: &'r str,
    standing: Standing,
    rules: Vec<Row<'r>>,
}

shape!(Report<'_> => "brief", Difference<'_> => "brief-difference");

pub fn run(
    common: &Common,
    options: &BriefOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let (orders, origin) = chosen::orders_of_file(common.orders_path())?;
    let told = options.name.as_deref().or(common.host.as_deref());
    let host = find(&orders, told)?;
    let posture = chosen::which_posture(&orders, common.posture.as_deref())?;
    let posture = posture.as_deref();
    let Some(other) = &options.diff else {
        let report = Report {
            orders: &origin,
            host: &host.name,
            standing: standing(&orders, host, posture),
            rules: rows(&orders, host, posture),
        };
        if terminal.json {
            terminal.json(&report);
        } else {
            let rules = counted(report.rules.len(), "rule", "rules");
            terminal.heading(&format!("{}: {rules}", host.name));
            terminal.note(&orders_words(&origin));
            print(&report.rules, report.standing, terminal);
        }
        return Ok(Ending::Fine);
    };
    let other = find(&orders, Some(other))?;
    let (ours, theirs) = (rows(&orders, host, posture), rows(&orders, other, posture));
    fn lacks(list: &[Row<'_>], row: &Row<'_>) -> bool {
        !list.iter().any(|r| r.position == row.position)
    }
    let theirs_only = |row: &Row<'_>| lacks(&ours, row);
    let theirs_only: Vec<Row<'_>> =
        rows(&orders, other, posture).into_iter().filter(theirs_only).collect();
    let ours_only =
        rows(&orders, host, posture).into_iter().filter(|row| lacks(&theirs, row)).collect();
    let only = [
        Side { host: &host.name, standing: standing(&orders, host, posture), rules: ours_only },
        Side { host: &other.name, standing: standing(&orders, other, posture), rules: theirs_only },
    ];
    if terminal.json {
        terminal.json(&Difference { orders: &origin, only });
        return Ok(Ending::Fine);
    }
    for Side { host, standing, rules } in &only {
        let count = counted(rules.len(), "rule", "rules");
        terminal.heading(&format!("{count} only on {host}"));
        print(rules, *standing, terminal);
    }
    Ok(Ending::Fine)
}

fn find<'o>(orders: &'o Orders, told: Option<&str>) -> Result<&'o Host, Failure> {
    let name = chosen::which_host(orders, told)?;
    orders.hosts.iter().find(|h| Some(&h.name) == name.as_ref()).ok_or_else(|| Failure::Argument {
        message: "these orders define no hosts".into(),
        help: "They are for one machine: see `tipstaff rules`, or define [[hosts]].".into(),
    })
}

fn standing(orders: &Orders, host: &Host, posture: Option<&str>) -> Standing {
    brief(orders, host, posture).standing
}

fn brief(orders: &Orders, host: &Host, posture: Option<&str>) -> Brief {
    let mut brief = Brief::on(orders, &chosen::setting(orders, Some(&host.name), posture));
    brief.expire(chosen::now());
    brief
}

/// The rules that are active on a host.
fn rows<'o>(orders: &'o Orders, host: &Host, posture: Option<&str>) -> Vec<Row<'o>> {
    let brief = brief(orders, host, posture);
    let speaking = orders.rules.iter().enumerate().zip(&brief.rules).filter(|(_, b)| b.is_active());
    speaking
        .filter_map(|((at, rule), _)| {
            Some(Row {
                position: RuleIndex(at as u32).position(),
                name: rule.name.as_str(),
                action: rule.action,
                traffic: &rule.traffic.written,
                source: &rule.source.written,
                brought_by: brought_by(orders, rule, host)?,
                group: rule.group.as_deref(),
                rule,
            })
        })
        .collect()
}

fn print(rows: &[Row<'_>], standing: Standing, terminal: &Terminal) {
    let mut table = Columns::new(["", "name", "action", "traffic", "source", "assigned by"]);
    for row in rows {
        let by = match row.group {
            Some(group) => format!("{} (group {group})", row.brought_by),
            None => row.brought_by.to_string(),
        };
        table.row([
            plain(row.position),
            plain(row.name),
            action(row.action, row.action),
            plain(row.rule.traffic.describe()),
            plain(row.rule.condition_words()),
            faint(by),
        ]);
    }
    for (direction, said) in [
        ("inbound", standing.inbound),
        ("outbound", standing.outbound),
        ("transit", standing.transit),
    ] {
        let name = plain(format!("standing {direction}"));
        let left = faint("everything else");
        table.row([faint("–"), name, action(said, said), left, plain(""), plain("")]);
    }
    terminal.table(&table);
}
