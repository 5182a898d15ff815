//! FROM items: the tables that a statement reads, with masks and rules, and the joins that lead from one to the next.

use puente_core::access::{Condition, Hop, Masks, Path};
use puente_core::catalog::Indexed;
use puente_core::model::{Column, ColumnId, Model, TypeId};
use puente_core::value::StorageFormat;

use super::dialect::rows_of;
use super::far_side::Way;
use super::{Dialect, Fragment};

/// Writes conditions of one statement; hands out aliases.
pub(super) struct Writer<'a> {
    pub(super) model: &'a Model,
    pub(super) dialect: &'a dyn Dialect,
    next_alias: usize,
    /// How conditions over links are written.
    pub(super) way: Way,
}

/// One FROM clause: the row that a condition is about, and the to-one joins that its paths need.
pub(super) struct Scope {
    pub(super) alias: String,
    pub(super) of: TypeId,
    /// Joins already made: hop, the alias it leaves, the alias it reaches.
    joined: Vec<(Hop, String, String)>,
    pub(super) joins: Fragment,
}

/// The rows that a hop can lead to.
pub(super) struct Beyond {
    pub(super) from: Fragment,
    /// The columns of the row that the hop leaves, and what equals each of them.
    pub(super) linked: Vec<(ColumnId, String)>,
    pub(super) conditions: Vec<Fragment>,
}

impl Scope {
    /// A row that is known by an alias, without joins yet.
    pub(super) fn on(of: TypeId, alias: &str) -> Self {
        Scope { alias: alias.to_owned(), of, joined: Vec::new(), joins: Fragment::default() }
    }
}

impl<'a> Writer<'a> {
    pub(super) fn new(model: &'a Model, dialect: &'a dyn Dialect) -> Self {
        Writer { model, dialect, next_alias: 0, way: Way::default() }
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

    /// A column's value as it is stored; of what is inside JSON, in JSON.
    pub(super) fn column(&self, of: TypeId, column: usize, alias: &str) -> String {
        let t = &self.model.types[of];
        let c = &t.columns[column];
        if let Some(member) = &c.member {
            return self.dialect.json_member(&self.column(of, member.of, alias), &member.path);
        }
        if t.items_of.is_some() {
            return self.dialect.json_item(alias);
        }
        let plain = format!("{alias}.{}", self.dialect.quote(&c.name));
        if c.form == StorageFormat::JsonValue { self.dialect.json_root(c, plain) } else { plain }
    }

    /// A column's value as the role sees it and as it is compared.
    pub(super) fn compared(&self, of: TypeId, column: ColumnId, alias: &str, masked: bool) -> String {
        let c = &self.model.types[of].columns[column];
        match c.member.as_ref().filter(|_| !masked) {
            Some(member) => self.dialect.compared_member(c, &self.column(of, member.of, alias), &member.path),
            None => self.dialect.compared(c, self.shown_column(of, column, alias, masked)),
        }
    }

    /// The whole JSON of a column.
    pub(super) fn whole(&self, of: TypeId, column: ColumnId, alias: &str) -> String {
        let c = &self.model.types[of].columns[column];
        self.dialect.json_whole(c, format!("{alias}.{}", self.dialect.quote(&c.name)))
    }

    /// A column's value as the role sees it and as it is delivered.
    pub(super) fn delivered(&self, of: TypeId, column: ColumnId, alias: &str, masked: bool) -> String {
        let c = &self.model.types[of].columns[column];
        match c.member.as_ref().filter(|_| !masked) {
            Some(member) => self.dialect.delivered_member(c, &self.column(of, member.of, alias), &member.path),
            None => self.dialect.delivered(c, self.shown_column(of, column, alias, masked)),
        }
    }

    /// The FROM clause and the conditions that lead over a hop from the row `at` to the rows of `scope`.
    pub(super) fn reach(&mut self, scope: &mut Scope, hop: &Hop, at: &str) -> (Fragment, Vec<Fragment>) {
        let Beyond { from, linked, conditions } = self.beyond(scope, hop);
        let equals = |(own, other)| Fragment::text(format!("{other} = {}", self.column(hop.from, own, at)));
        (from, linked.into_iter().map(equals).chain(conditions).collect())
    }

    /// The FROM clause of the rows of `scope` that a hop can lead to, the values by which they are linked, and what must be true of
    /// them.
    pub(super) fn beyond(&mut self, scope: &mut Scope, hop: &Hop) -> Beyond {
        let link = &self.model.types[hop.from].links[hop.link];
        let (mut linked, mut conditions) = (Vec::new(), Vec::new());
        let from = match &link.through {
            None => {
                linked.extend(
                    link.pairs.iter().map(|(own, other)| (*own, self.column(link.target, *other, &scope.alias))),
                );
                self.masked_table(link.target, &hop.masks, &scope.alias)
            }
            Some(through) => {
                let join = self.alias();
                linked
                    .extend(through.near.iter().map(|(own, column)| (*own, self.column(through.join, *column, &join))));
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
        Beyond { from, linked, conditions }
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

    /// The alias and the type at the end of a path's hops.
    fn end(&mut self, scope: &mut Scope, path: &Path) -> (String, TypeId) {
        let (mut at, mut of) = (scope.alias.clone(), scope.of);
        for hop in &path.hops {
            at = self.join(scope, hop, &at);
            of = self.model.types[hop.from].links[hop.link].target;
        }
        (at, of)
    }

    /// Is a path's value in JSON null, or missing, or of its type?
    pub(super) fn fits(&mut self, scope: &mut Scope, path: &Path) -> Fragment {
        let (at, of) = self.end(scope, path);
        let json = self.shown_column(of, path.column, &at, path.masked);
        Fragment::text(self.dialect.json_fits(&self.model.types[of].columns[path.column], &json))
    }

    /// The expression of a path's value as it is compared, and its column.
    pub(super) fn path(&mut self, scope: &mut Scope, path: &Path) -> (Fragment, &'a Column) {
        let (at, of) = self.end(scope, path);
        let value = self.compared(of, path.column, &at, path.masked);
        (Fragment::text(value), &self.model.types[of].columns[path.column])
    }

    /// The expression of a path's value as it is delivered where rows are ordered by it; of what is inside JSON, as it is compared.
    pub(super) fn position(&mut self, scope: &mut Scope, path: &Path) -> String {
        let (at, of) = self.end(scope, path);
        match self.model.types[of].columns[path.column].form {
            StorageFormat::JsonValue => self.compared(of, path.column, &at, path.masked),
            _ => self.delivered(of, path.column, &at, path.masked),
        }
    }

    /// What an index on a path's member of JSON holds, and the member's column. None where the role sees it in some rows only.
    pub(super) fn indexed(&mut self, scope: &mut Scope, path: &Path) -> Option<(String, &'a Column)> {
        let (at, of) = self.end(scope, path);
        let t = &self.model.types[of];
        let column = &t.columns[path.column];
        let member = column.member.as_ref().filter(|_| !path.masked)?;
        let indexed = match &member.index.as_ref()?.on {
            Indexed::Expression(template) => {
                let root = format!("{at}.{}", self.dialect.quote(&t.columns[member.of].name));
                template.replace("{}", &root)
            }
            Indexed::Column(name) => format!("{at}.{}", self.dialect.quote(name)),
        };
        Some((indexed, column))
    }

    /// The expression of a path's value as rows are ordered by it, and its column.
    pub(super) fn ordered(&mut self, scope: &mut Scope, path: &Path) -> (Fragment, &'a Column) {
        let (at, of) = self.end(scope, path);
        let column = &self.model.types[of].columns[path.column];
        let value = match column.form {
            StorageFormat::JsonValue => {
                self.dialect.ordered_part(column, self.compared(of, path.column, &at, path.masked))
            }
            _ => self.dialect.ordered(column, self.shown_column(of, path.column, &at, path.masked)),
        };
        (Fragment::text(value), column)
    }
}

/// The name of a masked column as it is shown.
fn shown(column: &Column) -> String {
    format!("{} (masked)", column.name)
}
