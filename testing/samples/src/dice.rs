//! Choices for generated tests, drawn and shrunk by proptest.
//!
//! A generator draws every choice from [`Dice`]. A failing sequence of choices is shortened and lowered until
//! nothing can be removed; because choice 0 is always the simplest alternative, what remains is a small example.

use std::cell::RefCell;

use proptest::prelude::any;
use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::{Config, RngAlgorithm, TestError, TestRng, TestRunner};

/// A sequence of choices; behind its end every choice is 0.
#[derive(Clone, Debug)]
pub struct Dice {
    rolls: Vec<u32>,
    next: usize,
}

impl Dice {
    /// A choice out of `n`; alternative 0 is the simplest.
    pub fn below(&mut self, n: usize) -> usize {
        let roll = self.rolls.get(self.next).copied().unwrap_or(0);
        self.next += 1;
        ((u64::from(roll) * n.max(1) as u64) >> 32) as usize
    }

    /// One of several things; the first is the simplest.
    pub fn pick<'a, T>(&mut self, from: &'a [T]) -> &'a T {
        &from[self.below(from.len())]
    }

    /// True once in `n` times; false is the simplest.
    pub fn one_in(&mut self, n: usize) -> bool {
        self.below(n) + 1 == n
    }
}

/// Dice with at most `rolls` choices that are not 0.
pub fn dice(rolls: usize) -> impl Strategy<Value = Dice> {
    proptest::collection::vec(any::<u32>(), rolls / 4..=rolls).prop_map(|rolls| Dice { rolls, next: 0 })
}

/// How often a test repeats: the variable `KANZLEI_ROUNDS`, otherwise `usual`.
pub fn rounds(usual: u32) -> u32 {
    asked().unwrap_or(usual)
}

fn asked() -> Option<u32> {
    std::env::var("KANZLEI_ROUNDS").ok()?.parse().ok()
}

/// A runner that repeats the same choices in every run, or draws new ones when `KANZLEI_ROUNDS` is set; `KANZLEI_SEED`,
/// a number, repeats those too, so that a change does not pass or fail by luck.
fn runner(cases: u32) -> TestRunner {
    let config =
        Config { cases: rounds(cases), max_shrink_iters: 20_000, failure_persistence: None, ..Config::default() };
    let seed: Option<u64> = std::env::var("KANZLEI_SEED").ok().and_then(|seed| seed.parse().ok());
    match (asked(), seed) {
        (None, _) => TestRunner::new_with_rng(config, TestRng::deterministic_rng(RngAlgorithm::ChaCha)),
        (Some(_), Some(seed)) => {
            let mut bytes = [0; 32];
            bytes[..8].copy_from_slice(&seed.to_le_bytes());
            TestRunner::new_with_rng(config, TestRng::from_seed(RngAlgorithm::ChaCha, &bytes))
        }
        (Some(_), None) => TestRunner::new(config),
    }
}

/// Runs a test on `cases` sequences of at most `rolls` choices and panics with the smallest one that fails.
///
/// # Panics
///
/// When the test panics for some choices, after shrinking them.
pub fn with_dice(cases: u32, rolls: usize, test: impl FnMut(&mut Dice)) {
    let test = RefCell::new(test);
    let outcome = runner(cases).run(&dice(rolls), |mut dice| {
        (test.borrow_mut())(&mut dice);
        Ok(())
    });
    match outcome {
        Ok(()) => {}
        Err(TestError::Fail(why, dice)) => panic!("{why}\nsmallest failing choices: {:?}", dice.rolls),
        Err(TestError::Abort(why)) => panic!("the test was aborted: {why}"),
    }
}

/// Tests many generated values in one batch, and shrinks the first that fails alone.
///
/// `generate` makes a value out of choices; `failures` returns the indexes of the values that fail, with reasons.
///
/// # Panics
///
/// When a value fails, with the smallest one found in 500 attempts.
pub fn in_batch<T: Clone>(
    cases: u32,
    rolls: usize,
    mut generate: impl FnMut(&mut Dice) -> T,
    mut failures: impl FnMut(&[T]) -> Vec<(usize, String)>,
) {
    let mut runner = runner(cases);
    let strategy = dice(rolls);
    let trees = (0..rounds(cases)).map(|_| strategy.new_tree(&mut runner).expect("choices")).collect::<Vec<_>>();
    let values: Vec<T> = trees.iter().map(|tree| generate(&mut tree.current())).collect();
    let found = failures(&values);
    let Some((first, mut why)) = found.first().cloned() else { return };
    let mut tree = trees.into_iter().nth(first).expect("the index of a value");
    let mut goes_on = tree.simplify();
    for _ in 0..500 {
        if !goes_on {
            break;
        }
        match failures(&[generate(&mut tree.current())]).pop() {
            Some((_, smaller)) => {
                why = smaller;
                goes_on = tree.simplify();
            }
            None => goes_on = tree.complicate(),
        }
    }
    panic!("{} of {} fail; the first, shrunk:\n{why}", found.len(), values.len());
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(dice: &mut Dice) -> Vec<usize> {
        (0..dice.below(8)).map(|_| dice.below(100)).collect()
    }

    fn message(test: impl FnOnce() + std::panic::UnwindSafe) -> String {
        let panic = std::panic::catch_unwind(test).expect_err("the test fails");
        panic.downcast_ref::<String>().expect("a text").clone()
    }

    #[test]
    fn a_failure_is_shrunk_to_the_smallest_choices() {
        let why = message(|| with_dice(200, 40, |dice| assert!(!list(dice).iter().any(|n| *n > 60), "one is large")));
        let rolls: Vec<u32> = numbers(why.split("choices: ").nth(1).expect("the choices").trim_matches(['[', ']']));
        let smallest = list(&mut Dice { rolls, next: 0 });
        assert_eq!(smallest.last(), Some(&61), "{smallest:?}: {why}");
        assert!(smallest[..smallest.len() - 1].iter().all(|n| *n == 0), "{smallest:?}");
    }

    #[test]
    fn a_batch_shrinks_the_first_failure_alone() {
        let fails = |values: &[Vec<usize>]| {
            let of = values.iter().enumerate().filter(|(_, value)| value.len() >= 3);
            of.map(|(at, value)| (at, format!("{value:?}"))).collect()
        };
        let why = message(move || in_batch(100, 40, list, fails));
        assert!(why.ends_with("[0, 0, 0]"), "{why}");
    }

    #[test]
    fn choices_behind_the_end_are_the_simplest() {
        let mut dice = Dice { rolls: vec![u32::MAX], next: 0 };
        assert_eq!((dice.below(6), dice.below(6), dice.one_in(2)), (5, 0, false));
    }

    fn numbers(list: &str) -> Vec<u32> {
        list.split(", ").filter(|n| !n.is_empty()).map(|n| n.parse().expect("a number")).collect()
    }
}
