//! How the selects of one request become statements: one per parent's row, one per level, or one for the whole request.

use super::far_side::Root;
use super::from::Writer;
use super::select::{Clauses, Correlation};
use super::{Dialect, Fragment, Slot, Statement, Strategy};
use puente_core::model::{ColumnId, Model, SourceId};
use puente_core::plan::{ParentJoin, Plan, RowSet, Select, SelectId, presence_column};

/// The statements of one request, by the strategy that its source runs them with.
///
/// A row has its select's outputs, and then what is joined to it: for each joined child, in the order of their ids, the
/// child's own fields, and before them a mark where none of them tells whether there is one. A joined child has no
/// statement of its own.
#[derive(Debug)]
pub enum Program {
    /// A statement per select, by its id.
    NestedLoop(Vec<Statement>),
    /// A statement per select, by its id. Rows begin with their parent's ordinal, from 1, and come ordered by it; those of
    /// a root select do not. Where the engine is better served so, also a statement for one parent, of which a few are
    /// united to one.
    Batched(Vec<Statement>, Vec<Option<Statement>>),
    /// One statement for everything. Of one root select it gives the rows; of several, one row with a column per root:
    /// an array of records for a list, a record for a single row. Children that are not joined are such columns, too, behind
    /// those of the row itself.
    SingleStatement(Statement, NestedFields),
}

impl Program {
    /// The statements.
    pub fn statements(&self) -> &[Statement] {
        match self {
            Program::NestedLoop(statements) | Program::Batched(statements, _) => statements,
            Program::SingleStatement(statement, _) => std::slice::from_ref(statement),
        }
    }
}

/// Compiles the selects of a plan that read rows of one source. Those of a plan over several are read level by level.
pub fn compile(plan: &Plan, dialect: &dyn Dialect, source: SourceId) -> Program {
    let compiler = Compiler { plan, model: plan.model(), selects: plan.selects(), dialect, source };
    if plan.is_split() {
        return Program::Batched(compiler.each(Compiler::batched), compiler.union_per_parent());
    }
    match dialect.strategy(compiler.is_indexed()) {
        Strategy::NestedLoop => Program::NestedLoop(compiler.each(Compiler::nested_loop)),
        Strategy::Batched => Program::Batched(compiler.each(Compiler::batched), compiler.union_per_parent()),
        Strategy::SingleStatement => Program::SingleStatement(compiler.single_statement(), NestedFields::new(plan)),
    }
}

/// The statement of one select for all of its parents' rows, each with its parent's ordinal before it.
pub fn level(plan: &Plan, dialect: &dyn Dialect, select: SelectId) -> Statement {
    let source = plan.source_of(select);
    let compiler = Compiler { plan, model: plan.model(), selects: plan.selects(), dialect, source };
    let mut writer = Writer::new(compiler.model, dialect);
    compiler.batched(&mut writer, select).finish(dialect)
}

/// Where in its parent's row a child that is not joined has its field, in the statement for a whole request: behind all that
/// belongs to the row itself.
#[derive(Debug)]
pub struct NestedFields {
    places: Vec<usize>,
    widths: Vec<usize>,
}

impl NestedFields {
    fn new(plan: &Plan) -> Self {
        let count = plan.selects().len();
        let mut nested = NestedFields { places: vec![0; count], widths: Vec::with_capacity(count) };
        for select in 0..count {
            let mut width = plan.row_width(select);
            if !plan.is_joined(select) {
                let own = if plan.has_fields(select) { width } else { 0 };
                let children = nested_children(plan, select);
                for (at, (child, first)) in children.iter().enumerate() {
                    nested.places[*child] = own + at - first;
                }
                width = (own + children.len()).max(1);
            }
            nested.widths.push(width);
        }
        nested
    }

    /// Where a child's field is, counted from where its parent's own fields begin.
    pub fn place(&self, child: SelectId) -> usize {
        self.places[child]
    }

    /// How many fields a select's row has.
    pub fn row_width(&self, select: SelectId) -> usize {
        self.widths[select]
    }
}

/// The children that hang on a select's rows, or on rows that are joined to them, without being joined themselves; each with
/// where in the row its parent's fields begin.
fn nested_children(plan: &Plan, base: SelectId) -> Vec<(SelectId, usize)> {
    let mut firsts = vec![(base, 0)];
    let mut children = Vec::new();
    let mut at = 0;
    while let Some((parent, first)) = firsts.get(at).copied() {
        at += 1;
        for child in plan.children(parent) {
            if plan.is_joined(child) {
                firsts.push((child, first + plan.first_field(child)));
            } else {
                children.push((child, first));
            }
        }
    }
    children.sort_unstable();
    children
}

struct Compiler<'a> {
    plan: &'a Plan,
    model: &'a Model,
    selects: &'a [Select],
    dialect: &'a dyn Dialect,
    /// The source whose selects become statements.
    source: SourceId,
}

impl Compiler<'_> {
    /// The parent of a select, where it is in the same source: from another one come keys, in the form in which this one stores
    /// them.
    fn parent(&self, id: SelectId) -> Option<&Select> {
        let parent = self.selects[id].parent.as_ref().filter(|_| !self.plan.crosses(id))?;
        Some(&self.selects[parent.select])
    }

    /// Does an index find the children of a parent, on every link of the request?
    fn is_indexed(&self) -> bool {
        self.selects.iter().filter(|select| select.read).all(|select| self.finds(select))
    }

    /// Does an index find the rows of one parent?
    fn finds(&self, select: &Select) -> bool {
        let Some(ParentJoin { pairs, through, .. }) = &select.parent else { return true };
        let linked = &self.model.types[through.as_ref().map_or(select.of, |join| join.of)];
        let columns: Vec<usize> = pairs.iter().map(|(_, column)| *column).collect();
        linked.is_small() || linked.is_indexed(&columns)
    }

    fn each(&self, compile: fn(&Self, &mut Writer<'_>, SelectId) -> Fragment) -> Vec<Statement> {
        let statement = |id: SelectId| {
            let is_other = self.plan.source_of(id) != self.source;
            if is_other || self.plan.is_joined(id) || matches!(self.selects[id].row_set, RowSet::Supplied) {
                return Statement { text: String::new(), slots: Vec::new() };
            }
            let mut writer = Writer::new(self.model, self.dialect);
            compile(self, &mut writer, id).finish(self.dialect)
        };
        (0..self.selects.len()).map(statement).collect()
    }

    fn nested_loop(&self, writer: &mut Writer<'_>, id: SelectId) -> Fragment {
        if self.selects[id].parent.is_none() {
            return self.root(writer, id);
        }
        let parent = self.selects[id].parent.as_ref().map(|parent| &self.selects[parent.select]);
        let mut clauses = Clauses::new(writer, &self.selects[id], Correlation::Bound(parent));
        let output = list_or_one(self.fields(writer, &mut clauses, id, false));
        self.plain(writer, &mut clauses, output)
    }

    fn root(&self, writer: &mut Writer<'_>, id: SelectId) -> Fragment {
        let limited =
            |writer: &mut Writer<'_>, clauses: &mut Clauses<'_>, output: Fragment| self.plain(writer, clauses, output);
        let mut root = Root::new(writer, &self.selects[id], &limited);
        let output = list_or_one(self.fields(writer, &mut root.clauses, id, false));
        root.whole(writer, output)
    }

    fn batched(&self, writer: &mut Writer<'_>, id: SelectId) -> Fragment {
        let select = &self.selects[id];
        if select.parent.is_none() {
            return self.nested_loop(writer, id);
        }
        if let Some(key) = self.limited_key(select) {
            return self.found(writer, id, key);
        }
        let mut clauses = Clauses::new(writer, select, Correlation::Keys(self.parent(id)));
        let output = self.fields(writer, &mut clauses, id, false);
        match &select.row_set {
            RowSet::Single | RowSet::Supplied => {
                let output = list_or_one(output);
                let rest = clauses.rows_and_conditions();
                Fragment::format("select k.o, {}{} order by k.o", [output, rest])
            }
            RowSet::Aggregate => {
                let output = list_or_one(output);
                let rest = clauses.rows_and_conditions();
                Fragment::format("select k.o, {}{} group by k.o order by k.o", [output, rest])
            }
            RowSet::Page { size, skip, .. } => {
                self.ranked(writer, &mut clauses, output, page_slot(select, *size), *skip)
            }
            RowSet::Groups { size, skip, .. } => {
                self.ranked(writer, &mut clauses, output, Slot::Parameter(*size), *skip)
            }
        }
    }

    /// The key by which the first rows of every parent are found, where that is better than to number all of them.
    fn limited_key(&self, select: &Select) -> Option<&[ColumnId]> {
        let is_plain = select.parent.as_ref().is_some_and(|parent| parent.through.is_none());
        let is_page = is_plain && matches!(select.row_set, RowSet::Page { .. });
        let key = self.model.types[select.of].row_key().filter(|key| !key.promised)?;
        (is_page && self.dialect.limits_keys() && self.finds(select)).then_some(key.columns.as_slice())
    }

    /// The first rows of every parent: a subquery finds their keys.
    fn found(&self, writer: &mut Writer<'_>, id: SelectId, key: &[ColumnId]) -> Fragment {
        let select = &self.selects[id];
        let mut inner = Clauses::new(writer, select, Correlation::KeyRow);
        let alias = inner.scope.alias.clone();
        let columns: Vec<String> = key.iter().map(|column| writer.column(select.of, *column, &alias)).collect();
        let finds = self.plain(writer, &mut inner, Fragment::text(columns.join(", ")));
        let mut clauses = Clauses::found(writer, select, key, finds);
        let output = list_or_one(self.fields(writer, &mut clauses, id, false));
        let order: Vec<Fragment> = std::iter::once(Fragment::text("k.o")).chain(clauses.order_by(writer)).collect();
        let rows = clauses.rows_and_conditions();
        Fragment::format("select k.o, {}{} order by {}", [output, rows, Fragment::join(order, ", ")])
    }

    /// A statement for one parent of each select whose children have a limit of their own and are found by an index.
    fn union_per_parent(&self) -> Vec<Option<Statement>> {
        let one = |id: SelectId| {
            let select = &self.selects[id];
            let is_here = self.plan.source_of(id) == self.source;
            let limited = is_here && matches!(select.row_set, RowSet::Page { .. } | RowSet::Groups { .. });
            let fits = limited && select.parent.is_some() && self.dialect.prefers_union() && self.finds(select);
            fits.then(|| {
                let mut writer = Writer::new(self.model, self.dialect);
                // Whichever source the parent is in, its values are bound one by one.
                let parent = select.parent.as_ref().map(|parent| &self.selects[parent.select]);
                let mut clauses = Clauses::new(&mut writer, select, Correlation::Bound(parent));
                let output = list_or_one(self.fields(&mut writer, &mut clauses, id, false));
                let output = Fragment::format("{} as o, {}", [Fragment::bound(Slot::Ordinal), output]);
                self.plain(&mut writer, &mut clauses, output).finish(self.dialect)
            })
        };
        (0..self.selects.len()).map(one).collect()
    }

    /// The first rows of every parent, in one pass: rows are numbered within their parent, and cut off by number.
    fn ranked(
        &self,
        writer: &mut Writer<'_>,
        clauses: &mut Clauses<'_>,
        output: Vec<Fragment>,
        size: Slot,
        skip: Option<usize>,
    ) -> Fragment {
        let order = clauses.order_by(writer);
        let order = if order.is_empty() {
            Fragment::default()
        } else {
            Fragment::format(" order by {}", [Fragment::join(order, ", ")])
        };
        let names: Vec<String> = (0..output.len().max(1)).map(|at| format!("p.c{at}")).collect();
        let output = if output.is_empty() { vec![Fragment::text("1")] } else { output };
        let named = output
            .into_iter()
            .enumerate()
            .map(|(at, output)| Fragment::join([output, Fragment::text(format!("c{at}"))], " as "));
        let mut inner = Fragment::format(
            "select k.o as o, row_number() over (partition by k.o{}) as n, {}{}",
            [order, Fragment::join(named, ", "), clauses.rows_and_conditions()],
        );
        let groups = clauses.group_by(writer);
        if !groups.is_empty() {
            inner.append(Fragment::format(" group by k.o, {}", [Fragment::join(groups, ", ")]));
        }
        let first = match skip {
            None => Fragment::format("p.n <= {}", [self.size(size)]),
            Some(skip) => {
                let passed = || self.dialect.limit(Slot::Parameter(skip), self.plan.constant(skip));
                Fragment::format("p.n > {} and p.n <= {} + {}", [passed(), passed(), self.size(size)])
            }
        };
        Fragment::format(
            "select p.o, {} from ({}) as p where {} order by p.o, p.n",
            [Fragment::text(names.join(", ")), inner, first],
        )
    }

    /// SELECT to LIMIT, with what is selected.
    fn plain(&self, writer: &mut Writer<'_>, clauses: &mut Clauses<'_>, output: Fragment) -> Fragment {
        let mut whole = clauses.in_order(writer, output);
        let (limit, skip) = match &clauses.node.row_set {
            RowSet::Aggregate => return whole,
            RowSet::Single | RowSet::Supplied => (Fragment::text("1"), None),
            RowSet::Page { size, skip, .. } => (self.size(page_slot(clauses.node, *size)), *skip),
            RowSet::Groups { size, skip, .. } => (self.size(Slot::Parameter(*size)), *skip),
        };
        whole.append(clauses.limit(limit));
        if let Some(skip) = skip {
            let skip = self.dialect.limit(Slot::Parameter(skip), self.plan.constant(skip));
            whole.append(Fragment::format(" offset {}", [skip]));
        }
        whole
    }

    /// How many rows, bound or known.
    fn size(&self, slot: Slot) -> Fragment {
        let constant = match slot {
            Slot::PageSize(size) => self.plan.constant(size).map(|size| size + 1),
            Slot::Parameter(size) => self.plan.constant(size),
            _ => None,
        };
        self.dialect.limit(slot, constant)
    }

    fn single_statement(&self) -> Statement {
        let mut writer = Writer::new(self.model, self.dialect);
        let roots = (0..self.selects.len()).filter(|id| self.selects[*id].parent.is_none() && self.selects[*id].read);
        let roots: Vec<SelectId> = roots.collect();
        let whole = match roots.as_slice() {
            [only] => {
                let mut clauses = Clauses::new(&mut writer, &self.selects[*only], Correlation::Bound(None));
                let fields = self.fields(&mut writer, &mut clauses, *only, true);
                self.plain(&mut writer, &mut clauses, list_or_one(fields))
            }
            several => {
                let columns =
                    several.iter().map(|id| self.nested(&mut writer, *id, Correlation::Bound(None))).collect();
                Fragment::format("select {}", [list_or_one(columns)])
            }
        };
        whole.finish(self.dialect)
    }

    /// A select as an expression: a record, or an array of records.
    fn nested(&self, writer: &mut Writer<'_>, id: SelectId, correlation: Correlation<'_>) -> Fragment {
        let select = &self.selects[id];
        let mut clauses = Clauses::new(writer, select, correlation);
        let fields = self.fields(writer, &mut clauses, id, true);
        let record = Fragment::format("row({})", [Fragment::join(fields, ", ")]);
        let rows = self.plain(writer, &mut clauses, record);
        match select.row_set {
            RowSet::Single | RowSet::Supplied | RowSet::Aggregate => Fragment::format("({})", [rows]),
            RowSet::Page { .. } | RowSet::Groups { .. } => Fragment::format("array({})", [rows]),
        }
    }

    /// The fields of a select's rows: its outputs and those of joined children, which are joined to `clauses`. Other children
    /// are left out, or nested as expressions behind them.
    fn fields(&self, writer: &mut Writer<'_>, clauses: &mut Clauses<'_>, id: SelectId, nest: bool) -> Vec<Fragment> {
        let mut fields = clauses.output(writer);
        let mut aliases = vec![(id, clauses.scope.alias.clone())];
        self.add_joined(writer, clauses, id, &mut aliases, &mut fields);
        if nest {
            for (child, _) in nested_children(self.plan, id) {
                let parent = self.selects[child].parent.as_ref().map_or(id, |parent| parent.select);
                if let Some((_, alias)) = aliases.iter().find(|(known, _)| *known == parent) {
                    fields.push(self.nested(writer, child, Correlation::Row(alias, &self.selects[parent])));
                }
            }
        }
        fields
    }

    fn add_joined(
        &self,
        writer: &mut Writer<'_>,
        clauses: &mut Clauses<'_>,
        parent: SelectId,
        aliases: &mut Vec<(SelectId, String)>,
        fields: &mut Vec<Fragment>,
    ) {
        let alias = aliases.last().map(|(_, alias)| alias.clone()).unwrap_or_default();
        for child in self.plan.children(parent).filter(|child| self.plan.is_joined(*child)) {
            let correlation = Correlation::Row(&alias, &self.selects[parent]);
            let mut joined = Clauses::new(writer, &self.selects[child], correlation);
            let output = joined.output(writer);
            clauses.join(&joined);
            if presence_column(self.model, &self.selects[child]).is_none() {
                fields.push(joined.mark(writer));
            }
            fields.extend(output);
            aliases.push((child, joined.scope.alias.clone()));
            self.add_joined(writer, clauses, child, aliases, fields);
        }
    }
}

/// A page's size, with one more row where the answer tells whether there are more.
fn page_slot(select: &Select, size: usize) -> Slot {
    if select.peek { Slot::PageSize(size) } else { Slot::Parameter(size) }
}

fn list_or_one(parts: Vec<Fragment>) -> Fragment {
    if parts.is_empty() { Fragment::text("1") } else { Fragment::join(parts, ", ") }
}
