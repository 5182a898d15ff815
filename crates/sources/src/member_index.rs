//! Expressions that take a member out of JSON, recognised in what engines tell of indexes and of generated columns. What is written in
//! another way is no mistake: it is not used.

use std::cell::RefCell;

use puente_core::catalog::{Indexed, IndexedType, MemberIndex, Table};
use puente_core::model::ColumnId;
use puente_core::plan::{Plan, SelectId};
use puente_core::value::Scalar;
use puente_sql::Dialect;

/// A member that an expression takes out of a column.
struct Taken {
    column: String,
    path: Vec<String>,
    /// The expression, in which `{}` stands for the column.
    template: String,
    of: IndexedType,
}

/// The index on an expression, where it takes a member out of a column of this table.
pub(crate) fn on_expression(table: &Table, expression: &str) -> Option<MemberIndex> {
    let Taken { column, path, template, of } = taken(table, expression)?;
    Some(MemberIndex { column, path, on: Indexed::Expression(template), of })
}

/// The index on a generated column, where its expression does.
pub(crate) fn on_column(table: &Table, generated: &str, expression: &str) -> Option<MemberIndex> {
    let of = match table.column(generated)?.scalar {
        Scalar::Int | Scalar::BigInt | Scalar::Float | Scalar::Decimal => IndexedType::Number,
        Scalar::String => IndexedType::Text,
        Scalar::Boolean => IndexedType::Boolean,
        _ => return None,
    };
    let Taken { column, path, .. } = taken(table, expression)?;
    Some(MemberIndex { column, path, on: Indexed::Column(generated.to_owned()), of })
}

fn taken(table: &Table, expression: &str) -> Option<Taken> {
    let found = extracted(expression).or_else(|| arrows(expression))?;
    // Names are matched as SQLite does; PostgreSQL tells them as they are declared.
    let column = table.columns.iter().find(|column| column.name.eq_ignore_ascii_case(&found.column))?;
    (column.scalar == Scalar::Json).then(|| Taken { column: column.name.clone(), ..found })
}

/// Members of JSON that the rows of a select are found by and that no index has, each with the statement that would make one.
pub(crate) fn advice(plan: &Plan, select: SelectId, dialect: &dyn Dialect) -> Vec<String> {
    let (model, select) = (plan.model(), &plan.selects()[select]);
    let t = &model.types[select.of];
    let compared: RefCell<Vec<ColumnId>> = RefCell::default();
    for predicate in &select.predicates {
        predicate.condition.mentions(&|path| {
            if path.hops.is_empty() && !path.masked {
                compared.borrow_mut().push(path.column);
            }
            false
        });
    }
    let mut columns = compared.into_inner();
    columns.sort_unstable();
    columns.dedup();
    let advise = |column: ColumnId| {
        let c = &t.columns[column];
        let (member, scalar) = (c.member.as_ref().filter(|member| member.index.is_none())?, c.scalar()?);
        let statement = dialect.json_index(t, &t.columns[member.of], &member.path, scalar)?;
        Some(format!(
            "rows are compared by `{}`; `{statement}`, and then a survey, would find them by it",
            member.label
        ))
    };
    columns.into_iter().filter_map(advise).collect()
}

/// `json_extract(report, '$.weather.snow')`
fn extracted(expression: &str) -> Option<Taken> {
    let expression = outside_parentheses(expression);
    let rest = strip_prefix(expression, "json_extract")?.trim();
    let [column, path] = parts(rest.strip_prefix('(')?.strip_suffix(')')?, ',').try_into().ok()?;
    let template = format!("json_extract({{}}, {path})");
    Some(Taken { column: identifier(column)?, path: steps(&literal(path)?)?, template, of: IndexedType::Any })
}

/// `report ->> '$.kind'` of SQLite, `((report -> 'weather') ->> 'snow')::integer` of PostgreSQL.
fn arrows(expression: &str) -> Option<Taken> {
    let (expression, of) = typed(outside_parentheses(expression))?;
    let (from, last) = split_last(outside_parentheses(expression), "->>")?;
    let mut inner = outside_parentheses(from);
    let mut between: Vec<String> = Vec::new();
    while let Some((from, step)) = split_last(inner, "->") {
        between.insert(0, literal(step)?);
        inner = outside_parentheses(from);
    }
    let (column, last) = (identifier(inner)?, literal(last)?);
    if last.starts_with('$') {
        let template = format!("({{}} ->> {})", quoted(&last));
        return between.is_empty().then(|| steps(&last)).flatten().map(|path| Taken {
            column,
            path,
            template,
            of: IndexedType::Any,
        });
    }
    let steps: String = between.iter().map(|step| format!(" -> {}", quoted(step))).collect();
    let cast = of.as_ref().map_or(String::new(), |(name, _)| format!("::{name}"));
    let template = format!("({{}}{steps} ->> {}){cast}", quoted(&last));
    between.push(last);
    let is_sqlite = !expression.contains("::text");
    let of = of.map_or(if is_sqlite { IndexedType::Any } else { IndexedType::Text }, |(_, of)| of);
    Some(Taken { column, path: between, template, of })
}

/// An expression without a cast behind it, and the type that it is cast to, where that is one.
fn typed(expression: &str) -> Option<(&str, Option<(String, IndexedType)>)> {
    // A literal has a cast of its own.
    let Some((inner, name)) = expression.rsplit_once(")::") else { return Some((expression, None)) };
    let name = name.trim();
    let of = match name {
        "integer" | "bigint" | "smallint" | "numeric" | "double precision" | "real" => IndexedType::Number,
        "boolean" => IndexedType::Boolean,
        "text" => IndexedType::Text,
        _ => return None,
    };
    Some((inner.strip_prefix('(')?, Some((name.to_owned(), of))))
}

/// The members of a way such as `$.weather."snow"`; none where it goes into lists.
fn steps(path: &str) -> Option<Vec<String>> {
    let mut rest = path.strip_prefix('$')?;
    let mut steps = Vec::new();
    while !rest.is_empty() {
        rest = rest.strip_prefix('.')?;
        let (step, after) = match rest.strip_prefix('"') {
            Some(quoted) => quoted.split_once('"')?,
            None => rest.split_at(rest.find(['.', '[']).unwrap_or(rest.len())),
        };
        steps.push(step.to_owned());
        rest = after;
    }
    (!steps.is_empty() && steps.iter().all(|step| !step.is_empty())).then_some(steps)
}

/// The columns of a table, each with what it is generated by, as `create table` says them.
pub(crate) fn generated(create_table: &str) -> Vec<(String, String)> {
    let Some(body) = first_parentheses(create_table) else { return Vec::new() };
    let column = |definition: &str| {
        let definition = definition.trim_start();
        let name = definition.split([' ', '\t', '\n', '(']).next()?;
        let at = words(definition).find(|(_, word)| word.eq_ignore_ascii_case("as")).map(|(at, _)| at)?;
        let expression = first_parentheses(&definition[at..])?;
        Some((identifier(name)?, expression.to_owned()))
    };
    parts(body, ',').into_iter().filter_map(column).collect()
}

/// The first of what an index is on, as `create index` says it.
pub(crate) fn first_indexed(create_index: &str) -> Option<String> {
    let (at, _) = words(create_index).find(|(_, word)| word.eq_ignore_ascii_case("on"))?;
    parts(first_parentheses(&create_index[at..])?, ',').first().map(|first| (*first).trim().to_owned())
}

/// Has an index a condition?
pub(crate) fn has_condition(create_index: &str) -> bool {
    words(create_index).any(|(_, word)| word.eq_ignore_ascii_case("where"))
}

/// Pieces of SQL outside of quotes and parentheses: where each begins, and how deep it is.
fn outside(sql: &str) -> impl Iterator<Item = (usize, char, usize)> {
    let (mut quote, mut depth): (Option<char>, usize) = (None, 0);
    sql.char_indices().filter_map(move |(at, c)| match (quote, c) {
        (Some(end), c) if c == end => {
            quote = None;
            None
        }
        (Some(_), _) => None,
        (None, '\'' | '"' | '`') => {
            quote = Some(c);
            None
        }
        (None, '[') => {
            quote = Some(']');
            None
        }
        (None, '(') => {
            depth += 1;
            Some((at, c, depth))
        }
        (None, ')') => {
            depth = depth.saturating_sub(1);
            Some((at, c, depth + 1))
        }
        (None, c) => Some((at, c, depth)),
    })
}

/// The words outside of quotes and parentheses.
fn words(sql: &str) -> impl Iterator<Item = (usize, &str)> {
    let starts = outside(sql).filter(|(at, c, depth)| {
        let before = sql[..*at].chars().next_back();
        *depth == 0 && c.is_alphabetic() && before.is_none_or(|before| !before.is_alphanumeric() && before != '_')
    });
    starts.map(|(at, _, _)| {
        let length = sql[at..].find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(sql.len() - at);
        (at, &sql[at..at + length])
    })
}

/// What is between the first parentheses.
fn first_parentheses(sql: &str) -> Option<&str> {
    let start = outside(sql).find(|(_, c, depth)| *c == '(' && *depth == 1)?.0;
    let end = outside(sql).find(|(at, c, depth)| *at > start && *c == ')' && *depth == 1)?.0;
    Some(&sql[start + 1..end])
}

/// Parts between separators outside of quotes and parentheses.
fn parts(sql: &str, separator: char) -> Vec<&str> {
    let mut parts = Vec::new();
    let mut start = 0;
    for (at, _, _) in outside(sql).filter(|(_, c, depth)| *c == separator && *depth == 0) {
        parts.push(sql[start..at].trim());
        start = at + separator.len_utf8();
    }
    parts.push(sql[start..].trim());
    parts
}

/// What is before and behind the last operator outside of quotes and parentheses.
fn split_last<'s>(sql: &'s str, operator: &str) -> Option<(&'s str, &'s str)> {
    let places: Vec<usize> = outside(sql)
        .filter(|(at, _, depth)| *depth == 0 && sql[*at..].starts_with(operator) && !sql[..*at].ends_with('-'))
        .map(|(at, _, _)| at)
        .collect();
    let at = *places.last()?;
    let behind = &sql[at + operator.len()..];
    (!behind.starts_with('>')).then(|| (sql[..at].trim(), behind.trim()))
}

/// An expression without parentheses around the whole of it.
fn outside_parentheses(sql: &str) -> &str {
    let sql = sql.trim();
    let is_whole = sql.starts_with('(')
        && outside(sql).find(|(at, c, depth)| *at > 0 && *c == ')' && *depth == 1).map(|(at, _, _)| at)
            == Some(sql.len() - 1);
    if is_whole { outside_parentheses(&sql[1..sql.len() - 1]) } else { sql }
}

fn strip_prefix<'s>(sql: &'s str, prefix: &str) -> Option<&'s str> {
    let head = sql.get(..prefix.len())?;
    head.eq_ignore_ascii_case(prefix).then(|| &sql[prefix.len()..])
}

/// A name, without its quotes.
fn identifier(sql: &str) -> Option<String> {
    let sql = sql.trim();
    let inner = |open: char, close: char| sql.strip_prefix(open)?.strip_suffix(close);
    if let Some(quoted) = inner('"', '"').or_else(|| inner('`', '`')).or_else(|| inner('[', ']')) {
        return (!quoted.contains(['"', '`'])).then(|| quoted.to_owned());
    }
    let is_plain = !sql.is_empty() && sql.chars().all(|c| c.is_alphanumeric() || c == '_');
    is_plain.then(|| sql.to_owned())
}

/// A text in quotes, with a cast to text or without.
fn literal(sql: &str) -> Option<String> {
    let sql = sql.trim();
    let sql = sql.strip_suffix("::text").unwrap_or(sql).trim();
    let inner = sql.strip_prefix('\'')?.strip_suffix('\'')?;
    (!inner.contains('\'')).then(|| inner.to_owned())
}

fn quoted(text: &str) -> String {
    format!("'{text}'")
}

#[cfg(test)]
mod tests {
    use puente_core::catalog::Catalog;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("json_extract(report, '$.kind')", &["kind"], "json_extract({}, '$.kind')", IndexedType::Any)]
    #[case("JSON_EXTRACT(\"report\",'$.\"weather\".\"snow\"')", &["weather", "snow"], "json_extract({}, '$.\"weather\".\"snow\"')", IndexedType::Any)]
    #[case("report->>'$.weather.snow'", &["weather", "snow"], "({} ->> '$.weather.snow')", IndexedType::Any)]
    #[case("([report] ->> 'kind')", &["kind"], "({} ->> 'kind')", IndexedType::Any)]
    #[case("(report ->> 'kind'::text)", &["kind"], "({} ->> 'kind')", IndexedType::Text)]
    #[case(
        "((report -> 'weather'::text) ->> 'snow'::text)::integer", &["weather", "snow"],
        "({} -> 'weather' ->> 'snow')::integer", IndexedType::Number
    )]
    #[case("((report ->> 'safe'::text)::boolean)", &["safe"], "({} ->> 'safe')::boolean", IndexedType::Boolean)]
    fn members_are_recognised(
        #[case] expression: &str,
        #[case] path: &[&str],
        #[case] template: &str,
        #[case] of: IndexedType,
    ) {
        let found = on_expression(&table(), expression).unwrap();
        assert_eq!((found.column.as_str(), found.of), ("report", of));
        assert_eq!(found.path, path);
        assert_eq!(found.on, Indexed::Expression(template.to_owned()));
    }

    #[rstest]
    fn anything_else_is_left_alone(
        #[values(
            "lower(report ->> 'kind')",
            "json_extract(report, '$.people[0].name')",
            "json_extract(report, '$')",
            "json_extract(report, '$.a', '$.b')",
            "report -> 'kind'",
            "other ->> 'kind'",
            "id ->> 'kind'",
            "report ->> 0",
            "(report ->> 'day'::text)::date",
            "(report ->> 'a') || (report ->> 'b')",
            "report #>> '{a,b}'::text[]",
            "",
            "((((",
            "'"
        )]
        expression: &str,
    ) {
        assert_eq!(on_expression(&table(), expression), None);
    }

    #[test]
    fn what_columns_are_generated_by_is_read_from_the_table() {
        let text = "CREATE TABLE incidents (id integer primary key, report json check (report like '(%'), \
                    \"kind\" text generated always as (json_extract(report, '$.kind')) stored, \
                    snow int AS (report ->> '$.weather.snow'), as_is text)";
        let found = generated(text);
        assert_eq!(found.len(), 2, "{found:?}");
        assert_eq!(found[0], ("kind".to_owned(), "json_extract(report, '$.kind')".to_owned()));
        assert_eq!(found[1].1, "report ->> '$.weather.snow'");
        assert_eq!(
            first_indexed("CREATE UNIQUE INDEX \"on (x)\" ON \"incidents\" (report ->> '$.a,b', id)").unwrap(),
            "report ->> '$.a,b'"
        );
        assert_eq!(generated("create table x"), []);
    }

    fn table() -> Table {
        let text = r#"{"format": 1, "engine": "sqlite", "tables": [{"name": "incidents", "kind": "table", "columns": [
            {"name": "id", "declared": "integer", "scalar": "Int"}, {"name": "report", "declared": "json", "scalar": "JSON"},
            {"name": "kind", "declared": "text", "scalar": "String"}]}]}"#;
        Catalog::from_text(text).unwrap().tables.remove(0)
    }
}
