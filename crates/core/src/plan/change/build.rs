//! From a mutation's root fields to changes. The only place that makes them, from a role's view.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use apollo_compiler::Node;
use apollo_compiler::ast::Value as Ast;
use apollo_compiler::executable::Field;
use serde_json::Value as Json;

use super::elsewhere::WrittenElsewhere;
use super::rows::items;
use super::{
    Act, Address, COUNT, Change, Existing, GIVEN, LinkedValue, Lookup, LookupId, Mutation, Root, WrittenEnd, locator,
    lookup,
};
use crate::access::{Action, Condition, Hop, Operand, Origin, Path, Predicate, WriteGrant};
use crate::error::{Code, Problem};
use crate::model::{Cardinality, ColumnId, LinkId, Model, SourceId, Type, TypeId};
use crate::plan::build::{Context, Planner, located};
use crate::plan::document::Document;
use crate::plan::filter_words::FilterWord;
use crate::plan::input::{Given, Input};
use crate::plan::shape::{ChangeField, ChangeShape, FieldHead, FieldShape, ObjectShape, Value};
use crate::plan::variables::Variables;
use crate::plan::{OrderTerm, Output, Parameter, ParentJoin, RowSet, Sealed, Select};
use crate::value::{Datum, literal_to_json};

/// The name of the root field that does this to one row, or to many.
pub fn field_name(t: &Type, action: Action, many: bool) -> String {
    let name = if many { &t.list } else { &t.one };
    let mut letters = name.chars();
    let first = letters.next().map(|letter| letter.to_ascii_uppercase()).into_iter();
    format!("{}{}{}", action.word(), first.collect::<String>(), letters.as_str())
}

/// What may happen to a row that is there already, with the meaning of each word.
pub fn existing_words() -> [(&'static str, &'static str); 3] {
    [
        ("REFUSE", "The whole mutation is refused."),
        ("KEEP", "The row stays as it is, and is answered."),
        ("CHANGE", "The row is changed to the given fields."),
    ]
}

/// Makes the changes of a mutation.
///
/// # Errors
/// The first mistake in the values, with its place.
pub fn build_mutation(
    context: Context<'_>,
    document: &Arc<Document>,
    variables: &Variables,
) -> Result<Mutation, Problem> {
    let planner = Planner::new(context, document, variables);
    let collected = planner.collect([&document.operation.selection_set])?;
    let mut steps = planner.reads.steps();
    if collected.len() > context.limits.statements {
        let text = format!("over {} mutations in one operation; change in parts", context.limits.statements);
        return Err(Problem::new(Code::TooCostly, text));
    }
    let mut roots = Vec::new();
    let (mut rows, mut values) = (0, 0);
    let readable: Arc<[bool]> =
        (0..context.view.model().types.len()).map(|of| context.view.type_view(of).is_some()).collect();
    let mut written: Option<(SourceId, &str)> = None;
    for (key, fields) in collected {
        let location = document.location(fields[0].location());
        let mut changer = ChangePlanner {
            planner: Planner::new(context, document, variables),
            lookups: Vec::new(),
            known: HashMap::new(),
            checks: HashMap::new(),
            linked_values: HashMap::new(),
            visible: HashMap::new(),
            ends: Vec::new(),
            elsewhere: Vec::new(),
            fields: HashMap::new(),
            asked: HashSet::new(),
            linked: HashSet::new(),
            rows,
            values,
        };
        // What an operation costs to plan is one sum over its root fields.
        changer.planner.reads.resume(steps);
        let (act, shape) = changer.root(&fields).map_err(|problem| located(problem, location, key))?;
        if let Some((of, _)) = act {
            check_source(context.view.model(), &mut written, of, &fields[0].name)
                .map_err(|problem| located(problem, location, key))?;
        }
        (rows, values, steps) = (changer.rows, changer.values, changer.planner.reads.steps());
        let elsewhere =
            changer.ends_elsewhere(context, document, variables).map_err(|problem| located(problem, location, key))?;
        let ChangePlanner { planner, lookups, checks, linked_values: linked, visible, ends, fields, .. } = changer;
        let shape = ObjectShape { fields: vec![FieldShape::new(key, location, shape)] };
        let plan = Arc::new(planner.planned.into_plan(shape, context, document));
        let answer = plan.bind(variables, context.limits).map_err(|problem| located(problem, location, key))?;
        let readable = Arc::clone(&readable);
        let change = act.map(|(of, act)| Change {
            of,
            act,
            lookups,
            checks,
            linked,
            visible,
            ends,
            fields,
            readable,
            _sealed: Sealed,
        });
        roots.push(Root { key: key.to_owned(), location, change, elsewhere, answer, _sealed: Sealed });
    }
    let source = written.map_or(0, |(source, _)| source);
    Ok(Mutation { source, roots, most_changes: context.limits.changes })
}

/// All root fields write one source: what is all done or not done at all is so by one transaction.
fn check_source<'f>(
    model: &Model,
    written: &mut Option<(SourceId, &'f str)>,
    of: TypeId,
    field: &'f str,
) -> Result<(), Problem> {
    let source = model.types[of].source;
    let (first, other) = *written.get_or_insert((source, field));
    if first == source {
        return Ok(());
    }
    let name = |source: SourceId| &model.sources[source];
    let text = format!(
        "a mutation writes one source: `{other}` writes `{}`, and `{field}` writes `{}`; send them one after the other",
        name(first),
        name(source)
    );
    Err(Problem::new(Code::InvalidArgument, text))
}

/// Plans one root field.
pub(super) struct ChangePlanner<'a> {
    pub(super) planner: Planner<'a>,
    lookups: Vec<Lookup>,
    known: HashMap<String, LookupId>,
    checks: HashMap<(TypeId, bool), LookupId>,
    linked_values: HashMap<(TypeId, bool), Vec<LinkedValue>>,
    visible: HashMap<(TypeId, LinkId), Option<LookupId>>,
    pub(super) ends: Vec<WrittenEnd>,
    pub(super) elsewhere: Vec<WrittenElsewhere>,
    fields: HashMap<TypeId, Vec<Option<String>>>,
    /// What was asked for already: checks, and targets of links.
    asked: HashSet<(TypeId, bool)>,
    linked: HashSet<TypeId>,
    /// Rows and edges to be created so far.
    pub(super) rows: usize,
    /// Values to be written so far.
    pub(super) values: usize,
}

type Planned = (Option<(TypeId, Act)>, Value);

impl<'a> ChangePlanner<'a> {
    fn root(&mut self, fields: &[&'a Node<Field>]) -> Result<Planned, Problem> {
        let field = fields[0];
        let name = field.name.as_str();
        let view = self.planner.view;
        for (of, granted) in view.types() {
            let t = &view.model().types[of];
            for action in Action::WRITES {
                let Some(grant) = granted.write(action) else { continue };
                for many in [false, true] {
                    if field_name(t, action, many) == name {
                        let act = self.act(of, action, many, grant, field)?;
                        let shape = self.answer(of, many, fields)?;
                        return Ok((Some((of, act)), shape));
                    }
                }
            }
        }
        Ok((None, Value::Typename("Mutation".to_owned())))
    }

    fn act(
        &mut self,
        of: TypeId,
        action: Action,
        many: bool,
        grant: &WriteGrant,
        field: &'a Node<Field>,
    ) -> Result<Act, Problem> {
        match action {
            Action::Create => self.create(of, many, field),
            Action::Update => {
                let set = self.set(of, field)?;
                Ok(Act::Update { address: self.address(of, many, grant, field)?, set })
            }
            Action::Delete => {
                self.need_fields(of);
                Ok(Act::Delete { address: self.address(of, many, grant, field)? })
            }
            Action::Read => Err(Problem::new(Code::Internal, "reading is not a mutation")),
        }
    }

    fn create(&mut self, of: TypeId, many: bool, field: &'a Node<Field>) -> Result<Act, Problem> {
        let mut rows = if many {
            let inputs = self.json(field, "inputs")?.unwrap_or_default();
            let rows =
                items(&inputs).enumerate().map(|(at, input)| self.new_row(of, input, format!("inputs[{at}]"), &[]));
            rows.collect::<Result<Vec<_>, _>>()?
        } else {
            let input = self.json(field, "input")?.unwrap_or_default();
            vec![self.new_row(of, &input, "input".to_owned(), &[])?]
        };
        let existing = match self.json(field, "ifExists")?.as_deref() {
            None | Some(Json::Null) => None,
            Some(wanted) => self.existing(of, wanted)?,
        };
        if let Some(Existing { key, changes: true, .. }) = &existing {
            for row in &mut rows {
                let said = row.said().filter(|(column, _)| !key.contains(column)).cloned().collect();
                row.existing = self.change_of_existing(of, said)?;
            }
        }
        Ok(Act::Create { rows, existing })
    }

    fn existing(&mut self, of: TypeId, wanted: &Json) -> Result<Option<Existing>, Problem> {
        let view = self.planner.view;
        let changes = match wanted["act"].as_str() {
            Some("KEEP") => false,
            Some("CHANGE") => true,
            _ => return Ok(None),
        };
        let named = |key: &&crate::model::Key| Some(key.word().as_str()) == wanted["by"].as_str();
        let key = view
            .keys(of)
            .find(named)
            .ok_or_else(|| Problem::new(Code::InvalidArgument, "`ifExists.by` names no key of this type"))?;
        let update = view.type_view(of).and_then(|view| view.update.as_ref());
        let mut rules: Vec<Arc<Condition>> = view.rows(of).cloned().into_iter().collect();
        if changes {
            let grant = update.ok_or_else(|| {
                let text =
                    format!("the role `{}` may not change `{}`; use `KEEP`", view.role(), view.model().types[of].name);
                Problem::new(Code::NotPermitted, text)
            })?;
            rules.extend(grant.rows.clone());
            self.need_updated(of);
        }
        let outputs = locator(view.model(), of);
        let find = self.find(of, &key.columns, &outputs, &rules, true);
        Ok(Some(Existing { key: key.columns.clone(), changes, find }))
    }

    /// The rows that an update or a delete is about: visible, within the grant, and of the key or the filter.
    fn address(
        &mut self,
        of: TypeId,
        many: bool,
        grant: &WriteGrant,
        field: &'a Node<Field>,
    ) -> Result<Address, Problem> {
        let asked = if many {
            self.filtered(of, field)?
        } else {
            let key = self.planner.argument(field, "key");
            Some(self.planner.key_condition(of, key)?)
        };
        let asked = asked.map(|condition| Predicate { origin: Origin::Caller, condition: Arc::new(condition) });
        let revision = self.revision(field)?;
        let rules: Vec<Predicate> = grant.rows.iter().cloned().map(rule).collect();
        let is_narrow = !many && !rules.is_empty();
        let mut address = self.address_of(of, many, rules.into_iter().chain(asked.clone()));
        if revision.is_some() {
            address.revision_of = self.planner.revision_columns(of);
            address.outputs.extend(&address.revision_of);
            let more = address.revision_of.iter().map(|column| Output::Column(*column));
            address.select.output.extend(more);
        }
        let readable = is_narrow.then(|| Box::new(self.address_of(of, many, asked.into_iter())));
        Ok(Address { revision, readable, ..address })
    }

    /// The rows of a type that can be seen, and of which more is true.
    fn address_of(&mut self, of: TypeId, many: bool, more: impl Iterator<Item = Predicate>) -> Address {
        let model = self.planner.view.model();
        let seen = self.planner.seen(of, None);
        let mut predicates = seen.predicates;
        predicates.extend(more);
        let outputs = locator(model, of);
        let nulls_first = self.planner.capabilities(of).nulls_are_smallest;
        let key = model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        let order = key.into_iter().map(|column| OrderTerm {
            path: Path { hops: Vec::new(), column, masked: false },
            descending: false,
            nulls_first,
            nullable: false,
        });
        let most = if many { self.planner.limits.changes } else { 1 };
        let row_set = if many {
            let size =
                self.planner.parameter(Parameter::Constant(Datum::Integer(i64::try_from(most).unwrap_or(i64::MAX))));
            RowSet::Page { size, backward: false, skip: None, after: None, before: None }
        } else {
            RowSet::Single
        };
        let output = outputs.iter().map(|column| Output::Column(*column)).collect();
        let select = Select { predicates, output, order: order.collect(), row_set, peek: true, ..seen };
        Address { select, outputs, one: !many, most, revision: None, revision_of: Vec::new(), readable: None }
    }

    /// The revision that a row must have. Whoever says `ifUnchanged` means it: nothing instead of one is a mistake.
    fn revision(&self, field: &'a Node<Field>) -> Result<Option<String>, Problem> {
        const NAME: &str = "ifUnchanged";
        if field.specified_argument_by_name(NAME).is_none() {
            return Ok(None);
        }
        match self.json(field, NAME)?.as_deref() {
            Some(Json::String(text)) => Ok(Some(text.clone())),
            _ => {
                let text = "`ifUnchanged` is null or not set: nothing would be compared; give the row's `revision`, or \
                            leave the argument out to change the row whatever its revision is";
                Err(Problem::new(Code::InvalidArgument, text))
            }
        }
    }

    /// What a bulk change is limited to; none where it says that it means every row.
    fn filtered(&mut self, of: TypeId, field: &'a Node<Field>) -> Result<Option<Condition>, Problem> {
        let every = self.json(field, "everyRow")?.as_deref() == Some(&Json::Bool(true));
        let given = self.planner.argument(field, "filter");
        let filter = self.planner.reads.open(given.clone())?;
        let name = field.name.as_str();
        match (filter, every) {
            (Input::Absent | Input::Null, true) => Ok(None),
            (Input::Absent | Input::Null, false) => {
                let text = format!("`{name}` takes a `filter`; to mean all rows, say `everyRow: true`");
                Err(Problem::new(Code::InvalidArgument, text))
            }
            (_, true) => {
                let text = format!("`{name}` takes either a `filter` or `everyRow: true`, found both");
                Err(Problem::new(Code::InvalidArgument, text))
            }
            (filter, false) => {
                self.check_says_something(given, None)?;
                self.planner.filter(of, filter, &[], false, 1).map(Some)
            }
        }
    }

    /// In a mutation nothing of a filter may silently not be there, and nothing of it may say nothing.
    pub(super) fn check_says_something(&self, filter: Given<'a>, name: Option<&str>) -> Result<(), Problem> {
        let wrong = |text: String| Err(Problem::new(Code::InvalidArgument, text));
        let every = "to mean all rows, say `everyRow: true` instead of a `filter`";
        match self.planner.reads.open(filter)? {
            Input::Object(members) if members.is_empty() => wrong(format!("an empty object filters nothing; {every}")),
            Input::Object(members) if members.iter().all(|(word, _)| &**word == FilterWord::IgnoreCase.name()) => {
                // A field of this name has an object for its filter.
                let [(word, value)] = members.as_slice() else { return wrong(format!("nothing is compared; {every}")) };
                match self.planner.reads.open(value.clone())? {
                    Input::Leaf(_) => wrong(format!("`{word}` alone compares nothing; {every}")),
                    _ => self.check_says_something(value.clone(), Some(word)),
                }
            }
            Input::Object(members) => {
                members.into_iter().try_for_each(|(name, value)| self.check_says_something(value, Some(&name)))
            }
            Input::List(list) => {
                let items = self.planner.reads.items(list)?;
                if items.is_empty() {
                    let name = name.unwrap_or("list");
                    return wrong(format!("an empty `{name}` filters nothing or everything; leave it out"));
                }
                items.into_iter().try_for_each(|item| self.check_says_something(item, name))
            }
            Input::Absent => {
                let name = name.unwrap_or("filter");
                let text = "in a mutation's filter every member must be there";
                wrong(format!("the variable for `{name}` is not set; {text}"))
            }
            Input::Null | Input::Leaf(_) => Ok(()),
        }
    }

    /// What is answered: `count`, and the rows as they are now.
    fn answer(&mut self, of: TypeId, many: bool, fields: &[&'a Node<Field>]) -> Result<Value, Problem> {
        let planner = &mut self.planner;
        let model = planner.view.model();
        let key = model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        let given =
            |output: Vec<Output>| Select { output, row_set: RowSet::Supplied, ..Select::one(of, None, Vec::new()) };
        let rows = planner.add(given(key.iter().map(|column| Output::Column(*column)).collect()))?;
        let count = planner.add(given(vec![Output::Count]))?;
        debug_assert_eq!((rows, count), (GIVEN, COUNT));
        let collected = planner.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))?;
        let mut shape = ChangeShape { fields: Vec::new() };
        for (key_of_answer, fields) in collected {
            let location = planner.locate(fields[0]);
            let value = match fields[0].name.as_str() {
                "count" => ChangeField::Count,
                "__typename" => ChangeField::Typename(format!(
                    "{}{}",
                    model.types[of].helpers,
                    if many { "Changes" } else { "Change" }
                )),
                _ => {
                    let select = planner.add(planner.seen(of, Some(ParentJoin::given(&key))))?;
                    let object = planner.object(of, select, &fields, 1)?;
                    if many { ChangeField::Nodes { select, object } } else { ChangeField::Node { select, object } }
                }
            };
            shape.fields.push((FieldHead::new(key_of_answer, location), value));
        }
        Ok(Value::Change(shape))
    }

    /// A lookup of rows by key under conditions.
    pub(super) fn find(
        &mut self,
        of: TypeId,
        by: &[ColumnId],
        outputs: &[ColumnId],
        rules: &[Arc<Condition>],
        lock: bool,
    ) -> LookupId {
        let name = format!("{of} {by:?} {outputs:?} {lock} {rules:?}");
        if let Some(known) = self.known.get(&name) {
            return *known;
        }
        let rules = rules.iter().cloned().map(rule).collect();
        self.lookups.push(lookup(of, (by, outputs), rules, lock));
        self.known.insert(name, self.lookups.len() - 1);
        self.lookups.len() - 1
    }

    /// Errors may name what the caller may write.
    fn need_fields(&mut self, of: TypeId) {
        if self.fields.contains_key(&of) {
            return;
        }
        let view = self.planner.view;
        let granted = view.type_view(of);
        let grants: Vec<&WriteGrant> =
            granted.into_iter().flat_map(|granted| granted.create.iter().chain(&granted.update)).collect();
        let mut fields = vec![None; view.model().types[of].columns.len()];
        for (column, field) in grants.into_iter().flat_map(|grant| view.settable(of, grant)) {
            fields[column] = Some(field.to_owned());
        }
        self.fields.insert(of, fields);
    }

    /// What must be true of created rows will be asked.
    pub(super) fn need_created(&mut self, of: TypeId) {
        if !self.asked.insert((of, true)) {
            return;
        }
        let view = self.planner.view;
        let grant = view.type_view(of).and_then(|view| view.create.as_ref());
        let check = grant.and_then(|grant| grant.check.clone().or_else(|| view.rows(of).cloned()));
        self.need_check(of, true, check);
    }

    /// What must be true of updated rows will be asked.
    pub(super) fn need_updated(&mut self, of: TypeId) {
        if !self.asked.insert((of, false)) {
            return;
        }
        let grant = self.planner.view.type_view(of).and_then(|view| view.update.as_ref());
        let check = grant.and_then(|grant| grant.check.clone().or_else(|| grant.rows.clone()));
        self.need_check(of, false, check);
    }

    fn need_check(&mut self, of: TypeId, created: bool, check: Option<Arc<Condition>>) {
        self.need_fields(of);
        if let Some(check) = check {
            let key = self.planner.view.model().types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
            let lookup = self.find(of, &key, &[], &[check], false);
            self.checks.insert((of, created), lookup);
        }
    }

    /// What the grant fixes from linked rows will be taken from them.
    pub(super) fn need_linked(&mut self, of: TypeId, created: bool, grant: &WriteGrant) {
        if self.linked_values.contains_key(&(of, created)) {
            return;
        }
        let model = self.planner.view.model();
        let mut values = Vec::new();
        for (column, operand) in &grant.fixed {
            let Operand::Value(path) = operand else { continue };
            let link = |hop: &Hop| &model.types[hop.from].links[hop.link];
            let from = path.hops.first().map(|hop| link(hop).pairs.iter().map(|(own, _)| *own).collect());
            let way = path.hops.iter().enumerate().map(|(at, hop)| {
                let by: Vec<ColumnId> = link(hop).pairs.iter().map(|(_, target)| *target).collect();
                let outputs = match path.hops.get(at + 1) {
                    Some(next) => link(next).pairs.iter().map(|(own, _)| *own).collect(),
                    None => vec![path.column],
                };
                self.find(link(hop).target, &by, &outputs, &[], false)
            });
            values.push(LinkedValue { column: *column, way: way.collect(), from: from.unwrap_or_default() });
        }
        self.linked_values.insert((of, created), values);
    }

    /// Which targets the links of a type may be set to will be asked, where not all are visible; of a type that cannot be
    /// read, none is.
    pub(super) fn need_visible(&mut self, of: TypeId) {
        if !self.linked.insert(of) {
            return;
        }
        let view = self.planner.view;
        for (id, link) in view.model().types[of].links.iter().enumerate() {
            if link.cardinality != Cardinality::One || link.through.is_some() || link.crosses {
                continue;
            }
            let by: Vec<ColumnId> = link.pairs.iter().map(|(_, target)| *target).collect();
            match (view.type_view(link.target), view.rows(link.target)) {
                (None, _) => {
                    self.visible.insert((of, id), None);
                }
                (Some(_), Some(rule)) => {
                    let lookup = self.find(link.target, &by, &[], &[Arc::clone(rule)], false);
                    self.visible.insert((of, id), Some(lookup));
                }
                (Some(_), None) => {}
            }
        }
    }

    /// An argument's value with the variables put in; a member whose variable is not set is not there. A mutation's plan is
    /// made for one request: it may read all of it.
    pub(super) fn json(&self, field: &'a Node<Field>, name: &str) -> Result<Option<Cow<'a, Json>>, Problem> {
        let Some(value) = field.specified_argument_by_name(name) else { return Ok(None) };
        put_in(value, self.planner.reads.variables_of_one_request())
    }
}

fn put_in<'a>(value: &'a Node<Ast>, variables: &'a Variables) -> Result<Option<Cow<'a, Json>>, Problem> {
    Ok(match value.as_ref() {
        Ast::Variable(name) => variables.get(name).map(Cow::Borrowed),
        Ast::List(items) => {
            let items = items.iter().map(|item| {
                let put = put_in(item, variables)?.ok_or_else(|| {
                    let text = format!("the variable `{item}` in a list is not set; set it, or leave the item out");
                    Problem::new(Code::InvalidArgument, text)
                })?;
                Ok(put.into_owned())
            });
            Some(Cow::Owned(Json::Array(items.collect::<Result<_, Problem>>()?)))
        }
        Ast::Object(members) => {
            let mut object = serde_json::Map::new();
            for (name, value) in members {
                if let Some(value) = put_in(value, variables)? {
                    object.insert(name.to_string(), value.into_owned());
                }
            }
            Some(Cow::Owned(Json::Object(object)))
        }
        leaf => Some(Cow::Owned(literal_to_json(leaf))),
    })
}

fn rule(condition: Arc<Condition>) -> Predicate {
    Predicate { origin: Origin::Rule, condition }
}
