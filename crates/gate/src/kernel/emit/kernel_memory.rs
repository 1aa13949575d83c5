//! Copies of the kernel's own memory.

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{Assembler, If, Label, R0, R1, R2, R3, Reg};

/// Copies `size` bytes of the kernel's memory at `base + offset` to the stack; zeros, and
/// r0 not 0, where they cannot be read. r1 to r5 are lost.
pub(crate) fn copy(a: &mut Assembler, (base, offset): (Reg, i16), (to, size): (i16, i32)) {
    a.copy(R3, base);
    a.add(R3, i32::from(offset));
    a.stack(R1, to);
    a.mov(R2, size);
    a.call(helper::PROBE_READ_KERNEL);
}

/// As [`copy`], or goes to `failed`.
pub(crate) fn read(a: &mut Assembler, from: (Reg, i16), to: (i16, i32), failed: Label) {
    copy(a, from, to);
    a.jump_if(If::Ne, R0, 0, failed);
}
