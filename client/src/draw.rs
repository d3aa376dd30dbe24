//! What people see on a terminal: diagnostics with the source line, sheets, tables, times.

use std::io::IsTerminal;

use kanzlei_lang::diagnostic::{Diagnostic, Severity};
use kanzlei_model::time::{Span, Timestamp};
use miette::{
    GraphicalReportHandler, GraphicalTheme, LabeledSpan, MietteDiagnostic, NamedSource, Report, ThemeCharacters,
    ThemeStyles,
};
use serde_json::Value as Json;

/// Colours only on a terminal, and not where NO_COLOR is set.
fn coloured(terminal: bool) -> bool {
    terminal && std::env::var_os("NO_COLOR").is_none()
}

pub fn paint(code: &str, text: &str) -> String {
    if coloured(std::io::stdout().is_terminal()) { format!("\x1b[{code}m{text}\x1b[0m") } else { text.to_owned() }
}

pub fn bold(text: &str) -> String {
    paint("1", text)
}

pub fn dim(text: &str) -> String {
    paint("2", text)
}

/// A state in its colour.
pub fn state(state: &str) -> String {
    let code = match state {
        "succeeded" => "32",
        "failed" => "31",
        "caught" | "cancelled" | "rejected" => "33",
        "running" => "36",
        _ => "2",
    };
    paint(code, state)
}

/// Diagnostics on standard error, each with its source line and a mark under the place.
pub fn diagnostics(found: &[Diagnostic], text_of: &dyn Fn(&str) -> Option<String>) {
    let styles = if coloured(std::io::stderr().is_terminal()) { ThemeStyles::ansi() } else { ThemeStyles::none() };
    let characters =
        if std::io::stderr().is_terminal() { ThemeCharacters::unicode() } else { ThemeCharacters::ascii() };
    let handler =
        GraphicalReportHandler::new_themed(GraphicalTheme { characters, styles }).with_width(100).with_context_lines(1);
    for diagnostic in found {
        let severity = match diagnostic.severity {
            Severity::Error => miette::Severity::Error,
            Severity::Warning => miette::Severity::Warning,
        };
        let length = (diagnostic.end - diagnostic.start).max(1) as usize;
        let mut shown = MietteDiagnostic::new(&diagnostic.message)
            .with_code(&diagnostic.code)
            .with_severity(severity)
            .with_label(LabeledSpan::new(None, diagnostic.start as usize, length));
        if let Some(help) = &diagnostic.help {
            shown = shown.with_help(help);
        }
        let mut out = String::new();
        let drawn = match text_of(&diagnostic.path) {
            Some(text) => {
                let report = Report::new(shown).with_source_code(NamedSource::new(&diagnostic.path, text));
                handler.render_report(&mut out, report.as_ref())
            }
            None => handler.render_report(&mut out, Report::new(shown).as_ref()),
        };
        if drawn.is_err() {
            out = format!("{}:{}:{}: {}\n", diagnostic.path, diagnostic.line, diagnostic.column, diagnostic.message);
        }
        eprint!("{out}");
    }
}

/// What changes in a text, as a unified diff.
pub fn changes(path: &str, before: &str, after: &str) {
    compared(path, path, before, after);
}

/// How two texts differ, as a unified diff.
pub fn compared(old: &str, new: &str, before: &str, after: &str) {
    for line in kanzlei_analysis::lines::patch((old, new), before, after).lines() {
        let code = match line.chars().next() {
            Some('+') => "32",
            Some('-') => "31",
            Some('@') => "36",
            _ => "0",
        };
        println!("{}", paint(code, line));
    }
}

/// `1 error, 2 warnings`.
pub fn counted(found: &[Diagnostic]) -> String {
    let errors = found.iter().filter(|d| d.severity == Severity::Error).count();
    let plural = |n: usize, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
    format!("{}, {}", plural(errors, "error"), plural(found.len() - errors, "warning"))
}

/// A table with columns as wide as they need to be; no borders, so it can be cut and pasted.
pub fn table(head: &[&str], rows: impl IntoIterator<Item = Vec<String>>) {
    let mut table = comfy_table::Table::new();
    table.load_preset(comfy_table::presets::NOTHING);
    table.set_header(head.iter().map(|text| dim(text)));
    table.add_rows(rows);
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    println!("{}", table.trim_fmt());
}

/// Microseconds as people read them.
pub fn took(span: Span) -> String {
    match span.as_micros() {
        0..1000 => "<1ms".into(),
        micros => kanzlei_model::duration::short(std::time::Duration::from_micros(micros.max(0) as u64)),
    }
}

/// An instant to the second, in UTC.
pub fn time(instant: Timestamp) -> String {
    instant.to_string().get(..19).map(|t| t.replace('T', " ")).unwrap_or_default()
}

/// An instant to the second, with its zone.
pub fn utc(instant: Timestamp) -> String {
    format!("{} UTC", time(instant))
}

/// JSON on one line, cut to a width.
pub fn short_json(value: &Json, most: usize) -> String {
    let text = match value {
        Json::Null => return "null".into(),
        Json::String(text) => format!("{text:?}"),
        other => spaced(other),
    };
    if text.chars().count() <= most { text } else { text.chars().take(most.saturating_sub(1)).chain(['…']).collect() }
}

/// `{ name: "Havbris", length_m: 132 }`
fn spaced(value: &Json) -> String {
    match value {
        Json::Object(members) => {
            let inner: Vec<String> = members.iter().map(|(key, value)| format!("{key}: {}", spaced(value))).collect();
            if inner.is_empty() { "{}".into() } else { format!("{{ {} }}", inner.join(", ")) }
        }
        Json::Array(items) => format!("[{}]", items.iter().map(spaced).collect::<Vec<_>>().join(", ")),
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn values_and_times_are_short() {
        for (value, most, wanted) in [
            (json!({"a": [1, "x"], "b": {}}), 40, r#"{ a: [1, "x"], b: {} }"#),
            (json!({"name": "Havbris"}), 10, "{ name: \"…"),
            (json!("å\n"), 40, r#""å\n""#),
            (json!(null), 40, "null"),
        ] {
            assert_eq!(short_json(&value, most), wanted);
        }
        for (micros, wanted) in [
            (0, "<1ms"),
            (1500, "1.5ms"),
            (104_000, "104ms"),
            (2_500_000, "2.5s"),
            (61_000_000, "1m01s"),
            (7_689_000_000_i64, "2h08m"),
        ] {
            assert_eq!(took(Span::from_micros(micros)), wanted);
        }
        let at = "2027-03-04T06:00:00.123Z".parse().expect("instant");
        assert_eq!((time(at).as_str(), utc(at).as_str()), ("2027-03-04 06:00:00", "2027-03-04 06:00:00 UTC"));
    }
}
