//! When memory is returned to the system: what threads freed, and parts of the program that only its start needs.
//!
//! Each thread keeps the memory that it freed, and returns it a little later when it allocates again. A thread that checks a hundred documents
//! and then waits for the next deploy would keep most of what it needed: it [collects](collect) behind such work.

use std::ops::Range;

/// Returns what the calling thread has freed.
pub fn collect() {
    // SAFETY: It takes no pointers, and may be called by any thread at any time.
    unsafe { libmimalloc_sys::mi_collect(true) }
}

/// Unmaps the code and the constants of the program. What is needed again is mapped again from the file, as a rule out of the system's cache;
/// what only the start needed, such as checking all documents, no longer counts as memory of the process.
pub fn unmap_start() {
    let (Ok(maps), Ok(program)) = (std::fs::read_to_string("/proc/self/maps"), std::env::current_exe()) else { return };
    for range in unwritten(&maps, &program.to_string_lossy()) {
        // SAFETY: The pages are those of a file, and nothing ever writes to them: the next read returns the same bytes.
        unsafe { libc::madvise(range.start as *mut libc::c_void, range.len(), libc::MADV_DONTNEED) };
    }
}

/// Where the program's file is mapped and never written to (proc(5), `maps`): what is executed, and the constants at its beginning. Others
/// are relocated when it starts.
fn unwritten(maps: &str, program: &str) -> Vec<Range<usize>> {
    let of_line = |line: &str| {
        let mut fields = line.split_ascii_whitespace();
        let (range, permissions, offset) = (fields.next()?, fields.next()?, fields.next()?);
        let constants = permissions == "r--p" && usize::from_str_radix(offset, 16) == Ok(0);
        if fields.nth(2)? != program || !(constants || permissions == "r-xp") {
            return None;
        }
        let (start, end) = range.split_once('-')?;
        Some(usize::from_str_radix(start, 16).ok()?..usize::from_str_radix(end, 16).ok()?)
    };
    maps.lines().filter_map(of_line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_nothing_writes_to_is_unmapped() {
        let maps = "\
            1000-3000 r--p 00000000 fe:00 77 /usr/bin/kanzleid\n\
            3000-7000 r-xp 00002000 fe:00 77 /usr/bin/kanzleid\n\
            7000-8000 r--p 00006000 fe:00 77 /usr/bin/kanzleid\n\
            8000-9000 rw-p 00007000 fe:00 77 /usr/bin/kanzleid\n\
            9000-a000 rw-p 00000000 00:00 0 \n\
            b000-c000 r-xp 00000000 fe:00 78 /usr/lib/libc.so.6\n\
            nonsense\n";
        let found = || unwritten(maps, "/usr/bin/kanzleid");
        assert_eq!(found(), [0x1000..0x3000, 0x3000..0x7000]);
        assert!(unwritten(maps, "/usr/bin/other").is_empty());
        unmap_start();
        assert_eq!(found().len(), 2, "what is unmapped is read again");
    }
}
