//! How the C library's heap treats large pieces.

/// Lets every piece of a mebibyte or more go back to the system when it is
/// freed. Left alone, glibc learns from the first large piece that is freed to
/// keep all later ones: what reading long orders took would stay.
pub fn give_back_large_pieces() {
    #[cfg(target_env = "gnu")]
    {
        const MEBIBYTE: libc::c_int = 1 << 20;
        // SAFETY: mallopt(3) changes a number of the allocator's; it takes no pointers, and
        // Tipstaff calls it before it has a second thread.
        unsafe { libc::mallopt(libc::M_MMAP_THRESHOLD, MEBIBYTE) };
    }
}
