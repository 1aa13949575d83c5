//! The reading end of a ring buffer map, by its documented layout
//! (Documentation/bpf/ringbuf.rst).

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::atomic::Ordering;

use super::map_info;
use super::mapping::{Access, Mapping, page};

/// Bytes in front of each record: its length and flags, and where its page is.
const HEADER: usize = 8;

/// The reading end of a [`super::MapKind::Ring`] map.
pub struct Ring {
    map: OwnedFd,
    /// A page with the consumer's position.
    consumer: Mapping,
    /// A page with the producer's position, and the data twice behind it.
    producer: Mapping,
    size: usize,
    page: usize,
}

impl Ring {
    /// Maps a ring of `size` bytes, the `entries` it was made with.
    ///
    /// # Errors
    /// What the kernel says.
    pub fn open(map: OwnedFd) -> io::Result<Self> {
        let (size, page) = (map_info(map.as_fd())?.entries as usize, page());
        let consumer = Mapping::new(map.as_fd(), 0, page, Access::Write)?;
        let producer = Mapping::new(map.as_fd(), page, page + 2 * size, Access::Read)?;
        Ok(Self { map, consumer, producer, size, page })
    }

    /// Hands every record that is there to `take`.
    pub fn drain(&mut self, mut take: impl FnMut(&[u8])) {
        /// `BPF_RINGBUF_BUSY_BIT` and `BPF_RINGBUF_DISCARD_BIT`.
        const BUSY: u32 = 1 << 31;
        const DISCARD: u32 = 1 << 30;
        let (consumer, producer) = (self.consumer.number(), self.producer.number());
        let mut at = consumer.load(Ordering::Relaxed);
        while at < producer.load(Ordering::Acquire) {
            let offset = self.page + (at as usize & (self.size - 1));
            // The kernel publishes it with release order.
            let Some(header) = self.producer.word(offset).map(|h| h.load(Ordering::Acquire)) else {
                break;
            };
            if header & BUSY != 0 {
                break;
            }
            let length = ((header & !(BUSY | DISCARD)) as usize).min(self.size);
            if header & DISCARD == 0 {
                // SAFETY: a record begins at every position below the producer's, and data is
                // mapped twice in a row, so that it is in one piece; it is not written again
                // until the consumer's position passes it, which happens after `take`.
                let record = unsafe { self.producer.bytes(offset + HEADER, length) };
                record.into_iter().for_each(&mut take);
            }
            at += (length + HEADER).next_multiple_of(8) as u64;
            consumer.store(at, Ordering::Release);
        }
    }
}

impl AsFd for Ring {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.map.as_fd()
    }
}
