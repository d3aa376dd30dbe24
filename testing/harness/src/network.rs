//! Hosts on this machine: network namespaces around a router, for tests of what crosses a network.
//!
//! Programs listen on 127.0.0.1, as without a network. nftables translates the ports that a host serves: a connection to
//! 127.0.0.1 at such a port, from another host or from the router, reaches the host across its link. Links can be cut in one
//! direction or both, lose packets, or be slow. The namespaces exist as long as the process that made them.
//!
//! ```no_run
//! # use kanzlei_harness::network::{Network, Member};
//! let network = Network::start(2)?;         // before this process starts threads
//! let host = network.host(0);               // programs start there with Process::start_on
//! host.serves(&[7080])?;                    // 127.0.0.1:7080 leads there from everywhere
//! network.cut(Member::Host(0), Member::Host(1))?;
//! network.heal()?;
//! # Ok::<(), kanzlei_harness::Error>(())
//! ```

use std::collections::BTreeMap;
use std::fs::File;
use std::io::Write;
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};

use crate::{Error, Result, io, rights};

/// Who sends and receives: the process that made the network, with the programs it starts on no host, or a host.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Member {
    Router,
    Host(usize),
}

/// What happens to packets from one member to another.
#[derive(Clone, Copy, Debug)]
struct Fault {
    from: Member,
    to: Member,
    /// Of a hundred packets so many are lost.
    lost: u8,
    /// Only packets to this port.
    port: Option<u16>,
}

/// A network namespace; it exists as long as this is held.
#[derive(Clone, Debug)]
pub struct Namespace(Arc<OwnedFd>);

impl Namespace {
    /// That of this thread.
    pub fn own() -> Result<Self> {
        let file = File::open("/proc/thread-self/ns/net").map_err(io("opening the own network namespace"))?;
        Ok(Namespace(Arc::new(file.into())))
    }

    /// Makes one.
    fn make() -> Result<Self> {
        let made = std::thread::spawn(|| {
            enter_new()?;
            Namespace::own()
        });
        made.join().map_err(|_| Error::Failed("the thread that makes a network namespace has panicked".into()))?
    }

    /// Moves this thread there.
    pub fn enter(&self) -> std::io::Result<()> {
        // SAFETY: the descriptor is open, and setns touches nothing of ours.
        match unsafe { libc::setns(self.0.as_raw_fd(), libc::CLONE_NEWNET) } {
            0 => Ok(()),
            _ => Err(std::io::Error::last_os_error()),
        }
    }

    /// A path by which another process can open it.
    fn path(&self) -> String {
        format!("/proc/{}/fd/{}", std::process::id(), self.0.as_raw_fd())
    }
}

/// Moves this thread to a network namespace of its own.
fn enter_new() -> Result<()> {
    // SAFETY: has no preconditions.
    match unsafe { libc::unshare(libc::CLONE_NEWNET) } {
        0 => Ok(()),
        _ => Err(io("making a network namespace")(std::io::Error::last_os_error())),
    }
}

/// A host of a network, to start programs on.
#[derive(Clone, Debug)]
pub struct Host {
    network: Network,
    number: usize,
}

impl Host {
    /// Has ports of 127.0.0.1 lead to this host from everywhere.
    pub fn serves(&self, ports: &[u16]) -> Result<()> {
        let mut state = self.network.state()?;
        state.ports.extend(ports.iter().map(|port| (*port, Member::Host(self.number))));
        state.apply(&self.network.namespaces)
    }

    pub fn namespace(&self) -> &Namespace {
        &self.network.namespaces[self.number]
    }

    pub fn member(&self) -> Member {
        Member::Host(self.number)
    }
}

/// Which member serves a port, and what is wrong with the links.
#[derive(Debug, Default)]
struct State {
    ports: BTreeMap<u16, Member>,
    faults: Vec<Fault>,
}

/// Hosts around a router.
#[derive(Clone, Debug)]
pub struct Network {
    namespaces: Arc<Vec<Namespace>>,
    state: Arc<Mutex<State>>,
}

impl Network {
    /// Makes hosts, and moves this thread to the router between them: call it before other threads are started, since they
    /// stay where they are.
    pub fn start(hosts: usize) -> Result<Self> {
        if !rights::is_root() {
            return Err(Error::Failed("only the superuser can make network namespaces; run this as root".into()));
        }
        enter_new()?;
        run(None, "ip", &["link", "set", "lo", "up"], "")?;
        route(None, &["net.ipv4.ip_forward=1"])?;
        let mut namespaces = Vec::new();
        for host in 0..hosts {
            let namespace = Namespace::make()?;
            let (ours, theirs) = (link(host), "uplink");
            let path = namespace.path();
            let words = ["link", "add", &ours, "type", "veth", "peer", "name", theirs, "netns", &path];
            run(None, "ip", &words, "")?;
            run(None, "ip", &["addr", "add", &format!("{}/24", address(host, 1)), "dev", &ours], "")?;
            run(None, "ip", &["link", "set", &ours, "up"], "")?;
            let inside = Some(&namespace);
            run(inside, "ip", &["link", "set", "lo", "up"], "")?;
            run(inside, "ip", &["addr", "add", &format!("{}/24", address(host, 2)), "dev", theirs], "")?;
            run(inside, "ip", &["link", "set", theirs, "up"], "")?;
            run(inside, "ip", &["route", "add", "default", "via", &address(host, 1)], "")?;
            route(inside, &[])?;
            namespaces.push(namespace);
        }
        Ok(Network { namespaces: Arc::new(namespaces), state: Arc::default() })
    }

    pub fn host(&self, number: usize) -> Host {
        Host { network: self.clone(), number }
    }

    /// Has ports of 127.0.0.1 lead to the router from every host.
    pub fn router_serves(&self, ports: &[u16]) -> Result<()> {
        let mut state = self.state()?;
        state.ports.extend(ports.iter().map(|port| (*port, Member::Router)));
        state.apply(&self.namespaces)
    }

    /// Drops every packet from one member to another; the other direction stays.
    pub fn cut(&self, from: Member, to: Member) -> Result<()> {
        self.lose(from, to, 100)
    }

    /// Drops every packet between members of two sides.
    pub fn part(&self, one: &[Member], other: &[Member]) -> Result<()> {
        for (one, other) in one.iter().flat_map(|one| other.iter().map(move |other| (*one, *other))) {
            self.cut(one, other)?;
            self.cut(other, one)?;
        }
        Ok(())
    }

    /// Drops of a hundred packets from one member to another so many.
    pub fn lose(&self, from: Member, to: Member, of_hundred: u8) -> Result<()> {
        self.fault(Fault { from, to, lost: of_hundred, port: None })
    }

    /// Drops what one member sends to a port of another; what comes back on other connections stays.
    pub fn close(&self, from: Member, to: Member, port: u16) -> Result<()> {
        self.fault(Fault { from, to, lost: 100, port: Some(port) })
    }

    fn fault(&self, fault: Fault) -> Result<()> {
        let mut state = self.state()?;
        state.faults.push(fault);
        state.apply(&self.namespaces)
    }

    /// Lets a host send and receive only so many kilobits a second; packets that would wait longer than 400 ms are lost.
    pub fn slow(&self, host: usize, kilobits: u32) -> Result<()> {
        let rate = format!("{kilobits}kbit");
        for (inside, device) in [(None, link(host)), (Some(&self.namespaces[host]), "uplink".to_owned())] {
            let words =
                ["qdisc", "replace", "dev", &device, "root", "tbf", "rate", &rate, "burst", "16kb", "latency", "400ms"];
            run(inside, "tc", &words, "")?;
        }
        Ok(())
    }

    /// Mends every link.
    pub fn heal(&self) -> Result<()> {
        for (host, namespace) in self.namespaces.iter().enumerate() {
            for (inside, device) in [(None, link(host)), (Some(namespace), "uplink".to_owned())] {
                // A link that was never slow has nothing to remove.
                let _ = run(inside, "tc", &["qdisc", "del", "dev", &device, "root"], "");
            }
        }
        let mut state = self.state()?;
        state.faults.clear();
        state.apply(&self.namespaces)
    }

    fn state(&self) -> Result<std::sync::MutexGuard<'_, State>> {
        self.state.lock().map_err(|_| Error::Failed("a thread panicked while it changed the network".into()))
    }
}

impl State {
    /// Writes the rules of every namespace anew.
    fn apply(&self, namespaces: &[Namespace]) -> Result<()> {
        run(None, "nft", &["-f", "-"], &self.router(namespaces.len()))?;
        for (number, namespace) in namespaces.iter().enumerate() {
            run(Some(namespace), "nft", &["-f", "-"], &self.of_host(number))?;
        }
        Ok(())
    }

    /// Ports that others serve, as a map to their addresses as `of` sees them.
    fn elsewhere(&self, of: Member) -> String {
        let others = self.ports.iter().filter(|(_, member)| **member != of);
        let pairs: Vec<String> = others
            .filter_map(|(port, member)| match (member, of) {
                (Member::Host(number), _) => Some(format!("{port} : {}", address(*number, 2))),
                (Member::Router, Member::Host(number)) => Some(format!("{port} : {}", address(number, 1))),
                (Member::Router, Member::Router) => None,
            })
            .collect();
        match pairs.is_empty() {
            true => String::new(),
            false => format!("ip daddr 127.0.0.1 dnat to tcp dport map {{ {} }}", pairs.join(", ")),
        }
    }

    fn router(&self, hosts: usize) -> String {
        let own: Vec<String> = (0..hosts).map(|host| address(host, 1)).collect();
        let (mut passing, mut arriving, mut leaving) = (String::new(), String::new(), String::new());
        for Fault { from, to, lost, port } in &self.faults {
            let port = port.map_or_else(String::new, |port| format!("tcp dport {port} "));
            let verdict = match lost {
                100.. => format!("{port}drop"),
                lost => format!("{port}numgen random mod 100 < {lost} drop"),
            };
            match (from, to) {
                (Member::Host(from), Member::Host(to)) => {
                    let (from, to) = (address(*from, 2), address(*to, 2));
                    passing.push_str(&format!("ip saddr {from} ip daddr {to} {verdict}\n"));
                }
                (Member::Host(from), Member::Router) => {
                    arriving.push_str(&format!("iifname {} {verdict}\n", link(*from)));
                }
                (Member::Router, Member::Host(to)) => {
                    leaving.push_str(&format!("oifname {} {verdict}\n", link(*to)));
                }
                (Member::Router, Member::Router) => {}
            }
        }
        format!(
            "table ip kanzlei {{}}\nflush table ip kanzlei\ntable ip kanzlei {{\n\
             chain passing {{ type filter hook forward priority 0\n{passing}}}\n\
             chain arriving {{ type filter hook input priority 0\n{arriving}}}\n\
             chain leaving {{ type filter hook output priority 0\n{leaving}}}\n\
             {}}}\n",
            translation(&self.elsewhere(Member::Router), "link*", &own)
        )
    }

    fn of_host(&self, number: usize) -> String {
        format!(
            "table ip kanzlei {{}}\nflush table ip kanzlei\ntable ip kanzlei {{\n{}}}\n",
            translation(&self.elsewhere(Member::Host(number)), "uplink", &[address(number, 2)])
        )
    }
}

/// Chains that send what goes to another's port across its link, and have what arrives look as if it came from here.
fn translation(elsewhere: &str, device: &str, own: &[String]) -> String {
    let own = own.join(", ");
    format!(
        "chain out {{ type nat hook output priority -100\n{elsewhere}\n}}\n\
         chain sent {{ type nat hook postrouting priority 100\noifname \"{device}\" ip saddr 127.0.0.1 masquerade\n}}\n\
         chain in {{ type nat hook prerouting priority -100\niifname \"{device}\" ip daddr {{ {own} }} dnat to 127.0.0.1\n}}\n\
         chain received {{ type nat hook input priority 100\niifname \"{device}\" snat to 127.0.0.1\n}}\n"
    )
}

/// The router's end of the link to a host.
fn link(host: usize) -> String {
    format!("link{host}")
}

/// An address on the link of a host: 1 is the router's, 2 the host's.
fn address(host: usize, end: u8) -> String {
    format!("10.77.{}.{end}", host + 1)
}

/// Has packets from and to 127.0.0.1 cross links.
fn route(inside: Option<&Namespace>, more: &[&str]) -> Result<()> {
    let mut words = vec!["-qw", "net.ipv4.conf.all.route_localnet=1"];
    words.extend(more);
    run(inside, "sysctl", &words, "")
}

/// Runs a command in a namespace, with a text as its input.
fn run(inside: Option<&Namespace>, program: &str, args: &[&str], input: &str) -> Result<()> {
    let mut command = Command::new(program);
    command.args(args).stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
    if let Some(namespace) = inside.cloned() {
        // SAFETY: setns is async-signal-safe.
        unsafe {
            command.pre_exec(move || namespace.enter());
        }
    }
    let mut child = command.spawn().map_err(io(format!("starting {program}")))?;
    if let Some(mut stdin) = child.stdin.take() {
        let _ = stdin.write_all(input.as_bytes());
    }
    let output = child.wait_with_output().map_err(io(format!("running {program}")))?;
    match output.status.success() {
        true => Ok(()),
        false => {
            let said = String::from_utf8_lossy(&output.stderr);
            Err(Error::Failed(format!("{program} {}: {}", args.join(" "), said.trim())))
        }
    }
}
