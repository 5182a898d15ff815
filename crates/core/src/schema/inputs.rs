//! The part of the schema that writes: the mutation type, and the inputs of rows.

use std::collections::HashSet;
use std::fmt::Write as _;

use super::sdl::{Printer, arguments, by_name, deprecation, line, of_column, said};
use crate::access::{Action, View, Within, WriteGrant};
use crate::model::{Cardinality, Column, ColumnId, FieldType, Link, Type, TypeId};
use crate::plan::change::{SetWord, edge_input_fields, existing_words, field_name, has_link_input};
use crate::value::{Scalar, StorageFormat};

/// How a role may do this to rows of a type, where there is anything that it could say.
fn grant(view: &View, id: TypeId, action: Action) -> Option<&WriteGrant> {
    let grant = view.type_view(id)?.write(action)?;
    (action != Action::Update || has_set(view, id, grant)).then_some(grant)
}

/// Is there anything that could be set?
fn has_set(view: &View, id: TypeId, grant: &WriteGrant) -> bool {
    view.settable(id, grant).next().is_some()
        || view.links(id).any(|(_, link)| link.through.is_some() && has_link_input(view, link))
}

/// What stands behind the type of an input's field: what is needed is not to be avoided.
fn needed(column: &Column, is_needed: bool) -> String {
    if is_needed { "!".to_owned() } else { deprecation(column.deprecated.as_ref()) }
}

/// May the role write anything at all?
pub(super) fn writes(view: &View) -> bool {
    view.types().any(|(id, _)| Action::WRITES.into_iter().any(|action| grant(view, id, action).is_some()))
}

/// The columns of new rows that the row sets which they are created along with.
pub(super) fn set_along(view: &View) -> HashSet<(TypeId, ColumnId)> {
    let links = view.types().flat_map(|(id, _)| view.links(id));
    let along = links.filter(|(_, link)| link.cardinality == Cardinality::Many && has_link_input(view, link));
    along.flat_map(|(_, link)| link.pairs.iter().map(|(_, theirs)| (link.target, *theirs))).collect()
}

impl Printer<'_> {
    pub(super) fn mutation(&mut self) {
        let view = self.view;
        if !self.writes {
            return;
        }
        self.begin(
            "What can be changed. All fields of one operation are done together, or not at all.",
            "type Mutation",
        );
        for (id, _) in view.types() {
            for action in Action::WRITES {
                if grant(view, id, action).is_some() {
                    self.mutation_fields(id, action);
                }
            }
        }
        line!(self, "}}\n");
    }

    fn mutation_fields(&mut self, id: TypeId, action: Action) {
        let t = &self.model.types[id];
        let name = &t.helpers;
        let (one, many) = (field_name(t, action, false), field_name(t, action, true));
        let has_key = self.view.keys(id).next().is_some();
        let key = || ("One of the row's keys.", format!("key: {name}Key!"));
        let set = || ("What is changed.", format!("set: {name}Set!"));
        let unchanged = || ("Only if the row's `revision` is still this one.", "ifUnchanged: String".to_owned());
        let filter = || ("Only rows for which this is true.", format!("filter: {name}Filter"));
        let filter = || self.has_filter(id).then(filter).into_iter();
        let every = || ("Say true to mean all rows, without a filter.", "everyRow: Boolean".to_owned());
        let existing = || ("What happens where a row is there already.", format!("ifExists: {name}IfExists"));
        let existing = || has_key.then(existing).into_iter();
        let (one_text, one_arguments, many_text, many_arguments) = match action {
            Action::Create => {
                let input = ("The new row.", format!("input: {name}Create!"));
                let inputs = ("The new rows.", format!("inputs: [{name}Create!]!"));
                let one = Some(arguments([input].into_iter().chain(existing())));
                ("Creates a", one, "Creates several", arguments([inputs].into_iter().chain(existing())))
            }
            Action::Update => {
                let one = has_key.then(|| arguments([key(), set(), unchanged()]));
                ("Changes a", one, "Changes several", arguments(filter().chain([every(), set()])))
            }
            Action::Delete => {
                let one = has_key.then(|| arguments([key(), unchanged()]));
                ("Deletes a", one, "Deletes several", arguments(filter().chain([every()])))
            }
            Action::Read => return,
        };
        if let Some(arguments) = one_arguments {
            self.said(&format!("{one_text} `{}`.", t.name), format_args!("{one}{arguments}: {name}Change!"));
        }
        let text = format!("{many_text} `{}` rows.", t.name);
        self.said(&text, format_args!("{many}{many_arguments}: {name}Changes!"));
    }

    /// What comes with a type whose rows can be written.
    pub(super) fn inputs(&mut self, id: TypeId) {
        let view = self.view;
        let grants = Action::WRITES.map(|action| grant(view, id, action));
        let Type { name: own, helpers: name, .. } = &self.model.types[id];
        if self.writes && self.view.keys(id).next().is_some() {
            let text = "A row that is there already, or is created along.";
            self.begin(text, format_args!("input {name}Target @oneOf"));
            self.said("The key of a row that is there.", format_args!("key: {name}Key"));
            if grants[0].is_some() {
                self.said("A row that is created along.", format_args!("create: {name}Create"));
            }
            line!(self, "}}\n");
        }
        if grants.iter().all(Option::is_none) {
            return;
        }
        self.begin("What became of one row.", format_args!("type {name}Change"));
        self.said("How many rows were addressed.", "count: Int!");
        let text = "The row as it is now, or was before it was deleted; null where it cannot be read.";
        self.said(text, format_args!("node: {own}"));
        line!(self, "}}\n");
        self.begin("What became of many rows.", format_args!("type {name}Changes"));
        self.said("How many rows were addressed.", "count: Int!");
        self.said("Those of the rows that can be read.", format_args!("nodes: [{own}!]!"));
        line!(self, "}}\n");
        let [create, update, _] = grants;
        if let Some(grant) = create {
            self.create_input(id, grant);
        }
        if let Some(grant) = update {
            self.set_input(id, grant);
        }
        self.json_inputs(Within::row(id), create, update);
    }

    /// The type of what a column, or a member, is created with, without its `!`.
    fn input_type(&mut self, column: &Column) -> String {
        match column.kind {
            FieldType::Object(object) => format!("{}Create", self.model.objects[object].helpers),
            FieldType::Items(items) => format!("[{}Create!]", self.model.types[items].helpers),
            FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) => self.output_type(column),
        }
    }

    /// The type of what a column, or a member, is set to.
    fn set_type(&mut self, column: &Column) -> String {
        match column.kind {
            FieldType::Object(object) => format!("{}Set", self.model.objects[object].helpers),
            _ => self.input_type(column),
        }
    }

    /// The inputs of what is inside the JSON of a row, or of an object in it.
    fn json_inputs(&mut self, within: Within, create: Option<&WriteGrant>, update: Option<&WriteGrant>) {
        let (view, of) = (self.view, within.of);
        let settable = |grant: Option<&WriteGrant>| -> Vec<ColumnId> {
            grant.into_iter().flat_map(|grant| view.settable_within(within, grant)).map(|(column, _)| column).collect()
        };
        let (created, updated) = (settable(create), settable(update));
        for column in 0..self.model.types[of].columns.len() {
            let create = create.filter(|_| created.contains(&column));
            let update = update.filter(|_| updated.contains(&column));
            let Some(grant) = create.or(update) else { continue };
            match self.model.types[of].columns[column].kind {
                FieldType::Object(object) => {
                    let (inner, helpers) = (Within::object(of, column), &self.model.objects[object].helpers);
                    if let Some(grant) = create {
                        self.json_create(helpers, inner, grant);
                    }
                    if let Some(grant) = update {
                        self.json_set(helpers, inner, grant);
                    }
                    self.json_inputs(inner, create, update);
                }
                // Items are written with all that is in them, whoever may write the list.
                FieldType::Items(items) => {
                    self.json_create(&self.model.types[items].helpers, Within::row(items), grant);
                    self.json_inputs(Within::row(items), Some(grant), None);
                }
                FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) => {}
            }
        }
    }

    fn json_create(&mut self, helpers: &str, within: Within, grant: &WriteGrant) {
        let (view, model) = (self.view, self.model);
        self.begin("A new object.", format_args!("input {helpers}Create"));
        for (column, field) in view.settable_within(within, grant) {
            let c = &model.types[within.of].columns[column];
            let kind = self.input_type(c);
            self.said(&of_column(c, field), format_args!("{field}: {kind}{}", needed(c, c.non_null)));
        }
        line!(self, "}}\n");
    }

    fn json_set(&mut self, helpers: &str, within: Within, grant: &WriteGrant) {
        let (view, model) = (self.view, self.model);
        self.begin("What is changed of an object.", format_args!("input {helpers}Set"));
        for (column, field) in view.settable_within(within, grant) {
            let c = &model.types[within.of].columns[column];
            let kind = self.set_type(c);
            self.said(&of_column(c, field), format_args!("{field}: {kind}{}", needed(c, false)));
        }
        let words = self.set_words(helpers, within, grant);
        line!(self, "}}\n");
        self.out.push_str(&words);
    }

    /// Writes what can be done to fields beside setting them; gives the inputs that say it.
    fn set_words(&mut self, helpers: &str, within: Within, grant: &WriteGrant) -> String {
        let (view, t) = (self.view, &self.model.types[within.of]);
        let mut inputs = String::new();
        for word in SetWord::ALL {
            let mut members = String::new();
            for (column, field) in word.settable(view, within, grant) {
                let c = &t.columns[column];
                let is_json = c.form == StorageFormat::JsonValue;
                let kind = match (word, c.kind) {
                    (
                        SetWord::Add,
                        FieldType::Scalar(Scalar::Int | Scalar::BigInt | Scalar::Float | Scalar::Decimal),
                    ) => {
                        let is_key = t.keys.iter().any(|key| key.columns.contains(&column));
                        let is_linked = t.links.iter().any(|link| link.pairs.iter().any(|(own, _)| *own == column));
                        (!is_key && !is_linked).then(|| self.output_type(c))
                    }
                    (SetWord::Push, FieldType::Items(_)) => Some(self.input_type(c)),
                    (SetWord::Push | SetWord::Pull, FieldType::List(_)) if is_json => {
                        Some(format!("[{}!]", self.kind(c)))
                    }
                    (SetWord::Pull, FieldType::Items(items)) if self.has_filter(items) => {
                        Some(format!("{}Filter", self.model.types[items].helpers))
                    }
                    (SetWord::Unset, _) => {
                        (c.member.is_some() && !c.non_null && view.sets_all((within.of, column), grant))
                            .then(|| "Boolean".to_owned())
                    }
                    (SetWord::Add | SetWord::Push | SetWord::Pull, _) => None,
                };
                if let Some(kind) = kind {
                    members.push_str(&format!("  {}\n  {field}: {kind}\n", said(&of_column(c, field))));
                }
            }
            let is_taken = view.settable_within(within, grant).any(|(_, field)| field == word.word());
            if members.is_empty() || is_taken {
                continue;
            }
            self.said(word.meaning(), format_args!("{}: {helpers}{}", word.word(), word.helper()));
            let head = format!("{}\ninput {helpers}{} {{", said(word.meaning()), word.helper());
            inputs.push_str(&format!("{head}\n{members}}}\n\n"));
        }
        inputs
    }

    fn create_input(&mut self, id: TypeId, grant: &WriteGrant) {
        let view = self.view;
        let t = &self.model.types[id];
        let name = &t.helpers;
        self.begin(&format!("A new `{}`.", t.name), format_args!("input {name}Create"));
        let before = self.out.len();
        for (column, field) in view.settable(id, grant) {
            let is_needed = !t.may_leave_out(column) && !self.may_come_by_link(id, column, grant);
            let c = &t.columns[column];
            let kind = self.input_type(c);
            self.said(&of_column(c, field), format_args!("{field}: {kind}{}", needed(c, is_needed)));
        }
        self.link_inputs(id, grant, true);
        if self.out.len() == before {
            self.describe(Some("This role may say nothing of a new row."), "  ");
            line!(self, "  nothing: Boolean");
        }
        line!(self, "}}\n");
        if view.keys(id).next().is_none() {
            return;
        }
        let text = "What happens where a row with the same key is there already.";
        self.begin(text, format_args!("input {name}IfExists"));
        self.said("The key by which a row is the same.", format_args!("by: {name}KeyName!"));
        self.said("What happens to it.", "act: ExistingRow!");
        line!(self, "}}\n");
        self.begin(&format!("The keys of `{}`.", t.name), format_args!("enum {name}KeyName"));
        for key in view.keys(id) {
            self.said(&by_name(&key.member), key.word());
        }
        line!(self, "}}\n");
    }

    /// May a column of a new row be set by a link instead, or by the row that this one is created along with?
    fn may_come_by_link(&self, id: TypeId, column: ColumnId, grant: &WriteGrant) -> bool {
        let view = self.view;
        let by_link = view.settable_links(id, grant).any(|(_, link)| link.pairs.iter().any(|(own, _)| *own == column));
        by_link || self.along.contains(&(id, column))
    }

    fn set_input(&mut self, id: TypeId, grant: &WriteGrant) {
        let (view, t) = (self.view, &self.model.types[id]);
        let name = &t.helpers;
        self.begin(&format!("What is changed of a `{}`.", t.name), format_args!("input {name}Set"));
        for (column, field) in view.settable(id, grant) {
            let c = &t.columns[column];
            let kind = self.set_type(c);
            self.said(&of_column(c, field), format_args!("{field}: {kind}{}", needed(c, false)));
        }
        self.link_inputs(id, grant, false);
        let words = self.set_words(name, Within::row(id), grant);
        line!(self, "}}\n");
        self.out.push_str(&words);
    }

    fn link_inputs(&mut self, id: TypeId, grant: &WriteGrant, creates: bool) {
        let view = self.view;
        for (_, link) in view.settable_links(id, grant) {
            let target = &self.model.types[link.target].helpers;
            self.said("The row that is linked.", format_args!("{}: {target}Target", link.field));
        }
        for (_, link) in view.links(id) {
            if link.cardinality == Cardinality::One || !has_link_input(view, link) {
                continue;
            }
            match &link.through {
                None if creates => {
                    let target = &self.model.types[link.target].helpers;
                    self.said("Rows that are created along.", format_args!("{}: [{target}Create!]", link.field));
                }
                None => {}
                Some(through) if creates => {
                    self.said("Rows that are linked.", format_args!("{}: [{}Link!]", link.field, through.prefix));
                }
                Some(through) => {
                    let text = "Rows that are linked, and unlinked.";
                    self.said(text, format_args!("{}: {}Links", link.field, through.prefix));
                }
            }
        }
    }

    /// What links rows over a join table, the edge's own fields included.
    pub(super) fn edge_inputs(&mut self, link: &Link) {
        let view = self.view;
        let Some(through) = link.through.as_ref().filter(|_| has_link_input(view, link)) else { return };
        let Some(grant) = view.type_view(through.join).and_then(|view| view.create.as_ref()) else { return };
        let target = &self.model.types[link.target].helpers;
        let creatable = view.type_view(link.target).is_some_and(|view| view.create.is_some());
        let text = "A row to be linked, by its key or created along, and the fields of the edge.";
        self.begin(text, format_args!("input {}Link", through.prefix));
        self.said("The key of a row that is there.", format_args!("key: {target}Key"));
        if creatable {
            self.said("A row that is created along.", format_args!("create: {target}Create"));
        }
        for (field, column) in edge_input_fields(view, through, grant) {
            let join = &self.model.types[through.join];
            let c = &join.columns[column];
            let kind = self.input_type(c);
            let needed = if join.may_leave_out(column) { "" } else { "!" };
            self.said(&of_column(c, &field), format_args!("{field}: {kind}{needed}"));
        }
        line!(self, "}}\n");
        let text = "What is linked and what is unlinked. To link what is linked sets the fields of the edge.";
        self.begin(text, format_args!("input {}Links", through.prefix));
        self.said("Rows that are linked.", format_args!("link: [{}Link!]", through.prefix));
        if view.type_view(through.join).is_some_and(|view| view.delete.is_some()) {
            self.said("The keys of rows that are unlinked.", format_args!("unlink: [{target}Key!]"));
        }
        line!(self, "}}\n");
    }

    pub(super) fn existing_row(&mut self) {
        let view = self.view;
        if !view.types().any(|(id, _)| grant(view, id, Action::Create).is_some()) {
            return;
        }
        self.begin("What happens to a row that is there already.", "enum ExistingRow");
        for (word, text) in existing_words() {
            self.said(text, word);
        }
        line!(self, "}}\n");
    }
}
