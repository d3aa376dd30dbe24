//! `rehearse`: runs cases offline, in parallel, and reports what differs and what was not reached.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use kanzlei_compiler::check::{Bundle, Checked};
use kanzlei_rehearsal::{CaseResult, Coverage, Lender, Prepared, Reached, check};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};
use serde_json::json;

use super::lend::FromService;
use super::{against, print_json};
use crate::api::Api;
use crate::args::Rehearse;
use crate::{Done, Error, draw, files};

/// How often files are checked for changes.
const WATCH: Duration = Duration::from_millis(300);

pub fn rehearse(args: &Rehearse, api: impl Fn() -> Result<Api, Error>, json: bool) -> Done {
    if !args.watch {
        return once(args, &api, json);
    }
    let mut last: Option<Bundle> = None;
    loop {
        let bundle = files::bundle(&args.paths);
        let now = bundle.ok();
        let changed = match (&last, &now) {
            (Some(last), Some(now)) => {
                last.documents != now.documents || last.context != now.context || last.files != now.files
            }
            _ => last.is_some() != now.is_some() || last.is_none(),
        };
        if changed {
            print!("\x1b[2J\x1b[H");
            match once(args, &api, json) {
                Ok(()) | Err(Error::Bad) => {}
                Err(Error::Usage(why) | Error::Failed(why) | Error::Unavailable(why)) => {
                    eprintln!("error: {why}")
                }
            }
            println!("{}", draw::dim("Waiting for changes; Ctrl-C ends."));
            last = now;
        }
        std::thread::sleep(WATCH);
    }
}

fn once(args: &Rehearse, api: &impl Fn() -> Result<Api, Error>, json: bool) -> Done {
    let bundle = files::bundle(&args.paths)?;
    let (checked, rehearsals) = check(&bundle);
    if checked.errors() > 0 {
        draw::diagnostics(&checked.diagnostics, &|path| text_of(&bundle, path));
        println!("{}; nothing was rehearsed", draw::counted(&checked.diagnostics));
        return Err(Error::Bad);
    }
    let begun = Instant::now();
    let chosen = choose(&rehearsals, args.only.as_deref());
    if chosen.is_empty() {
        let why = match &args.only {
            Some(only) => format!("no case has `{only}` in its name"),
            None => "there are no cases here; a document of cases begins `cases: WORKFLOW`".to_owned(),
        };
        return Err(Error::Usage(why));
    }
    let results = match &args.against {
        Some(url) => against::run(&chosen, url, &api()?)?,
        None => {
            // Only cases that want real databases need a service.
            let service = chosen.iter().any(|(prepared, _)| prepared.wants_databases()).then(api).transpose()?;
            run(&chosen, service.as_ref())
        }
    };
    let took = begun.elapsed();
    // With some cases only, what the others reach is not known.
    let coverage = if args.only.is_none() && args.against.is_none() {
        coverage(&checked, &rehearsals, &results)
    } else {
        Vec::new()
    };
    if let Some(path) = &args.junit {
        write_junit(path, &results, took)?;
    }
    if json {
        let failed = results.iter().filter(|result| !result.passed()).count();
        print_json(
            &json!({"cases": results, "coverage": coverage, "failed": failed, "duration_ms": took.as_millis() as u64}),
        );
    } else {
        show(&results, &coverage, took, args.against.as_deref());
    }
    if results.iter().all(CaseResult::passed) { Ok(()) } else { Err(Error::Bad) }
}

fn text_of(bundle: &Bundle, path: &str) -> Option<String> {
    bundle.documents.iter().find(|d| d.path == path).map(|d| d.text.clone())
}

/// The cases whose name, or `workflow/name`, has a text in it.
fn choose<'p>(rehearsals: &'p [Prepared], only: Option<&str>) -> Vec<(&'p Prepared, usize)> {
    let all = rehearsals.iter().flat_map(|prepared| (0..prepared.len()).map(move |index| (prepared, index)));
    all.filter(|(prepared, index)| {
        only.is_none_or(|only| format!("{}/{}", prepared.plan().name, prepared.name(*index)).contains(only))
    })
    .collect()
}

/// Runs cases on all cores; results stand in the order of the cases.
pub fn run(chosen: &[(&Prepared, usize)], service: Option<&Api>) -> Vec<CaseResult> {
    let lender = service.map(FromService);
    let lender = lender.as_ref().map(|lender| lender as &dyn Lender);
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get()).min(chosen.len().max(1));
    let next = AtomicUsize::new(0);
    let done: Mutex<BTreeMap<usize, CaseResult>> = Mutex::default();
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    let Some((prepared, index)) = chosen.get(at) else { break };
                    let result = prepared.run_with(*index, lender);
                    done.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(at, result);
                }
            });
        }
    });
    done.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner).into_values().collect()
}

/// Coverage of the workflows that were given, and of those that cases enter.
fn coverage(checked: &Checked, rehearsals: &[Prepared], results: &[CaseResult]) -> Vec<Coverage> {
    let mut reached = Reached::default();
    results.iter().for_each(|result| reached.add(&result.reached));
    let mut plans: BTreeMap<&str, _> = BTreeMap::new();
    plans.extend(checked.workflows.iter().map(|(_, plan)| (plan.name.as_str(), plan)));
    plans.extend(rehearsals.iter().map(|prepared| (prepared.plan().name.as_str(), prepared.plan())));
    let mut all: Vec<Coverage> = plans.into_values().map(|plan| Coverage::of(plan, &reached)).collect();
    all.extend(checked.libraries.iter().map(|(name, functions)| Coverage::of_library(name, functions, &reached)));
    all
}

/// Whether the cases of a bundle pass; reports those that do not. For `deploy`.
pub fn all_pass(rehearsals: &[Prepared], api: &Api) -> bool {
    let chosen = choose(rehearsals, None);
    let results = run(&chosen, Some(api));
    for result in results.iter().filter(|result| !result.passed()) {
        show_failed(result);
    }
    results.iter().all(CaseResult::passed)
}

fn show_failed(result: &CaseResult) {
    println!(
        "{} {} · {}  {}",
        draw::paint("31", "✗"),
        result.workflow,
        draw::bold(&result.case),
        draw::dim(&format!("{}:{}", result.path, result.line))
    );
    for difference in &result.differences {
        println!("    {}  {}", difference.what, draw::dim(&format!("line {}", difference.line)));
        println!("      wanted  {}", draw::paint("32", &difference.wanted));
        println!("      got     {}", draw::paint("31", &difference.got));
    }
    if !result.missing_stubs.is_empty() {
        println!("    no stub answers; paste under `stubs`:");
        for stub in &result.missing_stubs {
            println!("      {stub}");
        }
    }
}

fn show(results: &[CaseResult], coverage: &[Coverage], took: Duration, against: Option<&str>) {
    for result in results.iter().filter(|result| !result.passed()) {
        show_failed(result);
    }
    let failed = results.iter().filter(|result| !result.passed()).count();
    if failed > 0 {
        println!();
    }
    let counts = |name: &str| {
        let all: Vec<_> = results.iter().filter(|result| result.workflow == name).collect();
        (all.iter().filter(|result| result.passed()).count(), all.len())
    };
    if coverage.is_empty() {
        let mut names: Vec<&str> = results.iter().map(|result| result.workflow.as_str()).collect();
        names.sort_unstable();
        names.dedup();
        let rows = names.iter().map(|name| {
            let (passed, all) = counts(name);
            vec![(*name).to_owned(), format!("{passed} of {all}")]
        });
        draw::table(&["workflow", "passed"], rows);
    } else {
        let rows = coverage.iter().map(|of| {
            let (passed, all) = counts(&of.workflow);
            let colour = if of.missing.is_empty() { "32" } else { "33" };
            vec![
                of.workflow.clone(),
                match all {
                    _ if of.library => draw::dim("library"),
                    0 => draw::dim("no cases"),
                    _ => format!("{passed} of {all}"),
                },
                if of.library { String::new() } else { format!("{}/{}", of.steps_reached, of.steps) },
                format!("{}/{}", of.branches_reached, of.branches),
                draw::paint(colour, &format!("{:.0}%", of.percent().floor())),
            ]
        });
        draw::table(&["workflow", "passed", "steps", "branches", "covered"], rows);
        if coverage.iter().any(|of| !of.missing.is_empty()) {
            println!("\nNot reached:");
            for of in coverage {
                if of.steps_reached == 0 && !of.library {
                    println!("  {} {}", of.workflow, draw::dim("no step of it"));
                    continue;
                }
                for missing in &of.missing {
                    let branch = missing.branch.as_ref().map(|branch| format!(" · {branch}")).unwrap_or_default();
                    let what: String = missing.what.chars().take(60).collect();
                    println!(
                        "  {} {}{branch}  {}",
                        of.workflow,
                        draw::bold(&missing.number),
                        draw::dim(&format!("{what} (line {})", missing.line))
                    );
                }
            }
        }
    }
    let (passed, all) = (results.len() - failed, results.len());
    let outcome = match failed {
        0 => draw::paint("32", &format!("{passed} passed")),
        _ => format!("{passed} passed, {}", draw::paint("31", &format!("{failed} failed"))),
    };
    let whom = against.map(|url| format!(" against {url}")).unwrap_or_default();
    let took = kanzlei_model::duration::short(took);
    println!("\n{all} case{}{whom}: {outcome} {}", if all == 1 { "" } else { "s" }, draw::dim(&format!("({took})")));
}

/// JUnit's XML, as build servers read it.
fn write_junit(path: &Path, results: &[CaseResult], took: Duration) -> Done {
    let mut report = Report::new("kanzlei rehearse");
    report.set_time(took);
    let mut suites: BTreeMap<&str, TestSuite> = BTreeMap::new();
    for result in results {
        let suite = suites.entry(&result.workflow).or_insert_with(|| TestSuite::new(&result.workflow));
        let mut status = TestCaseStatus::success();
        if !result.passed() {
            let mut lines: Vec<String> = result
                .differences
                .iter()
                .map(|d| format!("{}:{}: {}: wanted {}, got {}", result.path, d.line, d.what, d.wanted, d.got))
                .collect();
            lines.extend(result.missing_stubs.iter().map(|stub| format!("no stub answers; paste: {stub}")));
            status = TestCaseStatus::non_success(NonSuccessKind::Failure);
            status.set_message(lines.first().cloned().unwrap_or_default());
            status.set_description(lines.join("\n"));
        }
        let mut case = TestCase::new(&result.case, status);
        case.set_classname(&result.workflow);
        suite.add_test_case(case);
    }
    report.add_test_suites(suites.into_values());
    let written = report.to_string().map_err(|error| Error::Failed(error.to_string()))?;
    std::fs::write(path, written).map_err(|error| Error::Usage(format!("{}: {error}", path.display())))
}

/// Paths given to a command, for messages.
pub fn shown(paths: &[PathBuf]) -> String {
    paths.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join(" ")
}
