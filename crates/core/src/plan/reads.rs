//! What planning reads of a request: the only way to a variable's value while a plan is made.
//!
//! A plan is kept for other requests, so it may depend only on what they have in common. Planning therefore sees
//! variables through a [`Recorder`], which notes every [`Read`] with its place. A document keeps the reads of all of its
//! plans ([`Reads`]); a request's key is what they answer for it. A plan cannot depend on what is not part of its key,
//! whoever adds the next word to the language.
//!
//! Leaf values and the items of leaf lists are not read here: they are bound as parameters, request by request.

use std::cell::{Cell as Counter, RefCell};
use std::sync::{Arc, PoisonError, RwLock};

use apollo_compiler::{Name, Node, ast::Value as Ast};
use indexmap::IndexSet;
use serde_json::Value as Json;

use super::cursor::Sealer;
use super::document::Document;
use super::input::{Given, Input, Leaf, Listed};
use super::variables::Variables;
use crate::error::{Code, Problem};
use crate::model::IDENTITY_LENGTH;
use crate::value::{Datum, literal_to_json};

/// Steps that planning takes for one request at most: selections met, members and items of arguments looked at. About what the
/// longest document may hold in literals; variables can hold no more.
const MOST_STEPS: usize = 20_000;

/// Where in the variables a value is.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(super) struct VariablePath {
    variable: Name,
    steps: Vec<Step>,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Step {
    Member(Arc<str>),
    Index(usize),
}

impl VariablePath {
    /// A whole variable.
    pub(super) fn of(variable: &Name) -> Self {
        VariablePath { variable: variable.clone(), steps: Vec::new() }
    }

    fn below(&self, step: Step) -> Self {
        let mut steps = Vec::with_capacity(self.steps.len() + 1);
        steps.extend(self.steps.iter().cloned());
        steps.push(step);
        VariablePath { variable: self.variable.clone(), steps }
    }

    /// The value at this path.
    pub(super) fn find<'v>(&self, variables: &'v Variables) -> Option<&'v Json> {
        self.steps.iter().try_fold(variables.get(&self.variable)?, |value, step| match step {
            Step::Member(name) => value.get(&**name),
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

    /// About how many bytes it holds in memory; the variable's name is the document's.
    pub(super) fn weight(&self) -> usize {
        const PER_STEP: usize = 64;
        PER_STEP + self.steps.len() * PER_STEP
    }
}

/// One thing that planning learns of a value.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Read {
    /// Is it there? Is it null, a single value, a list, an object with which members?
    StorageFormat(VariablePath),
    /// How many items has it?
    Length(VariablePath),
    /// Which word is it: of an enum?
    Word(VariablePath),
    /// Is it true?
    Truth(VariablePath),
    /// Which of a cursor's values are null?
    Nulls(VariablePath),
    /// Of which type is the row that a global id means, and of how many values is its key?
    Identity(VariablePath),
}

impl Read {
    fn path(&self) -> &VariablePath {
        match self {
            Read::StorageFormat(path)
            | Read::Length(path)
            | Read::Word(path)
            | Read::Truth(path)
            | Read::Nulls(path)
            | Read::Identity(path) => path,
        }
    }

    /// What it answers for a request, as bytes of a key: no answer is the beginning of another.
    fn answer(&self, variables: &Variables, sealer: &Sealer, key: &mut Vec<u8>) {
        let value = self.path().find(variables);
        match self {
            Read::StorageFormat(_) => match value {
                None => key.push(b'-'),
                Some(Json::Null) => key.push(b'n'),
                Some(Json::Array(_)) => key.push(b'['),
                Some(Json::Object(members)) => {
                    key.push(b'{');
                    members.keys().for_each(|name| text(name, key));
                    key.push(b'}');
                }
                Some(_) => key.push(b's'),
            },
            Read::Length(_) => {
                key.push(b'#');
                key.extend_from_slice(&length(value).to_le_bytes());
            }
            Read::Word(_) => {
                key.push(b'w');
                text(word(value), key);
            }
            Read::Truth(_) => key.push(if is_true(value) { b't' } else { b'f' }),
            Read::Nulls(_) => {
                key.push(b'@');
                let nulls = nulls(value, sealer);
                key.extend(nulls.iter().flatten().map(|is_null| if *is_null { b'0' } else { b'1' }));
                key.push(if nulls.is_some() { b' ' } else { b'!' });
            }
            Read::Identity(_) => {
                key.push(b'i');
                let identity = identity(value, sealer);
                key.push(u8::from(identity.is_some()));
                let (type_, length) = identity.unwrap_or_default();
                key.extend(type_);
                key.extend_from_slice(&length.to_le_bytes());
            }
        }
    }
}

/// A text as bytes of a key: with its length, so that it ends where it ends.
fn text(text: &str, key: &mut Vec<u8>) {
    key.extend_from_slice(&text.len().to_le_bytes());
    key.extend_from_slice(text.as_bytes());
}

fn length(value: Option<&Json>) -> usize {
    value.and_then(Json::as_array).map_or(0, Vec::len)
}

fn word(value: Option<&Json>) -> &str {
    value.and_then(Json::as_str).unwrap_or_default()
}

fn is_true(value: Option<&Json>) -> bool {
    value == Some(&Json::Bool(true))
}

fn identity(value: Option<&Json>, sealer: &Sealer) -> Option<([u8; IDENTITY_LENGTH], usize)> {
    let position = sealer.open_id(value.and_then(Json::as_str)?)?;
    Some((position.binding, position.cells.len()))
}

fn nulls(value: Option<&Json>, sealer: &Sealer) -> Option<Vec<bool>> {
    let position = sealer.open(value.and_then(Json::as_str)?)?;
    Some(position.cells.iter().map(|cell| *cell == Datum::Null).collect())
}

/// What the plans of one document read of requests.
#[derive(Debug)]
pub(super) struct Reads {
    known: RwLock<Known>,
    most_bytes: usize,
}

#[derive(Debug, Default)]
struct Known {
    reads: Arc<IndexSet<Read>>,
    /// Did they come to more than is kept? Then no plan of the document is kept either.
    too_many: bool,
}

impl Reads {
    /// Keeps reads of so many bytes at most.
    pub(super) fn new(most_bytes: usize) -> Self {
        Reads { known: RwLock::default(), most_bytes }
    }

    fn add(&self, reads: IndexSet<Read>) {
        let is_new = |known: &Known| reads.iter().any(|read| !known.reads.contains(read));
        if !is_new(&self.known.read().unwrap_or_else(PoisonError::into_inner)) {
            return;
        }
        let mut known = self.known.write().unwrap_or_else(PoisonError::into_inner);
        let mut all = IndexSet::clone(&known.reads);
        all.extend(reads);
        let bytes = all.iter().map(|read| read.path().weight()).sum::<usize>();
        known.too_many |= bytes > self.most_bytes;
        if !known.too_many {
            known.reads = Arc::new(all);
        }
    }

    /// The key of a request: what its claims come to, and what every read answers. None where too much was read for plans to
    /// be kept.
    pub(super) fn key(&self, variables: &Variables, sealer: &Sealer) -> Option<Vec<u8>> {
        let known = self.known.read().unwrap_or_else(PoisonError::into_inner);
        if known.too_many {
            return None;
        }
        let reads = Arc::clone(&known.reads);
        drop(known);
        let mut key = variables.pattern().to_vec();
        reads.iter().for_each(|read| read.answer(variables, sealer, &mut key));
        Some(key)
    }
}

/// Shows a request to planning, and notes what is looked at.
pub(super) struct Recorder<'a> {
    document: &'a Document,
    variables: &'a Variables,
    sealer: &'a Sealer,
    reads: RefCell<IndexSet<Read>>,
    steps: Counter<usize>,
}

impl<'a> Recorder<'a> {
    pub(super) fn new(document: &'a Document, variables: &'a Variables, sealer: &'a Sealer) -> Self {
        Recorder { document, variables, sealer, reads: RefCell::default(), steps: Counter::new(0) }
    }

    /// Adds what was read to what the document knows of.
    pub(super) fn keep(self) {
        self.document.reads.add(self.reads.into_inner());
    }

    /// Counts work.
    ///
    /// # Errors
    /// `TOO_COSTLY` where a request takes more of it than it may.
    pub(super) fn step(&self, steps: usize) -> Result<(), Problem> {
        let taken = self.steps.get().saturating_add(steps);
        self.steps.set(taken);
        if taken <= MOST_STEPS {
            return Ok(());
        }
        let text = format!(
            "selections and arguments have over {MOST_STEPS} parts, fragments counted wherever they are spread; ask in parts"
        );
        Err(Problem::new(Code::TooCostly, text))
    }

    /// How many steps were counted.
    pub(super) fn steps(&self) -> usize {
        self.steps.get()
    }

    /// Goes on counting from so many steps.
    pub(super) fn resume(&self, steps: usize) {
        self.steps.set(steps);
    }

    fn note(&self, read: Read) {
        self.reads.borrow_mut().insert(read);
    }

    /// What a value is, as far as its form goes.
    ///
    /// # Errors
    /// `TOO_COSTLY`, as every step.
    pub(super) fn open(&self, given: Given<'a>) -> Result<Input<'a>, Problem> {
        self.step(1)?;
        Ok(match given {
            Given::Absent => Input::Absent,
            Given::Literal(node) => match node.as_ref() {
                Ast::Null => Input::Null,
                Ast::Variable(name) => self.open_variable(VariablePath::of(name), node)?,
                Ast::List(items) => Input::List(Listed::Literal(items)),
                Ast::Object(members) => {
                    self.step(members.len())?;
                    Input::Object(
                        members.iter().map(|(name, value)| (name.as_str().into(), Given::Literal(value))).collect(),
                    )
                }
                leaf => Input::Leaf(Leaf::Literal {
                    value: literal_to_json(leaf),
                    location: self.document.location(node.location()),
                }),
            },
            Given::Variable(path, node) => self.open_variable(path, node)?,
        })
    }

    fn open_variable(&self, path: VariablePath, node: &'a Node<Ast>) -> Result<Input<'a>, Problem> {
        self.note(Read::StorageFormat(path.clone()));
        Ok(match path.find(self.variables) {
            None => Input::Absent,
            Some(Json::Null) => Input::Null,
            Some(Json::Array(_)) => Input::List(Listed::Variable(path, node)),
            Some(Json::Object(members)) => {
                self.step(members.len())?;
                let below = |name: &String| {
                    let name: Arc<str> = name.as_str().into();
                    (Arc::clone(&name), Given::Variable(path.below(Step::Member(name)), node))
                };
                Input::Object(members.keys().map(below).collect())
            }
            Some(_) => Input::Leaf(Leaf::Variable { path, location: self.document.location(node.location()) }),
        })
    }

    /// The items of a list: how many there are is then part of the plan.
    ///
    /// # Errors
    /// `TOO_COSTLY`, as every step.
    pub(super) fn items(&self, list: Listed<'a>) -> Result<Vec<Given<'a>>, Problem> {
        match list {
            Listed::Literal(items) => {
                self.step(items.len())?;
                Ok(items.iter().map(Given::Literal).collect())
            }
            Listed::Variable(path, node) => {
                self.note(Read::Length(path.clone()));
                let length = length(path.find(self.variables));
                self.step(length)?;
                Ok((0..length).map(|at| Given::Variable(path.below(Step::Index(at)), node)).collect())
            }
        }
    }

    /// A value as a list: a single value is a list of one.
    ///
    /// # Errors
    /// `TOO_COSTLY`, as every step.
    pub(super) fn opened_items(&self, input: Input<'a>) -> Result<Vec<Input<'a>>, Problem> {
        match input {
            Input::List(list) => self.items(list)?.into_iter().map(|item| self.open(item)).collect(),
            Input::Absent | Input::Null => Ok(Vec::new()),
            single => Ok(vec![single]),
        }
    }

    /// The word of an enum value.
    pub(super) fn word(&self, leaf: &Leaf) -> String {
        match leaf {
            Leaf::Literal { value, .. } => value.as_str().unwrap_or_default().to_owned(),
            Leaf::Variable { path, .. } => {
                self.note(Read::Word(path.clone()));
                word(path.find(self.variables)).to_owned()
            }
        }
    }

    /// Is it true?
    pub(super) fn is_true(&self, leaf: &Leaf) -> bool {
        match leaf {
            Leaf::Literal { value, .. } => is_true(Some(value)),
            Leaf::Variable { path, .. } => self.is_variable_true(path.clone()),
        }
    }

    /// Is the variable of an `@include` or `@skip` true?
    pub(super) fn is_variable_true(&self, path: VariablePath) -> bool {
        let found = is_true(path.find(self.variables));
        self.note(Read::Truth(path));
        found
    }

    /// Which of a cursor's values are null; none where it is not a cursor of ours.
    pub(super) fn nulls(&self, leaf: &Leaf) -> Option<Vec<bool>> {
        match leaf {
            Leaf::Literal { value, .. } => nulls(Some(value), self.sealer),
            Leaf::Variable { path, .. } => {
                self.note(Read::Nulls(path.clone()));
                nulls(path.find(self.variables), self.sealer)
            }
        }
    }

    /// What tells the type of the row that a global id means, and of how many values its key is; none where it is not an id of ours.
    pub(super) fn identity(&self, leaf: &Leaf) -> Option<([u8; IDENTITY_LENGTH], usize)> {
        match leaf {
            Leaf::Literal { value, .. } => identity(Some(value), self.sealer),
            Leaf::Variable { path, .. } => {
                self.note(Read::Identity(path.clone()));
                identity(path.find(self.variables), self.sealer)
            }
        }
    }

    /// The request itself, for a plan that is made for it alone.
    pub(super) fn variables_of_one_request(&self) -> &'a Variables {
        self.variables
    }
}
