//! Where the rows of several tables begin and end: between two such places each
//! table says one thing, however many ports that is.

use std::collections::BTreeMap;
use std::net::IpAddr;

use super::{Row, Subject};
use crate::names::traffic::Transport;

/// The rows of one transport (none: echo requests) and own address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Line {
    transport: Option<Transport>,
    pub(super) at: Option<IpAddr>,
}

impl Line {
    pub(super) fn from_row(row: &Row) -> Self {
        let transport = match row.subject {
            Subject::Port(transport, _) => Some(transport),
            Subject::Echo => None,
        };
        Self { transport, at: row.at }
    }

    /// What a port of it is called.
    pub(super) fn subject(self, port: u16) -> Subject {
        self.transport.map_or(Subject::Echo, |transport| Subject::Port(transport, port))
    }
}

/// The first ports of all pieces of each line, in their order, and one port
/// behind the last.
#[derive(Default)]
pub(super) struct Pieces(BTreeMap<Line, Vec<u32>>);

impl Pieces {
    pub(super) fn from_rows<'r>(rows: impl Iterator<Item = &'r Row>) -> Self {
        let mut cuts: BTreeMap<Line, Vec<u32>> = BTreeMap::new();
        for row in rows {
            let (first, last) = row.span();
            cuts.entry(Line::from_row(row))
                .or_default()
                .extend([u32::from(first), u32::from(last) + 1]);
        }
        for cuts in cuts.values_mut() {
            cuts.sort_unstable();
            cuts.dedup();
        }
        Self(cuts)
    }

    pub(super) fn lines(&self) -> impl Iterator<Item = Line> {
        self.0.keys().copied()
    }

    /// The pieces of a line, each with its first and last port. What lies between
    /// two rows is a piece, too.
    pub(super) fn spans(&self, line: Line) -> impl Iterator<Item = (u16, u16)> {
        let cuts = self.0.get(&line).map_or(&[][..], Vec::as_slice);
        cuts.windows(2).map(|pair| (pair[0] as u16, (pair[1] - 1) as u16))
    }

    /// Which pieces of its line a row is made of.
    pub(super) fn within(&self, row: &Row) -> std::ops::Range<usize> {
        let cuts = self.0.get(&Line::from_row(row)).map_or(&[][..], Vec::as_slice);
        let (first, last) = row.span();
        let place = |port: u32| cuts.partition_point(|cut| *cut < port);
        place(u32::from(first))..place(u32::from(last) + 1)
    }
}
