//! The demo office as a bundle, for the tests that look at all of it.

use kanzlei_core::check::Bundle;
use kanzlei_core::document;

/// The documents of the demo office, and the files they name.
pub fn demo() -> Bundle {
    let root = format!("{}/../../demo/harbour", std::env::var("CARGO_MANIFEST_DIR").expect("run by cargo"));
    let mut bundle = Bundle::default();
    for folder in ["services", "lanes", "workflows", "cases"] {
        for entry in std::fs::read_dir(format!("{root}/{folder}")).expect("demo") {
            let path = entry.expect("entry").path();
            let name = format!("{folder}/{}", path.file_name().expect("name").to_string_lossy());
            let text = std::fs::read_to_string(&path).expect("text");
            if document::kind_of(&text).is_some() {
                bundle.add(&name, &text);
            } else {
                bundle.files.insert(name, text);
            }
        }
    }
    bundle
}
