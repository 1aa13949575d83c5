//! Where the fields of the kernel's structures stand, by its own description
//! of its types (Documentation/bpf/btf.rst).

use std::collections::HashMap;
use tipstaff_core::bytes::ReadAt;

/// Where the kernel describes its types.
pub const VMLINUX: &str = "/sys/kernel/btf/vmlinux";

/// The description cannot be read, or does not have what is looked for.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the kernel's description of its types has no {0}")]
pub struct Missing(pub String);

/// The types of a kernel.
pub struct Btf<'b> {
    strings: &'b [u8],
    /// By the number of the type; 0 is void.
    types: Vec<Type<'b>>,
    structures: HashMap<&'b [u8], usize>,
    functions: HashMap<&'b [u8], usize>,
}

#[derive(Clone, Copy)]
struct Type<'b> {
    info: u32,
    /// A size, or the number of the type that this one is made of.
    of: u32,

    /// What follows the three words.
    rest: &'b [u8],
}

mod kind {
    pub const STRUCT: u32 = 4;
    pub const UNION: u32 = 5;
    pub const TYPEDEF: u32 = 8;
    pub const VOLATILE: u32 = 9;
    pub const CONST: u32 = 10;
    pub const RESTRICT: u32 = 11;
    pub const FUNCTION: u32 = 12;
    pub const TYPE_TAG: u32 = 18;
}

impl Type<'_> {
    fn kind(&self) -> u32 {
        self.info >> 24 & 0x1f
    }
}

/// How many bytes follow the three words of a type.
fn length_behind(kind: u32, members: usize) -> Option<usize> {
    Some(match kind {
        1 | 14 | 17 => 4,
        3 => 12,
        4 | 5 | 15 | 19 => 12 * members,
        6 | 13 => 8 * members,
        2 | 7..=12 | 16 | 18 => 0,
        _ => return None,
    })
}

impl<'b> Btf<'b> {
    /// Reads the description, usually `/sys/kernel/btf/vmlinux`.
    ///
    /// # Errors
    /// [`Missing`] where it breaks off, or has kinds of types that nobody knew
    /// when this was written.
    pub fn read(bytes: &'b [u8]) -> Result<Self, Missing> {
        Self::parts(bytes).ok_or_else(|| Missing("layout that can be read".into()))
    }

    fn parts(bytes: &'b [u8]) -> Option<Self> {
        const MAGIC: u32 = 0xeb9f;
        if bytes.u32_ne(0)? & 0xffff != MAGIC {
            return None;
        }
        let header = bytes.u32_ne(4)? as usize;
        let section = |at: usize| {
            let (offset, length) = (bytes.u32_ne(at)? as usize, bytes.u32_ne(at + 4)? as usize);
            bytes.get(header + offset..header + offset + length)
        };
        let (mut left, strings) = (section(8)?, section(16)?);
        let void = Type { info: 0, of: 0, rest: &[] };
        let mut btf = Self {
            strings,
            types: vec![void],
            structures: HashMap::new(),
            functions: HashMap::new(),
        };
        while !left.is_empty() {
            let (name, info, of) = (left.u32_ne(0)?, left.u32_ne(4)?, left.u32_ne(8)?);
            let length = length_behind(info >> 24 & 0x1f, (info & 0xffff) as usize)?;
            let all = Type { info, of, rest: left.get(12..12 + length)? };
            if all.kind() == kind::STRUCT {
                let number = btf.types.len();
                btf.structures.entry(btf.text(name)?).or_insert(number);
            }
            if all.kind() == kind::FUNCTION {
                let number = btf.types.len();
                btf.functions.entry(btf.text(name)?).or_insert(number);
            }
            btf.types.push(all);
            left = &left[12 + length..];
        }
        Some(btf)
    }

    fn text(&self, at: u32) -> Option<&'b [u8]> {
        let from = self.strings.get(at as usize..)?;
        Some(&from[..from.iter().position(|byte| *byte == 0)?])
    }

    /// Through names and qualifiers, to what the type is made of.
    fn plain(&self, mut number: u32) -> Option<Type<'b>> {
        loop {
            let found = *self.types.get(number as usize)?;
            match found.kind() {
                kind::TYPEDEF | kind::VOLATILE | kind::CONST | kind::RESTRICT | kind::TYPE_TAG => {
                    number = found.of;
                }
                _ => return Some(found),
            }
        }
    }

    /// Bit offset and type of a member, also of one that stands in members
    /// without a name.
    fn member(&self, outer: Type<'b>, name: &[u8]) -> Option<(u32, u32)> {
        let sized = outer.info >> 31 == 1;
        for member in outer.rest.chunks_exact(12) {
            let (called, number, offset) =
                (member.u32_ne(0)?, member.u32_ne(4)?, member.u32_ne(8)?);
            let offset = if sized { offset & 0x00ff_ffff } else { offset };
            let called = self.text(called)?;
            if called == name {
                return Some((offset, number));
            }
            let inner = self.plain(number)?;
            if called.is_empty()
                && matches!(inner.kind(), kind::STRUCT | kind::UNION)
                && let Some((within, number)) = self.member(inner, name)
            {
                return Some((offset + within, number));
            }
        }
        None
    }

    /// The number of a structure, by which programs are told what stands where.
    ///
    /// # Errors
    /// [`Missing`].
    pub fn structure(&self, name: &str) -> Result<u32, Missing> {
        let found = self.structures.get(name.as_bytes());
        found.map(|number| *number as u32).ok_or_else(|| Missing(format!("structure {name}")))
    }

    /// The number of a function, by which programs call it.
    ///
    /// # Errors
    /// [`Missing`].
    pub fn function(&self, name: &str) -> Result<u32, Missing> {
        let found = self.functions.get(name.as_bytes());
        found.map(|number| *number as u32).ok_or_else(|| Missing(format!("function {name}")))
    }

    /// The offset in bytes of a member, or of a member's member: `f_path.dentry`.
    ///
    /// # Errors
    /// [`Missing`].
    pub fn offset(&self, structure: &str, path: &str) -> Result<i16, Missing> {
        let bits = self.bits(structure, path).filter(|bits| bits.is_multiple_of(8));
        let bytes = bits.and_then(|bits| i16::try_from(bits / 8).ok());
        bytes.ok_or_else(|| Missing(format!("{structure}.{path}")))
    }

    /// The byte that a member of one bit stands in, and the bit in that byte.
    ///
    /// # Errors
    /// [`Missing`].
    pub fn bit(&self, structure: &str, path: &str) -> Result<(i16, u16), Missing> {
        let missing = || Missing(format!("{structure}.{path}"));
        let bits = self.bits(structure, path).ok_or_else(missing)?;
        let within = bits % 8;
        let bit = if cfg!(target_endian = "little") { 1 << within } else { 0x80 >> within };
        Ok((i16::try_from(bits / 8).map_err(|_| missing())?, bit))
    }

    /// Where a member begins, in bits.
    fn bits(&self, structure: &str, path: &str) -> Option<u32> {
        let mut outer = *self.types.get(*self.structures.get(structure.as_bytes())?)?;
        let mut bits = 0;
        for name in path.split('.') {
            let (offset, number) = self.member(outer, name.as_bytes())?;
            bits += offset;
            outer = self.plain(number)?;
        }
        Some(bits)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `struct outer { int first; union { struct inner { long deep; } within; int other; }; }`
    fn described() -> Vec<u8> {
        let strings = b"\0int\0outer\0first\0inner\0deep\0within\0other\0";
        let at = |name: &str| {
            let name = [name.as_bytes(), b"\0"].concat();
            strings.windows(name.len()).position(|w| w == name).unwrap() as u32
        };
        let types = [
            // 1: int
            vec![at("int"), 1 << 24, 4, 32],
            // 2: struct inner
            vec![at("inner"), 4 << 24 | 1, 8, at("deep"), 1, 64],
            // 3: union without a name
            vec![0, 5 << 24 | 2, 8, at("within"), 4, 0, at("other"), 1, 0],
            // 4: const struct inner
            vec![0, 10 << 24, 2],
            // 5: struct outer
            vec![at("outer"), 4 << 24 | 2, 16, at("first"), 1, 0, 0, 3, 64],
        ];
        let types: Vec<u8> = types.concat().iter().flat_map(|w| w.to_ne_bytes()).collect();
        let mut all = 0xeb9f_u32.to_ne_bytes().to_vec();
        for word in [24, 0, types.len() as u32, types.len() as u32, strings.len() as u32] {
            all.extend(word.to_ne_bytes());
        }
        all.extend(types);
        all.extend(strings);
        all
    }

    #[test]
    fn members_are_found_through_those_without_a_name() {
        let bytes = described();
        let btf = Btf::read(&bytes).unwrap();
        assert_eq!(btf.offset("outer", "first"), Ok(0));
        assert_eq!(btf.offset("outer", "other"), Ok(8));
        assert_eq!(btf.offset("outer", "within.deep"), Ok(16));
        assert_eq!(btf.offset("outer", "none"), Err(Missing("outer.none".into())));
        assert_eq!(btf.offset("nobody", "first"), Err(Missing("nobody.first".into())));
    }

    #[test]
    fn what_breaks_off_is_told() {
        let bytes = described();
        for end in 0..bytes.len() {
            assert!(Btf::read(&bytes[..end]).is_err(), "{end}");
        }
    }
}
