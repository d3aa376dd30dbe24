//! Any text as cases of demo workflows: never a panic, every case comes to an end.
#![no_main]

use kanzlei_rehearsal::check;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    // The workflow that the cases are for, and what it needs; the rest of the office would only cost time.
    let Some(name) = text.lines().find_map(|line| line.strip_prefix("cases:")) else { return };
    let mut bundle =
        kanzlei_fuzz::office(&[name.trim(), "vessel-dues", "hold-watch", "dues-reminder", "arrival-follow-up"]);
    bundle.add("cases/c.yaml", text);
    let (_, rehearsals) = check(&bundle);
    for prepared in &rehearsals {
        for index in 0..prepared.len().min(20) {
            let result = prepared.run(index);
            assert!(result.passed() || !result.differences.is_empty() || !result.missing_stubs.is_empty());
        }
    }
});
