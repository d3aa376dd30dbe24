//! `log`.

use kanzlei_api::log::{LogLevel, NewLogLevel};

use super::print_json;
use crate::api::Api;
use crate::{Done, draw};

/// Shows the level of the log, or changes it.
pub fn level(api: &Api, level: Option<String>, span: Option<String>, json: bool) -> Done {
    if let Some(level) = level {
        api.put("/log", &NewLogLevel { level, span })?;
    }
    let found: LogLevel = api.get("/log")?;
    if json {
        print_json(&found);
        return Ok(());
    }
    let left = found.left_us.map(|left| format!(" for {} more", draw::took(left))).unwrap_or_default();
    println!("{}{left}", draw::bold(&found.level));
    if found.level != found.configured {
        println!("{}", draw::dim(&format!("the settings say {}", found.configured)));
    }
    Ok(())
}
