//! From a select to a command: which documents, in which order, which of them, and what is delivered of each.

use puente_core::access::Path;
use puente_core::model::{Column, ColumnId, FieldType, ItemsOf, Model, TypeId};
use puente_core::plan::{
    Function, GroupOrder, GroupTerm, GroupUnit, JoinTable, OrderTerm, Output, ParentJoin, RowSet, Seek, Select,
};
use puente_core::value::{Scalar, StorageFormat};

use super::condition::{Lowering, Scope};
use super::template::{Node, Slot, apply, apply_to, document};
use super::values::{Conversion, Delivered, Kind};

/// A select in the database's language.
#[derive(Debug)]
pub(super) struct Command {
    /// The collection whose documents are read.
    pub(super) collection: String,
    /// How they are found.
    pub(super) form: Form,
    /// The parameter that holds how many rows at most, and how many more: for none, nothing is asked.
    pub(super) most: Option<(usize, i64)>,
    /// Where in what comes back the outputs are.
    pub(super) reader: Reader,
}

/// How documents are found.
#[derive(Debug)]
pub(super) enum Form {
    /// By a filter alone.
    Find(Box<Find>),
    /// By stages.
    Stages(Vec<Node>),
    /// For each of some keys, by stages behind a lookup: documents come with their key's ordinal.
    Keyed { stages: Vec<Node>, keys: Vec<Conversion> },
}

/// A filter, and what it finds.
#[derive(Debug)]
pub(super) struct Find {
    pub(super) filter: Node,
    pub(super) projection: Node,
    pub(super) sort: Option<Node>,
    pub(super) limit: Option<Node>,
    pub(super) skip: Option<Node>,
}

/// The name of a key's ordinal, and of what is found for it.
pub(super) const ORDINAL: &str = "o";
/// The name of what is found for a key.
pub(super) const FOUND: &str = "r";

/// Where outputs are in documents, as a tree by the names of members.
#[derive(Debug, Default)]
pub(super) struct Reader {
    /// What is delivered.
    pub(super) outputs: Vec<Delivered>,
    /// The places, from a document on.
    pub(super) root: Branch,
}

/// The members of one document that lead to outputs.
#[derive(Debug, Default)]
pub(super) struct Branch {
    pub(super) members: Vec<(String, Branch)>,
    /// The outputs that the value here is.
    pub(super) outputs: Vec<usize>,
}

impl Reader {
    fn add(&mut self, path: &[String], delivered: Delivered) {
        let mut at = &mut self.root;
        for name in path {
            let known = at.members.iter().position(|(known, _)| known == name);
            let next = known.unwrap_or_else(|| {
                at.members.push((name.clone(), Branch::default()));
                at.members.len() - 1
            });
            at = &mut at.members[next].1;
        }
        at.outputs.push(self.outputs.len());
        self.outputs.push(delivered);
    }

    /// What has to be projected: each place once, and nothing inside of another.
    fn projection(&self) -> Vec<String> {
        fn collect(branch: &Branch, path: &str, into: &mut Vec<String>) {
            for (name, below) in &branch.members {
                let path = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
                if below.outputs.is_empty() {
                    collect(below, &path, into);
                } else {
                    into.push(path);
                }
            }
        }
        let mut paths = Vec::new();
        collect(&self.root, "", &mut paths);
        paths
    }
}

impl Command {
    /// How it is told to whoever may see statements.
    pub(super) fn text(&self) -> String {
        let mut out = self.collection.clone();
        let stages = match &self.form {
            Form::Find(find) => {
                let Find { filter, projection, sort, limit, skip } = &**find;
                out.push_str(".find(");
                filter.tell(&mut out);
                out.push_str(", ");
                projection.tell(&mut out);
                out.push(')');
                for (name, node) in [("sort", sort), ("skip", skip), ("limit", limit)] {
                    if let Some(node) = node {
                        out.push_str(&format!(".{name}("));
                        node.tell(&mut out);
                        out.push(')');
                    }
                }
                return out;
            }
            Form::Stages(stages) => stages,
            Form::Keyed { stages, .. } => {
                out = "(keys)".to_owned();
                stages
            }
        };
        out.push_str(".aggregate(");
        Node::List(stages.clone()).tell(&mut out);
        out.push(')');
        out
    }

    /// Limits it to as many rows as a parameter says, and some more.
    fn limit(&mut self, size: usize, more: i64) {
        let counted = Node::Bound(Slot::Count(size, more));
        match &mut self.form {
            Form::Find(find) => find.limit = Some(counted),
            Form::Stages(stages) | Form::Keyed { stages, .. } => {
                for stage in stages {
                    if let Node::Document(members) = stage
                        && members.first().is_some_and(|(name, _)| name == "$limit")
                    {
                        *stage = apply("$limit", counted.clone());
                    }
                }
            }
        }
        self.most = Some((size, more));
    }

    /// About how many bytes it holds in memory.
    pub(super) fn weight(&self) -> usize {
        const PER_OUTPUT: usize = 128;
        let nodes = match &self.form {
            Form::Find(find) => {
                let Find { filter, projection, sort, limit, skip } = &**find;
                let rest = [sort, limit, skip].into_iter().flatten().map(Node::weight).sum::<usize>();
                filter.weight() + projection.weight() + rest
            }
            Form::Stages(stages) | Form::Keyed { stages, .. } => stages.iter().map(Node::weight).sum(),
        };
        nodes + self.reader.outputs.len() * PER_OUTPUT
    }
}

/// The command of a select: for the keys of its parents' rows, if it has a parent.
pub(super) fn command(model: &Model, node: &Select) -> Command {
    let mut lowering = Lowering::new(model);
    let mut lowered = Selecting::new(&mut lowering, node);
    lowered.rows();
    lowered.finish()
}

/// The rows that a change is about: one more than it may touch, so that too many are seen.
pub(super) fn addressed(model: &Model, node: &Select) -> Command {
    let mut command = command(model, node);
    if let RowSet::Page { size, .. } = node.row_set
        && !node.peek
    {
        command.limit(size, 1);
    }
    command
}

/// What columns of a document are delivered as.
pub(super) fn reader(model: &Model, of: TypeId, columns: &[ColumnId]) -> Reader {
    let (lowering, mut reader) = (Lowering::new(model), Reader::default());
    for column in columns {
        let path: Vec<String> = lowering.path(of, *column).into_iter().map(str::to_owned).collect();
        reader.add(&path, delivered(model, of, *column, &model.types[of].columns[*column], false));
    }
    reader
}

/// A select that is being put into stages.
struct Selecting<'l, 'a, 'n> {
    lowering: &'l mut Lowering<'a>,
    node: &'n Select,
    scope: Scope,
    /// The join document, where there is one.
    join: Option<(TypeId, Scope)>,
    stages: Vec<Node>,
    reader: Reader,
    computed: Vec<(String, Node)>,
    /// The order of the rows, once it is known.
    sort: Vec<(String, Node)>,
}

impl<'l, 'a, 'n> Selecting<'l, 'a, 'n> {
    fn new(lowering: &'l mut Lowering<'a>, node: &'n Select) -> Self {
        let through = node.parent.as_ref().and_then(|parent| parent.through.as_ref());
        let (scope, join, stages) = match (through, lowering.model.types[node.of].items_of) {
            (Some(through), _) => joined(lowering, node, through),
            (None, Some(items)) => unwound(lowering, node, items),
            (None, None) => (Scope::document(node.of), None, Vec::new()),
        };
        Selecting {
            lowering,
            node,
            scope,
            join,
            stages,
            reader: Reader::default(),
            computed: Vec::new(),
            sort: Vec::new(),
        }
    }

    fn flush(&mut self) {
        self.stages.append(&mut self.scope.stages);
    }

    /// Which documents: rules first, then masks, then what callers say.
    fn rows(&mut self) {
        use puente_core::access::Origin;
        for origin in [Origin::Rule, Origin::Caller] {
            for predicate in self.node.predicates.iter().filter(|predicate| predicate.origin == origin) {
                let condition = self.lowering.filter(&mut self.scope, &predicate.condition, false);
                self.flush();
                self.stages.push(apply("$match", condition));
            }
            if origin == Origin::Rule {
                for (column, mask) in self.node.masks.iter() {
                    self.lowering.mask(&mut self.scope, *column, mask);
                }
                self.flush();
            }
        }
        match &self.node.row_set {
            RowSet::Page { after, before, backward, .. } => {
                let terms = self.order(*backward);
                self.flush();
                for (seek, is_before) in [(after, false), (before, true)] {
                    if let Some(seek) = seek {
                        let beyond = position(self.lowering.model, &terms, self.node, seek, is_before);
                        self.stages.push(apply("$match", beyond));
                    }
                }
                self.outputs();
            }
            RowSet::Single | RowSet::Supplied => self.outputs(),
            RowSet::Aggregate => self.summarised(&[]),
            RowSet::Groups { by, .. } => self.summarised(by),
        }
    }

    /// The fields that rows are ordered by, one per term; those that are not plain are computed.
    fn order(&mut self, backward: bool) -> Vec<String> {
        let mut terms = Vec::new();
        for term in &self.node.order {
            let (value, plain) = self.lowering.ordered(&mut self.scope, &term.path);
            self.flush();
            let field = plain.unwrap_or_else(|| {
                let field = self.lowering.name();
                self.stages.push(apply("$set", Node::Document(vec![(field.clone(), value)])));
                field
            });
            let descending = term.descending != backward;
            let nulls_first = term.nulls_first != backward;
            if term.nullable && nulls_first == descending {
                // The database has nulls at the other end.
                let nulls = self.lowering.name();
                let is_null =
                    apply_to("$eq", [apply_to("$ifNull", [format!("${field}").into(), Node::NULL]), Node::NULL]);
                self.stages.push(apply("$set", Node::Document(vec![(nulls.clone(), is_null)])));
                self.sort.push((nulls, direction(nulls_first)));
            }
            self.sort.push((field.clone(), direction(descending)));
            terms.push(field);
        }
        terms
    }

    fn outputs(&mut self) {
        for output in &self.node.output {
            let (path, delivered) = self.output(output);
            self.flush();
            self.reader.add(&path, delivered);
        }
    }

    fn compute(&mut self, value: Node) -> Vec<String> {
        let field = self.lowering.name();
        self.computed.push((field.clone(), value));
        vec![field]
    }

    fn output(&mut self, output: &Output) -> (Vec<String>, Delivered) {
        let (model, of) = (self.lowering.model, self.node.of);
        match output {
            Output::Column(column) | Output::Json(column) => {
                let path = self.lowering.source_of(&self.scope, *column, true);
                let c = &model.types[of].columns[*column];
                (path, delivered(model, of, *column, c, matches!(output, Output::Json(_))))
            }
            Output::Key(column) => {
                let key = self.lowering.column(&mut self.scope, *column);
                (self.compute(key), Delivered::Scalar(scalar_of(&model.types[of].columns[*column])))
            }
            Output::Type(column) => {
                let found = self.lowering.type_of(&mut self.scope, *column);
                (self.compute(found), Delivered::Type)
            }
            Output::Items(column, filter) => {
                let items = self.lowering.items(&mut self.scope, *column, &self.node.filtered_items[*filter]);
                let beside = Kind::of(model, of, *column);
                (self.compute(items), Delivered::Json(with_beside(model, &beside, of, *column, self.node, *filter)))
            }
            Output::Edge(column) => {
                let Some((join, scope)) = &self.join else { return (Vec::new(), Delivered::Scalar(Scalar::Json)) };
                let path = self.lowering.source_of(scope, *column, true);
                let c = &model.types[*join].columns[*column];
                (path, delivered(model, *join, *column, c, false))
            }
            Output::Order(term) => {
                let path = &self.node.order[*term].path;
                let (value, _) = self.lowering.ordered(&mut self.scope, path);
                let scalar = scalar_of(end_column(model, of, path));
                (self.compute(value), Delivered::Scalar(scalar))
            }
            Output::Count | Output::Summary(..) | Output::Group(_) => (Vec::new(), Delivered::Scalar(Scalar::Json)),
        }
    }

    /// One document of summaries, or one for each group.
    fn summarised(&mut self, by: &[GroupTerm]) {
        let (model, of) = (self.lowering.model, self.node.of);
        let mut group = Vec::new();
        let keys: Vec<(String, Node)> =
            by.iter().enumerate().map(|(at, term)| (format!("g{at}"), self.group_key(*term))).collect();
        self.flush();
        let id = if keys.is_empty() { Node::NULL } else { Node::Document(keys) };
        group.push(("_id".to_owned(), id));
        let mut values: Vec<(Output, String, Option<Node>)> = Vec::new();
        let ordered = match &self.node.row_set {
            RowSet::Groups { order, .. } => order.as_slice(),
            _ => &[],
        };
        let wanted = self.node.output.iter().chain(ordered.iter().map(|order| &order.value));
        for output in wanted {
            if values.iter().any(|(known, ..)| known == output) {
                continue;
            }
            let field = self.lowering.name();
            let result = match output {
                Output::Count => {
                    group.push((field.clone(), apply("$sum", 1_i64)));
                    None
                }
                Output::Summary(function, column) => {
                    let value = self.lowering.column(&mut self.scope, *column);
                    let scalar = scalar_of(&model.types[of].columns[*column]);
                    Some(summary(*function, scalar, value, &field, &mut group))
                }
                Output::Group(number) => Some(format!("$_id.g{number}").into()),
                _ => None,
            };
            values.push((output.clone(), field, result));
        }
        self.flush();
        self.stages.push(apply("$group", Node::Document(group)));
        let results: Vec<(String, Node)> =
            values.iter().filter_map(|(_, field, result)| Some((field.clone(), result.clone()?))).collect();
        if !results.is_empty() {
            self.stages.push(apply("$set", Node::Document(results)));
        }
        let field_of = |output: &Output| values.iter().find(|(known, ..)| known == output).map(|(_, field, _)| field);
        for term in ordered {
            let GroupOrder { value, descending, nulls_first } = term;
            let Some(field) = field_of(value) else { continue };
            if nulls_first == descending {
                let nulls = self.lowering.name();
                let is_null =
                    apply_to("$eq", [apply_to("$ifNull", [format!("${field}").into(), Node::NULL]), Node::NULL]);
                self.stages.push(apply("$set", Node::Document(vec![(nulls.clone(), is_null)])));
                self.sort.push((nulls, direction(*nulls_first)));
            }
            self.sort.push((field.clone(), direction(*descending)));
        }
        for output in &self.node.output {
            let scalar = self.node.scalar(model, self.reader.outputs.len());
            let scalar = match output {
                Output::Count => Scalar::BigInt,
                Output::Summary(Function::Avg, _) => Scalar::Float,
                Output::Summary(Function::Sum, column) => match scalar_of(&model.types[of].columns[*column]) {
                    Scalar::Int => Scalar::BigInt,
                    Scalar::BigInt => Scalar::Decimal,
                    other => other,
                },
                _ => scalar.unwrap_or(Scalar::String),
            };
            let path = field_of(output).cloned().into_iter().collect::<Vec<_>>();
            self.reader.add(&path, Delivered::Scalar(scalar));
        }
    }

    /// What makes a group, null where there is no such value.
    fn group_key(&mut self, term: GroupTerm) -> Node {
        let value = self.lowering.column(&mut self.scope, term.column);
        let column = &self.lowering.model.types[self.node.of].columns[term.column];
        let (length, rest, unit) = match term.unit {
            GroupUnit::Value => return value,
            GroupUnit::Day => (10, "", "day"),
            GroupUnit::Month => (7, "-01", "month"),
            GroupUnit::Year => (4, "-01-01", "year"),
        };
        if scalar_of(column) == Scalar::DateTime {
            return apply("$dateTrunc", document([("date", value), ("unit", unit.into())]));
        }
        let time = if scalar_of(column) == Scalar::LocalDateTime { "T00:00:00" } else { "" };
        let part = apply_to("$substrCP", [value.clone(), 0.into(), length.into()]);
        let text = apply_to("$concat", [part, format!("{rest}{time}").into()]);
        let is_there = apply_to("$eq", [apply("$type", value), "string".into()]);
        apply_to("$cond", [is_there, text, Node::NULL])
    }

    /// The command.
    fn finish(mut self) -> Command {
        let mut projection: Vec<(String, Node)> =
            self.reader.projection().into_iter().map(|path| (path, Node::from(1))).collect();
        projection.retain(|(path, _)| !self.computed.iter().any(|(field, _)| field == path));
        projection.append(&mut self.computed);
        if !projection.iter().any(|(path, _)| path == "_id" || path.starts_with("_id.")) {
            projection.push(("_id".to_owned(), 0.into()));
        }
        // A projection that only leaves the key out would keep the rest.
        if projection.len() == 1 && projection[0].1.is_zero() {
            projection = vec![("_id".to_owned(), 1.into())];
        }
        let (most, limit, skip) = match &self.node.row_set {
            RowSet::Aggregate => (None, None, None),
            RowSet::Single | RowSet::Supplied => (None, Some(Node::from(1_i64)), None),
            RowSet::Page { size, skip, .. } => {
                let more = i64::from(self.node.peek);
                (Some((*size, more)), Some(Node::Bound(Slot::Count(*size, more))), *skip)
            }
            RowSet::Groups { size, skip, .. } => (Some((*size, 0)), Some(Node::Bound(Slot::Count(*size, 0))), *skip),
        };
        let skip = skip.map(|skip| Node::Bound(Slot::Count(skip, 0)));
        let of = self.join.as_ref().map_or(self.lowering.model.table_of(self.node.of), |(join, _)| *join);
        let collection = self.lowering.model.types[of].relation.clone();
        let sort = (!self.sort.is_empty()).then(|| Node::Document(std::mem::take(&mut self.sort)));
        let is_group = matches!(self.node.row_set, RowSet::Aggregate | RowSet::Groups { .. });
        let is_found = self.node.parent.is_none() && !is_group;
        let filter = is_found.then(|| only_filter(&self.stages)).flatten();
        if let Some(filter) = filter {
            let find = Find { filter, projection: Node::Document(projection), sort, limit, skip };
            return Command { collection, form: Form::Find(Box::new(find)), most, reader: self.reader };
        }
        let mut stages = std::mem::take(&mut self.stages);
        stages.extend(sort.map(|sort| apply("$sort", sort)));
        stages.extend(skip.map(|skip| apply("$skip", skip)));
        stages.extend(limit.map(|limit| apply("$limit", limit)));
        stages.push(apply("$project", Node::Document(projection)));
        let Some(ParentJoin { pairs, .. }) = &self.node.parent else {
            return Command { collection, form: Form::Stages(stages), most, reader: self.reader };
        };
        let columns: Vec<ColumnId> = pairs.iter().map(|(_, column)| *column).collect();
        let own: Vec<(String, Option<Node>)> = (0..columns.len()).map(|at| (format!("k{at}"), None)).collect();
        let lookup = self.lowering.lookup_by(&own, of, &columns, FOUND, stages);
        let keys = columns.iter().map(|column| Conversion::compared(&self.lowering.model.types[of].columns[*column]));
        let stages = vec![
            lookup,
            apply("$unwind", format!("${FOUND}")),
            apply("$project", document([(ORDINAL, 1.into()), (FOUND, 1.into())])),
        ];
        Command { collection, form: Form::Keyed { stages, keys: keys.collect() }, most, reader: self.reader }
    }
}

/// The items of a list, each as a document that holds it.
fn unwound(lowering: &mut Lowering<'_>, node: &Select, items: ItemsOf) -> (Scope, Option<(TypeId, Scope)>, Vec<Node>) {
    let mut around = Scope::document(items.of);
    for (column, mask) in node.join_masks.iter() {
        lowering.mask(&mut around, *column, mask);
    }
    let list = lowering.column(&mut around, items.column);
    let mut stages = around.take_stages();
    let field = lowering.name();
    stages.push(apply("$set", Node::Document(vec![(field.clone(), list)])));
    stages.push(apply("$unwind", format!("${field}")));
    (Scope::part(node.of, &field), None, stages)
}

/// The documents of a join table, each with what it leads to.
fn joined(
    lowering: &mut Lowering<'_>,
    node: &Select,
    through: &JoinTable,
) -> (Scope, Option<(TypeId, Scope)>, Vec<Node>) {
    let mut join = Scope::document(through.of);
    let mut stages = Vec::new();
    if let Some(rule) = &node.join_rows {
        let condition = lowering.filter(&mut join, rule, false);
        stages.append(&mut join.stages);
        stages.push(apply("$match", condition));
    }
    for (column, mask) in node.join_masks.iter() {
        lowering.mask(&mut join, *column, mask);
    }
    stages.append(&mut join.stages);
    if through.repeats {
        // Each target once, whatever joins it.
        let linked = through.pairs.iter().map(|(column, _)| lowering.path(through.of, *column).join("."));
        let id = linked.enumerate().map(|(at, path)| (format!("k{at}"), Node::from(format!("${path}"))));
        let group = document([("_id", Node::Document(id.collect())), (ONE, apply("$first", "$$ROOT"))]);
        stages.push(apply("$group", group));
        stages.push(apply("$replaceRoot", document([("newRoot", format!("${ONE}").into())])));
    }
    let field = lowering.name();
    stages.push(lowering.lookup((through.of, ""), node.of, &through.pairs, &field, Vec::new()));
    stages.push(apply("$unwind", format!("${field}")));
    (Scope::part(node.of, &field), Some((through.of, join)), stages)
}

/// The name of one document of a group.
const ONE: &str = "one";

/// The filter, where stages are nothing but filters.
fn only_filter(stages: &[Node]) -> Option<Node> {
    let mut filters = Vec::new();
    for stage in stages {
        let Node::Document(members) = stage else { return None };
        match members.as_slice() {
            [(name, filter)] if name == "$match" => filters.push(filter.clone()),
            _ => return None,
        }
    }
    Some(match filters.len() {
        0 => Node::Document(Vec::new()),
        1 => filters.remove(0),
        _ => apply("$and", filters),
    })
}

fn direction(descending: bool) -> Node {
    Node::from(if descending { -1 } else { 1 })
}

/// The accumulators of a summary, and the expression of what it comes to. Nulls do not count; over nothing it is null.
fn summary(function: Function, scalar: Scalar, value: Node, field: &str, group: &mut Vec<(String, Node)>) -> Node {
    let (own, count) = (format!("${field}"), format!("{field}n"));
    match function {
        Function::Min | Function::Max => {
            let operator = if function == Function::Min { "$min" } else { "$max" };
            group.push((field.to_owned(), apply(operator, value)));
            apply_to("$ifNull", [own.into(), Node::NULL])
        }
        Function::Sum => {
            let one = apply_to("$cond", [apply("$isNumber", value.clone()), 1.into(), 0.into()]);
            group.push((count.clone(), apply("$sum", one)));
            // A sum of 64-bit numbers may be longer than one.
            let exact = matches!(scalar, Scalar::BigInt | Scalar::Decimal);
            let value = if exact { apply("$toDecimal", value) } else { value };
            group.push((field.to_owned(), apply("$sum", value)));
            apply_to("$cond", [apply_to("$gt", [format!("${count}").into(), 0.into()]), own.into(), Node::NULL])
        }
        Function::Avg => {
            group.push((field.to_owned(), apply("$avg", value)));
            apply("$toDouble", own)
        }
    }
}

/// The scalar that a column's values are, one by one.
fn scalar_of(column: &Column) -> Scalar {
    match column.kind {
        FieldType::Scalar(scalar) => scalar,
        FieldType::List(element) => element.scalar(),
        FieldType::Enum(_) => Scalar::String,
        FieldType::Object(_) | FieldType::Items(_) => Scalar::Json,
    }
}

/// The column that a path leads to.
fn end_column<'m>(model: &'m Model, of: TypeId, path: &Path) -> &'m Column {
    let of = path.hops.last().map_or(of, |hop| model.types[hop.from].links[hop.link].target);
    &model.types[of].columns[path.column]
}

/// How a column is delivered.
fn delivered(model: &Model, of: TypeId, id: ColumnId, column: &Column, whole: bool) -> Delivered {
    match (column.kind, column.form) {
        (FieldType::Object(_), _) if !whole => Delivered::IsObject,
        (_, StorageFormat::JsonValue) => Delivered::Json(Kind::of(model, of, id)),
        (FieldType::List(element), _) => Delivered::List(element.scalar()),
        _ => Delivered::Scalar(scalar_of(column)),
    }
}

/// The kind of a filtered list: where lists inside its items are filtered, too, each item comes as a list of itself and of those.
fn with_beside(model: &Model, list: &Kind, of: TypeId, column: ColumnId, node: &Select, filter: usize) -> Kind {
    fn kind(
        model: &Model,
        list: Kind,
        of: TypeId,
        column: ColumnId,
        filtered: &puente_core::plan::FilteredItems,
    ) -> Kind {
        let FieldType::Items(items) = model.types[of].columns[column].kind else { return list };
        if filtered.beside.is_empty() {
            return list;
        }
        let Kind::Items(item) = list else { return list };
        let beside = filtered
            .beside
            .iter()
            .map(|(column, filtered)| kind(model, Kind::of(model, items, *column), items, *column, filtered));
        Kind::Items(Box::new(Kind::Parts(std::iter::once(*item).chain(beside).collect())))
    }
    kind(model, list.clone(), of, column, &node.filtered_items[filter])
}

/// Rows strictly after (or before) a position, by the fields that they are ordered by: an OR-chain by direction and null pattern,
/// with a bound on the first term that an index can seek to.
fn position(model: &Model, fields: &[String], node: &Select, seek: &Seek, before: bool) -> Node {
    let mut chain: Option<Node> = None;
    for at in (0..node.order.len()).rev() {
        let (term, field) = (&node.order[at], &fields[at]);
        let conversion = Conversion::compared(end_column(model, node.of, &term.path));
        let bound = |operator: &str| {
            Node::Document(vec![(
                field.clone(),
                apply(operator, Node::Bound(Slot::Value(seek.parameters[at], conversion.clone()))),
            )])
        };
        let is_null = seek.nulls[at];
        let (beyond, operator) = beyond(field, term, is_null, before, &bound);
        chain = Some(match chain {
            None => beyond.unwrap_or_else(|| apply("$expr", false)),
            Some(rest) => {
                let equal = if is_null { is_null_filter(field, "$eq") } else { bound("$eq") };
                let tied = apply("$and", vec![equal, rest]);
                let either = match beyond {
                    Some(beyond) => apply("$or", vec![beyond, tied]),
                    None => tied,
                };
                match operator {
                    Some(operator) => apply("$and", vec![bound(&format!("{operator}e")), either]),
                    None => either,
                }
            }
        });
    }
    chain.unwrap_or_else(|| Node::Document(Vec::new()))
}

fn is_null_filter(field: &str, operator: &str) -> Node {
    Node::Document(vec![(field.to_owned(), apply(operator, Node::NULL))])
}

/// Values of one term strictly beyond a position's, and the operator of the bound that holds for those and for ties, where one
/// comparison says it.
fn beyond(
    field: &str,
    term: &OrderTerm,
    is_null: bool,
    before: bool,
    bound: &dyn Fn(&str) -> Node,
) -> (Option<Node>, Option<&'static str>) {
    let descending = term.descending != before;
    let nulls_first = term.nulls_first != before;
    if is_null {
        return (nulls_first.then(|| is_null_filter(field, "$ne")), None);
    }
    let operator = if descending { "$lt" } else { "$gt" };
    let strictly = bound(operator);
    if term.nullable && !nulls_first {
        return (Some(apply("$or", vec![strictly, is_null_filter(field, "$eq")])), None);
    }
    (Some(strictly), Some(operator))
}

#[cfg(test)]
mod tests {
    use super::super::values::{types_of, types_of_scalar};
    use super::*;

    #[test]
    fn every_scalar_that_is_compared_has_types() {
        for scalar in Scalar::ALL.iter().filter(|scalar| scalar.is_comparable()) {
            assert_eq!(types_of(FieldType::Scalar(*scalar)), types_of_scalar(*scalar));
            assert!(!types_of_scalar(*scalar).is_empty(), "{}", scalar.name());
        }
    }
}
