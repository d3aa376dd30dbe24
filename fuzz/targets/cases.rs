//! Any text as cases of a demo workflow: never a panic, every case comes to an end.
#![no_main]

use kanzlei_core::check::{Bundle, check};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let mut bundle = Bundle::default();
    for (name, service, api) in [
        ("registry", include_str!("../../demo/harbour/services/registry.yaml"), include_str!("../../demo/harbour/services/registry.openapi.yaml")),
        ("tides", include_str!("../../demo/harbour/services/tides.yaml"), include_str!("../../demo/harbour/services/tides.openapi.yaml")),
        ("rates", include_str!("../../demo/harbour/services/rates.yaml"), include_str!("../../demo/harbour/services/rates.openapi.yaml")),
    ] {
        bundle.context.push(kanzlei_core::document::Source::new(format!("services/{name}.yaml"), service));
        bundle.files.insert(format!("services/{name}.openapi.yaml"), api.to_owned());
    }
    let workflow = include_str!("../../demo/harbour/workflows/berth-quote.yaml");
    bundle.context.push(kanzlei_core::document::Source::new("workflows/berth-quote.yaml", workflow));
    bundle.add("cases.yaml", text);
    let checked = check(&bundle);
    for prepared in &checked.rehearsals {
        for index in 0..prepared.len().min(20) {
            let result = prepared.run(index);
            assert!(result.passed() || !result.differences.is_empty() || !result.missing_stubs.is_empty());
        }
    }
});
