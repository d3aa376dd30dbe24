//! `cargo xtask bench summary`: every row of `docs/performance.md` in one run, beside the same written by hand, and how much of the
//! machine its host took meanwhile.
//!
//! Each row comes from a bench of its own, which says more about it. With `--record` the table of the chapter and its picture are made anew.

use std::fs;
use std::path::Path;
use std::process::{Command, ExitCode};

use kanzlei_harness::office::{Ports, Whole};
use kanzlei_harness::wait::Ticks;
use kanzlei_harness::{packages, scratch};
use serde_json::{Value as Json, json};

use super::load::{NOTICES, QUOTES, Server, TOGETHER};
use super::{Rivals, deploy, idle, measure_jobs, rivals};
use crate::{Done, Fault, build, root, run};

const ROUNDS: u32 = 3;
/// Where the table begins in the chapter.
const HEAD: &str = "| | measured | wanted | what it costs |\n| --- | --- | --- | --- |\n";

/// A figure of the table.
struct Row {
    what: &'static str,
    measured: f64,
    wanted: f64,
    /// Whether more is better.
    at_least: bool,
    unit: &'static str,
    /// Processor time, or what else explains it.
    cost: String,
}

impl Row {
    /// What is measured as a share of what is wanted: 1 and more is reached.
    fn share(&self) -> f64 {
        if self.at_least { self.measured / self.wanted } else { self.wanted / self.measured }
    }

    fn number(&self, value: f64) -> String {
        let unit = if self.unit.is_empty() { String::new() } else { format!(" {}", self.unit) };
        let digits = match value.fract() == 0.0 {
            true => 0,
            false if value < 10.0 => 2,
            false => 1,
        };
        format!("{value:.digits$}{unit}")
    }

    fn wanted(&self) -> String {
        format!("{} {}", if self.at_least { "at least" } else { "under" }, self.number(self.wanted))
    }

    fn line(&self) -> String {
        let bold = if self.share() >= 1.0 { "**" } else { "" };
        format!("| {} | {bold}{}{bold} | {} | {} |", self.what, self.number(self.measured), self.wanted(), self.cost)
    }

    fn json(&self) -> Json {
        let (measured, wanted) = (self.number(self.measured), self.wanted());
        json!({"what": self.what, "measured": measured, "wanted": wanted, "share": self.share(), "cost": self.cost})
    }
}

pub fn summary(seconds: u32, record: bool) -> Done {
    packages::install(&[packages::MARIADB, packages::WRK, packages::CHROMIUM, packages::CHROMEDRIVER])?;
    build::console()?;
    let bins = build::programs(true)?;
    let dir = scratch::folder("summary");
    let before = Ticks::now();
    let mut rows = endpoints(seconds)?;
    rows.extend(language(&bins)?);
    rows.extend(jobs(&bins, &dir)?);
    rows.extend(memory(&bins)?);
    let taken = 100.0 * Ticks::now().stolen_since(&before);
    let table = rows.iter().map(Row::line).collect::<Vec<_>>().join("\n");
    println!("{HEAD}{table}\n\nThe host took {taken:.0} % of the machine meanwhile.");
    if record {
        keep(&table)?;
        let figures = dir.join("summary.json");
        let all: Vec<Json> = rows.iter().map(Row::json).collect();
        fs::write(&figures, json!({"rows": all, "taken": taken}).to_string())?;
        let mut picture = Command::new(bins.join("kanzlei-shots"));
        run(picture.arg("summary").arg(&figures).arg(root().join("docs/bench-summary.png")))?;
    }
    let _ = fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}

/// Endpoints against the service by hand, by turns.
fn endpoints(seconds: u32) -> Result<Vec<Row>, Fault> {
    let Rivals { dir, whole, by_hand, port, .. } = rivals()?;
    let mut rows = Vec::new();
    for asked in [NOTICES, QUOTES, TOGETHER] {
        let both = [Server::by_hand(port, &by_hand), Server::of(&whole)];
        let [hand, ours] = asked.by_turns(both, &dir, (seconds, ROUNDS))?;
        let cost = format!(
            "{:.1} µs, of them the database {:.1}; by hand {:.1} µs. {} of {} requests/s",
            ours.cpu + ours.database,
            ours.database,
            hand.cpu,
            thousands(ours.per_second),
            thousands(hand.per_second)
        );
        rows.push(Row {
            what: asked.name,
            measured: ours.per_second / hand.per_second,
            wanted: asked.wanted,
            at_least: true,
            unit: "",
            cost,
        });
    }
    drop(by_hand);
    whole.stop();
    let _ = fs::remove_dir_all(&dir);
    Ok(rows)
}

/// A loop and expressions against the same over JSON values.
fn language(bins: &Path) -> Result<Vec<Row>, Fault> {
    let lines = |name: &str| -> Result<String, Fault> {
        let output = Command::new(bins.join(name)).output()?;
        match output.status.success() {
            true => Ok(String::from_utf8_lossy(&output.stdout).into_owned()),
            false => Err(format!("{name} failed: {}", String::from_utf8_lossy(&output.stderr)).into()),
        }
    };
    let (loops, expressions) = (lines("kanzlei-bench-language")?, lines("kanzlei-bench-expr")?);
    let row = |what, printed: &str, beginning: &str, unit, wanted| -> Result<Row, Fault> {
        let line = printed.lines().find_map(|line| line.strip_prefix(beginning));
        let numbers = line.into_iter().flat_map(str::split_whitespace).filter_map(|word| word.parse::<f64>().ok());
        let [ours, hand, ratio] = numbers.collect::<Vec<_>>()[..] else {
            return Err(format!("a bench does not print ours, by hand and their ratio behind `{beginning}`").into());
        };
        // Whole nanoseconds are printed beside an exact ratio, exact milliseconds beside a rounded one.
        let measured = if unit == "ns" { ratio } else { ours / hand };
        let cost = format!("{ours} {unit}, by hand {hand} {unit}");
        Ok(Row { what, measured, wanted, at_least: false, unit: "times", cost })
    };
    Ok(vec![
        row("`each` over 10,000 items, recorded", &loops, "each over 10,000 items, recorded step by step", "ms", 1.8)?,
        row("a comparison: `input.nights > 2`", &expressions, "input.nights > 2 ", "ns", 1.5)?,
        row(
            "arithmetic: three products",
            &expressions,
            "input.length_m * 3.2 * input.nights * input.rate ",
            "ns",
            1.5,
        )?,
        row(
            "a comparison of a product, and another",
            &expressions,
            "input.nights > 2 && input.length_m * 3.2 < 500 ",
            "ns",
            1.5,
        )?,
    ])
}

/// The queue against bare SQL.
fn jobs(bins: &Path, dir: &Path) -> Result<Vec<Row>, Fault> {
    let whole = Whole::start(bins, &dir.join("jobs"), Ports::free()?, &["log.level=warn"])?;
    deploy(bins, &whole, &root().join("testing/bench/workflows/job.yaml"))?;
    let file = measure_jobs(bins, &whole, dir, true)?;
    whole.stop();
    let measured: Json = serde_json::from_str(&fs::read_to_string(file)?)?;
    let find = |what: &str| -> Result<(f64, String), Fault> {
        let figures = measured["figures"].as_array().into_iter().flatten();
        let mut found = figures.filter(|figure| figure["what"].as_str().is_some_and(|known| known.starts_with(what)));
        let figure = found.next().ok_or("a bench measured no such figure")?;
        let value = figure["value"].as_f64().unwrap_or(0.0);
        Ok((value, figure["more"].as_str().unwrap_or_default().to_owned()))
    };
    let (bare, each) = find("bare SQL")?;
    let inserts: f64 = each.split([' ', ',']).find_map(|word| word.parse().ok()).ok_or("no rate of inserts")?;
    let (accepted, _) = find("accepted over HTTP")?;
    let (both, _) = find("accepted to finished")?;
    let (late, median) = find("202 to first step")?;
    let of_bare = |what, rate: f64, bare: f64, wanted| Row {
        what,
        measured: rate / bare,
        wanted,
        at_least: true,
        unit: "",
        cost: format!("{} of {} jobs/s", thousands(rate), thousands(bare)),
    };
    let median = median.split(" (").next().unwrap_or_default().to_owned();
    Ok(vec![
        of_bare("accepted to finished, one step, of bare SQL in batches of 200", both, bare, 0.8),
        of_bare("accepted over HTTP, of bare inserts", accepted, inserts, 0.75),
        Row { what: "202 to first step, p99", measured: late, wanted: 5.0, at_least: false, unit: "ms", cost: median },
    ])
}

fn memory(bins: &Path) -> Result<Vec<Row>, Fault> {
    let found = idle::measured(bins)?;
    let row = |what, measured, wanted, unit, cost| Row { what, measured, wanted, at_least: false, unit, cost };
    let [ours, hand] = found.each;
    let (took, used) = found.ready;
    let connections = format!("{ours:.1} KB each, by hand {hand:.1} KB");
    let ready = format!("{used:.0} ms of its processor");
    Ok(vec![
        row("memory with 100 workflows, idle", found.few.all(), 40.0, "MB", found.few.parts()),
        row("memory with 10,000 idle connections", found.connected.all(), 150.0, "MB", connections),
        row("ready after start with 1,000 workflows", took, 500.0, "ms", ready),
    ])
}

/// Puts the table into the chapter.
fn keep(table: &str) -> Result<(), Fault> {
    let file = root().join("docs/performance.md");
    let text = fs::read_to_string(&file)?;
    let (before, rest) = text.split_once(HEAD).ok_or("docs/performance.md has no table to replace")?;
    let behind = rest.split_once("\n\n").map_or("", |(_, behind)| behind);
    fs::write(&file, format!("{before}{HEAD}{table}\n\n{behind}"))?;
    println!("written to {}", file.display());
    Ok(())
}

/// A whole number with its thousands apart.
fn thousands(number: f64) -> String {
    let whole = number.round() as u64;
    if whole < 1000 { whole.to_string() } else { format!("{},{:03}", whole / 1000, whole % 1000) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_say_what_is_reached() {
        let row = |measured, wanted, at_least, unit| {
            Row { what: "x", measured, wanted, at_least, unit, cost: "1 µs".into() }.line()
        };
        for (line, wanted) in [
            (row(0.561, 0.85, true, ""), "| x | 0.56 | at least 0.85 | 1 µs |"),
            (row(1.06, 1.0, true, ""), "| x | **1.06** | at least 1 | 1 µs |"),
            (row(2.123, 1.8, false, "times"), "| x | 2.12 times | under 1.80 times | 1 µs |"),
            (row(326.4, 500.0, false, "ms"), "| x | **326.4 ms** | under 500 ms | 1 µs |"),
        ] {
            assert_eq!(line, wanted);
        }
    }
}
