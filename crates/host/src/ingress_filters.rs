//! Which interfaces have a queueing discipline for what arrives (`ingress`,
//! `clsact`): its filters may overwrite what the gate notes on packets.
//!
//! Source: `include/uapi/linux/rtnetlink.h`, `struct tcmsg`. Read here, as
//! nothing is to depend on whether the options of other disciplines can be read.

use std::io;

use netlink_sys::protocols::NETLINK_ROUTE;

use crate::netlink;

const RTM_GETQDISC: u16 = 38;
const REQUEST_AND_DUMP: u16 = 0x301;
const DONE: u16 = 3;
const ERROR: u16 = 2;
/// Bytes of a netlink header and of `struct tcmsg`.
const HEADER: usize = 16;
const MESSAGE: usize = 20;
const TCA_KIND: u16 = 1;

/// The indexes of the interfaces.
///
/// # Errors
/// What netlink says.
pub(crate) fn list() -> io::Result<Vec<u32>> {
    let mut request = Vec::with_capacity(HEADER + MESSAGE);
    request.extend(((HEADER + MESSAGE) as u32).to_ne_bytes());
    request.extend(RTM_GETQDISC.to_ne_bytes());
    request.extend(REQUEST_AND_DUMP.to_ne_bytes());
    request.extend([0; 8 + MESSAGE]);
    let socket = netlink::connect(NETLINK_ROUTE)?;
    socket.send(&request, 0)?;
    let mut found = Vec::new();
    loop {
        let (datagram, _) = socket.recv_from_full()?;
        let mut rest = datagram.as_slice();
        while let Some(header) = rest.get(..HEADER) {
            let length = u32_at(header, 0).unwrap_or_default() as usize;
            match u16_at(header, 4) {
                Some(DONE | ERROR) | None => return Ok(found),
                Some(_) => {}
            }
            let Some(body) = rest.get(HEADER..length) else { return Ok(found) };
            if let (Some(index), Some(true)) = (u32_at(body, 4), is_for_arrivals(body)) {
                found.push(index);
            }
            rest = rest.get(length.next_multiple_of(4)..).unwrap_or_default();
        }
    }
}

/// Whether the discipline of a message looks at what arrives; `None` where it
/// does not say its kind.
fn is_for_arrivals(body: &[u8]) -> Option<bool> {
    let mut attributes = body.get(MESSAGE..)?;
    loop {
        let length = usize::from(u16_at(attributes, 0)?);
        let value = attributes.get(4..length)?;
        if u16_at(attributes, 2)? == TCA_KIND {
            return Some(matches!(value, b"ingress\0" | b"clsact\0"));
        }
        attributes = attributes.get(length.next_multiple_of(4)..)?;
    }
}

fn u16_at(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_ne_bytes(bytes.get(at..at + 2)?.try_into().ok()?))
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_ne_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_kind_is_found_behind_the_message() {
        let message = |kind: &[u8]| {
            let mut bytes = vec![0; MESSAGE];
            bytes.extend(((4 + kind.len()) as u16).to_ne_bytes());
            bytes.extend(TCA_KIND.to_ne_bytes());
            bytes.extend(kind);
            bytes
        };
        assert_eq!(is_for_arrivals(&message(b"clsact\0")), Some(true));
        assert_eq!(is_for_arrivals(&message(b"fq_codel\0")), Some(false));
        for end in 0..28 {
            let _ = is_for_arrivals(&message(b"ingress\0")[..end]);
        }
    }
}
