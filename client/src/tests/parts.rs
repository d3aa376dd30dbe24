//! Parts from a repository, by the commands that take, compare and update them. The repository is one that Git makes here.

use std::path::{Path, PathBuf};
use std::process::Command;

use super::Error;
use crate::commands::parts;

fn git(folder: &Path, args: &[&str]) {
    let mut git = Command::new("git");
    git.current_dir(folder).env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_SYSTEM", "/dev/null");
    git.args(["-c", "user.name=Office", "-c", "user.email=office@lindvik.example", "-c", "core.symlinks=true"]);
    let done = git.args(args).output().expect("git");
    assert!(done.status.success(), "{args:?}: {}", String::from_utf8_lossy(&done.stderr));
}

/// A folder of its own, removed at the end.
struct Folder(PathBuf);

impl Drop for Folder {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

fn read(path: &Path) -> String {
    std::fs::read_to_string(path).unwrap_or_default()
}

#[test]
fn parts_are_taken_compared_and_updated() {
    let base = Folder(std::env::temp_dir().join(format!("kanzlei-parts-test-{}", uuid::Uuid::new_v4())));
    let (repo, office) = (base.0.join("office-parts"), base.0.join("office"));
    for folder in [&repo.join("libraries"), &office] {
        std::fs::create_dir_all(folder).expect("a folder");
    }
    git(&repo, &["init", "--quiet", "--initial-branch=main", "."]);
    let library = |version: &str| format!("library: calendar\nversion: {version}\nfunctions: {{next: n => n + 1}}\n");
    let commit = |tag: &str| {
        git(&repo, &["add", "--all"]);
        git(&repo, &["commit", "--quiet", "--message", tag]);
        git(&repo, &["tag", "--annotate", tag, "--message", tag]);
    };
    std::fs::write(repo.join("libraries/calendar.yaml"), library("1.0.0")).expect("a file");
    std::fs::write(repo.join("libraries/.hidden.yaml"), "lane: hidden\n").expect("a file");
    // What a repository would run is not run, and is no part of what is taken.
    std::fs::write(repo.join(".gitattributes"), "*.yaml filter=touch\n").expect("a file");
    commit("v1.0.0");
    std::fs::write(repo.join("libraries/calendar.yaml"), library("1.1.0")).expect("a file");
    std::fs::write(repo.join("libraries/lane.yaml"), "lane: slow\n").expect("a file");
    commit("v1.1.0");
    std::os::unix::fs::symlink("/etc/passwd", repo.join("libraries/link.yaml")).expect("a link");
    commit("v1.2.0");
    git(&repo, &["bundle", "create", "--quiet", "../parts.bundle", "--all"]);
    let copies = office.join("parts/office-parts");
    let url = format!("file://{}#libraries", repo.display());
    parts::add(&format!("{url}@v1.0.0"), None, &office).expect("taken");
    assert_eq!(read(&copies.join("calendar.yaml")), library("1.0.0"));
    assert!(
        !copies.join(".hidden.yaml").exists() && read(&office.join("kanzlei.lock")).contains("\"tag\": \"v1.0.0\"")
    );
    for (text, wanted) in [
        (format!("{url}@v1.0.0"), "is there already"),
        (format!("{url}@v7"), "has no tag `v7`"),
        (format!("file://{}#nowhere@v1.0.0", repo.display()), "no folder `nowhere`"),
        (format!("file://{}/none@v1", base.0.display()), "git: "),
        (format!("{url}@v1.2.0"), "`link.yaml` is a link"),
    ] {
        let name = (!wanted.contains("already")).then_some("another");
        let Err(Error::Failed(why)) = parts::add(&text, name, &office) else { panic!("{text} is taken") };
        assert!(why.contains(wanted), "{text}: {why}");
    }
    assert!(!office.join("parts/another").exists(), "nothing stays of what was refused");
    parts::verify(&office, false).expect("as it was taken");
    parts::update(&["office-parts@v1.1.0".into()], false, &office).expect("updated");
    assert_eq!((read(&copies.join("calendar.yaml")), copies.join("lane.yaml").exists()), (library("1.1.0"), true));
    // Copies that were changed are reported, and kept.
    std::fs::write(copies.join("calendar.yaml"), "library: mine\n").expect("a file");
    std::fs::write(copies.join("more.yaml"), "lane: more\n").expect("a file");
    assert!(matches!(parts::verify(&office, false), Err(Error::Bad)));
    assert!(
        matches!(parts::update(&["office-parts@v1.0.0".into()], false, &office), Err(Error::Failed(why)) if why.contains("--force"))
    );
    parts::update(&["office-parts@v1.0.0".into()], true, &office).expect("replaced");
    parts::verify(&office, false).expect("as it was taken");
    assert!(!copies.join("lane.yaml").exists() && !copies.join("more.yaml").exists());
    // A bundle is a repository in one file.
    parts::add(&format!("file://{}/parts.bundle#libraries@v1.0.0", base.0.display()), None, &office).expect("taken");
    assert_eq!(read(&office.join("parts/parts/calendar.yaml")), library("1.0.0"));
    parts::remove("parts", &office).expect("removed");
    assert!(!office.join("parts/parts").exists());
    // A lock that was tampered with leads nowhere.
    let sound = read(&office.join("kanzlei.lock"));
    for (was, is, wanted) in [
        ("calendar.yaml", "../../calendar.yaml", "no path below a part"),
        ("\"office-parts\":", "\"../office-parts\":", "cannot be the name of a part"),
        ("\"from\": \"file://", "\"from\": \"ext::sh -c touch% ", "no address"),
        ("\"path\": \"libraries\"", "\"path\": \"../libraries\"", "no path in a repository"),
        ("\"tag\": \"v1.0.0\"", "\"tag\": \"--force\"", "cannot be the name of a tag"),
    ] {
        assert!(sound.contains(was), "{was} in {sound}");
        std::fs::write(office.join("kanzlei.lock"), sound.replace(was, is)).expect("a file");
        for done in [
            parts::verify(&office, false),
            parts::update(&[], true, &office),
            parts::remove("../office-parts", &office),
        ] {
            assert!(matches!(&done, Err(Error::Failed(why)) if why.contains(wanted)), "{is}: {done:?}");
        }
    }
    assert!(copies.join("calendar.yaml").exists());
}
