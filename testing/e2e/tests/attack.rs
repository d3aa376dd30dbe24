//! The quick part of the attacks; `cargo xtask attack` runs all of them.

use kanzlei_e2e::attack::{Report, Target, bodies, control, documents, files, jobs, public};

#[test]
fn attacks_are_held() {
    let office = kanzlei_e2e::office("attack", &[files::SETTING]);
    let target = Target::prepare(&office);
    let mut report = Report::default();
    for run in [public::run, bodies::run, control::run, documents::run, files::run, jobs::run] {
        run(&target, &mut report);
    }
    assert!(report.fell.is_empty() && report.count() > 350, "{report}");
}
