//! From the grants of the project file to each role's view of the model.
//!
//! Everything that does not fit the model is reported with its place, and nothing is granted by guessing: what a grant
//! does not name is not there.

use std::collections::HashSet;
use std::sync::Arc;

use indexmap::IndexMap;

use super::rule::{self, ClaimRegistry};
use super::{Condition, Masks, TypeView, View, WriteGrant};
use crate::model::{Cardinality, Column, ColumnId, ItemsOf, LinkId, Model, Type, TypeId, VersionStep};
use crate::project::{Action, Fields, GrantEdit, Limits, Mistake, Place, Project, RoleEdit, RuleText};
use crate::suggest::did_you_mean;

/// A role of the project.
#[derive(Debug, Clone)]
pub struct Role {
    /// What it is for.
    pub description: Option<String>,
    /// What it sees.
    pub view: View,
    /// What one request of it may cost.
    pub limits: Limits,
    /// Its grants, those that it includes too.
    pub grants: Vec<Grant>,
    /// Where its rules compare in a column's own collation, and what that means.
    pub loose_rules: Vec<Mistake>,
}

/// One grant, as it is told to whoever answers for it.
#[derive(Debug, Clone)]
pub struct Grant {
    /// The type.
    pub of: TypeId,
    /// What is allowed.
    pub action: Action,
    /// The fields, as the API calls them; those of a deletion are none.
    pub fields: Vec<String>,
    /// Is it every field, also those that come later?
    pub all_fields: bool,
    /// As the project file states it.
    pub edit: GrantEdit,
    /// The role that states it, where it is included.
    pub from: Option<String>,
}

/// The roles of a project, in the order of the file; `owner` is not among them.
///
/// # Errors
/// Every place where the grants do not fit the model.
pub fn roles(model: &Arc<Model>, project: &Project) -> Result<Vec<Role>, Vec<Mistake>> {
    let mut mistakes = Vec::new();
    let mut roles = Vec::new();
    for (name, edit) in &project.roles {
        match gather(project, name, &mut Vec::new()) {
            Ok(stated) => {
                let mut granter =
                    Granter { model, name, stated: &stated, registry: ClaimRegistry::default(), mistakes: Vec::new() };
                let role = granter.role(edit);
                mistakes.append(&mut granter.mistakes);
                roles.push(role);
            }
            Err(mistake) => mistakes.push(mistake),
        }
    }
    if mistakes.is_empty() {
        return Ok(roles);
    }
    mistakes.sort_by_key(|mistake| (mistake.place.line, mistake.place.column));
    // A grant that several roles take over is wrong once.
    mistakes.dedup();
    Err(mistakes)
}

/// The grants of a role by type and action, each with the role that states it.
type Stated<'p> = IndexMap<(&'p str, Action), (&'p GrantEdit, &'p str)>;

/// What a role states itself, and what it takes over from others.
fn gather<'p>(project: &'p Project, name: &'p str, way: &mut Vec<&'p str>) -> Result<Stated<'p>, Mistake> {
    let Some(role) = project.roles.get(name) else { return Ok(Stated::new()) };
    if way.contains(&name) {
        let text = format!("role `{name}` includes itself, by way of {}; leave one `include` out", way.join(", "));
        return Err(Mistake { place: role.place, text });
    }
    way.push(name);
    let mut stated: Stated<'p> =
        role.grants.iter().map(|((of, action), edit)| ((of.as_str(), *action), (edit, name))).collect();
    let own: HashSet<(&str, Action)> = stated.keys().copied().collect();
    for included in &role.include {
        for (pair, (edit, from)) in gather(project, included, way)? {
            if own.contains(&pair) {
                continue;
            }
            if let Some((_, other)) = stated.get(&pair).filter(|(_, other)| *other != from) {
                let (of, action) = (pair.0, pair.1.word());
                let text = format!(
                    "role `{name}` includes two grants for `{of}.{action}`, of `{other}` and of `{from}`; state \
                     `[role.{name}.{of}.{action}]` to say which"
                );
                return Err(Mistake { place: role.place, text });
            }
            stated.insert(pair, (edit, from));
        }
    }
    way.pop();
    Ok(stated)
}

/// Makes one role.
struct Granter<'a> {
    model: &'a Arc<Model>,
    name: &'a str,
    stated: &'a Stated<'a>,
    registry: ClaimRegistry,
    mistakes: Vec<Mistake>,
}

impl Granter<'_> {
    fn role(&mut self, edit: &RoleEdit) -> Role {
        let mut types: Vec<Option<TypeView>> = vec![None; self.model.types.len()];
        let mut grants = Vec::new();
        for ((type_name, action), (stated, from)) in self.stated {
            let Some(of) = self.model.type_named(type_name) else {
                let hint = did_you_mean(type_name, self.model.types.iter().map(|t| t.name.as_str()));
                self.mistake(stated.place, format!("there is no type `{type_name}`{hint}"));
                continue;
            };
            if let Some(ItemsOf { of, column }) = self.model.types[of].items_of {
                let t = &self.model.types[of];
                let list = t.columns[column].label();
                let text = format!("`{type_name}` is what `{}.{list}` holds; grant it there, as `{list}`", t.name);
                self.mistake(stated.place, text);
                continue;
            }
            if *action != Action::Read {
                self.check_write(of, *action, stated);
            }
            let fields = self.fields(of, *action, stated);
            let from = (*from != self.name).then(|| (*from).to_owned());
            grants.push(Grant {
                of,
                action: *action,
                all_fields: stated.fields == Some(Fields::All),
                fields,
                edit: (*stated).clone(),
                from,
            });
        }
        for grant in grants.iter().filter(|grant| grant.action == Action::Read) {
            let view = self.read(grant, &mut types);
            types[grant.of] = Some(view);
        }
        for grant in grants.iter().filter(|grant| grant.action != Action::Read) {
            let write = self.write(grant);
            let Some(view) = &mut types[grant.of] else { continue };
            let place = match grant.action {
                Action::Create => &mut view.create,
                Action::Update => &mut view.update,
                _ => &mut view.delete,
            };
            *place = Some(write);
        }
        self.check_masks(&types, &grants);
        self.check_cascades(&types, &grants);
        let registry = std::mem::take(&mut self.registry);
        let view =
            View::new(self.name, Arc::clone(self.model), types).with_claims(registry.values, registry.claim_predicates);
        let loose_rules = registry.loose_rules;
        Role { description: edit.description.clone(), limits: edit.limits, view, grants, loose_rules }
    }

    fn mistake(&mut self, place: Place, text: impl Into<String>) {
        self.mistakes.push(Mistake { place, text: text.into() });
    }

    fn is_granted(&self, of: TypeId, action: Action) -> bool {
        self.stated.contains_key(&(self.model.types[of].name.as_str(), action))
    }

    fn check_write(&mut self, of: TypeId, action: Action, edit: &GrantEdit) {
        let t = &self.model.types[of];
        let word = action.word();
        if !t.writable {
            let text = format!("`{}` cannot be written: it is a view, or has no key; leave `{word}` out", t.name);
            self.mistake(edit.place, text);
        }
        if !self.is_granted(of, Action::Read) {
            let text = format!(
                "`{0}.{word}` without `{0}.read`: a write reaches and answers what may be read; add \
                 `[role.{1}.{0}.read]`, with `rows = \"false\"` if nothing is to be seen",
                t.name, self.name
            );
            self.mistake(edit.place, text);
        }
    }

    /// The fields that a grant names, checked.
    fn fields(&mut self, of: TypeId, action: Action, edit: &GrantEdit) -> Vec<String> {
        let model = self.model;
        let t = &model.types[of];
        let named = match &edit.fields {
            None => return Vec::new(),
            Some(Fields::All) if action == Action::Read => {
                return every_field(t, action).into_iter().chain(model.element_links(of)).collect();
            }
            Some(Fields::All) => return every_field(t, action),
            Some(Fields::Named(named)) => named,
        };
        for name in named {
            let column = model.field_called(of, name);
            let link = match model.link_called(of, name) {
                Some((from, link)) if from == of || action == Action::Read => Some(&model.types[from].links[link]),
                _ => None,
            };
            let text = match (action, column, link) {
                (Action::Read, Some(_), _) => continue,
                (Action::Read, _, Some(link)) => {
                    let through = link.through.as_ref().map(|through| through.join);
                    let needed = std::iter::once(link.target).chain(through);
                    match needed.into_iter().find(|needed| !self.is_granted(*needed, Action::Read)) {
                        None => continue,
                        Some(missing) => format!(
                            "the link `{}.{name}` leads to `{missing}`, which role `{role}` may not read; add \
                             `[role.{role}.{missing}.read]`, or leave `{name}` out",
                            t.name,
                            missing = model.types[missing].name,
                            role = self.name
                        ),
                    }
                }
                (_, Some((inside, _)), _) if inside != of => {
                    format!("`{}.{name}` is inside a list, whose items are written as a whole; name the list", t.name)
                }
                (_, Some((_, column)), _) if t.is_computed(column) => {
                    format!("`{}.{name}` is computed by the database and cannot be written; leave it out", t.name)
                }
                (Action::Update, Some((_, column)), _) if t.columns[column].input.immutable => {
                    format!("`{}.{name}` stays as it was when its row was created; leave it out", t.name)
                }
                (_, Some(_), _) => continue,
                (_, _, Some(link)) if link.crosses => format!(
                    "`{}.{name}` is a link to another source, and a change writes one source: grant {}, by which it is \
                     linked",
                    t.name,
                    t.link_columns(link)
                ),
                (_, _, Some(link)) if link.cardinality == Cardinality::One => continue,
                (_, _, Some(_)) => format!(
                    "`{}.{name}` is a link to many: what is created or linked along with a row follows the grants of \
                     the type at its other end; leave it out",
                    t.name
                ),
                (_, None, None) => {
                    let known = every_field(t, action);
                    let inside = t.columns.iter().filter(|column| column.member.is_some()).map(Column::label);
                    let hint = self.model.field_hint(name, known.iter().map(String::as_str).chain(inside));
                    format!("`{}` has no field `{name}`{hint}", t.name)
                }
            };
            self.mistake(edit.place, text);
        }
        named.clone()
    }

    fn rule(&mut self, of: TypeId, text: &RuleText) -> Option<Arc<Condition>> {
        match rule::compile(self.model, of, text, &mut self.registry) {
            Ok(condition) => Some(Arc::new(condition)),
            Err(mistake) => {
                self.mistakes.push(mistake);
                None
            }
        }
    }

    /// What a grant to read shows of its type; what it shows of items of lists inside is put among the types.
    fn read(&mut self, grant: &Grant, types: &mut [Option<TypeView>]) -> TypeView {
        let model = self.model;
        let t = &model.types[grant.of];
        let granted = |name: &str| grant.fields.iter().any(|field| field == name);
        let mut columns = vec![false; t.columns.len()];
        for name in &grant.fields {
            let Some(named) = model.field_called(grant.of, name) else { continue };
            for (of, column) in model.within(named).into_iter().chain(model.around(named)) {
                if of == grant.of {
                    columns[column] = true;
                } else {
                    let nothing = || TypeView::nothing(model, of);
                    types[of].get_or_insert_with(nothing).columns[column] = true;
                }
            }
        }
        let links = t.links.iter().map(|link| granted(&link.field)).collect();
        for name in &grant.fields {
            // What a list's items are linked with is granted by itself, beside the list.
            if let Some((of, link)) = model.link_called(grant.of, name).filter(|(of, _)| *of != grant.of) {
                types[of].get_or_insert_with(|| TypeView::nothing(model, of)).links[link] = true;
            }
        }
        let mut masks = Vec::new();
        for (field, text) in &grant.edit.masks {
            match model.field_called(grant.of, field) {
                Some((of, _)) if of != grant.of => {
                    let text = format!("`masks` names `{field}`, which is inside a list; mask the list as a whole");
                    self.mistake(grant.edit.place, text);
                }
                Some((of, column)) if columns[column] => {
                    let Some(mask) = self.rule(grant.of, text) else { continue };
                    // What is inside is hidden with it.
                    for (_, column) in model.within((of, column)).into_iter().filter(|(inside, _)| *inside == of) {
                        add_mask(&mut masks, column, &mask);
                    }
                }
                _ => {
                    let hint = did_you_mean(field, grant.fields.iter().map(String::as_str));
                    let text = format!("`masks` names `{field}`, which is not a column among `fields`{hint}");
                    self.mistake(grant.edit.place, text);
                }
            }
        }
        TypeView {
            columns,
            links,
            rows: grant.edit.rows.as_ref().and_then(|text| self.rule(grant.of, text)),
            masks: Masks::from(masks),
            max_page: grant.edit.max_page,
            count: grant.edit.count,
            create: None,
            update: None,
            delete: None,
        }
    }

    fn write(&mut self, grant: &Grant) -> WriteGrant {
        let model = self.model;
        let t = &model.types[grant.of];
        let mut columns = vec![false; t.columns.len()];
        for name in &grant.fields {
            if let Some(named) = model.field_called(grant.of, name).filter(|(of, _)| *of == grant.of) {
                let all = model.within(named).into_iter().chain(model.around(named));
                all.filter(|(of, _)| *of == grant.of).for_each(|(_, column)| columns[column] = true);
            } else if let Some(link) = t.links.iter().find(|link| link.field == *name) {
                // A link stands for the columns that it follows.
                link.pairs.iter().for_each(|(own, _)| columns[*own] = true);
            }
        }
        let mut fixed = Vec::new();
        for (field, text) in &grant.edit.fixed {
            let is_written = |column: &ColumnId| t.columns[*column].input.is_given(grant.action == Action::Update);
            match t.column_called(field).filter(is_written) {
                Some(column) => match rule::compile_value(model, (grant.of, column), text, &mut self.registry) {
                    Ok(value) => fixed.push((column, value)),
                    Err(mistake) => self.mistakes.push(mistake),
                },
                None => {
                    let hint = match t.links.iter().find(|link| link.field == *field) {
                        Some(link) => format!(": it is a link; set what it follows, {}", t.link_columns(link)),
                        None => did_you_mean(field, t.columns.iter().filter_map(|column| column.field.as_deref())),
                    };
                    let text =
                        format!("`fixed` sets `{field}`, which is not a column of `{}` to be written{hint}", t.name);
                    self.mistake(grant.edit.place, text);
                }
            }
        }
        // A row that changes has another version.
        if let Some((column, VersionStep::Now)) = t.version_step().filter(|_| grant.action == Action::Update)
            && !fixed.iter().any(|(known, _)| *known == column)
        {
            fixed.push((column, rule::time_of_request(&t.columns[column], &mut self.registry)));
        }
        let is_settable = |column: ColumnId| columns[column] && !fixed.iter().any(|(fixed, _)| *fixed == column);
        let links_many = t.links.iter().any(|link| link.through.is_some());
        if grant.action == Action::Update && !links_many && !(0..t.columns.len()).any(is_settable) {
            let text = format!(
                "`{}.{}` leaves nothing for the caller to set; name a field that is not `fixed`",
                t.name,
                grant.action.word()
            );
            self.mistake(grant.edit.place, text);
        }
        WriteGrant {
            rows: grant.edit.rows.as_ref().and_then(|text| self.rule(grant.of, text)),
            check: grant.edit.check.as_ref().and_then(|text| self.rule(grant.of, text)),
            columns,
            fixed,
        }
    }

    /// A mask cannot hide what identifies a row, nor what a link that can be followed shows.
    fn check_masks(&mut self, types: &[Option<TypeView>], grants: &[Grant]) {
        let model = self.model;
        for grant in grants.iter().filter(|grant| grant.action == Action::Read) {
            let Some(view) = &types[grant.of] else { continue };
            let t = &model.types[grant.of];
            for (column, _) in view.masks.iter() {
                let field = t.columns[*column].label();
                let text = if t.keys.iter().any(|key| key.columns.contains(column)) {
                    format!("`{}.{field}` is part of a key and cannot be masked; leave it out of `fields`", t.name)
                } else if let Some((owner, link)) = followed(model, types, grant.of, *column) {
                    format!(
                        "a mask cannot hide `{}.{field}`, which the link `{}.{}` follows; leave one of them out of \
                         `fields`",
                        t.name, model.types[owner].name, model.types[owner].links[link].field
                    )
                } else {
                    continue;
                };
                self.mistake(grant.edit.place, text);
            }
        }
    }

    /// A deletion must not take along, or change, what the role may not delete or update.
    fn check_cascades(&mut self, types: &[Option<TypeView>], grants: &[Grant]) {
        let model = self.model;
        for grant in grants.iter().filter(|grant| grant.action == Action::Delete && !grant.edit.cascade) {
            let mut seen = HashSet::from([grant.of]);
            let mut next = vec![grant.of];
            while let Some(of) = next.pop() {
                for reach in &model.types[of].cascades {
                    let view = reach.of.and_then(|of| types[of].as_ref());
                    let allowed = view
                        .is_some_and(|view| if reach.deletes { view.delete.is_some() } else { view.update.is_some() });
                    if !allowed {
                        let (does, action) = if reach.deletes { ("deletes", "delete") } else { ("changes", "update") };
                        let name = reach.of.map_or(reach.table.as_str(), |of| model.types[of].name.as_str());
                        let text = format!(
                            "deleting `{}` also {does} rows of `{name}`, by a foreign key of `{}`, and role `{}` may \
                             not {action} those; grant it, or say `cascade = true`",
                            model.types[grant.of].name, reach.table, self.name
                        );
                        self.mistake(grant.edit.place, text);
                    }
                    if let Some(of) = reach.of.filter(|of| reach.deletes && seen.insert(*of)) {
                        next.push(of);
                    }
                }
            }
        }
    }
}

/// Masks a column; one that is masked already shows its value only where both say so.
fn add_mask(masks: &mut Vec<(ColumnId, Arc<Condition>)>, column: ColumnId, mask: &Arc<Condition>) {
    match masks.iter_mut().find(|(masked, _)| *masked == column) {
        Some((_, known)) => *known = Arc::new(Condition::And(vec![(**known).clone(), (**mask).clone()])),
        None => masks.push((column, Arc::clone(mask))),
    }
}

/// The fields of a type that an action can be about.
fn every_field(t: &Type, action: Action) -> Vec<String> {
    if action == Action::Read {
        return t.fields().map(str::to_owned).collect();
    }
    let is_written = |column: &&Column| column.input.is_given(action == Action::Update);
    let columns = t.columns.iter().filter(is_written).filter(|column| column.member.is_none());
    let columns = columns.filter_map(|column| column.field.clone());
    let links = t.links.iter().filter(|link| link.cardinality == Cardinality::One && !link.crosses);
    columns.chain(links.map(|link| link.field.clone())).collect()
}

/// A link that can be followed in a view, from or to this column.
fn followed(model: &Model, types: &[Option<TypeView>], of: TypeId, column: ColumnId) -> Option<(TypeId, LinkId)> {
    let granted = types.iter().enumerate().filter_map(|(id, view)| view.as_ref().map(|view| (id, view)));
    for (id, view) in granted {
        for (number, link) in model.types[id].links.iter().enumerate() {
            let can_be_followed = view.links[number] && types[link.target].is_some();
            let through = link.through.as_ref();
            let own = link.pairs.iter().map(|(own, _)| *own);
            let own: Vec<ColumnId> =
                own.chain(through.iter().flat_map(|t| t.near.iter().map(|(own, _)| *own))).collect();
            let other = link.pairs.iter().map(|(_, other)| *other);
            let other: Vec<ColumnId> =
                other.chain(through.iter().flat_map(|t| t.far.iter().map(|(_, other)| *other))).collect();
            let join = through.filter(|through| through.join == of).is_some_and(|through| {
                through.near.iter().any(|(_, join)| *join == column)
                    || through.far.iter().any(|(join, _)| *join == column)
            });
            let touches = (id == of && own.contains(&column)) || (link.target == of && other.contains(&column)) || join;
            if can_be_followed && touches {
                return Some((id, number));
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::catalog::Catalog;
    use crate::project;

    fn granted(grants: &str) -> Result<Vec<Role>, Vec<Mistake>> {
        let catalog = Catalog::from_text(include_str!("../../tests/data/huts.json")).unwrap();
        let text = format!("[source.main]\nurl = \"sqlite:huts.db\"\n{grants}");
        let project = project::read(&text, &|_| None)?;
        let model = Arc::new(crate::model::build(&[&catalog], &project)?);
        roles(&model, &project)
    }

    #[rstest]
    #[case("[role.a.Hutt.read]\nfields = []", "did you mean `Hut`?")]
    #[case("[role.a.Hut.read]\nfields = [\"nam\"]", "did you mean `name`?")]
    #[case("[role.a.Booking.read]\nfields = [\"id\", \"hut\"]", "[role.a.Hut.read]")]
    #[case("[role.a.Hut.update]\nfields = [\"name\"]", "without `Hut.read`")]
    #[case("[role.a.Hut.read]\nfields = [\"id\"]\nmasks = { name = \"true\" }", "not a column among `fields`")]
    #[case("[role.a.Hut.read]\nfields = [\"id\"]\nmasks = { id = \"true\" }", "part of a key")]
    #[case("[role.a]\ninclude = [\"b\"]\n[role.b]\ninclude = [\"a\"]", "includes itself")]
    #[case(
        "[role.a]\ninclude = [\"b\", \"c\"]\n[role.b.Hut.read]\nfields = []\n[role.c.Hut.read]\nfields = []",
        "two grants for `Hut.read`"
    )]
    #[case("[role.a.Hut.read]\nfields = []\n[role.a.Hut.create]\nfields = [\"bookings\"]", "is a link to many")]
    fn grants_that_do_not_fit_are_refused_with_a_remedy(#[case] grants: &str, #[case] expected: &str) {
        let mistakes = granted(grants).err().unwrap_or_default();
        assert!(mistakes.iter().any(|mistake| mistake.text.contains(expected)), "{mistakes:#?}");
        assert!(mistakes.iter().all(|mistake| mistake.place.line > 2), "{mistakes:#?}");
    }

    #[test]
    fn a_role_sees_what_was_named_and_takes_over_what_it_does_not_state() {
        let roles = granted(
            "[role.a]\ninclude = [\"b\"]\n[role.a.Hut.read]\nfields = [\"id\"]\n[role.b.Hut.read]\n\
             fields = \"all\"\n[role.b.Hiker.read]\nfields = [\"id\"]\nrows = \"row.id == claims.sub\"\n",
        )
        .unwrap();
        let names = |role: &Role, of: &str| -> Vec<String> {
            let of = role.view.model().type_named(of).unwrap();
            role.view.columns(of).map(|(_, field)| field.to_owned()).collect()
        };
        assert_eq!((names(&roles[0], "Hut"), names(&roles[0], "Hiker")), (vec!["id".into()], vec!["id".into()]));
        assert!(names(&roles[1], "Hut").len() > 1);
        assert!(names(&roles[0], "Booking").is_empty(), "what nobody granted is not there");
        assert_eq!(roles[0].view.claims(), 1, "an included rule has its claims");
    }
}
