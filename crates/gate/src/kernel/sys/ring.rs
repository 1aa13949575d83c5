//! The reading end of a ring buffer map, by its documented layout
//! (Documentation/bpf/ringbuf.rst).

use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};

use super::map_info;

/// The reading end of a [`super::MapKind::Ring`] map.
pub struct Ring {
    map: OwnedFd,
    consumer: *mut libc::c_void,
    producer: *mut libc::c_void,
    size: usize,
}

/// One page: the positions stand in pages of their own.
const PAGE: usize = 4096;

impl Ring {
    /// Maps a ring of `size` bytes, the `entries` it was made with.
    ///
    /// # Errors
    /// What the kernel says.
    pub fn open(map: OwnedFd) -> io::Result<Self> {
        let size = map_info(map.as_fd())?.entries as usize;
        let fd = map.as_raw_fd();
        let (read, write) = (libc::PROT_READ, libc::PROT_READ | libc::PROT_WRITE);
        // SAFETY: a new mapping at an address of the kernel's choice; the layout is that of
        // Documentation/bpf/ringbuf.rst: consumer page, producer page, data twice.
        let (consumer, producer) = unsafe {
            let consumer = libc::mmap(std::ptr::null_mut(), PAGE, write, libc::MAP_SHARED, fd, 0);
            if consumer == libc::MAP_FAILED {
                return Err(io::Error::last_os_error());
            }
            let length = PAGE + 2 * size;
            let offset = PAGE as libc::off_t;
            let producer =
                libc::mmap(std::ptr::null_mut(), length, read, libc::MAP_SHARED, fd, offset);
            if producer == libc::MAP_FAILED {
                let error = io::Error::last_os_error();
                libc::munmap(consumer, PAGE);
                return Err(error);
            }
            (consumer, producer)
        };
        Ok(Self { map, consumer, producer, size })
    }

    /// Hands every record that is there to `take`.
    pub fn drain(&mut self, mut take: impl FnMut(&[u8])) {
        const BUSY: u32 = 1 << 31;
        const DISCARD: u32 = 1 << 30;
        // SAFETY: both pages begin with an aligned u64 position, shared with the kernel,
        // which is why they are read and written as atomics; they live as long as self.
        let (consumer, producer) =
            unsafe { (&*self.consumer.cast::<AtomicU64>(), &*self.producer.cast::<AtomicU64>()) };
        let mut at = consumer.load(Ordering::Relaxed);
        while at < producer.load(Ordering::Acquire) {
            let offset = PAGE + (at as usize & (self.size - 1));
            // SAFETY: a record begins at every position below the producer's; data is mapped
            // twice in a row, so a record of at most `size` bytes is contiguous. The header is
            // published by the kernel with release order.
            let header = unsafe {
                let header = self.producer.byte_add(offset).cast::<AtomicU32>();
                (*header).load(Ordering::Acquire)
            };
            if header & BUSY != 0 {
                break;
            }
            let length = ((header & !(BUSY | DISCARD)) as usize).min(self.size);
            if header & DISCARD == 0 {
                // SAFETY: as above; the record is not written again until the consumer's
                // position passes it, which happens after `take`.
                let record = unsafe {
                    let begin = self.producer.byte_add(offset + 8).cast::<u8>();
                    std::slice::from_raw_parts(begin, length)
                };
                take(record);
            }
            at += (length + 8).next_multiple_of(8) as u64;
            consumer.store(at, Ordering::Release);
        }
    }
}

impl AsFd for Ring {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.map.as_fd()
    }
}

impl Drop for Ring {
    fn drop(&mut self) {
        // SAFETY: both were mapped in `open` with these lengths and nothing borrows them.
        unsafe {
            libc::munmap(self.consumer, PAGE);
            libc::munmap(self.producer, PAGE + 2 * self.size);
        }
    }
}
