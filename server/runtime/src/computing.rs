//! The bounded pool for evaluations that need more work than fits between two effects of a run. Threads that serve
//! requests, accept jobs or renew the lease never do such work; at the end of a run's time, and when a job is stopped, it is
//! interrupted.
//!
//! Runs that wait for a thread are bounded by `limits.in_flight` and `jobs.at_once`.

use std::pin::pin;
use std::sync::Arc;

use kanzlei_engine::driver::Event;
use kanzlei_engine::machine::Machine;
use tokio::sync::Semaphore;

use crate::clock::now;

/// The bounded pool. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Computing {
    places: Arc<Semaphore>,
    threads: usize,
}

impl Computing {
    /// Creates a pool with this number of threads; 0 means one fewer than the number of cores, at least one.
    pub fn new(threads: usize) -> Self {
        let threads = match threads {
            0 => std::thread::available_parallelism().map_or(1, |cores| (cores.get() - 1).max(1)),
            threads => threads,
        };
        Computing { places: Arc::new(Semaphore::new(threads)), threads }
    }

    /// Threads that compute, and the number of threads.
    pub fn busy(&self) -> (usize, usize) {
        (self.threads.saturating_sub(self.places.available_permits()), self.threads)
    }

    /// Has a run compute what it deferred, on a thread of the pool; returns the event that `until` brings when that
    /// comes first. The computation is interrupted then, and the run stands where it stood.
    pub async fn compute(&self, machine: &mut Machine, until: impl Future<Output = Event>) -> Option<Event> {
        let mut until = pin!(until);
        let place = tokio::select! {
            place = self.places.clone().acquire_owned() => place,
            event = &mut until => return Some(event),
        };
        let watch = machine.watch().clone();
        let mut taken = machine.take_out();
        let mut task = tokio::task::spawn_blocking(move || {
            let _place = place;
            taken.compute();
            taken
        });
        let (event, done) = tokio::select! {
            done = &mut task => (None, done),
            event = &mut until => {
                watch.interrupt();
                (Some(event), task.await)
            }
        };
        match done {
            Ok(taken) => {
                *machine = taken;
                event
            }
            Err(error) => {
                tracing::error!(%error, "a computation of a run failed");
                Some(Event::Broken { detail: "a computation of the run failed".into(), at: now() })
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use kanzlei_compiler::check::{Bundle, check};
    use kanzlei_engine::machine::{Next, Start};
    use kanzlei_model::time::Timestamp;
    use kanzlei_model::value::Value;

    use super::*;

    /// A run that has deferred an evaluation of so many items.
    fn deferred(items: u32) -> Box<Machine> {
        let text = format!(
            "workflow: w\nsteps:\n  - let: {{n: \"${{list.range({items}).map(i => i).length}}\"}}\n  - reply: 200\n    body: ${{n}}\n"
        );
        let plan = check(&Bundle::of([("w.yaml".to_owned(), text)])).workflows.remove(0).1;
        let start = Start::new("r", Value::Undefined, Timestamp::EPOCH);
        let mut machine = Machine::new(plan, start);
        assert!(matches!(machine.next(), Next::Compute(_)));
        machine
    }

    #[tokio::test]
    async fn a_run_continues_with_what_was_computed() {
        let computing = Computing::new(1);
        let mut machine = deferred(50_000);
        assert!(computing.compute(&mut machine, std::future::pending()).await.is_none());
        let reply = loop {
            match machine.next() {
                Next::Answer(reply) => break reply,
                Next::Yield => {}
                other => panic!("{other:?}"),
            }
        };
        assert_eq!(reply.body, Value::Int(50_000));
    }

    #[tokio::test]
    async fn what_comes_first_interrupts_it() {
        let computing = Computing::new(1);
        let stop = || async { Event::Stop { at: Timestamp::EPOCH } };
        // It waits for a thread.
        let place = computing.places.clone().acquire_owned().await.expect("a place");
        let mut machine = deferred(50_000);
        assert!(matches!(computing.compute(&mut machine, stop()).await, Some(Event::Stop { .. })));
        drop(place);
        // It computes: what never ends by itself in this time would be interrupted.
        let soon = async {
            tokio::time::sleep(Duration::from_millis(1)).await;
            Event::Stop { at: Timestamp::EPOCH }
        };
        let mut machine = deferred(900_000);
        let event = computing.compute(&mut machine, soon).await;
        assert!(matches!(event, Some(Event::Stop { .. })), "{event:?} {:?}", machine.records());
        assert!(matches!(machine.next(), Next::Compute(_)), "it stands where it stood");
        assert_eq!(computing.places.available_permits(), 1);
    }
}
