//! Test data that several crates share: the texts of the demo office, and choices for generated tests.
//!
//! It depends on no other crate of Kanzlei, so that every layer can use it in its tests.
//!
//! ```
//! assert!(kanzlei_samples::demo().iter().any(|(path, _)| path == "workflows/berth-quote.yaml"));
//! kanzlei_samples::with_dice(10, 5, |dice| assert!(dice.below(6) < 6));
//! ```

mod dice;

pub use dice::{Dice, dice, in_batch, rounds, with_dice};

/// Path and text of every document of the demo office, and of the files they name.
///
/// # Panics
///
/// When the demo office is not in the checkout.
pub fn demo() -> Vec<(String, String)> {
    // The checkout that cargo runs the test in, which need not be the one this was compiled in.
    let package = std::env::var("CARGO_MANIFEST_DIR").unwrap_or_else(|_| env!("CARGO_MANIFEST_DIR").into());
    let found = std::path::Path::new(&package).ancestors().find(|folder| folder.join("demo/harbour").is_dir());
    let root = found.expect("the demo office").join("demo/harbour");
    let mut texts = Vec::new();
    for folder in [
        "services",
        "lanes",
        "allowances",
        "alerts",
        "issuers",
        "settings",
        "databases",
        "libraries",
        "workflows",
        "cases",
    ] {
        texts_below(&root, folder, &mut texts);
    }
    texts.sort();
    texts
}

fn texts_below(root: &std::path::Path, folder: &str, texts: &mut Vec<(String, String)>) {
    for entry in std::fs::read_dir(root.join(folder)).expect("the demo office") {
        let path = entry.expect("an entry").path();
        let name = format!("{folder}/{}", path.file_name().expect("a name").to_string_lossy());
        match path.is_dir() {
            true => texts_below(root, &name, texts),
            false => texts.push((name, std::fs::read_to_string(&path).expect("a text"))),
        }
    }
}
