//! Questions about a place: what is known there, and which names expressions mention.
//!
//! The walk that checks a workflow meets every place with the names in scope and their types. Asked about one, it keeps
//! them ([`Sight`]); asked for mentions, it lists each use of a name with its place ([`Mention`]). Editors live on both.

use super::steps::Walk;
use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::expr::{Expression, Scope, Use};
use kanzlei_lang::types::Env;

/// What is asked of a check beside its findings.
#[derive(Clone, Copy, Debug, Default)]
pub struct Question {
    /// The document that alone is wanted, by its place among the sources: only it and what it needs is compiled.
    pub only: Option<usize>,
    /// A document and a byte of its text: what is known there.
    pub watch: Option<(usize, u32)>,
    /// Whether the names that expressions mention are wanted.
    pub mentions: bool,
}

/// What is known at a place of a workflow.
#[derive(Clone, Debug)]
pub struct Sight {
    /// The names and functions that expressions there know.
    pub scope: Scope,
    /// The types of the names.
    pub env: Env,
    /// The text whose expressions see this; nothing where the place lies in none, and this is what its step begins with.
    pub node: Option<Place>,
    /// Whether that text is a bare expression, and no template.
    pub bare: bool,
    /// The step, by its number on the sheet.
    pub step: Option<String>,
}

/// A name in an expression.
#[derive(Clone, Debug, PartialEq)]
pub struct Mention {
    /// The document, by its place among the sources.
    pub document: usize,
    /// The name: `vessel`, `input`, a function.
    pub name: String,
    /// Where it stands.
    pub at: Place,
    /// The member that is read from it, where it is known by name.
    pub member: Option<(String, Place)>,
    /// Whether it is a function of the document.
    pub function: bool,
}

/// What one walk looks out for.
#[derive(Clone, Copy)]
pub(super) struct Watch {
    pub at: Option<u32>,
    pub mentions: bool,
    pub document: usize,
}

impl Walk<'_, '_, '_> {
    /// A step begins; it is the one that is watched as long as no later one begins before the place.
    pub(super) fn look_at_step(&mut self, begins: u32, paragraph: usize) {
        let Some(at) = self.watch.at else { return };
        let found = self.sight.as_ref().is_some_and(|sight| sight.node.is_some());
        if begins <= at && !found {
            let step = self.sheet.get(paragraph).map(|paragraph| paragraph.number.clone());
            *self.sight =
                Some(Sight { scope: self.scope.clone(), env: self.env.clone(), node: None, bare: false, step });
        }
    }

    /// A text with expressions is compiled.
    pub(super) fn look_at(&mut self, node: &Node, bare: bool) {
        let Some(at) = self.watch.at else { return };
        if (node.at.start..=node.at.end).contains(&at) {
            let step = self.sheet.last().map(|paragraph| paragraph.number.clone());
            *self.sight =
                Some(Sight { scope: self.scope.clone(), env: self.env.clone(), node: Some(node.at), bare, step });
        }
    }

    /// The same outside of the steps, with names of its own.
    pub(super) fn look_outside(&mut self, node: &Node, scope: &Scope, env: &Env) {
        if self.watch.at.is_some_and(|at| (node.at.start..=node.at.end).contains(&at)) {
            let (scope, env) = (scope.clone(), env.clone());
            *self.sight = Some(Sight { scope, env, node: Some(node.at), bare: false, step: None });
        }
    }

    pub(super) fn mention(&mut self, uses: &[Use], node: &Node) {
        if !self.watch.mentions {
            return;
        }
        for used in uses {
            let Some(name) = self.slots.get(used.slot as usize).map(|name| name.to_string()) else { continue };
            let member =
                used.member.as_ref().map(|member| (member.to_string(), self.place_of(node, used.member_at, 0)));
            let (document, at) = (self.watch.document, self.place_of(node, used.at, 0));
            self.mentions.push(Mention { document, name, at, member, function: false });
        }
    }

    pub(super) fn note_calls(&mut self, expression: &Expression, node: &Node) {
        if !self.watch.mentions {
            return;
        }
        for (name, at) in expression.calls() {
            let (document, at) = (self.watch.document, self.place_of(node, *at, expression.offset()));
            self.mentions.push(Mention { document, name: name.to_string(), at, member: None, function: true });
        }
    }

    /// Functions that functions call.
    pub(super) fn note_functions(&mut self) {
        if !self.watch.mentions {
            return;
        }
        for (name, node) in &self.workflow.functions {
            let Some(function) = self.scope.function(&name.text).cloned() else { continue };
            for (called, at) in &function.calls {
                let (document, at) = (self.watch.document, self.place_of(node, *at, 0));
                self.mentions.push(Mention { document, name: called.to_string(), at, member: None, function: true });
            }
        }
    }
}

/// A function of a document is looked at: it knows the others of the document, types, and no values.
pub(super) fn look_at_functions(
    functions: &[(Named, Node)],
    scope: &Scope,
    at: Option<u32>,
    sight: &mut Option<Sight>,
) {
    let within = |node: &&Node| at.is_some_and(|at| (node.at.start..=node.at.end).contains(&at));
    if let Some(node) = functions.iter().map(|(_, node)| node).find(within) {
        let (scope, env) = (scope.clone(), Env::default());
        *sight = Some(Sight { scope, env, node: Some(node.at), bare: true, step: None });
    }
}
