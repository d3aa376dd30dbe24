//! Scratch folders of test programs, swept when the program that made them has ended.
//!
//! A test program shares one database server among its tests, so nothing in it can remove the folder last. The next
//! program does: a folder carries the id of the process that made it, and is removed once that process is gone.

use std::path::{Path, PathBuf};
use std::sync::Once;

/// A folder name for this process below the system's temporary folder; the caller creates it.
///
/// The first call in a process removes the folders of processes that have ended.
pub fn folder(name: &str) -> PathBuf {
    static SWEEP: Once = Once::new();
    let all = std::env::temp_dir().join("kanzlei-scratch");
    SWEEP.call_once(|| sweep(&all));
    all.join(format!("{name}-{}", std::process::id()))
}

/// Removes the folders of processes that are gone; what cannot be removed stays for the next sweep.
fn sweep(all: &Path) {
    for entry in std::fs::read_dir(all).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let owner = name.to_str().and_then(|name| name.rsplit_once('-')).map(|(_, id)| id);
        if owner.is_some_and(|id| id.parse::<u32>().is_ok() && !Path::new("/proc").join(id).exists()) {
            let _ = std::fs::remove_dir_all(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_of_ended_processes_are_swept() {
        let all = folder("sweep");
        let gone = {
            let mut child = std::process::Command::new("true").spawn().expect("a process");
            child.wait().expect("an end");
            child.id()
        };
        let cases =
            [(format!("a-{gone}"), false), (format!("a-b-{}", std::process::id()), true), ("mine".into(), true)];
        for (name, _) in &cases {
            std::fs::create_dir_all(all.join(name).join("inside")).expect("a folder");
        }
        sweep(&all);
        for (name, stays) in &cases {
            assert_eq!(all.join(name).exists(), *stays, "{name}");
        }
        std::fs::remove_dir_all(&all).expect("removed");
    }
}
