//! Attacks a fresh office on loopback and prints what was held, by area; `cargo xtask attack` runs it.

use kanzlei_e2e::attack::{Report, Target, bodies, control, documents, files, jobs, load, public};

fn main() {
    let office = kanzlei_e2e::office("attacked", &["log.level=info", files::SETTING]);
    let target = Target::prepare(&office);
    let mut report = Report::default();
    for (name, run) in [
        ("public listener", public::run as fn(&Target, &mut Report)),
        ("bodies and headers", bodies::run),
        ("control listener", control::run),
        ("documents", documents::run),
        ("files", files::run),
        ("jobs", jobs::run),
        ("load", load::run),
    ] {
        eprintln!("attacking: {name} …");
        run(&target, &mut report);
    }
    println!("{report}");
    drop(office);
    std::process::exit(i32::from(!report.fell.is_empty()));
}
