//! The part of the schema that writes: the mutation type, and the inputs of rows.

use std::fmt::Write as _;

use super::sdl::{Printer, line};
use crate::access::{Action, View, WriteGrant};
use crate::model::{Cardinality, FieldType, Link, Type, TypeId};
use crate::plan::change::{edge_input_fields, existing_words, field_name, has_link_input};
use crate::value::Scalar;

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
            let kind = self.output_type(c);
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
        let t = &self.model.types[id];
        let name = &t.helpers;
        line!(self, "input {name}Set {{");
        let mut add = String::new();
        let mut is_taken = false;
        for (column, field) in self.view.settable(id, grant) {
            let c = &t.columns[column];
            let kind = self.output_type(c);
            line!(self, "  {field}: {kind}");
            is_taken |= field == "add";
            let is_number =
                matches!(c.kind, FieldType::Scalar(Scalar::Int | Scalar::BigInt | Scalar::Float | Scalar::Decimal));
            let is_key = t.keys.iter().any(|key| key.columns.contains(&column));
            let is_linked = t.links.iter().any(|link| link.pairs.iter().any(|(own, _)| *own == column));
            if is_number && !is_key && !is_linked {
                add.push_str(&format!("  {field}: {kind}\n"));
            }
        }
        self.link_inputs(id, grant, false);
        if !add.is_empty() && !is_taken {
            self.describe(Some("Numbers to be added to what is there."), "  ");
            line!(self, "  add: {name}Add");
        }
        line!(self, "}}\n");
        if !add.is_empty() && !is_taken {
            line!(self, "input {name}Add {{\n{add}}}\n");
        }
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
            let kind = self.output_type(&join.columns[column]);
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
