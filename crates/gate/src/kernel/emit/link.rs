//! Frames that are not IP: by their EtherType they pass by name, belong to
//! another VLAN, or are dropped because nobody can say what is in them; as
//! [`tipstaff_core::packet::parse_ethernet`] has it.

use tipstaff_bpf::abi::{bpf_sock, hdr_start, helper, skb};
use tipstaff_bpf::asm::{Assembler, If, Label, R0, R1, R2, R3, R4, R5, R6, STACK, Width};
use tipstaff_bpf::headers::{ethernet, vlan};
use tipstaff_core::packet::{FIRST_ETHERTYPE, LINK_PROTOCOLS, PRIORITY_TAGS};

use crate::kernel::emit::context::Labels;
use crate::kernel::emit::frame::at;

/// Whence the tag that is still in the frame is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Begin {
    /// On its way in: the network header begins with it.
    Network,
    /// On its way out: behind the type in the link header. A packet socket sets
    /// the network header behind all tags.
    Link,
}

/// Decides a frame that is not IP. r2 is its type, in network order.
pub(crate) fn not_ip(a: &mut Assembler, begin: Begin, labels: &Labels, not_ours: Label) {
    let tagged = a.label();
    a.to_be(R2, 16);
    for kind in PRIORITY_TAGS {
        a.jump_if(If::Eq, R2, kind, tagged);
    }
    a.jump_if(If::Lt, R2, FIRST_ETHERTYPE, labels.named);
    for (kind, _) in LINK_PROTOCOLS {
        a.jump_if(If::Eq, R2, kind, labels.named);
    }
    a.jump(labels.unreadable);

    a.place(tagged);
    if begin == Begin::Link {
        // A packet socket that writes tags of its own is not decided on any VLAN's interface.
        let other = a.label();
        a.load(Width::D, R1, R6, skb::SK);
        a.jump_if(If::Eq, R1, 0, other);
        a.call(helper::SK_FULLSOCK);
        a.jump_if(If::Eq, R0, 0, other);
        a.load(Width::W, R1, R0, bpf_sock::FAMILY);
        a.jump_if(If::Eq, R1, libc::AF_PACKET as u16, labels.unreadable);
        a.place(other);
    }
    let (offset, from) = match begin {
        Begin::Network => (0, hdr_start::NET),
        Begin::Link => (ethernet::BYTES.into(), hdr_start::MAC),
    };
    a.copy(R1, R6);
    a.mov(R2, offset);
    a.stack(R3, at::TRANSPORT);
    a.mov(R4, 2);
    a.mov(R5, from);
    a.call(helper::SKB_LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, labels.unreadable);
    a.load(Width::H, R1, STACK, at::TRANSPORT);
    a.to_be(R1, 16);
    a.jump_if(If::Set, R1, vlan::ID_MASK, not_ours);
    a.jump(labels.unreadable);
}
