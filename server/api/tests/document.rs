//! The committed document is the one that the types make.

#[test]
fn the_committed_document_is_current() {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("openapi.json");
    let made = serde_json::to_string_pretty(&kanzlei_api::openapi::document()).expect("json") + "\n";
    if std::env::var_os("KANZLEI_WRITE").is_some() {
        std::fs::write(&path, &made).expect("written");
    }
    let committed = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(made == committed, "server/api/openapi.json is not what the types describe; run `cargo xtask api`");
}

#[test]
fn every_reference_leads_somewhere() {
    let document = kanzlei_api::openapi::document();
    let text = document.to_string();
    let mut count = 0;
    for reference in text.split("\"$ref\":\"#").skip(1).filter_map(|rest| rest.split('"').next()) {
        assert!(document.pointer(reference).is_some(), "{reference}");
        count += 1;
    }
    assert!(count > 50, "{count}");
    for (method, path) in kanzlei_api::openapi::routes() {
        assert!(document["paths"][path][method]["operationId"].is_string(), "{method} {path}");
    }
}
