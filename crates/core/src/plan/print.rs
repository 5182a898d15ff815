//! Plans as text, for whoever answers for them: what is read, under which conditions, in which order. It says what a plan
//! means, and nothing of how a source runs it.
//!
//! Rows are printed as a tree, a line for each select: its number, its type, how it hangs on its parent, and which of the rows
//! it has. Conditions are printed as they are judged: a caller's hop over a link shows the rule of the rows at its end in
//! brackets. `$n` is a parameter; those that the text mentions are listed at its end.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use super::change::{
    Act, Address, Assignment, Change, EdgeChange, EdgeRow, JsonChange, Lookup, Mutation, NewRow, Root, RowChange, Set,
    Target,
};
use super::{
    CursorSource, FilteredItems, Function, GroupUnit, ListSource, OrderTerm, Output, Parameter, Plan, RowSet, Seek,
    Select, SelectId,
};
use crate::access::{
    Comparison, Condition, Hop, Masks, Number, Operand, Origin, Path, Predicate, Quantifier, Test, TextComparison,
    TextTest,
};
use crate::model::{ColumnId, FieldType, LinkId, Model, TypeId};
use crate::value::Datum;

impl Plan {
    /// The plan as text, for its owner alone: it names what roles may not see.
    pub fn to_text(&self) -> String {
        let mut printer = Printer::new(self.model());
        printer.plan(self);
        printer.text
    }
}

impl Mutation {
    /// The changes as text, for the owner alone.
    pub fn to_text(&self) -> String {
        let mut text = String::new();
        for root in self.roots() {
            let mut printer = Printer::new(root.answer.plan().model());
            printer.root(root);
            text.push_str(&printer.text);
        }
        text
    }
}

struct Printer<'m> {
    model: &'m Model,
    text: String,
    depth: usize,
    /// The parameters that the text mentions.
    mentioned: BTreeSet<usize>,
}

impl<'m> Printer<'m> {
    fn new(model: &'m Model) -> Self {
        Printer { model, text: String::new(), depth: 0, mentioned: BTreeSet::new() }
    }

    fn line(&mut self, line: &str) {
        let indent = self.depth * 2;
        let _ = writeln!(self.text, "{:indent$}{line}", "");
    }

    fn inside(&mut self, print: impl FnOnce(&mut Self)) {
        self.depth += 1;
        print(self);
        self.depth -= 1;
    }

    fn plan(&mut self, plan: &Plan) {
        for id in (0..plan.selects.len()).filter(|id| plan.selects[*id].parent.is_none()) {
            self.tree(plan, id);
        }
        if plan.introspects() {
            self.line("the schema");
        }
        self.parameters(plan);
    }

    fn tree(&mut self, plan: &Plan, id: SelectId) {
        let select = &plan.selects[id];
        let head = self.head(plan, id);
        self.line(&head);
        self.inside(|printer| {
            printer.clauses(select);
            let children = (0..plan.selects.len())
                .filter(|child| plan.selects[*child].parent.as_ref().is_some_and(|p| p.select == id));
            for child in children.collect::<Vec<_>>() {
                printer.tree(plan, child);
            }
        });
    }

    /// The select's number and type, how it hangs on its parent, and which rows it has.
    fn head(&mut self, plan: &Plan, id: SelectId) -> String {
        let select = &plan.selects[id];
        let mut head = format!("{id} {}", self.model.types[select.of].name);
        if plan.is_split() {
            let _ = write!(head, " of `{}`", self.model.sources[plan.source_of(id)]);
        }
        if let Some(parent) = &select.parent {
            let above = plan.selects[parent.select].of;
            let pair = |own: TypeId, a: ColumnId, other: TypeId, b: ColumnId| {
                format!("{} = {}", self.column(own, a), self.column(other, b))
            };
            match &parent.through {
                None => {
                    let pairs: Vec<String> =
                        parent.pairs.iter().map(|(a, b)| pair(above, *a, self.model.table_of(select.of), *b)).collect();
                    let _ = write!(head, " by {}", pairs.join(" and "));
                }
                Some(join) => {
                    let near: Vec<String> = parent.pairs.iter().map(|(a, b)| pair(above, *a, join.of, *b)).collect();
                    let far: Vec<String> = join.pairs.iter().map(|(a, b)| pair(join.of, *a, select.of, *b)).collect();
                    let once = if join.repeats { ", each once" } else { "" };
                    let _ = write!(
                        head,
                        " by {} through {} by {}{once}",
                        near.join(" and "),
                        self.model.types[join.of].name,
                        far.join(" and ")
                    );
                }
            }
        }
        let _ = write!(head, ": {}", self.row_set(&select.row_set));
        if plan.is_joined(id) {
            head.push_str(", with its parent's row");
        }
        if !select.read {
            head.push_str(", not read");
        }
        if select.peek {
            head.push_str(", and is there more?");
        }
        head
    }

    fn row_set(&mut self, rows: &RowSet) -> String {
        match rows {
            RowSet::Single => "at most one row".to_owned(),
            RowSet::Supplied => "the rows of the change".to_owned(),
            RowSet::Aggregate => "all rows summed up".to_owned(),
            RowSet::Groups { size, skip, .. } => {
                format!("{} groups{}", self.parameter(*size), self.skipped(*skip))
            }
            RowSet::Page { size, backward, skip, .. } => {
                let end = if *backward { "last" } else { "first" };
                format!("the {end} {}{}", self.parameter(*size), self.skipped(*skip))
            }
        }
    }

    fn skipped(&mut self, skip: Option<usize>) -> String {
        skip.map_or_else(String::new, |skip| format!(" after skipping {}", self.parameter(skip)))
    }

    fn clauses(&mut self, select: &Select) {
        self.predicates(select.of, &select.predicates);
        self.masks(select.of, &select.masks);
        if let Some(join) = select.parent.as_ref().and_then(|parent| parent.through.as_ref()) {
            if let Some(rule) = &select.join_rows {
                let rule = self.condition(join.of, rule);
                self.line(&format!("rule of {}: {rule}", self.model.types[join.of].name));
            }
            self.masks(join.of, &select.join_masks);
        }
        if let RowSet::Groups { by, order, .. } = &select.row_set {
            let by: Vec<String> = by
                .iter()
                .map(|term| {
                    let column = self.column(select.of, term.column);
                    match term.unit {
                        GroupUnit::Value => column,
                        GroupUnit::Day => format!("day of {column}"),
                        GroupUnit::Month => format!("month of {column}"),
                        GroupUnit::Year => format!("year of {column}"),
                    }
                })
                .collect();
            self.line(&format!("group by: {}", by.join(", ")));
            let order: Vec<String> = order
                .iter()
                .map(|term| {
                    format!(
                        "{}{}",
                        self.output(select, &term.value),
                        direction(term.descending, Some(term.nulls_first))
                    )
                })
                .collect();
            if !order.is_empty() {
                self.line(&format!("order: {}", order.join(", ")));
            }
        }
        if !select.order.is_empty() {
            let order: Vec<String> = select.order.iter().map(|term| self.order_term(select.of, term)).collect();
            self.line(&format!("order: {}", order.join(", ")));
        }
        if let RowSet::Page { after, before, .. } = &select.row_set {
            for (word, seek) in [("after", after), ("before", before)] {
                if let Some(seek) = seek {
                    let seek = self.seek(seek);
                    self.line(&format!("{word}: {seek}"));
                }
            }
        }
        if !select.output.is_empty() {
            let outputs: Vec<String> = select.output.iter().map(|output| self.output(select, output)).collect();
            self.line(&format!("deliver: {}", outputs.join(", ")));
        }
    }

    fn predicates(&mut self, of: TypeId, predicates: &[Predicate]) {
        for predicate in predicates {
            let condition = self.condition(of, &predicate.condition);
            let word = match predicate.origin {
                Origin::Caller => "filter",
                Origin::Rule => "rule",
            };
            self.line(&format!("{word}: {condition}"));
        }
    }

    fn masks(&mut self, of: TypeId, masks: &Masks) {
        for (column, condition) in masks.iter() {
            let condition = self.condition(of, condition);
            self.line(&format!("mask: {} shows where {condition}", self.column(of, *column)));
        }
    }

    fn order_term(&mut self, of: TypeId, term: &OrderTerm) -> String {
        let nulls = term.nullable.then_some(term.nulls_first);
        format!("{}{}", self.path(of, &term.path), direction(term.descending, nulls))
    }

    fn seek(&mut self, seek: &Seek) -> String {
        let values: Vec<String> = seek
            .parameters
            .iter()
            .zip(&seek.nulls)
            .map(|(parameter, is_null)| if *is_null { "null".to_owned() } else { self.parameter(*parameter) })
            .collect();
        values.join(", ")
    }

    /// ` where (…)`, and of lists inside the items ` with gear where (…)`.
    fn filtered_items(&mut self, items: TypeId, filtered: &FilteredItems) -> String {
        let condition = filtered.condition.as_ref();
        let mut text = condition.map_or_else(String::new, |it| format!(" where ({})", self.condition(items, it)));
        for (at, (column, filtered)) in filtered.beside.iter().enumerate() {
            let FieldType::Items(inner) = self.model.types[items].columns[*column].kind else { continue };
            let word = if at == 0 { "with" } else { "and" };
            let _ = write!(text, " {word} {}{}", self.column(items, *column), self.filtered_items(inner, filtered));
        }
        text
    }

    fn output(&mut self, select: &Select, output: &Output) -> String {
        match output {
            Output::Column(column) => self.column(select.of, *column),
            Output::Key(column) => format!("{} as a key", self.column(select.of, *column)),
            Output::Type(column) => format!("the type of {}", self.column(select.of, *column)),
            Output::Json(column) => format!("{} as a whole", self.column(select.of, *column)),
            Output::Items(column, filter) => {
                let list = self.column(select.of, *column);
                let FieldType::Items(items) = self.model.types[select.of].columns[*column].kind else { return list };
                format!("{list}{}", self.filtered_items(items, &select.filtered_items[*filter]))
            }
            Output::Edge(column) => {
                let join = select.parent.as_ref().and_then(|parent| parent.through.as_ref());
                join.map_or_else(String::new, |join| {
                    format!("{}.{}", self.model.types[join.of].name, self.column(join.of, *column))
                })
            }
            Output::Order(term) => self.path(select.of, &select.order[*term].path),
            Output::Count => "count".to_owned(),
            Output::Summary(function, column) => {
                let function = match function {
                    Function::Sum => "sum",
                    Function::Avg => "avg",
                    Function::Min => "min",
                    Function::Max => "max",
                };
                format!("{function}({})", self.column(select.of, *column))
            }
            Output::Group(term) => match &select.row_set {
                RowSet::Groups { by, .. } => format!("group {}", self.column(select.of, by[*term].column)),
                _ => String::new(),
            },
        }
    }

    fn column(&self, of: TypeId, column: ColumnId) -> String {
        self.model.types[of].columns[column].label().to_owned()
    }

    fn columns(&self, of: TypeId, columns: &[ColumnId]) -> String {
        columns.iter().map(|column| self.column(of, *column)).collect::<Vec<_>>().join(", ")
    }

    fn link(&self, of: TypeId, link: LinkId) -> &'m str {
        &self.model.types[of].links[link].field
    }

    fn parameter(&mut self, parameter: usize) -> String {
        self.mentioned.insert(parameter);
        format!("${parameter}")
    }

    fn path(&mut self, of: TypeId, path: &Path) -> String {
        let mut text = String::new();
        let mut at = of;
        for hop in &path.hops {
            let _ = write!(text, "{}.", self.hop(hop));
            at = self.model.types[hop.from].links[hop.link].target;
        }
        text + &self.column(at, path.column) + if path.masked { " as shown" } else { "" }
    }

    /// A link, with the rule of the rows at its end.
    fn hop(&mut self, hop: &Hop) -> String {
        let link = &self.model.types[hop.from].links[hop.link];
        let mut rules = Vec::new();
        if let Some(rule) = &hop.visible {
            rules.push(self.condition(link.target, rule));
        }
        if let (Some(through), Some(rule)) = (&link.through, &hop.join_visible) {
            let rule = self.condition(through.join, rule);
            rules.push(format!("{}: {rule}", self.model.types[through.join].name));
        }
        if rules.is_empty() { link.field.clone() } else { format!("{}[{}]", link.field, rules.join("; ")) }
    }

    fn condition(&mut self, of: TypeId, condition: &Condition) -> String {
        match condition {
            Condition::Constant(value) => value.to_string(),
            Condition::ClaimPredicate(number) => format!("claims decide {number}"),
            Condition::And(parts) => self.combined(of, parts, " and ", "true"),
            Condition::Or(parts) => self.combined(of, parts, " or ", "false"),
            Condition::Not(inner) => format!("not ({})", self.condition(of, inner)),
            Condition::NotTrue(inner) => format!("({}) is not true", self.condition(of, inner)),
            Condition::Test { path, test } => {
                let value = self.path(of, path);
                self.test(of, &value, test)
            }
            Condition::Numbers { left, comparison, right } => {
                let [left, right] = [left, right].map(|number| self.number(of, number));
                format!("{left} {} {right}", sign(*comparison))
            }
            Condition::Quantified { before, hop, quantifier, inner } => {
                let way: Vec<String> = before.iter().chain([hop]).map(|hop| self.hop(hop)).collect();
                let target = self.model.types[hop.from].links[hop.link].target;
                let inner = self.condition(target, inner);
                format!("{} {} ({inner})", word(*quantifier), way.join("."))
            }
            Condition::OverItems { path, quantifier, inner } => {
                let list = self.path(of, path);
                let of = path.hops.last().map_or(of, |hop| self.model.types[hop.from].links[hop.link].target);
                let inner = match self.model.types[of].columns[path.column].kind {
                    FieldType::Items(items) => self.condition(items, inner),
                    _ => String::new(),
                };
                format!("{} {list} ({inner})", word(*quantifier))
            }
        }
    }

    fn combined(&mut self, of: TypeId, parts: &[Condition], word: &str, empty: &str) -> String {
        match parts {
            [] => empty.to_owned(),
            [only] => self.condition(of, only),
            several => {
                let parts: Vec<String> = several.iter().map(|part| self.condition(of, part)).collect();
                format!("({})", parts.join(word))
            }
        }
    }

    fn test(&mut self, of: TypeId, value: &str, test: &Test) -> String {
        let compared = |by: TextComparison| match by {
            TextComparison::Collation => "",
            TextComparison::IgnoreCase => " ignoring case",
            TextComparison::Exact => " exactly",
        };
        let folded = |ignore_case: bool| if ignore_case { " ignoring case" } else { "" };
        match test {
            Test::Compare { comparison, operand, by } => {
                format!("{value} {} {}{}", sign(*comparison), self.operand(of, operand), compared(*by))
            }
            Test::In { operand, by } => {
                format!("{value} in {}{}", self.operand(of, operand), compared(*by))
            }
            Test::IsNull(true) => format!("{value} is null"),
            Test::IsNull(false) => format!("{value} is not null"),
            Test::Includes { operand, all: true } => format!("{value} includes all of {}", self.operand(of, operand)),
            Test::Includes { operand, all: false } => format!("{value} includes some of {}", self.operand(of, operand)),
            Test::Fits => format!("({value} is null or of its type)"),
            Test::IsEmpty(true) => format!("{value} is empty"),
            Test::IsEmpty(false) => format!("{value} is not empty"),
            Test::Size { comparison, size } => format!("size of {value} {} {size}", sign(*comparison)),
            Test::Text { test, operand, ignore_case } => {
                let word = match test {
                    TextTest::Contains => "contains",
                    TextTest::StartsWith => "starts with",
                    TextTest::EndsWith => "ends with",
                };
                format!("{value} {word} {}{}", self.operand(of, operand), folded(*ignore_case))
            }
        }
    }

    fn operand(&mut self, of: TypeId, operand: &Operand) -> String {
        match operand {
            Operand::Parameter(parameter) => self.parameter(*parameter),
            Operand::Constant(value) => datum(value),
            Operand::Value(path) => self.path(of, path),
        }
    }

    fn number(&mut self, of: TypeId, number: &Number) -> String {
        match number {
            Number::Value(path) => self.path(of, path),
            Number::Time(path) => format!("microseconds of {}", self.path(of, path)),
            Number::Parameter(parameter) => self.parameter(*parameter),
            Number::Constant(value) => datum(value),
            Number::Calculated { arithmetic, left, right } => {
                let [left, right] = [left, right].map(|number| self.number(of, number));
                format!("({left} {} {right})", arithmetic.sign())
            }
        }
    }

    /// What the parameters are that the text mentions.
    fn parameters(&mut self, plan: &Plan) {
        let mut told = BTreeSet::new();
        // The items of a list are parameters, too.
        while let Some(number) = self.mentioned.difference(&told).next().copied() {
            told.insert(number);
            let text = match &plan.parameters[number] {
                Parameter::Claim(claim) => format!("claim {claim}"),
                Parameter::Constant(value) => datum(value),
                Parameter::Leaf { source, .. } => source.describe(),
                Parameter::List { items: ListSource::Variable(source), .. } => {
                    format!("the list {}", source.describe())
                }
                Parameter::List { items: ListSource::Items(items), .. } => {
                    let items: Vec<String> = items.iter().map(|item| self.parameter(*item)).collect();
                    format!("the list [{}]", items.join(", "))
                }
                Parameter::PageSize { source, most, .. } => format!("{}, at most {most}", source.describe()),
                Parameter::Skip { source, .. } => source.describe(),
                Parameter::Keys(query) => format!("the keys of {}", plan.key_queries[*query].select),
                Parameter::CursorDatum { cursor, index } => {
                    let source = match &plan.cursors[*cursor].source {
                        CursorSource::Literal(_) => "the document".to_owned(),
                        CursorSource::Variable(path) => path.describe(),
                    };
                    format!("value {index} of the cursor in {source}")
                }
            };
            self.line(&format!("${number}: {text}"));
        }
    }

    fn root(&mut self, root: &Root) {
        let Some(change) = &root.change else {
            self.line(&format!("{}: nothing is changed", root.key));
            return;
        };
        let name = &self.model.types[change.of].name;
        let word = match &change.act {
            Act::Create { .. } => "create",
            Act::Update { .. } => "update",
            Act::Delete { .. } => "delete",
        };
        self.line(&format!("{}: {word} {name}", root.key));
        self.inside(|printer| {
            printer.act(change);
            for (at, lookup) in change.lookups.iter().enumerate() {
                printer.lookup(at, lookup);
            }
            let mut checks: Vec<_> = change.checks.iter().collect();
            checks.sort();
            for ((of, created), lookup) in checks {
                let when = if *created { "created" } else { "updated" };
                printer.line(&format!("then each {when} {} is in lookup {lookup}", printer.model.types[*of].name));
            }
            let mut visible: Vec<_> = change.visible.iter().collect();
            visible.sort();
            for ((of, link), lookup) in visible {
                let target =
                    lookup.map_or_else(|| "nothing".to_owned(), |lookup| format!("what lookup {lookup} finds"));
                let name = &printer.model.types[*of].name;
                printer.line(&format!("{name}.{} leads to {target}", printer.link(*of, *link)));
            }
            printer.line("answer");
            printer.inside(|printer| printer.plan(root.answer.plan()));
        });
    }

    fn act(&mut self, change: &Change) {
        match &change.act {
            Act::Create { rows, existing } => {
                for row in rows {
                    self.new_row(change.of, row);
                }
                if let Some(existing) = existing {
                    let act = if existing.changes { "is changed" } else { "is kept" };
                    let key = self.columns(change.of, &existing.key);
                    self.line(&format!("a row of the same {key} (lookup {}) {act}", existing.find));
                }
            }
            Act::Update { address, set } => {
                self.address(change.of, address);
                self.set(change.of, set);
            }
            Act::Delete { address } => self.address(change.of, address),
        }
        let mut linked: Vec<_> = change.linked.iter().collect();
        linked.sort_unstable_by_key(|(written, _)| **written);
        for ((of, created), values) in linked {
            for value in values {
                let done = if *created { "created" } else { "changed" };
                let name = &self.model.types[*of].name;
                let from = self.columns(*of, &value.from);
                let way: Vec<String> = value.way.iter().map(usize::to_string).collect();
                let column = self.column(*of, value.column);
                self.line(&format!(
                    "{column} of a {done} {name}, as the grant fixes it: by {from}, lookup {}",
                    way.join(", then ")
                ));
            }
        }
    }

    fn address(&mut self, of: TypeId, address: &Address) {
        let which = if address.one { "the one row".to_owned() } else { format!("at most {} rows", address.most) };
        self.line(&format!("{which}, locked"));
        self.inside(|printer| {
            printer.predicates(of, &address.select.predicates);
            if address.revision.is_some() {
                let columns = printer.columns(of, &address.revision_of);
                printer.line(&format!("if unchanged: {columns}"));
            }
        });
    }

    fn set(&mut self, of: TypeId, set: &Set) {
        for (column, assigned) in &set.values {
            let by = if set.fixed.contains(column) { ", as the grant fixes it" } else { "" };
            let name = self.column(of, *column);
            match assigned {
                Assignment::Value(value) => self.line(&format!("set {name} = {}{by}", datum(value))),
                Assignment::Add(value) => self.line(&format!("set {name} += {}{by}", datum(value))),
                Assignment::Json(change) => self.json_change(&name, change),
            }
        }
        if let Some((lookup, columns)) = &set.fitting {
            let columns = self.columns(of, columns);
            self.line(&format!("before, {columns} are null or of their type: lookup {lookup}"));
        }
        if let Some(lookup) = set.in_range {
            self.line(&format!("its numbers stay in range: lookup {lookup}"));
        }
        for (link, target) in &set.ones {
            self.target(&format!("set {}", self.link(of, *link)), self.model.types[of].links[*link].target, target);
        }
        for change in &set.edges {
            self.edge_change(of, change);
        }
    }

    fn json_change(&mut self, name: &str, change: &JsonChange) {
        match change {
            JsonChange::Set(value) => self.line(&format!("set {name} = {}", datum(value))),
            JsonChange::Unset => self.line(&format!("unset {name}")),
            JsonChange::Add(value, _) => self.line(&format!("set {name} += {}", datum(value))),
            JsonChange::Push(value) => self.line(&format!("push to {name} {}", datum(value))),
            JsonChange::Pull(value) => self.line(&format!("pull from {name} {}", datum(value))),
            JsonChange::PullWhere(items, condition) => {
                let condition = self.condition(*items, condition);
                self.line(&format!("pull from {name} where {condition}"));
            }
            JsonChange::Object(members) => {
                for (member, change) in members {
                    self.json_change(&format!("{name}/{member}"), change);
                }
            }
        }
    }

    fn edge_change(&mut self, of: TypeId, change: &EdgeChange) {
        let link = self.link(of, change.link);
        self.edges(of, change.link, "link", &change.add);
        let target = self.model.types[of].links[change.link].target;
        for removed in &change.remove {
            self.target(&format!("unlink {link}"), target, removed);
        }
        for (word, lookup) in [("removable", change.removable), ("updatable", change.updatable)] {
            if let Some(lookup) = lookup {
                self.line(&format!("edges of {link} that are {word}: lookup {lookup}"));
            }
        }
    }

    fn new_row(&mut self, of: TypeId, row: &NewRow) {
        self.line(&format!("{}: a new {}", row.place, self.model.types[of].name));
        self.inside(|printer| {
            printer.values(of, &row.values, &row.fixed);
            for (link, target) in &row.ones {
                let name = printer.link(of, *link);
                printer.target(name, printer.model.types[of].links[*link].target, target);
            }
            for (link, rows) in &row.many {
                printer.line(&format!("its {}", printer.link(of, *link)));
                let target = printer.model.types[of].links[*link].target;
                printer.inside(|printer| rows.iter().for_each(|row| printer.new_row(target, row)));
            }
            for (link, edges) in &row.edges {
                printer.edges(of, *link, "link", edges);
            }
            if let Some(existing) = &row.existing {
                printer.row_change(of, existing);
            }
        });
    }

    fn row_change(&mut self, of: TypeId, change: &RowChange) {
        match &change.refused {
            Some(field) => self.line(&format!("where it is there: refused, for {field}")),
            None => {
                self.line("where it is there");
                self.inside(|printer| printer.values(of, &change.values, &change.fixed));
            }
        }
    }

    fn values(&mut self, of: TypeId, values: &[(ColumnId, Datum)], fixed: &[ColumnId]) {
        for (column, value) in values {
            let by = if fixed.contains(column) { ", as the grant fixes it" } else { "" };
            self.line(&format!("{} = {}{by}", self.column(of, *column), datum(value)));
        }
    }

    fn edges(&mut self, of: TypeId, link: LinkId, word: &str, edges: &[EdgeRow]) {
        let l = &self.model.types[of].links[link];
        for edge in edges {
            self.target(&format!("{word} {}", l.field), l.target, &edge.target);
            if let Some(through) = &l.through {
                self.inside(|printer| {
                    printer.values(through.join, &edge.values, &edge.fixed);
                    if let Some(existing) = &edge.existing {
                        printer.row_change(through.join, existing);
                    }
                });
            }
        }
    }

    fn target(&mut self, what: &str, of: TypeId, target: &Target) {
        match target {
            Target::Key { lookup, key, .. } => {
                let key: Vec<String> = key.iter().map(datum).collect();
                self.line(&format!("{what} to ({}), by lookup {lookup}", key.join(", ")));
            }
            Target::New(row) => {
                self.line(&format!("{what} to"));
                self.inside(|printer| printer.new_row(of, row));
            }
        }
    }

    fn lookup(&mut self, at: usize, lookup: &Lookup) {
        let by = self.columns(lookup.of, &lookup.by);
        let lock = if lookup.lock { ", locked" } else { "" };
        self.line(&format!("lookup {at}: {} by {by}{lock}", self.model.types[lookup.of].name));
        self.inside(|printer| printer.predicates(lookup.of, &lookup.select.predicates));
    }
}

fn direction(descending: bool, nulls_first: Option<bool>) -> String {
    let nulls = match nulls_first {
        None => "",
        Some(true) => ", nulls first",
        Some(false) => ", nulls last",
    };
    format!(" {}{nulls}", if descending { "descending" } else { "ascending" })
}

fn word(quantifier: Quantifier) -> &'static str {
    match quantifier {
        Quantifier::Exists => "exists",
        Quantifier::All => "all",
        Quantifier::None => "none",
        Quantifier::ExistsFalse => "exists false",
    }
}

fn sign(comparison: Comparison) -> &'static str {
    match comparison {
        Comparison::Eq => "=",
        Comparison::Ne => "<>",
        Comparison::Lt => "<",
        Comparison::Lte => "<=",
        Comparison::Gt => ">",
        Comparison::Gte => ">=",
    }
}

/// A value as JSON writes it; bytes by how many they are.
fn datum(value: &Datum) -> String {
    match value {
        Datum::Null => "null".to_owned(),
        Datum::Integer(value) => value.to_string(),
        Datum::Real(value) => value.to_string(),
        Datum::Text(text) => serde_json::Value::from(text.as_str()).to_string(),
        Datum::Blob(bytes) => format!("{} bytes", bytes.len()),
        Datum::List(items) => format!("[{}]", items.iter().map(datum).collect::<Vec<_>>().join(", ")),
    }
}
