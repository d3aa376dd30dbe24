//! Rights of the processes that are started: none runs as root where it can be helped.
//!
//! A superuser's service and stand-ins run as `nobody`, the database as `mysql`. Both must reach their folders, so
//! below a folder that only its owner may enter everything stays with the superuser.

use std::fs::File;
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

use crate::{Error, Result, io};

/// `nobody` and `nogroup` on Debian.
const NOBODY: u32 = 65_534;

/// Whether this is the superuser, whose processes can be given fewer rights.
pub fn is_root() -> bool {
    // SAFETY: has no preconditions.
    unsafe { libc::geteuid() == 0 }
}

/// Whether everybody may enter a folder and those above it.
pub fn is_reachable(folder: &Path) -> bool {
    let open = |folder: &Path| folder.metadata().is_ok_and(|meta| meta.permissions().mode() & 0o001 != 0);
    folder.canonicalize().is_ok_and(|folder| folder.ancestors().all(open))
}

/// Has a command run as a user of this machine.
pub fn run_as(command: &mut Command, user: &str) -> Result<()> {
    let users = std::fs::read_to_string("/etc/passwd").map_err(io("reading the users of this machine"))?;
    let ids = users.lines().find_map(|line| {
        let mut parts = line.split(':');
        let known = parts.next()? == user;
        known.then(|| Some((parts.nth(1)?.parse().ok()?, parts.next()?.parse().ok()?)))?
    });
    let (uid, gid) = ids.ok_or_else(|| Error::Failed(format!("this machine has no user `{user}`")))?;
    command.uid(uid).gid(gid);
    Ok(())
}

/// A command for a program that runs without rights, with a folder that it may write to. The program is opened here, so
/// it may lie where only the superuser reads.
pub fn without_rights(program: &Path, dir: &Path) -> Result<Command> {
    let here = std::env::current_dir().unwrap_or_default();
    if !(is_root() && is_reachable(dir) && is_reachable(&here)) {
        return Ok(Command::new(program));
    }
    chown(dir, Some(NOBODY), Some(NOBODY)).map_err(io(format!("handing {} over", dir.display())))?;
    let file: OwnedFd = File::open(program).map_err(io(format!("opening {}", program.display())))?.into();
    let number = file.as_raw_fd();
    let mut command = Command::new(format!("/proc/self/fd/{number}"));
    command.arg0(program).uid(NOBODY).gid(NOBODY);
    // SAFETY: fcntl is async-signal-safe; the descriptor lives as long as the command, which owns it.
    unsafe {
        command.pre_exec(move || {
            // Stays open through the exec that reads it.
            match libc::fcntl(file.as_raw_fd(), libc::F_SETFD, 0) {
                -1 => Err(std::io::Error::last_os_error()),
                _ => Ok(()),
            }
        });
    }
    Ok(command)
}
