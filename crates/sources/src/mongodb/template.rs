//! Commands with places for values: made once per plan, filled in for each request.

use bson::{Bson, Document};
use puente_core::error::Problem;
use puente_core::value::Datum;

use super::values::{Conversion, Matching};

/// BSON in which some values are not known yet.
#[derive(Debug, Clone)]
pub(super) enum Node {
    /// A value that is the same for every request.
    Fixed(Bson),
    /// A value of the request.
    Bound(Slot),
    /// A document.
    Document(Vec<(String, Node)>),
    /// A list.
    List(Vec<Node>),
}

/// A value of the request, and what becomes of it.
#[derive(Debug, Clone)]
pub(super) enum Slot {
    /// A parameter, as a column has it.
    Value(usize, Conversion),
    /// The items of a parameter that is a list, as a column has them.
    List(usize, Conversion),
    /// Has a parameter that is a list no items?
    IsEmpty(usize),
    /// A regular expression for texts, or for one of a list of them.
    Pattern(usize, Matching),
    /// A number of rows, and so many more.
    Count(usize, i64),
    /// A value of one execution, by its number.
    Given(usize, Conversion),
    /// A value that a rule states, or a list of them.
    Constant(Datum, Conversion),
}

/// Where the values of a request are.
pub(super) trait Values {
    /// The value of a parameter.
    fn parameter(&self, number: usize) -> &Datum;
    /// A value of one execution.
    fn given(&self, number: usize) -> &Datum;
}

/// A document of members.
pub(super) fn document<const N: usize>(members: [(&str, Node); N]) -> Node {
    Node::Document(members.into_iter().map(|(name, node)| (name.to_owned(), node)).collect())
}

/// A document with one member: an operator and what it is applied to.
pub(super) fn apply(operator: &str, to: impl Into<Node>) -> Node {
    Node::Document(vec![(operator.to_owned(), to.into())])
}

/// An operator that is applied to several values.
pub(super) fn apply_to<const N: usize>(operator: &str, to: [Node; N]) -> Node {
    apply(operator, Node::List(to.into()))
}

impl From<Vec<Node>> for Node {
    fn from(items: Vec<Node>) -> Self {
        Node::List(items)
    }
}

impl From<&str> for Node {
    fn from(text: &str) -> Self {
        Node::Fixed(Bson::String(text.to_owned()))
    }
}

impl From<String> for Node {
    fn from(text: String) -> Self {
        Node::Fixed(Bson::String(text))
    }
}

impl From<i64> for Node {
    fn from(number: i64) -> Self {
        Node::Fixed(Bson::Int64(number))
    }
}

impl From<i32> for Node {
    fn from(number: i32) -> Self {
        Node::Fixed(Bson::Int32(number))
    }
}

impl From<bool> for Node {
    fn from(value: bool) -> Self {
        Node::Fixed(Bson::Boolean(value))
    }
}

impl Node {
    /// Null.
    pub(super) const NULL: Node = Node::Fixed(Bson::Null);

    /// Is it the number zero?
    pub(super) fn is_zero(&self) -> bool {
        matches!(self, Node::Fixed(Bson::Int32(0)))
    }

    /// Is it more than an empty document?
    pub(super) fn asks(&self) -> bool {
        !matches!(self, Node::Document(members) if members.is_empty())
    }

    /// About how many bytes it holds in memory.
    pub(super) fn weight(&self) -> usize {
        let below = match self {
            Node::Fixed(Bson::String(text)) => text.len(),
            Node::Fixed(_) | Node::Bound(_) => 0,
            Node::Document(members) => members.iter().map(|(name, node)| name.len() + 24 + node.weight()).sum(),
            Node::List(items) => items.iter().map(Node::weight).sum(),
        };
        size_of::<Node>() + below
    }

    /// The BSON that it is with a request's values.
    ///
    /// # Errors
    /// `INVALID_ARGUMENT` for a value that the database cannot hold.
    pub(super) fn fill(&self, values: &impl Values) -> Result<Bson, Problem> {
        Ok(match self {
            Node::Fixed(value) => value.clone(),
            Node::Document(_) => Bson::Document(self.fill_document(values)?),
            Node::List(items) => {
                Bson::Array(items.iter().map(|item| item.fill(values)).collect::<Result<_, Problem>>()?)
            }
            Node::Bound(slot) => match slot {
                Slot::Value(number, conversion) => conversion.operand(values.parameter(*number))?,
                Slot::Constant(datum, conversion) => conversion.operand(datum)?,
                Slot::Given(number, conversion) => conversion.value(values.given(*number))?,
                Slot::List(number, conversion) => Bson::Array(conversion.values(values.parameter(*number))?),
                Slot::IsEmpty(number) => {
                    Bson::Boolean(matches!(values.parameter(*number), Datum::List(items) if items.is_empty()))
                }
                Slot::Pattern(number, matching) => Bson::String(matching.pattern_of_caller(values.parameter(*number))?),
                Slot::Count(number, more) => match values.parameter(*number) {
                    Datum::Integer(count) => Bson::Int64(count.saturating_add(*more)),
                    _ => Bson::Int64(*more),
                },
            },
        })
    }

    /// The same of a document; what is none is an empty one.
    ///
    /// # Errors
    /// As [`Node::fill`].
    pub(super) fn fill_document(&self, values: &impl Values) -> Result<Document, Problem> {
        let Node::Document(members) = self else { return Ok(Document::new()) };
        members.iter().map(|(name, node)| Ok((name.clone(), node.fill(values)?))).collect()
    }

    /// How it is told to whoever may see statements: values by the numbers of their places.
    pub(super) fn tell(&self, out: &mut String) {
        match self {
            Node::Fixed(value) => out.push_str(&value.clone().into_relaxed_extjson().to_string()),
            Node::Bound(Slot::Value(number, _) | Slot::List(number, _) | Slot::Pattern(number, _)) => {
                out.push_str(&format!("?{number}"));
            }
            Node::Bound(Slot::IsEmpty(number)) => out.push_str(&format!("?{number} is empty")),
            Node::Bound(Slot::Constant(..)) => out.push_str("?rule"),
            Node::Bound(Slot::Count(number, 0)) => out.push_str(&format!("?{number}")),
            Node::Bound(Slot::Count(number, more)) => out.push_str(&format!("?{number} + {more}")),
            Node::Bound(Slot::Given(number, _)) => out.push_str(&format!("?given {number}")),
            Node::Document(members) => {
                out.push('{');
                for (at, (name, node)) in members.iter().enumerate() {
                    out.push_str(if at == 0 { "" } else { ", " });
                    out.push_str(&format!("{name:?}: "));
                    node.tell(out);
                }
                out.push('}');
            }
            Node::List(items) => {
                out.push('[');
                for (at, item) in items.iter().enumerate() {
                    out.push_str(if at == 0 { "" } else { ", " });
                    item.tell(out);
                }
                out.push(']');
            }
        }
    }
}
