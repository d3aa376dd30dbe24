//! The repository of parts that the demo holds, as a bundle: made from the folders of its tags, the same bytes each time for one
//! version of Git.

use std::path::Path;
use std::process::Command;

/// Makes `demo/parts/harbour-parts.bundle`.
pub fn bundle(root: &Path) -> Result<(), String> {
    let parts = root.join("demo/parts");
    let work = std::env::temp_dir().join(format!("kanzlei-demo-parts-{}", std::process::id()));
    let _ = std::fs::remove_dir_all(&work);
    std::fs::create_dir_all(&work).map_err(|error| error.to_string())?;
    let git = |args: &[&str]| -> Result<(), String> {
        let mut git = Command::new("git");
        git.current_dir(&work).env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_SYSTEM", "/dev/null");
        for who in ["AUTHOR", "COMMITTER"] {
            git.env(format!("GIT_{who}_NAME"), "Harbour Office")
                .env(format!("GIT_{who}_EMAIL"), "office@lindvik.example");
            git.env(format!("GIT_{who}_DATE"), "2027-01-04T08:00:00Z");
        }
        let done = git.args(args).status().map_err(|error| format!("git cannot be started: {error}"))?;
        done.success().then_some(()).ok_or_else(|| format!("git {} failed", args.join(" ")))
    };
    git(&["init", "--quiet", "--initial-branch=main", "."])?;
    for tag in ["v1.0.0", "v1.1.0"] {
        copy(&parts.join("source").join(tag), &work)?;
        git(&["add", "--all"])?;
        git(&["commit", "--quiet", "--message", &format!("Release {tag}")])?;
        git(&["tag", "--annotate", tag, "--message", tag])?;
    }
    let target = parts.join("harbour-parts.bundle");
    let made = git(&["-c", "pack.threads=1", "bundle", "create", "--quiet", &target.to_string_lossy(), "--all"]);
    let _ = std::fs::remove_dir_all(&work);
    made?;
    println!("{}", target.display());
    Ok(())
}

fn copy(from: &Path, to: &Path) -> Result<(), String> {
    let doing = |error: std::io::Error| format!("{}: {error}", from.display());
    for entry in std::fs::read_dir(from).map_err(doing)? {
        let entry = entry.map_err(doing)?;
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            std::fs::create_dir_all(&target).map_err(doing)?;
            copy(&entry.path(), &target)?;
        } else {
            std::fs::copy(entry.path(), target).map_err(doing)?;
        }
    }
    Ok(())
}
