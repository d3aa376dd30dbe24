use kanzlei_model::value::Value;

use super::*;

fn templates(format: Format, texts: &[(&str, &str)]) -> Result<Templates, Fault> {
    let text = |name: &str| texts.iter().find(|(path, _)| *path == name).map(|(_, text)| (*text).to_owned());
    Templates::load(texts[0].0, format, &text)
}

fn render(format: Format, texts: &[(&str, &str)], values: &str) -> String {
    let values = Value::from_json(&serde(values));
    match templates(format, texts).and_then(|templates| templates.render(&values)) {
        Ok(text) => text,
        Err(fault) => format!("fault: {fault}"),
    }
}

fn serde(text: &str) -> serde_json::Value {
    serde_json::from_str(text).expect("JSON")
}

#[test]
fn values_are_escaped_for_what_is_made() {
    for (format, text, values, wanted) in [
        (Format::Html, "{{ a }}{{ b }}", r#"{"a": "<b>&\"", "b": 1.5}"#, "&lt;b&gt;&amp;&quot;1.5"),
        (Format::Html, "{{ a | safe }}", r#"{"a": "<b>"}"#, "<b>"),
        (Format::Text, "{{ a }}|{{ none }}", r#"{"a": "<b>", "none": null}"#, "<b>|"),
        (
            Format::Csv,
            "{{ a }},{{ b }},{{ c }},{{ n }}",
            r#"{"a": "x,\"y\"", "b": "=SUM(A1)", "c": "-", "n": -1}"#,
            "\"x,\"\"y\"\"\",'=SUM(A1),'-,-1",
        ),
        (
            Format::Text,
            "{{ n | fixed }} {{ n | fixed(0, ' ') }} {{ m | fixed(1, '.') }}",
            r#"{"n": 1234567.891, "m": -999}"#,
            "1234567.89 1 234 568 -999.0",
        ),
        (
            Format::Text,
            "{% for k, v in a | items %}{{ k }}{{ v }};{% endfor %}",
            r#"{"a": {"z": 1, "b": 2}}"#,
            "z1;b2;",
        ),
        (Format::Html, "a\n{{ missing }}", "{}", "fault: t, line 2: undefined value"),
        (Format::Html, "a\n{{ a.b.c }}", r#"{"a": {}}"#, "fault: t, line 2: undefined value"),
        (
            Format::Html,
            "{% if a %}",
            r#"{"a": 1}"#,
            "fault: t, line 1: syntax error: unexpected end of input, expected end of block",
        ),
        (Format::Html, "{{ a | nope }}", r#"{"a": 1}"#, "fault: t, line 1: unknown filter: filter nope is unknown"),
    ] {
        assert_eq!(render(format, &[("t", text)], values), wanted, "{text}");
    }
}

#[test]
fn templates_name_others_beside_them() {
    let base = "<h1>{% block title %}Harbour{% endblock %}</h1>{% block body %}{% endblock %}{{ office }}";
    let page = "{% extends '../base.html' %}\n{# {% include 'none' %} #}{% block body %}{% include 'rows.html' %}{% endblock %}";
    let texts = [
        ("month/page.html", page),
        ("base.html", base),
        ("month/rows.html", "{% set n = 2 %}\n{{ n }}{{ month.total }}"),
    ];
    assert_eq!(
        render(Format::Html, &texts, r#"{"office": "Lindvik", "month": {"total": 3}}"#),
        "<h1>Harbour</h1>\n23Lindvik"
    );
    let loaded = templates(Format::Html, &texts).expect("templates");
    let shown: Vec<_> =
        loaded.mentions().iter().map(|one| format!("{}:{} {}", one.template, one.line, one.path.join("."))).collect();
    assert_eq!(shown, ["base.html:1 office", "month/rows.html:2 month.total"]);
    for (texts, wanted) in [
        (vec![("a", "{% extends 'b' %}")], "there is no template `b`, which `a` names"),
        (vec![("a", "{% include '../b' %}")], "`../b`, which `a` names, lies outside of the folder"),
        (vec![("../a", "")], "`../a` lies outside of the folder; templates lie below it"),
        (vec![("a", "{% include 'a' %}")], "a, line 1: "),
    ] {
        let shown = render(Format::Html, &texts, "{}");
        assert!(shown.starts_with(&format!("fault: {wanted}")), "{texts:?}: {shown}");
    }
}

#[test]
fn what_a_template_costs_is_bounded() {
    for (text, wanted) in [
        ("{% for a in range(100000) %}{% for b in range(100000) %}{% endfor %}{% endfor %}", "it takes more than"),
        ("{% for a in range(20000) %}{{ big }}{% endfor %}", "the text has more than"),
        ("{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}", ""),
        ("{{ 'xxxxxxxxxx' * 1000000000 }}", ""),
        ("{{ range(1000000000) }}", ""),
        ("{{ [1] * 1000000000 }}", ""),
        ("{{ '%1000000000d' | format(1) }}", ""),
        ("{{ big | indent(1000000000) }}", ""),
        ("{{ ('a,' * 100000) | split(',') | join(big) | length }}", "at most"),
        ("{{ big | replace('x', big) | replace('x', big) }}", "at most"),
    ] {
        let values = format!(r#"{{"big": "{}"}}"#, "x".repeat(1000));
        let shown = render(Format::Text, &[("t", text)], &values);
        assert!(shown.starts_with("fault: ") && shown.contains(wanted), "{text}: {}", &shown[..shown.len().min(200)]);
    }
}

#[test]
fn charts_are_drawn_from_rows() {
    let rows = r#"{"rows": [{"m": "Jan <1>", "a": 10, "b": 4.5}, {"m": "Feb", "a": -3, "b": 2}]}"#;
    for (call, parts) in [
        (
            "bars(rows, x='m', y='a', title='Dues & more', unit='EUR')",
            vec!["<svg role=\"img\" aria-label=\"Dues &amp; more\"", "Jan &lt;1&gt;", "<rect"],
        ),
        ("lines(rows, x='m', y=['a', 'b'])", vec!["<polyline", "Feb"]),
        ("lines(rows, x='m', y='c')", vec!["`c` of row 1 is no number"]),
        ("bars(rows, x='n', y='a')", vec!["row 1 has no `n`"]),
        ("bars([], x='m', y='a')", vec!["at least one row"]),
        ("bars(rows, x='m', y='a', colour='red')", vec!["unknown keyword argument 'colour'"]),
        ("bars(range(9000), x='m', y='a')", vec!["at most 5000 values"]),
        ("bars(rows, x='m', y='a', width=100000)", vec!["100 to 4000"]),
    ] {
        let shown = render(Format::Html, &[("t", &format!("{{{{ {call} }}}}"))], rows);
        for part in parts {
            assert!(shown.contains(part), "{call}: no {part} in {shown}");
        }
    }
}
