//! Deliveries: messages of senders as they are kept, and what they become.
//!
//! A message is kept in the transaction that queues its job, so one that was acknowledged is never lost. It is kept as it
//! arrived, without credentials, and can be processed again, by the revision that received it or by the live one.

use kanzlei_compiler::plan::webhook::Message;
use kanzlei_compiler::plan::{Endpoint, Plan};
use kanzlei_model::caller::Caller;
use kanzlei_model::hex;
use kanzlei_model::problem::Problem;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;
use kanzlei_store::queue::{Delivery, DeliveryState, NewDelivery};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use super::{Jobs, Origin, hash, short};
use crate::clock::fresh_id;
use crate::error::{Error, Result};

/// The most characters of what tells messages apart, as lists show it.
const MOST_SHOWN: usize = 200;

/// Where a message arrived, and how.
#[derive(Clone, Debug, Default)]
pub struct Arrival {
    /// The id of the delivery.
    pub id: Uuid,
    /// When it arrived.
    pub received: Timestamp,
    /// Its entry: `POST /from/customs`.
    pub entry: String,
    /// The address it came from.
    pub caller: Option<String>,
    /// `X-Request-Id` of its request.
    pub request_id: String,
    /// How it was proven, and with which secret.
    pub proof: String,
    /// The revision that received it, and its generation.
    pub revision: u32,
    /// Number of deploys at that time.
    pub generation: u64,
}

/// What a message is for a workflow.
pub struct Understood {
    /// What tells it apart.
    pub key: Option<String>,
    /// The input, or why it is none.
    pub input: std::result::Result<Value, Box<Problem>>,
}

/// What a message is for a webhook.
pub fn understood(plan: &Plan, endpoint: &Endpoint, message: &Message) -> Understood {
    let Some(webhook) = &endpoint.webhook else {
        return Understood { key: None, input: Err(Box::new(Problem::new(404, "Not a webhook"))) };
    };
    let delivery = match message.delivery() {
        Ok(delivery) => delivery,
        Err(problem) => return Understood { key: None, input: Err(problem) },
    };
    let unfit = |error: Box<kanzlei_lang::expr::EvalError>| {
        Box::new(Problem::new(422, "Unfit message").detail(format!("`once_per` cannot be worked out: {error}")))
    };
    match webhook.key(&delivery) {
        Ok(key) => Understood { key, input: webhook.input(&plan.input, &endpoint.input, message, &delivery) },
        Err(error) => Understood { key: None, input: Err(unfit(error)) },
    }
}

/// The webhook of a plan that an entry names, or the one that it has now.
pub fn webhook_of<'p>(plan: &'p Plan, entry: &str) -> Option<&'p Endpoint> {
    let accepts = |one: &&Endpoint| one.webhook.as_ref().is_some_and(|webhook| webhook.accepts(&one.method));
    let named = |one: &&Endpoint| one.label() == entry;
    let mut webhooks = plan.endpoints.iter().filter(accepts);
    webhooks.clone().find(named).or_else(|| webhooks.next())
}

impl Jobs {
    /// A message as it is kept.
    ///
    /// # Errors
    /// Where it must be sealed and there is no key.
    pub fn kept(&self, plan: &Plan, arrival: &Arrival, message: &Message) -> Result<Delivery> {
        let headers = serde_json::to_string(&message.headers).unwrap_or_default();
        let holds_secret = self.secrets.mask_bytes(&message.body).is_some()
            || self.secrets.mask(headers.clone()) != headers
            || self.secrets.mask(message.query.clone()) != message.query;
        let sealed = plan.labels.any || holds_secret;
        let parts = match sealed {
            false => Some((message.query.clone(), headers, message.body.clone())),
            true => (|| {
                let text = |text: String| self.secrets.guard(text, true);
                Some((text(message.query.clone())?, text(headers)?, self.secrets.seal(&message.body)?))
            })(),
        };
        let (query, headers, body) = parts.ok_or_else(|| {
            Error::problem(500, "The message cannot be kept", "the workflow handles confidential values, and the service has no key for secrets: set `secrets.key_file` in its configuration")
        })?;
        Ok(Delivery {
            id: arrival.id,
            workflow: plan.name.clone(),
            entry: short(&arrival.entry, 300),
            received: arrival.received,
            state: DeliveryState::Accepted,
            sender_key: None,
            caller: arrival.caller.clone(),
            request_id: arrival.request_id.clone(),
            proof: short(&arrival.proof, 200),
            method: message.method.clone(),
            query,
            headers,
            media: short(&message.media, 200),
            size: message.body.len() as u64,
            digest: hex::of(&Sha256::digest(&message.body)),
            body,
            sealed,
            revision: arrival.revision,
            generation: arrival.generation,
            run: None,
            as_job: false,
            processed: 0,
            first: None,
            problem: None,
        })
    }

    /// The same with what tells it apart, for so long.
    pub fn told_apart(
        &self,
        delivery: Delivery,
        key: Option<&str>,
        remembered: Option<std::time::Duration>,
    ) -> NewDelivery {
        let sender_key = key.map(|key| short(key, MOST_SHOWN));
        let hashed = key.zip(remembered).map(|(key, span)| {
            let of = format!("{}\n{}\n{key}", delivery.workflow, delivery.entry);
            (hash(&of), delivery.received + Span::from(span))
        });
        NewDelivery { delivery: Delivery { sender_key, ..delivery }, key: hashed }
    }

    /// The message of a delivery; nothing when it was sealed with a key that is not there.
    pub fn message_of(&self, delivery: &Delivery) -> Option<Message> {
        let text = |text: &str| if delivery.sealed { self.secrets.unguard(text) } else { Some(text.to_owned()) };
        let body = if delivery.sealed { self.secrets.unseal(&delivery.body)? } else { delivery.body.clone() };
        Some(Message {
            id: delivery.id.to_string(),
            at: delivery.received.to_string(),
            method: delivery.method.clone(),
            query: text(&delivery.query)?,
            headers: serde_json::from_str(&text(&delivery.headers)?).unwrap_or_default(),
            media: delivery.media.clone(),
            body,
        })
    }

    /// Queues a job for a delivery again, by the live revision or by the one that received it; returns the job.
    ///
    /// # Errors
    /// Where there is none, where its workflow is not live, does not accept it, or the queue is full.
    pub async fn process_again(&self, id: Uuid, as_live: bool, by: &str) -> Result<Uuid> {
        let gone = || Error::problem(404, "No such delivery", format!("there is no delivery {id}, or not any more"));
        let delivery = self.store.delivery(id).await?.ok_or_else(gone)?;
        let live = self.live.load_full();
        let unfit = |title: &str, detail: String| Error::problem(422, title, detail);
        let (plan, revision, generation) = if as_live {
            let name = live.name_now(&delivery.workflow, id).to_owned();
            let workflow = live.workflow(&name);
            let workflow = workflow.ok_or_else(|| unfit("Not live", format!("the workflow `{name}` is not live")))?;
            (workflow.plan.clone(), workflow.revision, live.generation)
        } else {
            let (revision, generation) = (delivery.revision, delivery.generation);
            let plan = self.plans.get(&self.store, &live, &delivery.workflow, revision, generation).await?;
            let detail =
                format!("revision {revision} of `{}` cannot be run any more; use the live one", delivery.workflow);
            (plan.ok_or_else(|| unfit("Not runnable", detail))?, revision, generation)
        };
        let endpoint = webhook_of(&plan, &delivery.entry);
        let detail = || format!("revision {revision} of `{}` has no webhook", plan.name);
        let endpoint = endpoint.ok_or_else(|| unfit("No webhook", detail()))?;
        let sealed = || Error::problem(409, "The delivery is sealed", "the key that sealed it is not there");
        let message = self.message_of(&delivery).ok_or_else(sealed)?;
        let input = understood(&plan, endpoint, &message).input.map_err(Error::Problem)?;
        let job = fresh_id();
        let origin = Origin {
            entry: delivery.entry.clone(),
            caller: Caller::named(by),
            request_id: job.to_string(),
            trace: self.telemetry.fresh(fresh_id()),
            generation: 0,
            drawn: false,
        };
        let row = self.row_at(&live, &plan, (revision, generation), job, &input, &origin)?;
        self.accept_in_time(vec![row]).await.map_err(|refused| match refused {
            super::accept::NotQueued::Full { status, detail } => Error::problem(status, "The queue is full", detail),
            _ => Error::problem(503, "The database is unavailable", "nothing was queued; try again in a moment"),
        })?;
        self.store.delivery_processed(id, job).await?;
        Ok(job)
    }

    /// Keeps a message that queues no job.
    pub async fn keep_only(&self, delivery: &NewDelivery) -> kanzlei_store::Result<Option<Uuid>> {
        let firsts = self.store.keep_delivery(delivery).await?;
        let first = firsts.get(&delivery.delivery.id).copied();
        self.totals.deliveries.add(if first.is_some() { "repeated" } else { delivery.delivery.state.name() });
        Ok(first)
    }
}
