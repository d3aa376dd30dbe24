//! Debian packages that a command needs, installed when they are missing.

use std::path::Path;
use std::process::{Command, Stdio};

use crate::{Error, Result, io};

/// A package and a file that is there once it is installed.
pub const MARIADB: (&str, &str) = ("mariadb-server", "/usr/sbin/mariadbd");
pub const CHROMIUM: (&str, &str) = ("chromium", "/usr/bin/chromium");
pub const CHROMEDRIVER: (&str, &str) = ("chromium-driver", "/usr/bin/chromedriver");
pub const GALERA: (&str, &str) = ("galera-4", "/usr/lib/galera/libgalera_smm.so");
pub const RSYNC: (&str, &str) = ("rsync", "/usr/bin/rsync");
pub const LSOF: (&str, &str) = ("lsof", "/usr/bin/lsof");
pub const FAKETIME: (&str, &str) = ("faketime", "/usr/bin/faketime");
pub const VENV: (&str, &str) = ("python3-venv", "/usr/share/doc/python3-venv");
pub const CURL: (&str, &str) = ("curl", "/usr/bin/curl");
pub const WEASYPRINT: (&str, &str) = ("weasyprint", "/usr/bin/weasyprint");
pub const DEBOOTSTRAP: (&str, &str) = ("debootstrap", "/usr/sbin/debootstrap");
pub const SYSTEMD: (&str, &str) = ("systemd", "/usr/bin/systemd-analyze");
pub const NFTABLES: (&str, &str) = ("nftables", "/usr/sbin/nft");
pub const IPROUTE: (&str, &str) = ("iproute2", "/usr/sbin/ip");
pub const VALGRIND: (&str, &str) = ("valgrind", "/usr/bin/valgrind");
pub const WRK: (&str, &str) = ("wrk", "/usr/bin/wrk");

/// Installs what is missing; says what it does.
pub fn install(wanted: &[(&str, &str)]) -> Result<()> {
    let missing: Vec<&str> =
        wanted.iter().filter(|(_, file)| !Path::new(file).exists()).map(|(name, _)| *name).collect();
    if missing.is_empty() {
        return Ok(());
    }
    eprintln!("Installing Debian packages: {}", missing.join(", "));
    let advice = || format!("install them by hand: apt-get install {}", missing.join(" "));
    apt(&["update", "-qq"]).map_err(|e| Error::Failed(format!("{e}; {}", advice())))?;
    let mut args = vec!["install", "-y", "-qq", "--no-install-recommends"];
    args.extend(&missing);
    apt(&args).map_err(|e| Error::Failed(format!("{e}; {}", advice())))
}

fn apt(args: &[&str]) -> Result<()> {
    // SAFETY: has no preconditions.
    let root = unsafe { libc::geteuid() } == 0;
    let mut command = if root {
        Command::new("apt-get")
    } else {
        let mut sudo = Command::new("sudo");
        sudo.arg("apt-get");
        sudo
    };
    let status = command
        .args(args)
        .env("DEBIAN_FRONTEND", "noninteractive")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .status()
        .map_err(io("running apt-get"))?;
    if status.success() { Ok(()) } else { Err(Error::Failed(format!("apt-get {} failed ({status})", args[0]))) }
}
