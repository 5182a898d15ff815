//! Argument values: literals and variables of a document alike. What is below a value is looked at only by
//! [`Recorder::open`](super::reads::Recorder::open), a level at a time, so that a plan made for one request can be bound to
//! the next.

use std::sync::Arc;

use apollo_compiler::Node;
use apollo_compiler::ast::Value as Ast;
use serde_json::Value as Json;

use super::reads::VariablePath;
use crate::error::Location;

/// A value that was not looked at yet.
#[derive(Debug, Clone)]
pub(super) enum Given<'a> {
    /// Nothing.
    Absent,
    /// In the document.
    Literal(&'a Node<Ast>),
    /// In a variable, which stands in the document here.
    Variable(VariablePath, &'a Node<Ast>),
}

/// The members of an object, in the order in which they were given.
pub(super) type Members<'a> = Vec<(Arc<str>, Given<'a>)>;

/// The form of a value.
#[derive(Debug, Clone)]
pub(super) enum Input<'a> {
    /// Not given, or given by a variable that is not set.
    Absent,
    /// Given as null.
    Null,
    /// A list.
    List(Listed<'a>),
    /// An object.
    Object(Members<'a>),
    /// A leaf.
    Leaf(Leaf),
}

/// A list whose items were not looked at yet.
#[derive(Debug, Clone)]
pub(super) enum Listed<'a> {
    /// In the document.
    Literal(&'a [Node<Ast>]),
    /// In a variable.
    Variable(VariablePath, &'a Node<Ast>),
}

/// A leaf value.
#[derive(Debug, Clone)]
pub(super) enum Leaf {
    /// In the document: the same for every request.
    Literal {
        /// The value.
        value: Json,
        /// Where it is.
        location: Option<Location>,
    },
    /// In a variable.
    Variable {
        /// Which, and where in it.
        path: VariablePath,
        /// Where the document has it.
        location: Option<Location>,
    },
}

impl Input<'_> {
    /// Neither absent nor null.
    pub(super) fn is_given(&self) -> bool {
        !matches!(self, Input::Absent | Input::Null)
    }
}
