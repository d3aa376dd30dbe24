//! `preview`: addresses at which drafts can be called before they are deployed.

use kanzlei_api::drafts::DraftName;
use kanzlei_api::previews::{NewPreview, Preview, Previews};

use super::{print_json, segment};
use crate::api::Api;
use crate::args;
use crate::{Done, Error, draw};

/// Opens, lists or closes addresses.
pub fn run(api: &Api, args: &args::Preview, json: bool) -> Done {
    match (&args.off, args.names.is_empty()) {
        (Some(which), _) => close(api, which, json),
        (None, true) => list(api, json),
        (None, false) => open(api, args, json),
    }
}

fn open(api: &Api, args: &args::Preview, json: bool) -> Done {
    let stubs = args.stub.as_ref().map(|path| {
        std::fs::read_to_string(path).map_err(|error| Error::Usage(format!("{}: {error}", path.display())))
    });
    let named = |name: &String| {
        let (kind, name) = name.split_once('/').unwrap_or(("workflow", name));
        DraftName { kind: kind.to_owned(), name: name.to_owned() }
    };
    let asked = NewPreview {
        drafts: args.names.iter().map(named).collect(),
        hours: Some(args.hours),
        live: args.live,
        real: args.real.clone(),
        simulated: args.simulate.clone(),
        stubs: stubs.transpose()?.unwrap_or_default(),
    };
    let opened: Preview = api.post("/previews", &asked)?;
    if json {
        print_json(&opened);
        return Ok(());
    }
    print(&opened);
    println!("{}", draw::dim(&format!("close it: kanzlei preview --off {}", opened.id)));
    Ok(())
}

fn list(api: &Api, json: bool) -> Done {
    let answer: Previews = api.get("/previews")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.previews.is_empty() {
        println!("No drafts can be called. Give one an address with: kanzlei preview NAME");
    }
    for (index, preview) in answer.previews.iter().enumerate() {
        if index > 0 {
            println!();
        }
        print(preview);
        println!(
            "  {}",
            draw::dim(&format!("by {}, since {} UTC · {}", preview.operator, draw::time(preview.created), preview.id))
        );
    }
    Ok(())
}

fn print(preview: &Preview) {
    let names: Vec<String> = preview.drafts.iter().map(shown).collect();
    println!("{} can be called until {} UTC at", draw::bold(&names.join(", ")), draw::time(preview.expires));
    println!("  {}", preview.url);
    if let Some(refused) = &preview.refused {
        println!("  {}", draw::paint("31", &format!("not now: {refused}")));
    }
    for endpoint in &preview.endpoints {
        println!("  {}", draw::dim(&endpoint.curl));
    }
}

fn shown(draft: &DraftName) -> String {
    if draft.kind == "workflow" { draft.name.clone() } else { format!("{}/{}", draft.kind, draft.name) }
}

fn close(api: &Api, which: &str, json: bool) -> Done {
    let all: Previews = api.get("/previews")?;
    let is = |preview: &&Preview| {
        preview.id.to_string() == which
            || preview.url == which
            || preview.drafts.iter().any(|draft| shown(draft) == which)
    };
    let found: Vec<&Preview> = all.previews.iter().filter(is).collect();
    match found.as_slice() {
        [] => Err(Error::Usage(format!("no address is open for `{which}`; `kanzlei preview` lists those that are"))),
        [one] => {
            api.delete(&format!("/previews/{}", segment(&one.id.to_string())))?;
            if json {
                print_json(&serde_json::json!({"closed": one.id}));
            } else {
                println!("The address of {} is closed.", one.drafts.iter().map(shown).collect::<Vec<_>>().join(", "));
            }
            Ok(())
        }
        several => {
            let ids: Vec<String> = several.iter().map(|one| one.id.to_string()).collect();
            Err(Error::Usage(format!(
                "several addresses are open for `{which}`; name one by its id: {}",
                ids.join(", ")
            )))
        }
    }
}
