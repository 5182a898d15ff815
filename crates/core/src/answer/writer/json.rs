//! What is inside a row's JSON, written as the answer wants it.

use super::places::{Part, Wanted};
use super::{Origin, Step, Stop, Writer};
use crate::error::{Code, Location, Problem};
use crate::model::{Element, FieldType};
use crate::plan::{ItemField, ItemRowsShape, ItemShape, ItemValue, ItemsShape, ListShape, ObjectShape, RowSet};
use crate::value::{
    CoercionError, DatumRef, describe_stored, type_of_stored, write_json_list, write_json_scalar, write_plain,
};

const NOT_JSON: &str = "what is not JSON";

/// What the value that is written is of: which field, of which row, and whether null is impossible.
#[derive(Clone, Copy)]
struct About<'n, 'r, 's> {
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
            FieldType::List(Element::Scalar(scalar)) => write_json_list(&mut self.out, scalar, json),
            FieldType::List(Element::Enum(_)) | FieldType::Enum(_) | FieldType::Object(_) | FieldType::Items(_) => {
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
        self.is_not("an object", found, About { name, non_null, location, from })
    }

    /// An object as the column has it, whatever that is.
    pub(super) fn whole_object(
        &mut self,
        (output, non_null, name, item): (usize, bool, &str, &'a ItemShape),
        location: Option<Location>,
        from: Origin<'_, 's>,
    ) -> Result<(), Stop> {
        let about = About { name, non_null, location, from };
        let json = match from.row.cell(output) {
            DatumRef::Null => return self.is_not("an object", "null".to_owned(), about),
            DatumRef::Text(json) => json,
            other => return self.is_not("an object", other.describe().to_owned(), about),
        };
        let mut places = std::mem::take(&mut self.places);
        // Whether it is JSON is seen as it is walked over.
        let json = if std::str::from_utf8(json).is_ok() { json } else { b"" };
        let result = match Part::whole(self.bound, Wanted::Object(item), json, &mut places, &mut self.walks) {
            Ok(Some(part)) => self.item(item, part, None, about),
            Ok(None) => self.is_not("an object", NOT_JSON.to_owned(), about),
            Err(problem) => Err(problem.into()),
        };
        self.places = places;
        result
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
        let about = About { name: &items.name, non_null: items.non_null, location, from };
        let mut places = std::mem::take(&mut self.places);
        let found = Part::whole(self.bound, Wanted::List(&items.list), json, &mut places, &mut self.walks)?;
        let result = self.at(Step::Key(key), |writer| {
            writer.unless(items.non_null, |writer| match found {
                Some(part) => writer.item_list(&items.list, part, about),
                None => writer.is_not("a list", NOT_JSON.to_owned(), about),
            })
        });
        self.places = places;
        result
    }

    /// A list of objects whose items are rows of a select of their own.
    pub(super) fn item_rows(
        &mut self,
        items: &'a ItemRowsShape,
        location: Option<Location>,
        from: Origin<'_, 's>,
    ) -> Result<(), Stop> {
        let about = About { name: &items.name, non_null: items.non_null, location, from };
        match from.row.cell(items.output) {
            DatumRef::Text(b"array") => {}
            DatumRef::Text(other) => {
                return self.is_not("a list", String::from_utf8_lossy(other).into_owned(), about);
            }
            _ => return self.is_not("a list", "null".to_owned(), about),
        }
        self.with_rows(items.select, Some(from), |writer, rows| {
            let RowSet::Page { size, .. } = &writer.bound.plan().selects()[items.select].row_set else {
                return Err(Problem::new(Code::Internal, "a list's select has no page").into());
            };
            let most = usize::try_from(writer.bound.integer(*size)).unwrap_or(0);
            if rows.len() > most {
                let text = format!(
                    "`{}` has over {most} items, the limit of `list` in `[limits]`; ask for a part with `first` and `skip`",
                    items.name
                );
                return Err(Problem::new(Code::TooCostly, text).at(location).into());
            }
            writer.out.push(b'[');
            for at in 0..rows.len() {
                if at > 0 {
                    writer.out.push(b',');
                }
                let item = Origin { select: items.select, row: rows.row(at) };
                writer.at(Step::Index(at), |writer| {
                    writer.nullable(|writer| match item.row.cell(0) {
                        DatumRef::Text(b"object") => writer.object(&items.object, Some(item)),
                        other => {
                            let found = match other {
                                DatumRef::Text(found) => String::from_utf8_lossy(found).into_owned(),
                                _ => "null".to_owned(),
                            };
                            writer.is_not("an object", found, About { non_null: false, ..about })
                        }
                    })
                })?;
            }
            writer.out.push(b']');
            Ok(())
        })
    }

    fn item_list(&mut self, list: &'a ListShape, part: Part<'_>, about: About<'_, '_, 's>) -> Result<(), Stop> {
        if !part.text().starts_with(b"[") {
            return self.is_not("a list", described(part.text()), about);
        }
        // Items are nullable, whatever the list is.
        let about = About { non_null: false, ..about };
        self.out.push(b'[');
        for (at, item) in part.items().enumerate() {
            if at > 0 {
                self.out.push(b',');
            }
            let beside = (!list.beside.is_empty()).then_some((list, item));
            let write = |writer: &mut Self| writer.item(&list.item, item, beside, about);
            self.at(Step::Index(at), |writer| writer.nullable(write))?;
        }
        self.out.push(b']');
        Ok(())
    }

    /// An object as it is written in JSON, in an item beside which there may be lists.
    fn item(
        &mut self,
        item: &'a ItemShape,
        part: Part<'_>,
        beside: Option<(&'a ListShape, Part<'_>)>,
        about: About<'_, '_, 's>,
    ) -> Result<(), Stop> {
        if !part.text().starts_with(b"{") {
            return self.is_not("an object", described(part.text()), about);
        }
        let mut number = 0;
        self.members(&item.fields, |writer, (head, field)| {
            number += 1;
            writer.out.extend_from_slice(&head.written_key);
            let (name, non_null, value) = match field {
                ItemField::Typename(name) => {
                    write_plain(&mut writer.out, name);
                    return Ok(());
                }
                ItemField::Member { name, non_null, value, .. } => (name, *non_null, value),
            };
            let about = About { name, non_null, location: head.location, from: about.from };
            let write = |writer: &mut Self| {
                let found = part.field(number - 1);
                match (value, found) {
                    (ItemValue::Leaf(kind), Some(found)) => writer.item_leaf(*kind, found.text(), about),
                    (ItemValue::Object(object), Some(found)) => writer.item(object, found, beside, about),
                    (ItemValue::Items(list), Some(found)) => writer.item_list(list, found, about),
                    (ItemValue::Beside(number), _) => {
                        let found = beside.and_then(|(whole, item)| {
                            let list = &whole.beside[*number];
                            Some((list, item.field(whole.item.fields.len() + number)?))
                        });
                        match found {
                            Some((list, found)) => writer.item_list(list, found, about),
                            None => writer.is_not("a list", "null".to_owned(), about),
                        }
                    }
                    (ItemValue::Leaf(_) | ItemValue::Object(_) | ItemValue::Items(_), None) => {
                        writer.is_not("a value", "null".to_owned(), about)
                    }
                }
            };
            writer.at(Step::Key(&head.key), |writer| writer.unless(non_null, write))
        })
    }

    fn item_leaf(&mut self, kind: FieldType, json: &[u8], about: About<'_, '_, 's>) -> Result<(), Stop> {
        if json == b"null" {
            return self.is_not("a value", "null".to_owned(), about);
        }
        match self.json_value(kind, json) {
            Ok(()) => Ok(()),
            Err(unfit) => {
                self.add_unfit(&unfit, about.name, about.non_null, about.from, about.location, None);
                Err(Stop::Null)
            }
        }
    }

    /// Null where there is nothing and that may be; an error where there is something else.
    fn is_not(&mut self, expected: &str, found: String, about: About<'_, '_, 's>) -> Result<(), Stop> {
        if found == "null" && !about.non_null {
            self.out.extend_from_slice(b"null");
            return Ok(());
        }
        let unfit = CoercionError::new(expected, found);
        self.add_unfit(&unfit, about.name, about.non_null, about.from, about.location, None);
        Err(Stop::Null)
    }
}

fn described(json: &[u8]) -> String {
    if json == b"null" { "null".to_owned() } else { type_of_stored(json).to_owned() }
}
