//! The survey of a database of documents: its collections and views, what validators require, indexes, and the shapes of sampled
//! documents. Nothing is changed, and no more documents are held than are looked at.

use std::collections::BTreeSet;
use std::path::Path;
use std::time::Duration;

use bson::oid::ObjectId;
use bson::raw::{RawBsonRef, RawDocument, RawDocumentBuf};
use bson::{Bson, Document, doc};
use mongodb::results::{CollectionSpecification, CollectionType};
use mongodb::{Cursor, Database};
use puente_core::catalog::{
    Catalog, Column, Engine, Sampled, ShapeSample, ShapeType, Table, TableKind, document_columns, round_rows,
};
use puente_core::error::Problem;
use puente_core::model::{KeyProposal, Proposal, Proven, candidates};
use puente_core::project::SourceSettings;
use puente_core::value::Scalar;
use puente_run::{Survey, SurveyWatch};

use super::condition::COMPUTED;
use super::connect::connect;
use super::fault;
use super::values::types_of_scalar;
use crate::sampling::{SAMPLED_ROWS, convincing};

/// How long the database may look whether old documents are as a validator wants them.
const CHECK_TIME: Duration = Duration::from_secs(5);
/// Documents of the beginning of a collection that are looked at beside the samples.
const FIRST_DOCUMENTS: i64 = 100;
/// Names of members that are told in one notice.
const NAMES_TOLD: usize = 5;

/// Surveys a database. Takes its time: not for an asynchronous task.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where the database cannot be reached, or what it reports.
pub fn survey(settings: &SourceSettings, base: &Path, watch: &SurveyWatch) -> Result<Survey, Problem> {
    crate::server::block_on(async {
        let database = connect(settings, base).await?;
        let survey = read(&database, settings, watch).await.map_err(|error| fault::problem(&error));
        database.client().clone().shutdown().await;
        survey
    })
}

/// A digest of what the collections say of themselves: validators and indexes. What documents hold is another matter.
///
/// # Errors
/// As for a survey.
pub(crate) fn fingerprint(settings: &SourceSettings, base: &Path) -> Result<String, Problem> {
    crate::server::block_on(async {
        let database = connect(settings, base).await?;
        let lines = lines(&database).await.map_err(|error| fault::problem(&error));
        database.client().clone().shutdown().await;
        lines.map(crate::engines::digest)
    })
}

async fn lines(database: &Database) -> Told<Vec<String>> {
    let mut lines = Vec::new();
    let mut listed = database.list_collections().await?;
    while listed.advance().await? {
        let of: CollectionSpecification = listed.deserialize_current()?;
        if of.name.starts_with("system.") {
            continue;
        }
        lines.push(format!("c {} {:?} {:?}", of.name, of.collection_type, of.options.validator));
        let mut indexes = database.collection::<bson::Document>(&of.name).list_indexes().await?;
        while indexes.advance().await? {
            let index = indexes.deserialize_current()?;
            let unique = index.options.as_ref().and_then(|options| options.unique);
            lines.push(format!("i {} {} {unique:?}", of.name, index.keys));
        }
    }
    Ok(lines)
}

/// What the driver gives.
type Told<T> = Result<T, mongodb::error::Error>;

async fn read(database: &Database, settings: &SourceSettings, watch: &SurveyWatch) -> Told<Survey> {
    let mut found: Vec<CollectionSpecification> = Vec::new();
    let mut listed = database.list_collections().await?;
    while listed.advance().await? {
        found.push(listed.deserialize_current()?);
    }
    found.retain(|of| !of.name.starts_with("system.") && !settings.leaves_out(&of.name));
    found.sort_by(|a, b| a.name.cmp(&b.name));
    let writes = Privileges::read(database).await?;
    let (mut tables, mut notices, mut keys) = (Vec::new(), Vec::new(), Vec::new());
    for (done, specification) in found.iter().enumerate() {
        if !watch.reach(format!("collection {}", specification.name), done, found.len()) {
            break;
        }
        let mut collection = Collection { database, specification, settings, notices: Vec::new(), keys: Vec::new() };
        let table = collection.table(&writes).await?;
        notices.append(&mut collection.notices);
        keys.append(&mut collection.keys);
        if table.columns.is_empty() {
            notices.push(format!("collection `{}` has no documents and no validator: it is left out", table.name));
        } else {
            tables.push(table);
        }
    }
    let catalog = Catalog::of(Engine::Mongodb, tables);
    let mut proven = Proven::default();
    let found = candidates(&catalog);
    let of = found.len();
    for (done, candidate) in found.into_iter().enumerate() {
        if !watch.reach(format!("values of {}.{}", candidate.table, candidate.column), done, of) {
            break;
        }
        if !proven.is_open(&candidate) {
            continue;
        }
        let counts = sampled(database, &candidate).await?;
        if let Some(proposal) = convincing(candidate, counts) {
            proven.add(proposal);
        }
    }
    Ok(Survey { proposals: proven.best(), catalog, keys, notices })
}

/// How many distinct sampled values of a column there are, how many of them exist on the other side, and how many keys there are.
async fn sampled(database: &Database, proposal: &Proposal) -> Told<(i64, i64, i64)> {
    let stages = [
        doc! { "$match": { &proposal.column: { "$ne": null } } },
        doc! { "$limit": i64::from(SAMPLED_ROWS) },
        doc! { "$group": { "_id": format!("${}", proposal.column) } },
    ];
    let mut cursor = database.collection::<Document>(&proposal.table).aggregate(stages).await?;
    let mut values = Vec::new();
    while cursor.advance().await? {
        values.extend(cursor.deserialize_current()?.remove("_id"));
    }
    let distinct = i64::try_from(values.len()).unwrap_or(i64::MAX);
    let stages = [
        doc! { "$match": { &proposal.references: { "$in": values } } },
        doc! { "$group": { "_id": format!("${}", proposal.references) } },
        doc! { "$count": "n" },
    ];
    let mut cursor = database.collection::<Document>(&proposal.to).aggregate(stages).await?;
    let there = if cursor.advance().await? { number(cursor.deserialize_current()?.get("n")) } else { 0 };
    let keys = database.collection::<Document>(&proposal.to).estimated_document_count().await?;
    Ok((distinct, there.min(distinct), i64::try_from(keys).unwrap_or(i64::MAX)))
}

fn number(value: Option<&Bson>) -> i64 {
    match value {
        Some(Bson::Int32(value)) => i64::from(*value),
        Some(Bson::Int64(value)) => *value,
        _ => 0,
    }
}

/// Places between the first document and the last at which some are looked at.
const PLACES: i64 = 20;

/// The value of `_id` at one of the places between two; none where values of their type cannot be counted.
fn between(first: &Bson, last: &Bson, at: i64) -> Option<Bson> {
    let part = |least: i128, most: i128| least + (most - least) * i128::from(at) / i128::from(PLACES + 1);
    let whole = |value: &Bson| match value {
        Bson::Int32(value) => Some(i128::from(*value)),
        Bson::Int64(value) => Some(i128::from(*value)),
        _ => None,
    };
    match (first, last) {
        // Seconds, then what tells those of one second apart: the first eight bytes say enough.
        (Bson::ObjectId(first), Bson::ObjectId(last)) => {
            let number = |id: &ObjectId| i128::from(u64::from_be_bytes(id.bytes()[..8].try_into().unwrap_or_default()));
            let mut bytes = [0; 12];
            bytes[..8].copy_from_slice(&u64::try_from(part(number(first), number(last))).ok()?.to_be_bytes());
            Some(Bson::ObjectId(ObjectId::from_bytes(bytes)))
        }
        (Bson::DateTime(first), Bson::DateTime(last)) => {
            let at = part(first.timestamp_millis().into(), last.timestamp_millis().into());
            Some(Bson::DateTime(bson::DateTime::from_millis(i64::try_from(at).ok()?)))
        }
        _ => Some(Bson::Int64(i64::try_from(part(whole(first)?, whole(last)?)).ok()?)),
    }
}

/// What the login may write; everything, where nobody has to log in.
struct Privileges(Option<Vec<(Document, BTreeSet<String>)>>);

impl Privileges {
    async fn read(database: &Database) -> Told<Self> {
        let status = database.run_command(doc! { "connectionStatus": 1, "showPrivileges": true }).await?;
        let Ok(info) = status.get_document("authInfo") else { return Ok(Privileges(None)) };
        if info.get_array("authenticatedUsers").map_or(true, Vec::is_empty) {
            return Ok(Privileges(None));
        }
        let privileges = info.get_array("authenticatedUserPrivileges").into_iter().flatten();
        let privileges = privileges.filter_map(Bson::as_document).map(|privilege| {
            let actions = privilege.get_array("actions").into_iter().flatten().filter_map(Bson::as_str);
            (privilege.get_document("resource").cloned().unwrap_or_default(), actions.map(str::to_owned).collect())
        });
        Ok(Privileges(Some(privileges.collect())))
    }

    fn may_write(&self, database: &str, collection: &str) -> bool {
        let Some(privileges) = &self.0 else { return true };
        let is_of = |resource: &Document| {
            let fits = |member: &str, name: &str| {
                resource.get_str(member).is_ok_and(|known| known.is_empty() || known == name)
            };
            resource.get_bool("anyResource").unwrap_or(false) || fits("db", database) && fits("collection", collection)
        };
        ["insert", "update", "remove"]
            .iter()
            .all(|action| privileges.iter().any(|(resource, actions)| is_of(resource) && actions.contains(*action)))
    }
}

/// A collection or view that is being surveyed.
struct Collection<'s> {
    database: &'s Database,
    specification: &'s CollectionSpecification,
    settings: &'s SourceSettings,
    notices: Vec<String>,
    keys: Vec<KeyProposal>,
}

impl Collection<'_> {
    fn name(&self) -> &str {
        &self.specification.name
    }

    async fn table(&mut self, privileges: &Privileges) -> Told<Table> {
        let options = &self.specification.options;
        let is_view = self.specification.collection_type == CollectionType::View;
        let is_capped = options.capped == Some(true);
        let is_series =
            self.specification.collection_type == CollectionType::Timeseries || options.timeseries.is_some();
        let may_write = privileges.may_write(self.database.name(), self.name());
        let collection = self.database.collection::<RawDocumentBuf>(self.name());
        let rows = if is_view { 0 } else { collection.estimated_document_count().await? };
        let seen = self.sample(rows).await?;
        let shape = seen.shape.shape();
        let mut columns = shape.as_ref().map(document_columns).unwrap_or_default();
        let read_only = match () {
            () if is_view => Some("a view"),
            () if is_capped => Some("a capped collection"),
            () if is_series => Some("a time series"),
            () if !may_write => Some("a collection that the login may not write"),
            () => None,
        };
        if let Some(what) = read_only.filter(|_| !is_view) {
            self.notices.push(format!("`{}` is {what}: read-only", self.name()));
        }
        if !seen.left_out.is_empty() {
            let some: Vec<&str> = seen.left_out.iter().map(String::as_str).take(NAMES_TOLD).collect();
            let text = "members are left out whose names hold dots or begin with `$` or `~`, as the database cannot be asked for them";
            self.notices.push(format!("`{}`: {text}: {}", self.name(), some.join(", ")));
        }
        self.validate(&mut columns).await?;
        let mut table = Table {
            name: self.name().to_owned(),
            schema: None,
            relation: None,
            kind: if read_only.is_some() { TableKind::View } else { TableKind::Table },
            comment: None,
            columns,
            primary_key: Vec::new(),
            unique_keys: Vec::new(),
            foreign_keys: Vec::new(),
            indexes: Vec::new(),
            member_indexes: Vec::new(),
            row_number: false,
            without_transactions: self.without_transactions().await?,
            inherited: false,
            about_rows: (!is_view).then(|| round_rows(rows)),
        };
        let has_key = table.column("_id").is_some();
        if seen.shape.values() == 0 && !table.columns.is_empty() && !is_view && !has_key {
            // As drivers make it, until a document says otherwise.
            table.columns.extend(validated("_id", &doc! { "bsonType": "objectId" }));
        }
        self.add_key(&mut table, is_view, seen.shape.values());
        if let Some(collation) = &options.collation {
            let strength = collation.strength.map_or_else(String::new, |strength| format!(" {strength:?}"));
            let told = format!("{}{strength}", collation.locale).to_ascii_lowercase();
            let texts = table.columns.iter_mut().filter(|column| column.scalar == Scalar::String);
            texts.for_each(|column| column.collation = Some(told.clone()));
        }
        if !is_view && !is_series {
            self.add_indexes(&mut table).await?;
        }
        Ok(table)
    }

    /// Has the deployment no transactions, and does nobody say that this may be?
    async fn without_transactions(&self) -> Told<bool> {
        if self.settings.without_transactions {
            return Ok(false);
        }
        let hello = self.database.run_command(doc! { "hello": 1 }).await?;
        Ok(!hello.contains_key("setName") && !hello.get_str("msg").is_ok_and(|word| word == "isdbgrid"))
    }

    /// Looks at documents: the first ones, and some from anywhere.
    async fn sample(&self, rows: u64) -> Told<Seen> {
        let mut seen = Seen { shape: ShapeSample::of_documents(), left_out: BTreeSet::new() };
        let collection = self.database.collection::<RawDocumentBuf>(self.name());
        let samples = i64::from(self.settings.samples);
        let is_view = self.specification.collection_type == CollectionType::View;
        if is_view || rows <= u64::from(self.settings.samples) {
            let found = collection.find(Document::new()).limit(samples);
            // A view has an order of its own.
            let cursor = if is_view { found.await? } else { found.sort(doc! { "_id": 1 }).await? };
            seen.all(cursor).await?;
            return Ok(seen);
        }
        // By the order of `_id`, so that a survey of what did not change finds the same: the first ones, the last ones, and some at
        // places between them.
        let ends = FIRST_DOCUMENTS.min(samples);
        let ascending = doc! { "_id": 1 };
        seen.all(collection.find(Document::new()).sort(ascending.clone()).limit(ends).await?).await?;
        let rest = samples - ends;
        if rest > 0 {
            let last = ends.min(rest);
            seen.all(collection.find(Document::new()).sort(doc! { "_id": -1 }).limit(last).await?).await?;
            let each = (rest - last) / PLACES;
            if each > 0 {
                for place in self.places(rows).await? {
                    let from = doc! { "_id": { "$gte": place } };
                    seen.all(collection.find(from).sort(ascending.clone()).limit(each).await?).await?;
                }
            }
        }
        Ok(seen)
    }

    /// Values of `_id` that lie evenly between the first and the last, as far as those can be counted; else those of documents so many
    /// steps from each other, as far as a survey may walk.
    async fn places(&self, rows: u64) -> Told<Vec<Bson>> {
        /// Documents that are stepped over at most on the way to the next place.
        const LONGEST_STEP: u64 = 50_000;
        let collection = self.database.collection::<Document>(self.name());
        let id = doc! { "_id": 1 };
        let end = async |direction: i32| -> Told<Option<Bson>> {
            let found = collection.find_one(Document::new()).sort(doc! { "_id": direction }).projection(id.clone());
            Ok(found.await?.and_then(|mut document| document.remove("_id")))
        };
        let (Some(first), Some(last)) = (end(1).await?, end(-1).await?) else { return Ok(Vec::new()) };
        let between: Option<Vec<Bson>> = (1..=PLACES).map(|at| between(&first, &last, at)).collect();
        if let Some(places) = between {
            return Ok(places);
        }
        let step = (rows / u64::try_from(PLACES + 1).unwrap_or(1)).min(LONGEST_STEP);
        let (mut places, mut from) = (Vec::new(), first);
        for _ in 0..PLACES {
            let found = collection
                .find_one(doc! { "_id": { "$gte": from } })
                .sort(id.clone())
                .skip(step)
                .projection(id.clone())
                .await?;
            let Some(next) = found.and_then(|mut document| document.remove("_id")) else { break };
            places.push(next.clone());
            from = next;
        }
        Ok(places)
    }

    /// `_id` is the key, where its values are of one type.
    fn add_key(&mut self, table: &mut Table, is_view: bool, samples: u64) {
        let Some(at) = table.columns.iter().position(|column| column.name == "_id") else { return };
        let mut id = table.columns.remove(at);
        if is_view {
            if id.scalar.is_comparable() {
                let (name, columns) = (table.name.clone(), vec![id.name.clone()]);
                self.keys.push(KeyProposal { table: name, source: None, columns, rows: samples });
            }
        } else if id.scalar.is_comparable() {
            id.nullable = false;
            id.enforced = true;
            id.automatic = id.scalar == Scalar::ObjectId;
            table.primary_key = vec![id.name.clone()];
        } else {
            let what = id.notice.clone().unwrap_or_else(|| "values are documents".to_owned());
            self.notices.push(format!(
                "`_id` of `{}` is no key that can be asked for ({what}): its documents are read-only, and paged by their number",
                table.name
            ));
        }
        table.columns.insert(0, id);
    }

    async fn add_indexes(&self, table: &mut Table) -> Told<()> {
        let mut cursor = self.database.collection::<Document>(self.name()).list_indexes().await?;
        let (mut unique, mut all) = (Vec::new(), Vec::new());
        while cursor.advance().await? {
            let index = cursor.deserialize_current()?;
            let options = index.options.unwrap_or_default();
            let is_direction = |value: &Bson| matches!(value, Bson::Int32(_) | Bson::Int64(_) | Bson::Double(_));
            let is_plain = index.keys.iter().all(|(name, value)| is_direction(value) && table.column(name).is_some());
            let columns: Vec<String> = index
                .keys
                .iter()
                .take_while(|(name, value)| is_direction(value) && table.column(name).is_some())
                .map(|(name, _)| name.clone())
                .collect();
            let is_complete = options.partial_filter_expression.is_none() && options.sparse != Some(true);
            let is_list = columns.iter().any(|name| table.column(name).is_some_and(|column| column.shape.is_some()));
            let is_key = columns == table.primary_key;
            if is_plain && is_complete && options.unique == Some(true) && !is_list && !is_key {
                unique.push(columns.clone());
            }
            if is_complete && !columns.is_empty() {
                all.push(columns);
            }
        }
        unique.sort();
        all.sort();
        all.dedup();
        table.unique_keys = unique;
        table.indexes = all;
        Ok(())
    }

    /// What a validator requires of documents, where the database has let none in that is otherwise.
    async fn validate(&mut self, columns: &mut Vec<Column>) -> Told<()> {
        let options = &self.specification.options;
        let schema = options.validator.as_ref().and_then(|validator| validator.get_document("$jsonSchema").ok());
        let Some(schema) = schema else { return Ok(()) };
        let required: Vec<&str> = schema.get_array("required").into_iter().flatten().filter_map(Bson::as_str).collect();
        let properties = schema.get_document("properties").cloned().unwrap_or_default();
        for (name, property) in properties.iter().filter(|(name, _)| can_be_asked_for(name)) {
            let Some(property) = property.as_document() else { continue };
            if !columns.iter().any(|column| column.name == *name) {
                columns.extend(validated(name, property));
            }
            let Some(column) = columns.iter_mut().find(|column| column.name == *name) else { continue };
            column.comment = property.get_str("description").ok().map(str::to_owned);
            let texts = property.get_array("enum").into_iter().flatten();
            let values: Vec<Option<&str>> = texts.filter(|value| **value != Bson::Null).map(Bson::as_str).collect();
            if let Some(values) = values.into_iter().collect::<Option<Vec<&str>>>() {
                column.values = values.into_iter().map(str::to_owned).collect();
            }
        }
        if !self.is_kept(schema).await? {
            return Ok(());
        }
        for column in columns.iter_mut() {
            let types = properties.get_document(&column.name).map(types).unwrap_or_default();
            let (nulls, others): (Vec<&str>, Vec<&str>) = types.into_iter().partition(|name| *name == "null");
            let own = match column.shape.as_ref().map(|shape| shape.shape.kind) {
                Some(ShapeType::List) => &["array"][..],
                Some(ShapeType::Object) => &["object"][..],
                _ => types_of_scalar(column.scalar),
            };
            let is_typed = !others.is_empty() && others.iter().all(|name| own.contains(name));
            column.enforced = is_typed || !column.values.is_empty();
            column.nullable = !(is_typed && nulls.is_empty() && required.contains(&column.name.as_str()));
        }
        Ok(())
    }

    /// Is every document as the validator wants it? It looks only at those that are written after it was made.
    async fn is_kept(&mut self, schema: &Document) -> Told<bool> {
        use mongodb::options::{ValidationAction, ValidationLevel};
        let options = &self.specification.options;
        let is_strict = !matches!(options.validation_level, Some(ValidationLevel::Off | ValidationLevel::Moderate));
        let refuses = !matches!(options.validation_action, Some(ValidationAction::Warn));
        if !is_strict || !refuses {
            return Ok(false);
        }
        let others = doc! { "$nor": [{ "$jsonSchema": schema.clone() }] };
        let collection = self.database.collection::<RawDocumentBuf>(self.name());
        let looked = async {
            let mut cursor = collection.find(others).limit(1).max_time(CHECK_TIME).await?;
            cursor.advance().await
        };
        let notice = match looked.await {
            Ok(false) => return Ok(true),
            Ok(true) => "holds documents that its validator would refuse",
            Err(_) => "is too large to see whether all of its documents are as its validator wants them",
        };
        self.notices.push(format!("`{}` {notice}: its members count as optional, and of any type", self.name()));
        Ok(false)
    }
}

/// The types that a property of a validator may be of.
fn types(property: &Document) -> Vec<&str> {
    match property.get("bsonType").or_else(|| property.get("type")) {
        Some(Bson::String(one)) => vec![one.as_str()],
        Some(Bson::Array(several)) => several.iter().filter_map(Bson::as_str).collect(),
        _ => Vec::new(),
    }
}

/// The scalar that holds values of two; none where they have nothing in common.
fn both(one: Scalar, other: Scalar) -> Option<Scalar> {
    const NUMBERS: [Scalar; 4] = [Scalar::Int, Scalar::BigInt, Scalar::Float, Scalar::Decimal];
    let place = |scalar| NUMBERS.iter().position(|known| *known == scalar);
    if one == other {
        return Some(one);
    }
    Some(NUMBERS[place(one)?.max(place(other)?)])
}

/// The column of a property that no sampled document has.
fn validated(name: &str, property: &Document) -> Option<Column> {
    let scalar_of = |property: &Document| {
        let types = types(property);
        let mut scalars = types.iter().filter(|name| **name != "null").map(|name| match *name {
            "bool" => Some(Scalar::Boolean),
            "int" => Some(Scalar::Int),
            "long" => Some(Scalar::BigInt),
            "double" | "number" => Some(Scalar::Float),
            "decimal" => Some(Scalar::Decimal),
            "string" => Some(Scalar::String),
            "date" => Some(Scalar::DateTime),
            "objectId" => Some(Scalar::ObjectId),
            "binData" => Some(Scalar::Bytes),
            _ => None,
        });
        let first = scalars.next()??;
        scalars.try_fold(first, |known, other| both(known, other?))
    };
    let is_list = types(property).contains(&"array");
    let items = property.get_document("items").ok().and_then(scalar_of);
    let scalar = if is_list { items } else { scalar_of(property) }?;
    let mut sample = ShapeSample::of_documents();
    let value = if is_list { Sampled::List(vec![Sampled::Scalar(scalar)]) } else { Sampled::Scalar(scalar) };
    sample.see_document(&Sampled::Object(vec![(name, value)]), 0);
    document_columns(&sample.shape()?).pop()
}

/// What was seen of documents.
struct Seen {
    shape: ShapeSample,
    /// Names of members that cannot be asked for.
    left_out: BTreeSet<String>,
}

impl Seen {
    async fn all(&mut self, mut cursor: Cursor<RawDocumentBuf>) -> Told<()> {
        while cursor.advance().await? {
            let document = cursor.current();
            let sampled = sampled_document(document, &mut self.left_out);
            self.shape.see_document(&sampled, document.as_bytes().len());
        }
        Ok(())
    }
}

/// Is a member's name one that the database can be asked for, and none of what commands compute?
fn can_be_asked_for(name: &str) -> bool {
    !name.is_empty() && !name.contains('.') && !name.starts_with(['$', COMPUTED])
}

fn sampled_document<'d>(document: &'d RawDocument, left_out: &mut BTreeSet<String>) -> Sampled<'d> {
    let mut members = Vec::new();
    for (name, value) in document.iter().flatten() {
        let name = name.as_str();
        if can_be_asked_for(name) {
            members.push((name, sampled_value(value, left_out)));
        } else {
            left_out.insert(name.to_owned());
        }
    }
    Sampled::Object(members)
}

fn sampled_value<'d>(value: RawBsonRef<'d>, left_out: &mut BTreeSet<String>) -> Sampled<'d> {
    match value {
        RawBsonRef::Null | RawBsonRef::Undefined => Sampled::Null,
        RawBsonRef::Boolean(_) => Sampled::Boolean,
        RawBsonRef::Int32(value) => Sampled::Integer(value.into()),
        RawBsonRef::Int64(value) => Sampled::Integer(value),
        RawBsonRef::Double(_) => Sampled::Number,
        RawBsonRef::String(text) => Sampled::Text(text),
        RawBsonRef::Array(items) => {
            Sampled::List(items.into_iter().flatten().map(|item| sampled_value(item, left_out)).collect())
        }
        RawBsonRef::Document(document) => sampled_document(document, left_out),
        RawBsonRef::Decimal128(_) => Sampled::Scalar(Scalar::Decimal),
        RawBsonRef::ObjectId(_) => Sampled::Scalar(Scalar::ObjectId),
        RawBsonRef::DateTime(_) => Sampled::Scalar(Scalar::DateTime),
        RawBsonRef::Binary(binary) if binary.subtype == bson::spec::BinarySubtype::Uuid => {
            Sampled::Scalar(Scalar::Uuid)
        }
        RawBsonRef::Binary(_) => Sampled::Scalar(Scalar::Bytes),
        RawBsonRef::Timestamp(_)
        | RawBsonRef::RegularExpression(_)
        | RawBsonRef::JavaScriptCode(_)
        | RawBsonRef::JavaScriptCodeWithScope(_)
        | RawBsonRef::Symbol(_)
        | RawBsonRef::MaxKey
        | RawBsonRef::MinKey
        | RawBsonRef::DbPointer(_) => Sampled::Scalar(Scalar::Json),
    }
}
