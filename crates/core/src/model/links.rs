//! Links: from foreign keys both ways, from join tables directly, and from the project file.

use super::build::Builder;
use super::link_words::{Ends, LinkWords};
use super::names;
use super::naming::Wish;
use super::tables::TableOf;
use super::{Cardinality, ColumnId, Link, SourceId, Through, Type, TypeId};
use crate::catalog::{ForeignKey, Table};
use crate::project::{LinkEdit, Mistake, Place};

/// A reference from one table's columns to another's, whoever declared it.
struct Reference<'c> {
    ends: Ends<'c>,
    from: TypeId,
    to: TypeId,
    pairs: Vec<(ColumnId, ColumnId)>,
    /// Are the referencing columns unique, so that the way back leads to at most one?
    unique: bool,
    /// Are the referenced columns unique, so that the way there leads to at most one?
    target_unique: bool,
    name: Option<String>,
    back: Option<String>,
    place: Place,
}

impl Reference<'_> {
    /// Does it lead to another source?
    fn crosses(&self, builder: &Builder<'_>) -> bool {
        builder.model.types[self.from].source != builder.model.types[self.to].source
    }
}

/// A link that is still to be named.
struct Draft {
    owner: TypeId,
    /// What it follows: stable text for the survey file's remembered names.
    identity: String,
    given: Option<String>,
    /// Its names by rule, the best first.
    wanted: Vec<String>,
    link: Link,
    place: Place,
}

/// Adds every link of the model, forward links first, then links back, then direct links.
pub(super) fn add_links(builder: &mut Builder<'_>) {
    let references = references(builder);
    let words: Vec<LinkWords> = references.iter().map(|reference| link_words(reference, &references)).collect();
    let all = || references.iter().zip(&words);
    let mut drafts: Vec<Draft> = all().map(|(reference, words)| forward(builder, reference, words)).collect();
    drafts.extend(all().map(|(reference, words)| back(builder, reference, words, &references)));
    let mut mistakes = through_mistakes(builder, &references);
    mistakes.extend(crossing_mistakes(builder, &references));
    builder.mistakes.extend(mistakes);
    drafts.extend(direct_links(builder, &references));
    name_and_add(builder, drafts);
}

fn references<'c>(builder: &Builder<'c>) -> Vec<Reference<'c>> {
    let mut found = Vec::new();
    for of in builder.tables.all() {
        found.extend(of.table.foreign_keys.iter().filter_map(|key| declared(builder, of, key)));
    }
    found.extend(
        builder.project.links.iter().filter(|edit| edit.through.is_none()).filter_map(|edit| written(builder, edit)),
    );
    found
}

fn declared<'c>(builder: &Builder<'c>, of: TableOf<'c>, key: &'c ForeignKey) -> Option<Reference<'c>> {
    let target = builder.tables.catalog(of.source).table(&key.table)?;
    reference(builder, Ends::of(of.table, key, target), (of.source, of.source))
}

fn written<'c>(builder: &Builder<'c>, edit: &'c LinkEdit) -> Option<Reference<'c>> {
    let [from, to] = [&edit.table, &edit.to].map(|name| builder.tables.find(name).ok());
    let (from, to) = (from?, to?);
    let ends = Ends { table: from.table, columns: &edit.columns, target: to.table, references: &edit.references };
    let reference = reference(builder, ends, (from.source, to.source))?;
    Some(Reference { name: edit.name.clone(), back: edit.back.clone(), place: edit.place, ..reference })
}

fn reference<'c>(
    builder: &Builder<'c>,
    ends: Ends<'c>,
    (source, target): (SourceId, SourceId),
) -> Option<Reference<'c>> {
    let (from, to) = (builder.type_of(source, &ends.table.name)?, builder.type_of(target, &ends.target.name)?);
    let types = &builder.model.types;
    let pairs: Option<Vec<_>> = ends
        .columns
        .iter()
        .zip(ends.references)
        .map(|(own, other)| Some((types[from].column_named(own)?, types[to].column_named(other)?)))
        .collect();
    Some(Reference {
        ends,
        from,
        to,
        pairs: pairs?,
        unique: is_key(builder, TableOf { source, table: ends.table }, ends.columns),
        target_unique: is_key(builder, TableOf { source: target, table: ends.target }, ends.references),
        name: None,
        back: None,
        place: Place::default(),
    })
}

/// Are these columns a key, or does the project file say so?
fn is_key(builder: &Builder<'_>, of: TableOf<'_>, columns: &[String]) -> bool {
    let promised = builder.edit(of).map(|edit| edit.key.as_slice()).unwrap_or_default();
    of.table.is_key(columns)
        || promised.len() == columns.len() && promised.iter().all(|column| columns.contains(column))
}

/// Links between sources whose keys can never be equal.
fn crossing_mistakes(builder: &Builder<'_>, references: &[Reference<'_>]) -> Vec<Mistake> {
    let mut mistakes = Vec::new();
    for reference in references {
        let [from, to] = [reference.from, reference.to].map(|id| &builder.model.types[id]);
        for (own, other) in reference.pairs.iter().filter(|_| from.source != to.source) {
            let ends = [(from, &from.columns[*own]), (to, &to.columns[*other])];
            if ends[0].1.can_equal(ends[1].1) {
                continue;
            }
            let [own, other] = ends.map(|(t, column)| {
                format!("`{}.{}` is {}", builder.said(t), column.name, builder.model.kind_words(column.kind))
            });
            let text = format!(
                "{own} and {other}: no value of one is one of the other; link by columns of one kind, or say what they \
                 hold with `scalar` in their `[[type]]`"
            );
            mistakes.push(Mistake { place: reference.place, text });
        }
    }
    mistakes
}

/// What a link is called among all that lead from its table to the same one.
fn link_words(reference: &Reference<'_>, all: &[Reference<'_>]) -> LinkWords {
    let rivals = all.iter().filter(|other| (other.from, other.to) == (reference.from, reference.to));
    reference.ends.link_words(&rivals.map(|other| other.ends).collect::<Vec<_>>())
}

fn forward(builder: &Builder<'_>, reference: &Reference<'_>, words: &LinkWords) -> Draft {
    let target = &builder.model.types[reference.to];
    let called = builder.said_from(reference.from, target);
    let Ends { columns, references, .. } = reference.ends;
    let name = names::link_name(&words.words);
    let (type_name, key) = (names::pascal(&target.one), names::pascal(&words.key.join("_")));
    let with_type =
        (!name.to_ascii_lowercase().ends_with(&type_name.to_ascii_lowercase())).then(|| format!("{name}{type_name}"));
    let others = [format!("{name}By{key}"), format!("{name}Link")];
    Draft {
        owner: reference.from,
        identity: format!("({}) -> {called}({})", columns.join(", "), references.join(", ")),
        given: reference.name.clone(),
        wanted: [name].into_iter().chain(with_type).chain(others).collect(),
        link: Link {
            field: String::new(),
            target: reference.to,
            cardinality: if reference.target_unique { Cardinality::One } else { Cardinality::Many },
            pairs: reference.pairs.clone(),
            crosses: reference.crosses(builder),
            through: None,
        },
        place: reference.place,
    }
}

/// The way back is called by the type that it leads to. Where several lead back, by what this type is for it, too.
fn back(builder: &Builder<'_>, reference: &Reference<'_>, words: &LinkWords, all: &[Reference<'_>]) -> Draft {
    let source = &builder.model.types[reference.from];
    let called = builder.said_from(reference.to, source);
    let Ends { columns, references, .. } = reference.ends;
    let is_own = reference.from == reference.to;
    let siblings = all.iter().filter(|r| (r.from, r.to) == (reference.from, reference.to)).count();
    let base = if reference.unique { source.one.clone() } else { source.list.clone() };
    let name = names::pascal(&names::link_name(&words.words));
    let with_name = format!("{base}As{name}");
    let with_key = format!("{with_name}By{}", names::pascal(&words.key.join("_")));
    let first = match children(words, reference.unique).filter(|_| is_own) {
        Some(children) => Some(children),
        None => (siblings == 1 && !is_own).then_some(base),
    };
    Draft {
        owner: reference.to,
        identity: format!("({}) <- {called}({})", references.join(", "), columns.join(", ")),
        given: reference.back.clone(),
        wanted: first.into_iter().chain([with_name, with_key]).collect(),
        link: Link {
            field: String::new(),
            target: reference.from,
            cardinality: if reference.unique { Cardinality::One } else { Cardinality::Many },
            pairs: reference.pairs.iter().map(|(own, other)| (*other, *own)).collect(),
            crosses: reference.crosses(builder),
            through: None,
        },
        place: reference.place,
    }
}

/// What the rows are that call this one `parent`: `children`; those of a `parentCategory` are `childCategories`.
fn children(words: &LinkWords, unique: bool) -> Option<String> {
    let at = words.words.iter().position(|word| word == "parent")?;
    let mut child = words.words.clone();
    child[at] = "child".to_owned();
    Some(if unique { names::link_name(&child) } else { names::list_name(&child) })
}

/// A table between two, by what it refers to.
struct Join<'r, 'c> {
    near: &'r Reference<'c>,
    far: &'r Reference<'c>,
    name: Option<String>,
    place: Place,
}

fn direct_links(builder: &Builder<'_>, references: &[Reference<'_>]) -> Vec<Draft> {
    let reference = |table: &Table, key: &ForeignKey| {
        references.iter().find(|known| std::ptr::eq(known.ends.table, table) && known.ends.columns == key.columns)
    };
    let mut joins: Vec<Join<'_, '_>> = Vec::new();
    for edit in &builder.project.links {
        let Some(Ok((near, far))) = between(builder, edit, references) else { continue };
        joins.push(Join { near, far, name: edit.name.clone(), place: edit.place });
        joins.push(Join { near: far, far: near, name: edit.back.clone(), place: edit.place });
    }
    for TableOf { table, .. } in builder.tables.all() {
        let Some((first, second)) = table.join_keys() else { continue };
        let (Some(first), Some(second)) = (reference(table, first), reference(table, second)) else { continue };
        for (near, far) in [(first, second), (second, first)] {
            let is_written = |join: &Join<'_, '_>| std::ptr::eq(join.near, near) && std::ptr::eq(join.far, far);
            if !joins.iter().any(is_written) {
                joins.push(Join { near, far, name: None, place: Place::default() });
            }
        }
    }
    let mut drafts: Vec<Draft> = joins.iter().map(|join| direct_link(builder, join)).collect();
    // Where several tables join the same two, each link says which it goes through.
    let firsts: Vec<(TypeId, String)> = drafts.iter().map(|draft| (draft.owner, draft.wanted[0].clone())).collect();
    for (at, draft) in drafts.iter_mut().enumerate() {
        if firsts.iter().enumerate().any(|(other, first)| other != at && *first == firsts[at]) {
            draft.wanted.remove(0);
        }
    }
    drafts
}

/// What the table between two refers to them by; none where the link goes through no table.
fn between<'r, 'c>(
    builder: &Builder<'_>,
    edit: &LinkEdit,
    references: &'r [Reference<'c>],
) -> Option<Result<(&'r Reference<'c>, &'r Reference<'c>), String>> {
    let through = edit.through.as_ref()?;
    let join = builder.tables.find(through).ok()?;
    let side = |to: &str, columns: &[String], key: &str| {
        let target = builder.tables.find(to)?;
        if target.source != join.source {
            return Err(format!(
                "`{through}` and `{to}` are in different sources, and a direct link leads through one; leave this one \
                 out, and follow the links of `{through}`"
            ));
        }
        let leads = |known: &&Reference<'_>| {
            std::ptr::eq(known.ends.table, join.table)
                && std::ptr::eq(known.ends.target, target.table)
                && (columns.is_empty() || known.ends.columns == columns)
        };
        let found: Vec<&Reference<'_>> = references.iter().filter(leads).collect();
        match found.as_slice() {
            [only] => Ok(*only),
            [] => Err(format!("`{through}` refers to `{to}` by no foreign key; say how by a `[[link]]` of its own")),
            [..] => Err(format!("`{through}` refers to `{to}` by several keys; say by which with `{key}`")),
        }
    };
    let (near, far) = (side(&edit.table, &edit.columns, "columns"), side(&edit.to, &edit.references, "references"));
    Some(near.and_then(|near| Ok((near, far?))).and_then(|(near, far)| match std::ptr::eq(near, far) {
        true => Err(format!(
            "the way there and the way back are one key of `{through}`; say both with `columns` and `references`"
        )),
        false => Ok((near, far)),
    }))
}

fn through_mistakes(builder: &Builder<'_>, references: &[Reference<'_>]) -> Vec<Mistake> {
    let is_shown = |table: &str| {
        let found = builder.tables.find(table).ok();
        found.is_some_and(|of| builder.type_of(of.source, &of.table.name).is_some())
    };
    let edits = builder.project.links.iter().filter(|edit| {
        [Some(&edit.table), edit.through.as_ref(), Some(&edit.to)].into_iter().flatten().all(|table| is_shown(table))
    });
    edits
        .filter_map(|edit| Some(Mistake { place: edit.place, text: between(builder, edit, references)?.err()? }))
        .collect()
}

/// The link through a join table, called by what the other side is there.
fn direct_link(builder: &Builder<'_>, join: &Join<'_, '_>) -> Draft {
    let Join { near, far, .. } = join;
    let table = near.ends.table;
    let target = &builder.model.types[far.to];
    let words = far.ends.link_words(&[]).words;
    let is_plain = names::link_name(&names::one(&words)) == target.one;
    let name = match (is_plain, near.to == far.to) {
        (false, _) => names::list_name(&words),
        (true, false) => target.list.clone(),
        // The far side is called as its type, like the near one: what tells it apart is what the near one is.
        (true, true) => {
            let near = names::link_name(&near.ends.link_words(&[]).words);
            format!("{}As{}", target.list, names::pascal(&near))
        }
    };
    let through = names::pascal(&builder.model.types[near.from].list);
    let is_linking = |column: &String| near.ends.columns.contains(column) || far.ends.columns.contains(column);
    Draft {
        owner: near.to,
        identity: format!(
            "({}) <-> {} through {}({}; {})",
            near.ends.references.join(", "),
            target.table,
            table.name,
            near.ends.columns.join(", "),
            far.ends.columns.join(", ")
        ),
        given: join.name.clone(),
        wanted: vec![name.clone(), format!("{name}Through{through}")],
        link: Link {
            field: String::new(),
            target: far.to,
            cardinality: Cardinality::Many,
            pairs: Vec::new(),
            crosses: false,
            through: Some(Through {
                join: near.from,
                near: near.pairs.iter().map(|(join, own)| (*own, *join)).collect(),
                far: far.pairs.clone(),
                repeats: !table.keys().any(|key| key.iter().all(is_linking)),
                prefix: String::new(),
            }),
        },
        place: join.place,
    }
}

/// Names the links of each type, beside the fields of its columns.
fn name_and_add(builder: &mut Builder<'_>, drafts: Vec<Draft>) {
    let mut by_owner: Vec<Vec<Draft>> = builder.model.types.iter().map(|_| Vec::new()).collect();
    for draft in drafts {
        by_owner[draft.owner].push(draft);
    }
    for (owner, mut drafts) in by_owner.into_iter().enumerate() {
        let Type { source, table, .. } = &builder.model.types[owner];
        let remembered = builder.tables.catalog(*source).names.types.get(table);
        let known = |draft: &Draft| remembered.and_then(|names| names.links.get(&draft.identity)).cloned();
        let wish = |draft: &Draft| Wish {
            what: format!("the link {} of `{}`", draft.identity, builder.model.types[owner].name),
            given: draft.given.clone().map(|name| (name, draft.place)),
            remembered: known(draft),
            by_rule: draft.wanted.clone(),
        };
        let wishes: Vec<Wish> = drafts.iter().map(wish).collect();
        let is_fresh = remembered.is_none_or(|names| names.links.is_empty());
        let names = builder.field_names[owner].assign(&wishes, is_fresh, &mut builder.mistakes, |_, _, _| ());
        for (draft, name) in drafts.iter_mut().zip(names) {
            draft.link.field = name;
        }
        for mut draft in drafts {
            let owner_type = &builder.model.types[owner];
            if let Some(through) = &mut draft.link.through {
                let wanted = format!("{}{}", owner_type.name, names::pascal(&draft.link.field));
                let what = format!("the link `{}` of `{}`", draft.link.field, owner_type.name);
                let wanted = [wanted.clone(), format!("{wanted}Through")];
                through.prefix = builder.type_names.take_helpers(&what, None, &wanted, names::LINK_HELPERS);
            }
            if draft.given.is_none() {
                let names = builder.model.names[owner_type.source]
                    .types
                    .get_mut(&owner_type.table)
                    .expect("every type has names");
                names.links.insert(draft.identity, draft.link.field.clone());
            }
            builder.model.types[owner].links.push(draft.link);
        }
    }
}
