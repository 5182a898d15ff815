//! Values bound to PostgreSQL's statements: as text, which each statement casts to the type it means.

use std::error::Error;

use bytes::BytesMut;
use puente_core::answer::KeyValues;
use puente_core::plan::BoundPlan;
use puente_core::value::Datum;
use puente_sql::Slot;
use tokio_postgres::types::{Format, IsNull, ToSql, Type};

/// One value in the form of text; none is null.
#[derive(Debug)]
pub(super) struct Text(Option<String>);

impl ToSql for Text {
    fn to_sql(&self, _: &Type, out: &mut BytesMut) -> Result<IsNull, Box<dyn Error + Sync + Send>> {
        match &self.0 {
            None => Ok(IsNull::Yes),
            Some(text) => {
                out.extend_from_slice(text.as_bytes());
                Ok(IsNull::No)
            }
        }
    }

    fn accepts(_: &Type) -> bool {
        true
    }

    fn encode_format(&self, _: &Type) -> Format {
        Format::Text
    }

    fn to_sql_checked(&self, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Box<dyn Error + Sync + Send>> {
        self.to_sql(ty, out)
    }
}

/// What is bound to each of a statement's placeholders.
pub(super) fn values(slots: &[Slot], bound: &BoundPlan, keys: Option<&KeyValues>, given: &[Datum]) -> Vec<Text> {
    slots
        .iter()
        .map(|slot| {
            Text(match slot {
                Slot::Parameter(parameter) => match bound.value(*parameter) {
                    Datum::List(keys) if bound.is_found(*parameter) => Some(found(keys)),
                    value => text(value),
                },
                Slot::PageSize(parameter) => Some((bound.integer(*parameter) + 1).to_string()),
                Slot::Constant(cell) => text(cell),
                Slot::Given(number) => text(&given[*number]),
                // What no text here can be equals nothing, as null does.
                Slot::KeyColumn(pair) => {
                    keys.map(|keys| array(keys.column(*pair).map(|key| if has_nul(key) { &Datum::Null } else { key })))
                }
                Slot::Parent(_) | Slot::Ordinal | Slot::Keys => None,
            })
        })
        .collect()
}

fn text(cell: &Datum) -> Option<String> {
    match cell {
        Datum::Null => None,
        Datum::Integer(value) => Some(value.to_string()),
        Datum::Real(value) => Some(value.to_string()),
        Datum::Text(text) => Some(text.clone()),
        Datum::Blob(bytes) => Some(bytea(bytes)),
        Datum::List(cells) => Some(array(cells)),
    }
}

/// Keys that another source found. What no text here can be is not looked for: null instead would make the answer unknown.
/// Of any other list nothing may be left out: it would be stored without an item, or include all of fewer.
fn found(keys: &[Datum]) -> String {
    array(keys.iter().filter(|key| !has_nul(key)))
}

/// Is it a text that PostgreSQL takes for no text: with a byte that is zero?
fn has_nul(cell: &Datum) -> bool {
    matches!(cell, Datum::Text(text) if text.contains('\0'))
}

fn bytea(bytes: &[u8]) -> String {
    bytes.iter().fold(String::from("\\x"), |text, byte| text + &format!("{byte:02x}"))
}

/// An array's literal: every item quoted, so that none can be taken for NULL or for structure.
fn array<'a>(cells: impl IntoIterator<Item = &'a Datum>) -> String {
    let mut literal = String::from("{");
    for (at, cell) in cells.into_iter().enumerate() {
        if at > 0 {
            literal.push(',');
        }
        match text(cell) {
            None => literal.push_str("NULL"),
            Some(text) => {
                literal.push('"');
                for c in text.chars() {
                    if matches!(c, '"' | '\\') {
                        literal.push('\\');
                    }
                    literal.push(c);
                }
                literal.push('"');
            }
        }
    }
    literal.push('}');
    literal
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_keys_that_were_found_leave_out_what_no_text_can_be() {
        let cells = vec![Datum::Text("a\0b".into()), Datum::Text("c".into())];
        assert_eq!(found(&cells), r#"{"c"}"#);
        assert_eq!(text(&Datum::List(cells)).as_deref(), Some("{\"a\0b\",\"c\"}"), "the database refuses it");
    }

    #[test]
    fn items_of_arrays_are_quoted() {
        let cells = [
            Datum::Integer(1),
            Datum::Null,
            Datum::Text("NULL".into()),
            Datum::Text("a\"b\\c,{}".into()),
            Datum::Blob(vec![0, 255]),
        ];
        assert_eq!(array(&cells), r#"{"1",NULL,"NULL","a\"b\\c,{}","\\x00ff"}"#);
    }
}
