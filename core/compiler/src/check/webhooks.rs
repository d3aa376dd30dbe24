//! Webhooks: their secrets, and the expressions over `delivery`.

use std::sync::Arc;
use std::time::Duration;

use super::jobs::Outside;
use super::steps::Walk;
use super::{entries, services};
use crate::example;
use crate::input::{EndpointInput, From};
use crate::plan::{self, Maker};
use kanzlei_lang::document::access::Access;
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_lang::document::webhook::{REMEMBERED, Webhook};
use kanzlei_lang::document::workflow::Property;
use kanzlei_lang::expr::Scope;
use kanzlei_lang::expr::template::Template;
use serde_json::Value as Json;

/// The methods of a webhook, and whether messages arrive by each; GET is there for what is echoed.
pub(super) fn methods(webhook: &Webhook) -> Vec<(&str, bool)> {
    let mut methods: Vec<(&str, bool)> = webhook.methods.iter().map(|method| (method.as_str(), true)).collect();
    methods.extend(webhook.echo.is_some().then_some(("GET", false)));
    methods
}

/// What tells messages of Standard Webhooks apart, as the standard says.
fn by_id() -> (Option<Maker>, Duration) {
    let mut scope = Scope::default();
    scope.define("delivery");
    (Template::compile("${delivery.headers['webhook-id']}", &scope).ok().map(Maker::Text), REMEMBERED)
}

/// A body from which the inputs can be taken: a sample of each at the place that `send` names.
fn example(webhook: &Webhook, inputs: &[Property]) -> Json {
    let sample = |name: &str| inputs.iter().find(|one| one.name.text == name).map(|one| example::of(&one.schema));
    let Some(send) = &webhook.send else {
        let all = inputs.iter().map(|one| (one.name.text.clone(), example::of(&one.schema)));
        return Json::Object(all.collect());
    };
    let mut body = Json::Null;
    for (name, node) in send {
        let text = node.as_text().and_then(|text| text.strip_prefix("${")?.strip_suffix('}'));
        let Some(path) = text.map(|text| text.split("??").next().unwrap_or_default().trim()) else { continue };
        let Some(path) = path.strip_prefix("delivery.body") else { continue };
        let names: Vec<&str> = path.split(['.', '?', '[', ']', '\'', '"']).filter(|name| !name.is_empty()).collect();
        let plain = |name: &&str| name.chars().all(|c| c.is_ascii_alphanumeric() || "_-".contains(c));
        if !names.iter().all(plain) {
            continue;
        }
        let Some(value) = sample(&name.text) else { continue };
        let mut place = Some(&mut body);
        for part in names {
            place = place.and_then(|place| {
                if place.is_null() {
                    *place = Json::Object(Default::default());
                }
                Some(place.as_object_mut()?.entry(part).or_insert(Json::Null))
            });
        }
        if let Some(place) = place.filter(|place| place.is_null()) {
            *place = value;
        }
    }
    body
}

impl Walk<'_, '_, '_> {
    /// The endpoints of a webhook, one for each method.
    pub(super) fn webhook(&mut self, webhook: &Webhook) -> Vec<plan::Endpoint> {
        webhook.address.path.split('/').skip(1).for_each(|part| entries::plain_part(part, webhook.at, self.report));
        for secret in webhook.proof.secrets() {
            services::secret(secret, &Purpose::Signing, self.known, self.report);
        }
        if let Proof::Jwt(issuer) = &webhook.proof {
            entries::known_issuer(issuer, self.issuers, self.report);
        }
        let mut outside = Outside::default();
        outside.knows("delivery", plan::Webhook::delivery());
        let send = webhook.send.as_ref().map(|send| self.sent_in(webhook.at, send, &outside));
        let once_per = webhook.once_per.as_ref().map(|(key, span)| (self.made_outside(key, &outside).0, *span));
        let once_per = once_per.or_else(|| matches!(webhook.proof, Proof::Standard(_)).then(by_id));
        let echo = webhook.echo.as_ref().map(|node| self.made_outside(node, &outside).0);
        let compiled = (|| {
            Some(plan::Webhook {
                proof: webhook.proof.clone(),
                networks: webhook.networks.clone(),
                send: send.map_or(Some(None), |send| send.map(Some))?,
                once_per: once_per.map_or(Some(None), |(key, span)| key.map(|key| Some((key, span))))?,
                echo: echo.map_or(Some(None), |echo| echo.map(Some))?,
                methods: webhook.methods.clone(),
                example: example(webhook, &self.workflow.input),
            })
        })();
        let Some(compiled) = compiled.map(Arc::new) else { return Vec::new() };
        let sources: Vec<From> =
            self.workflow.input.iter().map(|property| From::Member(property.name.text.clone())).collect();
        let endpoint = |(method, _): (&str, bool)| plan::Endpoint {
            method: method.to_owned(),
            address: webhook.address.clone(),
            access: Access::Open,
            needs: None,
            allowance: None,
            input: EndpointInput { sources: sources.clone() },
            answer: webhook.answer,
            time: webhook.time.unwrap_or(entries::TIME),
            body: webhook.body.unwrap_or(entries::BODY) as usize,
            at_once: None,
            web: Default::default(),
            webhook: Some(compiled.clone()),
        };
        methods(webhook).into_iter().map(endpoint).collect()
    }
}
