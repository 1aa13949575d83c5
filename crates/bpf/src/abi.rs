//! Numbers of the kernel's interfaces, under the kernel's own names.

/// Helper numbers of `include/uapi/linux/bpf.h`.
pub mod helper {
    /// `bpf_map_lookup_elem`.
    pub const MAP_LOOKUP_ELEM: i32 = 1;
    /// `bpf_map_update_elem`.
    pub const MAP_UPDATE_ELEM: i32 = 2;
    /// `bpf_ktime_get_ns`.
    pub const KTIME_GET_NS: i32 = 5;
    /// `bpf_get_current_pid_tgid`.
    pub const GET_CURRENT_PID_TGID: i32 = 14;
    /// `bpf_skb_store_bytes`.
    pub const SKB_STORE_BYTES: i32 = 9;
    /// `bpf_tail_call`.
    pub const TAIL_CALL: i32 = 12;
    /// `bpf_redirect`.
    pub const REDIRECT: i32 = 23;
    /// `bpf_csum_diff`.
    pub const CSUM_DIFF: i32 = 28;
    /// `bpf_get_current_task`.
    pub const GET_CURRENT_TASK: i32 = 35;
    /// `bpf_skb_change_tail`.
    pub const SKB_CHANGE_TAIL: i32 = 38;
    /// `bpf_skb_load_bytes_relative`.
    pub const SKB_LOAD_BYTES_RELATIVE: i32 = 68;
    /// `bpf_fib_lookup`.
    pub const FIB_LOOKUP: i32 = 69;
    /// `bpf_sk_lookup_tcp`: a listener, or a connection, as a whole socket.
    pub const SK_LOOKUP_TCP: i32 = 84;
    /// `bpf_sk_lookup_udp`.
    pub const SK_LOOKUP_UDP: i32 = 85;
    /// `bpf_sk_fullsock`.
    pub const SK_FULLSOCK: i32 = 95;
    /// `bpf_sk_release`.
    pub const SK_RELEASE: i32 = 86;
    /// `bpf_skc_lookup_tcp`.
    pub const SKC_LOOKUP_TCP: i32 = 99;
    /// `bpf_tcp_check_syncookie`.
    pub const TCP_CHECK_SYNCOOKIE: i32 = 100;
    /// `bpf_sk_storage_get`.
    pub const SK_STORAGE_GET: i32 = 107;
    /// `bpf_probe_read_kernel`.
    pub const PROBE_READ_KERNEL: i32 = 113;
    /// `bpf_probe_read_kernel_str`.
    pub const PROBE_READ_KERNEL_STR: i32 = 115;
    /// `bpf_get_netns_cookie`; for packets since about Linux 6.15.
    pub const GET_NETNS_COOKIE: i32 = 122;
    /// `bpf_ktime_get_boot_ns`.
    pub const KTIME_GET_BOOT_NS: i32 = 125;
    /// `bpf_set_retval`.
    pub const SET_RETVAL: i32 = 187;
    /// `bpf_skc_to_mptcp_sock`, since Linux 5.19.
    pub const SKC_TO_MPTCP_SOCK: i32 = 196;
    /// `bpf_ktime_get_tai_ns`, since Linux 6.1.
    pub const KTIME_GET_TAI_NS: i32 = 208;
    /// `bpf_ringbuf_output`.
    pub const RINGBUF_OUTPUT: i32 = 130;
}

/// Offsets in `struct __sk_buff`.
pub mod skb {
    /// Length of the packet.
    pub const LEN: i16 = 0;
    /// For whom it is: [`super::packet_type`].
    pub const PKT_TYPE: i16 = 4;
    /// Whether the packet bears a tag of IEEE 802.1Q.
    pub const VLAN_PRESENT: i16 = 20;
    /// That tag, whose lower 12 bits are the VLAN. Before Linux 6.2 it stays what it was
    /// when the tag is taken off (`__vlan_hwaccel_clear_tag` of include/linux/if_vlan.h).
    pub const VLAN_TCI: i16 = 24;
    /// The interface a forwarded packet came from; 0 for the host's own.
    pub const INGRESS_IFINDEX: i16 = 36;
    /// The mark.
    pub const MARK: i16 = 8;
    /// The EtherType, network order.
    pub const PROTOCOL: i16 = 16;
    /// The interface.
    pub const IFINDEX: i16 = 40;
    /// The traffic-control index: 16 bits that stay with the packet.
    pub const TC_INDEX: i16 = 44;
    /// The control block: five words for programs.
    pub const CB: i16 = 48;
    /// Where the frame begins, to programs that read it directly.
    pub const DATA: i16 = 76;
    /// Where what an XDP program noted before the frame begins.
    pub const DATA_META: i16 = 140;
    /// The socket that sends the packet, a pointer.
    pub const SK: i16 = 168;
}

/// What a program at an interface returns (`TCX_NEXT`, `TCX_DROP`).
pub mod tcx {
    /// Let the next program decide, and the stack after it.
    pub const NEXT: i32 = -1;
    /// Drop.
    pub const DROP: i32 = 2;
}

/// `linux/if_packet.h`.
pub mod packet_type {
    /// For this machine.
    pub const HOST: u16 = 0;
    /// For another machine.
    pub const OTHERHOST: u16 = 3;
    /// What this machine sent to a group, come back to it.
    pub const LOOPBACK: u16 = 5;
}

/// Offsets in `struct bpf_sock`.
pub mod bpf_sock {
    /// `AF_INET` and so on.
    pub const FAMILY: i16 = 4;
    /// `SOCK_STREAM` and so on.
    pub const TYPE: i16 = 8;
    /// The protocol of IP.
    pub const PROTOCOL: i16 = 12;
    /// [`super::tcp_state`].
    pub const STATE: i16 = 72;
}

/// `include/net/tcp_states.h`.
pub mod tcp_state {
    /// A listener.
    pub const LISTEN: u16 = 10;
}

/// `struct bpf_fib_lookup`, and its helper.
pub mod fib {
    /// Bytes of the struct.
    pub const BYTES: i32 = 64;
    /// The address family, u8.
    pub const FAMILY: i16 = 0;
    /// The interface, u32.
    pub const IFINDEX: i16 = 8;
    /// The source address.
    pub const SOURCE: i16 = 16;
    /// The destination address.
    pub const DESTINATION: i16 = 32;
    /// `BPF_FIB_LOOKUP_SKIP_NEIGH`.
    pub const SKIP_NEIGH: i32 = 1 << 2;
    /// `BPF_FIB_LKUP_RET_NOT_FWDED`.
    pub const NOT_FWDED: u16 = 4;
    /// `BPF_FIB_LKUP_RET_FWD_DISABLED`.
    pub const FWD_DISABLED: u16 = 5;
}

/// `enum bpf_hdr_start_off`.
pub mod hdr_start {
    /// The link header.
    pub const MAC: i32 = 0;
    /// The IP header.
    pub const NET: i32 = 1;
}

/// `BPF_F_CURRENT_NETNS`.
pub const CURRENT_NETNS: i32 = -1;
/// `BPF_NOEXIST`: only where there is nothing yet.
pub const NOEXIST: i32 = 1;
