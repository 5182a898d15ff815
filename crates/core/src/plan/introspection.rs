//! What a document asks about the schema. It is written as it is walked, and counted as it is written: a schema of thousands of tables
//! answers the query that tools send in as many bytes as it takes, and no request gets more than it may have.
//!
//! ```text
//! selection sets ─► Selected (fields by response key, fragments and directives resolved, each set once) ─► walk ─► JSON
//! ```

use std::collections::{HashMap, HashSet};
use std::rc::Rc;
use std::sync::Arc;

use apollo_compiler::ast::{
    Argument, DirectiveDefinition, DirectiveList, FieldDefinition, InputValueDefinition, Type, Value as Ast,
};
use apollo_compiler::collections::HashMap as Implementers;
use apollo_compiler::executable::{Field, Selection, SelectionSet};
use apollo_compiler::schema::{self, EnumValueDefinition, ExtendedType};
use apollo_compiler::{Name, Node, Schema, introspection};
use indexmap::IndexMap;
use serde_json::{Map, Value as Json};

use super::build::Collected;
use super::document::Document;
use super::variables::Variables;
use crate::error::{Code, Problem};
use crate::project::Limits;

/// Bytes that may be answered for each definition of the schema, whatever `answer_bytes` says. The whole schema, asked for once as
/// tools ask for it, takes about 200.
const BYTES_PER_DEFINITION: u64 = 800;

/// What a plan asks about the schema.
#[derive(Debug)]
pub(super) struct Introspection {
    document: Arc<Document>,
    roots: Vec<Root>,
}

/// A field of the operation, under its response key.
#[derive(Debug)]
struct Root {
    key: String,
    asked: Asked,
}

#[derive(Debug)]
enum Asked {
    /// `__type`.
    Type(Fields),
    /// `__schema`, by its own fields.
    Schema(Vec<Fields>),
}

/// Fields of one response key.
type Fields = Vec<Node<Field>>;

/// What introspection answers, by response key: JSON.
pub(super) type Answers = Vec<(String, Vec<u8>)>;

impl Introspection {
    pub(super) fn new(document: &Arc<Document>, roots: Roots) -> Self {
        Introspection { document: Arc::clone(document), roots: roots.0 }
    }

    /// Bytes that it keeps in memory: the document stays as long as it does.
    pub(super) fn weight(&self) -> usize {
        self.document.weight()
    }

    /// Answers everything.
    ///
    /// # Errors
    /// `TOO_COSTLY` where it is more than may be answered.
    pub(super) fn answer(&self, variables: &Variables, limits: &Limits) -> Result<Answers, Problem> {
        let document = &*self.document;
        introspection::check_max_depth(&document.executable, &document.operation)
            .map_err(|error| Problem::new(Code::TooCostly, error.message().to_string()))?;
        // Asked for once it takes as much as the schema is large; asked for by the hundred it is an answer like any other.
        let once = definitions(&document.schema) * BYTES_PER_DEFINITION;
        let most = (limits.answer_bytes as u64).max(once).min(limits.introspection_bytes as u64);
        let mut compiling = Compiling { document, values: variables.values(), known: HashMap::new() };
        let mut writing =
            Writing { schema: &document.schema, implementers: document.schema.implementers_map(), left: most, most };
        let mut answers = Vec::with_capacity(self.roots.len());
        for root in &self.roots {
            let mut out = Vec::new();
            match &root.asked {
                Asked::Type(fields) => {
                    let chosen =
                        compiling.chosen(fields[0].response_name(), fields.iter().map(|field| &**field).collect());
                    let wanted = compiling.text(chosen.field, "name");
                    let of = wanted.and_then(|name| document.schema.types.get(name.as_str()));
                    writing.nullable(of.map(About::Named), &chosen, &mut out)?;
                }
                Asked::Schema(selected) => {
                    let mut fields = Vec::with_capacity(selected.len());
                    for of in selected {
                        let key = of[0].response_name();
                        fields.push(compiling.chosen(key, of.iter().map(|field| &**field).collect()));
                    }
                    writing.object(About::Schema, &Selected { fields }, &mut out)?;
                }
            }
            answers.push((root.key.clone(), out));
        }
        Ok(answers)
    }
}

/// The roots that planning has met so far.
#[derive(Debug, Default)]
pub(super) struct Roots(Vec<Root>);

impl Roots {
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Adds a `__type` under its response key.
    pub(super) fn push_type(&mut self, key: &str, fields: &[&Node<Field>]) {
        self.0.push(Root { key: key.to_owned(), asked: Asked::Type(owned(fields)) });
    }

    /// Adds a `__schema` with what is selected of it.
    pub(super) fn push_schema(&mut self, key: &str, selected: &Collected<'_>) {
        let asked = Asked::Schema(selected.values().map(|fields| owned(fields)).collect());
        self.0.push(Root { key: key.to_owned(), asked });
    }
}

fn owned(fields: &[&Node<Field>]) -> Fields {
    fields.iter().copied().cloned().collect()
}

/// Definitions that introspection tells of.
fn definitions(schema: &Schema) -> u64 {
    let types = schema.types.values().map(|of| match of {
        ExtendedType::Object(of) => 1 + of.fields.values().map(|field| 1 + field.arguments.len()).sum::<usize>(),
        ExtendedType::Interface(of) => 1 + of.fields.values().map(|field| 1 + field.arguments.len()).sum::<usize>(),
        ExtendedType::InputObject(of) => 1 + of.fields.len(),
        ExtendedType::Enum(of) => 1 + of.values.len(),
        ExtendedType::Scalar(_) | ExtendedType::Union(_) => 1,
    });
    types.sum::<usize>() as u64
}

/// Fields of an object, by their response keys.
struct Selected<'d> {
    fields: Vec<Chosen<'d>>,
}

/// A field under its response key.
struct Chosen<'d> {
    key: &'d str,
    field: &'d Field,
    /// What is selected below it.
    below: Option<Rc<Selected<'d>>>,
    /// Are deprecated definitions wanted, too?
    deprecated: bool,
}

/// Resolves selection sets for one request. What an object is decides nothing of them, so each is resolved once.
struct Compiling<'d> {
    document: &'d Document,
    values: &'d Map<String, Json>,
    /// What was resolved, by the places of the sets in memory.
    known: HashMap<Vec<usize>, Rc<Selected<'d>>>,
}

impl<'d> Compiling<'d> {
    fn chosen(&mut self, key: &'d str, fields: Vec<&'d Field>) -> Chosen<'d> {
        let mut sets: Vec<&'d SelectionSet> = Vec::new();
        let mut seen = HashSet::new();
        for set in fields.iter().filter_map(|field| field.selection_set.as_ref()) {
            if seen.insert(std::ptr::from_ref(set)) {
                sets.push(set);
            }
        }
        let below = (!sets.is_empty()).then(|| self.selected(&sets));
        let deprecated = self.truth(&fields[0].arguments, "includeDeprecated");
        Chosen { key, field: fields[0], below, deprecated }
    }

    fn selected(&mut self, sets: &[&'d SelectionSet]) -> Rc<Selected<'d>> {
        let key: Vec<usize> = sets.iter().map(|set| std::ptr::from_ref::<SelectionSet>(set).addr()).collect();
        if let Some(known) = self.known.get(&key) {
            return Rc::clone(known);
        }
        let mut collected: IndexMap<&'d str, Vec<&'d Field>> = IndexMap::new();
        let mut spread = HashSet::new();
        sets.iter().for_each(|set| self.collect(set, &mut collected, &mut spread));
        let fields = collected.into_iter().map(|(key, fields)| self.chosen(key, fields)).collect();
        let selected = Rc::new(Selected { fields });
        self.known.insert(key, Rc::clone(&selected));
        selected
    }

    /// [CollectFields](https://spec.graphql.org/September2025/#CollectFields()): a fragment's type is that of what it stands in.
    fn collect(
        &self,
        set: &'d SelectionSet,
        into: &mut IndexMap<&'d str, Vec<&'d Field>>,
        spread: &mut HashSet<&'d Name>,
    ) {
        for selection in &set.selections {
            match selection {
                Selection::Field(field) if self.is_included(&field.directives) => {
                    into.entry(field.response_name().as_str()).or_default().push(field);
                }
                Selection::InlineFragment(fragment) if self.is_included(&fragment.directives) => {
                    self.collect(&fragment.selection_set, into, spread);
                }
                Selection::FragmentSpread(fragment) if self.is_included(&fragment.directives) => {
                    if spread.insert(&fragment.fragment_name)
                        && let Some(named) = self.document.executable.fragments.get(&fragment.fragment_name)
                    {
                        self.collect(&named.selection_set, into, spread);
                    }
                }
                Selection::Field(_) | Selection::InlineFragment(_) | Selection::FragmentSpread(_) => {}
            }
        }
    }

    fn is_included(&self, directives: &DirectiveList) -> bool {
        let says = |name: &str| directives.get(name).map(|directive| self.truth(&directive.arguments, "if"));
        says("skip") != Some(true) && says("include") != Some(false)
    }

    fn value(&self, arguments: &'d [Node<Argument>], name: &str) -> Option<Json> {
        self.value_of(arguments, name)
    }

    fn value_of(&self, arguments: &[Node<Argument>], name: &str) -> Option<Json> {
        let argument = arguments.iter().find(|argument| argument.name == name)?;
        match argument.value.as_ref() {
            Ast::Variable(name) => self.values.get(name.as_str()).cloned(),
            Ast::Boolean(value) => Some(Json::Bool(*value)),
            Ast::String(text) => Some(Json::String(text.clone())),
            _ => None,
        }
    }

    fn truth(&self, arguments: &[Node<Argument>], name: &str) -> bool {
        self.value_of(arguments, name) == Some(Json::Bool(true))
    }

    fn text(&self, field: &'d Field, name: &str) -> Option<String> {
        match self.value(&field.arguments, name)? {
            Json::String(text) => Some(text),
            _ => None,
        }
    }
}

/// What an object of an answer is about.
#[derive(Clone, Copy)]
enum About<'s> {
    Schema,
    /// A named type.
    Named(&'s ExtendedType),
    /// A list, or what cannot be null.
    Wrapped(&'s Type),
    /// A list of this, out of one that cannot be null.
    ListOf(&'s Type),
    Field(&'s FieldDefinition),
    InputValue(&'s InputValueDefinition),
    EnumValue(&'s EnumValueDefinition),
    Directive(&'s DirectiveDefinition),
}

impl About<'_> {
    fn typename(self) -> &'static str {
        match self {
            About::Schema => "__Schema",
            About::Named(_) | About::Wrapped(_) | About::ListOf(_) => "__Type",
            About::Field(_) => "__Field",
            About::InputValue(_) => "__InputValue",
            About::EnumValue(_) => "__EnumValue",
            About::Directive(_) => "__Directive",
        }
    }
}

/// The value of a field that has no fields itself.
enum Leaf<'s> {
    Null,
    Word(&'s str),
    Text(String),
    Truth(bool),
    Words(Vec<&'s str>),
}

impl<'s> From<Option<&'s str>> for Leaf<'s> {
    fn from(text: Option<&'s str>) -> Self {
        text.map_or(Leaf::Null, Leaf::Word)
    }
}

struct Writing<'s> {
    schema: &'s Schema,
    implementers: Implementers<Name, schema::Implementers>,
    /// Bytes that may still be written, of how many.
    left: u64,
    most: u64,
}

impl<'s> Writing<'s> {
    fn object(&mut self, about: About<'s>, selected: &Selected<'_>, out: &mut Vec<u8>) -> Result<(), Problem> {
        let before = out.len();
        let mut below = 0;
        out.push(b'{');
        for (number, chosen) in selected.fields.iter().enumerate() {
            if number > 0 {
                out.push(b',');
            }
            push_text(chosen.key, out);
            out.push(b':');
            let at = out.len();
            self.field(about, chosen, out)?;
            if chosen.below.is_some() {
                // Counted where it was written.
                below += out.len() - at;
            }
        }
        out.push(b'}');
        self.count(out.len() - before - below)
    }

    fn count(&mut self, bytes: usize) -> Result<(), Problem> {
        self.left = self.left.checked_sub(bytes as u64).ok_or_else(|| self.too_large())?;
        Ok(())
    }

    fn nullable(&mut self, about: Option<About<'s>>, chosen: &Chosen<'_>, out: &mut Vec<u8>) -> Result<(), Problem> {
        match (about, &chosen.below) {
            (Some(about), Some(below)) => self.object(about, below, out),
            _ => {
                out.extend_from_slice(b"null");
                self.count(4)
            }
        }
    }

    fn list(
        &mut self,
        of: impl Iterator<Item = About<'s>>,
        chosen: &Chosen<'_>,
        out: &mut Vec<u8>,
    ) -> Result<(), Problem> {
        out.push(b'[');
        let mut count = 2;
        for (number, about) in of.enumerate() {
            if number > 0 {
                out.push(b',');
                count += 1;
            }
            self.nullable(Some(about), chosen, out)?;
        }
        out.push(b']');
        self.count(count)
    }

    fn field(&mut self, about: About<'s>, chosen: &Chosen<'_>, out: &mut Vec<u8>) -> Result<(), Problem> {
        let schema = self.schema;
        let named = |name: &str| schema.types.get(name).map(About::Named);
        let is_wanted = |directives: &DirectiveList| chosen.deprecated || directives.get(DEPRECATED).is_none();
        let name = chosen.field.name.as_str();
        match (about, name) {
            (_, "__typename") => self.leaf(Leaf::Word(about.typename()), out),
            (About::Schema, "types") => self.list(schema.types.values().map(About::Named), chosen, out),
            (About::Schema, "directives") => {
                let all = schema.directive_definitions.values().filter(|of| is_wanted(&of.directives));
                self.list(all.map(|of| About::Directive(of)), chosen, out)
            }
            (About::Schema, "queryType") => {
                self.nullable(schema.schema_definition.query.as_ref().and_then(|name| named(name)), chosen, out)
            }
            (About::Schema, "mutationType") => {
                self.nullable(schema.schema_definition.mutation.as_ref().and_then(|name| named(name)), chosen, out)
            }
            (About::Schema, "subscriptionType") => {
                self.nullable(schema.schema_definition.subscription.as_ref().and_then(|name| named(name)), chosen, out)
            }
            (About::Named(ExtendedType::Object(of)), "fields") => {
                let all = of.fields.values().filter(|of| is_wanted(&of.directives));
                self.list(all.map(|of| About::Field(of)), chosen, out)
            }
            (About::Named(ExtendedType::Interface(of)), "fields") => {
                let all = of.fields.values().filter(|of| is_wanted(&of.directives));
                self.list(all.map(|of| About::Field(of)), chosen, out)
            }
            (About::Named(ExtendedType::Object(of)), "interfaces") => {
                self.list(of.implements_interfaces.iter().filter_map(|name| named(name)), chosen, out)
            }
            (About::Named(ExtendedType::Interface(of)), "interfaces") => {
                self.list(of.implements_interfaces.iter().filter_map(|name| named(name)), chosen, out)
            }
            (About::Named(ExtendedType::Interface(of)), "possibleTypes") => {
                let objects = self.implementers.get(&of.name).map(|known| &known.objects).into_iter().flatten();
                let objects: Vec<About<'s>> = objects.filter_map(|name| named(name)).collect();
                self.list(objects.into_iter(), chosen, out)
            }
            (About::Named(ExtendedType::Union(of)), "possibleTypes") => {
                self.list(of.members.iter().filter_map(|name| named(name.as_str())), chosen, out)
            }
            (About::Named(ExtendedType::Enum(of)), "enumValues") => {
                let all = of.values.values().filter(|of| is_wanted(&of.directives));
                self.list(all.map(|of| About::EnumValue(of)), chosen, out)
            }
            (About::Named(ExtendedType::InputObject(of)), "inputFields") => {
                let all = of.fields.values().filter(|of| is_wanted(&of.directives));
                self.list(all.map(|of| About::InputValue(of)), chosen, out)
            }
            (About::Field(of), "args") => {
                let all = of.arguments.iter().filter(|of| is_wanted(&of.directives));
                self.list(all.map(|of| About::InputValue(of)), chosen, out)
            }
            (About::Directive(of), "args") => {
                let all = of.arguments.iter().filter(|of| is_wanted(&of.directives));
                self.list(all.map(|of| About::InputValue(of)), chosen, out)
            }
            (About::Field(of), "type") => self.nullable(self.about_type(&of.ty), chosen, out),
            (About::InputValue(of), "type") => self.nullable(self.about_type(&of.ty), chosen, out),
            (About::Wrapped(of), "ofType") => {
                let of = match of {
                    Type::List(of) => self.about_type(of),
                    Type::NonNullList(of) => Some(About::ListOf(of)),
                    Type::NonNullNamed(name) | Type::Named(name) => named(name),
                };
                self.nullable(of, chosen, out)
            }
            (About::ListOf(of), "ofType") => self.nullable(self.about_type(of), chosen, out),
            _ if chosen.below.is_some() => self.nullable(None, chosen, out),
            (about, name) => self.leaf(leaf(about, name), out),
        }
    }

    fn about_type(&self, of: &'s Type) -> Option<About<'s>> {
        match of {
            Type::Named(name) => self.schema.types.get(name).map(About::Named),
            Type::List(_) | Type::NonNullNamed(_) | Type::NonNullList(_) => Some(About::Wrapped(of)),
        }
    }

    fn leaf(&mut self, leaf: Leaf<'_>, out: &mut Vec<u8>) -> Result<(), Problem> {
        match leaf {
            Leaf::Null => out.extend_from_slice(b"null"),
            Leaf::Word(text) => push_text(text, out),
            Leaf::Text(text) => push_text(&text, out),
            Leaf::Truth(value) => out.extend_from_slice(if value { b"true" } else { b"false" }),
            Leaf::Words(words) => {
                out.push(b'[');
                for (number, word) in words.into_iter().enumerate() {
                    if number > 0 {
                        out.push(b',');
                    }
                    push_text(word, out);
                }
                out.push(b']');
            }
        }
        Ok(())
    }

    fn too_large(&self) -> Problem {
        let text = format!(
            "introspection would answer more than the {} bytes that it may; ask for the schema once in a request, raise \
             `introspection_bytes` of `[limits]`, or print it with `puente schema`",
            self.most
        );
        Problem::new(Code::TooCostly, text)
    }
}

const DEPRECATED: &str = "deprecated";

fn push_text(text: &str, out: &mut Vec<u8>) {
    serde_json::to_writer(out, text).expect("texts are JSON, and memory takes them");
}

/// A field without fields of its own ([Schema introspection](https://spec.graphql.org/September2025/#sec-Schema-Introspection)).
fn leaf<'s>(about: About<'s>, name: &str) -> Leaf<'s> {
    let directives = match about {
        About::Field(of) => Some(&of.directives),
        About::InputValue(of) => Some(&of.directives),
        About::EnumValue(of) => Some(&of.directives),
        About::Directive(of) => Some(&of.directives),
        About::Schema | About::Named(_) | About::Wrapped(_) | About::ListOf(_) => None,
    };
    match (name, about) {
        ("kind", About::Named(of)) => Leaf::Word(match of {
            ExtendedType::Scalar(_) => "SCALAR",
            ExtendedType::Object(_) => "OBJECT",
            ExtendedType::Interface(_) => "INTERFACE",
            ExtendedType::Union(_) => "UNION",
            ExtendedType::Enum(_) => "ENUM",
            ExtendedType::InputObject(_) => "INPUT_OBJECT",
        }),
        ("kind", About::Wrapped(Type::NonNullNamed(_) | Type::NonNullList(_))) => Leaf::Word("NON_NULL"),
        ("kind", About::Wrapped(_) | About::ListOf(_)) => Leaf::Word("LIST"),
        ("name", About::Named(of)) => Leaf::Word(of.name().as_str()),
        ("name", About::Field(of)) => Leaf::Word(of.name.as_str()),
        ("name", About::InputValue(of)) => Leaf::Word(of.name.as_str()),
        ("name", About::EnumValue(of)) => Leaf::Word(of.value.as_str()),
        ("name", About::Directive(of)) => Leaf::Word(of.name.as_str()),
        ("description", About::Named(of)) => of.description().map(|text| text.as_str()).into(),
        ("description", About::Field(of)) => of.description.as_deref().into(),
        ("description", About::InputValue(of)) => of.description.as_deref().into(),
        ("description", About::EnumValue(of)) => of.description.as_deref().into(),
        ("description", About::Directive(of)) => of.description.as_deref().into(),
        ("specifiedByURL", About::Named(ExtendedType::Scalar(of))) => {
            let url = of.directives.get("specifiedBy").and_then(|said| said.specified_argument_by_name("url"));
            url.and_then(|url| url.as_str()).into()
        }
        ("isOneOf", About::Named(ExtendedType::InputObject(of))) => Leaf::Truth(of.directives.get("oneOf").is_some()),
        ("defaultValue", About::InputValue(of)) => {
            let value = of.default_value.as_ref().map(|value| value.serialize().no_indent().to_string());
            value.map_or(Leaf::Null, Leaf::Text)
        }
        ("isRepeatable", About::Directive(of)) => Leaf::Truth(of.repeatable),
        ("locations", About::Directive(of)) => Leaf::Words(of.locations.iter().map(|place| place.name()).collect()),
        ("isDeprecated", _) => Leaf::Truth(directives.is_some_and(|said| said.get(DEPRECATED).is_some())),
        ("deprecationReason", _) => match directives.and_then(|said| said.get(DEPRECATED)) {
            Some(said) => {
                let reason = said.specified_argument_by_name("reason").and_then(|reason| reason.as_str());
                Leaf::Word(reason.unwrap_or("No longer supported"))
            }
            None => Leaf::Null,
        },
        _ => Leaf::Null,
    }
}
