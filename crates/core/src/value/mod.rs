//! Values on their way between callers and databases: cells as a source stores them, scalars as the API types them.

mod convert;
mod input;
mod json;
mod json_text;
mod list;
mod member;
mod output;
mod temporal;
pub(crate) use temporal::instant;

pub use convert::{KeyFormat, convert_key};
pub(crate) use input::describe_json;
pub use input::{datum_from_json, literal_to_json};
pub use json::{MOST_LEVELS, PlainObject, read_json, read_list, read_object};
pub(crate) use json_text::{STORED_LEVELS, after_space, is_called, past_list, past_object, past_value};
pub(crate) use list::take_item;
pub use list::{ListRef, push_item};
pub use member::{JsonType, write_json_list, write_json_scalar};
pub(crate) use member::{describe_stored, type_of_stored};
pub use output::{decimal_digits, write_list, write_scalar};
pub(crate) use output::{make_room, write_plain, write_string};

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A value as a source holds it, owned: a bound parameter, a cursor's position.
#[derive(Debug, Clone, PartialEq)]
pub enum Datum {
    /// SQL NULL.
    Null,
    /// A signed 64-bit integer.
    Integer(i64),
    /// A double.
    Real(f64),
    /// Text.
    Text(String),
    /// Bytes.
    Blob(Vec<u8>),
    /// A list of values of one type.
    List(Vec<Datum>),
}

/// A value as a source holds it, borrowed from the row. Text may be invalid UTF-8: databases store it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum DatumRef<'a> {
    /// SQL NULL.
    Null,
    /// A signed 64-bit integer.
    Integer(i64),
    /// A double.
    Real(f64),
    /// Text, not yet known to be UTF-8.
    Text(&'a [u8]),
    /// Bytes.
    Blob(&'a [u8]),
    /// A list of values.
    List(ListRef<'a>),
}

impl DatumRef<'_> {
    /// Is it SQL NULL?
    pub fn is_null(self) -> bool {
        matches!(self, DatumRef::Null)
    }

    /// An owned copy. Text that is not UTF-8 becomes a blob of the same bytes, which no text equals.
    pub fn to_datum(self) -> Datum {
        match self {
            DatumRef::Null => Datum::Null,
            DatumRef::Integer(value) => Datum::Integer(value),
            DatumRef::Real(value) => Datum::Real(value),
            DatumRef::Text(bytes) => match std::str::from_utf8(bytes) {
                Ok(text) => Datum::Text(text.to_owned()),
                Err(_) => Datum::Blob(bytes.to_vec()),
            },
            DatumRef::Blob(bytes) => Datum::Blob(bytes.to_vec()),
            DatumRef::List(list) => Datum::List(list.to_datums()),
        }
    }

    /// What a reader of an error message would call it.
    pub fn describe(self) -> &'static str {
        match self {
            DatumRef::Null => "null",
            DatumRef::Integer(_) => "an integer",
            DatumRef::Real(_) => "a floating-point number",
            DatumRef::Text(_) => "text",
            DatumRef::Blob(_) => "bytes",
            DatumRef::List(_) => "a list",
        }
    }
}

impl Datum {
    /// About how many bytes it holds in memory.
    pub fn weight(&self) -> usize {
        let below = match self {
            Datum::Null | Datum::Integer(_) | Datum::Real(_) => 0,
            Datum::Text(text) => text.len(),
            Datum::Blob(bytes) => bytes.len(),
            Datum::List(cells) => cells.iter().map(Datum::weight).sum(),
        };
        std::mem::size_of::<Datum>() + below
    }

    /// The same value, borrowed. A list has no borrowed form and counts as null: it is never part of a row.
    pub fn as_ref(&self) -> DatumRef<'_> {
        match self {
            Datum::Null | Datum::List(_) => DatumRef::Null,
            Datum::Integer(value) => DatumRef::Integer(*value),
            Datum::Real(value) => DatumRef::Real(*value),
            Datum::Text(text) => DatumRef::Text(text.as_bytes()),
            Datum::Blob(bytes) => DatumRef::Blob(bytes),
        }
    }
}

macro_rules! scalars {
    ($($name:ident = $text:literal, $builtin:literal, $url:expr, $doc:literal;)*) => {
        /// The scalar types of the API.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
        pub enum Scalar { $(#[doc = $doc] #[serde(rename = $text)] $name,)* }

        impl Scalar {
            /// Every scalar there is.
            pub const ALL: &'static [Scalar] = &[$(Scalar::$name,)*];

            /// Its name in the schema.
            pub fn name(self) -> &'static str {
                match self { $(Scalar::$name => $text,)* }
            }

            /// Is it one of the five that every GraphQL schema has?
            pub fn is_built_in(self) -> bool {
                match self { $(Scalar::$name => $builtin,)* }
            }

            /// The address for `@specifiedBy`, where a specification exists.
            pub fn specified_by(self) -> Option<&'static str> {
                match self { $(Scalar::$name => $url,)* }
            }

            /// Its description in the schema.
            pub fn description(self) -> &'static str {
                match self { $(Scalar::$name => $doc,)* }
            }
        }
    };
}

scalars! {
    Boolean = "Boolean", true, None, "True or false.";
    Int = "Int", true, None, "A signed 32-bit integer.";
    Float = "Float", true, None, "A finite double.";
    String = "String", true, None, "Text in UTF-8.";
    BigInt = "BigInt", false, None, "A 64-bit integer, written as a string of digits so that no client rounds it.";
    Decimal = "Decimal", false, None, "A decimal number, written as a string so that no client rounds it.";
    Date = "Date", false, Some("https://www.rfc-editor.org/rfc/rfc3339#section-5.6"), "A day: full-date of RFC 3339, such as 2026-07-14.";
    Time = "Time", false, Some("https://www.rfc-editor.org/rfc/rfc3339#section-5.6"), "A time of day: partial-time of RFC 3339, such as 08:30:00.";
    DateTime = "DateTime", false, Some("https://www.rfc-editor.org/rfc/rfc3339#section-5.6"), "An instant: date-time of RFC 3339, such as 2026-07-14T08:30:00Z.";
    LocalDateTime = "LocalDateTime", false, None, "A day and a time of day without a time zone, such as 2026-07-14T08:30:00.";
    Duration = "Duration", false, Some("https://www.iso.org/standard/70907.html"), "A length of time: duration of ISO 8601, such as P1DT2H30M.";
    Uuid = "UUID", false, Some("https://www.rfc-editor.org/rfc/rfc9562"), "A universally unique identifier of RFC 9562.";
    ObjectId = "ObjectId", false, Some("https://www.mongodb.com/docs/manual/reference/bson-types/#objectid"), "An identifier of twelve bytes, in 24 hexadecimal digits.";
    Bytes = "Bytes", false, Some("https://www.rfc-editor.org/rfc/rfc4648#section-4"), "Bytes in base64 of RFC 4648, section 4, with padding.";
    Json = "JSON", false, Some("https://www.rfc-editor.org/rfc/rfc8259"), "A JSON value of RFC 8259, given as it is stored.";
}

impl Scalar {
    /// The scalar with this name in the schema.
    pub fn from_name(name: &str) -> Option<Scalar> {
        Scalar::ALL.iter().copied().find(|scalar| scalar.name() == name)
    }

    /// Can rows be compared and ordered by it?
    pub fn is_comparable(self) -> bool {
        self != Scalar::Json
    }
}

impl ToSchema for Scalar {
    fn name() -> std::borrow::Cow<'static, str> {
        "Scalar".into()
    }
}

impl utoipa::PartialSchema for Scalar {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
        let names = Scalar::ALL.iter().map(|scalar| scalar.name());
        utoipa::openapi::schema::ObjectBuilder::new()
            .schema_type(utoipa::openapi::schema::Type::String)
            .enum_values(Some(names))
            .into()
    }
}

/// How a column writes its values where its scalar leaves a choice; read off the stored values by the survey.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StorageFormat {
    /// The scalar's usual form: dates and times separated by a space, UUIDs as lower-case text.
    #[default]
    Usual,
    /// A date-time with a `T` between day and time.
    WithT,
    /// A UUID in upper case.
    UpperCase,
    /// A UUID as sixteen bytes.
    Binary,
    /// An integer without a sign: up to 64 bits of magnitude.
    Unsigned,
    /// A floating-point number of 32 bits.
    Single,
    /// A type that has no scalar here: read, compared and ordered as the text that the engine makes of it.
    EngineText,
    /// A type of bits, read as the number that they are.
    Bits,
    /// A value of JSON, or a part of one: read as it is written in JSON.
    JsonValue,
}

/// Why a value is not one of its scalar.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CoercionError {
    /// What would have been right.
    pub expected: String,
    /// What was there.
    pub found: String,
}

impl CoercionError {
    pub(crate) fn new(expected: impl Into<String>, found: impl Into<String>) -> Self {
        CoercionError { expected: expected.into(), found: found.into() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_scalar_is_found_by_its_name() {
        for scalar in Scalar::ALL {
            assert_eq!(Scalar::from_name(scalar.name()), Some(*scalar));
        }
    }

    #[test]
    fn text_that_is_not_utf8_keeps_its_bytes() {
        assert_eq!(DatumRef::Text(b"\xff\xfe").to_datum(), Datum::Blob(vec![0xff, 0xfe]));
    }
}
