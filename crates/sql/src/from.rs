//! FROM items: the tables that a statement reads, with masks and rules, and the joins that lead from one to the next.

use puente_core::access::{Condition, Hop, Masks, Path};
use puente_core::model::{Column, ColumnId, Model, TypeId};

use super::dialect::rows_of;
use super::{Dialect, Fragment};

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

impl Scope {
    /// A row that is known by an alias, without joins yet.
    pub(super) fn on(of: TypeId, alias: &str) -> Self {
        Scope { alias: alias.to_owned(), of, joined: Vec::new(), joins: Fragment::default() }
    }
}

impl<'a> Writer<'a> {
    pub(super) fn new(model: &'a Model, dialect: &'a dyn Dialect) -> Self {
        Writer { model, dialect, next_alias: 0 }
    }

    pub(super) fn scope(&mut self, of: TypeId) -> Scope {
        Scope::on(of, &self.alias())
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

    /// The FROM clause and the conditions that lead over a hop from the row `at` to the rows of `scope`.
    pub(super) fn reach(&mut self, scope: &mut Scope, hop: &Hop, at: &str) -> (Fragment, Vec<Fragment>) {
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
}

/// The name of a masked column as it is shown.
fn shown(column: &Column) -> String {
    format!("{} (masked)", column.name)
}
