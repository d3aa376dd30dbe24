//! Ten times the load: refused within the bounds, shared fairly, and forgotten.

use std::time::Duration;

use kanzlei_e2e::overload::{SETTINGS, run};
use kanzlei_e2e::*;

#[test]
fn ten_times_the_load_is_refused_within_bounds_and_fairly() {
    let office = office("overload", &SETTINGS);
    let found = run(&office, Duration::from_secs(6));
    println!("{found}");
    let sum = |of: fn(&overload::Served) -> u32| found.keys.iter().map(of).sum::<u32>();
    assert_eq!(sum(|key| key.other), 0, "requests are answered or refused: {found}");
    assert!(sum(|key| key.busy) > sum(|key| key.answered), "it was overloaded: {found}");
    // Keys that ask for less than their part are served, whatever another one does; one of them may come when all places are taken.
    let served: Vec<f64> = (1..found.keys.len()).map(|key| found.share(key)).collect();
    let mean = served.iter().sum::<f64>() / served.len() as f64;
    assert!(mean > 0.75 && served.iter().all(|share| *share > 5.0 * found.share(0)), "{served:?}: {found}");
    assert!(found.share(0) < 0.15, "{found}");
    assert!(found.recovered < Duration::from_secs(60), "it recovers: {found}");
}
