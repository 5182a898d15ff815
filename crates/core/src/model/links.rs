//! Links: from foreign keys both ways, from join tables directly, and from the project file.

use super::build::Builder;
use super::names;
use super::naming::Wish;
use super::{Cardinality, ColumnId, Link, Through, TypeId};
use crate::catalog::{ForeignKey, Table};
use crate::project::{LinkEdit, Place};

/// A reference from one table's columns to another's, whoever declared it.
struct Reference {
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

/// A link that is still to be named.
struct Draft {
    owner: TypeId,
    /// What it follows: stable text for the survey file's remembered names.
    identity: String,
    given: Option<String>,
    wanted: String,
    link: Link,
    place: Place,
}

/// Adds every link of the model, forward links first, then links back, then direct links.
pub(super) fn add_links(builder: &mut Builder<'_>) {
    let references = references(builder);
    let mut drafts: Vec<Draft> = references.iter().map(|r| forward(builder, r)).collect();
    drafts.extend(references.iter().map(|r| back(builder, r, &references)));
    drafts.extend(direct_links(builder));
    name_and_add(builder, drafts);
}

fn references(builder: &Builder<'_>) -> Vec<Reference> {
    let mut found = Vec::new();
    for table in &builder.catalog.tables {
        for key in &table.foreign_keys {
            found.extend(declared(builder, table, key));
        }
    }
    for edit in &builder.project.links {
        found.extend(written(builder, edit));
    }
    found
}

fn declared(builder: &Builder<'_>, table: &Table, key: &ForeignKey) -> Option<Reference> {
    let catalog = builder.catalog;
    let target = catalog.table(&key.table)?;
    reference(builder, table, &key.columns, target, &key.references)
}

fn written(builder: &Builder<'_>, edit: &LinkEdit) -> Option<Reference> {
    let catalog = builder.catalog;
    let table = catalog.table(&edit.table)?;
    let target = catalog.table(&edit.to)?;
    let reference = reference(builder, table, &edit.columns, target, &edit.references)?;
    Some(Reference { name: edit.name.clone(), back: edit.back.clone(), place: edit.place, ..reference })
}

fn reference(
    builder: &Builder<'_>,
    table: &Table,
    columns: &[String],
    target: &Table,
    references: &[String],
) -> Option<Reference> {
    let type_of = |table: &str| builder.model.types.iter().position(|t| t.table == table);
    let (from, to) = (type_of(&table.name)?, type_of(&target.name)?);
    let types = &builder.model.types;
    let pairs: Option<Vec<_>> = columns
        .iter()
        .zip(references)
        .map(|(own, other)| Some((types[from].column_named(own)?, types[to].column_named(other)?)))
        .collect();
    Some(Reference {
        from,
        to,
        pairs: pairs?,
        unique: table.is_key(columns),
        target_unique: target.is_key(references),
        name: None,
        back: None,
        place: Place::default(),
    })
}

fn column_names(builder: &Builder<'_>, reference: &Reference) -> (Vec<String>, Vec<String>) {
    let types = &builder.model.types;
    reference
        .pairs
        .iter()
        .map(|(own, other)| {
            (types[reference.from].columns[*own].name.clone(), types[reference.to].columns[*other].name.clone())
        })
        .unzip()
}

/// What a reference is called from the referencing side: the column without its `_id`, else the target's name.
fn stem(builder: &Builder<'_>, reference: &Reference) -> String {
    let target = &builder.model.types[reference.to].one;
    match column_names(builder, reference).0.as_slice() {
        [column] => names::link_stem(column).unwrap_or_else(|| {
            let field = names::field_name(column);
            if builder.model.types[reference.from].columns.iter().any(|c| c.field.as_ref() == Some(&field)) {
                if *target == field { format!("{field}Link") } else { target.clone() }
            } else {
                field
            }
        }),
        _ => target.clone(),
    }
}

fn forward(builder: &Builder<'_>, reference: &Reference) -> Draft {
    let (own, other) = column_names(builder, reference);
    let target = &builder.model.types[reference.to].table;
    Draft {
        owner: reference.from,
        identity: format!("({}) -> {target}({})", own.join(", "), other.join(", ")),
        given: reference.name.clone(),
        wanted: stem(builder, reference),
        link: Link {
            field: String::new(),
            target: reference.to,
            cardinality: if reference.target_unique { Cardinality::One } else { Cardinality::Many },
            pairs: reference.pairs.clone(),
            through: None,
        },
        place: reference.place,
    }
}

fn back(builder: &Builder<'_>, reference: &Reference, all: &[Reference]) -> Draft {
    let (own, other) = column_names(builder, reference);
    let source = &builder.model.types[reference.from];
    let siblings = all.iter().filter(|r| (r.from, r.to) == (reference.from, reference.to)).count();
    let base = if reference.unique { &source.one } else { &source.list };
    let wanted = if siblings > 1 || reference.from == reference.to {
        format!("{base}By{}", names::pascal(&stem(builder, reference)))
    } else {
        base.clone()
    };
    Draft {
        owner: reference.to,
        identity: format!("({}) <- {}({})", other.join(", "), source.table, own.join(", ")),
        given: reference.back.clone(),
        wanted,
        link: Link {
            field: String::new(),
            target: reference.from,
            cardinality: if reference.unique { Cardinality::One } else { Cardinality::Many },
            pairs: reference.pairs.iter().map(|(own, other)| (*other, *own)).collect(),
            through: None,
        },
        place: reference.place,
    }
}

fn direct_links(builder: &Builder<'_>) -> Vec<Draft> {
    let mut drafts = Vec::new();
    for table in &builder.catalog.tables {
        let Some((first, second)) = table.join_keys() else { continue };
        if builder.catalog.is_referenced(&table.name) {
            continue;
        }
        for (near, far) in [(first, second), (second, first)] {
            drafts.extend(direct_link(builder, table, near, far));
        }
    }
    drafts
}

fn direct_link(builder: &Builder<'_>, table: &Table, near: &ForeignKey, far: &ForeignKey) -> Option<Draft> {
    let near_side = declared(builder, table, near)?;
    let far_side = declared(builder, table, far)?;
    let target = &builder.model.types[far_side.to];
    let same = near_side.to == far_side.to;
    let wanted = if same {
        format!("{}By{}", target.list, names::pascal(&stem(builder, &far_side)))
    } else {
        target.list.clone()
    };
    Some(Draft {
        owner: near_side.to,
        identity: format!(
            "({}) <-> {} through {}({}; {})",
            near.references.join(", "),
            target.table,
            table.name,
            near.columns.join(", "),
            far.columns.join(", ")
        ),
        given: None,
        wanted,
        link: Link {
            field: String::new(),
            target: far_side.to,
            cardinality: Cardinality::Many,
            pairs: Vec::new(),
            through: Some(Through {
                join: near_side.from,
                near: near_side.pairs.iter().map(|(join, own)| (*own, *join)).collect(),
                far: far_side.pairs,
                prefix: String::new(),
            }),
        },
        place: Place::default(),
    })
}

/// Names the links of each type, beside the fields of its columns.
fn name_and_add(builder: &mut Builder<'_>, drafts: Vec<Draft>) {
    let mut by_owner: Vec<Vec<Draft>> = builder.model.types.iter().map(|_| Vec::new()).collect();
    for draft in drafts {
        by_owner[draft.owner].push(draft);
    }
    for (owner, mut drafts) in by_owner.into_iter().enumerate() {
        let remembered = builder.catalog.names.types.get(&builder.model.types[owner].table);
        let known = |draft: &Draft| remembered.and_then(|names| names.links.get(&draft.identity)).cloned();
        let wish = |draft: &Draft| Wish {
            what: format!("the link {} of `{}`", draft.identity, builder.model.types[owner].name),
            given: draft.given.clone().map(|name| (name, draft.place)),
            remembered: known(draft),
            by_rule: draft.wanted.clone(),
        };
        let wishes: Vec<Wish> = drafts.iter().map(wish).collect();
        let is_fresh = remembered.is_none_or(|names| names.links.is_empty());
        let names = builder.field_names[owner].assign(&wishes, is_fresh, &mut builder.mistakes);
        for (draft, name) in drafts.iter_mut().zip(names) {
            draft.link.field = name;
        }
        for mut draft in drafts {
            let owner_type = &builder.model.types[owner];
            if let Some(through) = &mut draft.link.through {
                let wanted = format!("{}{}", owner_type.name, names::pascal(&draft.link.field));
                let what = format!("the connection of the link `{}` of `{}`", draft.link.field, owner_type.name);
                through.prefix = builder.type_names.take_own(&what, &wanted, &mut builder.mistakes);
            }
            if draft.given.is_none() {
                let names = builder.model.names.types.get_mut(&owner_type.table).expect("every type has names");
                names.links.insert(draft.identity, draft.link.field.clone());
            }
            builder.model.types[owner].links.push(draft.link);
        }
    }
}
