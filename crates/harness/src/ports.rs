//! Ports on loopback.

use std::net::TcpListener;

/// A port nobody listens on now.
pub fn free() -> std::io::Result<u16> {
    Ok(TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port())
}

/// Whether a port can be listened on.
pub fn is_free(port: u16) -> bool {
    TcpListener::bind(("127.0.0.1", port)).is_ok()
}
