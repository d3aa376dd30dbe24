//! What the programs are made of: a bill of materials in CycloneDX 1.5, with the licences, and versions that are there twice.
//!
//! Crates are those that the service and the client are linked from, as Cargo resolves them, with the digests of `Cargo.lock`; packages of
//! npm are those that the console's sources import, with what they need.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use serde_json::{Value, json};

use crate::{Done, Fault, bins_folder, root};

/// Licences that a component may have.
const ALLOWED: &[&str] = &[
    "0BSD",
    "Apache-2.0",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "BSL-1.0",
    "CC0-1.0",
    "CDLA-Permissive-2.0",
    "ISC",
    "LLVM-exception",
    "MIT",
    "MIT-0",
    "MPL-2.0",
    "OFL-1.1",
    "Unicode-3.0",
    "Unlicense",
    "Zlib",
    "bzip2-1.0.6",
];

/// A component.
#[derive(Clone, Debug)]
struct Component {
    name: String,
    version: String,
    licence: String,
    /// Package URL.
    purl: String,
    sha256: Option<String>,
    needs: BTreeSet<String>,
}

/// Writes the bill of materials and prints a summary; fails for a licence that is not allowed.
pub fn sbom() -> Done {
    let out = bins_folder()?.join("package");
    fs::create_dir_all(&out)?;
    let path = write(&out)?;
    summary(&components()?);
    println!("{}", path.display());
    Ok(ExitCode::SUCCESS)
}

/// Writes the bill of materials into a folder.
pub fn write(out: &Path) -> Result<PathBuf, Fault> {
    let components = components()?;
    let refused: Vec<String> = components
        .iter()
        .filter(|one| !is_allowed(&one.licence))
        .map(|one| format!("{} {} ({})", one.name, one.version, one.licence))
        .collect();
    if !refused.is_empty() {
        return Err(format!("licences that are not allowed: {}", refused.join(", ")).into());
    }
    let path = out.join("kanzlei.cdx.json");
    fs::write(&path, serde_json::to_string_pretty(&document(&components))? + "\n")?;
    Ok(path)
}

/// All components, by their package URLs.
fn components() -> Result<Vec<Component>, Fault> {
    let mut components = crates()?;
    components.extend(packages()?);
    components.sort_by(|a, b| a.purl.cmp(&b.purl));
    Ok(components)
}

/// What Cargo resolves for the service and the client.
fn crates() -> Result<Vec<Component>, Fault> {
    let said = kanzlei_harness::process::cargo()
        .args(["metadata", "--format-version", "1", "--locked", "--all-features"])
        .current_dir(root())
        .output()?;
    if !said.status.success() {
        return Err(format!("cargo metadata: {}", String::from_utf8_lossy(&said.stderr)).into());
    }
    let metadata: Value = serde_json::from_slice(&said.stdout)?;
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let list = |value: &Value| value.as_array().cloned().unwrap_or_default();
    let packages: HashMap<String, Value> =
        list(&metadata["packages"]).into_iter().map(|package| (text(&package["id"]), package)).collect();
    let needs: HashMap<String, Vec<String>> = list(&metadata["resolve"]["nodes"])
        .iter()
        .map(|node| {
            let linked = |dep: &&Value| list(&dep["dep_kinds"]).iter().any(|kind| kind["kind"].is_null());
            let deps = list(&node["deps"]);
            (text(&node["id"]), deps.iter().filter(linked).map(|dep| text(&dep["pkg"])).collect())
        })
        .collect();
    let own = |package: &Value| package["source"].is_null();
    let roots = packages
        .iter()
        .filter(|(_, package)| own(package) && matches!(package["name"].as_str(), Some("kanzleid" | "kanzlei")));
    let mut open: Vec<String> = roots.map(|(id, _)| id.clone()).collect();
    let mut linked = BTreeSet::new();
    while let Some(id) = open.pop() {
        if linked.insert(id.clone()) {
            open.extend(needs.get(&id).cloned().unwrap_or_default());
        }
    }
    let digests = digests()?;
    let purl = |package: &Value| format!("pkg:cargo/{}@{}", text(&package["name"]), text(&package["version"]));
    let component = |id: &String| {
        let package = packages.get(id)?;
        let (name, version) = (text(&package["name"]), text(&package["version"]));
        let deps = needs.get(id).into_iter().flatten().filter_map(|dep| Some(purl(packages.get(dep)?)));
        Some(Component {
            sha256: digests.get(&(name.clone(), version.clone())).cloned(),
            licence: package["license"].as_str().unwrap_or("none").to_owned(),
            purl: purl(package),
            needs: deps.collect(),
            name,
            version,
        })
    };
    // The project's own crates are the application.
    let foreign = linked.iter().filter(|id| packages.get(*id).is_some_and(|package| !own(package)));
    Ok(foreign.filter_map(component).collect())
}

/// The digests of `Cargo.lock`, by name and version.
fn digests() -> Result<HashMap<(String, String), String>, Fault> {
    let lock = fs::read_to_string(root().join("Cargo.lock"))?;
    let value = |block: &str, key: &str| {
        let line = block.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix(" = \""))?;
        Some(line.trim_end_matches('"').to_owned())
    };
    let blocks = lock.split("[[package]]").skip(1);
    Ok(blocks
        .filter_map(|block| Some(((value(block, "name")?, value(block, "version")?), value(block, "checksum")?)))
        .collect())
}

/// What the console is built from: packages that its sources import, and what those need.
fn packages() -> Result<Vec<Component>, Fault> {
    let lock: Value = serde_json::from_str(&fs::read_to_string(root().join("console/package-lock.json"))?)?;
    let mut open: Vec<String> = imported(&root().join("console/src"))?.into_iter().collect();
    let mut used: BTreeMap<String, Component> = BTreeMap::new();
    while let Some(name) = open.pop() {
        let package = &lock["packages"][format!("node_modules/{name}")];
        if used.contains_key(&name) || package.is_null() {
            continue;
        }
        let version = package["version"].as_str().unwrap_or_default();
        let needs: Vec<String> =
            package["dependencies"].as_object().map(|all| all.keys().cloned().collect()).unwrap_or_default();
        open.extend(needs);
        let component = Component {
            version: version.to_owned(),
            licence: package["license"].as_str().unwrap_or("none").to_owned(),
            purl: format!("pkg:npm/{}@{version}", name.replace('@', "%40")),
            sha256: None,
            needs: BTreeSet::new(),
            name: name.clone(),
        };
        used.insert(name, component);
    }
    Ok(used.into_values().collect())
}

/// Names of packages that sources below a folder import.
fn imported(folder: &Path) -> Result<BTreeSet<String>, Fault> {
    let mut names = BTreeSet::new();
    for path in fs::read_dir(folder)?.filter_map(|entry| Some(entry.ok()?.path())) {
        if path.is_dir() {
            names.extend(imported(&path)?);
            continue;
        }
        let test = path.to_string_lossy().contains(".test.");
        if test || !path.extension().is_some_and(|kind| kind == "ts" || kind == "svelte") {
            continue;
        }
        let text = fs::read_to_string(&path)?;
        let quoted =
            text.lines().filter(|line| line.contains("import") || line.contains(" from ")).filter_map(|line| {
                let (_, rest) = line.rsplit_once("from '").or_else(|| line.split_once("import '"))?;
                rest.split('\'').next()
            });
        names.extend(quoted.filter(|name| !name.starts_with('.')).map(|name| {
            let parts = if name.starts_with('@') { 2 } else { 1 };
            name.split('/').take(parts).collect::<Vec<_>>().join("/")
        }));
    }
    Ok(names)
}

/// Whether a licence expression (SPDX) can be met by allowed licences alone.
fn is_allowed(expression: &str) -> bool {
    let spaced = expression.replace('(', " ( ").replace(')', " ) ").replace('/', " OR ");
    let mut words = spaced.split_whitespace().peekable();
    let allowed = any(&mut words);
    allowed && words.peek().is_none()
}

type Words<'w> = std::iter::Peekable<std::str::SplitWhitespace<'w>>;

/// Alternatives; `AND` binds closer.
fn any(words: &mut Words) -> bool {
    let mut allowed = all(words);
    while words.next_if_eq(&"OR").is_some() {
        // Both sides are read, whatever the first is.
        allowed |= all(words);
    }
    allowed
}

fn all(words: &mut Words) -> bool {
    let mut allowed = one(words);
    while words.next_if(|word| matches!(*word, "AND" | "WITH")).is_some() {
        allowed &= one(words);
    }
    allowed
}

fn one(words: &mut Words) -> bool {
    match words.next() {
        Some("(") => {
            let allowed = any(words);
            words.next_if_eq(&")").is_some() && allowed
        }
        Some(word) => ALLOWED.contains(&word),
        None => false,
    }
}

fn document(components: &[Component]) -> Value {
    let shown = |one: &Component| {
        let mut shown = json!({
            "type": "library",
            "bom-ref": one.purl,
            "name": one.name,
            "version": one.version,
            "purl": one.purl,
            "licenses": [{"expression": one.licence.replace('/', " OR ")}],
        });
        if let Some(digest) = &one.sha256 {
            shown["hashes"] = json!([{"alg": "SHA-256", "content": digest}]);
        }
        shown
    };
    let needs = |one: &Component| json!({"ref": one.purl, "dependsOn": one.needs});
    let version = env!("CARGO_PKG_VERSION");
    json!({
        "bomFormat": "CycloneDX",
        "specVersion": "1.5",
        "version": 1,
        "metadata": {"component": {"type": "application", "bom-ref": "kanzlei", "name": "kanzlei", "version": version}},
        "components": components.iter().map(shown).collect::<Vec<_>>(),
        "dependencies": components.iter().map(needs).collect::<Vec<_>>(),
    })
}

fn summary(components: &[Component]) {
    let mut licences: BTreeMap<&str, usize> = BTreeMap::new();
    let mut versions: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for one in components {
        *licences.entry(&one.licence).or_default() += 1;
        versions.entry(&one.name).or_default().insert(&one.version);
    }
    println!("{} components", components.len());
    for (licence, count) in licences {
        println!("{count:>5} {licence}");
    }
    for (name, versions) in versions.iter().filter(|(_, versions)| versions.len() > 1) {
        println!("twice: {name} {}", versions.iter().copied().collect::<Vec<_>>().join(", "));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn licences_are_read_as_expressions() {
        for (expression, allowed) in [
            ("MIT", true),
            ("MIT OR GPL-3.0", true),
            ("MIT/Apache-2.0", true),
            ("(MIT OR Apache-2.0) AND Unicode-3.0", true),
            ("Apache-2.0 WITH LLVM-exception", true),
            ("GPL-3.0-only", false),
            ("MIT AND GPL-3.0", false),
            ("(MIT OR Apache-2.0) AND GPL-3.0", false),
            ("(MIT OR GPL-3.0) AND ISC", true),
            ("(MIT", false),
            ("none", false),
            ("", false),
        ] {
            assert_eq!(is_allowed(expression), allowed, "{expression}");
        }
    }
}
