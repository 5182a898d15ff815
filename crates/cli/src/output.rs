//! What commands print. Colours are for terminals: `anstream` takes them away elsewhere. Much of what is printed is not ours (names
//! and comments of databases, rows, what a service says): whatever would do something on a terminal is written as what it is, here.

use std::fmt::Write as _;
use std::io::{IsTerminal as _, Write as _};

use comfy_table::{ContentArrangement, Table, presets};
use puente_core::visible::{is_hidden, visible, visible_json};
use serde_json::Value as Json;

/// How a part of a text is shown. Each begins with a character that is not seen and has no width, and becomes what terminals
/// understand when it is printed; so whatever else they would understand is not ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Style {
    Bold,
    Dim,
    Yellow,
    Red,
    Plain,
}

impl Style {
    const ALL: [Style; 5] = [Style::Bold, Style::Dim, Style::Yellow, Style::Red, Style::Plain];

    fn mark(self) -> char {
        match self {
            Style::Bold => '\u{2061}',
            Style::Dim => '\u{2062}',
            Style::Yellow => '\u{2063}',
            Style::Red => '\u{2064}',
            Style::Plain => '\u{2060}',
        }
    }

    /// ECMA-48, Select Graphic Rendition.
    fn code(self) -> &'static str {
        match self {
            Style::Bold => "\u{1b}[1m",
            Style::Dim => "\u{1b}[2m",
            Style::Yellow => "\u{1b}[33m",
            Style::Red => "\u{1b}[1;31m",
            Style::Plain => "\u{1b}[0m",
        }
    }

    fn of(self, text: &str) -> String {
        format!("{}{text}{}", self.mark(), Style::Plain.mark())
    }
}

/// A text as a terminal takes it: ends of lines and our styles do what they are for, everything else is seen.
fn shown(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    for c in text.chars() {
        match Style::ALL.into_iter().find(|style| style.mark() == c) {
            Some(style) => shown.push_str(style.code()),
            None if c != '\n' && is_hidden(c) => {
                let _ = write!(shown, "{}", visible(c.encode_utf8(&mut [0; 4])));
            }
            None => shown.push(c),
        }
    }
    shown
}

/// What is not ours, inside a text that has several lines: on one of them, and without our styles.
pub(crate) fn foreign(text: &str) -> String {
    visible(text).into_owned()
}

/// A line of ours with names in it that are not: it is one line, whatever they are. An empty line before it may be part of it.
pub(crate) fn one_line(text: &str) -> String {
    let is_style = |c: char| Style::ALL.iter().any(|style| style.mark() == c);
    let (mut line, mut has_begun) = (String::with_capacity(text.len()), false);
    for c in text.chars() {
        match c {
            '\n' if !has_begun => line.push(c),
            c if is_style(c) => line.push(c),
            c => {
                has_begun = true;
                line.push_str(&visible(c.encode_utf8(&mut [0; 4])));
            }
        }
    }
    line
}

/// Prints a line on standard output; a reader that has gone away is not an error.
pub(crate) fn say(text: impl AsRef<str>) {
    let _ = writeln!(anstream::stdout(), "{}", shown(text.as_ref()));
}

/// Prints JSON on standard output, on one line.
pub(crate) fn say_json(value: &Json) {
    let _ = writeln!(std::io::stdout(), "{}", visible_json(&value.to_string()));
}

/// The same, as people read it.
pub(crate) fn say_pretty(value: &Json) {
    let text = serde_json::to_string_pretty(value).unwrap_or_default();
    let _ = writeln!(std::io::stdout(), "{}", visible_json(&text));
}

/// Prints a file on standard output as it is; on a terminal as it may be shown there.
pub(crate) fn say_bytes(bytes: &[u8]) {
    let mut out = std::io::stdout().lock();
    let _ = match out.is_terminal() {
        true => out.write_all(shown(&String::from_utf8_lossy(bytes)).as_bytes()),
        false => out.write_all(bytes),
    };
    let _ = out.flush();
}

/// Prints a line on standard error.
pub(crate) fn note(text: impl AsRef<str>) {
    let _ = writeln!(anstream::stderr(), "{}", shown(text.as_ref()));
}

/// Prints what is wrong.
pub(crate) fn complain(text: &str) {
    note(format!("{} {text}", Style::Red.of("error:")));
}

/// A heading.
pub(crate) fn heading(text: &str) -> String {
    Style::Bold.of(text)
}

/// Something of lesser weight.
pub(crate) fn faint(text: &str) -> String {
    Style::Dim.of(text)
}

/// Something to act on.
pub(crate) fn urgent(text: &str) -> String {
    Style::Yellow.of(text)
}

/// A table of texts, as wide as the terminal allows.
pub(crate) fn table(head: &[&str], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(presets::UTF8_FULL_CONDENSED).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_header(head.iter().map(|name| foreign(name)));
    for row in rows {
        table.add_row(row);
    }
    table.to_string()
}
