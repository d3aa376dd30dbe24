//! A connection to the database that breaks where it is asked to: it counts the statements that pass, and loses one before or behind
//! the server, answers it with an error, or delays it.
//!
//! Packets are those of the server's protocol: three bytes of length, a number, and a command where that number is 0.

use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicU32, Ordering};
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::tcp::OwnedReadHalf;
use tokio::net::{TcpListener, TcpStream};

/// `COM_QUERY`, `COM_STMT_PREPARE` and `COM_STMT_EXECUTE`.
const STATEMENTS: [u8; 3] = [0x03, 0x16, 0x17];

/// What happens to a statement.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Fault {
    /// The connection ends before the server has it.
    LostBefore,
    /// The server executes it, and the connection ends before its answer.
    LostBehind,
    /// It is answered with an error, and the server does not have it.
    Error(u16),
    /// It comes late.
    Delay,
}

/// The faults of a proxy.
#[derive(Debug, Default)]
pub struct Plan {
    /// Statements until the fault; negative for none.
    left: AtomicI64,
    fault: std::sync::Mutex<Option<Fault>>,
    /// Faults that happened.
    pub happened: AtomicU32,
}

impl Plan {
    /// Plans a fault, or none.
    pub fn set(&self, fault: Option<(Fault, u32)>) {
        *self.fault.lock().expect("no panic") = fault.map(|(fault, _)| fault);
        self.left.store(fault.map_or(-1, |(_, at)| i64::from(at)), Ordering::SeqCst);
    }

    /// The fault of the next statement.
    fn next(&self) -> Option<Fault> {
        if self.left.fetch_sub(1, Ordering::SeqCst) != 0 {
            return None;
        }
        self.happened.fetch_add(1, Ordering::SeqCst);
        *self.fault.lock().expect("no panic")
    }
}

/// Starts a proxy in front of a server on loopback; returns its port.
///
/// # Panics
/// When there is no port.
pub async fn start(server: u16, plan: Arc<Plan>) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let port = listener.local_addr().expect("an address").port();
    tokio::spawn(async move {
        while let Ok((client, _)) = listener.accept().await {
            let plan = plan.clone();
            tokio::spawn(async move { serve(client, server, &plan).await });
        }
    });
    port
}

/// The next packet with its head.
async fn packet(from: &mut OwnedReadHalf) -> Option<Vec<u8>> {
    let mut packet = vec![0; 4];
    from.read_exact(&mut packet).await.ok()?;
    let length = usize::from(packet[0]) | usize::from(packet[1]) << 8 | usize::from(packet[2]) << 16;
    packet.resize(4 + length, 0);
    from.read_exact(&mut packet[4..]).await.ok()?;
    Some(packet)
}

/// Passes packets on until one side ends.
async fn serve(client: TcpStream, server: u16, plan: &Plan) -> Option<()> {
    let server = TcpStream::connect(("127.0.0.1", server)).await.ok()?;
    let _ = (client.set_nodelay(true), server.set_nodelay(true));
    let (mut from_client, mut to_client) = client.into_split();
    let (mut from_server, mut to_server) = server.into_split();
    let mut answer = vec![0; 64 << 10];
    // Packets are read whole in a task of their own, because reading one cannot be interrupted.
    let (sender, mut packets) = tokio::sync::mpsc::channel(16);
    tokio::spawn(async move {
        while let Some(packet) = packet(&mut from_client).await {
            if sender.send(packet).await.is_err() {
                break;
            }
        }
    });
    loop {
        tokio::select! {
            biased;
            read = from_server.read(&mut answer) => {
                let count = read.ok().filter(|count| *count > 0)?;
                to_client.write_all(&answer[..count]).await.ok()?;
            }
            packet = packets.recv() => {
                let packet = packet?;
                let statement = packet[3] == 0 && packet.get(4).is_some_and(|command| STATEMENTS.contains(command));
                match if statement { plan.next() } else { None } {
                    None => to_server.write_all(&packet).await.ok()?,
                    Some(Fault::LostBefore) => return None,
                    Some(Fault::LostBehind) => {
                        to_server.write_all(&packet).await.ok()?;
                        // Its answer means that it was executed.
                        let _ = from_server.read(&mut answer).await;
                        return None;
                    }
                    Some(Fault::Error(number)) => {
                        let text = b"injected";
                        let length = 9 + text.len();
                        let mut error = vec![length as u8, 0, 0, 1, 0xff, number as u8, (number >> 8) as u8];
                        error.extend_from_slice(b"#HY000");
                        error.extend_from_slice(text);
                        to_client.write_all(&error).await.ok()?;
                    }
                    Some(Fault::Delay) => {
                        tokio::time::sleep(Duration::from_millis(2)).await;
                        to_server.write_all(&packet).await.ok()?;
                    }
                }
            }
        }
    }
}
