//! Findings that can be fixed without changing what the orders mean.

use std::collections::{BTreeMap, BTreeSet};

use super::{Code, Finding, ReviewContext, review};
use crate::analysis::compare::Comparison;
use crate::brief::{Brief, Executables, Setting};
use crate::host::interface::Interface;
use crate::moment::Moment;
use crate::orders::edit::{NewText, without_rules};
use crate::orders::{Documents, Orders, read_all};

/// The kinds whose rule can be taken out.
const SAFE: [Code; 3] = [Code::Duplicate, Code::Redundant, Code::Expired];

/// Findings, and the text of a file without their rules.
#[derive(Clone, Debug)]
pub struct Fix {
    /// What was found, in the order of the rules.
    pub findings: Vec<Finding>,
    /// The text of the file that changes.
    pub edited: NewText,
}

/// The safe findings on `brief` in one of the files, fixed together: without
/// their rules nothing gets another answer, on no host of the orders and in no
/// posture. `None`: there are none, or the orders have a fault.
pub fn fix(sheets: Documents<'_>, brief: &Brief, now: Moment) -> Option<Fix> {
    let before = read_all(sheets).ok()?;
    let found = review(brief, &ReviewContext { now, ..ReviewContext::default() }).findings;
    let mut of_files: BTreeMap<Option<String>, Vec<Finding>> = BTreeMap::new();
    for finding in found
        .into_iter()
        .filter(|finding| SAFE.contains(&finding.code) && finding.position.is_some())
    {
        of_files.entry(finding.file.clone()).or_default().push(finding);
    }
    of_files.into_iter().find_map(|(file, findings)| {
        let places = findings.iter().filter_map(|finding| finding.position?.checked_sub(1));
        let places: Vec<usize> = places.collect();
        let changes = Changes { sheets, file: file.as_deref(), before: &before, brief, now };
        let mut out = BTreeSet::new();
        changes.widen(&mut out, &places);
        let edited = changes.without(&out)?;
        let findings: Vec<Finding> = findings
            .into_iter()
            .filter(|finding| finding.position.is_some_and(|p| out.contains(&(p - 1))))
            .collect();
        (!findings.is_empty()).then_some(Fix { findings, edited })
    })
}

/// What it would mean to take rules out of a file.
struct Changes<'s> {
    sheets: Documents<'s>,
    file: Option<&'s str>,
    before: &'s Orders,
    brief: &'s Brief,
    now: Moment,
}

impl Changes<'_> {
    /// Adds those of `places` to `out` without which everything stays as it is:
    /// all at once where that holds, else each half by itself.
    fn widen(&self, out: &mut BTreeSet<usize>, places: &[usize]) {
        let all: BTreeSet<usize> = out.iter().chain(places).copied().collect();
        if places.is_empty() || self.is_safe(&all) {
            *out = all;
        } else if let (1.., (first, second)) = (places.len() / 2, places.split_at(places.len() / 2))
        {
            self.widen(out, first);
            self.widen(out, second);
        }
    }

    fn without(&self, rules: &BTreeSet<usize>) -> Option<NewText> {
        without_rules(self.sheets, self.file, rules).ok()
    }

    fn is_safe(&self, rules: &BTreeSet<usize>) -> bool {
        let Some(edited) = self.without(rules) else { return false };
        let (text, attachments) = self.sheets.with(self.file, &edited.text);
        let after = read_all(Documents { text: &text, attachments: &attachments });
        after.is_ok_and(|after| {
            same_everywhere(self.before, &after, &self.brief.executables, self.now)
        })
    }
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
        let comparison = Comparison::between(&old, &new);
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
