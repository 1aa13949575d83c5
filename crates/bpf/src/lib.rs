//! bpf(2), and what programs for it are made of. The only crate of the workspace
//! with `unsafe`, all of it in [`sys`]; it knows nothing of rules or orders.
//!
//! [`sys`] the system calls · [`asm`] an assembler with labels · [`abi`] the kernel's
//! numbers under the kernel's own names · [`btf`] where the kernel keeps what ·
//! [`headers`] the fields of packets · [`parse`] a program's way through an IP packet.

pub mod abi;
pub mod asm;
pub mod btf;
pub mod headers;
pub mod parse;
pub mod sys;
