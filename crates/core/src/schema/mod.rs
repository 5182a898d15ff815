//! A role's GraphQL schema: its SDL, and the validated form that documents are checked against.

mod cache_keys;
mod differences;
mod inputs;
mod json;
mod reachable;
mod sdl;

use std::collections::HashSet;
use std::hash::Hash;
use std::sync::Arc;

use apollo_compiler::ast::{Definition, Document, FieldDefinition, InputValueDefinition};
use apollo_compiler::validation::{DiagnosticList, Valid};
use apollo_compiler::{Node, Schema};

use crate::access::View;
use crate::error::{Code, Problem};

pub use cache_keys::cache_keys;
pub use differences::{Difference, differences};
pub use sdl::{DIRECTIONS, print, to_file};

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
    let parts: Vec<&str> = parts(&sdl).collect();
    let (first, second) = parts.split_at(parts.len().div_ceil(2));
    // Parsing is most of the work, and its halves know nothing of each other.
    let (first, second) = match second {
        [] => (parse(first), Ok(Vec::new())),
        second => std::thread::scope(|scope| {
            let other = scope.spawn(|| parse(second));
            let stopped = |_| Err(Problem::new(Code::Internal, "the schema could not be built"));
            (parse(first), other.join().unwrap_or_else(stopped))
        }),
    };
    let documents = [first?, second?].concat();
    let built = documents.iter().fold(Schema::builder(), |builder, document| builder.add_ast(document)).build();
    built.and_then(Schema::validate).map_err(|error| wrong(&error.errors))
}

/// About how many bytes the schema of a view takes.
pub fn weight(view: &View) -> usize {
    /// Measured with 1,000 types of 20 columns and three links.
    const PER_FIELD: usize = 2_600;
    view.types().map(|(id, _)| 1 + view.columns(id).count() + view.links(id).count()).sum::<usize>() * PER_FIELD
}

/// Parses parts of a schema; what is alike in them is kept once.
fn parse(parts: &[&str]) -> Result<Vec<Document>, Problem> {
    let mut shared = Shared::default();
    let parsed = parts.iter().map(|part| {
        let mut document = Document::parse(*part, "schema.graphql").map_err(|error| wrong(&error.errors))?;
        document.definitions.iter_mut().for_each(|definition| shared.share(definition));
        // The text is not kept: nobody is shown a place in it.
        document.sources = Arc::default();
        Ok(document)
    });
    parsed.collect()
}

fn wrong(errors: &DiagnosticList) -> Problem {
    Problem::new(Code::Internal, "the schema could not be built").with_detail(crate::error::Detail::plain(errors))
}

/// Definitions of fields that are kept once, however many types have them: most fields of a large schema are like others.
#[derive(Default)]
struct Shared {
    outputs: HashSet<Node<FieldDefinition>>,
    inputs: HashSet<Node<InputValueDefinition>>,
}

impl Shared {
    fn share(&mut self, definition: &mut Definition) {
        match definition {
            Definition::ObjectTypeDefinition(object) => {
                for field in &mut object.make_mut().fields {
                    field.make_mut().arguments.iter_mut().for_each(|argument| known(&mut self.inputs, argument));
                    known(&mut self.outputs, field);
                }
            }
            Definition::InputObjectTypeDefinition(object) => {
                object.make_mut().fields.iter_mut().for_each(|field| known(&mut self.inputs, field));
            }
            _ => {}
        }
    }
}

/// Takes the known node that equals this one, or makes this one known.
fn known<T: Eq + Hash>(nodes: &mut HashSet<Node<T>>, node: &mut Node<T>) {
    match nodes.get(node) {
        Some(same) => *node = same.clone(),
        None => {
            nodes.insert(node.clone());
        }
    }
}

/// The SDL in parts that end with a whole definition.
fn parts(sdl: &str) -> impl Iterator<Item = &str> {
    const END: &str = "\n}\n\n";
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
        for count in 1..40 {
            let sdl = definition.repeat(count);
            let found: Vec<&str> = parts(&sdl).collect();
            assert!(count < 20 || found.len() > 2);
            assert!(found.iter().all(|part| part.starts_with('"') && part.ends_with("\n}\n\n")), "{count}");
            assert_eq!(found.concat(), sdl);
        }
    }
}
