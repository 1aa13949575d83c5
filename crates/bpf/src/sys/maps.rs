//! Maps.

use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::sync::OnceLock;

use super::attr::{self, Command, bpf, name, pointer, pointer_mut};
use super::kinds::MapKind;

/// `BPF_F_NO_PREALLOC` and `BPF_F_CLONE`: a storage is made with its socket's first use,
/// and accepted sockets inherit it.
const STORAGE_FLAGS: u32 = 1 | 1 << 9;
/// `BPF_F_MMAPABLE`: user space may map the values.
const MMAPABLE: u32 = 1 << 10;

fn raw(object: BorrowedFd<'_>) -> u32 {
    object.as_raw_fd() as u32
}

/// Makes a map. `name`: at most 15 bytes of letters, digits, `_`.
///
/// # Errors
/// What the kernel says.
pub fn map_create(
    kind: MapKind,
    label: &str,
    key: u32,
    value: u32,
    entries: u32,
) -> io::Result<OwnedFd> {
    create(attr::MapCreate {
        map_type: kind as u32,
        key_size: key,
        value_size: value,
        max_entries: entries,
        map_name: name(label),
        ..Default::default()
    })
}

/// Makes an array of one 64-bit number that user space may map: a [`super::Cell`].
///
/// # Errors
/// What the kernel says.
pub fn map_create_shared(label: &str) -> io::Result<OwnedFd> {
    create(attr::MapCreate {
        map_type: MapKind::Array as u32,
        key_size: 4,
        value_size: 8,
        max_entries: 1,
        map_flags: MMAPABLE,
        map_name: name(label),
        ..Default::default()
    })
}

/// Makes a map that keeps `value` bytes at each socket. The kernel wants the
/// types of key and value described (Documentation/bpf/btf.rst): two integers.
///
/// # Errors
/// What the kernel says.
pub fn map_create_at_sockets(label: &str, value: u32) -> io::Result<OwnedFd> {
    // INT u32 · ARRAY of type 3 indexed by type 1 · INT u8. A struct btf_type is three words.
    let types: Vec<u8> = [
        [1, 1 << 24, 4].as_slice(),
        &[32],
        &[0, 3 << 24, 0],
        &[3, 1, value],
        &[1, 1 << 24, 1],
        &[8],
    ]
    .concat()
    .iter()
    .flat_map(|word: &u32| word.to_ne_bytes())
    .collect();
    let names = b"\0int\0";
    let mut btf: Vec<u8> = 0xeb9f_u16.to_ne_bytes().to_vec();
    btf.extend([1, 0]);
    let length = types.len() as u32;
    for word in [24, 0, length, length, names.len() as u32] {
        btf.extend(word.to_ne_bytes());
    }
    btf.extend(types);
    btf.extend(names);
    let btf_size = btf.len() as u32;
    let mut load = attr::BtfLoad { btf: pointer(&btf[..]), btf_size, ..Default::default() };
    // SAFETY: the description outlives the call and its length is passed.
    let description = unsafe { attr::open(Command::BtfLoad, &mut load)? };
    create(attr::MapCreate {
        map_type: MapKind::SocketStorage as u32,
        key_size: 4,
        value_size: value,
        map_flags: STORAGE_FLAGS,
        map_name: name(label),
        btf_fd: raw(description.as_fd()),
        btf_key_type_id: 1,
        btf_value_type_id: 2,
        ..Default::default()
    })
}

fn create(mut attr: attr::MapCreate) -> io::Result<OwnedFd> {
    // SAFETY: MAP_CREATE follows no pointers.
    unsafe { attr::open(Command::MapCreate, &mut attr) }
}

/// Reads a value; `false` when there is none. `value` must have the size of
/// the map's value (times the possible processors for per-CPU maps), which the
/// caller takes from where it made the map or from [`map_info`].
///
/// # Errors
/// What the kernel says; [`io::ErrorKind::InvalidInput`] for wrong sizes.
pub fn map_lookup(map: BorrowedFd<'_>, key: &[u8], value: &mut [u8]) -> io::Result<bool> {
    check_sizes(map, key, value.len())?;
    let value = pointer_mut(value);
    // SAFETY: both sizes were just checked against the map.
    unsafe { elem(Command::MapLookupElem, map, Some(key), value, 0) }
        .map_or_else(|e| unless(e, libc::ENOENT), |()| Ok(true))
}

/// Writes a value; the sizes as in [`map_lookup`].
///
/// # Errors
/// What the kernel says; [`io::ErrorKind::InvalidInput`] for wrong sizes.
pub fn map_update(map: BorrowedFd<'_>, key: &[u8], value: &[u8]) -> io::Result<()> {
    check_sizes(map, key, value.len())?;
    // SAFETY: both sizes were just checked against the map.
    unsafe { elem(Command::MapUpdateElem, map, Some(key), pointer(value), 0) }
}

/// Writes a value where there is none yet; `false` when there is one. The sizes as in
/// [`map_lookup`].
///
/// # Errors
/// What the kernel says; [`io::ErrorKind::InvalidInput`] for wrong sizes.
pub fn map_insert(map: BorrowedFd<'_>, key: &[u8], value: &[u8]) -> io::Result<bool> {
    const NOEXIST: u64 = 1;
    check_sizes(map, key, value.len())?;
    // SAFETY: both sizes were just checked against the map.
    unsafe { elem(Command::MapUpdateElem, map, Some(key), pointer(value), NOEXIST) }
        .map_or_else(|e| unless(e, libc::EEXIST), |()| Ok(true))
}

/// Removes an entry; `false` when there was none.
///
/// # Errors
/// What the kernel says; [`io::ErrorKind::InvalidInput`] for wrong sizes.
pub fn map_delete(map: BorrowedFd<'_>, key: &[u8]) -> io::Result<bool> {
    if map_info(map)?.key as usize != key.len() {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    // SAFETY: the key's size was just checked against the map.
    unsafe { elem(Command::MapDeleteElem, map, Some(key), 0, 0) }
        .map_or_else(|e| unless(e, libc::ENOENT), |()| Ok(true))
}

/// # Safety
/// The key has the size of the map's keys; `value` is 0 where the command wants none,
/// else good for as many bytes as the command reads or writes there.
unsafe fn elem(
    command: Command,
    map: BorrowedFd<'_>,
    key: Option<&[u8]>,
    value: u64,
    flags: u64,
) -> io::Result<()> {
    let key = key.map_or(0, pointer);
    let mut attr = attr::MapElem { map_fd: raw(map), pad: 0, key, value, flags };
    // SAFETY: passed on to the caller.
    unsafe { bpf(command, &mut attr) }.map(drop)
}

/// One error is an answer: no.
fn unless(error: io::Error, expected: i32) -> io::Result<bool> {
    if error.raw_os_error() == Some(expected) { Ok(false) } else { Err(error) }
}

/// Reads all values of an array, for per-CPU arrays all copies of each.
///
/// # Errors
/// What the kernel says.
pub fn array_values(map: BorrowedFd<'_>, mut take: impl FnMut(u32, &[u8])) -> io::Result<()> {
    const AT_ONCE: usize = 1_024;
    let info = map_info(map)?;
    let size = info.copied()?;
    check_sizes(map, &[0; 4], size)?;
    let (mut values, mut keys, mut token) = (vec![0; size * AT_ONCE], vec![0; 4 * AT_ONCE], [0; 4]);
    let (mut index, mut begun) = (0, false);
    while index < info.entries {
        let mut batch = attr::MapBatch {
            in_batch: if begun { pointer(&token[..]) } else { 0 },
            out_batch: pointer_mut(&mut token[..]),
            keys: pointer_mut(&mut keys[..]),
            values: pointer_mut(&mut values[..]),
            count: AT_ONCE as u32,
            map_fd: raw(map),
            ..Default::default()
        };
        // SAFETY: there is room for so many keys and values, whose sizes were just checked
        // against the map, which never changes them; the token of an array is a key.
        let read = unsafe { bpf(Command::MapLookupBatch, &mut batch) };
        begun = true;
        match read {
            // So it says that these are the last ones.
            Err(e) if e.raw_os_error() != Some(libc::ENOENT) => return Err(e),
            _ => {}
        }
        for value in values.chunks_exact(size).take(batch.count as usize) {
            take(index, value);
            index += 1;
        }
        if read.is_err() || batch.count == 0 {
            break;
        }
    }
    match index == info.entries {
        true => Ok(()),
        false => Err(io::ErrorKind::UnexpectedEof.into()),
    }
}

/// All keys of a map that has more than one; one that is removed meanwhile may
/// make the walk begin anew, so that it is bounded by the map's size.
///
/// # Errors
/// What the kernel says.
pub fn map_keys(map: BorrowedFd<'_>) -> io::Result<Vec<Vec<u8>>> {
    let info = map_info(map)?;
    let mut keys: Vec<Vec<u8>> = Vec::new();
    while keys.len() < info.entries as usize {
        let mut next = vec![0; info.key as usize];
        let last = keys.last().map(Vec::as_slice);
        let to = pointer_mut(&mut next[..]);
        // SAFETY: both keys have the size that the map was just asked for.
        match unsafe { elem(Command::MapGetNextKey, map, last, to, 0) } {
            Ok(()) => keys.push(next),
            Err(e) if e.raw_os_error() == Some(libc::ENOENT) => break,
            Err(e) => return Err(e),
        }
    }
    Ok(keys)
}

fn check_sizes(map: BorrowedFd<'_>, key: &[u8], value: usize) -> io::Result<()> {
    let info = map_info(map)?;
    if key.len() == info.key as usize && value == info.copied()? {
        Ok(())
    } else {
        Err(io::ErrorKind::InvalidInput.into())
    }
}

/// How many processors the kernel may ever have: per-CPU values come in so many copies.
///
/// # Errors
/// When /sys does not say.
pub fn possible_processors() -> io::Result<usize> {
    static KNOWN: OnceLock<usize> = OnceLock::new();
    if let Some(known) = KNOWN.get() {
        return Ok(*known);
    }
    let text = std::fs::read_to_string("/sys/devices/system/cpu/possible")?;
    let ends = text.trim().rsplit(',').next().and_then(|range| range.rsplit('-').next());
    let last: usize = ends.unwrap_or_default().parse().map_err(io::Error::other)?;
    Ok(*KNOWN.get_or_init(|| last + 1))
}

/// What the kernel knows of a map.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct MapInfo {
    /// As [`MapKind`].
    pub kind: u32,
    /// Bytes of a key.
    pub key: u32,
    /// Bytes of a value.
    pub value: u32,
    /// Entries at most.
    pub entries: u32,
    /// Its name.
    pub name: String,
}

impl MapInfo {
    /// Bytes of a value as user space has it.
    fn copied(&self) -> io::Result<usize> {
        Ok(if self.kind == MapKind::PerCpuArray as u32 {
            self.value.next_multiple_of(8) as usize * possible_processors()?
        } else {
            self.value as usize
        })
    }
}

/// The text of a name that ends with a zero.
pub(super) fn text(name: &[u8; 16]) -> String {
    let end = name.iter().position(|b| *b == 0).unwrap_or(name.len());
    String::from_utf8_lossy(&name[..end]).into_owned()
}

/// Asks about a map.
///
/// # Errors
/// What the kernel says.
pub fn map_info(map: BorrowedFd<'_>) -> io::Result<MapInfo> {
    let mut info = attr::MapInfo::default();
    // SAFETY: it has no pointers.
    unsafe { attr::info(raw(map), &mut info)? };
    Ok(MapInfo {
        kind: info.map_type,
        key: info.key_size,
        value: info.value_size,
        entries: info.max_entries,
        name: text(&info.name),
    })
}

/// Opens a map by its id.
///
/// # Errors
/// What the kernel says.
pub fn map_by_id(id: u32) -> io::Result<OwnedFd> {
    // SAFETY: follows no pointers.
    unsafe { attr::open(Command::MapGetFdById, &mut attr::GetFdById { id }) }
}
