//! Ports on loopback.

use std::io;
use std::net::TcpListener;
use std::sync::atomic::{AtomicU32, Ordering};

/// Ports are taken from below those that the kernel returns to outgoing connections (32768 and up on Linux):
/// one of those may be gone again before it is listened on.
const FIRST: u32 = 12_000;
const COUNT: u32 = 20_000;

/// A port that is free now, and that this process has not given before.
pub fn free() -> io::Result<u16> {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    // Processes that run at the same time begin at different places.
    let start = std::process::id().wrapping_mul(2_654_435_761);
    for _ in 0..COUNT {
        let port = FIRST + (start.wrapping_add(NEXT.fetch_add(1, Ordering::Relaxed))) % COUNT;
        if let Ok(port) = u16::try_from(port)
            && is_free(port)
        {
            return Ok(port);
        }
    }
    Err(io::Error::new(io::ErrorKind::AddrInUse, "no port is free on loopback"))
}

pub fn is_free(port: u16) -> bool {
    TcpListener::bind(("127.0.0.1", port)).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn free_ports_are_free_and_different() {
        let held: Vec<TcpListener> =
            (0..20).map(|_| TcpListener::bind(("127.0.0.1", free().expect("a port"))).expect("it is free")).collect();
        assert!(held.iter().all(|one| !is_free(one.local_addr().expect("address").port())));
    }
}
