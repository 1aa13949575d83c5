//! `union bpf_attr` of `include/uapi/linux/bpf.h`, a struct for each command, and the
//! call itself. Padding is a field, so that nothing goes to the kernel unwritten.

use std::io;
use std::os::fd::{FromRawFd, OwnedFd};

/// `enum bpf_cmd`.
#[derive(Clone, Copy, Debug)]
#[repr(u32)]
pub(super) enum Command {
    MapCreate = 0,
    MapLookupElem = 1,
    MapUpdateElem = 2,
    MapDeleteElem = 3,
    MapGetNextKey = 4,
    ProgLoad = 5,
    ObjPin = 6,
    ObjGet = 7,
    ProgTestRun = 10,
    ProgGetFdById = 13,
    MapGetFdById = 14,
    ObjGetInfoByFd = 15,
    ProgQuery = 16,
    BtfLoad = 18,
    MapLookupBatch = 24,
    LinkCreate = 28,
    LinkUpdate = 29,
    LinkDetach = 34,
    ProgBindMap = 35,
}

/// A struct of `union bpf_attr`.
///
/// # Safety
/// `#[repr(C)]`, without padding that is no field, and valid for every pattern of bits.
pub(super) unsafe trait Attr {}

macro_rules! attrs {
    ($($(#[$doc:meta])* $name:ident { $($field:ident: $kind:ty),* $(,)? })*) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, Default)]
        #[repr(C)]
        pub(super) struct $name { $(pub(super) $field: $kind),* }

        // All bytes are those of fields.
        const _: () = assert!(size_of::<$name>() == 0 $(+ size_of::<$kind>())*);

        // SAFETY: `repr(C)`, integers alone, and no byte beside them, as just asserted.
        unsafe impl Attr for $name {}
    )*};
}

attrs! {
    MapCreate {
        map_type: u32, key_size: u32, value_size: u32, max_entries: u32, map_flags: u32,
        inner_map_fd: u32, numa_node: u32, map_name: [u8; 16], map_ifindex: u32,
        btf_fd: u32, btf_key_type_id: u32, btf_value_type_id: u32,
    }
    /// `value` is `next_key` where the next key is asked for.
    MapElem { map_fd: u32, pad: u32, key: u64, value: u64, flags: u64 }
    /// `in_batch` and `out_batch` say where the walk goes on.
    MapBatch {
        in_batch: u64, out_batch: u64, keys: u64, values: u64, count: u32, map_fd: u32,
        elem_flags: u64, flags: u64,
    }
    ProgLoad {
        prog_type: u32, insn_cnt: u32, insns: u64, license: u64, log_level: u32,
        log_size: u32, log_buf: u64, kern_version: u32, prog_flags: u32,
        prog_name: [u8; 16], prog_ifindex: u32, expected_attach_type: u32,
    }
    Obj { pathname: u64, bpf_fd: u32, file_flags: u32 }
    TestRun {
        prog_fd: u32, retval: u32, data_size_in: u32, data_size_out: u32,
        data_in: u64, data_out: u64, repeat: u32, duration: u32,
        ctx_size_in: u32, ctx_size_out: u32, ctx_in: u64, ctx_out: u64,
        flags: u32, cpu: u32, batch_size: u32, pad: u32,
    }
    GetFdById { id: u32 }
    GetInfo { bpf_fd: u32, info_len: u32, info: u64 }
    /// `target` is an interface or a control group.
    ProgQuery {
        target: u32, attach_type: u32, query_flags: u32, attach_flags: u32,
        prog_ids: u64, prog_cnt: u32, pad: u32,
    }
    BtfLoad {
        btf: u64, btf_log_buf: u64, btf_size: u32, btf_log_size: u32, btf_log_level: u32, pad: u32,
    }
    /// `target` is an interface or a control group.
    LinkCreate { prog_fd: u32, target: u32, attach_type: u32, flags: u32 }
    LinkUpdate { link_fd: u32, new_prog_fd: u32, flags: u32, old_prog_fd: u32 }
    LinkDetach { link_fd: u32 }
    ProgBindMap { prog_fd: u32, map_fd: u32, flags: u32 }

    /// `struct bpf_map_info`, up to its name.
    MapInfo {
        map_type: u32, id: u32, key_size: u32, value_size: u32, max_entries: u32,
        map_flags: u32, name: [u8; 16],
    }
    /// `struct bpf_prog_info`, up to its name.
    ProgInfo {
        prog_type: u32, id: u32, tag: [u8; 8], jited_prog_len: u32, xlated_prog_len: u32,
        jited_prog_insns: u64, xlated_prog_insns: u64, load_time: u64, created_by_uid: u32,
        nr_map_ids: u32, map_ids: u64, name: [u8; 16],
    }
    /// `struct bpf_link_info` of a tcx link.
    LinkInfo {
        link_type: u32, id: u32, prog_id: u32, pad: u32, ifindex: u32, attach_type: u32,
    }
    /// `struct xdp_md`, the context of a test run.
    XdpMd {
        data: u32, data_end: u32, data_meta: u32, ingress_ifindex: u32, rx_queue_index: u32,
        egress_ifindex: u32,
    }
}

/// A pointer as `union bpf_attr` has it. That it stays good is the caller's to see to.
pub(super) fn pointer<T: ?Sized>(to: &T) -> u64 {
    (&raw const *to).cast::<u8>() as u64
}

/// As [`pointer`], to what the kernel writes.
pub(super) fn pointer_mut<T: ?Sized>(to: &mut T) -> u64 {
    (&raw mut *to).cast::<u8>() as u64
}

/// A name of an object: at most 15 bytes, the rest zeros.
pub(super) fn name(text: &str) -> [u8; 16] {
    let mut name = [0; 16];
    let bytes = &text.as_bytes()[..text.len().min(15)];
    name[..bytes.len()].copy_from_slice(bytes);
    name
}

/// bpf(2).
///
/// # Safety
/// `attr` is the struct of `command`, and every pointer in it is good for what the
/// command reads or writes there until the call returns.
pub(super) unsafe fn bpf(command: Command, attr: &mut impl Attr) -> io::Result<i32> {
    #[cfg(feature = "testing")]
    super::failpoint::met()?;
    // SAFETY: the attribute outlives the call and its size is passed; the pointers inside
    // are the caller's promise.
    let result =
        unsafe { libc::syscall(libc::SYS_bpf, command as u32, &raw mut *attr, size_of_val(attr)) };
    if result < 0 { Err(io::Error::last_os_error()) } else { Ok(result as i32) }
}

/// bpf(2) that makes a descriptor.
///
/// # Safety
/// As [`bpf`]; `command` must be one that returns a new descriptor.
pub(super) unsafe fn open(command: Command, attr: &mut impl Attr) -> io::Result<OwnedFd> {
    // SAFETY: passed on to the caller.
    let fd = unsafe { bpf(command, attr)? };
    // SAFETY: the kernel just made this descriptor for us alone.
    Ok(unsafe { OwnedFd::from_raw_fd(fd) })
}

/// Asks for a struct that describes an object.
///
/// # Safety
/// Every pointer in `info` must be good for what the kernel writes there.
pub(super) unsafe fn info(object: u32, info: &mut impl Attr) -> io::Result<()> {
    let info_len = size_of_val(info) as u32;
    let mut attr = GetInfo { bpf_fd: object, info_len, info: pointer_mut(info) };
    // SAFETY: the kernel writes at most the bytes that it was told of; what they point to
    // is the caller's promise.
    unsafe { bpf(Command::ObjGetInfoByFd, &mut attr) }.map(drop)
}
