//! What Git is asked: tags of a repository, and the files of one of them. Hooks, filters, submodules and transports that run
//! programs are off.

use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use semver::Version;

use super::{Files, MOST_BYTES, MOST_FILES, source::sound_path};

/// How long one call of Git may take.
const WITHIN: Duration = Duration::from_secs(300);
/// The most bytes that Git may print where a list is asked for.
const MOST_LISTED: u64 = 8 << 20;

/// A copy of a repository, without a work tree; removed when it is dropped.
pub struct Repository {
    folder: PathBuf,
}

impl Drop for Repository {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.folder);
    }
}

/// A tag, what stands under its name, and the commit that it names, as far as the repository says that.
#[derive(Clone, Debug, PartialEq)]
pub struct Tag {
    pub name: String,
    pub object: String,
    pub commit: String,
}

/// An address as Git opens it: a bundle is a file.
fn opened(url: &str) -> &str {
    let path = url.strip_prefix("file://").unwrap_or(url);
    if path.ends_with(".bundle") && Path::new(path).is_file() { path } else { url }
}

fn git(folder: Option<&Path>, args: &[&str]) -> Command {
    let mut git = Command::new("git");
    git.args(["-c", "core.hooksPath=/dev/null", "-c", "core.fsmonitor=false", "-c", "protocol.ext.allow=never"]);
    git.args(["-c", "protocol.file.allow=always", "-c", "submodule.recurse=false", "-c", "advice.detachedHead=false"]);
    if let Some(folder) = folder {
        git.arg("--git-dir").arg(folder);
    }
    git.args(args).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    // A repository around the folder of the documents has no say.
    for name in ["GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_OBJECT_DIRECTORY"] {
        git.env_remove(name);
    }
    git.env("LC_ALL", "C");
    git
}

/// Runs Git to its end; `most` is how much of its output is read.
fn run(mut git: Command, input: Option<String>, most: u64) -> Result<Vec<u8>, String> {
    if input.is_some() {
        git.stdin(Stdio::piped());
    }
    let mut child = git.spawn().map_err(|error| format!("git cannot be started: {error}; install it"))?;
    let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let writer = std::thread::spawn(move || {
        if let (Some(mut stdin), Some(input)) = (stdin, input) {
            let _ = stdin.write_all(input.as_bytes());
        }
    });
    let errors = std::thread::spawn(move || {
        let mut out = Vec::new();
        if let Some(stderr) = stderr {
            let _ = stderr.take(64 << 10).read_to_end(&mut out);
        }
        out
    });
    let output = std::thread::spawn(move || {
        let mut out = Vec::new();
        if let Some(stdout) = stdout {
            let _ = stdout.take(most + 1).read_to_end(&mut out);
        }
        out
    });
    let end = Instant::now() + WITHIN;
    let status = loop {
        match child.try_wait() {
            Ok(Some(status)) => break Ok(status),
            Ok(None) if Instant::now() < end && !(output.is_finished() && errors.is_finished()) => {
                std::thread::sleep(Duration::from_millis(5));
            }
            // It prints no more: its end is near, unless it was cut off.
            Ok(None) if Instant::now() < end => break child.wait().map_err(|error| error.to_string()),
            Ok(None) => {
                let _ = child.kill();
                let _ = child.wait();
                // Its child processes may keep the pipes open, so the readers are not joined.
                return Err(format!("git took longer than {} s", WITHIN.as_secs()));
            }
            Err(error) => break Err(error.to_string()),
        }
    };
    let _ = writer.join();
    let output = output.join().unwrap_or_default();
    let errors = errors.join().unwrap_or_default();
    if output.len() as u64 > most {
        return Err(format!("git printed more than {most} bytes"));
    }
    match status? {
        status if status.success() => Ok(output),
        _ => {
            let text = String::from_utf8_lossy(&errors);
            let fatal = text.lines().find_map(|line| line.strip_prefix("fatal: "));
            let said = fatal.or_else(|| text.lines().find(|line| !line.trim().is_empty()));
            Err(format!("git: {}", said.unwrap_or("it says nothing")))
        }
    }
}

/// The tags of a repository that are versions, the newest first: `v1.2.0` or `1.2.0`.
pub fn versions(url: &str) -> Result<Vec<(Version, Tag)>, String> {
    let mut found: Vec<(Version, Tag)> = tags(url)?
        .into_iter()
        .filter_map(|tag| Some((Version::parse(tag.name.strip_prefix('v').unwrap_or(&tag.name)).ok()?, tag)))
        .collect();
    found.sort_by(|a, b| b.0.cmp(&a.0));
    Ok(found)
}

/// The tags of a repository.
pub fn tags(url: &str) -> Result<Vec<Tag>, String> {
    let output = run(git(None, &["ls-remote", "--quiet", "--", opened(url), "refs/tags/*"]), None, MOST_LISTED)?;
    let mut found: Vec<Tag> = Vec::new();
    for line in String::from_utf8_lossy(&output).lines() {
        let Some((commit, name)) = line.split_once('\t') else { continue };
        let Some(name) = name.strip_prefix("refs/tags/") else { continue };
        // The commit behind a tag with a message stands in a line of its own.
        match name.strip_suffix("^{}") {
            Some(name) => {
                found.iter_mut().filter(|tag| tag.name == name).for_each(|tag| commit.clone_into(&mut tag.commit));
            }
            None => found.push(Tag { name: name.to_owned(), object: commit.to_owned(), commit: commit.to_owned() }),
        }
    }
    Ok(found)
}

impl Repository {
    /// Fetches one tag of a repository.
    pub fn fetch(url: &str, tag: &str) -> Result<Self, String> {
        let folder = std::env::temp_dir().join(format!("kanzlei-part-{}", uuid::Uuid::new_v4()));
        let repository = Repository { folder };
        let at = repository.folder.to_string_lossy().into_owned();
        run(git(None, &["init", "--quiet", "--bare", "--template=", "--", &at]), None, MOST_LISTED)?;
        let refspec = format!("refs/tags/{tag}:refs/tags/{tag}");
        let fetch =
            git(Some(&repository.folder), &["fetch", "--quiet", "--no-tags", "--depth=1", "--", opened(url), &refspec]);
        run(fetch, None, MOST_LISTED).map_err(|why| match why.contains("couldn't find remote ref") {
            true => format!("the repository has no tag `{tag}`"),
            false => why,
        })?;
        Ok(repository)
    }

    /// What stands under the name of a tag, and the commit that it names.
    pub fn named(&self, tag: &str) -> Result<Tag, String> {
        let parse = |name: &str| {
            let output = run(git(Some(&self.folder), &["rev-parse", "--verify", name]), None, MOST_LISTED)?;
            Ok::<_, String>(String::from_utf8_lossy(&output).trim().to_owned())
        };
        let name = format!("refs/tags/{tag}");
        Ok(Tag { name: tag.to_owned(), object: parse(&name)?, commit: parse(&format!("{name}^{{commit}}"))? })
    }

    /// The files of a commit below a folder, by their paths in it; hidden ones are left out.
    pub fn files(&self, commit: &str, path: Option<&str>) -> Result<Files, String> {
        let tree = format!("{commit}:{}", path.unwrap_or_default());
        let listed =
            run(git(Some(&self.folder), &["ls-tree", "-r", "-z", "-l", "--full-tree", &tree]), None, MOST_LISTED);
        let listed = listed.map_err(|why| match path {
            Some(path) if why.contains("Not a valid object name") => format!("there is no folder `{path}` at this tag"),
            _ => why,
        })?;
        let (mut names, mut wanted, mut bytes) = (Vec::new(), String::new(), 0u64);
        for entry in
            String::from_utf8(listed).map_err(|_| "a path is not UTF-8")?.split('\0').filter(|one| !one.is_empty())
        {
            let (facts, name) = entry.split_once('\t').ok_or("git lists files in a form that is not known")?;
            let facts: Vec<&str> = facts.split_whitespace().collect();
            let [mode, _, object, size] = facts[..] else {
                return Err("git lists files in a form that is not known".into());
            };
            if name.split('/').any(|part| part.starts_with('.')) {
                continue;
            }
            if !mode.starts_with("100") {
                return Err(format!("`{name}` is a link or another repository; parts hold plain files only"));
            }
            if !sound_path(name) {
                return Err(format!("`{name}` is no path for a file of a part"));
            }
            bytes = bytes.saturating_add(size.parse().unwrap_or(u64::MAX));
            names.push((name.to_owned(), size.parse::<usize>().unwrap_or_default()));
            wanted.push_str(object);
            wanted.push('\n');
        }
        if names.len() > MOST_FILES || bytes > MOST_BYTES {
            return Err(format!(
                "it has {} files of {bytes} bytes; a part has at most {MOST_FILES} of {MOST_BYTES}: name a folder, `…#path@tag`",
                names.len()
            ));
        }
        let most = bytes + 200 * names.len() as u64 + 1;
        let output = run(git(Some(&self.folder), &["cat-file", "--batch"]), Some(wanted), most)?;
        let (mut files, mut rest) = (Files::new(), output.as_slice());
        for (name, size) in names {
            // Each file has a line before it, and a line break behind it.
            let head = rest.iter().position(|byte| *byte == b'\n').ok_or("git sends less than it lists")?;
            let content = rest.get(head + 1..head + 1 + size).ok_or("git sends less than it lists")?;
            files.insert(name, content.to_vec());
            rest = rest.get(head + 2 + size..).unwrap_or_default();
        }
        Ok(files)
    }
}
