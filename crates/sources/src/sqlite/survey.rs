//! The survey of a SQLite file: its schema, and a sample of its values.

use std::collections::HashMap;
use std::path::Path;

use puente_core::catalog::{
    Catalog, Column, ColumnShape, Engine, ForeignKey, MemberIndex, ShapeSample, Table, TableKind, round_rows,
};
use puente_core::error::Problem;
use puente_core::model::{KeyProposal, Proposal, Proven, candidates, keyless};
use puente_core::project::SourceSettings;
use puente_core::value::Scalar;
use puente_sql::{Dialect as _, Sqlite};
use rusqlite::Connection;
use rusqlite::types::ValueRef;

use super::checks;
use super::fault::problem;
use super::sample::Sample;
use crate::member_index::{first_indexed, generated, has_condition, on_column, on_expression};
use crate::sampling::{COUNTED_EXACTLY, KeySearch, ValueSample, convincing, counting, question, spread_key};
use puente_run::{Survey, SurveyWatch};

/// Rows sampled from each end of a table.
const SAMPLED_ROWS: u32 = 1_000;
/// Rows counted where the engine has no estimate.
const COUNTED_ROWS: u32 = 100_000;

/// Surveys a file. Nothing in it is changed.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where the file cannot be read. A table that cannot be read is a notice.
pub fn survey(settings: &SourceSettings, base: &Path, watch: &SurveyWatch) -> Result<Survey, Problem> {
    let file = &super::DatabaseFile::of(settings, base);
    let connection = super::open(&file.path, super::BUSY_TIMEOUT).map_err(|error| problem(&error, file))?;
    read(&connection, settings, watch).map_err(|error| problem(&error, file))
}

/// A digest of the tables' definitions.
///
/// # Errors
/// As for a survey.
pub(crate) fn fingerprint(settings: &SourceSettings, base: &Path) -> Result<String, Problem> {
    let file = &super::DatabaseFile::of(settings, base);
    let lines = || -> rusqlite::Result<Vec<String>> {
        let connection = super::open(&file.path, super::BUSY_TIMEOUT)?;
        super::past_rollback(|| super::tables(&connection))?;
        let mut statement = connection.prepare(
            "select type || ' ' || tbl_name || ' ' || coalesce(sql, name) from sqlite_schema
             where tbl_name not like 'sqlite\\_%' escape '\\'",
        )?;
        statement.query_map([], |row| row.get(0))?.collect()
    };
    lines().map(crate::engines::digest).map_err(|error| problem(&error, file))
}

fn read(connection: &Connection, settings: &SourceSettings, watch: &SurveyWatch) -> rusqlite::Result<Survey> {
    connection.execute_batch("begin")?;
    super::past_rollback(|| super::tables(connection))?;
    let mut notices = virtual_tables(connection)?;
    let mut tables = Vec::new();
    let mut listed = list(connection)?;
    listed.retain(|listed| !settings.leaves_out(&listed.name));
    let of = listed.len();
    for (done, listed) in listed.into_iter().enumerate() {
        let name = listed.name.clone();
        if !watch.reach(format!("table {name}"), done, of) {
            break;
        }
        match table(connection, listed) {
            Ok(mut table) => {
                add_shapes(connection, &mut table, settings.samples)?;
                tables.push(table);
            }
            Err(error) => notices.push(format!("`{name}` is left out: {error}")),
        }
    }
    let mut catalog = Catalog::of(Engine::Sqlite, tables);
    notices.extend(resolve_implicit_references(&mut catalog));
    notices.extend(without_their_collations(connection, &mut catalog)?);
    let mut proven = Proven::default();
    let found = candidates(&catalog);
    let of = found.len();
    for (done, candidate) in found.into_iter().enumerate() {
        if !watch.reach(format!("values of {}.{}", candidate.table, candidate.column), done, of) {
            break;
        }
        if proven.is_open(&candidate)
            && let Some(proposal) = sampled(connection, candidate)
        {
            proven.add(proposal);
        }
    }
    let keys =
        keyless(&catalog).into_iter().filter_map(|(table, columns)| proposed_key(connection, table, columns)).collect();
    connection.execute_batch("rollback")?;
    if catalog.tables.is_empty() {
        notices.push("there is no table in the database".to_owned());
    }
    Ok(Survey { catalog, proposals: proven.best(), keys, notices })
}

struct Listed {
    name: String,
    kind: TableKind,
    strict: bool,
    without_rowid: bool,
    sql: String,
    /// What SQLite was told of it and of its indexes.
    definitions: Vec<(String, String)>,
}

fn list(connection: &Connection) -> rusqlite::Result<Vec<Listed>> {
    let mut definitions = definitions(connection)?;
    let mut statement = connection.prepare(
        "select name, type, wr, strict from pragma_table_list
         where schema = 'main' and type in ('table', 'view') and name not like 'sqlite\\_%' escape '\\' order by name",
    )?;
    let rows = statement.query_map([], |row| {
        let (name, kind): (String, String) = (row.get(0)?, row.get(1)?);
        let definitions = definitions.remove(&name).unwrap_or_default();
        let own = definitions.iter().find(|(kind, _)| kind == "table" || kind == "view");
        Ok(Listed {
            kind: if kind == "view" { TableKind::View } else { TableKind::Table },
            without_rowid: row.get(2)?,
            strict: row.get(3)?,
            sql: own.map(|(_, sql)| sql.clone()).unwrap_or_default(),
            name,
            definitions,
        })
    })?;
    rows.collect()
}

/// What SQLite was told of each table and its indexes: the kind, and the statement. One look at the schema for all tables.
fn definitions(connection: &Connection) -> rusqlite::Result<HashMap<String, Vec<(String, String)>>> {
    let mut statement =
        connection.prepare("select tbl_name, type, sql from sqlite_schema where sql is not null order by rowid")?;
    let mut found: HashMap<String, Vec<(String, String)>> = HashMap::new();
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        found.entry(row.get(0)?).or_default().push((row.get(1)?, row.get(2)?));
    }
    Ok(found)
}

/// Virtual tables are left out: what they accept and how they compare is up to their module.
fn virtual_tables(connection: &Connection) -> rusqlite::Result<Vec<String>> {
    let mut statement = connection
        .prepare("select name from pragma_table_list where schema = 'main' and type = 'virtual' order by name")?;
    let names = statement.query_map([], |row| row.get::<_, String>(0))?;
    names.map(|name| name.map(|name| format!("`{name}` is left out: it is a virtual table"))).collect()
}

/// A column as `pragma table_xinfo` tells it.
struct Told {
    name: String,
    declared: String,
    not_null: bool,
    default: Option<String>,
    key_position: i64,
    generated: bool,
}

fn table(connection: &Connection, listed: Listed) -> rusqlite::Result<Table> {
    let told = columns(connection, &listed.name)?;
    let samples = sample(connection, &listed, &told)?;
    let lists = checks::text_lists(&listed.sql);
    let mut key: Vec<&Told> = told.iter().filter(|column| column.key_position > 0).collect();
    key.sort_by_key(|column| column.key_position);
    let primary_key: Vec<String> = key.iter().map(|column| column.name.clone()).collect();
    let rowid_alias = match key.as_slice() {
        [only] if !listed.without_rowid && only.declared.eq_ignore_ascii_case("INTEGER") => Some(only.name.clone()),
        _ => None,
    };
    let mut columns = Vec::new();
    for (column, sample) in told.iter().zip(samples) {
        let judged = sample.judge(&column.declared);
        let is_alias = rowid_alias.as_ref() == Some(&column.name);
        let typed = listed.strict && !column.declared.eq_ignore_ascii_case("ANY");
        let values = lists.iter().find(|(name, _)| name.eq_ignore_ascii_case(&column.name));
        columns.push(Column {
            name: column.name.clone(),
            declared: column.declared.clone(),
            scalar: judged.scalar,
            list: false,
            cast: None,
            domain: false,
            form: judged.form,
            nullable: !column.not_null && !is_alias,
            enforced: is_alias || (typed && column.not_null),
            default: column.default.clone(),
            generated: column.generated,
            automatic: is_alias,
            values: values.map(|(_, values)| values.clone()).unwrap_or_default(),
            collation: collation(connection, &listed, &column.name)?,
            comment: None,
            notice: judged.notice,
            shape: None,
        });
    }
    let indexes = indexes(connection, &listed.name)?;
    let mut unique_keys: Vec<Vec<String>> = indexes
        .iter()
        .filter(|index| index.is_key && index.columns != primary_key)
        .map(|index| index.columns.clone())
        .collect();
    unique_keys.sort();
    unique_keys.dedup();
    let mut covering: Vec<Vec<String>> =
        indexes.into_iter().filter(|index| !index.partial).map(|index| index.columns).collect();
    if rowid_alias.is_some() || listed.without_rowid {
        covering.push(primary_key.clone());
    }
    covering.sort();
    covering.dedup();
    let has_row_number = listed.kind == TableKind::Table
        && !listed.without_rowid
        && !told.iter().any(|column| column.name.eq_ignore_ascii_case("rowid"));
    let mut table = Table {
        about_rows: count(connection, &listed).map(round_rows),
        schema: None,
        relation: None,
        comment: None,
        primary_key,
        unique_keys,
        foreign_keys: foreign_keys(connection, &listed.name)?,
        indexes: covering,
        member_indexes: Vec::new(),
        row_number: has_row_number,
        without_transactions: false,
        inherited: false,
        name: listed.name.clone(),
        kind: listed.kind,
        columns,
    };
    table.member_indexes = member_indexes(&listed.definitions, &table);
    Ok(table)
}

/// Indexes that begin with a member of JSON: SQLite keeps what it was told.
fn member_indexes(definitions: &[(String, String)], table: &Table) -> Vec<MemberIndex> {
    let mut found = Vec::new();
    for (kind, sql) in definitions {
        match kind.as_str() {
            "table" => {
                let is_indexed = |column: &str| table.indexes.iter().any(|index| index[0] == column);
                let generated = generated(sql).into_iter().filter(|(column, _)| is_indexed(column));
                found.extend(generated.filter_map(|(column, expression)| on_column(table, &column, &expression)));
            }
            // One with a condition does not have every row.
            "index" if !has_condition(sql) => {
                found.extend(first_indexed(sql).and_then(|expression| on_expression(table, &expression)));
            }
            _ => {}
        }
    }
    found.sort();
    found.dedup();
    found
}

fn columns(connection: &Connection, table: &str) -> rusqlite::Result<Vec<Told>> {
    let mut statement =
        connection.prepare("select name, type, \"notnull\", dflt_value, pk, hidden from pragma_table_xinfo(?)")?;
    let rows = statement.query_map([table], |row| {
        let hidden: i64 = row.get(5)?;
        let told = Told {
            name: row.get(0)?,
            declared: row.get(1)?,
            not_null: row.get(2)?,
            default: row.get(3)?,
            key_position: row.get(4)?,
            generated: matches!(hidden, 2 | 3),
        };
        Ok((hidden != 1).then_some(told))
    })?;
    rows.filter_map(Result::transpose).collect()
}

fn collation(connection: &Connection, listed: &Listed, column: &str) -> rusqlite::Result<Option<String>> {
    if listed.kind == TableKind::View {
        return Ok(None);
    }
    let (_, collation, _, _, _) = connection.column_metadata(None, listed.name.as_str(), column)?;
    // SQLite matches names of collations regardless of case and keeps them as they were typed.
    let name = collation.and_then(|name| name.into_string().ok()).map(|name| name.to_ascii_uppercase());
    Ok(name.filter(|name| name != "BINARY"))
}

/// Columns whose collation an application has added to its own connections: here it is not, so they are compared and ordered byte by
/// byte, and rows of tables with an index over one cannot be written.
fn without_their_collations(connection: &Connection, catalog: &mut Catalog) -> rusqlite::Result<Vec<String>> {
    // The list that SQLite keeps of collations has those, too, that it has only heard of.
    let is_here = |name: &str| connection.prepare(&format!("select 'a' = 'b' collate {}", Sqlite.quote(name))).is_ok();
    let mut known = HashMap::new();
    let mut notices = Vec::new();
    for table in &mut catalog.tables {
        let mut strange: Vec<String> = Vec::new();
        for column in &mut table.columns {
            let Some(name) = column.collation.clone() else { continue };
            if *known.entry(name.clone()).or_insert_with(|| is_here(&name)) {
                continue;
            }
            let text = format!(
                "has the collation `{name}` of another application, which is not here: compared and ordered by `binary`"
            );
            column.notice = Some(match column.notice.take() {
                Some(before) => format!("{before}; {text}"),
                None => text,
            });
            column.collation = Some("BINARY".to_owned());
            strange.push(column.name.clone());
        }
        if strange.is_empty() {
            continue;
        }
        let is_over = |columns: &Vec<String>| columns.iter().any(|column| strange.contains(column));
        let is_indexed =
            table.indexes.iter().any(is_over) || table.unique_keys.iter().any(is_over) || is_over(&table.primary_key);
        // No row is found by such an index, and what is unique to it may not be to us.
        table.indexes.retain(|columns| !is_over(columns));
        table.unique_keys.retain(|columns| !is_over(columns));
        if is_indexed && table.kind == TableKind::Table {
            table.kind = TableKind::View;
            notices.push(format!(
                "`{}` is read-only here: an index over {} needs a collation that another application has",
                table.name,
                strange.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(" and ")
            ));
        }
    }
    Ok(notices)
}

struct Index {
    columns: Vec<String>,
    partial: bool,
    /// Unique over plain columns in their own collation, for every row.
    is_key: bool,
}

fn indexes(connection: &Connection, table: &str) -> rusqlite::Result<Vec<Index>> {
    let mut statement =
        connection.prepare("select name, \"unique\", partial from pragma_index_list(?) order by seq desc")?;
    let listed: Vec<(String, bool, bool)> =
        statement.query_map([table], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect::<Result<_, _>>()?;
    let mut found = Vec::new();
    for (name, unique, partial) in listed {
        let mut statement =
            connection.prepare("select name, coll from pragma_index_xinfo(?) where key = 1 order by seqno")?;
        let columns: Vec<(Option<String>, String)> =
            statement.query_map([&name], |row| Ok((row.get(0)?, row.get(1)?)))?.collect::<Result<_, _>>()?;
        let Some(names) = columns.iter().map(|(name, _)| name.clone()).collect::<Option<Vec<_>>>() else { continue };
        let mut own_collation = true;
        for (column, collation) in &columns {
            let column = column.as_deref().unwrap_or_default();
            let (_, own, _, _, _) = connection.column_metadata(None, table, column)?;
            let own = own.and_then(|own| own.into_string().ok()).unwrap_or_else(|| "BINARY".to_owned());
            own_collation &= own.eq_ignore_ascii_case(collation);
        }
        found.push(Index { columns: names, partial, is_key: unique && !partial && own_collation });
    }
    Ok(found)
}

fn foreign_keys(connection: &Connection, table: &str) -> rusqlite::Result<Vec<ForeignKey>> {
    let mut statement = connection.prepare(
        "select id, \"table\", \"from\", \"to\", on_delete from pragma_foreign_key_list(?) order by id desc, seq",
    )?;
    let mut found: Vec<(i64, ForeignKey)> = Vec::new();
    let mut rows = statement.query([table])?;
    while let Some(row) = rows.next()? {
        let id: i64 = row.get(0)?;
        let on_delete: String = row.get(4)?;
        if found.last().is_none_or(|(last, _)| *last != id) {
            let key = ForeignKey {
                columns: Vec::new(),
                table: row.get(1)?,
                references: Vec::new(),
                on_delete: Some(on_delete).filter(|action| action != "NO ACTION"),
                // Each connection says for itself whether it keeps them.
                enforced: false,
            };
            found.push((id, key));
        }
        let Some((_, key)) = found.last_mut() else { continue };
        key.columns.push(row.get(2)?);
        key.references.extend(row.get::<_, Option<String>>(3)?);
    }
    Ok(found.into_iter().map(|(_, key)| key).collect())
}

/// `references huts` without columns means the primary key. Names of tables and columns are matched as SQLite does,
/// regardless of case, and written as they are declared. What leads nowhere is left out.
fn resolve_implicit_references(catalog: &mut Catalog) -> Vec<String> {
    let tables: HashMap<String, (String, Vec<String>, Vec<String>)> = catalog
        .tables
        .iter()
        .map(|table| {
            let columns = table.columns.iter().map(|column| column.name.clone()).collect();
            (table.name.to_ascii_lowercase(), (table.name.clone(), table.primary_key.clone(), columns))
        })
        .collect();
    let mut missing = Vec::new();
    for table in &mut catalog.tables {
        let own: Vec<String> = table.columns.iter().map(|column| column.name.clone()).collect();
        table.foreign_keys.retain_mut(|key| {
            let Some((name, primary_key, columns)) = tables.get(&key.table.to_ascii_lowercase()) else {
                missing.push(format!(
                    "`{}` refers to `{}`, which is not there or left out: where it is not there, SQLite takes no new row of `{}`",
                    table.name, key.table, table.name
                ));
                return false;
            };
            key.table.clone_from(name);
            if key.references.is_empty() {
                key.references.clone_from(primary_key);
            }
            let spelled = |names: &mut Vec<String>, known: &[String]| {
                names.iter_mut().all(|name| {
                    let found = known.iter().find(|known| known.eq_ignore_ascii_case(name));
                    found.map(|found| name.clone_from(found)).is_some()
                })
            };
            spelled(&mut key.columns, &own)
                && spelled(&mut key.references, columns)
                && key.columns.len() == key.references.len()
        });
    }
    missing
}

fn sample(connection: &Connection, listed: &Listed, columns: &[Told]) -> rusqlite::Result<Vec<Sample>> {
    let mut samples = vec![Sample::default(); columns.len()];
    let names: Vec<String> = columns.iter().map(|column| Sqlite.quote(&column.name)).collect();
    let (names, table) = (names.join(", "), Sqlite.quote(&listed.name));
    let mut queries = vec![format!("select {names} from {table} limit {SAMPLED_ROWS}")];
    if listed.kind == TableKind::Table
        && !listed.without_rowid
        && !columns.iter().any(|c| c.name.eq_ignore_ascii_case("rowid"))
    {
        queries.push(format!("select {names} from {table} order by rowid desc limit {SAMPLED_ROWS}"));
    }
    for query in queries {
        let mut statement = connection.prepare(&query)?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            for (at, sample) in samples.iter_mut().enumerate() {
                sample.see(row.get_ref(at)?);
            }
        }
    }
    Ok(samples)
}

/// Finds out what the values of JSON columns are made of. A view may fail on its rows; the survey can do without.
fn add_shapes(connection: &Connection, table: &mut Table, samples: u32) -> rusqlite::Result<()> {
    let key = spread_key(table, samples).map(|key| Sqlite.quote(key));
    let from = Sqlite.quote(&table.name);
    for column in table.columns.iter_mut().filter(|column| column.scalar == Scalar::Json) {
        let name = Sqlite.quote(&column.name);
        let value = format!("case when typeof({name}) = 'blob' then json({name}) else {name} end");
        let sample = ValueSample { from: from.clone(), value, key: key.clone(), samples };
        column.shape = match shape(connection, &sample) {
            Err(error) if error.sqlite_error_code().is_none() => return Err(error),
            found => found.ok().flatten(),
        };
    }
    Ok(())
}

fn shape(connection: &Connection, sample: &ValueSample) -> rusqlite::Result<Option<ColumnShape>> {
    let mut seen = ShapeSample::default();
    let mut look = |text: &str| -> rusqlite::Result<()> {
        let mut statement = connection.prepare(text)?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            match row.get_ref(0)? {
                ValueRef::Text(json) => seen.see(json),
                ValueRef::Integer(value) => seen.see(value.to_string().as_bytes()),
                ValueRef::Real(value) => seen.see(value.to_string().as_bytes()),
                ValueRef::Null | ValueRef::Blob(_) => {}
            }
        }
        Ok(())
    };
    look(&sample.first())?;
    let range = sample.range().map(|text| connection.query_row(&text, [], |row| Ok((row.get(0)?, row.get(1)?))));
    if let Some((Some(least), Some(largest))) = range.transpose()? {
        sample.places(least, largest).iter().try_for_each(|text| look(text))?;
    }
    Ok(seen.shape())
}

fn count(connection: &Connection, listed: &Listed) -> Option<u64> {
    // What a view's query costs nobody knows.
    if listed.kind != TableKind::Table {
        return None;
    }
    let table = Sqlite.quote(&listed.name);
    let ask = |text: &str| -> Option<u64> {
        let rows: i64 = connection.query_row(text, [], |row| row.get(0)).ok()?;
        u64::try_from(rows).ok()
    };
    let counted = ask(&counting(std::iter::once(table.as_str())))?;
    if counted <= COUNTED_EXACTLY {
        return Some(counted);
    }
    if listed.without_rowid {
        return ask(&format!("select count(*) from (select 1 from {table} limit {COUNTED_ROWS})"));
    }
    // Both ends of the key, so that numbers which begin late do not count.
    ask(&format!("select (select max(rowid) from {table}) - (select min(rowid) from {table}) + 1"))
}

/// A proposal with its sampled evidence; none where the values speak against it.
fn sampled(connection: &Connection, candidate: Proposal) -> Option<Proposal> {
    let [column, table] = [&candidate.column, &candidate.table].map(|name| Sqlite.quote(name));
    let [key, target] = [&candidate.references, &candidate.to].map(|name| Sqlite.quote(name));
    let text = question(&column, &table, &key, &target);
    let counted = connection.query_row(&text, [], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)));
    convincing(candidate, counted.inspect_err(not_sampled).ok()?)
}

/// A proposal that could not be sampled is none: its column has a collation that is not here, or its view fails on its rows.
fn not_sampled(error: &rusqlite::Error) {
    tracing::debug!(target: "puente::source", detail = super::fault::told(error).told(), "a proposal could not be sampled");
}

/// The key that sampled values suggest for a table without one. A view may fail on its rows; the survey can do without.
fn proposed_key(connection: &Connection, table: &Table, columns: Vec<&Column>) -> Option<KeyProposal> {
    let search = KeySearch::new(table, columns, Sqlite.quote(&table.name), &Sqlite);
    let ask = |text: &str| {
        let counts = |row: &rusqlite::Row<'_>| (0..row.as_ref().column_count()).map(|at| row.get(at)).collect();
        let answer: rusqlite::Result<Vec<i64>> = connection.query_row(text, [], counts);
        answer.inspect_err(not_sampled).ok()
    };
    match search.first_answer(&ask(&search.first_question())?) {
        Ok(found) => found,
        Err(pairs) if pairs.is_empty() => None,
        Err(pairs) => search.second_answer(&pairs, &ask(&search.second_question(&pairs))?),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn surveyed(sql: &str) -> Survey {
        let connection = Connection::open_in_memory().unwrap();
        connection.execute_batch(sql).unwrap();
        let settings =
            puente_core::project::read("[source.main]\nurl = \"sqlite:x\"", &|_| None).unwrap().sources.remove(0);
        read(&connection, &settings, &SurveyWatch::default()).unwrap()
    }

    #[test]
    fn keys_references_and_types_are_read() {
        let survey = surveyed(
            "create table huts (id integer primary key, code text not null unique collate nocase, beds int) strict;
             create table bookings (hut integer references HUTS, no integer, state text check (state in ('a','b')),
                primary key (hut, no)) without rowid;
             create unique index partial on huts (beds) where beds > 3;
             create unique index expression on huts (lower(code));
             create unique index other_collation on huts (code collate binary);
             create view busy as select hut, count(*) as n from bookings group by hut;",
        );
        let [bookings, busy, huts] = survey.catalog.tables.as_slice() else { panic!("{survey:?}") };
        assert_eq!(bookings.primary_key, ["hut", "no"]);
        assert_eq!(bookings.foreign_keys[0].references, ["id"]);
        assert_eq!(bookings.foreign_keys[0].table, "huts");
        assert_eq!(bookings.column("state").unwrap().values, ["a", "b"]);
        assert_eq!(busy.kind, TableKind::View);
        assert_eq!(huts.unique_keys, [["code"]]);
        assert!(huts.column("id").unwrap().enforced && huts.column("code").unwrap().enforced);
        assert_eq!(huts.column("code").unwrap().collation.as_deref(), Some("NOCASE"));
        assert!(!huts.column("beds").unwrap().enforced);
    }

    #[test]
    fn a_broken_view_is_a_notice_and_not_the_end() {
        let survey =
            surveyed("create table a (x); create view v as select x from a; drop table a; create table b (y);");
        assert_eq!(survey.catalog.tables.len(), 1);
        assert!(survey.notices[0].contains("`v` is left out"));
    }

    #[test]
    fn a_link_is_proposed_where_the_values_are_found() {
        let sql = "create table huts (id integer primary key, code text unique);
             create table notes (hut_code text, region_code text);
             create table regions (id integer primary key, code text unique);
             insert into huts values (1, 'a'), (2, 'b'); insert into regions values (1, 'x');
             insert into notes values ('a', 'q'), ('b', 'r'), ('zz', null);";
        let survey = surveyed(sql);
        assert_eq!(survey.proposals.len(), 1, "{:?}", survey.proposals);
        assert_eq!(survey.proposals[0].sampled, Some((3, 2)));
    }

    #[test]
    fn a_table_of_many_columns_and_a_view_that_fails_are_surveyed_without_a_key() {
        let columns: Vec<String> = (0..1_500).map(|at| format!("c{at}")).collect();
        let values = vec!["1"; columns.len()].join(", ");
        let sql = format!(
            "create table wide ({}, id integer); insert into wide values ({values}, 1), ({values}, 2);
             create table notes (body text); insert into notes values ('{{}}'), ('no JSON');
             create view parts as select rowid as part, json_extract(body, '$.a') as a from notes;",
            columns.join(", ")
        );
        let survey = surveyed(&sql);
        let keys: Vec<_> = survey.keys.iter().map(|key| (key.table.as_str(), key.columns.as_slice())).collect();
        assert!(keys.contains(&("wide", &["id".to_owned()][..])), "{keys:?}");
        assert!(!keys.iter().any(|(table, _)| *table == "parts"), "{keys:?}");
    }

    #[test]
    fn a_link_is_proposed_where_there_are_no_values_yet() {
        let sql = "create table clients (client_id integer primary key); create table jobs (id integer primary key, client_id integer);
            insert into jobs values (1, 7);";
        let survey = surveyed(sql);
        assert_eq!(survey.proposals.len(), 1, "{:?}", survey.proposals);
        assert_eq!((survey.proposals[0].to.as_str(), survey.proposals[0].sampled), ("clients", Some((0, 0))));
    }
}
