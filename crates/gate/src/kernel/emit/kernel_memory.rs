//! Copies of the kernel's own memory.

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{Assembler, If, Label, R0, R1, R2, R3, Reg};

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
    a.call(helper::PROBE_READ_KERNEL);
}

/// As [`copy`], or goes to `failed`.
pub(crate) fn read(a: &mut Assembler, field: Field, failed: Label) {
    copy(a, field);
    a.jump_if(If::Ne, R0, 0, failed);
}
