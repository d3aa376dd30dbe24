//! Processes that never outlive their parent and are stopped by id.

use std::fs::File;
use std::os::unix::fs::OpenOptionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc;
use std::sync::{Mutex, OnceLock};
use std::time::Duration;

use crate::network::{Host, Namespace};
use crate::{Error, Result, io, wait};

/// Cargo, without what the cargo that runs us says of us: some build scripts read it and would be
/// built again each time.
pub fn cargo() -> Command {
    let mut command = Command::new("cargo");
    for (name, _) in std::env::vars_os() {
        let text = name.to_string_lossy();
        if text.starts_with("CARGO_PKG_")
            || text.starts_with("CARGO_MANIFEST_")
            || text.starts_with("CARGO_BIN_")
            || text == "CARGO_CRATE_NAME"
        {
            command.env_remove(&name);
        }
    }
    command
}

type Job = (Command, Option<Namespace>, mpsc::Sender<std::io::Result<Child>>);

/// All processes are started by one thread that lives as long as this process, because the kernel
/// ties "die with the parent" to the thread that started them.
fn spawner() -> &'static Mutex<mpsc::Sender<Job>> {
    static SPAWNER: OnceLock<Mutex<mpsc::Sender<Job>>> = OnceLock::new();
    SPAWNER.get_or_init(|| {
        let (sender, jobs) = mpsc::channel::<Job>();
        std::thread::spawn(move || {
            for (mut command, namespace, answer) in jobs {
                let _ = answer.send(spawn(&mut command, namespace.as_ref()));
            }
        });
        Mutex::new(sender)
    })
}

/// Starts a command, in a network namespace where one is named: a process is where the thread was that started it.
fn spawn(command: &mut Command, namespace: Option<&Namespace>) -> std::io::Result<Child> {
    let Some(namespace) = namespace else { return command.spawn() };
    let own = Namespace::own().map_err(std::io::Error::other)?;
    namespace.enter()?;
    let child = command.spawn();
    own.enter()?;
    child
}

/// A process started by us. Dropping it stops it.
#[derive(Debug)]
pub struct Process {
    name: String,
    child: Child,
    pub log: PathBuf,
}

impl Process {
    /// Starts a program in a process group of its own, so that Ctrl-C reaches only us; what it prints
    /// goes to `log`.
    pub fn start(name: &str, command: Command, log: &Path) -> Result<Self> {
        Process::start_on(None, name, command, log)
    }

    /// The same on a host of a network.
    pub fn start_on(host: Option<&Host>, name: &str, mut command: Command, log: &Path) -> Result<Self> {
        // A log may quote what others must not read.
        let file = File::options().write(true).create(true).truncate(true).mode(0o600).open(log);
        let out = file.map_err(io(format!("writing {}", log.display())))?;
        let err = out.try_clone().map_err(io("sharing a log"))?;
        command.stdin(Stdio::null()).stdout(out).stderr(err).process_group(0);
        // SAFETY: prctl is async-signal-safe and touches nothing of ours.
        unsafe {
            command.pre_exec(|| {
                libc::prctl(libc::PR_SET_PDEATHSIG, libc::SIGTERM);
                Ok(())
            });
        }
        let (sender, answer) = mpsc::channel();
        let program = command.get_program().to_string_lossy().into_owned();
        let lost = || Error::Failed("the thread that starts processes is gone".into());
        spawner()
            .lock()
            .map_err(|_| lost())?
            .send((command, host.map(|host| host.namespace().clone()), sender))
            .map_err(|_| lost())?;
        let child = answer.recv().map_err(|_| lost())?.map_err(io(format!("starting {program}")))?;
        Ok(Process { name: name.into(), child, log: log.into() })
    }

    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// Bytes of its memory that are resident (proc(5)).
    pub fn memory(&self) -> u64 {
        let text = std::fs::read_to_string(format!("/proc/{}/statm", self.id())).unwrap_or_default();
        text.split(' ').nth(1).and_then(|pages| pages.parse::<u64>().ok()).unwrap_or(0) * 4096
    }

    /// Whether it has ended, and how.
    pub fn ended(&mut self) -> Option<std::process::ExitStatus> {
        self.child.try_wait().ok().flatten()
    }

    /// Waits until `ready` has an answer; an early end of the process is an error with its last words.
    pub fn wait_for<T>(&mut self, most: Duration, mut ready: impl FnMut() -> Option<T>) -> Result<T> {
        let mut early = None;
        let answer = wait::until(most, || match self.child.try_wait() {
            Ok(Some(status)) => {
                early = Some(status);
                Some(None)
            }
            _ => ready().map(Some),
        });
        match answer.flatten() {
            Some(answer) => Ok(answer),
            None => {
                let how = early.map_or_else(
                    || format!("was not ready within {most:?}"),
                    |status| format!("ended early ({status})"),
                );
                Err(Error::Failed(format!(
                    "{} {how}; the end of {}:\n{}",
                    self.name,
                    self.log.display(),
                    self.last_words(15)
                )))
            }
        }
    }

    pub fn last_words(&self, lines: usize) -> String {
        let text = std::fs::read_to_string(&self.log).unwrap_or_default();
        let all: Vec<&str> = text.lines().collect();
        all[all.len().saturating_sub(lines)..].join("\n")
    }

    pub fn signal(&self, signal: i32) {
        // SAFETY: sends a signal to the child, which is not yet reaped, so the id is still its own.
        unsafe {
            libc::kill(self.child.id() as i32, signal);
        }
    }

    /// Asks it to end.
    pub fn terminate(&self) {
        self.signal(libc::SIGTERM);
    }

    /// Asks it to end and waits; kills it when it does not within `most`.
    pub fn stop(&mut self, most: Duration) {
        if self.ended().is_some() {
            return;
        }
        self.signal(libc::SIGTERM);
        if wait::until(most, || self.child.try_wait().ok().flatten()).is_none() {
            let _ = self.child.kill();
            let _ = self.child.wait();
        }
    }

    /// Kills it at once, as a crash would.
    pub fn kill(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        self.stop(Duration::from_secs(20));
    }
}
