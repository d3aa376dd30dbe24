//! Any bytes as a document beside the demo office: never a panic, positions inside the text, and what
//! passes the check runs to an end on dull answers.
#![no_main]

use kanzlei_compiler::check::check;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let mut bundle = kanzlei_fuzz::office_around(text);
    bundle.add("workflows/w.yaml", text);
    let checked = check(&bundle);
    for found in &checked.diagnostics {
        assert!(found.start <= found.end && found.line > 0 && found.column > 0);
    }
    let _ = kanzlei_compiler::openapi::document(
        checked.workflows.iter().map(|(_, plan)| &**plan),
        "http://localhost",
        None,
        "Run-Id",
    );
    for (_, plan) in &checked.workflows {
        kanzlei_fuzz::run_dully(plan);
    }
});
