//! Where the program that tags sockets notes by which path a socket's maker was started:
//! records are read later, when the process, and the file too, may be gone.
//!
//! The key of a name: the inode number u64 and the device u32, as they stand in the owner
//! tag. A name, [`NAME_BYTES`] long: the hash of the path u64 · where its end is, from the
//! beginning of the name on, u32 · nothing u32 · the folders from the file's own name up to
//! the root of its file system, each with a zero behind it. Two processors may write one name
//! at the same time; whoever reads it holds it against its hash.

use std::os::fd::BorrowedFd;

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{
    Assembler, If, IfSigned, Label, Op, R0, R1, R2, R3, R4, R6, R7, R9, STACK, Width,
};

use super::owner_tag::{LONGEST, Offsets, at, climb, field};

/// Bytes of a key.
pub const KEY_BYTES: u32 = 12;
/// Bytes of a name.
pub const NAME_BYTES: u32 = 1024;
/// Names that are kept; what was not used for longest goes.
pub const ROOM: u32 = 512;

/// Where things stand in a name.
pub mod at_name {
    /// The hash of the path, u64.
    pub const HASH: i16 = 0;
    /// Where its end is, u32.
    pub const END: i16 = 8;
    /// The folders.
    pub const FOLDERS: i16 = 16;
}

/// The maps of the names.
#[derive(Clone, Copy)]
pub struct NameMaps<'m> {
    /// Key to name.
    pub names: BorrowedFd<'m>,
    /// An array of one name of zeros: what a new one begins as.
    pub blank: BorrowedFd<'m>,
}

/// Notes the name of the file whose owner tag, with its hash, and whose directory entry
/// ([`at::LEAF`]) are on the stack, where it is not noted. Ends at `done`, whatever becomes
/// of it. r0 to r9 are lost.
pub(super) fn note(a: &mut Assembler, maps: NameMaps<'_>, offsets: Offsets, done: Label) {
    let (known, whole) = (a.label(), a.label());
    find(a, maps);
    a.jump_if(If::Ne, R0, 0, known);
    a.store_imm(Width::W, STACK, at::FOLDERS, 0);
    a.map(R1, maps.blank);
    a.stack(R2, at::FOLDERS);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Eq, R0, 0, done);
    a.copy(R3, R0);
    a.map(R1, maps.names);
    a.stack(R2, at::OWNER_TAG + field::INODE);
    a.mov(R4, 0); // BPF_ANY
    a.call(helper::MAP_UPDATE_ELEM);
    find(a, maps);
    a.jump_if(If::Eq, R0, 0, done);

    a.place(known);
    a.copy(R6, R0);
    // The number of a file that is gone may be another one's by now.
    a.load(Width::D, R1, R6, at_name::HASH);
    a.load(Width::D, R2, STACK, at::OWNER_TAG + field::PATH);
    a.jump_if_reg(If::Eq, R1, R2, done);
    a.mov(R1, 0);
    a.store(Width::D, R6, at_name::HASH, R1);
    a.mov(R9, at_name::FOLDERS.into());
    a.store_imm(Width::D, STACK, at::FOLDERS, 0);
    write_folders(a, offsets, whole, done);
    a.place(whole);
    a.store(Width::W, R6, at_name::END, R9);
    a.load(Width::D, R1, STACK, at::OWNER_TAG + field::PATH);
    a.store(Width::D, R6, at_name::HASH, R1);
}

/// r0 becomes the name of the owner tag's file, or 0.
fn find(a: &mut Assembler, maps: NameMaps<'_>) {
    a.map(R1, maps.names);
    a.stack(R2, at::OWNER_TAG + field::INODE);
    a.call(helper::MAP_LOOKUP_ELEM);
}

/// Writes the folders to r6 + r9, and moves r9 on. Goes to `whole` at the root of the file
/// system, and to `failed` where there is no room.
fn write_folders(a: &mut Assembler, offsets: Offsets, whole: Label, failed: Label) {
    let up = a.label_here();
    climb(a, at::LEAF, offsets, whole, failed);
    a.jump_if(If::Gt, R9, NAME_BYTES as u16 - LONGEST as u16, failed);
    a.copy(R1, R6);
    a.alu64(Op::Add, R1, R9);
    a.mov(R2, LONGEST);
    a.copy(R3, R7);
    a.call(helper::PROBE_READ_KERNEL_STR);
    a.jump_if_signed(IfSigned::Lt, R0, 1, failed);
    a.jump_if(If::Gt, R0, LONGEST as u16, failed);
    a.alu64(Op::Add, R9, R0);
    a.jump(up);
}
