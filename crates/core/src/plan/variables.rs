//! Variables: coerced by their declared types, and reduced to their shape, which is part of the plan cache's key.
//!
//! The shape keeps what a plan depends on: which members are there, null or absent; order words; booleans; the null
//! pattern of cursors. Other leaf values and the items of leaf lists are left out: they are bound as parameters.

use apollo_compiler::Schema;
use apollo_compiler::ast::Type;
use apollo_compiler::schema::{EnumType, ExtendedType, InputObjectType};
use serde_json::{Map, Value as Json};

use super::cursor::Sealer;
use super::document::Document;
use crate::access::Settled;
use crate::error::{Code, Problem};
use crate::suggest::did_you_mean;
use crate::value::{Cell, Form, Scalar, cell_from_json, literal_to_json};

/// A request's variables, coerced to the operation's types.
#[derive(Debug)]
pub struct Variables {
    /// The values, defaults filled in; absent ones are not there.
    pub values: Map<String, Json>,
    /// What of them, and of the claims, a plan depends on.
    pub shape: Vec<u8>,
    /// The values that the view's rules take from the claims.
    pub claims: Vec<Cell>,
}

/// The enum whose words decide the plan.
const DIRECTION: &str = "Direction";

impl Variables {
    /// Coerces the values of a request ([CoerceVariableValues]).
    ///
    /// [CoerceVariableValues]: https://spec.graphql.org/September2025/#CoerceVariableValues()
    ///
    /// # Errors
    /// `INVALID_VARIABLE` for each value that does not fit, `INVALID_CURSOR` for a cursor that is none of ours.
    pub fn coerce(document: &Document, given: &Map<String, Json>, sealer: &Sealer) -> Result<Self, Vec<Problem>> {
        let mut values = Map::new();
        let mut coercion = Coercion { schema: &document.schema, shape: Vec::new(), problems: Vec::new() };
        for definition in &document.operation.variables {
            let name = definition.name.as_str();
            let location = document.location(definition.location());
            let before = coercion.problems.len();
            let default = || definition.default_value.as_ref().map(|value| literal_to_json(value));
            match given.get(name).cloned().or_else(default) {
                Some(mut value) => {
                    coercion.shape.push(b'+');
                    coercion.coerce(&definition.ty, &mut value, &format!("${name}"));
                    if document.cursor_variables.contains(name)
                        && let Json::String(text) = &value
                    {
                        coercion.cursor(text, sealer, name);
                    }
                    values.insert(name.to_owned(), value);
                }
                None if definition.ty.is_non_null() => {
                    coercion.problem(format!("`${name}` is required: a value of type `{}`", definition.ty));
                }
                None => coercion.shape.push(b'-'),
            }
            for problem in &mut coercion.problems[before..] {
                problem.locations.extend(location);
            }
        }
        if coercion.problems.is_empty() {
            Ok(Variables { values, shape: coercion.shape, claims: Vec::new() })
        } else {
            Err(coercion.problems)
        }
    }
}

impl Variables {
    /// The same with what the claims come to.
    #[must_use]
    pub fn with_claims(mut self, settled: &Settled) -> Self {
        self.shape.extend_from_slice(&settled.pattern);
        self.claims.clone_from(&settled.cells);
        self
    }
}

struct Coercion<'a> {
    schema: &'a Schema,
    shape: Vec<u8>,
    problems: Vec<Problem>,
}

impl Coercion<'_> {
    fn problem(&mut self, text: String) {
        self.problems.push(Problem::new(Code::InvalidVariable, text));
    }

    fn coerce(&mut self, ty: &Type, value: &mut Json, place: &str) {
        if value.is_null() {
            self.shape.push(b'n');
            if ty.is_non_null() {
                self.problem(format!("{place} expects a value of type `{ty}`, found null"));
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

    fn coerce_list(&mut self, inner: &Type, value: &mut Json, place: &str) {
        if !value.is_array() {
            // A single value stands for a list of one.
            *value = Json::Array(vec![value.take()]);
        }
        let is_object = matches!(self.schema.types.get(inner.inner_named_type()), Some(ExtendedType::InputObject(_)));
        let Json::Array(items) = value else { return };
        self.shape.push(b'[');
        let start = self.shape.len();
        for (at, item) in items.iter_mut().enumerate() {
            self.coerce(inner, item, &format!("{place}[{at}]"));
            if !is_object {
                // The items of a leaf list are bound, not planned.
                self.shape.truncate(start);
            }
        }
        self.shape.push(b']');
    }

    fn coerce_object(&mut self, object: &InputObjectType, value: &mut Json, place: &str) {
        let Json::Object(members) = value else {
            let came = describe(value);
            return self.problem(format!("{place} expects an object of type `{}`, found {came}", object.name));
        };
        for name in members.keys() {
            if !object.fields.contains_key(name.as_str()) {
                let hint = did_you_mean(name, object.fields.keys().map(|name| name.as_str()));
                self.problem(format!("{place}: `{}` has no member `{name}`{hint}", object.name));
            }
        }
        if object.is_one_of() && (members.len() != 1 || members.values().any(Json::is_null)) {
            self.problem(format!("{place}: `{}` takes exactly one member that is not null", object.name));
        }
        self.shape.push(b'{');
        for (name, field) in &object.fields {
            match members.get_mut(name.as_str()) {
                Some(member) => {
                    self.shape.extend_from_slice(name.as_bytes());
                    self.shape.push(b':');
                    self.coerce(&field.ty, member, &format!("{place}.{name}"));
                }
                None if field.ty.is_non_null() => {
                    self.problem(format!(
                        "{place}: `{}` requires `{name}`, a value of type `{}`",
                        object.name, field.ty
                    ));
                }
                None => {}
            }
        }
        self.shape.push(b'}');
    }

    fn coerce_enum(&mut self, e: &EnumType, value: &Json, place: &str) {
        let known = value.as_str().filter(|name| e.values.contains_key(*name));
        match known {
            Some(name) if e.name == DIRECTION => {
                self.shape.extend_from_slice(name.as_bytes());
                self.shape.push(b';');
            }
            Some(_) => self.shape.push(b's'),
            None => {
                let names: Vec<&str> = e.values.keys().map(|name| name.as_str()).collect();
                let came = describe(value);
                self.problem(format!("{place} expects one of {}, found {came}", names.join(", ")));
            }
        }
    }

    fn coerce_scalar(&mut self, name: &str, value: &Json, place: &str) {
        let Some(scalar) = Scalar::from_name(name) else {
            // `ID`, which no field of ours uses but a document may declare.
            self.shape.push(b's');
            return;
        };
        if scalar == Scalar::Json {
            self.shape.push(b's');
            return;
        }
        // Whether a column has a sign is seen when the value is bound.
        match cell_from_json(scalar, Form::Unsigned, value) {
            Ok(Cell::Integer(truth)) if scalar == Scalar::Boolean => {
                self.shape.push(if truth == 1 { b't' } else { b'f' });
            }
            Ok(_) => self.shape.push(b's'),
            Err(unfit) => self.problem(format!("{place} expects {}, found {}", unfit.expected, unfit.came)),
        }
    }

    /// Adds which of a cursor's values are null: the statement depends on it.
    fn cursor(&mut self, text: &str, sealer: &Sealer, name: &str) {
        match sealer.open(text) {
            Some(position) => {
                self.shape.push(b'@');
                self.shape.extend(position.cells.iter().map(|cell| if *cell == Cell::Null { b'0' } else { b'1' }));
            }
            None => self.problems.push(super::bind::invalid_cursor(&format!("`${name}`"))),
        }
    }
}

fn describe(value: &Json) -> String {
    crate::value::describe_json(value)
}
