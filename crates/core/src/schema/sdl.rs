//! Prints a role's view of the model as SDL.

use std::collections::{BTreeSet, HashSet};
use std::fmt::Write as _;

use super::{inputs, reachable};
use crate::access::{View, Within};
use crate::model::{Cardinality, Column, ColumnId, Element, FieldType, GLOBAL_ID, Link, Model, NODE, TypeId};
use crate::plan::{FilterWord, GROUP_WORDS, LINK_FILTER_WORDS, REVISION, Takes, has_revision, summary_functions};
use crate::value::Scalar;
use crate::visible::visible_json;

/// The words of the `Direction` enum, with their meaning.
pub const DIRECTIONS: &[(&str, &str)] = &[
    ("ASC", "Smallest first; nulls where the database's indexes have them."),
    ("DESC", "Largest first; nulls where the database's indexes have them."),
    ("ASC_NULLS_FIRST", "Smallest first, nulls before all."),
    ("ASC_NULLS_LAST", "Smallest first, nulls after all."),
    ("DESC_NULLS_FIRST", "Largest first, nulls before all."),
    ("DESC_NULLS_LAST", "Largest first, nulls after all."),
];

/// The SDL of a view, for whoever reads it elsewhere: tools there may not know the directive that newer specifications define.
pub fn to_file(view: &View) -> String {
    let one_of =
        "\"Exactly one member of such an input is given, and is not null.\"\ndirective @oneOf on INPUT_OBJECT\n\n";
    format!("{one_of}{}", print(view))
}

/// The SDL of a view: what can be reached from its root types.
pub fn print(view: &View) -> String {
    let mut printer = Printer {
        view,
        model: view.model(),
        out: String::new(),
        scalars: BTreeSet::new(),
        lists: BTreeSet::new(),
        enum_lists: BTreeSet::new(),
        summaries: BTreeSet::new(),
        enums: BTreeSet::new(),
        writes: inputs::writes(view),
        along: inputs::set_along(view),
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
    reachable::only(&printer.out)
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
    enum_lists: BTreeSet<crate::model::EnumId>,
    /// Scalars of which some column can be summed up.
    summaries: BTreeSet<Scalar>,
    enums: BTreeSet<usize>,
    /// May the role write anything at all?
    pub(super) writes: bool,
    /// Columns of new rows that the row sets which they are created along with.
    pub(super) along: HashSet<(TypeId, ColumnId)>,
}

macro_rules! line {
    ($self:ident, $($arguments:tt)*) => { writeln!($self.out, $($arguments)*).expect("writing to memory does not fail") };
}
pub(super) use line;

/// What the schema says of ordering groups by what they have in common.
const BY_KEY: &str = "By what the rows of a group have in common.";

/// What the schema says of global ids.
const ID_TEXT: &str = "The row's id, one of a kind in this API, and the same whoever asks.";

/// The words that combine conditions: what each says, and whether it takes several.
const COMBINING_WORDS: &[(&str, &str, bool)] = &[
    ("and", "All of these must hold.", true),
    ("or", "At least one of these must hold.", true),
    ("not", "This must not hold.", false),
];

/// Has a type a field of this name?
fn is_visible_name(view: &View, id: TypeId, name: &str) -> bool {
    view.columns(id).any(|(_, field)| field == name) || view.links(id).any(|(_, link)| link.field == name)
}

/// A description as SDL.
pub(super) fn said(text: &str) -> String {
    // A text of GraphQL is written as one of JSON is; what does something on a terminal is written as an escape.
    visible_json(&serde_json::to_string(text).expect("text is a JSON string")).into_owned()
}

/// What stands behind a field that clients should use no more.
pub(super) fn deprecation(reason: Option<&String>) -> String {
    reason.map_or_else(String::new, |reason| format!(" @deprecated(reason: {})", said(reason)))
}

/// The arguments of a field, each with what is said of it.
pub(super) fn arguments<'t>(all: impl IntoIterator<Item = (&'t str, String)>) -> String {
    let lines = all.into_iter().map(|(text, argument)| format!("    {}\n    {argument}\n", said(text)));
    format!("(\n{}  )", lines.collect::<String>())
}

/// What is said of a condition on a field.
pub(super) fn on(field: &str) -> String {
    format!("Conditions on `{field}`.")
}

/// What is said of an order or a key.
pub(super) fn by_name(field: &str) -> String {
    format!("By `{field}`.")
}

fn sums(field: &str) -> String {
    format!("What `{field}` comes to.")
}

fn common(field: &str) -> String {
    format!("The `{field}` that the rows have in common.")
}

/// What is said of a column's field: what the database or the project file says, or its name in words.
pub(super) fn of_column(column: &Column, field: &str) -> String {
    column.description.clone().unwrap_or_else(|| {
        let words = heck::ToSnakeCase::to_snake_case(field).replace('_', " ");
        let mut letters = words.chars();
        letters.next().map_or_else(String::new, |first| format!("{}{}.", first.to_uppercase(), letters.as_str()))
    })
}

impl Printer<'_> {
    pub(super) fn describe(&mut self, text: Option<&str>, indent: &str) {
        if let Some(text) = text {
            let quoted = said(text);
            line!(self, "{indent}{quoted}");
        }
    }

    /// A line of a definition, with what is said of it.
    pub(super) fn said(&mut self, text: &str, line: impl std::fmt::Display) {
        self.describe(Some(text), "  ");
        line!(self, "  {line}");
    }

    /// The first line of a definition, with what is said of it.
    pub(super) fn begin(&mut self, text: &str, head: impl std::fmt::Display) {
        self.describe(Some(text), "");
        line!(self, "{head} {{");
    }

    fn query(&mut self) {
        self.begin("What can be asked.", "type Query");
        if self.view.types().next().is_none() {
            self.describe(Some("This role has been granted nothing yet."), "  ");
            line!(self, "  nothing: Boolean");
        }
        if self.model.global_ids {
            let id = arguments([("The `id` of a row.", "id: ID!".to_owned())]);
            self.said("Finds one row of any type by its id.", format_args!("node{id}: {NODE}"));
            let ids = arguments([("The `id`s of rows.", "ids: [ID!]!".to_owned())]);
            let text = "Finds rows of any types by their ids, in the order of these; null for what is not there.";
            self.said(text, format_args!("nodes{ids}: [{NODE}]!"));
        }
        for (id, _) in self.view.types() {
            let t = &self.model.types[id];
            let deprecated = deprecation(t.deprecated.as_ref());
            if self.view.keys(id).next().is_some() {
                let text = format!("Finds one `{}` by a key.", t.name);
                let key = arguments([("One of its keys.", format!("key: {}Key!", t.helpers))]);
                self.said(&text, format_args!("{}{key}: {}{deprecated}", t.one, t.name));
            }
            let text = format!("Lists `{}` rows, page by page.", t.name);
            // Of several sources one may be away, while the others answer.
            let non_null = if self.model.has_several_sources() { "" } else { "!" };
            let arguments = self.list_arguments(id);
            self.said(&text, format_args!("{}{arguments}: {}{non_null}{deprecated}", t.list, t.page_type(&t.helpers)));
        }
        line!(self, "}}\n");
    }

    fn list_arguments(&self, id: TypeId) -> String {
        let name = &self.model.types[id].helpers;
        let mut all = Vec::new();
        if self.has_filter(id) {
            all.push(("Only rows for which this is true.", format!("filter: {name}Filter")));
        }
        if self.has_order(id) {
            let text = "The first that tells two rows apart decides; the key, where none does.";
            all.push((text, format!("orderBy: [{name}Order!]")));
        }
        all.push(("How many rows at most, from the beginning.", "first: Int".to_owned()));
        if self.model.types[id].row_key().is_some() {
            all.push(("Begin after the row of this cursor.", "after: String".to_owned()));
            all.push(("How many rows at most, from the end.", "last: Int".to_owned()));
            all.push(("End before the row of this cursor.", "before: String".to_owned()));
        }
        all.push(("How many rows to pass over, at the beginning.", "skip: Int".to_owned()));
        arguments(all)
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
        let text = t.description.clone().unwrap_or_else(|| match t.items_of {
            None => format!("A row of `{}`.", t.list),
            Some(_) => "An item of a list.".to_owned(),
        });
        let mut any = false;
        if t.global_key(self.model).is_some() {
            self.begin(&text, format_args!("type {} implements {NODE}", t.name));
            self.said(ID_TEXT, format_args!("{GLOBAL_ID}: ID!"));
            any = true;
        } else {
            self.begin(&text, format_args!("type {}", t.name));
        }
        for (column, field) in self.view.columns(id) {
            any = true;
            self.column_field(id, column, field);
        }
        for (at, link) in self.view.links(id) {
            any = true;
            self.link_field(link, self.view.is_present(id, at));
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
        let kind = self.output_type(c);
        let arguments = self.item_arguments(c);
        let non_null = self.view.is_non_null(id, column);
        let deprecated = deprecation(c.deprecated.as_ref());
        let non_null = if non_null { "!" } else { "" };
        self.said(&of_column(c, field), format_args!("{field}{arguments}: {kind}{non_null}{deprecated}"));
    }

    pub(super) fn link_field(&mut self, link: &Link, is_present: bool) {
        let target = &self.model.types[link.target];
        let (field, name) = (&link.field, &target.name);
        let deprecated = deprecation(link.deprecated.as_ref().or(target.deprecated.as_ref()));
        let said = |by_rule: String| link.description.clone().unwrap_or(by_rule);
        match (link.cardinality, &link.through) {
            (Cardinality::One, _) => {
                let non_null = if is_present { "!" } else { "" };
                let text = said(format!("The linked `{name}`."));
                self.said(&text, format_args!("{field}: {name}{non_null}{deprecated}"));
            }
            (Cardinality::Many, through) => {
                let page = target.page_type(through.as_ref().map_or(&target.helpers, |through| &through.prefix));
                // Another source may be away.
                let non_null = if link.crosses { "" } else { "!" };
                let arguments = self.list_arguments(link.target);
                let text = said(format!("The linked `{name}` rows, page by page."));
                self.said(&text, format_args!("{field}{arguments}: {page}{non_null}{deprecated}"));
            }
        }
    }

    pub(super) fn kind(&mut self, column: &Column) -> String {
        match column.kind {
            FieldType::Scalar(scalar) => {
                self.scalars.insert(scalar);
            }
            FieldType::List(Element::Scalar(scalar)) => {
                self.scalars.insert(scalar);
                self.lists.insert(scalar);
            }
            FieldType::List(Element::Enum(id)) => {
                self.enums.insert(id);
                self.enum_lists.insert(id);
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
        let text = format!("Conditions on `{}`; all of them must hold.", t.name);
        self.begin(&text, format_args!("input {}Filter", t.helpers));
        let view = self.view;
        self.combining_words(&t.helpers, |word| is_visible_name(view, id, word));
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
            self.said(&on(&link.field), format_args!("{}: {target}{list}Filter", link.field));
        }
        line!(self, "}}\n");
        if t.items_of.is_some() {
            return;
        }
        self.begin("Conditions on the rows at the end of a link.", format_args!("input {}ListFilter", t.helpers));
        for (word, _, text) in LINK_FILTER_WORDS {
            self.said(text, format_args!("{word}: {}Filter", t.helpers));
        }
        line!(self, "}}\n");
    }

    /// The words that combine conditions, but for those that a field has as its name.
    pub(super) fn combining_words(&mut self, helpers: &str, is_taken: impl Fn(&str) -> bool) {
        let words: Vec<_> = COMBINING_WORDS.iter().filter(|(word, ..)| !is_taken(word)).collect();
        for (word, text, is_list) in words {
            let (before, after) = if *is_list { ("[", "!]") } else { ("", "") };
            self.said(text, format_args!("{word}: {before}{helpers}Filter{after}"));
        }
    }

    fn order(&mut self, id: TypeId) {
        if !self.has_order(id) {
            return;
        }
        let t = &self.model.types[id];
        let text = format!("What `{}` rows are ordered by.", t.name);
        self.begin(&text, format_args!("input {}Order @oneOf", t.helpers));
        self.order_fields(Within::row(id));
        for (_, link) in self.view.links(id) {
            if link.cardinality == Cardinality::One && !link.crosses && self.has_order(link.target) {
                let helpers = &self.model.types[link.target].helpers;
                self.said(&by_name(&link.field), format_args!("{}: {helpers}Order", link.field));
            }
        }
        line!(self, "}}\n");
    }

    fn key(&mut self, id: TypeId) {
        let t = &self.model.types[id];
        if self.view.keys(id).next().is_none() {
            return;
        }
        let has_id = t.global_key(self.model).is_some();
        let mut composites = Vec::new();
        let text = format!("One of the keys of a `{}`.", t.name);
        self.begin(&text, format_args!("input {}Key @oneOf", t.helpers));
        if has_id {
            self.said(&by_name(GLOBAL_ID), format_args!("{GLOBAL_ID}: ID"));
        }
        for key in self.view.keys(id) {
            if let [column] = key.columns.as_slice() {
                let kind = self.kind(&t.columns[*column]);
                self.said(&by_name(&key.member), format_args!("{}: {kind}", key.member));
                continue;
            }
            let name = crate::plan::composite_key_type(&t.helpers, &key.member);
            self.said("By all of these together.", format_args!("{}: {name}", key.member));
            composites.push((name, &key.columns));
        }
        line!(self, "}}\n");
        for (name, columns) in composites {
            self.begin(&format!("A key of `{}` that is made of several fields.", t.name), format_args!("input {name}"));
            for column in columns {
                let c = &t.columns[*column];
                let field = c.field.as_deref().expect("a visible key has visible columns");
                self.said(&of_column(c, field), format_args!("{field}: {}!", self.model.kind_name(c.kind)));
            }
            line!(self, "}}\n");
        }
    }

    fn connection(&mut self, id: TypeId) {
        let t = &self.model.types[id];
        let pages = t.row_key().is_some();
        self.begin(&format!("A page of `{}` rows.", t.name), format_args!("type {}", t.page_type(&t.helpers)));
        self.connection_fields(id, if pages { Some(&t.helpers) } else { None }, &t.name);
        line!(self, "}}\n");
        if pages {
            self.begin("A row's place in a list.", format_args!("type {}Edge", t.helpers));
            self.edge_fields(&t.name);
            line!(self, "}}\n");
        }
    }

    fn edge_fields(&mut self, node: &str) {
        self.said("The row's place, for `after` and `before`.", "cursor: String!");
        self.said("The row.", format_args!("node: {node}!"));
    }

    fn connection_fields(&mut self, id: TypeId, edge: Option<&str>, node: &str) {
        if let Some(edge) = edge {
            self.said("The rows, each with its place in the list.", format_args!("edges: [{edge}Edge!]!"));
        }
        self.said("The rows.", format_args!("nodes: [{node}!]!"));
        self.said("Where the page lies in the list.", "pageInfo: PageInfo!");
        if self.view.type_view(id).is_some_and(|view| view.count) {
            self.said("How many there are on all pages. Counted only where it is asked for.", "totalCount: Int!");
            let name = &self.model.types[id].helpers;
            self.said("All rows summed up, on all pages.", format_args!("summary: {name}Summary!"));
            if self.has_order(id) {
                let all = arguments([
                    ("What the rows of a group have in common.", format!("by: [{name}SummaryBy!]!")),
                    ("The order of the groups.", format!("orderBy: [{name}SummaryOrder!]")),
                    ("How many groups at most.", "first: Int".to_owned()),
                    ("How many groups to pass over.", "skip: Int".to_owned()),
                ]);
                let field = format!("groups{all}: [{name}SummaryGroup!]!");
                self.said("The rows of all pages, summed up by group.", field);
            }
        }
    }

    /// What rows are summed up to, and what they can be grouped by.
    fn summary(&mut self, id: TypeId) {
        if !self.view.type_view(id).is_some_and(|view| view.count) {
            return;
        }
        let t = &self.model.types[id];
        self.begin(&format!("`{}` rows summed up.", t.name), format_args!("type {}Summary", t.helpers));
        self.said("How many rows there are.", "count: Int!");
        let SummaryFields { summary, order, by, key } = self.summary_fields(Within::row(id));
        self.out.push_str(&summary);
        line!(self, "}}\n");
        if !self.has_order(id) {
            return;
        }
        let helpers = &t.helpers;
        self.summary_inputs(
            helpers,
            &by,
            &format!("  {}\n  count: Direction\n{order}", said("By how many rows there are.")),
        );
        self.summary_key(helpers, &key);
        self.begin("Rows that have something in common.", format_args!("type {helpers}SummaryGroup"));
        self.said("What they have in common.", format_args!("key: {helpers}SummaryKey!"));
        self.said("What they come to.", format_args!("summary: {helpers}Summary!"));
        line!(self, "}}\n");
    }

    /// What rows are grouped and ordered by.
    pub(super) fn summary_inputs(&mut self, helpers: &str, by: &str, order: &str) {
        self.begin("What the rows of a group have in common.", format_args!("input {helpers}SummaryBy @oneOf"));
        line!(self, "{by}}}\n");
        self.begin("What groups are ordered by.", format_args!("input {helpers}SummaryOrder @oneOf"));
        line!(self, "{order}}}\n");
    }

    /// What the rows of a group have in common.
    pub(super) fn summary_key(&mut self, helpers: &str, key: &str) {
        let text = "What the rows of a group have in common; null for what they are not grouped by.";
        self.begin(text, format_args!("type {helpers}SummaryKey"));
        line!(self, "{key}}}\n");
    }

    /// What the fields of a row, or the members of an object inside its JSON, are summed up to, grouped and ordered by.
    pub(super) fn summary_fields(&mut self, within: Within) -> SummaryFields {
        let t = &self.model.types[within.of];
        let mut fields = SummaryFields::default();
        let SummaryFields { summary, order, by, key } = &mut fields;
        let push = |out: &mut String, text: &str, line: String| {
            out.push_str(&format!("  {}\n  {line}\n", said(text)));
        };
        for (column, field) in self.view.fields(within) {
            let name = t.summary_field(field);
            let c = &t.columns[column];
            let is_date = matches!(c.kind, FieldType::Scalar(Scalar::Date | Scalar::DateTime | Scalar::LocalDateTime));
            match c.kind {
                FieldType::Object(object) => {
                    let (inner, helpers) = (Within::object(within.of, column), &self.model.objects[object].helpers);
                    if self.is_summed_up(inner) {
                        push(summary, &sums(&name), format!("{name}: {helpers}Summary!"));
                    }
                    if self.is_ordered(inner) {
                        push(order, &by_name(&name), format!("{name}: {helpers}SummaryOrder"));
                        push(by, &by_name(&name), format!("{name}: {helpers}SummaryBy"));
                        push(key, &common(&name), format!("{name}: {helpers}SummaryKey!"));
                    }
                    continue;
                }
                FieldType::Scalar(scalar) if !summary_functions(scalar).is_empty() => {
                    self.scalars.insert(scalar);
                    self.summaries.insert(scalar);
                    push(summary, &sums(&name), format!("{name}: {}Summary!", scalar.name()));
                    push(order, &by_name(&name), format!("{name}: {}SummaryOrder", scalar.name()));
                }
                _ if c.is_comparable() => push(order, &by_name(&name), format!("{name}: KeySummaryOrder")),
                _ => {}
            }
            if c.is_comparable() {
                let grouping = if is_date { "DateGrouping" } else { "Grouping" };
                push(by, &by_name(&name), format!("{name}: {grouping}"));
                push(key, &common(&name), format!("{name}: {}", self.kind(c)));
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
        let text = format!("A page of linked `{}` rows.", target.name);
        self.begin(&text, format_args!("type {}", target.page_type(&through.prefix)));
        self.connection_fields(link.target, pages.then_some(through.prefix.as_str()), &target.name);
        line!(self, "}}\n");
        if !pages {
            return;
        }
        self.begin("A linked row, and what is said of the link.", format_args!("type {}Edge", through.prefix));
        self.edge_fields(&target.name);
        for (_, name, column) in crate::plan::edge_fields(self.view, through) {
            let c = &join.columns[column];
            let kind = self.output_type(c);
            let non_null = self.view.is_non_null(through.join, column);
            self.said(&of_column(c, &name), format_args!("{name}: {kind}{}", if non_null { "!" } else { "" }));
        }
        line!(self, "}}\n");
    }

    fn leaves(&mut self) {
        self.existing_row();
        if self.model.global_ids {
            self.begin("A row that can be found by its id alone.", format_args!("interface {NODE}"));
            self.said(ID_TEXT, format_args!("{GLOBAL_ID}: ID!"));
            line!(self, "}}\n");
        }
        self.begin("Where a page lies in its list.", "type PageInfo");
        self.said("Are there rows after this page?", "hasNextPage: Boolean!");
        self.said("Was this page reached from rows before it?", "hasPreviousPage: Boolean!");
        self.said("The place of the first row, for `before`.", "startCursor: String");
        self.said("The place of the last row, for `after`.", "endCursor: String");
        line!(self, "}}\n");
        self.begin("The direction of an order.", "enum Direction");
        for (word, text) in DIRECTIONS {
            self.said(text, word);
        }
        line!(self, "}}\n");
        self.groupings();
        for scalar in std::mem::take(&mut self.summaries) {
            self.scalar_summary(scalar);
        }
        for scalar in std::mem::take(&mut self.lists) {
            self.list_filter(scalar.name());
        }
        for id in std::mem::take(&mut self.enum_lists) {
            self.list_filter(&self.model.enums[id].name);
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
            self.begin("One of the values that the database allows.", format_args!("enum {}", e.name));
            for (name, text) in &e.values {
                self.said(&format!("Stored as `{text}`."), name);
            }
            line!(self, "}}\n");
            self.begin(&format!("Conditions on a `{}`.", e.name), format_args!("input {}Filter", e.name));
            self.filter_words(&e.name, FilterWord::is_of_enums);
        }
    }

    fn groupings(&mut self) {
        if !self.view.types().any(|(id, view)| view.count && self.has_order(id)) {
            return;
        }
        for (name, words) in [("Grouping", &GROUP_WORDS[..1]), ("DateGrouping", GROUP_WORDS)] {
            self.begin("By what of a value rows are grouped.", format_args!("enum {name}"));
            for (word, _, text) in words {
                self.said(text, word);
            }
            line!(self, "}}\n");
        }
        self.begin("What groups are ordered by.", "input KeySummaryOrder @oneOf");
        self.said(BY_KEY, "key: Direction");
        line!(self, "}}\n");
    }

    fn scalar_summary(&mut self, scalar: Scalar) {
        let functions = summary_functions(scalar);
        let name = scalar.name();
        self.begin(&format!("What values of `{name}` come to."), format_args!("type {name}Summary"));
        for (word, function, result) in &functions {
            self.scalars.insert(*result);
            self.said(function.description(), format_args!("{word}: {}", result.name()));
        }
        line!(self, "}}\n");
        self.begin("What groups are ordered by.", format_args!("input {name}SummaryOrder @oneOf"));
        self.said(BY_KEY, "key: Direction");
        for (word, _, _) in &functions {
            self.said(&by_name(word), format_args!("{word}: Direction"));
        }
        line!(self, "}}\n");
    }

    fn list_filter(&mut self, name: &str) {
        self.begin(&format!("Conditions on a list of `{name}`."), format_args!("input {name}ListFilter"));
        self.filter_words(name, FilterWord::is_of_lists);
    }

    fn leaf_filter(&mut self, scalar: Scalar) {
        self.begin(&format!("Conditions on a `{}`.", scalar.name()), format_args!("input {}Filter", scalar.name()));
        self.filter_words(scalar.name(), |word| word.is_of(scalar));
    }

    /// The words of a filter on fields of a type, and the end of its input.
    fn filter_words(&mut self, name: &str, is_known: impl Fn(FilterWord) -> bool) {
        for word in FilterWord::all().filter(|word| is_known(*word)) {
            let value = match word.takes() {
                Takes::Value => name.to_owned(),
                Takes::Values => format!("[{name}!]"),
                Takes::Boolean => "Boolean".to_owned(),
            };
            self.said(word.description(), format_args!("{}: {value}", word.name()));
        }
        line!(self, "}}\n");
    }
}
