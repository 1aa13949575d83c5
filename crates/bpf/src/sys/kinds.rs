//! Kinds of objects, and where they attach: `include/uapi/linux/bpf.h`.

/// Kinds of maps that Tipstaff uses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u32)]
pub enum MapKind {
    /// Values by key.
    Hash = 1,
    /// Values by index.
    Array = 2,
    /// Programs by index, for tail calls.
    ProgramArray = 3,
    /// Values by index, one copy a processor.
    PerCpuArray = 6,
    /// A hash that forgets the least recently used.
    LruHash = 9,
    /// A value at each socket.
    SocketStorage = 24,
    /// Records from a program to user space.
    Ring = 27,
}

/// Kinds of programs that Tipstaff uses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u32)]
pub enum ProgramKind {
    /// On an interface.
    SchedCls = 3,
    /// Before the stack; only ever used in test runs that inject frames.
    Xdp = 6,
    /// Packets of the sockets of a control group.
    CgroupSkb = 8,
    /// The making of a socket in a control group.
    CgroupSock = 9,
    /// Addresses that sockets of a control group are given.
    CgroupAddress = 18,
}

/// Where a link attaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u32)]
pub enum Attach {
    /// What sockets of a control group receive.
    CgroupIngress = 0,
    /// What sockets of a control group send.
    CgroupEgress = 1,
    /// A socket is made.
    SocketMade = 2,
    /// A socket connects, IPv4.
    Connect4 = 10,
    /// A socket connects, IPv6.
    Connect6 = 11,
    /// What arrives on an interface.
    TcxIngress = 46,
    /// What leaves an interface.
    TcxEgress = 47,
}

/// A link's place among those that are there already.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u32)]
pub enum Order {
    /// In front of all (`BPF_F_BEFORE`).
    First = 8,
    /// Behind all (`BPF_F_AFTER`).
    Last = 16,
}
