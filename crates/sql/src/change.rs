//! Statements that change rows, and those that find the rows to be changed. Rows are found under every condition, locked,
//! and then changed by key: a condition is never part of an UPDATE or a DELETE.

use super::dialect::{relation, rows_of};
use super::far_side::Root;
use super::from::Writer;
use super::select::{Clauses, Correlation};
use super::{Dialect, Fragment, Slot, Statement};
use puente_core::model::{Column, ColumnId, Model, TypeId};
use puente_core::plan::change::Assignment;
use puente_core::plan::{RowSet, Select};

/// The rows that a change is about: a root select, in the order of its terms, locked until the transaction ends.
pub fn address(model: &Model, dialect: &dyn Dialect, select: &Select) -> Statement {
    let limited = |writer: &mut Writer<'_>, clauses: &mut Clauses<'_>, output: Fragment| {
        let mut whole = clauses.in_order(writer, output);
        if let RowSet::Page { size, .. } = select.row_set {
            whole.append(clauses.limit(dialect.limit(Slot::PageSize(size), None)));
        }
        whole
    };
    let mut writer = Writer::new(model, dialect);
    let mut root = Root::new(&mut writer, select, &limited);
    let output = Fragment::join(root.clauses.output(&mut writer), ", ");
    let lock = dialect.lock(&root.clauses.scope.alias);
    let mut whole = root.whole(&mut writer, output);
    whole.push(&lock);
    whole.finish(dialect)
}

/// The rows that equal keys: at most one per key, begun with the key's ordinal.
pub fn keyed(model: &Model, dialect: &dyn Dialect, select: &Select, lock: bool) -> Statement {
    let mut writer = Writer::new(model, dialect);
    let mut clauses = Clauses::new(&mut writer, select, Correlation::Keys(None));
    let mut output = vec![Fragment::text("k.o")];
    output.extend(clauses.output(&mut writer));
    let rest = clauses.rows_and_conditions();
    let mut whole = Fragment::format("select {}{} order by k.o", [Fragment::join(output, ", "), rest]);
    if lock {
        whole.push(&dialect.lock(&clauses.scope.alias));
    }
    whole.finish(dialect)
}

/// Inserts `rows` rows with values for `columns`, and tells the values of `returning`, row by row, if there are any.
pub fn insert(
    model: &Model,
    dialect: &dyn Dialect,
    of: TypeId,
    columns: &[ColumnId],
    rows: usize,
    returning: &[ColumnId],
) -> Statement {
    let names: Vec<String> = columns.iter().map(|column| quoted(model, dialect, of, *column)).collect();
    let what = if columns.is_empty() {
        Fragment::text(dialect.nothing_given())
    } else {
        let typed: Vec<&Column> = columns.iter().map(|column| &model.types[of].columns[*column]).collect();
        let arrays = if rows > 1 { dialect.rows_as_arrays(&typed) } else { None };
        let source = match arrays {
            Some(arrays) => Fragment::format("select * from {}", [arrays]),
            None => {
                let row = |row: usize| {
                    let values = typed
                        .iter()
                        .enumerate()
                        .map(|(at, column)| dialect.stored(Slot::Given(row * columns.len() + at), column));
                    Fragment::format("({})", [Fragment::join(values, ", ")])
                };
                Fragment::format("values {}", [Fragment::join((0..rows).map(row), ", ")])
            }
        };
        Fragment::format("({}) {}", [Fragment::text(names.join(", ")), source])
    };
    let mut whole = Fragment::format("insert into {} {}", [Fragment::text(relation(dialect, &model.types[of])), what]);
    if returning.is_empty() {
        return whole.finish(dialect);
    }
    whole.push(" returning ");
    let told: Vec<String> = returning
        .iter()
        .map(|column| dialect.delivered(&model.types[of].columns[*column], quoted(model, dialect, of, *column)))
        .collect();
    whole.push(&told.join(", "));
    whole.finish(dialect)
}

/// Changes columns in the rows of `keys` keys.
pub fn update(
    model: &Model,
    dialect: &dyn Dialect,
    of: TypeId,
    set: &[(ColumnId, Assignment)],
    key: &[ColumnId],
    keys: usize,
) -> Statement {
    // By this name the row is known where its columns could be taken for those of what is read in between.
    const ROW: &str = "t";
    let (mut writer, mut next) = (Writer::new(model, dialect), 0);
    let mut terms = Vec::new();
    for (column, assigned) in set {
        let (id, column) = (*column, &model.types[of].columns[*column]);
        let name = Fragment::text(quoted(model, dialect, of, id));
        let mut slot = || {
            next += 1;
            Slot::Given(next - 1)
        };
        terms.push(match assigned {
            // A sum takes the type of its parts: here the engine cannot tell it from the column alone.
            Assignment::Add(_) => Fragment::format("{} = {} + {}", [name.clone(), name, dialect.value(slot(), column)]),
            Assignment::Value(_) => Fragment::format("{} = {}", [name, dialect.stored(slot(), column)]),
            Assignment::Json(change) => {
                Fragment::format("{} = {}", [name, writer.json_changed(of, id, ROW, change, &mut next)])
            }
        });
    }
    let rows = matching(model, dialect, of, key, keys, next);
    let is_named = set.iter().any(|(_, assigned)| matches!(assigned, Assignment::Json(_)));
    let table = if is_named { table(model, dialect, of).named(ROW) } else { table(model, dialect, of) };
    Fragment::format("update {} set {} where {}", [table, Fragment::join(terms, ", "), rows]).finish(dialect)
}

/// Sets columns in `rows` rows, each found by its key and set to values of its own. The values of a row: its key's, then
/// its columns'.
pub fn update_each(
    model: &Model,
    dialect: &dyn Dialect,
    of: TypeId,
    set: &[ColumnId],
    key: &[ColumnId],
    rows: usize,
) -> Statement {
    if rows == 1 {
        return update_one(model, dialect, of, set, key);
    }
    let t = &model.types[of];
    let width = key.len() + set.len();
    let row = |row: usize| {
        let values = key.iter().chain(set).enumerate().map(|(at, column)| {
            let value = dialect.value(Slot::Given(row * width + at), &t.columns[*column]);
            value.named(&format!("v{at}"))
        });
        Fragment::format("select {}", [Fragment::join(values, ", ")])
    };
    let values = Fragment::join((0..rows).map(row), " union all ");
    let keys: Vec<String> = key
        .iter()
        .enumerate()
        .map(|(at, column)| {
            let c = &t.columns[*column];
            let own = dialect.compared(c, format!("t.{}", quoted(model, dialect, of, *column)));
            format!("{own} = {}", dialect.compared(c, format!("v.v{at}")))
        })
        .collect();
    let set: Vec<String> = set
        .iter()
        .enumerate()
        .map(|(at, column)| {
            let name = dialect.set_name(&quoted(model, dialect, of, *column));
            format!("{name} = v.v{}", key.len() + at)
        })
        .collect();
    let [set, keys] = [Fragment::text(set.join(", ")), Fragment::text(keys.join(" and "))];
    dialect.update_from(table(model, dialect, of), values, set, keys).finish(dialect)
}

/// The same for one row, whose columns tell the engine the types of their values.
fn update_one(model: &Model, dialect: &dyn Dialect, of: TypeId, set: &[ColumnId], key: &[ColumnId]) -> Statement {
    let columns = &model.types[of].columns;
    let name = |column: ColumnId| quoted(model, dialect, of, column);
    let terms = set.iter().enumerate().map(|(at, column)| {
        let value = dialect.stored(Slot::Given(key.len() + at), &columns[*column]);
        Fragment::format("{} = {}", [Fragment::text(name(*column)), value])
    });
    let keys = key.iter().enumerate().map(|(at, column)| {
        let own = Fragment::text(dialect.compared(&columns[*column], name(*column)));
        Fragment::format("{} = {}", [own, dialect.value(Slot::Given(at), &columns[*column])])
    });
    let parts = [table(model, dialect, of), Fragment::join(terms, ", "), Fragment::join(keys, " and ")];
    Fragment::format("update {} set {} where {}", parts).finish(dialect)
}

/// Deletes the rows of `keys` keys.
pub fn delete(model: &Model, dialect: &dyn Dialect, of: TypeId, key: &[ColumnId], keys: usize) -> Statement {
    let rows = matching(model, dialect, of, key, keys, 0);
    Fragment::format("delete from {} where {}", [table(model, dialect, of), rows]).finish(dialect)
}

/// The rows of so many keys; `first` is the number of the first key's first value.
fn matching(model: &Model, dialect: &dyn Dialect, of: TypeId, key: &[ColumnId], keys: usize, first: usize) -> Fragment {
    let name =
        |column: ColumnId| dialect.compared(&model.types[of].columns[column], quoted(model, dialect, of, column));
    let value = |column: ColumnId, number: usize| dialect.value(Slot::Given(number), &model.types[of].columns[column]);
    if let [column] = key {
        let values = Fragment::join((0..keys).map(|at| value(*column, first + at)), ", ");
        return Fragment::format("{} in ({})", [Fragment::text(name(*column)), values]);
    }
    let one = |at: usize| {
        let parts = key.iter().enumerate().map(|(part, column)| {
            let bound = value(*column, first + at * key.len() + part);
            Fragment::format("{} = {}", [Fragment::text(name(*column)), bound])
        });
        Fragment::format("({})", [Fragment::join(parts, " and ")])
    };
    Fragment::join((0..keys).map(one), " or ")
}

fn table(model: &Model, dialect: &dyn Dialect, of: TypeId) -> Fragment {
    Fragment::text(rows_of(dialect, &model.types[of]))
}

fn quoted(model: &Model, dialect: &dyn Dialect, of: TypeId, column: ColumnId) -> String {
    dialect.quote(&model.types[of].columns[column].name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mariadb, Postgres, Sqlite};
    use puente_core::catalog::Catalog;
    use puente_core::project;
    use puente_core::value::Datum;

    fn huts() -> (Model, TypeId) {
        let catalog = Catalog::from_text(include_str!("../../core/tests/data/huts.json")).unwrap();
        let project = project::read("[source.main]\nurl = \"sqlite:huts.db\"\n", &|_| None).unwrap();
        let model = puente_core::model::build(&[&catalog], &project).unwrap();
        let bookings = model.type_named("Booking").unwrap();
        (model, bookings)
    }

    #[test]
    fn rows_are_inserted_as_each_engine_takes_them_best() {
        let (model, of) = huts();
        let of_columns = |names: &[&str]| -> Vec<ColumnId> {
            names.iter().map(|name| model.types[of].column_named(name).unwrap()).collect()
        };
        let columns = of_columns(&["hut_id", "hiker_id"]);
        let text = |dialect: &dyn Dialect, rows| insert(&model, dialect, of, &columns, rows, &of_columns(&["id"])).text;
        let one = "insert into \"bookings\" (\"hut_id\", \"hiker_id\") values";
        assert_eq!(text(&Sqlite, 1), format!("{one} (?, ?) returning \"id\""));
        assert_eq!(text(&Postgres, 1), format!("{one} ($1, $2) returning \"id\""));
        assert!(text(&Postgres, 3).contains("select * from unnest($1::"), "{}", text(&Postgres, 3));
        assert_eq!(
            text(&Mariadb, 2),
            "insert into `bookings` (`hut_id`, `hiker_id`) values (?, ?), (?, ?) returning `id`"
        );
        let nothing = insert(&model, &Sqlite, of, &[], 1, &of_columns(&["id"])).text;
        assert_eq!(nothing, "insert into \"bookings\" default values returning \"id\"");
    }

    #[test]
    fn rows_are_changed_by_key_and_by_nothing_else() {
        let (model, of) = huts();
        let column = |name: &str| model.types[of].column_named(name).unwrap();
        let set = [(column("hut_id"), Assignment::Value(Datum::Null)), (column("id"), Assignment::Add(Datum::Null))];
        let found = update(&model, &Sqlite, of, &set, &[column("id")], 2);
        assert_eq!(found.text, "update \"bookings\" set \"hut_id\" = ?, \"id\" = \"id\" + ? where \"id\" in (?, ?)");
        assert_eq!(found.slots, [0, 1, 2, 3].map(Slot::Given));
        let key = [column("hut_id"), column("hiker_id")];
        let found = delete(&model, &Mariadb, of, &key, 2);
        assert_eq!(
            found.text,
            "delete from `bookings` where (`hut_id` = ? and `hiker_id` = ?) or (`hut_id` = ? and `hiker_id` = ?)"
        );
        let each = update_each(&model, &Mariadb, of, &[column("hut_id")], &[column("id")], 2);
        assert_eq!(
            each.text,
            "update `bookings` as t join (select ? as v0, ? as v1 union all select ? as v0, ? as v1) as v \
             on t.`id` = v.v0 set t.`hut_id` = v.v1"
        );
    }
}
