//! A compiled issuer: what must be right about a token beside its signature, and the claims that workflows know.
//!
//! Signatures and keys are the service's business; nothing here reads a clock.

use std::time::Duration;

use kanzlei_lang::document::issuer::{self as document, Keys};
use kanzlei_lang::types::{Member, Shape, Type, schema};
use kanzlei_model::value::Value;
use serde_json::Value as Json;

use crate::input::InputPlan;

/// The most characters of a subject: records keep it.
const MOST_SUBJECT: usize = 150;

/// A compiled issuer.
#[derive(Debug)]
pub struct Issuer {
    /// Its name.
    pub name: String,
    /// What it is.
    pub about: String,
    /// What its tokens have as `iss`.
    pub iss: String,
    /// One of these stands in `aud`.
    pub audience: Vec<String>,
    /// Where its keys come from.
    pub keys: Keys,
    /// The algorithms of signatures that are allowed.
    pub algorithms: Vec<String>,
    /// How far its clock may differ.
    pub skew: Duration,
    /// How much each caller may ask for.
    pub allowance: Option<String>,
    subject: String,
    claims: InputPlan,
}

impl Issuer {
    /// Compiles a document.
    ///
    /// # Errors
    /// The claims whose schemas are none, by index, with what is wrong.
    pub fn of(document: &document::Issuer) -> Result<Self, Vec<(usize, String)>> {
        Ok(Issuer {
            name: document.name.text.clone(),
            about: document.about.clone(),
            iss: document.iss.clone(),
            audience: document.audience.clone(),
            keys: document.keys.clone(),
            algorithms: document.algorithms.clone(),
            skew: document.skew,
            allowance: document.allowance.as_ref().map(|name| name.text.clone()),
            subject: document.subject.clone(),
            claims: InputPlan::new(&document.claims, true)?,
        })
    }

    /// The claims that workflows know.
    pub fn listed(&self) -> impl Iterator<Item = &str> {
        self.claims.properties.iter().map(|claim| claim.name.as_str())
    }

    /// The type of `caller.claims`.
    pub fn claims_type(&self) -> Type {
        let members = self.claims.properties.iter().map(|claim| Member {
            name: claim.name.as_str().into(),
            value: schema::read(&claim.schema),
            optional: !claim.required,
        });
        Type::Object(Shape { members: members.collect(), ..Shape::default() }.into())
    }

    /// The subject and the listed claims of a token that is valid.
    ///
    /// # Errors
    /// What it lacks, in a few words.
    pub fn accept(&self, claims: &Json) -> Result<(String, Json), String> {
        let subject = claims.get(&self.subject).and_then(Json::as_str).filter(|subject| !subject.is_empty());
        let subject = subject.ok_or_else(|| format!("it has no `{}`", self.subject))?;
        if subject.chars().count() > MOST_SUBJECT {
            return Err(format!("its `{}` has more than {MOST_SUBJECT} characters", self.subject));
        }
        let accepted = self.claims.accept(&Value::from_json(claims)).map_err(|problem| {
            let first = problem.errors.first();
            first.map_or_else(
                || "its claims do not fit".to_owned(),
                |error| format!("its claim `{}`: {}", error.pointer.trim_start_matches('/'), error.detail),
            )
        })?;
        let listed = self.claims.properties.iter();
        let listed = listed.filter_map(|claim| Some((claim.name.clone(), accepted.member(&claim.name)?.to_serde())));
        Ok((subject.to_owned(), Json::Object(listed.collect())))
    }
}
