//! How the selects of one ask become statements: one per parent's row, one per level, or one for the whole ask.

use super::condition::Writer;
use super::select::{Clauses, Hang};
use super::{Dialect, Fragment, Slot, Statement, Technique};
use crate::model::Model;
use crate::plan::{Page, ParentJoin, Select, SelectId, witness};

/// The statements of one ask, by the technique that its source runs them with.
///
/// A row has its select's outputs, and then what is joined to it: for each joined child, in the order of their ids, the
/// child's own fields, and before them a mark where none of them tells whether there is one. A joined child has no
/// statement of its own.
#[derive(Debug)]
pub enum Program {
    /// A statement per select, by its id.
    PerParent(Vec<Statement>),
    /// A statement per select, by its id. Rows begin with their parent's ordinal, from 1, and come ordered by it; those of
    /// a root select do not. Where the engine is better served so, also a statement for one parent, of which a few are
    /// united to one.
    PerLevel(Vec<Statement>, Vec<Option<Statement>>),
    /// One statement for everything. Of one root select it gives the rows; of several, one row with a column per root:
    /// an array of records for a list, a record for a single row. Children that are not joined are such columns, too, in
    /// their place among the children.
    Whole(Statement),
}

/// To-one links that are joined to one select's rows at most: engines have limits, and planners lose heart before.
const MOST_JOINS: usize = 8;

/// Which selects are joined to their parent's rows: those of links to one, of which at most one row can be there.
pub fn joined(selects: &[Select]) -> Vec<bool> {
    let mut joined = vec![false; selects.len()];
    let mut joins = vec![0; selects.len()];
    for (id, select) in selects.iter().enumerate() {
        let Some(parent) = &select.parent else { continue };
        let mut base = parent.select;
        while joined[base] {
            let Some(above) = &selects[base].parent else { break };
            base = above.select;
        }
        let given = matches!(selects[base].page, Page::Given);
        if matches!(select.page, Page::One) && parent.through.is_none() && !given && joins[base] < MOST_JOINS {
            joins[base] += 1;
            joined[id] = true;
        }
    }
    joined
}

impl Program {
    /// The statements.
    pub fn statements(&self) -> &[Statement] {
        match self {
            Program::PerParent(statements) | Program::PerLevel(statements, _) => statements,
            Program::Whole(statement) => std::slice::from_ref(statement),
        }
    }
}

/// Compiles the selects of one ask. `constant` tells the value of a parameter that is the same for every request;
/// `by_level`, that the selects are asked level by level, whatever the engine does best.
pub fn compile(
    model: &Model,
    selects: &[Select],
    joined: &[bool],
    constant: &dyn Fn(usize) -> Option<i64>,
    dialect: &dyn Dialect,
    by_level: bool,
) -> Program {
    let compiler = Compiler { model, selects, joined, constant, dialect };
    match if by_level { Technique::PerLevel } else { dialect.technique(compiler.is_indexed()) } {
        Technique::PerParent => Program::PerParent(compiler.each(Compiler::per_parent)),
        Technique::PerLevel => Program::PerLevel(compiler.each(Compiler::per_level), compiler.united()),
        Technique::Whole => Program::Whole(compiler.whole()),
    }
}

struct Compiler<'a> {
    model: &'a Model,
    selects: &'a [Select],
    joined: &'a [bool],
    constant: &'a dyn Fn(usize) -> Option<i64>,
    dialect: &'a dyn Dialect,
}

impl Compiler<'_> {
    /// Does an index find the children of a parent, on every link of the ask?
    fn is_indexed(&self) -> bool {
        self.selects.iter().filter(|select| select.read).all(|select| self.finds(select))
    }

    /// Does an index find the rows of one parent?
    fn finds(&self, select: &Select) -> bool {
        let Some(ParentJoin { pairs, through, .. }) = &select.parent else { return true };
        let linked = &self.model.types[through.as_ref().map_or(select.of, |join| join.of)];
        let columns: Vec<usize> = pairs.iter().map(|(_, column)| *column).collect();
        linked.small || linked.is_indexed(&columns)
    }

    fn each(&self, compile: fn(&Self, &mut Writer<'_>, SelectId) -> Fragment) -> Vec<Statement> {
        let statement = |id: SelectId| {
            if self.joined[id] || matches!(self.selects[id].page, Page::Given) {
                return Statement { text: String::new(), slots: Vec::new() };
            }
            let mut writer = Writer::new(self.model, self.dialect);
            compile(self, &mut writer, id).finish(self.dialect)
        };
        (0..self.selects.len()).map(statement).collect()
    }

    fn per_parent(&self, writer: &mut Writer<'_>, id: SelectId) -> Fragment {
        let parent = self.selects[id].parent.as_ref().map(|parent| &self.selects[parent.select]);
        let mut clauses = Clauses::new(writer, &self.selects[id], Hang::Bound(parent));
        let output = list_or_one(self.fields(writer, &mut clauses, id, false));
        self.plain(writer, &mut clauses, output)
    }

    fn per_level(&self, writer: &mut Writer<'_>, id: SelectId) -> Fragment {
        let select = &self.selects[id];
        if select.parent.is_none() {
            return self.per_parent(writer, id);
        }
        let parent = select.parent.as_ref().map(|parent| &self.selects[parent.select]);
        let mut clauses = Clauses::new(writer, select, Hang::Keys(parent));
        let output = self.fields(writer, &mut clauses, id, false);
        match &select.page {
            Page::One | Page::Given => {
                let output = list_or_one(output);
                let rest = clauses.rows_and_conditions();
                Fragment::format("select k.o, {}{} order by k.o", [output, rest])
            }
            Page::Whole => {
                let output = list_or_one(output);
                let rest = clauses.rows_and_conditions();
                Fragment::format("select k.o, {}{} group by k.o order by k.o", [output, rest])
            }
            Page::Many { size, skip, .. } => self.ranked(writer, &mut clauses, output, page_slot(select, *size), *skip),
            Page::Groups { size, skip, .. } => self.ranked(writer, &mut clauses, output, Slot::Parameter(*size), *skip),
        }
    }

    /// A statement for one parent of each select whose children have a limit of their own and are found by an index.
    fn united(&self) -> Vec<Option<Statement>> {
        let one = |id: SelectId| {
            let select = &self.selects[id];
            let limited = matches!(select.page, Page::Many { .. } | Page::Groups { .. });
            let fits = limited && select.parent.is_some() && self.dialect.unites_few() && self.finds(select);
            fits.then(|| {
                let mut writer = Writer::new(self.model, self.dialect);
                let parent = select.parent.as_ref().map(|parent| &self.selects[parent.select]);
                let mut clauses = Clauses::new(&mut writer, select, Hang::Bound(parent));
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
                let passed = || self.dialect.limit(Slot::Parameter(skip), (self.constant)(skip));
                Fragment::format("p.n > {} and p.n <= {} + {}", [passed(), passed(), self.size(size)])
            }
        };
        let head = format!("select p.o, {} from ({{}}) as p where {{}} order by p.o, p.n", names.join(", "));
        Fragment::format(&head, [inner, first])
    }

    /// SELECT to LIMIT, with what is selected.
    fn plain(&self, writer: &mut Writer<'_>, clauses: &mut Clauses<'_>, output: Fragment) -> Fragment {
        let order = clauses.order_by(writer);
        let mut whole = Fragment::format("select {}{}", [output, clauses.rows_and_conditions()]);
        let groups = clauses.group_by(writer);
        if !groups.is_empty() {
            whole.append(Fragment::format(" group by {}", [Fragment::join(groups, ", ")]));
        }
        if !order.is_empty() {
            whole.append(Fragment::format(" order by {}", [Fragment::join(order, ", ")]));
        }
        let (limit, skip) = match &clauses.node.page {
            Page::Whole => return whole,
            Page::One | Page::Given => (Fragment::text("1"), None),
            Page::Many { size, skip, .. } => (self.size(page_slot(clauses.node, *size)), *skip),
            Page::Groups { size, skip, .. } => (self.size(Slot::Parameter(*size)), *skip),
        };
        whole.append(Fragment::format(" limit {}", [limit]));
        if let Some(skip) = skip {
            let skip = self.dialect.limit(Slot::Parameter(skip), (self.constant)(skip));
            whole.append(Fragment::format(" offset {}", [skip]));
        }
        whole
    }

    /// How many rows, bound or known.
    fn size(&self, slot: Slot) -> Fragment {
        let constant = match slot {
            Slot::PageSize(size) => (self.constant)(size).map(|size| size + 1),
            Slot::Parameter(size) => (self.constant)(size),
            _ => None,
        };
        self.dialect.limit(slot, constant)
    }

    fn whole(&self) -> Statement {
        let mut writer = Writer::new(self.model, self.dialect);
        let roots = (0..self.selects.len()).filter(|id| self.selects[*id].parent.is_none() && self.selects[*id].read);
        let roots: Vec<SelectId> = roots.collect();
        let whole = match roots.as_slice() {
            [only] => {
                let mut clauses = Clauses::new(&mut writer, &self.selects[*only], Hang::Bound(None));
                let fields = self.fields(&mut writer, &mut clauses, *only, true);
                self.plain(&mut writer, &mut clauses, list_or_one(fields))
            }
            several => {
                let columns = several.iter().map(|id| self.nested(&mut writer, *id, Hang::Bound(None))).collect();
                Fragment::format("select {}", [list_or_one(columns)])
            }
        };
        whole.finish(self.dialect)
    }

    /// A select as an expression: a record, or an array of records.
    fn nested(&self, writer: &mut Writer<'_>, id: SelectId, hang: Hang<'_>) -> Fragment {
        let select = &self.selects[id];
        let mut clauses = Clauses::new(writer, select, hang);
        let fields = self.fields(writer, &mut clauses, id, true);
        let record = Fragment::format("row({})", [Fragment::join(fields, ", ")]);
        let rows = self.plain(writer, &mut clauses, record);
        match select.page {
            Page::One | Page::Given | Page::Whole => Fragment::format("({})", [rows]),
            Page::Many { .. } | Page::Groups { .. } => Fragment::format("array({})", [rows]),
        }
    }

    /// The fields of a select's rows: its outputs and its children. Joined children are joined to `clauses`, the others
    /// are left out, or nested as expressions.
    fn fields(&self, writer: &mut Writer<'_>, clauses: &mut Clauses<'_>, id: SelectId, nest: bool) -> Vec<Fragment> {
        let mut fields = clauses.output(writer);
        let alias = clauses.scope.alias.clone();
        self.add_children(writer, clauses, (id, &alias, nest), &mut fields);
        fields
    }

    fn add_children(
        &self,
        writer: &mut Writer<'_>,
        clauses: &mut Clauses<'_>,
        (id, alias, nest): (SelectId, &str, bool),
        fields: &mut Vec<Fragment>,
    ) {
        let children = self
            .selects
            .iter()
            .enumerate()
            .filter(|(_, child)| child.read && child.parent.as_ref().is_some_and(|parent| parent.select == id));
        for (child_id, child) in children {
            let hang = Hang::Row(alias, &self.selects[id]);
            if self.joined[child_id] {
                let mut joined = Clauses::new(writer, child, hang);
                let output = joined.output(writer);
                clauses.join(&joined);
                if witness(self.model, child).is_none() {
                    fields.push(joined.mark(writer));
                }
                fields.extend(output);
                let alias = joined.scope.alias.clone();
                self.add_children(writer, clauses, (child_id, &alias, nest), fields);
            } else if nest {
                fields.push(self.nested(writer, child_id, hang));
            }
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
