//! `coming`.

use kanzlei_api::coming::{Coming, ComingKind, ComingQuery};

use super::{listing, print_json};
use crate::api::Api;
use crate::{Done, draw};

/// Lists what is to come.
pub fn list(api: &Api, minutes: u32, json: bool) -> Done {
    let answer: Coming = api.get(&listing("coming", &ComingQuery { minutes: Some(minutes) }))?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.coming.is_empty() {
        println!("Nothing until {}.", draw::utc(answer.until));
        return Ok(());
    }
    let rows = answer.coming.iter().map(|line| {
        let what = match line.kind {
            ComingKind::Timetable => "timetable",
            ComingKind::Due => "due",
            ComingKind::Pause => "pause ends",
            ComingKind::Callback => "wait is up",
            ComingKind::Retry => "retry",
        };
        vec![
            draw::time(line.first),
            what.to_owned(),
            draw::bold(&line.workflow),
            line.lane.clone(),
            line.count.to_string(),
        ]
    });
    draw::table(&["from (UTC)", "what", "workflow", "lane", "jobs"], rows);
    let more = if answer.more { "; there is more, look less far" } else { "" };
    println!(
        "{}",
        draw::dim(&format!("until {}, {} at a time{more}", draw::utc(answer.until), draw::took(answer.slot_us)))
    );
    Ok(())
}
