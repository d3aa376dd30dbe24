//! `cargo xtask contract`: the published OpenAPI document, judged by others. A validator reads it, and a
//! property-based tester sends thousands of requests made from it: every answer must be among those that
//! the document describes, and none a fault of the server. Both come from PyPI, into a folder of their own.

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

use kanzlei_harness::office::{Ports, Whole};
use kanzlei_harness::packages;

use crate::demo::client;
use crate::{Done, Fault, build, root, run};

const TOOLS: [&str; 2] = ["openapi-spec-validator==0.9.0", "schemathesis==4.32.5"];

/// What is asked of each answer.
const CHECKS: &str = "not_a_server_error,status_code_conformance,content_type_conformance,\
                      response_schema_conformance,response_headers_conformance";

/// How the tester writes bodies that are files: as the bytes that it made up.
const HOOKS: &str = r#"import schemathesis


@schemathesis.serializer("application/zip", "application/pdf")
def file(context, value):
    return value if isinstance(value, bytes) else str(value).encode("utf-8", "replace")
"#;

pub fn run_contract(examples: u32) -> Done {
    packages::install(&[packages::MARIADB, packages::VENV])?;
    build::console()?;
    let bins = build::programs(false)?;
    let tools = tools(&bins)?;
    let dir = kanzlei_harness::scratch::folder("contract");
    let whole = Whole::start(&bins, &dir, Ports::free()?, &[])?;
    let judged = judge(&bins, &tools, &whole, &dir, examples);
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    judged?;
    Ok(ExitCode::SUCCESS)
}

/// The folder with the programs of the tools, installed where they are missing.
fn tools(bins: &Path) -> Result<PathBuf, Fault> {
    let folder = bins.parent().unwrap_or(bins).join("contract-tools");
    if !folder.join("bin/schemathesis").exists() {
        run(Command::new("python3").args(["-m", "venv"]).arg(&folder))?;
        run(Command::new(folder.join("bin/pip")).args(["install", "--quiet"]).args(TOOLS))?;
    }
    Ok(folder.join("bin"))
}

fn judge(bins: &Path, tools: &Path, whole: &Whole, dir: &Path, examples: u32) -> Result<(), Fault> {
    let office = &whole.office;
    let asked = |args: &[&str]| client(bins, &office.control(), &office.token).args(args).current_dir(root()).output();
    if !asked(&["deploy", "demo/harbour"])?.status.success() {
        return Err("the demo office could not be deployed".into());
    }
    let document = dir.join("openapi.json");
    std::fs::write(&document, asked(&["openapi"])?.stdout)?;
    for document in [document, root().join("server/api/openapi.json")] {
        run(Command::new(tools.join("python")).args(["-m", "openapi_spec_validator"]).arg(document))?;
    }
    std::fs::write(dir.join("hooks.py"), HOOKS)?;
    // In the throwaway folder: it leaves notes of its own where it runs.
    let status = Command::new(tools.join("schemathesis"))
        .args(["run", &format!("{}/~/openapi.json", office.public()), "--checks", CHECKS])
        .args(["--max-examples", &examples.to_string(), "--workers", "2", "--no-color"])
        .env("SCHEMATHESIS_HOOKS", "hooks")
        .env("PYTHONPATH", dir)
        .current_dir(dir)
        .status()?;
    if status.success() { Ok(()) } else { Err("answers were not as the document describes them".into()) }
}
