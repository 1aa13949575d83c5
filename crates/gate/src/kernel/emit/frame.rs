//! The stack of the programs that decide: 512 bytes, downwards from its end.
//! Pieces share a place where one is over before the other begins.

/// Bytes of a record.
pub const RECORD_BYTES: usize = 80;

/// Bytes of a bucket's key: the number of the rule, and the source (IPv4 as
/// `::ffff:a.b.c.d`, IPv6 without its last 64 bits; zeros where all share one).
pub const BUCKET_BYTES: u32 = 24;

/// Bytes of a label.
pub const OWNER_TAG_BYTES: u32 = 24;

/// What a packet has to do with rates.
pub mod looks {
    /// It takes, as one that opens a connection does.
    pub const TAKES: u16 = 0;
    /// It is within them or beyond, and takes nothing.
    pub const ONLY: u16 = 1;
    /// What belongs to it has taken already.
    pub const IS_PAID: u16 = 2;
}

/// Where things stand on the stack.
pub mod at {
    use tipstaff_bpf::asm::Flag;
    pub use tipstaff_bpf::parse::at::{FIRST_FRAGMENT, FRAGMENT, HEADER, TRANSPORT};

    /// Whether a socket has to do with the packet.
    pub const SOCKET: Flag = Flag::at(-8);
    /// A counter slot, u32.
    pub const SLOT: i16 = -68;
    /// The traffic key, u32; in the upper half of its 8 bytes, as a `Flag`.
    pub const KEY: i16 = -92;
    /// The time, u64.
    pub const NOW: i16 = -104;
    /// Which foundation lets the packet pass should it be for this host:
    /// `kernel::pending`.
    pub const PENDING: Flag = Flag::at(-112);
    /// Whether the packet answers what was let in.
    pub const ANSWERS: Flag = Flag::at(-128);
    /// What the packet has to do with rates: `kernel::looks`.
    pub const LOOKS: Flag = Flag::at(-136);
    /// Arguments of a route lookup, 64 bytes.
    pub const ROUTE: i16 = -208;
    /// The label of the socket; the route is not asked for any more when it is read.
    pub const OWNER_TAG: i16 = ROUTE;
    /// The key of a program, behind its label.
    pub const PROGRAM_KEY: i16 = ROUTE + 24;
    /// The traffic row's address.
    pub const TRAFFIC_ROW: i16 = -216;
    /// The source row's address.
    pub const SOURCE_ROW: i16 = -224;
    /// The destination row's address.
    pub const DESTINATION_ROW: i16 = -232;
    /// The interface row's address.
    pub const INTERFACE_ROW: i16 = -240;
    /// The row of the rules that have not expired.
    pub const TIME_ROW: i16 = -248;
    /// The key of a rate's bucket.
    pub const BUCKET: i16 = -272;
    /// What one packet takes of a rate, u64.
    pub const INCREMENT: i16 = -280;
    /// How far a source may be ahead of its rate, u64.
    pub const TOLERANCE: i16 = -288;
    /// The first time of a bucket, u64.
    pub const LEVEL: i16 = -296;
    /// The verdict byte of a rule, u64.
    pub const VERDICT: i16 = -304;
    /// The link header, 14 bytes.
    pub const LINK: i16 = -320;
    /// An answer of the gate's own from its IP header on, 96 bytes at most.
    pub const ANSWER: i16 = -416;
    /// The record of a decision; an answer is made after it is written.
    pub const RECORD: i16 = ANSWER;
    /// The value of a flow, 16 bytes; written after the record, before an answer.
    pub const FLOW_VALUE: i16 = ANSWER;
    /// The key of a share, 24 bytes, and its value; behind the value of a flow.
    pub const SHARE: i16 = ANSWER + 16;
    /// The value of a share, u64.
    pub const SHARE_VALUE: i16 = SHARE + 24;
    /// What an ICMP error quotes: an IP header and, 40 bytes behind its begin, 8 bytes.
    pub const QUOTE: i16 = ANSWER;
    /// What is to be recorded of the decision.
    pub const LOG: Flag = Flag::at(-424);
    /// 4 or 6.
    pub const FAMILY: Flag = Flag::at(-432);
    /// The direction.
    pub const WAY: Flag = Flag::at(-440);
    /// The key of a flow.
    pub const FLOW: i16 = -480;
    /// The number of the program, u64.
    pub const PROGRAM: i16 = -488;
    /// The program row's address.
    pub const PROGRAM_ROW: i16 = -496;
    /// The context, while every register is a row.
    pub const CONTEXT: i16 = -504;
    /// Whether IPv6 is forwarded here whatever the interface's own switch says, u64.
    pub const FORWARDS: i16 = -512;
}

/// Numbers of [`at::PENDING`].
pub mod pending {
    pub const NOTHING: u16 = 0;
    pub const ASSIGNMENT: u16 = 1;
    pub const ERROR: u16 = 2;
    pub const NEIGHBOURS: u16 = 3;
}

/// Bytes of a flow's key: the remote and the local address (IPv4 as
/// `::ffff:a.b.c.d`), the remote port, the local port (both in network order),
/// the protocol, zeros. Of a fragment: source, destination, identification.
pub const FLOW_BYTES: u32 = 40;

/// Where the parts of a flow's key stand in it.
pub mod flow {
    /// The remote address.
    pub const REMOTE: i16 = 0;
    /// The local address.
    pub const LOCAL: i16 = 16;
    /// The remote port, or the identifier of an echo.
    pub const REMOTE_PORT: i16 = 32;
    /// The local port.
    pub const LOCAL_PORT: i16 = 34;
    /// The protocol; zeros behind it.
    pub const PROTOCOL: i16 = 36;
}

/// Bytes of a flow's value: when it was seen last (ns), the stamp of the list
/// that it was made under, whether it was answered.
pub const FLOW_VALUE_BYTES: u32 = 16;

/// Where the parts of a flow's value stand in it.
pub mod flow_value {
    pub const TIME: i16 = 0;
    pub const STAMP: i16 = 8;
    pub const ANSWERED: i16 = 12;
}

/// All pieces with their lengths, from the stack's begin upwards; those that
/// share a place are named once.
const PIECES: [(i16, i16); 31] = [
    (at::FORWARDS, 8),
    (at::CONTEXT, 8),
    (at::PROGRAM_ROW, 8),
    (at::PROGRAM, 8),
    (at::FLOW, FLOW_BYTES as i16),
    (at::WAY.begin(), 8),
    (at::FAMILY.begin(), 8),
    (at::LOG.begin(), 8),
    (at::ANSWER, 96),
    (at::LINK, 14),
    (at::VERDICT, 8),
    (at::LEVEL, 8),
    (at::TOLERANCE, 8),
    (at::INCREMENT, 8),
    (at::BUCKET, BUCKET_BYTES as i16),
    (at::TIME_ROW, 8),
    (at::INTERFACE_ROW, 8),
    (at::DESTINATION_ROW, 8),
    (at::SOURCE_ROW, 8),
    (at::TRAFFIC_ROW, 8),
    (at::ROUTE, 64),
    (at::LOOKS.begin(), 8),
    (at::ANSWERS.begin(), 8),
    (at::FRAGMENT, 8),
    (at::PENDING.begin(), 8),
    (at::NOW, 8),
    (at::KEY, 4),
    (at::TRANSPORT, 20),
    (at::SLOT, 4),
    (at::HEADER, 44),
    (at::SOCKET.begin(), 8),
];

/// No piece reaches into the next one, and the stack is long enough.
const _: () = {
    let mut nth = 0;
    assert!(PIECES[0].0 >= -512);
    while nth + 1 < PIECES.len() {
        assert!(PIECES[nth].0 + PIECES[nth].1 <= PIECES[nth + 1].0);
        nth += 1;
    }
    assert!(at::SOCKET.begin() + 8 <= 0);
    // What stands in the route's place, and in that of an answer.
    assert!(
        OWNER_TAG_BYTES as i16 <= at::PROGRAM_KEY - at::OWNER_TAG
            && at::PROGRAM_KEY + 16 <= at::ROUTE + 64
    );
    assert!(RECORD_BYTES <= 96);
};
