//! Which parts of values are confidential, followed from where they are declared to where they end up.
//!
//! A [`Label`] has the form of a value and marks parts of it. Schemas declare them with `secret: true`;
//! [`Labels`] holds those of the names in scope and finds that of an expression. What is made from a
//! confidential value is confidential, except for answers to questions about it: comparisons, lengths and
//! digests carry no label, and `reveal(…)` drops it where that is meant. Conditions carry none to the ways
//! they choose. Nothing here knows documents or steps.
//!
//! ```
//! use kanzlei_lang::confidential::{Label, Labels};
//! use kanzlei_lang::expr::{Expression, Scope};
//! let mut scope = Scope::default();
//! let input = scope.define("input");
//! let mut labels = Labels::default();
//! labels.set(input, Label::of_schema(&serde_json::json!({"properties": {"pin": {"type": "string", "secret": true}}})));
//! let label = |text: &str| labels.of(&Expression::compile(text, &scope).unwrap());
//! assert!(label("`pin ${input.pin}`").any());
//! assert!(!label("input.pin.length").any() && !label("input.name").any());
//! ```

mod flow;
mod statements;

use std::collections::BTreeSet;
use std::sync::Arc;

use kanzlei_model::value::{Str, Value};
use serde_json::Value as Json;

pub use flow::Labels;

/// What stands in place of a confidential value wherever one is shown.
pub const MASK: &str = "•••";

/// How deep schemas and values are followed; deeper down everything counts as confidential.
const DEEPEST: u32 = 40;

/// Which parts of a value are confidential.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum Label {
    /// Nothing in it.
    #[default]
    Clear,
    /// A text, number or boolean; the length of the text is not.
    Scalar,
    /// All of it, whatever it is.
    Whole,
    /// In each item of a list, what this says.
    List(Arc<Label>),
    /// An object whose members carry labels of their own.
    Object(Arc<Members>),
}

/// Labels of the members of an object.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Members {
    /// Labels by member name.
    pub named: Vec<(Str, Label)>,
    /// Of members that are not named.
    pub rest: Label,
}

impl Label {
    /// A list whose items have this label.
    pub fn list(of: Label) -> Label {
        if of.any() { Label::List(Arc::new(of)) } else { Label::Clear }
    }

    /// An object whose members have these labels.
    pub fn object<K: Into<Str>>(named: impl IntoIterator<Item = (K, Label)>, rest: Label) -> Label {
        let named: Vec<(Str, Label)> = named.into_iter().map(|(name, label)| (name.into(), label)).collect();
        if rest.any() || named.iter().any(|(_, label)| label.any()) {
            Label::Object(Arc::new(Members { named, rest }))
        } else {
            Label::Clear
        }
    }

    /// A text, number or boolean made from something.
    fn scalar(any: bool) -> Label {
        if any { Label::Scalar } else { Label::Clear }
    }

    /// Whether anything in the value is confidential.
    pub fn any(&self) -> bool {
        // Lists and objects exist only with something confidential in them.
        *self != Label::Clear
    }

    /// The label of a value that may be either of two.
    pub fn or(self, other: Label) -> Label {
        match (self, other) {
            (Label::Clear, other) | (other, Label::Clear) => other,
            (Label::Scalar, Label::Scalar) => Label::Scalar,
            (Label::List(a), Label::List(b)) => Label::list((*a).clone().or((*b).clone())),
            (Label::Object(a), Label::Object(b)) => {
                let mut names: Vec<Str> = a.named.iter().map(|(name, _)| name.clone()).collect();
                names.extend(b.named.iter().map(|(name, _)| name.clone()).filter(|name| !a.has(name)));
                let both = names.into_iter().map(|name| {
                    let label = a.get(&name).or(b.get(&name));
                    (name, label)
                });
                Label::object(both.collect::<Vec<_>>(), a.rest.clone().or(b.rest.clone()))
            }
            _ => Label::Whole,
        }
    }

    /// The label of a member.
    pub fn member(&self, name: &str) -> Label {
        match self {
            Label::Scalar | Label::List(_) if name == "length" => Label::Clear,
            Label::Object(members) => members.get(name),
            other => other.item(),
        }
    }

    /// The label of an item, or of a member whose name is not known.
    pub fn item(&self) -> Label {
        match self {
            Label::Clear => Label::Clear,
            Label::Scalar => Label::Scalar,
            Label::Whole => Label::Whole,
            Label::List(of) => (**of).clone(),
            Label::Object(members) => {
                members.named.iter().fold(members.rest.clone(), |label, (_, member)| label.or(member.clone()))
            }
        }
    }

    /// Whether everything that is confidential in a value with the other label is so by this one.
    pub fn covers(&self, other: &Label) -> bool {
        self.clone().or(other.clone()) == *self
    }

    /// The value with [`MASK`] in place of what is confidential. What is missing stays missing.
    pub fn mask(&self, value: &Value) -> Value {
        match (self, value) {
            (Label::Clear, value) | (_, value @ (Value::Undefined | Value::Null)) => value.clone(),
            (Label::List(of), Value::List(list)) => {
                Value::list(list.items().iter().map(|item| of.mask(item)).collect())
            }
            (Label::Object(members), Value::Object(object)) => {
                Value::object(object.iter().map(|(name, value)| (name.clone(), members.get(name).mask(value))))
            }
            _ => Value::text(MASK),
        }
    }

    /// The texts and numbers of a value that are confidential, as text.
    pub fn collect(&self, value: &Value, into: &mut BTreeSet<String>) {
        match (self, value) {
            (Label::Clear, _) | (_, Value::Undefined | Value::Null | Value::Bool(_)) => {}
            (_, Value::List(list)) => {
                let of = self.item();
                list.items().iter().for_each(|item| of.collect(item, into));
            }
            (_, Value::Object(object)) => {
                object.iter().for_each(|(name, value)| self.member(name).collect(value, into));
            }
            (_, value) => _ = into.insert(crate::expr::ops::to_text(value).to_string()),
        }
    }

    /// What a schema declares with `secret: true`, here or further in.
    pub fn of_schema(schema: &Json) -> Label {
        Label::of_schema_in(schema, schema)
    }

    /// The same for a schema within a document that its references lead into.
    pub fn of_schema_in(schema: &Json, root: &Json) -> Label {
        read(schema, root, 0)
    }
}

impl Members {
    fn has(&self, name: &str) -> bool {
        self.named.iter().any(|(known, _)| **known == *name)
    }

    fn get(&self, name: &str) -> Label {
        self.named.iter().find(|(known, _)| **known == *name).map_or(&self.rest, |(_, label)| label).clone()
    }
}

fn read(schema: &Json, root: &Json, depth: u32) -> Label {
    let Some(members) = schema.as_object().filter(|_| depth < DEEPEST) else { return Label::Clear };
    // Whatever does not plainly say no counts as yes.
    if members.get("secret").is_some_and(|secret| *secret != Json::Bool(false)) {
        let plain = |kind: &Json| matches!(kind.as_str(), Some("string" | "number" | "integer" | "boolean" | "null"));
        return match members.get("type") {
            Some(Json::Array(kinds)) if kinds.iter().all(plain) => Label::Scalar,
            Some(kind) if plain(kind) => Label::Scalar,
            _ => Label::Whole,
        };
    }
    let mut label = Label::Clear;
    if let Some(Json::String(reference)) = members.get("$ref")
        && let Some(target) = reference.strip_prefix('#').and_then(|pointer| root.pointer(pointer))
    {
        label = label.or(read(target, root, depth + 1));
    }
    for several in ["allOf", "anyOf", "oneOf"] {
        for one in members.get(several).and_then(Json::as_array).into_iter().flatten() {
            label = label.or(read(one, root, depth + 1));
        }
    }
    for items in [members.get("items"), members.get("contains")].into_iter().flatten() {
        label = label.or(Label::list(read(items, root, depth + 1)));
    }
    for item in members.get("prefixItems").and_then(Json::as_array).into_iter().flatten() {
        label = label.or(Label::list(read(item, root, depth + 1)));
    }
    let named = members.get("properties").and_then(Json::as_object).into_iter().flatten();
    let named: Vec<(&str, Label)> = named.map(|(name, of)| (name.as_str(), read(of, root, depth + 1))).collect();
    let patterns = members.get("patternProperties").and_then(Json::as_object).into_iter().flatten();
    let rest = patterns.map(|(_, of)| of).chain(members.get("additionalProperties"));
    let rest = rest.fold(Label::Clear, |label, of| label.or(read(of, root, depth + 1)));
    label.or(Label::object(named, rest))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn mask(schema: Json, value: Json) -> String {
        Label::of_schema(&schema).mask(&Value::from_json(&value)).to_json()
    }

    #[test]
    fn what_a_schema_declares_is_masked() {
        let person = json!({"properties": {"pin": {"type": "integer", "secret": true}, "name": {"type": "string"}}});
        for (schema, value, shown) in [
            (person.clone(), json!({"pin": 1, "name": "n"}), r#"{"pin":"•••","name":"n"}"#),
            (person.clone(), json!({"pin": null}), r#"{"pin":null}"#),
            (json!({"type": "array", "items": person}), json!([{"pin": 1}]), r#"[{"pin":"•••"}]"#),
            (json!({"secret": true}), json!({"a": [1]}), "\"•••\""),
            (json!({"additionalProperties": {"secret": true}}), json!({"x": "y"}), r#"{"x":"•••"}"#),
            (json!({"$ref": "#/$defs/a", "$defs": {"a": {"secret": true}}}), json!(1), "\"•••\""),
            (json!({"anyOf": [{"type": "string"}, {"type": "string", "secret": true}]}), json!("a"), "\"•••\""),
            // Another form than was declared is masked as a whole.
            (json!({"items": {"secret": true}}), json!({"a": 1}), "\"•••\""),
            (json!({"type": "string"}), json!("a"), "\"a\""),
        ] {
            assert_eq!(mask(schema, value), shown);
        }
    }

    #[test]
    fn one_of_two_labels_covers_both() {
        let of = |names: &[&str]| Label::object(names.iter().map(|name| (*name, Label::Scalar)), Label::Clear);
        assert_eq!(of(&["a"]).or(of(&["b"])), of(&["a", "b"]));
        assert_eq!(of(&["a"]).or(Label::list(Label::Scalar)), Label::Whole);
        assert!(of(&["a", "b"]).covers(&of(&["a"])) && !of(&["a"]).covers(&of(&["b"])));
        assert!(Label::Whole.covers(&Label::Scalar) && !Label::Scalar.covers(&Label::Whole));
        assert_eq!(Label::list(Label::Clear), Label::Clear);
    }

    #[test]
    fn labels_follow_values_through_statements() {
        let mut scope = crate::expr::Scope::default();
        let slot = scope.define("v");
        let schema = json!({"properties": {"pin": {"type": "string", "secret": true}, "name": {"type": "string"}}});
        let mut labels = Labels::default();
        labels.set(slot, Label::of_schema(&schema));
        let value = Value::from_json(&json!({"pin": "1234", "name": "n"}));
        for (text, shown) in [
            ("const a = v.pin; return a;", r#""•••""#),
            ("let a = v.name; if (a) a = v.pin; return a;", r#""•••""#),
            ("let a = ''; for (const c of v.pin) a += c; return [a, v.name];", r#"["•••","•••"]"#),
            ("const o = {name: v.name}; o.pin = v.pin; return o;", r#"{"name":"n","pin":"•••"}"#),
            ("const out = []; out.push(v.pin); return {out, n: out.length};", r#"{"out":["•••"],"n":1}"#),
            ("const o = {list: []}; const l = o.list; l.push(v.pin); return o;", r#""•••""#),
            ("const by = {}; (by[v.name] ??= []).push(v.pin); return by;", r#""•••""#),
            ("const f = x => { return x + '!'; }; return {a: f(v.pin), b: v.name};", r#"{"a":"•••","b":"n"}"#),
            ("const o = {a: 1}; [1].forEach(x => { o.a = v.pin; }); return o.a;", r#""•••""#),
            ("try { throw v.pin; } catch (e) { return e; }", r#""•••""#),
            ("let [a, b] = [v.name, v.pin]; [a, b] = [b, a]; return {a};", r#"{"a":"•••"}"#),
            ("const seen = {}; const add = (o, x) => { o.x = x; }; add(seen, v.pin); return seen;", r#""•••""#),
            ("return v.pin.length > 3 ? 'long' : 'short';", r#""long""#),
            ("const a = {pin: v.pin, name: v.name}; return {name: a.name};", r#"{"name":"n"}"#),
        ] {
            let script = crate::expr::Expression::script(text, &scope).unwrap_or_else(|e| panic!("{text}: {e:?}"));
            let returned = script.eval(std::slice::from_ref(&value), crate::expr::Limits::script());
            let returned = returned.unwrap_or_else(|e| panic!("{text}: {e}"));
            assert_eq!(labels.of(&script).mask(&returned).to_json(), shown, "{text}");
        }
        let thrown = |text: &str| labels.thrown(&crate::expr::Expression::script(text, &scope).expect(text)).any();
        assert!(thrown("throw new Error(`no ${v.pin}`);") && !thrown("throw v.name + v.pin.length;"));
    }
}
