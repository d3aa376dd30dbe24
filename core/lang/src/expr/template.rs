//! Texts of documents: ECMAScript template literals, with `${…}` around expressions and `$${` for a
//! literal `${`.
//!
//! A text that is one single `${…}` keeps the value's type; any other returns text.

use super::meter::Meter;
use super::{EvalError, Expression, Fault, Limits, Scope, Span, Use};
use kanzlei_model::value::{Str, Value};

/// A compiled text.
#[derive(Clone, Debug)]
pub enum Template {
    /// No expression in it.
    Text(Str),
    /// One single `${…}`.
    Single(Expression),
    /// Texts and expressions; always one more text than expressions.
    Mixed(Vec<Str>, Vec<Expression>),
}

/// How many places a closing brace is looked for in one `${…}`.
const MAX_BRACES: usize = 200;

impl Template {
    /// Compiles a text. Positions of faults and uses count bytes in `text`.
    pub fn compile(text: &str, scope: &Scope) -> Result<Self, Vec<Fault>> {
        let mut texts = vec![String::new()];
        let mut parts = Vec::new();
        let mut faults = Vec::new();
        let mut rest = 0;
        while let Some(found) = text[rest..].find('$') {
            let at = rest + found;
            if let Some(last) = texts.last_mut() {
                last.push_str(&text[rest..at]);
            }
            if text[at..].starts_with("$${") {
                texts.last_mut().into_iter().for_each(|last| last.push_str("${"));
                rest = at + 3;
            } else if text[at..].starts_with("${") {
                let from = at + 2;
                let (end, result) = expression(text, from, scope);
                match result {
                    Ok(expression) => {
                        parts.push(expression);
                        texts.push(String::new());
                    }
                    Err(found) => faults.extend(found.into_iter().map(|fault| shift(fault, from))),
                }
                rest = end;
            } else {
                texts.last_mut().into_iter().for_each(|last| last.push('$'));
                rest = at + 1;
            }
        }
        if let Some(last) = texts.last_mut() {
            last.push_str(&text[rest..]);
        }
        if !faults.is_empty() {
            return Err(faults);
        }
        if parts.len() == 1 && texts.iter().all(String::is_empty) {
            return Ok(Template::Single(parts.remove(0)));
        }
        if parts.is_empty() {
            return Ok(Template::Text(texts.remove(0).into()));
        }
        Ok(Template::Mixed(texts.into_iter().map(Str::from).collect(), parts))
    }

    /// Evaluates it over the values of its scope.
    #[inline]
    pub fn eval(&self, slots: &[Value], limits: Limits<'_>) -> Result<Value, Box<EvalError>> {
        match self {
            Template::Text(text) => Ok(Value::Text(text.clone())),
            Template::Single(expression) => expression.eval(slots, limits),
            Template::Mixed(texts, parts) => mixed(texts, parts, slots, limits),
        }
    }

    /// Returns the expressions within.
    pub fn expressions(&self) -> &[Expression] {
        match self {
            Template::Text(_) => &[],
            Template::Single(expression) => std::slice::from_ref(expression),
            Template::Mixed(_, parts) => parts,
        }
    }
}

/// Texts with the values of expressions between them.
fn mixed(texts: &[Str], parts: &[Expression], slots: &[Value], limits: Limits<'_>) -> Result<Value, Box<EvalError>> {
    let (mut out, mut meter) = (String::from(&*texts[0]), Meter::new(limits));
    for (part, text) in parts.iter().zip(&texts[1..]) {
        let (value, left) = part.eval_metered(slots, meter);
        meter = left;
        meter.append(&value?, &mut out)?;
        out.push_str(text);
    }
    let text = Value::text(out);
    EvalError::check_size(&text)?;
    Ok(text)
}

fn shift(mut fault: Fault, by: usize) -> Fault {
    fault.at = shift_span(fault.at, by);
    fault
}

fn shift_span(at: Span, by: usize) -> Span {
    Span { start: at.start + by as u32, end: at.end + by as u32 }
}

/// Compiles the expression that starts at `from`; returns the position behind its closing brace too.
///
/// The expression ends at the first closing brace up to which the text parses: a brace inside a
/// string, a template, an object or a pattern leaves something open before it.
fn expression(text: &str, from: usize, scope: &Scope) -> (usize, Result<Expression, Vec<Fault>>) {
    let mut first_faults = None;
    let mut balanced_fault = false;
    for (found, _) in text[from..].match_indices('}').take(MAX_BRACES) {
        let end = from + found;
        match Expression::compile(&text[from..end], scope) {
            Ok(mut expression) => {
                expression.offset = from as u32;
                expression.uses.iter_mut().for_each(|used: &mut Use| {
                    used.at = shift_span(used.at, from);
                    used.member_at = shift_span(used.member_at, from);
                });
                return (end + 1, Ok(expression));
            }
            Err(faults) => {
                let parsed = !faults.iter().any(|fault| fault.code == "expression-syntax");
                if parsed {
                    return (end + 1, Err(faults));
                }
                // The reported fault is that of the text up to the first brace that balances.
                let balanced = balance(&text[from..end]) == 0;
                if first_faults.is_none() || (balanced && !balanced_fault) {
                    balanced_fault = balanced;
                    first_faults = Some((end + 1, faults));
                }
            }
        }
    }
    match first_faults {
        Some((end, faults)) => (end, Err(faults)),
        None => {
            let at = Span { start: 0, end: (text.len() - from) as u32 };
            let fault = Fault::new("expression-syntax", "`${` without a closing `}`", at)
                .help("for a literal `${` write `$${`");
            (text.len(), Err(vec![fault]))
        }
    }
}

/// Opening less closing braces, strings left out of account.
fn balance(text: &str) -> i32 {
    text.bytes().map(|b| i32::from(b == b'{') - i32::from(b == b'}')).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_become_values() {
        let mut scope = Scope::default();
        scope.define("n");
        for (text, wanted) in [
            ("plain", r#""plain""#),
            ("${n}", "3"),
            ("${n} nights", r#""3 nights""#),
            ("$${n}", r#""${n}""#),
            ("5 $ and $5", r#""5 $ and $5""#),
            ("${{a: {b: n}}}", r#"{"a":{"b":3}}"#),
            ("${'}' + n}", r#""}3""#),
            ("${`${n}}`}!", r#""3}!""#),
            ("${'a}b'.replace(/}/, '-')}", r#""a-b""#),
            ("${n}${n}", r#""33""#),
        ] {
            let template = Template::compile(text, &scope).unwrap_or_else(|e| panic!("{text}: {e:?}"));
            assert_eq!(template.eval(&[Value::Int(3)], Limits::default()).expect(text).to_json(), wanted, "{text}");
        }
    }

    #[test]
    fn faults_carry_positions_in_the_text() {
        let scope = Scope::default();
        for (text, code, start) in [
            ("Hello ${x}", "unknown-name", 8),
            ("a ${ 1 + } b", "expression-syntax", 9),
            ("${", "expression-syntax", 2),
            ("${1} ${new Date()}", "expression-outside-language", 7),
        ] {
            let faults = Template::compile(text, &scope).expect_err(text);
            assert_eq!((faults[0].code, faults[0].at.start), (code, start), "{text}: {faults:?}");
        }
    }
}
