//! Databases of documents for tests that speak SQL: statements run in a SQLite file beside, whose tables become collections, row by
//! row; and back again, before the next ones run. A key `id` is a document's `_id`; other keys are unique indexes.
//!
//! The types that documents have are said by what a column is declared as: `instant`, `uuid`, `objectid`, `decimal`, `json`; a
//! column that is `typed`, or not null, has a validator.

use std::path::{Path, PathBuf};

use bson::oid::ObjectId;
use bson::spec::BinarySubtype;
use bson::{Binary, Bson, DateTime, Decimal128, Document, Uuid, doc};
use mongodb::options::IndexOptions;
use mongodb::{Database as Collections, IndexModel};
use rusqlite::Connection;
use rusqlite::types::Value;

use crate::database::{Database, block_on};

/// A table beside, and what its collection is made of.
struct Table {
    name: String,
    columns: Vec<Column>,
    /// Columns that are unique together, the primary key first.
    keys: Vec<Vec<String>>,
    indexes: Vec<Vec<String>>,
    references: Vec<Reference>,
}

struct Column {
    name: String,
    declared: String,
    required: bool,
    /// The texts that it takes, if it takes only some.
    texts: Vec<String>,
}

struct Reference {
    column: String,
    to: String,
    references: String,
}

impl Table {
    /// Is its key what documents call `_id`?
    fn has_id(&self) -> bool {
        self.keys.first().is_some_and(|key| key == &["id"])
    }

    /// What a column is called in documents.
    fn member<'c>(&self, column: &'c str) -> &'c str {
        if column == "id" && self.has_id() { "_id" } else { column }
    }
}

fn file(database: &Database) -> PathBuf {
    database.folder().join("tables.db")
}

fn open(file: &Path) -> Connection {
    let connection = Connection::open(file).expect("a file");
    connection.execute_batch("pragma foreign_keys = off; pragma synchronous = off").expect("a pragma");
    connection
}

fn collections(database: &Database) -> impl Future<Output = Collections> {
    let (settings, folder) = (database.settings(""), database.folder().to_owned());
    async move { puente_sources::mongodb::connect(&settings, &folder).await.expect("a client") }
}

/// Runs statements, and makes collections of the tables.
pub(crate) fn execute(database: &Database, sql: &str) {
    let file = file(database);
    let is_there = file.exists();
    let connection = open(&file);
    if is_there {
        pull(database, &connection);
    }
    connection.execute_batch(sql).unwrap_or_else(|error| panic!("{error}\n{sql}"));
    let tables = tables(&connection);
    let documents: Vec<Vec<Document>> = tables.iter().map(|table| documents(&connection, table)).collect();
    block_on(async {
        let to = collections(database).await;
        for (table, documents) in tables.iter().zip(documents) {
            push(&to, table, documents).await;
        }
        for name in to.list_collection_names().await.expect("names") {
            if !tables.iter().any(|table| table.name == name) {
                to.collection::<Document>(&name).drop().await.expect("it is dropped");
            }
        }
    });
}

/// The rows of a query, every value as text.
pub(crate) fn query(database: &Database, sql: &str) -> Vec<Vec<Option<String>>> {
    let file = file(database);
    pull(database, &open(&file));
    crate::database::query_file(&file, sql)
}

/// What the project file says of references, which documents do not declare. Tables are called behind `prefix`.
pub(crate) fn links(database: &Database, prefix: &str) -> String {
    let connection = open(&file(database));
    let tables = tables(&connection);
    let mut text = String::new();
    for table in &tables {
        let name = &table.name;
        let is_known = |reference: &&Reference| {
            // What no document has is no member, unless a validator says so.
            let is_required = table.columns.iter().any(|column| column.name == reference.column && column.required);
            if is_required {
                return true;
            }
            let count = format!("select count(\"{}\") from \"{name}\"", reference.column);
            connection.query_row(&count, [], |row| row.get::<_, i64>(0)).expect("a count") > 0
        };
        let known: Vec<&Reference> = table.references.iter().filter(is_known).collect();
        for Reference { column, to, references } in &known {
            let target = tables.iter().find(|table| table.name == *to);
            let references = target.map_or(references.as_str(), |target| target.member(references));
            text.push_str(&format!(
                "[[link]]\ntable = \"{prefix}{name}\"\ncolumns = [\"{column}\"]\nto = \"{prefix}{to}\"\nreferences = [\"{references}\"]\n"
            ));
        }
        let is_join = |near: &Reference, far: &Reference| {
            let pair = [near.column.clone(), far.column.clone()];
            table.keys.iter().any(|key| key.len() == 2 && key.iter().all(|column| pair.contains(column)))
        };
        if let [near, far] = known.as_slice()
            && is_join(near, far)
        {
            text.push_str(&format!(
                "[[link]]\ntable = \"{prefix}{}\"\ncolumns = [\"{}\"]\nthrough = \"{prefix}{name}\"\nto = \"{prefix}{}\"\nreferences = [\"{}\"]\n",
                near.to, near.column, far.to, far.column
            ));
        }
    }
    text
}

fn tables(connection: &Connection) -> Vec<Table> {
    let mut names = connection
        .prepare("select name, sql from sqlite_schema where type = 'table' and name not like 'sqlite_%' order by rowid")
        .expect("readable");
    let names = names.query_map([], |row| Ok((row.get(0)?, row.get(1)?))).expect("readable");
    names
        .map(|found| found.expect("a table"))
        .map(|(name, sql): (String, String)| table(connection, name, &sql))
        .collect()
}

fn rows<T>(connection: &Connection, sql: &str, read: impl Fn(&rusqlite::Row<'_>) -> rusqlite::Result<T>) -> Vec<T> {
    let mut statement = connection.prepare(sql).unwrap_or_else(|error| panic!("{error}\n{sql}"));
    let rows = statement.query_map([], |row| read(row)).expect("readable");
    rows.collect::<Result<_, _>>().expect("readable")
}

fn table(connection: &Connection, name: String, sql: &str) -> Table {
    let found = rows(connection, &format!("pragma table_xinfo(\"{name}\")"), |row| {
        let (column, declared, required): (String, String, bool) = (row.get(1)?, row.get(2)?, row.get(3)?);
        Ok((column, declared.to_ascii_lowercase(), required, row.get::<_, i64>(5)?))
    });
    let mut key: Vec<(i64, String)> =
        found.iter().filter(|(.., place)| *place > 0).map(|(column, .., place)| (*place, column.clone())).collect();
    key.sort();
    let primary: Vec<String> = key.into_iter().map(|(_, column)| column).collect();
    let columns = found.into_iter().map(|(column, declared, required, _)| {
        let texts = sql.split_once(&format!("check ({column} in (")).and_then(|(_, rest)| rest.split_once("))"));
        let texts = texts.map(|(texts, _)| texts.split(", ").map(|text| text.trim_matches('\'').to_owned()).collect());
        Column {
            required: required || primary.contains(&column),
            texts: texts.unwrap_or_default(),
            name: column,
            declared,
        }
    });
    let columns = columns.collect();
    let (mut keys, mut indexes) = (vec![primary], Vec::new());
    for (index, unique, origin) in rows(connection, &format!("pragma index_list(\"{name}\")"), |row| {
        Ok((row.get::<_, String>(1)?, row.get::<_, bool>(2)?, row.get::<_, String>(3)?))
    }) {
        let members =
            rows(connection, &format!("pragma index_info(\"{index}\")"), |row| row.get::<_, Option<String>>(2));
        let Some(members) = members.into_iter().collect::<Option<Vec<String>>>() else { continue };
        match (unique, origin.as_str()) {
            (_, "pk") => {}
            (true, _) => keys.push(members),
            (false, _) => indexes.push(members),
        }
    }
    keys.retain(|key| !key.is_empty());
    let references = rows(connection, &format!("pragma foreign_key_list(\"{name}\")"), |row| {
        let references = row.get::<_, Option<String>>(4)?.unwrap_or_else(|| "id".to_owned());
        Ok(Reference { to: row.get(2)?, column: row.get(3)?, references })
    });
    Table { name, columns, keys, indexes, references: references.into_iter().rev().collect() }
}

async fn push(to: &Collections, table: &Table, documents: Vec<Document>) {
    let collection = to.collection::<Document>(&table.name);
    collection.drop().await.expect("it is dropped");
    let mut properties = Document::new();
    let mut required = Vec::new();
    for column in &table.columns {
        let name = table.member(&column.name);
        let is_typed = column.required || column.declared.contains("typed");
        if !column.texts.is_empty() {
            let mut texts: Vec<Bson> = column.texts.iter().map(Bson::from).collect();
            texts.push(Bson::Null);
            properties.insert(name, doc! { "enum": texts });
        } else if is_typed && name != "_id" {
            let types = types(&column.declared);
            let types: Vec<&str> = types.iter().copied().chain((!column.required).then_some("null")).collect();
            properties.insert(name, doc! { "bsonType": types });
        }
        if column.required && name != "_id" {
            required.push(name);
        }
    }
    if !properties.is_empty() {
        let mut schema = doc! { "bsonType": "object", "properties": properties };
        if !required.is_empty() {
            schema.insert("required", required);
        }
        to.create_collection(&table.name).validator(doc! { "$jsonSchema": schema }).await.expect("a collection");
    }
    if !documents.is_empty() {
        collection.insert_many(documents).await.unwrap_or_else(|error| panic!("{}: {error}", table.name));
    }
    let keys = table.keys.iter().skip(usize::from(table.has_id())).map(|key| (key, true));
    for (columns, unique) in keys.chain(table.indexes.iter().map(|index| (index, false))) {
        let keys: Document = columns.iter().map(|column| (table.member(column).to_owned(), Bson::Int32(1))).collect();
        let options = IndexOptions::builder().unique(unique).build();
        let index = IndexModel::builder().keys(keys).options(options).build();
        collection.create_index(index).await.expect("an index");
    }
}

/// The types of BSON that a declared type is.
fn types(declared: &str) -> &'static [&'static str] {
    match declared {
        _ if declared.contains("bigint") => &["long"],
        _ if declared.contains("bool") => &["bool"],
        _ if declared.contains("int") => &["int", "long"],
        _ if declared.contains("dec") || declared.contains("numeric") => &["decimal"],
        _ if declared.contains("real") || declared.contains("double") => &["double"],
        _ if declared.contains("blob") || declared.contains("uuid") => &["binData"],
        _ if declared.contains("instant") => &["date"],
        _ if declared.contains("objectid") => &["objectId"],
        _ => &["string"],
    }
}

fn documents(connection: &Connection, table: &Table) -> Vec<Document> {
    let names: Vec<String> = table.columns.iter().map(|column| format!("\"{}\"", column.name)).collect();
    let sql = format!("select {} from \"{}\"", names.join(", "), table.name);
    let found =
        rows(connection, &sql, |row| (0..names.len()).map(|at| row.get(at)).collect::<rusqlite::Result<Vec<Value>>>());
    let document = |(at, row): (usize, Vec<Value>)| {
        let mut document = Document::new();
        if !table.has_id() {
            document.insert("_id", numbered(at));
        }
        for (number, (column, value)) in table.columns.iter().zip(row).enumerate() {
            // Null is there in some documents, and left out in others.
            match bson(&column.declared, value) {
                Bson::Null if (at + number) % 2 == 0 && column.texts.is_empty() => {}
                value => drop(document.insert(table.member(&column.name), value)),
            }
        }
        document
    };
    found.into_iter().enumerate().map(document).collect()
}

/// The identifier of a document whose table has no `id`.
fn numbered(at: usize) -> ObjectId {
    let mut bytes = [0x68; 12];
    bytes[4..].copy_from_slice(&(at as u64).to_be_bytes());
    ObjectId::from_bytes(bytes)
}

fn bson(declared: &str, value: Value) -> Bson {
    let is = |word: &str| declared.contains(word);
    match value {
        Value::Null => Bson::Null,
        Value::Integer(value) if is("bool") && (0..=1).contains(&value) => Bson::Boolean(value == 1),
        Value::Integer(value) if is("dec") || is("numeric") => decimal(&value.to_string()),
        Value::Integer(value) if is("bigint") => Bson::Int64(value),
        #[expect(clippy::cast_precision_loss, reason = "tests have small numbers there")]
        Value::Integer(value) if is("real") || is("double") => Bson::Double(value as f64),
        Value::Integer(value) => i32::try_from(value).map_or(Bson::Int64(value), Bson::Int32),
        Value::Real(value) if is("dec") || is("numeric") => decimal(&value.to_string()),
        Value::Real(value) => Bson::Double(value),
        Value::Text(text) if is("dec") || is("numeric") => decimal(&text),
        Value::Text(text) if is("instant") => {
            let text = text.replacen(' ', "T", 1);
            let text = if text.ends_with('Z') { text } else { format!("{text}Z") };
            DateTime::parse_rfc3339_str(&text).map_or(Bson::String(text), Bson::DateTime)
        }
        Value::Text(text) if is("uuid") => Bson::Binary(Binary::from(Uuid::parse_str(&text).expect("a UUID"))),
        Value::Text(text) if is("objectid") => Bson::ObjectId(ObjectId::parse_str(&text).expect("an identifier")),
        Value::Text(text) if is("json") => {
            let json: serde_json::Value = serde_json::from_str(&text).unwrap_or(serde_json::Value::String(text));
            of_json(&json)
        }
        Value::Text(text) => Bson::String(text),
        Value::Blob(bytes) => Bson::Binary(Binary { subtype: BinarySubtype::Generic, bytes }),
    }
}

fn of_json(json: &serde_json::Value) -> Bson {
    match json {
        serde_json::Value::Null => Bson::Null,
        serde_json::Value::Bool(value) => Bson::Boolean(*value),
        serde_json::Value::Number(number) => match number.as_i64() {
            Some(value) => i32::try_from(value).map_or(Bson::Int64(value), Bson::Int32),
            None if number.to_string().len() > 20 => decimal(&number.to_string()),
            None => Bson::Double(number.as_f64().unwrap_or(f64::NAN)),
        },
        serde_json::Value::String(text) => Bson::String(text.clone()),
        serde_json::Value::Array(items) => Bson::Array(items.iter().map(of_json).collect()),
        serde_json::Value::Object(members) => {
            Bson::Document(members.iter().map(|(name, member)| (name.clone(), of_json(member))).collect())
        }
    }
}

fn decimal(text: &str) -> Bson {
    text.parse::<Decimal128>().map_or_else(|_| Bson::String(text.to_owned()), Bson::Decimal128)
}

/// Makes rows of the documents again.
fn pull(database: &Database, connection: &Connection) {
    let tables = tables(connection);
    let found: Vec<Vec<Document>> = block_on(async {
        let from = collections(database).await;
        let mut found = Vec::new();
        for table in &tables {
            found.push(all(&from, &table.name).await);
        }
        found
    });
    for (table, documents) in tables.iter().zip(found) {
        connection.execute_batch(&format!("delete from \"{}\"", table.name)).expect("it is emptied");
        let names: Vec<String> = table.columns.iter().map(|column| format!("\"{}\"", column.name)).collect();
        let sql = format!(
            "insert into \"{}\" ({}) values ({})",
            table.name,
            names.join(", "),
            vec!["?"; names.len()].join(", ")
        );
        for document in documents {
            let cells = table.columns.iter().map(|column| {
                document.get(table.member(&column.name)).map_or(Value::Null, |value| cell(column, value))
            });
            connection.execute(&sql, rusqlite::params_from_iter(cells)).expect("a row");
        }
    }
}

/// Every document of a collection, as it is stored.
pub(crate) async fn all(from: &Collections, collection: &str) -> Vec<Document> {
    let mut cursor = from.collection::<Document>(collection).find(doc! {}).await.expect("documents");
    let mut found = Vec::new();
    while cursor.advance().await.expect("documents") {
        found.push(cursor.deserialize_current().expect("a document"));
    }
    found
}

/// Were its collections made of tables?
pub(crate) fn has_tables(database: &Database) -> bool {
    file(database).exists()
}

/// Inserts documents into a collection of a database.
pub(crate) fn insert(database: &Database, collection: &str, documents: Vec<Document>) {
    block_on(async {
        let to = collections(database).await;
        to.collection::<Document>(collection).insert_many(documents).await.expect("documents");
    });
}

/// Runs a command.
pub(crate) fn command(database: &Database, command: Document) {
    block_on(async {
        let told = format!("{command}");
        collections(database).await.run_command(command).await.unwrap_or_else(|error| panic!("{error}\n{told}"));
    });
}

/// Every document of a collection of a database.
pub(crate) fn read(database: &Database, collection: &str) -> Vec<Document> {
    block_on(async { all(&collections(database).await, collection).await })
}

fn cell(column: &Column, value: &Bson) -> Value {
    match value {
        Bson::Null | Bson::Undefined => Value::Null,
        value if column.declared.contains("json") => Value::Text(json(value).to_string()),
        Bson::Boolean(value) => Value::Integer(i64::from(*value)),
        Bson::Int32(value) => Value::Integer(i64::from(*value)),
        Bson::Int64(value) => Value::Integer(*value),
        Bson::Double(value) => Value::Real(*value),
        Bson::Decimal128(value) => Value::Text(value.to_string()),
        Bson::String(text) => Value::Text(text.clone()),
        Bson::DateTime(instant) => Value::Text(instant_text(*instant)),
        Bson::ObjectId(id) => Value::Text(id.to_hex()),
        Bson::Binary(binary) if binary.subtype == BinarySubtype::Uuid => Value::Text(uuid_text(binary)),
        Bson::Binary(binary) => Value::Blob(binary.bytes.clone()),
        other => Value::Text(json(other).to_string()),
    }
}

/// A value inside a document as JSON.
fn json(value: &Bson) -> serde_json::Value {
    match value {
        Bson::Document(members) => members.iter().map(|(name, member)| (name.clone(), json(member))).collect(),
        Bson::Array(items) => items.iter().map(json).collect(),
        Bson::Decimal128(value) => serde_json::from_str(&value.to_string()).expect("a number"),
        Bson::Int64(value) => (*value).into(),
        other => other.clone().into_relaxed_extjson(),
    }
}

/// A day and a time, in UTC.
pub(crate) fn instant_text(instant: DateTime) -> String {
    let instant = jiff::Timestamp::from_millisecond(instant.timestamp_millis()).expect("an instant");
    instant.to_string().replacen('T', " ", 1)
}

/// The digits of a UUID.
pub(crate) fn uuid_text(binary: &Binary) -> String {
    let bytes: [u8; 16] = binary.bytes.as_slice().try_into().expect("sixteen bytes");
    Uuid::from_bytes(bytes).to_string()
}
