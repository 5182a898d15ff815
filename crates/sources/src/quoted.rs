//! Lists of texts in single quotes, as databases write checks and enums back.

/// The texts of `'a', 'it''s'::text, …`, which may be followed by a cast each; none where anything else is between
/// the commas.
pub(crate) fn text_list(list: &str) -> Option<Vec<String>> {
    let mut texts = Vec::new();
    let mut rest = list.trim_start();
    loop {
        let (text, after) = text(rest)?;
        texts.push(text);
        let after = after.trim_start();
        let after = match after.strip_prefix("::") {
            Some(cast) => &cast[cast.find(',').unwrap_or(cast.len())..],
            None => after,
        };
        match after.strip_prefix(',') {
            Some(next) => rest = next.trim_start(),
            None => return after.trim().is_empty().then_some(texts),
        }
    }
}

/// A text in quotes, and what follows it. Two quotes are one quote of the text.
fn text(quoted: &str) -> Option<(String, &str)> {
    let mut rest = quoted.strip_prefix('\'')?;
    let mut text = String::new();
    loop {
        let (before, after) = rest.split_once('\'')?;
        text.push_str(before);
        match after.strip_prefix('\'') {
            Some(after) => {
                text.push('\'');
                rest = after;
            }
            None => return Some((text, after)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_lists_of_texts_are_lists_of_texts() {
        let found = |list: &str| text_list(list).map(|texts| texts.join("|"));
        assert_eq!(found("'a'").as_deref(), Some("a"));
        assert_eq!(found("'a','it''s', 'no, show'").as_deref(), Some("a|it's|no, show"));
        assert_eq!(found("'a'::text, 'b'::character varying").as_deref(), Some("a|b"));
        for bad in ["", "1", "'a', 1", "'a", "'a' or true", "'a',"] {
            assert_eq!(found(bad), None, "{bad}");
        }
    }
}
