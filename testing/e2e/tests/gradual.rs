//! A gradual deploy from the client to the comparison, over two processes.

use std::time::Duration;

use kanzlei_e2e::*;
use kanzlei_harness::wait;

const OLD: &str = "workflow: tides
entries: [{endpoint: GET /tides, access: open}]
steps: [{reply: 200, body: old}]
";

#[test]
fn a_new_revision_serves_a_share_until_it_is_finished() {
    let office = office("gradual", &[]);
    let (_second, ports) = office.another(2).expect("a second process");
    let second = format!("http://127.0.0.1:{}", ports.public);
    let folder = kanzlei_harness::scratch::folder("gradual-documents");
    std::fs::create_dir_all(&folder).expect("a folder");
    let file = folder.join("tides.yaml");
    let path = file.to_str().expect("UTF-8");
    let write = |text: &str| std::fs::write(&file, text).expect("a file");
    let run = |args: &[&str], code: i32| said(&client(&office, args), code);
    assert!(run(&["gradual"], 0).contains("No gradual deploy is under way"));
    write(OLD);
    assert!(run(&["deploy", path, "--share", "10%"], 1).contains("no revision of `tides` is live"));
    run(&["deploy", path], 0);
    write(&OLD.replace("old", "new"));
    let begun = run(&["deploy", path, "--header", "X-Ring: new", "--margin", "5"], 0);
    assert!(begun.contains("revision 2 · beside the live one, serves X-Ring: new"), "{begun}");
    let answer = |public: &str, ring: &str| http("GET", &format!("{public}/tides"), &[("x-ring", ring)], b"").body;
    for public in [office.public(), second.clone()] {
        let followed = wait::until(Duration::from_secs(20), || answer(&public, "new").contains("new").then_some(()));
        assert!(followed.is_some(), "{public} serves the new revision");
        assert!(answer(&public, "other").contains("old"), "{public} serves the live revision");
    }
    // What each process counted comes together.
    let shown = wait::until(Duration::from_secs(30), || {
        let shown = run(&["gradual", "show", "tides"], 0);
        let runs = |of: &str| -> Option<u32> {
            let row = shown.lines().find_map(|line| line.strip_prefix(of))?;
            row.split_whitespace().next()?.parse().ok()
        };
        // A process that had not followed yet served the old one meanwhile.
        (runs("old 1") >= Some(2) && runs("new 2") >= Some(2)).then_some(shown)
    });
    let shown = shown.unwrap_or_else(|| panic!("{}", run(&["gradual", "show", "tides"], 0)));
    assert!(shown.contains("serves X-Ring: new") && shown.contains("5 points higher"), "{shown}");
    assert!(run(&["gradual", "change", "tides", "--share", "100%"], 0).contains("serves 100 %, X-Ring: new"));
    assert!(run(&["gradual"], 0).contains("tides"));
    assert!(run(&["gradual", "finish", "tides"], 0).contains("Revision 2 of tides is live"));
    assert!(run(&["gradual", "take-back", "tides"], 1).contains("has ended: revision 2 was finished"));
    for public in [office.public(), second.clone()] {
        let followed = wait::until(Duration::from_secs(20), || answer(&public, "other").contains("new").then_some(()));
        assert!(followed.is_some(), "{public} serves the new revision to all");
    }
}
