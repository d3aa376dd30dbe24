//! Dice for generated tests.

/// xorshift; deterministic, so that what fails once fails again.
pub struct Dice(pub u64);

impl Dice {
    pub fn below(&mut self, n: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % n.max(1) as u64) as usize
    }

    pub fn pick<'a, T>(&mut self, from: &'a [T]) -> &'a T {
        &from[self.below(from.len())]
    }

    #[allow(dead_code)]
    pub fn one_in(&mut self, n: usize) -> bool {
        self.below(n) == 0
    }
}
