//! Links: from foreign keys both ways, from join tables directly, and from the project file.

use std::collections::{HashMap, HashSet};

use super::build::Builder;
use super::link_words::{Ends, LinkWords};
use super::names;
use super::naming::Wish;
use super::tables::TableOf;
use super::{Cardinality, ColumnId, FieldType, ITEM_COLUMN, Link, Model, SourceId, Through, Type, TypeId};
use crate::catalog::{ForeignKey, Table};
use crate::project::{LinkEdit, LinkSettings, Mistake, Place};
use crate::suggest::did_you_mean;

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
    /// Does the engine guarantee that there is one?
    enforced: bool,
    name: Option<String>,
    back: Option<String>,
    /// Does the project file have it?
    is_written: bool,
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
    /// What it is called in `[type.links]`: the first of these that means no other link.
    handles: [String; 2],
    given: Option<String>,
    /// Its names by rule, the best first.
    wanted: Vec<String>,
    /// The same as they would be if the project file gave the type at its end no name: a remembered one of these follows that.
    before: Vec<String>,
    link: Link,
    place: Place,
}

/// Adds every link of the model, forward links first, then links back, then direct links.
pub(super) fn add_links(builder: &mut Builder<'_>) {
    let references = references(builder);
    let rivals = Rivals::of(&references);
    let words: Vec<LinkWords> = references.iter().map(|reference| rivals.link_words(reference)).collect();
    let all = || references.iter().zip(&words);
    let mut drafts: Vec<Draft> = all().map(|(reference, words)| forward(builder, reference, words)).collect();
    drafts.extend(all().map(|(reference, words)| back(builder, reference, words, &rivals)));
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
    for edit in builder.project.links.iter().filter(|edit| edit.through.is_none()) {
        let Some(reference) = written(builder, edit) else { continue };
        // What is written of a key that the database has is said of that key.
        let is_same = |known: &&mut Reference<'_>| {
            (known.from, known.to) == (reference.from, reference.to) && alike(&known.pairs, &reference.pairs)
        };
        match found.iter_mut().find(is_same) {
            Some(declared) if !declared.is_written => {
                let Reference { name, back, place, .. } = reference;
                (declared.name, declared.back, declared.place, declared.is_written) = (name, back, place, true);
            }
            _ => found.push(reference),
        }
    }
    found
}

/// Are these the same pairs, in any order?
fn alike(one: &[(ColumnId, ColumnId)], other: &[(ColumnId, ColumnId)]) -> bool {
    one.len() == other.len() && one.iter().all(|pair| other.contains(pair))
}

fn declared<'c>(builder: &Builder<'c>, of: TableOf<'c>, key: &'c ForeignKey) -> Option<Reference<'c>> {
    let target = builder.tables.catalog(of.source).table(&key.table)?;
    let reference =
        reference(builder, Ends::of(of.table, key, target, builder.tables.habits(of.source)), (of.source, of.source))?;
    let columns = &builder.model.types[reference.from].columns;
    let is_stated = reference.pairs.iter().all(|(own, _)| columns[*own].non_null);
    Some(Reference { enforced: key.enforced && is_stated, ..reference })
}

fn written<'c>(builder: &Builder<'c>, edit: &'c LinkEdit) -> Option<Reference<'c>> {
    let [from, to] = [&edit.table, &edit.to].map(|name| builder.tables.find(name).ok());
    let (from, to) = (from?, to?);
    let habits = builder.tables.habits(to.source);
    let ends =
        Ends { table: from.table, columns: &edit.columns, target: to.table, references: &edit.references, habits };
    let reference = reference(builder, ends, (from.source, to.source))?;
    Some(Reference {
        name: edit.name.clone(),
        back: edit.back.clone(),
        is_written: true,
        place: edit.place,
        ..reference
    })
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
        enforced: false,
        name: None,
        back: None,
        is_written: false,
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

/// References that lead from one type to another, by those two.
struct Rivals<'c>(HashMap<(TypeId, TypeId), Vec<Ends<'c>>>);

impl<'c> Rivals<'c> {
    fn of(references: &[Reference<'c>]) -> Self {
        let mut all: HashMap<(TypeId, TypeId), Vec<Ends<'c>>> = HashMap::new();
        for reference in references {
            all.entry((reference.from, reference.to)).or_default().push(reference.ends);
        }
        Rivals(all)
    }

    /// All that lead the same way as this one, itself too.
    fn with(&self, reference: &Reference<'_>) -> &[Ends<'c>] {
        self.0.get(&(reference.from, reference.to)).map_or(&[], Vec::as_slice)
    }

    /// What a link is called among all that lead from its table to the same one.
    fn link_words(&self, reference: &Reference<'_>) -> LinkWords {
        reference.ends.link_words(self.with(reference))
    }
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
        handles: [columns.join(", "), format!("{} -> {called}", columns.join(", "))],
        given: reference.name.clone(),
        wanted: [name].into_iter().chain(with_type).chain(others).collect(),
        before: Vec::new(),
        link: Link {
            field: String::new(),
            description: None,
            deprecated: None,
            target: reference.to,
            cardinality: if reference.target_unique { Cardinality::One } else { Cardinality::Many },
            pairs: reference.pairs.clone(),
            enforced: reference.enforced && reference.target_unique,
            crosses: reference.crosses(builder),
            through: None,
        },
        place: reference.place,
    }
}

/// The way back is called by the type that it leads to. Where several lead back, by what this type is for it, too.
fn back(builder: &Builder<'_>, reference: &Reference<'_>, words: &LinkWords, rivals: &Rivals<'_>) -> Draft {
    let source = &builder.model.types[reference.from];
    let called = builder.said_from(reference.to, source);
    let Ends { columns, references, .. } = reference.ends;
    let is_own = reference.from == reference.to;
    let siblings = rivals.with(reference).len();
    let name = names::pascal(&names::link_name(&words.words));
    let by_rule = |base: String| {
        let with_name = format!("{base}As{name}");
        let with_key = format!("{with_name}By{}", names::pascal(&words.key.join("_")));
        let first = match children(words, reference.unique).filter(|_| is_own) {
            Some(children) => Some(children),
            None => (siblings == 1 && !is_own).then_some(base),
        };
        first.into_iter().chain([with_name, with_key]).collect()
    };
    let ruled = builder.ruled_names(reference.from);
    Draft {
        owner: reference.to,
        identity: format!("({}) <- {called}({})", references.join(", "), columns.join(", ")),
        handles: [
            format!("{called}.{}", columns.join(", ")),
            format!("{} <- {called}.{}", references.join(", "), columns.join(", ")),
        ],
        given: reference.back.clone(),
        wanted: by_rule(if reference.unique { source.one.clone() } else { source.list.clone() }),
        before: by_rule(if reference.unique { ruled.0 } else { ruled.1 }),
        link: Link {
            field: String::new(),
            description: None,
            deprecated: None,
            target: reference.from,
            cardinality: if reference.unique { Cardinality::One } else { Cardinality::Many },
            pairs: reference.pairs.iter().map(|(own, other)| (*other, *own)).collect(),
            enforced: false,
            crosses: reference.crosses(builder),
            through: None,
        },
        place: reference.place,
    }
}

/// Does a link start from a member of what a column of a document holds, such as `crew/memberId`?
pub(super) fn is_inside_list(table: &Table, name: &str) -> bool {
    let root = name.split_once('/').map(|(root, _)| root);
    root.and_then(|root| table.column(root)).is_some_and(|column| column.shape.is_some())
}

/// Adds the links that start from items of lists, once those are types.
pub(super) fn add_element_links(builder: &mut Builder<'_>) {
    let project = builder.project;
    for edit in project.links.iter().filter(|edit| edit.through.is_none()) {
        let [from, to] = [&edit.table, &edit.to].map(|name| builder.tables.find(name).ok());
        let (Some(from), Some(to)) = (from, to) else { continue };
        if !edit.columns.iter().any(|name| from.table.column(name).is_none() && is_inside_list(from.table, name)) {
            continue;
        }
        match element_link(builder, edit, from, to) {
            Ok((items, link)) => builder.model.types[items].links.push(link),
            Err(text) => builder.mistakes.push(Mistake { place: edit.place, text }),
        }
    }
}

fn element_link(
    builder: &mut Builder<'_>,
    edit: &LinkEdit,
    from: TableOf<'_>,
    to: TableOf<'_>,
) -> Result<(TypeId, Link), String> {
    let name = &from.table.name;
    if !builder.tables.catalog(from.source).engine.holds_documents() {
        return Err(format!("`{name}` is a table, and links start from inside lists of documents only"));
    }
    let hidden =
        || format!("`{name}` or `{}` is hidden, so that nothing links them; leave the link out", to.table.name);
    let of = builder.type_of(from.source, name).ok_or_else(hidden)?;
    let target = builder.type_of(to.source, &to.table.name).ok_or_else(hidden)?;
    let mut pairs = Vec::new();
    let mut items = None;
    for (column, reference) in edit.columns.iter().zip(&edit.references) {
        let (within, own) = inside_list(&builder.model, of, column)?;
        if items.is_some_and(|known| known != within) {
            return Err(format!("the columns of a link are all in one list; `{column}` is in another"));
        }
        items = Some(within);
        let other = builder.model.types[target].column_named(reference);
        let other = other.ok_or_else(|| format!("`{}` has no column `{reference}`", to.table.name))?;
        let model = &builder.model;
        if !model.types[target].columns[other].can_equal(&model.types[within].columns[own]) {
            return Err(format!("no value of `{column}` is one of `{reference}`: link by columns of one kind"));
        }
        pairs.push((own, other));
    }
    let items = items.ok_or("a link has columns")?;
    if !is_key(builder, to, &edit.references) {
        let text = "a link from inside a list leads to at most one row: `references` has to be a key";
        return Err(format!("{text} of `{}`", to.table.name));
    }
    let t = &builder.model.types[items];
    let identity = format!("({}) -> {}({})", edit.columns.join(", "), to.table.name, edit.references.join(", "));
    let known = &builder.tables.catalog(from.source).names.types;
    let remembered = known.get(name).and_then(|names| names.links.get(&identity)).cloned();
    let last = edit.columns[0].rsplit('/').next().unwrap_or_default();
    let mut words = names::words(last, names::MEMBER);
    if words.len() > 1
        && words.last().is_some_and(|word| ["id", "code", "key", "no", "number"].contains(&word.as_str()))
    {
        words.pop();
    }
    let is_taken = |name: &String| {
        t.columns.iter().any(|column| column.field.as_ref() == Some(name))
            || t.links.iter().any(|link| link.field == *name)
    };
    let by_rule = names::link_name(&words);
    let candidates =
        [by_rule.clone(), format!("{by_rule}{}", builder.model.types[target].name), format!("{by_rule}Link")];
    let field = match edit.name.clone().or(remembered) {
        Some(field) if is_taken(&field) => {
            return Err(format!("`{field}` is a member of the items already; choose another `name`"));
        }
        Some(field) => field,
        None => candidates.into_iter().find(|name| !is_taken(name)).ok_or("give the link a `name`")?,
    };
    if edit.back.is_some() {
        return Err("a link from inside a list has no way back; leave `back` out, and filter by the list".to_owned());
    }
    if edit.name.is_none()
        && let Some(names) = builder.model.names[from.source].types.get_mut(name)
    {
        names.links.insert(identity, field.clone());
    }
    let crosses = from.source != to.source;
    Ok((
        items,
        Link {
            field,
            description: None,
            deprecated: None,
            target,
            cardinality: Cardinality::One,
            pairs,
            enforced: false,
            crosses,
            through: None,
        },
    ))
}

/// The type of the items and the column that a way through a list leads to.
fn inside_list(model: &Model, of: TypeId, way: &str) -> Result<(TypeId, ColumnId), String> {
    let t = &model.types[of];
    let (mut at, mut within): (TypeId, Option<ColumnId>) = (of, None);
    let mut found = None;
    for step in way.split('/') {
        let column = model.types[at].columns.iter().position(|column| match (&column.member, within) {
            (None, None) => column.name == step,
            (Some(member), Some(within)) => {
                member.within == within && member.path.last().is_some_and(|last| last == step)
            }
            _ => false,
        });
        let column = column.ok_or_else(|| format!("`{}` has no `{step}` on the way `{way}`", t.table))?;
        found = Some((at, column));
        (at, within) = match model.types[at].columns[column].kind {
            FieldType::Items(items) => (items, Some(ITEM_COLUMN)),
            _ => (at, Some(column)),
        };
    }
    match found {
        Some((items, column)) if model.types[items].items_of.is_some_and(|items| items.of == of) => Ok((items, column)),
        Some((items, _)) if items == of => {
            Err(format!("`{way}` is inside no list: a link starts from a column, or from a member of a list's items"))
        }
        _ => Err(format!("`{way}` is in a list inside another list, from where no link can be followed")),
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
    let mut of_tables: HashMap<*const Table, Vec<&Reference<'_>>> = HashMap::new();
    for reference in references {
        of_tables.entry(std::ptr::from_ref(reference.ends.table)).or_default().push(reference);
    }
    let reference = |table: &Table, key: &ForeignKey| {
        let own = of_tables.get(&std::ptr::from_ref(table))?;
        own.iter().copied().find(|known| known.ends.columns == key.columns)
    };
    let mut joins: Vec<Join<'_, '_>> = Vec::new();
    for edit in &builder.project.links {
        let Some(Ok((near, far))) = between(builder, edit, references) else { continue };
        joins.push(Join { near, far, name: edit.name.clone(), place: edit.place });
        joins.push(Join { near: far, far: near, name: edit.back.clone(), place: edit.place });
    }
    let pair = |near: &Reference<'_>, far: &Reference<'_>| {
        [near, far].map(|reference| std::ptr::from_ref(reference.ends.columns).cast::<String>())
    };
    let mut known: HashSet<_> = joins.iter().map(|join| pair(join.near, join.far)).collect();
    for TableOf { table, .. } in builder.tables.all() {
        let Some((first, second)) = table.join_keys() else { continue };
        let (Some(first), Some(second)) = (reference(table, first), reference(table, second)) else { continue };
        for (near, far) in [(first, second), (second, first)] {
            if known.insert(pair(near, far)) {
                joins.push(Join { near, far, name: None, place: Place::default() });
            }
        }
    }
    let mut drafts: Vec<Draft> = joins.iter().map(|join| direct_link(builder, join)).collect();
    // Where several tables join the same two, each link says which it goes through.
    let mut firsts: HashMap<(TypeId, String), usize> = HashMap::new();
    for draft in &drafts {
        *firsts.entry((draft.owner, draft.wanted[0].clone())).or_default() += 1;
    }
    for draft in &mut drafts {
        if firsts.get(&(draft.owner, draft.wanted[0].clone())).is_some_and(|count| *count > 1) {
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
    let through = names::pascal(&builder.model.types[near.from].list);
    let ruled = builder.ruled_names(far.to);
    // Is it called as its type is, which it then follows?
    let is_plain = names::link_name(&names::one(&words)) == ruled.0;
    let by_rule = |list: &str| {
        let name = match (is_plain, near.to == far.to) {
            (false, _) => names::list_name(&words),
            (true, false) => list.to_owned(),
            // The far side is called as its type, like the near one: what tells it apart is what the near one is.
            (true, true) => {
                let near = names::link_name(&near.ends.link_words(&[]).words);
                format!("{list}As{}", names::pascal(&near))
            }
        };
        vec![name.clone(), format!("{name}Through{through}")]
    };
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
        handles: [
            format!("{} through {}", target.table, table.name),
            format!("{} through {}.{}", target.table, table.name, near.ends.columns.join(", ")),
        ],
        given: join.name.clone(),
        wanted: by_rule(&target.list),
        before: by_rule(&ruled.1),
        link: Link {
            field: String::new(),
            description: None,
            deprecated: None,
            target: far.to,
            cardinality: Cardinality::Many,
            pairs: Vec::new(),
            enforced: false,
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

/// What `[type.links]` says of a type's links: what it hides is none.
fn set_links(builder: &mut Builder<'_>, owner: TypeId, drafts: &mut Vec<Draft>) {
    let Type { source, table, name, .. } = &builder.model.types[owner];
    let Some(edit) = builder.edit_of(*source, table).filter(|edit| !edit.links.is_empty()) else { return };
    let handle = |draft: &Draft| -> String {
        let is_shared = drafts.iter().filter(|other| other.handles[0] == draft.handles[0]).count() > 1;
        draft.handles[usize::from(is_shared)].clone()
    };
    let handles: Vec<String> = drafts.iter().map(handle).collect();
    let mut mistakes = Vec::new();
    for (follows, settings) in &edit.links {
        let Some(at) = handles.iter().position(|handle| handle == follows) else {
            let hint = did_you_mean(follows, handles.iter().map(String::as_str));
            let known: Vec<String> = handles.iter().map(|handle| format!("`{handle}`")).collect();
            let text = format!("no link of `{name}` follows `{follows}`{hint}; its links follow {}", known.join(", "));
            mistakes.push(Mistake { place: settings.place, text });
            continue;
        };
        let LinkSettings { name: given, hidden: _, description, deprecated, place } = settings;
        let draft = &mut drafts[at];
        if let (Some(one), Some(other)) = (&draft.given, given) {
            let text = format!("`[[link]]` calls this link `{one}`, and this `{other}`; say it in one place");
            mistakes.push(Mistake { place: *place, text });
        }
        if let Some(given) = given {
            (draft.given, draft.place) = (Some(given.clone()), *place);
        }
        (draft.link.description, draft.link.deprecated) = (description.clone(), deprecated.clone());
    }
    let is_hidden = |handle: &String| edit.links.get(handle).is_some_and(|settings| settings.hidden);
    let mut handles = handles.iter();
    drafts.retain(|_| !handles.next().is_some_and(is_hidden));
    builder.mistakes.extend(mistakes);
}

/// Names the links of each type, beside the fields of its columns.
fn name_and_add(builder: &mut Builder<'_>, drafts: Vec<Draft>) {
    let mut by_owner: Vec<Vec<Draft>> = builder.model.types.iter().map(|_| Vec::new()).collect();
    for draft in drafts {
        by_owner[draft.owner].push(draft);
    }
    for (owner, mut drafts) in by_owner.into_iter().enumerate() {
        set_links(builder, owner, &mut drafts);
        let Type { source, table, .. } = &builder.model.types[owner];
        let remembered = builder.tables.catalog(*source).names.types.get(table);
        let known = |draft: &Draft| remembered.and_then(|names| names.links.get(&draft.identity)).cloned();
        let follows = |draft: &Draft, name: &String| !draft.wanted.contains(name) && draft.before.contains(name);
        let wish = |draft: &Draft| Wish {
            what: format!("the link {} of `{}`", draft.identity, builder.model.types[owner].name),
            given: draft.given.clone().map(|name| (name, draft.place)),
            remembered: known(draft).filter(|name| !follows(draft, name)),
            by_rule: draft.wanted.clone(),
            is_exact: false,
        };
        let wishes: Vec<Wish> = drafts.iter().map(wish).collect();
        let is_fresh = remembered.is_none_or(|names| names.links.is_empty());
        let kept: Vec<Option<String>> = drafts.iter().map(|d| known(d).filter(|name| follows(d, name))).collect();
        let names = builder.field_names[owner].assign(&wishes, is_fresh, &mut builder.mistakes, |_, _, _| ());
        for (draft, name) in drafts.iter_mut().zip(names) {
            draft.link.field = name;
        }
        for (mut draft, kept) in drafts.into_iter().zip(kept) {
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
                // What follows a name that the project file gives is called as before once it gives it no more.
                names.links.insert(draft.identity, kept.unwrap_or_else(|| draft.link.field.clone()));
            }
            builder.model.types[owner].links.push(draft.link);
        }
    }
}
