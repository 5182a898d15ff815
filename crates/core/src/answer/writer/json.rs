//! What is inside a row's JSON, written as the answer wants it.

use super::{Origin, Step, Stop, Writer};
use crate::error::Location;
use crate::model::FieldType;
use crate::plan::{ItemField, ItemShape, ItemValue, ItemsShape, ObjectShape};
use crate::value::{
    CoercionError, DatumRef, Items, Members, describe_stored, is_called, type_of_stored, write_json_list,
    write_json_scalar, write_plain,
};

/// How many items of a list are wanted, and after how many.
#[derive(Clone, Copy)]
struct Page {
    first: usize,
    skip: usize,
}

/// A part of JSON that is being written: which field it is, of which row, and whether null is impossible.
#[derive(Clone, Copy)]
struct Part<'n, 'r, 's> {
    name: &'n str,
    non_null: bool,
    location: Option<Location>,
    from: Origin<'r, 's>,
}

impl<'a, 's> Writer<'a, 's> {
    /// A single value of JSON, or a list of such.
    pub(super) fn json_value(&mut self, kind: FieldType, json: &[u8]) -> Result<(), CoercionError> {
        match kind {
            FieldType::Scalar(scalar) => write_json_scalar(&mut self.out, scalar, json),
            FieldType::List(scalar) => write_json_list(&mut self.out, scalar, json),
            FieldType::Enum(_) | FieldType::Object(_) | FieldType::Items(_) => {
                Err(CoercionError::new("a single value", describe_stored(json)))
            }
        }
    }

    /// An object whose members are values of the row; the row tells whether it is one.
    pub(super) fn json_object(
        &mut self,
        (output, non_null, name, object): (usize, bool, &str, &'a ObjectShape),
        location: Option<Location>,
        from: Origin<'_, 's>,
    ) -> Result<(), Stop> {
        let found = match from.row.cell(output) {
            DatumRef::Null | DatumRef::Text(b"null") => "null".to_owned(),
            DatumRef::Text(b"object") => return self.object(object, Some(from)),
            DatumRef::Text(other) => String::from_utf8_lossy(other).into_owned(),
            other => other.describe().to_owned(),
        };
        self.is_not("an object", found, Part { name, non_null, location, from })
    }

    /// An object as the column has it, whatever that is.
    pub(super) fn whole_object(
        &mut self,
        (output, non_null, name, item): (usize, bool, &str, &'a ItemShape),
        location: Option<Location>,
        from: Origin<'_, 's>,
    ) -> Result<(), Stop> {
        let part = Part { name, non_null, location, from };
        match from.row.cell(output) {
            DatumRef::Null => self.is_not("an object", "null".to_owned(), part),
            // Whether it is JSON is seen as it is walked over.
            DatumRef::Text(json) if std::str::from_utf8(json).is_ok() => self.item(item, json, part),
            DatumRef::Text(_) => self.is_not("an object", "what is not JSON".to_owned(), part),
            other => self.is_not("an object", other.describe().to_owned(), part),
        }
    }

    /// A list of objects as it is written in the row's JSON.
    pub(super) fn json_items(
        &mut self,
        items: &'a ItemsShape,
        key: &'a str,
        location: Option<Location>,
        from: Origin<'_, 's>,
    ) -> Result<(), Stop> {
        let json = match from.row.cell(items.output) {
            DatumRef::Text(json) => json,
            _ => b"null",
        };
        let page = self.page_of_items(items.first, items.skip);
        let part = Part { name: &items.name, non_null: items.non_null, location, from };
        let write = |writer: &mut Self| writer.item_list(&items.item, page, json, part);
        self.at(Step::Key(key), |writer| writer.unless(items.non_null, write))
    }

    fn page_of_items(&self, first: Option<usize>, skip: Option<usize>) -> Page {
        let value = |parameter: usize| usize::try_from(self.bound.integer(parameter)).unwrap_or(0);
        Page { first: first.map_or(usize::MAX, value), skip: skip.map_or(0, value) }
    }

    fn item_list(&mut self, item: &'a ItemShape, page: Page, json: &[u8], part: Part<'_, '_, 's>) -> Result<(), Stop> {
        let Some(items) = Items::of(json) else {
            return self.is_not("a list", described(json), part);
        };
        // Items are nullable, whatever the list is.
        let part = Part { non_null: false, ..part };
        self.out.push(b'[');
        for (at, json) in items.skip(page.skip).take(page.first).enumerate() {
            if at > 0 {
                self.out.push(b',');
            }
            self.at(Step::Index(at), |writer| writer.nullable(|writer| writer.item(item, json, part)))?;
        }
        self.out.push(b']');
        Ok(())
    }

    /// An object as it is written in JSON.
    fn item(&mut self, item: &'a ItemShape, json: &[u8], part: Part<'_, '_, 's>) -> Result<(), Stop> {
        let Some(mut members) = Members::of(json) else {
            return self.is_not("an object", described(json), part);
        };
        let mut found: Vec<Option<&[u8]>> = vec![None; item.fields.len()];
        for (written, value) in members.by_ref() {
            for (found, (_, field)) in found.iter_mut().zip(&item.fields) {
                match field {
                    // Of several of one name the first counts, as for the engines that keep several.
                    ItemField::Member { member, .. } if is_called(written, member) => {
                        found.get_or_insert(value);
                    }
                    ItemField::Member { .. } | ItemField::Typename(_) => {}
                }
            }
        }
        if !members.is_whole() {
            return self.is_not("an object", "what is not JSON".to_owned(), part);
        }
        let mut found = found.into_iter();
        self.members(&item.fields, |writer, (head, field)| {
            writer.out.extend_from_slice(&head.written_key);
            let json = found.next().flatten().unwrap_or(b"null");
            let (name, non_null, value) = match field {
                ItemField::Typename(name) => {
                    write_plain(&mut writer.out, name);
                    return Ok(());
                }
                ItemField::Member { name, non_null, value, .. } => (name, *non_null, value),
            };
            let part = Part { name, non_null, location: head.location, from: part.from };
            let write = |writer: &mut Self| match value {
                ItemValue::Leaf(kind) => writer.item_leaf(*kind, json, part),
                ItemValue::Object(object) => writer.item(object, json, part),
                ItemValue::Items { first, skip, item } => {
                    let page = writer.page_of_items(*first, *skip);
                    writer.item_list(item, page, json, part)
                }
            };
            writer.at(Step::Key(&head.key), |writer| writer.unless(non_null, write))
        })
    }

    fn item_leaf(&mut self, kind: FieldType, json: &[u8], part: Part<'_, '_, 's>) -> Result<(), Stop> {
        if json == b"null" {
            return self.is_not("a value", "null".to_owned(), part);
        }
        match self.json_value(kind, json) {
            Ok(()) => Ok(()),
            Err(unfit) => {
                self.add_unfit(&unfit, part.name, part.non_null, part.from, part.location, None);
                Err(Stop::Null)
            }
        }
    }

    /// Null where there is nothing and that may be; an error where there is something else.
    fn is_not(&mut self, expected: &str, found: String, part: Part<'_, '_, 's>) -> Result<(), Stop> {
        if found == "null" && !part.non_null {
            self.out.extend_from_slice(b"null");
            return Ok(());
        }
        let unfit = CoercionError::new(expected, found);
        self.add_unfit(&unfit, part.name, part.non_null, part.from, part.location, None);
        Err(Stop::Null)
    }
}

fn described(json: &[u8]) -> String {
    let json = json.trim_ascii();
    if json == b"null" { "null".to_owned() } else { type_of_stored(json).to_owned() }
}
