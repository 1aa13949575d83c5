//! Whose packet it is: hooks at the control groups see those of all network
//! namespaces.

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{AssembleError, Assembler, If, Label, R0, R1, R6, STACK, Width};
use tipstaff_bpf::btf::{Btf, Missing};

use crate::kernel::emit::kernel_memory::{Field, read};

/// How a program at the control groups learns the namespace of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum NamespaceOf {
    /// It asks the kernel: `bpf_get_netns_cookie`. At packets since about Linux 6.15.
    Helper,
    /// It copies the namespace's number from the packet's device.
    Device(DeviceNamespace),
    /// It follows typed pointers to it, where no memory may be copied
    /// (kernel_lockdown(7)); since Linux 6.2.
    TypedDevice {
        /// The function that makes the context a typed `struct sk_buff`.
        context: u32,
        /// What is read.
        device: DeviceNamespace,
    },
}

/// Where a packet has its device, a device its namespace, and a namespace its number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct DeviceNamespace {
    device: i16,
    namespace: i16,
    cookie: i16,
    /// The function that makes the context a typed `struct sk_buff`.
    context: Option<u32>,
}

impl DeviceNamespace {
    /// Looks the offsets up.
    ///
    /// # Errors
    /// [`Missing`].
    pub(crate) fn from_btf(btf: &Btf<'_>) -> Result<Self, Missing> {
        Ok(Self {
            device: btf.offset("sk_buff", "dev")?,
            namespace: btf.offset("net_device", "nd_net.net")?,
            cookie: btf.offset("net", "net_cookie")?,
            context: btf.function("bpf_cast_to_kern_ctx").ok(),
        })
    }
}

impl DeviceNamespace {
    /// The same on a kernel before 6.2.
    pub(crate) const fn older(self) -> Self {
        Self { context: None, ..self }
    }
}

impl NamespaceOf {
    /// All ways by which a packet's device tells, the plainest first.
    pub(crate) fn at_device(device: DeviceNamespace) -> impl Iterator<Item = Self> {
        let typed = device.context.map(|context| Self::TypedDevice { context, device });
        std::iter::once(Self::Device(device)).chain(typed)
    }

    /// Goes to `other` when the packet, or socket, of the context at r6 is of another
    /// namespace than that with this cookie. r0 to r5 are lost, and 8 bytes at `scratch`.
    pub(crate) fn jump_if_other(self, a: &mut Assembler, cookie: u64, scratch: i16, other: Label) {
        match self {
            Self::Helper => {
                a.copy(R1, R6);
                a.call(helper::GET_NETNS_COOKIE);
            }
            Self::TypedDevice { context, device } => {
                let DeviceNamespace { device, namespace, cookie, .. } = device;
                a.copy(R1, R6);
                a.call_kernel(context);
                for offset in [device, namespace, cookie] {
                    a.load(Width::D, R0, R0, offset);
                }
            }
            Self::Device(offsets) => {
                // The context is the packet itself (`struct sk_buff`) for whoever reads
                // the kernel's memory with leave to.
                let mut at = R6;
                for offset in [offsets.device, offsets.namespace, offsets.cookie] {
                    read(a, Field { base: at, offset, to: scratch, size: 8 }, other);
                    a.load(Width::D, R0, STACK, scratch);
                    at = R0;
                }
            }
        }
        a.ld_imm64(R1, cookie);
        a.jump_if_reg(If::Ne, R0, R1, other);
    }

    /// A program that asks, to see whether the verifier lets it.
    pub(crate) fn probe(self) -> Result<Vec<u8>, AssembleError> {
        let mut a = Assembler::default();
        let other = a.label();
        a.copy(R6, R1);
        self.jump_if_other(&mut a, 1, -8, other);
        a.place(other);
        a.mov(R0, 1);
        a.exit();
        a.finish()
    }
}
