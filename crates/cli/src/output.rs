//! What commands print. Colours are for terminals: `anstream` takes them away elsewhere.

use std::io::Write as _;

use comfy_table::{ContentArrangement, Table, presets};
use owo_colors::OwoColorize as _;

/// Prints a line on standard output; a reader that has gone away is not an error.
pub(crate) fn say(text: impl AsRef<str>) {
    let _ = writeln!(anstream::stdout(), "{}", text.as_ref());
}

/// Prints bytes on standard output as they are.
pub(crate) fn say_bytes(bytes: &[u8]) {
    let mut out = std::io::stdout().lock();
    let _ = out.write_all(bytes).and_then(|()| out.flush());
}

/// Prints a line on standard error.
pub(crate) fn note(text: impl AsRef<str>) {
    let _ = writeln!(anstream::stderr(), "{}", text.as_ref());
}

/// Prints what is wrong.
pub(crate) fn complain(text: &str) {
    note(format!("{} {text}", "error:".red().bold()));
}

/// A heading.
pub(crate) fn heading(text: &str) -> String {
    text.bold().to_string()
}

/// Something of lesser weight.
pub(crate) fn faint(text: &str) -> String {
    text.dimmed().to_string()
}

/// Something to act on.
pub(crate) fn urgent(text: &str) -> String {
    text.yellow().to_string()
}

/// A table of texts, as wide as the terminal allows.
pub(crate) fn table(head: &[&str], rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(presets::UTF8_FULL_CONDENSED).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_header(head.to_vec());
    for row in rows {
        table.add_row(row);
    }
    table.to_string()
}
