//! A compiled webhook: how a message proves itself, which one it is, and the input that it becomes.
//!
//! Expressions know one name, `delivery`; what it holds is made here, so that live deliveries, cases and trials agree.

use std::time::Duration;

use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::expr::{EvalError, Limits};
use kanzlei_lang::types::Type;
use kanzlei_model::address::Allowed;
use kanzlei_model::problem::Problem;
use kanzlei_model::value::{ObjectBuilder, Str, Value};

use super::Maker;
use crate::input::Body;
use crate::input::{EndpointInput, InputPlan, Parts, form_pairs};

/// The most characters of a value that tells messages apart.
const MOST_KEY: usize = 1000;

/// A compiled webhook.
#[derive(Debug)]
pub struct Webhook {
    /// How a sender proves that a message is its own.
    pub proof: Proof,
    /// The networks that messages may come from.
    pub networks: Option<Allowed>,
    /// The input; by convention where there is none.
    pub send: Option<Vec<(Str, Maker)>>,
    /// What tells messages apart, and how long one is remembered.
    pub once_per: Option<(Maker, Duration)>,
    /// What a sender wants back when it verifies the address.
    pub echo: Option<Maker>,
    /// The methods of its messages; by others it only echoes.
    pub methods: Vec<String>,
    /// A body that may arrive, as far as the document says what it takes from one.
    pub example: serde_json::Value,
}

/// A message as it arrived.
#[derive(Clone, Debug, Default)]
pub struct Message {
    /// The id that the service gave it.
    pub id: String,
    /// When it arrived.
    pub at: String,
    /// HTTP method.
    pub method: String,
    /// The query as it was sent.
    pub query: String,
    /// Header fields, names in lower case; no credentials among them.
    pub headers: Vec<(String, String)>,
    /// The media type.
    pub media: String,
    /// The body.
    pub body: Vec<u8>,
}

impl Webhook {
    /// The type of `delivery`.
    pub fn delivery() -> Type {
        Type::object([
            ("id", Type::TEXT),
            ("at", Type::INSTANT),
            ("method", Type::TEXT),
            ("query", Type::record(Type::TEXT)),
            ("headers", Type::record(Type::TEXT)),
            ("body", Type::Unknown),
        ])
    }

    /// Whether messages arrive by a method, and not only what is echoed.
    pub fn accepts(&self, method: &str) -> bool {
        self.methods.iter().any(|known| known == method)
    }

    /// What the sender wants back; nothing where the message is no question of this kind.
    ///
    /// # Errors
    /// An expression that fails.
    pub fn echo(&self, delivery: &Value) -> Result<Option<Value>, Box<EvalError>> {
        let Some(echo) = &self.echo else { return Ok(None) };
        let value = echo.make(std::slice::from_ref(delivery), Limits::default())?;
        let empty = value.is_nullish() || matches!(&value, Value::Text(text) if text.is_empty());
        Ok((!empty).then_some(value))
    }

    /// What tells a message apart from others; nothing where it is always processed.
    ///
    /// # Errors
    /// An expression that fails.
    pub fn key(&self, delivery: &Value) -> Result<Option<String>, Box<EvalError>> {
        let Some((key, _)) = &self.once_per else { return Ok(None) };
        let value = key.make(std::slice::from_ref(delivery), Limits::default())?;
        Ok((!value.is_nullish()).then(|| match value {
            Value::Text(text) => text.chars().take(MOST_KEY).collect(),
            other => other.to_canonical_json().chars().take(MOST_KEY).collect(),
        }))
    }

    /// The input that a message becomes.
    ///
    /// # Errors
    /// A problem with status 422: an expression that fails, or an input that the workflow does not accept.
    pub fn input(
        &self,
        plan: &InputPlan,
        by_convention: &EndpointInput,
        message: &Message,
        delivery: &Value,
    ) -> Result<Value, Box<Problem>> {
        let Some(send) = &self.send else {
            let body = Body::read(&message.media, &message.body)?;
            let parts = Parts { body, ..Parts::default() };
            let header = |name: &str| message.header(name).map(str::to_owned);
            return plan.gather(by_convention, parts, &header);
        };
        let mut input = ObjectBuilder::with_capacity(send.len());
        for (name, maker) in send {
            let value = maker.make(std::slice::from_ref(delivery), Limits::default()).map_err(|error| {
                let detail = format!("`send.{name}` cannot be worked out: {error}");
                Box::new(Problem::new(422, "Unfit message").detail(detail))
            })?;
            // What a message does not have, the workflow may do without.
            if !matches!(value, Value::Undefined) {
                input.insert(name.clone(), value);
            }
        }
        plan.accept(&input.finish())
    }
}

impl Message {
    /// A header field by its name.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    /// What expressions know of it.
    ///
    /// # Errors
    /// A problem with status 400 where the body is not what its media type says.
    pub fn delivery(&self) -> Result<Value, Box<Problem>> {
        let text = |text: &str| Value::text(text);
        let texts = |pairs: &[(String, String)]| {
            let mut out = ObjectBuilder::with_capacity(pairs.len());
            for (name, value) in pairs {
                out.insert(name.as_str().into(), text(value));
            }
            out.finish()
        };
        let body = match Body::read(&self.media, &self.body) {
            Ok(Body::None) => Value::Null,
            Ok(Body::Json(json)) => json,
            Ok(Body::Form(pairs)) => texts(&pairs),
            Err(problem) if problem.status == 415 => std::str::from_utf8(&self.body).map_or(Value::Null, text),
            Err(problem) => return Err(problem),
        };
        Ok(Value::object([
            ("id", text(&self.id)),
            ("at", text(&self.at)),
            ("method", text(&self.method)),
            ("query", texts(&form_pairs(self.query.as_bytes()))),
            ("headers", texts(&self.headers)),
            ("body", body),
        ]))
    }
}
