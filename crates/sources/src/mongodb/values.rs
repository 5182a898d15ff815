//! Values between BSON and the forms that the core knows. A scalar of the API says which types of BSON are its own; whatever else
//! is found at its place does not fit, and counts as null where values are compared.

use std::borrow::Cow;
use std::fmt::Write as _;
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bson::oid::ObjectId;
use bson::raw::{RawArray, RawBsonRef, RawDocument};
use bson::spec::BinarySubtype;
use bson::{Binary, Bson, DateTime, Decimal128, Document, Uuid};
use puente_core::access::TextTest;
use puente_core::error::{Code, Problem};
use puente_core::model::{Column, ColumnId, FieldType, ITEM_COLUMN, Model, TypeId};
use puente_core::rows::Rows;
use puente_core::value::{Datum, DatumRef, ListRef, Scalar, StorageFormat, push_item};
use serde_json::Value as Json;

/// What a place in a document holds, as the API types it.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Kind {
    /// A value.
    Scalar(Scalar),
    /// A list of values.
    List(Scalar),
    /// Members, by their names in documents.
    Object(Vec<(String, Kind)>),
    /// A list of objects.
    Items(Box<Kind>),
    /// A list of which each item is of a kind of its own: an item, and lists inside it.
    Parts(Vec<Kind>),
}

impl Kind {
    /// The kind of a column's values.
    pub(super) fn of(model: &Model, of: TypeId, column: ColumnId) -> Kind {
        match model.types[of].columns[column].kind {
            FieldType::Scalar(scalar) => Kind::Scalar(scalar),
            FieldType::Enum(_) => Kind::Scalar(Scalar::String),
            FieldType::List(element) => Kind::List(element.scalar()),
            FieldType::Object(_) => Kind::members(model, of, column),
            FieldType::Items(items) => Kind::Items(Box::new(Kind::members(model, items, ITEM_COLUMN))),
        }
    }

    fn members(model: &Model, of: TypeId, within: ColumnId) -> Kind {
        let columns = model.types[of].columns.iter().enumerate();
        let members = columns.filter_map(|(id, column)| {
            let member = column.member.as_ref().filter(|member| member.within == within)?;
            Some((member.path.last()?.clone(), Kind::of(model, of, id)))
        });
        Kind::Object(members.collect())
    }

    fn member(&self, name: &str) -> &Kind {
        const UNKNOWN: &Kind = &Kind::Scalar(Scalar::Json);
        match self {
            Kind::Object(members) => members.iter().find(|(known, _)| known == name).map_or(UNKNOWN, |(_, kind)| kind),
            Kind::Scalar(_) | Kind::List(_) | Kind::Items(_) | Kind::Parts(_) => UNKNOWN,
        }
    }

    /// The kind of an item of a list.
    fn item(&self, at: usize) -> Cow<'_, Kind> {
        match self {
            Kind::List(scalar) => Cow::Owned(Kind::Scalar(*scalar)),
            Kind::Items(item) => Cow::Borrowed(item),
            Kind::Parts(parts) if at < parts.len() => Cow::Borrowed(&parts[at]),
            Kind::Scalar(_) | Kind::Object(_) | Kind::Parts(_) => Cow::Owned(Kind::Scalar(Scalar::Json)),
        }
    }
}

/// The types of BSON that are values of a column's type, as `$type` calls them; none where any is.
pub(super) fn types_of(kind: FieldType) -> &'static [&'static str] {
    match kind {
        FieldType::Scalar(scalar) => types_of_scalar(scalar),
        FieldType::Enum(_) => &["string"],
        FieldType::Object(_) => &["object"],
        FieldType::List(_) | FieldType::Items(_) => &["array"],
    }
}

/// The same of a scalar.
pub(super) fn types_of_scalar(scalar: Scalar) -> &'static [&'static str] {
    match scalar {
        Scalar::Boolean => &["bool"],
        // Of doubles those without a fraction alone.
        Scalar::Int | Scalar::BigInt => &["int", "long", "double"],
        Scalar::Float => &["int", "long", "double"],
        Scalar::Decimal => &["int", "long", "double", "decimal"],
        Scalar::String | Scalar::Date | Scalar::Time | Scalar::LocalDateTime | Scalar::Duration => &["string"],
        Scalar::DateTime => &["date"],
        Scalar::Uuid | Scalar::Bytes => &["binData"],
        Scalar::ObjectId => &["objectId"],
        Scalar::Json => &[],
    }
}

/// What `$type` calls a type of BSON.
pub(super) fn type_name(value: RawBsonRef<'_>) -> &'static str {
    match value {
        RawBsonRef::Double(_) => "double",
        RawBsonRef::String(_) => "string",
        RawBsonRef::Array(_) => "array",
        RawBsonRef::Document(_) => "object",
        RawBsonRef::Boolean(_) => "bool",
        RawBsonRef::Null => "null",
        RawBsonRef::RegularExpression(_) => "regex",
        RawBsonRef::JavaScriptCode(_) => "javascript",
        RawBsonRef::JavaScriptCodeWithScope(_) => "javascriptWithScope",
        RawBsonRef::Int32(_) => "int",
        RawBsonRef::Int64(_) => "long",
        RawBsonRef::Timestamp(_) => "timestamp",
        RawBsonRef::Binary(_) => "binData",
        RawBsonRef::ObjectId(_) => "objectId",
        RawBsonRef::DateTime(_) => "date",
        RawBsonRef::Symbol(_) => "symbol",
        RawBsonRef::Decimal128(_) => "decimal",
        RawBsonRef::Undefined => "undefined",
        RawBsonRef::MaxKey => "maxKey",
        RawBsonRef::MinKey => "minKey",
        RawBsonRef::DbPointer(_) => "dbPointer",
    }
}

/// What becomes of a value that is bound.
#[derive(Debug, Clone)]
pub(super) enum Conversion {
    /// A value of a scalar.
    Scalar(Scalar),
    /// A list of them.
    List(Scalar),
    /// JSON, given as text.
    Json(Arc<Kind>),
}

impl Conversion {
    /// For what is compared with a column's values.
    pub(super) fn compared(column: &Column) -> Conversion {
        match column.kind {
            FieldType::Scalar(scalar) => Conversion::Scalar(scalar),
            FieldType::List(element) => Conversion::Scalar(element.scalar()),
            FieldType::Enum(_) => Conversion::Scalar(Scalar::String),
            FieldType::Object(_) | FieldType::Items(_) => Conversion::Scalar(Scalar::Json),
        }
    }

    /// For what is written to a column of a table.
    pub(super) fn stored(model: &Model, of: TypeId, column: ColumnId) -> Conversion {
        let c = &model.types[of].columns[column];
        match c.kind {
            _ if c.form == StorageFormat::JsonValue => Conversion::json(model, of, column),
            FieldType::Scalar(Scalar::Json) | FieldType::Object(_) | FieldType::Items(_) => {
                Conversion::json(model, of, column)
            }
            FieldType::Scalar(scalar) => Conversion::Scalar(scalar),
            FieldType::Enum(_) => Conversion::Scalar(Scalar::String),
            FieldType::List(element) => Conversion::List(element.scalar()),
        }
    }

    /// For JSON that is written to a column or a member.
    pub(super) fn json(model: &Model, of: TypeId, column: ColumnId) -> Conversion {
        Conversion::Json(Arc::new(Kind::of(model, of, column)))
    }

    /// The BSON of a value.
    ///
    /// # Errors
    /// `INVALID_ARGUMENT` for one that the database cannot hold.
    pub(super) fn value(&self, datum: &Datum) -> Result<Bson, Problem> {
        match (self, datum) {
            (_, Datum::Null) => Ok(Bson::Null),
            (Conversion::Scalar(scalar), datum) => scalar_value(*scalar, datum),
            (Conversion::List(scalar), Datum::List(items)) => {
                let items = items.iter().map(|item| scalar_value(*scalar, item));
                Ok(Bson::Array(items.collect::<Result<_, Problem>>()?))
            }
            (Conversion::List(scalar), datum) => scalar_value(*scalar, datum),
            (Conversion::Json(kind), Datum::Text(text)) => match serde_json::from_str(text) {
                Ok(json) => from_json(&json, kind),
                Err(_) => Err(unfit("JSON")),
            },
            (Conversion::Json(_), datum) => scalar_value(Scalar::Json, datum),
        }
    }

    /// The BSON of what values are compared with. Null equals nothing.
    ///
    /// # Errors
    /// As [`Conversion::value`].
    pub(super) fn operand(&self, datum: &Datum) -> Result<Bson, Problem> {
        match datum {
            Datum::Null => Ok(Bson::MinKey),
            Datum::List(items) => Ok(Bson::Array(items.iter().map(|item| self.value(item)).collect::<Result<_, _>>()?)),
            one => self.value(one),
        }
    }

    /// The BSON of a list's items.
    ///
    /// # Errors
    /// As [`Conversion::value`].
    pub(super) fn values(&self, datum: &Datum) -> Result<Vec<Bson>, Problem> {
        match datum {
            Datum::List(items) => items.iter().map(|item| self.value(item)).collect(),
            Datum::Null => Ok(Vec::new()),
            one => Ok(vec![self.value(one)?]),
        }
    }
}

fn unfit(what: &str) -> Problem {
    Problem::new(Code::InvalidArgument, format!("expected {what} that the database can hold, found another value"))
}

fn scalar_value(scalar: Scalar, datum: &Datum) -> Result<Bson, Problem> {
    Ok(match (scalar, datum) {
        (_, Datum::Null) => Bson::Null,
        (Scalar::Boolean, Datum::Integer(value)) => Bson::Boolean(*value != 0),
        (Scalar::Decimal, Datum::Integer(value)) => decimal(&value.to_string())?,
        (Scalar::Int, Datum::Integer(value)) => i32::try_from(*value).map_or(Bson::Int64(*value), Bson::Int32),
        (_, Datum::Integer(value)) => Bson::Int64(*value),
        (Scalar::Decimal, Datum::Real(value)) => decimal(&value.to_string())?,
        (_, Datum::Real(value)) => Bson::Double(*value),
        (Scalar::Decimal, Datum::Text(text)) => decimal(text)?,
        (Scalar::DateTime, Datum::Text(text)) => {
            let instant = text.replacen(' ', "T", 1);
            Bson::DateTime(DateTime::parse_rfc3339_str(&instant).map_err(|_| unfit("a date and time"))?)
        }
        (Scalar::ObjectId, Datum::Text(text)) => {
            Bson::ObjectId(ObjectId::parse_str(text).map_err(|_| unfit("an ObjectId"))?)
        }
        (Scalar::Uuid, Datum::Text(text)) => {
            Bson::Binary(Binary::from(Uuid::parse_str(text).map_err(|_| unfit("a UUID"))?))
        }
        (Scalar::Uuid, Datum::Blob(bytes)) => {
            Bson::Binary(Binary { subtype: BinarySubtype::Uuid, bytes: bytes.clone() })
        }
        (_, Datum::Blob(bytes)) => Bson::Binary(Binary { subtype: BinarySubtype::Generic, bytes: bytes.clone() }),
        (Scalar::Json, Datum::Text(text)) => match serde_json::from_str(text) {
            Ok(json) => from_json(&json, &Kind::Scalar(Scalar::Json))?,
            Err(_) => return Err(unfit("JSON")),
        },
        (_, Datum::Text(text)) => Bson::String(text.clone()),
        (_, Datum::List(items)) => {
            Bson::Array(items.iter().map(|item| scalar_value(scalar, item)).collect::<Result<_, Problem>>()?)
        }
    })
}

fn decimal(text: &str) -> Result<Bson, Problem> {
    text.parse::<Decimal128>().map(Bson::Decimal128).map_err(|_| unfit("a decimal number of at most 34 digits"))
}

/// JSON as the BSON of a place of some kind.
fn from_json(json: &Json, kind: &Kind) -> Result<Bson, Problem> {
    Ok(match (json, kind) {
        (Json::Null, _) => Bson::Null,
        (Json::Array(items), kind) => {
            let of = kind.item(0);
            Bson::Array(items.iter().map(|item| from_json(item, &of)).collect::<Result<_, Problem>>()?)
        }
        (Json::Object(_), Kind::Scalar(Scalar::Json)) => untyped(json)?,
        (Json::Object(members), kind) => {
            let members =
                members.iter().map(|(name, member)| Ok((name.clone(), from_json(member, kind.member(name))?)));
            Bson::Document(members.collect::<Result<Document, Problem>>()?)
        }
        (Json::Bool(value), _) => Bson::Boolean(*value),
        (Json::Number(number), Kind::Scalar(Scalar::Decimal)) => decimal(&number.to_string())?,
        (Json::Number(number), Kind::Scalar(Scalar::Float)) => {
            number.as_f64().map(Bson::Double).ok_or_else(|| unfit("a number"))?
        }
        (Json::Number(number), Kind::Scalar(Scalar::BigInt)) => {
            number.as_i64().map(Bson::Int64).ok_or_else(|| unfit("a whole number of 64 bits"))?
        }
        (Json::Number(number), _) => number_value(number)?,
        (Json::String(text), Kind::Scalar(Scalar::Json)) => Bson::String(text.clone()),
        (Json::String(text), Kind::Scalar(Scalar::Bytes)) => {
            let bytes = STANDARD.decode(text).map_err(|_| unfit("bytes in base64"))?;
            Bson::Binary(Binary { subtype: BinarySubtype::Generic, bytes })
        }
        (Json::String(text), Kind::Scalar(scalar)) => scalar_value(*scalar, &Datum::Text(text.clone()))?,
        (Json::String(text), _) => Bson::String(text.clone()),
    })
}

/// A number of JSON whose type nobody says: the smallest type that holds it.
fn number_value(number: &serde_json::Number) -> Result<Bson, Problem> {
    if let Some(value) = number.as_i64() {
        return Ok(i32::try_from(value).map_or(Bson::Int64(value), Bson::Int32));
    }
    match number.as_f64() {
        Some(value) if value.is_finite() && serde_json::Number::from_f64(value).is_some_and(|own| own == *number) => {
            Ok(Bson::Double(value))
        }
        // A double would round it.
        _ => decimal(&number.to_string()),
    }
}

/// An object whose types nobody says: of types that JSON has not, in the extended form in which they are delivered.
fn untyped(json: &Json) -> Result<Bson, Problem> {
    let Json::Object(members) = json else { return from_json(json, &Kind::Scalar(Scalar::Json)) };
    if members.keys().any(|name| name.starts_with('$')) {
        let extended: serde_json::Map<String, Json> = members.clone();
        return Bson::try_from(extended).map_err(|_| unfit("extended JSON"));
    }
    let members =
        members.iter().map(|(name, member)| Ok((name.clone(), from_json(member, &Kind::Scalar(Scalar::Json))?)));
    Ok(Bson::Document(members.collect::<Result<Document, Problem>>()?))
}

/// How a text is looked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Matching {
    /// It is part of another.
    Part(TextTest),
    /// It is the whole of another.
    Whole,
}

impl Matching {
    /// The regular expression for what a caller looks for.
    ///
    /// # Errors
    /// `TOO_COSTLY` where it is longer than the database takes.
    pub(super) fn pattern_of_caller(self, datum: &Datum) -> Result<String, Problem> {
        let pattern = self.pattern(datum);
        if pattern.len() > MOST_PATTERN {
            let text = format!(
                "the texts that are looked for make a regular expression of {} bytes, and the database takes {MOST_PATTERN}; ask for \
                 fewer or shorter ones, or without `ignoreCase`",
                pattern.len()
            );
            return Err(Problem::new(Code::TooCostly, text));
        }
        Ok(pattern)
    }

    /// The regular expression that finds it; of a list, any of its texts.
    pub(super) fn pattern(self, datum: &Datum) -> String {
        let text = match datum {
            Datum::List(texts) if texts.is_empty() => return NOTHING.to_owned(),
            Datum::List(texts) => {
                let texts: Vec<String> = texts.iter().map(escaped).collect();
                format!("(?:{})", texts.join("|"))
            }
            one => escaped(one),
        };
        match self {
            Matching::Part(TextTest::Contains) => text,
            Matching::Part(TextTest::StartsWith) => format!("^{text}"),
            Matching::Part(TextTest::EndsWith) => format!("{text}{END}"),
            Matching::Whole => format!("^{text}{END}"),
        }
    }
}

/// The longest regular expression that MongoDB takes, in bytes.
const MOST_PATTERN: usize = 32_764;
/// A regular expression that finds nothing.
const NOTHING: &str = "(?!)";
/// The end of a text, and not the one before a last line break.
const END: &str = "$(?!\\n)";

/// A text as a regular expression that finds just it.
fn escaped(datum: &Datum) -> String {
    let Datum::Text(text) = datum else { return NOTHING.to_owned() };
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if c == '\0' {
            out.push_str("\\x00");
            continue;
        }
        if c.is_ascii() && !c.is_ascii_alphanumeric() {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

/// What an output is delivered as.
#[derive(Debug, Clone)]
pub(super) enum Delivered {
    /// A value of a scalar, or of another type, for whoever writes it to find out.
    Scalar(Scalar),
    /// A list of values.
    List(Scalar),
    /// JSON, as text.
    Json(Kind),
    /// The word `object`, or the type of what is there instead.
    IsObject,
    /// A type, by its name.
    Type,
}

impl Delivered {
    /// Appends a value to the current row.
    pub(super) fn push(&self, value: Option<RawBsonRef<'_>>, rows: &mut Rows<'_>) {
        let Some(value) = value.filter(|value| !matches!(value, RawBsonRef::Null | RawBsonRef::Undefined)) else {
            rows.push(DatumRef::Null);
            return;
        };
        match self {
            Delivered::Scalar(scalar) => with_scalar(*scalar, value, |datum| rows.push(datum)),
            Delivered::List(scalar) => match value {
                RawBsonRef::Array(items) => {
                    let mut list = Vec::new();
                    for item in items.into_iter().flatten() {
                        with_scalar(*scalar, item, |datum| push_item(&mut list, datum));
                    }
                    rows.push(DatumRef::List(ListRef::new(&list)));
                }
                other => with_scalar(*scalar, other, |datum| rows.push(datum)),
            },
            Delivered::Json(kind) => {
                let written = rows.push_text(|out| write_json(out, value, kind).ok());
                if written.is_none() {
                    rows.push(DatumRef::Null);
                }
            }
            Delivered::IsObject => rows.push(DatumRef::Text(type_name(value).as_bytes())),
            Delivered::Type => match value {
                RawBsonRef::String("missing" | "null" | "undefined") => rows.push(DatumRef::Null),
                RawBsonRef::String(name) => rows.push(DatumRef::Text(name.as_bytes())),
                other => rows.push(DatumRef::Text(type_name(other).as_bytes())),
            },
        }
    }
}

/// Hands a value on in the form that the core knows. What is of no type of the scalar goes in a form in which it is none, either.
fn with_scalar<T>(scalar: Scalar, value: RawBsonRef<'_>, push: impl FnOnce(DatumRef<'_>) -> T) -> T {
    if !types_of_scalar(scalar).contains(&type_name(value)) && scalar != Scalar::Json {
        let foreign = match value {
            RawBsonRef::Double(value) if scalar != Scalar::Boolean => return push(DatumRef::Real(value)),
            RawBsonRef::Int32(value) if scalar != Scalar::Boolean => return push(DatumRef::Integer(value.into())),
            RawBsonRef::Int64(value) if scalar != Scalar::Boolean => return push(DatumRef::Integer(value)),
            other => format!("({})", type_name(other)),
        };
        return push(DatumRef::Blob(foreign.as_bytes()));
    }
    match value {
        RawBsonRef::Boolean(value) if scalar == Scalar::Boolean => push(DatumRef::Integer(value.into())),
        RawBsonRef::Int32(value) => push(DatumRef::Integer(value.into())),
        RawBsonRef::Int64(value) => push(DatumRef::Integer(value)),
        RawBsonRef::Double(value) => match whole(value).filter(|_| matches!(scalar, Scalar::Int | Scalar::BigInt)) {
            Some(value) => push(DatumRef::Integer(value)),
            None => push(DatumRef::Real(value)),
        },
        RawBsonRef::Decimal128(value) => push(DatumRef::Text(plain_decimal(value).as_bytes())),
        RawBsonRef::String(text) if scalar != Scalar::Json => push(DatumRef::Text(text.as_bytes())),
        RawBsonRef::ObjectId(id) if scalar == Scalar::ObjectId => push(DatumRef::Text(id.to_hex().as_bytes())),
        RawBsonRef::DateTime(instant) if scalar == Scalar::DateTime => match instant.try_to_rfc3339_string() {
            Ok(text) => push(DatumRef::Text(text.replacen('T', " ", 1).as_bytes())),
            // Beyond the years that are written with four digits.
            Err(_) => push(DatumRef::Integer(instant.timestamp_millis())),
        },
        RawBsonRef::Binary(binary) if scalar == Scalar::Uuid && binary.bytes.len() == 16 => {
            push(DatumRef::Text(uuid_text(binary.bytes).as_bytes()))
        }
        RawBsonRef::Binary(binary) => push(DatumRef::Blob(binary.bytes)),
        value => {
            let mut json = Vec::new();
            let _ = write_json(&mut json, value, &Kind::Scalar(Scalar::Json));
            push(DatumRef::Text(&json))
        }
    }
}

/// The largest number below which every double without a fraction is one integer, and no other.
pub(super) const MOST_WHOLE: i64 = 1 << 53;

/// The integer that a double is.
fn whole(value: f64) -> Option<i64> {
    #[expect(clippy::cast_precision_loss, reason = "it is a power of two")]
    let most = MOST_WHOLE as f64;
    #[expect(clippy::cast_possible_truncation, reason = "it is a whole number that fits")]
    (value.fract() == 0.0 && value.abs() <= most).then_some(value as i64)
}

/// A decimal number without an exponent, as far as it is not absurdly long.
fn plain_decimal(value: Decimal128) -> String {
    let text = value.to_string();
    let Some((digits, exponent)) = text.split_once(['E', 'e']) else { return text };
    let Ok(exponent) = exponent.parse::<i32>() else { return text };
    let (sign, digits) = digits.strip_prefix('-').map_or(("", digits), |digits| ("-", digits));
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let all = format!("{whole}{fraction}");
    let point = i32::try_from(whole.len()).unwrap_or(0) + exponent;
    let length = i32::try_from(all.len()).unwrap_or(0);
    let zeros = |count: i32| "0".repeat(usize::try_from(count).unwrap_or(0));
    if point <= 0 {
        return format!("{sign}0.{}{all}", zeros(-point));
    }
    if point >= length {
        return format!("{sign}{all}{}", zeros(point - length));
    }
    let at = usize::try_from(point).unwrap_or(0);
    format!("{sign}{}.{}", &all[..at], &all[at..])
}

/// Sixteen bytes as a UUID is written.
fn uuid_text(bytes: &[u8]) -> String {
    bytes.try_into().map(|bytes| Uuid::from_bytes(bytes).to_string()).unwrap_or_default()
}

/// What BSON could not be read as.
#[derive(Debug)]
pub(super) struct Unreadable;

impl From<bson::error::Error> for Unreadable {
    fn from(_: bson::error::Error) -> Self {
        Unreadable
    }
}

/// Appends BSON as JSON. What JSON has no type for is written as its scalar writes it, where a place is of that scalar; else in
/// extended JSON, so that nothing is lost and nothing is taken for what it is not.
pub(super) fn write_json(out: &mut Vec<u8>, value: RawBsonRef<'_>, kind: &Kind) -> Result<(), Unreadable> {
    let scalar = if let Kind::Scalar(scalar) = kind { Some(*scalar) } else { None };
    // Texts that stand where another type of BSON is expected would be taken for it.
    let wants_another = scalar
        .is_some_and(|scalar| matches!(scalar, Scalar::DateTime | Scalar::ObjectId | Scalar::Uuid | Scalar::Bytes));
    match value {
        RawBsonRef::Null | RawBsonRef::Undefined => out.extend_from_slice(b"null"),
        RawBsonRef::Boolean(value) => out.extend_from_slice(if value { b"true" } else { b"false" }),
        RawBsonRef::Int32(value) => push_display(out, value),
        RawBsonRef::Int64(value) => push_display(out, value),
        RawBsonRef::Double(value) if value.is_finite() => match serde_json::Number::from_f64(value) {
            Some(number) => push_display(out, number),
            None => out.extend_from_slice(b"null"),
        },
        RawBsonRef::String(text) if !wants_another => push_string(out, text),
        RawBsonRef::Document(document) => write_document(out, document, kind)?,
        RawBsonRef::Array(items) => write_array(out, items, kind)?,
        RawBsonRef::Decimal128(value) if scalar == Some(Scalar::Decimal) => {
            let text = plain_decimal(value);
            if text.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b'-' | b'.')) {
                out.extend_from_slice(text.as_bytes());
            } else {
                push_string(out, &text);
            }
        }
        RawBsonRef::ObjectId(id) if scalar == Some(Scalar::ObjectId) => push_string(out, &id.to_hex()),
        RawBsonRef::DateTime(instant) if scalar == Some(Scalar::DateTime) => match instant.try_to_rfc3339_string() {
            Ok(text) => push_string(out, &text),
            Err(_) => push_display(out, instant.timestamp_millis()),
        },
        RawBsonRef::Binary(binary) if scalar == Some(Scalar::Uuid) && binary.bytes.len() == 16 => {
            push_string(out, &uuid_text(binary.bytes));
        }
        RawBsonRef::Binary(binary) if scalar == Some(Scalar::Bytes) => {
            push_string(out, &STANDARD.encode(binary.bytes));
        }
        other => {
            let owned = Bson::try_from(other)?;
            let extended = owned.into_canonical_extjson();
            out.extend_from_slice(extended.to_string().as_bytes());
        }
    }
    Ok(())
}

fn write_document(out: &mut Vec<u8>, document: &RawDocument, kind: &Kind) -> Result<(), Unreadable> {
    out.push(b'{');
    let mut first = true;
    for element in document.iter() {
        let (name, value) = element?;
        if !std::mem::take(&mut first) {
            out.push(b',');
        }
        push_string(out, name.as_str());
        out.push(b':');
        write_json(out, value, kind.member(name.as_str()))?;
    }
    out.push(b'}');
    Ok(())
}

fn write_array(out: &mut Vec<u8>, items: &RawArray, kind: &Kind) -> Result<(), Unreadable> {
    out.push(b'[');
    for (at, item) in items.into_iter().enumerate() {
        if at > 0 {
            out.push(b',');
        }
        write_json(out, item?, &kind.item(at))?;
    }
    out.push(b']');
    Ok(())
}

fn push_display(out: &mut Vec<u8>, value: impl std::fmt::Display) {
    let mut text = String::new();
    let _ = write!(text, "{value}");
    out.extend_from_slice(text.as_bytes());
}

fn push_string(out: &mut Vec<u8>, text: &str) {
    let is_plain = text.bytes().all(|byte| byte >= 0x20 && !matches!(byte, b'"' | b'\\'));
    if is_plain {
        out.push(b'"');
        out.extend_from_slice(text.as_bytes());
        out.push(b'"');
    } else {
        out.extend_from_slice(Json::from(text).to_string().as_bytes());
    }
}

#[cfg(test)]
mod tests {
    use bson::raw::RawDocumentBuf;
    use rstest::rstest;

    use super::*;

    fn delivered(value: &Bson, what: &Delivered) -> Datum {
        let document = RawDocumentBuf::try_from(&bson::doc! { "v": value.clone() }).expect("BSON");
        let mut rows = Rows::default();
        rows.clear(1);
        what.push(document.get("v").expect("BSON"), &mut rows);
        rows.row(0).cell(0).to_datum()
    }

    fn text(text: &str) -> Datum {
        Datum::Text(text.to_owned())
    }

    #[rstest]
    #[case(Scalar::Boolean, Datum::Integer(1), Bson::Boolean(true))]
    #[case(Scalar::Int, Datum::Integer(7), Bson::Int32(7))]
    #[case(Scalar::BigInt, Datum::Integer(i64::MAX), Bson::Int64(i64::MAX))]
    #[case(Scalar::Float, Datum::Real(0.1), Bson::Double(0.1))]
    #[case(Scalar::Decimal, text("1234567890123456789012345678901.234"), Bson::Decimal128("1234567890123456789012345678901.234".parse().unwrap()))]
    #[case(Scalar::String, text("$where"), Bson::String("$where".to_owned()))]
    #[case(Scalar::ObjectId, text("680000010000000000000007"), Bson::ObjectId(ObjectId::parse_str("680000010000000000000007").unwrap()))]
    #[case(Scalar::Bytes, Datum::Blob(vec![0, 255]), Bson::Binary(Binary { subtype: BinarySubtype::Generic, bytes: vec![0, 255] }))]
    #[case(
        Scalar::DateTime,
        text("2026-01-31 06:00:00.123Z"),
        Bson::DateTime(DateTime::from_millis(1_769_839_200_123))
    )]
    fn values_come_back_as_they_were_written(#[case] scalar: Scalar, #[case] datum: Datum, #[case] stored: Bson) {
        assert_eq!(Conversion::Scalar(scalar).value(&datum).unwrap(), stored);
        assert_eq!(delivered(&stored, &Delivered::Scalar(scalar)), datum);
    }

    #[rstest]
    #[case(Scalar::ObjectId, "7")]
    #[case(Scalar::DateTime, "yesterday")]
    #[case(Scalar::Uuid, "680000010000000000000007")]
    #[case(Scalar::Decimal, "1e99999")]
    fn what_the_database_cannot_hold_is_refused(#[case] scalar: Scalar, #[case] given: &str) {
        let problem = Conversion::Scalar(scalar).value(&text(given)).unwrap_err();
        assert_eq!(problem.code, Code::InvalidArgument, "{}", problem.message);
    }

    #[rstest]
    #[case(Scalar::Int, Bson::String("7".to_owned()))]
    #[case(Scalar::Int, Bson::Double(7.5))]
    #[case(Scalar::String, Bson::Int32(7))]
    #[case(Scalar::ObjectId, Bson::String("680000010000000000000007".to_owned()))]
    #[case(Scalar::Boolean, Bson::Int32(1))]
    #[case(Scalar::DateTime, Bson::String("2026-01-31T06:00:00Z".to_owned()))]
    fn a_value_of_another_type_is_not_taken_for_one(#[case] scalar: Scalar, #[case] stored: Bson) {
        let found = delivered(&stored, &Delivered::Scalar(scalar));
        let own = [Datum::Integer(7), Datum::Integer(1), text("7"), text("680000010000000000000007")];
        assert!(!own.contains(&found) || scalar == Scalar::String && found == Datum::Integer(7), "{found:?}");
    }

    #[rstest]
    #[case("1E+3", "1000")]
    #[case("-1.5E-3", "-0.0015")]
    #[case("12.50", "12.50")]
    #[case("1.25E+1", "12.5")]
    #[case("NaN", "NaN")]
    fn decimals_have_no_exponent(#[case] stored: &str, #[case] written: &str) {
        assert_eq!(plain_decimal(stored.parse().unwrap()), written);
    }

    #[rstest]
    #[case(Matching::Whole, ".*", "^\\.\\*$(?!\\n)")]
    #[case(Matching::Part(TextTest::Contains), "a(b", "a\\(b")]
    #[case(Matching::Part(TextTest::StartsWith), "ü", "^ü")]
    #[case(Matching::Part(TextTest::EndsWith), "a\0", "a\\x00$(?!\\n)")]
    fn a_text_is_looked_for_as_it_is(#[case] matching: Matching, #[case] given: &str, #[case] pattern: &str) {
        assert_eq!(matching.pattern(&text(given)), pattern);
    }

    #[test]
    fn more_text_than_the_database_looks_for_is_refused() {
        let long = Datum::List(vec![text(&"a".repeat(200)); 200]);
        let problem = Matching::Whole.pattern_of_caller(&long).unwrap_err();
        assert_eq!(problem.code, Code::TooCostly, "{}", problem.message);
    }

    #[test]
    fn numbers_without_a_type_lose_nothing() {
        let stored = |number: &str| number_value(&number.parse().unwrap()).unwrap();
        assert_eq!(stored("7"), Bson::Int32(7));
        assert_eq!(stored("3000000000"), Bson::Int64(3_000_000_000));
        assert_eq!(stored("0.5"), Bson::Double(0.5));
        assert!(matches!(stored("0.12345678901234567890123"), Bson::Decimal128(_)));
    }
}
