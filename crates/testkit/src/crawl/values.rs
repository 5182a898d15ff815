//! One text for a value, whether it was served as JSON or told by the engine.

use base64::Engine as _;
use puente_core::catalog::Engine;
use puente_core::model::{Column, Element, FieldType, Model};
use puente_core::value::{Scalar, StorageFormat};
use serde_json::Value as Json;

const NULL: &str = "∅";

/// What was served.
pub(super) fn served(model: &Model, column: &Column, value: &Json) -> String {
    let text = match value {
        Json::Null => return NULL.to_owned(),
        Json::String(text) => text.clone(),
        other => other.to_string(),
    };
    match column.kind {
        FieldType::Scalar(scalar) => plain(scalar, column.form, &text),
        FieldType::Enum(of) => model.enums[of].text_of(&text).unwrap_or(&text).to_owned(),
        FieldType::List(Element::Scalar(scalar)) => items(scalar, value),
        FieldType::List(Element::Enum(of)) => {
            let text = |name: &Json| {
                name.as_str().and_then(|name| model.enums[of].text_of(name)).map_or(Json::Null, Json::from)
            };
            let texts = value.as_array().into_iter().flatten().map(text).collect();
            items(Scalar::String, &Json::Array(texts))
        }
        FieldType::Object(_) | FieldType::Items(_) => text,
    }
}

/// What the engine told.
pub(super) fn stored(_model: &Model, engine: Engine, column: &Column, text: Option<&str>) -> String {
    let Some(text) = text else { return NULL.to_owned() };
    match (engine, column.kind) {
        (_, FieldType::Enum(_) | FieldType::Object(_) | FieldType::Items(_)) => text.to_owned(),
        (_, FieldType::List(element)) => items(element.scalar(), &serde_json::from_str(text).unwrap_or(Json::Null)),
        (_, FieldType::Scalar(Scalar::Boolean)) => {
            let is_true = !matches!(text.to_ascii_lowercase().as_str(), "f" | "false" | "0" | "no");
            is_true.to_string()
        }
        (_, FieldType::Scalar(Scalar::Bytes)) => text.to_ascii_lowercase(),
        (_, FieldType::Scalar(scalar)) => plain(scalar, column.form, text),
    }
}

fn items(scalar: Scalar, list: &Json) -> String {
    let item = |value: &Json| match value {
        Json::Null => NULL.to_owned(),
        Json::String(text) => plain(scalar, StorageFormat::Usual, text),
        Json::Array(_) => items(scalar, value),
        other => plain(scalar, StorageFormat::Usual, &other.to_string()),
    };
    list.as_array().map(|list| list.iter().map(item).collect::<Vec<_>>().join(",")).unwrap_or_default()
}

fn plain(scalar: Scalar, form: StorageFormat, text: &str) -> String {
    match scalar {
        Scalar::Int | Scalar::BigInt | Scalar::Decimal => number(text),
        Scalar::Float => match text.parse::<f64>() {
            Ok(value) if form == StorageFormat::Single => format!("{:?}", single(value)),
            Ok(value) => format!("{value:?}"),
            Err(_) => text.to_owned(),
        },
        Scalar::Bytes => {
            let bytes = base64::engine::general_purpose::STANDARD.decode(text).unwrap_or_default();
            bytes.iter().map(|byte| format!("{byte:02x}")).collect()
        }
        Scalar::DateTime | Scalar::LocalDateTime | Scalar::Time => moment(text),
        Scalar::Uuid => text.to_ascii_lowercase(),
        Scalar::Json => {
            serde_json::from_str::<Json>(text).map_or_else(|_| text.to_owned(), |value| sorted(&value).to_string())
        }
        // Told in another form by every engine: that there is one is what is compared.
        Scalar::Duration => "a duration".to_owned(),
        Scalar::Boolean | Scalar::String | Scalar::Date | Scalar::ObjectId => text.to_owned(),
    }
}

#[expect(clippy::cast_possible_truncation, reason = "a number of 32 bits is what is stored")]
fn single(value: f64) -> f32 {
    value as f32
}

/// Digits without what says nothing: `007.10` and `7.1` are one number.
fn number(text: &str) -> String {
    let (sign, digits) = text.strip_prefix('-').map_or(("", text), |digits| ("-", digits));
    if !digits.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.') {
        return text.to_owned();
    }
    let digits = if digits.contains('.') { digits.trim_end_matches('0').trim_end_matches('.') } else { digits };
    let digits = digits.trim_start_matches('0');
    let digits = if digits.is_empty() || digits.starts_with('.') { format!("0{digits}") } else { digits.to_owned() };
    if digits == "0" { digits } else { format!("{sign}{digits}") }
}

/// `2026-07-14 08:30:00.500+00` and `2026-07-14T08:30:00.5Z` are one moment.
fn moment(text: &str) -> String {
    let text = text.replacen(' ', "T", 1);
    let text = text
        .strip_suffix('Z')
        .or_else(|| text.strip_suffix("+00"))
        .or_else(|| text.strip_suffix("+00:00"))
        .unwrap_or(&text);
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text.to_owned() }
}

fn sorted(value: &Json) -> Json {
    match value {
        Json::Array(items) => items.iter().map(sorted).collect(),
        Json::Object(members) => {
            let mut members: Vec<_> = members.iter().map(|(name, value)| (name.clone(), sorted(value))).collect();
            members.sort_by(|a, b| a.0.cmp(&b.0));
            Json::Object(members.into_iter().collect())
        }
        Json::Number(digits) => Json::String(format!("{:?}", digits.to_string().parse::<f64>())),
        other => other.clone(),
    }
}
