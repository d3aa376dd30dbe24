//! `databases`: which databases workflows can name, and preparing one for steps that jobs perform once.

use kanzlei_api::databases::{Database, Databases, Description};

use super::{print_json, segment};
use crate::api::Api;
use crate::{Done, Error, draw};

/// Lists databases and what they lack.
pub fn list(api: &Api, json: bool) -> Done {
    let answer: Databases = api.get("/databases")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.databases.is_empty() {
        println!("No databases. Name one in the service's configuration: databases.NAME.url");
        return Ok(());
    }
    let rows = answer.databases.iter().map(|database| {
        let prepared = if database.prepared { "yes".to_owned() } else { database.missing.join("; ") };
        vec![database.name.clone(), prepared]
    });
    draw::table(&["database", "prepared for jobs"], rows);
    if let Some(other) = answer.databases.iter().find(|database| !database.prepared) {
        println!("{}", draw::dim(&format!("prepare one: kanzlei databases prepare {}", other.name)));
    }
    Ok(())
}

/// Prints the tables of a database as a document.
pub fn describe(api: &Api, name: &str, json: bool) -> Done {
    let found: Description = api.get(&format!("/databases/{}/description", segment(name)))?;
    if json {
        print_json(&found);
    } else {
        print!("{}", found.document);
        eprintln!("{} tables; keep this beside the documents, as {name}.database.yaml", found.tables);
    }
    Ok(())
}

/// Prints the statement that prepares a database, or has the service run it.
pub fn prepare(api: &Api, name: &str, apply: bool, json: bool) -> Done {
    let path = format!("/databases/{}", segment(name));
    let database: Database = if apply { api.act(&format!("{path}/prepare"))? } else { api.get(&path)? };
    if json {
        print_json(&database);
        return if database.prepared || !apply { Ok(()) } else { Err(Error::Bad) };
    }
    match (database.prepared, apply) {
        (true, true) => println!("{name} is prepared: jobs perform writing steps once in it."),
        (true, false) => eprintln!("{name} is prepared already; this is the statement that did it."),
        (false, true) => {
            println!("{name} still lacks something:");
            database.missing.iter().for_each(|missing| println!("  {missing}"));
            return Err(Error::Bad);
        }
        (false, false) => eprintln!(
            "An administrator of {name} runs this, or the service does with --apply. Its user needs SELECT, INSERT, UPDATE and DELETE on the table."
        ),
    }
    if !apply {
        println!("{}", database.statement);
    }
    Ok(())
}
