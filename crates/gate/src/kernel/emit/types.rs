//! What programs read of the kernel's own structures at the packet: which
//! device it is at, and what stands on that device. The kernel describes them
//! itself (Documentation/bpf/btf.rst). Since Linux 6.2 a program may follow typed
//! pointers, each access checked by the verifier; before, it copies what it reads.

use tipstaff_bpf::asm::{
    AssembleError, Assembler, If, Label, Op, R0, R1, R2, R3, R6, R7, STACK, Width,
};
use tipstaff_bpf::btf::{Btf, Missing};
use tipstaff_bpf::sys::Attach;

use crate::kernel::emit::kernel_memory::{Field, copy, read};

/// So many programs at an interface are looked at; the gate's is the first of
/// them unless somebody put theirs before it.
const PROGRAMS_LOOKED_AT: i16 = 4;

/// How programs get at what they read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Access {
    /// By pointers whose types the verifier knows.
    Typed {
        /// The function that makes the context a typed `struct sk_buff`.
        context: u32,
        /// What makes any address one of a structure that begins with 8 plain bytes.
        bytes: Option<PlainBytes>,
    },
    /// By `bpf_probe_read_kernel`, which is given the context as what it is: a
    /// `struct sk_buff`. It leaves zeros of what cannot be read.
    Copied,
}

/// `bpf_rdonly_cast`, and the structure that it is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct PlainBytes {
    function: u32,
    structure: u32,
}

/// The programs at an interface, by links: since Linux 6.6.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Programs {
    ingress: i16,
    egress: i16,
    entries: i16,
    aux: i16,
    id: i16,
}

/// The filters at an interface, of the discipline `clsact`: before Linux 6.6.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Filters {
    ingress: i16,
    egress: i16,
    first: i16,
    priority: i16,
}

/// What stands at a side of an interface, as far as programs see it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Placed {
    Programs(Programs),
    Filters(Filters),
}

/// The priority of the gate's own filter, before every other: `tcf_proto.prio`.
const OWN_PRIORITY: u32 = 1 << 16;

/// Offsets of what is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct KernelTypes {
    access: Access,
    device: i16,
    rx_handler: i16,
    address: i16,
    placed: Option<Placed>,
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

impl Placed {
    fn from_btf(btf: &Btf<'_>) -> Option<Self> {
        fn programs(btf: &Btf) -> Result<Programs, Missing> {
            Ok(Programs {
                ingress: btf.offset("net_device", "tcx_ingress")?,
                egress: btf.offset("net_device", "tcx_egress")?,
                entries: btf.offset("bpf_mprog_entry", "fp_items")?,
                aux: btf.offset("bpf_prog", "aux")?,
                id: btf.offset("bpf_prog_aux", "id")?,
            })
        }
        fn filters(btf: &Btf) -> Result<Filters, Missing> {
            Ok(Filters {
                ingress: btf.offset("net_device", "miniq_ingress")?,
                egress: btf.offset("net_device", "miniq_egress")?,
                first: btf.offset("mini_Qdisc", "filter_list")?,
                priority: btf.offset("tcf_proto", "prio")?,
            })
        }
        programs(btf).map(Self::Programs).or_else(|_| filters(btf).map(Self::Filters)).ok()
    }
}

impl PlainBytes {
    fn from_btf(btf: &Btf<'_>) -> Option<Self> {
        let function = btf.function("bpf_rdonly_cast").ok()?;
        Some(Self { function, structure: btf.structure("timespec64").ok()? })
    }
}

impl KernelTypes {
    pub(crate) fn from_btf(btf: &Btf<'_>) -> Result<Self, Missing> {
        let typed = |context| Access::Typed { context, bytes: PlainBytes::from_btf(btf) };
        Ok(Self {
            access: btf.function("bpf_cast_to_kern_ctx").map_or(Access::Copied, typed),
            device: btf.offset("sk_buff", "dev")?,
            rx_handler: btf.offset("net_device", "rx_handler")?,
            address: btf.offset("net_device", "dev_addr")?,
            placed: Placed::from_btf(btf),
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

    /// The same on a kernel before Linux 6.2.
    pub(crate) const fn older(self) -> Self {
        Self { access: Access::Copied, placed: None, ..self }
    }

    /// Whether programs at an interface can be seen there.
    pub(crate) const fn sees_programs(&self) -> bool {
        self.placed.is_some()
    }

    /// r1 = what stands at the end of `path`, which leads from the packet over pointers;
    /// 0 where one of them is null. r0 to r5 and 8 bytes at `scratch` are lost; r6 is the
    /// context.
    fn follow(&self, a: &mut Assembler, path: &[i16], width: Width, scratch: i16) {
        let (last, null) = (path.len() - 1, a.label());
        match self.access {
            Access::Typed { context, .. } => {
                a.copy(R1, R6);
                a.call_kernel(context);
                let mut at = R0;
                for (n, offset) in path.iter().enumerate() {
                    a.load(if n == last { width } else { Width::D }, R1, at, *offset);
                    // Of these the verifier knows that they may be null.
                    if n < last && [self.socket, self.six].contains(offset) {
                        a.jump_if(If::Eq, R1, 0, null);
                    }
                    at = R1;
                }
            }
            Access::Copied => {
                let mut at = R6;
                for (n, offset) in path.iter().enumerate() {
                    let width = if n == last { width } else { Width::D };
                    copy(a, Field { base: at, offset: *offset, to: scratch, size: width.bytes() });
                    a.load(width, R1, STACK, scratch);
                    at = R1;
                }
            }
        }
        if a.is_used(null) {
            // Not a pointer any more for the verifier either.
            let end = a.label();
            a.jump(end);
            a.place(null);
            a.mov(R1, 0);
            a.place(end);
        }
    }

    /// Goes to `free` when no master takes what the packet's device receives: it
    /// is no port of a bridge or bond, and nothing stands on it that shares it.
    pub(crate) fn jump_unless_taken(&self, a: &mut Assembler, scratch: i16, free: Label) {
        self.follow(a, &[self.device, self.rx_handler], Width::D, scratch);
        a.jump_if(If::Eq, R1, 0, free);
    }

    /// Goes to `found` when a socket of this network namespace sent the packet.
    pub(crate) fn jump_if_sent_in(
        &self,
        a: &mut Assembler,
        cookie: u64,
        scratch: i16,
        found: Label,
    ) {
        // No namespace has the number 0.
        self.follow(a, &[self.socket, self.of_socket, self.cookie], Width::D, scratch);
        a.ld_imm64(R2, cookie);
        a.jump_if_reg(If::Eq, R1, R2, found);
    }

    /// Goes to `found` when a socket of another network namespace sent the packet.
    pub(crate) fn jump_if_sent_elsewhere(
        &self,
        a: &mut Assembler,
        cookie: u64,
        scratch: i16,
        found: Label,
    ) {
        let here = a.label();
        self.follow(a, &[self.socket], Width::D, scratch);
        a.jump_if(If::Eq, R1, 0, here);
        self.jump_if_sent_in(a, cookie, scratch, here);
        a.jump(found);
        a.place(here);
    }

    /// Goes to `owned` when a program made the socket of the packet; falls through when
    /// the kernel made it for itself, and where there is none.
    pub(crate) fn jump_if_owned(&self, a: &mut Assembler, scratch: i16, owned: Label) {
        let (byte, bit) = self.holds;
        self.follow(a, &[self.socket, byte], Width::B, scratch);
        a.jump_if(If::Set, R1, bit, owned);
    }

    /// Copies the hardware address of the packet's device to the stack, 6 bytes.
    pub(crate) fn hardware_address(&self, a: &mut Assembler, to: i16, otherwise: Label) {
        self.follow(a, &[self.device, self.address], Width::D, to);
        if let Access::Typed { bytes: Some(PlainBytes { function, structure }), .. } = self.access {
            a.mov(R2, structure.cast_signed());
            a.call_kernel(function);
            a.load(Width::D, R1, R0, 0);
            a.store(Width::D, STACK, to, R1);
            a.store_imm(Width::H, STACK, to + 6, 0);
            return;
        }
        a.copy(R3, R1);
        a.store_imm(Width::D, STACK, to, 0);
        read(a, Field { base: R3, offset: 0, to, size: 6 }, otherwise);
    }

    /// Goes to `found` when one of these programs stands at that side of the packet's
    /// device; falls through otherwise, and where that cannot be seen. Of a filter its
    /// priority must do, which is the gate's own.
    pub(crate) fn jump_if_at(
        &self,
        a: &mut Assembler,
        side: Attach,
        ids: &[u32],
        scratch: i16,
        found: Label,
    ) {
        let none = a.label();
        let arrives = side == Attach::TcxIngress;
        match self.placed {
            Some(Placed::Programs(programs)) if matches!(self.access, Access::Typed { .. }) => {
                let entry = if arrives { programs.ingress } else { programs.egress };
                self.follow(a, &[self.device, entry], Width::D, scratch);
                a.jump_if(If::Eq, R1, 0, none);
                for nth in 0..PROGRAMS_LOOKED_AT {
                    a.load(Width::D, R2, R1, programs.entries + nth * 8);
                    a.jump_if(If::Eq, R2, 0, none);
                    a.load(Width::D, R2, R2, programs.aux);
                    a.load(Width::W, R2, R2, programs.id);
                    for id in ids {
                        a.jump32_if(If::Eq, R2, *id, found);
                    }
                }
            }
            Some(Placed::Filters(Filters { ingress, egress, first, priority })) => {
                let discipline = if arrives { ingress } else { egress };
                let path = [self.device, discipline, first, priority];
                self.follow(a, &path, Width::W, scratch);
                a.jump32_if(If::Eq, R1, OWN_PRIORITY, found);
            }
            _ => {}
        }
        a.place(none);
    }

    /// Notes at `to`, 8 bytes, whether IPv6 is forwarded from the device of the
    /// packet although its own switch says no. r7 is lost too.
    ///
    /// Called once, where few ways lead: for each way to it the verifier looks up
    /// by name whether each pointer is to be trusted, in the whole of the kernel's
    /// description, and that takes most of the time of a load.
    pub(crate) fn note_forwarding(&self, a: &mut Assembler, to: i16) {
        a.mov(R7, 0);
        if let Some(forced) = self.forced {
            self.follow(a, &[self.device, self.six, forced], Width::W, to);
            a.copy(R7, R1);
        }
        let path = [self.device, self.namespace, self.all, self.forwarding];
        self.follow(a, &path, Width::W, to);
        a.alu64(Op::Or, R7, R1);
        a.store(Width::D, STACK, to, R7);
    }

    /// A program that reads everything, to see whether the verifier lets it.
    pub(crate) fn probe(&self) -> Result<Vec<u8>, AssembleError> {
        let mut a = Assembler::default();
        let end = a.label();
        a.copy(R6, R1);
        a.store_imm(Width::D, STACK, -8, 0);
        self.note_forwarding(&mut a, -8);
        self.jump_unless_taken(&mut a, -8, end);
        for side in [Attach::TcxIngress, Attach::TcxEgress] {
            self.jump_if_at(&mut a, side, &[1], -8, end);
        }
        self.hardware_address(&mut a, -8, end);
        self.jump_if_sent_in(&mut a, 1, -8, end);
        self.jump_if_owned(&mut a, -8, end);
        a.place(end);
        a.mov(R0, 1);
        a.exit();
        a.finish()
    }
}
