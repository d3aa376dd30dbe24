//! Types of the names that every workflow has, and what is known where ways part and meet.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::settings::Settings;
use crate::plan::{CALLER, INPUT, Issuer, KEPT, RUN, SETTINGS};
use kanzlei_lang::document::Workflow;
use kanzlei_lang::document::access::Access;
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::step::{Action, Step};
use kanzlei_lang::types::{Env, Member, Shape, Type, schema};

/// What is known before the first step.
pub(super) fn at_the_start(workflow: &Workflow, settings: &Settings, issuers: &Issuers) -> Env {
    let mut env = Env::default();
    env.set(INPUT, input(workflow));
    env.set(
        RUN,
        Type::object([
            ("id", Type::TEXT),
            ("attempt", Type::NUMBER),
            ("generation", Type::NUMBER),
            ("started", Type::INSTANT),
            ("caller", Type::TEXT.or(Type::Null)),
        ]),
    );
    env.set(KEPT, kept(workflow));
    env.set(SETTINGS, settings.of.clone());
    env.set(CALLER, caller(workflow, issuers));
    env
}

/// The issuers by name.
pub(super) type Issuers = BTreeMap<String, Arc<Issuer>>;

/// Who may call: nobody is known of a run that a timetable, another workflow or an operator began.
fn caller(workflow: &Workflow, issuers: &Issuers) -> Type {
    let of_entries = workflow.entries.iter().filter_map(|entry| entry.access.issuer());
    let of_webhooks = workflow.webhooks.iter().filter_map(|webhook| match &webhook.proof {
        Proof::Jwt(issuer) => Some(issuer),
        _ => None,
    });
    let known: Vec<Type> = of_entries
        .chain(of_webhooks)
        .map(|issuer| issuers.get(&issuer.text).map_or(Type::Unknown, |issuer| issuer.claims_type()))
        .collect();
    let claims = if known.is_empty() { Type::Unknown } else { Type::union(known) };
    let text = || Type::TEXT.or(Type::Null);
    Type::object([("name", text()), ("key", text()), ("owner", text()), ("claims", claims.or(Type::Null))])
}

/// The caller of an endpoint that has shown itself.
pub(super) fn shown(access: &Access, issuers: &Issuers) -> Type {
    let claims = access.issuer().and_then(|issuer| issuers.get(&issuer.text)).map(|issuer| issuer.claims_type());
    let key = if access.key().is_some() { Type::TEXT } else { Type::Null };
    let claims = claims.unwrap_or(if access.issuer().is_some() { Type::Unknown } else { Type::Null });
    Type::object([("name", Type::TEXT), ("key", key.clone()), ("owner", key), ("claims", claims)])
}

fn input(workflow: &Workflow) -> Type {
    let members = workflow.input.iter().map(|property| Member {
        name: property.name.text.as_str().into(),
        value: schema::read(&property.schema),
        optional: property.optional && property.default.is_none(),
    });
    // Members that are not declared are reported at their uses.
    Type::Object(Arc::new(Shape { members: members.collect(), rest: Some(Type::Unknown), ..Shape::default() }))
}

/// Anything may be remembered under the names that the workflow keeps, and nothing in its first run.
fn kept(workflow: &Workflow) -> Type {
    let mut names = BTreeSet::new();
    workflow.lists().for_each(|steps| kept_names(steps, &mut names));
    let members = names.into_iter().map(|name| Member { name: name.into(), value: Type::Unknown, optional: true });
    Type::Object(Arc::new(Shape { members: members.collect(), ..Shape::default() }))
}

fn kept_names<'w>(steps: &'w [Step], names: &mut BTreeSet<&'w str>) {
    for step in steps {
        if let Action::Keep(values) = &step.action {
            names.extend(values.iter().map(|(name, _)| name.text.as_str()));
        }
        step.inside().into_iter().for_each(|steps| kept_names(steps, names));
    }
}

/// The type of `failure` in a catch.
pub(super) fn failure() -> Type {
    Type::object([
        ("kind", Type::TEXT),
        ("status", Type::NUMBER.or(Type::Null)),
        ("detail", Type::TEXT),
        ("body", Type::Unknown),
    ])
}

/// What is known behind two ways, of which one or both may end the run.
pub(super) fn meet(one: Env, one_ends: bool, other: Env, other_ends: bool) -> Env {
    match (one_ends, other_ends) {
        (true, false) => other,
        (false, true) => one,
        _ => one.join(&other),
    }
}

/// What `settle: all` makes of a result.
pub(super) fn settled(value: Type) -> Type {
    let good = Type::object([("ok", Type::Bool(Some(true))), ("value", value)]);
    good.or(Type::object([("ok", Type::Bool(Some(false))), ("failure", failure())]))
}
