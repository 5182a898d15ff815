//! Random mutations of random roles: a tree that the oracle applies, and the same as a GraphQL document with variables.

use std::collections::BTreeSet;

use puente_core::access::{Action, Operand, View, WriteGrant};
use puente_core::model::{Cardinality, FieldType, LinkId, TypeId};
use puente_core::plan::change::{edge_input_fields, field_name, has_link_input};
use puente_core::value::{Datum, Scalar, StorageFormat};
use rand::RngExt as _;
use serde_json::{Map, Value as Json, json};

use super::ask::{Drawing, Fields, Filter, Random};
use super::interpret::leaf;
use super::json_change::JsonEdit;
use super::world::World;

/// A random mutation as a tree and as a document.
#[derive(Debug)]
pub struct RandomChange {
    pub(super) roots: Vec<Root>,
    /// The document.
    pub document: String,
    /// The variables' values.
    pub variables: Map<String, Json>,
}

/// The values of a key's columns.
pub(super) type Key = Vec<(usize, Datum)>;

#[derive(Debug)]
pub(super) struct Root {
    pub(super) key: String,
    pub(super) of: TypeId,
    pub(super) many: bool,
    pub(super) act: Act,
    pub(super) fields: Fields,
}

#[derive(Debug)]
pub(super) enum Act {
    Create { rows: Vec<NewRow>, existing: Option<(Vec<usize>, &'static str)> },
    Update { rows: Which, set: Set },
    Delete { rows: Which },
}

#[derive(Debug)]
pub(super) enum Which {
    Key(Vec<(usize, Datum)>),
    Filter(Filter),
    Every,
}

#[derive(Debug, Default)]
pub(super) struct NewRow {
    pub(super) values: Vec<(usize, Datum)>,
    pub(super) ones: Vec<(LinkId, Target)>,
    pub(super) many: Vec<(LinkId, Vec<NewRow>)>,
    pub(super) edges: Vec<(LinkId, Vec<Edge>)>,
}

#[derive(Debug)]
pub(super) enum Target {
    Key(Vec<(usize, Datum)>),
    New(Box<NewRow>),
}

#[derive(Debug)]
pub(super) struct Edge {
    pub(super) target: Vec<(usize, Datum)>,
    pub(super) values: Vec<(usize, Datum)>,
}

#[derive(Debug, Default)]
pub(super) struct Set {
    pub(super) values: Vec<(usize, Datum)>,
    pub(super) add: Vec<(usize, i64)>,
    pub(super) json: Vec<(usize, JsonEdit)>,
    pub(super) ones: Vec<(LinkId, Vec<(usize, Datum)>)>,
    pub(super) edges: Vec<(LinkId, Vec<Edge>, Vec<Key>)>,
}

/// What a grant sets whatever the caller says, as it is stored.
pub(super) fn fixed(grant: &WriteGrant) -> impl Iterator<Item = (usize, Datum)> {
    grant.fixed.iter().filter_map(|(column, value)| match value {
        Operand::Constant(cell) => Some((*column, cell.clone())),
        _ => None,
    })
}

/// A value that some row has in a column, in the form of JSON, and as it is stored.
fn known_value(random: &mut Random, world: &World, of: TypeId, column: usize) -> Option<(Json, Datum)> {
    let rows = &world.rows[of];
    let cell = rows.get(random.random_range(0..rows.len().max(1)))?[column].clone();
    let c = &world.model.types[of].columns[column];
    let text = leaf(&world.model, c.kind, &cell).filter(|_| cell != Datum::Null || c.nullable)?;
    if matches!(c.kind, FieldType::List(_)) && text.contains("null") {
        return None;
    }
    Some((serde_json::from_str(&text).ok()?, cell))
}

/// Draws a mutation of one or two root fields; where `of_json`, they change JSON of rows that are there.
pub fn random_change(random: &mut Random, world: &World, view: &View, of_json: bool) -> Option<RandomChange> {
    let mut no_cursors = |_: usize, _: &str, _: usize| None;
    let mut drawing = Drawing::new(random, world, view, &mut no_cursors);
    let mut writer = Writer { drawing: &mut drawing, view, world, of_json, fresh: 1_000 };
    let (mut roots, mut text) = (Vec::new(), String::new());
    for _ in 0..if writer.chance(0.25) { 2 } else { 1 } {
        let mark = writer.drawing.mark();
        match writer.root() {
            Some((root, written)) => {
                text.push_str(&written);
                roots.push(root);
            }
            None => writer.drawing.forget(mark),
        }
    }
    if roots.is_empty() {
        return None;
    }
    let (head, variables) = drawing.head("mutation");
    Some(RandomChange { roots, document: format!("{head} {{ {text} }}"), variables })
}

pub(super) struct Writer<'d, 'a> {
    pub(super) drawing: &'d mut Drawing<'a>,
    pub(super) view: &'a View,
    pub(super) world: &'a World,
    /// Is only JSON changed?
    of_json: bool,
    /// The next key that nobody has.
    fresh: i64,
}

impl Writer<'_, '_> {
    pub(super) fn chance(&mut self, chance: f64) -> bool {
        self.drawing.random.random_bool(chance)
    }

    fn root(&mut self) -> Option<(Root, String)> {
        let (view, world) = (self.view, self.world);
        let mut possible: Vec<(TypeId, Action)> = Vec::new();
        for (id, granted) in view.types() {
            let is_json = |column: usize| world.model.types[id].columns[column].form == StorageFormat::JsonValue;
            let is_meant = |action: &Action| {
                let grant = granted.write(*action);
                let mut settable = grant.into_iter().flat_map(|grant| view.settable(id, grant));
                let changes_json = *action == Action::Update && settable.any(|(column, _)| is_json(column));
                grant.is_some() && (changes_json || !self.of_json)
            };
            possible.extend(Action::WRITES.into_iter().filter(is_meant).map(|action| (id, action)));
        }
        let (of, action) = self.drawing.pick(&possible)?;
        let t = &world.model.types[of];
        let many = self.chance(0.5) || view.keys(of).next().is_none();
        let (act, arguments) = match action {
            Action::Create => self.create(of, many)?,
            Action::Update => {
                let (set, input) = self.set(of)?;
                let (rows, text) = self.which(of, many)?;
                let input = self.drawing.variable(&format!("{}Set!", t.helpers), input);
                (Act::Update { rows, set }, format!("{text}, set: {input}"))
            }
            Action::Delete | Action::Read => {
                let (rows, text) = self.which(of, many)?;
                (Act::Delete { rows }, text)
            }
        };
        let key = self.drawing.key();
        let (fields, text) = self.drawing.fields(of, 1);
        let node = if many { "nodes" } else { "node" };
        let written = format!("{key}: {}({arguments}) {{ count {node} {{ {text} }} }} ", field_name(t, action, many));
        Some((Root { key, of, many, act, fields }, written))
    }

    fn which(&mut self, of: TypeId, many: bool) -> Option<(Which, String)> {
        if !many {
            let (key, json) = self.key_of_some_row(of)?;
            let name = &self.world.model.types[of].helpers;
            let written = self.drawing.variable(&format!("{name}Key!"), json);
            return Some((Which::Key(key), format!("key: {written}")));
        }
        let has_filter = self.view.columns(of).next().is_some() || self.view.links(of).next().is_some();
        if !has_filter || self.chance(0.1) {
            return Some((Which::Every, "everyRow: true".to_owned()));
        }
        // What filters nothing is refused in a mutation.
        let (filter, text) = (0..10).find_map(|_| {
            let mark = self.drawing.mark();
            let (filter, text) = self.drawing.filter(of, 1);
            let words: String = text.chars().filter(|c| !c.is_whitespace()).collect();
            let says_something = !words.contains("[]") && !words.contains("{}") && !self.drawing.has_empty_list(mark);
            if !says_something {
                self.drawing.forget(mark);
            }
            says_something.then_some((filter, text))
        })?;
        Some((Which::Filter(filter), format!("filter: {text}")))
    }

    /// A key of a row that is there, or of none.
    fn key_of_some_row(&mut self, of: TypeId) -> Option<(Vec<(usize, Datum)>, Json)> {
        let t = &self.world.model.types[of];
        let keys: Vec<_> = self.view.keys(of).cloned().collect();
        let key = self.drawing.pick(&keys)?;
        let rows = &self.world.rows[of];
        let row = rows.get(self.drawing.random.random_range(0..rows.len().max(1)))?;
        let mut values: Vec<(usize, Datum)> =
            key.columns.iter().map(|column| (*column, row[*column].clone())).collect();
        if self.chance(0.08)
            && let [(_, cell @ Datum::Integer(_))] = values.as_mut_slice()
        {
            *cell = Datum::Integer(999);
        }
        let mut members = Map::new();
        for (column, cell) in &values {
            let text = leaf(&self.world.model, t.columns[*column].kind, cell).filter(|text| text != "null")?;
            members.insert(t.columns[*column].field.clone()?, serde_json::from_str(&text).ok()?);
        }
        let json = match key.columns.len() {
            1 => members.into_iter().next().map(|(_, value)| value)?,
            _ => Json::Object(members),
        };
        Some((values, json!({ key.member.as_str(): json })))
    }

    fn create(&mut self, of: TypeId, many: bool) -> Option<(Act, String)> {
        let count = if many { self.drawing.random.random_range(0..=4) } else { 1 };
        let existing = self.existing(of);
        let (mut rows, mut inputs) = (Vec::new(), Vec::new());
        for _ in 0..count {
            let depth = if existing.is_some() { 0 } else { 1 };
            let (row, json) = self.new_row(of, depth, &[], existing.as_ref().map(|(key, _)| key.as_slice()))?;
            rows.push(row);
            inputs.push(json);
        }
        let t = &self.world.model.types[of];
        let written = if many {
            let name = self.drawing.variable(&format!("[{}Create!]!", t.helpers), Json::Array(inputs));
            format!("inputs: {name}")
        } else {
            format!("input: {}", self.drawing.variable(&format!("{}Create!", t.helpers), inputs.remove(0)))
        };
        let if_exists = existing.as_ref().map_or_else(String::new, |(key, act)| {
            let key = t.keys.iter().find(|known| known.columns == *key).expect("a key of the type");
            format!(", ifExists: {{ by: {}, act: {act} }}", key.word())
        });
        Some((Act::Create { rows, existing }, written + &if_exists))
    }

    fn existing(&mut self, of: TypeId) -> Option<(Vec<usize>, &'static str)> {
        if !self.chance(0.3) {
            return None;
        }
        let granted = self.view.type_view(of)?;
        let create = granted.create.as_ref()?;
        let settable: Vec<usize> = self.view.settable(of, create).map(|(column, _)| column).collect();
        let keys: Vec<_> =
            self.view.keys(of).filter(|key| key.columns.iter().all(|c| settable.contains(c))).cloned().collect();
        let key = self.drawing.pick(&keys)?;
        let words: &[&'static str] = if granted.update.is_some() { &["KEEP", "CHANGE", "REFUSE"] } else { &["KEEP"] };
        Some((key.columns, self.drawing.pick(words)?))
    }

    /// A row, and its input. `given` are columns that its parent sets; `key`, those it must say.
    fn new_row(&mut self, of: TypeId, depth: u32, given: &[usize], key: Option<&[usize]>) -> Option<(NewRow, Json)> {
        let (view, world) = (self.view, self.world);
        let t = &world.model.types[of];
        let grant = view.type_view(of)?.create.as_ref()?;
        let settable: Vec<(usize, String)> =
            view.settable(of, grant).map(|(column, field)| (column, field.to_owned())).collect();
        let mut row = NewRow::default();
        let mut members = Map::new();
        let mut done: BTreeSet<usize> = given.iter().copied().chain(grant.fixed.iter().map(|(c, _)| *c)).collect();
        if depth > 0 {
            let links: Vec<(LinkId, puente_core::model::Link)> =
                view.settable_links(of, grant).map(|(id, link)| (id, link.clone())).collect();
            for (id, link) in links {
                let own: Vec<usize> = link.pairs.iter().map(|(own, _)| *own).collect();
                if own.iter().any(|column| done.contains(column)) || !self.chance(0.5) {
                    continue;
                }
                let (target, json) = if self.chance(0.3) {
                    let Some((row, json)) = self.new_row(link.target, 0, &[], None) else { continue };
                    (Target::New(Box::new(row)), json!({ "create": json }))
                } else {
                    let Some((key, json)) = self.key_of_some_row(link.target) else { continue };
                    (Target::Key(key), json!({ "key": json }))
                };
                done.extend(own);
                row.ones.push((id, target));
                members.insert(link.field.clone(), json);
            }
        }
        for (column, field) in &settable {
            if done.contains(column) {
                continue;
            }
            let is_key = t.keys.iter().any(|key| key.total && key.columns.contains(column));
            let wanted = key.is_some_and(|key| key.contains(column));
            if !is_key && !wanted && t.may_leave_out(*column) && self.chance(0.3) {
                continue;
            }
            let c = &t.columns[*column];
            let (json, cell) = if c.form == StorageFormat::JsonValue {
                match self.chance(0.2) && c.nullable {
                    true => (Json::Null, Datum::Null),
                    false => {
                        let (input, stored) = self.json_input((of, *column), Some(grant));
                        (input, Datum::Text(stored.to_string()))
                    }
                }
            } else if is_key && !(wanted && self.chance(0.7)) && !self.chance(0.08) {
                self.fresh_value(of, *column)?
            } else {
                match known_value(self.drawing.random, world, of, *column) {
                    Some(known) => known,
                    None if t.columns[*column].nullable => (Json::Null, Datum::Null),
                    None => continue,
                }
            };
            row.values.push((*column, cell));
            members.insert(field.clone(), json);
        }
        // A row that lacks something that it needs is refused for that alone.
        let is_said = |column: usize| {
            done.contains(&column) || row.values.iter().any(|(known, _)| *known == column) || t.may_leave_out(column)
        };
        if !(0..t.columns.len()).all(is_said) {
            return None;
        }
        row.values.extend(fixed(grant));
        if depth > 0 {
            self.add_many(of, &mut row, &mut members);
        }
        Some((row, Json::Object(members)))
    }

    /// Children over to-many links, and rows over join tables.
    fn add_many(&mut self, of: TypeId, row: &mut NewRow, members: &mut Map<String, Json>) {
        let links: Vec<(LinkId, puente_core::model::Link)> = self
            .view
            .links(of)
            .filter(|(_, link)| link.cardinality == Cardinality::Many && has_link_input(self.view, link))
            .map(|(id, link)| (id, link.clone()))
            .collect();
        for (id, link) in links {
            if !self.chance(0.3) {
                continue;
            }
            if link.through.is_some() {
                let edges: Vec<(Edge, Json)> = (0..2).filter_map(|_| self.edge(&link)).collect();
                let (edges, json): (Vec<Edge>, Vec<Json>) = edges.into_iter().unzip();
                row.edges.push((id, edges));
                members.insert(link.field.clone(), Json::Array(json));
                continue;
            }
            let given: Vec<usize> = link.pairs.iter().map(|(_, target)| *target).collect();
            let children: Vec<(NewRow, Json)> =
                (0..2).filter_map(|_| self.new_row(link.target, 0, &given, None)).collect();
            let (children, json): (Vec<NewRow>, Vec<Json>) = children.into_iter().unzip();
            row.many.push((id, children));
            members.insert(link.field.clone(), Json::Array(json));
        }
    }

    fn edge(&mut self, link: &puente_core::model::Link) -> Option<(Edge, Json)> {
        let through = link.through.as_ref()?;
        let grant = self.view.type_view(through.join)?.create.as_ref()?;
        let (target, json) = self.key_of_some_row(link.target)?;
        let mut members = Map::from_iter([("key".to_owned(), json)]);
        let mut values = Vec::new();
        for (field, column) in edge_input_fields(self.view, through, grant) {
            let join = &self.world.model.types[through.join];
            let is_key = join.row_key().is_some_and(|key| key.columns.contains(&column));
            if (is_key || self.chance(0.3)) && join.may_leave_out(column) {
                continue;
            }
            let value = if is_key {
                self.fresh_value(through.join, column)
            } else {
                known_value(self.drawing.random, self.world, through.join, column)
            };
            if let Some((json, cell)) = value {
                members.insert(field, json);
                values.push((column, cell));
            }
        }
        values.extend(fixed(grant));
        Some((Edge { target, values }, Json::Object(members)))
    }

    /// A value that no row has.
    fn fresh_value(&mut self, of: TypeId, column: usize) -> Option<(Json, Datum)> {
        self.fresh += 1;
        match self.world.model.types[of].columns[column].kind {
            FieldType::Scalar(Scalar::Int) => Some((self.fresh.into(), Datum::Integer(self.fresh))),
            FieldType::Scalar(Scalar::String) => {
                let text = format!("n{}", self.fresh);
                Some((text.clone().into(), Datum::Text(text)))
            }
            _ => None,
        }
    }

    fn set(&mut self, of: TypeId) -> Option<(Set, Json)> {
        let (view, world) = (self.view, self.world);
        let t = &world.model.types[of];
        let grant = view.type_view(of)?.update.as_ref()?;
        let settable: Vec<(usize, String)> =
            view.settable(of, grant).map(|(column, field)| (column, field.to_owned())).collect();
        let (mut set, mut members, mut add) = (Set::default(), Map::new(), Map::new());
        let mut linked = BTreeSet::new();
        let links: Vec<(LinkId, puente_core::model::Link)> =
            view.settable_links(of, grant).map(|(id, link)| (id, link.clone())).collect();
        for (id, link) in links {
            let own: Vec<usize> = link.pairs.iter().map(|(own, _)| *own).collect();
            let is_key = t.keys.iter().any(|key| own.iter().any(|column| key.columns.contains(column)));
            let is_left_out = self.of_json || own.iter().any(|column| linked.contains(column));
            if is_key || is_left_out || !self.chance(0.3) {
                continue;
            }
            let Some((key, json)) = self.key_of_some_row(link.target) else { continue };
            linked.extend(own);
            members.insert(link.field.clone(), json!({ "key": json }));
            set.ones.push((id, key));
        }
        for (column, field) in settable {
            let c = &t.columns[column];
            let is_key = t.keys.iter().any(|key| key.columns.contains(&column));
            let is_json = c.form == StorageFormat::JsonValue;
            let chance = if is_json { 0.9 } else { 0.4 };
            if is_key || linked.contains(&column) || (self.of_json && !is_json) || !self.chance(chance) {
                continue;
            }
            if is_json {
                let can_be_null = c.nullable && view.sets_all((of, column), grant);
                if can_be_null && self.chance(0.1) {
                    members.insert(field, Json::Null);
                    set.values.push((column, Datum::Null));
                } else if let Some((json, edit)) = self.json_edit((of, column), grant) {
                    members.insert(field, json);
                    set.json.push((column, edit));
                }
                continue;
            }
            let is_linked = t.links.iter().any(|link| link.pairs.iter().any(|(own, _)| *own == column));
            let is_number = c.kind == FieldType::Scalar(Scalar::Int) && !is_linked && !c.domain;
            if is_number && view.reads_as_is((of, column)) && self.chance(0.4) {
                let more = self.drawing.random.random_range(-3..=3);
                add.insert(field, more.into());
                set.add.push((column, more));
            } else if let Some((json, cell)) = known_value(self.drawing.random, world, of, column) {
                members.insert(field, json);
                set.values.push((column, cell));
            }
        }
        if !add.is_empty() && !members.contains_key("add") {
            members.insert("add".to_owned(), Json::Object(add));
        }
        self.set_edges(of, &mut set, &mut members);
        if members.is_empty() {
            return None;
        }
        set.values.extend(fixed(grant));
        Some((set, Json::Object(members)))
    }

    fn set_edges(&mut self, of: TypeId, set: &mut Set, members: &mut Map<String, Json>) {
        let links: Vec<(LinkId, puente_core::model::Link)> = self
            .view
            .links(of)
            .filter(|(_, link)| link.through.is_some() && has_link_input(self.view, link))
            .map(|(id, link)| (id, link.clone()))
            .collect();
        for (id, link) in links {
            if !self.chance(0.5) {
                continue;
            }
            let join = link.through.as_ref().map_or(0, |through| through.join);
            let (add, json): (Vec<Edge>, Vec<Json>) = (0..2).filter_map(|_| self.edge(&link)).unzip();
            let mut change = Map::from_iter([("link".to_owned(), Json::Array(json))]);
            let mut remove = Vec::new();
            if self.view.type_view(join).is_some_and(|view| view.delete.is_some()) {
                let keys: Vec<_> = (0..2).filter_map(|_| self.key_of_some_row(link.target)).collect();
                let (keys, json): (Vec<_>, Vec<Json>) = keys.into_iter().unzip();
                change.insert("unlink".to_owned(), Json::Array(json));
                remove = keys;
            }
            members.insert(link.field.clone(), Json::Object(change));
            set.edges.push((id, add, remove));
        }
    }
}
