//! One request, all its answers.

use std::io;

use netlink_packet_core::{
    NLM_F_ACK, NLM_F_DUMP, NLM_F_DUMP_INTR, NLM_F_REQUEST, NetlinkDeserializable, NetlinkMessage,
    NetlinkPayload, NetlinkSerializable,
};
use netlink_packet_route::RouteNetlinkMessage;
use netlink_sys::{Socket, SocketAddr, protocols};

/// What is wanted of the kernel.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    /// Everything of a kind.
    Dump,
    /// One answer.
    Get,
    /// Do it and say whether it worked; further flags such as NLM_F_CREATE.
    Do(u16),
}

/// A connected netlink socket. It sees the namespace in which it was opened.
pub(crate) fn connect(protocol: isize) -> io::Result<Socket> {
    let mut socket = Socket::new(protocol)?;
    socket.bind_auto()?;
    socket.connect(&SocketAddr::new(0, 0))?;
    Ok(socket)
}

/// Asks rtnetlink.
pub(crate) fn route(
    message: RouteNetlinkMessage,
    kind: Kind,
) -> io::Result<Vec<RouteNetlinkMessage>> {
    let mut answers = Vec::new();
    let request = NetlinkMessage::from(message);
    ask(protocols::NETLINK_ROUTE, request, kind, |answer| answers.push(answer))?;
    Ok(answers)
}

/// Asks any protocol of netlink; each answer goes to `take`. Whether the kernel says that what
/// it told changed meanwhile.
pub(crate) fn ask<M>(
    protocol: isize,
    mut request: NetlinkMessage<M>,
    kind: Kind,
    mut take: impl FnMut(M),
) -> io::Result<bool>
where
    M: NetlinkSerializable + NetlinkDeserializable,
    M::Error: Into<Box<dyn std::error::Error + Send + Sync>>,
{
    let socket = connect(protocol)?;
    let kept = request.header.message_type;
    request.header.flags = NLM_F_REQUEST
        | match kind {
            Kind::Dump => NLM_F_DUMP,
            Kind::Get => 0,
            Kind::Do(flags) => NLM_F_ACK | flags,
        };
    request.finalize();
    if kept != 0 {
        // The caller knows better what it is for.
        request.header.message_type = kept;
    }
    let mut bytes = vec![0; request.buffer_len()];
    request.serialize(&mut bytes);
    socket.send(&bytes, 0)?;

    let mut interrupted = false;
    loop {
        let (datagram, _) = socket.recv_from_full()?;
        let mut rest = datagram.as_slice();
        while !rest.is_empty() {
            let answer = NetlinkMessage::<M>::deserialize(rest).map_err(io::Error::other)?;
            interrupted |= answer.header.flags & NLM_F_DUMP_INTR != 0;
            let length = (answer.header.length as usize).next_multiple_of(4).min(rest.len());
            match answer.payload {
                NetlinkPayload::Done(_) => return Ok(interrupted),
                NetlinkPayload::Error(error) => {
                    return match error.code {
                        None => Ok(interrupted),
                        Some(_) => Err(error.to_io()),
                    };
                }
                NetlinkPayload::InnerMessage(message) => take(message),
                _ => {}
            }
            if kind == Kind::Get {
                return Ok(interrupted);
            }
            rest = &rest[length..];
        }
    }
}
