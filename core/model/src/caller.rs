//! Who calls a workflow: what expressions know as `caller`, and what records keep of it.
//!
//! ```
//! use kanzlei_model::caller::Caller;
//! let caller = Caller { name: Some("bridge".into()), key: Some("bridge".into()), owner: Some("Pilots".into()), claims: None };
//! let facts = caller.facts().expect("a key");
//! assert_eq!(Caller::of(caller.name.clone(), Some(&facts)), caller);
//! assert_eq!(caller.value().to_json(), r#"{"name":"bridge","key":"bridge","owner":"Pilots","claims":null}"#);
//! ```

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::value::Value;

/// Who calls a workflow, as far as known.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Caller {
    /// How records call it: the name of its key, `issuer/subject` of its token, or its address.
    #[serde(skip)]
    pub name: Option<String>,
    /// The name of its key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// Whose key it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// The claims of its token that the issuer's document lists.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub claims: Option<Arc<serde_json::Value>>,
}

impl Caller {
    /// A caller of whom records keep the name alone.
    pub fn named(name: impl Into<String>) -> Self {
        Caller { name: Some(name.into()), ..Caller::default() }
    }

    /// A caller as records keep it; facts that cannot be read are left out.
    pub fn of(name: Option<String>, facts: Option<&str>) -> Self {
        let known = facts.and_then(|facts| serde_json::from_str::<Caller>(facts).ok()).unwrap_or_default();
        Caller { name, ..known }
    }

    /// What records keep beside the name, as JSON; nothing for a caller without key and token.
    pub fn facts(&self) -> Option<String> {
        let known = self.key.is_some() || self.owner.is_some() || self.claims.is_some();
        known.then(|| serde_json::to_string(self).ok()).flatten()
    }

    /// The same caller where the facts are needed, else its name alone.
    pub fn kept(&self, facts: bool) -> Self {
        if facts { self.clone() } else { Caller { name: self.name.clone(), ..Caller::default() } }
    }

    /// What expressions know as `caller`.
    pub fn value(&self) -> Value {
        let text = |text: &Option<String>| text.as_deref().map_or(Value::Null, Value::text);
        Value::object([
            ("name", text(&self.name)),
            ("key", text(&self.key)),
            ("owner", text(&self.owner)),
            ("claims", self.claims.as_deref().map_or(Value::Null, Value::from_json)),
        ])
    }
}
