//! Pages with what was measured, for pictures of `docs/`.

use std::path::Path;

use serde_json::Value as Json;

const STYLE: &str = "body{margin:20px 24px;font:14px 'IBM Plex Sans','DejaVu Sans',sans-serif;color:#161616}\
    h1{font-size:20px;font-weight:400;margin:0 0 8px}h2{font-size:14px;margin:16px 0 0}p{margin:0 0 8px;color:#525252}\
    td{padding:5px 12px 5px 0;border-top:1px solid #e0e0e0}.n{text-align:right;white-space:nowrap}.b{width:280px}\
    .p{width:640px;white-space:nowrap;font-size:0}.p i{display:inline-block;height:14px}th{font-weight:600;text-align:left;padding:5px 12px 5px 0}\
    .b i{display:block;height:12px;background:#1192e8}.d{color:#525252;font-size:12px}svg text{font-size:12px;fill:#525252}";
const COLOURS: [&str; 3] = ["#1192e8", "#6929c4", "#fa4d56"];

/// The page of a kind of figures; nothing for a kind that is not known.
pub fn page(kind: &str, figures: &Path) -> Option<String> {
    let draw: fn(&Json) -> String = match kind {
        "figures" => jobs,
        "series" => soak,
        "costs" => costs,
        "summary" => summary,
        "parts" => parts,
        _ => return None,
    };
    let text = std::fs::read_to_string(figures).expect("figures");
    let measured = serde_json::from_str(&text).expect("figures");
    Some(format!("<!doctype html><meta charset=utf-8><style>{STYLE}</style>{}", draw(&measured)))
}

/// Text of an HTML document.
pub fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;")
}

fn numbers(values: &Json) -> Vec<f64> {
    values.as_array().into_iter().flatten().filter_map(Json::as_f64).collect()
}

/// Series over time of an office under load.
fn soak(measured: &Json) -> String {
    let minutes = numbers(&measured["minutes"]);
    let series = measured["series"].as_array().expect("series");
    let find = |name: &str| series.iter().find(|series| series["name"] == name).expect("a known series");
    let mut panels = String::new();
    for (title, names) in [
        ("Memory, MiB", &["memory of the service", "memory of the database"][..]),
        ("Open descriptors and threads of the service", &["open descriptors", "threads"]),
        ("Latency, and the longest stall of the machine, ms", &["p50", "p99", "longest stall of the machine"]),
        (
            "Processor of the service, % of one core, and jobs under way",
            &["processor of the service", "jobs under way"],
        ),
    ] {
        let lines: Vec<(&str, Vec<f64>)> = names.iter().map(|name| (*name, numbers(&find(name)["values"]))).collect();
        panels.push_str(&panel(title, &minutes, &lines));
    }
    let count = |name: &str| measured[name].as_f64().unwrap_or(0.0);
    format!(
        "<h1>An office at half of its capacity: <code>cargo xtask soak</code></h1>\
         <p>{:.0} requests/s of {:.0}/s for {:.0} minutes: {} answered, {} failed. Six of ten validate and reply, three make \
         two calls, one is a job. Sampled every 15 s.</p>{panels}",
        count("capacity") / 2.0,
        count("capacity"),
        minutes.last().copied().unwrap_or(0.0),
        measured["answered"],
        measured["failed"]
    )
}

/// Lines over minutes, from zero to a little more than their greatest value.
fn panel(title: &str, minutes: &[f64], lines: &[(&str, Vec<f64>)]) -> String {
    const WIDTH: f64 = 530.0;
    const HEIGHT: f64 = 230.0;
    let last = minutes.last().copied().unwrap_or(1.0).max(0.1);
    let most = lines.iter().flat_map(|(_, values)| values).copied().fold(1.0, f64::max);
    let step = [1.0, 2.0, 5.0].iter().flat_map(|step| (0..8).map(move |power| step * 10f64.powi(power)));
    let step = step.filter(|step| most / step <= 5.0).fold(f64::INFINITY, f64::min);
    let top = (most / step).ceil() * step;
    let x = |minute: f64| 48.0 + WIDTH * minute / last;
    let y = |value: f64| 10.0 + HEIGHT * (1.0 - value / top);
    let mut out = String::new();
    for line in 0..=(top / step).round() as u32 {
        let value = f64::from(line) * step;
        let at = y(value);
        out.push_str(&format!(
            "<line x1=48 x2={:.0} y1={at:.1} y2={at:.1} stroke='#e0e0e0'/><text x=42 y={:.1} text-anchor=end>{value:.0}</text>",
            x(last),
            at + 4.0
        ));
    }
    for part in 0..=4 {
        let minute = last * f64::from(part) / 4.0;
        out.push_str(&format!(
            "<text x={:.0} y={:.0} text-anchor=middle>{minute:.0} min</text>",
            x(minute),
            HEIGHT + 28.0
        ));
    }
    let mut legend = String::new();
    for ((name, values), colour) in lines.iter().zip(COLOURS) {
        let points: Vec<String> =
            minutes.iter().zip(values).map(|(minute, value)| format!("{:.1},{:.1}", x(*minute), y(*value))).collect();
        out.push_str(&format!(
            "<polyline points='{}' fill=none stroke='{colour}' stroke-width=1.5 />",
            points.join(" ")
        ));
        legend.push_str(&format!("<span style='color:{colour}'>&#9644;</span> {} &nbsp; ", escape(name)));
    }
    format!(
        "<div style='display:inline-block;width:614px'><h2>{}</h2><div class=d>{legend}</div>\
         <svg width=604 height=270 xmlns='http://www.w3.org/2000/svg'>{out}</svg></div>",
        escape(title)
    )
}

/// Processor time of jobs, as a bar of its parts for each case.
fn costs(measured: &Json) -> String {
    const PARTS: [(&str, &str, &str, &str); 4] = [
        ("accepted", "services", "#82cfff", "accepting, services"),
        ("accepted", "databases", "#1192e8", "accepting, databases"),
        ("ended", "services", "#be95ff", "beginning and ending, services"),
        ("ended", "databases", "#6929c4", "beginning and ending, databases"),
    ];
    let cases = measured["cases"].as_array().expect("cases");
    let part = |case: &Json, (phase, who, ..): (&str, &str, &str, &str)| case[phase][who].as_f64().unwrap_or(0.0);
    let sum = |case: &Json| PARTS.iter().map(|one| part(case, *one)).sum::<f64>();
    let most = cases.iter().map(sum).fold(1.0, f64::max);
    let legend: String = PARTS
        .iter()
        .map(|(.., colour, what)| format!("<span style='color:{colour}'>&#9632;</span> {what} &nbsp; "))
        .collect();
    let mut rows = String::new();
    for case in cases {
        let pieces = PARTS
            .map(|one| format!("<i style='background:{};width:{:.1}%'></i>", one.2, 100.0 * part(case, one) / most));
        let rate = |phase: &str| case[phase]["per_second"].as_f64().unwrap_or(0.0);
        rows.push_str(&format!(
            "<tr><td>{}<td class=n>{:.0}<td class=n>{:.0}<td class=n>{:.0} µs<td class=p>{}",
            escape(case["case"].as_str().unwrap_or_default()),
            rate("accepted"),
            rate("ended"),
            sum(case),
            pieces.concat()
        ));
    }
    format!(
        "<h1>What a job costs: <code>cargo xtask bench scale</code></h1><p>Jobs of one step, nodes of the database × processes of the service, all on two cores. \
         Processor time of all of them together.</p><p class=d>{legend}</p>\
         <table cellspacing=0><tr><th>Nodes × processes<th>Accepted/s<th>Ended/s<th>A job<th>{rows}</table>"
    )
}

/// What is measured of each row as a share of what is wanted, up to one and a half times of it.
fn summary(measured: &Json) -> String {
    const MOST: f64 = 1.5;
    let mut rows = String::new();
    for row in measured["rows"].as_array().expect("rows") {
        let word = |name: &str| escape(row[name].as_str().unwrap_or_default()).replace('`', "");
        let share = row["share"].as_f64().unwrap_or(0.0);
        let colour = if share >= 1.0 { "#198038" } else { "#b28600" };
        rows.push_str(&format!(
            "<tr><td>{}<td class=n>{}<td class=n>{}<td style='width:390px'><div style='position:relative;height:14px;background:#f4f4f4'>\
             <i style='display:block;height:14px;background:{colour};width:{:.1}%'></i>\
             <i style='position:absolute;top:-3px;height:20px;left:{:.1}%;border-left:2px solid #161616'></i></div><td class=d>{}",
            word("what"),
            word("measured"),
            word("wanted"),
            100.0 * share.min(MOST) / MOST,
            100.0 / MOST,
            word("cost")
        ));
    }
    format!(
        "<h1>Against what is written by hand: <code>cargo xtask bench summary</code></h1><p>The line is what is wanted; \
         <span style='color:#198038'>&#9632;</span> reached, <span style='color:#b28600'>&#9632;</span> missed. \
         The host took {:.0} % of the machine meanwhile.</p>\
         <table cellspacing=0><tr><th>Row<th>Measured<th>Wanted<th>Share of what is wanted<th>What it costs{rows}</table>",
        measured["taken"].as_f64().unwrap_or(0.0)
    )
}

/// Instructions of a request by part of the program, beside all of those of the service by hand.
fn parts(measured: &Json) -> String {
    const COLOURS: [&str; 13] = [
        "#1192e8", "#6929c4", "#005d5d", "#9f1853", "#fa4d56", "#198038", "#002d9c", "#ee538b", "#b28600", "#009d9a",
        "#8a3800", "#a56eff", "#8d8d8d",
    ];
    let scenarios = measured["scenarios"].as_array().expect("scenarios");
    let of = |value: &Json| value.as_f64().unwrap_or(0.0);
    let pairs = |scenario: &Json| -> Vec<(String, f64)> {
        let parts = scenario["parts"].as_array().into_iter().flatten();
        parts.map(|part| (part[0].as_str().unwrap_or_default().to_owned(), of(&part[1]))).collect()
    };
    // Colours in the order of the first scenario; what only others have comes behind.
    let mut names: Vec<String> = Vec::new();
    for (name, _) in scenarios.iter().flat_map(pairs) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let colour =
        |name: &str| names.iter().position(|known| known == name).map_or("#000", |at| COLOURS[at % COLOURS.len()]);
    let legend: String = names
        .iter()
        .map(|name| format!("<span style='color:{}'>&#9632;</span> {} &nbsp; ", colour(name), escape(name)))
        .collect();
    let mut panels = String::new();
    for scenario in scenarios {
        let parts = pairs(scenario);
        let ours: f64 = parts.iter().map(|(_, value)| value).sum();
        let hand = of(&scenario["by_hand"]);
        let most = ours.max(hand).max(1.0);
        let bar = |value: f64, colour: &str, label: &str| {
            let text = if value / most > 0.055 { label } else { "" };
            format!(
                "<i style='background:{colour};width:{:.2}%;height:24px;color:#fff;font:11px/24px sans-serif;text-align:center;overflow:hidden'>{text}</i>",
                100.0 * value / most
            )
        };
        let pieces: String =
            parts.iter().map(|(name, value)| bar(*value, colour(name), &format!("{value:.1}"))).collect();
        panels.push_str(&format!(
            "<h2>{}</h2><table cellspacing=0><tr><td style='width:90px'>Kanzlei<td class=n style='width:70px'>{:.1}<td class=p style='width:1020px'>{pieces}",
            escape(scenario["name"].as_str().unwrap_or_default()),
            of(&scenario["each"])
        ));
        if hand > 0.0 {
            panels.push_str(&format!("<tr><td>by hand<td class=n>{hand:.1}<td class=p>{}", bar(hand, "#525252", "")));
        }
        panels.push_str("</table>");
    }
    format!(
        "<h1>Where instructions go: <code>cargo xtask bench instructions</code></h1>\
         <p>Thousands of instructions of the processor for a request, all threads of one process, every run recorded.</p>\
         <p class=d>{legend}</p>{panels}"
    )
}

/// Draws measured figures: rates as bars, the rest as a table, and how late things began as curves.
fn jobs(measured: &Json) -> String {
    let all = measured["figures"].as_array().expect("figures");
    let number = |figure: &Json| figure["value"].as_f64().unwrap_or(0.0);
    let most = all.iter().filter(|figure| figure["unit"] == all[0]["unit"]).map(number).fold(1.0, f64::max);
    let mut rows = String::new();
    for figure in all {
        let word = |name: &str| escape(figure[name].as_str().unwrap_or_default());
        let bar = match figure["unit"] == all[0]["unit"] {
            true => format!("<i style='width:{:.1}%'></i>", 100.0 * number(figure) / most),
            false => String::new(),
        };
        let digits = if number(figure) < 100.0 { 1 } else { 0 };
        rows.push_str(&format!(
            "<tr><td>{}<td class=n>{:.digits$} {}<td class=b>{bar}<td class=d>{}",
            word("what"),
            number(figure),
            word("unit"),
            word("more")
        ));
    }
    let heading = "<h2>How late jobs begin: milliseconds, for the share of jobs that were faster</h2>";
    let curves = measured["curves"].as_array().filter(|curves| !curves.is_empty());
    let curves = curves.map_or_else(String::new, |all| heading.to_owned() + &curves_of(all));
    format!(
        "<h1>Jobs: figures of <code>cargo xtask bench {}</code></h1><table cellspacing=0>{rows}</table>{curves}",
        escape(measured["bench"].as_str().unwrap_or("jobs"))
    )
}

/// Curves of milliseconds by hundredths as SVG, on a logarithmic scale from half a millisecond to a second.
fn curves_of(curves: &[Json]) -> String {
    const WIDTH: f64 = 820.0;
    const HEIGHT: f64 = 320.0;
    let x = |percent: f64| 50.0 + WIDTH * percent / 100.0;
    let y = |ms: f64| 12.0 + HEIGHT * (1.0 - (ms.clamp(0.5, 1000.0) / 0.5).ln() / 2000f64.ln());
    let mut out = String::from("<svg width=1230 height=372 xmlns='http://www.w3.org/2000/svg'>");
    for ms in [1.0, 10.0, 30.0, 100.0, 1000.0] {
        let (at, label) = (y(ms), if ms < 1000.0 { format!("{ms} ms") } else { "1 s".into() });
        out.push_str(&format!(
            "<line x1=50 x2={:.0} y1={at:.1} y2={at:.1} stroke='#e0e0e0'/><text x=44 y={:.1} text-anchor=end>{label}</text>",
            x(100.0),
            at + 4.0
        ));
    }
    for percent in [0, 25, 50, 75, 99] {
        let at = x(f64::from(percent));
        out.push_str(&format!("<text x={at:.0} y={:.0} text-anchor=middle>{percent} %</text>", HEIGHT + 32.0));
    }
    let p99 = x(99.0);
    out.push_str(&format!("<line x1={p99:.0} x2={p99:.0} y1=12 y2={:.0} stroke='#c6c6c6'/>", HEIGHT + 12.0));
    for (index, (curve, colour)) in curves.iter().zip(COLOURS).enumerate() {
        let values: Vec<f64> = curve["values"].as_array().into_iter().flatten().filter_map(|v| v.as_f64()).collect();
        let points: Vec<String> =
            values.iter().enumerate().map(|(at, ms)| format!("{:.1},{:.1}", x(at as f64), y(*ms))).collect();
        let wanted = curve["wanted"].as_f64().unwrap_or(1000.0);
        let top = 40.0 + 44.0 * index as f64;
        out.push_str(&format!(
            "<polyline points='{}' fill=none stroke='{colour}' stroke-width=2 />\
             <circle cx={p99:.0} cy={:.1} r=4 fill='{colour}'/>\
             <rect x=890 y={:.0} width=14 height=3 fill='{colour}'/><text x=912 y={top:.0}>{}</text>\
             <text x=912 y={:.0}>p99 {:.1} ms, wanted under {wanted:.0}</text>",
            points.join(" "),
            y(values.get(99).copied().unwrap_or(0.0)),
            top - 5.0,
            escape(curve["label"].as_str().unwrap_or_default()),
            top + 16.0,
            values.get(99).copied().unwrap_or(0.0)
        ));
    }
    out + "</svg>"
}
