//! The part that both programs share: reading an IP packet exactly as
//! [`tipstaff_core::packet`] reads it.
//!
//! Registers while reading: r6 the context, r7 where the transport header
//! begins, r8 where the packet ends by its own word (0: it does not say), r9
//! the protocol.

use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::TCP;

use super::assembler::{
    Assembler, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, Reg, STACK, Width,
};

pub use super::frame::{FLOW_BYTES, at, flow};

/// Helper numbers of `include/uapi/linux/bpf.h`.
pub mod helper {
    /// `bpf_map_lookup_elem`.
    pub const MAP_LOOKUP: i32 = 1;
    /// `bpf_map_update_elem`.
    pub const MAP_UPDATE: i32 = 2;
    /// `bpf_ktime_get_ns`.
    pub const TIME: i32 = 5;
    /// `bpf_get_current_pid_tgid`.
    pub const PROCESS: i32 = 14;
    /// `bpf_skb_store_bytes`.
    pub const STORE_BYTES: i32 = 9;
    /// `bpf_tail_call`.
    pub const TAIL_CALL: i32 = 12;
    /// `bpf_redirect`.
    pub const REDIRECT: i32 = 23;
    /// `bpf_csum_diff`.
    pub const CHECKSUM_DIFFERENCE: i32 = 28;
    /// `bpf_get_current_task`.
    pub const TASK: i32 = 35;
    /// `bpf_skb_change_tail`.
    pub const CHANGE_TAIL: i32 = 38;
    /// `bpf_skb_load_bytes_relative`.
    pub const LOAD_BYTES_RELATIVE: i32 = 68;
    /// `bpf_fib_lookup`.
    pub const ROUTE: i32 = 69;
    /// `bpf_sk_lookup_tcp`: a listener, or a connection, as a whole socket.
    pub const FULL_LOOKUP_TCP: i32 = 84;
    /// `bpf_sk_lookup_udp`.
    pub const FULL_LOOKUP_UDP: i32 = 85;
    /// `bpf_sk_fullsock`.
    pub const FULL_SOCKET: i32 = 95;
    /// `bpf_sk_release`.
    pub const SOCKET_RELEASE: i32 = 86;
    /// `bpf_skc_lookup_tcp`.
    pub const SOCKET_LOOKUP_TCP: i32 = 99;
    /// `bpf_tcp_check_syncookie`.
    pub const CHECK_SYNCOOKIE: i32 = 100;
    /// `bpf_sk_storage_get`.
    pub const SOCKET_STORAGE: i32 = 107;
    /// `bpf_probe_read_kernel`.
    pub const READ_KERNEL: i32 = 113;
    /// `bpf_probe_read_kernel_str`.
    pub const READ_TEXT: i32 = 115;
    /// `bpf_get_netns_cookie`; for packets since about Linux 6.15.
    pub const NAMESPACE_COOKIE: i32 = 122;
    /// `bpf_ktime_get_boot_ns`.
    pub const BOOT_TIME: i32 = 125;
    /// `bpf_set_retval`.
    pub const SET_RETURN: i32 = 187;
    /// `bpf_skc_to_mptcp_sock`, since Linux 5.19.
    pub const TO_MPTCP_SOCKET: i32 = 196;
    /// `bpf_ktime_get_tai_ns`, since Linux 6.1.
    pub const WALL_TIME: i32 = 208;
    /// `bpf_ringbuf_output`.
    pub const RING_OUTPUT: i32 = 130;
}

/// Offsets in `struct __sk_buff`.
pub mod skb {
    /// Length of the packet.
    pub const LEN: i16 = 0;
    /// 0 to this host, 1 broadcast, 2 multicast, 3 to another host.
    pub const PACKET_TYPE: i16 = 4;
    /// The tag of IEEE 802.1Q, whose lower 12 bits are the VLAN; 0 where there is none.
    pub const TAG: i16 = 24;
    /// The interface a forwarded packet came from; 0 for the host's own.
    pub const CAME_FROM: i16 = 36;
    /// The mark.
    pub const MARK: i16 = 8;
    /// The EtherType, network order.
    pub const PROTOCOL: i16 = 16;
    /// The interface.
    pub const INTERFACE: i16 = 40;
    /// Where the gate leaves its notes: `kernel::marks`.
    pub const TC_INDEX: i16 = 44;
    /// Five words for programs to leave notes in: the slot, the action, what
    /// the dispatcher says, and two of a knock's or of a test run's.
    pub const NOTES: i16 = 48;
    /// What the dispatcher says, for the program in the slot: `hooks::told`.
    pub const TOLD: i16 = NOTES + 8;
    /// A knock's number, in two words.
    pub const KNOCK: i16 = NOTES + 12;
    /// Test runs: the number of the program that is asked about, and one; 0
    /// for the one that there is.
    pub const ASKED_PROGRAM: i16 = NOTES + 12;
    /// Test runs: the note that the packet would bear.
    pub const ASKED_NOTE: i16 = NOTES + 16;
    /// Where the frame begins, to programs that read it directly.
    pub const DATA: i16 = 76;
    /// Where what an XDP program noted before the frame begins.
    pub const DATA_META: i16 = 140;
    /// The socket that sends the packet, a pointer.
    pub const SOCKET: i16 = 168;
}

/// Where to go while reading.
#[derive(Clone, Copy)]
pub struct Ways {
    /// A header that cannot be.
    pub malformed: Label,
    /// A fragment behind the first.
    pub later_fragment: Label,
    /// A loopback address; `None` when nobody asks.
    pub loopback: Option<Label>,
}

/// Offset of the source address in the IP header.
pub const fn source_offset(family: Family) -> i16 {
    match family {
        Family::V4 => 12,
        Family::V6 => 8,
    }
}

/// Offset of the destination address in the IP header.
pub const fn destination_offset(family: Family) -> i16 {
    match family {
        Family::V4 => 16,
        Family::V6 => 24,
    }
}

/// Copies `length` bytes at `offset_reg` (or at 0) from the network header to
/// the stack; goes to `otherwise` when they are not there.
pub(super) fn load(a: &mut Assembler, offset: Option<Reg>, to: i16, length: i32, otherwise: Label) {
    a.copy(R1, R6);
    match offset {
        Some(reg) => a.copy(R2, reg),
        None => a.mov(R2, 0),
    }
    a.stack(R3, to);
    a.mov(R4, length);
    a.mov(R5, 1); // BPF_HDR_START_NET
    a.call(helper::LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, otherwise);
}

/// Jumps to the label when the packet is of that family by its EtherType.
pub fn family_jumps(a: &mut Assembler, four: Label, six: Label) {
    let network = u16::to_be;
    a.load(Width::W, R2, R6, skb::PROTOCOL);
    a.jump_if(If::Eq, R2, network(0x0800), four);
    a.jump_if(If::Eq, R2, network(0x86dd), six);
}

/// Reads the IP header and what stands between it and the transport header.
pub fn ip_header(a: &mut Assembler, family: Family, ways: Ways) {
    match family {
        Family::V4 => ipv4(a, ways),
        Family::V6 => ipv6(a, ways),
    }
}

fn version(a: &mut Assembler, version: u16, ways: Ways) {
    a.load(Width::B, R1, STACK, at::HEADER);
    a.op(Op::Rsh, R1, 4);
    a.jump_if(If::Ne, R1, version, ways.malformed);
}

fn ipv4(a: &mut Assembler, ways: Ways) {
    load(a, None, at::HEADER, 20, ways.malformed);
    version(a, 4, ways);
    a.load(Width::B, R7, STACK, at::HEADER);
    a.op(Op::And, R7, 15);
    a.op(Op::Lsh, R7, 2);
    a.jump_if(If::Lt, R7, 20, ways.malformed);
    a.load(Width::H, R8, STACK, at::HEADER + 2);
    a.from_network(R8, 16);
    let undeclared = a.label();
    a.jump_if(If::Eq, R8, 0, undeclared);
    a.jump_if_reg(If::Lt, R8, R7, ways.malformed);
    a.place(undeclared);
    if let Some(loopback) = ways.loopback {
        for offset in [12, 16] {
            a.load(Width::B, R1, STACK, at::HEADER + offset);
            a.jump_if(If::Eq, R1, 127, loopback);
        }
    }
    a.load(Width::B, R9, STACK, at::HEADER + 9);
    let whole = a.label();
    a.load(Width::H, R1, STACK, at::HEADER + 6);
    a.from_network(R1, 16);
    a.op(Op::And, R1, 0x3fff);
    a.jump_if(If::Eq, R1, 0, whole);
    a.load(Width::H, R3, STACK, at::HEADER + 4);
    a.from_network(R3, 16);
    a.copy(R4, R9);
    a.copy(R2, R1);
    a.op(Op::And, R2, 0x1fff);
    fragment(a, Family::V4, whole, ways);
    a.place(whole);
}

/// A fragment: r1 the word that says so, r2 its offset in there, r3 its
/// identification, r4 the protocol; it is the first of several where the offset
/// is 0. What cannot be one is malformed: see `Fragment` in `core::packet`.
fn fragment(a: &mut Assembler, family: Family, first: Label, ways: Ways) {
    /// Of a datagram without the 40 bytes of IPv6's header.
    const LONGEST: u64 = 65_535;
    let (flags, more, unit, longest) = match family {
        Family::V4 => (1, 0x2000, 8, LONGEST),
        // The fragment header does not stay in the datagram.
        Family::V6 => (8, 1, 1, LONGEST + 40 + 8),
    };
    let (undeclared, followed, last) = (a.label(), a.label(), a.label());
    a.jump_if(If::Eq, R8, 0, undeclared);
    if family == Family::V6 {
        a.copy(R5, R7);
        a.add(R5, 8);
        a.jump_if_reg(If::Gt, R5, R8, ways.malformed);
    }
    a.jump_if(If::Set, R1, more, followed);
    a.jump(last);
    a.place(followed);
    a.copy(R5, R8);
    a.op_reg(Op::Sub, R5, R7);
    a.op(Op::And, R5, 7);
    a.jump_if(If::Ne, R5, 0, ways.malformed);
    a.place(last);
    a.copy(R5, R2);
    a.op(Op::Mul, R5, unit);
    a.op_reg(Op::Add, R5, R8);
    a.value64(R0, longest);
    a.jump_if_reg(If::Gt, R5, R0, ways.malformed);
    a.place(undeclared);
    let (begins, later) = (a.label(), a.label());
    a.jump_if(If::Eq, R2, 0, begins);
    a.jump_if(If::Ne, R2, flags, later);
    a.jump_if(If::Eq, R4, TCP.into(), ways.malformed);
    a.place(later);
    a.store(Width::W, STACK, at::FRAGMENT, R3);
    a.jump(ways.later_fragment);
    a.place(begins);
    a.store(Width::W, STACK, at::FRAGMENT, R3);
    at::FIRST_FRAGMENT.set(a, 1);
    a.jump(first);
}

fn ipv6(a: &mut Assembler, ways: Ways) {
    load(a, None, at::HEADER, 40, ways.malformed);
    version(a, 6, ways);
    a.mov(R7, 40);
    a.load(Width::H, R8, STACK, at::HEADER + 4);
    a.from_network(R8, 16);
    let undeclared = a.label();
    a.jump_if(If::Eq, R8, 0, undeclared);
    a.op(Op::Add, R8, 40);
    a.place(undeclared);
    if let Some(loopback) = ways.loopback {
        a.value64(R2, 1u64.to_be());
        for offset in [8, 24] {
            let other = a.label();
            a.load(Width::D, R1, STACK, at::HEADER + offset);
            a.jump_if(If::Ne, R1, 0, other);
            a.load(Width::D, R1, STACK, at::HEADER + offset + 8);
            a.jump_if_reg(If::Eq, R1, R2, loopback);
            a.place(other);
        }
    }
    a.load(Width::B, R9, STACK, at::HEADER + 6);
    extension_headers(a, ways);
}

/// RFC 8200 section 4, as `core::packet` follows it: six headers, no more.
fn extension_headers(a: &mut Assembler, ways: Ways) {
    const CHAINED: [u16; 5] = [0, 43, 44, 51, 60];
    let transport = a.label();
    for _ in 0..tipstaff_core::packet::MOST_EXTENSION_HEADERS {
        let (extension, fragmented, authentication) = (a.label(), a.label(), a.label());
        let (advance, next) = (a.label(), a.label());
        a.jump_if(If::Eq, R9, 44, fragmented);
        a.jump_if(If::Eq, R9, 51, authentication);
        for kind in [0, 43, 60] {
            a.jump_if(If::Eq, R9, kind, extension);
        }
        a.jump(transport);

        a.place(fragmented);
        load(a, Some(R7), at::TRANSPORT, 8, ways.malformed);
        let first = a.label();
        a.load(Width::H, R1, STACK, at::TRANSPORT + 2);
        a.from_network(R1, 16);
        a.op(Op::And, R1, 0xfff9);
        // A packet in one piece that says so: RFC 6946.
        a.jump_if(If::Eq, R1, 0, first);
        a.load(Width::W, R3, STACK, at::TRANSPORT + 4);
        a.from_network(R3, 32);
        a.load(Width::B, R4, STACK, at::TRANSPORT);
        a.copy(R2, R1);
        a.op(Op::And, R2, 0xfff8);
        fragment(a, Family::V6, first, ways);
        a.place(first);
        a.mov(R1, 8);
        a.jump(advance);

        a.place(authentication);
        load(a, Some(R7), at::TRANSPORT, 8, ways.malformed);
        a.load(Width::B, R1, STACK, at::TRANSPORT + 1);
        a.op(Op::Add, R1, 2);
        a.op(Op::Lsh, R1, 2);
        a.jump(advance);

        a.place(extension);
        load(a, Some(R7), at::TRANSPORT, 8, ways.malformed);
        a.load(Width::B, R1, STACK, at::TRANSPORT + 1);
        a.op(Op::Add, R1, 1);
        a.op(Op::Lsh, R1, 3);

        a.place(advance);
        a.load(Width::B, R9, STACK, at::TRANSPORT);
        a.op_reg(Op::Add, R7, R1);
        a.jump_if(If::Eq, R8, 0, next);
        a.jump_if_reg(If::Gt, R7, R8, ways.malformed);
        a.place(next);
    }
    for kind in CHAINED {
        a.jump_if(If::Eq, R9, kind, ways.malformed);
    }
    a.place(transport);
}

/// Copies a transport header of `length` bytes to the stack; malformed when
/// the packet is shorter or says that it is.
pub fn transport_header(a: &mut Assembler, length: i32, ways: Ways) {
    let undeclared = a.label();
    a.jump_if(If::Eq, R8, 0, undeclared);
    a.copy(R1, R7);
    a.add(R1, length);
    a.jump_if_reg(If::Gt, R1, R8, ways.malformed);
    a.place(undeclared);
    load(a, Some(R7), at::TRANSPORT, length, ways.malformed);
}

/// Copies an address of the IP header, from its offset in it, to the stack as
/// 16 bytes; IPv4 as `::ffff:a.b.c.d`. r1 is lost.
pub fn address_bytes(a: &mut Assembler, family: Family, offset: i16, to: i16) {
    let from = at::HEADER + offset;
    match family {
        Family::V4 => {
            a.store_value(Width::D, STACK, to, 0);
            let mapped = i32::from_ne_bytes([0, 0, 0xff, 0xff]);
            a.store_value(Width::W, STACK, to + 8, mapped);
            a.load(Width::W, R1, STACK, from);
            a.store(Width::W, STACK, to + 12, R1);
        }
        Family::V6 => {
            for half in [0, 8] {
                a.load(Width::D, R1, STACK, from + half);
                a.store(Width::D, STACK, to + half, R1);
            }
        }
    }
}

/// Writes both addresses of a flow's key, each from its offset in the IP
/// header. The ports and the rest of the last 8 bytes are the caller's.
pub fn flow_addresses(a: &mut Assembler, family: Family, remote: i16, local: i16) {
    for (offset, place) in [(remote, flow::REMOTE), (local, flow::LOCAL)] {
        address_bytes(a, family, offset, at::FLOW + place);
    }
}
