//! A Debian package of the service and the client, and its drill: installed, upgraded and removed in a root of its own.
//!
//! The package is put together by `dpkg-deb` from what is built and from `packaging/`. Man pages and completions are made by the
//! programs themselves, so that they say what the programs say.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Output, Stdio};
use std::time::Duration;

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::{packages, ports, scratch, wait};

use crate::{Done, Fault, build, root, run, sbom};

/// The options of `cargo xtask package`.
#[derive(clap::Args)]
pub struct Package {
    /// Use programs of the debug profile, which are built faster
    #[arg(long)]
    debug: bool,
    /// The revision of the package
    #[arg(long, default_value_t = 1)]
    revision: u32,
    /// Install, upgrade, remove and purge it in a Debian root of its own, and start the programs from there
    #[arg(long)]
    drill: bool,
}

/// Makes the package in `target/package/`, or drills it.
pub fn package(args: &Package) -> Done {
    packages::install(&[packages::MARIADB])?;
    build::console()?;
    let bins = match args.debug {
        true => build::demo(false)?,
        false => build::demo(true)?,
    };
    let out = bins.parent().unwrap_or(&bins).join("package");
    fs::create_dir_all(&out)?;
    let made = make(&bins, &out, args.revision)?;
    println!("{}", made.display());
    if args.drill {
        let next = make(&bins, &out, args.revision + 1)?;
        drill(&made, &next)?;
    }
    Ok(ExitCode::SUCCESS)
}

/// The name of the machine's architecture in Debian.
fn architecture() -> Result<String, Fault> {
    let said = Command::new("dpkg").arg("--print-architecture").output()?;
    Ok(String::from_utf8(said.stdout)?.trim().to_owned())
}

fn make(bins: &Path, out: &Path, revision: u32) -> Result<PathBuf, Fault> {
    let (version, architecture) = (env!("CARGO_PKG_VERSION"), architecture()?);
    let name = format!("kanzlei_{version}-{revision}_{architecture}");
    let tree = out.join(&name);
    let _ = fs::remove_dir_all(&tree);
    let place = |from: &Path, to: &str, mode: u32| -> Result<(), Fault> {
        let to = tree.join(to);
        fs::create_dir_all(to.parent().unwrap_or(&tree))?;
        fs::copy(from, &to).map_err(|error| format!("{}: {error}", from.display()))?;
        fs::set_permissions(&to, fs::Permissions::from_mode(mode))?;
        Ok(())
    };
    let packaging = root().join("packaging");
    for program in ["kanzleid", "kanzlei"] {
        place(&bins.join(program), &format!("usr/bin/{program}"), 0o755)?;
        run(Command::new("strip").arg("--strip-unneeded").arg(tree.join("usr/bin").join(program)))?;
    }
    for unit in ["kanzlei.service", "kanzlei-backup.service", "kanzlei-backup.timer"] {
        place(&packaging.join(unit), &format!("usr/lib/systemd/system/{unit}"), 0o644)?;
    }
    place(&packaging.join("kanzlei.toml"), "etc/kanzlei/kanzlei.toml", 0o644)?;
    for script in ["postinst", "prerm", "postrm"] {
        place(&packaging.join(script), &format!("DEBIAN/{script}"), 0o755)?;
    }
    for (file, to) in [("README.md", "README.md"), ("SECURITY.md", "SECURITY.md")] {
        place(&root().join(file), &format!("usr/share/doc/kanzlei/{to}"), 0o644)?;
    }
    for chapter in fs::read_dir(root().join("docs"))?.filter_map(|entry| Some(entry.ok()?.path())) {
        if chapter.extension().is_some_and(|kind| kind == "md") {
            let name = chapter.file_name().unwrap_or_default().to_string_lossy().into_owned();
            place(&chapter, &format!("usr/share/doc/kanzlei/handbook/{name}"), 0o644)?;
        }
    }
    let bill = sbom::write(out)?;
    place(&bill, "usr/share/doc/kanzlei/kanzlei.cdx.json", 0o644)?;
    manuals(bins, &tree)?;
    completions(bins, &tree)?;
    fs::write(tree.join("DEBIAN/conffiles"), "/etc/kanzlei/kanzlei.toml\n")?;
    let size: u64 = Command::new("du").args(["-sk", "--apparent-size"]).arg(&tree).output().map(|said| {
        String::from_utf8_lossy(&said.stdout).split_whitespace().next().and_then(|size| size.parse().ok()).unwrap_or(0)
    })?;
    let control = format!(
        "Package: kanzlei\nVersion: {version}-{revision}\nArchitecture: {architecture}\nMaintainer: Kanzlei <kanzlei@localhost>\nInstalled-Size: {size}\nSection: net\nPriority: optional\nDepends: libc6, libgcc-s1, adduser, mariadb-client\nRecommends: mariadb-server, weasyprint\nDescription: workflows as endpoints, webhooks and jobs\n Kanzlei runs documents that validate what comes in, call services one after another,\n transform, branch, loop and answer, and records what each step did.\n"
    );
    fs::write(tree.join("DEBIAN/control"), control)?;
    let package = out.join(format!("{name}.deb"));
    run(Command::new("dpkg-deb")
        .args(["--root-owner-group", "--build"])
        .arg(&tree)
        .arg(&package)
        .stdout(Stdio::null()))?;
    let _ = fs::remove_dir_all(&tree);
    Ok(package)
}

/// Man pages as the programs make them: the client's in section 1, the service's in section 8.
fn manuals(bins: &Path, tree: &Path) -> Result<(), Fault> {
    for (program, section) in [("kanzlei", 1), ("kanzleid", 8)] {
        let folder = tree.join(format!("usr/share/man/man{section}"));
        fs::create_dir_all(&folder)?;
        run(Command::new(bins.join(program)).arg("manual").arg(&folder))?;
        for page in fs::read_dir(&folder)?.filter_map(|entry| Some(entry.ok()?.path())) {
            run(Command::new("gzip").args(["-9n"]).arg(&page))?;
        }
    }
    Ok(())
}

fn completions(bins: &Path, tree: &Path) -> Result<(), Fault> {
    for (shell, to) in [
        ("bash", "usr/share/bash-completion/completions/kanzlei"),
        ("zsh", "usr/share/zsh/vendor-completions/_kanzlei"),
        ("fish", "usr/share/fish/vendor_completions.d/kanzlei.fish"),
    ] {
        let made = Command::new(bins.join("kanzlei")).args(["completions", shell]).output()?;
        if !made.status.success() {
            return Err(format!("kanzlei completions {shell}: {}", String::from_utf8_lossy(&made.stderr)).into());
        }
        let to = tree.join(to);
        fs::create_dir_all(to.parent().unwrap_or(tree))?;
        fs::write(to, made.stdout)?;
    }
    Ok(())
}

/// A Debian root with the package's own user and files.
struct Root(PathBuf);

impl Root {
    fn command(&self, program: &str) -> Command {
        let mut command = Command::new("chroot");
        command.arg(&self.0).arg(program).env("DEBIAN_FRONTEND", "noninteractive").env("LC_ALL", "C.UTF-8");
        command
    }

    fn run(&self, line: &[&str]) -> Result<(), Fault> {
        let (program, args) = line.split_first().ok_or("an empty command")?;
        run(self.command(program).args(args).stdout(Stdio::null()))
    }

    fn said(&self, line: &[&str]) -> Result<Output, Fault> {
        let (program, args) = line.split_first().ok_or("an empty command")?;
        Ok(self.command(program).args(args).output()?)
    }

    fn has(&self, path: &str) -> bool {
        self.0.join(path).exists()
    }

    fn install(&self, package: &Path) -> Result<(), Fault> {
        let name = package.file_name().unwrap_or_default();
        fs::copy(package, self.0.join("tmp").join(name))?;
        let inside = format!("/tmp/{}", name.to_string_lossy());
        self.run(&["apt-get", "install", "--yes", "--quiet", "--no-install-recommends", &inside])
    }
}

fn holds(what: &str, is: bool) -> Result<(), Fault> {
    match is {
        true => {
            println!("ok    {what}");
            Ok(())
        }
        false => Err(format!("not so: {what}").into()),
    }
}

/// Installs, upgrades, removes and purges.
fn drill(first: &Path, next: &Path) -> Result<(), Fault> {
    packages::install(&[packages::DEBOOTSTRAP])?;
    let codename = fs::read_to_string("/etc/os-release")?;
    let codename =
        codename.lines().find_map(|line| line.strip_prefix("VERSION_CODENAME=")).unwrap_or("stable").to_owned();
    let folder = scratch::folder("package");
    let place = Root(folder.join("root"));
    println!("A Debian root is made in {}", place.0.display());
    run(Command::new("debootstrap").args(["--variant=minbase", &codename]).arg(&place.0).stdout(Stdio::null()))?;
    place.install(first)?;
    for file in [
        "usr/bin/kanzleid",
        "usr/bin/kanzlei",
        "etc/kanzlei/kanzlei.toml",
        "etc/kanzlei/environment",
        "usr/lib/systemd/system/kanzlei.service",
        "usr/share/man/man1/kanzlei.1.gz",
        "usr/share/man/man1/kanzlei-retry.1.gz",
        "usr/share/man/man8/kanzleid.8.gz",
        "usr/share/bash-completion/completions/kanzlei",
        "usr/share/doc/kanzlei/handbook/jobs.md",
    ] {
        holds(&format!("installed: /{file}"), place.has(file))?;
    }
    holds("its user exists", place.said(&["getent", "passwd", "kanzlei"])?.status.success())?;
    let mode = fs::metadata(place.0.join("var/lib/kanzlei"))?.permissions().mode() & 0o777;
    holds("its state is its user's alone", mode == 0o700)?;
    verified(&place)?;
    let server = Mariadb::start(&folder.join("database"))?;
    let url = server.fresh("kanzlei")?;
    let token = started(&place, &url)?;
    // The settings of the host stay over an upgrade, and so does the state.
    let settings = place.0.join("etc/kanzlei/kanzlei.toml");
    fs::write(&settings, fs::read_to_string(&settings)? + "\n# ours\n")?;
    place.install(next)?;
    holds("upgraded: the settings are still ours", fs::read_to_string(&settings)?.ends_with("# ours\n"))?;
    holds("upgraded: the state is still there", started(&place, &url)? == token)?;
    place.run(&["apt-get", "remove", "--yes", "--quiet", "kanzlei"])?;
    holds("removed: no program is left", !place.has("usr/bin/kanzleid") && !place.has("usr/bin/kanzlei"))?;
    holds("removed: settings and state stay", settings.exists() && place.has("var/lib/kanzlei/secrets.key"))?;
    place.run(&["apt-get", "purge", "--yes", "--quiet", "kanzlei"])?;
    holds("purged: nothing is left", !settings.exists() && !place.has("var/lib/kanzlei"))?;
    holds("purged: its user is gone", !place.said(&["getent", "passwd", "kanzlei"])?.status.success())
}

/// The units are without faults.
fn verified(place: &Root) -> Result<(), Fault> {
    packages::install(&[packages::SYSTEMD])?;
    // Units that ours name are in this package.
    place.run(&["apt-get", "install", "--yes", "--quiet", "--no-install-recommends", "systemd"])?;
    for unit in ["kanzlei.service", "kanzlei-backup.service", "kanzlei-backup.timer"] {
        let root = format!("--root={}", place.0.display());
        let said = Command::new("systemd-analyze").args(["verify", "--man=no", &root, unit]).output()?;
        let words = String::from_utf8_lossy(&said.stderr).into_owned();
        // Units that the root does not have, such as the database's, are not ours.
        let own: Vec<&str> = words.lines().filter(|line| line.contains("kanzlei")).collect();
        if !own.is_empty() {
            return Err(format!("{unit}: {}", own.join("; ")).into());
        }
        holds(&format!("verified: {unit}"), true)?;
    }
    Ok(())
}

/// Starts the service from the root as its user, on a database of the drill; returns the operator's token.
fn started(place: &Root, url: &str) -> Result<String, Fault> {
    let (public, control) = (ports::free()?, ports::free()?);
    let mut command = Command::new("chroot");
    command.arg("--userspec=kanzlei:kanzlei").arg(&place.0);
    command.args(["/usr/bin/kanzleid", "--config", "/etc/kanzlei/kanzlei.toml"]);
    for setting in [format!("listen.public=127.0.0.1:{public}"), format!("listen.control=127.0.0.1:{control}")] {
        command.args(["--set", &setting]);
    }
    command.env("KANZLEI_DATABASE_URL", url).stdout(Stdio::null()).stderr(Stdio::null());
    let mut service = command.spawn()?;
    let alive = || std::net::TcpStream::connect(("127.0.0.1", public)).ok();
    let answers = wait::until(Duration::from_secs(60), alive).is_some();
    let token = place.0.join("var/lib/kanzlei/operator-token");
    let read = wait::until(Duration::from_secs(20), || fs::read_to_string(&token).ok());
    let mut listing = place.command("/usr/bin/kanzlei");
    listing.arg("list").env("KANZLEI_URL", format!("http://127.0.0.1:{control}"));
    let listed = listing.env("KANZLEI_TOKEN", read.clone().unwrap_or_default().trim()).output()?;
    // By its number, as the shell does.
    let _ = Command::new("kill").args(["-TERM", &service.id().to_string()]).status();
    let _ = service.wait();
    holds("started from there, as its user", answers)?;
    holds("the client of the package talks to it", listed.status.success())?;
    read.ok_or_else(|| "the service made no token".into())
}
