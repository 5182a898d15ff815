//! The survey of a PostgreSQL database: a handful of questions to its catalog, whatever the number of tables, and a
//! sample of values for links that no foreign key declares. Nothing is changed.

use std::collections::HashMap;
use std::path::Path;

use puente_core::catalog::{AssignedNames, Catalog, Column, Engine, FORMAT, ForeignKey, Table, TableKind};
use puente_core::error::Problem;
use puente_core::model::{KeyProposal, Proposal, candidates, keyless};
use puente_core::project::SourceSettings;
use puente_core::value::{Scalar, StorageFormat};
use puente_sql::{Dialect as _, Postgres as Sql};
use tokio_postgres::{Client, Row};

use super::connect::connect;
use super::fault;
use super::types::{TypeFound, checked_texts, judge};
use crate::sampling::{KeySearch, convincing, question, round};
use puente_run::Survey;

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
  quote_ident(tn.nspname) || '.' || quote_ident(coalesce(item.typname, base_type.typname)), a.attidentity <> ''
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
  case when c.contype = 'c' then pg_get_constraintdef(c.oid) end
from pg_constraint c where c.conrelid = any($1) and c.contype in ('p', 'f', 'c') order by c.conrelid, c.conname";

/// Complete indexes over plain columns; whether they make a key, and their key columns in order.
const INDEXES: &str = "\
select i.indrelid, i.indisunique, i.indpred is not null,
  array(select a.attname::text from unnest(i.indkey::int2[]) with ordinality as k(n, o)
    join pg_attribute a on a.attrelid = i.indrelid and a.attnum = k.n where k.o <= i.indnkeyatts order by k.o)
from pg_index i
where i.indrelid = any($1) and i.indisvalid and i.indexprs is null order by i.indrelid, i.indexrelid";

/// Other schemas with something that the login can read.
const OTHER_SCHEMAS: &str = "\
select n.nspname::text from pg_namespace n
where n.nspname <> all($1) and n.nspname not like 'pg\\_%' and n.nspname <> 'information_schema'
  and has_schema_privilege(n.oid, 'usage')
  and exists (select from pg_class c where c.relnamespace = n.oid and c.relkind in ('r', 'p', 'v', 'm', 'f')
    and (has_table_privilege(c.oid, 'select') or has_any_column_privilege(c.oid, 'select')))
order by n.nspname";

/// The values of enums, in their order.
const ENUMS: &str = "\
select enumtypid, array_agg(enumlabel::text order by enumsortorder) from pg_enum group by enumtypid";

/// Surveys a database. Takes its time: not for an asynchronous task.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where the database cannot be reached, or what it reports.
pub fn survey(settings: &SourceSettings, base: &Path) -> Result<Survey, Problem> {
    crate::server::block_on(async {
        let client = connect(settings, base).await?;
        read(&client, settings).await.map_err(|error| fault::problem(&error))
    })
}

async fn read(client: &Client, settings: &SourceSettings) -> Result<Survey, tokio_postgres::Error> {
    client.batch_execute(STATEMENT_TIMEOUT).await?;
    client.batch_execute("begin isolation level repeatable read read only").await?;
    let schemas = if settings.schemas.is_empty() { vec!["public".to_owned()] } else { settings.schemas.clone() };
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
    let Reading { mut tables, mut notices, .. } = reading;
    if tables.is_empty() {
        let others = client.query(OTHER_SCHEMAS, &[&schemas]).await?;
        notices.push(nothing_in(&schemas, &others.iter().map(|row| row.get(0)).collect::<Vec<String>>()));
    }
    for table in &mut tables {
        table.unique_keys.sort();
        table.unique_keys.dedup();
        table.indexes.sort();
        table.indexes.dedup();
    }
    tables.sort_by(|a, b| a.name.cmp(&b.name));
    let catalog = Catalog { format: FORMAT, engine: Engine::Postgres, tables, names: AssignedNames::default() };
    let mut proposals = Vec::new();
    for candidate in candidates(&catalog) {
        proposals.extend(sampled(client, &catalog, candidate).await);
    }
    let mut keys = Vec::new();
    // A view may take any time, and the survey can do without a proposal.
    client.batch_execute("set local statement_timeout = '3s'").await?;
    for (table, columns) in keyless(&catalog) {
        keys.extend(proposed_key(client, table, columns).await);
    }
    client.batch_execute("rollback").await?;
    Ok(Survey { catalog, proposals, keys, notices })
}

/// What there is to say where no table was found.
fn nothing_in(schemas: &[String], others: &[String]) -> String {
    let listed = |names: &[String]| names.iter().map(|name| format!("{name:?}")).collect::<Vec<_>>().join(", ");
    let nothing = format!("there is no table that this login can read in the schemas {}", listed(schemas));
    if others.is_empty() {
        return nothing;
    }
    format!("{nothing}, but in others: `schemas = [{}]` of the source has them read", listed(others))
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
            #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "an estimate, not negative")]
            let about_rows = round(estimate.max(0.0) as u64);
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
        };
        let judged = judge(&found);
        let values = match enums.get(&row.get::<_, u32>(12)) {
            Some(values) if found.is_enum && !found.is_array => values.clone(),
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
                    table.foreign_keys.push(ForeignKey { columns, table: target, references, on_delete });
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
}

/// A table as a statement names it.
fn from(table: &Table) -> String {
    let schema = table.schema.as_ref().map_or_else(String::new, |schema| format!("{}.", Sql.quote(schema)));
    let only = if table.inherited { "only " } else { "" };
    format!("{only}{schema}{}", Sql.quote(table.relation()))
}

/// The answer to a question of which the survey can do without; one that fails must not end the survey's transaction.
async fn answer(client: &Client, text: &str) -> Option<Row> {
    client.batch_execute("savepoint sampling").await.ok()?;
    match client.query_one(text, &[]).await {
        Ok(row) => Some(row),
        Err(error) => {
            tracing::debug!(target: "puente::source", %error, "a proposal could not be sampled");
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
