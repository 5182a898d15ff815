//! The part of the schema that writes: the mutation type, and the inputs of rows.

use std::fmt::Write as _;

use super::sdl::{Printer, line};
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

/// May the role write anything at all?
pub(super) fn writes(view: &View) -> bool {
    view.types().any(|(id, _)| Action::WRITES.into_iter().any(|action| grant(view, id, action).is_some()))
}

impl Printer<'_> {
    pub(super) fn mutation(&mut self) {
        let view = self.view;
        if !self.writes {
            return;
        }
        line!(self, "type Mutation {{");
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
        let filter = if self.has_filter(id) { format!("filter: {name}Filter, ") } else { String::new() };
        match action {
            Action::Create => {
                let existing = if has_key { format!(", ifExists: {name}IfExists") } else { String::new() };
                line!(self, "  {one}(input: {name}Create!{existing}): {name}Change!");
                line!(self, "  {many}(inputs: [{name}Create!]!{existing}): {name}Changes!");
            }
            Action::Update => {
                if has_key {
                    line!(self, "  {one}(key: {name}Key!, set: {name}Set!, ifUnchanged: String): {name}Change!");
                }
                line!(self, "  {many}({filter}everyRow: Boolean, set: {name}Set!): {name}Changes!");
            }
            Action::Delete => {
                if has_key {
                    line!(self, "  {one}(key: {name}Key!, ifUnchanged: String): {name}Change!");
                }
                line!(self, "  {many}({filter}everyRow: Boolean): {name}Changes!");
            }
            Action::Read => {}
        }
    }

    /// What comes with a type whose rows can be written.
    pub(super) fn inputs(&mut self, id: TypeId) {
        let view = self.view;
        let grants = Action::WRITES.map(|action| grant(view, id, action));
        let Type { name: own, helpers: name, .. } = &self.model.types[id];
        if self.writes && self.view.keys(id).next().is_some() {
            let create = if grants[0].is_some() { format!("  create: {name}Create\n") } else { String::new() };
            self.describe(Some("A row that is there already, or is created along."), "");
            line!(self, "input {name}Target @oneOf {{\n  key: {name}Key\n{create}}}\n");
        }
        if grants.iter().all(Option::is_none) {
            return;
        }
        self.describe(Some("What became of one row."), "");
        line!(self, "type {name}Change {{");
        self.describe(Some("How many rows were addressed."), "  ");
        line!(self, "  count: Int!");
        self.describe(Some("The row as it is now, or was before it was deleted; null where it cannot be read."), "  ");
        line!(self, "  node: {own}\n}}\n");
        self.describe(Some("What became of many rows."), "");
        line!(self, "type {name}Changes {{");
        self.describe(Some("How many rows were addressed."), "  ");
        line!(self, "  count: Int!");
        self.describe(Some("Those of the rows that can be read."), "  ");
        line!(self, "  nodes: [{own}!]!\n}}\n");
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
        line!(self, "input {helpers}Create {{");
        for (column, field) in view.settable_within(within, grant) {
            let c = &model.types[within.of].columns[column];
            self.describe(c.description.as_deref(), "  ");
            let kind = self.input_type(c);
            line!(self, "  {field}: {kind}{}", if c.non_null { "!" } else { "" });
        }
        line!(self, "}}\n");
    }

    fn json_set(&mut self, helpers: &str, within: Within, grant: &WriteGrant) {
        let (view, model) = (self.view, self.model);
        line!(self, "input {helpers}Set {{");
        for (column, field) in view.settable_within(within, grant) {
            let kind = self.set_type(&model.types[within.of].columns[column]);
            line!(self, "  {field}: {kind}");
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
            for (column, field) in view.settable_within(within, grant) {
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
                    // Nothing may be found out about a list that is hidden in some rows.
                    (SetWord::Pull, FieldType::Items(items))
                        if self.has_filter(items) && !view.is_masked(within.of, column) =>
                    {
                        Some(format!("{}Filter", self.model.types[items].helpers))
                    }
                    (SetWord::Unset, _) => {
                        (c.member.is_some() && !c.non_null && view.sets_all((within.of, column), grant))
                            .then(|| "Boolean".to_owned())
                    }
                    (SetWord::Add | SetWord::Push | SetWord::Pull, _) => None,
                };
                if let Some(kind) = kind {
                    members.push_str(&format!("  {field}: {kind}\n"));
                }
            }
            let is_taken = view.settable_within(within, grant).any(|(_, field)| field == word.word());
            if members.is_empty() || is_taken {
                continue;
            }
            self.describe(Some(word.meaning()), "  ");
            line!(self, "  {}: {helpers}{}", word.word(), word.helper());
            inputs.push_str(&format!("input {helpers}{} {{\n{members}}}\n\n", word.helper()));
        }
        inputs
    }

    fn create_input(&mut self, id: TypeId, grant: &WriteGrant) {
        let view = self.view;
        let t = &self.model.types[id];
        let name = &t.helpers;
        line!(self, "input {name}Create {{");
        let before = self.out.len();
        for (column, field) in view.settable(id, grant) {
            // A column that a link starts from may be set by the link, or by the row that this one is created with.
            let linked = |link: &Link| !link.crosses && link.pairs.iter().any(|(own, _)| *own == column);
            let needed = !t.may_leave_out(column) && !t.links.iter().any(linked);
            let c = &t.columns[column];
            self.describe(c.description.as_deref(), "  ");
            let kind = self.input_type(c);
            line!(self, "  {field}: {kind}{}", if needed { "!" } else { "" });
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
        self.describe(Some("What happens where a row with the same key is there already."), "");
        line!(self, "input {name}IfExists {{\n  by: {name}KeyName!\n  act: ExistingRow!\n}}\n");
        line!(self, "enum {name}KeyName {{");
        for key in view.keys(id) {
            line!(self, "  {}", key.word());
        }
        line!(self, "}}\n");
    }

    fn set_input(&mut self, id: TypeId, grant: &WriteGrant) {
        let (view, t) = (self.view, &self.model.types[id]);
        let name = &t.helpers;
        line!(self, "input {name}Set {{");
        for (column, field) in view.settable(id, grant) {
            let kind = self.set_type(&t.columns[column]);
            line!(self, "  {field}: {kind}");
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
            line!(self, "  {}: {target}Target", link.field);
        }
        for (_, link) in view.links(id) {
            if link.cardinality == Cardinality::One || !has_link_input(view, link) {
                continue;
            }
            match &link.through {
                None if creates => {
                    line!(self, "  {}: [{}Create!]", link.field, self.model.types[link.target].helpers);
                }
                None => {}
                Some(through) if creates => line!(self, "  {}: [{}Link!]", link.field, through.prefix),
                Some(through) => line!(self, "  {}: {}Links", link.field, through.prefix),
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
        self.describe(Some("A row to be linked, by its key or created along, and the fields of the edge."), "");
        line!(self, "input {}Link {{", through.prefix);
        line!(self, "  key: {target}Key");
        if creatable {
            line!(self, "  create: {target}Create");
        }
        for (field, column) in edge_input_fields(view, through, grant) {
            let join = &self.model.types[through.join];
            let kind = self.input_type(&join.columns[column]);
            line!(self, "  {field}: {kind}{}", if join.may_leave_out(column) { "" } else { "!" });
        }
        line!(self, "}}\n");
        self.describe(
            Some("What is linked and what is unlinked. To link what is linked sets the fields of the edge."),
            "",
        );
        line!(self, "input {}Links {{", through.prefix);
        line!(self, "  link: [{}Link!]", through.prefix);
        if view.type_view(through.join).is_some_and(|view| view.delete.is_some()) {
            line!(self, "  unlink: [{target}Key!]");
        }
        line!(self, "}}\n");
    }

    pub(super) fn existing_row(&mut self) {
        let view = self.view;
        if !view.types().any(|(id, _)| grant(view, id, Action::Create).is_some()) {
            return;
        }
        self.describe(Some("What happens to a row that is there already."), "");
        line!(self, "enum ExistingRow {{");
        for (word, text) in existing_words() {
            self.describe(Some(text), "  ");
            line!(self, "  {word}");
        }
        line!(self, "}}\n");
    }
}
