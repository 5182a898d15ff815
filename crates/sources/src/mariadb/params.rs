//! Values bound to MariaDB's statements. Lists travel as the JSON that JSON_TABLE takes apart.

use mysql_async::Value;
use puente_core::answer::KeyValues;
use puente_core::plan::BoundPlan;
use puente_core::value::Datum;
use puente_sql::Slot;
use serde_json::Value as Json;

/// What is bound to each of a statement's placeholders.
pub(super) fn values(slots: &[Slot], bound: &BoundPlan, keys: Option<&KeyValues>, given: &[Datum]) -> Vec<Value> {
    let mut pair = 0;
    let of = |slot: &Slot| match slot {
        Slot::Given(number) => value(&given[*number]),
        slot => single(slot, bound, keys, None, &mut pair),
    };
    slots.iter().map(of).collect()
}

/// What is bound to a union of one select per parent, padded with parents that have no children to `copies`.
pub(super) fn union_per_parent(slots: &[Slot], bound: &BoundPlan, keys: &KeyValues, copies: usize) -> Vec<Value> {
    let mut values = Vec::with_capacity(slots.len() * copies);
    for copy in 0..copies {
        let mut pair = 0;
        let parent = Parent { ordinal: copy + 1, key: keys.rows().get(copy).map(Vec::as_slice) };
        values.extend(slots.iter().map(|slot| single(slot, bound, None, Some(parent), &mut pair)));
    }
    values
}

/// The parent that one select of a union is about.
#[derive(Clone, Copy)]
struct Parent<'k> {
    ordinal: usize,
    key: Option<&'k [Datum]>,
}

/// `pair` counts the linking values, which come in the order of the link's pairs.
fn single(
    slot: &Slot,
    bound: &BoundPlan,
    keys: Option<&KeyValues>,
    parent: Option<Parent<'_>>,
    pair: &mut usize,
) -> Value {
    match slot {
        Slot::Parameter(parameter) => value(bound.value(*parameter)),
        Slot::PageSize(parameter) => Value::Int(bound.integer(*parameter) + 1),
        Slot::Constant(cell) => value(cell),
        Slot::Keys => {
            let rows = keys.map_or(&[][..], KeyValues::rows).iter();
            text(&Json::Array(rows.map(|row| Json::Array(row.iter().map(json).collect())).collect()))
        }
        Slot::Ordinal => parent.map_or(Value::NULL, |parent| Value::Int(i64::try_from(parent.ordinal).unwrap_or(0))),
        Slot::Parent(_) => {
            *pair += 1;
            parent.and_then(|parent| parent.key?.get(*pair - 1)).map_or(Value::NULL, value)
        }
        Slot::KeyColumn(_) | Slot::Given(_) => Value::NULL,
    }
}

fn value(cell: &Datum) -> Value {
    match cell {
        Datum::Null => Value::NULL,
        Datum::Integer(value) => Value::Int(*value),
        Datum::Real(value) => Value::Double(*value),
        Datum::Text(text) => Value::Bytes(text.clone().into_bytes()),
        Datum::Blob(bytes) => Value::Bytes(bytes.clone()),
        Datum::List(cells) => text(&Json::Array(cells.iter().map(json).collect())),
    }
}

fn text(json: &Json) -> Value {
    Value::Bytes(json.to_string().into_bytes())
}

/// An item of a list: bytes as hexadecimal digits, everything else as itself.
fn json(cell: &Datum) -> Json {
    match cell {
        Datum::Null | Datum::List(_) => Json::Null,
        Datum::Integer(value) => (*value).into(),
        Datum::Real(value) => (*value).into(),
        Datum::Text(text) => text.as_str().into(),
        Datum::Blob(bytes) => bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>().into(),
    }
}
