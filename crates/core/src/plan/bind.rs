//! Binding: the values of one request are put into a plan. Nothing is parsed, validated or planned here.

use std::sync::{Arc, OnceLock};

use serde_json::Value as Json;

use super::cursor::{Position, Sealer};
use super::introspection::Answers;
use super::variables::Variables;
use super::{CursorArgument, CursorSource, ListSource, Parameter, Plan, RowSet};
use crate::error::{Code, Location, Problem};
use crate::project::Limits;
use crate::value::Datum;

/// A plan with the values of one request: what a source accepts. Made by [`Plan::bind`] only.
#[derive(Debug, Clone)]
pub struct BoundPlan {
    plan: Arc<Plan>,
    values: Arc<Vec<Datum>>,
    /// What the key queries found, each once it did.
    keys: Arc<[OnceLock<Datum>]>,
    introspection: Answers,
    cost: u64,
}

/// What a key query found that did not run yet.
const NO_KEYS: &Datum = &Datum::List(Vec::new());

impl BoundPlan {
    /// The plan.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// The value of a parameter.
    pub fn value(&self, parameter: usize) -> &Datum {
        match self.plan.parameters[parameter] {
            Parameter::Keys(query) => self.keys[query].get().unwrap_or(NO_KEYS),
            _ => &self.values[parameter],
        }
    }

    /// Is the value of a parameter what a key query found, not what a caller, a rule or a claim says?
    pub fn is_found(&self, parameter: usize) -> bool {
        matches!(self.plan.parameters[parameter], Parameter::Keys(_))
    }

    /// Gives what a key query found to whatever shares the values of this request.
    pub fn supply_keys(&self, query: usize, keys: Vec<Datum>) {
        let _ = self.keys[query].set(Datum::List(keys));
    }

    /// The value of a parameter that is a whole number.
    pub fn integer(&self, parameter: usize) -> i64 {
        match self.values[parameter] {
            Datum::Integer(value) => value,
            _ => 0,
        }
    }

    /// What the request may cost, as [`Limits::cost`] counts it.
    pub fn cost(&self) -> u64 {
        self.cost
    }

    /// Checks the cost of a change's answer, once it is known how many rows it gives, and tells it.
    ///
    /// # Errors
    /// `TOO_COSTLY` over the limit.
    pub fn check_cost(&self, given: usize, most: u64) -> Result<u64, Problem> {
        self.plan.check_cost(&self.values, given as u64, most)
    }

    /// Bytes of what introspection answers: they have been counted, and are not of the rows.
    pub fn introspection_bytes(&self) -> usize {
        self.introspection.iter().map(|(key, json)| key.len() + json.len()).sum()
    }

    /// What introspection answers under a response key, as JSON.
    pub fn introspection(&self, key: &str) -> &[u8] {
        self.introspection.iter().find(|(name, _)| name == key).map_or(b"null", |(_, json)| json)
    }
}

impl Plan {
    /// Binds the values of one request.
    ///
    /// # Errors
    /// `INVALID_ARGUMENT` and `INVALID_CURSOR` for values that this place does not allow, `TOO_COSTLY` for a request
    /// over the limit.
    pub fn bind(self: &Arc<Self>, variables: &Variables, limits: &Limits) -> Result<BoundPlan, Problem> {
        let positions = self.positions(variables)?;
        let mut values: Vec<Datum> = Vec::with_capacity(self.parameters.len());
        let mut bytes = 0;
        for parameter in &self.parameters {
            let value = self.value(parameter, &values, variables, &positions, limits)?;
            bytes += value.weight();
            check_bound(bytes, limits)?;
            values.push(value);
        }
        let cost = self.check_cost(&values, 1, limits.cost)?;
        let introspection = match &self.introspection {
            Some(introspection) => introspection.answer(variables, limits)?,
            None => Vec::new(),
        };
        let keys = self.key_queries.iter().map(|_| OnceLock::new()).collect();
        Ok(BoundPlan { plan: Arc::clone(self), values: Arc::new(values), keys, introspection, cost })
    }

    fn positions(&self, variables: &Variables) -> Result<Vec<Position>, Problem> {
        self.cursors
            .iter()
            .map(|cursor| {
                let text = match &cursor.source {
                    CursorSource::Literal(text) => text.as_str(),
                    CursorSource::Variable(path) => path.find(variables).and_then(Json::as_str).unwrap_or_default(),
                };
                cursor.open(text, &self.sealer)
            })
            .collect()
    }

    fn value(
        &self,
        parameter: &Parameter,
        earlier: &[Datum],
        variables: &Variables,
        positions: &[Position],
        limits: &Limits,
    ) -> Result<Datum, Problem> {
        match parameter {
            Parameter::Constant(cell) => Ok(cell.clone()),
            Parameter::Keys(_) => Ok(Datum::Null),
            Parameter::Claim(claim) => Ok(variables.claims().get(*claim).cloned().unwrap_or(Datum::Null)),
            Parameter::Leaf { source, leaf } => {
                let value = source.find(variables).unwrap_or(&Json::Null);
                leaf.cell(&self.model, value).map_err(|unfit| {
                    let text = format!("{} expects {}, found {}", source.describe(), unfit.expected, unfit.found);
                    Problem::new(Code::InvalidVariable, text)
                })
            }
            Parameter::List { items: ListSource::Items(parameters), .. } => {
                Ok(Datum::List(parameters.iter().map(|at| earlier[*at].clone()).collect()))
            }
            Parameter::List { items: ListSource::Variable(path), leaf } => {
                let items = path.find(variables).and_then(Json::as_array).map_or(&[][..], Vec::as_slice);
                if items.len() > limits.list {
                    return Err(list_too_long(items.len(), limits.list));
                }
                let cells = items.iter().map(|item| {
                    leaf.cell(&self.model, item).map_err(|unfit| {
                        let text = format!("{} expects {}, found {}", path.describe(), unfit.expected, unfit.found);
                        Problem::new(Code::InvalidVariable, text)
                    })
                });
                cells.collect::<Result<_, _>>().map(Datum::List)
            }
            Parameter::PageSize { source, argument, most, location } => {
                page_size(source.find(variables).unwrap_or(&Json::Null), argument, *most, *location)
            }
            Parameter::Skip { source, location } => skip(source.find(variables).unwrap_or(&Json::Null), *location),
            Parameter::CursorDatum { cursor, index } => {
                Ok(positions[*cursor].cells.get(*index).cloned().unwrap_or(Datum::Null))
            }
        }
    }

    /// The cost of the request: the rows of every select if every page is full, ten per summary, one per filter leaf. `given`
    /// are the rows that a change gives.
    fn check_cost(&self, values: &[Datum], given: u64, most: u64) -> Result<u64, Problem> {
        const PER_COUNT: u64 = 10;
        let mut bounds: Vec<u64> = Vec::with_capacity(self.selects.len());
        let mut cost = self.filter_leaves;
        for select in &self.selects {
            let parents = select.parent.as_ref().map_or(1, |parent| bounds[parent.select]);
            let rows = |size: usize| {
                let size = if let Datum::Integer(size) = values[size] { size.unsigned_abs() } else { 0 };
                parents.saturating_mul(size)
            };
            let bound = match &select.row_set {
                RowSet::Single => parents,
                RowSet::Supplied => given,
                RowSet::Aggregate => parents.saturating_mul(PER_COUNT),
                RowSet::Groups { size, .. } => rows(*size).saturating_add(parents.saturating_mul(PER_COUNT)),
                RowSet::Page { .. } if !select.read => 0,
                RowSet::Page { size, .. } => rows(*size),
            };
            cost = cost.saturating_add(bound);
            bounds.push(bound);
        }
        if cost <= most {
            return Ok(cost);
        }
        let text = format!(
            "the request could read {cost} rows, and the limit is {most}; ask for smaller pages with `first`, or for fewer levels"
        );
        Err(Problem::new(Code::TooCostly, text))
    }
}

impl CursorArgument {
    /// Opens the cursor and checks that it belongs here.
    pub(super) fn open(&self, text: &str, sealer: &Sealer) -> Result<Position, Problem> {
        let opened = if self.is_id { sealer.open_id(text) } else { sealer.open(text) };
        let found = opened.filter(|position| position.binding == self.binding && position.cells.len() == self.terms);
        found.ok_or_else(|| {
            let place = format!("`{}`", self.argument);
            if self.is_id { invalid_id(&place) } else { invalid_cursor(&place) }.at(self.location)
        })
    }
}

/// The problem of a cursor that is none of ours, or not for this place.
pub(super) fn invalid_cursor(place: &str) -> Problem {
    let text = format!(
        "{place} is not a cursor of this list in this order for this role; pass a `cursor`, `startCursor` or `endCursor` \
         of an answer to the same field with the same `orderBy`"
    );
    Problem::new(Code::InvalidCursor, text)
}

/// The problem of a global id that is none of ours.
pub(super) fn invalid_id(place: &str) -> Problem {
    let text = format!("{place} is not an id of a row here; pass the `id` of an answer of this service as it is");
    Problem::new(Code::InvalidArgument, text)
}

/// A variable may stand in many places of a document, and each binds its values again: not without end.
fn check_bound(bytes: usize, limits: &Limits) -> Result<(), Problem> {
    const TIMES_A_BODY: usize = 16;
    if bytes <= limits.body_bytes.saturating_mul(TIMES_A_BODY) {
        return Ok(());
    }
    Err(Problem::new(Code::TooCostly, "the values of the request are too many, or too large; ask in parts"))
}

/// A page size within the limit.
pub(super) fn page_size(value: &Json, argument: &str, most: u32, location: Option<Location>) -> Result<Datum, Problem> {
    match value.as_f64().filter(|size| (0.0..=f64::from(most)).contains(size)).and_then(|_| whole(value)) {
        Some(size) => Ok(Datum::Integer(size)),
        None => {
            let text = format!(
                "`{argument}` expects a whole number from 0 to {most}, found {value}; ask for the rest with `{}`",
                if argument == "last" { "before" } else { "after" }
            );
            Err(Problem::new(Code::InvalidArgument, text).at(location))
        }
    }
}

/// A number of rows to pass over.
pub(super) fn skip(value: &Json, location: Option<Location>) -> Result<Datum, Problem> {
    match whole(value).filter(|skip| *skip >= 0) {
        Some(skip) => Ok(Datum::Integer(skip)),
        None => {
            let text = format!("`skip` expects a whole number that is not negative, found {value}");
            Err(Problem::new(Code::InvalidArgument, text).at(location))
        }
    }
}

/// The problem of a list over the limit.
pub(super) fn list_too_long(length: usize, most: usize) -> Problem {
    Problem::new(Code::TooCostly, format!("a list of {length} values is over the limit of {most}; ask in parts"))
}

fn whole(value: &Json) -> Option<i64> {
    match crate::value::datum_from_json(crate::value::Scalar::Int, crate::value::StorageFormat::Usual, value) {
        Ok(Datum::Integer(value)) => Some(value),
        _ => None,
    }
}
