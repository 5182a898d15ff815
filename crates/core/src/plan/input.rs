//! Argument values: literals and variables of a document as one tree, in which every leaf knows where its value comes
//! from, so that a plan made for one request can be bound to the next.

use apollo_compiler::Node;
use apollo_compiler::ast::Value as Ast;
use serde_json::{Map, Value as Json};

use super::{Step, VariablePath};
use crate::error::Location;

/// An argument's value.
#[derive(Debug, Clone)]
pub(super) enum Input {
    /// Not given, or given by a variable that is not set.
    Absent,
    /// Given as null.
    Null,
    /// A list; a single value where a list is expected is one too.
    List(Vec<Input>, Source),
    /// An object.
    Object(Vec<(String, Input)>),
    /// A leaf.
    Leaf(Leaf),
}

/// A leaf value and where it comes from.
#[derive(Debug, Clone)]
pub(super) struct Leaf {
    /// The value in this request. Only what is part of the variables' shape may be read from it while planning, unless
    /// the source is the document.
    pub(super) value: Json,
    /// Where it comes from.
    pub(super) source: Source,
    /// Where the document has it.
    pub(super) location: Option<Location>,
}

/// Where a value comes from.
#[derive(Debug, Clone)]
pub(super) enum Source {
    /// The document: the same for every request.
    Document,
    /// A variable.
    Variable(VariablePath),
}

impl Input {
    /// Resolves a value of the document with the request's variables.
    pub(super) fn resolve(
        value: &Node<Ast>,
        variables: &Map<String, Json>,
        locate: &dyn Fn(&Node<Ast>) -> Option<Location>,
    ) -> Input {
        match value.as_ref() {
            Ast::Null => Input::Null,
            Ast::Variable(name) => match variables.get(name.as_str()) {
                None => Input::Absent,
                Some(json) => {
                    let path = VariablePath { variable: name.to_string(), steps: Vec::new() };
                    Input::from_variable(json, path, locate(value))
                }
            },
            Ast::List(items) => Input::List(
                items.iter().map(|item| Input::resolve(item, variables, locate)).collect(),
                Source::Document,
            ),
            Ast::Object(members) => Input::Object(
                members
                    .iter()
                    .map(|(name, value)| (name.to_string(), Input::resolve(value, variables, locate)))
                    .collect(),
            ),
            leaf => Input::Leaf(Leaf {
                value: crate::value::literal_to_json(leaf),
                source: Source::Document,
                location: locate(value),
            }),
        }
    }

    fn from_variable(json: &Json, path: VariablePath, location: Option<Location>) -> Input {
        let below = |step: Step| {
            let mut path = path.clone();
            path.steps.push(step);
            path
        };
        match json {
            Json::Null => Input::Null,
            Json::Array(items) => {
                let items = items.iter().enumerate();
                let items = items.map(|(at, item)| Input::from_variable(item, below(Step::Index(at)), location));
                Input::List(items.collect(), Source::Variable(path.clone()))
            }
            Json::Object(members) => Input::Object(
                members
                    .iter()
                    .map(|(name, value)| {
                        (name.clone(), Input::from_variable(value, below(Step::Member(name.clone())), location))
                    })
                    .collect(),
            ),
            leaf => Input::Leaf(Leaf { value: leaf.clone(), source: Source::Variable(path), location }),
        }
    }

    /// The value as a list: a single value is a list of one.
    pub(super) fn into_items(self) -> Vec<Input> {
        match self {
            Input::List(items, _) => items,
            Input::Absent | Input::Null => Vec::new(),
            single => vec![single],
        }
    }
}

impl VariablePath {
    /// The value at this path.
    pub(super) fn find<'a>(&self, values: &'a Map<String, Json>) -> Option<&'a Json> {
        self.steps.iter().try_fold(values.get(&self.variable)?, |value, step| match step {
            Step::Member(name) => value.get(name),
            Step::Index(at) => value.get(at),
        })
    }

    /// How an error message names it.
    pub(super) fn describe(&self) -> String {
        let mut text = format!("${}", self.variable);
        for step in &self.steps {
            match step {
                Step::Member(name) => text.push_str(&format!(".{name}")),
                Step::Index(at) => text.push_str(&format!("[{at}]")),
            }
        }
        text
    }
}
