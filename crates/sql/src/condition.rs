//! From a [`Condition`] to SQL. Negations are pushed to the leaves, so that a quantifier is never negated in SQL and a
//! role's rule, which is ANDed to the rows a hop ranges over, is never inside a negation.

use super::dialect::rows_of;
use super::{Dialect, Fragment, Slot};
use puente_core::access::{Comparison, Condition, Hop, Masks, Operand, Path, Quantifier, Test};
use puente_core::model::{Column, ColumnId, Model, TypeId};
use puente_core::value::Datum;

/// Conditions that stand in one row of ANDs or ORs; more are grouped.
const WIDEST: usize = 100;

/// Writes conditions of one statement; hands out aliases.
pub(super) struct Writer<'a> {
    pub(super) model: &'a Model,
    pub(super) dialect: &'a dyn Dialect,
    next_alias: usize,
}

/// One FROM clause: the row that a condition is about, and the to-one joins that its paths need.
pub(super) struct Scope {
    pub(super) alias: String,
    pub(super) of: TypeId,
    /// Joins already made: hop, the alias it leaves, the alias it reaches.
    joined: Vec<(Hop, String, String)>,
    pub(super) joins: Fragment,
}

impl<'a> Writer<'a> {
    pub(super) fn new(model: &'a Model, dialect: &'a dyn Dialect) -> Self {
        Writer { model, dialect, next_alias: 0 }
    }

    pub(super) fn scope(&mut self, of: TypeId) -> Scope {
        Scope { alias: self.alias(), of, joined: Vec::new(), joins: Fragment::default() }
    }

    pub(super) fn alias(&mut self) -> String {
        self.next_alias += 1;
        format!("t{}", self.next_alias - 1)
    }

    fn table(&self, of: TypeId, alias: &str) -> String {
        format!("{} as {alias}", rows_of(self.dialect, &self.model.types[of]))
    }

    /// Columns of the rows of a table that a rule lets through, each combination once.
    pub(super) fn once(&mut self, of: TypeId, columns: &[ColumnId], rule: Option<&Condition>, alias: &str) -> Fragment {
        let base = self.alias();
        let columns: Vec<String> = columns.iter().map(|column| self.column(of, *column, &base)).collect();
        let [columns, from] = [columns.join(", "), self.table(of, &base)].map(Fragment::text);
        let rows = match rule.map(|rule| self.rule(of, &base, rule)) {
            Some(rule) => Fragment::format("(select distinct {} from {} where {})", [columns, from, rule]),
            None => Fragment::format("(select distinct {} from {})", [columns, from]),
        };
        rows.named(alias)
    }

    /// A table whose masked columns are there twice: as they are, for rules, and as they are shown.
    pub(super) fn masked_table(&mut self, of: TypeId, masks: &Masks, alias: &str) -> Fragment {
        if masks.is_empty() {
            return Fragment::text(self.table(of, alias));
        }
        let base = self.alias();
        let t = &self.model.types[of];
        let mut columns = vec![Fragment::text(format!("{base}.*"))];
        columns.extend(self.row_number(of).map(|name| Fragment::text(format!("{base}.{name} as {name}"))));
        for (column, mask) in masks.iter() {
            let mask = self.rule(of, &base, mask);
            let (value, name) = (self.column(of, *column, &base), self.dialect.quote(&shown(&t.columns[*column])));
            let masked = self.dialect.masked(&t.columns[*column], &value, mask);
            columns.push(masked.named(&name));
        }
        let from = self.table(of, &base);
        Fragment::format("(select {} from {})", [Fragment::join(columns, ", "), Fragment::text(from)]).named(alias)
    }

    /// The implicit row number of a table without a key, where it orders the rows.
    pub(super) fn row_number(&self, of: TypeId) -> Option<&'static str> {
        let t = &self.model.types[of];
        self.dialect.row_number().filter(|_| t.row_key().is_none() && t.row_number)
    }

    /// A column as the role sees it: as its mask shows it, if it is masked.
    pub(super) fn shown_column(&self, of: TypeId, column: usize, alias: &str, masked: bool) -> String {
        if masked {
            return format!("{alias}.{}", self.dialect.quote(&shown(&self.model.types[of].columns[column])));
        }
        self.column(of, column, alias)
    }

    pub(super) fn column(&self, of: TypeId, column: usize, alias: &str) -> String {
        format!("{alias}.{}", self.dialect.quote(&self.model.types[of].columns[column].name))
    }

    /// `condition`, true where it is true. Within `scope`.
    pub(super) fn condition(&mut self, scope: &mut Scope, condition: &Condition, negated: bool) -> Fragment {
        match condition {
            Condition::Constant(value) => Fragment::text(if *value == negated { "false" } else { "true" }),
            // Nobody asked the claims: nothing is allowed.
            Condition::ClaimPredicate(_) => Fragment::text("false"),
            Condition::And(parts) => self.combine(scope, parts, negated, !negated),
            Condition::Or(parts) => self.combine(scope, parts, negated, negated),
            Condition::Not(inner) => self.condition(scope, inner, !negated),
            Condition::Test { path, test } => {
                let (value, column) = self.path(scope, path);
                let test = self.test(scope, value, column, test);
                if negated { Fragment::format("not ({})", [test]) } else { test }
            }
            Condition::Quantified { before, hop, quantifier, inner } => {
                let quantifier = if negated { quantifier.negated() } else { *quantifier };
                let mut at = scope.alias.clone();
                for hop in before {
                    at = self.join(scope, hop, &at);
                }
                self.quantified(&at, hop, quantifier, inner)
            }
        }
    }

    fn combine(&mut self, scope: &mut Scope, parts: &[Condition], negated: bool, all: bool) -> Fragment {
        let mut parts: Vec<Fragment> = parts.iter().map(|part| self.condition(scope, part, negated)).collect();
        let word = if all { " and " } else { " or " };
        // Engines limit how deep an expression is, and take a row of a thousand ORs for one a thousand deep.
        while parts.len() > WIDEST {
            let grouped =
                parts.chunks(WIDEST).map(|group| Fragment::format("({})", [Fragment::join(group.to_vec(), word)]));
            parts = grouped.collect();
        }
        match parts.len() {
            0 => Fragment::text(if all { "true" } else { "false" }),
            1 => parts.into_iter().next().unwrap_or_default(),
            _ => Fragment::format("({})", [Fragment::join(parts, word)]),
        }
    }

    /// EXISTS or NOT EXISTS over the visible rows at the end of a link from the row `at`.
    fn quantified(&mut self, at: &str, hop: &Hop, quantifier: Quantifier, inner: &Condition) -> Fragment {
        let link = &self.model.types[hop.from].links[hop.link];
        let mut scope = self.scope(link.target);
        let asked = match quantifier {
            Quantifier::Exists => self.condition(&mut scope, inner, false),
            Quantifier::ExistsFalse => self.condition(&mut scope, inner, true),
            Quantifier::All => Fragment::format("({}) is not true", [self.condition(&mut scope, inner, false)]),
            // `f is not false`, said of the negated `f`: what is asked of a quantifier inside is only whether it is true.
            Quantifier::None => Fragment::format("({}) is not true", [self.condition(&mut scope, inner, true)]),
        };
        let (from, mut conditions) = self.reach(&mut scope, hop, at);
        conditions.push(asked);
        let is_none = matches!(quantifier, Quantifier::All | Quantifier::None);
        let not = Fragment::text(if is_none { "not " } else { "" });
        Fragment::format(
            "{}exists (select 1 from {}{} where {})",
            [not, from, scope.joins, Fragment::join(conditions, " and ")],
        )
    }

    /// The FROM clause and the conditions that lead over a hop from the row `at` to the rows of `scope`.
    fn reach(&mut self, scope: &mut Scope, hop: &Hop, at: &str) -> (Fragment, Vec<Fragment>) {
        let link = &self.model.types[hop.from].links[hop.link];
        let mut conditions = Vec::new();
        let from = match &link.through {
            None => {
                for (own, other) in &link.pairs {
                    let own = self.column(hop.from, *own, at);
                    conditions
                        .push(Fragment::text(format!("{} = {own}", self.column(link.target, *other, &scope.alias))));
                }
                self.masked_table(link.target, &hop.masks, &scope.alias)
            }
            Some(through) => {
                let join = self.alias();
                for (own, column) in &through.near {
                    let own = self.column(hop.from, *own, at);
                    conditions.push(Fragment::text(format!("{} = {own}", self.column(through.join, *column, &join))));
                }
                let far: Vec<String> = through
                    .far
                    .iter()
                    .map(|(column, other)| {
                        let other = self.column(link.target, *other, &scope.alias);
                        format!("{other} = {}", self.column(through.join, *column, &join))
                    })
                    .collect();
                if let Some(rule) = &hop.join_visible {
                    conditions.push(self.rule(through.join, &join, rule));
                }
                let target = self.masked_table(link.target, &hop.masks, &scope.alias);
                let [from, far] = [self.table(through.join, &join), far.join(" and ")].map(Fragment::text);
                Fragment::format("{} join {} on {}", [from, target, far])
            }
        };
        if let Some(rule) = &hop.visible {
            conditions.push(self.rule(link.target, &scope.alias, rule));
        }
        (from, conditions)
    }

    /// A rule on the row `alias`, in a place where no join can be added: its paths become scalar subqueries.
    pub(super) fn rule(&mut self, of: TypeId, alias: &str, rule: &Condition) -> Fragment {
        let mut scope = Scope { alias: alias.to_owned(), of, joined: Vec::new(), joins: Fragment::default() };
        let condition = self.condition(&mut scope, rule, false);
        if scope.joins.is_empty() {
            return Fragment::format("({})", [condition]);
        }
        // The joins hang on a row of one column, so that a missing target leaves nulls and not no row.
        Fragment::format("(select {} from (select 1) as one{})", [condition, scope.joins])
    }

    /// The alias that a to-one hop from `at` reaches; nulls where it leads nowhere.
    pub(super) fn join(&mut self, scope: &mut Scope, hop: &Hop, at: &str) -> String {
        if let Some((_, _, reached)) = scope.joined.iter().find(|(known, from, _)| known == hop && from == at) {
            return reached.clone();
        }
        let link = &self.model.types[hop.from].links[hop.link];
        let mut target = self.scope(link.target);
        let (from, conditions) = self.reach(&mut target, hop, at);
        let on = Fragment::join(conditions, " and ");
        scope.joins.append(Fragment::format(" left join {} on {}", [from, on]));
        scope.joined.push((hop.clone(), at.to_owned(), target.alias.clone()));
        target.alias
    }

    /// The expression of a path's value as it is stored, and its column.
    pub(super) fn stored(&mut self, scope: &mut Scope, path: &Path) -> (String, &'a Column) {
        let (mut at, mut of) = (scope.alias.clone(), scope.of);
        for hop in &path.hops {
            at = self.join(scope, hop, &at);
            of = self.model.types[hop.from].links[hop.link].target;
        }
        (self.shown_column(of, path.column, &at, path.masked), &self.model.types[of].columns[path.column])
    }

    /// The expression of a path's value as it is compared, and its column.
    pub(super) fn path(&mut self, scope: &mut Scope, path: &Path) -> (Fragment, &'a Column) {
        let (expression, column) = self.stored(scope, path);
        (Fragment::text(self.dialect.compared(column, expression)), column)
    }

    /// The expression of a path's value as rows are ordered by it, and its column.
    pub(super) fn ordered(&mut self, scope: &mut Scope, path: &Path) -> (Fragment, &'a Column) {
        let (expression, column) = self.stored(scope, path);
        (Fragment::text(self.dialect.ordered(column, expression)), column)
    }

    fn test(&mut self, scope: &mut Scope, value: Fragment, column: &Column, test: &Test) -> Fragment {
        let dialect = self.dialect;
        let folded = |text: Fragment, fold: bool| if fold { dialect.folded(text) } else { text };
        match test {
            Test::Compare { comparison, operand: Operand::Value(other), .. } => {
                let (other, _) = self.path(scope, other);
                Fragment::join([value, other], operator(*comparison))
            }
            Test::Size { comparison, size } => {
                Fragment::join([dialect.size(value), Fragment::text(size.to_string())], operator(*comparison))
            }
            Test::Compare { comparison, operand, ignore_case } => {
                let operand = self.dialect.value(slot(operand), column);
                let sides = [folded(value, *ignore_case), folded(operand, *ignore_case)];
                Fragment::join(sides, operator(*comparison))
            }
            Test::In { operand, ignore_case } => {
                self.dialect.is_in(folded(value, *ignore_case), slot(operand), column, *ignore_case)
            }
            Test::IsNull(expected) => dialect.is_null(column, value, *expected),
            Test::Includes { operand, all } => self.dialect.includes(value, slot(operand), column, *all),
            Test::IsEmpty(true) => self.dialect.is_empty_list(value),
            Test::IsEmpty(false) => Fragment::format("not ({})", [self.dialect.is_empty_list(value)]),
            Test::Text { test, operand, ignore_case } => {
                let part = dialect.part(slot(operand), column);
                let value = dialect.as_text(column, value);
                dialect.text_test(*test, folded(value, *ignore_case), folded(part, *ignore_case))
            }
        }
    }
}

/// The name of a masked column as it is shown.
fn shown(column: &Column) -> String {
    format!("{} (masked)", column.name)
}

fn slot(operand: &Operand) -> Slot {
    match operand {
        Operand::Parameter(parameter) => Slot::Parameter(*parameter),
        Operand::Constant(cell) => Slot::Constant(cell.clone()),
        // Only comparisons take values of the row, and write them themselves.
        Operand::Value(_) => Slot::Constant(Datum::Null),
    }
}

fn operator(comparison: Comparison) -> &'static str {
    match comparison {
        Comparison::Eq => " = ",
        Comparison::Ne => " <> ",
        Comparison::Lt => " < ",
        Comparison::Lte => " <= ",
        Comparison::Gt => " > ",
        Comparison::Gte => " >= ",
    }
}
