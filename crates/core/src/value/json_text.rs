//! JSON as it is written: taken apart without being turned into values. What is walked over is checked: what is not JSON ends the
//! walk, and [`Members::is_whole`] tells.

use std::borrow::Cow;

/// Levels of lists and objects that are walked over; what is nested deeper is taken for no JSON.
const MOST_LEVELS: usize = 200;

/// The items of a list.
#[derive(Debug, Clone)]
pub(crate) struct Items<'j>(Walk<'j>);

/// The members of an object: each name as it is written between its quotes, and its value.
#[derive(Debug, Clone)]
pub(crate) struct Members<'j>(Walk<'j>);

impl<'j> Items<'j> {
    /// Those of a list; none where it is none.
    pub(crate) fn of(json: &'j [u8]) -> Option<Self> {
        Walk::into(json, b'[').map(Items)
    }
}

impl<'j> Members<'j> {
    /// Those of an object; none where it is none.
    pub(crate) fn of(json: &'j [u8]) -> Option<Self> {
        Walk::into(json, b'{').map(Members)
    }

    /// Once all were walked over: was it an object, with nothing behind it?
    pub(crate) fn is_whole(&self) -> bool {
        self.0.state == State::Ended && self.0.json[self.0.at..].trim_ascii().is_empty()
    }
}

impl<'j> Iterator for Items<'j> {
    type Item = &'j [u8];

    fn next(&mut self) -> Option<&'j [u8]> {
        let Walk { json, .. } = self.0;
        self.0.step(b']')?;
        let start = self.0.at;
        self.0.value()?;
        Some(&json[start..self.0.at])
    }
}

impl<'j> Iterator for Members<'j> {
    type Item = (&'j [u8], &'j [u8]);

    fn next(&mut self) -> Option<(&'j [u8], &'j [u8])> {
        let Walk { json, .. } = self.0;
        self.0.step(b'}')?;
        let name = self.0.at;
        self.0.walked(name_of)?;
        let name = &json[name + 1..self.0.at - 1];
        self.0.walked(colon)?;
        let start = self.0.at;
        self.0.value()?;
        Some((name, &json[start..self.0.at]))
    }
}

/// Is a name, as it is written between its quotes, this one?
pub(crate) fn is_called(written: &[u8], name: &str) -> bool {
    written == name.as_bytes() || (written.contains(&b'\\') && unescaped(written) == name)
}

fn unescaped(written: &[u8]) -> Cow<'_, str> {
    let quoted = [b"\"", written, b"\""].concat();
    serde_json::from_slice(&quoted).map_or_else(|_| String::from_utf8_lossy(written), Cow::Owned)
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// Nothing was walked over yet.
    Begun,
    /// Something was.
    Within,
    /// The closing bracket was.
    Ended,
    /// It is no JSON.
    Broken,
}

/// A walk through a list or an object.
#[derive(Debug, Clone)]
struct Walk<'j> {
    json: &'j [u8],
    at: usize,
    state: State,
}

impl<'j> Walk<'j> {
    fn into(json: &'j [u8], opening: u8) -> Option<Self> {
        let at = after_space(json, 0);
        (json.get(at) == Some(&opening)).then_some(Walk { json, at: at + 1, state: State::Begun })
    }

    /// To the next value, past the comma before it; none at the end.
    fn step(&mut self, closing: u8) -> Option<()> {
        let at = after_space(self.json, self.at);
        let next = match (self.state, self.json.get(at)) {
            (State::Begun | State::Within, Some(byte)) if *byte == closing => {
                (self.at, self.state) = (at + 1, State::Ended);
                return None;
            }
            (State::Begun, Some(_)) => Some(at),
            (State::Within, Some(b',')) => Some(after_space(self.json, at + 1)),
            _ => None,
        };
        self.at = next.or_else(|| self.broken())?;
        self.state = State::Within;
        Some(())
    }

    fn value(&mut self) -> Option<()> {
        self.walked(|json, at| end_of_value(json, at, MOST_LEVELS))
    }

    fn walked(&mut self, end: impl FnOnce(&[u8], usize) -> Option<usize>) -> Option<()> {
        self.at = end(self.json, self.at).or_else(|| self.broken())?;
        Some(())
    }

    fn broken(&mut self) -> Option<usize> {
        if self.state != State::Ended {
            self.state = State::Broken;
        }
        None
    }
}

fn after_space(json: &[u8], at: usize) -> usize {
    let is_space = |byte: &u8| matches!(byte, b' ' | b'\n' | b'\r' | b'\t');
    let rest = json.get(at..).unwrap_or_default();
    at + rest.iter().position(|byte| !is_space(byte)).unwrap_or(rest.len())
}

fn name_of(json: &[u8], at: usize) -> Option<usize> {
    if json.get(at) == Some(&b'"') { end_of_text(json, at) } else { None }
}

fn colon(json: &[u8], at: usize) -> Option<usize> {
    let at = after_space(json, at);
    (json.get(at) == Some(&b':')).then(|| after_space(json, at + 1))
}

/// Where the value ends that begins here.
fn end_of_value(json: &[u8], at: usize, levels: usize) -> Option<usize> {
    match json.get(at)? {
        b'"' => end_of_text(json, at),
        b'{' => end_of_list(json, at, b'}', levels, |json, at, levels| {
            let at = colon(json, name_of(json, at)?)?;
            end_of_value(json, at, levels)
        }),
        b'[' => end_of_list(json, at, b']', levels, end_of_value),
        b'-' | b'0'..=b'9' => end_of_number(json, at),
        b't' => literal(json, at, b"true"),
        b'f' => literal(json, at, b"false"),
        b'n' => literal(json, at, b"null"),
        _ => None,
    }
}

fn end_of_list(
    json: &[u8],
    at: usize,
    closing: u8,
    levels: usize,
    item: impl Fn(&[u8], usize, usize) -> Option<usize>,
) -> Option<usize> {
    let levels = levels.checked_sub(1)?;
    let mut at = after_space(json, at + 1);
    if json.get(at) == Some(&closing) {
        return Some(at + 1);
    }
    loop {
        at = after_space(json, item(json, at, levels)?);
        match json.get(at)? {
            b',' => at = after_space(json, at + 1),
            byte if *byte == closing => return Some(at + 1),
            _ => return None,
        }
    }
}

fn literal(json: &[u8], at: usize, word: &[u8]) -> Option<usize> {
    json[at..].starts_with(word).then_some(at + word.len())
}

fn end_of_text(json: &[u8], at: usize) -> Option<usize> {
    /// Bytes that end a text, begin an escape, or are not allowed.
    const SPECIAL: [bool; 256] = {
        let mut special = [false; 256];
        let mut byte = 0;
        while byte < 0x20 {
            special[byte] = true;
            byte += 1;
        }
        special[b'"' as usize] = true;
        special[b'\\' as usize] = true;
        special
    };
    let mut at = at + 1;
    loop {
        at += json.get(at..)?.iter().position(|byte| SPECIAL[usize::from(*byte)])?;
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

fn end_of_number(json: &[u8], at: usize) -> Option<usize> {
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

#[cfg(test)]
mod tests {
    use super::*;

    fn items(json: &str) -> Option<Vec<String>> {
        Items::of(json.as_bytes()).map(|items| items.map(|item| String::from_utf8_lossy(item).into_owned()).collect())
    }

    #[test]
    fn lists_and_objects_are_taken_apart_as_they_are_written() {
        let json = r#" [ 1, "a,]\"\\" ,{"b": [2, {"c": "}"}]}, [], true,null , -1.5e+3] "#;
        let expected = ["1", r#""a,]\"\\""#, r#"{"b": [2, {"c": "}"}]}"#, "[]", "true", "null", "-1.5e+3"];
        assert_eq!(items(json).unwrap(), expected);
        assert_eq!(items("[]").unwrap(), Vec::<String>::new());
        assert_eq!(items("{}"), None);
        let mut members = Members::of(br#"{"a" : 1,"\u0062":{"x":2} , "c":"d"} "#).unwrap();
        let found: Vec<_> = members.by_ref().collect();
        let expected: [(&[u8], &[u8]); 3] = [(b"a", b"1"), (b"\\u0062", b"{\"x\":2}"), (b"c", b"\"d\"")];
        assert_eq!(found, expected);
        assert!(members.is_whole());
        assert!(is_called(b"\\u0062", "b") && is_called(b"b", "b") && !is_called(b"b", "c"));
    }

    /// Takes for an object what the library takes for one.
    #[test]
    fn what_is_not_json_is_told() {
        let deep = format!("{{\"a\": {}1{}}}", "[".repeat(150), "]".repeat(150));
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
        ];
        for text in texts {
            let mut members = Members::of(text.as_bytes()).unwrap();
            members.by_ref().for_each(drop);
            let is_json = serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok();
            assert_eq!(members.is_whole(), is_json, "{text}");
        }
        let mut members = Members::of(deep.as_bytes()).unwrap();
        assert_eq!(members.by_ref().count(), 1);
        let deeper = deep.replace("1]", &format!("{}1{}]", "[".repeat(100), "]".repeat(100)));
        assert_eq!(Members::of(deeper.as_bytes()).unwrap().count(), 0, "the stack is not for callers to use up");
    }
}
