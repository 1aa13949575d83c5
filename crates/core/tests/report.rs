//! Reports of reach checks: gathered, compared, merged, written and read.

#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use proptest::prelude::*;
use tipstaff_core::analysis::reach::{
    Cell, Change, Checked, How, NotTheSame, Observed, Outcome, Report, Row, SEVERAL, Subject,
    Vantage, changes, merge,
};
use tipstaff_core::names::traffic::Transport;

fn cell(outcome: Outcome) -> Option<Cell> {
    let observed = Observed { outcome, how: How::Wire, ..Observed::unknown("") };
    Some(Cell {
        expected: Outcome::Silent,
        expected_by: "the standing answer inbound".into(),
        observed,
        why: None,
        next: None,
        accepted: None,
    })
}

fn report(vantages: &[Vantage], rows: &[(u16, &[Outcome])]) -> Report {
    let row = |(port, outcomes): &(u16, &[Outcome])| Row {
        subject: Subject::Port(Transport::Tcp, *port),
        last: None,
        at: None,
        programs: vec![],
        heard: false,
        cells: outcomes.iter().map(|outcome| cell(*outcome)).collect(),
    };
    let checked = Checked {
        host: "archive".into(),
        orders: tipstaff_core::orders::Origin::File {
            path: "orders.toml".into(),
            hash: tipstaff_core::orders::OrdersHash::digest(""),
        },
        gate: "up".into(),
        at: tipstaff_core::moment::Moment(7),
    };
    Report::new(checked, vantages.to_vec(), rows.iter().map(row).collect())
}

use Outcome::{Answers, Refuses, Silent, Unknown};

fn stranger() -> Vantage {
    Vantage::outside("192.0.2.66".parse().unwrap())
}

#[test]
fn ports_in_a_row_that_do_the_same_stand_in_one() {
    let silent: &[Outcome] = &[Silent];
    let mut rows: Vec<(u16, &[Outcome])> = (1..=20).map(|port| (port, silent)).collect();
    rows[9].1 = &[Refuses];
    rows.push((30, silent));
    let mut many = report(&[stranger()], &rows);
    let (differences, before) = (many.differences, many.clone());
    many.gather(SEVERAL);
    let words: Vec<String> = many.rows.iter().map(Row::describe).collect();
    assert_eq!(words, ["tcp/1-9", "tcp/10", "tcp/11-20", "tcp/30"]);
    many.count();
    assert_eq!((many.differences, differences), (1, 1));
    // Gathering loses nothing.
    assert!(changes(&before, &many).is_empty());
}

#[test]
fn changes_say_what_opened_and_what_closed() {
    let from = [Vantage::Here, stranger()];
    let before = report(
        &from,
        &[(22, &[Answers, Answers]), (25, &[Answers, Silent]), (9, &[Refuses, Unknown])],
    );
    let now = report(
        &from,
        &[
            (22, &[Answers, Silent]),
            (25, &[Answers, Refuses]),
            (9, &[Refuses, Answers]),
            (80, &[Answers, Silent]),
        ],
    );
    let found = changes(&before, &now);
    let ports = |list: &[Change]| -> Vec<String> {
        list.iter().map(|c| format!("{} {}", c.subject, c.vantage)).collect()
    };
    assert_eq!(ports(&found.opened), ["tcp/80 here"]);
    assert_eq!(ports(&found.closed), ["tcp/22 as 192.0.2.66"]);
    assert_eq!(ports(&found.others), ["tcp/25 as 192.0.2.66"]);
    assert!(changes(&now, &now).is_empty());
    let alone = changes(&before, &report(&[Vantage::Here], &[]));
    assert_eq!(alone.not_compared, [stranger()]);
}

#[test]
fn what_several_machines_saw_makes_one_table() {
    let desk = Vantage::Machine { name: "desk-3".into(), source: "198.51.100.23".parse().unwrap() };
    let here = report(&[Vantage::Here], &[(22, &[Answers]), (25, &[Answers])]);
    let there = report(std::slice::from_ref(&desk), &[(22, &[Silent]), (7410, &[Answers])]);
    let merged = merge(&[here.clone(), there.clone()]).unwrap();
    assert_eq!(merged.vantages, [Vantage::Here, desk]);
    let outcomes: Vec<Vec<Option<Outcome>>> = merged
        .rows
        .iter()
        .map(|row| row.cells.iter().map(|c| c.as_ref().map(|c| c.observed.outcome)).collect())
        .collect();
    assert_eq!(
        outcomes,
        [vec![Some(Answers), Some(Silent)], vec![Some(Answers), None], vec![None, Some(Answers)]]
    );
    assert_eq!(merged.differences, here.differences + there.differences);
    let other = Report { host: "mast".into(), ..here.clone() };
    assert_eq!(merge(&[here, other]), Err(NotTheSame::Host("archive".into(), "mast".into())));
    assert_eq!(merge(&[]), Err(NotTheSame::None));
}

/// All is well where nothing differs, nothing is in doubt that can be known from
/// here, the check came to its end and every rule holds.
#[test]
fn a_report_is_fine_when_nothing_differs_and_nothing_is_in_doubt() {
    let desk = Vantage::Machine { name: "desk-3".into(), source: "198.51.100.23".parse().unwrap() };
    let fine = report(&[stranger()], &[(22, &[Silent])]);
    assert!(fine.is_fine());
    assert!(!Report { complete: false, ..fine.clone() }.is_fine());
    assert!(!Report { differences: 1, ..fine }.is_fine());
    // What becomes of a datagram no other machine can tell; this one can.
    let unsure = |vantage| {
        let unknown = report(&[vantage], &[(22, &[Unknown])]);
        Report { differences: 0, ..unknown }
    };
    assert!(unsure(desk).is_fine());
    assert!(!unsure(stranger()).is_fine());
    assert!(!unsure(Vantage::Here).is_fine());
}

/// What is said of the whole is said of all reports: each note once, complete only
/// where all are, the time of the last, and that their orders differ.
#[test]
fn merged_reports_are_as_complete_and_as_late_as_all_of_them() {
    let mut here = report(&[Vantage::Here], &[(22, &[Answers])]);
    here.notes = vec!["busy".into()];
    here.gate = "unknown".into();
    here.rows[0].heard = true;
    let mut there = report(&[stranger()], &[(22, &[Silent])]);
    there.notes = vec!["busy".into(), "late".into()];
    there.gate = "down".into();
    there.at = tipstaff_core::moment::Moment(9);
    assert!(here.complete && there.complete);
    let merged = merge(&[here.clone(), there.clone()]).unwrap();
    assert_eq!(merged.notes, ["busy", "late"]);
    assert!(merged.complete && merged.rows[0].heard);
    assert_eq!((merged.gate.as_str(), merged.at), ("down", there.at));
    // One port is no range.
    assert_eq!(merged.rows.iter().map(|row| row.last).collect::<Vec<_>>(), [None]);

    there.complete = false;
    here.gate = "up".into();
    there.orders = tipstaff_core::orders::Origin::File {
        path: "orders.toml".into(),
        hash: tipstaff_core::orders::OrdersHash::digest("version = 1"),
    };
    for pair in [[here.clone(), there.clone()], [there, here]] {
        let merged = merge(&pair).unwrap();
        assert!(!merged.complete);
        assert_eq!(merged.gate, pair[0].gate);
        assert!(merged.notes.iter().any(|note| note.contains("different orders")));
    }
}

#[test]
fn a_report_is_read_as_it_was_written() {
    let written = report(&[Vantage::Here, stranger()], &[(22, &[Answers, Silent])]);
    let text = serde_json::to_string(&written).unwrap();
    assert_eq!(serde_json::from_str::<Report>(&text).unwrap(), written);
}

#[test]
fn rows_that_no_check_makes_are_found() {
    let silent: &[Outcome] = &[Silent];
    let sound = report(&[stranger()], &[(22, silent), (443, silent)]);
    assert_eq!(sound.impossible_row(), None);
    let changed = |change: fn(&mut Report)| {
        let mut report = sound.clone();
        change(&mut report);
        report.impossible_row().map(Row::describe)
    };
    assert_eq!(changed(|r| r.rows[0].last = Some(7)).as_deref(), Some("tcp/22-7"));
    assert_eq!(changed(|r| r.rows[0].last = Some(443)).as_deref(), Some("tcp/443"));
    assert_eq!(changed(|r| r.rows[1].cells.clear()).as_deref(), Some("tcp/443"));
    assert_eq!(changed(|r| r.rows[0].last = Some(442)), None);
    // Whoever counts one all the same counts no more than there are.
    let mut backwards = sound.clone();
    backwards.rows[0].last = Some(7);
    backwards.count();
    assert_eq!(backwards.differences, 0);
}

/// First and last port, the last byte of an own address, and an outcome a vantage.
type Ports = (u16, u16, Option<u8>, Vec<Option<Outcome>>);

/// Rows of ranges: the outcomes of each port of few, by vantage.
fn ranges(vantages: &[Vantage], rows: &[Ports]) -> Report {
    let mut made = report(vantages, &[]);
    for (first, last, at, outcomes) in rows {
        made.rows.push(Row {
            subject: Subject::Port(Transport::Tcp, *first),
            last: (last > first).then_some(*last),
            at: at.map(|byte| [198, 51, 100, byte].into()),
            programs: vec![],
            heard: false,
            cells: outcomes.iter().map(|o| o.and_then(cell)).collect(),
        });
    }
    made.count();
    made
}

type Seen = BTreeMap<(u16, Option<IpAddr>, String), Outcome>;

/// Port by port, address by address, vantage by vantage.
fn each(report: &Report) -> Seen {
    let mut seen = Seen::new();
    for row in &report.rows {
        let Subject::Port(_, first) = row.subject else { continue };
        for port in first..=row.last.unwrap_or(first) {
            for (cell, vantage) in row.cells.iter().zip(&report.vantages) {
                let Some(cell) = cell else { continue };
                seen.insert((port, row.at, vantage.to_string()), cell.observed.outcome);
            }
        }
    }
    seen
}

/// Rows that do not overlap, between ports 1 and 40.
fn some_rows(vantages: usize) -> impl Strategy<Value = Vec<Ports>> {
    let outcome =
        prop_oneof![Just(None), Just(Some(Answers)), Just(Some(Silent)), Just(Some(Unknown))];
    let row =
        (1u16..6, 0u16..9, prop::option::of(20u8..22), prop::collection::vec(outcome, vantages));
    prop::collection::vec(row, 0..6).prop_map(|rows| {
        let mut next = BTreeMap::from([(None, 0), (Some(20), 0), (Some(21), 0)]);
        let one = |(gap, more, at, outcomes)| {
            let before = next.get_mut(&at).unwrap();
            let first = *before + gap;
            *before = first + more;
            (first, first + more, at, outcomes)
        };
        rows.into_iter().map(one).collect()
    })
}

proptest! {
    /// Ranges are merged and compared as their ports would be, one by one.
    #[test]
    fn ranges_stand_for_their_ports(one in some_rows(2), other in some_rows(2)) {
        let desk = Vantage::Machine { name: "desk-3".into(), source: [198, 51, 100, 23].into() };
        let one = ranges(&[Vantage::Here, stranger()], &one);
        let other = ranges(&[stranger(), desk], &other);
        let merged = merge(&[one.clone(), other.clone()]).unwrap();
        prop_assert_eq!(merged.impossible_row(), None);
        // Who looked last is believed.
        let mut meant = each(&one);
        meant.extend(each(&other));
        prop_assert_eq!(each(&merged), meant);

        let common = stranger().to_string();
        let found = changes(&one, &other);
        let told = |list: &[Change]| -> usize {
            list.iter().map(|c| {
                let Subject::Port(_, first) = c.subject else { panic!() };
                usize::from(c.last.unwrap_or(first) - first) + 1
            }).sum()
        };
        let (was, is) = (each(&one), each(&other));
        let keys: BTreeSet<_> = was.keys().chain(is.keys()).filter(|key| key.2 == common).collect();
        let (mut opened, mut closed) = (0, 0);
        for key in keys {
            match (was.get(key), is.get(key)) {
                (Some(Unknown), _) | (_, Some(Unknown)) => {}
                (was, is) if was == is => {}
                (_, Some(Answers)) => opened += 1,
                (Some(Answers), _) => closed += 1,
                _ => {}
            }
        }
        prop_assert_eq!((told(&found.opened), told(&found.closed)), (opened, closed));
    }
}

/// Whole ranges at many own addresses: no port of them is looked at by itself.
#[test]
fn rows_of_whole_ranges_stay_whole() {
    let vantages = [Vantage::Here, stranger()];
    let rows = |outcome: Outcome| -> Vec<_> {
        (0..200u8).map(|at| (1, u16::MAX, Some(at), vec![Some(outcome); 2])).collect()
    };
    let (one, other) = (ranges(&vantages, &rows(Silent)), ranges(&vantages, &rows(Answers)));
    let merged = merge(&[one.clone(), other.clone()]).unwrap();
    assert_eq!(merged.rows, other.rows);
    assert_eq!(merged.differences, 200 * 2 * 65_535);
    let found = changes(&one, &other);
    assert_eq!(found.opened.len(), 400);
    assert_eq!(found.opened[0].describe(), "tcp/1-65535 at 198.51.100.0");
}
