//! JSON as it is written: walked over without being turned into values. What is walked over is checked.
//!
//! A walk goes from a place, where a value begins, to the place behind it; there is none where what is walked over is no JSON.

use std::borrow::Cow;

/// Levels of lists and objects that are walked over; what is nested deeper is taken for no JSON.
pub(crate) const STORED_LEVELS: usize = 200;

/// The first place at or after `at` where there is no space.
pub(crate) fn after_space(json: &[u8], at: usize) -> usize {
    let is_space = |byte: &u8| matches!(byte, b' ' | b'\n' | b'\r' | b'\t');
    if json.get(at).is_some_and(|byte| !is_space(byte)) {
        return at;
    }
    let rest = json.get(at..).unwrap_or_default();
    at + rest.iter().position(|byte| !is_space(byte)).unwrap_or(rest.len())
}

/// Past any value.
pub(crate) fn past_value(json: &[u8], at: usize, levels: usize) -> Option<usize> {
    match json.get(at)? {
        b'"' => past_text(json, at),
        b'{' => past_object(json, at, levels, |_, at, levels| past_value(json, at, levels)),
        b'[' => past_list(json, at, levels, |at, levels| past_value(json, at, levels)),
        b'-' | b'0'..=b'9' => past_number(json, at),
        b't' => past_literal(json, at, b"true"),
        b'f' => past_literal(json, at, b"false"),
        b'n' => past_literal(json, at, b"null"),
        _ => None,
    }
}

/// Past the list that begins here; `item` is told where each item begins and how many levels are left, and goes past it.
pub(crate) fn past_list(
    json: &[u8],
    at: usize,
    levels: usize,
    item: impl FnMut(usize, usize) -> Option<usize>,
) -> Option<usize> {
    past_parts(json, at, (b'[', b']'), levels, item)
}

/// Past the object that begins here; `member` is told each name as it is written between its quotes, where its value begins, and how
/// many levels are left, and goes past the value.
pub(crate) fn past_object<'j>(
    json: &'j [u8],
    at: usize,
    levels: usize,
    mut member: impl FnMut(&'j [u8], usize, usize) -> Option<usize>,
) -> Option<usize> {
    past_parts(json, at, (b'{', b'}'), levels, |at, levels| {
        let end = past_text(json, at)?;
        let colon = after_space(json, end);
        if json.get(colon) != Some(&b':') {
            return None;
        }
        member(&json[at + 1..end - 1], after_space(json, colon + 1), levels)
    })
}

fn past_parts(
    json: &[u8],
    at: usize,
    (opening, closing): (u8, u8),
    levels: usize,
    mut part: impl FnMut(usize, usize) -> Option<usize>,
) -> Option<usize> {
    if json.get(at) != Some(&opening) {
        return None;
    }
    let levels = levels.checked_sub(1)?;
    let mut at = after_space(json, at + 1);
    if json.get(at) == Some(&closing) {
        return Some(at + 1);
    }
    loop {
        at = after_space(json, part(at, levels)?);
        match json.get(at)? {
            b',' => at = after_space(json, at + 1),
            byte if *byte == closing => return Some(at + 1),
            _ => return None,
        }
    }
}

fn past_literal(json: &[u8], at: usize, word: &[u8]) -> Option<usize> {
    json[at..].starts_with(word).then_some(at + word.len())
}

fn past_text(json: &[u8], at: usize) -> Option<usize> {
    if json.get(at) != Some(&b'"') {
        return None;
    }
    let mut at = at + 1;
    loop {
        at = next_special(json, at)?;
        match json[at] {
            b'"' => return Some(at + 1),
            b'\\' => match json.get(at + 1)? {
                b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't' => at += 2,
                b'u' if json.get(at + 2..at + 6)?.iter().all(u8::is_ascii_hexdigit) => at += 6,
                _ => return None,
            },
            _ => return None,
        }
    }
}

/// The next byte in a text that ends it, begins an escape, or is not allowed.
fn next_special(json: &[u8], mut at: usize) -> Option<usize> {
    const ONES: u64 = u64::from_le_bytes([1; 8]);
    const HIGH: u64 = ONES << 7;
    // Eight at a time: the high bit of each byte that is less than a number, right up to the first of them
    // ("Bit Twiddling Hacks": "Determine if a word has a byte less than n").
    let less = |word: u64, than: u8| word.wrapping_sub(ONES * u64::from(than)) & !word & HIGH;
    while let Some(word) = json.get(at..).and_then(<[u8]>::first_chunk) {
        let word = u64::from_le_bytes(*word);
        let is = |byte: u8| less(word ^ (ONES * u64::from(byte)), 1);
        let special = less(word, b' ') | is(b'"') | is(b'\\');
        if special != 0 {
            return Some(at + special.trailing_zeros() as usize / 8);
        }
        at += 8;
    }
    let is_special = |byte: &u8| *byte < b' ' || matches!(byte, b'"' | b'\\');
    Some(at + json.get(at..)?.iter().position(is_special)?)
}

fn past_number(json: &[u8], at: usize) -> Option<usize> {
    let digits = |at: usize| {
        let rest = json.get(at..).unwrap_or_default();
        let count = rest.iter().position(|byte| !byte.is_ascii_digit()).unwrap_or(rest.len());
        (count > 0).then_some(at + count)
    };
    let start = at + usize::from(json[at] == b'-');
    let mut at = if json.get(start) == Some(&b'0') { start + 1 } else { digits(start)? };
    if json.get(at) == Some(&b'.') {
        at = digits(at + 1)?;
    }
    if matches!(json.get(at), Some(b'e' | b'E')) {
        at += 1;
        at += usize::from(matches!(json.get(at), Some(b'+' | b'-')));
        at = digits(at)?;
    }
    Some(at)
}

/// Is a name, as it is written between its quotes, this one?
pub(crate) fn is_called(written: &[u8], name: &str) -> bool {
    written == name.as_bytes() || (written.contains(&b'\\') && unescaped(written) == name)
}

fn unescaped(written: &[u8]) -> Cow<'_, str> {
    let quoted = [b"\"", written, b"\""].concat();
    serde_json::from_slice(&quoted).map_or_else(|_| String::from_utf8_lossy(written), Cow::Owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_and_objects_are_walked_over_part_by_part() {
        let json = r#"[ 1, "a,]\"\\" ,{"b": [2, {"c": "}"}]}, [], true,null , -1.5e+3]"#;
        let mut found = Vec::new();
        let end = past_list(json.as_bytes(), 0, STORED_LEVELS, |at, levels| {
            let end = past_value(json.as_bytes(), at, levels)?;
            found.push(&json[at..end]);
            Some(end)
        });
        assert_eq!(found, ["1", r#""a,]\"\\""#, r#"{"b": [2, {"c": "}"}]}"#, "[]", "true", "null", "-1.5e+3"]);
        assert_eq!(end, Some(json.len()));
        assert_eq!(past_list(b"{}", 0, STORED_LEVELS, |_, _| None), None);
        let json = r#"{"a" : 1,"\u0062":{"x":2} , "c":"d"}"#;
        let mut found = Vec::new();
        let end = past_object(json.as_bytes(), 0, STORED_LEVELS, |name, at, levels| {
            let end = past_value(json.as_bytes(), at, levels)?;
            found.push((std::str::from_utf8(name).unwrap(), &json[at..end]));
            Some(end)
        });
        assert_eq!(found, [("a", "1"), ("\\u0062", "{\"x\":2}"), ("c", "\"d\"")]);
        assert_eq!(end, Some(json.len()));
        assert!(is_called(b"\\u0062", "b") && is_called(b"b", "b") && !is_called(b"b", "c"));
    }

    #[test]
    fn the_next_special_byte_is_found_at_any_distance() {
        let others = [b' ', b'!', b'a', b'}', 0x7f, 0x80, 0xa2, 0xff];
        for (distance, special) in (0..40).flat_map(|at| [0, 0x1f, b'\n', b'"', b'\\'].map(|special| (at, special))) {
            let before = others.iter().cycle().skip(distance % 3).take(distance).copied();
            let text: Vec<u8> = before.chain([special, b'"', 0, b'a']).collect();
            assert_eq!(next_special(&text, 0), Some(distance), "{text:?}");
            assert_eq!(next_special(&text[..distance], 0), None, "{text:?}");
        }
    }

    /// Takes for JSON what the library takes for it.
    #[test]
    fn what_is_not_json_is_told() {
        let texts = [
            r#"{}"#,
            r#" { } "#,
            r#"{"a": 0}"#,
            r#"{"a": -0.5E-7, "b": []}"#,
            r#"{"a": "\u00e9\n", "b": {"c": [true, false, null]}}"#,
            r#"{"a": 01}"#,
            r#"{"a": 1.}"#,
            r#"{"a": .5}"#,
            r#"{"a": 1e}"#,
            r#"{"a": +1}"#,
            r#"{"a": "\x"}"#,
            r#"{"a": "\u12g4"}"#,
            r#"{"a": nul}"#,
            r#"{"a": nulls}"#,
            r#"{"a": 1,}"#,
            r#"{"a": 1 "b": 2}"#,
            r#"{"a": [1 2]}"#,
            r#"{"a": [1,]}"#,
            r#"{"a"}"#,
            r#"{a: 1}"#,
            r#"{"a": 1"#,
            r#"{"a": 1}}"#,
            r#"{"a": 1} 2"#,
            r#"{,}"#,
            "{\"a\": \"\t\"}",
            "{\"a\": \"",
            "{\"a\": \"\\",
            "{",
            "",
            "[",
            "-",
        ];
        let is_whole = |text: &str| {
            let start = after_space(text.as_bytes(), 0);
            let end = past_value(text.as_bytes(), start, STORED_LEVELS);
            end.is_some_and(|end| after_space(text.as_bytes(), end) == text.len())
        };
        for text in texts {
            let is_json = serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok();
            assert_eq!(is_whole(text), is_json, "{text}");
        }
        let nested = |levels: usize| format!("{}1{}", "[".repeat(levels), "]".repeat(levels));
        assert!(is_whole(&nested(STORED_LEVELS)));
        assert!(!is_whole(&nested(STORED_LEVELS + 1)), "the stack is not for callers to use up");
    }
}
