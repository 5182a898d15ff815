//! Which random worlds a run of tests tries: always the same ones, and beside them ones that nobody has seen.

/// The seeds of a run.
#[derive(Debug, Clone, Copy)]
pub struct Seeds {
    /// The first seed, and how many follow each other from there.
    fixed: (u64, u64),
    /// The same for seeds that differ from run to run.
    fresh: (u64, u64),
}

impl Seeds {
    /// The seeds that `PUENTE_ORACLE_SEED` and `PUENTE_ORACLE_WORLDS` say; else so many fixed ones, and beside them so many fresh
    /// ones. CI keeps to the fixed ones, so that a change is judged by itself.
    ///
    /// # Panics
    /// Where a variable is not a number.
    pub fn of_run(fixed: u64, fresh: u64) -> Self {
        let setting = |name: &str| {
            std::env::var(name).ok().map(|text| text.parse::<u64>().unwrap_or_else(|_| panic!("{name} is a number")))
        };
        let chosen = setting("PUENTE_ORACLE_SEED");
        let worlds = setting("PUENTE_ORACLE_WORLDS");
        if chosen.is_some() || worlds.is_some() {
            return Seeds { fixed: (chosen.unwrap_or(1), worlds.unwrap_or(fixed)), fresh: (0, 0) };
        }
        let fresh = if std::env::var_os("CI").is_some() { 0 } else { fresh };
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).expect("a clock after 1970");
        Seeds { fixed: (1, fixed), fresh: (now.as_secs() * 1_000, fresh) }
    }

    /// Every seed.
    pub fn all(self) -> impl Iterator<Item = u64> {
        [self.fixed, self.fresh].into_iter().flat_map(|(first, number)| first..first + number)
    }

    /// Is it a run of the usual length?
    pub fn is_usual(self) -> bool {
        std::env::var_os("PUENTE_ORACLE_SEED").is_none() && std::env::var_os("PUENTE_ORACLE_WORLDS").is_none()
    }
}

/// Says how a failed world is tried again, when it fails.
#[derive(Debug)]
pub struct Repeat {
    /// The name of the test.
    pub test: &'static str,
    /// The world's seed.
    pub seed: u64,
}

impl Drop for Repeat {
    fn drop(&mut self) {
        if std::thread::panicking() {
            let Repeat { test, seed } = self;
            #[expect(clippy::print_stderr, reason = "whoever reads the failure has to repeat it")]
            {
                eprintln!(
                    "again: PUENTE_ORACLE_SEED={seed} PUENTE_ORACLE_WORLDS=1 cargo test -p puente-testkit --test {test}"
                );
            }
        }
    }
}
