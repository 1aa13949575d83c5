//! Where the fields of packet headers stand, in bytes from the begin of each header.

/// IEEE 802.3.
pub mod ethernet {
    /// The hardware address that sent the frame.
    pub const SOURCE: i16 = 6;
    /// Bytes of a hardware address.
    pub const ADDRESS_BYTES: i16 = 6;
    /// The EtherType.
    pub const ETHERTYPE: i16 = 12;
    /// Bytes of the header.
    pub const BYTES: i16 = 14;
}

/// IEEE 802.1Q.
pub mod vlan {
    /// Of the tag: the VLAN.
    pub const ID_MASK: u16 = 0x0fff;
}

/// EtherTypes.
pub mod ethertype {
    /// IPv4.
    pub const IPV4: u16 = 0x0800;
    /// IPv6.
    pub const IPV6: u16 = 0x86dd;
}

/// RFC 791 section 3.1.
pub mod ipv4 {
    /// Version (4 bits), length of the header in words (4 bits).
    pub const VERSION_IHL: i16 = 0;
    /// Bytes of header and payload.
    pub const TOTAL_LENGTH: i16 = 2;
    /// Which datagram a fragment is of.
    pub const IDENTIFICATION: i16 = 4;
    /// Flags (3 bits), fragment offset in 8 bytes (13 bits).
    pub const FRAGMENT: i16 = 6;
    /// Hops that are left.
    pub const TTL: i16 = 8;
    /// The protocol of the payload.
    pub const PROTOCOL: i16 = 9;
    /// The header's checksum.
    pub const CHECKSUM: i16 = 10;
    /// The source address.
    pub const SOURCE: i16 = 12;
    /// The destination address.
    pub const DESTINATION: i16 = 16;
    /// Bytes of a header without options.
    pub const BYTES: i16 = 20;
    /// [`VERSION_IHL`] of a header without options.
    pub const PLAIN: u16 = 0x45;
    /// Of [`FRAGMENT`]: more fragments follow.
    pub const MORE_FRAGMENTS: u16 = 0x2000;
    /// Of [`FRAGMENT`]: the offset.
    pub const OFFSET_MASK: u16 = 0x1fff;
}

/// RFC 8200 section 3.
pub mod ipv6 {
    /// Bytes of the payload.
    pub const PAYLOAD_LENGTH: i16 = 4;
    /// What the next header is.
    pub const NEXT_HEADER: i16 = 6;
    /// Hops that are left.
    pub const HOP_LIMIT: i16 = 7;
    /// The source address.
    pub const SOURCE: i16 = 8;
    /// The destination address.
    pub const DESTINATION: i16 = 24;
    /// Bytes of the header.
    pub const BYTES: i16 = 40;
}

/// Extension headers: RFC 8200 section 4, RFC 4302 for authentication.
pub mod extension {
    /// Hop-by-hop options.
    pub const HOP_BY_HOP: u16 = 0;
    /// A routing header.
    pub const ROUTING: u16 = 43;
    /// A fragment header.
    pub const FRAGMENT: u16 = 44;
    /// An authentication header.
    pub const AUTHENTICATION: u16 = 51;
    /// Destination options.
    pub const DESTINATION_OPTIONS: u16 = 60;
    /// In each of them: what the next header is.
    pub const NEXT_HEADER: i16 = 0;
    /// In all but the fragment header: its length, less 8 bytes, in 8 bytes (of an
    /// authentication header in 4).
    pub const LENGTH: i16 = 1;
    /// In a fragment header: the offset in 8 bytes (13 bits), two that are reserved, more.
    pub const FRAGMENT_OFFSET: i16 = 2;
    /// In a fragment header: which datagram it is of.
    pub const FRAGMENT_IDENTIFICATION: i16 = 4;
    /// Bytes of a fragment header, and the least of any.
    pub const BYTES: i16 = 8;
}

/// RFC 9293 section 3.1.
pub mod tcp {
    /// The source port.
    pub const SOURCE_PORT: i16 = 0;
    /// The destination port.
    pub const DESTINATION_PORT: i16 = 2;
    /// Bytes 4 to 7: the sequence number.
    pub const SEQUENCE: i16 = 4;
    /// Bytes 8 to 11: the acknowledgement number.
    pub const ACKNOWLEDGEMENT: i16 = 8;
    /// Length of the header in words (4 bits), reserved (4 bits).
    pub const DATA_OFFSET: i16 = 12;
    /// CWR to FIN.
    pub const FLAGS: i16 = 13;
    /// The checksum.
    pub const CHECKSUM: i16 = 16;
    /// Bytes of a header without options.
    pub const BYTES: i16 = 20;
}

/// RFC 768.
pub mod udp {
    /// The source port.
    pub const SOURCE_PORT: i16 = 0;
    /// The destination port.
    pub const DESTINATION_PORT: i16 = 2;
    /// Bytes of header and payload.
    pub const LENGTH: i16 = 4;
    /// The checksum.
    pub const CHECKSUM: i16 = 6;
    /// Bytes of the header.
    pub const BYTES: i16 = 8;
}

/// RFC 792, RFC 4443.
pub mod icmp {
    /// The type.
    pub const TYPE: i16 = 0;
    /// The code.
    pub const CODE: i16 = 1;
    /// The checksum.
    pub const CHECKSUM: i16 = 2;
    /// The identifier of an echo.
    pub const IDENTIFIER: i16 = 4;
    /// Bytes of the header.
    pub const BYTES: i16 = 8;
}
