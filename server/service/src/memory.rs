//! When the allocator returns memory to the system.
//!
//! Each thread keeps the memory that it freed, and returns it a little later when it allocates again. A thread that checks a hundred documents
//! and then waits for the next deploy would keep most of what it needed: it [collects](collect) behind such work.

/// Returns what the calling thread has freed.
pub fn collect() {
    // SAFETY: It takes no pointers, and may be called by any thread at any time.
    unsafe { libmimalloc_sys::mi_collect(true) }
}
