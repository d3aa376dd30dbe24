//! A private MariaDB on loopback, with its own data directory.

use std::io::Read;
use std::net::TcpStream;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use crate::network::Host;
use crate::process::Process;
use crate::{Error, Result, io, ports, rights};

/// Free disk space that a database needs to begin.
const LEAST_FREE: u64 = 400 << 20;
/// Who makes databases and users.
const ADMIN: &str = "admin";
/// A user who may read only.
const READER: &str = "reader";
/// Who makes databases for rehearsals, and can do nothing else.
const SCRATCH: &str = "kanzlei_scratch";
/// Rights of the service on its own schema: it keeps records, and brings their tables up to date.
const SERVICE: &str = "SELECT, INSERT, UPDATE, DELETE, CREATE, ALTER, DROP, INDEX, REFERENCES";
/// Rights on a schema that `sql` steps name; CREATE prepares it for jobs, TRIGGER watches its rows.
const AUTHORS: &str = "SELECT, INSERT, UPDATE, DELETE, CREATE, TRIGGER, REFERENCES";

/// A running server. Dropping it stops it.
#[derive(Debug)]
pub struct Mariadb {
    process: Option<Process>,
    dir: PathBuf,
    port: u16,
    password: String,
    node: Option<Node>,
    /// Further arguments of the server.
    pub args: Vec<String>,
}

/// What makes a server a node of a cluster.
#[derive(Clone, Debug)]
pub(crate) struct Node {
    pub args: Vec<String>,
    /// It begins the cluster; others get what it holds.
    pub first: bool,
    /// Nodes have the same password.
    pub password: String,
    /// Where it runs.
    pub host: Option<Host>,
}

impl Mariadb {
    /// Starts a server on the data below `dir`, making it first when it is not there.
    pub fn start(dir: &Path) -> Result<Self> {
        Mariadb::start_as(dir, None)
    }

    /// Starts a server with further arguments.
    pub fn start_with(dir: &Path, args: &[&str]) -> Result<Self> {
        Mariadb::start_so(dir, None, args)
    }

    pub(crate) fn start_as(dir: &Path, node: Option<Node>) -> Result<Self> {
        Mariadb::start_so(dir, node, &[])
    }

    fn start_so(dir: &Path, node: Option<Node>, args: &[&str]) -> Result<Self> {
        if !Path::new("/usr/sbin/mariadbd").exists() {
            return Err(Error::Failed(
                "there is no MariaDB server here; install Debian's package mariadb-server".into(),
            ));
        }
        std::fs::create_dir_all(dir).map_err(io(format!("making {}", dir.display())))?;
        let dir = dir.canonicalize().map_err(io("finding the data directory"))?;
        let (data, marker) = (dir.join("data"), dir.join("data-is-whole"));
        if data.exists() && !marker.exists() {
            // Made halfway when something crashed: nothing was ever kept in it.
            std::fs::remove_dir_all(&data).map_err(io("clearing a half-made data directory"))?;
        }
        if !data.exists() {
            let free = free_space(&dir);
            if free < LEAST_FREE {
                return Err(Error::Failed(format!(
                    "only {} MiB are free in {}; a database needs {} MiB",
                    free >> 20,
                    dir.display(),
                    LEAST_FREE >> 20
                )));
            }
            make(&dir, &data, user(&dir, node.as_ref()))?;
        }
        let mut server = Mariadb {
            process: None,
            port: ports::free().map_err(io("searching for a port"))?,
            password: node.as_ref().map_or_else(|| password(&dir), |node| Ok(node.password.clone()))?,
            node,
            dir,
            args: args.iter().map(|arg| (*arg).to_owned()).collect(),
        };
        server.run()?;
        std::fs::write(&marker, "").map_err(io("marking the data directory"))?;
        Ok(server)
    }

    /// Starts the server process again on the same port, after [`Mariadb::stop`].
    pub fn run(&mut self) -> Result<()> {
        let host = self.node.as_ref().and_then(|node| node.host.as_ref());
        if let Some(host) = host {
            host.serves(&[self.port])?;
        }
        let mut process = Process::start_on(host, "MariaDB", self.command()?, &self.dir.join("mariadb.log"))?;
        let port = self.port;
        process.wait_for(Duration::from_secs(60), || answers(port))?;
        self.process = Some(process);
        Ok(())
    }

    fn command(&self) -> Result<Command> {
        let init = self.dir.join("init.sql");
        let sql = format!(
            "CREATE DATABASE IF NOT EXISTS kanzlei CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;\n\
             CREATE OR REPLACE USER '{ADMIN}'@'127.0.0.1' IDENTIFIED BY '{0}';\n\
             GRANT ALL ON *.* TO '{ADMIN}'@'127.0.0.1' WITH GRANT OPTION;\n\
             CREATE OR REPLACE USER '{SCRATCH}'@'127.0.0.1' IDENTIFIED BY '{0}';\n\
             GRANT ALL ON `kanzlei\\_scratch\\_%`.* TO '{SCRATCH}'@'127.0.0.1';\n\
             CREATE OR REPLACE USER '{READER}'@'127.0.0.1' IDENTIFIED BY '{0}';\n\
             GRANT SELECT ON `kanzlei%`.* TO '{READER}'@'127.0.0.1';\n\
             ALTER USER 'root'@'localhost' IDENTIFIED BY '{0}';\n\
             {1}",
            self.password,
            self.owner("kanzlei", SERVICE),
        );
        std::fs::write(&init, sql).map_err(io("writing init.sql"))?;
        private(&init)?;
        let mut command = Command::new("/usr/sbin/mariadbd");
        command
            .arg("--no-defaults")
            .arg(format!("--datadir={}", self.dir.join("data").display()))
            .arg(format!("--port={}", self.port))
            .arg(format!("--tmpdir={}", temporary(&self.dir)?.display()))
            .args([
                "--bind-address=127.0.0.1",
                "--socket=kanzlei.sock",
                "--pid-file=kanzlei.pid",
                "--skip-name-resolve",
            ])
            .args(["--innodb-buffer-pool-size=128M", "--innodb-log-file-size=64M", "--max-connections=300"])
            .args(&self.args)
            .args(["--performance-schema=OFF", "--lower-case-table-names=0"])
            .args((!self.args.iter().any(|arg| arg.starts_with("--log-bin"))).then_some("--skip-log-bin"))
            .args((user(&self.dir, self.node.as_ref()) == Some("root")).then_some("--user=root"));
        if self.node.as_ref().is_none_or(|node| node.first) {
            command.arg(format!("--init-file={}", init.display()));
        }
        if let Some(node) = &self.node {
            command.args(&node.args);
        }
        if user(&self.dir, self.node.as_ref()) == Some("mysql") {
            // Not by `--user`: a process that changes its user no longer ends with us.
            rights::run_as(&mut command, "mysql")?;
            let owned = Command::new("chown").args(["-R", "mysql:mysql"]).arg(&self.dir).status();
            owned.map_err(io("handing the database's folder over"))?;
        }
        Ok(command)
    }

    /// Up to where a node that was killed holds its cluster's records: `UUID:NUMBER`.
    pub(crate) fn position(&self) -> Result<Option<String>> {
        let mut command = self.command()?;
        let output = command.arg("--wsrep-recover").output().map_err(io("asking a node for its position"))?;
        let said = String::from_utf8_lossy(&output.stderr);
        let found = said.lines().find_map(|line| line.split_once("Recovered position: "));
        Ok(found.map(|(_, position)| position.trim().to_owned()))
    }

    pub fn stop(&mut self) {
        if let Some(mut process) = self.process.take() {
            process.stop(Duration::from_secs(30));
        }
    }

    /// Has the server run, whether it ended meanwhile or not.
    pub fn again(&mut self) -> Result<()> {
        match self.process.as_mut().is_some_and(|process| process.ended().is_none()) {
            true => Ok(()),
            false => {
                println!("MariaDB ended; it is started again");
                self.run()
            }
        }
    }

    /// Freezes the server, so that it keeps its connections and answers nothing, or thaws it.
    pub fn freeze(&self, frozen: bool) {
        if let Some(process) = &self.process {
            process.signal(if frozen { libc::SIGSTOP } else { libc::SIGCONT });
        }
    }

    /// Kills the server process, as a crash would.
    pub fn kill(&mut self) {
        if let Some(mut process) = self.process.take() {
            process.kill();
        }
    }

    pub(crate) fn set_node(&mut self, node: Node) {
        self.node = Some(node);
    }

    /// The id of the server's process; 0 while none runs.
    pub fn id(&self) -> u32 {
        self.process.as_ref().map_or(0, Process::id)
    }

    pub fn port(&self) -> u16 {
        self.port
    }

    /// The address of a database for a user who may read it only.
    pub fn reader_url(&self, database: &str) -> String {
        format!("mysql://{READER}:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// The address of a database for SQLx, by the user who has rights to it alone.
    pub fn url(&self, database: &str) -> String {
        format!("mysql://{database}:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// The address for databases of rehearsals.
    pub fn scratch_url(&self) -> String {
        format!("mysql://{SCRATCH}:{}@127.0.0.1:{}", self.password, self.port)
    }

    /// Statements that make the user of a database, who has its name.
    fn owner(&self, database: &str, rights: &str) -> String {
        let pattern = database.replace('_', "\\_");
        format!(
            "CREATE OR REPLACE USER '{database}'@'127.0.0.1' IDENTIFIED BY '{}';\n\
             GRANT {rights} ON `{pattern}`.* TO '{database}'@'127.0.0.1';\n",
            self.password
        )
    }

    /// Runs SQL through MariaDB's own client.
    pub fn sql(&self, database: &str, sql: &str) -> Result<String> {
        let output = Command::new("mariadb")
            .args(["--no-defaults", "--protocol=tcp", "--host=127.0.0.1", "--batch", "--skip-column-names"])
            .arg(format!("--port={}", self.port))
            .arg(format!("--user={ADMIN}"))
            .arg(format!("--database={database}"))
            .env("MYSQL_PWD", &self.password)
            .args(["--execute", sql])
            .output()
            .map_err(io("running mariadb"))?;
        if !output.status.success() {
            return Err(Error::Failed(String::from_utf8_lossy(&output.stderr).into_owned()));
        }
        Ok(String::from_utf8_lossy(&output.stdout).into_owned())
    }

    /// A fresh database for the records of a service; returns its address.
    pub fn fresh(&self, name: &str) -> Result<String> {
        let made = format!("CREATE DATABASE {name} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin");
        self.sql("kanzlei", &format!("DROP DATABASE IF EXISTS {name}; {made}; {}", self.owner(name, SERVICE)))?;
        Ok(self.url(name))
    }

    /// A database for `sql` steps, made when it is not there; returns its address.
    pub fn authors(&self, name: &str) -> Result<String> {
        let made = format!("CREATE DATABASE IF NOT EXISTS {name} CHARACTER SET utf8mb4");
        self.sql("kanzlei", &format!("{made}; {}", self.owner(name, AUTHORS)))?;
        Ok(self.url(name))
    }
}

/// The server's folder for temporary files. A server that starts deletes those of others in a shared one.
fn temporary(dir: &Path) -> Result<PathBuf> {
    let folder = dir.join("tmp");
    std::fs::create_dir_all(&folder).map_err(io("making a folder for temporary files"))?;
    let everybody = std::fs::Permissions::from_mode(0o1777);
    std::fs::set_permissions(&folder, everybody).map_err(io("opening a folder for temporary files"))?;
    Ok(folder)
}

fn make(dir: &Path, data: &Path, user: Option<&str>) -> Result<()> {
    let output = Command::new("mariadb-install-db")
        .arg("--no-defaults")
        .env("TMPDIR", temporary(dir)?)
        .arg(format!("--datadir={}", data.display()))
        .args(["--auth-root-authentication-method=normal", "--skip-test-db"])
        .args(user.map(|user| format!("--user={user}")))
        .output()
        .map_err(io("running mariadb-install-db"))?;
    if output.status.success() {
        return Ok(());
    }
    let said = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    let _ = std::fs::remove_dir_all(data);
    let advice = if said.contains("No space left") {
        "the disk is full; make room and start again"
    } else {
        "start again; what was made is cleared"
    };
    Err(Error::Failed(format!("a database could not be made in {} ({advice}):\n{said}", dir.display())))
}

/// Who the server runs as, when we are root: it refuses to be root without an explicit user, and the copying of a
/// cluster's records to a new node does not work as root.
fn user(dir: &Path, node: Option<&Node>) -> Option<&'static str> {
    let mysql = node.is_some() || rights::is_reachable(dir);
    rights::is_root().then_some(if mysql { "mysql" } else { "root" })
}

/// The first byte of the server's greeting says it is ready; the init file has run by then.
fn answers(port: u16) -> Option<()> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).ok()?;
    stream.set_read_timeout(Some(Duration::from_secs(2))).ok()?;
    stream.read_exact(&mut [0; 5]).ok()
}

/// The password, made at the first start and readable by nobody else.
pub(crate) fn password(dir: &Path) -> Result<String> {
    let file = dir.join("password");
    if let Ok(known) = std::fs::read_to_string(&file)
        && known.len() >= 32
    {
        return Ok(known);
    }
    let mut random = [0u8; 24];
    std::fs::File::open("/dev/urandom")
        .and_then(|mut f| f.read_exact(&mut random))
        .map_err(io("reading /dev/urandom"))?;
    let made: String = random.iter().map(|byte| format!("{byte:02x}")).collect();
    std::fs::write(&file, &made).map_err(io("writing the password"))?;
    private(&file)?;
    Ok(made)
}

fn private(file: &Path) -> Result<()> {
    std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o600)).map_err(io("protecting a file"))
}

/// Bytes free for us where a path lies.
pub fn free_space(path: &Path) -> u64 {
    let Ok(path) = std::ffi::CString::new(path.as_os_str().as_encoded_bytes()) else { return u64::MAX };
    // SAFETY: a zeroed statvfs is valid, and the pointers live through the call.
    unsafe {
        let mut stat: libc::statvfs = std::mem::zeroed();
        if libc::statvfs(path.as_ptr(), &mut stat) != 0 {
            return u64::MAX;
        }
        stat.f_bavail * stat.f_frsize
    }
}
