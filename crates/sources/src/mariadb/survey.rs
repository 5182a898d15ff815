//! The survey of a MariaDB database: a handful of questions to its information schema, whatever the number of tables,
//! and a sample of values for links that no foreign key declares. Nothing is changed.

use std::path::Path;

use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Error, Row, Value};
use puente_core::catalog::{
    Catalog, Column, ColumnShape, Engine, ForeignKey, ShapeSample, Table, TableKind, round_rows,
};
use puente_core::error::Problem;
use puente_core::model::{KeyProposal, Proposal, Proven, candidates, keyless};
use puente_core::project::SourceSettings;
use puente_core::value::Scalar;
use puente_sql::{Dialect as _, GEOMETRY, Mariadb as Sql};

use super::connect::connect;
use super::fault;
use super::types::{checked_texts, checks_json, judge};
use crate::sampling::{
    COUNTED_EXACTLY, COUNTED_TOGETHER, KeySearch, SAMPLED_ROWS, ValueSample, convincing, counting, question, spread_key,
};
use puente_run::{Survey, SurveyWatch};

/// Tables and views of the database; system-versioned tables are tables.
const TABLES: &str = "\
select table_name, table_type, table_comment, table_rows,
  engine in (select engine from information_schema.engines where transactions = 'YES')
from information_schema.tables
where table_schema = database() and table_type in ('BASE TABLE', 'VIEW', 'SYSTEM VERSIONED') order by table_name";

/// Columns that the login can read.
const COLUMNS: &str = "\
select table_name, column_name, column_type, is_nullable, column_default, extra, column_comment, collation_name
from information_schema.columns
where table_schema = database() and find_in_set('select', replace(privileges, ' ', ''))
order by table_name, ordinal_position";

/// Indexes, one row per column. An index over the beginning of a text is not a key, nor an index of the column.
const INDEXES: &str = "\
select table_name, index_name, non_unique = 0, column_name, sub_part is not null
from information_schema.statistics where table_schema = database() order by table_name, index_name, seq_in_index";

/// Foreign keys within the database, one row per column.
const FOREIGN_KEYS: &str = "\
select k.table_name, k.constraint_name, k.column_name, k.referenced_table_name, k.referenced_column_name, r.delete_rule
from information_schema.key_column_usage k
join information_schema.referential_constraints r
  on r.constraint_schema = k.constraint_schema and r.constraint_name = k.constraint_name and r.table_name = k.table_name
where k.table_schema = database() and k.referenced_table_schema = database()
order by k.table_name, k.constraint_name, k.ordinal_position";

/// Checks, as MariaDB lists them.
const CHECKS: &str = "\
select table_name, check_clause from information_schema.check_constraints where constraint_schema = database()";

/// Surveys a database. Takes its time: not for an asynchronous task.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where the database cannot be reached, or what it reports.
pub fn survey(settings: &SourceSettings, base: &Path, watch: &SurveyWatch) -> Result<Survey, Problem> {
    crate::server::block_on(async {
        let mut session = connect(settings, base).await?;
        let survey = read(&mut session, settings, watch).await.map_err(|error| fault::problem(&error))?;
        let _ = session.disconnect().await;
        Ok(survey)
    })
}

/// What is said of the tables of the database, a line each.
const LINES: &str = "\
select concat_ws(' ', 't', table_name, table_type, engine) from information_schema.tables where table_schema = database()
union all
select concat_ws(' ', 'a', table_name, column_name, column_type, is_nullable, coalesce(column_default, '-'), extra,
  coalesce(collation_name, '-'), coalesce(generation_expression, '-'), privileges)
from information_schema.columns where table_schema = database()
union all
select concat_ws(' ', 'i', table_name, index_name, seq_in_index, column_name, non_unique)
from information_schema.statistics where table_schema = database()
union all
select concat_ws(' ', 'k', table_name, constraint_name, column_name, ordinal_position, referenced_table_name, referenced_column_name)
from information_schema.key_column_usage where table_schema = database()
union all
select concat_ws(' ', 'c', table_name, constraint_name, check_clause) from information_schema.check_constraints
where constraint_schema = database()";

/// A digest of what the catalog says.
///
/// # Errors
/// As for a survey.
pub(crate) fn fingerprint(settings: &SourceSettings, base: &Path) -> Result<String, Problem> {
    crate::server::block_on(async {
        let mut session = connect(settings, base).await?;
        let rows = session.query::<Row, _>(LINES).await.map_err(|error| fault::problem(&error))?;
        let _ = session.disconnect().await;
        Ok(crate::engines::digest(rows.iter().map(|row| words(row, 0)).collect()))
    })
}

/// A column of a row as text; absent where it is null.
fn text(row: &Row, at: usize) -> Option<String> {
    match row.as_ref(at) {
        Some(Value::Bytes(bytes)) => Some(String::from_utf8_lossy(bytes).into_owned()),
        Some(Value::Int(value)) => Some(value.to_string()),
        Some(Value::UInt(value)) => Some(value.to_string()),
        _ => None,
    }
}

fn words(row: &Row, at: usize) -> String {
    text(row, at).unwrap_or_default()
}

fn flag(row: &Row, at: usize) -> bool {
    text(row, at).as_deref() == Some("1")
}

async fn read(session: &mut Conn, settings: &SourceSettings, watch: &SurveyWatch) -> Result<Survey, Error> {
    session.query_drop("start transaction read only").await?;
    let mut tables: Vec<Table> = Vec::new();
    for row in session.query::<Row, _>(TABLES).await? {
        if !settings.leaves_out(&words(&row, 0)) {
            tables.push(table(&row));
        }
    }
    tables.sort_by(|one, other| one.name.cmp(&other.name));
    for row in session.query::<Row, _>(COLUMNS).await? {
        if let Some(table) = named(&mut tables, &row) {
            let is_view = table.kind == TableKind::View;
            table.columns.push(column(&row, is_view));
        }
    }
    add_indexes(&mut tables, session.query(INDEXES).await?);
    add_foreign_keys(&mut tables, &session.query::<Row, _>(FOREIGN_KEYS).await?);
    // MySQL lists its checks in another form, without the table's name.
    for row in session.query::<Row, _>(CHECKS).await.unwrap_or_default() {
        if let Some(table) = named(&mut tables, &row) {
            add_check(table, &words(&row, 1));
        }
    }
    count_rows(session, &mut tables).await;
    let mut notices = broken_views(session, &tables).await;
    let of = tables.len();
    for (done, table) in tables.iter_mut().enumerate() {
        if !watch.reach(format!("table {}", table.name), done, of) {
            break;
        }
        judge_flags(session, table).await;
        notices.extend(add_shapes(session, table, settings.samples).await);
    }
    let catalog = Catalog::of(Engine::Mariadb, tables);
    let mut proven = Proven::default();
    let found = candidates(&catalog);
    let of = found.len();
    for (done, candidate) in found.into_iter().enumerate() {
        if !watch.reach(format!("values of {}.{}", candidate.table, candidate.column), done, of) {
            break;
        }
        if proven.is_open(&candidate)
            && let Some(proposal) = sampled(session, candidate).await
        {
            proven.add(proposal);
        }
    }
    let mut keys = Vec::new();
    // A view may take any time, and the survey can do without a proposal. MariaDB knows the one, MySQL the other; in seconds, in
    // milliseconds.
    for limit in ["set session max_statement_time = 3", "set session max_execution_time = 3000"] {
        let _ = session.query_drop(limit).await;
    }
    for (table, columns) in keyless(&catalog) {
        keys.extend(proposed_key(session, table, columns).await);
    }
    session.query_drop("commit").await?;
    let is_empty = catalog.tables.is_empty();
    notices.extend(is_empty.then(|| "there is no table that this login can read in the database".to_owned()));
    Ok(Survey { catalog, proposals: proven.best(), keys, notices })
}

/// The table that a row is about: they are in the order of their names, and so are the rows that say something of them, but for
/// collations of their own.
fn named<'t>(tables: &'t mut [Table], row: &Row) -> Option<&'t mut Table> {
    let name = words(row, 0);
    let at = tables.binary_search_by(|table| table.name.cmp(&name)).ok()?;
    tables.get_mut(at)
}

/// Counts the rows of small tables: what the engine estimates of those may be off by as many. Of views nothing is known.
async fn count_rows(session: &mut Conn, tables: &mut [Table]) {
    let is_small = |table: &&mut Table| {
        table.kind == TableKind::Table && table.about_rows.is_none_or(|rows| rows <= COUNTED_EXACTLY)
    };
    let mut small: Vec<&mut Table> = tables.iter_mut().filter(is_small).collect();
    for group in small.chunks_mut(COUNTED_TOGETHER) {
        let names: Vec<String> = group.iter().map(|table| Sql.quote(&table.name)).collect();
        let row = session.query_first::<Row, _>(counting(names.iter().map(String::as_str))).await;
        let count = |row: &Row, at: usize| words(row, at).parse::<u64>().ok();
        match row {
            Ok(Some(row)) => {
                for (at, table) in group.iter_mut().enumerate() {
                    // Over the bound the engine's own estimate is all there is, and it is at least that many.
                    table.about_rows = match count(&row, at) {
                        Some(counted) if counted > COUNTED_EXACTLY => table.about_rows.max(Some(counted)),
                        counted => counted,
                    };
                }
            }
            // One of them cannot be read, and which is found out by asking for each.
            Ok(None) | Err(_) => {
                for (name, table) in names.iter().zip(group.iter_mut()) {
                    let row = session.query_first::<Row, _>(counting(std::iter::once(name.as_str()))).await;
                    table.about_rows = row.ok().flatten().and_then(|row| count(&row, 0));
                }
            }
        }
    }
    for rows in tables.iter_mut().filter_map(|table| table.about_rows.as_mut()) {
        *rows = round_rows(*rows);
    }
}

fn table(row: &Row) -> Table {
    let is_view = words(row, 1) == "VIEW";
    Table {
        name: words(row, 0),
        schema: None,
        relation: None,
        kind: if is_view { TableKind::View } else { TableKind::Table },
        comment: text(row, 2).filter(|comment| !comment.is_empty() && !is_view),
        columns: Vec::new(),
        primary_key: Vec::new(),
        unique_keys: Vec::new(),
        foreign_keys: Vec::new(),
        indexes: Vec::new(),
        member_indexes: Vec::new(),
        row_number: false,
        without_transactions: !is_view && words(row, 4) == "0",
        inherited: false,
        about_rows: text(row, 3).filter(|_| !is_view).and_then(|rows| rows.parse().ok()),
    }
}

fn column(row: &Row, in_view: bool) -> Column {
    let declared = words(row, 2);
    let judged = judge(&declared);
    let extra = words(row, 5).to_ascii_lowercase();
    let nullable = words(row, 3) == "YES";
    Column {
        name: words(row, 1),
        scalar: judged.scalar,
        list: false,
        cast: judged.cast.map(str::to_owned),
        domain: false,
        form: judged.form,
        nullable,
        // What a view's query gives is not promised; a date may be the zero date, which no scalar is.
        enforced: !nullable && !in_view && !is_temporal(judged.scalar),
        default: text(row, 4).filter(|default| default != "NULL"),
        // MySQL also says `DEFAULT_GENERATED` of a default that is an expression.
        generated: judged.cast == Some(GEOMETRY)
            || ["virtual", "stored", "persistent"].iter().any(|word| extra.contains(word)),
        automatic: extra.contains("auto_increment"),
        values: judged.values,
        collation: text(row, 7).filter(|_| judged.scalar == Scalar::String),
        comment: text(row, 6).filter(|comment| !comment.is_empty()),
        notice: judged.notice,
        shape: None,
        declared,
    }
}

/// Columns declared `tinyint(1)` are true or false, unless other numbers are among the rows that are sampled.
async fn judge_flags(session: &mut Conn, table: &mut Table) {
    let from = Sql.quote(&table.name);
    for column in table.columns.iter_mut().filter(|column| column.declared.starts_with("tinyint(1)")) {
        let name = Sql.quote(&column.name);
        let question = format!(
            "select 1 from (select {name} as v from {from} limit {SAMPLED_ROWS}) as s where v not in (0, 1) limit 1"
        );
        match session.query_first::<i64, _>(question).await {
            Ok(Some(_)) => {
                column.scalar = Scalar::Int;
                column.notice = Some(format!(
                    "is declared `{}` and holds other numbers than 0 and 1: served as Int",
                    column.declared
                ));
            }
            Ok(None) => {}
            Err(error) => {
                tracing::debug!(target: "puente::source", detail = fault::told(&error).told(), "a column could not be sampled")
            }
        }
    }
}

/// Finds out what the values of JSON columns are made of. What fails is left without.
async fn add_shapes(session: &mut Conn, table: &mut Table, samples: u32) -> Vec<String> {
    let mut notices = Vec::new();
    let (from, key) = (Sql.quote(&table.name), spread_key(table, samples).map(|key| Sql.quote(key)));
    for column in table.columns.iter_mut().filter(|column| column.scalar == Scalar::Json) {
        let sample = ValueSample { from: from.clone(), value: Sql.quote(&column.name), key: key.clone(), samples };
        match shape(session, &sample).await {
            Ok(mut found) => {
                // A path of MariaDB's reaches no member whose name begins so, quoted or not.
                let out =
                    found.as_mut().map_or_else(Vec::new, |found| found.shape.leave_out(|name| name.starts_with('-')));
                if !out.is_empty() {
                    notices.push(format!(
                        "`{}.{}`: MariaDB finds no member whose name begins with `-`; left out: `{}`",
                        table.name,
                        column.name,
                        out.join("`, `")
                    ));
                }
                column.shape = found;
            }
            Err(error) => {
                tracing::debug!(target: "puente::source", detail = fault::told(&error).told(), "a JSON column could not be sampled")
            }
        }
    }
    notices
}

/// A notice for each view that has no columns because the database cannot run it.
async fn broken_views(session: &mut Conn, tables: &[Table]) -> Vec<String> {
    let mut notices = Vec::new();
    for view in tables.iter().filter(|table| table.kind == TableKind::View && table.columns.is_empty()) {
        let asked = session.query_drop(format!("select 1 from {} limit 0", Sql.quote(&view.name))).await;
        let why = match asked {
            Ok(()) => "lists no columns".to_owned(),
            Err(Error::Server(error)) if error.code == INVALID_VIEW => {
                "names tables, columns or functions that are not there, or that its definer may not use".to_owned()
            }
            Err(error) => format!("cannot be read ({})", fault::told(&error).told()),
        };
        notices.push(format!("view `{}` {why}: it is left out", view.name));
    }
    notices
}

/// `ER_VIEW_INVALID`.
const INVALID_VIEW: u16 = 1356;

async fn shape(session: &mut Conn, sample: &ValueSample) -> Result<Option<ColumnShape>, Error> {
    let mut seen = ShapeSample::default();
    let mut texts = vec![sample.first()];
    if let Some(range) = sample.range()
        && let Some((Some(least), Some(largest))) = session.query_first::<(Option<i64>, Option<i64>), _>(range).await?
    {
        texts.extend(sample.places(least, largest));
    }
    for text in texts {
        let mut rows = session.query_iter(text).await?;
        while let Some(row) = rows.next().await? {
            if let Some(Value::Bytes(json)) = row.as_ref(0) {
                seen.see(json);
            }
        }
    }
    Ok(seen.shape())
}

fn is_temporal(scalar: Scalar) -> bool {
    matches!(scalar, Scalar::Date | Scalar::DateTime | Scalar::LocalDateTime | Scalar::Time)
}

fn add_indexes(tables: &mut [Table], rows: Vec<Row>) {
    let mut at = 0;
    while at < rows.len() {
        let same = |row: &Row| (words(row, 0), words(row, 1)) == (words(&rows[at], 0), words(&rows[at], 1));
        let end = at + rows[at..].iter().take_while(|row| same(row)).count();
        let index = &rows[at..end];
        if let Some(table) = named(tables, &rows[at]) {
            let columns: Vec<String> = index.iter().map(|row| words(row, 3)).collect();
            let is_whole = index.iter().all(|row| !flag(row, 4))
                && columns.iter().all(|name| table.columns.iter().any(|column| column.name == *name));
            if is_whole {
                if words(&rows[at], 1) == "PRIMARY" {
                    table.primary_key = columns.clone();
                } else if flag(&rows[at], 2) {
                    table.unique_keys.push(columns.clone());
                }
                table.indexes.push(columns);
            }
        }
        at = end;
    }
    for table in tables {
        table.unique_keys.retain(|key| *key != table.primary_key);
        table.unique_keys.sort();
        table.unique_keys.dedup();
        table.indexes.sort();
        table.indexes.dedup();
    }
}

fn add_foreign_keys(tables: &mut [Table], rows: &[Row]) {
    let known: Vec<String> = tables.iter().map(|table| table.name.clone()).collect();
    let mut last = None;
    for row in rows {
        let identity = (words(row, 0), words(row, 1));
        let target = words(row, 3);
        // On some file systems names are matched regardless of case.
        let exact = known.iter().find(|name| **name == target);
        let target = exact.or_else(|| known.iter().find(|name| name.eq_ignore_ascii_case(&target))).cloned();
        let (Some(table), Some(target)) = (named(tables, row), target) else { continue };
        if last.as_ref() != Some(&identity) {
            let on_delete = Some(words(row, 5)).filter(|rule| rule != "NO ACTION" && rule != "RESTRICT");
            let (columns, references) = (Vec::new(), Vec::new());
            // Engines that do not keep them do not have them.
            // A session may do without the checks, as dumps do, and a key may be added so: what is there then is never looked at.
            table.foreign_keys.push(ForeignKey { columns, table: target, references, on_delete, enforced: false });
            last = Some(identity);
        }
        if let Some(key) = table.foreign_keys.last_mut() {
            key.columns.push(words(row, 2));
            key.references.push(words(row, 4));
        }
    }
}

fn add_check(table: &mut Table, clause: &str) {
    for column in &mut table.columns {
        if checks_json(clause, &column.name) {
            column.scalar = Scalar::Json;
            column.collation = None;
        } else if column.values.is_empty()
            && column.scalar == Scalar::String
            && let Some(values) = checked_texts(clause, &column.name)
        {
            column.values = values;
        }
    }
}

/// The answer to a question of which the survey can do without.
async fn answer(session: &mut Conn, text: String) -> Option<Vec<i64>> {
    match session.query_first::<Row, _>(text).await {
        Ok(row) => row.map(|row| (0..row.len()).map(|at| row.get(at).unwrap_or_default()).collect()),
        Err(error) => {
            tracing::debug!(target: "puente::source", detail = fault::told(&error).told(), "a proposal could not be sampled");
            None
        }
    }
}

/// A proposal with its sampled evidence; none where the values speak against it, or cannot be compared.
async fn sampled(session: &mut Conn, candidate: Proposal) -> Option<Proposal> {
    let [column, table] = [&candidate.column, &candidate.table].map(|name| Sql.quote(name));
    let [key, target] = [&candidate.references, &candidate.to].map(|name| Sql.quote(name));
    match answer(session, question(&column, &table, &key, &target)).await?.as_slice() {
        [values, found, keys] => convincing(candidate, (*values, *found, *keys)),
        _ => None,
    }
}

/// The key that sampled values suggest for a table without one.
async fn proposed_key(session: &mut Conn, table: &Table, columns: Vec<&Column>) -> Option<KeyProposal> {
    let search = KeySearch::new(table, columns, Sql.quote(&table.name), &Sql);
    match search.first_answer(&answer(session, search.first_question()).await?) {
        Ok(found) => found,
        Err(pairs) if pairs.is_empty() => None,
        Err(pairs) => {
            let counts = answer(session, search.second_question(&pairs)).await?;
            search.second_answer(&pairs, &counts)
        }
    }
}
