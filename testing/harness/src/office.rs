//! The demo office as processes: database, stand-ins, service; started in this order, stopped in the
//! other.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::time::Duration;

use crate::mariadb::Mariadb;
use crate::network::Host;
use crate::process::Process;
use crate::{Error, Result, io, ports, rights};

/// Ports of the three listeners.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Ports {
    pub public: u16,
    pub control: u16,
    pub standins: u16,
    /// The mail server of the stand-ins.
    pub mail: u16,
}

impl Ports {
    /// Those the handbook names.
    pub const USUAL: Ports = Ports { public: 7080, control: 7081, standins: 7090, mail: 7025 };

    pub fn free() -> Result<Self> {
        let port = || ports::free().map_err(io("searching for a port"));
        Ok(Ports { public: port()?, control: port()?, standins: port()?, mail: port()? })
    }

    /// The first that is taken, with what it is for.
    pub fn taken(&self) -> Option<(u16, &'static str)> {
        [
            (self.public, "the public listener"),
            (self.control, "the control listener"),
            (self.standins, "the stand-ins"),
            (self.mail, "the mail server of the stand-ins"),
        ]
        .into_iter()
        .find(|(port, _)| !ports::is_free(*port))
    }
}

#[derive(Debug)]
pub struct Office {
    pub service: Process,
    pub standins: Process,
    pub ports: Ports,
    pub token: String,
    command: Start,
}

/// Addresses of databases, each with a user of its own.
#[derive(Clone, Debug)]
pub struct Databases {
    /// The service's own.
    pub records: String,
    /// Those that `sql` steps name: `harbour=mysql://…`.
    pub outside: String,
    /// Where rehearsals get theirs.
    pub rehearsal: String,
}

impl Databases {
    /// Records at an address, with the harbour's own; rehearsals get theirs on a server.
    pub fn with_harbour(records: String, harbour: &str, server: &Mariadb) -> Self {
        Databases { records, outside: format!("harbour={harbour}"), rehearsal: server.scratch_url() }
    }
}

/// How the service is started, so that it can be started again.
#[derive(Clone, Debug)]
struct Start {
    program: PathBuf,
    args: Vec<String>,
    /// Given in the environment, because everybody can read arguments.
    databases: Databases,
    environment: Vec<(String, String)>,
    /// Where services run.
    host: Option<Host>,
    log: PathBuf,
    token_file: PathBuf,
}

impl Office {
    /// Starts stand-ins and service from the programs in `bins`, on a database that runs. `settings`
    /// are further `--set` values.
    pub fn start(bins: &Path, dir: &Path, databases: Databases, ports: Ports, settings: &[&str]) -> Result<Self> {
        Office::start_so(None, bins, dir, databases, ports, settings)
    }

    /// The same with the service on a host of a network; the stand-ins stay at the router.
    pub fn start_on(
        host: Host,
        bins: &Path,
        dir: &Path,
        databases: Databases,
        ports: Ports,
        settings: &[&str],
    ) -> Result<Self> {
        Office::start_so(Some(host), bins, dir, databases, ports, settings)
    }

    fn start_so(
        host: Option<Host>,
        bins: &Path,
        dir: &Path,
        databases: Databases,
        ports: Ports,
        settings: &[&str],
    ) -> Result<Self> {
        std::fs::create_dir_all(dir).map_err(io(format!("making {}", dir.display())))?;
        let mut standins = rights::without_rights(&bins.join("kanzlei-standins"), dir)?;
        standins.arg(format!("--listen=127.0.0.1:{}", ports.standins));
        standins.arg(format!("--mail=127.0.0.1:{}", ports.mail));
        // The demo's documents hold on any port.
        standins.arg(format!("--iss=http://127.0.0.1:{}/identity", Ports::USUAL.standins));
        let mut standins = Process::start("the stand-ins", standins, &dir.join("standins.log"))?;
        standins.wait_for(Duration::from_secs(10), || get(ports.standins, "/~/behaviour", &[]))?;
        let token_file = dir.join("operator-token");
        let mut values = vec![
            format!("listen.public=127.0.0.1:{}", ports.public),
            format!("listen.control=127.0.0.1:{}", ports.control),
            format!("token_file={}", token_file.display()),
            format!("secrets.key_file={}", dir.join("secrets.key").display()),
            "network.allow=127.0.0.0/8".to_owned(),
            format!("files.spool={}", dir.join("files/spool").display()),
            format!("files.work={}", dir.join("files/work").display()),
            format!("journal.begun={}", dir.join("files/begun").display()),
            format!("places.archive.url={}", dir.join("places/archive").display()),
            "places.customs.url=s3://customs/incoming".to_owned(),
            format!("places.customs.endpoint=http://127.0.0.1:{}/buckets", ports.standins),
            "places.customs.secret=customs-bucket".to_owned(),
            format!("mail.url=smtp://127.0.0.1:{}", ports.mail),
            "mail.from=Harbour Office <office@lindvik.example>".to_owned(),
            "mail.secret=mail-login".to_owned(),
            "mail.plain=true".to_owned(),
            // People of the office sign in through the stand-in `identity`, or with a token.
            format!("sign_in.issuer=http://127.0.0.1:{}/identity", Ports::USUAL.standins),
            format!("sign_in.address=http://127.0.0.1:{}/identity", ports.standins),
            "sign_in.client_id=office-console".to_owned(),
            "sign_in.client_secret=console-secret".to_owned(),
            "sign_in.roles=operators=operator, authors=author".to_owned(),
            "sign_in.network=private".to_owned(),
        ];
        values.extend(
            ["registry", "tides", "rates", "pilots", "texts", "customs", "identity"]
                .map(|s| format!("services.{s}.base=http://127.0.0.1:{}/{s}", ports.standins)),
        );
        values.extend(settings.iter().map(|s| (*s).to_owned()));
        let mut args = Vec::new();
        args.extend(values.into_iter().flat_map(|value| ["--set".to_owned(), value]));
        let log = dir.join("kanzleid.log");
        let environment = Vec::new();
        let command = Start { program: bins.join("kanzleid"), args, databases, environment, host, log, token_file };
        let service = command.run(ports)?;
        let token = std::fs::read_to_string(&command.token_file).map_err(io("reading the operator token"))?;
        let texts = format!("http://127.0.0.1:{}/texts", ports.standins);
        let identity = format!("http://127.0.0.1:{}/identity", ports.standins);
        let buckets = format!("http://127.0.0.1:{}/buckets", ports.standins);
        for (name, value, purpose) in [
            ("texts-key", "lindvik-texts-7f3a", texts.as_str()),
            ("pilots-client", "office-secret", identity.as_str()),
            ("customs-bucket", "lindvik-office:buckets-5e20", buckets.as_str()),
            ("mail-login", "office:lindvik-mail", "mail"),
            ("notify-key", "whsec_bGluZHZpay1ub3RpZmllcy00YmM5LWRlbW8=", "signing"),
            ("customs-webhook", "whsec_bGluZHZpay1jdXN0b21zLTkxYzItZGVtbw==", "signing"),
            ("quay-office", "whsec_bGluZHZpay1xdWF5LW9mZmljZS03YTMwLWRlbW8=", "signing"),
            ("bank-webhook", "nesholm-bank-5d1e-demo", "signing"),
        ] {
            let body = format!("{{\"value\":\"{value}\",\"for\":[\"{purpose}\"]}}");
            control(ports.control, &token, "PUT", &format!("/secrets/{name}"), &body)?;
        }
        for (name, _) in command.databases.outside.split_whitespace().filter_map(|one| one.split_once('=')) {
            control(ports.control, &token, "POST", &format!("/databases/{name}/prepare"), "")?;
        }
        Ok(Office { service, standins, ports, token, command })
    }

    /// Starts another service on the same database, with ports of its own.
    pub fn another(&self, number: usize) -> Result<(Process, Ports)> {
        self.another_with(number, &[], &[], None)
    }

    /// The same, with further `--set` values, something more in its environment, and on a host.
    pub fn another_with(
        &self,
        number: usize,
        settings: &[&str],
        environment: &[(&str, String)],
        host: Option<&Host>,
    ) -> Result<(Process, Ports)> {
        let ports = Ports { standins: self.ports.standins, mail: self.ports.mail, ..Ports::free()? };
        let mut command = self.command.clone();
        command.host = host.cloned();
        for value in
            [format!("listen.public=127.0.0.1:{}", ports.public), format!("listen.control=127.0.0.1:{}", ports.control)]
        {
            command.args.extend(["--set".to_owned(), value]);
        }
        command.args.extend(settings.iter().flat_map(|value| ["--set".to_owned(), (*value).to_owned()]));
        command.environment.extend(environment.iter().map(|(name, value)| ((*name).to_owned(), value.clone())));
        command.log = command.log.with_file_name(format!("kanzleid-{number}.log"));
        Ok((command.run(ports)?, ports))
    }

    /// Has services that start from now on run another program.
    pub fn replace_program(&mut self, program: &Path) {
        self.command.program = program.to_owned();
    }

    /// Runs a command of the service's program with the settings of the office and further ones.
    pub fn command(&self, args: &[&str], settings: &[String]) -> Result<std::process::Output> {
        let folder = self.command.log.parent().unwrap_or(Path::new("."));
        let mut command = rights::without_rights(&self.command.program, folder)?;
        command.args(args).args(&self.command.args);
        command.args(settings.iter().flat_map(|value| ["--set", value.as_str()]));
        command.env("KANZLEI_DATABASE_URL", &self.command.databases.records);
        command.output().map_err(io("running the service's program"))
    }

    /// Starts the service again after it was stopped or killed.
    pub fn restart_service(&mut self) -> Result<()> {
        self.service.stop(Duration::from_secs(20));
        self.service = self.command.run(self.ports)?;
        Ok(())
    }

    pub fn public(&self) -> String {
        format!("http://127.0.0.1:{}", self.ports.public)
    }

    pub fn control(&self) -> String {
        format!("http://127.0.0.1:{}", self.ports.control)
    }

    /// Stops service and stand-ins.
    pub fn stop(&mut self) {
        self.service.stop(Duration::from_secs(35));
        self.standins.stop(Duration::from_secs(5));
    }
}

impl Start {
    fn run(&self, ports: Ports) -> Result<Process> {
        let folder = self.log.parent().unwrap_or(Path::new("."));
        let mut command = rights::without_rights(&self.program, folder)?;
        command.args(&self.args).env("KANZLEI_DATABASE_URL", &self.databases.records);
        command.env("KANZLEI_REHEARSAL_URL", &self.databases.rehearsal);
        command.env("KANZLEI_DATABASES", &self.databases.outside).envs(self.environment.iter().map(|(n, v)| (n, v)));
        if let Some(host) = &self.host {
            host.serves(&[ports.public, ports.control])?;
        }
        let mut service = Process::start_on(self.host.as_ref(), "kanzleid", command, &self.log)?;
        // A listener with TLS is asked nothing; it listens once it is ready.
        let answers = |port: u16, path: &str, listener: &str| {
            let certificate = format!("listen.{listener}_certificate=");
            match self.args.iter().any(|arg| arg.starts_with(&certificate)) {
                true => TcpStream::connect(("127.0.0.1", port)).ok().map(|_| ()),
                false => get(port, path, &[]).map(|_| ()),
            }
        };
        service.wait_for(Duration::from_secs(30), || {
            answers(ports.public, "/~/health", "public").and_then(|()| answers(ports.control, "/", "control"))
        })?;
        Ok(service)
    }
}

/// What the start command keeps below its folder.
pub struct Whole {
    pub office: Office,
    pub database: Mariadb,
}

impl Whole {
    pub fn start(bins: &Path, dir: &Path, ports: Ports, settings: &[&str]) -> Result<Self> {
        let database = Mariadb::start(&dir.join("database"))?;
        let harbour = harbour(&database, "kanzlei_harbour")?;
        database.sql("kanzlei_harbour", &seed("winter.sql")?)?;
        let databases = Databases::with_harbour(database.url("kanzlei"), &harbour, &database);
        let office = Office::start(bins, dir, databases, ports, settings)?;
        Ok(Whole { office, database })
    }

    pub fn stop(mut self) {
        self.office.stop();
        self.database.stop();
    }
}

/// The harbour office's own database with its first records, made when it is not there; returns its address.
pub fn harbour(server: &Mariadb, name: &str) -> Result<String> {
    let url = server.authors(name)?;
    server.sql(name, &seed("harbour.sql")?)?;
    Ok(url)
}

/// A file of the harbour's first records.
fn seed(name: &str) -> Result<String> {
    let root = std::env::var("CARGO_MANIFEST_DIR").map_or_else(|_| PathBuf::from("."), PathBuf::from);
    let file = root.ancestors().map(|dir| dir.join("demo/harbour/seed").join(name)).find(|file| file.exists());
    let file = file.ok_or_else(|| Error::Failed(format!("demo/harbour/seed/{name} is not in this checkout")))?;
    std::fs::read_to_string(&file).map_err(io(format!("reading {}", file.display())))
}

/// One request to the control API that must succeed.
pub fn control(port: u16, token: &str, method: &str, path: &str, body: &str) -> Result<()> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).map_err(io("reaching the control listener"))?;
    stream.set_read_timeout(Some(Duration::from_secs(10))).map_err(io("reaching the control listener"))?;
    write!(
        stream,
        "{method} /api/v1{path} HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\nAuthorization: Bearer {token}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    )
    .map_err(io("asking the control listener"))?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer).map_err(io("asking the control listener"))?;
    match answer.split(' ').nth(1) {
        Some("200" | "204") => Ok(()),
        _ => Err(Error::Failed(format!("{method} {path}: {answer}"))),
    }
}

/// The body of a GET on loopback, when it is answered with 200.
pub fn get(port: u16, path: &str, headers: &[(&str, &str)]) -> Option<String> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).ok()?;
    stream.set_read_timeout(Some(Duration::from_secs(5))).ok()?;
    let more: String = headers.iter().map(|(name, value)| format!("{name}: {value}\r\n")).collect();
    write!(stream, "GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n{more}\r\n").ok()?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer).ok()?;
    let (head, body) = answer.split_once("\r\n\r\n")?;
    head.split(' ').nth(1).filter(|status| *status == "200").map(|_| body.to_owned())
}

/// An error that says what to do about a port that is taken.
pub fn port_taken(port: u16, what: &str, flag: &str) -> Error {
    Error::Failed(format!(
        "port {port} is in use, and {what} needs it; stop the process that uses it (ss -ltnp 'sport = :{port}' shows it) or choose another with {flag}"
    ))
}
