//! `settings`: what documents declare and installations set.

use std::collections::BTreeMap;

use kanzlei_api::settings::Settings;
use kanzlei_compiler::check::{Bundle, check};
use serde_json::Value as Json;

use super::{documents, print_json};
use crate::api::Api;
use crate::{Done, Error, draw};

/// Lists settings with the values in force, and who uses them.
pub fn list(api: &Api, json: bool) -> Done {
    let answer: Settings = api.get("/settings")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.settings.is_empty() {
        println!("No settings. A document declares them:\n");
        println!("settings: office\nvalues:\n  free_nights: {{type: integer, default: 1}}");
        return Ok(());
    }
    let rows = answer.settings.iter().map(|setting| {
        let set = !setting.set.is_null();
        let value = if set { &setting.set } else { &setting.default };
        let from = match (set, setting.default.is_null()) {
            (true, true) => "set".to_owned(),
            (true, false) => format!("set; default {}", setting.default),
            (false, _) => "default".into(),
        };
        let users = if setting.users.is_empty() { "nothing".to_owned() } else { setting.users.join(", ") };
        vec![setting.name.clone(), value.to_string(), from, setting.of.clone(), users, setting.about.clone()]
    });
    draw::table(&["setting", "value", "from", "type", "used by", "about"], rows);
    Ok(())
}

/// Sets a value, or removes it.
pub fn set(api: &Api, name: &str, value: Option<&str>, json: bool) -> Done {
    let answer: Settings = api.get("/settings")?;
    let known = answer.settings.iter().find(|setting| setting.name == name);
    if value.is_none() && known.is_some_and(|known| known.set.is_null()) {
        return Err(Error::Usage(format!("this installation has not set {name}; its default is in force")));
    }
    let value = value.map_or(Json::Null, |value| typed(known.map(|known| &known.schema), value));
    documents::deploy_settings(api, [(name.to_owned(), value.clone())].into(), json)?;
    if !json {
        match (value, known) {
            (Json::Null, Some(known)) => println!("{name} is {} again, the default", known.default),
            (value, _) => println!("{name} is {value}"),
        }
    }
    Ok(())
}

/// Settings from `NAME=VALUE`, by the types that documents declare, those of a deploy first.
pub fn given(api: &Api, bundle: &Bundle, pairs: &[String]) -> Result<BTreeMap<String, Json>, Error> {
    let mut given = BTreeMap::new();
    if pairs.is_empty() {
        return Ok(given);
    }
    let own = check(bundle).settings.declared;
    let live: Settings = api.get("/settings")?;
    for pair in pairs {
        let Some((name, value)) = pair.split_once('=') else {
            return Err(Error::Usage(format!("`{pair}` is not NAME=VALUE")));
        };
        let schema = own.get(name).map(|setting| &setting.schema);
        let live = live.settings.iter().find(|setting| setting.name == name).map(|setting| &setting.schema);
        given.insert(name.to_owned(), typed(schema.or(live), value));
    }
    Ok(given)
}

/// A value as the schema wants it: text stays text, anything else is read as JSON.
pub fn typed(schema: Option<&Json>, value: &str) -> Json {
    match schema.is_some_and(|schema| schema["type"] == "string") {
        true => value.into(),
        false => serde_json::from_str(value).unwrap_or_else(|_| value.into()),
    }
}
