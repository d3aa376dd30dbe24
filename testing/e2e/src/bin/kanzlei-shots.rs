//! Takes pictures for `docs/screenshots/` from a demo that runs: pages of the console, and what a
//! command prints on a terminal (`NAME=$COMMAND`). `cargo xtask shots` calls it.

use std::path::Path;

use kanzlei_e2e::browser::Browser;

#[tokio::main]
async fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    if let [what, figures, file] = args.as_slice()
        && what == "figures"
    {
        return chart(Path::new(figures), Path::new(file)).await;
    }
    let [control, token, folder, pages @ ..] = args.as_slice() else {
        eprintln!(
            "usage: kanzlei-shots CONTROL_URL TOKEN FOLDER [NAME=/PAGE[!dark][@CSS-TO-CLICK…] | NAME=$COMMAND …]"
        );
        std::process::exit(2);
    };
    let folder = Path::new(folder);
    std::fs::create_dir_all(folder).expect("folder");
    let browser = Browser::start(&kanzlei_harness::scratch::folder("shots")).await;
    browser.sign_in(control, token).await;
    for page in pages {
        let (name, rest) = page.split_once('=').expect("NAME=/PAGE");
        if let Some(command) = rest.strip_prefix('$') {
            terminal(&browser, command, &folder.join(format!("{name}.png"))).await;
            println!("{name}");
            continue;
        }
        let mut clicks = rest.split('@');
        let rest = clicks.next().unwrap_or_default();
        let (path, dark) = rest.split_once('!').map_or((rest, false), |(a, b)| (a, b == "dark"));
        let choice = if dark { "dark" } else { "light" };
        browser
            .client
            .execute(&format!("localStorage.setItem('kanzlei-theme', '{choice}')"), vec![])
            .await
            .expect("theme");
        browser.goto(&format!("{control}{path}")).await;
        browser.find("main h1").await;
        tokio::time::sleep(std::time::Duration::from_millis(700)).await;
        for css in clicks {
            browser.click(css).await;
            tokio::time::sleep(std::time::Duration::from_millis(500)).await;
        }
        browser.picture(&folder.join(format!("{name}.png"))).await;
        println!("{name}");
    }
    browser.close().await;
}

/// Draws measured figures: rates as bars, the rest as a table, and how late things began as curves.
async fn chart(figures: &Path, file: &Path) {
    let text = std::fs::read_to_string(figures).expect("figures");
    let measured: serde_json::Value = serde_json::from_str(&text).expect("figures");
    let all = measured["figures"].as_array().expect("figures");
    let number = |figure: &serde_json::Value| figure["value"].as_f64().unwrap_or(0.0);
    let most = all.iter().filter(|figure| figure["unit"] == "jobs/s").map(number).fold(1.0, f64::max);
    let mut rows = String::new();
    for figure in all {
        let word = |name: &str| escape(figure[name].as_str().unwrap_or_default());
        let bar = match figure["unit"] == "jobs/s" {
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
    let page = format!(
        "<!doctype html><meta charset=utf-8><style>body{{margin:20px 24px;font:14px 'IBM Plex Sans','DejaVu Sans',sans-serif;color:#161616}}\
         h1{{font-size:20px;font-weight:400;margin:0 0 8px}}h2{{font-size:14px;margin:16px 0 0}}td{{padding:5px 12px 5px 0;border-top:1px solid #e0e0e0}}\
         .n{{text-align:right;white-space:nowrap}}.b{{width:280px}}.b i{{display:block;height:12px;background:#1192e8}}.d{{color:#525252;font-size:12px}}\
         svg text{{font-size:12px;fill:#525252}}</style>\
         <h1>Jobs: figures of <code>cargo xtask bench jobs</code></h1><table cellspacing=0>{rows}</table>\
         <h2>How late jobs begin: milliseconds, for the share of jobs that were faster</h2>{}",
        curves(measured["curves"].as_array().expect("curves"))
    );
    let path = std::env::temp_dir().join(format!("kanzlei-chart-{}.html", std::process::id()));
    std::fs::write(&path, page).expect("page");
    let browser = Browser::start(&kanzlei_harness::scratch::folder("shots")).await;
    browser.goto(&format!("file://{}", path.display())).await;
    browser.picture(file).await;
    browser.close().await;
    let _ = std::fs::remove_file(path);
}

/// Curves of milliseconds by hundredths as SVG, on a logarithmic scale from half a millisecond to a second.
fn curves(curves: &[serde_json::Value]) -> String {
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
    for (index, (curve, colour)) in curves.iter().zip(["#1192e8", "#6929c4", "#fa4d56"]).enumerate() {
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

/// Runs a command on a terminal of its own and takes a picture of what it prints.
async fn terminal(browser: &Browser, command: &str, file: &Path) {
    let output = std::process::Command::new("script")
        .args(["--quiet", "--return", "--command", command, "/dev/null"])
        .env("TERM", "xterm-256color")
        .output()
        .expect("script runs");
    let text = String::from_utf8_lossy(&output.stdout).replace('\r', "");
    let page = format!(
        "<!doctype html><meta charset=utf-8><style>body{{margin:0;background:#161616;color:#f4f4f4}}\
         pre{{font:13px/1.45 'IBM Plex Mono','DejaVu Sans Mono',monospace;margin:20px;white-space:pre-wrap}}\
         .b{{font-weight:bold}}.d{{color:#a8a8a8}}.r{{color:#ff8389}}.g{{color:#42be65}}.y{{color:#f1c21b}}.c{{color:#33b1ff}}.m{{color:#d4bbff}}</style>\
         <pre><span class=g>$</span> {}\n{}</pre>",
        // Where the command was run is of no interest.
        escape(command.split_once("&& ").map_or(command, |(_, own)| own)),
        spans(&text)
    );
    let path = std::env::temp_dir().join(format!("kanzlei-terminal-{}.html", std::process::id()));
    std::fs::write(&path, page).expect("page");
    browser.goto(&format!("file://{}", path.display())).await;
    browser.picture(file).await;
    let _ = std::fs::remove_file(path);
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;")
}

/// Select Graphic Rendition codes (ECMA-48 §8.3.117) as spans.
fn spans(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    let mut open = 0;
    while let Some(at) = rest.find("\x1b[") {
        out.push_str(&escape(&rest[..at]));
        let Some((codes, after)) = rest[at + 2..].split_once('m') else { break };
        for code in codes.split(';') {
            let class = match code {
                "1" => "b",
                "2" => "d",
                "31" | "91" => "r",
                "32" | "92" => "g",
                "33" | "93" => "y",
                "34" | "36" | "94" | "96" => "c",
                "35" | "95" => "m",
                _ => {
                    out.push_str(&"</span>".repeat(std::mem::take(&mut open)));
                    continue;
                }
            };
            out.push_str(&format!("<span class={class}>"));
            open += 1;
        }
        rest = after;
    }
    out.push_str(&escape(rest));
    out
}
