//! Trials, addresses of drafts, and counts of steps: kept for their time and no longer.

use kanzlei_model::histogram::Histogram;
use kanzlei_store::names::names_of;
use kanzlei_store::statistics::{StepCount, StepCounts};
use kanzlei_store::trials::{Preview, TrialRow};
use uuid::Uuid;

use super::{time, with};

fn trial(id: u128, expires: i64) -> TrialRow {
    TrialRow {
        id: Uuid::from_u128(id),
        workflow: "quote".into(),
        entry: "trial".into(),
        state: "succeeded".into(),
        status: Some(201),
        started: time(1),
        expires: time(expires),
        operator: "berit".into(),
        shown: "{}".into(),
        recorded: "[]".into(),
    }
}

#[test]
fn trials_are_kept_for_their_time_and_the_last_of_them() {
    with("trials", async |bed| {
        let store = &bed.store;
        for (id, expires) in [(1, 10), (2, 90), (3, 90), (4, 90)] {
            store.keep_trial(&trial(id, expires)).await.expect("keeps");
        }
        let ids = async |at: i64| -> Vec<u128> {
            store.trials(time(at), 9).await.expect("lists").iter().map(|row| row.id.as_u128()).collect()
        };
        assert_eq!((ids(5).await, ids(20).await), (vec![4, 3, 2, 1], vec![4, 3, 2]));
        let one = async |id: u128, at: i64| store.trial(Uuid::from_u128(id), time(at)).await.expect("reads");
        assert_eq!(one(1, 5).await, Some(("{}".into(), "[]".into())));
        assert_eq!((one(1, 20).await, one(9, 5).await), (None, None));
        // What is over goes, then what there is too much of, the oldest first.
        for (at, most, gone, left) in [(20, 9, 1, vec![4, 3, 2]), (20, 1, 2, vec![4]), (99, 9, 1, vec![])] {
            assert_eq!(store.purge_trials(time(at), most).await.expect("purges"), gone, "at {at}, {most}");
            assert_eq!(ids(5).await, left, "at {at}, {most}");
        }
    });
}

#[test]
fn addresses_of_drafts_close() {
    with("previews", async |bed| {
        let store = &bed.store;
        let preview = |id: u128, expires| Preview {
            id: Uuid::from_u128(id),
            hash: format!("{id:064}"),
            about: "{}".into(),
            operator: "berit".into(),
            created: time(1),
            expires: time(expires),
        };
        for (id, expires) in [(1, 10), (2, 90)] {
            store.open_preview(&preview(id, expires)).await.expect("opens");
        }
        assert_eq!(store.previews(time(5), 9).await.expect("lists"), [preview(2, 90), preview(1, 10)]);
        assert_eq!(store.previews(time(20), 9).await.expect("lists"), [preview(2, 90)]);
        assert_eq!(store.purge_previews(time(20)).await.expect("purges"), 1);
        for closed in [true, false] {
            assert_eq!(store.close_preview(Uuid::from_u128(2)).await.expect("closes"), closed);
        }
    });
}

#[test]
fn counts_of_processes_and_minutes_add_up() {
    with("step_counts", async |bed| {
        let store = &bed.store;
        let step = |number: &str, runs, us: &[u64]| {
            let mut times = Histogram::default();
            us.iter().for_each(|us| times.add(*us));
            StepCount { number: number.into(), runs, failures: 1, times }
        };
        let counts = |minute, revision, steps| StepCounts { workflow: "quote".into(), revision, minute, steps };
        for (source, minute, revision, steps) in [
            (1, 10, 1, vec![step("", 1, &[5]), step("1", 1, &[5])]),
            // What a process wrote of a minute so far is written over.
            (1, 10, 1, vec![step("", 3, &[5, 5, 9]), step("1", 3, &[5, 5, 9])]),
            (2, 10, 1, vec![step("", 2, &[9, 9])]),
            (1, 11, 2, vec![step("", 7, &[1])]),
            (1, 9, 1, vec![step("", 100, &[1])]),
        ] {
            store.write_step_counts(source, &[counts(minute, revision, steps)]).await.expect("writes");
        }
        let found = store.step_counts(&names_of("quote", &[]), 10).await.expect("reads");
        let median = |step: &StepCount| step.times.quantile(0.5);
        let one = |step: &StepCount| format!("{}: {} {} {:?}", step.number, step.runs, step.failures, median(step));
        let shown: Vec<(u32, Vec<String>)> =
            found.iter().map(|(revision, steps)| (*revision, steps.iter().map(one).collect())).collect();
        let wanted =
            [(1, vec![": 5 2 Some(8)".to_owned(), "1: 3 1 Some(5)".into()]), (2, vec![": 7 1 Some(1)".to_owned()])];
        assert_eq!(shown, wanted);
        assert_eq!(
            store
                .purge_step_counts(kanzlei_model::time::Timestamp::from_micros(11 * 60_000_000))
                .await
                .expect("purges"),
            3
        );
        assert_eq!(store.step_counts(&names_of("quote", &[]), 0).await.expect("reads").len(), 1);
    });
}
