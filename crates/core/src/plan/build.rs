//! The planner: a valid operation and a role's view become a plan. The only place that makes one.

use std::collections::HashSet;
use std::sync::Arc;

use apollo_compiler::executable::{Field, Selection, SelectionSet};
use apollo_compiler::{Name, Node};
use indexmap::IndexMap;
use serde_json::Value as Json;

use super::cursor::Sealer;
use super::document::Document;
use super::input::{Given, Input, Leaf};
use super::introspection::{self, Introspection};
use super::layout::Layout;
use super::reads::{Recorder, VariablePath};
use super::shape::{
    ConnectionField, ConnectionShape, EdgeField, EdgeShape, FieldHead, FieldShape, NodeId, NodeRows, NodesShape,
    ObjectShape, PageInfoField, PageInfoShape, Value,
};
use super::variables::Variables;
use super::{
    CursorArgument, CursorSource, JoinTable, KeyQuery, LeafType, ListSource, OrderTerm, Output, Parameter, ParentJoin,
    Plan, RowSet, Seek, Select, SelectId,
};
use crate::access::{
    Comparison, Condition, Masks, Operand, Origin, Path, Predicate, Test, TextComparison, View, Within,
};
use crate::error::{Code, Location, Problem};
use crate::model::{
    Cardinality, ColumnId, Element, FieldType, GLOBAL_ID, Link, LinkId, NODE, SourceId, Through, TypeId,
};
use crate::project::Limits;
use crate::value::{CoercionError, Datum, Scalar, StorageFormat, datum_from_json};

/// What planning has to know of the source that a plan is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Capabilities {
    /// Do nulls come before everything else in an ascending order, where nothing is said?
    pub nulls_are_smallest: bool,
    /// How many parts of one JSON value the database takes out of it at most: where more are asked for, and the value is small, it is
    /// delivered as a whole, and taken apart where the answer is written.
    pub most_json_parts: usize,
    /// How many levels of objects and lists its functions go into JSON.
    pub most_json_levels: usize,
    /// Does it join rows that a link to one leads to? Else they are read as a level of their own.
    pub joins: bool,
}

/// What planning takes beside the document.
#[derive(Debug, Clone, Copy)]
pub struct Context<'a> {
    /// What the role may see.
    pub view: &'a View,
    /// What a request may cost.
    pub limits: &'a Limits,
    /// What seals the role's cursors.
    pub sealer: &'a Sealer,
    /// What each source can do, in their order.
    pub capabilities: &'a [Capabilities],
}

/// The field that is a row's revision.
pub const REVISION: &str = "revision";

/// Has a type a revision? Where it has a key, and no field of its own takes the name.
pub fn has_revision(view: &View, of: TypeId) -> bool {
    let taken =
        view.columns(of).any(|(_, field)| field == REVISION) || view.links(of).any(|(_, l)| l.field == REVISION);
    view.model().types[of].row_key().is_some() && !taken
}

/// The name of the input type of a key of several columns.
pub fn composite_key_type(type_name: &str, member: &str) -> String {
    let mut letters = member.chars();
    let first = letters.next().map(|letter| letter.to_ascii_uppercase());
    format!("{type_name}Key{}{}", first.map(String::from).unwrap_or_default(), letters.as_str())
}

/// The fields that the join table adds to an edge: the field's name in the join type, its name in the edge, its column.
/// `cursor` and `node` are the edge's own.
pub fn edge_fields<'a>(view: &'a View, through: &Through) -> Vec<(&'a str, String, ColumnId)> {
    let join = &view.model().types[through.join];
    let own = join.edge_columns(through);
    view.columns(through.join)
        .filter(|(column, _)| own.contains(column))
        .map(|(column, field)| {
            let name = if matches!(field, "cursor" | "node") { format!("{field}Value") } else { field.to_owned() };
            (field, name, column)
        })
        .collect()
}

/// Makes the plan of an operation for one request, and for all that [`Document::plan_key`] tells are like it.
///
/// # Errors
/// The first mistake in the values of arguments, with its place; `TOO_COSTLY` for what exceeds a limit whatever the
/// values are.
pub fn build(context: Context<'_>, document: &Arc<Document>, variables: &Variables) -> Result<Plan, Problem> {
    let mut planner = Planner::new(context, document, variables);
    let roots = planner.roots()?;
    let Planner { planned, reads, .. } = planner;
    reads.keep();
    Ok(planned.into_plan(roots, context, document))
}

/// What planning has found so far.
#[derive(Default)]
pub(super) struct Planned {
    selects: Vec<Select>,
    joined: Vec<bool>,
    pub(super) key_queries: Vec<KeyQuery>,
    pub(super) parameters: Vec<Parameter>,
    cursors: Vec<CursorArgument>,
    pub(super) filter_leaves: u64,
    introspection: introspection::Roots,
}

impl Planned {
    pub(super) fn select_mut(&mut self, select: SelectId) -> &mut Select {
        &mut self.selects[select]
    }

    /// The plan.
    pub(super) fn into_plan(self, roots: ObjectShape, context: Context<'_>, document: &Arc<Document>) -> Plan {
        let Planned { mut selects, joined, key_queries, parameters, cursors, filter_leaves, introspection } = self;
        selects.iter_mut().for_each(Select::keep_needed_masks);
        let Context { view, sealer, .. } = context;
        let read = selects.iter().filter(|select| select.read || matches!(select.row_set, RowSet::Supplied));
        let mut sources: Vec<SourceId> = read.map(|select| view.model().types[select.of].source).collect();
        sources.sort_unstable();
        sources.dedup();
        Plan {
            roots,
            layout: Layout::new(view.model(), &selects, joined),
            selects,
            sources,
            key_queries,
            parameters,
            cursors,
            filter_leaves,
            introspection: (!introspection.is_empty()).then(|| Introspection::new(document, introspection)),
            model: Arc::clone(view.model()),
            sealer: sealer.clone(),
            usual_bytes: std::sync::atomic::AtomicUsize::new(1_024),
        }
    }
}

pub(super) struct Planner<'a> {
    pub(super) view: &'a View,
    pub(super) limits: &'a Limits,
    capabilities: &'a [Capabilities],
    pub(super) sealer: &'a Sealer,
    /// Is it a change that is planned?
    pub(super) writes: bool,
    /// How many filters through links to other sources what is being planned is inside of.
    pub(super) opens_lists: usize,
    document: &'a Document,
    pub(super) reads: Recorder<'a>,
    pub(super) planned: Planned,
}

/// Fields with the same response key, to be merged ([CollectFields]).
///
/// [CollectFields]: https://spec.graphql.org/September2025/#CollectFields()
pub(super) type Collected<'a> = IndexMap<&'a str, Vec<&'a Node<Field>>>;

impl<'a> Planner<'a> {
    pub(super) fn new(context: Context<'a>, document: &'a Document, variables: &'a Variables) -> Self {
        let Context { view, limits, sealer, capabilities } = context;
        // The values that the view's rules take from the claims come first: rules know them by these numbers.
        let parameters = (0..view.claims()).map(Parameter::Claim).collect();
        let planned = Planned { parameters, ..Planned::default() };
        let (reads, writes) = (Recorder::new(document, variables, sealer), document.is_mutation());
        Planner { view, limits, capabilities, sealer, writes, opens_lists: 0, document, reads, planned }
    }

    /// What the source of a type can do.
    pub(super) fn capabilities(&self, of: TypeId) -> Capabilities {
        self.capabilities[self.view.model().types[of].source]
    }

    pub(super) fn parameter(&mut self, parameter: Parameter) -> usize {
        self.planned.parameters.push(parameter);
        self.planned.parameters.len() - 1
    }

    fn roots(&mut self) -> Result<ObjectShape, Problem> {
        let document = self.document;
        let collected = self.collect([&document.operation.selection_set])?;
        let mut roots = ObjectShape::default();
        for (key, fields) in collected {
            let field = fields[0];
            let location = document.location(field.location());
            let value = match field.name.as_str() {
                "__typename" => Value::Typename("Query".to_owned()),
                "__type" => {
                    self.planned.introspection.push_type(key, &fields);
                    Value::Introspection
                }
                "__schema" => {
                    let selected = self.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))?;
                    self.planned.introspection.push_schema(key, &selected);
                    Value::Introspection
                }
                name => self.root(name, &fields).map_err(|problem| located(problem, location, key))?,
            };
            roots.fields.push(FieldShape::new(key, location, value));
        }
        Ok(roots)
    }

    fn root(&mut self, name: &str, fields: &[&'a Node<Field>]) -> Result<Value, Problem> {
        let view = self.view;
        match name {
            "node" if view.model().global_ids => {
                let id = self.argument(fields[0], "id");
                return self.node(id, "id", fields);
            }
            "nodes" if view.model().global_ids => return self.nodes(fields),
            _ => {}
        }
        for (id, _) in view.types() {
            let t = &view.model().types[id];
            if t.list == name {
                return self.connection(id, None, fields, 1).map(Value::Connection);
            }
            if t.one == name {
                return self.by_key(id, fields);
            }
        }
        Ok(Value::Null)
    }

    /// One row by a key: `booking(key: { id: 7 })`.
    fn by_key(&mut self, of: TypeId, fields: &[&'a Node<Field>]) -> Result<Value, Problem> {
        let key = self.argument(fields[0], "key");
        let condition = self.key_condition(of, key)?;
        let mut select = self.seen(of, None);
        select.predicates.push(Predicate { origin: Origin::Caller, condition: Arc::new(condition) });
        let select = self.add(select)?;
        let object = self.object(of, select, fields, 1)?;
        Ok(Value::One { select, present: None, object })
    }

    /// The row that a global id means; null where the role does not see rows of its type.
    fn node(&mut self, id: Given<'a>, argument: &'static str, fields: &[&'a Node<Field>]) -> Result<Value, Problem> {
        let id = self.reads.open(id)?;
        let Some((of, condition)) = self.id_condition(id, argument)? else { return Ok(Value::Null) };
        let mut select = self.seen(of, None);
        select.predicates.push(Predicate { origin: Origin::Caller, condition: Arc::new(condition) });
        let select = self.add(select)?;
        let object = self.object(of, select, fields, 1)?;
        Ok(Value::One { select, present: None, object })
    }

    fn nodes(&mut self, fields: &[&'a Node<Field>]) -> Result<Value, Problem> {
        let ids = self.argument(fields[0], "ids");
        let ids = match self.reads.open(ids)? {
            Input::List(list) => self.reads.items(list)?,
            // A single value is a list of one.
            _ => vec![self.argument(fields[0], "ids")],
        };
        if ids.len() > self.limits.list {
            return Err(super::bind::list_too_long(ids.len(), self.limits.list));
        }
        // One select for each type, whatever the number of ids.
        let mut keys: Vec<(TypeId, Vec<Vec<usize>>)> = Vec::new();
        let mut places = Vec::new();
        for id in ids {
            let id = self.reads.open(id)?;
            let Some((of, key)) = self.id_key(id, "ids")? else {
                places.push(None);
                continue;
            };
            let rows = keys.iter().position(|(known, _)| *known == of).unwrap_or_else(|| {
                keys.push((of, Vec::new()));
                keys.len() - 1
            });
            keys[rows].1.push(key.clone());
            places.push(Some(NodeId { rows, key }));
        }
        let mut rows = Vec::new();
        for (of, keys) in keys {
            let columns = self.global_key(of);
            let size = Datum::Integer(i64::try_from(keys.len()).unwrap_or(i64::MAX));
            let size = self.parameter(Parameter::Constant(size));
            let condition = Arc::new(self.among_keys(of, &columns, &keys));
            let mut select = self.seen(of, None);
            select.predicates.push(Predicate { origin: Origin::Caller, condition });
            select.row_set = RowSet::Page { size, backward: false, skip: None, after: None, before: None };
            let select = self.add(select)?;
            let key = columns.iter().map(|column| self.output(select, Output::Column(*column))).collect();
            let object = self.object(of, select, fields, 1)?;
            rows.push(NodeRows { select, key, object });
        }
        Ok(Value::Nodes(NodesShape { rows, ids: places }))
    }

    /// Is a row's key one of these?
    fn among_keys(&mut self, of: TypeId, columns: &[ColumnId], keys: &[Vec<usize>]) -> Condition {
        if let [column] = columns {
            let c = &self.view.model().types[of].columns[*column];
            let leaf = LeafType { kind: c.kind, form: c.form };
            let items = ListSource::Items(keys.iter().flatten().copied().collect());
            let list = self.parameter(Parameter::List { items, leaf });
            let test = Test::In { operand: Operand::Parameter(list), by: TextComparison::Collation };
            return Condition::Test { path: Path { hops: Vec::new(), column: *column, masked: false }, test };
        }
        let is_it = |key: &Vec<usize>| {
            let equals = columns.iter().zip(key).map(|(column, value)| equal(*column, Operand::Parameter(*value)));
            Condition::And(equals.collect())
        };
        Condition::Or(keys.iter().map(is_it).collect())
    }

    fn global_key(&self, of: TypeId) -> Vec<ColumnId> {
        let model = self.view.model();
        model.types[of].global_key(model).map(|key| key.columns.clone()).unwrap_or_default()
    }

    /// The type of the row that a global id means, and the condition that it is the row; none where the role sees no rows of it.
    fn id_condition(&mut self, id: Input<'a>, argument: &'static str) -> Result<Option<(TypeId, Condition)>, Problem> {
        let Some((of, key)) = self.id_key(id, argument)? else { return Ok(None) };
        let columns = self.global_key(of);
        let equals = columns.into_iter().zip(key).map(|(column, value)| equal(column, Operand::Parameter(value)));
        Ok(Some((of, Condition::And(equals.collect()))))
    }

    /// The type of the row that a global id means, and the parameters that hold its key.
    fn id_key(&mut self, id: Input<'a>, argument: &'static str) -> Result<Option<(TypeId, Vec<usize>)>, Problem> {
        let invalid = || super::bind::invalid_id(&format!("`{argument}`"));
        let Input::Leaf(leaf) = id else { return Err(invalid()) };
        let found = self.reads.identity(&leaf);
        let (source, location) = cursor_source(leaf);
        let (identity, values) = found.ok_or_else(|| invalid().at(location))?;
        let model = self.view.model();
        let is_meant = |(id, _): &(TypeId, _)| model.types[*id].identity == identity;
        let Some((of, _)) = self.view.types().find(is_meant) else { return Ok(None) };
        let key = model.types[of].global_key(model).filter(|key| key.columns.len() == values);
        let key = key.ok_or_else(|| invalid().at(location))?;
        let terms = key.columns.len();
        self.planned.cursors.push(CursorArgument { is_id: true, source, binding: identity, argument, location, terms });
        let cursor = self.planned.cursors.len() - 1;
        let key = (0..terms).map(|index| self.parameter(Parameter::CursorDatum { cursor, index }));
        Ok(Some((of, key.collect())))
    }

    /// The row that a `key` argument means.
    pub(super) fn key_condition(&mut self, of: TypeId, given: Given<'a>) -> Result<Condition, Problem> {
        let model = self.view.model();
        let t = &model.types[of];
        let wrong = || Problem::new(Code::InvalidArgument, "`key` takes exactly one member that is not null");
        let Input::Object(members) = self.reads.open(given)? else { return Err(wrong()) };
        let mut found = Vec::new();
        for (member, value) in members {
            let value = self.reads.open(value)?;
            if value.is_given() {
                found.push((member, value));
            }
        }
        let [(member, value)] = <[_; 1]>::try_from(found).map_err(|_| wrong())?;
        if t.global_key(model).is_some() && *member == *GLOBAL_ID {
            let place = "key.id";
            return match self.id_condition(value, place)? {
                Some((other, condition)) if other == of => Ok(condition),
                _ => Err(super::bind::invalid_id(&format!("`{place}`"))),
            };
        }
        let key = self.view.keys(of).find(|key| *key.member == *member).ok_or_else(wrong)?;
        let mut conditions = Vec::new();
        for column in &key.columns {
            let c = &t.columns[*column];
            let value = match &value {
                Input::Object(members) => {
                    let field = c.field.as_deref().unwrap_or_default();
                    let given = members.iter().find(|(name, _)| **name == *field).map(|(_, value)| value.clone());
                    self.reads.open(given.unwrap_or(Given::Absent))?
                }
                leaf => leaf.clone(),
            };
            let operand = self.operand(value, LeafType { kind: c.kind, form: c.form })?;
            conditions.push(equal(*column, operand));
        }
        Ok(Condition::And(conditions))
    }

    /// The columns that make a row's revision: its key and its version where it has one, else all that can be read.
    pub(super) fn revision_columns(&self, of: TypeId) -> Vec<ColumnId> {
        let t = &self.view.model().types[of];
        match (t.version, t.row_key()) {
            (Some(version), Some(key)) if self.view.columns(of).any(|(column, _)| column == version) => {
                key.columns.iter().copied().chain([version]).collect()
            }
            _ => self.view.leaves(Within::row(of)),
        }
    }

    /// Rows of a type as the role sees them: those that its rule shows, with its masks. Whatever a caller reads or
    /// addresses begins with it.
    pub(super) fn seen(&self, of: TypeId, parent: Option<ParentJoin>) -> Select {
        let rule = self.view.rows(of).cloned();
        let predicates = rule.map(|condition| Predicate { origin: Origin::Rule, condition }).into_iter().collect();
        Select { masks: self.view.masks(of), ..Select::one(of, parent, predicates) }
    }

    pub(super) fn add(&mut self, select: Select) -> Result<SelectId, Problem> {
        if self.planned.selects.len() >= self.limits.statements {
            let text = format!("the request needs more than {} statements; ask in parts", self.limits.statements);
            return Err(Problem::new(Code::TooCostly, text));
        }
        let parent = select.parent.clone();
        self.planned.selects.push(select);
        self.planned.joined = super::layout::joined(self.view.model(), &self.planned.selects, self.capabilities);
        let id = self.planned.selects.len() - 1;
        if let Some(parent) = parent.filter(|_| !self.planned.joined[id]) {
            for (own, _) in &parent.pairs {
                let of = self.planned.selects[parent.select].of;
                let is_inside = self.view.model().types[of].columns[*own].member.is_some();
                self.output(parent.select, if is_inside { Output::Key(*own) } else { Output::Column(*own) });
            }
        }
        Ok(id)
    }

    /// The output of a select that delivers this value, added where it is not yet there.
    pub(super) fn output(&mut self, select: SelectId, output: Output) -> usize {
        let outputs = &mut self.planned.selects[select].output;
        outputs.iter().position(|known| *known == output).unwrap_or_else(|| {
            outputs.push(output);
            outputs.len() - 1
        })
    }

    /// The fields of a row.
    pub(super) fn object(
        &mut self,
        of: TypeId,
        select: SelectId,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<ObjectShape, Problem> {
        self.check_depth(depth)?;
        let collected = self.collect_of(of, fields.iter().filter_map(|field| field.selection_set.as_ref()))?;
        let mut object = ObjectShape::default();
        for (key, fields) in collected {
            let location = self.document.location(fields[0].location());
            let value = self.field(of, select, &fields, depth).map_err(|problem| located(problem, location, key))?;
            object.fields.push(FieldShape::new(key, location, value));
        }
        Ok(object)
    }

    /// Is there room for one more level of the selection?
    pub(super) fn check_depth(&self, depth: usize) -> Result<(), Problem> {
        if depth > self.limits.depth {
            let text = format!("the selection is deeper than {} levels; ask in parts", self.limits.depth);
            return Err(Problem::new(Code::TooCostly, text));
        }
        Ok(())
    }

    fn field(
        &mut self,
        of: TypeId,
        select: SelectId,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<Value, Problem> {
        let view = self.view;
        let t = &view.model().types[of];
        let name = fields[0].name.as_str();
        if name == "__typename" {
            return Ok(Value::Typename(t.name.clone()));
        }
        if let Some((column, _)) = view.columns(of).find(|(_, field)| *field == name) {
            return self.column_field(of, column, select, fields, depth);
        }
        if name == GLOBAL_ID
            && let Some(key) = t.global_key(view.model())
        {
            let outputs = key.columns.iter().map(|column| self.output(select, Output::Column(*column))).collect();
            return Ok(Value::GlobalId { identity: t.identity, outputs });
        }
        if name == REVISION && has_revision(view, of) {
            let columns = self.revision_columns(of);
            let outputs = columns.into_iter().map(|column| self.output(select, Output::Column(column))).collect();
            return Ok(Value::Revision { of: t.name.clone(), outputs });
        }
        let Some((id, link)) = view.links(of).find(|(_, link)| link.field == name) else { return Ok(Value::Null) };
        let parent = self.parent_join(of, id, select);
        match link.cardinality {
            Cardinality::Many => {
                self.connection(link.target, Some((parent, link)), fields, depth + 1).map(Value::Connection)
            }
            Cardinality::One => {
                let child = self.add(self.seen(link.target, Some(parent)))?;
                let object = self.object(link.target, child, fields, depth + 1)?;
                let present = view.is_present(of, id).then(|| format!("{}.{name}", t.name).into());
                Ok(Value::One { select: child, present, object })
            }
        }
    }

    /// What is asked of a column: its value, or what is inside its JSON.
    pub(super) fn column_field(
        &mut self,
        of: TypeId,
        column: ColumnId,
        select: SelectId,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<Value, Problem> {
        match self.view.model().types[of].columns[column].kind {
            FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) => {
                Ok(self.column(of, column, select, Output::Column(column)))
            }
            FieldType::Object(object) => self.json_object(object, select, fields, depth + 1),
            FieldType::Items(items) => self.json_items((of, column), items, select, fields, depth + 1),
        }
    }

    /// A column's value. Where null is impossible the row's key is delivered too: an error will have to name the row.
    fn column(&mut self, of: TypeId, column: ColumnId, select: SelectId, output: Output) -> Value {
        let model = self.view.model();
        let t = &model.types[of];
        let c = &t.columns[column];
        let field = c.field.as_deref().unwrap_or_default();
        let non_null = self.view.is_non_null(of, column);
        if non_null
            && let Some(key) = t.row_key()
            && matches!(output, Output::Column(_))
        {
            for key in &key.columns {
                self.output(select, Output::Column(*key));
            }
        }
        let name = format!("{}.{field}", t.name).into();
        let is_json = c.form == StorageFormat::JsonValue;
        Value::Column { output: self.output(select, output), kind: c.kind, is_json, non_null, name }
    }

    /// How the rows at the end of a link hang on the rows of a select.
    fn parent_join(&self, of: TypeId, link: LinkId, select: SelectId) -> ParentJoin {
        let link = &self.view.model().types[of].links[link];
        match &link.through {
            None => ParentJoin { select, pairs: link.pairs.clone(), through: None },
            Some(Through { join, near, far, repeats, .. }) => {
                let through = JoinTable { of: *join, pairs: far.clone(), repeats: *repeats };
                ParentJoin { select, pairs: near.clone(), through: Some(through) }
            }
        }
    }

    /// A page of rows, at the root or at the end of a to-many link.
    fn connection(
        &mut self,
        of: TypeId,
        link: Option<(ParentJoin, &Link)>,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<ConnectionShape, Problem> {
        let field = fields[0];
        let Select { mut predicates, masks, .. } = self.seen(of, None);
        let filter = self.reads.open(self.argument(field, "filter"))?;
        let first = self.planned.key_queries.len();
        if filter.is_given() {
            let condition = self.filter(of, filter, &[], false, 1)?;
            predicates.push(Predicate { origin: Origin::Caller, condition: Arc::new(condition) });
        }
        let order_by = self.reads.open(self.argument(field, "orderBy"))?;
        let order = self.order(of, order_by)?;
        let through = link.as_ref().and_then(|(_, link)| link.through.as_ref());
        let join_rows = through.and_then(|through| self.view.rows(through.join).cloned());
        let binding = self.binding(of, &order, through);
        let row_set = self.page(of, field, &order, binding)?;
        let parent = link.as_ref().map(|(parent, _)| parent.clone());
        let mut building = Connection {
            of,
            select: 0,
            through,
            parent,
            predicates,
            masks,
            join_rows,
            join_masks: through.map(|through| self.view.masks(through.join)).unwrap_or_default(),
            needs: (first..self.planned.key_queries.len()).collect(),
            whole: None,
            cursor: Vec::new(),
            reads_rows: false,
        };
        building.select = self.add(Select { order, row_set, ..building.rows() })?;
        let collected = self.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))?;
        let mut shape_fields = Vec::new();
        for (key, fields) in collected {
            let location = self.document.location(fields[0].location());
            let value = self
                .connection_field(&mut building, &fields, depth)
                .map_err(|problem| located(problem, location, key))?;
            shape_fields.push((FieldHead::new(key, location), value));
        }
        let Connection { select, cursor, reads_rows, whole, .. } = building;
        self.planned.selects[select].read = reads_rows;
        // What sums up nothing needs no row: all that it tells is its type's name.
        if let Some(whole) = whole.filter(|whole| self.planned.selects[*whole].output.is_empty()) {
            self.planned.selects[whole].read = false;
        }
        // A root field, and one of another source than its parent's.
        let is_elsewhere = link.as_ref().map_or(self.view.model().has_several_sources(), |(_, link)| link.crosses);
        Ok(ConnectionShape { select, nullable: is_elsewhere, reads_rows, fields: shape_fields, cursor, binding })
    }

    fn connection_field(
        &mut self,
        connection: &mut Connection<'_>,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<ConnectionField, Problem> {
        let t = &self.view.model().types[connection.of];
        Ok(match fields[0].name.as_str() {
            "nodes" => {
                connection.reads_rows = true;
                ConnectionField::Nodes(self.object(connection.of, connection.select, fields, depth + 1)?)
            }
            "edges" => {
                connection.reads_rows = true;
                ConnectionField::Edges(self.edges(connection, fields, depth + 1)?)
            }
            "pageInfo" => {
                connection.reads_rows = true;
                ConnectionField::PageInfo(self.page_info(connection, fields)?)
            }
            "totalCount" => {
                let (select, output) = self.total_count(connection)?;
                ConnectionField::TotalCount { select, output }
            }
            "summary" => {
                let (select, object) = self.summary(connection, fields)?;
                ConnectionField::Summary { select, object }
            }
            "groups" => {
                let (select, object) = self.groups(connection, fields)?;
                ConnectionField::Groups { select, object }
            }
            _ => ConnectionField::Typename(match connection.through {
                Some(through) => t.page_type(&through.prefix),
                None => t.page_type(&t.helpers),
            }),
        })
    }

    fn edges(
        &mut self,
        connection: &mut Connection<'_>,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<EdgeShape, Problem> {
        let collected = self.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))?;
        let mut shape = EdgeShape { fields: Vec::new() };
        let view = self.view;
        for (key, fields) in collected {
            let location = self.document.location(fields[0].location());
            let name = fields[0].name.as_str();
            let value = match name {
                "cursor" => {
                    self.deliver_cursor(connection);
                    EdgeField::Cursor
                }
                "node" => EdgeField::Node(self.object(connection.of, connection.select, &fields, depth)?),
                "__typename" => EdgeField::Value(Value::Typename(match connection.through {
                    Some(through) => format!("{}Edge", through.prefix),
                    None => format!("{}Edge", view.model().types[connection.of].helpers),
                })),
                _ => {
                    let through = connection.through;
                    let column = through.and_then(|through| {
                        let found = edge_fields(view, through).into_iter().find(|(_, edge, _)| edge == name);
                        found.map(|(_, _, column)| (through.join, column))
                    });
                    match column {
                        Some((join, column)) => {
                            EdgeField::Value(self.column(join, column, connection.select, Output::Edge(column)))
                        }
                        None => EdgeField::Value(Value::Null),
                    }
                }
            };
            shape.fields.push((FieldHead::new(key, location), value));
        }
        Ok(shape)
    }

    fn page_info(
        &mut self,
        connection: &mut Connection<'_>,
        fields: &[&'a Node<Field>],
    ) -> Result<PageInfoShape, Problem> {
        let collected = self.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))?;
        let mut shape = PageInfoShape { fields: Vec::new() };
        for (key, fields) in collected {
            let value = match fields[0].name.as_str() {
                "hasNextPage" => PageInfoField::HasNextPage,
                "hasPreviousPage" => PageInfoField::HasPreviousPage,
                "startCursor" => PageInfoField::StartCursor,
                "endCursor" => PageInfoField::EndCursor,
                _ => PageInfoField::Typename,
            };
            let pages = self.view.model().types[connection.of].row_key().is_some();
            if matches!(value, PageInfoField::HasNextPage | PageInfoField::HasPreviousPage) {
                self.planned.selects[connection.select].peek = true;
            }
            if pages && matches!(value, PageInfoField::StartCursor | PageInfoField::EndCursor) {
                self.deliver_cursor(connection);
            }
            shape.fields.push((FieldHead::new(key, self.document.location(fields[0].location())), value));
        }
        Ok(shape)
    }

    /// Makes the select deliver the values of its order, of which a cursor is made.
    fn deliver_cursor(&mut self, connection: &mut Connection<'_>) {
        if !connection.cursor.is_empty() {
            return;
        }
        let terms = self.planned.selects[connection.select].order.clone();
        connection.cursor = terms
            .iter()
            .enumerate()
            .map(|(at, term)| {
                let columns = &self.view.model().types[connection.of].columns;
                let is_own = term.path.hops.is_empty() && columns[term.path.column].form != StorageFormat::JsonValue;
                let output = if is_own { Output::Column(term.path.column) } else { Output::Order(at) };
                self.output(connection.select, output)
            })
            .collect();
    }

    fn binding(
        &self,
        of: TypeId,
        order: &[OrderTerm],
        through: Option<&Through>,
    ) -> [u8; super::cursor::BINDING_LENGTH] {
        let model = self.view.model();
        let mut text = format!("{}\0{}", model.sources[model.types[of].source], model.types[of].table);
        for term in order {
            let mut at = of;
            for hop in &term.path.hops {
                let link = &model.types[hop.from].links[hop.link];
                text.push_str(&format!("\0{}", link.field));
                at = link.target;
            }
            let column = &model.types[at].columns[term.path.column].name;
            text.push_str(&format!("\0{column} {} {}", term.descending, term.nulls_first));
        }
        if let Some(through) = through {
            text.push_str(&format!("\0through {}", model.types[through.join].table));
        }
        Sealer::binding(&text)
    }

    fn page(
        &mut self,
        of: TypeId,
        field: &'a Node<Field>,
        order: &[OrderTerm],
        binding: [u8; super::cursor::BINDING_LENGTH],
    ) -> Result<RowSet, Problem> {
        let open = |name: &str| self.reads.open(self.argument(field, name));
        let (first, last, skip) = (open("first")?, open("last")?, open("skip")?);
        let (after, before) = (open("after")?, open("before")?);
        let given = Input::is_given;
        if given(&first) && given(&last) {
            return Err(Problem::new(Code::InvalidArgument, "`first` and `last` exclude each other; give one of them"));
        }
        if given(&skip) && (given(&after) || given(&before)) {
            return Err(Problem::new(
                Code::InvalidArgument,
                "`skip` excludes `after` and `before`; give one or the other",
            ));
        }
        let backward = given(&last);
        let (argument, size) = if backward { ("last", last) } else { ("first", first) };
        let size = self.page_size(of, argument, size)?;
        let skip = self.skip(skip)?;
        let after = self.seek(after, "after", order, binding)?;
        let before = self.seek(before, "before", order, binding)?;
        Ok(RowSet::Page { size, backward, skip, after, before })
    }

    /// The parameter that holds how many rows, or groups, one page has at most.
    pub(super) fn page_size(&mut self, of: TypeId, argument: &'static str, size: Input<'_>) -> Result<usize, Problem> {
        let own = self.view.type_view(of).and_then(|view| view.max_page).unwrap_or(u32::MAX);
        let most = own.min(self.limits.page);
        let size = match size {
            Input::Leaf(Leaf::Variable { path, location }) => {
                Parameter::PageSize { source: path, argument, most, location }
            }
            Input::Leaf(Leaf::Literal { value, location }) => {
                Parameter::Constant(super::bind::page_size(&value, argument, most, location)?)
            }
            _ => Parameter::Constant(Datum::Integer(self.limits.default_page.min(most).into())),
        };
        Ok(self.parameter(size))
    }

    /// The parameter that holds the number of rows to pass over, if any are.
    pub(super) fn skip(&mut self, skip: Input<'_>) -> Result<Option<usize>, Problem> {
        let skip = match skip {
            Input::Leaf(Leaf::Variable { path, location }) => Parameter::Skip { source: path, location },
            Input::Leaf(Leaf::Literal { value, location }) => Parameter::Constant(super::bind::skip(&value, location)?),
            _ => return Ok(None),
        };
        Ok(Some(self.parameter(skip)))
    }

    fn seek(
        &mut self,
        cursor: Input<'a>,
        argument: &'static str,
        order: &[OrderTerm],
        binding: [u8; super::cursor::BINDING_LENGTH],
    ) -> Result<Option<Seek>, Problem> {
        let Input::Leaf(leaf) = cursor else { return Ok(None) };
        let nulls = self.reads.nulls(&leaf);
        let (source, location) = cursor_source(leaf);
        // Whether it belongs here is looked at with each request.
        let nulls = nulls.filter(|nulls| nulls.len() == order.len());
        let nulls = nulls.ok_or_else(|| super::bind::invalid_cursor(&format!("`{argument}`")).at(location))?;
        let cursor = CursorArgument { is_id: false, source, binding, argument, location, terms: order.len() };
        self.planned.cursors.push(cursor);
        let cursor = self.planned.cursors.len() - 1;
        let parameters =
            (0..order.len()).map(|index| self.parameter(Parameter::CursorDatum { cursor, index })).collect();
        Ok(Some(Seek { parameters, nulls }))
    }

    pub(super) fn locate(&self, field: &Node<Field>) -> Option<Location> {
        self.document.location(field.location())
    }

    pub(super) fn argument(&self, field: &'a Node<Field>, name: &str) -> Given<'a> {
        field.specified_argument_by_name(name).map_or(Given::Absent, Given::Literal)
    }

    /// The fields of selection sets, fragments expanded, `@skip` and `@include` obeyed, merged by response key. Every fragment
    /// counts once, however often it is spread.
    pub(super) fn collect(&self, sets: impl IntoIterator<Item = &'a SelectionSet>) -> Result<Collected<'a>, Problem> {
        self.collect_where(&|_| true, sets)
    }

    /// The same of a row: fragments on other types than the row's, which an interface may be spread to, say nothing of it.
    fn collect_of(
        &self,
        of: TypeId,
        sets: impl IntoIterator<Item = &'a SelectionSet>,
    ) -> Result<Collected<'a>, Problem> {
        let model = self.view.model();
        let name = &model.types[of].name;
        self.collect_where(&|condition| !model.global_ids || condition == name || condition == NODE, sets)
    }

    fn collect_where(
        &self,
        applies: &dyn Fn(&str) -> bool,
        sets: impl IntoIterator<Item = &'a SelectionSet>,
    ) -> Result<Collected<'a>, Problem> {
        let (mut collected, mut visited) = (Collected::new(), HashSet::new());
        for set in sets {
            self.collect_into(applies, set, &mut collected, &mut visited)?;
        }
        Ok(collected)
    }

    fn collect_into(
        &self,
        applies: &dyn Fn(&str) -> bool,
        set: &'a SelectionSet,
        collected: &mut Collected<'a>,
        visited: &mut HashSet<&'a Name>,
    ) -> Result<(), Problem> {
        self.reads.step(set.selections.len())?;
        for selection in &set.selections {
            if !self.is_included(selection) {
                continue;
            }
            match selection {
                Selection::Field(field) => collected.entry(field.response_name().as_str()).or_default().push(field),
                Selection::InlineFragment(fragment) => {
                    if fragment.type_condition.as_ref().is_some_and(|condition| !applies(condition)) {
                        continue;
                    }
                    self.collect_into(applies, &fragment.selection_set, collected, visited)?;
                }
                Selection::FragmentSpread(spread) if visited.insert(&spread.fragment_name) => {
                    let fragment = self.document.executable.fragments.get(&spread.fragment_name);
                    if let Some(fragment) = fragment.filter(|fragment| applies(fragment.type_condition())) {
                        self.collect_into(applies, &fragment.selection_set, collected, visited)?;
                    }
                }
                Selection::FragmentSpread(_) => {}
            }
        }
        Ok(())
    }

    fn is_included(&self, selection: &Selection) -> bool {
        use apollo_compiler::ast::Value as Ast;
        let condition = |directive: &str| {
            let directive = selection.directives().get(directive)?;
            let value = directive.specified_argument_by_name("if")?;
            Some(match value.as_ref() {
                Ast::Boolean(value) => *value,
                Ast::Variable(name) => self.reads.is_variable_true(VariablePath::of(name)),
                _ => false,
            })
        };
        condition("skip") != Some(true) && condition("include") != Some(false)
    }
}

/// A connection that is being planned.
pub(super) struct Connection<'m> {
    pub(super) of: TypeId,
    select: SelectId,
    through: Option<&'m Through>,
    parent: Option<ParentJoin>,
    predicates: Vec<Predicate>,
    masks: Masks,
    join_rows: Option<Arc<Condition>>,
    join_masks: Masks,
    needs: Vec<usize>,
    /// The select that sums up all rows, once something asks for it.
    pub(super) whole: Option<SelectId>,
    cursor: Vec<usize>,
    reads_rows: bool,
}

impl Connection<'_> {
    /// A select over the connection's rows, of which nothing is asked yet.
    pub(super) fn rows(&self) -> Select {
        let select = Select::one(self.of, self.parent.clone(), self.predicates.clone());
        Select {
            masks: Arc::clone(&self.masks),
            join_rows: self.join_rows.clone(),
            join_masks: Arc::clone(&self.join_masks),
            needs: self.needs.clone(),
            ..select
        }
    }
}

impl LeafType {
    /// The cell of a JSON value of this type.
    pub(super) fn cell(self, model: &crate::model::Model, value: &Json) -> Result<Datum, CoercionError> {
        match self.kind {
            FieldType::Scalar(scalar) | FieldType::List(Element::Scalar(scalar)) => {
                datum_from_json(scalar, self.form, value)
            }
            FieldType::Object(_) | FieldType::Items(_) => datum_from_json(Scalar::Json, self.form, value),
            FieldType::Enum(id) | FieldType::List(Element::Enum(id)) => {
                let e = &model.enums[id];
                let text = value.as_str().and_then(|name| e.text_of(name));
                text.map(|text| Datum::Text(text.to_owned())).ok_or_else(|| CoercionError {
                    expected: format!("a value of `{}`", e.name),
                    found: crate::value::describe_json(value),
                })
            }
        }
    }
}

/// Where a cursor, or an id, comes from with each request.
fn cursor_source(leaf: Leaf) -> (CursorSource, Option<Location>) {
    match leaf {
        Leaf::Literal { value, location } => {
            (CursorSource::Literal(value.as_str().unwrap_or_default().to_owned()), location)
        }
        Leaf::Variable { path, location } => (CursorSource::Variable(path), location),
    }
}

fn equal(column: ColumnId, operand: Operand) -> Condition {
    Condition::Test {
        path: Path { hops: Vec::new(), column, masked: false },
        test: Test::Compare { comparison: Comparison::Eq, operand, by: TextComparison::Collation },
    }
}

/// Adds the place to a problem that has none yet.
pub(super) fn located(mut problem: Problem, location: Option<Location>, key: &str) -> Problem {
    if problem.locations.is_empty() {
        problem.locations.extend(location);
    }
    problem.path.insert(0, crate::error::PathStep::Key(key.to_owned()));
    problem
}
