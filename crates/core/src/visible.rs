//! Texts that are not ours, as they may be shown: names and comments of databases, rows, what a service says. Whatever would move a
//! cursor, clear a screen, end a line or turn the direction of reading is written as what it is.

use std::borrow::Cow;
use std::fmt::Write as _;

/// Does a character do something where it is shown, instead of being seen?
pub fn is_hidden(c: char) -> bool {
    // Controls (C0, DEL, C1); marks and overrides of direction; ends of lines and paragraphs; the mark of byte order.
    matches!(c,
        '\0'..='\u{1f}' | '\u{7f}'..='\u{9f}' | '\u{61c}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// The text with such characters as escapes: `\n`, `\t`, `\u{1b}`.
pub fn visible(text: &str) -> Cow<'_, str> {
    if !text.contains(is_hidden) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match c {
            '\n' => shown.push_str("\\n"),
            '\r' => shown.push_str("\\r"),
            '\t' => shown.push_str("\\t"),
            c if is_hidden(c) => {
                let _ = write!(shown, "\\u{{{:x}}}", u32::from(c));
            }
            c => shown.push(c),
        }
    }
    Cow::Owned(shown)
}

/// JSON with the same characters as JSON's own escapes: inside its texts they stand for themselves. Ends of lines, which are
/// between its parts, stay.
pub fn visible_json(json: &str) -> Cow<'_, str> {
    let is_raw = |c: char| is_hidden(c) && c != '\n' && c != '\t' && c != '\r';
    if !json.contains(is_raw) {
        return Cow::Borrowed(json);
    }
    let mut shown = String::with_capacity(json.len() + 8);
    for c in json.chars() {
        if is_raw(c) {
            for unit in c.encode_utf16(&mut [0; 2]) {
                let _ = write!(shown, "\\u{unit:04x}");
            }
        } else {
            shown.push(c);
        }
    }
    Cow::Owned(shown)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("huts", "huts")]
    #[case("Zoé — 日本 🏔", "Zoé — 日本 🏔")]
    #[case("a\nb\r\tc", "a\\nb\\r\\tc")]
    #[case("\u{1b}]0;title\u{7}\u{9b}2J", "\\u{1b}]0;title\\u{7}\\u{9b}2J")]
    #[case("\u{202e}abc\u{2066}\u{200f}", "\\u{202e}abc\\u{2066}\\u{200f}")]
    fn what_does_something_is_written_as_what_it_is(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(visible(text), expected);
        assert!(!visible(text).contains(is_hidden));
    }

    #[test]
    fn json_is_the_same_value_with_escapes_of_its_own() {
        let value = serde_json::json!({ "a\u{9b}": "\u{202e}x\u{e0001}", "b": "\u{1b}\n" });
        let text = serde_json::to_string_pretty(&value).unwrap();
        let shown = visible_json(&text);
        assert!(!shown.contains(|c| is_hidden(c) && c != '\n'), "{shown}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&shown).unwrap(), value);
    }
}
