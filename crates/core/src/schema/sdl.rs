//! Prints a role's view of the model as SDL.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use super::inputs;
use crate::access::{View, Within};
use crate::model::{Cardinality, Column, ColumnId, FieldType, Link, Model, TypeId};
use crate::plan::{FilterWord, GROUP_WORDS, LINK_FILTER_WORDS, REVISION, Takes, has_revision, summary_functions};
use crate::value::Scalar;

/// The words of the `Direction` enum, with their meaning.
pub const DIRECTIONS: &[(&str, &str)] = &[
    ("ASC", "Smallest first; nulls where the database's indexes have them."),
    ("DESC", "Largest first; nulls where the database's indexes have them."),
    ("ASC_NULLS_FIRST", "Smallest first, nulls before all."),
    ("ASC_NULLS_LAST", "Smallest first, nulls after all."),
    ("DESC_NULLS_FIRST", "Largest first, nulls before all."),
    ("DESC_NULLS_LAST", "Largest first, nulls after all."),
];

/// The SDL of a view.
pub fn print(view: &View) -> String {
    let mut printer = Printer {
        view,
        model: view.model(),
        out: String::new(),
        scalars: BTreeSet::new(),
        lists: BTreeSet::new(),
        summaries: BTreeSet::new(),
        enums: BTreeSet::new(),
        writes: inputs::writes(view),
    };
    printer.query();
    printer.mutation();
    for (id, _) in view.types() {
        printer.object(id);
        printer.filter(id);
        printer.order(id);
        printer.key(id);
        printer.connection(id);
        printer.summary(id);
        printer.inputs(id);
        printer.inside_json(id);
        for (_, link) in view.links(id) {
            printer.direct_connection(link);
            printer.edge_inputs(link);
        }
    }
    printer.leaves();
    printer.out
}

/// The lines of the types that rows are summed up to, ordered and grouped by.
#[derive(Default)]
pub(super) struct SummaryFields {
    pub(super) summary: String,
    pub(super) order: String,
    pub(super) by: String,
    pub(super) key: String,
}

pub(super) struct Printer<'a> {
    pub(super) view: &'a View,
    pub(super) model: &'a Model,
    pub(super) out: String,
    scalars: BTreeSet<Scalar>,
    /// Scalars of which some column is a list.
    lists: BTreeSet<Scalar>,
    /// Scalars of which some column can be summed up.
    summaries: BTreeSet<Scalar>,
    enums: BTreeSet<usize>,
    /// May the role write anything at all?
    pub(super) writes: bool,
}

macro_rules! line {
    ($self:ident, $($arguments:tt)*) => { writeln!($self.out, $($arguments)*).expect("writing to memory does not fail") };
}
pub(super) use line;

impl Printer<'_> {
    pub(super) fn describe(&mut self, text: Option<&str>, indent: &str) {
        if let Some(text) = text {
            let quoted = serde_json::to_string(text).expect("text is a JSON string");
            line!(self, "{indent}{quoted}");
        }
    }

    fn query(&mut self) {
        line!(self, "type Query {{");
        if self.view.types().next().is_none() {
            self.describe(Some("This role has been granted nothing yet."), "  ");
            line!(self, "  nothing: Boolean");
        }
        for (id, _) in self.view.types() {
            let t = &self.model.types[id];
            if self.view.keys(id).next().is_some() {
                let text = format!("Finds one `{}` by a key.", t.name);
                self.describe(Some(&text), "  ");
                line!(self, "  {}(key: {}Key!): {}", t.one, t.helpers, t.name);
            }
            let text = format!("Lists `{}` rows, page by page.", t.name);
            self.describe(Some(&text), "  ");
            // Of several sources one may be away, while the others answer.
            let non_null = if self.model.has_several_sources() { "" } else { "!" };
            line!(self, "  {}{}: {}Connection{non_null}", t.list, self.list_arguments(id), t.helpers);
        }
        line!(self, "}}\n");
    }

    fn list_arguments(&self, id: TypeId) -> String {
        let name = &self.model.types[id].helpers;
        let mut arguments = Vec::new();
        if self.has_filter(id) {
            arguments.push(format!("filter: {name}Filter"));
        }
        if self.has_order(id) {
            arguments.push(format!("orderBy: [{name}Order!]"));
        }
        arguments.push("first: Int".to_owned());
        if self.model.types[id].row_key().is_some() {
            arguments.push("after: String, last: Int, before: String".to_owned());
        }
        arguments.push("skip: Int".to_owned());
        format!("({})", arguments.join(", "))
    }

    /// A type whose view has no fields and no links has nothing to filter by; `and`, `or` and `not` are always there.
    pub(super) fn has_filter(&self, id: TypeId) -> bool {
        self.view.columns(id).next().is_some() || self.view.links(id).next().is_some()
    }

    fn has_order(&self, id: TypeId) -> bool {
        self.is_ordered(Within::row(id))
    }

    pub(super) fn object(&mut self, id: TypeId) {
        let t = &self.model.types[id];
        self.describe(t.description.as_deref(), "");
        line!(self, "type {} {{", t.name);
        let mut any = false;
        for (column, field) in self.view.columns(id) {
            any = true;
            self.column_field(id, column, field);
        }
        for (_, link) in self.view.links(id) {
            any = true;
            self.link_field(link);
        }
        if has_revision(self.view, id) {
            self.describe(Some("A tag of the row's present state, for `ifUnchanged`."), "  ");
            line!(self, "  {REVISION}: String!");
            any = true;
        }
        if !any {
            self.describe(Some("This role has been granted no field of this type."), "  ");
            line!(self, "  nothing: Boolean");
        }
        line!(self, "}}\n");
    }

    pub(super) fn column_field(&mut self, id: TypeId, column: ColumnId, field: &str) {
        let c = &self.model.types[id].columns[column];
        self.describe(c.description.as_deref(), "  ");
        let kind = self.output_type(c);
        let arguments = self.item_arguments(c);
        let non_null = self.view.is_non_null(id, column);
        line!(self, "  {field}{arguments}: {kind}{}", if non_null { "!" } else { "" });
    }

    pub(super) fn link_field(&mut self, link: &Link) {
        let target = &self.model.types[link.target];
        match (link.cardinality, &link.through) {
            (Cardinality::One, _) => line!(self, "  {}: {}", link.field, target.name),
            (Cardinality::Many, through) => {
                let name = through.as_ref().map_or(&target.helpers, |through| &through.prefix);
                // Another source may be away.
                let non_null = if link.crosses { "" } else { "!" };
                line!(self, "  {}{}: {name}Connection{non_null}", link.field, self.list_arguments(link.target));
            }
        }
    }

    pub(super) fn kind(&mut self, column: &Column) -> String {
        match column.kind {
            FieldType::Scalar(scalar) => {
                self.scalars.insert(scalar);
            }
            FieldType::List(scalar) => {
                self.scalars.insert(scalar);
                self.lists.insert(scalar);
            }
            FieldType::Enum(id) => {
                self.enums.insert(id);
            }
            // They are printed with the type whose rows have them.
            FieldType::Object(_) | FieldType::Items(_) => {}
        }
        self.model.kind_name(column.kind).to_owned()
    }

    /// The type of a column's field, without its `!`.
    pub(super) fn output_type(&mut self, column: &Column) -> String {
        let name = self.kind(column);
        if matches!(column.kind, FieldType::List(_) | FieldType::Items(_)) { format!("[{name}]") } else { name }
    }

    pub(super) fn filter(&mut self, id: TypeId) {
        if !self.has_filter(id) {
            return;
        }
        let t = &self.model.types[id];
        line!(self, "input {}Filter {{", t.helpers);
        for word in ["and", "or"] {
            if !self.is_visible_name(id, word) {
                line!(self, "  {word}: [{}Filter!]", t.helpers);
            }
        }
        if !self.is_visible_name(id, "not") {
            line!(self, "  not: {}Filter", t.helpers);
        }
        for (column, field) in self.view.columns(id) {
            self.filter_field(&t.columns[column], field);
        }
        for (_, link) in self.view.links(id) {
            // Keys of several columns are not asked for in another source.
            if !self.has_filter(link.target) || link.crosses && link.pairs.len() > 1 {
                continue;
            }
            let target = &self.model.types[link.target].helpers;
            let list = if link.cardinality == Cardinality::Many { "List" } else { "" };
            line!(self, "  {}: {target}{list}Filter", link.field);
        }
        line!(self, "}}\n");
        if t.items_of.is_some() {
            return;
        }
        self.describe(Some("Conditions on the rows at the end of a link."), "");
        line!(self, "input {}ListFilter {{", t.helpers);
        for (word, _, text) in LINK_FILTER_WORDS {
            self.describe(Some(text), "  ");
            line!(self, "  {word}: {}Filter", t.helpers);
        }
        line!(self, "}}\n");
    }

    pub(super) fn is_visible_name(&self, id: TypeId, name: &str) -> bool {
        self.view.columns(id).any(|(_, field)| field == name) || self.view.links(id).any(|(_, link)| link.field == name)
    }

    fn order(&mut self, id: TypeId) {
        if !self.has_order(id) {
            return;
        }
        let t = &self.model.types[id];
        line!(self, "input {}Order @oneOf {{", t.helpers);
        self.order_fields(Within::row(id));
        for (_, link) in self.view.links(id) {
            if link.cardinality == Cardinality::One && !link.crosses && self.has_order(link.target) {
                line!(self, "  {}: {}Order", link.field, self.model.types[link.target].helpers);
            }
        }
        line!(self, "}}\n");
    }

    fn key(&mut self, id: TypeId) {
        let t = &self.model.types[id];
        if self.view.keys(id).next().is_none() {
            return;
        }
        let mut composites = String::new();
        line!(self, "input {}Key @oneOf {{", t.helpers);
        for key in self.view.keys(id) {
            if let [column] = key.columns.as_slice() {
                let kind = self.kind(&t.columns[*column]);
                line!(self, "  {}: {kind}", key.member);
                continue;
            }
            let name = crate::plan::composite_key_type(&t.helpers, &key.member);
            line!(self, "  {}: {name}", key.member);
            composites.push_str(&format!("input {name} {{\n"));
            for column in &key.columns {
                let c = &t.columns[*column];
                let field = c.field.as_deref().expect("a visible key has visible columns");
                composites.push_str(&format!("  {field}: {}!\n", self.model.kind_name(c.kind)));
            }
            composites.push_str("}\n\n");
        }
        line!(self, "}}\n");
        self.out.push_str(&composites);
    }

    fn connection(&mut self, id: TypeId) {
        let t = &self.model.types[id];
        let pages = t.row_key().is_some();
        line!(self, "type {}Connection {{", t.helpers);
        self.connection_fields(id, if pages { Some(&t.helpers) } else { None }, &t.name);
        line!(self, "}}\n");
        if pages {
            line!(self, "type {}Edge {{\n  cursor: String!\n  node: {}!\n}}\n", t.helpers, t.name);
        }
    }

    fn connection_fields(&mut self, id: TypeId, edge: Option<&str>, node: &str) {
        if let Some(edge) = edge {
            line!(self, "  edges: [{edge}Edge!]!");
        }
        line!(self, "  nodes: [{node}!]!");
        line!(self, "  pageInfo: PageInfo!");
        if self.view.type_view(id).is_some_and(|view| view.count) {
            self.describe(Some("How many there are on all pages. Counted only where it is asked for."), "  ");
            line!(self, "  totalCount: Int!");
            let name = &self.model.types[id].helpers;
            self.describe(Some("All rows summed up, on all pages."), "  ");
            line!(self, "  summary: {name}Summary!");
            if self.has_order(id) {
                self.describe(Some("The rows of all pages, summed up by group."), "  ");
                line!(
                    self,
                    "  groups(by: [{name}SummaryBy!]!, orderBy: [{name}SummaryOrder!], first: Int, skip: Int): \
                     [{name}SummaryGroup!]!"
                );
            }
        }
    }

    /// What rows are summed up to, and what they can be grouped by.
    fn summary(&mut self, id: TypeId) {
        if !self.view.type_view(id).is_some_and(|view| view.count) {
            return;
        }
        let t = &self.model.types[id];
        line!(self, "type {}Summary {{", t.helpers);
        self.describe(Some("How many rows there are."), "  ");
        line!(self, "  count: Int!");
        let SummaryFields { summary, order, by, key } = self.summary_fields(Within::row(id));
        self.out.push_str(&summary);
        line!(self, "}}\n");
        if !self.has_order(id) {
            return;
        }
        line!(self, "input {}SummaryBy @oneOf {{\n{by}}}\n", t.helpers);
        line!(self, "input {}SummaryOrder @oneOf {{\n  count: Direction\n{order}}}\n", t.helpers);
        self.describe(Some("What the rows of a group have in common; null for what they are not grouped by."), "");
        line!(self, "type {}SummaryKey {{\n{key}}}\n", t.helpers);
        line!(self, "type {0}SummaryGroup {{\n  key: {0}SummaryKey!\n  summary: {0}Summary!\n}}\n", t.helpers);
    }

    /// What the fields of a row, or the members of an object inside its JSON, are summed up to, grouped and ordered by.
    pub(super) fn summary_fields(&mut self, within: Within) -> SummaryFields {
        let t = &self.model.types[within.of];
        let mut fields = SummaryFields::default();
        let SummaryFields { summary, order, by, key } = &mut fields;
        for (column, field) in self.view.fields(within) {
            let name = t.summary_field(field);
            let c = &t.columns[column];
            let is_date = matches!(c.kind, FieldType::Scalar(Scalar::Date | Scalar::DateTime | Scalar::LocalDateTime));
            match c.kind {
                FieldType::Object(object) => {
                    let (inner, helpers) = (Within::object(within.of, column), &self.model.objects[object].helpers);
                    if self.is_summed_up(inner) {
                        summary.push_str(&format!("  {name}: {helpers}Summary!\n"));
                    }
                    if self.is_ordered(inner) {
                        order.push_str(&format!("  {name}: {helpers}SummaryOrder\n"));
                        by.push_str(&format!("  {name}: {helpers}SummaryBy\n"));
                        key.push_str(&format!("  {name}: {helpers}SummaryKey!\n"));
                    }
                    continue;
                }
                FieldType::Scalar(scalar) if !summary_functions(scalar).is_empty() => {
                    self.scalars.insert(scalar);
                    self.summaries.insert(scalar);
                    summary.push_str(&format!("  {name}: {}Summary!\n", scalar.name()));
                    order.push_str(&format!("  {name}: {}SummaryOrder\n", scalar.name()));
                }
                _ if c.is_comparable() => order.push_str(&format!("  {name}: KeySummaryOrder\n")),
                _ => {}
            }
            if c.is_comparable() {
                by.push_str(&format!("  {name}: {}\n", if is_date { "DateGrouping" } else { "Grouping" }));
                key.push_str(&format!("  {name}: {}\n", self.kind(c)));
            }
        }
        fields
    }

    /// The connection of a direct many-to-many link: its edges carry the join table's other columns.
    fn direct_connection(&mut self, link: &Link) {
        let Some(through) = &link.through else { return };
        let target = &self.model.types[link.target];
        let join = &self.model.types[through.join];
        let pages = target.row_key().is_some();
        line!(self, "type {}Connection {{", through.prefix);
        self.connection_fields(link.target, pages.then_some(through.prefix.as_str()), &target.name);
        line!(self, "}}\n");
        if !pages {
            return;
        }
        line!(self, "type {}Edge {{", through.prefix);
        line!(self, "  cursor: String!");
        line!(self, "  node: {}!", target.name);
        for (_, name, column) in crate::plan::edge_fields(self.view, through) {
            let c = &join.columns[column];
            self.describe(c.description.as_deref(), "  ");
            let kind = self.output_type(c);
            let non_null = self.view.is_non_null(through.join, column);
            line!(self, "  {name}: {kind}{}", if non_null { "!" } else { "" });
        }
        line!(self, "}}\n");
    }

    fn leaves(&mut self) {
        self.existing_row();
        line!(self, "type PageInfo {{");
        self.describe(Some("Are there rows after this page?"), "  ");
        line!(self, "  hasNextPage: Boolean!");
        self.describe(Some("Was this page reached from rows before it?"), "  ");
        line!(self, "  hasPreviousPage: Boolean!\n  startCursor: String\n  endCursor: String\n}}\n");
        self.describe(Some("The direction of an order."), "");
        line!(self, "enum Direction {{");
        for (word, text) in DIRECTIONS {
            self.describe(Some(text), "  ");
            line!(self, "  {word}");
        }
        line!(self, "}}\n");
        self.groupings();
        for scalar in std::mem::take(&mut self.summaries) {
            self.scalar_summary(scalar);
        }
        for scalar in std::mem::take(&mut self.lists) {
            self.list_filter(scalar);
        }
        for scalar in std::mem::take(&mut self.scalars) {
            if !scalar.is_built_in() {
                self.describe(Some(scalar.description()), "");
                let specified =
                    scalar.specified_by().map_or_else(String::new, |url| format!(" @specifiedBy(url: \"{url}\")"));
                line!(self, "scalar {}{specified}\n", scalar.name());
            }
            self.leaf_filter(scalar);
        }
        for id in std::mem::take(&mut self.enums) {
            let e = &self.model.enums[id];
            line!(self, "enum {} {{", e.name);
            for (name, text) in &e.values {
                if !name.eq_ignore_ascii_case(text) {
                    self.describe(Some(&format!("Stored as `{text}`.")), "  ");
                }
                line!(self, "  {name}");
            }
            line!(self, "}}\n");
            line!(self, "input {}Filter {{", e.name);
            self.filter_words(&e.name, FilterWord::is_of_enums);
        }
    }

    fn groupings(&mut self) {
        if !self.view.types().any(|(id, view)| view.count && self.has_order(id)) {
            return;
        }
        for (name, words) in [("Grouping", &GROUP_WORDS[..1]), ("DateGrouping", GROUP_WORDS)] {
            line!(self, "enum {name} {{");
            for (word, _, text) in words {
                self.describe(Some(text), "  ");
                line!(self, "  {word}");
            }
            line!(self, "}}\n");
        }
        line!(self, "input KeySummaryOrder @oneOf {{\n  key: Direction\n}}\n");
    }

    fn scalar_summary(&mut self, scalar: Scalar) {
        let functions = summary_functions(scalar);
        line!(self, "type {}Summary {{", scalar.name());
        for (word, _, result) in &functions {
            self.scalars.insert(*result);
            line!(self, "  {word}: {}", result.name());
        }
        line!(self, "}}\n");
        line!(self, "input {}SummaryOrder @oneOf {{\n  key: Direction", scalar.name());
        for (word, _, _) in &functions {
            line!(self, "  {word}: Direction");
        }
        line!(self, "}}\n");
    }

    fn list_filter(&mut self, scalar: Scalar) {
        let name = scalar.name();
        line!(self, "input {name}ListFilter {{");
        self.filter_words(name, FilterWord::is_of_lists);
    }

    fn leaf_filter(&mut self, scalar: Scalar) {
        line!(self, "input {}Filter {{", scalar.name());
        self.filter_words(scalar.name(), |word| word.is_of(scalar));
    }

    /// The words of a filter on fields of a type, and the end of its input.
    fn filter_words(&mut self, name: &str, is_known: impl Fn(FilterWord) -> bool) {
        for word in FilterWord::all().filter(|word| is_known(*word)) {
            self.describe(word.description(), "  ");
            let value = match word.takes() {
                Takes::Value => name.to_owned(),
                Takes::Values => format!("[{name}!]"),
                Takes::Boolean => "Boolean".to_owned(),
            };
            line!(self, "  {}: {value}", word.name());
        }
        line!(self, "}}\n");
    }
}
