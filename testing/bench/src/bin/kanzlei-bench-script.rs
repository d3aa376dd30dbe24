//! `cargo xtask bench script`: loops of scripts against Node's interpreter without its compiler (`node --jitless`).

use std::io::Write;
use std::process::{Command, Stdio};
use std::time::Instant;

use kanzlei_lang::expr::{Expression, Limits, Scope};

/// How often each is measured; the least counts.
const ROUNDS: usize = 5;

const SCRIPTS: [(&str, &str); 11] = [
    ("10,000,000 sums", "let s = 0; for (let i = 0; i < 10000000; i++) { s += i; } return s;"),
    ("10,000,000 with fractions", "let s = 0; for (let i = 0; i < 10000000; i++) { s = s * 0.5 + i; } return s;"),
    (
        "10,000,000 branches",
        "let a = 0, b = 0; for (let i = 0; i < 10000000; i++) { if (i % 3 === 0) a++; else b += 2; } return a + b;",
    ),
    ("10,000,000 in `while`", "let n = 10000000, c = 0; while (n > 0) { n = n - 1; c = (c + n) % 1000; } return c;"),
    (
        "primes below 2,000,000",
        "const m = 2000000; const p = Array.from({length: m}, () => true); for (let i = 2; i * i < m; i++) { if (p[i]) { for (let j = i * i; j < m; j += i) p[j] = false; } } let c = 0; for (let i = 2; i < m; i++) if (p[i]) c++; return c;",
    ),
    (
        "5,000,000 writes of members",
        "const o = {a: 1, b: 2}; for (let i = 0; i < 5000000; i++) { o.a = o.a + o.b; o.b = i % 7; } return o.a;",
    ),
    (
        "3,000,000 characters",
        "const t = 'abcdefghij'; let c = 0; for (let i = 0; i < 3000000; i++) { if (t[i % 10] === 'e') c++; } return c;",
    ),
    (
        "2,000,000 appends to a text",
        "let t = ''; for (let i = 0; i < 2000000; i++) { t += 'x' + (i % 10); } return t.length;",
    ),
    (
        "5,000,000 calls of a function",
        "const f = (a, b) => a * 2 + b; let s = 0; for (let i = 0; i < 5000000; i++) { s = f(s, i) % 1000; } return s;",
    ),
    (
        "2,000,000 objects",
        "let last = null; for (let i = 0; i < 2000000; i++) { last = {i, next: null}; } return last.i;",
    ),
    (
        "running totals of 100,000 rows",
        "const rows = []; for (let i = 0; i < 100000; i++) rows.push({id: i, amount: i % 97, port: i % 2 ? 'LIN' : 'NES'}); let sum = 0; const out = []; for (const row of rows) { sum += row.amount; out.push({...row, sum}); } return out;",
    ),
];

/// Milliseconds of the fastest round, and what it returns as JSON.
fn here(text: &str) -> Result<(f64, String), String> {
    let script = Expression::script(text, &Scope::default()).map_err(|faults| format!("{faults:?}"))?;
    let mut best = f64::MAX;
    let mut out = String::new();
    for _ in 0..ROUNDS {
        let begun = Instant::now();
        let value = script.eval(&[], Limits::script()).map_err(|failure| failure.message)?;
        best = best.min(begun.elapsed().as_secs_f64() * 1e3);
        out = value.to_json();
    }
    Ok((best, out))
}

/// The same in Node.
fn in_node(text: &str) -> Result<(f64, String), String> {
    let quoted = serde_json::Value::from(text).to_string();
    let program = format!(
        "const f = new Function({quoted}); let best = Infinity, out; for (let i = 0; i < {ROUNDS}; i++) {{ const t = process.hrtime.bigint(); out = f(); best = Math.min(best, Number(process.hrtime.bigint() - t) / 1e6); }} console.log(best + ' ' + JSON.stringify(out))"
    );
    let failed = |error: std::io::Error| format!("node: {error}");
    let mut node = Command::new("node")
        .args(["--jitless", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .map_err(failed)?;
    if let Some(input) = &mut node.stdin {
        input.write_all(program.as_bytes()).map_err(failed)?;
    }
    let output = node.wait_with_output().map_err(failed)?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let (time, out) = text.trim().split_once(' ').ok_or("node prints nothing")?;
    Ok((time.parse().map_err(|_| format!("node prints {time}"))?, out.to_owned()))
}

fn main() {
    println!("{:<34} {:>9} {:>9} {:>7}", "script", "ms", "node ms", "ratio");
    for (name, text) in SCRIPTS {
        match (here(text), in_node(text)) {
            (Ok((ours, out)), Ok((theirs, wanted))) => {
                let differs = if out == wanted { "" } else { "  DIFFERENT RESULTS" };
                println!("{name:<34} {ours:>9.0} {theirs:>9.0} {:>7.2}{differs}", ours / theirs);
            }
            (Err(error), _) | (_, Err(error)) => println!("{name:<34} {error}"),
        }
    }
}
