//! The program that tags each new socket with the file that its maker was started from, and
//! notes how that is called. It runs where sockets are made (`sock_create` of a control
//! group); accepted sockets inherit the owner tag from their listener.

use std::os::fd::BorrowedFd;

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{AssembleError, Assembler, If, Op, R0, R1, R2, R3, R4, STACK, Width};

use super::owner_tag::{Offsets, Secret, at, begin_hash, end_hash, field, find_file, walk_up};
use super::program_name::{self, NameMaps};

/// The program. `owner_tags` is the map, `cookie` the network namespace; `names` where it
/// notes by which paths programs were started.
///
/// # Errors
/// [`AssembleError`] if the code does not fit together.
pub fn program(
    owner_tags: BorrowedFd<'_>,
    names: NameMaps<'_>,
    cookie: u64,
    secret: Secret,
    offsets: Offsets,
) -> Result<Vec<u8>, AssembleError> {
    let mut a = Assembler::default();
    let (pass, write, walked) = (a.label(), a.label(), a.label());
    a.store(Width::D, STACK, at::CONTEXT, R1);
    a.call(helper::GET_NETNS_COOKIE);
    a.ld_imm64(R1, cookie);
    a.jump_if_reg(If::Ne, R0, R1, pass);
    for half in [field::PATH, field::INODE, field::DEVICE] {
        a.store_imm(Width::D, STACK, at::OWNER_TAG + half, 0);
    }
    a.call(helper::GET_CURRENT_PID_TGID);
    a.alu64_imm(Op::Rsh, R0, 32);
    a.store(Width::W, STACK, at::OWNER_TAG + field::PROCESS, R0);

    find_file(&mut a, offsets, pass, write);
    begin_hash(&mut a, secret);
    walk_up(&mut a, offsets, walked, write);
    a.place(walked);
    end_hash(&mut a);
    program_name::note(&mut a, names, offsets, write);

    a.place(write);
    a.map(R1, owner_tags);
    a.load(Width::D, R2, STACK, at::CONTEXT);
    a.stack(R3, at::OWNER_TAG);
    a.mov(R4, 1); // BPF_SK_STORAGE_GET_F_CREATE
    a.call(helper::SK_STORAGE_GET);
    a.place(pass);
    a.mov(R0, 1);
    a.exit();
    a.finish()
}
