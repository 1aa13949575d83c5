//! The two sides of an interface, and the names of the links there.

use std::path::Path;

use tipstaff_core::host::interface::Interface;
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_host::filters;

use crate::kernel::emit::context::OuterSide;

/// The two sides of an interface that can carry a link.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum At {
    /// What arrives: the outer gate.
    Ingress,
    /// What leaves.
    Egress,
}

impl At {
    pub(crate) const fn side(self, interface: &Interface) -> OuterSide {
        match (self, interface.port, interface.on_parent) {
            (Self::Ingress, true, _) => OuterSide::PortIn,
            (Self::Ingress, false, true) => OuterSide::UpperIn,
            (Self::Ingress, false, false) => OuterSide::In,
            (Self::Egress, false, _) => OuterSide::Out,
            (Self::Egress, true, _) => OuterSide::PortOut,
        }
    }

    pub(crate) fn prefix(self) -> &'static str {
        match self {
            Self::Ingress => "outer-in-",
            Self::Egress => "outer-out-",
        }
    }

    pub(crate) fn name(self, interface: InterfaceIndex) -> String {
        format!("{}{}", self.prefix(), interface.0)
    }

    pub(crate) fn index_of(self, path: &Path) -> Option<u32> {
        path.file_name()?.to_str()?.strip_prefix(self.prefix())?.parse().ok()
    }

    /// The pin of a program that is attached by a filter, as kernels before 6.6 have it.
    pub(crate) fn filter_name(self, interface: InterfaceIndex) -> String {
        format!("filter-{}", self.name(interface))
    }

    /// The side and the interface of a filter's pin.
    pub(crate) fn of_filter(path: &Path) -> Option<(Self, u32)> {
        let name = path.file_name()?.to_str()?.strip_prefix("filter-")?;
        [Self::Ingress, Self::Egress]
            .into_iter()
            .find_map(|at| Some((at, name.strip_prefix(at.prefix())?.parse().ok()?)))
    }

    /// The side of the kernel's older discipline.
    pub(crate) const fn filter_side(self) -> filters::Side {
        match self {
            Self::Ingress => filters::Side::Ingress,
            Self::Egress => filters::Side::Egress,
        }
    }

    /// The interface of a pin, of a link's or a filter's.
    pub(crate) fn index_of_any(path: &Path) -> Option<u32> {
        let of_link = Self::Ingress.index_of(path).or_else(|| Self::Egress.index_of(path));
        of_link.or_else(|| Self::of_filter(path).map(|(_, index)| index))
    }
}
