//! What a survey found in a source: tables, columns, keys, foreign keys and indexes, in the form of the survey file.
//!
//! The file is written by the machine, stable in order and kept in git, so that an API can be built, checked and
//! compared without a database. It holds no times and no row values.

mod advice;
mod drift;
mod member_index;
mod renames;
mod shape;
mod widen;

pub(crate) use advice::WORTH_AN_INDEX;
pub use advice::{Advice, advise};
pub use drift::{Drift, compare};
pub use member_index::{Indexed, IndexedType, MemberIndex};
pub use renames::{Rename, renames};
pub use shape::{ColumnShape, ITEMS, Sampled, Shape, ShapeSample, ShapeType, document_columns, is_askable};

use std::collections::HashMap;
use std::sync::OnceLock;

use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use utoipa::{PartialSchema as _, ToSchema};

use crate::value::{Scalar, StorageFormat};

/// The version of the survey file's format that this build reads and writes.
pub const FORMAT: u32 = 1;

/// A kind of database.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Engine {
    /// SQLite, in process.
    Sqlite,
    /// PostgreSQL.
    Postgres,
    /// MariaDB, and MySQL as far as it speaks the same.
    Mariadb,
    /// MongoDB, and whatever speaks its protocol.
    Mongodb,
}

impl Engine {
    /// Does it keep documents? Then the shapes of its values are all that is known of its types.
    pub fn holds_documents(self) -> bool {
        match self {
            Engine::Sqlite | Engine::Postgres | Engine::Mariadb => false,
            Engine::Mongodb => true,
        }
    }
}

/// Everything that a survey found in one source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Catalog {
    /// The format's version, [`FORMAT`].
    pub format: u32,
    /// The kind of database.
    pub engine: Engine,
    /// Tables and views, by name.
    pub tables: Vec<Table>,
    /// A digest of what the source says of its tables; absent where it could not be taken. Another one tells that something changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fingerprint: Option<String>,
    /// The API's names as they were first given, so that no later table takes one away.
    #[serde(default, skip_serializing_if = "AssignedNames::is_empty")]
    pub names: AssignedNames,
    /// Where its tables are, once somebody has looked for one.
    #[serde(skip)]
    #[schema(ignore)]
    places: Places,
}

/// Where tables are in a catalog, by their names.
#[derive(Debug, Default)]
struct Places(OnceLock<HashMap<String, usize>>);

impl Clone for Places {
    /// A copy may be changed: it finds out by itself.
    fn clone(&self) -> Self {
        Places::default()
    }
}

impl PartialEq for Places {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for Places {}

/// A table or a view.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Table {
    /// Its name: one of a kind in the catalog. In another schema than the first, `schema.table`.
    pub name: String,
    /// The schema that it lies in, where the engine has several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<String>,
    /// Its name in the schema, where that is not `name`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub relation: Option<String>,
    /// Table or view.
    pub kind: TableKind,
    /// The engine's comment on it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Its columns, in the order of the table.
    pub columns: Vec<Column>,
    /// The columns of the primary key; empty where there is none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub primary_key: Vec<String>,
    /// Other unique keys; partial and expression indexes are none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unique_keys: Vec<Vec<String>>,
    /// Foreign keys.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub foreign_keys: Vec<ForeignKey>,
    /// The columns of every complete index, the primary key's included.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub indexes: Vec<Vec<String>>,
    /// Indexes that begin with a member of JSON.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub member_indexes: Vec<MemberIndex>,
    /// Has the table an implicit row number that orders rows without a key? (SQLite's `rowid`.)
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub row_number: bool,
    /// Does the engine keep it without transactions, so that a change cannot be rolled back?
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub without_transactions: bool,
    /// Do other tables inherit from it, with keys of their own? Then it is read and changed without their rows. (PostgreSQL's
    /// `inherits`.)
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub inherited: bool,
    /// About how many rows there were, rounded to two digits so that the file changes seldom; none where that is not known: then there
    /// may be any number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about_rows: Option<u64>,
}

/// Table or view.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TableKind {
    /// A table that holds its rows.
    Table,
    /// A stored query: read-only.
    View,
}

/// A column.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Column {
    /// Its name in the database.
    pub name: String,
    /// Its type as declared, such as `DECIMAL(8,2)`; empty where none is.
    pub declared: String,
    /// The API's scalar for it.
    pub scalar: Scalar,
    /// Is it a list of values of the scalar?
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub list: bool,
    /// The type to which values are cast where they meet the column, in the engine's words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cast: Option<String>,
    /// Is the declared type a domain, with its own name for another type?
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub domain: bool,
    /// How values are written where the scalar leaves a choice.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub form: StorageFormat,
    /// Is NULL allowed?
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub nullable: bool,
    /// Does the engine itself guarantee that a value of the declared type is always there?
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub enforced: bool,
    /// The default as written in the table's definition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
    /// Is it computed by the database, so that nothing can be written to it?
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub generated: bool,
    /// Does the database number its rows where nothing is written to it?
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub automatic: bool,
    /// The allowed texts, from an enum or a check `column IN (…)`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<String>,
    /// The collation of comparisons and order, where it is not the engine's plain one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub collation: Option<String>,
    /// The engine's comment on it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub comment: Option<String>,
    /// Why the scalar is not the one that the declared type suggests.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub notice: Option<String>,
    /// What its values are made of, where they are JSON.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shape: Option<ColumnShape>,
}

/// A foreign key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ForeignKey {
    /// The referencing columns.
    pub columns: Vec<String>,
    /// The referenced table.
    pub table: String,
    /// The referenced columns, in the same order.
    pub references: Vec<String>,
    /// What deleting the referenced row does, in SQL's words; `NO ACTION` is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_delete: Option<String>,
    /// Does the engine guarantee that the referenced row is always there, and seen?
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub enforced: bool,
}

/// Names of the API that were given by rule, by what they stand for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AssignedNames {
    /// Table → names of its type.
    #[serde(default)]
    pub types: IndexMap<String, TypeNames>,
    /// What is called so now, and may be what was called otherwise before: nobody has decided yet.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub renames: IndexMap<String, String>,
}

/// The names of one type and of what is inside it, as far as they were given by rule: what the project file names is kept
/// there alone.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TypeNames {
    /// The object type, such as `Booking`; empty where the project file names it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// What the names of its helper types, such as `BookingFilter`, begin with; empty where that is `name`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub helpers: String,
    /// The field that finds one, such as `booking`; empty as `name`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub one: String,
    /// The field that lists many, such as `bookings`; empty as `name`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub list: String,
    /// Column → field.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub fields: IndexMap<String, String>,
    /// What the link follows → field.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub links: IndexMap<String, String>,
    /// Way through the JSON of a column, such as `report/weather/snow` → field.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub members: IndexMap<String, String>,
    /// Way to an object, or to a list of objects → object type.
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    pub shapes: IndexMap<String, String>,
}

impl AssignedNames {
    fn is_empty(&self) -> bool {
        self.types.is_empty()
    }
}

impl Table {
    /// Makes one of foreign keys that say the same: of the same columns to the same ones of the same table. Real schemas have them, and
    /// two of them are one link.
    fn unite_foreign_keys(&mut self) {
        let mut united: Vec<ForeignKey> = Vec::with_capacity(self.foreign_keys.len());
        for key in std::mem::take(&mut self.foreign_keys) {
            let pairs = |key: &ForeignKey| {
                // What it refers to may not be said: then it is the other table's primary key.
                let others = key.references.iter().map(Some).chain(std::iter::repeat(None));
                let mut pairs: Vec<(&String, Option<&String>)> = key.columns.iter().zip(others).collect();
                pairs.sort_unstable();
                pairs.into_iter().map(|(own, other)| (own.clone(), other.cloned())).collect::<Vec<_>>()
            };
            let is_same = |known: &&mut ForeignKey| known.table == key.table && pairs(known) == pairs(&key);
            match united.iter_mut().find(is_same) {
                Some(known) => {
                    known.enforced |= key.enforced;
                    // The one that does something is the one that matters.
                    if known.on_delete.is_none() {
                        known.on_delete = key.on_delete;
                    }
                }
                None => united.push(key),
            }
        }
        self.foreign_keys = united;
    }

    /// Its name in its schema.
    pub fn relation(&self) -> &str {
        self.relation.as_deref().unwrap_or(&self.name)
    }

    /// The column of this name.
    pub fn column(&self, name: &str) -> Option<&Column> {
        self.columns.iter().find(|column| column.name == name)
    }

    /// The primary key and the other unique keys, in that order.
    pub fn keys(&self) -> impl Iterator<Item = &[String]> {
        std::iter::once(self.primary_key.as_slice())
            .filter(|key| !key.is_empty())
            .chain(self.unique_keys.iter().map(Vec::as_slice))
    }

    /// Is there a key among exactly these columns, in any order?
    pub fn is_key(&self, columns: &[String]) -> bool {
        self.keys().any(|key| key.len() == columns.len() && key.iter().all(|column| columns.contains(column)))
    }

    /// Does some index begin with exactly these columns, in any order?
    pub fn is_indexed(&self, columns: &[String]) -> bool {
        some_begins_with(&self.indexes, columns)
    }

    /// Is it a join table: is one of its keys exactly the columns of two foreign keys?
    pub fn join_keys(&self) -> Option<(&ForeignKey, &ForeignKey)> {
        self.keys().find_map(|key| {
            let mut within = self.foreign_keys.iter().filter(|f| f.columns.iter().all(|column| key.contains(column)));
            let (near, far) = (within.next()?, within.next()?);
            let covered = near.columns.len() + far.columns.len() == key.len();
            let disjoint = near.columns.iter().all(|column| !far.columns.contains(column));
            (within.next().is_none() && covered && disjoint).then_some((near, far))
        })
    }
}

/// A number of rows, rounded to its first digit: the survey file should not change with every row.
pub fn round(rows: u64) -> u64 {
    let magnitude = 10_u64.pow(rows.checked_ilog10().unwrap_or(0));
    rows / magnitude * magnitude
}

/// A number of rows as the survey file has it.
pub fn round_rows(rows: u64) -> u64 {
    let magnitude = 10_u64.pow(rows.checked_ilog10().unwrap_or(0).saturating_sub(1));
    rows / magnitude * magnitude
}

/// A number of rows in words: `~120`, `about 1.2 million`, `not known`.
pub fn told_rows(rows: Option<u64>) -> String {
    match rows {
        None => "not known".to_owned(),
        Some(rows @ ..1_000_000) => format!("~{rows}"),
        Some(rows) => {
            let (unit, word) = if rows < 1_000_000_000 { (1_000_000, "million") } else { (1_000_000_000, "billion") };
            let tenths = rows / (unit / 10);
            let fraction = if tenths % 10 == 0 || tenths >= 100 { String::new() } else { format!(".{}", tenths % 10) };
            format!("about {}{fraction} {word}", tenths / 10)
        }
    }
}

/// Does some index begin with exactly these columns, in any order?
pub(crate) fn some_begins_with<C: PartialEq>(indexes: &[Vec<C>], columns: &[C]) -> bool {
    indexes
        .iter()
        .any(|index| index.len() >= columns.len() && index[..columns.len()].iter().all(|c| columns.contains(c)))
}

impl Catalog {
    /// A catalog without tables.
    pub fn empty(engine: Engine) -> Self {
        Catalog::of(engine, Vec::new())
    }

    /// A catalog of these tables.
    pub fn of(engine: Engine, mut tables: Vec<Table>) -> Self {
        tables.iter_mut().for_each(Table::unite_foreign_keys);
        let (names, places) = (AssignedNames::default(), Places::default());
        Catalog { format: FORMAT, engine, tables, fingerprint: None, names, places }
    }

    /// Reads a survey file's text.
    ///
    /// # Errors
    /// A sentence with the place where the text is not a survey file of this format.
    pub fn from_text(text: &str) -> Result<Self, String> {
        #[derive(Deserialize)]
        struct Head {
            format: u32,
        }
        if let Ok(Head { format }) = serde_json::from_str(text)
            && format != FORMAT
        {
            return Err(format!(
                "expected a survey file of format {FORMAT}, found format {format}; run `puente survey` to write it again"
            ));
        }
        let mut catalog: Catalog = serde_json::from_str(text).map_err(|error| {
            format!(
                "not a survey file: {error}; restore it from version control, or run `puente survey` to write it again"
            )
        })?;
        catalog.tables.iter_mut().for_each(Table::unite_foreign_keys);
        Ok(catalog)
    }

    /// The survey file as JSON Schema (draft 2020-12).
    pub fn json_schema() -> serde_json::Value {
        let mut named = vec![(Catalog::name().into_owned(), Catalog::schema())];
        Catalog::schemas(&mut named);
        let definitions: IndexMap<String, _> = named.into_iter().collect();
        let text = serde_json::to_string(&definitions).expect("a schema is serialisable");
        let definitions: serde_json::Value =
            serde_json::from_str(&text.replace("#/components/schemas/", "#/$defs/")).expect("it was JSON before");
        serde_json::json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "title": "A survey file of Puente",
            "$ref": format!("#/$defs/{}", Catalog::name()),
            "$defs": definitions,
        })
    }

    /// The survey file's text.
    pub fn to_text(&self) -> String {
        let mut text = serde_json::to_string_pretty(self).expect("a catalog is serialisable");
        text.push('\n');
        text
    }

    /// The table of this name.
    pub fn table(&self, name: &str) -> Option<&Table> {
        let places = self
            .places
            .0
            .get_or_init(|| self.tables.iter().enumerate().rev().map(|(at, table)| (table.name.clone(), at)).collect());
        match places.get(name).and_then(|at| self.tables.get(*at)).filter(|table| table.name == name) {
            Some(table) => Some(table),
            // Tables that came since then.
            None if places.len() < self.tables.len() => self.tables.iter().find(|table| table.name == name),
            None => None,
        }
    }
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde's skip_serializing_if passes a reference")]
fn is_usual(form: &StorageFormat) -> bool {
    *form == StorageFormat::Usual
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn row_counts_are_rounded() {
        assert_eq!([0, 7, 19_999, 100_000].map(round), [0, 7, 10_000, 100_000]);
    }

    #[test]
    fn a_survey_file_of_another_format_says_so() {
        let text = Catalog::empty(Engine::Sqlite).to_text().replace("\"format\": 1", "\"format\": 99");
        assert!(Catalog::from_text(&text).unwrap_err().contains("format 99"));
        assert!(Catalog::from_text("{").unwrap_err().contains("puente survey"));
    }

    #[test]
    fn a_survey_file_reads_back_as_it_was_written() {
        let catalog = Catalog::empty(Engine::Sqlite);
        assert_eq!(Catalog::from_text(&catalog.to_text()).unwrap(), catalog);
    }
}
