//! The survey of a PostgreSQL database: a handful of questions to its catalog, whatever the number of tables, and a
//! sample of values for links that no foreign key declares. Nothing is changed.

use std::collections::HashMap;
use std::path::Path;
use std::pin::pin;

use futures_util::TryStreamExt as _;
use puente_core::catalog::{
    Catalog, Column, ColumnShape, Engine, ForeignKey, ShapeSample, Table, TableKind, round_rows,
};
use puente_core::error::Problem;
use puente_core::model::{KeyProposal, Proposal, Proven, candidates, keyless};
use puente_core::project::SourceSettings;
use puente_core::value::{Scalar, StorageFormat};
use puente_sql::{Dialect as _, Postgres as Sql};
use tokio_postgres::{Client, Row};

use super::connect::connect;
use super::fault;
use super::run::Raw;
use super::types::{TypeFound, checked_texts, judge};
use crate::member_index::{on_column, on_expression};
use crate::sampling::{
    COUNTED_EXACTLY, COUNTED_TOGETHER, KeySearch, ValueSample, convincing, counting, question, spread_key,
};
use puente_run::{Survey, SurveyWatch};
use serde_json::Value as Json;

/// How long one question of the survey may take.
const STATEMENT_TIMEOUT: &str = "set statement_timeout = '30s'";

/// Tables, views, materialised views, partitioned and foreign tables that the login can read; partitions are part of
/// their table.
const TABLES: &str = "\
select c.oid, n.nspname, c.relname, c.relkind::text, obj_description(c.oid, 'pg_class'), c.reltuples::float8,
  c.relkind in ('r', 'f') and exists (select from pg_inherits i where i.inhparent = c.oid)
from pg_class c join pg_namespace n on n.oid = c.relnamespace
where n.nspname = any($1) and c.relkind in ('r', 'p', 'v', 'm', 'f') and not c.relispartition
  and (has_table_privilege(c.oid, 'select') or has_any_column_privilege(c.oid, 'select'))
order by n.nspname, c.relname";

/// Columns that the login can read. A domain's base type is found by going down its chain.
const COLUMNS: &str = "\
with recursive base as (
  select t.oid as named, t.oid, t.typtype, t.typbasetype, t.typnotnull from pg_type t
  union all
  select base.named, t.oid, t.typtype, t.typbasetype, base.typnotnull or t.typnotnull
  from base join pg_type t on t.oid = base.typbasetype where base.typtype = 'd'
)
select a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull or base.typnotnull,
  a.attidentity = 'a' or a.attgenerated <> '', pg_get_expr(d.adbin, d.adrelid), col_description(a.attrelid, a.attnum),
  named.typtype = 'd', coalesce(item.typname, base_type.typname)::text,
  format_type(coalesce(item.oid, base_type.oid), null),
  coalesce(item.typtype, base_type.typtype) = 'e', item.oid is not null, coalesce(item.oid, base_type.oid),
  case when a.attcollation <> 0 and a.attcollation <> named.typcollation then l.collname::text end,
  quote_ident(tn.nspname) || '.' || quote_ident(coalesce(item.typname, base_type.typname)), a.attidentity <> '',
  case when named.typtype = 'd' then named.typndims else a.attndims::integer end > 1
from pg_attribute a
join pg_type named on named.oid = a.atttypid
join base on base.named = a.atttypid and base.typtype <> 'd'
join pg_type base_type on base_type.oid = base.oid
left join pg_type item on item.oid = base_type.typelem and base_type.typcategory = 'A'
join pg_namespace tn on tn.oid = coalesce(item.typnamespace, base_type.typnamespace)
left join pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum
left join pg_collation l on l.oid = a.attcollation
where a.attrelid = any($1) and a.attnum > 0 and not a.attisdropped
  and has_column_privilege(a.attrelid, a.attnum, 'select')
order by a.attrelid, a.attnum";

/// Primary, unique and foreign keys and checks, with the names of their columns.
const CONSTRAINTS: &str = "\
select c.conrelid, c.contype::text, c.confrelid, c.confdeltype::text,
  array(select a.attname::text from unnest(c.conkey) with ordinality as k(n, o)
    join pg_attribute a on a.attrelid = c.conrelid and a.attnum = k.n order by k.o),
  array(select a.attname::text from unnest(c.confkey) with ordinality as k(n, o)
    join pg_attribute a on a.attrelid = c.confrelid and a.attnum = k.n order by k.o),
  case when c.contype = 'c' and c.convalidated then pg_get_constraintdef(c.oid) end,
  c.convalidated and not coalesce((select t.relrowsecurity from pg_class t where t.oid = c.confrelid), false)
from pg_constraint c where c.conrelid = any($1) and c.contype in ('p', 'f', 'c') order by c.conrelid, c.conname";

/// Complete indexes over plain columns; whether they make a key, and their key columns in order.
const INDEXES: &str = "\
select i.indrelid, i.indisunique, i.indpred is not null,
  array(select a.attname::text from unnest(i.indkey::int2[]) with ordinality as k(n, o)
    join pg_attribute a on a.attrelid = i.indrelid and a.attnum = k.n where k.o <= i.indnkeyatts order by k.o)
from pg_index i
where i.indrelid = any($1) and i.indisvalid and i.indexprs is null order by i.indrelid, i.indexrelid";

/// What indexes of every row begin with, where that is an expression, and what columns are generated by that indexes begin with.
const MEMBER_INDEXES: &str = "\
select i.indrelid, null, pg_get_indexdef(i.indexrelid, 1, true) from pg_index i
where i.indrelid = any($1) and i.indisvalid and i.indpred is null and i.indkey[0] = 0
union all
select i.indrelid, a.attname::text, pg_get_expr(d.adbin, d.adrelid, true) from pg_index i
join pg_attribute a on a.attrelid = i.indrelid and a.attnum = i.indkey[0] and a.attgenerated <> ''
join pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum
where i.indrelid = any($1) and i.indisvalid and i.indpred is null";

/// Other schemas with something that the login can read.
const OTHER_SCHEMAS: &str = "\
select n.nspname::text, count(*) from pg_namespace n join pg_class c on c.relnamespace = n.oid
where n.nspname <> all($1) and n.nspname not like 'pg\\_%' and n.nspname <> 'information_schema'
  and has_schema_privilege(n.oid, 'usage') and c.relkind in ('r', 'p', 'v', 'm', 'f') and not c.relispartition
  and (has_table_privilege(c.oid, 'select') or has_any_column_privilege(c.oid, 'select'))
group by n.nspname order by n.nspname";

/// The values of enums, in their order.
const ENUMS: &str = "\
select enumtypid, array_agg(enumlabel::text order by enumsortorder) from pg_enum group by enumtypid";

/// Surveys a database. Takes its time: not for an asynchronous task.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where the database cannot be reached, or what it reports.
pub fn survey(settings: &SourceSettings, base: &Path, watch: &SurveyWatch) -> Result<Survey, Problem> {
    crate::server::block_on(async {
        let client = connect(settings, base).await?;
        read(&client, settings, watch).await.map_err(|error| fault::problem(&error))
    })
}

/// The schemas whose tables are looked at.
fn schemas(settings: &SourceSettings) -> Vec<String> {
    if settings.schemas.is_empty() { vec!["public".to_owned()] } else { settings.schemas.clone() }
}

/// What is said of the tables of schemas, a line each.
const LINES: &str = "\
with tables as (
  select c.oid, n.nspname || '.' || c.relname as name, c.relkind, c.relrowsecurity from pg_class c
  join pg_namespace n on n.oid = c.relnamespace
  where n.nspname = any($1) and c.relkind in ('r', 'p', 'v', 'm', 'f')
    and (has_table_privilege(c.oid, 'select') or has_any_column_privilege(c.oid, 'select')))
select 't ' || name || ' ' || relkind::text || ' ' || relrowsecurity::text || ' '
  || has_table_privilege(oid, 'insert')::text || has_table_privilege(oid, 'update')::text || has_table_privilege(oid, 'delete')::text
from tables
union all
select 'a ' || t.name || ' ' || a.attname || ' ' || format_type(a.atttypid, a.atttypmod) || ' ' || a.attnotnull::text || ' '
  || a.attgenerated::text || ' ' || a.attidentity::text || ' ' || coalesce(pg_get_expr(d.adbin, d.adrelid), '')
from tables t join pg_attribute a on a.attrelid = t.oid and a.attnum > 0 and not a.attisdropped
left join pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum
union all
select 'c ' || t.name || ' ' || c.conname || ' ' || pg_get_constraintdef(c.oid) from tables t join pg_constraint c on c.conrelid = t.oid
union all
select 'i ' || t.name || ' ' || pg_get_indexdef(i.indexrelid) from tables t join pg_index i on i.indrelid = t.oid and i.indisvalid
union all
select 'e ' || e.enumtypid::regtype::text || ' ' || e.enumsortorder::text || ' ' || e.enumlabel from pg_enum e";

/// A digest of what the catalog says.
///
/// # Errors
/// As for a survey.
pub(crate) fn fingerprint(settings: &SourceSettings, base: &Path) -> Result<String, Problem> {
    crate::server::block_on(async {
        let client = connect(settings, base).await?;
        let schemas = schemas(settings);
        let rows = client.query(LINES, &[&schemas]).await.map_err(|error| fault::problem(&error))?;
        Ok(crate::engines::digest(rows.iter().map(|row| row.get(0)).collect()))
    })
}

async fn read(
    client: &Client,
    settings: &SourceSettings,
    watch: &SurveyWatch,
) -> Result<Survey, tokio_postgres::Error> {
    client.batch_execute(STATEMENT_TIMEOUT).await?;
    client.batch_execute("begin isolation level repeatable read read only").await?;
    let schemas = schemas(settings);
    let mut reading = Reading { schemas: &schemas, tables: Vec::new(), places: HashMap::new(), notices: Vec::new() };
    reading.add_tables(client.query(TABLES, &[&schemas]).await?, settings);
    let ids: Vec<u32> = reading.places.keys().copied().collect();
    let enums: HashMap<u32, Vec<String>> =
        client.query(ENUMS, &[]).await?.iter().map(|row| (row.get(0), row.get(1))).collect();
    for row in client.query(COLUMNS, &[&ids]).await? {
        reading.add_column(&row, &enums);
    }
    for row in client.query(CONSTRAINTS, &[&ids]).await? {
        reading.add_constraint(&row);
    }
    for row in client.query(INDEXES, &[&ids]).await? {
        reading.add_index(&row);
    }
    for row in client.query(MEMBER_INDEXES, &[&ids]).await? {
        reading.add_member_index(&row);
    }
    let Reading { mut tables, mut notices, .. } = reading;
    // Whoever says which schemas are read knows of the others.
    if tables.is_empty() || settings.schemas.is_empty() {
        let others = client.query(OTHER_SCHEMAS, &[&schemas]).await?;
        let others: Vec<(String, i64)> = others.iter().map(|row| (row.get(0), row.get(1))).collect();
        notices.extend(about_others(&schemas, tables.is_empty(), &others));
    }
    for table in &mut tables {
        table.unique_keys.sort();
        table.unique_keys.dedup();
        table.member_indexes.sort();
        table.member_indexes.dedup();
        table.indexes.sort();
        table.indexes.dedup();
    }
    tables.sort_by(|a, b| a.name.cmp(&b.name));
    // What fails from here on the survey can do without: it is rolled back to here, and the rest goes on.
    client.batch_execute("savepoint sampling").await?;
    count_rows(client, &mut tables).await;
    let of = tables.len();
    for (done, table) in tables.iter_mut().enumerate() {
        if !watch.reach(format!("table {}", table.name), done, of) {
            break;
        }
        add_shapes(client, table, settings.samples).await;
    }
    let catalog = Catalog::of(Engine::Postgres, tables);
    let mut proven = Proven::default();
    let found = candidates(&catalog);
    let of = found.len();
    for (done, candidate) in found.into_iter().enumerate() {
        if !watch.reach(format!("values of {}.{}", candidate.table, candidate.column), done, of) {
            break;
        }
        if proven.is_open(&candidate)
            && let Some(proposal) = sampled(client, &catalog, candidate).await
        {
            proven.add(proposal);
        }
    }
    let mut keys = Vec::new();
    // A view may take any time, and the survey can do without a proposal.
    client.batch_execute("set local statement_timeout = '3s'").await?;
    for (table, columns) in keyless(&catalog) {
        keys.extend(proposed_key(client, table, columns).await);
    }
    client.batch_execute("rollback").await?;
    Ok(Survey { catalog, proposals: proven.best(), keys, notices })
}

/// What there is to say of schemas that are not read, and of those that are where they have no table.
fn about_others(schemas: &[String], is_empty: bool, others: &[(String, i64)]) -> Option<String> {
    let quoted = |names: &[String]| names.iter().map(|name| format!("{name:?}")).collect::<Vec<_>>().join(", ");
    let listed = quoted(schemas);
    let counted: Vec<String> = others
        .iter()
        .map(|(name, tables)| format!("{name:?} ({tables} {})", if *tables == 1 { "table" } else { "tables" }))
        .collect();
    let all: Vec<String> = match is_empty {
        true => others.iter().map(|(name, _)| name.clone()).collect(),
        false => schemas.iter().cloned().chain(others.iter().map(|(name, _)| name.clone())).collect(),
    };
    let remedy = || {
        let said = all.join(",");
        format!("`schemas = [{}]` of the source has them read (`puente init --schemas {said}`)", quoted(&all))
    };
    match (is_empty, counted.as_slice()) {
        (true, []) => Some(format!("there is no table that this login can read in the schemas {listed}")),
        (true, counted) => {
            let found = counted.join(", ");
            Some(format!(
                "there is no table that this login can read in the schemas {listed}, but in others: {found}; {}",
                remedy()
            ))
        }
        (false, []) => None,
        (false, counted) => Some(format!("other schemas are not read: {}; {}", counted.join(", "), remedy())),
    }
}

struct Reading<'a> {
    schemas: &'a [String],
    tables: Vec<Table>,
    /// Where in `tables` a relation is, by its object identifier.
    places: HashMap<u32, usize>,
    notices: Vec<String>,
}

impl Reading<'_> {
    /// A table's name in the catalog: with its schema before it where that is not the first one.
    fn name(&self, schema: &str, relation: &str) -> String {
        if self.schemas.first().is_some_and(|first| first == schema) {
            relation.to_owned()
        } else {
            format!("{schema}.{relation}")
        }
    }

    fn add_tables(&mut self, rows: Vec<Row>, settings: &SourceSettings) {
        for row in rows {
            let (schema, relation, kind): (String, String, String) = (row.get(1), row.get(2), row.get(3));
            let name = self.name(&schema, &relation);
            if settings.leaves_out(&name) {
                continue;
            }
            let is_table = matches!(kind.as_str(), "r" | "p" | "f");
            let estimate: f64 = row.get(5);
            // Below zero it was never analysed; a partitioned table and a view have no number of their own.
            #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "an estimate, not negative")]
            let about_rows = (estimate >= 0.0 && kind == "r").then_some(estimate as u64);
            let inherited = row.get(6);
            if inherited {
                self.notices.push(format!(
                    "other tables inherit from `{name}`: its type has the rows of the table itself, not theirs"
                ));
            }
            self.places.insert(row.get(0), self.tables.len());
            self.tables.push(Table {
                relation: (name != relation).then_some(relation),
                name,
                schema: Some(schema),
                kind: if is_table { TableKind::Table } else { TableKind::View },
                comment: row.get(4),
                columns: Vec::new(),
                primary_key: Vec::new(),
                unique_keys: Vec::new(),
                foreign_keys: Vec::new(),
                indexes: Vec::new(),
                member_indexes: Vec::new(),
                // Rows of a partitioned or foreign table have no place of their own in one file.
                row_number: matches!(kind.as_str(), "r" | "m"),
                without_transactions: false,
                inherited,
                about_rows,
            });
        }
    }

    fn table(&mut self, row: &Row) -> Option<&mut Table> {
        let place = *self.places.get(&row.get::<_, u32>(0))?;
        self.tables.get_mut(place)
    }

    fn add_column(&mut self, row: &Row, enums: &HashMap<u32, Vec<String>>) {
        let found = TypeFound {
            name: row.get(8),
            // Names of types that are not PostgreSQL's own are said with their schema, whatever the search path.
            cast: row.get(14),
            is_enum: row.get(10),
            is_array: row.get(11),
            is_nested: row.get(16),
        };
        let judged = judge(&found);
        let values = match enums.get(&row.get::<_, u32>(12)) {
            Some(values) if found.is_enum && !found.is_nested => values.clone(),
            _ => Vec::new(),
        };
        let column = Column {
            name: row.get(1),
            declared: row.get(2),
            scalar: judged.scalar,
            list: judged.list,
            cast: Some(judged.cast),
            domain: row.get::<_, bool>(7) && judged.form != StorageFormat::EngineText,
            form: judged.form,
            nullable: !row.get::<_, bool>(3),
            enforced: row.get(3),
            default: row.get(5),
            generated: row.get(4),
            automatic: row.get(15),
            values,
            collation: row.get(13),
            comment: row.get(6),
            notice: judged.notice,
            shape: None,
        };
        if let Some(table) = self.table(row) {
            table.columns.push(column);
        }
    }

    fn add_constraint(&mut self, row: &Row) {
        let kind: String = row.get(1);
        let columns: Vec<String> = row.get(4);
        let target = row
            .get::<_, Option<u32>>(2)
            .and_then(|id| self.places.get(&id))
            .map(|place| self.tables[*place].name.clone());
        let definition: Option<String> = row.get(6);
        let deleting: String = row.get(3);
        let references: Vec<String> = row.get(5);
        let Some(table) = self.table(row) else { return };
        let is_readable = |names: &[String]| names.iter().all(|name| table.column(name).is_some());
        match kind.as_str() {
            "p" if is_readable(&columns) => table.primary_key = columns,
            "f" if is_readable(&columns) => {
                let on_delete = match deleting.as_str() {
                    "c" => Some("CASCADE"),
                    "n" => Some("SET NULL"),
                    "d" => Some("SET DEFAULT"),
                    "r" => Some("RESTRICT"),
                    _ => None,
                };
                if let Some(target) = target {
                    let on_delete = on_delete.map(str::to_owned);
                    let enforced = row.get(7);
                    table.foreign_keys.push(ForeignKey { columns, table: target, references, on_delete, enforced });
                }
            }
            "c" => {
                let Some(definition) = definition else { return };
                for column in &mut table.columns {
                    if column.values.is_empty()
                        && column.scalar == Scalar::String
                        && let Some(values) = checked_texts(&definition, &column.name)
                    {
                        column.values = values;
                    }
                }
            }
            _ => {}
        }
    }

    fn add_index(&mut self, row: &Row) {
        let (unique, partial): (bool, bool) = (row.get(1), row.get(2));
        let columns: Vec<String> = row.get(3);
        let Some(table) = self.table(row) else { return };
        if partial || columns.is_empty() || columns.iter().any(|name| table.column(name).is_none()) {
            return;
        }
        if unique && columns != table.primary_key {
            table.unique_keys.push(columns.clone());
        }
        table.indexes.push(columns);
    }

    fn add_member_index(&mut self, row: &Row) {
        let (generated, expression): (Option<String>, String) = (row.get(1), row.get(2));
        let Some(table) = self.table(row) else { return };
        let found = match generated {
            Some(column) => on_column(table, &column, &expression),
            None => on_expression(table, &expression),
        };
        table.member_indexes.extend(found);
    }
}

/// A table as a statement names it.
fn from(table: &Table) -> String {
    let schema = table.schema.as_ref().map_or_else(String::new, |schema| format!("{}.", Sql.quote(schema)));
    let only = if table.inherited { "only " } else { "" };
    format!("{only}{schema}{}", Sql.quote(table.relation()))
}

/// Finds out what the values of JSON columns are made of. What fails is left without.
async fn add_shapes(client: &Client, table: &mut Table, samples: u32) {
    let (from, key) = (from(table), spread_key(table, samples).map(|key| Sql.quote(key)));
    for column in table.columns.iter_mut().filter(|column| column.scalar == Scalar::Json && !column.list) {
        let value = format!("{}::text", Sql.quote(&column.name));
        let sample = ValueSample { from: from.clone(), value, key: key.clone(), samples };
        match shape(client, &sample).await {
            Ok(found) => column.shape = found,
            Err(error) => {
                tracing::debug!(target: "puente::source", detail = fault::told(&error).told(), "a JSON column could not be sampled");
                if client.batch_execute("rollback to savepoint sampling").await.is_err() {
                    return;
                }
            }
        }
    }
}

async fn shape(client: &Client, sample: &ValueSample) -> Result<Option<ColumnShape>, tokio_postgres::Error> {
    let mut seen = ShapeSample::default();
    let mut texts = vec![sample.first()];
    if let Some(range) = sample.range() {
        let row = client.query_one(&range, &[]).await?;
        let whole = |at: usize| row.try_get::<_, i64>(at).or_else(|_| row.try_get::<_, i32>(at).map(i64::from));
        if let (Ok(least), Ok(largest)) = (whole(0), whole(1)) {
            texts.extend(sample.places(least, largest));
        }
    }
    for text in texts {
        let none: [&str; 0] = [];
        let mut rows = pin!(client.query_raw(&text, none).await?);
        while let Some(row) = rows.try_next().await? {
            if let Ok(json) = row.try_get::<_, &str>(0) {
                seen.see(json.as_bytes());
            }
        }
    }
    Ok(seen.shape())
}

/// Counts the rows of small tables, and asks the planner about those of large ones, of views, and of tables that were never analysed:
/// it estimates by the pages of a table and of its partitions.
async fn count_rows(client: &Client, tables: &mut [Table]) {
    let is_small = |table: &&mut Table| {
        table.kind == TableKind::Table && table.about_rows.is_none_or(|rows| rows <= COUNTED_EXACTLY)
    };
    let mut small: Vec<&mut Table> = tables.iter_mut().filter(is_small).collect();
    for group in small.chunks_mut(COUNTED_TOGETHER) {
        let names: Vec<String> = group.iter().map(|table| from(table)).collect();
        match answer(client, &counting(names.iter().map(String::as_str))).await {
            Some(row) => {
                for (at, table) in group.iter_mut().enumerate() {
                    table.about_rows = u64::try_from(row.get::<_, i64>(at)).ok();
                }
            }
            // One of them cannot be read, and which is found out by asking for each.
            None => {
                for (name, table) in names.iter().zip(group.iter_mut()) {
                    let row = answer(client, &counting(std::iter::once(name.as_str()))).await;
                    table.about_rows = row.and_then(|row| u64::try_from(row.get::<_, i64>(0)).ok());
                }
            }
        }
    }
    let is_large = |table: &&mut Table| table.about_rows.is_none_or(|rows| rows > COUNTED_EXACTLY);
    for table in tables.iter_mut().filter(is_large) {
        let text = format!("explain (format json) select 1 from {}", from(table));
        let row = answer(client, &text).await;
        table.about_rows =
            row.as_ref().and_then(|row| row.try_get::<_, Raw<'_>>(0).ok()).and_then(|plan| planned_rows(plan.0));
    }
    for rows in tables.iter_mut().filter_map(|table| table.about_rows.as_mut()) {
        *rows = round_rows(*rows);
    }
}

/// How many rows a plan is about.
fn planned_rows(plan: &[u8]) -> Option<u64> {
    let plan: Json = serde_json::from_slice(plan).ok()?;
    plan.get(0)?.get("Plan")?.get("Plan Rows")?.as_u64()
}

/// The answer to a question of which the survey can do without; one that fails must not end the survey's transaction.
async fn answer(client: &Client, text: &str) -> Option<Row> {
    match client.query_one(text, &[]).await {
        Ok(row) => Some(row),
        Err(error) => {
            tracing::debug!(target: "puente::source", detail = fault::told(&error).told(), "a proposal could not be sampled");
            client.batch_execute("rollback to savepoint sampling").await.ok()?;
            None
        }
    }
}

/// A proposal with its sampled evidence; none where the values speak against it, or cannot be compared.
async fn sampled(client: &Client, catalog: &Catalog, candidate: Proposal) -> Option<Proposal> {
    let (own, target) = (from(catalog.table(&candidate.table)?), from(catalog.table(&candidate.to)?));
    let (column, key) = (Sql.quote(&candidate.column), Sql.quote(&candidate.references));
    let row = answer(client, &question(&column, &own, &key, &target)).await?;
    convincing(candidate, (row.get(0), row.get(1), row.get(2)))
}

/// The key that sampled values suggest for a table without one.
async fn proposed_key(client: &Client, table: &Table, columns: Vec<&Column>) -> Option<KeyProposal> {
    let search = KeySearch::new(table, columns, from(table), &Sql);
    let counts = |row: Row| (0..row.len()).map(|at| row.get(at)).collect::<Vec<i64>>();
    match search.first_answer(&counts(answer(client, &search.first_question()).await?)) {
        Ok(found) => found,
        Err(pairs) if pairs.is_empty() => None,
        Err(pairs) => {
            let answer = answer(client, &search.second_question(&pairs)).await?;
            search.second_answer(&pairs, &counts(answer))
        }
    }
}
