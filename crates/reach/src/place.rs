//! What is knocked on.

use std::net::IpAddr;

use tipstaff_core::analysis::reach::Subject;
use tipstaff_core::names::traffic::Transport;

/// A row to be: what is knocked on, and the own address where it is not the
/// usual one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// A port, or echo.
    pub subject: Subject,
    /// The own address; `None`: the usual one of each source.
    pub at: Option<IpAddr>,
}

impl Place {
    /// All TCP ports.
    pub fn all_ports() -> impl Iterator<Item = Self> {
        (1..=u16::MAX).map(|port| Subject::Port(Transport::Tcp, port).into())
    }
}

impl From<Subject> for Place {
    fn from(subject: Subject) -> Self {
        Self { subject, at: None }
    }
}
