//! `cargo xtask bench expr`: expressions against the same written by hand over serde_json values.

use std::hint::black_box;
use std::time::Instant;

use kanzlei_lang::expr::{Expression, Limits, Scope};
use kanzlei_model::value::Value;
use serde_json::{Value as Json, json};

/// Nanoseconds per round: the median of nine runs of at least 50 ms each.
fn time(mut round: impl FnMut()) -> f64 {
    let mut rounds = 1u64;
    loop {
        let begun = Instant::now();
        (0..rounds).for_each(|_| round());
        if begun.elapsed().as_millis() >= 50 {
            break;
        }
        rounds *= 2;
    }
    let mut times: Vec<f64> = (0..9)
        .map(|_| {
            let begun = Instant::now();
            (0..rounds).for_each(|_| round());
            begun.elapsed().as_nanos() as f64 / rounds as f64
        })
        .collect();
    times.sort_by(f64::total_cmp);
    times[4]
}

fn main() {
    let vessels: Vec<Json> = (0..50)
        .map(|i| json!({"name": format!("Vessel {i}"), "length_m": 20.0 + f64::from(i) * 3.0, "draught_m": 2.0 + f64::from(i) / 10.0, "flag": if i % 2 == 0 { "LV" } else { "NS" }}))
        .collect();
    let input = json!({"nights": 3, "length_m": 132.0, "rate": 11.62, "vessels": vessels});
    let mut scope = Scope::default();
    scope.define("input");
    let slots = [Value::from_json(&input)];
    println!("{:<58} {:>10} {:>12} {:>8}", "expression", "ns", "by hand ns", "ratio");
    let cases: [(&str, &dyn Fn() -> Json); 5] = [
        ("input.nights > 2", &|| (input["nights"].as_f64() > Some(2.0)).into()),
        ("input.length_m * 3.2 * input.nights * input.rate", &|| {
            let n = |key: &str| input[key].as_f64().unwrap_or(f64::NAN);
            (n("length_m") * 3.2 * n("nights") * n("rate")).into()
        }),
        ("input.nights > 2 && input.length_m * 3.2 < 500", &|| {
            (input["nights"].as_f64() > Some(2.0) && input["length_m"].as_f64().unwrap_or(f64::NAN) * 3.2 < 500.0)
                .into()
        }),
        ("input.vessels.filter(v => v.length_m > 90).map(v => v.name)", &|| {
            let all = input["vessels"].as_array().map(Vec::as_slice).unwrap_or_default();
            all.iter().filter(|v| v["length_m"].as_f64() > Some(90.0)).map(|v| v["name"].clone()).collect()
        }),
        ("`${input.vessels[0].name} of ${input.nights} nights`", &|| {
            format!("{} of {} nights", input["vessels"][0]["name"].as_str().unwrap_or(""), input["nights"]).into()
        }),
    ];
    for (text, by_hand) in cases {
        let Ok(expression) = Expression::compile(text, &scope) else {
            println!("{text}: does not compile");
            continue;
        };
        let ours = expression.eval(&slots, Limits::default()).map(|v| v.to_serde());
        if ours.as_ref().ok().map(Json::to_string) != Some(by_hand().to_string()) {
            println!("{text}: {ours:?} differs from {}", by_hand());
        }
        let here = time(|| {
            let _ = black_box(expression.eval(black_box(&slots), Limits::default()));
        });
        let hand = time(|| {
            black_box(by_hand());
        });
        println!("{text:<58} {here:>10.0} {hand:>12.0} {:>8.2}", here / hand);
    }
}
