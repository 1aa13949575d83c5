//! What a team does with its ports, which only generic netlink can say
//! (Documentation/netlink/specs/team.yaml).

use std::io;

use netlink_sys::protocols;

use crate::netlink;
use tipstaff_core::bytes::ReadAt;

/// `GENL_ID_CTRL` and `CTRL_CMD_GETFAMILY` of include/uapi/linux/genetlink.h.
const CONTROL: (u16, u8) = (16, 3);
/// `CTRL_ATTR_FAMILY_ID`, `CTRL_ATTR_FAMILY_NAME`.
const FAMILY: (u16, u16) = (1, 2);
/// `TEAM_CMD_OPTIONS_SET` of include/uapi/linux/if_team.h.
const SET: u8 = 1;
const NESTED: u16 = 1 << 15;
/// `NLA_STRING` of include/net/netlink.h.
const TEXT: u8 = 5;

/// Makes a new team send by its ports in turn.
///
/// # Errors
/// What netlink says.
pub(crate) fn take_ports_in_turn(team: u32) -> io::Result<()> {
    let name = attribute(FAMILY.1, b"team\0");
    let answer = ask(CONTROL.0, CONTROL.1, &name)?;
    let family = answer.get(20..).and_then(|attributes| find(attributes, FAMILY.0));
    let family = family.and_then(|bytes| bytes.u16_ne(0));
    let family = family.ok_or_else(|| io::Error::other("the kernel has no teams"))?;
    let option = [attribute(1, b"mode\0"), attribute(3, &[TEXT]), attribute(4, b"roundrobin\0")];
    let item = attribute(1 | NESTED, &option.concat());
    let message = [attribute(1, &team.to_ne_bytes()), attribute(2 | NESTED, &item)];
    match ask(family, SET, &message.concat()) {
        // Done; that nobody listens for the news of it is told as an error (genlmsg_multicast
        // of net/netlink/genetlink.c).
        Err(e) if e.raw_os_error() == Some(nix::libc::ESRCH) => Ok(()),
        done => done.map(drop),
    }
}

/// Length u16 · kind u16 · content, to whole words.
fn attribute(kind: u16, content: &[u8]) -> Vec<u8> {
    let mut bytes = (4 + content.len() as u16).to_ne_bytes().to_vec();
    bytes.extend(kind.to_ne_bytes());
    bytes.extend(content);
    bytes.resize(bytes.len().next_multiple_of(4), 0);
    bytes
}

fn find(mut attributes: &[u8], wanted: u16) -> Option<&[u8]> {
    loop {
        let (length, kind) = (usize::from(attributes.u16_ne(0)?), attributes.u16_ne(2)?);
        if kind == wanted {
            return attributes.get(4..length);
        }
        attributes = attributes.get(length.next_multiple_of(4).max(4)..)?;
    }
}

/// One request of a family and command; its first answer.
fn ask(family: u16, command: u8, attributes: &[u8]) -> io::Result<Vec<u8>> {
    /// `NLM_F_REQUEST | NLM_F_ACK`, and the kind of an answer that is an error or none.
    const ASK: u16 = 5;
    const ERROR: u16 = 2;
    let socket = netlink::connect(protocols::NETLINK_GENERIC)?;
    let mut bytes = (20 + attributes.len() as u32).to_ne_bytes().to_vec();
    bytes.extend(family.to_ne_bytes());
    bytes.extend(ASK.to_ne_bytes());
    bytes.extend([0; 8]);
    bytes.extend([command, 1, 0, 0]);
    bytes.extend(attributes);
    socket.send(&bytes, 0)?;
    let (answer, _) = socket.recv_from_full()?;
    let code = answer.u32_ne(16).map_or(0, |code| code as i32);
    match (answer.u16_ne(4), code) {
        (Some(ERROR), code) if code != 0 => Err(io::Error::from_raw_os_error(-code)),
        _ => Ok(answer),
    }
}
