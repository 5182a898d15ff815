//! Variables: coerced by their declared types. What a plan depends on of them is told by what planning reads
//! ([`reads`](super::reads)).

use std::fmt;

use apollo_compiler::ast::Type;
use apollo_compiler::schema::{EnumType, ExtendedType, InputObjectType};
use apollo_compiler::{Node, Schema, ast};
use serde_json::{Map, Value as Json};

use super::document::Document;
use crate::access::ResolvedClaims;
use crate::error::{Code, Location, MOST_PROBLEMS, Problem};
use crate::suggest::did_you_mean;
use crate::value::{Datum, Scalar, StorageFormat, datum_from_json, literal_to_json};

/// A request's variables, coerced to the operation's types, and what its claims come to.
#[derive(Debug)]
pub struct Variables {
    /// Defaults filled in; absent ones are not there.
    values: Map<String, Json>,
    claims: ResolvedClaims,
}

impl Variables {
    /// Coerces the values of a request ([CoerceVariableValues]).
    ///
    /// [CoerceVariableValues]: https://spec.graphql.org/September2025/#CoerceVariableValues()
    ///
    /// # Errors
    /// `INVALID_VARIABLE` for each value that does not fit; after some of them nothing more is looked at.
    pub fn coerce(
        document: &Document,
        mut given: Map<String, Json>,
        claims: ResolvedClaims,
    ) -> Result<Self, Vec<Problem>> {
        let mut values = Map::new();
        let mut coercion = Coercion { schema: &document.schema, location: None, problems: Vec::new() };
        for definition in &document.operation.variables {
            let name = definition.name.as_str();
            coercion.location = document.location(definition.location());
            let default = || definition.default_value.as_ref().map(|value: &Node<ast::Value>| literal_to_json(value));
            match given.swap_remove(name).or_else(default) {
                Some(mut value) => {
                    coercion.coerce(&definition.ty, &mut value, &Place::Variable(name));
                    values.insert(name.to_owned(), value);
                }
                None if definition.ty.is_non_null() => {
                    coercion.problem(|| format!("`${name}` is required: a value of type `{}`", definition.ty));
                }
                None => {}
            }
        }
        if coercion.problems.is_empty() { Ok(Variables { values, claims }) } else { Err(coercion.problems) }
    }

    /// A variable's value; none where it is absent. For [`reads`](super::reads) while a plan is made, and for binding.
    pub(super) fn get(&self, name: &str) -> Option<&Json> {
        self.values.get(name)
    }

    /// All values, for introspection, which is bound and not planned.
    pub(super) fn values(&self) -> &Map<String, Json> {
        &self.values
    }

    /// The values that the view's rules take from the claims.
    pub(super) fn claims(&self) -> &[Datum] {
        &self.claims.cells
    }

    /// What the claims come to.
    pub fn resolved_claims(&self) -> &ResolvedClaims {
        &self.claims
    }

    /// What a plan depends on of the claims.
    pub(super) fn pattern(&self) -> &[u8] {
        &self.claims.pattern
    }
}

/// Where in a variable a value is; written out only where something is wrong with it.
enum Place<'p> {
    Variable(&'p str),
    Member(&'p Place<'p>, &'p str),
    Item(&'p Place<'p>, usize),
}

impl fmt::Display for Place<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Variable(name) => write!(f, "${name}"),
            Place::Member(parent, name) => write!(f, "{parent}.{name}"),
            Place::Item(parent, at) => write!(f, "{parent}[{at}]"),
        }
    }
}

struct Coercion<'a> {
    schema: &'a Schema,
    /// Where the variable is declared.
    location: Option<Location>,
    problems: Vec<Problem>,
}

impl Coercion<'_> {
    fn problem(&mut self, text: impl FnOnce() -> String) {
        if self.problems.len() < MOST_PROBLEMS {
            self.problems.push(Problem::new(Code::InvalidVariable, text()).at(self.location));
        }
    }

    fn coerce(&mut self, ty: &Type, value: &mut Json, place: &Place<'_>) {
        if self.problems.len() >= MOST_PROBLEMS {
            return;
        }
        if value.is_null() {
            if ty.is_non_null() {
                self.problem(|| format!("{place} expects a value of type `{ty}`, found null"));
            }
            return;
        }
        match ty {
            Type::List(inner) | Type::NonNullList(inner) => self.coerce_list(inner, value, place),
            Type::Named(name) | Type::NonNullNamed(name) => match self.schema.types.get(name) {
                Some(ExtendedType::InputObject(object)) => self.coerce_object(object, value, place),
                Some(ExtendedType::Enum(e)) => self.coerce_enum(e, value, place),
                _ => self.coerce_scalar(name, value, place),
            },
        }
    }

    fn coerce_list(&mut self, inner: &Type, value: &mut Json, place: &Place<'_>) {
        if !value.is_array() {
            // A single value stands for a list of one.
            *value = Json::Array(vec![value.take()]);
        }
        let Json::Array(items) = value else { return };
        for (at, item) in items.iter_mut().enumerate() {
            self.coerce(inner, item, &Place::Item(place, at));
        }
    }

    fn coerce_object(&mut self, object: &InputObjectType, value: &mut Json, place: &Place<'_>) {
        let Json::Object(members) = value else {
            let came = crate::value::describe_json(value);
            return self.problem(|| format!("{place} expects an object of type `{}`, found {came}", object.name));
        };
        for name in members.keys() {
            if !object.fields.contains_key(name.as_str()) {
                self.problem(|| {
                    let hint = did_you_mean(name, object.fields.keys().map(|name| name.as_str()));
                    format!("{place}: `{}` has no member `{name}`{hint}", object.name)
                });
            }
        }
        if object.is_one_of() && (members.len() != 1 || members.values().any(Json::is_null)) {
            self.problem(|| format!("{place}: `{}` takes exactly one member that is not null", object.name));
        }
        for (name, field) in &object.fields {
            match members.get_mut(name.as_str()) {
                Some(member) => self.coerce(&field.ty, member, &Place::Member(place, name)),
                None if field.ty.is_non_null() => self.problem(|| {
                    format!("{place}: `{}` requires `{name}`, a value of type `{}`", object.name, field.ty)
                }),
                None => {}
            }
        }
    }

    fn coerce_enum(&mut self, e: &EnumType, value: &Json, place: &Place<'_>) {
        if !value.as_str().is_some_and(|name| e.values.contains_key(name)) {
            self.problem(|| {
                let names: Vec<&str> = e.values.keys().map(|name| name.as_str()).collect();
                let came = crate::value::describe_json(value);
                format!("{place} expects one of {}, found {came}", names.join(", "))
            });
        }
    }

    fn coerce_scalar(&mut self, name: &str, value: &Json, place: &Place<'_>) {
        // `ID` is not a scalar of ours, and no field uses it, but a document may declare it. JSON is any value.
        let Some(scalar) = Scalar::from_name(name).filter(|scalar| *scalar != Scalar::Json) else { return };
        // Whether a column has a sign is seen when the value is bound.
        if let Err(unfit) = datum_from_json(scalar, StorageFormat::Unsigned, value) {
            self.problem(|| format!("{place} expects {}, found {}", unfit.expected, unfit.found));
        }
    }
}
