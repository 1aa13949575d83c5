//! `areas`: the prefixes of countries and regions, from the feed that the orders name.

use std::collections::BTreeSet;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::orders::edit_tables::TableEdit;
use tipstaff_core::orders::{Documents, areas_of_feed, feed_named};

use crate::acts::editing;
use crate::arguments::{AreasCommand, AreasOptions, Common};
use crate::attachments::{self, Written};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, counted, faint, plain};

#[derive(JsonSchema, Serialize)]
pub struct Report {
    /// The file of orders.
    file: PathBuf,
    /// The feed (RFC 8805) as the orders name it; null: they name none.
    feed: Option<String>,
    /// All areas of the feed, or the one that was asked for.
    areas: Vec<Area>,
}

#[derive(JsonSchema, Serialize)]
struct Area {
    code: String,
    prefixes: Vec<String>,
    /// Whether the orders name it.
    used: bool,
}

shape!(Report => "areas");

pub fn run(
    common: &Common,
    options: &AreasOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    if let Some(AreasCommand::Feed { file }) = &options.command {
        let edit = TableEdit::Feed(file.display().to_string());
        return editing::apply(common, &edit, false, terminal);
    }
    let path = common.orders_path();
    let Written { text, attachments, .. } =
        attachments::read(path).map_err(Failure::unreadable(path))?;
    let feed = feed_named(&text);
    let Some(name) = feed.clone() else {
        return Err(Failure::Argument {
            message: format!("{} names no feed of areas", path.display()),
            help: "Name a file in the format of RFC 8805: tipstaff areas feed FILE".into(),
        });
    };
    let listed = attachments.lists.as_ref().and_then(|lists| lists.get(&name));
    let areas = match listed {
        Some(Ok(text)) => areas_of_feed(text),
        Some(Err(why)) => return Err(unreadable(&name, why)),
        None => return Err(unreadable(&name, "nobody looked")),
    };
    let used = used(Documents { text: &text, attachments: &attachments });
    let wanted = options.area.as_ref().map(|area| area.to_ascii_uppercase());
    let rows = areas.into_iter().filter(|(code, _)| wanted.as_ref().is_none_or(|w| w == code));
    let rows = rows.map(|(code, ranges)| Area {
        used: used.contains(&code),
        prefixes: ranges.iter().map(ToString::to_string).collect(),
        code,
    });
    let rows: Vec<Area> = rows.collect();
    if let (Some(wanted), true) = (&wanted, rows.is_empty()) {
        return Err(Failure::Argument {
            message: format!("the feed {name} has no area `{wanted}`"),
            help: "See them with `tipstaff areas`: a country such as NL, a region such as NL-NH."
                .into(),
        });
    }
    if terminal.json {
        terminal.json(&Report { file: path.to_owned(), feed, areas: rows });
        return Ok(Ending::Fine);
    }
    terminal.heading(&format!("{} in {name}", counted(rows.len(), "area", "areas")));
    match rows.as_slice() {
        [one] if wanted.is_some() => one.prefixes.iter().for_each(|p| terminal.line(p)),
        rows => {
            let mut table = Columns::new(["area", "prefixes", "the orders"]);
            for row in rows {
                let by = if row.used { plain("name it") } else { faint("do not name it") };
                table.row([plain(&row.code), plain(row.prefixes.len()), by]);
            }
            terminal.table(&table);
            terminal.note("Rules and address groups name one as `area:CODE`.");
        }
    }
    Ok(Ending::Fine)
}

fn unreadable(name: &str, why: &str) -> Failure {
    Failure::Argument {
        message: format!("the feed {name} cannot be read: {why}"),
        help: "Name another one with `tipstaff areas feed FILE`.".into(),
    }
}

/// The codes that the texts name.
fn used(sheets: Documents<'_>) -> BTreeSet<String> {
    let texts = sheets.parts().into_iter().map(|part| part.text.as_str()).chain([sheets.text]);
    let named = texts.flat_map(|text| text.split("\"area:").skip(1));
    let codes = named.filter_map(|rest| rest.split('"').next());
    codes.map(str::to_ascii_uppercase).collect()
}
