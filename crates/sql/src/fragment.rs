//! A piece of a statement under construction: text and what is bound in it travel together.

use super::{Dialect, Slot, Statement};

/// Stands for a placeholder until the statement is whole: no identifier can contain it.
const MARK: char = '\0';

/// A piece of a statement, and what is bound to its placeholders in order.
#[derive(Debug, Default, Clone, PartialEq)]
pub struct Fragment {
    text: String,
    slots: Vec<Slot>,
}

impl Fragment {
    /// Text without placeholders.
    pub(super) fn text(text: impl Into<String>) -> Self {
        Fragment { text: text.into(), slots: Vec::new() }
    }

    /// The name of something in a place where it is given one: `part as name`.
    pub(super) fn named(self, name: &str) -> Self {
        Fragment::join([self, Fragment::text(name)], " as ")
    }

    /// One placeholder.
    pub(super) fn bound(slot: Slot) -> Self {
        Fragment { text: MARK.to_string(), slots: vec![slot] }
    }

    pub(super) fn as_text(&self) -> &str {
        &self.text
    }

    pub(super) fn is_empty(&self) -> bool {
        self.text.is_empty()
    }

    pub(super) fn push(&mut self, text: &str) {
        self.text.push_str(text);
    }

    pub(super) fn append(&mut self, other: Fragment) {
        self.text.push_str(&other.text);
        self.slots.extend(other.slots);
    }

    /// `template` with each `{}` replaced by the next part. Templates are part of the program: whatever is not known when it is
    /// compiled is a part, and is not read for braces.
    pub(super) fn format(template: &'static str, parts: impl IntoIterator<Item = Fragment>) -> Self {
        let mut whole = Fragment::default();
        let mut pieces = template.split("{}");
        whole.push(pieces.next().unwrap_or_default());
        for (part, piece) in parts.into_iter().zip(pieces) {
            whole.append(part);
            whole.push(piece);
        }
        whole
    }

    pub(super) fn join(parts: impl IntoIterator<Item = Fragment>, separator: &str) -> Self {
        let mut whole = Fragment::default();
        for (at, part) in parts.into_iter().enumerate() {
            if at > 0 {
                whole.push(separator);
            }
            whole.append(part);
        }
        whole
    }

    /// The finished statement, placeholders written as the dialect does.
    pub(super) fn finish(self, dialect: &dyn Dialect) -> Statement {
        let mut text = String::with_capacity(self.text.len() + self.slots.len() * 2);
        for (number, piece) in self.text.split(MARK).enumerate() {
            if number > 0 {
                text.push_str(&dialect.placeholder(number));
            }
            text.push_str(piece);
        }
        Statement { text, slots: self.slots }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Postgres, Sqlite};

    #[test]
    fn placeholders_follow_their_slots_whatever_identifiers_contain() {
        let odd = Fragment::text("\"odd?{}\"");
        let one = Fragment::format("{} = {}", [odd, Fragment::bound(Slot::Parameter(3))]);
        let both = Fragment::join([one, Fragment::bound(Slot::PageSize(1))], " and ");
        let found = both.clone().finish(&Sqlite);
        assert_eq!(found.slots, [Slot::Parameter(3), Slot::PageSize(1)]);
        assert!(found.text.ends_with("? and ?"), "{}", found.text);
        assert!(both.finish(&Postgres).text.ends_with("$1 and $2"));
    }
}
