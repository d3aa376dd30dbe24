//! Webhooks in the OpenAPI document: messages of any shape, and how their sender proves that they are its own.

use serde_json::{Map, Value as Json, json};

use super::PROBLEM;
use crate::plan::{Endpoint, Plan, Webhook};
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::workflow::Answer;

/// The operation at which messages arrive.
pub(super) fn operation(plan: &Plan, endpoint: &Endpoint, webhook: &Webhook, id: String, run_header: &str) -> Json {
    let problem = |why: &str| json!({"description": why, "content": {PROBLEM: {"schema": {"$ref": "#/components/schemas/Problem"}}}});
    if !webhook.accepts(&endpoint.method) {
        return json!({
            "operationId": id,
            "summary": "Returns a value of the query to a sender that verifies the address",
            "responses": {
                "200": {"description": "The value", "content": {"text/plain": {"schema": {"type": "string"}}}},
                "400": problem("The query has no such value"),
            },
        });
    }
    let mut responses: Map<String, Json> = match endpoint.answer {
        Answer::Now => super::responses(plan, endpoint, run_header).as_object().cloned().unwrap_or_default(),
        Answer::Later | Answer::Either => {
            let kept = json!({"type": "object", "required": ["delivery"], "properties": {"delivery": {"type": "string", "format": "uuid"}}});
            let accepted = json!({
                "description": "The message is kept and will be processed; a repetition is answered like the first",
                "content": {"application/json": {"schema": kept}},
            });
            [("202".to_owned(), accepted)].into_iter().collect()
        }
    };
    responses.insert("401".into(), problem("The message is not proven"));
    responses.insert("413".into(), problem("The body is too large"));
    responses.insert("422".into(), problem("The workflow does not accept the message"));
    responses.insert("503".into(), problem("Nothing was kept: send it again"));
    if webhook.networks.is_some() {
        responses.insert("403".into(), problem("The sender is not allowed"));
    }
    let mut out = json!({
        "operationId": id,
        "responses": responses,
        "requestBody": {"required": true, "content": {"application/json": {"schema": {}}, "*/*": {"schema": {}}}},
    });
    if !plan.about.is_empty() {
        out["summary"] = plan.about.as_str().into();
    }
    if let Some((name, _)) = scheme(&webhook.proof) {
        out["security"] = json!([{name: []}]);
    }
    out
}

/// The security scheme of a proof, with its name.
pub(super) fn scheme(proof: &Proof) -> Option<(String, Json)> {
    let in_header =
        |name: &str, about: &str| json!({"type": "apiKey", "in": "header", "name": name, "description": about});
    Some(match proof {
        Proof::None => return None,
        Proof::Standard(_) => {
            ("webhook-signature".into(), in_header("webhook-signature", "A signature by Standard Webhooks."))
        }
        Proof::Hmac(scheme) => (
            format!("signature-{}", scheme.header.to_lowercase()),
            in_header(&scheme.header, "A keyed hash of the message."),
        ),
        Proof::Jwt(issuer) => {
            (format!("issuer-{}", issuer.text), json!({"type": "http", "scheme": "bearer", "bearerFormat": "JWT"}))
        }
        Proof::Basic(_) => ("sender-basic".into(), json!({"type": "http", "scheme": "basic"})),
        Proof::Bearer(_) => ("sender-bearer".into(), json!({"type": "http", "scheme": "bearer"})),
        Proof::Query { name, .. } => {
            (format!("query-{}", name.to_lowercase()), json!({"type": "apiKey", "in": "query", "name": name}))
        }
    })
}
