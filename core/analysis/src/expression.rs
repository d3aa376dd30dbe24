//! Expressions at a position: the one a text holds there, made whole where it is not finished, with the names it knows.

use kanzlei_compiler::check::watch::{Question, Sight};
use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::expr::{Expression, Scope, functions};
use kanzlei_lang::types::Type;

use crate::place::{MARK, Spot, floor, skip_expression};
use crate::workspace::Instead;
use crate::{Workspace, keys};

/// An expression of a text, with the position in it.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Within {
    /// Its text.
    pub text: String,
    /// The position in it.
    pub at: usize,
    /// Where it begins in the document.
    pub begins: usize,
    /// Whether it is made of statements.
    pub script: bool,
    /// Whether it is a function, which is read as the constant of a script that calls it.
    pub function: bool,
}

/// What makes a constant of a function.
const CONSTANT: &str = "const f = ";

/// The expression in the text of a value, which stands at a place of a document; nothing where the position lies beside all.
pub(crate) fn within(document: &str, place: Place, at: usize, bare: bool) -> Option<Within> {
    let raw = document.get(place.start as usize..place.end as usize)?;
    let offset = at.checked_sub(place.start as usize)?;
    let quoted = raw.starts_with(['"', '\'']);
    if bare {
        let (from, to) = match quoted {
            true => (1, raw.len() - usize::from(raw.len() > 1 && raw.ends_with(['"', '\'']))),
            false => (0, raw.len()),
        };
        let text = raw.get(from..to.max(from))?;
        let at = floor(text, offset.checked_sub(from).filter(|at| *at <= text.len())?);
        return Some(Within {
            text: text.to_owned(),
            at,
            begins: place.start as usize + from,
            script: false,
            function: false,
        });
    }
    let mut from = 0;
    while let Some(found) = raw.get(from..)?.find("${") {
        let start = from + found + 2;
        if raw[..from + found].ends_with('$') {
            from = start;
            continue;
        }
        let end = skip_expression(raw, start);
        let closed = raw[start..end].ends_with('}');
        let inner = if closed { end - 1 } else { end };
        if (start..=inner).contains(&offset) {
            let mut text = raw[start..inner].to_owned();
            if !closed && quoted {
                text = text.trim_end_matches(['"', '\'']).to_owned();
            }
            let at = floor(&text, offset - start);
            return Some(Within { text, at, begins: place.start as usize + start, script: false, function: false });
        }
        from = end;
    }
    None
}

/// What expressions know at a place of a document, or of a text in its place that could be read.
pub(crate) fn sight(workspace: &Workspace, path: &str, at: u32, mended: Option<&str>) -> Option<Sight> {
    let index = workspace.index(path)?;
    let question = Question { only: Some(index), watch: Some((index, at)), mentions: false };
    workspace.examine(mended.map(|text| Instead { path, text }), question).sight
}

/// A name that ends at the position, and what it is read from.
#[derive(Debug, PartialEq)]
pub(crate) struct Ending {
    /// Where the name begins in the expression.
    pub start: usize,
    /// Where it ends, behind the position too.
    pub end: usize,
    /// What stands before its dot: a value, or a namespace.
    pub member_of: Option<Receiver>,
}

#[derive(Debug, PartialEq)]
pub(crate) enum Receiver {
    Value(Type),
    Namespace(String),
}

/// The script that stands at a place of a document. Its indentation means nothing, so that it is read as it stands.
fn script(document: &str, place: Place, at: usize) -> Option<Within> {
    let raw = document.get(place.start as usize..place.end as usize)?;
    let offset = at.checked_sub(place.start as usize)?;
    let from = match raw.starts_with(['|', '>']) {
        true => raw.find('\n')? + 1,
        false => usize::from(raw.starts_with(['"', '\''])),
    };
    let text = raw.get(from..)?;
    let at = floor(text, offset.checked_sub(from).filter(|at| *at <= text.len())?);
    Some(Within { text: text.to_owned(), at, begins: place.start as usize + from, script: true, function: false })
}

/// The function that stands at a place of a document.
fn function(document: &str, place: Place, at: usize) -> Option<Within> {
    let block = document.get(place.start as usize..)?.starts_with(['|', '>']);
    let inner = if block { script(document, place, at)? } else { within(document, place, at, true)? };
    Some(Within {
        text: format!("{CONSTANT}{}", inner.text),
        at: inner.at + CONSTANT.len(),
        begins: inner.begins.checked_sub(CONSTANT.len())?,
        script: true,
        function: true,
    })
}

fn is_name(c: char) -> bool {
    c.is_ascii_alphanumeric() || c == '_' || c == '$'
}

impl Within {
    fn compile(&self, text: &str, scope: &Scope) -> Option<Expression> {
        match (self.script, self.function) {
            (_, true) => Expression::script(&format!("{text};\nreturn f(...JSON.parse('[]'));"), scope).ok(),
            (true, false) => Expression::script(text, scope).ok(),
            (false, false) => Expression::compile(text, scope).ok(),
        }
    }

    /// The name at the position, as far as it is typed; nothing in a string or a number.
    pub fn ending(&self, sight: &Sight) -> Option<Ending> {
        let before = &self.text[..self.at];
        if in_string(before) {
            return None;
        }
        let start = before.trim_end_matches(is_name).len();
        let end = self.at + self.text[self.at..].len() - self.text[self.at..].trim_start_matches(is_name).len();
        let name = &self.text[start..end];
        if name.starts_with(|c: char| c.is_ascii_digit()) {
            return None;
        }
        let Some(receiver) = before[..start].strip_suffix('.') else {
            return Some(Ending { start, end, member_of: None });
        };
        let receiver = receiver.strip_suffix('?').unwrap_or(receiver);
        let namespace = &receiver[receiver.trim_end_matches(is_name).len()..];
        let alone = !receiver[..receiver.len() - namespace.len()].ends_with('.');
        if alone && functions::is_namespace(namespace) && sight.scope.slot(namespace).is_none() {
            return Some(Ending { start, end, member_of: Some(Receiver::Namespace(namespace.to_owned())) });
        }
        let of = self.receiver(sight, start, end, receiver.len()).unwrap_or(Type::Unknown);
        Some(Ending { start, end, member_of: Some(Receiver::Value(of)) })
    }

    /// The type of what stands before a dot.
    fn receiver(&self, sight: &Sight, start: usize, end: usize, dot: usize) -> Option<Type> {
        for text in self.with_mark(start, end, MARK) {
            let Some(expression) = self.compile(&text, &sight.scope) else { continue };
            let parts = sight.env.parts(&expression);
            let mark = start + MARK.len();
            let member = parts
                .iter()
                .filter(|part| part.at.end as usize == mark)
                .min_by_key(|part| part.at.end - part.at.start)?;
            let (from, to) = (member.at.start, dot as u32);
            let inside = parts.iter().filter(|part| part.at.start >= from && part.at.end <= to);
            let widest = inside.clone().map(|part| part.at.end - part.at.start).max()?;
            // The body of a function is looked at several times, with what is known better each time.
            return inside
                .filter(|part| part.at.end - part.at.start == widest)
                .map(|part| part.of.clone())
                .reduce(|a, b| a.or(b));
        }
        None
    }

    /// The expression with another name at the position: as it goes on, or closed behind the name.
    fn with_mark(&self, start: usize, end: usize, mark: &str) -> [String; 2] {
        let before = format!("{}{mark}", &self.text[..start]);
        let closed = format!("{before}{}", closing(&before));
        [format!("{before}{}", &self.text[end..]), closed]
    }

    /// The parameters of arrow functions that can be read at the position, each with its type.
    pub fn parameters(&self, sight: &Sight, start: usize, end: usize) -> Vec<(String, Type)> {
        for text in self.with_mark(start, end, "undefined") {
            let Some(expression) = self.compile(&text, &sight.scope) else { continue };
            let at = start as u32;
            let around = expression
                .bindings()
                .iter()
                .filter(|binding| (binding.within.start..=binding.within.end).contains(&at));
            return around
                .map(|binding| (binding.name.to_string(), self.type_of(sight, start, end, &binding.name)))
                .collect();
        }
        Vec::new()
    }

    /// The type of a name at the position.
    pub fn type_of(&self, sight: &Sight, start: usize, end: usize, name: &str) -> Type {
        for text in self.with_mark(start, end, name) {
            let Some(expression) = self.compile(&text, &sight.scope) else { continue };
            let wanted = (start as u32, (start + name.len()) as u32);
            let found = sight.env.parts(&expression).into_iter().filter(|part| (part.at.start, part.at.end) == wanted);
            return found.map(|part| part.of).reduce(Type::or).unwrap_or(Type::Unknown);
        }
        Type::Unknown
    }
}

/// The type of a name of the workflow, as far as it is known at a place.
pub(crate) fn type_of_name(sight: &Sight, name: &str) -> Type {
    match Expression::compile(name, &sight.scope) {
        Ok(expression) => sight.env.infer(&expression).0,
        Err(_) => Type::Unknown,
    }
}

/// Whether a text ends within a string.
fn in_string(text: &str) -> bool {
    let mut quote = None;
    let mut skip = false;
    for c in text.chars() {
        match (c, quote) {
            _ if skip => skip = false,
            ('\\', Some(_)) => skip = true,
            (c, Some(open)) if c == open => quote = None,
            (_, Some(_)) => {}
            ('\'' | '"', None) => quote = Some(c),
            _ => {}
        }
    }
    quote.is_some()
}

/// What closes the brackets that a text leaves open.
fn closing(text: &str) -> String {
    let mut open = Vec::new();
    let mut quote = None;
    for c in text.chars() {
        match (c, quote) {
            (c, Some(q)) if c == q => quote = None,
            (_, Some(_)) => {}
            ('\'' | '"' | '`', None) => quote = Some(c),
            ('(', _) => open.push(')'),
            ('[', _) => open.push(']'),
            ('{', _) => open.push('}'),
            (')' | ']' | '}', _) => {
                open.pop();
            }
            _ => {}
        }
    }
    open.into_iter().rev().collect()
}

/// The expression at a position of a value, with what it knows.
pub(crate) fn at_value(
    workspace: &Workspace,
    document: &str,
    text: &str,
    spot: &Spot,
    place: Place,
    at: usize,
    known: Option<Sight>,
) -> Option<(Within, Sight)> {
    let (root, path) = (&spot.root, spot.path.as_slice());
    let function_here = keys::is_function(root, path);
    let within = match keys::is_script(root, path) {
        _ if function_here => function(text, place, at)?,
        true => script(text, place, at)?,
        false => within(text, place, at, keys::is_bare(root, path))?,
    };
    let sight = match keys::kind_of(root) {
        Some(kind) if kind == "workflow" || function_here => match known {
            Some(known) => known,
            // In the text as it is, or in the one that was mended, which has a mark where the value begins.
            None => sight(workspace, document, place.start, (spot.text != text).then_some(spot.text.as_str()))?,
        },
        _ => elsewhere(root)?,
    };
    Some((within, sight))
}

/// What expressions know outside workflows: stubs see the request, lanes the input.
fn elsewhere(root: &Node) -> Option<Sight> {
    let mut scope = Scope::default();
    let name = match keys::kind_of(root)? {
        "cases" => "request",
        "lane" => "input",
        _ => return None,
    };
    let slot = scope.define(name);
    let mut env = kanzlei_lang::types::Env::default();
    env.set(slot, Type::Unknown);
    Some(Sight { scope, env, node: None, bare: false, step: None })
}
