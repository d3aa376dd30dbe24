//! Any bytes as a document that is being typed: what editors ask at any place never panics, and changes of it can be undone.
#![no_main]

use kanzlei_analysis::{Workspace, complete, hover, outline, scope, symbols};
use kanzlei_lang::edit::{self, Change};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((place, text)) = bytes.split_first() else { return };
    let Ok(text) = std::str::from_utf8(text) else { return };
    let bundle = kanzlei_fuzz::office_around(text);
    let texts = bundle.context.into_iter().map(|source| (source.path, source.text)).chain(bundle.files);
    let mut workspace = Workspace::of(texts);
    workspace.set_document("workflows/w.yaml", text);
    let at = text.len() * usize::from(*place) / 255;
    for found in complete::at(&workspace, "workflows/w.yaml", at) {
        assert!(found.replace.start <= found.replace.end && found.replace.end as usize <= text.len());
    }
    let _ = hover::at(&workspace, "workflows/w.yaml", at);
    let _ = scope::at(&workspace, "workflows/w.yaml", at);
    let _ = symbols::definition(&workspace, "workflows/w.yaml", at);
    for step in outline::of(&workspace, "workflows/w.yaml").iter().take(3) {
        let at = edit::parse_path(&step.at);
        for change in [Change::Duplicate { at: at.clone() }, Change::Remove { at: at.clone() }] {
            if let Ok(edits) = edit::change(text, &change) {
                let new = edit::apply(text, &edits).expect("edits of this text");
                assert_eq!(edit::apply(&new, &edit::undo(text, &edits)).expect("undone"), text);
            }
        }
    }
});
