//! Numbers in bytes that came from elsewhere: a packet, the kernel, a file.

/// Reads at an offset; `None` where the bytes end before. `be` is the order of
/// the network, `ne` the machine's own.
pub trait ReadAt {
    /// `N` bytes.
    fn array_at<const N: usize>(&self, at: usize) -> Option<[u8; N]>;

    /// 16 bits as they came over the wire.
    #[inline]
    fn u16_be(&self, at: usize) -> Option<u16> {
        self.array_at(at).map(u16::from_be_bytes)
    }

    /// 32 bits as they came over the wire.
    #[inline]
    fn u32_be(&self, at: usize) -> Option<u32> {
        self.array_at(at).map(u32::from_be_bytes)
    }

    /// 16 bits as this machine writes them.
    #[inline]
    fn u16_ne(&self, at: usize) -> Option<u16> {
        self.array_at(at).map(u16::from_ne_bytes)
    }

    /// 32 bits as this machine writes them.
    #[inline]
    fn u32_ne(&self, at: usize) -> Option<u32> {
        self.array_at(at).map(u32::from_ne_bytes)
    }

    /// 64 bits as this machine writes them.
    #[inline]
    fn u64_ne(&self, at: usize) -> Option<u64> {
        self.array_at(at).map(u64::from_ne_bytes)
    }
}

impl ReadAt for [u8] {
    #[inline]
    fn array_at<const N: usize>(&self, at: usize) -> Option<[u8; N]> {
        self.get(at..)?.first_chunk().copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_read_past_the_end() {
        let bytes: &[u8] = &[0x12, 0x34, 0x56, 0x78, 0x9a];
        assert_eq!((bytes.u16_be(0), bytes.u16_be(3)), (Some(0x1234), Some(0x789a)));
        assert_eq!((bytes.u16_be(4), bytes.u16_ne(usize::MAX)), (None, None));
        assert_eq!((bytes.u32_be(1), bytes.u32_be(2)), (Some(0x3456_789a), None));
        assert_eq!(bytes.u32_ne(0), Some(u32::from_ne_bytes([0x12, 0x34, 0x56, 0x78])));
        assert_eq!((bytes.u64_ne(0), bytes.array_at::<0>(5)), (None, Some([])));
    }
}
