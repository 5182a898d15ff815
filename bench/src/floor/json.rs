//! JSON by hand.

pub(crate) fn separate(out: &mut Vec<u8>, first: &mut bool) {
    if !std::mem::take(first) {
        out.push(b',');
    }
}

pub(crate) fn string(out: &mut Vec<u8>, text: &str) {
    serde_json::to_writer(out, text).expect("text is a JSON string");
}

pub(crate) fn integer(out: &mut Vec<u8>, value: i64) {
    use std::io::Write as _;
    write!(out, "{value}").expect("writing to memory does not fail");
}

/// A text that may be null.
pub(crate) fn nullable(out: &mut Vec<u8>, text: Option<&str>) {
    match text {
        Some(text) => string(out, text),
        None => out.extend_from_slice(b"null"),
    }
}

/// `no show` as `"NO_SHOW"`.
pub(crate) fn status(out: &mut Vec<u8>, text: &str) {
    let name = match text {
        "requested" => "REQUESTED",
        "confirmed" => "CONFIRMED",
        "declined" => "DECLINED",
        _ => "NO_SHOW",
    };
    string(out, name);
}
