//! Findings that can be mended without changing what the orders mean.

use std::collections::BTreeSet;

use super::{Around, Code, Finding, review};
use crate::brief::{Brief, Executables, Setting};
use crate::compare::Comparison;
use crate::interface::Interface;
use crate::moment::Moment;
use crate::orders::edit::{Edit, Edited, Which, edit};
use crate::orders::{Orders, Sheets, read_all};

/// The kinds whose rule can be taken out.
const SAFE: [Code; 3] = [Code::Duplicate, Code::Redundant, Code::Expired];

/// A finding, and the text without its rule.
#[derive(Clone, Debug)]
pub struct Fix {
    /// What was found.
    pub finding: Finding,
    /// The text of the file that changes.
    pub edited: Edited,
}

/// The first safe finding on `brief`, mended: without its rule nothing gets
/// another answer, on no host of the orders and in no posture. `None`: there
/// is none, or the orders have a fault.
pub fn fix(sheets: Sheets<'_>, brief: &Brief, now: Moment) -> Option<Fix> {
    let before = read_all(sheets).ok()?;
    let found = review(brief, &Around { now, ..Around::default() });
    let safe = |finding: &Finding| SAFE.contains(&finding.code);
    found.findings.into_iter().filter(safe).find_map(|finding| {
        let rule = Which::Name(finding.rule.clone()?);
        let edited = edit(sheets, &Edit::Remove(rule)).ok()?;
        let (text, attachments) = sheets.with(edited.part.as_deref(), &edited.text);
        let after = read_all(Sheets { text: &text, attachments: &attachments }).ok()?;
        same_everywhere(&before, &after, &brief.executables, now).then_some(Fix { finding, edited })
    })
}

/// Whether two orders mean the same on every host and in every posture.
fn same_everywhere(
    before: &Orders,
    after: &Orders,
    executables: &Executables,
    now: Moment,
) -> bool {
    let interfaces = interfaces_named(before);
    let meaning = |orders: &Orders, host: Option<&str>, posture: Option<&str>| {
        let setting = Setting {
            host: orders.hosts.iter().find(|h| Some(h.name.as_str()) == host),
            posture: orders.postures.iter().find(|p| Some(p.name.as_str()) == posture),
            interfaces: &interfaces,
            executables: Some(executables),
        };
        let mut brief = Brief::on(orders, &setting);
        brief.expire(now);
        brief
    };
    let hosts = std::iter::once(None).chain(before.hosts.iter().map(|h| Some(h.name.as_str())));
    let postures =
        || std::iter::once(None).chain(before.postures.iter().map(|p| Some(p.name.as_str())));
    hosts.flat_map(|host| postures().map(move |posture| (host, posture))).all(|(host, posture)| {
        let (old, new) = (meaning(before, host, posture), meaning(after, host, posture));
        let comparison = Comparison::of(&old, &new);
        comparison.is_empty() && !comparison.cut_off
    })
}

/// One interface of each name that rules know, so that what holds there is
/// compared too, and one that none knows.
fn interfaces_named(orders: &Orders) -> Vec<Interface> {
    let written =
        orders.rules().flat_map(|r| r.interface.written.iter().chain(&r.interface.except));
    let names: BTreeSet<String> = written.map(|name| name.replace('*', "0")).collect();
    names
        .into_iter()
        .chain(["-".to_owned()])
        .zip(2..)
        .map(|(name, index)| Interface::named(index, name))
        .collect()
}
