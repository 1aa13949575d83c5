//! A small assembler for eBPF (RFC 9669): registers, labels, the instructions
//! that Tipstaff's programs use.

use std::os::fd::{AsRawFd, BorrowedFd};

/// A register, 0 to 10.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Reg(u8);

/// Return value, and a scratch register.
pub const R0: Reg = Reg(0);
/// First argument of a call.
pub const R1: Reg = Reg(1);
/// Second argument of a call.
pub const R2: Reg = Reg(2);
/// Third argument of a call.
pub const R3: Reg = Reg(3);
/// Fourth argument of a call.
pub const R4: Reg = Reg(4);
/// Fifth argument of a call.
pub const R5: Reg = Reg(5);
/// Kept over calls.
pub const R6: Reg = Reg(6);
/// Kept over calls.
pub const R7: Reg = Reg(7);
/// Kept over calls.
pub const R8: Reg = Reg(8);
/// Kept over calls.
pub const R9: Reg = Reg(9);
/// The stack's end; read only.
pub const STACK: Reg = Reg(10);

/// Width of a memory access.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Width {
    /// 4 bytes.
    W = 0x00,
    /// 2 bytes.
    H = 0x08,
    /// 1 byte.
    B = 0x10,
    /// 8 bytes.
    D = 0x18,
}

impl Width {
    /// Its bytes.
    pub const fn bytes(self) -> i32 {
        match self {
            Self::B => 1,
            Self::H => 2,
            Self::W => 4,
            Self::D => 8,
        }
    }
}

/// 64-bit arithmetic.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Op {
    /// Addition.
    Add = 0x00,
    /// Subtraction.
    Sub = 0x10,
    /// Multiplication.
    Mul = 0x20,
    /// Division, unsigned.
    Div = 0x30,
    /// Bitwise or.
    Or = 0x40,
    /// Bitwise and.
    And = 0x50,
    /// Shift left.
    Lsh = 0x60,
    /// Logical shift right.
    Rsh = 0x70,
    /// Negation; the operand is ignored.
    Neg = 0x80,
    /// Bitwise exclusive or.
    Xor = 0xa0,
    /// Move.
    Mov = 0xb0,
}

/// A condition of a jump that compares numbers without a sign.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum If {
    /// Equal.
    Eq = 0x10,
    /// Above.
    Gt = 0x20,
    /// A bit of the operand is set.
    Set = 0x40,
    /// Not equal.
    Ne = 0x50,
    /// Below.
    Lt = 0xa0,
}

/// A condition of a jump that compares numbers with a sign.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum IfSigned {
    /// Above.
    Gt = 0x60,
    /// Below.
    Lt = 0xc0,
}

/// A place in the program, perhaps not yet reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Label(usize);

/// A jump is too long for its 16 bits, or a label was never placed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the filter's program does not fit together (instruction {0})")]
pub struct AssembleError(usize);

/// The assembler; every method appends one instruction unless it says otherwise.
#[derive(Default)]
pub struct Assembler {
    code: Vec<[u8; 8]>,
    labels: Vec<Option<usize>>,
    jumps: Vec<(usize, Label)>,
}

impl Assembler {
    fn push(&mut self, opcode: u8, to: Reg, from: Reg, offset: i16, imm: i32) {
        let [o0, o1] = offset.to_ne_bytes();
        let [i0, i1, i2, i3] = imm.to_ne_bytes();
        // Registers share a byte, the destination in the half that comes first in memory order.
        let registers =
            if cfg!(target_endian = "little") { from.0 << 4 | to.0 } else { to.0 << 4 | from.0 };
        self.code.push([opcode, registers, o0, o1, i0, i1, i2, i3]);
    }

    /// A new label, not yet placed.
    pub fn label(&mut self) -> Label {
        self.labels.push(None);
        Label(self.labels.len() - 1)
    }

    /// Places a label here. No instruction.
    pub fn place(&mut self, label: Label) {
        self.labels[label.0] = Some(self.code.len());
    }

    /// A new label placed here. No instruction.
    pub fn label_here(&mut self) -> Label {
        let label = self.label();
        self.place(label);
        label
    }

    /// Whether a jump goes to this label. No instruction.
    pub fn is_used(&self, label: Label) -> bool {
        self.jumps.iter().any(|(_, to)| *to == label)
    }

    /// `to = value`, the sign extended to 64 bits.
    pub fn mov(&mut self, to: Reg, value: i32) {
        self.push(0x07 | Op::Mov as u8, to, R0, 0, value);
    }

    /// `to = from`.
    pub fn copy(&mut self, to: Reg, from: Reg) {
        self.alu64(Op::Mov, to, from);
    }

    /// `to = to op value`. Immediates of eBPF are 32 bits wide with a sign,
    /// which 64-bit instructions extend (RFC 9669 section 4.1); 16 bits have none.
    pub fn alu64_imm(&mut self, op: Op, to: Reg, value: u16) {
        self.push(0x07 | op as u8, to, R0, 0, value.into());
    }

    /// `to = to + value`, the sign extended to 64 bits.
    pub fn add(&mut self, to: Reg, value: i32) {
        self.push(0x07 | Op::Add as u8, to, R0, 0, value);
    }

    /// `to = to | value << 16`.
    pub fn or_above_16(&mut self, to: Reg, value: u8) {
        self.push(0x07 | Op::Or as u8, to, R0, 0, i32::from(value) << 16);
    }

    /// `to = ~to`.
    pub fn not(&mut self, to: Reg) {
        self.push(0x07 | Op::Xor as u8, to, R0, 0, -1);
    }

    /// `to = to op from`.
    pub fn alu64(&mut self, op: Op, to: Reg, from: Reg) {
        self.push(0x0f | op as u8, to, from, 0, 0);
    }

    /// `to = -to`.
    pub fn negate(&mut self, to: Reg) {
        self.push(0x07 | Op::Neg as u8, to, R0, 0, 0);
    }

    /// `to = stack + offset`.
    pub fn stack(&mut self, to: Reg, offset: i16) {
        self.copy(to, STACK);
        self.add(to, i32::from(offset));
    }

    /// From network to host order; `bits` is 16, 32 or 64.
    pub fn to_be(&mut self, reg: Reg, bits: i32) {
        self.push(0xdc, reg, R0, 0, bits);
    }

    /// From little-endian to host order; `bits` is 16, 32 or 64.
    pub fn from_little(&mut self, reg: Reg, bits: i32) {
        self.push(0xd4, reg, R0, 0, bits);
    }

    /// `to = *(base + offset)`.
    pub fn load(&mut self, width: Width, to: Reg, base: Reg, offset: i16) {
        self.push(0x61 | width as u8, to, base, offset, 0);
    }

    /// `*(base + offset) = from`.
    pub fn store(&mut self, width: Width, base: Reg, offset: i16, from: Reg) {
        self.push(0x63 | width as u8, base, from, offset, 0);
    }

    /// `*(base + offset) = value`.
    pub fn store_imm(&mut self, width: Width, base: Reg, offset: i16, value: i32) {
        self.push(0x62 | width as u8, base, R0, offset, value);
    }

    /// If `*(base + offset)` is r0 it becomes `new`; r0 becomes what it was, 64 bits.
    pub fn compare_and_swap(&mut self, base: Reg, offset: i16, new: Reg) {
        self.push(0xdb, base, new, offset, 0xf1);
    }

    /// `goto label`.
    pub fn jump(&mut self, label: Label) {
        self.jumps.push((self.code.len(), label));
        self.push(0x05, R0, R0, 0, 0);
    }

    /// `if reg condition value goto label`, all 64 bits of the register. A wider
    /// immediate could be taken for a negative number: see [`Self::jump32_if`].
    pub fn jump_if(&mut self, condition: If, reg: Reg, value: u16, label: Label) {
        self.jumps.push((self.code.len(), label));
        self.push(0x05 | condition as u8, reg, R0, 0, value.into());
    }

    /// `if (u32)reg condition value goto label`: the lower half of the register alone.
    pub fn jump32_if(&mut self, condition: If, reg: Reg, value: u32, label: Label) {
        self.jumps.push((self.code.len(), label));
        self.push(0x06 | condition as u8, reg, R0, 0, value as i32);
    }

    /// `if (i64)reg condition value goto label`.
    pub fn jump_if_signed(&mut self, condition: IfSigned, reg: Reg, value: i16, label: Label) {
        self.jumps.push((self.code.len(), label));
        self.push(0x05 | condition as u8, reg, R0, 0, value.into());
    }

    /// `if (i64)reg condition (i64)other goto label`.
    pub fn jump_if_reg_signed(&mut self, condition: IfSigned, reg: Reg, other: Reg, label: Label) {
        self.jumps.push((self.code.len(), label));
        self.push(0x0d | condition as u8, reg, other, 0, 0);
    }

    /// `if reg condition other goto label`.
    pub fn jump_if_reg(&mut self, condition: If, reg: Reg, other: Reg, label: Label) {
        self.jumps.push((self.code.len(), label));
        self.push(0x0d | condition as u8, reg, other, 0, 0);
    }

    /// Calls a helper by its number.
    pub fn call(&mut self, helper: i32) {
        self.push(0x85, R0, R0, 0, helper);
    }

    /// Calls a function of the kernel's own by its number in the kernel's
    /// description of its types (Documentation/bpf/kfuncs.rst).
    pub fn call_kernel(&mut self, function: u32) {
        self.push(0x85, R0, Reg(2), 0, function as i32);
    }

    /// Returns r0.
    pub fn exit(&mut self) {
        self.push(0x95, R0, R0, 0, 0);
    }

    fn wide(&mut self, to: Reg, kind: Reg, low: i32, high: i32) {
        self.push(0x18, to, kind, 0, low);
        self.push(0, R0, R0, 0, high);
    }

    /// `to = value`, 64 bits; two slots.
    pub fn ld_imm64(&mut self, to: Reg, value: u64) {
        self.wide(to, Reg(0), value as i32, (value >> 32) as i32);
    }

    /// `to = map`; two slots. The map must stay open until the program is loaded.
    pub fn map(&mut self, to: Reg, map: BorrowedFd<'_>) {
        self.wide(to, Reg(1), map.as_raw_fd(), 0);
    }

    /// `to = address of the map's one value + offset`; two slots.
    pub fn ld_map_value(&mut self, to: Reg, map: BorrowedFd<'_>, offset: u32) {
        self.wide(to, Reg(2), map.as_raw_fd(), offset as i32);
    }

    /// The finished instructions.
    ///
    /// # Errors
    /// [`AssembleError`], which a test of the program's shape would have shown.
    pub fn finish(mut self) -> Result<Vec<u8>, AssembleError> {
        for (at, label) in &self.jumps {
            let place = self.labels[label.0].ok_or(AssembleError(*at))?;
            let distance = place as i64 - *at as i64 - 1;
            let offset = i16::try_from(distance).map_err(|_| AssembleError(*at))?;
            self.code[*at][2..4].copy_from_slice(&offset.to_ne_bytes());
        }
        Ok(self.code.concat())
    }
}

/// A small number on the stack. The verifier follows what is stored at the begin
/// of 8 bytes, and zeros wherever they stand, and would go every way once more for
/// each value. So these stand in the upper half, and one greater than they are.
#[derive(Clone, Copy)]
pub struct Flag(i16);

impl Flag {
    /// At these 8 bytes of the stack.
    pub const fn at(begin: i16) -> Self {
        Self(begin)
    }

    /// Where its 8 bytes begin.
    pub const fn begin(self) -> i16 {
        self.0
    }

    const fn place(self) -> i16 {
        self.0 + 4
    }

    /// Writes it.
    pub fn set(self, a: &mut Assembler, number: u16) {
        a.store_imm(Width::W, STACK, self.place(), Self::with(number).into());
    }

    /// `to` becomes what is to be compared with [`Flag::with`].
    pub fn load(self, a: &mut Assembler, to: Reg) {
        a.load(Width::W, to, STACK, self.place());
    }

    /// `to` becomes the number.
    pub fn number(self, a: &mut Assembler, to: Reg) {
        self.load(a, to);
        a.add(to, -1);
    }

    /// How a number stands there.
    pub const fn with(number: u16) -> u16 {
        number + 1
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn jumps_count_from_the_next_instruction() {
        let mut a = Assembler::default();
        let (end, top) = (a.label(), a.label_here());
        a.jump_if(If::Eq, R1, 7, end);
        a.jump(top);
        a.place(end);
        a.exit();
        let code = a.finish().unwrap();
        assert_eq!(code[2..4], 1i16.to_ne_bytes());
        assert_eq!(code[10..12], (-2i16).to_ne_bytes());
        assert_eq!(code.len(), 24);
    }

    #[test]
    fn a_whole_32_bit_number_is_compared_in_32_bits() {
        let mut a = Assembler::default();
        let end = a.label();
        a.jump32_if(If::Eq, R1, 0xffff_0000, end);
        a.place(end);
        a.exit();
        let code = a.finish().unwrap();
        // BPF_JMP32 | BPF_JEQ | BPF_K of include/uapi/linux/bpf.h.
        assert_eq!((code[0], &code[4..8]), (0x16, &0xffff_0000u32.to_ne_bytes()[..]));
    }

    #[test]
    fn a_label_without_a_place_is_a_misfit() {
        let mut a = Assembler::default();
        let nowhere = a.label();
        a.jump(nowhere);
        assert_eq!(a.finish(), Err(AssembleError(0)));
    }
}
