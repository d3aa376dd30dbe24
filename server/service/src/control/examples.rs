//! Worked examples: found by need, shown with all that they need.

use actix_web::HttpResponse;
use actix_web::web::{Data, Path, Query};
use kanzlei_api::examples::{Example, ExampleFile, ExampleLine, ExampleName, ExampleQuery, Examples};
use kanzlei_lang::document::reader::is_document_name;

use super::deploys::name_of;
use crate::App;
use crate::error::{Error, Result};

/// `GET /examples`: examples for a need, the best first.
pub async fn list(query: Query<ExampleQuery>) -> HttpResponse {
    let need = query.into_inner().need.unwrap_or_default();
    let line = |one: &kanzlei_gallery::Example| ExampleLine {
        name: one.name.to_owned(),
        about: one.about.to_owned(),
        kinds: one.kinds(),
    };
    HttpResponse::Ok().json(Examples { examples: kanzlei_gallery::search(&need).into_iter().map(line).collect() })
}

/// `GET /examples/{name}`: an example with its texts, under another name where one is asked for.
pub async fn show(app: Data<App>, name: Path<String>, query: Query<ExampleName>) -> Result<HttpResponse> {
    let Some(example) = kanzlei_gallery::example(&name) else {
        let names = kanzlei_gallery::EXAMPLES.iter().map(|example| example.name);
        let near = kanzlei_lang::suggest::nearest(&name, names);
        let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        return Err(Error::not_found(format!("there is no example `{name}`{hint}")));
    };
    let to = query.into_inner().name.unwrap_or_else(|| example.name.to_owned());
    if !is_document_name(&to) {
        let detail = format!("`{to}` cannot be the name of a workflow; lower-case letters, digits and hyphens");
        return Err(Error::problem(422, "Not a name", detail));
    }
    let (workflow, cases) = example.renamed(&to);
    let live = app.live.load();
    let own = [format!("workflows/{}.yaml", example.name), format!("cases/{}.yaml", example.name)];
    let needs = example.files().into_iter().filter(|(path, _)| own.iter().all(|known| known != path));
    let needs = needs.map(|(path, text)| {
        let named = name_of(text);
        let is_live = named.as_ref().is_some_and(|(kind, name)| {
            live.documents.iter().any(|document| document.kind == *kind && document.name == *name)
        });
        let (kind, name) = named.map(|(kind, name)| (kind.to_owned(), name)).unzip();
        ExampleFile { path: path.to_owned(), text: text.to_owned(), kind, name, live: is_live }
    });
    Ok(HttpResponse::Ok().json(Example {
        name: example.name.to_owned(),
        about: example.about.to_owned(),
        kinds: example.kinds(),
        workflow,
        cases,
        needs: needs.collect(),
    }))
}
