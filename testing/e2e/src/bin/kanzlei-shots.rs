//! Takes pictures for `docs/screenshots/` from a demo that runs: pages of the console, and what a
//! command prints on a terminal (`NAME=$COMMAND`). `cargo xtask shots` calls it.

use std::path::Path;

use kanzlei_e2e::browser::Browser;
use kanzlei_e2e::charts::{self, escape};

#[tokio::main]
async fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    if let [what, figures, file] = args.as_slice()
        && let Some(page) = charts::page(what, Path::new(figures))
    {
        return picture_of(&page, Path::new(file)).await;
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

/// Takes a picture of a page.
async fn picture_of(page: &str, file: &Path) {
    let path = std::env::temp_dir().join(format!("kanzlei-chart-{}.html", std::process::id()));
    std::fs::write(&path, page).expect("page");
    let browser = Browser::start(&kanzlei_harness::scratch::folder("shots")).await;
    browser.goto(&format!("file://{}", path.display())).await;
    browser.picture(file).await;
    browser.close().await;
    let _ = std::fs::remove_file(path);
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
