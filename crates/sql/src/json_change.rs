//! Changes of parts of JSON: expressions of what it then is, made of what it was, so that one statement sets it with other columns.

use puente_core::model::{ColumnId, TypeId};
use puente_core::plan::change::JsonChange;

use super::from::{Scope, Writer};
use super::{Fragment, Slot};

/// A column whose JSON is changed, and the number of the next value that is bound.
struct Changed<'n> {
    /// Its JSON, whatever it holds.
    root: String,
    next: &'n mut usize,
}

impl Changed<'_> {
    fn slot(&mut self) -> Slot {
        *self.next += 1;
        Slot::Given(*self.next - 1)
    }
}

impl Writer<'_> {
    /// What a column of the row `alias` is set to. Values are bound from the number `next` on, which is moved behind them.
    pub(super) fn json_changed(
        &mut self,
        of: TypeId,
        column: ColumnId,
        alias: &str,
        change: &JsonChange,
        next: &mut usize,
    ) -> Fragment {
        let mut changed = Changed { root: self.column(of, column, alias), next };
        let value = self.json_part(&mut changed, &[], change);
        self.dialect.json_stored(&self.model.types[of].columns[column], value)
    }

    /// The JSON of the part that these members lead to, as it becomes.
    fn json_part(&mut self, changed: &mut Changed<'_>, path: &[String], change: &JsonChange) -> Fragment {
        let dialect = self.dialect;
        let part = if path.is_empty() { changed.root.clone() } else { dialect.json_member(&changed.root, path) };
        match change {
            JsonChange::Set(_) => dialect.json_given(changed.slot()),
            // Only members can be taken away.
            JsonChange::Unset => Fragment::text(part),
            JsonChange::Add(_, number) => dialect.json_sum(&part, changed.slot(), *number),
            JsonChange::Push(_) => dialect.json_pushed(&part, changed.slot()),
            JsonChange::Pull(_) => {
                let alias = self.alias();
                let condition = dialect.json_is_item(&alias, changed.slot());
                dialect.json_kept(&part, &alias, Fragment::format("not ({})", [condition]))
            }
            JsonChange::PullWhere(items, condition) => {
                let mut scope = Scope::on(*items, &self.alias());
                let condition = self.condition(&mut scope, condition, false);
                dialect.json_kept(&part, &scope.alias, Fragment::format("({}) is not true", [condition]))
            }
            JsonChange::Object(members) => {
                let mut object = Fragment::text(dialect.json_object(&part));
                for (name, change) in members {
                    let path: Vec<String> = path.iter().chain([name]).cloned().collect();
                    object = match change {
                        JsonChange::Unset => dialect.json_without(object, name),
                        JsonChange::Set(_) | JsonChange::Push(_) | JsonChange::Object(_) => {
                            let value = self.json_part(changed, &path, change);
                            dialect.json_with(object, name, value, true)
                        }
                        // What is not there is not made.
                        JsonChange::Add(..) | JsonChange::Pull(_) | JsonChange::PullWhere(..) => {
                            let value = self.json_part(changed, &path, change);
                            dialect.json_with(object, name, value, false)
                        }
                    };
                }
                object
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use puente_core::catalog::Catalog;
    use puente_core::model::{Model, TypeId};
    use puente_core::plan::change::{Assignment, JsonChange};
    use puente_core::project;
    use puente_core::value::{Datum, Scalar};
    use rstest::rstest;

    use crate::{Dialect, Mariadb, Postgres, Sqlite, Statement, update};

    fn incidents() -> (Model, TypeId) {
        let catalog = Catalog::from_text(include_str!("../../core/tests/data/huts.json")).unwrap();
        let text = "[source.main]\nurl = \"sqlite:huts.db\"\n[[type]]\ntable = \"incidents\"\n[type.fields.report]\nshape = true\n";
        let project = project::read(text, &|_| None).unwrap();
        let model = puente_core::model::build(&[&catalog], &project).unwrap();
        let of = model.type_named("Incident").unwrap();
        (model, of)
    }

    fn set(dialect: &dyn Dialect, changes: Vec<(&str, JsonChange)>) -> Statement {
        let (model, of) = incidents();
        let column = |name: &str| model.types[of].column_named(name).unwrap();
        let members = changes.into_iter().map(|(name, change)| (name.to_owned(), change)).collect();
        let set = [(column("report"), Assignment::Json(JsonChange::Object(members)))];
        update(&model, dialect, of, &set, &[column("id")], 1)
    }

    #[rstest]
    #[case(
        &Sqlite,
        "update \"incidents\" as t set \"report\" = json_set(json_remove(json_set(@OBJECT, '$.\"kind\"', json(?)), '$.\"tags\"'), \
         '$.\"weather\"', json_set(case json_type((@ROOT -> '$.\"weather\"')) when 'object' then (@ROOT -> '$.\"weather\"') \
         else '{}' end, '$.\"snow\"', json(?))) where \"id\" in (?)"
    )]
    #[case(
        &Postgres,
        "update \"incidents\" as t set \"report\" = jsonb_set((jsonb_set(@OBJECT, array['kind'], coalesce($1::jsonb, \
         'null'::jsonb)) - 'tags'::text), array['weather'], coalesce(jsonb_set(case when jsonb_typeof((@ROOT -> 'weather')) = \
         'object' then (@ROOT -> 'weather') else '{}'::jsonb end, array['snow'], coalesce($2::jsonb, 'null'::jsonb)), \
         'null'::jsonb)) where \"id\" in ($3::text)"
    )]
    #[case(
        &Mariadb,
        "update `incidents` as t set `report` = json_set(json_remove(json_set(@OBJECT, '$.\"kind\"', json_extract(?, '$')), \
         '$.\"tags\"'), '$.\"weather\"', json_set(if(json_type(json_extract(@ROOT, '$.\"weather\"')) = 'OBJECT', \
         json_extract(@ROOT, '$.\"weather\"'), '{}'), '$.\"snow\"', json_extract(?, '$'))) where `id` in (?)"
    )]
    fn parts_are_set_in_what_is_there(#[case] dialect: &dyn Dialect, #[case] expected: &str) {
        let given = || JsonChange::Set(Datum::Null);
        let weather = JsonChange::Object(vec![("snow".to_owned(), given())]);
        let found = set(dialect, vec![("kind", given()), ("tags", JsonChange::Unset), ("weather", weather)]);
        let of_report = |(model, of): &(Model, TypeId)| {
            let report = &model.types[*of].columns[model.types[*of].column_named("report").unwrap()];
            dialect.json_root(report, format!("t.{}", dialect.quote("report")))
        };
        let root = of_report(&incidents());
        assert_eq!(found.text, expected.replace("@OBJECT", &dialect.json_object(&root)).replace("@ROOT", &root));
    }

    #[rstest]
    fn no_value_is_spliced_into_a_statement(#[values(&Sqlite, &Postgres, &Mariadb)] dialect: &dyn Dialect) {
        let text = || Datum::Text("secret".to_owned());
        let found = set(
            dialect,
            vec![
                ("kind", JsonChange::Set(text())),
                ("severity", JsonChange::Add(text(), Scalar::Int)),
                ("tags", JsonChange::Push(text())),
                ("notes", JsonChange::Pull(text())),
            ],
        );
        assert!(!found.text.contains("secret"), "{}", found.text);
    }
}
