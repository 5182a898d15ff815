//! Structured logs on standard error. Secrets, rows and values never appear in them, unless `PUENTE_LOG_VALUES` asks for what databases
//! say of values.
//!
//! `info` has one line per ask and per start or stop; `warn` what somebody should look at today; `error` now. The
//! target says what it is about: `puente::ask`, `puente::source`, `puente::service`.

use std::borrow::Cow;
use std::io::{IsTerminal as _, Write};

use puente_core::visible::{is_hidden, visible, visible_json};
use tracing_subscriber::EnvFilter;

/// Starts logging: for people on a terminal, as JSON elsewhere.
pub fn start() {
    let filter = crate::environment::read(crate::environment::LOG);
    let filter = EnvFilter::new(filter.as_deref().unwrap_or("info"));
    let builder = tracing_subscriber::fmt().with_env_filter(filter);
    // A second start, in a test, changes nothing.
    let _ = if std::io::stderr().is_terminal() {
        builder.with_writer(|| Lines { json: false }).try_init()
    } else {
        builder.with_writer(|| Lines { json: true }).json().try_init()
    };
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
