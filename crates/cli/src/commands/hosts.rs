//! `hosts`: the hosts of the orders, and how many rules each obeys.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::brief::rules_on_each_host;
use tipstaff_core::orders::{Host, Orders, Standing};

use crate::arguments::Common;
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
    hosts: Vec<Row<'r>>,
}

#[derive(JsonSchema, Serialize)]
struct Row<'r> {
    name: &'r str,
    tags: &'r [String],
    addresses: &'r [String],
    /// What ssh calls it, where that is not its name.
    ssh: Option<&'r str>,
    rules: usize,
    standing: Standing,
}

shape!(Report<'_> => "hosts");

pub fn run(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let (orders, origin) = chosen::orders_of_file(common.orders_path())?;
    let counts = rules_on_each_host(&orders);
    let hosts = orders.hosts.iter().zip(counts);
    let rows: Vec<Row<'_>> = hosts.map(|(host, rules)| row(&orders, host, rules)).collect();
    if terminal.json {
        terminal.json(&Report { orders: &origin, hosts: rows });
        return Ok(Ending::Fine);
    }
    terminal.heading(&counted(rows.len(), "host", "hosts"));
    terminal.note(&orders_words(&origin));
    if rows.is_empty() {
        terminal.line("These orders are for one machine; define several under [[hosts]].");
        return Ok(Ending::Fine);
    }
    let mut table = Columns::new([
        "host",
        "tags",
        "addresses",
        "ssh",
        "rules",
        "inbound",
        "outbound",
        "transit",
    ]);
    for row in &rows {
        let tags: Vec<String> = row.tags.iter().map(|tag| format!("#{tag}")).collect();
        let Standing { inbound, outbound, transit } = row.standing;
        table.row([
            plain(row.name),
            plain(tags.join(" ")),
            faint(row.addresses.join(", ")),
            faint(row.ssh.unwrap_or_default()),
            plain(row.rules),
            action(inbound, inbound),
            action(outbound, outbound),
            action(transit, transit),
        ]);
    }
    terminal.table(&table);
    Ok(Ending::Fine)
}

fn row<'o>(orders: &Orders, host: &'o Host, rules: usize) -> Row<'o> {
    let Host { name, tags, addresses, ssh, standing } = host;
    let ssh = ssh.as_deref();
    Row { name, tags, addresses, ssh, rules, standing: standing.or(orders.standing) }
}
