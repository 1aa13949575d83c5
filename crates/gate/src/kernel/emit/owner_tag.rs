//! The owner tag of a socket, made where the socket is: from which file its maker was
//! started.
//!
//! An owner tag, [`OWNER_TAG_BYTES`] long: the keyed hash of the path in its file
//! system (SipHash-2-4) u64 · the inode number u64 · the device, in the
//! kernel's own form, u32 · the process u32.

use std::hash::Hasher;

use siphasher::sip::SipHasher24;
use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{
    Assembler, If, IfSigned, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, Reg, STACK, Width,
};
use tipstaff_bpf::btf::{Btf, Missing};

use crate::kernel::emit::kernel_memory::{Field, read};

/// Folders of a path that are followed; beyond them a program has no path.
pub const MOST_FOLDERS: usize = 16;
/// Bytes of the longest name with its end that Linux allows.
pub(super) const LONGEST: i32 = 256;

/// Where things stand in an owner tag.
pub mod field {
    /// The hash of the path, u64; 0 where the path could not be followed, or leads
    /// to a file system that any account may have mounted.
    pub const PATH: i16 = 0;
    /// The inode number, u64.
    pub const INODE: i16 = 8;
    /// The device, u32; 0 where any account may have mounted it.
    pub const DEVICE: i16 = 16;
    /// The process, u32.
    pub const PROCESS: i16 = 20;
}

/// The secret of the hash: who does not know it cannot find another path with
/// the hash of a program that is let in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Secret(pub u64, pub u64);

impl Secret {
    /// The hash of a path, given by its folders and name from the root of its
    /// file system.
    pub fn hash<'n>(self, names: impl DoubleEndedIterator<Item = &'n [u8]>) -> u64 {
        let mut hasher = SipHasher24::new_with_keys(self.0, self.1);
        // From the leaf on, as the kernel walks; each name ends with one zero at least.
        for name in names.rev() {
            let padding = [0; 8];
            hasher.write(name);
            hasher.write(&padding[..8 - name.len() % 8]);
        }
        hasher.finish()
    }
}

/// Where the kernel's structures have what the program reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Offsets {
    mm: i16,
    exe_file: i16,
    inode: i16,
    dentry: i16,
    number: i16,
    super_block: i16,
    device: i16,
    account: i16,
    level: i16,
    kind: i16,
    kind_name: i16,
    name: i16,
    parent: i16,
}

impl Offsets {
    /// Looks them up.
    ///
    /// # Errors
    /// [`Missing`].
    pub fn from_btf(btf: &Btf<'_>) -> Result<Self, Missing> {
        Ok(Self {
            mm: btf.offset("task_struct", "mm")?,
            exe_file: btf.offset("mm_struct", "exe_file")?,
            inode: btf.offset("file", "f_inode")?,
            dentry: btf.offset("file", "f_path.dentry")?,
            number: btf.offset("inode", "i_ino")?,
            super_block: btf.offset("inode", "i_sb")?,
            device: btf.offset("super_block", "s_dev")?,
            account: btf.offset("super_block", "s_user_ns")?,
            level: btf.offset("user_namespace", "level")?,
            kind: btf.offset("super_block", "s_type")?,
            kind_name: btf.offset("file_system_type", "name")?,
            name: btf.offset("dentry", "d_name.name")?,
            parent: btf.offset("dentry", "d_parent")?,
        })
    }
}

/// Where things stand on the stack.
pub(super) mod at {
    pub const OWNER_TAG: i16 = -24;
    pub const CONTEXT: i16 = -32;
    pub const STATE: i16 = -64;
    pub const LENGTH: i16 = -72;
    pub const FOLDERS: i16 = -80;
    pub const DENTRY: i16 = -88;
    pub const POINTER: i16 = -96;
    pub const NAME: i16 = -352;
    /// The directory entry of the file itself.
    pub const LEAF: i16 = -360;
}

/// The state of the hash while words go into it.
const STATE: [Reg; 4] = [R6, R7, R8, R9];

/// The file that the process was started from: its number and device go into the
/// owner tag, its directory entry to the stack. Goes to `none` where there is no such
/// file, and to `anybodys` as [`jump_if_anybodys`] does.
pub(super) fn find_file(a: &mut Assembler, offsets: Offsets, none: Label, anybodys: Label) {
    a.call(helper::GET_CURRENT_TASK);
    a.copy(R7, R0);
    // A thread of the kernel has no memory, and no file that it was started from.
    for offset in [offsets.mm, offsets.exe_file] {
        follow(a, R7, offset, none);
    }
    a.copy(R8, R7);
    follow(a, R8, offsets.inode, none);
    read(
        a,
        Field { base: R8, offset: offsets.number, to: at::OWNER_TAG + field::INODE, size: 8 },
        none,
    );
    follow(a, R8, offsets.super_block, none);
    jump_if_anybodys(a, offsets, anybodys);
    read(
        a,
        Field { base: R8, offset: offsets.device, to: at::OWNER_TAG + field::DEVICE, size: 4 },
        none,
    );
    follow(a, R7, offsets.dentry, none);
    a.store(Width::D, STACK, at::DENTRY, R7);
    a.store(Width::D, STACK, at::LEAF, R7);
}

/// The initial state of SipHash.
pub(super) fn begin_hash(a: &mut Assembler, Secret(k0, k1): Secret) {
    let begin = [
        k0 ^ 0x736f_6d65_7073_6575,
        k1 ^ 0x646f_7261_6e64_6f6d,
        k0 ^ 0x6c79_6765_6e65_7261,
        k1 ^ 0x7465_6462_7974_6573,
    ];
    for (reg, value) in STATE.into_iter().zip(begin) {
        a.ld_imm64(reg, value);
    }
    keep_state(a);
    a.store_imm(Width::D, STACK, at::LENGTH, 0);
}

/// Hashes the names of the path from the leaf up to the root of the file system,
/// and goes to `walked` there; to `pathless` where the path is too deep.
pub(super) fn walk_up(a: &mut Assembler, offsets: Offsets, walked: Label, pathless: Label) {
    a.store_imm(Width::D, STACK, at::FOLDERS, 0);
    let up = a.label_here();
    climb(a, at::DENTRY, offsets, walked, pathless);
    for word in 0..LONGEST as i16 / 8 {
        a.store_imm(Width::D, STACK, at::NAME + word * 8, 0);
    }
    a.stack(R1, at::NAME);
    a.mov(R2, LONGEST);
    a.copy(R3, R7);
    a.call(helper::PROBE_READ_KERNEL_STR);
    a.jump_if_signed(IfSigned::Lt, R0, 1, pathless);
    hash_name(a);
    a.jump(up);
}

/// One folder up: r7 becomes the kernel's pointer to the name of the directory entry at `entry`
/// on the stack, where its parent stands then. Goes to `root` where it is the root of its file
/// system, and to `too_deep` where it cannot be followed or [`at::FOLDERS`] are. r1 to r5 and r8
/// are lost.
pub(super) fn climb(a: &mut Assembler, entry: i16, offsets: Offsets, root: Label, too_deep: Label) {
    a.load(Width::D, R7, STACK, entry);
    a.copy(R8, R7);
    follow(a, R8, offsets.parent, too_deep);
    // The root of a file system is its own parent, and its name is none.
    a.jump_if_reg(If::Eq, R7, R8, root);
    a.store(Width::D, STACK, entry, R8);
    a.load(Width::D, R1, STACK, at::FOLDERS);
    a.jump_if(If::Gt, R1, MOST_FOLDERS as u16 - 1, too_deep);
    a.alu64_imm(Op::Add, R1, 1);
    a.store(Width::D, STACK, at::FOLDERS, R1);
    follow(a, R7, offsets.name, too_deep);
}

/// Hashes the name on the stack, whose length with its end is in r0, word by word.
fn hash_name(a: &mut Assembler) {
    a.alu64_imm(Op::Add, R0, 7);
    a.alu64_imm(Op::Rsh, R0, 3);
    a.copy(R4, R0);
    a.load(Width::D, R1, STACK, at::LENGTH);
    a.alu64_imm(Op::Lsh, R0, 3);
    a.alu64(Op::Add, R1, R0);
    a.store(Width::D, STACK, at::LENGTH, R1);
    for (word, reg) in STATE.into_iter().enumerate() {
        a.load(Width::D, reg, STACK, at::STATE + word as i16 * 8);
    }
    let hashed = a.label();
    a.mov(R3, 0);
    let next = a.label_here();
    a.jump_if(If::Gt, R3, LONGEST as u16 / 8 - 1, hashed);
    a.jump_if_reg(If::Eq, R3, R4, hashed);
    a.stack(R5, at::NAME);
    a.copy(R2, R3);
    a.alu64_imm(Op::Lsh, R2, 3);
    a.alu64(Op::Add, R5, R2);
    a.load(Width::D, R2, R5, 0);
    a.from_little(R2, 64);
    absorb(a, R2);
    a.alu64_imm(Op::Add, R3, 1);
    a.jump(next);
    a.place(hashed);
    keep_state(a);
}

/// The final rounds; the hash goes into the owner tag.
pub(super) fn end_hash(a: &mut Assembler) {
    for (word, reg) in STATE.into_iter().enumerate() {
        a.load(Width::D, reg, STACK, at::STATE + word as i16 * 8);
    }
    a.load(Width::D, R2, STACK, at::LENGTH);
    a.alu64_imm(Op::Lsh, R2, 56);
    absorb(a, R2);
    a.alu64_imm(Op::Xor, STATE[2], 0xff);
    for _ in 0..4 {
        round(a);
    }
    for reg in [R7, R8, R9] {
        a.alu64(Op::Xor, R6, reg);
    }
    a.store(Width::D, STACK, at::OWNER_TAG + field::PATH, R6);
}

/// Goes to `anybodys` when any account could have mounted the file system whose
/// super block is at r8: out of a user namespace, or by FUSE. It may have the
/// number of a device that is gone, and whatever names its owner likes. r9 is lost.
fn jump_if_anybodys(a: &mut Assembler, offsets: Offsets, anybodys: Label) {
    a.copy(R9, R8);
    follow(a, R9, offsets.account, anybodys);
    read(a, Field { base: R9, offset: offsets.level, to: at::POINTER, size: 4 }, anybodys);
    a.load(Width::W, R1, STACK, at::POINTER);
    a.jump_if(If::Ne, R1, 0, anybodys);
    a.copy(R9, R8);
    follow(a, R9, offsets.kind, anybodys);
    follow(a, R9, offsets.kind_name, anybodys);
    let another = a.label();
    read(a, Field { base: R9, offset: 0, to: at::POINTER, size: FUSE.len() as i32 }, anybodys);
    for (n, letter) in FUSE.into_iter().enumerate() {
        a.load(Width::B, R1, STACK, at::POINTER + n as i16);
        a.jump_if(If::Ne, R1, letter.into(), another);
    }
    a.jump(anybodys);
    a.place(another);
}

/// The name of the kind of file systems that programs of any account provide,
/// with its end (`fs/fuse/inode.c`).
const FUSE: [u8; 5] = *b"fuse\0";

/// `reg` becomes the pointer that stands at `reg + offset`.
fn follow(a: &mut Assembler, reg: Reg, offset: i16, failed: Label) {
    read(a, Field { base: reg, offset, to: at::POINTER, size: 8 }, failed);
    a.load(Width::D, reg, STACK, at::POINTER);
    a.jump_if(If::Eq, reg, 0, failed);
}

fn keep_state(a: &mut Assembler) {
    for (word, reg) in STATE.into_iter().enumerate() {
        a.store(Width::D, STACK, at::STATE + word as i16 * 8, reg);
    }
}

/// One word goes into the hash: two rounds.
fn absorb(a: &mut Assembler, word: Reg) {
    a.alu64(Op::Xor, STATE[3], word);
    round(a);
    round(a);
    a.alu64(Op::Xor, STATE[0], word);
}

/// A round of SipHash; r1 is lost.
fn round(a: &mut Assembler) {
    let [v0, v1, v2, v3] = STATE;
    mix(a, v0, v1, 13);
    turn(a, v0, 32);
    mix(a, v2, v3, 16);
    mix(a, v0, v3, 21);
    mix(a, v2, v1, 17);
    turn(a, v2, 32);
}

fn mix(a: &mut Assembler, sum: Reg, turned: Reg, bits: u16) {
    a.alu64(Op::Add, sum, turned);
    turn(a, turned, bits);
    a.alu64(Op::Xor, turned, sum);
}

/// Rotates to the left.
fn turn(a: &mut Assembler, reg: Reg, bits: u16) {
    a.copy(R1, reg);
    a.alu64_imm(Op::Lsh, reg, bits);
    a.alu64_imm(Op::Rsh, R1, 64 - bits);
    a.alu64(Op::Or, reg, R1);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn where_a_name_ends_is_part_of_its_hash() {
        let secret = Secret(1, 2);
        let hash = |names: &[&str]| secret.hash(names.iter().map(|n| n.as_bytes()));
        let paths = [
            hash(&["usr", "sbin", "plated"]),
            hash(&["usr", "sbin", "plate", "d"]),
            hash(&["abc", "12345678"]),
            hash(&["12345678abc"]),
            hash(&["12345678", "abc"]),
            hash(&[]),
        ];
        for (n, one) in paths.iter().enumerate() {
            assert!(paths[n + 1..].iter().all(|other| other != one), "{n}");
        }
        assert_ne!(
            Secret(1, 3).hash([&b"usr"[..]].into_iter()),
            secret.hash([&b"usr"[..]].into_iter())
        );
    }
}
