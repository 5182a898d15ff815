//! A small generator of repeatable numbers (SplitMix64), so that the demo's data depend on nothing but a seed.

/// The generator.
pub(crate) struct Random(u64);

impl Random {
    pub(crate) fn new(seed: u64) -> Self {
        Random(seed)
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number from `least` to `most`.
    pub(crate) fn between(&mut self, least: i64, most: i64) -> i64 {
        let span = most.abs_diff(least) + 1;
        least.saturating_add_unsigned(self.next() % span)
    }

    /// True about once in `times`.
    pub(crate) fn one_in(&mut self, times: i64) -> bool {
        self.between(1, times) == 1
    }

    pub(crate) fn pick<'a, T: ?Sized>(&mut self, from: &[&'a T]) -> &'a T {
        let most = i64::try_from(from.len()).unwrap_or(1) - 1;
        from[usize::try_from(self.between(0, most)).unwrap_or(0)]
    }

    pub(crate) fn bytes(&mut self, length: usize) -> Vec<u8> {
        (0..length).map(|_| self.next().to_le_bytes()[0]).collect()
    }
}
