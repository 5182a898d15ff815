//! A role's GraphQL schema: its SDL, and the validated form that documents are checked against.

mod sdl;

use apollo_compiler::Schema;
use apollo_compiler::validation::Valid;

use crate::access::View;
use crate::error::{Code, Problem};

pub use sdl::{DIRECTIONS, FILTER_WORDS_LIST, FILTER_WORDS_ORDERED, FILTER_WORDS_TEXT, print};

/// A validated schema.
pub type ValidSchema = Valid<Schema>;

/// The schema of a view.
///
/// # Errors
/// `INTERNAL` where the printed schema is not valid GraphQL: a mistake of ours.
pub fn build(view: &View) -> Result<ValidSchema, Problem> {
    Schema::parse_and_validate(print(view), "schema.graphql")
        .map_err(|error| Problem::new(Code::Internal, "the schema could not be built").with_detail(error.errors))
}
