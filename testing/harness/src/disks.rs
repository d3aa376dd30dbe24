//! Disks that are full or slow, and processes with little memory, for drills. Only the superuser can have them.

use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::{Error, Result, io, rights};

/// A small disk of its own, in memory; no other process sees it but those that this one starts.
#[derive(Debug)]
pub struct Disk {
    folder: PathBuf,
}

/// What fills a disk.
const FILLER: &str = "filler";

impl Disk {
    /// Mounts one at a folder. Call it before this process starts threads, since they would not see it.
    pub fn start(folder: &Path, mebibytes: u32) -> Result<Self> {
        if !rights::is_root() {
            return Err(Error::Failed("only the superuser can mount a disk; run this as root".into()));
        }
        fs::create_dir_all(folder).map_err(io(format!("making {}", folder.display())))?;
        // SAFETY: has no preconditions.
        if unsafe { libc::unshare(libc::CLONE_NEWNS) } != 0 {
            return Err(io("making a mount namespace")(std::io::Error::last_os_error()));
        }
        mount(&["--make-rprivate", "/"])?;
        let size = format!("size={mebibytes}m,mode=0755");
        mount(&["-t", "tmpfs", "-o", &size, "kanzlei", &folder.display().to_string()])?;
        Ok(Disk { folder: folder.to_owned() })
    }

    /// Writes until nothing is free.
    pub fn fill(&self) -> Result<()> {
        let path = self.folder.join(FILLER);
        let mut file = File::create(&path).map_err(io(format!("writing {}", path.display())))?;
        for size in [1 << 20, 4096] {
            while file.write_all(&vec![0; size]).is_ok() {}
        }
        Ok(())
    }

    /// Removes what filled it.
    pub fn free(&self) -> Result<()> {
        fs::remove_file(self.folder.join(FILLER)).map_err(io("freeing a disk"))
    }
}

fn mount(args: &[&str]) -> Result<()> {
    let output = Command::new("mount").args(args).output().map_err(io("running mount"))?;
    match output.status.success() {
        true => Ok(()),
        false => Err(Error::Failed(format!("mount: {}", String::from_utf8_lossy(&output.stderr).trim()))),
    }
}

/// A bound on what a process may use: a control group of the kernel, removed with this.
#[derive(Debug)]
pub struct Bound {
    folder: PathBuf,
}

impl Bound {
    /// Makes a group of a controller: `memory` or `blkio`.
    fn make(controller: &str) -> Result<Self> {
        let root = Path::new("/sys/fs/cgroup").join(controller);
        if !root.exists() {
            let why = format!("{} is not there: this machine has no such control group (version 1)", root.display());
            return Err(Error::Failed(why));
        }
        let folder = root.join(format!("kanzlei-{}", std::process::id()));
        fs::create_dir_all(&folder).map_err(io(format!("making {}", folder.display())))?;
        Ok(Bound { folder })
    }

    /// So many bytes of memory. The kernel kills a process of the group that needs more.
    pub fn memory(bytes: u64) -> Result<Self> {
        let bound = Bound::make("memory")?;
        bound.set("memory.limit_in_bytes", &bytes.to_string())?;
        Ok(bound)
    }

    /// So many writes and bytes a second to the disk that has a folder.
    pub fn disk(folder: &Path, writes: u32, bytes: u32) -> Result<Self> {
        let bound = Bound::make("blkio")?;
        let device = fs::metadata(folder).map_err(io("finding the disk of a folder"))?.dev();
        let device = format!("{}:{}", libc::major(device), libc::minor(device));
        bound.set("blkio.throttle.write_iops_device", &format!("{device} {writes}"))?;
        bound.set("blkio.throttle.write_bps_device", &format!("{device} {bytes}"))?;
        Ok(bound)
    }

    /// Binds a process that runs.
    pub fn hold(&self, process: u32) -> Result<()> {
        self.set("cgroup.procs", &process.to_string())
    }

    fn set(&self, name: &str, value: &str) -> Result<()> {
        let path = self.folder.join(name);
        fs::write(&path, value).map_err(io(format!("writing {}", path.display())))
    }
}

impl Drop for Bound {
    fn drop(&mut self) {
        // Processes return to the group above.
        let above = self.folder.parent().map(|above| above.join("cgroup.procs"));
        let held = fs::read_to_string(self.folder.join("cgroup.procs")).unwrap_or_default();
        for process in held.lines() {
            let _ = above.as_ref().map(|above| fs::write(above, process));
        }
        let _ = fs::remove_dir(&self.folder);
    }
}
