//! Timetables, callbacks and notices: what must happen once, over all processes.

use kanzlei_store::Store;
use kanzlei_store::queue::{Firing, JobPhase, NewWaking, Notice};
use uuid::Uuid;

use super::queue::{FREE, claim, ended, job, queue, write};
use super::{time, with};

/// How far the timetable of `w` is handled, and whether it is paused.
async fn handled(store: &Store) -> (i64, bool) {
    let all = store.timetables().await.expect("timetables");
    assert_eq!((all.len(), all[0].workflow.as_str(), all[0].entry), (1, "w", 0));
    (all[0].handled_until.as_micros(), all[0].paused)
}

#[test]
fn a_timetable_continues_where_it_was_and_begins_anew_when_it_changes() {
    with("timetable", async |bed| {
        let store = &bed.store;
        for (definition, at, until) in [("a", 10, 10), ("a", 20, 10), ("b", 30, 30)] {
            store.begin_timetable("w", 0, definition, time(at)).await.expect("begins");
            assert_eq!(handled(store).await, (until, false), "{definition} at {at}");
        }
        for (at, until) in [(50, 50), (40, 50)] {
            store.timetable_handled("w", 0, time(at)).await.expect("handles");
            assert_eq!(handled(store).await.0, until, "never backwards");
        }
    });
}

#[test]
fn a_paused_timetable_resumes_from_now() {
    with("paused", async |bed| {
        let store = &bed.store;
        store.begin_timetable("w", 0, "a", time(10)).await.expect("begins");
        for (paused, at, until) in [(true, 20, 10), (true, 30, 10), (false, 40, 40), (false, 50, 40)] {
            assert!(store.pause_timetable("w", 0, paused, time(at)).await.expect("known"));
            assert_eq!(handled(store).await, (until, paused), "at {at}");
        }
        assert!(!store.pause_timetable("w", 1, true, time(60)).await.expect("asked"), "no such entry");
    });
}

#[test]
fn a_due_instant_fires_for_the_first_process_only() {
    with("firings", async |bed| {
        let store = &bed.store;
        let id = Uuid::from_u128(1);
        queue(store, &[job(1, "x")]).await;
        assert!(store.fire("w", 0, time(10), "queued", Some(id), time(11)).await.expect("fires"));
        assert!(!store.fire("w", 0, time(10), "skipped", None, time(12)).await.expect("asked"));
        assert!(store.fire("w", 0, time(20), "missed", None, time(30)).await.expect("fires"));
        assert!(store.fire("w", 1, time(10), "queued", None, time(31)).await.expect("another entry"));
        let firing = |due, result: &str, job: Option<Uuid>, at| Firing {
            due: time(due),
            result: result.into(),
            job,
            phase: job.map(|_| JobPhase::Ready as u8),
            at: time(at),
        };
        let newest_first = [firing(20, "missed", None, 30), firing(10, "queued", Some(id), 11)];
        assert_eq!(store.firings("w", 0, 9).await.expect("firings"), newest_first);
        assert_eq!(store.firings("w", 0, 1).await.expect("firings"), newest_first[..1]);
        for gone in [2, 0] {
            assert_eq!(store.purge_firings(time(20)).await.expect("purges"), gone);
        }
    });
}

#[test]
fn the_first_body_at_a_callback_wakes_its_job() {
    with("callback", async |bed| {
        let store = &bed.store;
        let id = Uuid::from_u128(1);
        queue(store, &[job(1, "x")]).await;
        assert_eq!(store.callback("h").await.expect("asked"), None);
        for effect in [7, 8] {
            store.open_callback("h", id, effect, None, time(110)).await.expect("opens");
        }
        store.reschedule(id, time(9_000), "").await.expect("waits");
        let open = store.callback("h").await.expect("asked").expect("open");
        assert_eq!((open.job, open.effect, open.arrived, open.phase), (id, 7, None, JobPhase::Ready as u8));
        assert!(store.arrive("h", id, "text/plain", b"one", time(200)).await.expect("arrives"));
        assert!(!store.arrive("h", id, "text/plain", b"two", time(300)).await.expect("asked"));
        let filled = store.callback("h").await.expect("asked").expect("known");
        assert_eq!((filled.arrived, filled.body.as_deref()), (Some(time(200)), Some(b"one".as_slice())));
        assert_eq!(store.job(id).await.expect("reads").expect("job").ready_at, time(200));
    });
}

#[test]
fn a_value_meets_the_job_that_waits_for_it_once_whichever_comes_first() {
    with("waking", async |bed| {
        let store = &bed.store;
        queue(store, &[job(1, "x"), job(2, "x"), job(3, "x")]).await;
        let value = |run, workflow, body, until| NewWaking {
            run: Uuid::from_u128(run),
            effect: 0,
            workflow,
            key: "k",
            at: time(100 + run as i64),
            until: time(until),
            body,
        };
        let waits = async |job| {
            let hash = format!("h{job}");
            store.open_callback(&hash, Uuid::from_u128(job), 0, None, time(job as i64)).await.expect("opens");
            store.wait_by(&hash, "w", "k", time(200)).await.expect("waits");
            store.callback(&hash).await.expect("asked").expect("open").body
        };
        let pass_on = async |new: NewWaking<'_>| store.pass_on(&new, time(200)).await.expect("passes on");
        // One that comes first is kept, unless its time is over or it is for another workflow.
        assert_eq!(pass_on(value(11, "w", b"over", 150)).await, None);
        assert_eq!(pass_on(value(12, "v", b"other", 900)).await, None);
        assert_eq!(pass_on(value(13, "w", b"first", 900)).await, None);
        assert_eq!(waits(1).await.as_deref(), Some(b"first".as_slice()));
        // Repeated after a crash it wakes nobody else.
        assert_eq!(waits(2).await, None);
        assert_eq!(pass_on(value(13, "w", b"first", 900)).await, Some(Uuid::from_u128(1)));
        assert_eq!(waits(3).await, None);
        assert_eq!(pass_on(value(14, "w", b"second", 900)).await, Some(Uuid::from_u128(2)));
        let third = store.callback("h3").await.expect("asked").expect("open");
        assert_eq!(
            (third.arrived, store.callback("h2").await.expect("asked").expect("open").body.as_deref()),
            (None, Some(b"second".as_slice()))
        );
        assert_eq!(store.wakings_kept("w", "k", 10).await.expect("counts"), (1, 2));
        assert_eq!(store.purge_wakings(time(500)).await.expect("purges"), 1);
    });
}

#[test]
fn a_due_notice_is_claimed_once_and_its_attempts_are_recorded() {
    with("notice", async |bed| {
        let store = &bed.store;
        let id = Uuid::from_u128(1);
        let notice = Notice {
            job: id,
            url: "http://127.0.0.1:1/x".into(),
            secret: "key".into(),
            private: true,
            body: "{}".into(),
            created: time(900),
            next: Some(time(900)),
            attempts: 0,
            status: None,
            detail: None,
            delivered: None,
        };
        queue(store, &[job(1, "x")]).await;
        claim(store, 1, "x", FREE, 1, 400).await;
        let mut end = write(1, 1, Some(JobPhase::Succeeded));
        end.end.as_mut().expect("an end").notice = Some(Box::new(notice.clone()));
        assert_eq!(store.write_jobs(&[&end], time(900)).await.expect("writes"), [true]);
        assert_eq!(store.notice(id).await.expect("reads").as_ref(), Some(&notice));
        assert_eq!(store.due_notices(time(899), time(2_000), 9).await.expect("claims"), []);
        assert_eq!(store.due_notices(time(900), time(2_000), 9).await.expect("claims").len(), 1);
        assert_eq!(store.due_notices(time(1_999), time(2_000), 9).await.expect("claims"), [], "another has it");
        store.notice_attempted(id, Some(time(3_000)), Some(503), Some("busy"), None).await.expect("records");
        store.notice_attempted(id, None, Some(204), None, Some(time(3_000))).await.expect("records");
        let sent = store.notice(id).await.expect("reads").expect("a notice");
        assert_eq!((sent.attempts, sent.status, sent.detail, sent.next), (2, Some(204), None, None));
        assert_eq!(sent.delivered, Some(time(3_000)));
        assert_eq!(store.due_notices(time(9_000), time(9_999), 9).await.expect("claims"), [], "it is delivered");
    });
}

#[test]
fn the_usual_time_is_that_of_jobs_that_succeeded() {
    with("usual", async |bed| {
        assert_eq!(bed.store.usual_time("w").await.expect("asked"), None);
        ended(&bed.store, 1, JobPhase::Failed).await;
        assert_eq!(bed.store.usual_time("w").await.expect("asked"), None);
        ended(&bed.store, 2, JobPhase::Succeeded).await;
        // Started at 800, ended at 900.
        assert_eq!(bed.store.usual_time("w").await.expect("asked").map(|span| span.as_micros()), Some(100));
        assert_eq!(bed.store.usual_time("v").await.expect("asked"), None);
    });
}
