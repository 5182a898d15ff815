//! A role's GraphQL schema: its SDL, and the validated form that documents are checked against.

mod inputs;
mod sdl;

use apollo_compiler::Schema;
use apollo_compiler::validation::Valid;

use crate::access::View;
use crate::error::{Code, Problem};

pub use sdl::{DIRECTIONS, FILTER_WORDS_LIST, FILTER_WORDS_ORDERED, FILTER_WORDS_TEXT, print};

/// A validated schema.
pub type ValidSchema = Valid<Schema>;

/// Bytes of SDL that are parsed together: a syntax tree takes many times its text, until its part of the schema is built.
const PART_BYTES: usize = 64 << 10;

/// The schema of a view.
///
/// # Errors
/// `INTERNAL` where the printed schema is not valid GraphQL: a mistake of ours.
pub fn build(view: &View) -> Result<ValidSchema, Problem> {
    let sdl = print(view);
    let mut builder = Schema::builder();
    for (number, part) in parts(&sdl).enumerate() {
        builder = builder.parse(part, format!("schema-{number}.graphql"));
    }
    let built = builder.build().and_then(Schema::validate);
    built.map_err(|error| Problem::new(Code::Internal, "the schema could not be built").with_detail(error.errors))
}

/// The SDL in parts that end with a whole definition.
fn parts(sdl: &str) -> impl Iterator<Item = &str> {
    const END: &str = "\n}\n";
    let mut rest = sdl;
    std::iter::from_fn(move || {
        let ideal = rest.ceil_char_boundary(PART_BYTES);
        let end = rest[ideal..].find(END).map_or(rest.len(), |end| ideal + end + END.len());
        let (part, after) = rest.split_at(end);
        rest = after;
        (!part.is_empty()).then_some(part)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_end_with_a_definition_and_lose_nothing() {
        let definition = format!("\"Text.\"\ntype T {{\n{}}}\n\n", "  field: Int\n".repeat(1_000));
        let sdl = definition.repeat(20);
        let found: Vec<&str> = parts(&sdl).collect();
        assert!(found.len() > 2 && found.iter().rev().skip(1).all(|part| part.ends_with("\n}\n")));
        assert_eq!(found.concat(), sdl);
    }
}
