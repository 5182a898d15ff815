//! Values bound to MariaDB's statements. Lists travel as the JSON that JSON_TABLE takes apart.

use mysql_async::Value;
use puente_core::json::KeyValues;
use puente_core::plan::BoundPlan;
use puente_core::sql::Slot;
use puente_core::value::Cell;
use serde_json::Value as Json;

/// What is bound to each of a statement's placeholders.
pub(super) fn values(slots: &[Slot], bound: &BoundPlan, keys: Option<&KeyValues>) -> Vec<Value> {
    slots
        .iter()
        .map(|slot| match slot {
            Slot::Parameter(parameter) => value(bound.value(*parameter)),
            Slot::PageSize(parameter) => Value::Int(bound.integer(*parameter) + 1),
            Slot::Constant(cell) => value(cell),
            Slot::Keys => {
                let rows = keys.map_or(&[][..], KeyValues::rows).iter();
                text(&Json::Array(rows.map(|row| Json::Array(row.iter().map(json).collect())).collect()))
            }
            Slot::Parent(_) | Slot::KeyColumn(_) => Value::NULL,
        })
        .collect()
}

fn value(cell: &Cell) -> Value {
    match cell {
        Cell::Null => Value::NULL,
        Cell::Integer(value) => Value::Int(*value),
        Cell::Real(value) => Value::Double(*value),
        Cell::Text(text) => Value::Bytes(text.clone().into_bytes()),
        Cell::Blob(bytes) => Value::Bytes(bytes.clone()),
        Cell::List(cells) => text(&Json::Array(cells.iter().map(json).collect())),
    }
}

fn text(json: &Json) -> Value {
    Value::Bytes(json.to_string().into_bytes())
}

/// An item of a list: bytes as hexadecimal digits, everything else as itself.
fn json(cell: &Cell) -> Json {
    match cell {
        Cell::Null | Cell::List(_) => Json::Null,
        Cell::Integer(value) => (*value).into(),
        Cell::Real(value) => (*value).into(),
        Cell::Text(text) => text.as_str().into(),
        Cell::Blob(bytes) => bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>().into(),
    }
}
