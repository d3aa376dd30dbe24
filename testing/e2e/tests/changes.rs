//! Changed rows with several processes, of which those that read them are killed.

use std::time::Duration;

use kanzlei_e2e::*;
use kanzlei_harness::wait;

const WORKFLOW: &str = "workflow: seen
input: {row: {type: integer}, n: {type: integer}}
entries:
  - {change: counted, database: harbour, of: [update], send: {row: \"${after.id}\", n: \"${after.n}\"}}
steps:
  - sql: harbour
    statement: INSERT INTO seen (row_id, n) VALUES (:row, :n)
    bind: {row: \"${input.row}\", n: \"${input.n}\"}
";

/// Four rows count up while their readers are killed in turn: each number of each row is seen once, in its order.
#[test]
fn no_change_is_missed_or_seen_twice_when_readers_are_killed() {
    let office = office("changes_kill", &["jobs.lease=2s"]);
    let harbour = "kanzlei_changes_kill_harbour";
    let sql = |text: &str| database().sql(harbour, text).expect("a statement").trim().to_owned();
    sql(
        "CREATE TABLE counted (id INT PRIMARY KEY, n INT NOT NULL); INSERT INTO counted VALUES (1, 0), (2, 0), (3, 0), (4, 0)",
    );
    sql("CREATE TABLE seen (at INT AUTO_INCREMENT PRIMARY KEY, row_id INT, n INT)");
    let deployed = deploy_texts(&office, &[("seen.yaml", WORKFLOW)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let mut others = Vec::new();
    for number in 1..=3 {
        others.push(office.another(number).expect("another process").0);
    }
    let rounds = 240;
    std::thread::scope(|scope| {
        for row in 1..=4 {
            let sql = &sql;
            scope.spawn(move || {
                // Several updates in one transaction, and every fifth transaction is undone.
                for part in 0..rounds / 6 {
                    let six = format!("UPDATE counted SET n = n + 1 WHERE id = {row};").repeat(6);
                    sql(&format!("BEGIN; {six} COMMIT"));
                    if part % 5 == 0 {
                        sql(&format!("BEGIN; {six} ROLLBACK"));
                    }
                }
            });
        }
        for other in &mut others {
            // Each reads something before it is killed: the lock goes on to another one.
            let before: u64 = sql("SELECT COUNT(*) FROM seen").parse().expect("a number");
            let more = || (sql("SELECT COUNT(*) FROM seen").parse::<u64>().unwrap_or(0) > before + 20).then_some(());
            let _ = wait::until(Duration::from_secs(3), more);
            other.kill();
        }
    });
    let all = (4 * rounds).to_string();
    let done = || (sql("SELECT COUNT(*) FROM seen") == all).then_some(());
    wait::until(Duration::from_secs(40), done).unwrap_or_else(|| {
        let records = |text: &str| database().sql("kanzlei_changes_kill", text).expect("a statement");
        let jobs = records("SELECT HEX(id), phase, claim_rank, due, ready_at, HEX(worker), ordering_key, attempt FROM job WHERE phase < 10 ORDER BY due LIMIT 20");
        let holders = records("SELECT name, HEX(job) FROM ordering_holder");
        let workers = records("SELECT HEX(id), name FROM worker");
        let watches = said(&client(&office, &["watches"]), 0);
        panic!("{} of {all} were seen\n{watches}\n{jobs}\n{holders}\n{workers}", sql("SELECT COUNT(*) FROM seen"))
    });
    assert_eq!(sql("SELECT COUNT(DISTINCT row_id, n) FROM seen"), all, "each once");
    let listed = said(&client(&office, &["watches"]), 0);
    assert!(listed.contains("harbour.counted") && listed.contains(&all), "{listed}");
    for row in 1..=4 {
        let text = sql(&format!("SELECT n FROM seen WHERE row_id = {row} ORDER BY at"));
        let numbers: Vec<u32> = text.lines().filter_map(|n| n.parse().ok()).collect();
        assert!(numbers.windows(2).all(|pair| pair[0] < pair[1]), "row {row} in its order: {numbers:?}");
    }
}
