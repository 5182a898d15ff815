//! Random asks: a tree that the oracle interprets, and the same as a GraphQL document with variables.

use puente_core::access::{Comparison, Operand, Quantifier, Test, TextComparison, TextTest, View, Within};
use puente_core::model::{Cardinality, FieldType, Model, TypeId};
use puente_core::plan::edge_fields;
use puente_core::value::{Datum, Scalar};
use rand::{Rng as _, RngExt as _, SeedableRng as _};
use serde_json::{Map, Value as Json, json};

use super::json::ItemList;
use super::summary::{Groups, Summary};
use super::world::World;

/// The source of randomness: seeded, repeatable.
pub type Random = rand::rngs::StdRng;

/// Fields of an object, each under its response key.
pub(super) type Fields = Vec<(String, Field)>;

#[derive(Debug)]
pub(super) enum Field {
    Typename,
    Column(usize),
    Object { column: usize, fields: Fields },
    Items { column: usize, list: ItemList },
    One { link: usize, fields: Fields },
    Many { link: usize, list: List },
}

/// A list with its arguments.
#[derive(Debug)]
pub(super) struct List {
    pub(super) filter: Option<Filter>,
    pub(super) order: Vec<OrderBy>,
    pub(super) size: Size,
    pub(super) skip: Option<usize>,
    /// Only rows after (before) the row of this number in the whole visible list in the same order.
    pub(super) after: Option<usize>,
    pub(super) before: Option<usize>,
    pub(super) fields: Vec<(String, ListField)>,
}

#[derive(Debug, Clone, Copy)]
pub(super) enum Size {
    Default,
    First(usize),
    Last(usize),
}

#[derive(Debug)]
pub(super) enum ListField {
    Nodes(Fields),
    Edges(Vec<(String, EdgeField)>),
    PageInfo,
    TotalCount,
    Summary(Summary),
    Groups(Groups),
}

#[derive(Debug)]
pub(super) enum EdgeField {
    Cursor,
    Node(Fields),
    Join(usize),
}

#[derive(Debug)]
pub(super) struct OrderBy {
    pub(super) hops: Vec<usize>,
    pub(super) column: usize,
    pub(super) word: &'static str,
}

#[derive(Debug)]
pub(super) enum Filter {
    And(Vec<Filter>),
    Or(Vec<Filter>),
    Not(Box<Filter>),
    Column { column: usize, negated: bool, test: Test },
    Items { column: usize, quantifier: Quantifier, inner: Box<Filter> },
    One { link: usize, inner: Box<Filter> },
    Many { link: usize, quantifier: Quantifier, inner: Box<Filter> },
}

/// A root field.
#[derive(Debug)]
pub(super) enum Root {
    List { of: TypeId, list: List },
    ByKey { of: TypeId, key: usize, values: Vec<Datum>, fields: Fields },
}

/// A random ask as a tree and as a document.
#[derive(Debug)]
pub struct RandomAsk {
    pub(super) roots: Vec<(String, Root)>,
    /// The document.
    pub document: String,
    /// The variables' values.
    pub variables: Map<String, Json>,
}

impl RandomAsk {
    /// Are all of its root fields of a source that is away?
    pub fn is_away(&self, world: &World) -> bool {
        self.roots.iter().all(|(_, root)| match root {
            Root::List { of, .. } | Root::ByKey { of, .. } => world.is_away(*of),
        })
    }
}

/// Draws a request. From the same seed, another `variant` draws the same document with other values for its variables, as far as
/// they leave it the same. `cursors` gives the cursor of a row of a type's whole list in an order, as Puente itself gave it.
pub fn random_ask(
    random: &mut Random,
    world: &World,
    view: &View,
    variant: u64,
    cursors: &mut dyn FnMut(TypeId, &str, usize) -> Option<String>,
) -> RandomAsk {
    let mut drawing = Drawing::new(random, world, view, cursors);
    drawing.variant = variant;
    let mut roots = Vec::new();
    let mut text = String::new();
    for _ in 0..drawing.random.random_range(1..=2) {
        let types: Vec<TypeId> = view.types().map(|(id, _)| id).collect();
        if types.is_empty() {
            break;
        }
        let of = types[drawing.random.random_range(0..types.len())];
        let key = drawing.key();
        if drawing.random.random_bool(0.2)
            && let Some((root, by_key)) = drawing.by_key(of)
        {
            text.push_str(&format!("{key}: {by_key} "));
            roots.push((key, root));
            continue;
        }
        let (list, arguments, fields) = drawing.list(of, None, 3);
        text.push_str(&format!("{key}: {}{arguments} {{ {fields} }} ", world.model.types[of].list));
        roots.push((key, Root::List { of, list }));
    }
    if roots.is_empty() {
        text.push_str("__typename");
    }
    let (head, variables) = drawing.head("query");
    RandomAsk { roots, document: format!("{head} {{ {text} }}"), variables }
}

pub(super) struct Drawing<'a> {
    pub(super) random: &'a mut Random,
    pub(super) world: &'a World,
    pub(super) view: &'a View,
    cursors: &'a mut dyn FnMut(TypeId, &str, usize) -> Option<String>,
    declarations: Vec<String>,
    variables: Map<String, Json>,
    keys: usize,
    /// Which values the variables have.
    variant: u64,
}

/// How a value is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Written {
    /// In the document.
    Literal,
    /// As the default of a variable that is not given.
    Default,
    /// As a variable's value: another one in every variant.
    Variable,
}

const DIRECTIONS: &[&str] =
    &["ASC", "DESC", "ASC_NULLS_FIRST", "ASC_NULLS_LAST", "DESC_NULLS_FIRST", "DESC_NULLS_LAST"];

impl<'a> Drawing<'a> {
    pub(super) fn new(
        random: &'a mut Random,
        world: &'a World,
        view: &'a View,
        cursors: &'a mut dyn FnMut(TypeId, &str, usize) -> Option<String>,
    ) -> Self {
        Drawing { random, world, view, cursors, declarations: Vec::new(), variables: Map::new(), keys: 0, variant: 0 }
    }

    /// The operation's head, and the values of its variables.
    pub(super) fn head(self, operation: &str) -> (String, Map<String, Json>) {
        let declarations = self.declarations.join(", ");
        let declarations = if declarations.is_empty() { String::new() } else { format!("({declarations})") };
        (format!("{operation}{declarations}"), self.variables)
    }

    /// The variables' values so far.
    pub(super) fn given(&self) -> Map<String, Json> {
        self.variables.clone()
    }

    /// How many variables there are.
    pub(super) fn mark(&self) -> usize {
        self.declarations.len()
    }

    /// Is one of the variables since a mark an empty list?
    pub(super) fn has_empty_list(&self, mark: usize) -> bool {
        let is_empty = |number: usize| {
            let given = self.variables.get(&format!("v{number}"));
            given.and_then(Json::as_array).is_some_and(Vec::is_empty) || self.declarations[number].ends_with("= []")
        };
        (mark..self.declarations.len()).any(is_empty)
    }

    /// Forgets the variables since a mark: what they were for is not part of the document.
    pub(super) fn forget(&mut self, mark: usize) {
        (mark..self.declarations.len()).for_each(|number| {
            self.variables.remove(&format!("v{number}"));
        });
        self.declarations.truncate(mark);
    }

    /// A variable that carries a value.
    pub(super) fn variable(&mut self, type_name: &str, json: Json) -> String {
        let name = format!("v{}", self.declarations.len());
        self.declarations.push(format!("${name}: {type_name}"));
        self.variables.insert(name.clone(), json);
        format!("${name}")
    }

    pub(super) fn key(&mut self) -> String {
        self.keys += 1;
        format!("k{}", self.keys)
    }

    pub(super) fn columns(&self, of: TypeId) -> Vec<(usize, String)> {
        self.view.columns(of).map(|(column, field)| (column, field.to_owned())).collect()
    }

    /// The members of an object, or of an item; the columns of a row.
    pub(super) fn members(&self, of: TypeId, object: Option<usize>) -> Vec<(usize, String)> {
        let within = Within { of, object };
        self.view.fields(within).map(|(column, field)| (column, field.to_owned())).collect()
    }

    /// Is it a column whose value has no inside?
    fn is_plain(&self, of: TypeId, column: usize) -> bool {
        let kind = self.world.model.types[of].columns[column].kind;
        !matches!(kind, FieldType::Object(_) | FieldType::Items(_))
    }

    fn links(&self, of: TypeId, cardinality: Cardinality) -> Vec<(usize, String, TypeId)> {
        let links = self.view.links(of).filter(|(_, link)| link.cardinality == cardinality);
        links.map(|(id, link)| (id, link.field.clone(), link.target)).collect()
    }

    pub(super) fn pick<T: Clone>(&mut self, from: &[T]) -> Option<T> {
        if from.is_empty() { None } else { Some(from[self.random.random_range(0..from.len())].clone()) }
    }

    /// Draws a value and decides how it is written. Whatever the draw takes, what is drawn after it is the same.
    pub(super) fn drawn<T>(&mut self, is_enum: bool, draw: impl FnOnce(&mut Self) -> T) -> (Written, T) {
        let written = match self.random.random_range(0..20) {
            0 if !is_enum => Written::Default,
            0..7 => Written::Variable,
            _ => Written::Literal,
        };
        let seed = self.random.next_u64() ^ if written == Written::Variable { self.variant } else { 0 };
        let outer = std::mem::replace(self.random, Random::seed_from_u64(seed));
        let value = draw(self);
        *self.random = outer;
        (written, value)
    }

    /// A value in the document, or a variable that carries it.
    pub(super) fn write(&mut self, written: Written, type_name: &str, json: Json, is_enum: bool) -> String {
        let name = format!("v{}", self.declarations.len());
        match written {
            Written::Variable => {
                self.declarations.push(format!("${name}: {type_name}"));
                self.variables.insert(name.clone(), json);
                format!("${name}")
            }
            Written::Default => {
                self.declarations.push(format!("${name}: {type_name} = {json}"));
                format!("${name}")
            }
            Written::Literal => match (&json, is_enum) {
                (Json::String(name), true) => name.clone(),
                (Json::Array(items), true) => {
                    format!("[{}]", items.iter().filter_map(Json::as_str).collect::<Vec<_>>().join(", "))
                }
                _ => json.to_string(),
            },
        }
    }

    /// A number within bounds, and how it is written.
    pub(super) fn number(&mut self, least: usize, most: usize) -> (usize, String) {
        let (written, number) = self.drawn(false, |drawing| drawing.random.random_range(least..=most));
        (number, self.write(written, "Int", json!(number), false))
    }

    /// A word of an enum, and how it is written.
    pub(super) fn word(&mut self, type_name: &str, words: &[&'static str]) -> (&'static str, String) {
        let (written, word) = self.drawn(true, |drawing| words[drawing.random.random_range(0..words.len())]);
        (word, self.write(written, type_name, json!(word), true))
    }

    /// True or false, and how it is written.
    fn truth(&mut self) -> (bool, String) {
        let (written, truth) = self.drawn(false, |drawing| drawing.random.random_bool(0.5));
        (truth, self.write(written, "Boolean!", json!(truth), false))
    }

    pub(super) fn fields(&mut self, of: TypeId, depth: u32) -> (Fields, String) {
        let mut fields = Fields::new();
        let mut text = String::new();
        let columns = self.columns(of);
        for _ in 0..self.random.random_range(1..=3) {
            let key = self.key();
            match self.pick(&columns) {
                Some((column, field)) if self.is_plain(of, column) && self.random.random_bool(0.1) => {
                    let directive = if self.random.random_bool(0.5) { "include" } else { "skip" };
                    let (truth, written) = self.truth();
                    text.push_str(&format!("{key}: {field} @{directive}(if: {written}) "));
                    if truth == (directive == "include") {
                        fields.push((key, Field::Column(column)));
                    }
                }
                Some((column, field)) => {
                    let (field, written) = self.column_field(of, column, &field, &key);
                    text.push_str(&written);
                    fields.push((key, field));
                }
                None => {
                    text.push_str(&format!("{key}: __typename "));
                    fields.push((key, Field::Typename));
                }
            }
        }
        if depth > 0 && self.random.random_bool(0.6) {
            let links = self.links(of, Cardinality::One);
            if let Some((link, field, target)) = self.pick(&links) {
                let key = self.key();
                let (inner, inner_text) = self.fields(target, depth - 1);
                text.push_str(&format!("{key}: {field} {{ {inner_text} }} "));
                fields.push((key, Field::One { link, fields: inner }));
            }
        }
        if depth > 0 && self.random.random_bool(0.5) {
            let links = self.links(of, Cardinality::Many);
            if let Some((link, field, target)) = self.pick(&links) {
                let key = self.key();
                let (list, arguments, inner) = self.list(target, Some((of, link)), depth - 1);
                text.push_str(&format!("{key}: {field}{arguments} {{ {inner} }} "));
                fields.push((key, Field::Many { link, list }));
            }
        }
        (fields, text)
    }

    fn by_key(&mut self, of: TypeId) -> Option<(Root, String)> {
        let t = &self.world.model.types[of];
        let keys: Vec<usize> =
            self.view.keys(of).filter_map(|key| t.keys.iter().position(|k| k.member == key.member)).collect();
        let key = self.pick(&keys)?;
        let columns = &t.keys[key].columns;
        let (written, drawn) = self.drawn(false, |drawing| {
            let row = drawing.random.random_range(0..drawing.world.rows[of].len().max(1));
            let row = drawing.world.rows[of].get(row)?;
            let values: Vec<Datum> = columns.iter().map(|column| row[*column].clone()).collect();
            let jsons = columns.iter().zip(&values).map(|(column, cell)| drawing.json(of, *column, cell));
            Some((jsons.collect::<Option<Vec<Json>>>()?, values))
        });
        let (jsons, values) = drawn?;
        let mut members = Vec::new();
        for (column, json) in columns.iter().zip(jsons) {
            let c = &t.columns[*column];
            let name = self.world.model.kind_name(c.kind).to_owned();
            let is_enum = matches!(c.kind, FieldType::Enum(_));
            let as_default = if is_enum && written == Written::Default { Written::Literal } else { written };
            members.push((c.field.clone()?, self.write(as_default, &format!("{name}!"), json, is_enum)));
        }
        let member = &t.keys[key].member;
        let argument = match members.as_slice() {
            [(_, only)] => format!("{{ {member}: {only} }}"),
            several => {
                let members: Vec<String> = several.iter().map(|(field, value)| format!("{field}: {value}")).collect();
                format!("{{ {member}: {{ {} }} }}", members.join(", "))
            }
        };
        let (fields, text) = self.fields(of, 2);
        Some((Root::ByKey { of, key, values, fields }, format!("{}(key: {argument}) {{ {text} }}", t.one)))
    }

    /// A list: the tree, its arguments and its fields as text. `link` is how it is reached, if not at the root.
    fn list(&mut self, of: TypeId, link: Option<(TypeId, usize)>, depth: u32) -> (List, String, String) {
        let mut arguments = Vec::new();
        let columns = self.columns(of);
        let has_filter = !columns.is_empty() || self.view.links(of).next().is_some();
        let filter = if has_filter && self.random.random_bool(0.6) {
            let (filter, text) = self.filter(of, 2);
            arguments.push(format!("filter: {text}"));
            Some(filter)
        } else {
            None
        };
        let (order, order_text) = self.order(of);
        if !order.is_empty() {
            arguments.push(format!("orderBy: {order_text}"));
        }
        let t = &self.world.model.types[of];
        let pages = t.row_key().is_some();
        let most = self.view.type_view(of).and_then(|view| view.max_page).unwrap_or(30);
        let most = usize::try_from(most).unwrap_or(30);
        let size = match self.random.random_range(0..4) {
            0 => Size::Default,
            1 if pages => {
                let (number, written) = self.number(0, most);
                arguments.push(format!("last: {written}"));
                Size::Last(number)
            }
            _ => {
                let (number, written) = self.number(0, most);
                arguments.push(format!("first: {written}"));
                Size::First(number)
            }
        };
        let is_direct = link.is_some_and(|(owner, link)| self.world.model.types[owner].links[link].through.is_some());
        let [mut after, mut before, mut skip] = [None; 3];
        if pages && !is_direct && self.random.random_bool(0.4) {
            let word = if self.random.random_bool(0.6) { "after" } else { "before" };
            let (written, place) = self.drawn(false, |drawing| drawing.random.random_range(0..12));
            // The cursor comes from a list whose order is written out.
            let plain = plain_order(&self.world.model, of, &order);
            if let Some(cursor) = (self.cursors)(of, &plain, place) {
                let cursor = self.write(written, "String", json!(cursor), false);
                arguments.push(format!("{word}: {cursor}"));
                if word == "after" {
                    after = Some(place)
                } else {
                    before = Some(place)
                };
            }
        } else if self.random.random_bool(0.2) {
            let (number, written) = self.number(0, 5);
            arguments.push(format!("skip: {written}"));
            skip = Some(number);
        }
        let (fields, text) = self.list_fields(of, link, pages, depth);
        let arguments = if arguments.is_empty() { String::new() } else { format!("({})", arguments.join(", ")) };
        (List { filter, order, size, skip, after, before, fields }, arguments, text)
    }

    fn list_fields(
        &mut self,
        of: TypeId,
        link: Option<(TypeId, usize)>,
        pages: bool,
        depth: u32,
    ) -> (Vec<(String, ListField)>, String) {
        let mut fields = Vec::new();
        let mut text = String::new();
        for _ in 0..self.random.random_range(1..=2) {
            let key = self.key();
            let counts = self.view.type_view(of).is_some_and(|view| view.count);
            match self.random.random_range(0..8) {
                6 if counts => {
                    let (summary, inner) = self.summary(of);
                    text.push_str(&format!("{key}: summary {{ {inner} }} "));
                    fields.push((key, ListField::Summary(summary)));
                }
                7 if counts && let Some((groups, arguments, inner)) = self.groups(of) => {
                    text.push_str(&format!("{key}: groups({arguments}) {{ {inner} }} "));
                    fields.push((key, ListField::Groups(groups)));
                }
                0 if counts => {
                    text.push_str(&format!("{key}: totalCount "));
                    fields.push((key, ListField::TotalCount));
                }
                1 => {
                    text.push_str(&format!(
                        "{key}: pageInfo {{ hasNextPage hasPreviousPage zz_start: startCursor zz_end: endCursor }} "
                    ));
                    fields.push((key, ListField::PageInfo));
                }
                2 | 3 if pages => {
                    let (edge, inner) = self.edge(of, link, depth);
                    text.push_str(&format!("{key}: edges {{ {inner} }} "));
                    fields.push((key, ListField::Edges(edge)));
                }
                _ => {
                    let (inner, inner_text) = self.fields(of, depth);
                    text.push_str(&format!("{key}: nodes {{ {inner_text} }} "));
                    fields.push((key, ListField::Nodes(inner)));
                }
            }
        }
        (fields, text)
    }

    fn edge(&mut self, of: TypeId, link: Option<(TypeId, usize)>, depth: u32) -> (Vec<(String, EdgeField)>, String) {
        let (inner, inner_text) = self.fields(of, depth);
        let mut edge = vec![("zz_cursor".to_owned(), EdgeField::Cursor)];
        let mut text = "zz_cursor: cursor ".to_owned();
        let through = link.and_then(|(owner, link)| self.world.model.types[owner].links[link].through.as_ref());
        if let Some(through) = through {
            for (_, name, column) in edge_fields(self.view, through) {
                let key = self.key();
                text.push_str(&format!("{key}: {name} "));
                edge.push((key, EdgeField::Join(column)));
            }
        }
        let key = self.key();
        text.push_str(&format!("{key}: node {{ {inner_text} }} "));
        edge.push((key, EdgeField::Node(inner)));
        (edge, text)
    }

    fn order(&mut self, of: TypeId) -> (Vec<OrderBy>, String) {
        let mut order: Vec<OrderBy> = Vec::new();
        let mut parts = Vec::new();
        let is_comparable = |column: usize| self.world.model.types[of].columns[column].is_comparable();
        if !self.values(of).iter().any(|(column, ..)| is_comparable(*column)) {
            // The list takes no order then.
            return (order, "[]".to_owned());
        }
        for _ in 0..self.random.random_range(0..=2) {
            let (mut at, mut hops, mut path) = (of, Vec::new(), Vec::new());
            let mut ones = self.links(at, Cardinality::One);
            // No order leads to another source.
            ones.retain(|(link, _, _)| !self.world.model.types[at].links[*link].crosses);
            if self.random.random_bool(0.3)
                && let Some((link, field, target)) = self.pick(&ones)
            {
                hops.push(link);
                path.push(field);
                at = target;
            }
            let mut columns = self.values(at);
            columns.retain(|(column, ..)| self.world.model.types[at].columns[*column].is_comparable());
            let Some((column, field, (before, after))) = self.pick(&columns) else { continue };
            if order.iter().any(|known| known.hops == hops && known.column == column) {
                continue;
            }
            let (word, written) = self.word("Direction!", DIRECTIONS);
            let mut text = format!("{{ {before}{field}: {written}{after} }}");
            for field in path.iter().rev() {
                text = format!("{{ {field}: {text} }}");
            }
            parts.push(text);
            order.push(OrderBy { hops, column, word });
        }
        (order, format!("[{}]", parts.join(", ")))
    }

    /// A filter through a link to another source, where there is one; often one that holds of nothing, too.
    fn crossing_filter(&mut self, of: TypeId, depth: u32) -> Option<(Filter, String)> {
        let crosses = |link: usize| self.world.model.types[of].links[link].crosses;
        let mut links = self.filterable(of, Cardinality::One);
        links.retain(|(link, _, _)| crosses(*link));
        let (link, field, target) = self.pick(&links)?;
        let columns = self.columns(target);
        let (inner, text) = match self.pick(&columns).filter(|_| self.random.random_bool(0.5)) {
            Some((column, field)) => {
                let expected = self.random.random_bool(0.5);
                let inner = Filter::Column { column, negated: false, test: Test::IsNull(expected) };
                (inner, format!("{{ {field}: {{ isNull: {expected} }} }}"))
            }
            None => self.filter(target, depth - 1),
        };
        let (filter, text) = (Filter::One { link, inner: Box::new(inner) }, format!("{{ {field}: {text} }}"));
        match self.random.random_bool(0.3) {
            true => Some((Filter::Not(Box::new(filter)), format!("{{ not: {text} }}"))),
            false => Some((filter, text)),
        }
    }

    pub(super) fn filter(&mut self, of: TypeId, depth: u32) -> (Filter, String) {
        let has_others = depth > 0 && self.world.databases.len() > 1;
        if has_others
            && self.random.random_bool(0.3)
            && let Some(crossing) = self.crossing_filter(of, depth)
        {
            return crossing;
        }
        if depth > 0 {
            match self.random.random_range(0..12) {
                0 | 1 => {
                    let parts: Vec<_> =
                        (0..self.random.random_range(0..3)).map(|_| self.filter(of, depth - 1)).collect();
                    let (parts, texts): (Vec<_>, Vec<_>) = parts.into_iter().unzip();
                    let is_or = self.random.random_bool(0.5);
                    let text = format!("{{ {}: [{}] }}", if is_or { "or" } else { "and" }, texts.join(", "));
                    return (if is_or { Filter::Or(parts) } else { Filter::And(parts) }, text);
                }
                2 => {
                    let (inner, text) = self.filter(of, depth - 1);
                    return (Filter::Not(Box::new(inner)), format!("{{ not: {text} }}"));
                }
                3 | 4 => {
                    let links = self.filterable(of, Cardinality::One);
                    if let Some((link, field, target)) = self.pick(&links) {
                        let (inner, text) = self.filter(target, depth - 1);
                        return (Filter::One { link, inner: Box::new(inner) }, format!("{{ {field}: {text} }}"));
                    }
                }
                5 | 6 => {
                    let links = self.filterable(of, Cardinality::Many);
                    if let Some((link, field, target)) = self.pick(&links) {
                        let words =
                            [("exists", Quantifier::Exists), ("all", Quantifier::All), ("none", Quantifier::None)];
                        let (word, quantifier) = words[self.random.random_range(0..3)];
                        let (inner, text) = self.filter(target, depth - 1);
                        let filter = Filter::Many { link, quantifier, inner: Box::new(inner) };
                        return (filter, format!("{{ {field}: {{ {word}: {text} }} }}"));
                    }
                }
                _ => {}
            }
        }
        let values = self.values(of);
        match self.pick(&values) {
            Some((column, field, (before, after))) => {
                let (filter, text) = self.column_filter(of, column, &field, depth);
                let inner = text.strip_prefix("{ ").and_then(|text| text.strip_suffix(" }")).unwrap_or(&text);
                (filter, format!("{{ {before}{inner}{after} }}"))
            }
            None => (Filter::And(Vec::new()), "{}".to_owned()),
        }
    }

    fn filterable(&self, of: TypeId, cardinality: Cardinality) -> Vec<(usize, String, TypeId)> {
        let mut links = self.links(of, cardinality);
        links.retain(|(_, _, target)| !self.columns(*target).is_empty());
        links
    }

    fn items_filter(
        &mut self,
        (of, column): (TypeId, usize),
        items: TypeId,
        field: &str,
        depth: u32,
    ) -> (Filter, String) {
        let has_members = !self.columns(items).is_empty();
        if depth > 0 && has_members && self.random.random_bool(0.8) {
            let words = [("exists", Quantifier::Exists), ("all", Quantifier::All), ("none", Quantifier::None)];
            let (word, quantifier) = words[self.random.random_range(0..3)];
            let (inner, text) = self.filter(items, depth - 1);
            let filter = Filter::Items { column, quantifier, inner: Box::new(inner) };
            return (filter, format!("{{ {field}: {{ {word}: {text} }} }}"));
        }
        let _ = of;
        let (expected, written) = self.truth();
        let (test, word) = match self.random.random_bool(0.5) {
            true => (Test::IsNull(expected), "isNull"),
            false => (Test::IsEmpty(expected), "isEmpty"),
        };
        (Filter::Column { column, negated: false, test }, format!("{{ {field}: {{ {word}: {written} }} }}"))
    }

    fn list_filter(&mut self, of: TypeId, column: usize, scalar: Scalar, field: &str) -> (Filter, String) {
        let rows = &self.world.rows[of];
        let items: Vec<Datum> = rows
            .iter()
            .filter_map(|row| if let Datum::List(items) = &row[column] { Some(items) } else { None })
            .flatten()
            .filter(|item| **item != Datum::Null)
            .cloned()
            .collect();
        let (written, drawn) =
            self.drawn(false, |drawing| (0..2).filter_map(|_| drawing.pick(&items)).collect::<Vec<Datum>>());
        let json = |cell: &Datum| {
            let text = super::interpret::leaf(&self.world.model, FieldType::Scalar(scalar), cell).expect("it fits");
            serde_json::from_str::<Json>(&text).expect("JSON")
        };
        let jsons: Vec<Json> = drawn.iter().map(json).collect();
        let name = scalar.name();
        let includes =
            |all: bool, cells: Vec<Datum>| Test::Includes { operand: Operand::Constant(Datum::List(cells)), all };
        let (test, text) = match (self.random.random_range(0..5), drawn.first().cloned()) {
            (0, Some(one)) => {
                let written = self.write(written, name, jsons[0].clone(), false);
                (includes(true, vec![one]), format!("includes: {written}"))
            }
            (1 | 2, Some(_)) => {
                let all = self.random.random_bool(0.5);
                let written = self.write(written, &format!("[{name}!]"), Json::Array(jsons), false);
                (includes(all, drawn), format!("{}: {written}", if all { "includesAll" } else { "includesAny" }))
            }
            (3, _) => {
                let (expected, written) = self.truth();
                (Test::IsNull(expected), format!("isNull: {written}"))
            }
            _ => {
                let (expected, written) = self.truth();
                (Test::IsEmpty(expected), format!("isEmpty: {written}"))
            }
        };
        (Filter::Column { column, negated: false, test }, format!("{{ {field}: {{ {text} }} }}"))
    }

    fn column_filter(&mut self, of: TypeId, column: usize, field: &str, depth: u32) -> (Filter, String) {
        let kind = self.world.model.types[of].columns[column].kind;
        if let FieldType::Items(items) = kind {
            return self.items_filter((of, column), items, field, depth);
        }
        if let FieldType::List(element) = kind {
            return self.list_filter(of, column, element.scalar(), field);
        }
        let is_enum = matches!(kind, FieldType::Enum(_));
        let (written, known) = self.drawn(is_enum, |drawing| {
            let rows = &drawing.world.rows[of];
            let drawn: Vec<usize> = (0..3).map(|_| drawing.random.random_range(0..rows.len().max(1))).collect();
            let values = drawn.into_iter().filter_map(|row| rows.get(row));
            let values = values.filter_map(|row| Some((row[column].clone(), drawing.json(of, column, &row[column])?)));
            values.map(|(cell, json)| (operand(kind, &cell), json)).collect::<Vec<(Datum, Json)>>()
        });
        let name = self.world.model.kind_name(kind).to_owned();
        let is_comparable = self.world.model.types[of].columns[column].is_comparable();
        let Some((cell, json)) = known.first().filter(|_| is_comparable).cloned() else {
            let (expected, written) = self.truth();
            return (
                Filter::Column { column, negated: false, test: Test::IsNull(expected) },
                format!("{{ {field}: {{ isNull: {written} }} }}"),
            );
        };
        let (mut ignore_case, mut suffix) = (false, String::new());
        if kind == FieldType::Scalar(Scalar::String) && self.random.random_bool(0.3) {
            let (truth, written) = self.truth();
            (ignore_case, suffix) = (truth, format!(", ignoreCase: {written}"));
        }
        let is_ordered = !matches!(kind, FieldType::Enum(_) | FieldType::Scalar(Scalar::Boolean));
        match self.random.random_range(0..10) {
            0 | 1 => {
                let negated = self.random.random_bool(0.5);
                let items: Vec<(Datum, Json)> = if self.random.random_bool(0.1) { Vec::new() } else { known };
                let (cells, jsons): (Vec<Datum>, Vec<Json>) = items.into_iter().unzip();
                let list = self.write(written, &format!("[{name}!]"), Json::Array(jsons), is_enum);
                let test = Test::In { operand: Operand::Constant(Datum::List(cells)), by: by(ignore_case) };
                let word = if negated { "notIn" } else { "in" };
                (Filter::Column { column, negated, test }, format!("{{ {field}: {{ {word}: {list}{suffix} }} }}"))
            }
            2 | 3 if kind == FieldType::Scalar(Scalar::String) => {
                let words = [
                    ("contains", TextTest::Contains),
                    ("startsWith", TextTest::StartsWith),
                    ("endsWith", TextTest::EndsWith),
                ];
                let (word, test) = words[self.random.random_range(0..3)];
                let parts = ["a", "%", "_", "", "B", "ml"];
                let (written, part) = self.drawn(false, |drawing| parts[drawing.random.random_range(0..parts.len())]);
                let written = self.write(written, "String", json!(part), false);
                let test = Test::Text { test, operand: Operand::Constant(Datum::Text(part.to_owned())), ignore_case };
                (
                    Filter::Column { column, negated: false, test },
                    format!("{{ {field}: {{ {word}: {written}{suffix} }} }}"),
                )
            }
            _ => {
                let words = [
                    ("eq", Comparison::Eq),
                    ("ne", Comparison::Ne),
                    ("lt", Comparison::Lt),
                    ("lte", Comparison::Lte),
                    ("gt", Comparison::Gt),
                    ("gte", Comparison::Gte),
                ];
                let (word, comparison) = words[self.random.random_range(0..if is_ordered { 6 } else { 2 })];
                let written = self.write(written, &name, json, is_enum);
                let test = Test::Compare { comparison, operand: Operand::Constant(cell), by: by(ignore_case) };
                (
                    Filter::Column { column, negated: false, test },
                    format!("{{ {field}: {{ {word}: {written}{suffix} }} }}"),
                )
            }
        }
    }

    /// A stored value as a caller would give it; none where it does not fit its type.
    fn json(&self, of: TypeId, column: usize, cell: &Datum) -> Option<Json> {
        let kind = self.world.model.types[of].columns[column].kind;
        super::interpret::leaf(&self.world.model, kind, cell)
            .and_then(|text| serde_json::from_str(&text).ok())
            .filter(|json: &Json| !json.is_null())
    }
}

/// An order as it is written without variables.
fn plain_order(model: &Model, of: TypeId, order: &[OrderBy]) -> String {
    let terms = order.iter().map(|term| {
        let (mut at, mut fields) = (of, Vec::new());
        for hop in &term.hops {
            let link = &model.types[at].links[*hop];
            fields.push(link.field.as_str());
            at = link.target;
        }
        let mut text = term.word.to_owned();
        for field in model.types[at].columns[term.column].label().rsplit('.') {
            text = format!("{{ {field}: {text} }}");
        }
        for field in fields.iter().rev() {
            text = format!("{{ {field}: {text} }}");
        }
        text
    });
    format!("[{}]", terms.collect::<Vec<_>>().join(", "))
}

/// What a stored value is when it comes back as an operand: decimals are compared as numbers.
fn operand(kind: FieldType, cell: &Datum) -> Datum {
    match (kind, cell) {
        (FieldType::Scalar(Scalar::Decimal), Datum::Text(text)) => Datum::Real(text.parse().unwrap_or(0.0)),
        _ => cell.clone(),
    }
}

fn by(ignore_case: bool) -> TextComparison {
    if ignore_case { TextComparison::IgnoreCase } else { TextComparison::Collation }
}
