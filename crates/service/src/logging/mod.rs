//! Structured logs on standard error. Secrets, rows and values never appear in them, unless `PUENTE_LOG_VALUES` asks for what databases
//! say of values.
//!
//! `info` has one line per ask and per start or stop; `warn` what somebody should look at today; `error` now. The
//! target says what it is about: `puente::ask`, `puente::source`, `puente::service`.

mod repeats;

use std::borrow::Cow;
use std::io::{IsTerminal as _, Write};
use std::sync::LazyLock;
use std::time::{Duration, Instant};

use puente_core::visible::{is_hidden, visible, visible_json};
use tracing_subscriber::EnvFilter;
use tracing_subscriber::filter::FilterExt as _;
use tracing_subscriber::layer::{Layer as _, SubscriberExt as _};
use tracing_subscriber::util::SubscriberInitExt as _;

use repeats::{Few, Repeats};

/// The target of lines that say how often others came.
const REPEATED: &str = "puente::repeated";
static REPEATS: LazyLock<Repeats> = Repeats::new();

/// Starts logging: for people on a terminal, as JSON elsewhere.
pub fn start() {
    let filter = crate::environment::read(crate::environment::LOG);
    let filter = EnvFilter::new(filter.as_deref().unwrap_or("info")).and(Few(&REPEATS));
    let json = !std::io::stderr().is_terminal();
    let layer = tracing_subscriber::fmt::layer().with_writer(move || Lines { json });
    // A second start, in a test, changes nothing.
    let started = match json {
        true => tracing_subscriber::registry().with(layer.json().with_filter(filter)).try_init(),
        false => tracing_subscriber::registry().with(layer.with_filter(filter)).try_init(),
    };
    if started.is_ok() {
        let _ = std::thread::Builder::new().name("log-repeats".to_owned()).spawn(tell_repeats);
    }
}

/// Says every second what was not written because it was said before.
fn tell_repeats() {
    loop {
        std::thread::sleep(Duration::from_secs(1));
        for (kind, more) in REPEATS.counted(Instant::now()) {
            tracing::warn!(target: REPEATED, kind, more, "the same was said so many times more");
        }
    }
}

/// Standard error, an event a line whatever is in it: names of a database or of a caller must not end a line, turn it around, or do
/// something on a terminal.
#[derive(Debug, Clone, Copy)]
struct Lines {
    json: bool,
}

impl Write for Lines {
    fn write(&mut self, event: &[u8]) -> std::io::Result<usize> {
        let text = String::from_utf8_lossy(event);
        let line = one_line(text.strip_suffix('\n').unwrap_or(&text), self.json);
        let mut stderr = std::io::stderr().lock();
        stderr.write_all(line.as_bytes())?;
        stderr.write_all(b"\n")?;
        Ok(event.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        std::io::stderr().flush()
    }
}

/// An event as one line. The library has written colours into it for a terminal, and has taken those of others out.
fn one_line(event: &str, json: bool) -> Cow<'_, str> {
    if json {
        return visible_json(event);
    }
    const COLOURS: char = '\u{1b}';
    if !event.contains(|c| is_hidden(c) && c != COLOURS) {
        return event.into();
    }
    let shown = |c: char| if c == COLOURS { c.to_string() } else { visible(c.encode_utf8(&mut [0; 4])).into_owned() };
    event.chars().map(shown).collect::<String>().into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_event_is_one_line_whatever_is_in_it() {
        let forged = "hut\n2026-01-01 INFO forged\r\u{202e}\u{9b}2J";
        assert_eq!(one_line(forged, false), "hut\\n2026-01-01 INFO forged\\r\\u{202e}\\u{9b}2J");
        let json = serde_json::json!({ "table": forged }).to_string();
        let line = one_line(&json, true);
        assert!(!line.contains(is_hidden), "{line}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&line).unwrap()["table"], forged);
    }
}
