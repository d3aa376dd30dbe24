//! `service sample`: describes a service from answers that it gave.

use kanzlei_analysis::sample::{Seen, openapi_of};
use kanzlei_api::Json;
use kanzlei_api::runs::{Run, RunFilter, RunPage};
use kanzlei_api::services::Service;
use kanzlei_lang::confidential::MASK;

use super::trial::text_of;
use super::{listing, segment};
use crate::api::Api;
use crate::args::Sample;
use crate::{Done, Error};

/// Prints an OpenAPI document of the samples.
pub fn describe(api: impl Fn() -> Result<Api, Error>, args: &Sample) -> Done {
    let seen = match args.recorded {
        true => recorded(&api()?, args)?,
        false => given(args)?,
    };
    let document = openapi_of(&args.service, &seen);
    println!("{}", serde_json::to_string_pretty(&document).unwrap_or_default());
    eprintln!("Write it beside the document of the service, and name it there: openapi: {}.openapi.json", args.service);
    Ok(())
}

fn given(args: &Sample) -> Result<Vec<Seen>, Error> {
    let call = args.call.as_deref().unwrap_or_default();
    let usage =
        || Error::Usage(format!("`{call}` is no call; write a method and a path, such as `GET /now/{{place}}`"));
    let (method, path) = call.split_once(' ').ok_or_else(usage)?;
    let path = path.trim();
    if !path.starts_with('/') || !method.bytes().all(|byte| byte.is_ascii_uppercase()) {
        return Err(usage());
    }
    let seen = args.files.iter().map(|file| {
        let body = serde_json::from_str(&text_of(file)?)
            .map_err(|error| Error::Usage(format!("{} is no JSON: {error}", file.display())))?;
        Ok(Seen { method: method.to_owned(), path: path.to_owned(), status: args.status, body })
    });
    seen.collect()
}

/// The answers to calls by address that runs recorded whole.
fn recorded(api: &Api, args: &Sample) -> Result<Vec<Seen>, Error> {
    let service: Service = api.get(&format!("/services/{}", segment(&args.service)))?;
    let filter = RunFilter { limit: Some(args.last), ..RunFilter::default() };
    let page: RunPage = api.get(&listing("runs", &filter))?;
    let (mut seen, mut left_out) = (Vec::new(), 0);
    for line in &page.runs {
        let run: Run = api.get(&format!("/runs/{}", line.id))?;
        for step in run.steps.iter().filter(|step| step.sent["service"] == args.service.as_str()) {
            let failed = step.failure.as_ref();
            let status = step.outcome["status"].as_u64().or(failed.and_then(|failure| failure.status).map(u64::from));
            let body = failed.map_or(&step.outcome["body"], |failure| &failure.body);
            let title = run.sheet.iter().find(|paragraph| paragraph.number == step.number);
            let call = title.and_then(|paragraph| called(&paragraph.title, &service.base));
            let (Some(status), Some((method, path))) = (status.and_then(|status| status.try_into().ok()), call) else {
                continue;
            };
            match is_whole(&step.outcome) && is_whole(body) {
                true => seen.push(Seen { method, path, status, body: body.clone() }),
                false => left_out += 1,
            }
        }
    }
    if left_out > 0 {
        eprintln!("{left_out} answers were masked or cut in the journal and are left out");
    }
    if seen.is_empty() {
        let detail = "among these runs is no call by address of it; read more with --last, or give answers as files";
        return Err(Error::Failed(format!("nothing is recorded of `{}`: {detail}", args.service)));
    }
    Ok(seen)
}

/// Method and path below the base, for `GET http://weather/now/{place}{?units}`.
fn called(title: &str, base: &str) -> Option<(String, String)> {
    let (method, address) = title.split_once(' ')?;
    let below = address.strip_prefix(base.trim_end_matches('/'))?;
    let end = ["{?", "{&", "?"].iter().filter_map(|mark| below.find(mark)).min().unwrap_or(below.len());
    Some((method.to_owned(), below[..end].to_owned()))
}

/// Whether nothing of a value is masked or cut.
fn is_whole(value: &Json) -> bool {
    let text = value.to_string();
    !text.contains(MASK) && !text.contains("\"$cut\"")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_path_of_a_call_lies_below_the_base() {
        for (title, path) in [
            ("GET http://w/api/now/{place}{?units}", Some("/now/{place}")),
            ("GET http://w/api/now?x=1", Some("/now")),
            ("POST http://w/api/orders", Some("/orders")),
            ("GET http://v/now", None),
            ("registry.getVessel", None),
        ] {
            assert_eq!(called(title, "http://w/api/").map(|(_, path)| path).as_deref(), path, "{title}");
        }
    }
}
