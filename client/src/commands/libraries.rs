//! `libraries`: live libraries, with what they share and who uses them.

use kanzlei_api::libraries::Libraries;

use super::{print_json, segment};
use crate::api::Api;
use crate::{Done, draw};

/// Lists libraries.
pub fn list(api: &Api, json: bool) -> Done {
    let answer: Libraries = api.get("/libraries")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.libraries.is_empty() {
        println!("There are no libraries. One is a document: `library: NAME` with functions, types or groups of steps");
        return Ok(());
    }
    for library in &answer.libraries {
        let version = library.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
        println!("{}{version}  {}", draw::bold(&library.name), library.about);
        for (what, names) in [
            ("functions", &library.functions),
            ("types", &library.types),
            ("groups", &library.groups),
            ("uses", &library.uses),
            ("used by", &library.workflows),
        ] {
            if !names.is_empty() {
                println!("  {} {}", draw::dim(&format!("{what:9}")), names.join(", "));
            }
        }
        println!("  {} {} since {}", draw::dim("revision "), library.revision, draw::time(library.since));
    }
    Ok(())
}

/// Retires a library that nothing uses.
pub fn retire(api: &Api, name: &str) -> Done {
    api.delete(&format!("/libraries/{}", segment(name)))?;
    println!("The library {name} is retired; its revisions are kept.");
    Ok(())
}
