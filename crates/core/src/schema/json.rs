//! The part of the schema that is about what is inside JSON: objects with their members, and items of lists.

use std::fmt::Write as _;

use super::sdl::{Printer, SummaryFields, arguments, by_name, deprecation, line, on};
use crate::access::Within;
use crate::model::{Column, FieldType, ObjectType, TypeId};
use crate::plan::{FilterWord, LINK_FILTER_WORDS, summary_functions};

impl Printer<'_> {
    /// The types of what is inside the JSON of a type's rows.
    pub(super) fn inside_json(&mut self, id: TypeId) {
        self.types_within(Within::row(id), self.view.type_view(id).is_some_and(|view| view.count));
    }

    fn types_within(&mut self, within: Within, count: bool) {
        let of = within.of;
        for (column, _) in self.view.fields(within) {
            match self.model.types[of].columns[column].kind {
                FieldType::Object(object) => {
                    let inner = Within::object(of, column);
                    self.object_type(&self.model.objects[object], inner, count);
                    self.types_within(inner, count);
                }
                FieldType::Items(items) => {
                    self.object(items);
                    self.filter(items);
                    self.items_filter(items);
                    self.types_within(Within::row(items), false);
                }
                FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) => {}
            }
        }
    }

    fn object_type(&mut self, object: &ObjectType, within: Within, count: bool) {
        let (view, helpers) = (self.view, &object.helpers);
        self.begin("An object.", format_args!("type {}", object.name));
        for (column, field) in view.fields(within) {
            self.column_field(within.of, column, field);
        }
        if within.object.is_none() {
            for (at, link) in view.links(within.of) {
                self.link_field(link, view.is_present(within.of, at));
            }
        }
        line!(self, "}}\n");
        self.object_filter(helpers, within);
        // Items of a list are not ordered, nor summed up.
        if self.model.types[within.of].items_of.is_some() {
            return;
        }
        let is_ordered = self.is_ordered(within);
        if is_ordered {
            self.begin("What rows are ordered by.", format_args!("input {helpers}Order @oneOf"));
            self.order_fields(within);
            line!(self, "}}\n");
        }
        if count {
            let SummaryFields { summary, order, by, key } = self.summary_fields(within);
            if self.is_summed_up(within) {
                self.begin("What the members come to.", format_args!("type {helpers}Summary"));
                line!(self, "{summary}}}\n");
            }
            if is_ordered {
                self.summary_inputs(helpers, &by, &order);
                self.summary_key(helpers, &key);
            }
        }
    }

    fn object_filter(&mut self, helpers: &str, within: Within) {
        let is_taken = |word: &str| self.view.fields(within).any(|(_, field)| field == word);
        let is_null = FilterWord::IsNull;
        let has_is_null = !is_taken(is_null.name());
        self.begin("Conditions on an object; all of them must hold.", format_args!("input {helpers}Filter"));
        self.combining_words(helpers, is_taken);
        for (column, field) in self.view.fields(within) {
            self.filter_field(&self.model.types[within.of].columns[column], field);
        }
        if has_is_null {
            self.said("Is there no object?", format_args!("{}: Boolean", is_null.name()));
        }
        line!(self, "}}\n");
    }

    /// Conditions on the items of a list inside JSON.
    fn items_filter(&mut self, items: TypeId) {
        let helpers = &self.model.types[items].helpers;
        self.begin("Conditions on the items of a list.", format_args!("input {helpers}ListFilter"));
        if self.has_filter(items) {
            for (word, _, text) in LINK_FILTER_WORDS {
                self.said(&text.replace("row", "item"), format_args!("{word}: {helpers}Filter"));
            }
        }
        for word in [FilterWord::IsEmpty, FilterWord::IsNull] {
            self.said(word.description(), format_args!("{}: Boolean", word.name()));
        }
        line!(self, "}}\n");
    }

    pub(super) fn filter_field(&mut self, column: &Column, field: &str) {
        let kind = self.kind(column);
        let filter = match column.kind {
            FieldType::Scalar(_) | FieldType::Enum(_) => format!("{kind}Filter"),
            FieldType::List(_) => format!("{kind}ListFilter"),
            FieldType::Object(object) => format!("{}Filter", self.model.objects[object].helpers),
            FieldType::Items(items) => format!("{}ListFilter", self.model.types[items].helpers),
        };
        self.said(&on(field), format_args!("{field}: {filter}{}", deprecation(column.deprecated.as_ref())));
    }

    /// The arguments of a list of objects.
    pub(super) fn item_arguments(&self, column: &Column) -> String {
        let FieldType::Items(items) = column.kind else { return String::new() };
        let helpers = &self.model.types[items].helpers;
        let filter = ("Only items for which this is true.", format!("filter: {helpers}Filter"));
        let first = ("How many items at most.", "first: Int".to_owned());
        let skip = ("How many items to pass over.", "skip: Int".to_owned());
        arguments(self.has_filter(items).then_some(filter).into_iter().chain([first, skip]))
    }

    /// Can rows be ordered by something there?
    pub(super) fn is_ordered(&self, within: Within) -> bool {
        let t = &self.model.types[within.of];
        self.view.fields(within).any(|(column, _)| {
            t.columns[column].is_comparable()
                || matches!(t.columns[column].kind, FieldType::Object(_))
                    && self.is_ordered(Within::object(within.of, column))
        })
    }

    /// Can something there be summed up?
    pub(super) fn is_summed_up(&self, within: Within) -> bool {
        let t = &self.model.types[within.of];
        self.view.fields(within).any(|(column, _)| match t.columns[column].kind {
            FieldType::Scalar(scalar) => !summary_functions(scalar).is_empty(),
            FieldType::Object(_) => self.is_summed_up(Within::object(within.of, column)),
            FieldType::Enum(_) | FieldType::List(_) | FieldType::Items(_) => false,
        })
    }

    pub(super) fn order_fields(&mut self, within: Within) {
        let t = &self.model.types[within.of];
        for (column, field) in self.view.fields(within) {
            match t.columns[column].kind {
                FieldType::Object(object) if self.is_ordered(Within::object(within.of, column)) => {
                    let helpers = &self.model.objects[object].helpers;
                    self.said(&by_name(field), format_args!("{field}: {helpers}Order"));
                }
                _ if t.columns[column].is_comparable() => {
                    let deprecated = deprecation(t.columns[column].deprecated.as_ref());
                    self.said(&by_name(field), format_args!("{field}: Direction{deprecated}"));
                }
                _ => {}
            }
        }
    }
}
