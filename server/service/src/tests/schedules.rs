//! Timetables: what becomes of due times that were missed or that overlap.

use kanzlei_harness::wait::Deadline;
use kanzlei_model::run::JobPhase;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_store::queue::Firing;
use serde_json::{Value as Json, json};

use super::{Bed, LONG, with};

fn every(name: &str, entry: &str, step: &str) -> String {
    format!("workflow: {name}\nentries: [{{every: 1 min{entry}}}]\nsteps: [{step}]\n")
}

/// Makes a timetable known and moves it back, so that due times of these minutes were missed.
async fn missed(bed: &Bed, workflow: &str, minutes: i64) {
    let from = Timestamp::from_micros(now().as_minutes() * 60_000_000) - Span::from_secs(60) * minutes;
    let definition = {
        let live = bed.service.app.live.load();
        kanzlei_runtime::worker::timetables::definition(&live.workflows[workflow].plan.timetables[0])
    };
    bed.store().begin_timetable(workflow, 0, &definition, from).await.expect("begins");
}

/// Waits until a timetable has handled so many due times; newest first.
async fn firings(bed: &Bed, workflow: &str, count: usize) -> Vec<Firing> {
    let end = Deadline::after(LONG);
    loop {
        let found = bed.store().firings(workflow, 0, 100).await.expect("firings");
        if found.len() >= count {
            return found;
        }
        assert!(!end.is_over(), "not in time: {found:?}");
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
}

#[test]
fn missed_due_times_are_made_up_for_as_the_entry_says() {
    const ALL: [&str; 5] = ["missed"; 5];
    // Results of the due times of the last minutes, oldest first. Should a minute end meanwhile, `once` makes up
    // for the sixth in place of the fifth.
    for (name, expected) in [
        ("skip", vec![ALL.to_vec()]),
        ("once", vec![["missed", "missed", "missed", "missed", "queued"].to_vec(), ALL.to_vec()]),
        ("all", vec![["queued"; 5].to_vec()]),
    ] {
        with(name, &[&every(name, &format!(", missed: {name}"), "{note: x}")], &[], async |bed| {
            missed(bed, name, 6).await;
            bed.work();
            let mut found = firings(bed, name, 6).await;
            found.reverse();
            let results: Vec<&str> = found[..5].iter().map(|firing| firing.result.as_str()).collect();
            assert!(expected.contains(&results), "{name}: {found:?}");
            assert!(name == "skip" || found[5].result == "queued", "{name}: {found:?}");
        });
    }
}

#[test]
fn a_timetable_that_may_not_overlap_leaves_due_times_out() {
    with("overlap", &[&every("slow", ", missed: all, overlap: skip", "{pause: 1 day}")], &[], async |bed| {
        missed(bed, "slow", 6).await;
        bed.work();
        let found = firings(bed, "slow", 5).await;
        let queued: Vec<&Firing> = found.iter().filter(|firing| firing.job.is_some()).collect();
        assert_eq!((queued.len(), queued[0].due), (1, found.last().expect("one").due), "the first one runs: {found:?}");
        assert!(
            found.iter().filter(|firing| firing.job.is_none()).all(|firing| firing.result == "skipped"),
            "{found:?}"
        );
    });
}

#[test]
fn a_rejection_that_nobody_receives_is_a_failure() {
    with("unattended", &[&every("strict", "", "{fail: 404}")], &[], async |bed| {
        bed.work();
        let fired = bed.control("POST /timetables/strict/1/fire", &Json::Null).await;
        assert_eq!(fired.status, 200, "{}", fired.body);
        let found = firings(bed, "strict", 1).await;
        assert_eq!(found[0].result, "by-hand");
        let job = bed.ended(found[0].job.expect("a job")).await;
        assert_eq!((job.phase, job.status), (JobPhase::Failed, Some(404)));
    });
}

#[test]
fn a_paused_timetable_queues_nothing_and_resumes_from_now() {
    with("paused", &[&every("p", ", missed: all", "{note: x}")], &[], async |bed| {
        missed(bed, "p", 5).await;
        assert_eq!(bed.control("POST /timetables/p/1/pause", &Json::Null).await.status, 200);
        bed.work();
        let state = async || bed.store().timetables().await.expect("timetables").remove(0);
        assert!(state().await.paused && state().await.handled_until < now() - Span::from_secs(240));
        assert_eq!(bed.control("POST /timetables/p/1/resume", &Json::Null).await.status, 200);
        let resumed = state().await;
        assert!(!resumed.paused && resumed.handled_until > now() - Span::from_secs(30), "{resumed:?}");
        assert_eq!(bed.store().firings("p", 0, 10).await.expect("firings"), []);
    });
}

#[test]
fn a_changed_pattern_starts_anew() {
    with("changed", &[&every("c", ", missed: all", "{note: x}")], &[], async |bed| {
        missed(bed, "c", 30).await;
        let changed = every("c", ", missed: all", "{note: x}").replace("1 min", "2 min");
        assert_eq!(bed.deploy(&[&changed]).await.status, 200);
        bed.work();
        let end = Deadline::after(LONG);
        loop {
            let state = bed.store().timetables().await.expect("timetables").remove(0);
            if state.definition.contains("2") && state.handled_until > now() - Span::from_secs(60) {
                break;
            }
            assert!(!end.is_over(), "{state:?}");
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
        }
        assert_eq!(bed.store().firings("c", 0, 10).await.expect("firings"), [], "nothing is made up for");
    });
}

#[test]
fn timetables_are_listed_with_their_next_due_times() {
    with("listed", &[&every("l", "", "{note: x}")], &[], async |bed| {
        let list = bed.control("GET /timetables", &Json::Null).await.json();
        let entry = &list["timetables"][0];
        assert_eq!((&entry["workflow"], &entry["paused"]), (&json!("l"), &json!(false)), "{list}");
        assert!(entry["next"].as_array().is_some_and(|next| next.len() >= 3), "{list}");
    });
}
