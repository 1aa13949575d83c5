//! What a link carries besides IP: which protocols pass by their names, and
//! which are dropped because nobody can say what is in them.

/// A frame that is not IP.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum LinkFrame {
    /// It bears the tag of a VLAN: decided on that VLAN's own interface, and
    /// dropped by the stack where there is none.
    OtherVlan,
    /// A protocol of [`LINK_PROTOCOLS`], or LLC: it never becomes IP for this host,
    /// or only on an interface of its own, which decides it there.
    Named,
    /// A tag behind a priority tag, which the stack strips and then delivers;
    /// MPLS, whose contents it may deliver; a protocol that nobody knows.
    Unreadable,
}

/// Types of IEEE 802.1Q and 802.1ad. The outermost tag is off when a packet is
/// decided; what bears another one in front of its contents is not read.
pub const PRIORITY_TAGS: [u16; 2] = [0x8100, 0x88a8];

/// Below this the field is no EtherType but a length (IEEE 802.3 with LLC), or
/// a number that Linux gives to other kinds of links (include/uapi/linux/if_ether.h).
pub const FIRST_ETHERTYPE: u16 = 0x0600;

/// The EtherTypes that pass by name (IANA "IEEE 802 Numbers"). Nothing of them
/// becomes IP for this host, but what has an interface of its own: PPPoE,
/// MACsec, batman-adv, HSR, whose contents are decided there.
pub const LINK_PROTOCOLS: [(u16, &str); 44] = [
    (0x0806, "ARP"),
    (0x8035, "RARP"),
    (0x88cc, "LLDP"),
    (0x888e, "EAPOL"),
    (0x88c7, "802.11 pre-authentication"),
    (0x8809, "slow protocols (LACP)"),
    (0x88f7, "PTP"),
    (0x0842, "Wake-on-LAN"),
    (0x8863, "PPPoE discovery"),
    (0x8864, "PPPoE session"),
    (0x88e5, "MACsec"),
    (0x4305, "batman-adv"),
    (0x88fb, "PRP"),
    (0x892f, "HSR"),
    (0x8902, "connectivity fault management"),
    (0x88f5, "MVRP"),
    (0x88f6, "MMRP"),
    (0x22ea, "stream reservation"),
    (0x22f0, "AVTP"),
    (0x893a, "IEEE 1905.1"),
    (0x890d, "802.11 TDLS"),
    (0x9000, "loopback test"),
    (0x8808, "pause"),
    (0x88b8, "GOOSE"),
    (0x88b9, "GSE management"),
    (0x88ba, "sampled values"),
    (0x88a4, "EtherCAT"),
    (0x8892, "PROFINET"),
    (0x88ab, "Powerlink"),
    (0x88cd, "SERCOS III"),
    (0x88e1, "HomePlug AV"),
    (0x887b, "HomePlug 1.0"),
    (0x88a2, "ATA over Ethernet"),
    (0x8906, "FCoE"),
    (0x8914, "FCoE initialization"),
    (0x8915, "RoCE"),
    (0x88ca, "TIPC"),
    (0x8137, "IPX"),
    (0x809b, "AppleTalk"),
    (0x80f3, "AppleTalk ARP"),
    (0x6002, "DECnet maintenance"),
    (0x6003, "DECnet"),
    (0x6004, "DECnet LAT"),
    (0x88e3, "MRP"),
];

/// Whether an EtherType passes by its name.
pub fn is_named(kind: u16) -> bool {
    kind < FIRST_ETHERTYPE || LINK_PROTOCOLS.iter().any(|(known, _)| *known == kind)
}
