//! Any text as the OpenAPI document of a service that a workflow calls.
#![no_main]

use kanzlei_compiler::check::{Bundle, check};
use kanzlei_compiler::example;
use kanzlei_lang::types::schema::Reader;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.yaml\n");
    bundle.files.insert("o.yaml".into(), text.to_owned());
    bundle.add("w.yaml", "workflow: w\ninput: {imo: {type: string}}\nentries: [{endpoint: GET /w, access: open}]\nsteps:\n  - {id: v, call: s.getVessel, send: {imo: \"${input.imo}\"}, accept: [200, 404]}\n  - reply: 200\n    body: ${v.body}\n");
    let checked = check(&bundle);
    for service in checked.services.values() {
        let mut reader = Reader::new(&service.api);
        for operation in service.operations.values() {
            for schema in operation.parameters.iter().map(|one| &one.schema).chain(&operation.body) {
                let _ = reader.read(schema).to_string();
            }
            for response in &operation.responses {
                for (_, schema) in &response.content {
                    let _ = reader.read(schema).to_string();
                    let _ = example::of_schema_in(&service.api, schema);
                }
            }
        }
    }
    let _ = kanzlei_compiler::openapi::document(
        checked.workflows.iter().map(|(_, plan)| &**plan),
        "http://localhost",
        None,
        "Run-Id",
    );
});
