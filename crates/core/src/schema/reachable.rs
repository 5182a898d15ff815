//! Leaves out of a schema what nothing leads to. Which inputs a role needs follows from all that it can write and filter; instead of
//! deciding that anew for each of them, they are printed and looked through once.

use std::collections::HashMap;

/// The definitions that can be reached from the root types, in their order.
pub(super) fn only(sdl: &str) -> String {
    let definitions: Vec<Definition<'_>> = split(sdl).map(Definition::read).collect();
    let places: HashMap<&str, usize> = definitions.iter().enumerate().map(|(at, d)| (d.name, at)).collect();
    let mut reached = vec![false; definitions.len()];
    let mut next: Vec<usize> = ["Query", "Mutation"].iter().filter_map(|root| places.get(root).copied()).collect();
    while let Some(at) = next.pop() {
        if !std::mem::replace(&mut reached[at], true) {
            next.extend(definitions[at].names.iter().filter_map(|name| places.get(name).copied()));
        }
    }
    definitions.iter().zip(reached).filter(|(_, reached)| *reached).map(|(definition, _)| definition.text).collect()
}

/// A definition, with the blank line behind it.
struct Definition<'s> {
    text: &'s str,
    name: &'s str,
    /// What may be names of types in it: all its words, a type may be called by any.
    names: Vec<&'s str>,
}

impl<'s> Definition<'s> {
    fn read(text: &'s str) -> Self {
        let mut words = Words(text);
        // `type Hut {`, `scalar Date`: the keyword, and the name.
        words.next();
        let name = words.next().unwrap_or_default();
        Definition { text, name, names: words.collect() }
    }
}

/// The names in a text, but for those in quotes.
struct Words<'s>(&'s str);

impl<'s> Iterator for Words<'s> {
    type Item = &'s str;

    fn next(&mut self) -> Option<&'s str> {
        loop {
            let start = self.0.find(|c: char| c == '"' || c == '_' || c.is_ascii_alphanumeric())?;
            let rest = &self.0[start..];
            if let Some(quoted) = rest.strip_prefix('"') {
                self.0 = &quoted[end_of_string(quoted)..];
                continue;
            }
            let end = rest.find(|c: char| c != '_' && !c.is_ascii_alphanumeric()).unwrap_or(rest.len());
            let (word, after) = rest.split_at(end);
            self.0 = after;
            return Some(word);
        }
    }
}

/// How many bytes a text in quotes takes from its first letter on, with the quote at its end.
fn end_of_string(text: &str) -> usize {
    let mut escaped = false;
    for (at, byte) in text.bytes().enumerate() {
        match byte {
            _ if escaped => escaped = false,
            b'\\' => escaped = true,
            b'"' => return at + 1,
            _ => {}
        }
    }
    text.len()
}

/// The definitions: each ends with a blank line, and none has one in it, since texts are written in one line.
fn split(sdl: &str) -> impl Iterator<Item = &str> {
    sdl.split_inclusive("\n\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_nothing_leads_to_is_left_out() {
        let sdl = "\
type Query {
  \"Lists `Gone` and \\\"Gone\\\".\"
  huts(filter: HutFilter): [Hut!]!
}

type Hut {
  code: Code
}

type Gone {
  hut: Hut
}

input HutFilter {
  code: CodeFilter
}

input GoneFilter {
  gone: Gone
}

scalar Code

input CodeFilter {
  eq: Code
}

";
        let kept = only(sdl);
        let names: Vec<&str> = split(&kept).map(|text| Definition::read(text).name).collect();
        assert_eq!(names, ["Query", "Hut", "HutFilter", "Code", "CodeFilter"]);
    }
}
