//! Failures of the system under the gate's names.

use std::io;
use std::os::fd::OwnedFd;

use tipstaff_bpf::asm::AssembleError;
use tipstaff_bpf::sys::{self, Attach, ProgramKind};

use crate::contract::GateError;

pub(crate) fn system(doing: impl Into<String>) -> impl FnOnce(io::Error) -> GateError {
    let doing = doing.into();
    move |source| GateError::System { doing, source }
}

/// As [`system`], but a refusal has a name of its own.
pub(crate) fn bpf(doing: &'static str) -> impl FnOnce(io::Error) -> GateError {
    move |source| match source.kind() {
        io::ErrorKind::PermissionDenied => GateError::Refused { doing, source },
        _ => GateError::System { doing: doing.to_owned(), source },
    }
}

pub(crate) fn load(
    kind: ProgramKind,
    attach: Option<Attach>,
    name: &str,
    code: &[u8],
) -> Result<OwnedFd, GateError> {
    sys::program_load_for(kind, attach, name, code).map_err(|e| match e.error.kind() {
        io::ErrorKind::PermissionDenied if e.log.is_empty() => {
            GateError::Refused { doing: "to load a program with bpf(2)", source: e.error }
        }
        _ => GateError::Verifier { source: e.error, log: e.log },
    })
}

pub(crate) fn misfit(misfit: AssembleError) -> GateError {
    GateError::System { doing: "assembling the filter".into(), source: io::Error::other(misfit) }
}
