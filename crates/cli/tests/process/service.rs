//! A service of its own for a test, started from the binary.

use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};

/// The owner's key of every service that is started here.
pub(crate) const OWNER_KEY: &str = "puente_a_key_that_is_long_enough_for_production";

/// A service, which ends with the test.
pub(crate) struct Service {
    pub(crate) child: Child,
    /// What it says first of where it is reached.
    pub(crate) line: String,
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Service {
    pub(crate) fn start(mut command: Command) -> Service {
        let mut child = command.env("PUENTE_OWNER_KEY", OWNER_KEY).stderr(Stdio::piped()).spawn().unwrap();
        let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
        let is_told = |line: &std::io::Result<String>| line.as_ref().is_ok_and(|line| line.starts_with("console "));
        let line = lines.find(is_told).expect("it starts").unwrap();
        // What it says later is taken from it, or it would wait to say it.
        std::thread::spawn(move || lines.for_each(drop));
        Service { child, line }
    }

    pub(crate) fn port(&self) -> u16 {
        let address = self.line.split("://").nth(1).and_then(|rest| rest.split('/').next()).unwrap();
        address.rsplit(':').next().unwrap().parse().unwrap()
    }
}
