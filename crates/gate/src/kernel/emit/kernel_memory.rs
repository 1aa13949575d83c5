//! Copies of the kernel's own memory. Locked down for confidentiality
//! (kernel_lockdown(7)), a kernel lets no program make any.

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{AssembleError, Assembler, If, Label, R0, R1, R2, R3, Reg, STACK, Width};

/// Bytes of the kernel's memory, and where on the stack they go.
#[derive(Clone, Copy)]
pub(crate) struct Field {
    pub(crate) base: Reg,
    pub(crate) offset: i16,
    pub(crate) to: i16,
    pub(crate) size: i32,
}

/// Copies them; zeros, and r0 not 0, where they cannot be read. r1 to r5 are lost.
pub(crate) fn copy(a: &mut Assembler, field: Field) {
    a.copy(R3, field.base);
    a.add(R3, i32::from(field.offset));
    a.stack(R1, field.to);
    a.mov(R2, field.size);
    a.call(if is_locked_down() { NO_HELPER } else { helper::PROBE_READ_KERNEL });
}

/// What every verifier refuses as it does a helper that is locked down.
const NO_HELPER: i32 = i32::MAX;

/// As if the kernel were locked down for confidentiality, for tests.
pub(crate) fn is_locked_down() -> bool {
    cfg!(feature = "testing") && std::env::var_os("TIPSTAFF_TEST_LOCKED_DOWN").is_some()
}

/// A program that copies, to see whether the verifier lets it.
pub(crate) fn probe() -> Result<Vec<u8>, AssembleError> {
    let mut a = Assembler::default();
    a.store_imm(Width::D, STACK, -8, 0);
    copy(&mut a, Field { base: R1, offset: 0, to: -8, size: 8 });
    a.mov(R0, 1);
    a.exit();
    a.finish()
}

/// As [`copy`], or goes to `failed`.
pub(crate) fn read(a: &mut Assembler, field: Field, failed: Label) {
    copy(a, field);
    a.jump_if(If::Ne, R0, 0, failed);
}
