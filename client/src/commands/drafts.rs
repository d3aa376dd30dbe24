//! `history`, `show NAME@3`, `diff`, `restore`, `drafts` and `draft`: revisions and drafts on the service.
//!
//! What was pulled or pushed is noted in `.kanzlei/drafts.json`, so that a push says which version it is based on, and
//! what its author began from.

use kanzlei_compiler::beside;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use kanzlei_analysis::compare::{self, Changed, ClientChange, StepChange};
use kanzlei_analysis::lines;
use kanzlei_api::deploys::{Deployed, DeployedDocument, Document, Documents};
use kanzlei_api::drafts::{Draft, DraftText, Drafts, RevisionText, Revisions};
use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::{self, BESIDE, KINDS, yaml};
use serde::{Deserialize, Serialize};

use super::{print_json, runs, segment};
use crate::api::{Api, Rejection};
use crate::{Done, Error, draw, files};

/// A document and which of its texts: `berth-quote@3`, `service/registry@draft`.
struct Place {
    kind: String,
    name: String,
    which: Which,
}

#[derive(Clone, Copy, PartialEq)]
enum Which {
    Live,
    Draft,
    Revision(u32),
}

impl Place {
    fn parse(text: &str) -> Result<Self, Error> {
        let (name, which) = match text.split_once('@') {
            None => (text, Which::Live),
            Some((name, "live")) => (name, Which::Live),
            Some((name, "draft")) => (name, Which::Draft),
            Some((name, number)) => match number.parse() {
                Ok(number) => (name, Which::Revision(number)),
                Err(_) => {
                    return Err(Error::Usage(format!("`@{number}` is no revision; write `@3`, `@live` or `@draft`")));
                }
            },
        };
        let (kind, name) = name.split_once('/').unwrap_or(("workflow", name));
        if !KINDS.contains(&kind) {
            return Err(Error::Usage(format!("there is no kind of document `{kind}`; kinds: {}", KINDS.join(", "))));
        }
        Ok(Place { kind: kind.to_owned(), name: name.to_owned(), which })
    }

    fn path(&self, of: &str) -> String {
        format!("/{of}/{}/{}", segment(&self.kind), segment(&self.name))
    }

    /// Its text, and that of the file it names.
    fn text(&self, api: &Api) -> Result<(String, Option<String>), Error> {
        let number = match self.which {
            Which::Draft => {
                let draft: Draft = api.get(&self.path("drafts"))?;
                return Ok((draft.text, draft.file));
            }
            Which::Revision(number) => number,
            Which::Live => {
                let all: Revisions = api.get(&self.path("revisions"))?;
                let live = all.revisions.iter().find(|revision| revision.live);
                live.map(|live| live.revision)
                    .ok_or_else(|| Error::Failed(format!("the {} `{}` is not live", self.kind, self.name)))?
            }
        };
        let found: RevisionText = api.get(&format!("{}/{number}", self.path("revisions")))?;
        Ok((found.text, found.file))
    }
}

/// `history`: the revisions of a document.
pub fn history(api: &Api, place: &str, json: bool) -> Done {
    let place = Place::parse(place)?;
    let found: Revisions = api.get(&place.path("revisions"))?;
    if json {
        print_json(&found);
        return Ok(());
    }
    let rows = found.revisions.iter().map(|revision| {
        let live = if revision.live { draw::paint("32", "live") } else { String::new() };
        let at = format!("{}@{}", place.name, revision.revision);
        vec![revision.revision.to_string(), draw::time(revision.created), revision.operator.clone(), live, at]
    });
    draw::table(&["rev", "deployed (UTC)", "by", "", "show, diff, restore"], rows);
    Ok(())
}

/// `show NAME@3`: the text of a revision or draft.
pub fn show_text(api: &Api, place: &str, json: bool) -> Done {
    let (text, file) = Place::parse(place)?.text(api)?;
    if json {
        print_json(&serde_json::json!({"text": text, "file": file}));
    } else {
        print!("{text}");
    }
    Ok(())
}

/// `diff`: how two texts of a document differ, by steps and by lines.
pub fn diff(api: impl Fn() -> Result<Api, Error>, before: &str, after: &str, json: bool) -> Done {
    if runs::is_run(before) && runs::is_run(after) {
        return runs::compare(&api()?, before, after, json);
    }
    // The text, and the file that belongs to it where the service has both.
    let text = |place: &str| -> Result<(String, Option<String>), Error> {
        let file = Path::new(place);
        if file.is_file() {
            let read = std::fs::read_to_string(file).map_err(|error| Error::Usage(format!("{place}: {error}")));
            return Ok((read?, None));
        }
        let (text, file) = Place::parse(place)?.text(&api()?)?;
        Ok((text, Some(file.unwrap_or_default())))
    };
    let ((old, old_file), (new, new_file)) = (text(before)?, text(after)?);
    let files = old_file.zip(new_file).filter(|(old, new)| old != new);
    let steps = compare::steps_of(&old, &new);
    if json {
        let diff = lines::patch((before, after), &old, &new);
        print_json(&serde_json::json!({"steps": steps, "diff": diff}));
        return Ok(());
    }
    if let Some((old, new)) = &files {
        let what = if before.starts_with("settings/") { "values that are set" } else { "file" };
        draw::compared(&format!("{before}, {what}"), &format!("{after}, {what}"), old, new);
    }
    if old == new && files.is_some() {
        return Ok(());
    }
    if old == new {
        println!("{before} and {after} are the same.");
        return Ok(());
    }
    print_steps(&steps, "");
    if !steps.is_empty() {
        println!();
    }
    draw::compared(before, after, &old, &new);
    Ok(())
}

/// Steps that differ, one on each line with what differs below.
pub fn print_steps(steps: &[StepChange], indent: &str) {
    for step in steps {
        let (mark, number) = match step.change {
            Changed::Added => (draw::paint("32", "+"), step.after.clone()),
            Changed::Removed => (draw::paint("31", "-"), step.before.clone()),
            Changed::Changed if step.before == step.after => (draw::paint("33", "~"), step.after.clone()),
            Changed::Changed | Changed::Moved => (draw::paint("33", "~"), format!("{} → {}", step.before, step.after)),
        };
        let moved = if step.change == Changed::Moved { draw::dim(" (moved)") } else { String::new() };
        println!("{indent}{mark} {number:<7} {}{moved}", step.title);
        for row in &step.rows {
            let shown = |text: &str| if text.is_empty() { draw::dim("nothing") } else { text.to_owned() };
            println!("{indent}          {}: {} → {}", draw::dim(&row.key), shown(&row.before), shown(&row.after));
        }
    }
}

/// What clients see of a change.
pub fn print_clients(clients: &[ClientChange], indent: &str) {
    for change in clients {
        let mark = if change.breaking { draw::paint("31", "breaking") } else { draw::dim("fine    ") };
        println!("{indent}{mark} {}", change.text);
    }
}

/// `restore`: a revision as a draft, or live at once.
pub fn restore(api: &Api, place: &str, deploy: bool, json: bool) -> Done {
    let place = Place::parse(place)?;
    let Which::Revision(number) = place.which else {
        return Err(Error::Usage("name the revision: `kanzlei restore berth-quote@3`".into()));
    };
    let (text, file) = place.text(api)?;
    // A revision from before a rename has the name of its time.
    let text = document::with_name(&text, &place.name);
    if !deploy {
        let saved = save(api, &place, &DraftText { path: String::new(), text, file, ancestor: None }, None)?;
        let Ok(saved) = saved else {
            return Err(Error::Failed(format!(
                "there is a draft of {} already; `kanzlei draft discard {}` first, or restore it with --deploy",
                place.name, place.name
            )));
        };
        if json {
            print_json(&saved);
        } else {
            println!("Revision {number} of {} is a draft now: {}.", place.name, saved.line.state);
            println!("{}", draw::dim(&format!("kanzlei deploy --draft {}", place.name)));
        }
        return Ok(());
    }
    let path = format!("{}.yaml", place.name);
    let mut documents = Documents {
        documents: vec![Document { path: path.clone(), text: text.clone() }],
        context: Vec::new(),
        files: BTreeMap::new(),
        drafts: Vec::new(),
        settings: BTreeMap::new(),
        over: false,
        preview: false,
        gradual: None,
    };
    documents.files.extend(file.iter().flat_map(|kept| beside::unpack(&text, kept)));
    let answer: Deployed = api.post("/deploys", &documents)?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    for done in &answer.deployed {
        if done.unchanged {
            println!("Revision {number} of {} is what is live, as revision {}.", place.name, done.revision);
            continue;
        }
        println!("{} of {number} is live as revision {}", place.name, done.revision);
        print_consequences(done);
    }
    Ok(())
}

/// What a deploy changes: steps, clients, callers.
pub fn print_consequences(done: &DeployedDocument) {
    print_steps(&done.steps, "  ");
    print_clients(&done.clients, "  ");
    for line in done.databases.iter().filter(|_| !done.unchanged) {
        println!("  {line}");
    }
    if !done.callers.is_empty() && !done.unchanged {
        println!(
            "  {}",
            draw::dim(&format!(
                "{} {}",
                if done.kind == "library" { "used by" } else { "called by" },
                done.callers.join(", ")
            ))
        );
    }
}

/// `drafts`: all of them.
pub fn list(api: &Api, json: bool) -> Done {
    let found: Drafts = api.get("/drafts")?;
    if json {
        print_json(&found);
        return Ok(());
    }
    if found.drafts.is_empty() {
        println!("There are no drafts. Save one with: kanzlei draft push FILE");
        return Ok(());
    }
    let rows = found.drafts.iter().map(|draft| {
        let name = if draft.kind == "workflow" { draft.name.clone() } else { format!("{}/{}", draft.kind, draft.name) };
        let never = BESIDE.contains(&draft.kind.as_str());
        let not_live = || if never { String::new() } else { "not live".to_owned() };
        let live = draft.live.map_or_else(not_live, |live| format!("revision {live}"));
        let base = draft.base.map(|base| format!("revision {base}")).unwrap_or_default();
        vec![draw::bold(&name), draft.state.clone(), live, base, draw::time(draft.changed), draft.operator.clone()]
    });
    draw::table(&["draft", "state", "live", "began from", "saved (UTC)", "by"], rows);
    Ok(())
}

/// What this folder knows of a draft.
#[derive(Debug, Serialize, Deserialize)]
struct Noted {
    version: u64,
    text: String,
}

const NOTES: &str = ".kanzlei/drafts.json";

fn notes() -> BTreeMap<String, Noted> {
    std::fs::read_to_string(NOTES).ok().and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default()
}

fn note(place: &Place, noted: Option<Noted>) -> Done {
    let mut all = notes();
    let key = format!("{}/{}", place.kind, place.name);
    match noted {
        Some(noted) => all.insert(key, noted),
        None => all.remove(&key),
    };
    let failed = |error: std::io::Error| Error::Failed(format!("{NOTES}: {error}"));
    std::fs::create_dir_all(".kanzlei").map_err(failed)?;
    std::fs::write(NOTES, serde_json::to_string_pretty(&all).unwrap_or_default()).map_err(failed)
}

fn save(api: &Api, place: &Place, text: &DraftText, version: Option<u64>) -> Result<Result<Draft, Rejection>, Error> {
    let precondition = match version {
        Some(version) => ("if-match", format!("\"{version}\"")),
        None => ("if-none-match", "*".to_owned()),
    };
    api.try_put(&place.path("drafts"), text, precondition)
}

/// `draft pull`: writes the text of a draft, or of what is live where there is none, into a file.
pub fn pull(api: &Api, place: &str, to: Option<&Path>) -> Done {
    let mut place = Place::parse(place)?;
    let drafts: Drafts = api.get("/drafts")?;
    let draft = drafts.drafts.iter().find(|draft| (&draft.kind, &draft.name) == (&place.kind, &place.name));
    place.which = if draft.is_some() { Which::Draft } else { Which::Live };
    let (text, file) = place.text(api)?;
    let path = to.map_or_else(|| PathBuf::from(format!("{}.yaml", place.name)), Path::to_path_buf);
    let write = |path: &Path, text: &str| {
        std::fs::write(path, text).map_err(|error| Error::Failed(format!("{}: {error}", path.display())))
    };
    write(&path, &text)?;
    for (named, content) in file.iter().flat_map(|kept| beside::unpack(&text, kept)) {
        let to = path.parent().unwrap_or(Path::new("")).join(named);
        if let Some(folder) = to.parent() {
            std::fs::create_dir_all(folder).map_err(|error| Error::Failed(format!("{}: {error}", folder.display())))?;
        }
        write(&to, &content)?;
        println!("{}", to.display());
    }
    match draft {
        Some(draft) => {
            note(&place, Some(Noted { version: draft.version, text }))?;
            println!(
                "{} holds the draft of {}, version {}: {}",
                path.display(),
                place.name,
                draft.version,
                draft.state
            );
        }
        None => println!("{} holds what is live of {}; there is no draft yet", path.display(), place.name),
    }
    Ok(())
}

/// `draft push`: saves files as drafts.
pub fn push(api: &Api, paths: &[PathBuf], merge: bool, json: bool) -> Done {
    let bundle = files::bundle(paths)?;
    let mut saved = Vec::new();
    for source in &bundle.documents {
        let root = yaml::parse(&mut Report::new(&source.path, &source.text));
        let kind = document::kind_of(&source.text);
        let name = root.as_ref().zip(kind).and_then(|(root, kind)| root.get(kind)?.as_text().map(str::to_owned));
        let (Some(kind), Some(name)) = (kind, name) else {
            return Err(Error::Failed(format!(
                "{} does not say what it is: its first key is a kind, and its value the name",
                source.path
            )));
        };
        let place = Place { kind: kind.to_owned(), name, which: Which::Draft };
        let noted = notes().remove(&format!("{}/{}", place.kind, place.name));
        let file = beside::pack(&source.text, &|name| bundle.file(&source.path, name));
        let ancestor = noted.as_ref().map(|noted| noted.text.clone());
        let text = DraftText { path: source.path.clone(), text: source.text.clone(), file, ancestor };
        let draft = match save(api, &place, &text, noted.as_ref().map(|noted| noted.version))? {
            Ok(draft) => draft,
            Err(refused) if refused.status == 412 => merged(api, &place, &text, refused, merge)?,
            Err(refused) => return Err(api.error(refused)),
        };
        note(&place, Some(Noted { version: draft.line.version, text: draft.text.clone() }))?;
        if !json {
            println!("draft of {}, version {}: {}", place.name, draft.line.version, draft.line.state);
        }
        saved.push(draft);
    }
    if json {
        print_json(&saved);
    }
    Ok(())
}

/// Another author saved in between: the text with the changes of both is saved where that is wanted and they do not touch.
fn merged(api: &Api, place: &Place, text: &DraftText, refused: Rejection, merge: bool) -> Result<Draft, Error> {
    let version = refused.problem["version"].as_u64();
    let (Some(version), Some(both)) = (version, refused.problem["merged"].as_str()) else {
        if let Some(current) = refused.problem["current"].as_str() {
            draw::compared(&format!("{}@draft", place.name), &text.path, current, &text.text);
        }
        return Err(api.error(refused));
    };
    if !merge {
        let detail = refused.problem["detail"].as_str().unwrap_or_default();
        return Err(Error::Failed(format!(
            "{detail}\n`kanzlei draft push {} --merge` saves both changes, and writes them into the file",
            text.path
        )));
    }
    let both = DraftText { text: both.to_owned(), ..text.clone() };
    std::fs::write(&text.path, &both.text).map_err(|error| Error::Failed(format!("{}: {error}", text.path)))?;
    println!("{} holds the changes of both now", text.path);
    save(api, place, &both, Some(version))?.map_err(|refused| api.error(refused))
}

/// `draft discard`.
pub fn discard(api: &Api, place: &str, json: bool) -> Done {
    let place = Place::parse(place)?;
    api.delete(&place.path("drafts"))?;
    note(&place, None)?;
    if json {
        print_json(&serde_json::json!({"discarded": place.name}));
    } else {
        println!("The draft of {} is discarded.", place.name);
    }
    Ok(())
}
