//! The direction of dependencies: what is lower never depends on what is higher.

use std::collections::BTreeMap;
use std::process::Command;

use serde_json::Value as Json;

/// What each crate may depend on, of the project's own crates. Tests may use those under `DEV` beside.
const MAY: &[(&str, &[&str])] = &[
    ("kanzlei-model", &[]),
    ("kanzlei-samples", &[]),
    ("kanzlei-faults", &[]),
    ("kanzlei-lang", &["kanzlei-model", "kanzlei-pages"]),
    ("kanzlei-reports", &["kanzlei-model"]),
    ("kanzlei-pages", &[]),
    ("kanzlei-compiler", &["kanzlei-model", "kanzlei-lang", "kanzlei-reports"]),
    ("kanzlei-engine", &["kanzlei-model", "kanzlei-lang", "kanzlei-reports", "kanzlei-compiler"]),
    ("kanzlei-rehearsal", &["kanzlei-model", "kanzlei-lang", "kanzlei-compiler", "kanzlei-engine"]),
    (
        "kanzlei-analysis",
        &["kanzlei-model", "kanzlei-lang", "kanzlei-reports", "kanzlei-compiler", "kanzlei-rehearsal"],
    ),
    // Its examples are rehearsed by its tests.
    ("kanzlei-gallery", &["kanzlei-lang", "kanzlei-compiler", "kanzlei-rehearsal"]),
    ("kanzlei-assistant", &["kanzlei-lang", "kanzlei-compiler", "kanzlei-analysis", "kanzlei-gallery"]),
    ("kanzlei-store", &["kanzlei-model"]),
    ("kanzlei-api", &["kanzlei-model", "kanzlei-lang", "kanzlei-compiler", "kanzlei-analysis"]),
    (
        "kanzlei-runtime",
        &[
            "kanzlei-model",
            "kanzlei-lang",
            "kanzlei-compiler",
            "kanzlei-engine",
            "kanzlei-rehearsal",
            "kanzlei-store",
            "kanzlei-api",
        ],
    ),
    (
        "kanzleid",
        &[
            "kanzlei-model",
            "kanzlei-lang",
            "kanzlei-compiler",
            "kanzlei-engine",
            "kanzlei-rehearsal",
            "kanzlei-analysis",
            "kanzlei-store",
            "kanzlei-api",
            "kanzlei-assistant",
            "kanzlei-gallery",
            "kanzlei-runtime",
        ],
    ),
    (
        "kanzlei",
        &[
            "kanzlei-model",
            "kanzlei-lang",
            "kanzlei-compiler",
            "kanzlei-engine",
            "kanzlei-rehearsal",
            "kanzlei-analysis",
            "kanzlei-assistant",
            "kanzlei-gallery",
            "kanzlei-api",
        ],
    ),
    ("kanzlei-harness", &[]),
    ("kanzlei-standins", &[]),
    ("kanzlei-e2e", &["kanzlei-harness"]),
    ("xtask", &["kanzlei-harness"]),
];
/// Test data and private databases, for any crate's tests.
const DEV: &[&str] = &["kanzlei-samples", "kanzlei-faults", "kanzlei-harness"];
/// Interfaces, clocks and I/O that the core must not know, whatever brings them in.
const NOT_IN_CORE: &[&str] = &["tokio", "actix-web", "sqlx", "reqwest", "clap", "ureq", "tracing"];

/// Packages of listeners and configuration, which the runtime must not depend on.
const NOT_IN_RUNTIME: &[&str] = &["actix-web", "clap", "figment"];

fn packages() -> Vec<Json> {
    let mut cargo = Command::new(std::env::var("CARGO").unwrap_or_else(|_| "cargo".into()));
    let output = cargo.args(["metadata", "--format-version", "1", "--no-deps", "--offline"]).output().expect("cargo");
    let metadata: Json = serde_json::from_slice(&output.stdout).expect("metadata");
    metadata["packages"].as_array().expect("packages").clone()
}

/// The dependencies that point the wrong way.
fn wrong(packages: &[Json]) -> Vec<String> {
    let may: BTreeMap<&str, &[&str]> = MAY.iter().copied().collect();
    let own: Vec<&str> = packages.iter().filter_map(|package| package["name"].as_str()).collect();
    let mut found = Vec::new();
    for package in packages {
        let name = package["name"].as_str().unwrap_or_default();
        let core = package["manifest_path"].as_str().is_some_and(|path| path.contains("/core/"));
        for dependency in package["dependencies"].as_array().into_iter().flatten() {
            let on = dependency["name"].as_str().unwrap_or_default();
            let dev = dependency["kind"] == "dev";
            let allowed = match (own.contains(&on), may.get(name)) {
                // Benchmarks measure whatever there is.
                _ if name == "kanzlei-bench" => true,
                (false, _) if core => dev || !NOT_IN_CORE.contains(&on),
                (false, _) => dev || name != "kanzlei-runtime" || !NOT_IN_RUNTIME.contains(&on),
                (true, Some(allowed)) => allowed.contains(&on) || dev && DEV.contains(&on),
                (true, None) => false,
            };
            if !allowed {
                found.push(format!("{name} -> {on}"));
            }
        }
    }
    found
}

#[test]
fn dependencies_point_downwards() {
    let packages = packages();
    assert!(packages.len() > 10, "{}", packages.len());
    assert_eq!(wrong(&packages), Vec::<String>::new());
}

#[test]
fn a_dependency_that_points_up_is_found() {
    let package = |name: &str, on: &str, kind: Json| serde_json::json!({"name": name, "manifest_path": if name.starts_with("kanzlei-") && name != "kanzlei-runtime" { "/x/core/y/Cargo.toml" } else { "/x/y/Cargo.toml" }, "dependencies": [{"name": on, "kind": kind}]});
    let packages = [
        package("kanzlei-model", "kanzlei-lang", Json::Null),
        package("kanzlei-lang", "tokio", Json::Null),
        package("kanzlei-engine", "kanzlei-samples", "dev".into()),
        package("kanzlei-samples", "serde", Json::Null),
        package("kanzlei-new", "kanzlei-model", Json::Null),
        package("kanzlei-runtime", "clap", Json::Null),
        package("kanzleid", "clap", Json::Null),
    ];
    assert_eq!(
        wrong(&packages),
        [
            "kanzlei-model -> kanzlei-lang",
            "kanzlei-lang -> tokio",
            "kanzlei-new -> kanzlei-model",
            "kanzlei-runtime -> clap"
        ]
    );
}
