//! What programs read of the kernel's own structures at the packet: which
//! device it is at, and what stands on that device. The kernel describes them
//! itself (Documentation/bpf/btf.rst), and its verifier checks each access.

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{
    AssembleError, Assembler, If, Label, Op, R0, R1, R2, R3, R6, STACK, Width,
};
use tipstaff_bpf::btf::{Btf, Missing};
use tipstaff_bpf::sys::Attach;

/// So many programs at an interface are looked at; the gate's is the first of
/// them unless somebody put theirs before it.
const PROGRAMS_LOOKED_AT: i16 = 4;

/// Offsets of what is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct KernelTypes {
    /// The function that makes the context a `struct sk_buff`.
    cast: u32,
    device: i16,
    rx_handler: i16,
    address: i16,
    ingress: i16,
    egress: i16,
    entries: i16,
    aux: i16,
    id: i16,
    /// How IPv6 is told to forward: the namespace, its switch for all, and
    /// since Linux 6.17 one of each interface that overrules it.
    namespace: i16,
    all: i16,
    forwarding: i16,
    six: i16,
    forced: Option<i16>,
    /// The namespace of a packet's socket, and its number.
    socket: i16,
    of_socket: i16,
    cookie: i16,
    /// The byte and the bit of a socket that say whether it holds its namespace:
    /// those that the kernel makes for itself do not (`sk_net_refcnt` of
    /// include/net/sock.h).
    holds: (i16, u16),
    /// Whether sockets may be MPTCP's.
    pub(crate) mptcp: bool,
}

impl KernelTypes {
    pub(crate) fn of(btf: &Btf<'_>) -> Result<Self, Missing> {
        Ok(Self {
            cast: btf.function("bpf_cast_to_kern_ctx")?,
            device: btf.offset("sk_buff", "dev")?,
            rx_handler: btf.offset("net_device", "rx_handler")?,
            address: btf.offset("net_device", "dev_addr")?,
            ingress: btf.offset("net_device", "tcx_ingress")?,
            egress: btf.offset("net_device", "tcx_egress")?,
            entries: btf.offset("bpf_mprog_entry", "fp_items")?,
            aux: btf.offset("bpf_prog", "aux")?,
            id: btf.offset("bpf_prog_aux", "id")?,
            namespace: btf.offset("net_device", "nd_net.net")?,
            all: btf.offset("net", "ipv6.devconf_all")?,
            forwarding: btf.offset("ipv6_devconf", "forwarding")?,
            six: btf.offset("net_device", "ip6_ptr")?,
            forced: btf.offset("inet6_dev", "cnf.force_forwarding").ok(),
            socket: btf.offset("sk_buff", "sk")?,
            of_socket: btf.offset("sock", "__sk_common.skc_net.net")?,
            cookie: btf.offset("net", "net_cookie")?,
            holds: btf.bit("sock", "__sk_common.skc_net_refcnt")?,
            mptcp: btf.offset("mptcp_sock", "sk").is_ok(),
        })
    }

    /// r0 = the device of the packet, a pointer. r1 to r5 are lost; r6 is the context.
    pub(crate) fn device(&self, a: &mut Assembler) {
        a.copy(R1, R6);
        a.call_kernel(self.cast);
        a.load(Width::D, R0, R0, self.device);
    }

    /// Goes to `free` when no master takes what the device at r0 receives: it
    /// is no port of a bridge or bond, and nothing stands on it that shares it.
    pub(crate) fn jump_unless_taken(&self, a: &mut Assembler, free: Label) {
        a.load(Width::D, R1, R0, self.rx_handler);
        a.jump_if(If::Eq, R1, 0, free);
    }

    /// Goes to `found` when a socket of this network namespace sent the packet.
    /// r0 to r5 are lost.
    pub(crate) fn jump_if_sent_in(&self, a: &mut Assembler, cookie: u64, found: Label) {
        let none = a.label();
        a.copy(R1, R6);
        a.call_kernel(self.cast);
        a.load(Width::D, R1, R0, self.socket);
        a.jump_if(If::Eq, R1, 0, none);
        a.load(Width::D, R1, R1, self.of_socket);
        a.load(Width::D, R1, R1, self.cookie);
        a.ld_imm64(R2, cookie);
        a.jump_if_reg(If::Eq, R1, R2, found);
        a.place(none);
    }

    /// Goes to `found` when a socket of another network namespace sent the packet.
    /// r0 to r5 are lost.
    pub(crate) fn jump_if_sent_elsewhere(&self, a: &mut Assembler, cookie: u64, found: Label) {
        let (here, none) = (a.label(), a.label());
        a.copy(R1, R6);
        a.call_kernel(self.cast);
        a.load(Width::D, R1, R0, self.socket);
        a.jump_if(If::Eq, R1, 0, none);
        self.jump_if_sent_in(a, cookie, here);
        a.jump(found);
        a.place(here);
        a.place(none);
    }

    /// Goes to `owned` when a program made the socket of the packet, which there
    /// must be; falls through when the kernel made it for itself. r0 to r5 are lost.
    pub(crate) fn jump_if_owned(&self, a: &mut Assembler, owned: Label) {
        a.copy(R1, R6);
        a.call_kernel(self.cast);
        a.load(Width::D, R1, R0, self.socket);
        let ((byte, bit), none) = (self.holds, a.label());
        a.jump_if(If::Eq, R1, 0, none);
        a.load(Width::B, R1, R1, byte);
        a.jump_if(If::Set, R1, bit, owned);
        a.place(none);
    }

    /// Copies the hardware address of the device at r0 to the stack, 6 bytes.
    pub(crate) fn hardware_address(&self, a: &mut Assembler, to: i16, otherwise: Label) {
        a.load(Width::D, R3, R0, self.address);
        a.stack(R1, to);
        a.mov(R2, 6);
        a.call(helper::PROBE_READ_KERNEL);
        a.jump_if(If::Ne, R0, 0, otherwise);
    }

    /// Goes to `found` when one of these programs stands at that side of the
    /// device at r0; falls through otherwise. r1 to r3 are lost.
    pub(crate) fn jump_if_at(&self, a: &mut Assembler, side: Attach, ids: &[u32], found: Label) {
        let none = a.label();
        let entry = if side == Attach::TcxIngress { self.ingress } else { self.egress };
        a.load(Width::D, R1, R0, entry);
        a.jump_if(If::Eq, R1, 0, none);
        for nth in 0..PROGRAMS_LOOKED_AT {
            a.load(Width::D, R2, R1, self.entries + nth * 8);
            a.jump_if(If::Eq, R2, 0, none);
            a.load(Width::D, R2, R2, self.aux);
            a.load(Width::W, R2, R2, self.id);
            for id in ids {
                a.jump32_if(If::Eq, R2, *id, found);
            }
        }
        a.place(none);
    }

    /// Notes at `to`, 8 bytes, whether IPv6 is forwarded from the device of the
    /// packet although its own switch says no. r0 to r5 are lost.
    ///
    /// Called once, where few ways lead: for each way to it the verifier looks up
    /// by name whether each pointer is to be trusted, in the whole of the kernel's
    /// description, and that takes most of the time of a load.
    pub(crate) fn note_forwarding(&self, a: &mut Assembler, to: i16) {
        self.device(a);
        a.mov(R2, 0);
        if let Some(forced) = self.forced {
            let none = a.label();
            a.load(Width::D, R1, R0, self.six);
            a.jump_if(If::Eq, R1, 0, none);
            a.load(Width::W, R2, R1, forced);
            a.place(none);
        }
        a.load(Width::D, R1, R0, self.namespace);
        a.load(Width::D, R1, R1, self.all);
        a.load(Width::W, R1, R1, self.forwarding);
        a.alu64(Op::Or, R2, R1);
        a.store(Width::D, STACK, to, R2);
    }

    /// A program that reads everything, to see whether the verifier lets it.
    pub(crate) fn probe(&self) -> Result<Vec<u8>, AssembleError> {
        let mut a = Assembler::default();
        let end = a.label();
        a.copy(R6, R1);
        a.store_imm(Width::D, STACK, -8, 0);
        self.note_forwarding(&mut a, -8);
        self.device(&mut a);
        self.jump_unless_taken(&mut a, end);
        for side in [Attach::TcxIngress, Attach::TcxEgress] {
            self.jump_if_at(&mut a, side, &[1], end);
        }
        self.hardware_address(&mut a, -8, end);
        self.jump_if_sent_in(&mut a, 1, end);
        self.jump_if_owned(&mut a, end);
        a.place(end);
        a.mov(R0, 1);
        a.exit();
        a.finish()
    }
}
