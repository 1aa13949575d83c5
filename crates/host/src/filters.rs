//! Programs at an interface by the kernel's older way: a filter of the
//! discipline `clsact` (tc-bpf(8), `include/uapi/linux/pkt_cls.h`), for
//! kernels before 6.6, which have no links there.
//!
//! One filter a side, at a priority and with a handle of its own. What is
//! attached stays when the process ends.

use std::collections::BTreeSet;
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd};

use netlink_sys::protocols::NETLINK_ROUTE;

use crate::netlink;
use tipstaff_core::bytes::ReadAt;

const RTM_NEWQDISC: u16 = 36;
const RTM_DELQDISC: u16 = 37;
const RTM_GETQDISC: u16 = 38;
const RTM_NEWTFILTER: u16 = 44;
const RTM_DELTFILTER: u16 = 45;
const RTM_GETTFILTER: u16 = 46;
/// `NLM_F_REQUEST | NLM_F_ACK`.
const REQUEST: u16 = 0x5;
/// `NLM_F_REQUEST | NLM_F_DUMP`.
const DUMP: u16 = 0x301;
/// `NLM_F_CREATE | NLM_F_EXCL`.
const NEW: u16 = 0x600;
/// `NLM_F_CREATE | NLM_F_REPLACE`.
const REPLACE: u16 = 0x500;
const ERROR: u16 = 2;
const DONE: u16 = 3;
/// Bytes of a netlink header and of `struct tcmsg`.
const HEADER: usize = 16;
const MESSAGE: usize = 20;

const TCA_KIND: u16 = 1;
const TCA_OPTIONS: u16 = 2;
const TCA_BPF_FD: u16 = 6;
const TCA_BPF_NAME: u16 = 7;
const TCA_BPF_FLAGS: u16 = 8;
const TCA_BPF_ID: u16 = 11;
/// `TCA_BPF_FLAG_ACT_DIRECT`: the program's return value is the action.
const ACT_DIRECT: u32 = 1;
/// `TC_H_CLSACT`, and the handle of the discipline itself.
const CLSACT: u32 = 0xffff_fff1;
const CLSACT_HANDLE: u32 = 0xffff_0000;
/// Before every other priority; `ETH_P_ALL` in network order.
const FIRST_OF_ALL: u32 = 1 << 16 | (3u16.to_be() as u32);
/// The handle of our filters.
const OWN: u32 = 0x7153;
/// Their name, as other programs show it.
const NAME: &[u8] = b"tipstaff\0";

/// A side of an interface.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// What arrives.
    Ingress,
    /// What leaves.
    Egress,
}

impl Side {
    /// `TC_H_MAKE(TC_H_CLSACT, TC_H_MIN_INGRESS or TC_H_MIN_EGRESS)`.
    const fn parent(self) -> u32 {
        match self {
            Self::Ingress => 0xffff_fff2,
            Self::Egress => 0xffff_fff3,
        }
    }
}

/// A filter at a side of an interface.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Filter {
    /// Whether it is ours.
    pub own: bool,
    /// The kernel's number of its program, where it has one.
    pub program: Option<u32>,
}

/// Attaches a program in front of all others, or puts it in the place of the one that
/// stands there for us: packets meet the one or the other.
///
/// # Errors
/// What netlink says; `NotFound` or `ENODEV` where the interface is gone.
pub fn attach(interface: u32, side: Side, program: BorrowedFd<'_>) -> io::Result<()> {
    let mut discipline = message(interface, CLSACT_HANDLE, CLSACT, 0);
    put(&mut discipline, TCA_KIND, b"clsact\0");
    match ask(RTM_NEWQDISC, REQUEST | NEW, &discipline) {
        Err(e) if e.raw_os_error() != Some(libc_exists()) => return Err(e),
        _ => {}
    }
    let mut options = Vec::new();
    put(&mut options, TCA_BPF_FD, &(program.as_raw_fd() as u32).to_ne_bytes());
    put(&mut options, TCA_BPF_NAME, NAME);
    put(&mut options, TCA_BPF_FLAGS, &ACT_DIRECT.to_ne_bytes());
    let mut filter = message(interface, OWN, side.parent(), FIRST_OF_ALL);
    put(&mut filter, TCA_KIND, b"bpf\0");
    put(&mut filter, TCA_OPTIONS, &options);
    ask(RTM_NEWTFILTER, REQUEST | REPLACE, &filter).map(drop)
}

const fn libc_exists() -> i32 {
    nix::errno::Errno::EEXIST as i32
}

/// Takes our program away, and the discipline with it when nothing else is there.
///
/// # Errors
/// What netlink says; nothing where there is none of ours.
pub fn detach(interface: u32, side: Side) -> io::Result<()> {
    if list(interface, side)?.iter().any(|filter| filter.own) {
        let mut filter = message(interface, OWN, side.parent(), FIRST_OF_ALL);
        put(&mut filter, TCA_KIND, b"bpf\0");
        ask(RTM_DELTFILTER, REQUEST, &filter)?;
    }
    let is_empty = |side| list(interface, side).is_ok_and(|all| all.is_empty());
    if is_empty(Side::Ingress) && is_empty(Side::Egress) {
        let mut discipline = message(interface, CLSACT_HANDLE, CLSACT, 0);
        put(&mut discipline, TCA_KIND, b"clsact\0");
        // Somebody else may have taken it away just now.
        let _ = ask(RTM_DELQDISC, REQUEST, &discipline);
    }
    Ok(())
}

/// The filters at a side of an interface, in the order in which they are asked; none
/// where it has no such discipline.
///
/// # Errors
/// What netlink says.
pub fn list(interface: u32, side: Side) -> io::Result<Vec<Filter>> {
    let answers = match ask(RTM_GETTFILTER, DUMP, &message(interface, 0, side.parent(), 0)) {
        Ok(answers) => answers,
        // No such discipline, or no such interface.
        Err(e) if e.raw_os_error() == Some(nix::errno::Errno::EINVAL as i32) => return Ok(vec![]),
        Err(e) => return Err(e),
    };
    Ok(answers.iter().filter_map(|body| filter(body)).collect())
}

/// Reads one filter; `None` for what only announces a priority.
fn filter(body: &[u8]) -> Option<Filter> {
    let handle = body.u32_ne(8)?;
    let options = attribute(body.get(MESSAGE..)?, TCA_OPTIONS)?;
    let program = attribute(options, TCA_BPF_ID).and_then(|id| id.u32_ne(0));
    let is_named = attribute(options, TCA_BPF_NAME) == Some(NAME);
    (handle != 0).then_some(Filter { own: handle == OWN && is_named, program })
}

/// The indexes of the interfaces that can have filters: those with a discipline for them
/// (`ingress`, `clsact`).
///
/// # Errors
/// What netlink says.
pub fn disciplined() -> io::Result<BTreeSet<u32>> {
    let disciplines = ask(RTM_GETQDISC, DUMP, &message(0, 0, 0, 0))?;
    let found = disciplines.iter().filter_map(|body| {
        let kind = attribute(body.get(MESSAGE..)?, TCA_KIND)?;
        matches!(kind, b"ingress\0" | b"clsact\0").then(|| body.u32_ne(4))?
    });
    Ok(found.collect())
}

/// The indexes of the interfaces where somebody else's filters may look at what arrives.
///
/// # Errors
/// What netlink says.
pub(crate) fn others_at_ingress() -> io::Result<Vec<u32>> {
    let mut found = Vec::new();
    for index in disciplined()? {
        if !only_ours(index)? {
            found.push(index);
        }
    }
    Ok(found)
}

/// A discipline that is there for our program alone.
fn only_ours(interface: u32) -> io::Result<bool> {
    let all = list(interface, Side::Ingress)?;
    Ok(!all.is_empty() && all.iter().all(|filter| filter.own))
}

/// A `struct tcmsg`.
fn message(interface: u32, handle: u32, parent: u32, info: u32) -> Vec<u8> {
    let mut bytes = vec![0; 4];
    for word in [interface, handle, parent, info] {
        bytes.extend(word.to_ne_bytes());
    }
    bytes
}

/// Adds a netlink attribute, padded to 4 bytes.
fn put(bytes: &mut Vec<u8>, kind: u16, value: &[u8]) {
    bytes.extend((4 + value.len() as u16).to_ne_bytes());
    bytes.extend(kind.to_ne_bytes());
    bytes.extend(value);
    bytes.resize(bytes.len().next_multiple_of(4), 0);
}

/// The value of an attribute.
fn attribute(mut attributes: &[u8], wanted: u16) -> Option<&[u8]> {
    loop {
        let length = usize::from(attributes.u16_ne(0)?);
        let value = attributes.get(4..length)?;
        // The two highest bits are flags (`NLA_TYPE_MASK`).
        if attributes.u16_ne(2)? & 0x3fff == wanted {
            return Some(value);
        }
        attributes = attributes.get(length.next_multiple_of(4)..)?;
    }
}

/// One request and the bodies of its answers.
fn ask(kind: u16, flags: u16, body: &[u8]) -> io::Result<Vec<Vec<u8>>> {
    let mut request = Vec::with_capacity(HEADER + body.len());
    request.extend(((HEADER + body.len()) as u32).to_ne_bytes());
    request.extend(kind.to_ne_bytes());
    request.extend(flags.to_ne_bytes());
    request.extend([0; 8]);
    request.extend(body);
    let socket = netlink::connect(NETLINK_ROUTE)?;
    socket.send(&request, 0)?;
    let mut answers = Vec::new();
    loop {
        let (datagram, _) = socket.recv_from_full()?;
        let mut rest = datagram.as_slice();
        while let Some(header) = rest.get(..HEADER) {
            let length = header.u32_ne(0).unwrap_or_default() as usize;
            let Some(body) = rest.get(HEADER..length) else { return Ok(answers) };
            match header.u16_ne(4) {
                Some(DONE) | None => return Ok(answers),
                Some(ERROR) => {
                    let code = body.u32_ne(0).map_or(0, |code| code as i32);
                    return match code {
                        0 => Ok(answers),
                        code => Err(io::Error::from_raw_os_error(-code)),
                    };
                }
                Some(_) => answers.push(body.to_vec()),
            }
            rest = rest.get(length.next_multiple_of(4)..).unwrap_or_default();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(handle: u32, name: &[u8]) -> Vec<u8> {
        let mut options = Vec::new();
        put(&mut options, TCA_BPF_NAME, name);
        put(&mut options, TCA_BPF_ID, &7u32.to_ne_bytes());
        let mut bytes = message(2, handle, Side::Ingress.parent(), FIRST_OF_ALL);
        put(&mut bytes, TCA_KIND, b"bpf\0");
        put(&mut bytes, TCA_OPTIONS, &options);
        bytes
    }

    #[test]
    fn a_filter_is_ours_by_its_handle_and_its_name() {
        let own = |handle, name| filter(&answer(handle, name)).map(|filter| filter.own);
        assert_eq!(own(OWN, NAME), Some(true));
        assert_eq!(own(OWN, b"other\0"), Some(false));
        assert_eq!(own(1, NAME), Some(false));
        assert_eq!(own(0, NAME), None, "only a priority");
        assert_eq!(filter(&answer(OWN, NAME)).unwrap().program, Some(7));
        let whole = answer(OWN, NAME);
        for end in 0..whole.len() {
            let _ = filter(&whole[..end]);
        }
    }
}
