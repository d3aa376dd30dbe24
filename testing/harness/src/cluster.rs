//! MariaDB nodes on loopback that hold the same records (Galera). Each runs as the user of Debian's
//! package when we are root, because a new node gets its records by rsync, which does not work as root.

use std::path::Path;
use std::time::Duration;

use crate::mariadb::{Mariadb, Node, password};
use crate::network::Host;
use crate::{Error, Result, io, ports, wait};

/// How long a node may take to get the records of the others.
const JOINS: Duration = Duration::from_secs(120);
const PROVIDER: &str = "/usr/lib/galera/libgalera_smm.so";

pub struct Cluster {
    pub nodes: Vec<Mariadb>,
    parts: Vec<Node>,
}

impl Cluster {
    /// Starts nodes one after another, each when the one before holds the records.
    pub fn start(dir: &Path, count: usize) -> Result<Self> {
        Cluster::start_each(dir, &vec![None; count])
    }

    /// The same, each on a host of its own.
    pub fn start_on(dir: &Path, hosts: &[Host]) -> Result<Self> {
        Cluster::start_each(dir, &hosts.iter().cloned().map(Some).collect::<Vec<_>>())
    }

    fn start_each(dir: &Path, hosts: &[Option<Host>]) -> Result<Self> {
        let count = hosts.len();
        std::fs::create_dir_all(dir).map_err(io(format!("making {}", dir.display())))?;
        let password = password(dir)?;
        let port = || ports::free().map_err(io("searching for a port"));
        let groups = (0..count).map(|_| port()).collect::<Result<Vec<u16>>>()?;
        let all = groups.iter().map(|group| format!("127.0.0.1:{group}")).collect::<Vec<_>>().join(",");
        let mut cluster = Cluster { nodes: Vec::new(), parts: Vec::new() };
        for (index, (group, host)) in groups.iter().zip(hosts).enumerate() {
            let (copies, misses) = (port()?, port()?);
            if let Some(host) = host {
                host.serves(&[*group, copies, misses])?;
            }
            let args = vec![
                "--wsrep-on=ON".to_owned(),
                format!("--wsrep-provider={PROVIDER}"),
                format!("--wsrep-cluster-address=gcomm://{all}"),
                "--wsrep-cluster-name=kanzlei".into(),
                format!("--wsrep-node-name=node-{}", index + 1),
                format!("--wsrep-node-address=127.0.0.1:{group}"),
                format!("--wsrep-sst-receive-address=127.0.0.1:{copies}"),
                "--wsrep-sst-method=rsync".into(),
                format!(
                    "--wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:{group};ist.recv_addr=127.0.0.1:{misses};gcache.size=128M"
                ),
                "--binlog-format=ROW".into(),
                "--innodb-autoinc-lock-mode=2".into(),
            ];
            let part = Node { args, first: false, password: password.clone(), host: host.clone() };
            let mut begins = part.clone();
            if index == 0 {
                begins.first = true;
                begins.args.push("--wsrep-new-cluster".into());
            }
            let mut node = Mariadb::start_as(&dir.join(format!("node-{}", index + 1)), Some(begins))?;
            // When it starts again it joins the others.
            node.set_node(part.clone());
            joined(&node)?;
            cluster.nodes.push(node);
            cluster.parts.push(part);
        }
        Ok(cluster)
    }

    /// Addresses of a database at all nodes, beginning with one.
    pub fn urls(&self, database: &str, first: usize) -> String {
        let count = self.nodes.len();
        let all: Vec<String> = (0..count).map(|n| self.nodes[(first + n) % count].url(database)).collect();
        all.join(" ")
    }

    /// Starts a node again after it was killed, and waits until it holds the records. It is reported where it
    /// stood, as Debian's own service does, so that it gets what it missed and not a whole copy, for
    /// which another node would stand still.
    pub fn restart(&mut self, node: usize) -> Result<()> {
        let mut part = self.parts[node].clone();
        if let Some(position) = self.nodes[node].position()? {
            part.args.push(format!("--wsrep-start-position={position}"));
        }
        self.nodes[node].set_node(part);
        self.nodes[node].run()?;
        joined(&self.nodes[node])
    }
}

fn joined(node: &Mariadb) -> Result<()> {
    let ready = || {
        let said = node.sql("kanzlei", "SHOW STATUS LIKE 'wsrep_ready'").ok()?;
        said.contains("ON").then_some(())
    };
    wait::until(JOINS, ready).ok_or_else(|| Error::Failed(format!("the node at port {} does not join", node.port())))
}
