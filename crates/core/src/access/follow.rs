//! What becomes of grants where the model gets other names, and what is wrong with a rule that is being written.

use super::rule::{self, ClaimRegistry};
use crate::model::{Model, TypeId};
use crate::project::{self, EditError, Mistake, Place, Renamed, RuleText};

/// The project file's text with the names of the model after an edit in its grants and rules, where they had those before.
///
/// # Errors
/// Where the text is not TOML.
pub fn follow(text: &str, before: &Model, after: &Model) -> Result<String, EditError> {
    let renamed = before.renamed(after);
    if renamed.is_empty() {
        return Ok(text.to_owned());
    }
    let mend = |of: &str, text: &str| match before.type_named(of) {
        Some(of) => rule::with_names(before, of, text, &renamed),
        None => text.to_owned(),
    };
    project::follow(text, &renamed, &mend)
}

/// What is wrong with a rule about rows of a type that stands nowhere yet: places are those in its own text.
///
/// # Errors
/// The first mistake in it.
pub fn check_rule(model: &Model, of: TypeId, text: &str) -> Result<(), Mistake> {
    let rule =
        RuleText { text: text.to_owned(), place: Place { line: 1, column: 1, ..Place::default() }, verbatim: true };
    rule::compile(model, of, &rule, &mut ClaimRegistry::default()).map(|_| ())
}

impl Model {
    /// What is called otherwise in a model of the same tables: types, fields and links.
    pub fn renamed(&self, after: &Model) -> Renamed {
        let mut renamed = Renamed::default();
        for (_, t) in self.tables() {
            let same = |(_, now): &(TypeId, &crate::model::Type)| {
                now.table == t.table && after.sources[now.source] == self.sources[t.source]
            };
            let Some((_, now)) = after.tables().find(same) else { continue };
            if t.name != now.name {
                renamed.types.push((t.name.clone(), now.name.clone()));
            }
            let mut called = |before: &str, name: &str| {
                if before != name {
                    renamed.fields.push((t.name.clone(), before.to_owned(), name.to_owned()));
                }
            };
            for column in t.columns.iter().filter(|column| column.field.is_some()) {
                let path = |of: &crate::model::Column| of.member.as_ref().map(|member| member.path.clone());
                let is_same = |now: &&crate::model::Column| {
                    now.name == column.name && path(now) == path(column) && now.field.is_some()
                };
                if let Some(now) = now.columns.iter().find(is_same) {
                    called(column.label(), now.label());
                }
            }
            for link in &t.links {
                let found = now.links.iter().find(|now_link| {
                    let joins = |model: &Model, link: &crate::model::Link| {
                        let through = link.through.as_ref();
                        through.map(|through| {
                            (model.types[through.join].table.clone(), through.near.clone(), through.far.clone())
                        })
                    };
                    now_link.pairs == link.pairs
                        && now_link.cardinality == link.cardinality
                        && after.types[now_link.target].table == self.types[link.target].table
                        && joins(after, now_link) == joins(self, link)
                });
                if let Some(now) = found {
                    called(&link.field, &now.field);
                }
            }
        }
        renamed
    }
}
