//! `record`: makes a case out of a past run. What was secret is masked in the journal already.

use serde_json::{Map, Value as Json, json};

use super::segment;
use crate::api::Api;
use crate::{Done, Failure};

pub fn record(api: &Api, id: &str, name: Option<&str>) -> Done {
    let id = match id {
        "last" => {
            let runs = api.get("/runs?limit=1")?;
            let newest = runs["runs"][0]["id"].as_str().map(str::to_owned);
            newest.ok_or_else(|| Failure::Told("the journal has no runs yet".into()))?
        }
        id => id.to_owned(),
    };
    let run = api.get(&format!("/runs/{}", segment(&id)))?;
    let text = |json: &Json| json.as_str().unwrap_or_default().to_owned();
    let mut cut = false;
    let mut stubs: Map<String, Json> = Map::new();
    let mut steps = Map::new();
    let empty = Vec::new();
    let sheet = run["sheet"].as_array().unwrap_or(&empty);
    for step in run["steps"].as_array().unwrap_or(&empty) {
        let number = text(&step["number"]);
        if step["items"].is_null() && !number.is_empty() {
            steps.insert(number.clone(), step["state"].clone());
        }
        let paragraph = sheet.iter().find(|p| p["number"] == step["number"]);
        let heading = |key: &str| match paragraph {
            Some(paragraph) => text(&paragraph[key]),
            None => text(&step[key]),
        };
        let (kind, title) = (heading("kind"), heading("title"));
        let outcome = &step["outcome"];
        cut |= outcome.get("$cut").is_some();
        let answer = match (kind.as_str(), step["failure"]["kind"].as_str()) {
            ("call", Some("status")) => {
                json!({"status": step["failure"]["status"], "body": step["failure"]["body"]})
            }
            ("call", Some(kind)) if outcome.is_null() => json!({"fails": kind, "detail": step["failure"]["detail"]}),
            ("call", _) if !outcome.is_null() => {
                let mut answer = json!({"body": outcome["body"]});
                if outcome["status"] != 200 {
                    answer["status"] = outcome["status"].clone();
                }
                answer
            }
            ("sql", Some(kind)) => json!({"fails": kind, "detail": step["failure"]["detail"]}),
            ("sql", None) => match outcome.as_array() {
                Some(several) => Json::Array(several.clone()),
                None => outcome.clone(),
            },
            _ => continue,
        };
        let name = match kind.as_str() {
            "sql" => format!("sql.{}", title.split_whitespace().next().unwrap_or_default()),
            _ => title,
        };
        let several = if answer.is_array() { answer.as_array().cloned().unwrap_or_default() } else { vec![answer] };
        let list = stubs.entry(name).or_insert_with(|| json!([]));
        if let Some(list) = list.as_array_mut() {
            for mut one in several {
                if one["id"].is_null()
                    && let Some(one) = one.as_object_mut()
                {
                    one.remove("id");
                }
                list.push(one);
            }
        }
    }
    println!("cases: {}", text(&run["workflow"]));
    println!("examples:");
    let name = name.map_or_else(|| format!("run {id}"), str::to_owned);
    println!("  - name: {}", Json::from(name));
    println!("    clock: {}", text(&run["started"]));
    println!("    input: {}", run["input"]);
    if !stubs.is_empty() {
        println!("    stubs:");
        for (name, answers) in &stubs {
            match answers.as_array().map(Vec::as_slice) {
                Some([one]) => println!("      {name}: {one}"),
                Some(several) => {
                    println!("      {name}:");
                    several.iter().for_each(|one| println!("        - {one}"));
                }
                None => {}
            }
        }
    }
    println!("    expect:");
    println!("      state: {}", text(&run["state"]));
    if !run["status"].is_null() {
        let mut reply = json!({"status": run["status"]});
        cut |= run["reply"].get("$cut").is_some();
        if !run["reply"].is_null() && run["reply"].get("$cut").is_none() {
            reply["body"] = run["reply"].clone();
        }
        println!("      reply: {reply}");
    }
    println!("      steps: {}", Json::Object(steps));
    if cut {
        eprintln!("some values were too long for the journal and are cut; complete them where `$cut` stands");
    }
    Ok(())
}
