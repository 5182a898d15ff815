//! How the selects of one ask become statements: one per parent's row, one per level, or one for the whole ask.

use super::condition::Writer;
use super::select::{Clauses, Hang};
use super::{Dialect, Fragment, Slot, Statement, Technique};
use crate::model::Model;
use crate::plan::{Page, ParentJoin, Select, SelectId};

/// The statements of one ask, by the technique that its source runs them with.
#[derive(Debug)]
pub enum Program {
    /// A statement per select, by its id. Rows carry the select's outputs.
    PerParent(Vec<Statement>),
    /// A statement per select, by its id. Rows carry their parent's ordinal, from 1, and then the select's outputs; they
    /// come ordered by the ordinal. Of a root select the ordinal is left out.
    PerLevel(Vec<Statement>),
    /// One statement for everything. Of one root select it gives the rows; of several, one row with a column per root:
    /// an array of records for a list, a record for a single row.
    ///
    /// A row or record has the select's outputs, and then its children in the order of their ids: a joined child as a
    /// mark of whether there is one and then its own fields, any other as a record or an array of records.
    Whole(Statement),
}

/// Is a select's row joined to its parent's row, where the whole ask is one statement? At most one row can be there.
pub fn is_joined(select: &Select) -> bool {
    matches!(select.page, Page::One) && select.parent.as_ref().is_some_and(|parent| parent.through.is_none())
}

impl Program {
    /// The statements.
    pub fn statements(&self) -> &[Statement] {
        match self {
            Program::PerParent(statements) | Program::PerLevel(statements) => statements,
            Program::Whole(statement) => std::slice::from_ref(statement),
        }
    }
}

/// Compiles the selects of one ask. `constant` tells the value of a parameter that is the same for every request.
pub fn compile(
    model: &Model,
    selects: &[Select],
    constant: &dyn Fn(usize) -> Option<i64>,
    dialect: &dyn Dialect,
) -> Program {
    let compiler = Compiler { model, selects, constant, dialect };
    match dialect.technique(compiler.is_indexed()) {
        Technique::PerParent => Program::PerParent(compiler.each(Compiler::per_parent)),
        Technique::PerLevel => Program::PerLevel(compiler.each(Compiler::per_level)),
        Technique::Whole => Program::Whole(compiler.whole()),
    }
}

struct Compiler<'a> {
    model: &'a Model,
    selects: &'a [Select],
    constant: &'a dyn Fn(usize) -> Option<i64>,
    dialect: &'a dyn Dialect,
}

impl Compiler<'_> {
    /// Does an index find the children of a parent, on every link of the ask?
    fn is_indexed(&self) -> bool {
        self.selects.iter().filter(|select| select.read).all(|select| {
            let Some(ParentJoin { pairs, through, .. }) = &select.parent else { return true };
            let linked = &self.model.types[through.as_ref().map_or(select.of, |(join, _)| *join)];
            let columns: Vec<usize> = pairs.iter().map(|(_, column)| *column).collect();
            linked.small || linked.is_indexed(&columns)
        })
    }

    fn each(&self, compile: fn(&Self, &mut Writer<'_>, &Select) -> Fragment) -> Vec<Statement> {
        let statement = |select: &Select| {
            let mut writer = Writer::new(self.model, self.dialect);
            compile(self, &mut writer, select).finish(self.dialect)
        };
        self.selects.iter().map(statement).collect()
    }

    fn per_parent(&self, writer: &mut Writer<'_>, select: &Select) -> Fragment {
        let mut clauses = Clauses::new(writer, select, Hang::Bound);
        let output = list_or_one(clauses.output(writer));
        self.plain(writer, &mut clauses, output)
    }

    fn per_level(&self, writer: &mut Writer<'_>, select: &Select) -> Fragment {
        if select.parent.is_none() {
            return self.per_parent(writer, select);
        }
        let mut clauses = Clauses::new(writer, select, Hang::Keys);
        let output = clauses.output(writer);
        match &select.page {
            Page::One => {
                let output = list_or_one(output);
                let rest = clauses.rows_and_conditions();
                Fragment::format("select k.o, {}{} order by k.o", [output, rest])
            }
            Page::Whole => {
                let output = list_or_one(output);
                let rest = clauses.rows_and_conditions();
                Fragment::format("select k.o, {}{} group by k.o order by k.o", [output, rest])
            }
            Page::Many { size, offset, .. } => {
                self.ranked(writer, &mut clauses, output, Slot::PageSize(*size), *offset)
            }
            Page::Groups { size, offset, .. } => {
                self.ranked(writer, &mut clauses, output, Slot::Parameter(*size), *offset)
            }
        }
    }

    /// The first rows of every parent, in one pass: rows are numbered within their parent, and cut off by number.
    fn ranked(
        &self,
        writer: &mut Writer<'_>,
        clauses: &mut Clauses<'_>,
        output: Vec<Fragment>,
        size: Slot,
        offset: Option<usize>,
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
        let first = match offset {
            None => Fragment::format("p.n <= {}", [self.size(size)]),
            Some(offset) => {
                let passed = || self.dialect.limit(Slot::Parameter(offset), (self.constant)(offset));
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
        let (limit, offset) = match &clauses.node.page {
            Page::Whole => return whole,
            Page::One => (Fragment::text("1"), None),
            Page::Many { size, offset, .. } => (self.size(Slot::PageSize(*size)), *offset),
            Page::Groups { size, offset, .. } => (self.size(Slot::Parameter(*size)), *offset),
        };
        whole.append(Fragment::format(" limit {}", [limit]));
        if let Some(offset) = offset {
            let offset = self.dialect.limit(Slot::Parameter(offset), (self.constant)(offset));
            whole.append(Fragment::format(" offset {}", [offset]));
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
                let mut clauses = Clauses::new(&mut writer, &self.selects[*only], Hang::Bound);
                let fields = self.fields(&mut writer, &mut clauses, *only);
                self.plain(&mut writer, &mut clauses, list_or_one(fields))
            }
            several => {
                let columns = several.iter().map(|id| self.nested(&mut writer, *id, Hang::Bound)).collect();
                Fragment::format("select {}", [list_or_one(columns)])
            }
        };
        whole.finish(self.dialect)
    }

    /// A select as an expression: a record, or an array of records.
    fn nested(&self, writer: &mut Writer<'_>, id: SelectId, hang: Hang<'_>) -> Fragment {
        let select = &self.selects[id];
        let mut clauses = Clauses::new(writer, select, hang);
        let fields = self.fields(writer, &mut clauses, id);
        let record = Fragment::format("row({})", [Fragment::join(fields, ", ")]);
        let rows = self.plain(writer, &mut clauses, record);
        match select.page {
            Page::One | Page::Whole => Fragment::format("({})", [rows]),
            Page::Many { .. } | Page::Groups { .. } => Fragment::format("array({})", [rows]),
        }
    }

    /// The fields of a select's rows: its outputs and its children. Joined children are joined to `clauses`.
    fn fields(&self, writer: &mut Writer<'_>, clauses: &mut Clauses<'_>, id: SelectId) -> Vec<Fragment> {
        let select = &self.selects[id];
        let mut fields = clauses.output(writer);
        let alias = clauses.scope.alias.clone();
        self.add_children(writer, clauses, (id, select, &alias), &mut fields);
        fields
    }

    fn add_children(
        &self,
        writer: &mut Writer<'_>,
        clauses: &mut Clauses<'_>,
        (id, select, alias): (SelectId, &Select, &str),
        fields: &mut Vec<Fragment>,
    ) {
        let children = self.selects.iter().enumerate().filter(|(_, child)| {
            child.read && child.parent.as_ref().is_some_and(|parent| parent.select == id)
        });
        for (child_id, child) in children {
            let hang = Hang::Row(alias, select);
            if !is_joined(child) {
                fields.push(self.nested(writer, child_id, hang));
                continue;
            }
            let mut joined = Clauses::new(writer, child, hang);
            let output = joined.output(writer);
            clauses.join(&joined);
            fields.push(joined.is_there(writer));
            fields.extend(output);
            let alias = joined.scope.alias.clone();
            self.add_children(writer, clauses, (child_id, child, &alias), fields);
        }
    }
}

fn list_or_one(parts: Vec<Fragment>) -> Fragment {
    if parts.is_empty() { Fragment::text("1") } else { Fragment::join(parts, ", ") }
}
