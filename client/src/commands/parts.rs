//! `add`, `update`, `outdated`, `verify` and `parts`: documents that are taken from repositories.

use std::path::{Path, PathBuf};

use kanzlei_lang::document::kind_of;
use kanzlei_lang::suggest;
use serde_json::json;

use super::print_json;
use crate::parts::copies::{self, FOLDER};
use crate::parts::git::{self, Repository};
use crate::parts::lock::{Lock, NAME, Part};
use crate::parts::source::Source;
use crate::parts::{Files, lock};
use crate::{Done, Error, draw, files};

/// Takes a part for the first time.
pub fn add(from: &str, name: Option<&str>, root: &Path) -> Done {
    let source = Source::read(from).map_err(Error::Usage)?;
    let name = name.map_or_else(|| source.name(), str::to_owned);
    lock::sound_name(&name).map_err(|why| Error::Usage(format!("{why}; choose one with --as")))?;
    let mut lock = Lock::read(root).map_err(Error::Failed)?;
    if let Some(known) = lock.parts.get(&name) {
        let why = format!(
            "the part {name} is there already, from {}@{}; take another tag with: kanzlei update {name}@TAG",
            known.from, known.tag
        );
        return Err(Error::Failed(why));
    }
    if copies::folder(root, &name).exists() {
        let why = format!(
            "{} is there already, and {NAME} does not know it; choose another name with --as",
            copies::folder(root, &name).display()
        );
        return Err(Error::Failed(why));
    }
    let part = take(&source, &name, root)?;
    shown(&name, &part, None);
    lock.parts.insert(name.clone(), part);
    lock.write(root).map_err(Error::Failed)?;
    next(&name, root)
}

/// Takes parts at a newer tag, or at the one that is named.
pub fn update(named: &[String], force: bool, root: &Path) -> Done {
    let mut lock = Lock::read(root).map_err(Error::Failed)?;
    let all: Vec<String> = if named.is_empty() { lock.parts.keys().cloned().collect() } else { named.to_vec() };
    if all.is_empty() {
        return Err(Error::Usage(format!(
            "there are no parts in {NAME}; take one with: kanzlei add GIT-URL[#path]@TAG"
        )));
    }
    for one in all {
        let (name, tag) = match one.split_once('@') {
            Some((name, tag)) => (name.to_owned(), Some(tag.to_owned())),
            None => (one, None),
        };
        let known = known(&lock, &name)?.clone();
        let changed = copies::differences(root, &name, &known);
        if let (Some((how, path)), false) = (changed.first(), force) {
            let why = format!(
                "{FOLDER}/{name}/{path} is {how}; `kanzlei update --force {name}` replaces the copies all the same"
            );
            return Err(Error::Failed(why));
        }
        let tag = match tag {
            Some(tag) => tag,
            None => newest(&name, &known)?,
        };
        let source = Source { url: known.from.clone(), path: known.path.clone(), tag };
        let part = take(&source, &name, root)?;
        if part == known && changed.is_empty() {
            println!("{} {} is the newest.", draw::bold(&name), known.tag);
            continue;
        }
        shown(&name, &part, Some(&known));
        lock.parts.insert(name, part);
        lock.write(root).map_err(Error::Failed)?;
    }
    Ok(())
}

/// Lists the parts that have newer tags, or whose tag names another commit now.
pub fn outdated(root: &Path, as_json: bool) -> Done {
    let lock = Lock::read(root).map_err(Error::Failed)?;
    let mut rows = Vec::new();
    let mut found = Vec::new();
    for (name, part) in &lock.parts {
        let tags = git::tags(&part.from).map_err(|why| Error::Failed(format!("{name}: {why}")))?;
        let newest = newest(name, part)?;
        let now = tags.iter().find(|tag| tag.name == part.tag);
        let note = match now {
            None => "the tag is gone",
            Some(now) if now.commit != part.commit && now.object != part.object => "the tag names another commit now",
            Some(_) if newest != part.tag => "a newer one is there",
            Some(_) => continue,
        };
        found.push(json!({"part": name, "tag": part.tag, "newest": newest, "note": note}));
        rows.push(vec![draw::bold(name), part.tag.clone(), newest, note.to_owned()]);
    }
    if as_json {
        print_json(&found);
        return Ok(());
    }
    match (lock.parts.len(), rows.len()) {
        (0, _) => println!("There are no parts. Take one with: kanzlei add GIT-URL[#path]@TAG"),
        (all, 0) => println!("{all} {}: all are the newest.", if all == 1 { "part" } else { "parts" }),
        _ => {
            draw::table(&["part", "tag", "newest", ""], rows);
            println!("{}", draw::dim("take them with: kanzlei update [NAME[@TAG]]"));
        }
    }
    Ok(())
}

/// Compares the copies with the lock, without network.
pub fn verify(root: &Path, as_json: bool) -> Done {
    let lock = Lock::read(root).map_err(Error::Failed)?;
    let mut all = Vec::new();
    let mut files = 0;
    for (name, part) in &lock.parts {
        files += part.files.len();
        for (how, path) in copies::differences(root, name, part) {
            all.push((how, format!("{FOLDER}/{name}/{path}")));
        }
    }
    for entry in std::fs::read_dir(root.join(FOLDER)).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if !lock.parts.contains_key(&name) {
            all.push(("not in the lock", format!("{FOLDER}/{name}")));
        }
    }
    if as_json {
        let listed: Vec<_> = all.iter().map(|(how, path)| json!({"path": path, "is": how})).collect();
        print_json(&json!({"parts": lock.parts.len(), "files": files, "differences": listed}));
    } else {
        all.iter().for_each(|(how, path)| println!("{} {path}", draw::paint("31", how)));
        let counted = |count: usize, what: &str| format!("{count} {what}{}", if count == 1 { "" } else { "s" });
        let found = match all.len() {
            0 => "as they were taken".to_owned(),
            many => counted(many, "difference"),
        };
        println!("{}, {}: {found}", counted(lock.parts.len(), "part"), counted(files, "file"));
    }
    if all.is_empty() { Ok(()) } else { Err(Error::Bad) }
}

/// Lists the parts.
pub fn list(root: &Path, as_json: bool) -> Done {
    let lock = Lock::read(root).map_err(Error::Failed)?;
    if as_json {
        print_json(&lock);
        return Ok(());
    }
    if lock.parts.is_empty() {
        println!("There are no parts. Take one with: kanzlei add GIT-URL[#path]@TAG");
        return Ok(());
    }
    let rows = lock.parts.iter().map(|(name, part)| {
        let path = part.path.as_ref().map(|path| format!("#{path}")).unwrap_or_default();
        let commit: String = part.commit.chars().take(10).collect();
        vec![draw::bold(name), part.tag.clone(), commit, part.files.len().to_string(), format!("{}{path}", part.from)]
    });
    draw::table(&["part", "tag", "commit", "files", "from"], rows);
    Ok(())
}

/// Removes a part and its copies.
pub fn remove(name: &str, root: &Path) -> Done {
    let mut lock = Lock::read(root).map_err(Error::Failed)?;
    known(&lock, name)?;
    copies::remove(root, name).map_err(Error::Failed)?;
    lock.parts.remove(name);
    lock.write(root).map_err(Error::Failed)?;
    println!("The part {name} is removed.");
    Ok(())
}

fn known<'l>(lock: &'l Lock, name: &str) -> Result<&'l Part, Error> {
    lock.parts.get(name).ok_or_else(|| {
        let near = suggest::nearest(name, lock.parts.keys().map(String::as_str));
        let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        Error::Usage(format!("there is no part `{name}` in {NAME}{hint}"))
    })
}

fn newest(name: &str, part: &Part) -> Result<String, Error> {
    let versions = git::versions(&part.from).map_err(|why| Error::Failed(format!("{name}: {why}")))?;
    let newest = versions.iter().find(|(version, _)| version.pre.is_empty()).or(versions.first());
    match newest {
        Some((_, tag)) => Ok(tag.name.clone()),
        None => Ok(part.tag.clone()),
    }
}

/// Takes a part and writes its copies.
fn take(source: &Source, name: &str, root: &Path) -> Result<Part, Error> {
    let place = || format!("{}@{}", source.url, source.tag);
    let fail = |why: String| Error::Failed(format!("{}: {why}", place()));
    source.sound().map_err(Error::Usage)?;
    let repository = Repository::fetch(&source.url, &source.tag).map_err(fail)?;
    let tag = repository.named(&source.tag).map_err(fail)?;
    let files = repository.files(&tag.commit, source.path.as_deref()).map_err(fail)?;
    sound(&files).map_err(fail)?;
    copies::write(root, name, &files).map_err(Error::Failed)?;
    Ok(lock::Part::of(source, tag, &files))
}

/// A part has documents. The files that they name are read from beside them only, as everywhere.
fn sound(files: &Files) -> Result<(), String> {
    let document = |(path, content): (&String, &Vec<u8>)| {
        let named = path.ends_with(".yaml") || path.ends_with(".yml");
        named && std::str::from_utf8(content).is_ok_and(|text| kind_of(text).is_some())
    };
    match files.iter().any(document) {
        true => Ok(()),
        false => Err("there are no documents; name the folder that has them: `…#path@tag`".to_owned()),
    }
}

fn shown(name: &str, part: &Part, before: Option<&Part>) {
    let commit: String = part.commit.chars().take(10).collect();
    println!("{} {} ({commit})", draw::bold(name), part.tag);
    for (path, digest) in &part.files {
        let how = match before.map(|before| before.files.get(path)) {
            None | Some(None) => "+",
            Some(Some(known)) if known == digest => continue,
            Some(Some(_)) => "~",
        };
        println!("  {how} {FOLDER}/{name}/{path}");
    }
    for path in before.iter().flat_map(|before| before.files.keys()).filter(|path| !part.files.contains_key(*path)) {
        println!("  - {FOLDER}/{name}/{path}");
    }
}

/// What to do with a part that was just added.
fn next(name: &str, root: &Path) -> Done {
    let folder = copies::folder(root, name);
    let libraries: Vec<String> = files::texts_below(&folder)
        .iter()
        .filter(|(_, text)| kind_of(text) == Some("library"))
        .filter_map(|(_, text)| Some(text.lines().find_map(|line| line.strip_prefix("library:"))?.trim().to_owned()))
        .collect();
    if !libraries.is_empty() {
        println!("{}", draw::dim(&format!("name it in a workflow: use: [{}]", libraries.join(", "))));
    }
    println!(
        "{}",
        draw::dim(&format!(
            "check it with yours: kanzlei check {}; keep {FOLDER}/ and {NAME} in version control",
            shown_root(root).display()
        ))
    );
    Ok(())
}

fn shown_root(root: &Path) -> PathBuf {
    if root.as_os_str().is_empty() { PathBuf::from(".") } else { root.to_owned() }
}
